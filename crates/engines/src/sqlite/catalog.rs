//! What a database holds, by SQLite's own pragmas, and by the statements it keeps: checks and the
//! expressions of generated columns stand nowhere else.

use std::collections::HashMap;

use jaunty_language::dialect::SQLITE;
use jaunty_language::statement::definition;
use jaunty_seam::catalog::{Catalog, Column, Constraint, Index, Name, Object, ObjectKind, Rule, Trigger};
use rusqlite::{Connection, Result, params};

/// Reads one of the databases that are attached. Tells whether there are more.
pub(super) fn read(connection: &Connection, part: usize, catalog: &mut Catalog) -> Result<bool> {
    let schemas = column(connection, "select name from pragma_database_list order by seq <> 1, seq", [])?;
    if part == 0 {
        // Names are looked up in the temporary database first.
        catalog.path.clone_from(&schemas);
    }
    let Some(schema) = schemas.get(part) else { return Ok(false) };
    let kept = Kept::read(connection, schema)?;
    let mut statement = connection.prepare(
        "select name, type from pragma_table_list where schema = ?1 and type <> 'shadow' and name not like 'sqlite\\_%' escape '\\'
         order by type = 'view', name",
    )?;
    let tables = statement.query_map([schema], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?)))?;
    for table in tables.collect::<Result<Vec<_>>>()? {
        let (name, kind) = table;
        let kind = match kind.as_str() {
            "view" => ObjectKind::View,
            "virtual" => ObjectKind::VirtualTable,
            _ => ObjectKind::Table,
        };
        let object = object(connection, &kept, schema, &name, kind)?;
        catalog.push(object);
    }
    let more = part + 1 < schemas.len();
    if !more {
        catalog.find_uses(&SQLITE);
    }
    Ok(more)
}

/// The statements that a database keeps, read once: they have no index, so that looking for one reads all.
#[derive(Default)]
struct Kept {
    /// By the name of what they make.
    made: HashMap<String, String>,
    /// Of triggers: their names and statements, by the table's name in lower case.
    triggers: HashMap<String, Vec<(String, String)>>,
}

