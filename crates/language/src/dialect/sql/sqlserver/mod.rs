//! T-SQL, the language of SQL Server, by its documentation: <https://learn.microsoft.com/en-us/sql/t-sql/language-reference>.

mod copying;
mod keywords;
mod phrases;
mod plan;

use super::KEYWORDS;
use crate::dialect::altering::{Altering, Change, Clauses, Tables};
use crate::dialect::changing::{Changing, Inserted, USUAL};
use crate::dialect::{
    Acting, BlockComment, Body, Comparing, Dialect, HelpKind, Kind, PLAIN, Pattern, Quote, QuoteKind, Role, Starter, Then,
    TransactionWords, starter, unreserved,
};

const TEXT: Quote =
    Quote { prefix: None, open: b'\'', close: b'\'', doubled: true, backslash: false, kind: QuoteKind::Text };

/// What is made with the rest of its batch as its text, whatever semicolons stand in it.
const fn to_the_end(after: &'static str, object: &'static str) -> Body {
    Body {
        object,
        after,
        between: &["OR", "ALTER"],
        open: "",
        close: "",
        blocks: &[],
        names_between: false,
        single: false,
        single_after: "",
        by_words: false,
    }
}

/// `BEGIN … END`, whose statements need no semicolons.
const BLOCK: Body = Body {
    object: "",
    after: "",
    between: &[],
    open: "BEGIN",
    close: "END",
    blocks: &["BEGIN"],
    names_between: false,
    single: false,
    single_after: "",
    by_words: true,
};

/// Takes the default of a column away, which may have a name that the server made up.
const NO_DEFAULT: &str = "\
begin declare @gone nvarchar(max) = (select concat('alter table ', TABLE_TEXT, ' drop constraint ', quotename(d.name)) \
from sys.default_constraints d join sys.columns c on c.object_id = d.parent_object_id and c.column_id = d.parent_column_id \
where c.object_id = object_id(TABLE_TEXT) and c.name = COLUMN_TEXT); exec(@gone) end";

/// How structures are changed: the documentation of `ALTER TABLE` and its kin.
const ALTERING: Altering = Altering {
    whole_names: ["", ""],
    // An error rolls all of it back.
    around: [&["set xact_abort on", "begin transaction"], &["commit"]],
    tables: Tables::Altered(&Clauses {
        add_column: "add TEXT",
        place: ["", ""],
        drop_column: "drop column NAME",
        change: Change::Apart {
            whole: "alter column NAME TYPE NULLNESS",
            no_default: NO_DEFAULT,
            default: "add NAMEDdefault VALUE for NAME",
        },
        add_rule: "add TEXT",
        drop_rule: ["drop constraint NAME", "drop constraint NAME", "drop constraint NAME", "drop constraint NAME", ""],
    }),
    references_apart: true,
    drop_index: "drop index INDEX on TABLE",
    drop_trigger: "drop trigger SCHEMA.NAME",
    drop_comment: [
        "exec sp_dropextendedproperty 'MS_Description', 'schema', SCHEMA, 'KIND', TABLE",
        "exec sp_dropextendedproperty 'MS_Description', 'schema', SCHEMA, 'KIND', TABLE, 'column', COLUMN",
    ],
    add_value: "",
    views_hold: false,
    overloads: false,
    meanwhile: [
        "All rows may be written again; nobody reads or writes the table until that is done.",
        "All rows are looked at; nobody reads or writes the table until that is done.",
        "",
        "",
    ],
    goes_to: "",
};

