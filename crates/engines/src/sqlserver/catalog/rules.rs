//! Keys, references, checks and indexes.

use jaunty_language::dialect::SQLSERVER;
use jaunty_seam::catalog::{Catalog, Constraint, Index, Name, Object, Rule};
use jaunty_seam::error::EngineError;

use super::{bare, off, whole_name};
use crate::sqlserver::session::{Row, SqlServerSession, field};

/// Keys and indexes with their columns: a row a column.
const INDEXES: &str = "\
select s.name as s_name, o.name as o_name, i.name as i_name, i.is_unique, i.is_primary_key, i.is_unique_constraint, c.name as c_name, \
x.is_descending_key, x.is_included_column, i.filter_definition, i.type_desc, i.is_disabled \
from sys.indexes i join sys.objects o on o.object_id = i.object_id join sys.schemas s on s.schema_id = o.schema_id \
join sys.index_columns x on x.object_id = i.object_id and x.index_id = i.index_id \
join sys.columns c on c.object_id = x.object_id and c.column_id = x.column_id \
where o.type in ('U', 'V') and o.is_ms_shipped = 0 and i.name is not null and i.is_hypothetical = 0 \
order by s.name, o.name, i.is_primary_key desc, i.name, x.is_included_column, x.key_ordinal, x.index_column_id";

const FOREIGN: &str = "\
select s.name as s_name, o.name as o_name, f.name as f_name, c.name as c_name, rs.name as rs_name, r.name as r_name, rc.name as rc_name, \
f.delete_referential_action_desc, f.update_referential_action_desc, f.is_not_trusted, f.is_disabled, f.is_not_for_replication \
from sys.foreign_keys f join sys.objects o on o.object_id = f.parent_object_id join sys.schemas s on s.schema_id = o.schema_id \
join sys.objects r on r.object_id = f.referenced_object_id join sys.schemas rs on rs.schema_id = r.schema_id \
join sys.foreign_key_columns k on k.constraint_object_id = f.object_id \
join sys.columns c on c.object_id = k.parent_object_id and c.column_id = k.parent_column_id \
join sys.columns rc on rc.object_id = k.referenced_object_id and rc.column_id = k.referenced_column_id \
order by s.name, o.name, f.name, k.constraint_column_id";

const CHECKS: &str = "\
select s.name as s_name, o.name as o_name, k.name as k_name, k.definition, k.is_not_trusted, k.is_disabled, k.is_not_for_replication \
from sys.check_constraints k \
join sys.objects o on o.object_id = k.parent_object_id join sys.schemas s on s.schema_id = o.schema_id order by s.name, o.name, k.name";

/// Reads keys and indexes; `there` puts a question to the database that is meant.
pub(super) fn keys_and_indexes(
    session: &mut SqlServerSession,
    there: &dyn Fn(&str) -> String,
    catalog: &mut Catalog,
) -> Result<(), EngineError> {
    session.ask(&there(INDEXES))?.iter().for_each(|row| index(catalog, row));
    Ok(())
}

/// Reads references and checks, in the same way.
pub(super) fn references_and_checks(
    session: &mut SqlServerSession,
    there: &dyn Fn(&str) -> String,
    catalog: &mut Catalog,
) -> Result<(), EngineError> {
    session.ask(&there(FOREIGN))?.iter().for_each(|row| foreign(catalog, row));
    session.ask(&there(CHECKS))?.iter().for_each(|row| check(catalog, row));
    Ok(())
}

fn index(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    let is = |at: usize| field(row, at) == "1";
    let (name, column, described) = (field(row, 2), field(row, 6), field(row, 10));
    let written = match is(7) {
        true => format!("{} desc", SQLSERVER.name_as_written(column)),
        false => SQLSERVER.name_as_written(column),
    };
    let rule = match (is(4), is(5)) {
        (true, _) => Some((Rule::Primary, "primary key")),
        (_, true) => Some((Rule::Unique, "unique")),
        _ => None,
    };
    if let Some((rule, word)) = rule {
        if rule == Rule::Primary
            && let Some(key) = table.columns.iter_mut().find(|known| known.name == column)
        {
            key.key = true;
        }
        if let Some(known) = table.constraints.iter_mut().find(|known| known.name == name) {
            known.columns.push(column.to_owned());
            let inside = known.definition.trim_end_matches(')').len();
            known.definition.truncate(inside);
            known.definition.push_str(&format!(", {written})"));
            return;
        }
        let mut rule = Constraint::new(name, vec![column.to_owned()], rule);
        let how = if described == "CLUSTERED" { "clustered" } else { "nonclustered" };
        rule.definition = format!("{word} {how} ({written})");
        return table.constraints.push(rule);
    }
    let over = match (is(8), is(7)) {
        (true, _) => format!("include {column}"),
        (false, true) => format!("{column} desc"),
        _ => column.to_owned(),
    };
    if let Some(known) = table.indexes.last_mut().filter(|known| known.name == name) {
        known.over.push(over);
    } else {
        let (definition, note) = (String::new(), String::new());
        table.indexes.push(Index { name: name.to_owned(), over: vec![over], unique: is(3), definition, note });
        if is(11) {
            let (index, own) = (SQLSERVER.name_as_written(name), whole_name(&table.schema, &table.name));
            let [makes, unmakes] = ["disable", "rebuild"].map(|word| format!("alter index {index} on {own} {word}"));
            table.belongings.push(off(format!("index {name}"), makes, unmakes));
        }
    }
    let own = whole_name(&table.schema, &table.name);
    if let Some(known) = table.indexes.last_mut() {
        known.definition = definition_of(known, &own, described, field(row, 9));
    }
}

