//! What statements changed, told as they go. A dump has thousands of statements that only differ in their values: the
//! first of them is told at once, the others together.

use jaunty_core::words;

/// So many first words say what a statement does, and to what: `insert into ports`, `delete from ports`.
const WORDS: usize = 3;

/// What is told on standard error.
pub struct Changes {
    /// Whether nothing is.
    quiet: bool,
    /// Whether there are several statements, so that each needs its line.
    several: bool,
    /// What the latest does, and the others like it that are not told yet.
    latest: String,
    untold: Option<Untold>,
}

#[derive(Default)]
struct Untold {
    line: usize,
    statements: u64,
    rows: u64,
}

impl Changes {
    /// Of so many statements.
    pub fn of(statements: usize, quiet: bool) -> Changes {
        Changes { quiet, several: statements > 1, latest: String::new(), untold: None }
    }

    /// A statement that ended well; `rows` is what it changed, if the server says.
    pub fn take(&mut self, statement: &str, line: usize, rows: Option<u64>) {
        let Some(rows) = rows.filter(|_| !self.quiet) else { return self.tell() };
        let does = statement.split_whitespace().take(WORDS).collect::<Vec<_>>().join(" ").to_lowercase();
        if self.several && does == self.latest {
            let untold = self.untold.get_or_insert_default();
            (untold.line, untold.statements, untold.rows) = (line, untold.statements + 1, untold.rows + rows);
            return;
        }
        self.tell();
        self.latest = does;
        let at = if self.several { format!("line {line}: ") } else { String::new() };
        eprintln!("{at}{} changed", words::count(rows, "row"));
    }

    /// Tells what is not told yet.
    pub fn tell(&mut self) {
        self.latest.clear();
        match self.untold.take() {
            Some(Untold { line, statements: 1, rows }) => {
                eprintln!("line {line}: {} changed", words::count(rows, "row"))
            }
            Some(Untold { line, statements, rows }) => eprintln!(
                "{} like it, to line {line}: {} changed",
                words::count(statements, "more statement"),
                words::count(rows, "row")
            ),
            None => {}
        }
    }
}

impl Drop for Changes {
    fn drop(&mut self) {
        self.tell();
    }
}
