//! SQLite, by its documentation of the language: <https://www.sqlite.org/lang.html>.

mod keywords;
mod phrases;
mod plan;

use super::{FUNCTIONS, KEYWORDS};
use crate::dialect::altering::{Altering, Tables};
use crate::dialect::changing::{Changing, Copying, USUAL};
use crate::dialect::{HelpKind, 
    Acting, BlockComment, Body, Comparing, Dialect, Kind, PLAIN, Pattern, Quote, QuoteKind, Role, Starter, Then,
    starter, unreserved,
};

/// How structures are changed: <https://www.sqlite.org/lang_altertable.html#otheralter>. References and views of others
/// are left alone while a table is made again.
const ALTERING: Altering = Altering {
    whole_names: ["", ""],
    around: [&["begin"], &["commit"]],
    tables: Tables::Remade([
        &["pragma foreign_keys = off", "pragma legacy_alter_table = on"],
        &["pragma legacy_alter_table = off", "pragma foreign_keys = on", "pragma foreign_key_check"],
    ]),
    references_apart: false,
    drop_comment: ["", ""],
    drop_index: "drop index NAME",
    drop_trigger: "drop trigger NAME",
    add_value: "",
    views_hold: false,
    overloads: false,
    meanwhile: [
        "",
        "",
        "The table is rewritten; nobody else writes to the database until that is done.",
        "",
    ],
    goes_to: "",
};

/// How rows are changed one by one.
const CHANGING: Changing = Changing {
    copying: Some(&Copying {
        asked_first: "",
        snapshot: &["begin"],
        afterwards: "",
        exactly: &[],
        only: "",
        // Numbers that programs know their files by.
        beside: [
            "select 'pragma user_version = ' || user_version from pragma_user_version where user_version <> 0 \
             union all select 'pragma application_id = ' || application_id from pragma_application_id where application_id <> 0",
            "",
        ],
        access: "",
        around: [&["pragma foreign_keys = off", "begin"], &["commit"]],
        keys_after: false,
        schemas_are_databases: true,
        goes_on: [
            "select seq, 1 from sqlite_sequence where name = BARE_TEXT",
            "delete from sqlite_sequence where name = BARE_TEXT;\ninsert into sqlite_sequence(name, seq) values (BARE_TEXT, VALUE)",
        ],
        sequence: ["", ""],
        unchecked: "",
        made_with: ["", ""],
    }),
    begin: "begin immediate",
    lock: ["", ""],
    loose_types: true,
    decimals_are_doubles: true,
    types: [
        "integer", "integer", "numeric", "real", "boolean", "date", "time", "timestamp", "timestamp", "text", "text", "text", "blob",
    ],
    numbers_integer_keys: true,
    ..USUAL
};

/// Its `LIKE` and its own functions fold the letters of ASCII only.
const COMPARING: Comparing = Comparing {
    as_text: "VALUE",
    bytes_as_text: "lower(hex(VALUE))",
    bytes: ["x'", "'"],
    text_types: &[],
    fits: [(Pattern::Like, r"VALUE like TEXT escape '\'"), (Pattern::Glob, "VALUE glob TEXT")],
    // The function is ours (see the engine); the operator is SQLite's.
    expression: [("VALUE regexp TEXT", "(?i)"), ("VALUE regexp TEXT", "")],
    equal: "TEXT",
    ordered: "TEXT",
    sorted: "VALUE",
    nulls_last: ["VALUE nulls last", "VALUE desc"],
    same_names: true,
};

/// A file that is opened for reading refuses to be written to; other files are not it.
const ACTING: Acting = Acting {
    reads: &[
        "SELECT",
        "VALUES",
        "WITH",
        "EXPLAIN",
        "PRAGMA",
        "BEGIN",
        "COMMIT",
        "END",
        "ROLLBACK",
        "SAVEPOINT",
        "RELEASE",
        "DETACH",
    ],
    refused: &["INSERT", "UPDATE", "DELETE", "REPLACE", "CREATE", "ALTER", "DROP", "REINDEX", "ANALYZE", "VACUUM"],
    hidden: &[],
    leads_outside: &["ATTACH", "VACUUM INTO", "VACUUM MAIN INTO"],
    outside: &[],
    settings: &[],
    functions: &[],
    into: &[],
};

