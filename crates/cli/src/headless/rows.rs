//! `jaunty rows`: the kept rows of a run, without a word to its database.

use std::sync::Arc;

use jaunty_core::archive::Archive;
use jaunty_core::arrange::pick::Part;
use jaunty_core::chart::plot::Texts;
use jaunty_core::logbook::Entry;
use jaunty_core::run::Run;
use jaunty_language::dialect::SQLITE;

use super::interrupt::Interrupt;
use super::log::logbook;
use super::output::Output;
use crate::args::Rows;
use crate::failure::Failure;

/// What the logbook has of a run, by its number or `last`.
pub fn entry(run: &str) -> Result<Entry, Failure> {
    let logbook = logbook()?;
    let found = match run.parse::<i64>() {
        Ok(number) => logbook.entry(number),
        Err(_) if run == "last" => logbook.last(),
        Err(_) => return Err(Failure::Usage(format!("\"{run}\" is not a run number, and not \"last\""))),
    };
    let entry = found.map_err(|error| Failure::Usage(error.to_string()))?;
    entry.ok_or_else(|| Failure::Usage(format!("no run {run} in the logbook; \"jaunty log\" lists all runs")))
}

/// The kept rows of a run, by its number or `last`: the archive of one of its results, from 1, and what is told of it.
pub fn kept(run: &str, result: usize) -> Result<(Archive, Texts), Failure> {
    let entry = entry(run)?;
    let with_rows = entry.archives();
    let path = result.checked_sub(1).and_then(|at| with_rows.get(at)).ok_or_else(|| {
        Failure::Usage(match with_rows.len() {
            0 => format!("run {} has no rows", entry.number),
            n => format!("run {} has {n} results with rows; --result takes 1 to {n}", entry.number),
        })
    })?;
    let texts = Run::remembered(entry.clone()).texts();
    let archive = Archive::open(path).map_err(|error| {
        Failure::Usage(format!("{error}. Rows are kept up to the limit in the settings; run it again"))
    })?;
    Ok((archive, texts))
}

/// Writes them.
pub fn write(args: &Rows) -> Result<(), Failure> {
    if let Some(output) = args.written.output() {
        super::may_be_replaced(output, &[])?;
    }
    let options = args.written.options(&SQLITE)?;
    let (archive, texts) = kept(&args.run, args.result)?;
    if args.from == 0 {
        return Err(Failure::Usage("rows start at 1".into()));
    }
    let from = args.from - 1;
    let to = args.count.map_or(u64::MAX, |count| from.saturating_add(count)).min(archive.rows());
    let part = Part { rows: from.min(to)..to, ..Part::whole(Arc::new(archive)) };
    let interrupt = Interrupt::listen();
    interrupt.around(
        || (),
        || {
            let mut output = Output::open(args.written.output(), args.written.format(), &options)?;
            output.about(texts);
            let written = output.write(&part, &interrupt);
            output.close(written.is_ok())?;
            written
        },
    )
}
