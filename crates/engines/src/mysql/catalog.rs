//! What a server holds, from `information_schema`, which MySQL and MariaDB share as far as it is
//! asked for here.

use jaunty_language::dialect::MYSQL;
use jaunty_seam::catalog::{Catalog, Column, Constraint, Index, Name, Object, ObjectKind, Rule, Trigger};
use jaunty_seam::error::EngineError;

use super::access;
use super::session::{MysqlSession, Row, field};

/// The databases that are the server's own.
const OWN: &str = "not in ('mysql', 'information_schema', 'performance_schema', 'sys')";

/// The databases whose tables would not hold any text unless they say so.
const NARROW: &str = "\
select schema_name from information_schema.schemata where schema_name {OWN} \
and default_character_set_name not in ('utf8mb4', 'utf16', 'utf32')";

/// What has rows, and sequences, with their columns: a row a column.
const RELATIONS: &str = "\
select t.table_schema, t.table_name, t.table_type, t.table_comment, t.table_rows, t.data_length + t.index_length, \
c.column_name, c.column_type, c.is_nullable, c.column_key, c.column_default, c.extra, c.generation_expression, c.column_comment \
from information_schema.tables t left join information_schema.columns c \
on c.table_schema = t.table_schema and c.table_name = t.table_name \
where t.table_schema {OWN} order by t.table_schema, t.table_name, c.ordinal_position";

const KEYS: &str = "\
select k.table_schema, k.table_name, k.constraint_name, c.constraint_type, k.column_name, \
k.referenced_table_schema, k.referenced_table_name, k.referenced_column_name, r.delete_rule, r.update_rule \
from information_schema.key_column_usage k join information_schema.table_constraints c \
on c.constraint_schema = k.constraint_schema and c.constraint_name = k.constraint_name \
and c.table_schema = k.table_schema and c.table_name = k.table_name \
left join information_schema.referential_constraints r \
on r.constraint_schema = k.constraint_schema and r.constraint_name = k.constraint_name and r.table_name = k.table_name \
where k.table_schema {OWN} \
order by k.table_schema, k.table_name, c.constraint_type <> 'PRIMARY KEY', k.constraint_name, k.ordinal_position";

/// MariaDB names the table here, and MySQL does not.
const CHECKS: &str = "\
select c.table_schema, c.table_name, k.constraint_name, k.check_clause \
from information_schema.check_constraints k join information_schema.table_constraints c \
on c.constraint_schema = k.constraint_schema and c.constraint_name = k.constraint_name and c.constraint_type = 'CHECK' \
{SAME_TABLE} where c.table_schema {OWN} order by 1, 2, 3";

const INDEXES: &str = "\
select table_schema, table_name, index_name, non_unique, column_name \
from information_schema.statistics s where table_schema {OWN} and not exists \
(select 1 from information_schema.table_constraints c where c.table_schema = s.table_schema \
and c.table_name = s.table_name and c.constraint_name = s.index_name and c.constraint_type in ('PRIMARY KEY', 'UNIQUE')) \
order by table_schema, table_name, index_name, seq_in_index";

const TRIGGERS: &str = "\
select event_object_schema, event_object_table, trigger_name, lower(concat(action_timing, ' ', event_manipulation)), action_statement, concat('sql_mode = ', quote(sql_mode)) \
from information_schema.triggers where trigger_schema {OWN} order by 1, 2, action_order, 3";

const ROUTINES: &str = "\
select r.routine_schema, r.routine_name, r.routine_type, r.dtd_identifier, r.routine_comment, \
p.parameter_mode, p.parameter_name, p.dtd_identifier, concat('sql_mode = ', quote(r.sql_mode)) \
from information_schema.routines r left join information_schema.parameters p \
on p.specific_schema = r.routine_schema and p.specific_name = r.specific_name and p.ordinal_position > 0 \
where r.routine_schema {OWN} order by r.routine_schema, r.routine_name, p.ordinal_position";

const EVENTS: &str = "\
select event_schema, event_name, event_comment, \
case event_type when 'RECURRING' then lower(concat('every ', interval_value, ' ', interval_field)) else concat('at ', execute_at) end, \
concat('sql_mode = ', quote(sql_mode), ', time_zone = ', quote(time_zone)) \
from information_schema.events where event_schema {OWN} order by 1, 2";

const VIEWS: &str =
    "select table_schema, table_name, view_definition from information_schema.views where table_schema {OWN}";

