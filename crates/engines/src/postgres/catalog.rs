//! What a database holds.

use jaunty_core::engine::{Column, EngineError, Flow, Object, ObjectKind};

use super::session::PostgresSession;

/// Objects with their columns, a row a column, in the order of their names.
const OBJECTS: &str = "\
select n.nspname, c.relname, c.relkind, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, \
coalesce(a.attnum = any(k.conkey), false) \
from pg_class c join pg_namespace n on n.oid = c.relnamespace \
left join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped and c.relkind <> 'S' \
left join pg_constraint k on k.conrelid = c.oid and k.contype = 'p' \
where c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and n.nspname !~ '^pg_(toast|temp)' \
and n.nspname not in ('pg_catalog', 'information_schema') and has_schema_privilege(n.oid, 'usage') \
order by n.nspname, c.relname, a.attnum";

/// Lists tables, views and sequences outside the server's own schemas.
pub fn list(session: &mut PostgresSession, found: &mut dyn FnMut(Object) -> Flow) -> Result<(), EngineError> {
    let rows = session.ask(OBJECTS)?;
    let mut object: Option<Object> = None;
    for row in &rows {
        let field = |at: usize| row.get(at).unwrap_or_default();
        let (schema, name) = (field(0), field(1));
        if object.as_ref().is_none_or(|o| o.schema != schema || o.name != name) {
            let kind = match field(2) {
                "v" => ObjectKind::View,
                "m" => ObjectKind::MaterialisedView,
                "S" => ObjectKind::Sequence,
                "f" => ObjectKind::Other("foreign table"),
                _ => ObjectKind::Table,
            };
            let next = Object { schema: schema.to_owned(), name: name.to_owned(), kind, columns: Vec::new() };
            if let Some(before) = object.replace(next)
                && found(before) == Flow::Stop
            {
                return Ok(());
            }
        }
        if let (Some(object), Some(column)) = (&mut object, row.get(3)) {
            object.columns.push(Column {
                name: column.to_owned(),
                db_type: field(4).to_owned(),
                nullable: field(5) != "t",
                key: field(6) == "t",
            });
        }
    }
    object.map(found);
    Ok(())
}
