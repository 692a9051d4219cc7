//! PostgreSQL, by its documentation: <https://www.postgresql.org/docs/current/sql-syntax.html> and
//! <https://www.postgresql.org/docs/current/sql-keywords-appendix.html>.

mod copying;
mod keywords;
mod phrases;
mod plan;

use super::{FUNCTIONS, KEYWORDS};
use crate::dialect::altering::{Altering, Change, Clauses, Tables};
use crate::dialect::changing::{Changing, USUAL};
use crate::dialect::{
    Acting, BlockComment, Body, Carrier, Comparing, Dialect, HelpKind, Kind, PLAIN, Pattern, Quote, QuoteKind, Role,
    Starter, Then, starter, unreserved,
};

const TEXT: Quote =
    Quote { prefix: None, open: b'\'', close: b'\'', doubled: true, backslash: false, kind: QuoteKind::Text };

/// Words with which a statement goes on that is explained, prepared or copied.
const CARRIED: &[&str] = &["EXPLAIN", "ANALYZE", "VERBOSE", "AS", "FOR", "ATOMIC"];

/// Words of a rule behind which its statements stand.
const RULES: &[&str] = &["ALSO", "INSTEAD", "DO"];

const fn body(object: &'static str) -> Body {
    Body {
        object,
        after: "CREATE",
        between: &["OR", "REPLACE"],
        open: "ATOMIC",
        close: "END",
        blocks: &[],
        names_between: false,
        single: false,
        single_after: "",
        by_words: false,
    }
}

/// How rows are changed one by one.
const CHANGING: Changing = Changing {
    copying: Some(&copying::COPYING),
    numbering: ["", "", " overriding system value"],
    decimals_have_nan: true,
    // Of the extension for places on the earth.
    types_of_shapes: &["geometry", "geography"],
    kept_types: &[
        "smallint", "integer", "bigint", "int2", "int4", "int8", "real", "float4", "float8", "double precision", "numeric",
        "boolean", "bool", "text", "varchar", "char(", "bpchar", "date", "time", "timetz", "timestamp", "timestamptz",
        "interval", "uuid", "json", "jsonb", "bytea", "inet", "cidr", "macaddr", "macaddr8", "money", "xml", "point", "line",
        "lseg", "box", "path", "polygon", "circle", "int4range", "int8range", "numrange", "tsrange", "tstzrange", "daterange",
        "int4multirange", "int8multirange", "nummultirange", "tsmultirange", "tstzmultirange", "datemultirange", "tsvector",
        "tsquery", "bit(", "varbit", "pg_lsn",
    ],
    ..USUAL
};

/// How structures are changed: PostgreSQL's documentation of `ALTER TABLE` and its kin.
const ALTERING: Altering = Altering {
    whole_names: ["set search_path = ''", "reset search_path"],
    around: [&["set check_function_bodies = off", "begin"], &["commit"]],
    tables: Tables::Altered(&Clauses {
        add_column: "add column TEXT",
        place: ["", ""],
        drop_column: "drop column NAME",
        change: Change::Bits {
            plain: [
                "alter column NAME type TYPE using NAME::TYPE",
                "alter column NAME drop default",
                "alter column NAME set default VALUE",
                "alter column NAME set not null",
                "alter column NAME drop not null",
            ],
            numbered: [
                "alter column NAME set generated WORD",
                "alter column NAME drop identity",
                "alter column NAME add generated WORD as identity",
            ],
        },
        add_rule: "add TEXT",
        drop_rule: ["drop constraint NAME", "drop constraint NAME", "drop constraint NAME", "drop constraint NAME", ""],
    }),
    references_apart: true,
    drop_comment: ["", ""],
    drop_index: "drop index NAME",
    drop_trigger: "drop trigger NAME on TABLE",
    add_value: "alter type NAME add value TEXT",
    views_hold: true,
    overloads: true,
    meanwhile: [
        "The table is rewritten with its indexes; nobody reads or writes it until that is done.",
        "All rows are looked at; whoever writes the table waits until that is done.",
        "",
        "",
    ],
    goes_to: "",
};

