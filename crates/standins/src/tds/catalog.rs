//! The schemas `sys` and `information_schema`: tables that are filled anew, from what SQLite says, when a statement reads
//! them.

use std::collections::HashMap;
use std::sync::Arc;

use rusqlite::functions::FunctionFlags;
use rusqlite::{Connection, params};

use super::hello::MASTER;
use super::lex::tokens;
use super::table::{self, Named, Table};
use super::types::Type;
use super::{Shared, held, sqlite};

/// How text is ordered.
const COLLATION: &str = "Latin1_General_CI_AS";

/// The tables, with the columns that are asked for.
const TABLES: &str = "
create table sys.schemas(schema_id int, name sysname);
create table sys.databases(database_id int, name sysname, state int, snapshot_isolation_state tinyint, collation_name sysname);
create table sys.objects(object_id int, name sysname, schema_id int, parent_object_id int, type char(2), type_desc nvarchar(60), is_ms_shipped bit);
create table sys.tables(object_id int, name sysname, schema_id int, type char(2), temporal_type tinyint default 0, is_memory_optimized bit default 0, is_external bit default 0, is_filetable bit default 0);
create table sys.views(object_id int, name sysname, schema_id int, type char(2));
create table sys.procedures(object_id int, name sysname, schema_id int, type char(2));
create table sys.columns(object_id int, name sysname, column_id int, user_type_id int, system_type_id int, max_length smallint, precision tinyint, scale tinyint, collation_name sysname, is_nullable bit, is_identity bit, is_computed bit, default_object_id int, is_sparse bit default 0, is_rowguidcol bit default 0);
create table sys.types(name sysname, system_type_id int, user_type_id int, schema_id int, max_length smallint, precision tinyint, scale tinyint, is_user_defined bit, is_table_type bit, is_nullable bit default 1);
create table sys.default_constraints(object_id int, name sysname, parent_object_id int, parent_column_id int, definition nvarchar(4000), is_system_named bit);
create table sys.computed_columns(object_id int, column_id int, definition nvarchar(4000), is_persisted bit);
create table sys.identity_columns(object_id int, column_id int, seed_value sql_variant, increment_value sql_variant, last_value sql_variant);
create table sys.extended_properties(class int, major_id int, minor_id int, name sysname, value nvarchar(4000));
create table sys.partitions(partition_id bigint, object_id int, index_id int, rows bigint);
create table sys.allocation_units(container_id bigint, total_pages bigint);
create table sys.indexes(object_id int, name sysname, index_id int, type_desc nvarchar(60), is_unique bit, is_primary_key bit, is_unique_constraint bit, filter_definition nvarchar(4000), type tinyint default 2, is_disabled bit default 0, is_hypothetical bit default 0, data_space_id int default 1);
create table sys.index_columns(object_id int, index_id int, index_column_id int, column_id int, key_ordinal tinyint, is_descending_key bit, is_included_column bit);
create table sys.foreign_keys(object_id int, name sysname, parent_object_id int, referenced_object_id int, delete_referential_action_desc nvarchar(60), update_referential_action_desc nvarchar(60), is_not_trusted bit default 0, is_disabled bit default 0, is_not_for_replication bit default 0);
create table sys.foreign_key_columns(constraint_object_id int, constraint_column_id int, parent_object_id int, parent_column_id int, referenced_object_id int, referenced_column_id int);
create table sys.check_constraints(object_id int, name sysname, parent_object_id int, definition nvarchar(4000), is_not_trusted bit default 0, is_disabled bit default 0, is_not_for_replication bit default 0);
create table sys.triggers(object_id int, name sysname, parent_id int, is_instead_of_trigger bit, is_disabled bit, parent_class tinyint);
create table sys.trigger_events(object_id int, type int, type_desc nvarchar(60));
create table sys.sql_modules(object_id int, definition nvarchar(4000), uses_ansi_nulls bit default 1, uses_quoted_identifier bit default 1, is_schema_bound bit default 0);
create table sys.sql_expression_dependencies(referencing_id int, referenced_id int);
create table sys.parameters(object_id int, name sysname, parameter_id int, user_type_id int, max_length smallint, precision tinyint, scale tinyint, is_output bit);
create table sys.synonyms(object_id int, name sysname, schema_id int, base_object_name nvarchar(1035));
create table sys.sequences(object_id int, name sysname, schema_id int, user_type_id int, precision tinyint, scale tinyint, start_value sql_variant, increment sql_variant, minimum_value sql_variant, maximum_value sql_variant, current_value sql_variant, is_cycling bit, is_cached bit, cache_size int, is_exhausted bit);
create table sys.table_types(name sysname, schema_id int, user_type_id int, type_table_object_id int);
create table sys.partition_schemes(data_space_id int);
create table sys.fulltext_catalogs(fulltext_catalog_id int);
create table sys.xml_schema_collections(xml_collection_id int, schema_id int);
create table sys.assemblies(assembly_id int, is_user_defined bit);
create table sys.stats(object_id int, user_created bit);
create table information_schema.tables(TABLE_CATALOG sysname, TABLE_SCHEMA sysname, TABLE_NAME sysname, TABLE_TYPE varchar(10));
create table information_schema.columns(TABLE_CATALOG sysname, TABLE_SCHEMA sysname, TABLE_NAME sysname, COLUMN_NAME sysname, ORDINAL_POSITION int, COLUMN_DEFAULT nvarchar(4000), IS_NULLABLE varchar(3), DATA_TYPE sysname, CHARACTER_MAXIMUM_LENGTH int, NUMERIC_PRECISION tinyint, NUMERIC_SCALE int, COLLATION_NAME sysname);
create table information_schema.views(TABLE_CATALOG sysname, TABLE_SCHEMA sysname, TABLE_NAME sysname, VIEW_DEFINITION nvarchar(4000));
create table information_schema.routines(ROUTINE_CATALOG sysname, ROUTINE_SCHEMA sysname, ROUTINE_NAME sysname, ROUTINE_TYPE nvarchar(20));
create table information_schema.schemata(CATALOG_NAME sysname, SCHEMA_NAME sysname, SCHEMA_OWNER sysname);
";

