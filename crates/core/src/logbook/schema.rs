//! The tables of the logbook.

use rusqlite::Connection;

/// The format that this version writes.
pub(super) const FORMAT: i64 = 3;

const TABLES: &str = "
    create table if not exists runs (
        number integer primary key,      -- in the order in which they began
        instance text not null,          -- the instance of the program; its lock tells whether it lives
        connection text not null,
        engine text not null,
        database text not null,
        buffer text,
        title text,
        statement text not null,
        statement_id text not null,      -- 32 hexadecimal digits, from the statement's text
        started_ms integer not null,     -- since 1970
        first_row_ms integer,            -- since it began
        duration_ms integer,
        row_count integer,
        outcome text not null,           -- running, done, failed, stopped, cut short
        error text
    ) strict;
    create index if not exists runs_by_statement on runs(connection, statement_id, number);
    create table if not exists results (
        run integer not null references runs on delete cascade,
        position integer not null,
        archive text,                    -- a file in the folder of archives; none without rows
        affected integer,
        primary key (run, position)
    ) strict, without rowid;";

/// What came with each format after the first.
const STEPS: [&str; 2] = [
    "
    alter table runs add column bytes integer;                      -- of its archives
    alter table runs add column pinned integer not null default 0;  -- its rows stay, however old
    create index runs_by_time on runs(started_ms);",
    "
    alter table runs add column session text;      -- the server's own number of the session
    alter table runs add column parameters text;   -- JSON: pairs of a name and a value as it is written
    create index runs_with_parameters on runs(buffer, number) where parameters is not null;",
];

/// Makes the tables if they are not there; returns the file's format.
pub(super) fn prepare(connection: &Connection) -> rusqlite::Result<i64> {
    let format: i64 = connection.query_row("pragma user_version", [], |row| row.get(0))?;
    if format > FORMAT {
        return Ok(format);
    }
    // The journal mode answers with a row, so it cannot go through `execute_batch`.
    connection.query_row("pragma journal_mode = wal", [], |_| Ok(()))?;
    connection.execute_batch("pragma synchronous = normal; pragma foreign_keys = on;")?;
    if format < FORMAT {
        let done = usize::try_from(format.max(1) - 1).unwrap_or(0);
        let steps: String = STEPS.get(done..).unwrap_or_default().concat();
        connection
            .execute_batch(&format!("begin immediate; {TABLES} {steps} pragma user_version = {FORMAT}; commit;"))?;
    }
    Ok(FORMAT)
}
