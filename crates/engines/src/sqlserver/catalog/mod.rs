//! What a database holds, from the views of its schema `sys`. [`made`] knows how sequences, types and modules are made,
//! [`rules`] keys, references, checks and indexes.

mod made;
mod rules;

use jaunty_language::dialect::SQLSERVER;
use jaunty_seam::catalog::{Belonging, BelongingKind, Catalog, Column, Object, ObjectKind, Trigger};
use jaunty_seam::error::EngineError;

use super::session::{Row, SqlServerSession, field};

/// Tables and views with their columns: a row a column.
const RELATIONS: &str = "\
select s.name as s_name, o.name as o_name, o.type as o_type, c.name as c_name, t.name as t_name, c.max_length, c.precision, c.scale, \
c.is_nullable, c.is_identity, d.definition as d_definition, k.definition as k_definition, e.value as e_value, \
c.column_id, nullif(c.collation_name, b.collation_name) as c_collation, d.name as d_name, d.is_system_named, k.is_persisted, \
c.is_sparse, c.is_rowguidcol, ts.name as ts_name, t.is_user_defined, y.seed, y.step \
from sys.objects o join sys.schemas s on s.schema_id = o.schema_id \
left join sys.columns c on c.object_id = o.object_id \
left join sys.types t on t.user_type_id = c.user_type_id \
left join sys.schemas ts on ts.schema_id = t.schema_id \
left join sys.databases b on b.name = db_name() \
left join (select object_id, column_id, cast(seed_value as varchar(50)) as seed, cast(increment_value as varchar(50)) as step \
from sys.identity_columns) y on y.object_id = c.object_id and y.column_id = c.column_id \
left join sys.default_constraints d on d.object_id = c.default_object_id \
left join sys.computed_columns k on k.object_id = c.object_id and k.column_id = c.column_id \
left join sys.extended_properties e on e.class = 1 and e.major_id = o.object_id and e.minor_id = c.column_id and e.name = 'MS_Description' \
where o.type in ('U', 'V') and o.is_ms_shipped = 0 order by s.name, o.name, c.column_id";

/// Comments, rows and bytes of tables.
const ABOUT: &str = "\
select s.name as s_name, o.name as o_name, e.value as e_value, \
(select sum(p.rows) from sys.partitions p where p.object_id = o.object_id and p.index_id < 2) as row_count, \
(select sum(a.total_pages) * 8192 from sys.partitions p join sys.allocation_units a on a.container_id = p.partition_id \
where p.object_id = o.object_id) as byte_count, o.type as o_type \
from sys.objects o join sys.schemas s on s.schema_id = o.schema_id \
left join sys.extended_properties e on e.class = 1 and e.major_id = o.object_id and e.minor_id = 0 and e.name = 'MS_Description' \
where o.type in ('U', 'V') and o.is_ms_shipped = 0";

const TRIGGERS: &str = "\
select s.name as s_name, o.name as o_name, t.name as t_name, t.is_instead_of_trigger, e.type_desc, m.definition, t.is_disabled, \
m.uses_ansi_nulls, m.uses_quoted_identifier from sys.triggers t \
join sys.objects o on o.object_id = t.parent_id join sys.schemas s on s.schema_id = o.schema_id \
join sys.trigger_events e on e.object_id = t.object_id left join sys.sql_modules m on m.object_id = t.object_id \
order by s.name, o.name, t.name, e.type";

/// Routines with their parameters: a row a parameter; number 0 is what a function gives.
const ROUTINES: &str = "\
select s.name as s_name, o.name as o_name, o.type as o_type, p.name as p_name, t.name as t_name, p.max_length, p.precision, p.scale, p.is_output, p.parameter_id \
from sys.objects o join sys.schemas s on s.schema_id = o.schema_id left join sys.parameters p on p.object_id = o.object_id \
left join sys.types t on t.user_type_id = p.user_type_id \
where o.type in ('P', 'FN', 'IF', 'TF', 'PC', 'FS', 'FT') and o.is_ms_shipped = 0 order by s.name, o.name, p.parameter_id";