/// Types by their numbers in `sys.types`: name, number, and bytes.
const KNOWN: &[(&str, i64, i64)] = &[
    ("image", 34, 16),
    ("text", 35, 16),
    ("uniqueidentifier", 36, 16),
    ("date", 40, 3),
    ("time", 41, 5),
    ("datetime2", 42, 8),
    ("datetimeoffset", 43, 10),
    ("tinyint", 48, 1),
    ("smallint", 52, 2),
    ("int", 56, 4),
    ("smalldatetime", 58, 4),
    ("real", 59, 4),
    ("money", 60, 8),
    ("datetime", 61, 8),
    ("float", 62, 8),
    ("sql_variant", 98, 8016),
    ("ntext", 99, 16),
    ("bit", 104, 1),
    ("decimal", 106, 17),
    ("smallmoney", 122, 4),
    ("bigint", 127, 8),
    ("varbinary", 165, 8000),
    ("varchar", 167, 8000),
    ("binary", 173, 8000),
    ("char", 175, 8000),
    ("timestamp", 189, 8),
    ("nvarchar", 231, 8000),
    ("nchar", 239, 8000),
    ("sysname", 256, 256),
    ("hierarchyid", 128, 892),
    ("geometry", 129, -1),
    ("geography", 130, -1),
    ("xml", 241, -1),
];

