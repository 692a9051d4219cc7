//! Out-lines: comments below a statement that send its rows to a file on every run.
//!
//! ```text
//! select * from sailings;
//! --> sailings.csv separator=;
//! --> insert archive.sailings
//! ```
//!
//! An out-line stands directly below its statement, alone on its line, and several may follow each other.
//! It begins with `-->`, or with any line comment of the language and then `-->`, so that it is a
//! comment to every other tool. Behind that stands a [`Target`]. A format without a file makes one with
//! the statement's title for a name, beside the buffer; a file that is there is replaced.

use std::fs::File;
use std::io::Read;
use std::ops::Range;
use std::path::{Path, PathBuf};

use ropey::Rope;

use crate::export::target::{Target, TargetError, name_of};
use jaunty_language::dialect::Dialect;
use jaunty_language::split::Statement;
use jaunty_language::split::out_mark::behind_mark;
use jaunty_seam::profile::path;

/// An out-line in a text.
#[derive(Debug, Clone)]
pub struct OutLine {
    /// Its bytes behind the mark.
    pub range: Range<usize>,
    /// Where it sends rows, or what is wrong with it.
    pub target: Result<Target, TargetError>,
}

/// The out-lines of a statement.
pub fn out_lines(statement: &Statement, rope: &Rope, dialect: &'static Dialect) -> Vec<OutLine> {
    let below = rope.byte_to_line(statement.end) + 1;
    let mut found = Vec::new();
    for line in below..rope.len_lines() {
        let text = rope.line(line).to_string();
        let text = text.trim_end();
        let Some((skip, rest)) = behind_mark(text, dialect) else { break };
        let start = rope.line_to_byte(line) + skip;
        let blanks = rest.len() - rest.trim_start().len();
        let target = Target::read(rest.trim_start(), dialect).map_err(|error| TargetError {
            range: start + blanks + error.range.start..start + blanks + error.range.end,
            ..error
        });
        found.push(OutLine { range: start..start + rest.len(), target });
    }
    found
}

/// The file of a target: beside the buffer, and named by the title where it names none.
pub fn file_of(target: &Target, title: &str, buffer: Option<&Path>) -> PathBuf {
    let folder = buffer.and_then(Path::parent).map(Path::to_owned).unwrap_or_default();
    match &target.file {
        Some(file) => path::written(file, &folder),
        None => folder.join(format!("{}.{}", name_of(title), target.format.ending())),
    }
}

