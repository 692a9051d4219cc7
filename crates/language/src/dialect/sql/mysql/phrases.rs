//! What follows what, by the documentation of MySQL and MariaDB: <https://mariadb.com/kb/en/data-definition/>.

use crate::dialect::Phrases;

const KINDS: &[&str] = &[
    "TABLE", "VIEW", "INDEX", "FUNCTION", "PROCEDURE", "TRIGGER", "EVENT", "SEQUENCE", "DATABASE", "SCHEMA", "USER", "ROLE",
];

pub(super) const PHRASES: Phrases = Phrases {
    unsaid: &["full join", "default values", "update from", "for replication", "execute function"],
    writing: [
        &["values", "select", "set"],
        &["where", "using", "returning", "order by", "limit"],
        &["set", "join", "left join", "as"],
        &["order by", "limit", "returning"],
    ],
    objects: [
        &[
            "table", "view", "index", "unique index", "or replace", "temporary table", "function", "procedure", "trigger",
            "event", "sequence", "database", "schema", "user", "role", "fulltext index",
        ],
        &["table", "view", "database", "schema", "event", "function", "procedure", "user", "sequence"],
        &[
            "table", "view", "index", "temporary table", "function", "procedure", "trigger", "event", "sequence", "database",
            "schema", "user", "role",
        ],
    ],
    or: &["replace"],
    if_not_exists: KINDS,
    if_exists: KINDS,
    dropped: &["cascade", "restrict"],
    column: &[
        "not null", "auto_increment", "primary key", "default", "unique", "comment", "references", "check",
        "generated always as", "collate", "on update current_timestamp",
    ],
    added_column: &[
        "not null", "default", "first", "after", "unique", "comment", "references", "check", "generated always as",
        "auto_increment", "primary key", "collate",
    ],
    reference: &["on delete cascade", "on delete set null", "on delete restrict", "on update cascade"],
    table: &["engine", "comment", "auto_increment", "default charset", "collate", "partition by range", "partition by hash"],
    index: [&[], &["using btree", "using hash", "comment"]],
    alter_table: [
        &[
            "add column", "drop column", "modify column", "change column", "rename column", "rename to", "add index",
            "add unique index", "drop index", "add constraint", "drop constraint", "add primary key", "drop primary key",
            "add foreign key", "drop foreign key", "alter column", "engine", "comment",
        ],
        &["column", "constraint", "primary key", "foreign key", "unique", "check", "index", "unique index", "fulltext index"],
        &["column", "constraint", "primary key", "foreign key", "index"],
        &["set default", "drop default"],
    ],
    view: &["as"],
    trigger: [&["before", "after"], &["for each row"]],
    granting: [
        &[
            "select",
            "insert",
            "update",
            "delete",
            "all privileges",
            "usage",
            "execute",
            "create",
            "alter",
            "drop",
            "index",
            "create view",
            "show view",
            "references",
            "trigger",
            "event",
            "lock tables",
        ],
        &["function", "procedure"],
        &["with grant option", "with admin option"],
    ],
    routine: [
        &["returns", "begin", "return", "deterministic", "reads sql data", "comment", "sql security invoker"],
        &["begin", "deterministic", "reads sql data", "comment", "sql security invoker"],
    ],
};
