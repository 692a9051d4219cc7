//! What a command line names to be run: statements of a text, a file or a line of it, with the values of their parameters.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use jaunty_core::connection::comment;
use jaunty_core::files::encoding::{self, Encoding};
use jaunty_core::run::execute::Job;
use jaunty_core::run::prepare::{Meant, Unready, prepare};
use jaunty_core::words;
use jaunty_language::dialect::Dialect;
use jaunty_language::host::{self, Code};
use jaunty_language::outline::Outline;
use jaunty_language::split::Statement;
use jaunty_language::statement::parameters::{self, ParameterValue};
use jaunty_language::text::clean::clean;
use jaunty_language::text::rope;
use jaunty_seam::error::{EngineError, ErrorKind};

use crate::args;
use crate::failure::Failure;

/// A statement and the line it begins at.
pub struct Task {
    pub job: Job,
    pub line: usize,
    /// The values that comments above it give.
    pub noted: Vec<parameters::Value>,
}

/// The statements of a text, as tasks.
pub fn tasks_of(
    text: &str,
    dialect: &'static Dialect,
    line: Option<usize>,
    buffer: Option<&Path>,
) -> Result<Vec<Task>, Failure> {
    tasks_in(&Statements { text: text.to_owned(), code: None }, dialect, line, buffer)
}

/// The statements of a file, as tasks.
pub fn tasks_in(
    statements: &Statements,
    dialect: &'static Dialect,
    line: Option<usize>,
    buffer: Option<&Path>,
) -> Result<Vec<Task>, Failure> {
    let rope = rope(&statements.text);
    let outline = Outline::new(&rope, dialect);
    let meant = match line {
        None => Meant::All(0..outline.statements().len()),
        Some(line) if line == 0 || line > rope.len_lines() => {
            return Err(Failure::Usage(format!(
                "no line {line}; the file has {}",
                words::count(rope.len_lines() as u64, "line")
            )));
        }
        Some(line) => {
            // The statement that the line's first word belongs to.
            let start = rope.line_to_byte(line - 1);
            let text = rope.line(line - 1).to_string();
            let at = start + (text.len() - text.trim_start().len()).min(text.trim_end().len());
            outline.at(&rope, at).map_or(Meant::All(0..0), Meant::One)
        }
    };
    if meant.range().is_empty() {
        return Err(Failure::Usage("no statement to run".into()));
    }
    let line_of = |at: usize| rope.byte_to_line(at) + 1;
    let prepared = prepare((&rope, statements.code.as_ref()), &outline, meant, buffer, || true).map_err(|unready| {
        let text = match unready {
            Unready::NeverCloses(at) => {
                format!("the statement at line {} has a quote or comment that never closes", line_of(at))
            }
            Unready::Unfilled(place) => {
                let name = rope.byte_slice(place.clone()).to_string();
                format!("line {}: {} was not filled in; nothing was run", line_of(place.start), clean(&name))
            }
            Unready::OutLine(at, message) => {
                let line = rope.byte_to_line(at);
                let error = EngineError::new(ErrorKind::Local, message).at(Some(at - rope.line_to_byte(line)));
                error.explain(&rope.line(line).to_string(), line + 1)
            }
            Unready::NeedsBatch(at, above, why) => format!(
                "the statement at line {} needs line {} of its batch, and {why}; run the file without a line",
                line_of(at),
                line_of(above)
            ),
            Unready::Escaped(escape) => {
                let code = statements.code.as_ref().map_or(&rope, Code::written);
                let written = code.byte_slice(escape.clone()).to_string();
                format!("line {}: {}", line_of(escape.start), words::escaped(&written))
            }
            Unready::Stopped => "stopped".to_owned(),
        };
        Failure::Usage(text)
    })?;
    let tasks = prepared.jobs.into_iter().zip(prepared.starts).zip(prepared.noted);
    Ok(tasks.map(|((job, start), noted)| Task { job, line: line_of(start), noted }).collect())
}

/// What a file has of statements.
pub struct Statements {
    /// They alone, each in its place.
    pub text: String,
    /// Where they stand in program code, that.
    code: Option<Code>,
}

/// The statements of a file, of which the one at a line is wanted, or all. Of program code only what stands in its literals is
/// statements, and not all of them are meant to run.
pub fn statements_of(
    path: &Path,
    line: Option<usize>,
    (encoding, dialect): (Option<&'static Encoding>, &'static Dialect),
) -> Result<Statements, Failure> {
    let text = super::read_statements(path, encoding, dialect)?;
    let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    match (host::by_ending(ending), line) {
        (Some(host), Some(line)) => {
            let code = Code::new(&text, host);
            Ok(Statements { text: in_literals(&code, line, dialect)?, code: Some(code) })
        }
        (Some(_), None) => {
            let what = format!("{} is program code: name the line of a statement, as in {0}:12", path.display());
            Err(Failure::Usage(what))
        }
        (None, _) => Ok(Statements { text, code: None }),
    }
}

