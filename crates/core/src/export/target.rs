//! Where rows go, as a person writes it: in an out-line below a statement, and when they are exported.
//!
//! ```text
//! target = file {option} | format {option} | "insert" table {option}
//! option = key "=" value | kind
//! ```
//!
//! A kind, as `line`, is one of a chart ([`crate::chart::Kind`]).
//!
//! A file's ending tells the format. A format alone names no file; whoever asks gives one a name. Names and
//! values with blanks stand in double quotes.

use std::ops::Range;
use std::path::PathBuf;

use super::{Format, Options};
use jaunty_language::dialect::Dialect;
use jaunty_language::text::words::words;

/// Where rows go.
#[derive(Debug, Clone)]
pub struct Target {
    /// The file, if one is named.
    pub file: Option<PathBuf>,
    /// The format.
    pub format: Format,
    /// The choices that it leaves.
    pub options: Options,
}

/// What is wrong with a target, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct TargetError {
    /// The bytes of what is wrong.
    pub range: Range<usize>,
    /// What is wrong, and what to write instead.
    pub message: String,
}

impl Target {
    /// Reads a target.
    pub fn read(text: &str, dialect: &'static Dialect) -> Result<Target, TargetError> {
        let wrong = |range: Range<usize>, message: String| TargetError { range, message };
        let (words, open) = words(text);
        if open {
            let range = words.last().map_or(0..text.len(), |(range, _)| range.clone());
            return Err(wrong(range, "the quote never closes".into()));
        }
        let mut words = words.into_iter();
        let Some((range, first)) = words.next() else {
            return Err(wrong(0..text.len(), "name a file, such as sailings.csv, or a format, such as json".into()));
        };
        let mut options = Options { dialect, ..Options::default() };
        let mut target = match Format::from_word(&first) {
            Some(format) => Target { file: None, format, options: options.clone() },
            None => {
                let file = PathBuf::from(&first);
                let ending = file.extension().map(|ending| ending.to_string_lossy().into_owned());
                let format = ending.as_deref().and_then(Format::from_ending).ok_or_else(|| {
                    let endings: Vec<_> = Format::ALL.iter().filter_map(|(_, _, endings, _)| endings.first()).collect();
                    let endings = endings.iter().map(|ending| format!(".{ending}")).collect::<Vec<_>>().join(", ");
                    wrong(
                        range.clone(),
                        format!("\"{first}\" is not a format, and not a file with a known ending: {endings}"),
                    )
                })?;
                if let Some(stem) = file.file_stem() {
                    options.table = Some(stem.to_string_lossy().into_owned());
                }
                Target { file: Some(file), format, options: options.clone() }
            }
        };
        let mut table_may_come = target.file.is_none() && target.format == Format::Insert;
        for (range, word) in words {
            match word.contains('=') {
                false if table_may_come => target.options.table = Some(word),
                _ => target.options.take(target.format, &word).map_err(|message| wrong(range, message))?,
            }
            table_may_come = false;
        }
        Ok(target)
    }
}

/// A file name made of a title: `Sailings that are late!` becomes `sailings-that-are-late`.
pub fn name_of(title: &str) -> String {
    let mut name = String::new();
    for c in title.chars().flat_map(char::to_lowercase) {
        if c.is_alphanumeric() {
            name.push(c);
        } else if !name.ends_with('-') && !name.is_empty() {
            name.push('-');
        }
        if name.len() > 60 {
            break;
        }
    }
    let name = name.trim_matches('-');
    if name.is_empty() { "rows".into() } else { name.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::POSTGRES;

    #[test]
    fn targets_are_read() {
        let read = |text: &str| Target::read(text, &POSTGRES).unwrap();
        let csv = read("sailings.csv separator=; null=NULL");
        assert_eq!((csv.file.as_deref(), csv.format), (Some(std::path::Path::new("sailings.csv")), Format::Csv));
        assert_eq!((csv.options.separator, csv.options.null.as_str()), (b';', "NULL"));
        let quoted = read("\"late sailings.json\"");
        assert_eq!((quoted.file.unwrap().to_str(), quoted.format), (Some("late sailings.json"), Format::Json));
        let insert = read("insert archive.sailings");
        assert_eq!(
            (insert.file, insert.format, insert.options.table.as_deref()),
            (None, Format::Insert, Some("archive.sailings"))
        );
        assert_eq!(read("out/old.sql").options.table.as_deref(), Some("old"));
        assert_eq!(read("csv null=\"no value\"").options.null, "no value");
        assert_eq!(read("MARKDOWN").format, Format::Markdown);
    }

    #[test]
    fn mistakes_are_told_with_their_place() {
        for (text, place, message) in [
            ("", "", "name a file, such as sailings.csv, or a format, such as json"),
            ("x.csv header", "header", "\"header\" is not an option; write options as key=value, such as separator=;"),
            (
                "x.csv header=1",
                "header=1",
                "header is yes or no: whether the first line has the column names; \"1\" is not",
            ),
            ("json \"x", "\"x", "the quote never closes"),
        ] {
            let error = Target::read(text, &POSTGRES).unwrap_err();
            assert_eq!((&text[error.range], error.message.as_str()), (place, message), "{text}");
        }
        let unknown = Target::read("sailings.doc", &POSTGRES).unwrap_err();
        assert!(
            unknown
                .message
                .starts_with("\"sailings.doc\" is not a format, and not a file with a known ending: .txt, .csv")
        );
    }

    #[test]
    fn a_title_names_a_file() {
        assert_eq!(name_of("Sailings that are late!"), "sailings-that-are-late");
        assert_eq!((name_of("…"), name_of("Où/est ../là?")), ("rows".into(), "où-est-là".into()));
    }
}
