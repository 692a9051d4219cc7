//! How sequences, types and modules are made.

use std::ops::Range;

use jaunty_language::dialect::SQLSERVER;
use jaunty_language::statement::shape::words;
use jaunty_seam::catalog::{Catalog, Name, ObjectKind};
use jaunty_seam::error::{EngineError, ErrorKind};

use super::{bare, kind, type_name, whole_name};
use crate::sqlserver::session::{Row, SqlServerSession, field};

/// What has a text: views and routines.
const MODULES: &str = "\
select s.name as s_name, o.name as o_name, o.type as o_type, m.definition, m.uses_ansi_nulls, m.uses_quoted_identifier from sys.objects o \
join sys.schemas s on s.schema_id = o.schema_id join sys.sql_modules m on m.object_id = o.object_id \
where o.type in ('V', 'P', 'FN', 'IF', 'TF') and o.is_ms_shipped = 0";

/// What views and functions need to be made. Bodies of others are looked at when they run.
const NEEDS: &str = "\
select distinct rs.name as rs_name, r.name as r_name, r.type as r_type, ds.name as ds_name, d.name as d_name \
from sys.sql_expression_dependencies e \
join sys.objects r on r.object_id = e.referencing_id join sys.schemas rs on rs.schema_id = r.schema_id \
join sys.objects d on d.object_id = e.referenced_id join sys.schemas ds on ds.schema_id = d.schema_id \
left join sys.sql_modules m on m.object_id = r.object_id \
where r.type in ('V', 'IF', 'TF') or (r.type = 'FN' and m.is_schema_bound = 1) order by rs.name, r.name, ds.name, d.name";

const SEQUENCES: &str = "\
select s.name as s_name, q.name as q_name, t.name as t_name, t.max_length, q.precision, q.scale, \
cast(q.start_value as varchar(50)) as start, cast(q.increment as varchar(50)) as step, \
cast(q.minimum_value as varchar(50)) as least, cast(q.maximum_value as varchar(50)) as most, q.is_cycling, q.is_cached, q.cache_size \
from sys.sequences q join sys.schemas s on s.schema_id = q.schema_id join sys.types t on t.user_type_id = q.user_type_id";

const SYNONYMS: &str = "\
select s.name as s_name, y.name as y_name, y.base_object_name from sys.synonyms y join sys.schemas s on s.schema_id = y.schema_id";

const TYPES: &str = "\
select s.name as s_name, t.name as t_name, b.name as b_name, t.max_length, t.precision, t.scale, t.is_table_type, t.is_nullable from sys.types t \
join sys.schemas s on s.schema_id = t.schema_id left join sys.types b on b.user_type_id = t.system_type_id where t.is_user_defined = 1";

/// Types of tables: a row a column.
const TABLE_TYPES: &str = "\
select s.name as s_name, y.name as y_name, c.name as c_name, t.name as t_name, c.max_length, c.precision, c.scale, c.is_nullable, \
c.is_identity, d.definition as d_definition, k.definition as k_definition, t.is_user_defined, ts.name as ts_name, x.is_descending_key, x.key_ordinal \
from sys.table_types y join sys.schemas s on s.schema_id = y.schema_id \
join sys.columns c on c.object_id = y.type_table_object_id join sys.types t on t.user_type_id = c.user_type_id \
join sys.schemas ts on ts.schema_id = t.schema_id \
left join sys.default_constraints d on d.object_id = c.default_object_id \
left join sys.computed_columns k on k.object_id = c.object_id and k.column_id = c.column_id \
left join sys.indexes i on i.object_id = c.object_id and i.is_primary_key = 1 \
left join sys.index_columns x on x.object_id = i.object_id and x.index_id = i.index_id and x.column_id = c.column_id \
order by s.name, y.name, c.column_id";