/// SQLite's language.
pub static SQLITE: Dialect = Dialect {
    name: "sqlite",
    own_prefixes: &["sqlite_", "pragma_"],
    ends_at_nul: true,
    help: &[KEYWORDS, (HelpKind::Keyword, include_str!("keywords.txt")), FUNCTIONS, (HelpKind::Function, include_str!("functions.txt"))],
    extension: "sql",
    quotes: &[
        Quote {
            prefix: Some(b'x'),
            open: b'\'',
            close: b'\'',
            doubled: false,
            backslash: false,
            kind: QuoteKind::Binary,
        },
        Quote { prefix: None, open: b'\'', close: b'\'', doubled: true, backslash: false, kind: QuoteKind::Text },
        Quote { prefix: None, open: b'"', close: b'"', doubled: true, backslash: false, kind: QuoteKind::Name },
        Quote { prefix: None, open: b'`', close: b'`', doubled: true, backslash: false, kind: QuoteKind::Name },
        Quote { prefix: None, open: b'[', close: b']', doubled: false, backslash: false, kind: QuoteKind::Name },
    ],
    line_comments: &["--"],
    block_comment: Some(BlockComment { open: "/*", close: "*/", nests: false }),
    parameters: b"?:@$#",
    starters: &[
        Starter {
            continues_after: &["AS", "UNION", "ALL", "EXCEPT", "INTERSECT"],
            ..starter("SELECT", Kind::Query, Role::Query)
        },
        Starter {
            continues_after: &["AS", "UNION", "ALL", "EXCEPT", "INTERSECT", "DEFAULT"],
            ..starter("VALUES", Kind::Query, Role::Query)
        },
        Starter {
            role: Role::With,
            continues_after: &["AS"],
            ..unreserved("WITH", Kind::Query, Then::TableExpression)
        },
        Starter { continues_after: &["BEFORE", "AFTER", "OF"], ..starter("INSERT", Kind::Change, Role::Filled) },
        Starter {
            role: Role::Filled,
            continues_after: &["OR"],
            ..unreserved("REPLACE", Kind::Change, Then::Words(&["INTO"]))
        },
        Starter {
            continues_after: &["ON", "DO", "BEFORE", "AFTER", "OF"],
            ..starter("UPDATE", Kind::Change, Role::Change)
        },
        Starter { continues_after: &["ON", "BEFORE", "AFTER", "OF"], ..starter("DELETE", Kind::Change, Role::Change) },
        Starter { breaks_bodies: true, ..starter("CREATE", Kind::Definition, Role::Plain) },
        Starter { breaks_bodies: true, ends_in_type: true, ..starter("ALTER", Kind::Definition, Role::Plain) },
        // A column can be called view or trigger, but not table or index.
        Starter {
            then: Then::Words(&["VIEW", "TRIGGER"]),
            continues_in: &["ALTER"],
            breaks_bodies: true,
            ..starter("DROP", Kind::Definition, Role::Plain)
        },
        Starter {
            then: Then::Words(&["TABLE", "INDEX"]),
            breaks_bodies: true,
            ..starter("DROP", Kind::Definition, Role::Plain)
        },
        Starter { alone: true, ..starter("COMMIT", Kind::Transaction, Role::Plain) },
        Starter {
            alone: true,
            ..unreserved(
                "BEGIN",
                Kind::Transaction,
                Then::Words(&["TRANSACTION", "DEFERRED", "IMMEDIATE", "EXCLUSIVE"]),
            )
        },
        // Not alone: it ends a CASE more often than a transaction.
        unreserved("END", Kind::Transaction, Then::Words(&["TRANSACTION"])),
        Starter {
            alone: true,
            continues_after: &["OR", "CONFLICT"],
            ..unreserved("ROLLBACK", Kind::Transaction, Then::Words(&["TO", "TRANSACTION"]))
        },
        Starter { continues_after: &["TO", "RELEASE"], ..unreserved("SAVEPOINT", Kind::Transaction, Then::Name(&[])) },
        unreserved("RELEASE", Kind::Transaction, Then::Name(&["SAVEPOINT"])),
        unreserved("PRAGMA", Kind::Setting, Then::Name(&[])),
        Starter { alone: true, ..unreserved("ANALYZE", Kind::Setting, Then::Name(&[])) },
        Starter { alone: true, ..unreserved("REINDEX", Kind::Setting, Then::Name(&[])) },
        Starter { alone: true, ..unreserved("VACUUM", Kind::Setting, Then::Name(&["INTO"])) },
        unreserved("ATTACH", Kind::Setting, Then::Name(&["DATABASE"])),
        unreserved("DETACH", Kind::Setting, Then::Name(&["DATABASE"])),
        unreserved(
            "EXPLAIN",
            Kind::Plan,
            Then::Words(&[
                "QUERY",
                "SELECT",
                "VALUES",
                "WITH",
                "INSERT",
                "REPLACE",
                "UPDATE",
                "DELETE",
                "CREATE",
                "ALTER",
                "DROP",
                "PRAGMA",
                "ANALYZE",
                "REINDEX",
                "VACUUM",
                "ATTACH",
                "DETACH",
                "BEGIN",
                "COMMIT",
                "END",
                "ROLLBACK",
                "SAVEPOINT",
                "RELEASE",
            ]),
        ),
    ],
    prefixes: &["EXPLAIN", "QUERY", "PLAN"],
    quoted_names_may_be_text: true,
    types: &["integer", "text", "real", "blob", "numeric", "any", "boolean", "date", "datetime"],
    new_table: [
        "create table ${1:‹name›} (\n    ${2:id} integer primary key,\n    ${3:‹column›} ${4:text} not null\n)",
        "create ${1:temporary }table ${2:if not exists }${3:‹name›} (\n    ${4:‹id›} integer primary key${5: autoincrement},\n    ${6:‹column›} ${7:text} ${8:collate nocase} ${9:default ''} ${10:not null} ${11:unique},\n    ${12:‹other_id›} ${13:integer} references ${14:‹other›} (${15:‹id›}) on delete ${16:restrict} on update ${17:cascade} ${18:deferrable initially deferred},\n    ${19:‹computed›} ${20:text} generated always as (${21:‹expression›}) ${22:stored},\n    check (${23:‹condition›}),\n    unique (${24:‹column›})${25: on conflict ignore}\n) ${26:strict}${27:, without rowid}",
    ],
    new_index: [
        "create index NAME on TABLE (COLUMN)",
        "create ${3:unique }index NAME on TABLE (COLUMN ${4:collate nocase asc})${5: where ‹condition›}",
    ],
    can_end: &[
        "ANALYZE",
        "ASC",
        "BEGIN",
        "CASCADE",
        "COMMIT",
        "CURRENT_DATE",
        "CURRENT_TIME",
        "CURRENT_TIMESTAMP",
        "DEFAULT",
        "DEFERRED",
        "DESC",
        "END",
        "EXCLUSIVE",
        "FALSE",
        "FIRST",
        "IGNORE",
        "IMMEDIATE",
        "ISNULL",
        "KEY",
        "LAST",
        "NOTHING",
        "NOTNULL",
        "NULL",
        "REINDEX",
        "RESTRICT",
        "ROLLBACK",
        "ROWID",
        "STRICT",
        "TRANSACTION",
        "TRUE",
        "VACUUM",
        "VALUES",
    ],
    bodies: &[Body {
        object: "TRIGGER",
        after: "CREATE",
        between: &["TEMP", "TEMPORARY"],
        open: "BEGIN",
        close: "END",
        blocks: &[],
        names_between: false,
        single: false,
        single_after: "",
        by_words: false,
    }],
    phrases: Some(&phrases::PHRASES),
    habits: include_str!("habits.txt"),
    keywords: keywords::KEYWORDS,
    acting: Some(&ACTING),
    comparing: Some(&COMPARING),
    changing: Some(&CHANGING),
    altering: Some(&ALTERING),
    comments: ["", ""],
    infinity: Some("9e999"),
    plans: Some(&plan::PLANS),
    part_of_json: Some("{column}->>'{key}'"),
    ..PLAIN
};