/// A type's number, most bytes, digits, and those behind the point.
fn number_of(of: Type) -> (i64, i64, i64, i64) {
    let by_name =
        |name: &str| KNOWN.iter().find(|(known, ..)| *known == name).map_or((231, 8000), |(_, id, size)| (*id, *size));
    let plain = |name: &str| {
        let (id, size) = by_name(name);
        (id, size, 0, 0)
    };
    let sized = |name: &str, size: Option<u16>, each: i64| {
        (by_name(name).0, size.map_or(-1, |size| i64::from(size) * each), 0, 0)
    };
    match of {
        Type::Bit => plain("bit"),
        Type::Int(size) => plain(["tinyint", "smallint", "int", "bigint"][usize::from(size.trailing_zeros() as u8)]),
        Type::Float(4) => plain("real"),
        Type::Float(_) => plain("float"),
        Type::Money(4) => plain("smallmoney"),
        Type::Money(_) => plain("money"),
        Type::Decimal(precision, scale) => (106, 17, precision.into(), scale.into()),
        Type::Date => plain("date"),
        Type::Time(scale) => (41, 5, 16, scale.into()),
        Type::DateTime => plain("datetime"),
        Type::SmallDateTime => plain("smalldatetime"),
        Type::DateTime2(scale) => (42, 8, 27, scale.into()),
        Type::DateTimeOffset(scale) => (43, 10, 34, scale.into()),
        Type::Guid => plain("uniqueidentifier"),
        Type::VarChar(size) => sized("varchar", size, 1),
        Type::Char(size) => sized("char", Some(size), 1),
        Type::NVarChar(size) => sized("nvarchar", size, 2),
        Type::NChar(size) => sized("nchar", Some(size), 2),
        Type::VarBinary(size) => sized("varbinary", size, 1),
        Type::Binary(size) => sized("binary", Some(size), 1),
        Type::RowVersion => plain("timestamp"),
        Type::Xml => plain("xml"),
        Type::Variant => plain("sql_variant"),
        Type::Text => plain("text"),
        Type::NText => plain("ntext"),
        Type::Image => plain("image"),
        Type::Class(name) => plain(name),
    }
}

/// Makes the tables.
pub fn make(db: &Connection) -> rusqlite::Result<()> {
    db.execute_batch("attach ':memory:' as sys; attach ':memory:' as information_schema;")?;
    db.create_scalar_function("type_name", 1, FunctionFlags::SQLITE_UTF8, |context| {
        let number: i64 = context.get(0)?;
        Ok(KNOWN.iter().find(|(_, known, _)| *known == number).map(|(name, ..)| *name))
    })?;
    db.execute_batch(TABLES)
}

/// Whether a name is one of the tables.
pub fn is_table(schema: &str, name: &str) -> bool {
    TABLES.contains(&format!("create table {}.{}(", schema.to_ascii_lowercase(), name.to_ascii_lowercase()))
}

/// Whether a name is the schema of such tables.
pub fn is_schema(name: &str) -> bool {
    ["sys", "information_schema"].iter().any(|schema| schema.eq_ignore_ascii_case(name))
}

/// The number of the first object.
const FIRST: i64 = 1_000_000;
const DBO: i64 = 1;

/// What the schema `information_schema` says, by what `sys` does, of the database `?1`.
const INFORMATION: &[&str] = &[
    "insert into information_schema.tables select ?1, s.name, o.name, case o.type when 'V' then 'VIEW' else 'BASE TABLE' end \
     from sys.objects o join sys.schemas s using (schema_id) where o.type in ('U', 'V')",
    "insert into information_schema.columns select ?1, s.name, o.name, c.name, c.column_id, d.definition, \
     case when c.is_nullable then 'YES' else 'NO' end, t.name, \
     case when t.name in ('nvarchar', 'nchar') and c.max_length > 0 then c.max_length / 2 \
     when t.name in ('nvarchar', 'nchar', 'varchar', 'char', 'varbinary', 'binary') then c.max_length end, \
     nullif(c.precision, 0), case when c.precision > 0 then c.scale end, c.collation_name \
     from sys.objects o join sys.schemas s using (schema_id) join sys.columns c using (object_id) \
     join sys.types t on t.user_type_id = c.user_type_id \
     left join sys.default_constraints d on d.parent_object_id = o.object_id and d.parent_column_id = c.column_id \
     where o.type in ('U', 'V')",
    "insert into information_schema.views select ?1, s.name, o.name, m.definition from sys.objects o \
     join sys.schemas s using (schema_id) join sys.sql_modules m using (object_id) where o.type = 'V'",
    "insert into information_schema.routines select ?1, s.name, o.name, case o.type when 'P' then 'PROCEDURE' else 'FUNCTION' end \
     from sys.objects o join sys.schemas s using (schema_id) where o.type in ('P', 'FN')",
    "insert into information_schema.schemata select ?1, name, 'dbo' from sys.schemas",
];