impl Kept {
    fn read(connection: &Connection, schema: &str) -> Result<Kept> {
        let select = format!(
            "select type, name, tbl_name, coalesce(sql, '') from {}.sqlite_schema order by name",
            quoted(schema)
        );
        let mut statement = connection.prepare(&select)?;
        let mut rows = statement.query([])?;
        let mut kept = Kept::default();
        while let Some(row) = rows.next()? {
            let (kind, name, table): (String, String, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
            let definition: String = row.get(3)?;
            match kind.as_str() {
                "trigger" => kept.triggers.entry(table.to_ascii_lowercase()).or_default().push((name, definition)),
                _ => drop(kept.made.insert(name, definition)),
            }
        }
        Ok(kept)
    }

    /// The statement that made something; empty where none is kept.
    fn statement(&self, name: &str) -> String {
        self.made.get(name).cloned().unwrap_or_default()
    }
}

/// One column of a result, as text.
fn column(connection: &Connection, select: &str, parameters: impl rusqlite::Params) -> Result<Vec<String>> {
    let mut statement = connection.prepare_cached(select)?;
    let rows = statement.query_map(parameters, |row| row.get::<_, String>(0))?;
    rows.collect()
}

fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

fn object(connection: &Connection, kept: &Kept, schema: &str, name: &str, kind: ObjectKind) -> Result<Object> {
    let definition = kept.statement(name);
    let mut object = Object { schema: schema.to_owned(), name: name.to_owned(), kind, definition, ..Object::default() };
    let parts = definition::of_table(&object.definition, &SQLITE);
    // A view over what is gone has no columns, and is still there.
    object.columns = columns(connection, schema, name, &parts).unwrap_or_default();
    if kind == ObjectKind::View {
        return Ok(object);
    }
    let mut keys: Vec<(i64, String)> = Vec::new();
    let mut statement = connection.prepare_cached("select pk, name from pragma_table_info(?2, ?1) where pk > 0")?;
    for key in statement.query_map([schema, name], |row| Ok((row.get(0)?, row.get(1)?)))? {
        keys.push(key?);
    }
    keys.sort_unstable();
    if !keys.is_empty() {
        let columns = keys.into_iter().map(|(_, name)| name).collect();
        object.constraints.push(Constraint::new("", columns, Rule::Primary));
    }
    indexes(connection, kept, &mut object)?;
    foreign_keys(connection, &mut object)?;
    let checks = parts.checks.into_iter();
    let check = |(name, text)| Constraint::new(name, Vec::new(), Rule::Check(text));
    object.constraints.extend(checks.map(check));
    triggers(kept, &mut object);
    object.rows = rows(connection, &object);
    Ok(object)
}

fn columns(connection: &Connection, schema: &str, table: &str, parts: &definition::Table) -> Result<Vec<Column>> {
    let select = "select name, type, \"notnull\", pk, dflt_value, hidden from pragma_table_xinfo(?2, ?1) where hidden <> 1 order by cid";
    let mut statement = connection.prepare_cached(select)?;
    let columns = statement.query_map([schema, table], |row| {
        let name: String = row.get(0)?;
        let hidden: i64 = row.get(5)?;
        let generated = (hidden == 2 || hidden == 3).then(|| {
            let known = parts.generated.iter().find(|(column, _)| column.eq_ignore_ascii_case(&name));
            known.map_or_else(|| "computed".to_owned(), |(_, expression)| expression.clone())
        });
        // The pragma gives the type of a generated column with the words behind it.
        let db_type: String = row.get(1)?;
        let db_type = match db_type.to_ascii_uppercase().find("GENERATED ALWAYS") {
            Some(at) => db_type.get(..at).unwrap_or_default().trim_end().to_owned(),
            None => db_type,
        };
        let key = row.get::<_, i64>(3)? > 0;
        Ok(Column {
            nullable: !row.get::<_, bool>(2)?,
            default: row.get(4)?,
            comment: String::new(),
            name,
            db_type,
            key,
            generated,
            ..Column::default()
        })
    })?;
    columns.collect()
}

fn indexes(connection: &Connection, kept: &Kept, object: &mut Object) -> Result<()> {
    let select = "select name, \"unique\", origin from pragma_index_list(?2, ?1)";
    let mut statement = connection.prepare_cached(select)?;
    let found = statement.query_map([&object.schema, &object.name], |row| {
        Ok((row.get::<_, String>(0)?, row.get::<_, bool>(1)?, row.get::<_, String>(2)?))
    })?;
    for (name, unique, origin) in found.collect::<Result<Vec<_>>>()? {
        let over = "select coalesce(name, '(expression)') from pragma_index_info(?2, ?1) order by seqno";
        let over = column(connection, over, [&object.schema, &name])?;
        match origin.as_str() {
            "pk" => {}
            "u" => object.constraints.push(Constraint::new("", over, Rule::Unique)),
            _ => {
                let definition = kept.statement(&name);
                object.indexes.push(Index { name, over, unique, definition, note: String::new() });
            }
        }
    }
    object.indexes.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(())
}

fn foreign_keys(connection: &Connection, object: &mut Object) -> Result<()> {
    let select = "select id, \"table\", \"from\", \"to\", on_update, on_delete from pragma_foreign_key_list(?2, ?1) order by id desc, seq";
    let mut statement = connection.prepare_cached(select)?;
    let mut rows = statement.query([&object.schema, &object.name])?;
    let mut last = None;
    while let Some(row) = rows.next()? {
        let id: i64 = row.get(0)?;
        let (to, from): (String, String) = (row.get(1)?, row.get(2)?);
        if last != Some(id) {
            last = Some(id);
            let mut actions = Vec::new();
            for (event, action) in [("delete", row.get::<_, String>(5)?), ("update", row.get::<_, String>(4)?)] {
                if action != "NO ACTION" {
                    actions.push(format!("on {event} {}", action.to_lowercase()));
                }
            }
            let to = Name { schema: object.schema.clone(), name: to.clone() };
            let rule = Rule::Foreign { to, columns: Vec::new(), actions: actions.join(" ") };
            object.constraints.push(Constraint::new("", Vec::new(), rule));
        }
        // Without a column it points at the primary key over there.
        let there = match row.get::<_, Option<String>>(3)? {
            Some(there) => Some(there),
            None => {
                let key = "select name from pragma_table_info(?2, ?1) where pk > 0 order by pk";
                let key = column(connection, key, [&object.schema, &to])?;
                let at = object.constraints.last().map_or(0, |constraint| constraint.columns.len());
                key.into_iter().nth(at)
            }
        };
        if let Some(Constraint { columns, rule: Rule::Foreign { columns: others, .. }, .. }) =
            object.constraints.last_mut()
        {
            columns.push(from);
            others.extend(there);
        }
    }
    Ok(())
}

fn triggers(kept: &Kept, object: &mut Object) {
    for (name, definition) in kept.triggers.get(&object.name.to_ascii_lowercase()).into_iter().flatten() {
        let when = definition::event_of_trigger(definition, &SQLITE);
        object.triggers.push(Trigger {
            name: name.clone(),
            when,
            definition: definition.clone(),
            ..Trigger::default()
        });
    }
}

/// How many rows a table has, without counting: what `ANALYZE` has written down, else the number of
/// its last row.
fn rows(connection: &Connection, object: &Object) -> Option<u64> {
    let (schema, name) = (quoted(&object.schema), quoted(&object.name));
    if object.kind != ObjectKind::Table {
        return None;
    }
    let analysed = format!("select stat from {schema}.sqlite_stat1 where tbl = ?1 limit 1");
    let analysed = connection.query_row(&analysed, params![object.name], |row| row.get::<_, String>(0));
    let number = analysed.ok().and_then(|stat| stat.split_whitespace().next()?.parse::<i64>().ok());
    let number = number.or_else(|| {
        let last = format!("select coalesce(max(rowid), 0) from {schema}.{name}");
        connection.query_row(&last, [], |row| row.get::<_, i64>(0)).ok()
    });
    number.and_then(|number| u64::try_from(number).ok())
}