const COMPARING: Comparing = Comparing {
    as_text: "VALUE::text",
    bytes_as_text: "VALUE::text",
    bytes: [r"'\x", "'"],
    text_types: &["text", "char", "varchar", "bpchar", "name"],
    fits: [(Pattern::Like, "VALUE ilike TEXT"), (Pattern::Like, "VALUE like TEXT")],
    expression: [("VALUE ~* TEXT", ""), ("VALUE ~ TEXT", "")],
    equal: "TEXT",
    ordered: r#"TEXT collate "C""#,
    sorted: r#"VALUE collate "C""#,
    nulls_last: ["VALUE", "VALUE desc nulls last"],
    same_names: true,
};

/// What a read-only session refuses: PostgreSQL's documentation of `SET TRANSACTION`, and what it does not.
const ACTING: Acting = Acting {
    reads: &[
        "SELECT",
        "VALUES",
        "TABLE",
        "WITH",
        "SHOW",
        "SET",
        "RESET",
        "DISCARD",
        "BEGIN",
        "START",
        "COMMIT",
        "END",
        "ROLLBACK",
        "ABORT",
        "SAVEPOINT",
        "RELEASE",
        "DECLARE",
        "FETCH",
        "MOVE",
        "CLOSE",
        "PREPARE",
        "DEALLOCATE",
        "LISTEN",
        "UNLISTEN",
        "COPY",
    ],
    refused: &[
        "INSERT", "UPDATE", "DELETE", "MERGE", "TRUNCATE", "CREATE", "ALTER", "DROP", "COMMENT", "GRANT", "REVOKE",
        "REFRESH", "REASSIGN", "IMPORT", "SECURITY", "COPY",
    ],
    hidden: &["DO", "CALL", "EXECUTE"],
    leads_outside: &[
        "ALTER SYSTEM",
        "PREPARE TRANSACTION",
        "COMMIT PREPARED",
        "ROLLBACK PREPARED",
        "VACUUM",
        "ANALYZE",
        "ANALYSE",
        "CHECKPOINT",
        "CLUSTER",
        "REINDEX",
        "LOAD",
        "NOTIFY",
        "LOCK",
    ],
    outside: &[&["TO", "PROGRAM"], &["FROM", "PROGRAM"]],
    settings: &["DEFAULT_TRANSACTION_READ_ONLY", "TRANSACTION_READ_ONLY"],
    functions: &[
        "set_config",
        "dblink*",
        "lo_*",
        "lowrite",
        "loread",
        "pg_create_*",
        "pg_drop_*",
        "pg_copy_*",
        "pg_replication_*",
        "pg_logical_*",
        "pg_switch_wal",
        "pg_wal_replay_*",
        "pg_promote",
        "pg_reload_conf",
        "pg_rotate_logfile*",
        "pg_terminate_backend",
        "pg_cancel_backend",
        "pg_file_*",
        "pg_import_*",
        "pg_stat_reset*",
        "pg_notify",
        "pg_backup_*",
        "pg_start_backup",
        "pg_stop_backup",
        "pg_stat_statements_reset",
        "pg_prewarm",
        "pg_truncate_*",
        "pg_log_*",
        "binary_upgrade_*",
        "brin_summarize_*",
        "brin_desummarize_range",
        "gin_clean_pending_list",
        "query_to_xml*",
        "cursor_to_xml*",
        "database_to_xml*",
    ],
    into: &[&["INTO"]],
};