/// Why a file is not replaced by rows, as a sentence without a full stop: it is the text that the out-line stands in, or
/// statements that nobody gets back. A file of statements that rows were written to begins with one of these words.
pub fn in_the_way(file: &Path, buffer: Option<&Path>) -> Option<String> {
    const WRITTEN: [&[u8]; 3] = [b"insert into", b"update ", b"delete from"];
    let whole = |path: &Path| path.canonicalize().or_else(|_| std::path::absolute(path)).ok();
    if buffer.is_some_and(|buffer| whole(buffer) == whole(file)) {
        return Some("it would replace the text that it stands in: name another file".to_owned());
    }
    let is_statements = file.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("sql")) && file.is_file();
    let mut head = Vec::new();
    // What cannot be read is not what was written.
    let is_read = is_statements && File::open(file).and_then(|file| file.take(16).read_to_end(&mut head)).is_ok();
    let is_ours = is_read && (head.is_empty() || WRITTEN.iter().any(|begins| head.starts_with(begins)));
    (is_statements && !is_ours).then(|| {
        "the file is there already, and its statements are not rows that were written: name another".to_owned()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{MYSQL, REDIS, SQLITE};
    use jaunty_language::outline::Outline;

    fn found(text: &str, dialect: &'static Dialect) -> Vec<Vec<String>> {
        let rope = Rope::from_str(text);
        let shown = |line: &OutLine| match &line.target {
            Ok(target) => format!("{} {}", target.format.word(), file_of(target, "Late ones", None).display()),
            Err(error) => format!("{:?}: {}", &text[error.range.clone()], error.message),
        };
        let outline = Outline::new(&rope, dialect);
        outline.statements().iter().map(|s| out_lines(s, &rope, dialect).iter().map(shown).collect()).collect()
    }

    #[test]
    fn they_stand_directly_below() {
        let text = "select 1;\n--> a.csv\n  -- --> json\n\n--> not.csv\nselect 2\n--> b.sql\n\nselect 3; -- note\n--> markdown\n-- Title\n--> no.csv\nselect 4";
        assert_eq!(
            found(text, &SQLITE),
            [
                vec!["csv a.csv".to_owned(), "json late-ones.json".to_owned()],
                vec!["insert b.sql".to_owned()],
                vec!["markdown late-ones.md".to_owned()],
                vec![],
            ]
        );
        assert_eq!(found("select 1;\n# --> a.csv\n", &MYSQL), [["csv a.csv"]]);
        assert_eq!(found("get a\n# --> a.json\nget b\n", &REDIS), [vec!["json a.json".to_owned()], vec![]]);
    }

    #[test]
    fn files_are_named_from_the_buffer_or_from_home() {
        let rope = Rope::from_str("select 1;\n--> kept/a.csv\n--> ~/b.csv\n--> /quay/c.csv\n--> jsonl");
        let outline = Outline::new(&rope, &SQLITE);
        let lines = out_lines(&outline.statements()[0], &rope, &SQLITE);
        let home = etcetera::home_dir().unwrap();
        let found: Vec<_> = lines
            .iter()
            .map(|line| file_of(line.target.as_ref().unwrap(), "Late", Some(Path::new("/reports/a.sql"))))
            .collect();
        let wanted =
            ["/reports/kept/a.csv".into(), home.join("b.csv"), "/quay/c.csv".into(), "/reports/late.jsonl".into()];
        assert_eq!(found, wanted);
    }

    #[test]
    fn a_mistake_has_a_place() {
        assert_eq!(
            found("select 1;\n--> a.csv header=1\n", &SQLITE),
            [["\"header=1\": header is yes or no: whether the first line has the column names; \"1\" is not"]]
        );
    }

    #[test]
    fn what_nobody_gets_back_is_not_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for (name, text) in [
            ("buffer.sql", "select 1;"),
            ("schema.sql", "create table ports (id int);"),
            ("rows.sql", "insert into ports (id) values\n  (1);\n"),
            ("empty.sql", ""),
            ("rows.csv", "id\n"),
            ("bytes.sql", "\u{feff}insert into"),
        ] {
            std::fs::write(at(name), text).unwrap();
        }
        let buffer = at("buffer.sql");
        let told =
            |name: &str| in_the_way(&at(name), Some(&buffer)).map(|why| why.split(',').next().unwrap().to_owned());
        for name in ["rows.sql", "empty.sql", "rows.csv", "new.sql"] {
            assert_eq!(told(name), None, "{name}");
        }
        assert_eq!(told("schema.sql").as_deref(), Some("the file is there already"));
        assert_eq!(told("bytes.sql").as_deref(), Some("the file is there already"));
        let own = "it would replace the text that it stands in: name another file";
        assert_eq!(told("buffer.sql").as_deref(), Some(own));
        assert_eq!(told("../buffer.sql"), None);
        assert_eq!(told("./buffer.sql").as_deref(), Some(own));
    }

    #[test]
    fn an_out_line_is_no_title() {
        let rope = Rope::from_str("select 1;\n--> a.csv\nselect 2;\n-- Real\nselect 3");
        let outline = Outline::new(&rope, &SQLITE);
        let titles: Vec<_> = outline.statements().iter().map(|s| s.title_text(&rope, &SQLITE)).collect();
        assert_eq!(titles, [None, None, Some("Real".to_owned())]);
    }
}
