//! What follows what, by the documentation of T-SQL: <https://learn.microsoft.com/en-us/sql/t-sql/statements/statements>.

use crate::dialect::Phrases;

const KINDS: &[&str] = &[
    "TABLE", "VIEW", "INDEX", "FUNCTION", "PROCEDURE", "TRIGGER", "SEQUENCE", "SYNONYM", "TYPE", "SCHEMA", "DATABASE", "USER",
    "ROLE",
];

pub(super) const PHRASES: Phrases = Phrases {
    unsaid: &["for update", "join using", "natural join", "nulls first", "nulls last", "window", "restrict", "execute function"],
    writing: [
        &["values", "select", "output", "exec", "default values"],
        &["where", "from", "output"],
        &["set"],
        &["option"],
    ],
    objects: [
        &[
            "table", "view", "index", "unique index", "or alter", "procedure", "function", "trigger", "clustered index",
            "sequence", "synonym", "type", "schema", "database", "login", "user", "role",
        ],
        &[
            "table", "view", "index", "procedure", "function", "trigger", "sequence", "schema", "database", "login", "user",
            "role",
        ],
        &[
            "table", "view", "index", "procedure", "function", "trigger", "sequence", "synonym", "type", "schema", "database",
            "login", "user", "role",
        ],
    ],
    or: &["alter"],
    if_not_exists: &[],
    if_exists: KINDS,
    dropped: &[],
    column: &[
        "not null", "null", "identity", "primary key", "default", "unique", "references", "check", "constraint", "collate",
        "sparse",
    ],
    added_column: &[
        "not null", "null", "default", "constraint", "unique", "references", "check", "identity", "collate", "sparse",
        "with values",
    ],
    reference: &["on delete cascade", "on delete set null", "on update cascade", "not for replication"],
    table: &["on", "with"],
    index: [&[], &["include", "where", "with", "on"]],
    alter_table: [
        &[
            "add", "drop column", "alter column", "add constraint", "drop constraint", "add primary key", "check constraint",
            "nocheck constraint", "with check check constraint", "enable trigger", "disable trigger", "rebuild", "switch to",
        ],
        &["constraint", "primary key", "foreign key", "unique", "check", "default"],
        &["column", "constraint"],
        &[],
    ],
    view: &["as", "with schemabinding as"],
    trigger: [&["on"], &["after insert", "after update", "after delete", "instead of insert", "instead of update", "instead of delete"]],
    granting: [
        &["select", "insert", "update", "delete", "execute", "references", "alter", "control", "view definition"],
        &["schema::", "object::", "type::", "database::"],
        &["with grant option", "as"],
    ],
    routine: [&["returns", "as", "with"], &["as", "with"]],
};