/// Fills the tables with what is in a database, which is attached under a name.
pub fn fill(db: &Connection, shared: &Arc<Shared>, (place, database): (&str, &str)) -> rusqlite::Result<()> {
    fill_sys(db, shared, (place, database))?;
    INFORMATION.iter().try_for_each(|insert| db.execute(insert, [database]).map(drop))
}

fn fill_sys(db: &Connection, shared: &Arc<Shared>, (place, database): (&str, &str)) -> rusqlite::Result<()> {
    let place = quoted(place);
    // Modules and what was said of tables are of the database that the server began with.
    let is_first = shared.file_of(database) == shared.data;
    for line in TABLES.lines().filter_map(|line| line.strip_prefix("create table ")) {
        db.execute_batch(&format!("delete from {}", line.split('(').next().unwrap_or_default()))?;
    }
    db.execute_batch("insert into sys.schemas values (1, 'dbo'), (4, 'sys')")?;
    db.execute(
        "insert into sys.databases values (1, ?1, 0, 0, ?3), (5, ?2, 0, 1, ?3)",
        params![MASTER, shared.options.database, COLLATION],
    )?;
    for (number, name) in (6_i64..).zip(held(&shared.databases).keys()) {
        db.execute("insert into sys.databases values (?1, ?2, 0, 1, ?3)", params![number, name, COLLATION])?;
    }
    for (name, id, size) in KNOWN {
        db.execute("insert into sys.types values (?1, ?2, ?2, 4, ?3, 0, 0, 0, 0, 1)", params![name, id, size])?;
    }
    let all = format!(
        "select name, type, sql from {place}.sqlite_schema where type in ('table', 'view') and name not like 'sqlite_%' order by name"
    );
    let mut list = db.prepare(&all)?;
    let all = list.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
    let objects: Vec<(String, String, String)> = all.collect::<Result<_, _>>()?;
    let id_of = |name: &str| {
        objects.iter().position(|(known, ..)| known.eq_ignore_ascii_case(name)).map(|at| FIRST + at as i64 * 1000)
    };
    for (name, kind, text) in &objects {
        let id = id_of(name).unwrap_or_default();
        let (word, description) = if kind == "view" { ("V ", "VIEW") } else { ("U ", "USER_TABLE") };
        db.execute(
            "insert into sys.objects values (?1, ?2, ?3, 0, ?4, ?5, 0)",
            params![id, name, DBO, word.trim(), description],
        )?;
        let of = if kind == "view" { "views" } else { "tables" };
        db.execute(
            &format!("insert into sys.{of}(object_id, name, schema_id, type) values (?1, ?2, ?3, ?4)"),
            params![id, name, DBO, word.trim()],
        )?;
        let table = Table::read(text).filter(|_| kind != "view");
        columns(db, &place, id, name, table.as_ref())?;
        if kind == "view" {
            let needs = objects.iter().filter(|(other, ..)| other != name && names(text, other));
            for (other, ..) in needs {
                db.execute("insert into sys.sql_expression_dependencies values (?1, ?2)", params![id, id_of(other)])?;
            }
            let written = held(&shared.modules).get(&name.to_lowercase()).map(|module| module.text.clone());
            db.execute(
                "insert into sys.sql_modules(object_id, definition) values (?1, ?2)",
                params![id, written.as_deref().unwrap_or(text)],
            )?;
            continue;
        }
        let rows: i64 =
            db.query_row(&format!("select count(*) from {place}.{}", quoted(name)), [], |row| row.get(0))?;
        db.execute("insert into sys.partitions values (?1, ?1, 1, ?2)", params![id, rows])?;
        db.execute("insert into sys.allocation_units values (?1, ?2)", params![id, rows / 60 + 1])?;
        indexes(db, &place, id, name, table.as_ref())?;
        foreign_keys(db, &place, id, name, &id_of, table.as_ref())?;
        if let Some(table) = &table {
            written_parts(db, id, table)?;
        }
    }
    if !is_first {
        return Ok(());
    }
    for (rule, off) in held(&shared.lenient).iter() {
        for of in ["foreign_keys", "check_constraints"] {
            db.execute(
                &format!("update sys.{of} set is_not_trusted = 1, is_disabled = ?2 where lower(name) = ?1"),
                params![rule, off],
            )?;
        }
    }
    for ((table, column), said) in held(&shared.descriptions).iter() {
        // What was said of a column that is gone is gone with it.
        db.execute(
            "insert into sys.extended_properties select 1, o.object_id, coalesce(c.column_id, 0), 'MS_Description', ?3 \
             from sys.objects o left join sys.columns c on c.object_id = o.object_id and lower(c.name) = lower(?2) \
             where o.object_id = ?1 and (?2 = '' or c.column_id is not null)",
            params![id_of(table), column, said],
        )?;
    }
    let ids: HashMap<String, i64> =
        objects.iter().filter_map(|(name, ..)| Some((name.to_lowercase(), id_of(name)?))).collect();
    db.create_scalar_function("object_id", 1, FunctionFlags::SQLITE_UTF8, move |context| {
        let name = context.get::<String>(0)?.to_lowercase().replace(['[', ']'], "");
        Ok(ids.get(name.strip_prefix("dbo.").unwrap_or(&name)).copied())
    })?;
    for (at, module) in held(&shared.modules).values().enumerate().filter(|(_, module)| module.kind != "view") {
        let id = FIRST * 2 + at as i64 * 1000;
        let (word, description) = match module.kind.as_str() {
            "procedure" => ("P", "SQL_STORED_PROCEDURE"),
            "function" => ("FN", "SQL_SCALAR_FUNCTION"),
            _ => ("TR", "SQL_TRIGGER"),
        };
        db.execute(
            "insert into sys.objects values (?1, ?2, ?3, 0, ?4, ?5, 0)",
            params![id, module.name, DBO, word, description],
        )?;
        db.execute("insert into sys.sql_modules(object_id, definition) values (?1, ?2)", params![id, module.text])?;
        if word == "P" {
            db.execute("insert into sys.procedures values (?1, ?2, ?3, 'P')", params![id, module.name, DBO])?;
        }
        for (number, parameter) in module.parameters.iter().enumerate() {
            let (of, size, precision, scale) = number_of(Type::of(&parameter.of).unwrap_or(Type::Variant));
            db.execute(
                "insert into sys.parameters values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
                params![id, parameter.name, number as i64 + 1, of, size, precision, scale, parameter.output],
            )?;
        }
    }
    Ok(())
}

fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// Whether a text has a word.
fn names(text: &str, word: &str) -> bool {
    tokens(text).is_ok_and(|all| all.iter().any(|token| token.is_name() && token.text.eq_ignore_ascii_case(word)))
}

/// Checks and computed columns, which stand in the text of a table only.
fn written_parts(db: &Connection, id: i64, table: &Table) -> rusqlite::Result<()> {
    let mut checks = 0;
    for part in table.parts() {
        let mut depth = 0_i32;
        for (at, token) in part.iter().enumerate() {
            let opens = part.get(at + 1).is_some_and(|next| next.is("("));
            if depth == 0 && opens && token.is_one(&["check", "as"]) {
                let expression = format!("({})", sqlite::written(&table::inside(&part[at + 1..])).trim());
                if token.is("as") {
                    let name = part.first().map(|token| token.text.clone()).unwrap_or_default();
                    let stored = part.iter().any(|token| token.is("stored"));
                    db.execute(
                        "insert into sys.computed_columns values (?1, ?2, ?3, ?4)",
                        params![id, column_number(db, id, &name), expression, stored],
                    )?;
                } else {
                    checks += 1;
                    let before = at.checked_sub(2).and_then(|at| part.get(at..at + 2));
                    let named = before.filter(|two| two[0].is("constraint")).map(|two| two[1].text.clone());
                    let name = named.unwrap_or_else(|| format!("CK_{id}_{checks}"));
                    db.execute(
                        "insert into sys.check_constraints(object_id, name, parent_object_id, definition) values (?1, ?2, ?3, ?4)",
                        params![id + 800 + checks, name, id, expression],
                    )?;
                }
            }
            depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        }
    }
    Ok(())
}