/// Reads the texts of views and routines, and what they need.
pub(super) fn modules(session: &mut SqlServerSession, catalog: &mut Catalog) -> Result<(), EngineError> {
    for row in session.ask(MODULES)? {
        let object = catalog.object(field(&row, 0), field(&row, 1), kind(field(&row, 2)));
        object.definition = under_own_name(field(&row, 3), field(&row, 0), field(&row, 1));
        object.made_with = settings(field(&row, 4), field(&row, 5));
    }
    match session.ask(NEEDS) {
        Ok(rows) => {
            for row in rows {
                let needs = Name { schema: field(&row, 3).to_owned(), name: field(&row, 4).to_owned() };
                catalog.object(field(&row, 0), field(&row, 1), kind(field(&row, 2))).uses.push(needs);
            }
        }
        // The right to see them is one of its own.
        Err(error) if error.kind == ErrorKind::Refused => catalog.find_uses(&SQLSERVER),
        Err(error) => return Err(error),
    }
    Ok(())
}

/// Reads sequences, synonyms and types.
pub(super) fn others(session: &mut SqlServerSession, catalog: &mut Catalog) -> Result<(), EngineError> {
    session.ask(SEQUENCES)?.iter().for_each(|row| sequence(catalog, row));
    session.ask(SYNONYMS)?.iter().for_each(|row| synonym(catalog, row));
    session.ask(TYPES)?.iter().for_each(|row| named_type(catalog, row));
    for table in table_types(&session.ask(TABLE_TYPES)?) {
        let object = catalog.object(&table.name.schema, &table.name.name, ObjectKind::Type);
        object.definition = table.definition();
    }
    Ok(())
}

fn sequence(catalog: &mut Catalog, row: &Row) {
    let object = catalog.object(field(row, 0), field(row, 1), ObjectKind::Sequence);
    let cycle = if field(row, 10) == "1" { "cycle" } else { "no cycle" };
    let cache = match (field(row, 11), field(row, 12)) {
        ("1", "" | "0") => "cache".to_owned(),
        ("1", size) => format!("cache {size}"),
        _ => "no cache".to_owned(),
    };
    let (start, step, least, most) = (field(row, 6), field(row, 7), field(row, 8), field(row, 9));
    object.clauses = format!(
        "as {} start with {start} increment by {step} minvalue {least} maxvalue {most} {cycle} {cache}",
        type_name(row, 2)
    );
    object.definition = format!("create sequence {} {}", whole_name(&object.schema, &object.name), object.clauses);
}

fn synonym(catalog: &mut Catalog, row: &Row) {
    let object = catalog.object(field(row, 0), field(row, 1), ObjectKind::Synonym);
    object.clauses = format!("for {}", field(row, 2));
    object.definition = format!("create synonym {} {}", whole_name(&object.schema, &object.name), object.clauses);
}

fn named_type(catalog: &mut Catalog, row: &Row) {
    let object = catalog.object(field(row, 0), field(row, 1), ObjectKind::Type);
    if field(row, 6) == "1" {
        object.clauses = "as a table".to_owned();
        return;
    }
    let null = if field(row, 7) == "1" { "" } else { " not null" };
    object.clauses = format!("from {}{null}", type_name(row, 2));
    // One of a library has no type that it is from.
    if !field(row, 2).is_empty() {
        object.definition = format!("create type {} {}", whole_name(&object.schema, &object.name), object.clauses);
    }
}

fn table_types(rows: &[Row]) -> Vec<TableType> {
    let mut tables: Vec<TableType> = Vec::new();
    for row in rows {
        let known = tables.last().is_some_and(|one| one.name.schema == field(row, 0) && one.name.name == field(row, 1));
        if !known {
            let name = Name { schema: field(row, 0).to_owned(), name: field(row, 1).to_owned() };
            tables.push(TableType { name, parts: Vec::new(), key: Vec::new() });
        }
        let Some(table) = tables.last_mut() else { continue };
        let name = SQLSERVER.name_as_written(field(row, 2));
        let of = match field(row, 11) {
            "1" => whole_name(field(row, 12), field(row, 3)),
            _ => type_name(row, 3),
        };
        let mut part = match field(row, 10) {
            "" => format!("{name} {of}"),
            computed => format!("{name} as {computed}"),
        };
        if field(row, 8) == "1" {
            part.push_str(" identity");
        }
        if !field(row, 9).is_empty() {
            part.push_str(&format!(" default {}", field(row, 9)));
        }
        if field(row, 7) != "1" && field(row, 10).is_empty() {
            part.push_str(" not null");
        }
        let place = field(row, 14).parse().unwrap_or_default();
        match field(row, 13) {
            "" => {}
            "1" => table.key.push((place, format!("{name} desc"))),
            _ => table.key.push((place, name)),
        }
        table.parts.push(part);
    }
    tables
}

