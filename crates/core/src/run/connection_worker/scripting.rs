//! Running a script while it is read: one run of the logbook, whose statements' rows are not kept.

use std::fs::File;
use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::{Arc, PoisonError};

use ropey::Rope;

use super::{Report, Worker};
use crate::logbook::Outcome;
use crate::run::execute::note_messages;
use crate::run::kept::RunResult;
use crate::run::script::carry_out::{FailedStatement, Unfinished, Wanted, Watcher, carry_out};
use crate::run::script::{Meter, Noted, Script, outcome, statement};
use crate::run::state::Run;
use jaunty_seam::engine::load::Nothing;
use jaunty_seam::engine::{Message, Sink, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};

/// A script to be run.
#[derive(Debug, Clone)]
pub struct ScriptOrder {
    /// Its name, as a person knows it.
    pub name: String,
    /// Its text.
    pub text: ScriptText,
    /// Its size in bytes.
    pub size: u64,
    /// What is wanted of it.
    pub wanted: Wanted,
}

/// The text of a script.
#[derive(Debug, Clone)]
pub enum ScriptText {
    /// That of a file.
    File(PathBuf),
    /// That of a buffer, which may not be saved; and its file.
    Buffer(Rope, PathBuf),
}

/// Reads a rope, which shares its text with the buffer that it is of.
struct RopeReader {
    rope: Rope,
    at: usize,
}

impl Read for RopeReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let Some((chunk, start, ..)) = self.rope.get_chunk_at_byte(self.at) else { return Ok(0) };
        let rest = chunk.as_bytes().get(self.at - start..).unwrap_or_default();
        let length = rest.len().min(buffer.len());
        if let (Some(to), Some(from)) = (buffer.get_mut(..length), rest.get(..length)) {
            to.copy_from_slice(from);
        }
        self.at += length;
        Ok(length)
    }
}

/// What statements say on the way is noted in their run; their rows are not kept.
struct Noting<'a> {
    run: &'a Run,
}

impl Watcher for Noting<'_> {
    fn sink(&mut self) -> Box<dyn Sink> {
        Box::new(Nothing)
    }

    fn failed(&mut self, failed: &FailedStatement) {
        self.run.add_message(Message::new("error", failed.to_string()));
    }

    fn note(&mut self, note: &str) {
        self.run.add_message(Message::new("note", note));
    }
}

impl Worker {
    pub(super) fn run_script(&mut self, order: ScriptOrder, stop: &Stop) {
        self.drop_if_lost();
        if std::mem::take(&mut self.transaction_lost) {
            // Never silently begun anew: what was meant for that transaction is not run outside of it.
            (self.tell)(Report::ScriptRefused(
                "the connection was lost with a transaction open; nothing of the script was run".into(),
            ));
        } else if self.connect(stop) {
            self.carry_out_script(order, stop);
        } else if self.wants_secret {
            self.waiting = vec![(super::Order::Script(Box::new(order)), stop.clone())];
        }
        (self.tell)(Report::Idle { left_out: 0 });
    }

    fn carry_out_script(&mut self, order: ScriptOrder, stop: &Stop) {
        let Some((session, location)) = self.session.as_mut() else { return };
        let ScriptOrder { name, text, size, wanted } = order;
        let (reader, buffer): (Box<dyn Read + Send>, PathBuf) = match text {
            ScriptText::Buffer(rope, path) => (Box::new(RopeReader { rope, at: 0 }), path),
            ScriptText::File(path) => match File::open(&path) {
                Ok(file) => (Box::new(file), path),
                Err(error) => {
                    return (self.tell)(Report::ScriptRefused(format!("{} cannot be read: {error}", path.display())));
                }
            },
        };
        let noted = Noted::begin(&self.keeping, (&self.profile, location), &name, wanted);
        let meter = Arc::new(Meter::default());
        let run = Run::begin(statement(&name, wanted), Some(format!("run {name}")), noted.number());
        let run = run.until(stop).at(&self.profile.name, &location.database).of_script(&meter, size);
        let run = Arc::new(run);
        let told = (Arc::clone(&self.current), Arc::clone(&self.tell));
        let tell = |run: &Arc<Run>| {
            let running = run.end().is_none().then(|| Arc::clone(run));
            told.0.lock().unwrap_or_else(PoisonError::into_inner).run = running;
            (told.1)(Report::Run(Arc::clone(run)));
        };
        tell(&run);
        let mut script = Script::new(reader, self.engine.dialect(), Some(buffer), &meter).until(stop);
        let mut watcher = Noting { run: &run };
        let (done, ended) = carry_out(session.as_mut(), &mut script, wanted, &mut watcher, (&meter, stop));
        run.set_statements(done.statements);
        run.add_result(RunResult::Affected(Some(done.affected)));
        if let Some(number) = noted.number() {
            note_messages(&run, number, &self.keeping);
        }
        noted.end(&self.keeping, done, ended.as_ref().err(), run.duration());
        let (how, _) = outcome(ended.as_ref().err());
        let error = ended.err().filter(|_| how != Outcome::Stopped).map(of_script);
        let lost = error.as_ref().is_some_and(|error| error.kind == ErrorKind::Lost);
        run.set_end(if lost { Outcome::CutShort } else { how }, error);
        tell(&run);
        // Any statement of it may have been a definition.
        (self.reading, self.stale) = (None, true);
        if lost {
            let transaction = self.lose();
            (self.tell)(Report::Lost { transaction });
            return;
        }
        self.moved();
        match self.session.as_ref().and_then(|(_, location)| location.transaction) {
            // Rolled back, it takes the script with it, also what of it had run.
            Some(_) => self.in_transaction.note(&run),
            // It ended one, in whichever way.
            None => drop(self.in_transaction.roll_back()),
        }
    }
}

/// The error of a script: its words say where in the script, so that the place in the statement means nothing any more.
fn of_script(unfinished: Unfinished) -> EngineError {
    let message = unfinished.to_string();
    match unfinished {
        Unfinished::Statement(failed) => EngineError::new(failed.error.kind, message),
        Unfinished::Transaction(error) => EngineError::new(error.kind, message),
        _ => EngineError::new(ErrorKind::Local, message),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rope_is_read_as_its_text() {
        let text: String = (0..5_000).map(|n| format!("insert into ports values ({n}, 'čaj 🛳');\n")).collect();
        let mut rope = Rope::from_str(&text);
        rope.insert(77, "-- put in between\n");
        let mut read = String::new();
        RopeReader { rope: rope.clone(), at: 0 }.read_to_string(&mut read).unwrap();
        assert_eq!(read, rope.to_string());
        assert_eq!(RopeReader { rope: Rope::new(), at: 0 }.read_to_string(&mut String::new()).unwrap(), 0);
    }
}
