//! What follows what, by SQLite's documentation: <https://www.sqlite.org/lang.html>.

use crate::dialect::Phrases;

const KINDS: &[&str] = &["TABLE", "VIEW", "INDEX", "TRIGGER"];

pub(super) const PHRASES: Phrases = Phrases {
    unsaid: &["for update", "for replication", "execute function"],
    writing: [&["values", "select", "default values", "as"], &["where", "returning", "as"], &["set", "as"], &["returning"]],
    objects: [
        &["table", "view", "index", "unique index", "trigger", "temporary table", "temporary view", "virtual table"],
        &["table"],
        &["table", "view", "index", "trigger"],
    ],
    or: &[],
    if_not_exists: KINDS,
    if_exists: KINDS,
    dropped: &[],
    column: &[
        "not null", "primary key", "default", "unique", "references", "check", "collate", "generated always as",
        "primary key autoincrement",
    ],
    added_column: &["not null", "default", "references", "check", "collate", "generated always as"],
    reference: &[
        "on delete cascade", "on delete set null", "on delete restrict", "on update cascade", "deferrable initially deferred",
    ],
    table: &["strict", "without rowid"],
    index: [&[], &["where"]],
    alter_table: [&["add column", "rename to", "rename column", "drop column"], &["column"], &["column"], &[]],
    view: &["as"],
    trigger: [&["before", "after", "instead of"], &["for each row", "when", "begin"]],
    // It has no users.
    granting: [&[], &[], &[]],
    routine: [&[], &[]],
};
