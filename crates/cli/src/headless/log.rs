//! `jaunty log`: what ran.

use chrono::{Days, Local, NaiveDate, TimeZone};
use jaunty_core::logbook::{Entry, Filter, KeptResult, Outcome};
use jaunty_core::run::Keeping;
use jaunty_core::text::clean::clean;
use jaunty_tui::{settings, words};

use crate::args::Log;
use crate::failure::Failure;

/// Opens the logbook for a command that needs it.
pub fn keeping() -> Result<Keeping, Failure> {
    let folders = crate::open::folders()?;
    let keeping = Keeping::open(&folders, settings::load(&folders.settings()).retention);
    match keeping.trouble() {
        Some(trouble) => Err(Failure::Usage(trouble.to_owned())),
        None => Ok(keeping),
    }
}

/// Lists runs, or removes them.
pub fn list(args: &Log) -> Result<(), Failure> {
    let filter = Filter {
        text: args.text.clone().unwrap_or_default(),
        connection: args.connection.clone(),
        outcome: args.outcome.as_deref().and_then(Outcome::from_word),
        began_ms: args.day.as_deref().map(day).transpose()?,
        statement_id: None,
    };
    let keeping = keeping()?;
    let Some(logbook) = keeping.logbook() else { return Ok(()) };
    let failed = |error: jaunty_core::logbook::LogbookError| Failure::Usage(error.to_string());
    let entries = logbook.find(&filter, args.count).map_err(failed)?;
    if args.remove {
        for entry in &entries {
            logbook.remove(entry).map_err(failed)?;
        }
        return super::print(&format!("{} removed\n", words::count(entries.len() as u64, "run")));
    }
    let lines: String = entries.iter().map(|entry| if args.json { json(entry) } else { line(entry) }).collect();
    super::print(&lines)
}

/// A day in local time, in milliseconds since 1970: its beginning, and that of the next.
fn day(text: &str) -> Result<(i64, i64), Failure> {
    let today = Local::now().date_naive();
    let day = match text {
        "today" => Some(today),
        "yesterday" => today.checked_sub_days(Days::new(1)),
        text => text.parse::<NaiveDate>().ok(),
    };
    let wrong = || Failure::Usage(format!("\"{text}\" is no day; write it as 2026-11-23, today or yesterday"));
    let day = day.ok_or_else(wrong)?;
    let begins = |day: NaiveDate| {
        let midnight = Local.from_local_datetime(&day.and_time(chrono::NaiveTime::MIN)).earliest();
        midnight.map(|time| time.timestamp_millis())
    };
    let next = day.checked_add_days(Days::new(1)).ok_or_else(wrong)?;
    begins(day).zip(begins(next)).ok_or_else(wrong)
}

fn line(entry: &Entry) -> String {
    let began = words::moment(entry.started_ms);
    let title = entry.title.as_deref().unwrap_or_else(|| entry.statement.lines().next().unwrap_or_default());
    let took = words::duration(std::time::Duration::from_millis(entry.ended.duration_ms.unsigned_abs()));
    let mut line = format!(
        "{:>6}  {began}  {:<9}  {:>8}  {:>12}  {:<16}  {}\n",
        entry.number,
        entry.outcome.word(),
        took,
        words::yielded_by(entry),
        clean(&entry.connection),
        clean(title)
    );
    if let Some(error) = &entry.ended.error {
        line.push_str(&format!("{:>8}{}\n", "", clean(error.lines().next().unwrap_or_default())));
    }
    line
}

fn json(entry: &Entry) -> String {
    let results: Vec<_> = entry
        .results
        .iter()
        .map(|result| match result {
            KeptResult::Rows(path) => serde_json::json!({ "rows": path }),
            KeptResult::Affected(rows) => serde_json::json!({ "changed": rows }),
        })
        .collect();
    let object = serde_json::json!({
        "run": entry.number,
        "connection": entry.connection,
        "database": entry.database,
        "title": entry.title,
        "statement": entry.statement,
        "parameters": entry.values.iter().map(|(name, value)| (name.clone(), value.written().into())).collect::<serde_json::Map<_, _>>(),
        "session": entry.session,
        "started_ms": entry.started_ms,
        "first_row_ms": entry.ended.first_row_ms,
        "duration_ms": entry.ended.duration_ms,
        "rows": entry.ended.rows,
        "bytes": entry.ended.bytes,
        "outcome": entry.outcome.word(),
        "error": entry.ended.error,
        "pinned": entry.pinned,
        "results": results,
    });
    format!("{object}\n")
}
