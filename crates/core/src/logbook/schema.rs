//! The tables of the logbook.

use std::time::{Duration, Instant};

use rusqlite::{Connection, ErrorCode, TransactionBehavior};

/// The format that this version writes.
pub(super) const FORMAT: i64 = 7;

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
const STEPS: [&str; 6] = [
    "
    alter table runs add column bytes integer;                      -- of its archives
    alter table runs add column pinned integer not null default 0;  -- its rows stay, however old
    create index runs_by_time on runs(started_ms);",
    "
    alter table runs add column session text;      -- the server's own number of the session
    alter table runs add column parameters text;   -- JSON: pairs of a name and a value as it is written
    create index runs_with_parameters on runs(buffer, number) where parameters is not null;",
    // A number is not given twice, also not after its run was removed: files are named by it.
    "
    create table numbers (last integer not null) strict;
    insert into numbers select coalesce(max(number), 0) from runs;",
    "
    alter table runs add column rolled_back integer not null default 0;  -- its transaction was
    ",
    // Values of rows that were changed are on disk for as long as the run is known.
    "
    create table slips (
        run integer primary key references runs on delete cascade,
        back text not null               -- JSON: the slip that takes the run back
    ) strict;
    ",
    "
    create table messages (
        run integer not null references runs on delete cascade,
        position integer not null,
        severity text not null,          -- in the server's own word
        code text,
        line integer,                    -- of the statement, from 1
        text text not null,
        primary key (run, position)
    ) strict, without rowid;
    alter table runs add column messages_left_out integer not null default 0;  -- that came after those
    ",
];

/// How long to wait for others who write.
const PATIENCE: Duration = Duration::from_secs(30);

/// Makes the tables if they are not there; returns the file's format. Of many programs that start at once, one does
/// it and the others wait.
pub(super) fn prepare(connection: &mut Connection) -> rusqlite::Result<i64> {
    connection.busy_timeout(PATIENCE)?;
    let format = |connection: &Connection| connection.query_row("pragma user_version", [], |row| row.get::<_, i64>(0));
    if format(connection)? > FORMAT {
        return format(connection);
    }
    write_ahead(connection)?;
    connection.execute_batch("pragma synchronous = normal; pragma foreign_keys = on;")?;
    if format(connection)? < FORMAT {
        let alone = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        // Another may have done it meanwhile.
        let format = format(&alone)?;
        if format > FORMAT {
            return Ok(format);
        }
        if format < FORMAT {
            let done = usize::try_from(format.max(1) - 1).unwrap_or(0);
            let steps: String = STEPS.get(done..).unwrap_or_default().concat();
            alone.execute_batch(&format!("{TABLES} {steps} pragma user_version = {FORMAT};"))?;
        }
        alone.commit()?;
    }
    Ok(FORMAT)
}

/// Sets the journal mode, once. SQLite does not wait for a lock to do it, so we do.
fn write_ahead(connection: &Connection) -> rusqlite::Result<()> {
    let since = Instant::now();
    let mode = |statement: &str| connection.query_row(statement, [], |row| row.get::<_, String>(0));
    loop {
        match mode("pragma journal_mode")
            .and_then(|now| if now == "wal" { Ok(now) } else { mode("pragma journal_mode = wal") })
        {
            Ok(_) => return Ok(()),
            Err(error) if error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy) && since.elapsed() < PATIENCE => {
                std::thread::sleep(Duration::from_millis(5));
            }
            Err(error) => return Err(error),
        }
    }
}
