//! Running a script while it is read: a file that is not opened, or a buffer that is too large for a run of each of its
//! statements.

use std::path::Path;

use jaunty_core::run::connection_worker::{ScriptOrder, ScriptText};
use jaunty_core::run::script::carry_out::Wanted;
use jaunty_core::run::script::statement;
use jaunty_core::words;
use jaunty_language::dialect::Dialect;
use jaunty_language::outline::StatementId;
use jaunty_language::text::clean;
use jaunty_seam::engine::Location;
use jaunty_seam::profile::{Guard, path};

use super::overlay::Prompt;
use super::overlay::prompt::Asked;
use super::{Answered, App, Overlay, Question};
use crate::work::{Done, Kind};

/// From this many bytes on all statements of a buffer are run as a script: a run of each would take more memory than the
/// buffer.
const LARGE: usize = 16 << 20;

impl App {
    /// Asks which file is to be run.
    pub fn ask_for_script(&mut self) {
        self.ask_for_script_as("");
    }

    fn ask_for_script_as(&mut self, text: &str) {
        let title = "run the script FILE, or FILE:LINE to begin there".to_owned();
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::Script, text)));
    }

    /// Looks at the file that a person named, beside the screen: a disk may take its time.
    pub(in crate::app) fn run_script_file(&mut self, text: &str) {
        let (text, folder) = (text.trim().to_owned(), self.folder_for_rows());
        if text.is_empty() {
            return self.tell_wrong("a script has a file");
        }
        self.begin_work(Kind::Script, format!("looking at {}", clean::clean(&text)), move |_| {
            Done::Script(script_of(&text, &folder).map(Box::new).map_err(|why| (text, why)))
        });
    }

    /// Takes in what the file is: asks whether it is to be run, or again for a file.
    pub(super) fn take_script(&mut self, found: Result<Box<ScriptOrder>, (String, String)>) {
        match found {
            Ok(order) => self.ask_whether_to_run(*order),
            Err((text, why)) => {
                // What is open meanwhile stays.
                if self.overlay.is_none() {
                    self.ask_for_script_as(&text);
                }
                self.tell_wrong(why);
            }
        }
    }

    /// Asks whether the buffer in hand is to be run as a script. False where it is small enough to run statement by
    /// statement.
    pub(super) fn runs_as_script(&mut self) -> bool {
        let rope = self.buffer.document.rope();
        if rope.len_bytes() < LARGE || why_not(self.buffer.document.outline().dialect()).is_some() {
            return false;
        }
        let (rope, path) = (rope.clone(), self.buffer.path.clone());
        let wanted = Wanted { session_goes_on: true, ..Wanted::default() };
        let size = rope.len_bytes() as u64;
        self.ask_whether_to_run(ScriptOrder {
            name: self.buffer.name(),
            text: ScriptText::Buffer(rope, path),
            size,
            wanted,
        });
        true
    }

    fn ask_whether_to_run(&mut self, order: ScriptOrder) {
        if !self.connection.has_worker() {
            return self.list_connections();
        }
        if self.connection.is_busy() {
            return self.tell_wrong("a statement runs; run the script when it is done");
        }
        let dialect = self.buffer.document.outline().dialect();
        if let Some(why) = why_not(dialect) {
            return self.tell_wrong(why);
        }
        let (name, connection) = (clean::clean(&order.name).into_owned(), self.connection.name());
        let from = match order.wanted.from {
            1 => String::new(),
            line => format!(", from line {line} on"),
        };
        let mut about = vec![
            "Statements run while it is read. The logbook has one run for all of them; rows of queries are not kept."
                .to_owned(),
        ];
        let guard = self.connection.profile.as_ref().map_or(Guard::Open, |profile| profile.guard);
        match guard {
            Guard::Open => {}
            Guard::Ask => about.push(format!("{connection} asks before it writes; it does not ask for each of these.")),
            Guard::ReadOnly => about.push(format!("{connection} is read-only: the first that writes is refused.")),
        }
        let in_transaction = self.connection.location.as_ref().is_some_and(Location::in_transaction);
        if in_transaction {
            about.push("They run in the transaction that is open.".to_owned());
        }
        let mut answers =
            vec![('y', "yes, up to the first that fails", Answered::Script { whole: false, keep_going: false })];
        if !in_transaction && !dialect.transaction.begin.is_empty() {
            let all = "yes, in one transaction: everything or nothing";
            answers.push(('t', all, Answered::Script { whole: true, keep_going: false }));
        }
        answers.push((
            'g',
            "yes, and go on after those that fail",
            Answered::Script { whole: false, keep_going: true },
        ));
        answers.push(('n', "no", Answered::Nothing));
        let text = format!("Run {name} ({}) on {connection}{from}?", words::bytes(order.size));
        self.overlay =
            Some(Overlay::Question(Question { about, script: Some(Box::new(order)), ..Question::new(text, &answers) }));
    }

    /// Runs a script that a person has said yes to.
    pub(in crate::app) fn run_script(&mut self, mut order: Box<ScriptOrder>, (whole, keep_going): (bool, bool)) {
        order.wanted = Wanted { single_transaction: whole, keep_going, ..order.wanted };
        self.status = None;
        self.aside = Some(StatementId::of(&statement(&order.name, order.wanted)));
        self.connection.begin_script(order);
    }
}

/// Why scripts of a language are not run while they are read, if so.
fn why_not(dialect: &Dialect) -> Option<&'static str> {
    let lines = "statements end with their lines here: open the script, and run all of it";
    dialect.ends_with_line.then_some(lines)
}

/// The script that a person means: a file, or one from a line on.
fn script_of(text: &str, folder: &Path) -> Result<ScriptOrder, String> {
    let whole = path::written(Path::new(text), folder);
    // A file whose name ends like a line is that file.
    let (path, from) = match text.rsplit_once(':').filter(|_| !whole.is_file()) {
        Some((file, line)) if line.parse::<u64>().is_ok_and(|line| line > 0) => {
            (path::written(Path::new(file), folder), line.parse().unwrap_or(1))
        }
        _ => (whole, 1),
    };
    let shown = clean::clean(&path.display().to_string()).into_owned();
    let size = match std::fs::metadata(&path) {
        Ok(data) if data.is_dir() => return Err(format!("{shown} is a folder")),
        Ok(data) => data.len(),
        Err(error) => return Err(format!("{shown} cannot be read: {error}")),
    };
    let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let wanted = Wanted { from, session_goes_on: true, ..Wanted::default() };
    Ok(ScriptOrder { name, text: ScriptText::File(path), size, wanted })
}
