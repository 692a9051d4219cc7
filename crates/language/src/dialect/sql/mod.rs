//! SQL: the grammar is shared ([`crate::statement::shape`], [`crate::split`]), each dialect states its differences as
//! data, in a folder of its own.
//!
//! **To add a dialect**: a folder here with its [`Dialect`], its keywords and its help, and a line below. Completion
//! cases go into `crates/core/src/complete/cases`.

use super::{Dialect, HelpKind};

macro_rules! sql_dialects {
    ($($module:ident::$name:ident),+ $(,)?) => {
        $(mod $module;
        pub use $module::$name;)+

        /// The dialects of SQL, in the order in which they are offered.
        pub(super) static ALL: &[&Dialect] = &[$(&$name),+];
    };
}

sql_dialects![sqlite::SQLITE, postgres::POSTGRES, mysql::MYSQL, sqlserver::SQLSERVER];

/// Help for what all dialects have.
const KEYWORDS: (HelpKind, &str) = (HelpKind::Keyword, include_str!("keywords.txt"));
const FUNCTIONS: (HelpKind, &str) = (HelpKind::Function, include_str!("functions.txt"));