/// The statement that makes an index; empty for kinds that need more than their columns.
fn definition_of(index: &Index, table: &str, described: &str, filter: &str) -> String {
    let columns = |included: bool| {
        let named = index.over.iter().filter_map(|over| match (over.strip_prefix("include "), included) {
            (Some(name), true) => Some(SQLSERVER.name_as_written(name)),
            (None, false) => Some(match over.strip_suffix(" desc") {
                Some(name) => format!("{} desc", SQLSERVER.name_as_written(name)),
                None => SQLSERVER.name_as_written(over),
            }),
            _ => None,
        });
        named.collect::<Vec<_>>().join(", ")
    };
    let (keys, included) = (columns(false), columns(true));
    let (how, list, included) = match described {
        "CLUSTERED" => ("clustered ", format!(" ({keys})"), included),
        "NONCLUSTERED" => ("", format!(" ({keys})"), included),
        // It is over all columns.
        "CLUSTERED COLUMNSTORE" => ("clustered columnstore ", String::new(), String::new()),
        "NONCLUSTERED COLUMNSTORE" => ("nonclustered columnstore ", format!(" ({included})"), String::new()),
        _ => return String::new(),
    };
    let unique = if index.unique { "unique " } else { "" };
    let mut text = format!("create {unique}{how}index {} on {table}{list}", SQLSERVER.name_as_written(&index.name));
    if !included.is_empty() {
        text.push_str(&format!(" include ({included})"));
    }
    if !filter.is_empty() {
        text.push_str(&format!(" where {}", bare(filter)));
    }
    text
}

fn foreign(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    let (name, column, there) = (field(row, 2), field(row, 3).to_owned(), field(row, 6).to_owned());
    if let Some(known) = table.constraints.iter_mut().find(|known| known.name == name) {
        known.columns.push(column);
        if let Rule::Foreign { columns, .. } = &mut known.rule {
            columns.push(there);
        }
        return;
    }
    let actions =
        [("delete", 7), ("update", 8)].map(|(event, at)| (event, field(row, at).replace('_', " ").to_lowercase()));
    let said = actions.iter().filter(|(_, action)| !matches!(action.as_str(), "no action" | ""));
    let mut actions: Vec<_> = said.map(|(event, action)| format!("on {event} {action}")).collect();
    if field(row, 11) == "1" {
        actions.push("not for replication".to_owned());
    }
    let to = Name { schema: field(row, 4).to_owned(), name: field(row, 5).to_owned() };
    let rule = Rule::Foreign { to, columns: vec![there], actions: actions.join(" ") };
    let mut rule = Constraint::new(name, vec![column], rule);
    rule.unchecked = field(row, 9) == "1";
    let disabled = field(row, 10) == "1";
    put(table, rule, disabled);
}

fn check(catalog: &mut Catalog, row: &Row) {
    let Some(table) = catalog.relation_mut(field(row, 0), field(row, 1)) else { return };
    let expression = bare(field(row, 3));
    let mut rule = Constraint::new(field(row, 2), Vec::new(), Rule::Check(expression.to_owned()));
    if field(row, 6) == "1" {
        rule.definition = format!("check not for replication ({expression})");
    }
    rule.unchecked = field(row, 4) == "1";
    let disabled = field(row, 5) == "1";
    put(table, rule, disabled);
}

/// Notes a rule, and that it is not looked at where that is so.
fn put(table: &mut Object, rule: Constraint, disabled: bool) {
    if disabled {
        let (name, own) = (SQLSERVER.name_as_written(&rule.name), whole_name(&table.schema, &table.name));
        let [makes, unmakes] = ["nocheck", "check"].map(|word| format!("alter table {own} {word} constraint {name}"));
        table.belongings.push(off(format!("constraint {}", rule.name), makes, unmakes));
    }
    table.constraints.push(rule);
}

#[cfg(test)]
mod tests {
    use super::*;

    fn definition(described: &str, over: &[&str], filter: &str) -> String {
        let over = over.iter().map(|over| (*over).to_owned()).collect();
        let index =
            Index { name: "by date".into(), over, unique: false, definition: String::new(), note: String::new() };
        definition_of(&index, "dbo.sailings", described, filter)
    }

    #[test]
    fn every_kind_of_index_is_made_as_it_is() {
        assert_eq!(
            definition("NONCLUSTERED", &["Sailing Date desc", "port", "include order"], "([port]>(3))"),
            "create index [by date] on dbo.sailings ([Sailing Date] desc, port) include ([order]) where [port]>(3)"
        );
        assert_eq!(
            definition("CLUSTERED COLUMNSTORE", &["include id", "include port"], ""),
            "create clustered columnstore index [by date] on dbo.sailings"
        );
        assert_eq!(
            definition("NONCLUSTERED COLUMNSTORE", &["include id", "include port"], ""),
            "create nonclustered columnstore index [by date] on dbo.sailings (id, port)"
        );
        assert_eq!(definition("SPATIAL", &["place"], ""), "");
    }
}
