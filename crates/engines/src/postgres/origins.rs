//! Where the columns of a result come from. The server tells the numbers of tables and columns; which
//! those are it says when it is asked, once for each table.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};

use jaunty_seam::rows::origin::Origin;
use tokio_postgres::{Column, SimpleQueryMessage};

use super::run::said;

/// What is known of tables, by their numbers.
#[derive(Debug, Default)]
pub struct Origins {
    columns: RefCell<HashMap<(u32, i16), Origin>>,
    tables: RefCell<HashSet<u32>>,
}

impl Origins {
    /// The question for the tables of these columns that are not known yet.
    pub fn question(&self, columns: &[Column]) -> Option<String> {
        let known = self.tables.borrow();
        let wanted: HashSet<u32> =
            columns.iter().filter_map(Column::table_oid).filter(|oid| !known.contains(oid)).collect();
        let wanted: Vec<String> = wanted.iter().map(u32::to_string).collect();
        (!wanted.is_empty()).then(|| {
            format!(
                "select c.oid, a.attnum, n.nspname, c.relname, a.attname, a.attnotnull \
                 from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace \
                 join pg_catalog.pg_attribute a on a.attrelid = c.oid and a.attnum > 0 where c.oid in ({})",
                wanted.join(", ")
            )
        })
    }

    /// Takes the answer.
    pub fn learn(&self, answer: &[SimpleQueryMessage]) {
        for message in answer {
            let SimpleQueryMessage::Row(row) = message else { continue };
            let text = |at: usize| said(row, at).unwrap_or_default().to_owned();
            let (Ok(table), Ok(column)) = (text(0).parse(), text(1).parse()) else { continue };
            let origin = Origin { schema: text(2), table: text(3), column: text(4), required: text(5) == "t" };
            self.tables.borrow_mut().insert(table);
            self.columns.borrow_mut().insert((table, column), origin);
        }
    }

    /// Forgets all: tables may have other names now.
    pub fn forget(&self) {
        self.tables.borrow_mut().clear();
        self.columns.borrow_mut().clear();
    }

    /// Where a column comes from, if that is known.
    pub fn of(&self, column: &Column) -> Option<Origin> {
        self.columns.borrow().get(&(column.table_oid()?, column.column_id()?)).cloned()
    }
}