/// Reads a part of it.
pub fn read(session: &mut MysqlSession, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError> {
    let mut ask = |select: &str| session.ask(&select.replace("{OWN}", OWN));
    match part {
        0 => {
            catalog.path =
                ask("select database()")?.iter().map(|row| field(row, 0)).filter(|s| !s.is_empty()).collect();
            let narrow = ask(NARROW)
                .unwrap_or_default()
                .into_iter()
                .map(|row| (field(&row, 0), " character set utf8mb4".to_owned()));
            catalog.table_options = narrow.collect();
            ask(RELATIONS)?.iter().for_each(|row| column(catalog, row));
            catalog.temporary = session.temporary.clone();
        }
        1 => ask(KEYS)?.iter().for_each(|row| key(catalog, row)),
        2 => {
            // Servers from before there were checks do not have the table.
            let mariadb = CHECKS.replace("{SAME_TABLE}", "and k.table_name = c.table_name");
            let found = ask(&mariadb).or_else(|_| ask(&CHECKS.replace("{SAME_TABLE}", ""))).unwrap_or_default();
            for row in &found {
                let Some(table) = catalog.relation_mut(&field(row, 0), &field(row, 1)) else { continue };
                let rule = Rule::Check(field(row, 3));
                table.constraints.push(Constraint::new(field(row, 2), Vec::new(), rule));
            }
            ask(INDEXES)?.iter().for_each(|row| index(catalog, row));
        }
        3 => {
            for row in ask(TRIGGERS)? {
                let Some(table) = catalog.relation_mut(&field(&row, 0), &field(&row, 1)) else { continue };
                let (name, when) = (field(&row, 2), field(&row, 3));
                let definition = format!(
                    "create trigger {} {when} on {} for each row\n{}",
                    MYSQL.name_as_written(&name),
                    MYSQL.name_as_written(&table.name),
                    field(&row, 4)
                );
                table.triggers.push(Trigger { name, when, definition, made_with: field(&row, 5) });
            }
            for row in ask(VIEWS)? {
                let mut uses = named_in(&field(&row, 2));
                // An alias and its column look the same.
                uses.retain(|name| catalog.relation_mut(&name.schema, &name.name).is_some());
                let Some(view) = catalog.relation_mut(&field(&row, 0), &field(&row, 1)) else { continue };
                view.uses = uses;
            }
        }
        _ => {
            ask(ROUTINES)?.iter().for_each(|row| routine(catalog, row));
            for row in ask(EVENTS)? {
                let event = catalog.object(&field(&row, 0), &field(&row, 1), ObjectKind::Event);
                (event.comment, event.signature, event.made_with) = (field(&row, 2), field(&row, 3), field(&row, 4));
            }
            let databases = ask("select schema_name from information_schema.schemata order by 1")?;
            catalog.databases = databases.iter().map(|row| field(row, 0)).collect();
            access::read(session, OWN, catalog)?;
            return Ok(false);
        }
    }
    Ok(true)
}

fn column(catalog: &mut Catalog, row: &Row) {
    let kind = match field(row, 2).as_str() {
        "VIEW" => ObjectKind::View,
        "SEQUENCE" => ObjectKind::Sequence,
        _ => ObjectKind::Table,
    };
    let object = catalog.object(&field(row, 0), &field(row, 1), kind);
    if kind == ObjectKind::Sequence {
        return;
    }
    if object.columns.is_empty() && kind == ObjectKind::Table {
        (object.comment, object.rows, object.bytes) =
            (field(row, 3), field(row, 4).parse().ok(), field(row, 5).parse().ok());
    }
    let name = field(row, 6);
    if name.is_empty() {
        return;
    }
    let extra = field(row, 11).to_lowercase();
    let computed = field(row, 12);
    // MariaDB writes the word where there is no default.
    let default = Some(field(row, 10)).filter(|default| !default.is_empty() && default != "NULL");
    let generated = match (computed.is_empty(), extra.contains("auto_increment")) {
        (false, _) => Some(computed),
        (true, true) => Some("auto_increment".to_owned()),
        _ => None,
    };
    object.columns.push(Column {
        name,
        db_type: field(row, 7),
        nullable: field(row, 8) == "YES",
        key: field(row, 9) == "PRI",
        default,
        generated,
        comment: field(row, 13),
        ..Column::default()
    });
}

fn key(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(&field(row, 0), &field(row, 1)) else { return };
    let (name, column) = (field(row, 2), field(row, 4));
    let is_last = table.constraints.last().is_some_and(|last| last.name == name);
    if !is_last {
        let rule = match field(row, 3).as_str() {
            "PRIMARY KEY" => Rule::Primary,
            "UNIQUE" => Rule::Unique,
            _ => {
                let actions = [("delete", 8), ("update", 9)].map(|(event, at)| (event, field(row, at).to_lowercase()));
                let said =
                    actions.iter().filter(|(_, action)| !matches!(action.as_str(), "restrict" | "no action" | ""));
                let actions: Vec<_> = said.map(|(event, action)| format!("on {event} {action}")).collect();
                let to = Name { schema: field(row, 5), name: field(row, 6) };
                Rule::Foreign { to, columns: Vec::new(), actions: actions.join(" ") }
            }
        };
        table.constraints.push(Constraint::new(name, Vec::new(), rule));
    }
    let Some(constraint) = table.constraints.last_mut() else { return };
    constraint.columns.push(column);
    if let Rule::Foreign { columns, .. } = &mut constraint.rule {
        columns.push(field(row, 7));
    }
}

fn index(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(&field(row, 0), &field(row, 1)) else { return };
    let (name, over) = (field(row, 2), field(row, 4));
    match table.indexes.last_mut() {
        Some(last) if last.name == name => last.over.push(over),
        _ => {
            let unique = field(row, 3) == "0";
            table.indexes.push(Index {
                name,
                over: vec![over],
                unique,
                definition: String::new(),
                note: String::new(),
            });
        }
    }
}

fn routine(catalog: &mut Catalog, row: &Row) {
    let function = field(row, 2) == "FUNCTION";
    let kind = if function { ObjectKind::Function } else { ObjectKind::Procedure };
    let object = catalog.object(&field(row, 0), &field(row, 1), kind);
    let mode = field(row, 5).to_lowercase();
    let mode = if mode.is_empty() || mode == "in" { String::new() } else { format!("{mode} ") };
    let takes = Some(field(row, 6)).filter(|name| !name.is_empty());
    let takes = takes.map(|name| format!("{mode}{name} {}", field(row, 7)));
    let gives = if function { format!(" returns {}", field(row, 3)) } else { String::new() };
    let before = object.signature.strip_suffix(&format!("){gives}")).and_then(|rest| rest.strip_prefix('('));
    let all = [before.filter(|before| !before.is_empty()).map(str::to_owned), takes];
    let all: Vec<String> = all.into_iter().flatten().collect();
    object.signature = format!("({}){gives}", all.join(", "));
    (object.comment, object.made_with) = (field(row, 4), field(row, 8));
}

/// The tables that a view's definition names. The server writes each as `` `database`.`table` ``,
/// and columns with a third name behind that.
fn named_in(definition: &str) -> Vec<Name> {
    let parts: Vec<&str> = definition.split('`').collect();
    let mut found = Vec::new();
    for (at, window) in parts.windows(3).enumerate() {
        // Odd pieces stand in backticks.
        let [schema, ".", name] = window else { continue };
        let follows = |piece: Option<&&str>| piece.is_some_and(|piece| *piece == ".");
        let longer = follows(parts.get(at + 3)) || (at > 1 && follows(parts.get(at - 1)));
        if at % 2 == 1 && !longer {
            found.push(Name { schema: (*schema).to_owned(), name: (*name).to_owned() });
        }
    }
    found.sort();
    found.dedup();
    found
}

/// The statement that makes an object, by the server's own word.
pub fn definition(session: &mut MysqlSession, of: &Object) -> Result<Option<String>, EngineError> {
    let (word, at) = match of.kind {
        ObjectKind::View => ("view", 1),
        ObjectKind::Sequence => ("sequence", 1),
        ObjectKind::Function => ("function", 2),
        ObjectKind::Procedure => ("procedure", 2),
        ObjectKind::Event => ("event", 3),
        _ => ("table", 1),
    };
    let quoted = |name: &str| format!("`{}`", name.replace('`', "``"));
    let rows = session.ask(&format!("show create {word} {}.{}", quoted(&of.schema), quoted(&of.name)))?;
    Ok(rows.first().map(|row| field(row, at)).filter(|text| !text.is_empty()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_in_a_definition_are_told_from_columns() {
        let text = "select `bookings`.`ports`.`id` AS `id` from (`bookings`.`ports` join `fares`.`prices` on (`bookings`.`ports`.`id` = `fares`.`prices`.`port`))";
        let name = |schema: &str, name: &str| Name { schema: schema.into(), name: name.into() };
        assert_eq!(named_in(text), [name("bookings", "ports"), name("fares", "prices")]);
    }
}
