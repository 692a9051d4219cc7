//! What a server holds.

use jaunty_core::engine::{Column, EngineError, Flow, Object, ObjectKind};

use super::session::{MysqlSession, field};

/// Objects with their columns, a row a column, in the order of their names.
const OBJECTS: &str = "\
select t.table_schema, t.table_name, t.table_type, c.column_name, c.column_type, c.is_nullable, c.column_key \
from information_schema.tables t left join information_schema.columns c \
on c.table_schema = t.table_schema and c.table_name = t.table_name \
where t.table_schema not in ('mysql', 'information_schema', 'performance_schema', 'sys') \
order by t.table_schema <> coalesce(database(), ''), t.table_schema, t.table_name, c.ordinal_position";

/// Lists tables, views and sequences outside the server's own databases: those of the database in
/// hand come first.
pub fn list(session: &mut MysqlSession, found: &mut dyn FnMut(Object) -> Flow) -> Result<(), EngineError> {
    let rows = session.ask(OBJECTS)?;
    let mut object: Option<Object> = None;
    for row in &rows {
        let (schema, name) = (field(row, 0), field(row, 1));
        if object.as_ref().is_none_or(|o| o.schema != schema || o.name != name) {
            let kind = match field(row, 2).as_str() {
                "VIEW" => ObjectKind::View,
                "SEQUENCE" => ObjectKind::Sequence,
                _ => ObjectKind::Table,
            };
            if let Some(before) = object.replace(Object { schema, name, kind, columns: Vec::new() })
                && found(before) == Flow::Stop
            {
                return Ok(());
            }
        }
        if let (Some(object), false) = (&mut object, field(row, 3).is_empty()) {
            object.columns.push(Column {
                name: field(row, 3),
                db_type: field(row, 4),
                nullable: field(row, 5) == "YES",
                key: field(row, 6) == "PRI",
            });
        }
    }
    object.map(found);
    Ok(())
}