fn columns(db: &Connection, place: &str, id: i64, table: &str, written: Option<&Table>) -> rusqlite::Result<()> {
    let mut list = db.prepare(&format!("pragma {place}.table_xinfo({})", quoted(table)))?;
    let mut rows = list.query([])?;
    while let Some(row) = rows.next()? {
        let number: i64 = row.get::<_, i64>(0)? + 1;
        let (name, of): (String, String) = (row.get(1)?, row.get(2)?);
        let (required, default, key): (bool, Option<String>, i64) = (row.get(3)?, row.get(4)?, row.get(5)?);
        let hidden: i64 = row.get(6)?;
        let kind = Type::declared(&of).unwrap_or(Type::NVarChar(None));
        let (user_type, size, precision, scale) = number_of(kind);
        let identity = key > 0 && of.eq_ignore_ascii_case("integer");
        let default_id = if default.is_some() { id + 500 + number } else { 0 };
        let collation = matches!(kind, Type::NVarChar(_) | Type::VarChar(_)).then_some(COLLATION);
        db.execute(
            "insert into sys.columns(object_id, name, column_id, user_type_id, system_type_id, max_length, precision, scale, collation_name, is_nullable, is_identity, is_computed, default_object_id) values (?1, ?2, ?3, ?4, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)",
            params![
                id,
                name,
                number,
                user_type,
                size,
                precision,
                scale,
                collation,
                !required && key == 0,
                identity,
                hidden > 1,
                default_id
            ],
        )?;
        if identity {
            db.execute(
                &format!(
                    "insert into sys.identity_columns select ?1, ?2, 1, 1, max({}) from {place}.{}",
                    quoted(&name),
                    quoted(table)
                ),
                params![id, number],
            )?;
        }
        if let Some(default) = default {
            let given = written.and_then(|written| written.default_name(&name));
            let own = given.is_none();
            let constraint = given.unwrap_or_else(|| format!("DF_{table}_{name}"));
            db.execute(
                "insert into sys.default_constraints values (?1, ?2, ?3, ?4, ?5, ?6)",
                params![default_id, constraint, id, number, format!("({default})"), own],
            )?;
        }
    }
    Ok(())
}

fn column_number(db: &Connection, table: i64, name: &str) -> i64 {
    let found = db.query_row(
        "select column_id from sys.columns where object_id = ?1 and lower(name) = lower(?2)",
        params![table, name],
        |row| row.get(0),
    );
    found.unwrap_or(1)
}

fn column_name(db: &Connection, table: i64, number: i64) -> String {
    let find = "select name from sys.columns where object_id = ?1 and column_id = ?2";
    db.query_row(find, params![table, number], |row| row.get(0)).unwrap_or_default()
}