/// The statements of program code, in its place; one has to stand at the line.
fn in_literals(code: &Code, line: usize, dialect: &'static Dialect) -> Result<String, Failure> {
    let rope = code.masked();
    let lines = rope.len_lines();
    let of_line = |line: usize| rope.line_to_byte(line.min(lines));
    let bytes = of_line(line.saturating_sub(1))..of_line(line);
    let outline = Outline::new(rope, dialect);
    let stands = |statement: &Statement| statement.start < bytes.end && bytes.start < statement.end;
    if line <= lines && !outline.statements().iter().any(stands) {
        return Err(Failure::Usage(format!("no statement at line {line}")));
    }
    Ok(rope.to_string())
}

/// The statements that the command line names.
pub fn tasks(args: &args::Run, dialect: &'static Dialect) -> Result<Vec<Task>, Failure> {
    let encoding =
        args.encoding.as_deref().map(|name| encoding::named(name).ok_or_else(|| super::unknown_encoding(name)));
    let encoding = encoding.transpose()?;
    match (&args.statement, &args.file) {
        (Some(text), _) if text == "-" => {
            tasks_of(&super::read_statements(Path::new("-"), encoding, dialect)?, dialect, None, None)
        }
        (Some(text), _) => tasks_of(text, dialect, None, None),
        (None, Some(file)) => {
            let (path, line) = file_and_line(file);
            let text = statements_of(&path, line, (encoding, dialect))?;
            let buffer = std::path::absolute(&path).ok();
            tasks_in(&text, dialect, line, buffer.as_deref())
        }
        (None, None) => Err(Failure::Usage("name a file of statements, or give one with --statement".into())),
    }
}

/// The connection that a command line names, or a comment at the top of the file does that it is about.
pub fn connection_of(given: Option<&str>, file: Option<&str>) -> Result<String, Failure> {
    if let Some(given) = given {
        return Ok(given.to_owned());
    }
    // Read as far as the comment may stand; what is read from a pipe would be missing afterwards.
    let of_file = file.and_then(|file| {
        let (path, _) = file_and_line(file);
        let path = Some(path).filter(|path| path.is_file())?;
        let lines = BufReader::new(File::open(&path).ok()?.take(4096)).lines().map_while(Result::ok);
        comment::named(lines, comment::marks(&path))
    });
    let missing = "name a connection with --connection, or in a comment at the top of the file: -- connection: NAME";
    of_file.ok_or_else(|| Failure::Usage(missing.into()))
}

/// The connection, by its option or as the first word, and the words that follow.
pub fn connection_and<'a>(given: Option<&'a str>, words: &'a [String]) -> Result<(&'a str, &'a [String]), Failure> {
    let missing =
        || Failure::Usage("name a connection, a database file or a URL; `jaunty connections` lists them".into());
    match given {
        Some(given) => Ok((given, words)),
        None => words.split_first().map(|(first, rest)| (first.as_str(), rest)).ok_or_else(missing),
    }
}

/// `FILE:LINE`, unless a file has that very name.
pub fn file_and_line(text: &str) -> (PathBuf, Option<usize>) {
    let (file, line) = match text.rsplit_once(':') {
        Some((file, line)) if !Path::new(text).exists() => match line.parse() {
            Ok(line) => (file, Some(line)),
            Err(_) => (text, None),
        },
        _ => (text, None),
    };
    (super::buffers::meant(PathBuf::from(file)), line)
}

/// What is said of parameters without a value.
pub fn without_value(name: &str) -> String {
    format!(
        "{name} has no value; give it with --parameter '{name}=…', or in a comment above the statement: -- {name} = …"
    )
}

/// Gives the parameters of statements their values. One without a value is a mistake, and so is a value
/// that nothing wants.
pub fn give_values(tasks: &mut [Task], given: &[String], dialect: &'static Dialect) -> Result<(), Failure> {
    let mut values = Vec::new();
    for given in given {
        let (name, value) = given
            .split_once('=')
            .ok_or_else(|| Failure::Usage(format!("--parameter takes NAME=VALUE, and \"{given}\" has no =")))?;
        values.push((name.to_owned(), ParameterValue::read(value)));
    }
    let mut wanted = Vec::new();
    for task in tasks {
        let names = parameters::names(&task.job.sent(), dialect);
        let of = |name: &String| {
            let given = values.iter().find(|(given, _)| parameters::means(given, name));
            let noted = || task.noted.iter().find(|(noted, _)| noted == name);
            given.or_else(noted).map(|(_, value)| (name.clone(), value.clone()))
        };
        // Without any value the server tells what it misses; unless it would read the name as something else.
        if values.is_empty() && task.noted.is_empty() {
            match names.iter().find(|name| parameters::is_mistakable(name, dialect)) {
                Some(name) => {
                    let what = format!("{}; with a blank after it @ is an operator", without_value(name));
                    return Err(Failure::Usage(what));
                }
                None => continue,
            }
        }
        for name in &names {
            let value = of(name).ok_or_else(|| Failure::Usage(without_value(name)))?;
            task.job.values.push(value);
        }
        wanted.extend(names);
    }
    let is_wanted = |given: &String| wanted.iter().any(|name| parameters::means(given, name));
    match values.iter().find(|(name, _)| !is_wanted(name)) {
        Some((name, _)) => Err(Failure::Usage(format!("no statement has a parameter {name}"))),
        None => Ok(()),
    }
}
