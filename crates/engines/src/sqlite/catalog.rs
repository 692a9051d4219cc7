//! What a database holds, by SQLite's own pragmas.

use jaunty_core::engine::{Column, Flow, Object, ObjectKind};
use rusqlite::{Connection, Row};

pub(super) fn list(connection: &Connection, found: &mut dyn FnMut(Object) -> Flow) -> rusqlite::Result<()> {
    let mut schemas = connection.prepare("select name from pragma_database_list order by seq")?;
    let schemas = schemas.query_map([], |row| row.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
    for schema in schemas {
        let quoted = schema.replace('"', "\"\"");
        // Names that begin with sqlite_ are SQLite's own.
        let select = format!(
            "select type, name from \"{quoted}\".sqlite_schema where name not like 'sqlite\\_%' escape '\\'
             order by type = 'table' desc, type = 'view' desc, type, name"
        );
        let mut objects = connection.prepare(&select)?;
        let mut rows = objects.query([])?;
        while let Some(row) = rows.next()? {
            if found(object(connection, &schema, row)?) == Flow::Stop {
                return Ok(());
            }
        }
    }
    Ok(())
}

fn object(connection: &Connection, schema: &str, row: &Row<'_>) -> rusqlite::Result<Object> {
    let name: String = row.get(1)?;
    let kind = match row.get::<_, String>(0)?.as_str() {
        "table" => ObjectKind::Table,
        "view" => ObjectKind::View,
        "index" => ObjectKind::Index,
        "trigger" => ObjectKind::Trigger,
        _ => ObjectKind::Other("object"),
    };
    let columns = match kind {
        // A view over what is gone has no columns, and is still there.
        ObjectKind::Table | ObjectKind::View => columns(connection, schema, &name).unwrap_or_default(),
        _ => Vec::new(),
    };
    Ok(Object { schema: schema.to_owned(), name, kind, columns })
}

fn columns(connection: &Connection, schema: &str, table: &str) -> rusqlite::Result<Vec<Column>> {
    let select = "select name, type, \"notnull\", pk from pragma_table_xinfo(?1, ?2) order by cid";
    let mut statement = connection.prepare_cached(select)?;
    let columns = statement.query_map([table, schema], |row| {
        Ok(Column {
            name: row.get(0)?,
            db_type: row.get(1)?,
            nullable: !row.get::<_, bool>(2)?,
            key: row.get::<_, i64>(3)? > 0,
        })
    })?;
    columns.collect()
}