/// PostgreSQL's language.
pub static POSTGRES: Dialect = Dialect {
    name: "postgres",
    own_prefixes: &["pg_"],
    own_schemas: &["information_schema", "pg_catalog", "pg_toast"],
    help: &[KEYWORDS, (HelpKind::Keyword, include_str!("keywords.txt")), FUNCTIONS, (HelpKind::Function, include_str!("functions.txt"))],
    quotes: &[
        Quote { prefix: Some(b'e'), backslash: true, ..TEXT },
        Quote { prefix: Some(b'x'), kind: QuoteKind::Binary, ..TEXT },
        Quote { prefix: Some(b'b'), kind: QuoteKind::Binary, ..TEXT },
        Quote { prefix: Some(b'n'), ..TEXT },
        TEXT,
        Quote { open: b'"', close: b'"', kind: QuoteKind::Name, ..TEXT },
    ],
    line_comments: &["--"],
    block_comment: Some(BlockComment { open: "/*", close: "*/", nests: true }),
    parameters: b"$",
    starters: &[
        Starter {
            continues_after: &[
                "AS",
                "UNION",
                "ALL",
                "DISTINCT",
                "EXCEPT",
                "INTERSECT",
                "MATERIALIZED",
                "FOR",
                "GRANT",
                "REVOKE",
                "ALSO",
                "INSTEAD",
                "DO",
                "ON",
            ],
            ..starter("SELECT", Kind::Query, Role::Query)
        },
        Starter {
            continues_after: &[
                "AS",
                "UNION",
                "ALL",
                "EXCEPT",
                "INTERSECT",
                "DEFAULT",
                "VALUE",
                "FOR",
                "ALSO",
                "INSTEAD",
                "DO",
            ],
            continues_in: &["MERGE"],
            ..starter("VALUES", Kind::Query, Role::Query)
        },
        Starter {
            role: Role::With,
            continues_after: &["AS", "FOR"],
            ..unreserved("WITH", Kind::Query, Then::TableExpression)
        },
        Starter {
            role: Role::Filled,
            continues_after: &[
                "BEFORE", "AFTER", "OF", "OR", "INSTEAD", "ON", "FOR", "GRANT", "REVOKE", "THEN", "ALSO", "DO",
            ],
            after_blank: true,
            ..unreserved("INSERT", Kind::Change, Then::Words(&["INTO"]))
        },
        Starter {
            role: Role::Change,
            continues_after: &[
                "ON", "DO", "BEFORE", "AFTER", "OF", "OR", "FOR", "KEY", "GRANT", "REVOKE", "THEN", "ALSO", "INSTEAD",
                "SHARE",
            ],
            ..unreserved("UPDATE", Kind::Change, Then::Name(&["ONLY"]))
        },
        Starter {
            role: Role::Change,
            continues_after: &[
                "ON", "BEFORE", "AFTER", "OF", "OR", "FOR", "GRANT", "REVOKE", "THEN", "ALSO", "INSTEAD", "DO",
            ],
            after_blank: true,
            ..unreserved("DELETE", Kind::Change, Then::Words(&["FROM"]))
        },
        Starter { role: Role::Change, ..unreserved("MERGE", Kind::Change, Then::Words(&["INTO"])) },
        Starter {
            continues_after: &["GRANT", "REVOKE"],
            continues_in: &["CREATE SCHEMA"],
            ..starter("CREATE", Kind::Definition, Role::Plain)
        },
        Starter {
            ends_in_type: true,
            ..unreserved(
                "ALTER",
                Kind::Definition,
                Then::Words(&[
                    "AGGREGATE",
                    "COLLATION",
                    "DATABASE",
                    "DEFAULT",
                    "DOMAIN",
                    "EXTENSION",
                    "FOREIGN",
                    "FUNCTION",
                    "INDEX",
                    "MATERIALIZED",
                    "POLICY",
                    "PROCEDURE",
                    "PUBLICATION",
                    "ROLE",
                    "ROUTINE",
                    "SCHEMA",
                    "SEQUENCE",
                    "STATISTICS",
                    "SUBSCRIPTION",
                    "SYSTEM",
                    "TABLE",
                    "TABLESPACE",
                    "TRIGGER",
                    "TYPE",
                    "USER",
                    "VIEW",
                ]),
            )
        },
        Starter {
            continues_in: &["ALTER"],
            ..unreserved(
                "DROP",
                Kind::Definition,
                Then::Words(&[
                    "AGGREGATE",
                    "COLLATION",
                    "DATABASE",
                    "DOMAIN",
                    "EXTENSION",
                    "FOREIGN",
                    "FUNCTION",
                    "INDEX",
                    "MATERIALIZED",
                    "OWNED",
                    "POLICY",
                    "PROCEDURE",
                    "PUBLICATION",
                    "ROLE",
                    "ROUTINE",
                    "RULE",
                    "SCHEMA",
                    "SEQUENCE",
                    "STATISTICS",
                    "SUBSCRIPTION",
                    "TABLE",
                    "TABLESPACE",
                    "TRIGGER",
                    "TYPE",
                    "USER",
                    "VIEW",
                ]),
            )
        },
        unreserved("TRUNCATE", Kind::Change, Then::Name(&["TABLE", "ONLY"])),
        unreserved("COMMENT", Kind::Definition, Then::Words(&["ON"])),
        Starter {
            continues_after: &["WITH"],
            continues_in: &["CREATE SCHEMA", "ALTER DEFAULT"],
            ..unreserved(
                "GRANT",
                Kind::Definition,
                Then::Name(&["ALL", "SELECT", "INSERT", "UPDATE", "DELETE", "EXECUTE", "CREATE", "REFERENCES"]),
            )
        },
        Starter {
            continues_in: &["ALTER DEFAULT"],
            ..unreserved(
                "REVOKE",
                Kind::Definition,
                Then::Name(&[
                    "ALL",
                    "SELECT",
                    "INSERT",
                    "UPDATE",
                    "DELETE",
                    "EXECUTE",
                    "CREATE",
                    "REFERENCES",
                    "GRANT",
                ]),
            )
        },
        unreserved("REFRESH", Kind::Definition, Then::Words(&["MATERIALIZED"])),
        unreserved("COPY", Kind::Other, Then::Name(&[])),
        unreserved("CALL", Kind::Other, Then::Name(&[])),
        Starter { continues_after: &["ON", "CONFLICT"], ..unreserved("DO", Kind::Other, Then::Words(&["LANGUAGE"])) },
        unreserved("LOCK", Kind::Other, Then::Words(&["TABLE"])),
        unreserved("LISTEN", Kind::Setting, Then::Name(&[])),
        unreserved("UNLISTEN", Kind::Setting, Then::Name(&[])),
        Starter { continues_after: RULES, ..unreserved("NOTIFY", Kind::Other, Then::Name(&[])) },
        unreserved("SHOW", Kind::Setting, Then::Name(&["ALL", "SESSION"])),
        Starter {
            continues_in: &["ALTER"],
            ..unreserved("RESET", Kind::Setting, Then::Name(&["ALL", "SESSION", "ROLE"]))
        },
        Starter {
            continues_in: &["UPDATE", "ALTER", "INSERT", "MERGE", "WITH", "CREATE", "EXPLAIN"],
            ..unreserved("SET", Kind::Setting, Then::Name(&["SESSION", "ROLE", "CONSTRAINTS", "TRANSACTION"]))
        },
        Starter { alone: true, ..unreserved("DISCARD", Kind::Setting, Then::Words(&["ALL", "PLANS", "TEMP"])) },
        Starter {
            alone: true,
            continues_in: &["VACUUM"],
            ..unreserved("ANALYZE", Kind::Other, Then::Name(&["VERBOSE"]))
        },
        Starter {
            alone: true,
            ..unreserved("VACUUM", Kind::Other, Then::Name(&["FULL", "FREEZE", "VERBOSE", "ANALYZE"]))
        },
        Starter { alone: true, ..unreserved("CHECKPOINT", Kind::Other, Then::Words(&[])) },
        unreserved("REINDEX", Kind::Other, Then::Words(&["TABLE", "INDEX", "SCHEMA", "DATABASE", "SYSTEM"])),
        unreserved("DECLARE", Kind::Other, Then::Name(&[])),
        unreserved("PREPARE", Kind::Other, Then::Name(&["TRANSACTION"])),
        unreserved("EXECUTE", Kind::Other, Then::Name(&[])),
        unreserved("DEALLOCATE", Kind::Other, Then::Name(&["ALL", "PREPARE"])),
        Starter {
            alone: true,
            ..unreserved("BEGIN", Kind::Transaction, Then::Words(&["TRANSACTION", "WORK", "ISOLATION", "READ"]))
        },
        unreserved("START", Kind::Transaction, Then::Words(&["TRANSACTION"])),
        Starter {
            alone: true,
            ..unreserved("COMMIT", Kind::Transaction, Then::Words(&["TRANSACTION", "WORK", "AND", "PREPARED"]))
        },
        Starter {
            alone: true,
            ..unreserved("ROLLBACK", Kind::Transaction, Then::Words(&["TO", "TRANSACTION", "WORK", "AND", "PREPARED"]))
        },
        Starter { alone: true, ..unreserved("ABORT", Kind::Transaction, Then::Words(&["TRANSACTION", "WORK"])) },
        unreserved("END", Kind::Transaction, Then::Words(&["TRANSACTION", "WORK"])),
        Starter { continues_after: &["TO", "RELEASE"], ..unreserved("SAVEPOINT", Kind::Transaction, Then::Name(&[])) },
        unreserved("RELEASE", Kind::Transaction, Then::Name(&["SAVEPOINT"])),
        Starter {
            continues_after: CARRIED,
            ..unreserved(
                "EXPLAIN",
                Kind::Plan,
                Then::Words(&[
                    "ANALYZE", "VERBOSE", "SELECT", "VALUES", "WITH", "INSERT", "UPDATE", "DELETE", "MERGE", "CREATE",
                    "EXECUTE", "DECLARE",
                ]),
            )
        },
    ],
    prefixes: &["EXPLAIN"],
    prefix_options: &["ANALYZE", "ANALYSE", "VERBOSE"],
    carriers: &[
        Carrier { lead: "PREPARE", second: "", until: "AS", kind: Some(Kind::Other) },
        Carrier { lead: "DECLARE", second: "", until: "FOR", kind: Some(Kind::Other) },
    ],
    seconds: &["SCHEMA", "RULE", "DEFAULT"],
    types: &[
        "integer",
        "text",
        "bigint",
        "boolean",
        "timestamptz",
        "numeric",
        "date",
        "uuid",
        "jsonb",
        "varchar",
        "smallint",
        "double precision",
        "real",
        "timestamp",
        "time",
        "interval",
        "json",
        "bytea",
        "char",
        "serial",
        "bigserial",
        "inet",
        "cidr",
        "macaddr",
        "xml",
        "money",
        "bit",
        "tsvector",
        "tsquery",
        "int4range",
        "int8range",
        "numrange",
        "tsrange",
        "tstzrange",
        "daterange",
        "point",
        "oid",
        "regclass",
    ],
    new_table: [
        "create table ${1:‹name›} (\n    ${2:id} bigint generated always as identity primary key,\n    ${3:‹column›} ${4:text} not null\n)",
        "create ${1:unlogged }table ${2:if not exists }${3:‹name›} (\n    ${4:‹id›} ${5:bigint} generated ${6:always} as identity primary key,\n    ${7:‹column›} ${8:text} ${9:collate \"C\"} ${10:default ''} ${11:not null},\n    ${12:‹other_id›} ${13:bigint} references ${14:‹other›} (${15:‹id›}) on delete ${16:restrict} on update ${17:cascade} ${18:deferrable initially deferred},\n    constraint ${19:‹name›} check (${20:‹condition›}),\n    constraint ${21:‹name›} unique (${22:‹column›}),\n    exclude using ${23:gist} (${24:‹column with =›})\n)${25: partition by range (‹column›)}${26: with (fillfactor = 90)}${27: tablespace ‹name›}",
    ],
    new_index: [
        "create index NAME on TABLE (COLUMN)",
        "create ${3:unique }index ${4:concurrently }NAME on TABLE using ${5:btree} (COLUMN ${6:asc nulls last})${7: include (‹column›)}${8: where ‹condition›}",
    ],
    can_end: &[
        "ABORT",
        "ALL",
        "ANALYZE",
        "ASC",
        "BEGIN",
        "CASCADE",
        "CHECKPOINT",
        "COMMIT",
        "CURRENT_CATALOG",
        "CURRENT_DATE",
        "CURRENT_ROLE",
        "CURRENT_SCHEMA",
        "CURRENT_TIME",
        "CURRENT_TIMESTAMP",
        "CURRENT_USER",
        "DEFAULT",
        "DEFERRED",
        "DESC",
        "END",
        "FALSE",
        "FIRST",
        "IMMUTABLE",
        "ISNULL",
        "KEY",
        "LAST",
        "LOCALTIME",
        "LOCALTIMESTAMP",
        "NOTHING",
        "NOTNULL",
        "NOWAIT",
        "NULL",
        "ONLY",
        "ORDINALITY",
        "RESTRICT",
        "ROLLBACK",
        "ROW",
        "ROWS",
        "SERIALIZABLE",
        "SESSION_USER",
        "SHARE",
        "STABLE",
        "STDIN",
        "STDOUT",
        "STRICT",
        "TIES",
        "TRANSACTION",
        "TRUE",
        "UPDATE",
        "VACUUM",
        "VOLATILE",
        "WORK",
        "WRITE",
    ],
    bodies: &[body("FUNCTION"), body("PROCEDURE")],
    folds_names: true,
    dollar_quotes: true,
    client_lines: true,
    copy_data: true,
    phrases: Some(&phrases::PHRASES),
    habits: include_str!("habits.txt"),
    keywords: keywords::KEYWORDS,
    acting: Some(&ACTING),
    comparing: Some(&COMPARING),
    changing: Some(&CHANGING),
    altering: Some(&ALTERING),
    plans: Some(&plan::PLANS),
    part_of_json: Some("{column}->>'{key}'"),
    ..PLAIN
};