/// A type of tables: what is between its parentheses, and the columns of its key with their places in it.
struct TableType {
    name: Name,
    parts: Vec<String>,
    key: Vec<(u32, String)>,
}

impl TableType {
    fn definition(mut self) -> String {
        self.key.sort_unstable();
        if !self.key.is_empty() {
            let key: Vec<&str> = self.key.iter().map(|(_, name)| name.as_str()).collect();
            self.parts.push(format!("primary key ({})", key.join(", ")));
        }
        let (name, parts) = (whole_name(&self.name.schema, &self.name.name), self.parts.join(",\n    "));
        format!("create type {name} as table (\n    {parts}\n)")
    }
}

/// The expression of a default, in parentheses only where it is of several parts.
pub(super) fn default_value(definition: &str) -> String {
    let value = bare(definition);
    let all = words(value, &SQLSERVER, 0);
    let is_call = || {
        let mut depth = 0_i32;
        let closes = all.iter().skip(1).position(|word| {
            depth += i32::from(word.sign(b'(')) - i32::from(word.sign(b')'));
            depth == 0
        });
        closes == Some(all.len().saturating_sub(2))
    };
    if all.len() < 2 || is_call() { value.to_owned() } else { format!("({value})") }
}

/// The settings that a module was made under, where they are not as usual.
pub(super) fn settings(ansi_nulls: &str, quoted_identifier: &str) -> String {
    let off = [(ansi_nulls, "ansi_nulls"), (quoted_identifier, "quoted_identifier")];
    let off: Vec<&str> = off.into_iter().filter(|(on, _)| *on == "0").map(|(_, name)| name).collect();
    if off.is_empty() { String::new() } else { format!("set {} off", off.join(", ")) }
}

/// The text of a module under the name that it has: the server keeps the text as it was written, also when the module
/// was given another name or schema afterwards.
pub(super) fn under_own_name(text: &str, schema: &str, name: &str) -> String {
    let text = text.trim();
    let Some(named) = name_in(text) else { return text.to_owned() };
    let is_own = |part: Option<&String>, own: &str| part.is_some_and(|part| part.eq_ignore_ascii_case(own));
    let (last, before) = (named.parts.last(), named.parts.len().checked_sub(2).and_then(|at| named.parts.get(at)));
    if named.parts.len() == 2 && is_own(last, name) && is_own(before, schema) {
        return text.to_owned();
    }
    let [head, tail] = [text.get(..named.range.start), text.get(named.range.end..)].map(Option::unwrap_or_default);
    format!("{head}{}{tail}", whole_name(schema, name))
}

/// A name in the text of a module.
struct Named {
    range: Range<usize>,
    /// Its parts, without quotes.
    parts: Vec<String>,
}

