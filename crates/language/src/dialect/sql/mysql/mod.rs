//! MySQL and MariaDB, by their documentation: <https://mariadb.com/kb/en/sql-language-structure/> and
//! <https://dev.mysql.com/doc/refman/8.0/en/language-structure.html>.

mod keywords;
mod phrases;
mod plan;

use super::{FUNCTIONS, KEYWORDS};
use crate::dialect::altering::{Altering, Change, Clauses, Tables};
use crate::dialect::changing::{Changing, Copying, USUAL};
use crate::dialect::{HelpKind, 
    Acting, BlockComment, Body, Carrier, Comparing, Dialect, Kind, PLAIN, Pattern, Quote, QuoteKind, Role, Starter,
    Then, starter, unreserved,
};

const TEXT: Quote =
    Quote { prefix: None, open: b'\'', close: b'\'', doubled: true, backslash: true, kind: QuoteKind::Text };

/// Words that open a block in a stored program. `CASE` also opens one inside a statement.
const BLOCKS: &[&str] = &["BEGIN", "IF", "CASE", "LOOP", "WHILE", "REPEAT", "FOR"];

const fn body(object: &'static str) -> Body {
    Body {
        object,
        after: "CREATE",
        between: &["OR", "REPLACE", "DEFINER", "CURRENT_USER", "CURRENT_ROLE", "IF", "NOT", "EXISTS"],
        open: "BEGIN",
        close: "END",
        blocks: BLOCKS,
        names_between: true,
        single: true,
        single_after: "",
        by_words: false,
    }
}

/// A block that is a statement by itself.
const fn block(word: &'static str) -> Body {
    Body { after: "", open: word, ..body("") }
}

/// The types of shapes; to a client their values are bytes.
const SHAPES: &[&str] = &[
    "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection",
    "geomcollection",
];

/// What the session is set to, remembered, and set so again.
const REMEMBERED: &str = "set @jaunty_mode = @@sql_mode, @jaunty_zone = @@time_zone";
const BEFORE: &str = "set sql_mode = @jaunty_mode, time_zone = @jaunty_zone";

/// How structures are changed: the `ALTER TABLE` of MySQL and MariaDB. Its definitions commit at once, so there is no
/// transaction around them.
const ALTERING: Altering = Altering {
    whole_names: ["", ""],
    around: [&[REMEMBERED, "set foreign_key_checks = 0"], &["set foreign_key_checks = 1"]],
    tables: Tables::Altered(&Clauses {
        add_column: "add column TEXT",
        place: [" first", " after NAME"],
        drop_column: "drop column NAME",
        change: Change::Whole("modify column TEXT"),
        add_rule: "add TEXT",
        drop_rule: ["drop primary key", "drop index NAME", "drop foreign key NAME", "drop constraint NAME", "drop index NAME"],
    }),
    references_apart: false,
    drop_comment: ["", ""],
    drop_index: "",
    drop_trigger: "drop trigger NAME",
    add_value: "",
    views_hold: false,
    overloads: false,
    meanwhile: [
        "The table may be copied; whoever writes it waits until that is done.",
        "All rows are looked at; whoever writes the table may have to wait until that is done.",
        "",
        "",
    ],
    goes_to: "use NAME",
};

/// What users and roles may do with all of the database in hand; patterns of names that mean others, too, are left out.
/// A role of MariaDB has no host.
const ACCESS: &str = "\
select '' as place, concat('grant ', group_concat(lower(privilege_type) order by privilege_type separator ', '), ' on * to ', \
'''', replace(replace(user, char(92), concat(char(92), char(92))), '''', ''''''), '''', \
if(host = '', '', concat('@''', host, '''')), if(max(is_grantable) = 'YES', ' with grant option', '')) as statement \
from (select p.*, left(ending, char_length(ending) - 1) as host, \
substring(grantee, 2, char_length(grantee) - char_length(ending) - 4) as user \
from (select privilege_type, is_grantable, grantee, substring_index(grantee, '''@''', -1) as ending from information_schema.schema_privileges \
where replace(replace(table_schema, concat(char(92), '_'), '_'), concat(char(92), '%'), '%') = database()) p) q \
group by grantee, user, host order by grantee";

