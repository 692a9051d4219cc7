//! `jaunty log`: what ran.

use chrono::{Local, NaiveDate};
use jaunty_core::logbook::{Entry, Logbook, LogbookError, Query};
use jaunty_core::words;
use jaunty_language::text::clean::clean;
use jaunty_serve::service::entry_json;

use crate::args::Log;
use crate::failure::Failure;

/// Opens the logbook for a command that reads it. One that cannot be written to is read all the same.
pub fn logbook() -> Result<Logbook, Failure> {
    let folders = crate::open::folders()?;
    let (path, archives) = (folders.logbook(), folders.archives());
    Logbook::open(&path, &archives).or_else(|error| match error {
        LogbookError::Newer { .. } => Err(Failure::Usage(error.to_string())),
        _ => {
            let read = Logbook::open_to_read(&path, &archives);
            let read = read.map_err(|_| Failure::Usage(error.to_string()))?;
            eprintln!("jaunty: {error}; it is read only");
            Ok(read)
        }
    })
}

/// Lists runs, or removes them.
pub fn list(args: &Log) -> Result<(), Failure> {
    let query = query(args, Local::now().date_naive())?;
    let logbook = logbook()?;
    if args.remove && !logbook.keeps() {
        return Err(Failure::Usage("the logbook cannot be written to; no run was removed".into()));
    }
    let failed = |error: LogbookError| Failure::Usage(error.to_string());
    let entries = logbook.find(&query, args.count).map_err(failed)?;
    if args.remove {
        for entry in &entries {
            logbook.remove(entry).map_err(failed)?;
        }
        return super::print(&format!("{} removed\n", words::count(entries.len() as u64, "run")));
    }
    if entries.is_empty() && !args.json {
        eprintln!("no runs found");
    }
    let lines: String = entries.iter().map(|entry| if args.json { json(entry) } else { line(entry) }).collect();
    super::print(&lines)
}

/// What the command line looks for: what is written there as on the screen, and what its options say.
fn query(args: &Log, today: NaiveDate) -> Result<Query, Failure> {
    // A word with a blank is one word, as the shell has it.
    let mut words: Vec<String> = args.query.iter().map(|word| format!("\"{word}\"")).collect();
    words.extend(args.outcome.as_ref().map(|outcome| format!("\"outcome={outcome}\"")));
    if let Some(day) = &args.day {
        if !["today", "yesterday"].contains(&day.as_str()) && day.parse::<NaiveDate>().is_err() {
            return Err(Failure::Usage(format!(
                "\"{day}\" is not a day; write a date such as 2026-11-23, or today or yesterday"
            )));
        }
        words.push(format!("day={day}"));
    }
    let written = words.join(" ");
    if let Some(mistake) = Query::mistake(&written) {
        return Err(Failure::Usage(mistake));
    }
    let query = Query::read(&written, today);
    Ok(match &args.connection {
        Some(connection) => query.on(connection),
        None => query,
    })
}

fn line(entry: &Entry) -> String {
    let title = entry.title.as_deref().unwrap_or_else(|| entry.statement.lines().next().unwrap_or_default());
    let took = words::duration(std::time::Duration::from_millis(entry.ended.duration_ms.unsigned_abs()));
    let mut line = format!(
        "{:>6}  {:<19}  {:<9}  {:>8}  {:>12}  {:<16}  {}\n",
        entry.number,
        entry.moment(),
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
    format!("{}\n", entry_json(entry))
}