/// How rows are changed one by one.
const CHANGING: Changing = Changing {
    copying: Some(&copying::COPYING),
    bits_are_numbers: true,
    choices_fold: true,
    tiny: [0, 255],
    kept_types: &[
        "tinyint", "smallint", "int", "bigint", "bit", "decimal(", "numeric(", "money", "smallmoney", "real", "float", "date",
        "time(", "datetime", "datetime2(", "smalldatetime", "datetimeoffset(", "char(", "varchar(", "nchar(", "nvarchar(",
        "binary(", "varbinary(", "uniqueidentifier",
    ],
    new_schema: "if schema_id(TEXT) is null begin declare @made nvarchar(300) = concat('create schema ', quotename(TEXT)); exec(@made) end",
    begin: "begin transaction",
    lock: [" with (updlock, holdlock)", ""],
    inserted: Some(Inserted { word: "output", prefix: "inserted.", before_values: true }),
    types: [
        "int",
        "bigint",
        "decimal(38, SCALE)",
        "float",
        "bit",
        "date",
        "time",
        "datetime2",
        "datetimeoffset",
        "uniqueidentifier",
        "nvarchar(max)",
        "nvarchar(max)", "varbinary(max)",
    ],
    meeting: [["", ""], ["", ""]],
    numbering: ["set identity_insert TABLE on", "set identity_insert TABLE off", ""],
    ..USUAL
};

/// Text is compared by the bytes of UTF-16 in this collation, which for all but rare characters is by code point.
const COMPARING: Comparing = Comparing {
    as_text: "cast(VALUE as nvarchar(max))",
    bytes_as_text: "lower(convert(varchar(max), VALUE, 2))",
    bytes: ["0x", ""],
    text_types: &["char", "varchar", "nchar", "nvarchar", "text", "ntext"],
    fits: [
        (Pattern::Like, "VALUE collate Latin1_General_100_CI_AS_SC like TEXT escape '\\'"),
        (Pattern::Like, "VALUE collate Latin1_General_100_BIN2 like TEXT escape '\\'"),
    ],
    // There are regular expressions from version 2025 on only.
    expression: [("regexp_like(VALUE, TEXT, 'i')", ""), ("regexp_like(VALUE, TEXT, 'c')", "")],
    equal: "TEXT collate Latin1_General_100_BIN2",
    ordered: "TEXT collate Latin1_General_100_BIN2",
    sorted: "VALUE collate Latin1_General_100_BIN2",
    nulls_last: ["case when NAME is null then 1 else 0 end, VALUE", "VALUE desc"],
    same_names: false,
};

/// No session of this server refuses writes: what is not known to read is not let through by us.
const ACTING: Acting = Acting {
    reads: &[
        "SELECT", "WITH", "DECLARE", "PRINT", "RAISERROR", "USE", "WAITFOR", "SET", "BEGIN TRAN", "BEGIN TRANSACTION",
        "COMMIT", "ROLLBACK", "SAVE", "RETURN", "THROW", "GOTO",
    ],
    refused: &[
        "INSERT", "UPDATE", "DELETE", "MERGE", "TRUNCATE", "CREATE", "ALTER", "DROP", "GRANT", "REVOKE", "DENY", "BULK",
        "ENABLE", "DISABLE", "WRITETEXT", "UPDATETEXT",
    ],
    hidden: &["EXEC", "EXECUTE", "IF", "WHILE", "OPEN", "FETCH", "CLOSE", "DEALLOCATE"],
    leads_outside: &[
        "BACKUP", "RESTORE", "SHUTDOWN", "KILL", "RECONFIGURE", "DBCC", "CHECKPOINT", "ALTER SERVER", "ALTER DATABASE",
        "ALTER AVAILABILITY", "ADD", "SETUSER",
    ],
    outside: &[&["OPENROWSET"], &["OPENQUERY"], &["OPENDATASOURCE"]],
    settings: &[],
    functions: &["openrowset", "openquery", "opendatasource"],
    into: &[&["INTO"]],
};

const OBJECTS: &[&str] = &[
    "AGGREGATE", "APPLICATION", "ASSEMBLY", "ASYMMETRIC", "AVAILABILITY", "CERTIFICATE", "CLUSTERED", "COLUMNSTORE",
    "CREDENTIAL", "DATABASE", "DEFAULT", "ENDPOINT", "EVENT", "EXTERNAL", "FULLTEXT", "FUNCTION", "INDEX", "LOGIN", "MASTER",
    "NONCLUSTERED", "OR", "PARTITION", "PRIMARY", "PROC", "PROCEDURE", "QUEUE", "RESOURCE", "ROLE", "ROUTE", "RULE", "SCHEMA",
    "SECURITY", "SEQUENCE", "SERVER", "SERVICE", "SPATIAL", "STATISTICS", "SYMMETRIC", "SYNONYM", "TABLE", "TRIGGER", "TYPE",
    "UNIQUE", "USER", "VIEW", "WORKLOAD", "XML",
];