fn indexes(db: &Connection, place: &str, id: i64, table: &str, written: Option<&Table>) -> rusqlite::Result<()> {
    let mut number = 1_i64;
    // The key that is the row's own number has no index in SQLite.
    let mut keys: Vec<(i64, i64)> = Vec::new();
    let mut list = db.prepare(&format!("pragma {place}.table_info({})", quoted(table)))?;
    let mut rows = list.query([])?;
    while let Some(row) = rows.next()? {
        let place: i64 = row.get(5)?;
        if place > 0 {
            keys.push((place, row.get::<_, i64>(0)? + 1));
        }
    }
    keys.sort_unstable();
    let mut put = |name: &str,
                   unique: bool,
                   primary: bool,
                   constraint: bool,
                   columns: &[(i64, bool)]|
     -> rusqlite::Result<()> {
        let how = if primary { "CLUSTERED" } else { "NONCLUSTERED" };
        db.execute(
                "insert into sys.indexes(object_id, name, index_id, type_desc, is_unique, is_primary_key, is_unique_constraint) values (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![id, name, number, how, unique, primary, constraint],
            )?;
        for (at, (column, descending)) in columns.iter().enumerate() {
            db.execute(
                "insert into sys.index_columns values (?1, ?2, ?3, ?4, ?3, ?5, 0)",
                params![id, number, at as i64 + 1, column, descending],
            )?;
        }
        number += 1;
        Ok(())
    };
    if !keys.is_empty() {
        let columns: Vec<_> = keys.iter().map(|(_, column)| (*column, false)).collect();
        let named = written.and_then(|written| written.rules("primary").into_iter().find_map(|rule| rule.name));
        put(&named.unwrap_or_else(|| format!("PK_{table}")), true, true, false, &columns)?;
    }
    let mut list = db.prepare(&format!("pragma {place}.index_list({})", quoted(table)))?;
    let found = list.query_map([], |row| Ok((row.get(1)?, row.get(2)?, row.get(3)?)))?;
    let found: Vec<(String, bool, String)> = found.collect::<Result<_, _>>()?;
    for (count, (name, unique, origin)) in found.iter().enumerate().filter(|(_, (_, _, origin))| origin != "pk") {
        let mut list = db.prepare(&format!("pragma {place}.index_xinfo({})", quoted(name)))?;
        let columns =
            list.query_map([], |row| Ok((row.get::<_, i64>(1)?, row.get::<_, bool>(3)?, row.get::<_, bool>(5)?)))?;
        let columns: Vec<_> = columns.collect::<Result<Vec<_>, _>>()?;
        let columns: Vec<_> = columns
            .into_iter()
            .filter(|(column, _, key)| *key && *column >= 0)
            .map(|(column, desc, _)| (column + 1, desc))
            .collect();
        let constraint = origin == "u";
        let names: Vec<String> = columns.iter().map(|(column, _)| column_name(db, id, *column)).collect();
        let same = |rule: &Named| {
            rule.columns.len() == names.len() && rule.columns.iter().zip(&names).all(|(a, b)| a.eq_ignore_ascii_case(b))
        };
        let named = written.and_then(|written| written.rules("unique").into_iter().find(same)?.name);
        let name = match constraint {
            true => named.unwrap_or_else(|| format!("UQ_{table}_{count}")),
            false => name.clone(),
        };
        put(&name, *unique, false, constraint, &columns)?;
    }
    Ok(())
}

fn foreign_keys(
    db: &Connection,
    place: &str,
    id: i64,
    table: &str,
    id_of: &impl Fn(&str) -> Option<i64>,
    written: Option<&Table>,
) -> rusqlite::Result<()> {
    let mut list = db.prepare(&format!("pragma {place}.foreign_key_list({})", quoted(table)))?;
    let mut rows = list.query([])?;
    while let Some(row) = rows.next()? {
        let (number, nth): (i64, i64) = (row.get(0)?, row.get(1)?);
        let (there, from, to): (String, String, Option<String>) = (row.get(2)?, row.get(3)?, row.get(4)?);
        let (on_update, on_delete): (String, String) = (row.get(5)?, row.get(6)?);
        let Some(other) = id_of(&there) else { continue };
        let key = id + 700 + number;
        if nth == 0 {
            let own = |rule: &Named| rule.columns.first().is_some_and(|column| column.eq_ignore_ascii_case(&from));
            let named = written.and_then(|written| written.rules("foreign").into_iter().find(own)?.name);
            let named = named.unwrap_or_else(|| format!("FK_{table}_{there}_{number}"));
            let said = |action: &str| action.replace(' ', "_").to_uppercase();
            db.execute(
                "insert into sys.foreign_keys(object_id, name, parent_object_id, referenced_object_id, delete_referential_action_desc, update_referential_action_desc) values (?1, ?2, ?3, ?4, ?5, ?6)",
                params![key, named, id, other, said(&on_delete), said(&on_update)],
            )?;
        }
        // Columns of tables that come later are not there yet: their numbers are asked of SQLite.
        let to = to.unwrap_or_else(|| "id".to_owned());
        let there_number: i64 = db
            .query_row(
                &format!(
                    "select cid + 1 from pragma_table_info({}, {place}) where lower(name) = lower(?1)",
                    quoted(&there)
                ),
                [&to],
                |row| row.get(0),
            )
            .unwrap_or(1);
        db.execute(
            "insert into sys.foreign_key_columns values (?1, ?2, ?3, ?4, ?5, ?6)",
            params![key, nth + 1, id, column_number(db, id, &from), other, there_number],
        )?;
    }
    Ok(())
}