/// The name after `CREATE [OR ALTER] VIEW`, and its kin.
fn name_in(text: &str) -> Option<Named> {
    let all = words(text, &SQLSERVER, 0);
    let kinds = ["VIEW", "PROCEDURE", "PROC", "FUNCTION", "TRIGGER"];
    let kind = all.iter().take(6).position(|word| word.is_one_of(&kinds))?;
    let mut at = kind + 1;
    let mut range = all.get(at)?.range.clone();
    let part =
        |range: Range<usize>| jaunty_language::statement::definition::unquoted(text.get(range).unwrap_or_default());
    let mut parts = vec![part(range.clone())];
    while all.get(at + 1).is_some_and(|word| word.sign(b'.')) {
        let next = all.get(at + 2)?;
        range.end = next.range.end;
        parts.push(part(next.range.clone()));
        at += 2;
    }
    Some(Named { range, parts })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_module_is_made_under_the_name_that_it_has() {
        for (text, made) in [
            ("create view dbo.late as select 1 as n", "create view dbo.late as select 1 as n"),
            ("  CREATE VIEW [dbo].[late] AS select 1 as n\n", "CREATE VIEW [dbo].[late] AS select 1 as n"),
            ("create view late as select 1 as n", "create view dbo.late as select 1 as n"),
            ("create or alter view old.tardy(a) as select 1", "create or alter view dbo.late(a) as select 1"),
            (
                "/* view x */ create view tardy -- late\nas select 1",
                "/* view x */ create view dbo.late -- late\nas select 1",
            ),
        ] {
            assert_eq!(under_own_name(text, "dbo", "late"), made, "{text}");
        }
        assert_eq!(
            under_own_name("create proc p as print 1", "Night Run", "go"),
            "create proc [Night Run].[go] as print 1"
        );
    }

    #[test]
    fn a_default_of_several_parts_keeps_its_parentheses() {
        let told =
            ["((0))", "(getdate())", "(N'it''s (1)')", "((1)+(2))", "(dateadd(day,(1),getdate()))", "(f(1)+f(2))", ""];
        let made = ["0", "getdate()", "N'it''s (1)'", "((1)+(2))", "dateadd(day,(1),getdate())", "(f(1)+f(2))", ""];
        assert_eq!(told.map(default_value), made);
    }

    fn row(texts: &[&str]) -> Row {
        texts.iter().map(|text| (*text).to_owned()).collect()
    }

    #[test]
    fn a_type_of_tables_has_its_key_in_its_own_order() {
        let rows = [
            row(&["dbo", "Plan lines", "port", "int", "4", "10", "0", "0", "0", "", "", "0", "sys", "0", "2"]),
            row(&[
                "dbo",
                "Plan lines",
                "at",
                "date",
                "3",
                "10",
                "0",
                "0",
                "0",
                "(getdate())",
                "",
                "0",
                "sys",
                "1",
                "1",
            ]),
            row(&["dbo", "Plan lines", "code", "code", "6", "0", "0", "1", "0", "", "", "1", "Old", "", ""]),
            row(&[
                "dbo",
                "Plan lines",
                "twice",
                "int",
                "4",
                "10",
                "0",
                "1",
                "0",
                "",
                "([port]*(2))",
                "0",
                "sys",
                "",
                "",
            ]),
        ];
        let made: Vec<String> = table_types(&rows).into_iter().map(TableType::definition).collect();
        assert_eq!(
            made,
            [
                "create type dbo.[Plan lines] as table (\n    port int not null,\n    at date default (getdate()) not null,\n    \
              code [Old].code,\n    twice as ([port]*(2)),\n    primary key (at desc, port)\n)"
            ]
        );
    }

    #[test]
    fn sequences_synonyms_and_types_are_made_as_they_are() {
        let mut catalog = Catalog::default();
        sequence(
            &mut catalog,
            &row(&["dbo", "tickets", "decimal", "9", "12", "0", "100", "-5", "1", "999", "1", "1", "50"]),
        );
        sequence(&mut catalog, &row(&["dbo", "plain", "bigint", "8", "19", "0", "1", "1", "1", "9", "0", "0", ""]));
        synonym(&mut catalog, &row(&["dbo", "quay", "[harbour].[dbo].[ports]"]));
        named_type(&mut catalog, &row(&["dbo", "code", "nvarchar", "6", "0", "0", "0", "0"]));
        named_type(&mut catalog, &row(&["dbo", "shape", "", "0", "0", "0", "0", "1"]));
        let made: Vec<&str> = catalog.objects().iter().map(|object| object.definition.as_str()).collect();
        assert_eq!(
            made,
            [
                "create sequence dbo.tickets as decimal(12,0) start with 100 increment by -5 minvalue 1 maxvalue 999 cycle cache 50",
                "create sequence dbo.plain as bigint start with 1 increment by 1 minvalue 1 maxvalue 9 no cycle no cache",
                "create synonym dbo.quay for [harbour].[dbo].[ports]",
                "create type dbo.code from nvarchar(3) not null",
                "",
            ]
        );
    }

    #[test]
    fn settings_are_told_where_they_are_off() {
        assert_eq!(settings("1", "1"), "");
        assert_eq!(settings("0", "1"), "set ansi_nulls off");
        assert_eq!(settings("0", "0"), "set ansi_nulls, quoted_identifier off");
    }
}