/// Words behind which the first word of a statement goes on with what stands before it.
const GRANTED: &[&str] = &["GRANT", "REVOKE", "DENY", "ON", "FOR", "AFTER", "OF", "THEN", "AS", "TO", "FROM"];

/// The language of SQL Server.
pub static SQLSERVER: Dialect = Dialect {
    name: "sqlserver",
    own_schemas: &["information_schema", "sys"],
    own_prefixes: &["sp_", "xp_", "fn_"],
    help: &[
        KEYWORDS,
        (HelpKind::Keyword, include_str!("keywords.txt")),
        (HelpKind::Function, include_str!("functions.txt")),
    ],
    lacks: &[
        "LIMIT", "OFFSET", "NATURAL JOIN", "USING", "RECURSIVE", "WINDOW", "BEGIN", "SAVEPOINT", "EXPLAIN",
        "CROSS JOIN LATERAL",
    ],
    quotes: &[
        Quote { prefix: Some(b'n'), ..TEXT },
        TEXT,
        Quote { open: b'[', close: b']', kind: QuoteKind::Name, ..TEXT },
        Quote { open: b'"', close: b'"', kind: QuoteKind::Name, ..TEXT },
    ],
    line_comments: &["--"],
    block_comment: Some(BlockComment { open: "/*", close: "*/", nests: true }),
    word_signs: b"@#",
    parameters: b"?",
    batch_word: Some("GO"),
    conditions: &["IF", "WHILE"],
    crosses_databases: true,
    national_texts: true,
    starters: &[
        Starter {
            continues_after: &["AS", "UNION", "ALL", "EXCEPT", "INTERSECT", "GRANT", "REVOKE", "DENY", "FOR", "ON", "IN"],
            ..starter("SELECT", Kind::Query, Role::Query)
        },
        Starter {
            continues_after: &["AS"],
            then: Then::TableExpression,
            ..starter("WITH", Kind::Query, Role::With)
        },
        // It begins no statement, but gives the rows of one.
        Starter { then: Then::Words(&[]), ..starter("VALUES", Kind::Query, Role::Query) },
        Starter { continues_after: GRANTED, ..starter("INSERT", Kind::Change, Role::Filled) },
        Starter { continues_after: GRANTED, ..starter("UPDATE", Kind::Change, Role::Change) },
        Starter { continues_after: GRANTED, ..starter("DELETE", Kind::Change, Role::Change) },
        Starter { continues_after: &["INNER", "LEFT", "RIGHT", "FULL"], ..starter("MERGE", Kind::Change, Role::Change) },
        Starter { then: Then::Words(&["TABLE"]), ..starter("TRUNCATE", Kind::Change, Role::Plain) },
        Starter { then: Then::Words(&["INSERT"]), ..starter("BULK", Kind::Change, Role::Plain) },
        Starter { then: Then::Words(OBJECTS), continues_after: GRANTED, ..starter("CREATE", Kind::Definition, Role::Plain) },
        Starter {
            ends_in_type: true,
            then: Then::Words(OBJECTS),
            continues_after: &["GRANT", "REVOKE", "DENY", "OR"],
            ..starter("ALTER", Kind::Definition, Role::Plain)
        },
        Starter { then: Then::Words(OBJECTS), ..starter("DROP", Kind::Definition, Role::Plain) },
        starter("GRANT", Kind::Definition, Role::Plain),
        starter("REVOKE", Kind::Definition, Role::Plain),
        starter("DENY", Kind::Definition, Role::Plain),
        starter("DECLARE", Kind::Setting, Role::Plain),
        Starter {
            continues_after: &["DELETE", "UPDATE", "ON"],
            continues_in: &["UPDATE", "MERGE", "ALTER", "WITH", "CREATE"],
            ..starter("SET", Kind::Setting, Role::Plain)
        },
        Starter { then: Then::Name(&[]), ..starter("USE", Kind::Setting, Role::Plain) },
        starter("PRINT", Kind::Other, Role::Plain),
        starter("RAISERROR", Kind::Other, Role::Plain),
        Starter { alone: true, ..unreserved("THROW", Kind::Other, Then::Anything) },
        // `INSERT INTO t EXEC p` takes its rows from one.
        starter("EXEC", Kind::Other, Role::Query),
        Starter {
            continues_after: &["WITH", "GRANT", "REVOKE", "DENY"],
            ..starter("EXECUTE", Kind::Other, Role::Query)
        },
        Starter {
            continues_after: &[
                "TABLE", "VIEW", "PROCEDURE", "PROC", "FUNCTION", "INDEX", "TRIGGER", "SCHEMA", "DATABASE", "TYPE",
                "SEQUENCE", "SYNONYM", "ROLE", "USER", "COLUMN", "CONSTRAINT",
            ],
            ..starter("IF", Kind::Other, Role::Plain)
        },
        starter("WHILE", Kind::Other, Role::Plain),
        Starter {
            then: Then::Words(&["TRAN", "TRANSACTION", "DISTRIBUTED"]),
            ..starter("BEGIN", Kind::Transaction, Role::Plain)
        },
        // Behind `END TRY` it goes on with it.
        Starter { continues_after: &["TRY"], ..starter("BEGIN", Kind::Other, Role::Plain) },
        starter("COMMIT", Kind::Transaction, Role::Plain),
        starter("ROLLBACK", Kind::Transaction, Role::Plain),
        Starter { then: Then::Words(&["TRAN", "TRANSACTION"]), ..starter("SAVE", Kind::Transaction, Role::Plain) },
        starter("WAITFOR", Kind::Other, Role::Plain),
        Starter { then: Then::Name(&[]), ..starter("OPEN", Kind::Other, Role::Plain) },
        Starter { continues_after: &["ROW", "ROWS"], ..starter("FETCH", Kind::Query, Role::Plain) },
        Starter { then: Then::Name(&[]), ..starter("CLOSE", Kind::Other, Role::Plain) },
        starter("DEALLOCATE", Kind::Other, Role::Plain),
        Starter { continues_after: &["GRANT", "REVOKE", "DENY"], then: Then::Words(&["DATABASE", "LOG", "CERTIFICATE"]), ..starter("BACKUP", Kind::Other, Role::Plain) },
        Starter { then: Then::Words(&["DATABASE", "LOG", "FILELISTONLY", "HEADERONLY", "VERIFYONLY"]), ..starter("RESTORE", Kind::Other, Role::Plain) },
        starter("KILL", Kind::Other, Role::Plain),
        starter("DBCC", Kind::Other, Role::Plain),
        starter("CHECKPOINT", Kind::Other, Role::Plain),
        starter("RECONFIGURE", Kind::Other, Role::Plain),
        Starter { then: Then::Words(&["TRIGGER"]), ..starter("ENABLE", Kind::Definition, Role::Plain) },
        Starter { then: Then::Words(&["TRIGGER"]), ..starter("DISABLE", Kind::Definition, Role::Plain) },
        starter("RETURN", Kind::Other, Role::Plain),
        starter("REVERT", Kind::Setting, Role::Plain),
        Starter { then: Then::Name(&[]), ..starter("GOTO", Kind::Other, Role::Plain) },
    ],
    bodies: &[
        to_the_end("CREATE", "PROCEDURE"),
        to_the_end("CREATE", "PROC"),
        to_the_end("CREATE", "FUNCTION"),
        to_the_end("CREATE", "TRIGGER"),
        to_the_end("CREATE", "VIEW"),
        to_the_end("ALTER", "PROCEDURE"),
        to_the_end("ALTER", "PROC"),
        to_the_end("ALTER", "FUNCTION"),
        to_the_end("ALTER", "TRIGGER"),
        to_the_end("ALTER", "VIEW"),
        BLOCK,
    ],
    name_quotes: ['[', ']'],
    quoted_names_may_be_text: false,
    types: &[
        "int", "nvarchar(100)", "bigint", "datetime2", "decimal(12,2)", "varchar(100)", "bit", "date", "uniqueidentifier",
        "nvarchar(max)", "varchar(max)", "smallint", "tinyint", "time", "datetimeoffset", "datetime", "smalldatetime", "money",
        "smallmoney", "numeric", "float", "real", "char", "nchar", "binary", "varbinary(max)", "xml", "rowversion",
        "sql_variant", "hierarchyid", "geography", "geometry", "sysname",
    ],
    new_table: [
        "create table ${1:‹name›} (\n    ${2:id} bigint not null identity primary key,\n    ${3:‹column›} ${4:nvarchar(200)} not null\n)",
        "create table ${1:‹name›} (\n    ${2:‹id›} ${3:bigint} not null identity(1,1),\n    ${4:‹column›} ${5:nvarchar(200)} ${6:collate Latin1_General_100_CI_AS_SC_UTF8} ${7:not null} ${8:constraint ‹name› default ('')},\n    ${9:‹other_id›} ${10:bigint} null,\n    ${11:‹computed›} as (${12:‹expression›}) ${13:persisted},\n    constraint ${14:‹name›} primary key ${15:clustered} (${16:‹id›}),\n    constraint ${17:‹name›} unique (${18:‹column›}),\n    constraint ${19:‹name›} foreign key (${20:‹other_id›}) references ${21:‹other›} (${22:‹id›}) on delete ${23:no action} on update ${24:cascade},\n    constraint ${25:‹name›} check (${26:‹condition›})\n)",
    ],
    new_index: [
        "create index NAME on TABLE (COLUMN)",
        "create ${3:unique }${4:nonclustered }index NAME on TABLE (COLUMN ${5:asc})${6: include (‹column›)}${7: where ‹condition›}${8: with (online = on)}",
    ],
    first_rows: "select top (COUNT) * from TABLE",
    clauses: &[
        "MERGE",
        "MERGE INTO",
        "USING",
        "WHEN MATCHED",
        "WHEN NOT MATCHED",
        "CROSS APPLY",
        "OUTER APPLY",
        "OUTPUT",
        "OPTION",
        "FOR JSON",
        "FOR XML",
    ],
    // Only with its schema is a function one of the database's own.
    calls: ["select SCHEMA.NAME(ARGUMENTS)", "exec NAME ARGUMENTS"],
    generated: ["TYPE identity", "as (EXPRESSION)"],
    comments: [
        "exec sp_addextendedproperty 'MS_Description', TEXT, 'schema', SCHEMA, 'KIND', TABLE",
        "exec sp_addextendedproperty 'MS_Description', TEXT, 'schema', SCHEMA, 'KIND', TABLE, 'column', COLUMN",
    ],
    can_end: &[
        "ASC", "BROWSE", "CASCADE", "CATCH", "CHECKPOINT", "COMMIT", "CURRENT_DATE", "CURRENT_TIME", "CURRENT_TIMESTAMP",
        "CURRENT_USER", "DEFAULT", "DESC", "END", "HOLDLOCK", "KEY", "NULL", "OFF", "ON", "ONLY", "OUT", "OUTPUT", "PERCENT",
        "RECOMPILE", "RECONFIGURE", "RETURN", "REVERT", "ROLLBACK", "SESSION_USER", "SYSTEM_USER", "TIES", "TRAN",
        "TRANSACTION", "TRY", "USER", "WORK",
    ],
    phrases: Some(&phrases::PHRASES),
    habits: include_str!("habits.txt"),
    keywords: keywords::KEYWORDS,
    acting: Some(&ACTING),
    comparing: Some(&COMPARING),
    altering: Some(&ALTERING),
    changing: Some(&CHANGING),
    plans: Some(&plan::PLANS),
    transaction: TransactionWords {
        begin: "begin transaction",
        commit: "commit",
        roll_back: "rollback",
        savepoint: "save transaction here",
        back_to_savepoint: "rollback transaction here",
    },
    part_of_json: Some("json_value({column}, '$.{key}')"),
    ..PLAIN
};