/// Reads a part of what another database holds: what names in statements can mean.
pub fn read_another(
    session: &mut SqlServerSession,
    database: &str,
    part: usize,
    catalog: &mut Catalog,
) -> Result<bool, EngineError> {
    let there = |question: &str| within(question, database);
    match part {
        0 => {
            // Plain names behind `database..` mean those of the schema that is the user's own there: mostly this one.
            catalog.path = vec!["dbo".to_owned()];
            session.ask(&there(RELATIONS))?.iter().for_each(|row| column(catalog, row));
        }
        1 => session.ask(&there(ABOUT))?.iter().for_each(|row| about(catalog, row)),
        2 => rules::keys_and_indexes(session, &there, catalog)?,
        3 => rules::references_and_checks(session, &there, catalog)?,
        _ => {
            session.ask(&there(ROUTINES))?.iter().for_each(|row| routine(catalog, row));
            return Ok(false);
        }
    }
    Ok(true)
}

/// A question about another database: its views of the schema `sys`.
fn within(question: &str, database: &str) -> String {
    let [name, text] = [SQLSERVER.name_as_written(database), SQLSERVER.text_as_written(database)];
    // A name may hold either of them.
    let parts: Vec<String> = question.split(" sys.").map(|part| part.replace("db_name()", &text)).collect();
    parts.join(&format!(" {name}.sys."))
}