/// How rows are changed one by one.
const CHANGING: Changing = Changing {
    copying: Some(&Copying {
        asked_first: "",
        // Points in time are written in a zone in which each of them comes once.
        snapshot: &[REMEMBERED, "set time_zone = '+00:00'", "start transaction with consistent snapshot, read only"],
        afterwards: BEFORE,
        // Text has six digits of a number of 32 bits.
        exactly: &[("float", "NAME + 0e0")],
        only: "",
        beside: ["", ""],
        access: ACCESS,
        around: [
            &[REMEMBERED, "set foreign_key_checks = 0", "set sql_mode = 'no_auto_value_on_zero', time_zone = '+00:00'"],
            &[BEFORE, "set foreign_key_checks = 1"],
        ],
        keys_after: false,
        schemas_are_databases: true,
        goes_on: ["", ""],
        sequence: ["select next_not_cached_value, 0 from NAME", "select setval(NAME, VALUE, CALLED)"],
        unchecked: "",
        made_with: ["set SETTINGS", BEFORE],
    }),
    inserted: None,
    last_number: "last_insert_id()",
    days_have_zeros: true,
    times_are_spans: true,
    bits_are_numbers: true,
    choices_fold: true,
    types_of_bytes: SHAPES,
    types_of_shapes: SHAPES,
    shapes_are_bytes: true,
    kept_types: &[
        "tinyint", "smallint", "mediumint", "int", "bigint", "tinyint unsigned", "smallint unsigned", "mediumint unsigned",
        "int unsigned", "bigint unsigned", "decimal(", "float", "double", "date", "year", "bit(",
    ],
    defaults_only: "() values ()",
    types: [
        "int",
        "bigint",
        "decimal(38, SCALE)",
        "double",
        "boolean",
        "date",
        "time(6)",
        "datetime(6)",
        "datetime(6)",
        "char(36)",
        "json",
        "longtext", "longblob",
    ],
    meeting: [["insert ignore", ""], ["insert", "on duplicate key update SET"]],
    excluded: "values(COLUMN)",
    counts_different: true,
    ..USUAL
};

/// What is said of a literal counts for the column beside it, whatever that is written in.
const COMPARING: Comparing = Comparing {
    as_text: "VALUE",
    bytes_as_text: "lower(hex(VALUE))",
    bytes: ["x'", "'"],
    text_types: &[],
    fits: [(Pattern::Like, "VALUE like TEXT"), (Pattern::Like, "VALUE like TEXT collate utf8mb4_bin")],
    expression: [("VALUE regexp TEXT", "(?i)"), ("VALUE regexp TEXT", "(?-i)")],
    equal: "TEXT collate utf8mb4_bin",
    ordered: "TEXT collate utf8mb4_bin",
    sorted: "cast(VALUE as binary)",
    nulls_last: ["NAME is null, VALUE", "VALUE desc"],
    same_names: false,
};

/// What a read-only transaction refuses, and what it does not: MariaDB's documentation of `SET TRANSACTION`.
const ACTING: Acting = Acting {
    reads: &[
        "SELECT",
        "VALUES",
        "TABLE",
        "WITH",
        "SHOW",
        "DESCRIBE",
        "DESC",
        "EXPLAIN",
        "HELP",
        "USE",
        "SET",
        "BEGIN",
        "START",
        "COMMIT",
        "ROLLBACK",
        "SAVEPOINT",
        "RELEASE",
        "PREPARE",
        "DEALLOCATE",
        "CHECKSUM",
        "GET",
    ],
    refused: &[
        "INSERT", "UPDATE", "DELETE", "REPLACE", "TRUNCATE", "CREATE", "ALTER", "DROP", "RENAME", "GRANT", "REVOKE",
        "LOAD",
    ],
    hidden: &[
        "BEGIN NOT",
        "CALL",
        "EXECUTE",
        "DO",
        "IF",
        "CASE",
        "WHILE",
        "LOOP",
        "REPEAT",
        "FOR",
        "HANDLER",
        "LOCK",
        "UNLOCK",
        "XA",
    ],
    leads_outside: &[
        "SET GLOBAL",
        "SET PERSIST",
        "SET PERSIST_ONLY",
        "SET PASSWORD",
        "SET DEFAULT ROLE",
        "SHUTDOWN",
        "FLUSH",
        "KILL",
        "RESET MASTER",
        "RESET SLAVE",
        "RESET REPLICA",
        "RESET QUERY",
        "PURGE",
        "INSTALL",
        "UNINSTALL",
        "CHANGE",
        "START SLAVE",
        "STOP SLAVE",
        "START REPLICA",
        "STOP REPLICA",
        "START ALL",
        "STOP ALL",
        "ANALYZE TABLE",
        "ANALYZE LOCAL",
        "ANALYZE NO_WRITE_TO_BINLOG",
        "OPTIMIZE",
        "REPAIR",
        "CACHE",
        "BINLOG",
        "BACKUP",
        "CLONE",
    ],
    outside: &[&["INTO", "OUTFILE"], &["INTO", "DUMPFILE"]],
    settings: &["TX_READ_ONLY", "TRANSACTION_READ_ONLY", "GLOBAL", "PERSIST", "PERSIST_ONLY"],
    functions: &["sys_exec", "sys_eval"],
    into: &[],
};

/// The language of MySQL and MariaDB.
pub static MYSQL: Dialect = Dialect {
    name: "mysql",
    own_prefixes: &["seq_"],
    own_schemas: &["information_schema", "mysql", "performance_schema", "sys"],
    help: &[KEYWORDS, (HelpKind::Keyword, include_str!("keywords.txt")), FUNCTIONS, (HelpKind::Function, include_str!("functions.txt"))],
    quotes: &[
        Quote { prefix: Some(b'x'), backslash: false, kind: QuoteKind::Binary, ..TEXT },
        Quote { prefix: Some(b'b'), backslash: false, kind: QuoteKind::Binary, ..TEXT },
        Quote { prefix: Some(b'n'), ..TEXT },
        TEXT,
        Quote { open: b'"', close: b'"', ..TEXT },
        Quote { open: b'`', close: b'`', backslash: false, kind: QuoteKind::Name, ..TEXT },
    ],
    // Two dashes alone are two signs of subtraction.
    line_comments: &["-- ", "--\t", "--\n", "--\r", "#"],
    block_comment: Some(BlockComment { open: "/*", close: "*/", nests: false }),
    code_comments: &["/*!", "/*M!"],
    parameters: b"?",
    starters: &[
        Starter {
            continues_after: &["AS", "UNION", "ALL", "DISTINCT", "EXCEPT", "INTERSECT", "GRANT", "REVOKE"],
            ..starter("SELECT", Kind::Query, Role::Query)
        },
        Starter {
            role: Role::Query,
            continues_after: &["AS", "UNION", "ALL", "EXCEPT", "INTERSECT", "DEFAULT", "IN", "THAN"],
            ..unreserved("VALUES", Kind::Query, Then::Words(&["ROW"]))
        },
        Starter {
            continues_after: &["AS", "IDENTIFIED"],
            then: Then::TableExpression,
            ..starter("WITH", Kind::Query, Role::With)
        },
        // A function of the same name has a parenthesis behind it.
        Starter {
            continues_after: &["BEFORE", "AFTER", "OR", "GRANT", "REVOKE"],
            then: Then::Name(&["INTO", "LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "IGNORE"]),
            ..starter("INSERT", Kind::Change, Role::Filled)
        },
        Starter {
            continues_after: &["OR", "DUPLICATE"],
            continues_in: &["LOAD"],
            then: Then::Name(&["INTO", "LOW_PRIORITY", "DELAYED"]),
            ..starter("REPLACE", Kind::Change, Role::Filled)
        },
        Starter {
            continues_after: &["ON", "KEY", "BEFORE", "AFTER", "OR", "FOR", "GRANT", "REVOKE"],
            ..starter("UPDATE", Kind::Change, Role::Change)
        },
        Starter {
            continues_after: &["ON", "BEFORE", "AFTER", "OR", "GRANT", "REVOKE"],
            ..starter("DELETE", Kind::Change, Role::Change)
        },
        Starter { continues_after: &["SHOW", "GRANT", "REVOKE"], ..starter("CREATE", Kind::Definition, Role::Plain) },
        // No column can be called by these words.
        Starter {
            ends_in_type: true,
            continues_after: &["GRANT", "REVOKE"],
            then: Then::Words(&["TABLE", "DATABASE", "SCHEMA", "PROCEDURE", "IGNORE", "SQL"]),
            ..starter("ALTER", Kind::Definition, Role::Plain)
        },
        Starter {
            ends_in_type: true,
            continues_after: &["GRANT", "REVOKE"],
            continues_in: &["ALTER"],
            then: Then::Words(&[
                "ALGORITHM",
                "DEFINER",
                "EVENT",
                "FUNCTION",
                "INSTANCE",
                "ONLINE",
                "ROLE",
                "SEQUENCE",
                "SERVER",
                "TABLESPACE",
                "USER",
                "VIEW",
            ]),
            ..starter("ALTER", Kind::Definition, Role::Plain)
        },
        Starter {
            then: Then::Words(&[
                "DATABASE",
                "EVENT",
                "FUNCTION",
                "PROCEDURE",
                "ROLE",
                "SCHEMA",
                "SEQUENCE",
                "SERVER",
                "TABLE",
                "TABLES",
                "TEMPORARY",
                "TRIGGER",
                "USER",
                "VIEW",
            ]),
            continues_after: &["GRANT", "REVOKE"],
            ..starter("DROP", Kind::Definition, Role::Plain)
        },
        unreserved("TRUNCATE", Kind::Change, Then::Name(&["TABLE"])),
        Starter { continues_in: &["ALTER"], ..starter("RENAME", Kind::Definition, Role::Plain) },
        Starter { continues_after: &["WITH", "GRANT", "REVOKE"], ..starter("GRANT", Kind::Definition, Role::Plain) },
        starter("REVOKE", Kind::Definition, Role::Plain),
        starter("LOAD", Kind::Change, Role::Plain),
        Starter { continues_after: &["GRANT", "REVOKE"], ..starter("SHOW", Kind::Setting, Role::Plain) },
        Starter { then: Then::Name(&[]), ..starter("USE", Kind::Setting, Role::Plain) },
        Starter {
            continues_after: &["ON", "DELETE", "UPDATE", "CHARACTER", "GRANT", "REVOKE"],
            continues_in: &[
                "UPDATE", "ALTER", "INSERT", "REPLACE", "LOAD", "WITH", "EXPLAIN", "CREATE", "SIGNAL", "RESIGNAL",
            ],
            ..starter("SET", Kind::Setting, Role::Plain)
        },
        starter("SIGNAL", Kind::Other, Role::Plain),
        starter("RESIGNAL", Kind::Other, Role::Plain),
        starter("RETURN", Kind::Other, Role::Plain),
        starter("CALL", Kind::Other, Role::Plain),
        starter("KILL", Kind::Other, Role::Plain),
        Starter { then: Then::Words(&["TABLE", "LOCAL"]), ..starter("OPTIMIZE", Kind::Other, Role::Plain) },
        Starter {
            then: Then::Words(&["TABLE", "LOCAL"]),
            continues_after: &["SHOW"],
            ..starter("ANALYZE", Kind::Other, Role::Plain)
        },
        unreserved("FLUSH", Kind::Other, Then::Words(&["TABLES", "PRIVILEGES", "LOGS", "STATUS", "HOSTS"])),
        unreserved("DO", Kind::Other, Then::Name(&[])),
        unreserved("HANDLER", Kind::Other, Then::Name(&[])),
        Starter { continues_after: &["XA"], ..unreserved("PREPARE", Kind::Other, Then::Name(&[])) },
        unreserved("EXECUTE", Kind::Other, Then::Name(&["IMMEDIATE"])),
        unreserved("DEALLOCATE", Kind::Other, Then::Words(&["PREPARE"])),
        Starter {
            then: Then::Words(&["TABLES", "TABLE"]),
            continues_after: &["GRANT", "REVOKE"],
            ..starter("LOCK", Kind::Other, Role::Plain)
        },
        Starter { then: Then::Words(&["TABLES"]), ..starter("UNLOCK", Kind::Other, Role::Plain) },
        Starter { alone: true, ..unreserved("BEGIN", Kind::Transaction, Then::Words(&["WORK", "NOT"])) },
        unreserved("START", Kind::Transaction, Then::Words(&["TRANSACTION"])),
        Starter { alone: true, ..unreserved("COMMIT", Kind::Transaction, Then::Words(&["WORK", "AND"])) },
        Starter { alone: true, ..unreserved("ROLLBACK", Kind::Transaction, Then::Words(&["TO", "WORK", "AND"])) },
        Starter { continues_after: &["TO", "RELEASE"], ..unreserved("SAVEPOINT", Kind::Transaction, Then::Name(&[])) },
        Starter { then: Then::Words(&["SAVEPOINT"]), ..starter("RELEASE", Kind::Transaction, Role::Plain) },
        Starter { continues_after: &["SHOW"], ..starter("EXPLAIN", Kind::Plan, Role::Plain) },
        starter("DESCRIBE", Kind::Plan, Role::Plain),
    ],
    prefixes: &["EXPLAIN", "ANALYZE", "DESCRIBE", "DESC"],
    prefix_options: &["ANALYZE", "EXTENDED", "PARTITIONS", "FORMAT"],
    no_prefix_before: &["TABLE", "TABLES", "LOCAL", "NO_WRITE_TO_BINLOG"],
    carriers: &[Carrier { lead: "SET", second: "STATEMENT", until: "FOR", kind: None }],
    tables_take_queries: true,
    seconds: &["TABLE"],
    quoted_names_may_be_text: true,
    types: &[
        "int",
        "varchar",
        "bigint",
        "datetime",
        "decimal",
        "text",
        "date",
        "tinyint",
        "boolean",
        "timestamp",
        "json",
        "char",
        "double",
        "float",
        "smallint",
        "mediumint",
        "time",
        "year",
        "bit",
        "enum",
        "set",
        "blob",
        "longtext",
        "mediumtext",
        "longblob",
        "binary",
        "varbinary",
        "int unsigned",
        "bigint unsigned",
        "uuid",
        "inet6",
    ],
    new_table: [
        "create table ${1:‹name›} (\n    ${2:id} bigint unsigned not null auto_increment primary key,\n    ${3:‹column›} ${4:varchar(200)} not null\n)",
        "create ${1:temporary }table ${2:if not exists }${3:‹name›} (\n    ${4:‹id›} ${5:bigint unsigned} not null auto_increment,\n    ${6:‹column›} ${7:varchar(200)} ${8:character set utf8mb4} ${9:default ''} ${10:not null} ${11:comment ''},\n    ${12:‹other_id›} ${13:bigint unsigned},\n    primary key (${14:‹id›}),\n    ${15:unique }key ${16:‹name›} (${17:‹column›}),\n    constraint ${18:‹name›} foreign key (${19:‹other_id›}) references ${20:‹other›} (${21:‹id›}) on delete ${22:restrict} on update ${23:cascade},\n    constraint ${24:‹name›} check (${25:‹condition›})\n) engine = ${26:InnoDB} default charset = ${27:utf8mb4}${28: comment = ''}",
    ],
    new_index: [
        "create index NAME on TABLE (COLUMN)",
        "create ${3:unique }index NAME on TABLE (COLUMN ${4:asc})${5: using btree}${6: comment ''}",
    ],
    can_end: &[
        "ASC",
        "BEGIN",
        "CASCADE",
        "COMMIT",
        "CURRENT_DATE",
        "CURRENT_ROLE",
        "CURRENT_TIME",
        "CURRENT_TIMESTAMP",
        "CURRENT_USER",
        "DATABASES",
        "DEFAULT",
        "DESC",
        "DUAL",
        "END",
        "FALSE",
        "FIRST",
        "IGNORE",
        "KEY",
        "LOCALTIME",
        "LOCALTIMESTAMP",
        "NULL",
        "READ",
        "RESTRICT",
        "ROLLBACK",
        "TABLES",
        "TRANSACTION",
        "TRUE",
        "UNSIGNED",
        "WORK",
        "WRITE",
        "ZEROFILL",
    ],
    bodies: &[
        body("PROCEDURE"),
        body("FUNCTION"),
        body("TRIGGER"),
        Body { single_after: "DO", ..body("EVENT") },
        Body { single_after: "DO", after: "ALTER", ..body("EVENT") },
        // Blocks that are carried out at once.
        block("WHILE"),
        block("LOOP"),
        block("REPEAT"),
        block("CASE"),
        block("IF"),
        block("FOR"),
        Body { object: "ATOMIC", after: "BEGIN", between: &["NOT"], open: "", names_between: false, ..body("") },
    ],
    name_quotes: ['`', '`'],
    client_lines: true,
    binary_texts: Some("_binary"),
    delimiter_word: Some("DELIMITER"),
    phrases: Some(&phrases::PHRASES),
    habits: include_str!("habits.txt"),
    keywords: keywords::KEYWORDS,
    acting: Some(&ACTING),
    comparing: Some(&COMPARING),
    changing: Some(&CHANGING),
    altering: Some(&ALTERING),
    comments: ["", ""],
    definitions_commit: true,
    plans: Some(&plan::PLANS),
    part_of_json: Some("json_value({column}, '$.{key}')"),
    ..PLAIN
};