/// Reads a part of it.
pub fn read(session: &mut SqlServerSession, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError> {
    match part {
        0 => {
            catalog.path = vec![session.location.schema.clone()];
            catalog.database.clone_from(&session.location.database);
            session.ask(RELATIONS)?.iter().for_each(|row| column(catalog, row));
        }
        1 => session.ask(ABOUT)?.iter().for_each(|row| about(catalog, row)),
        2 => rules::keys_and_indexes(session, &str::to_owned, catalog)?,
        3 => rules::references_and_checks(session, &str::to_owned, catalog)?,
        4 => session.ask(TRIGGERS)?.iter().for_each(|row| trigger(catalog, row)),
        5 => session.ask(ROUTINES)?.iter().for_each(|row| routine(catalog, row)),
        6 => made::modules(session, catalog)?,
        7 => made::others(session, catalog)?,
        _ => {
            let databases = session.ask("select name from sys.databases where state = 0 order by name")?;
            catalog.databases = databases.iter().map(|row| field(row, 0).to_owned()).collect();
            return Ok(false);
        }
    }
    Ok(true)
}

fn kind(word: &str) -> ObjectKind {
    match word.trim() {
        "V" => ObjectKind::View,
        "P" | "PC" => ObjectKind::Procedure,
        "FN" | "IF" | "TF" | "FS" | "FT" => ObjectKind::Function,
        "SO" => ObjectKind::Sequence,
        "SN" => ObjectKind::Synonym,
        _ => ObjectKind::Table,
    }
}

/// An expression without the parentheses that the server keeps around it.
fn bare(mut expression: &str) -> &str {
    while let Some(inside) = expression.strip_prefix('(').and_then(|rest| rest.strip_suffix(')')) {
        // The first has to close with the last.
        let mut depth = 1_i32;
        if !inside.bytes().all(|byte| {
            depth += i32::from(byte == b'(') - i32::from(byte == b')');
            depth > 0
        }) {
            break;
        }
        expression = inside;
    }
    expression
}

/// The type that stands at this place of a row: its name, the most bytes, the digits and those behind the point.
fn type_name(row: &Row, at: usize) -> String {
    let name = if field(row, at) == "timestamp" { "rowversion" } else { field(row, at) };
    let length: i64 = field(row, at + 1).parse().unwrap_or(0);
    let sized = |each: i64| match length {
        -1 => format!("{name}(max)"),
        length => format!("{name}({})", length / each),
    };
    match name {
        "nvarchar" | "nchar" => sized(2),
        "varchar" | "char" | "varbinary" | "binary" => sized(1),
        "decimal" | "numeric" => format!("{name}({},{})", field(row, at + 2), field(row, at + 3)),
        "datetime2" | "datetimeoffset" | "time" => format!("{name}({})", field(row, at + 3)),
        _ => name.to_owned(),
    }
}

/// The name of an object or a type as it is written wherever it is.
fn whole_name(schema: &str, name: &str) -> String {
    format!("{}.{}", SQLSERVER.name_as_written(schema), SQLSERVER.name_as_written(name))
}

/// That a part of a table does not act.
fn off(part: String, makes: String, unmakes: String) -> Belonging {
    Belonging { kind: BelongingKind::State, name: part.clone(), of: part, to: None, makes, unmakes }
}

fn column(catalog: &mut Catalog, row: &Row) {
    let object = catalog.object(field(row, 0), field(row, 1), kind(field(row, 2)));
    let name = field(row, 3);
    if name.is_empty() {
        return;
    }
    let is = |at: usize| field(row, at) == "1";
    let db_type = match is(21) {
        true => whole_name(field(row, 20), field(row, 4)),
        false => type_name(row, 4),
    };
    let computed = field(row, 11);
    let generated = match (computed.is_empty(), is(9)) {
        (false, _) => Some(bare(computed).to_owned()),
        (true, true) => Some("identity".to_owned()),
        // The server gives each row its own.
        _ if db_type == "rowversion" => Some(Column::BY_SERVER.to_owned()),
        _ => None,
    };
    let numbering = match (field(row, 22), field(row, 23)) {
        ("", _) | ("1", "1") => String::new(),
        (seed, step) => format!("{seed}, {step}"),
    };
    let more = [(17, "persisted"), (18, "sparse"), (19, "rowguidcol")];
    let mut more: Vec<&str> = more.into_iter().filter(|(at, _)| is(*at)).map(|(_, word)| word).collect();
    // A type of somebody's own may say that it is never NULL.
    if is(21) && is(8) {
        more.push("null");
    }
    object.columns.push(Column {
        name: name.to_owned(),
        db_type,
        collation: field(row, 14).to_owned(),
        nullable: is(8),
        default: Some(made::default_value(field(row, 10))).filter(|default| !default.is_empty()),
        default_name: if is(16) { String::new() } else { field(row, 15).to_owned() },
        generated,
        numbering,
        more: more.join(" "),
        comment: field(row, 12).to_owned(),
        ..Column::default()
    });
}

fn about(catalog: &mut Catalog, row: &Row) {
    let Some(object) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    object.comment = field(row, 2).to_owned();
    (object.rows, object.bytes) = (field(row, 3).parse().ok(), field(row, 4).parse().ok());
}

fn trigger(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    let (name, event) = (field(row, 2), field(row, 4).to_lowercase());
    if let Some(known) = table.triggers.iter_mut().find(|known| known.name == name) {
        known.when.push_str(&format!(", {event}"));
        return;
    }
    let when = if field(row, 3) == "1" { "instead of" } else { "after" };
    let (own, on) = (whole_name(&table.schema, name), whole_name(&table.schema, &table.name));
    table.triggers.push(Trigger {
        name: name.to_owned(),
        when: format!("{when} {event}"),
        definition: made::under_own_name(field(row, 5), &table.schema, name),
        made_with: made::settings(field(row, 7), field(row, 8)),
    });
    if field(row, 6) == "1" {
        let [makes, unmakes] = ["disable", "enable"].map(|word| format!("{word} trigger {own} on {on}"));
        table.belongings.push(off(format!("trigger {name}"), makes, unmakes));
    }
}

fn routine(catalog: &mut Catalog, row: &Row) {
    let kind = kind(field(row, 2));
    let object = catalog.object(field(row, 0), field(row, 1), kind);
    if object.signature.is_empty() {
        object.signature = match (kind, field(row, 2).trim()) {
            (ObjectKind::Function, "IF" | "TF" | "FT") => "() returns table".to_owned(),
            _ => "()".to_owned(),
        };
    }
    let told = type_name(row, 4);
    if told.is_empty() {
        return;
    }
    if field(row, 9) == "0" {
        object.signature.push_str(&format!(" returns {told}"));
        return;
    }
    let out = if field(row, 8) == "1" { " output" } else { "" };
    let takes = format!("{} {told}{out}", field(row, 3));
    let Some((inside, behind)) = object.signature.rsplit_once(')') else { return };
    let between = if inside.ends_with('(') { "" } else { ", " };
    object.signature = format!("{inside}{between}{takes}){behind}");
}

/// The statement that makes an object, by the server's own word; of a table it has none.
pub fn definition(session: &mut SqlServerSession, of: &Object) -> Result<Option<String>, EngineError> {
    let text = |text: &str| SQLSERVER.text_as_written(text);
    let rows = session.ask(&format!(
        "select m.definition from sys.sql_modules m join sys.objects o on o.object_id = m.object_id \
         join sys.schemas s on s.schema_id = o.schema_id where s.name = {} and o.name = {}",
        text(&of.schema),
        text(&of.name)
    ))?;
    let found = rows.first().map(|row| made::under_own_name(field(row, 0), &of.schema, &of.name));
    Ok(found.filter(|text| !text.is_empty()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parentheses_around_all_of_it_are_left_out() {
        assert_eq!(
            ["((0))", "(getdate())", "(a)+(b)", "", "('x')"].map(bare),
            ["0", "getdate()", "(a)+(b)", "", "'x'"]
        );
    }

    #[test]
    fn columns_are_as_the_server_describes_them() {
        let mut catalog = Catalog::default();
        let mut put = |name: &str, type_: [&str; 4], said: &[(usize, &str)]| {
            let mut row = vec![String::new(); 24];
            for (at, text) in [(0, "dbo"), (1, "plan"), (2, "U"), (3, name), (8, "0")].iter().chain(said) {
                row[*at] = (*text).to_owned();
            }
            type_.iter().enumerate().for_each(|(at, text)| row[4 + at] = (*text).to_owned());
            column(&mut catalog, &row);
        };
        put("id", ["bigint", "8", "19", "0"], &[(9, "1"), (22, "100"), (23, "-1")]);
        put("plain", ["int", "4", "10", "0"], &[(9, "1"), (22, "1"), (23, "1")]);
        put(
            "code",
            ["Port code", "12", "0", "0"],
            &[(20, "old"), (21, "1"), (10, "(N'x')"), (15, "DF_given"), (16, "0")],
        );
        put("free", ["code", "12", "0", "0"], &[(8, "1"), (20, "dbo"), (21, "1")]);
        put("seen", ["timestamp", "8", "0", "0"], &[]);
        put("twice", ["decimal", "9", "12", "2"], &[(11, "([a]*(2))"), (17, "1")]);
        put(
            "note",
            ["nvarchar", "-1", "0", "0"],
            &[(8, "1"), (14, "Latin1_General_BIN2"), (18, "1"), (10, "((1)+(2))"), (15, "DF__1"), (16, "1")],
        );
        let told: Vec<_> = catalog.objects()[0]
            .columns
            .iter()
            .map(|c| {
                let default = c.default.clone().unwrap_or_default();
                format!(
                    "{}|{:?}|{}|{}|{default}|{}",
                    c.declared_type(),
                    c.generated,
                    c.numbering,
                    c.more,
                    c.default_name
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "bigint|Some(\"identity\")|100, -1|||",
                "int|Some(\"identity\")||||",
                "old.[Port code]|None|||N'x'|DF_given",
                "dbo.code|None||null||",
                "rowversion|Some(\"by the server\")||||",
                "decimal(12,2)|Some(\"[a]*(2)\")||persisted||",
                "nvarchar(max) collate Latin1_General_BIN2|None||sparse|((1)+(2))|",
            ]
        );
    }

    #[test]
    fn arguments_and_results_make_a_signature() {
        let mut catalog = Catalog::default();
        let row = |texts: [&str; 10]| texts.map(str::to_owned).to_vec();
        routine(&mut catalog, &row(["dbo", "f", "FN", "", "int", "4", "10", "0", "0", "0"]));
        routine(&mut catalog, &row(["dbo", "f", "FN", "@a", "nvarchar", "80", "0", "0", "0", "1"]));
        routine(&mut catalog, &row(["dbo", "f", "FN", "@b", "decimal", "9", "12", "2", "1", "2"]));
        assert_eq!(catalog.objects()[0].signature, "(@a nvarchar(40), @b decimal(12,2) output) returns int");
    }
}
