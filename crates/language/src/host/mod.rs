//! Statements of SQL inside the string literals of program code.
//!
//! [`Code`] has the text with everything else blanked out, byte for byte: what finds, judges and runs statements in
//! a text of SQL does so in it, and places are the same in both. A value that the program puts into a literal becomes
//! a parameter.
//!
//! To add a language: an entry in [`HOSTS`], and a case in `cases.txt`.

mod between;
mod code;
mod escape;
mod exact;
mod literal;
mod looks;
mod masked;

pub use code::Code;
pub use escape::Escapes;
pub use exact::Exact;

/// What stands in a literal for a value of the program.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Insert {
    /// From these signs to the closing one, with others of its kind inside: `${…}`, `#{…}`, `\(…)`, `{…}`.
    Between(&'static str, u8, u8),
    /// A name after a dollar sign: `$port`.
    Dollar,
}

/// A kind of literal.
#[derive(Debug, Clone, Copy)]
pub struct Quote {
    /// What may stand before its opening quote, the letters in any order and case; empty for nothing.
    pub prefix: &'static str,
    /// The opening quote.
    pub open: &'static str,
    /// The closing one.
    pub close: &'static str,
    /// What a backslash does to the signs after it; none where it is one.
    pub escapes: Option<&'static Escapes>,
    /// Whether the closing quote stands for itself where it is doubled.
    pub doubled: bool,
    /// Whether it may go over several lines; one that may not ends with its line at the latest.
    pub lines: bool,
    /// What stands for values in it.
    pub inserts: &'static [Insert],
}

/// A programming language, as far as its literals go.
#[derive(Debug)]
pub struct Host {
    /// Its name, as editors say it.
    pub name: &'static str,
    /// Other such names.
    pub also: &'static [&'static str],
    /// The endings of its files.
    pub endings: &'static [&'static str],
    /// What begins a comment to the end of the line.
    pub line_comments: &'static [&'static str],
    /// What begins and ends a longer one.
    pub block_comment: Option<(&'static str, &'static str)>,
    /// Its literals; of two that fit the first counts.
    pub quotes: &'static [Quote],
    /// Whether `<<SQL` begins a text that ends with that word alone on a line.
    pub here: bool,
    /// What may stand between two literals that are one text, beside blanks.
    pub joins: &'static [u8],
    /// Whether drivers have `@name` for the place of a value on every server.
    pub at_names: bool,
}

const fn plain(open: &'static str, escapes: &'static Escapes) -> Quote {
    // Three signs, and the backtick, are what languages have for texts of several lines.
    let lines = open.len() > 1 || matches!(open.as_bytes(), [b'`']);
    Quote { prefix: "", open, close: open, escapes: Some(escapes), doubled: false, lines, inserts: &[] }
}

const fn over_lines(quote: Quote) -> Quote {
    Quote { lines: true, ..quote }
}

const fn raw(open: &'static str) -> Quote {
    Quote { escapes: None, ..plain(open, escape::ONE) }
}

const fn with(quote: Quote, inserts: &'static [Insert]) -> Quote {
    Quote { inserts, ..quote }
}

const fn after(prefix: &'static str, quote: Quote) -> Quote {
    Quote { prefix, ..quote }
}

const BRACES: &[Insert] = &[Insert::Between("{", b'{', b'}')];
const DOLLAR_BRACES: &[Insert] = &[Insert::Between("${", b'{', b'}')];
const DOLLARS: &[Insert] = &[Insert::Between("${", b'{', b'}'), Insert::Dollar];
const HASH_BRACES: &[Insert] = &[Insert::Between("#{", b'{', b'}')];
const SLASH_PARENS: &[Insert] = &[Insert::Between("\\(", b'(', b')')];
const C_COMMENTS: (&[&str], Option<(&str, &str)>) = (&["//"], Some(("/*", "*/")));

const SCRIPT_QUOTES: &[Quote] =
    &[with(plain("`", escape::SCRIPT), DOLLAR_BRACES), plain("\"", escape::SCRIPT), plain("'", escape::SCRIPT)];

/// All languages.
pub static HOSTS: &[Host] = &[
    Host {
        name: "rust",
        also: &[],
        endings: &["rs"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[
            after("r", Quote { close: "\"##", ..raw("##\"") }),
            after("r", Quote { close: "\"#", ..raw("#\"") }),
            after("r", over_lines(raw("\""))),
            over_lines(with(plain("\"", escape::RUST), BRACES)),
        ],
        here: false,
        joins: b"",
        at_names: false,
    },
    Host {
        name: "python",
        also: &[],
        endings: &["py", "pyi"],
        line_comments: &["#"],
        block_comment: None,
        quotes: &[
            after("rf", with(raw("\"\"\""), BRACES)),
            after("rf", with(raw("'''"), BRACES)),
            after("f", with(plain("\"\"\"", escape::PYTHON), BRACES)),
            after("f", with(plain("'''", escape::PYTHON), BRACES)),
            after("r", raw("\"\"\"")),
            after("r", raw("'''")),
            plain("\"\"\"", escape::PYTHON),
            plain("'''", escape::PYTHON),
            after("rf", with(raw("\""), BRACES)),
            after("rf", with(raw("'"), BRACES)),
            after("f", with(plain("\"", escape::PYTHON), BRACES)),
            after("f", with(plain("'", escape::PYTHON), BRACES)),
            after("r", raw("\"")),
            after("r", raw("'")),
            plain("\"", escape::PYTHON),
            plain("'", escape::PYTHON),
        ],
        here: false,
        joins: b"+\\",
        at_names: false,
    },
    Host {
        name: "javascript",
        also: &["javascriptreact"],
        endings: &["js", "mjs", "cjs", "jsx"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: SCRIPT_QUOTES,
        here: false,
        joins: b"+",
        at_names: false,
    },
    Host {
        name: "typescript",
        also: &["typescriptreact"],
        endings: &["ts", "tsx", "mts", "cts"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: SCRIPT_QUOTES,
        here: false,
        joins: b"+",
        at_names: false,
    },
    Host {
        name: "go",
        also: &[],
        endings: &["go"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[raw("`"), plain("\"", escape::GO)],
        here: false,
        joins: b"+",
        at_names: false,
    },
    Host {
        name: "java",
        also: &[],
        endings: &["java"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[with(plain("\"\"\"", escape::JAVA), HASH_BRACES), with(plain("\"", escape::JAVA), HASH_BRACES)],
        here: false,
        joins: b"+",
        at_names: false,
    },
    Host {
        name: "kotlin",
        also: &[],
        endings: &["kt", "kts"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[with(raw("\"\"\""), DOLLARS), with(plain("\"", escape::KOTLIN), DOLLARS)],
        here: false,
        joins: b"+",
        at_names: false,
    },
    Host {
        name: "csharp",
        also: &["cs"],
        endings: &["cs"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[
            after("$", with(raw("\"\"\""), BRACES)),
            raw("\"\"\""),
            after("$@", Quote { doubled: true, lines: true, ..with(raw("\""), BRACES) }),
            after("@", Quote { doubled: true, lines: true, ..raw("\"") }),
            after("$", with(plain("\"", escape::CSHARP), BRACES)),
            plain("\"", escape::CSHARP),
        ],
        here: false,
        joins: b"+",
        at_names: true,
    },
    Host {
        name: "php",
        also: &[],
        endings: &["php"],
        line_comments: &["//", "#"],
        block_comment: C_COMMENTS.1,
        quotes: &[
            over_lines(with(plain("\"", escape::PHP), &[Insert::Between("{$", b'{', b'}'), Insert::Dollar])),
            over_lines(plain("'", escape::ONE)),
        ],
        here: true,
        joins: b".",
        at_names: false,
    },
    Host {
        name: "ruby",
        also: &[],
        endings: &["rb", "rake"],
        line_comments: &["#"],
        block_comment: None,
        quotes: &[over_lines(with(plain("\"", escape::RUBY), HASH_BRACES)), over_lines(plain("'", escape::ONE))],
        here: true,
        joins: b"+\\",
        at_names: false,
    },
    Host {
        name: "swift",
        also: &[],
        endings: &["swift"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[with(plain("\"\"\"", escape::SWIFT), SLASH_PARENS), with(plain("\"", escape::SWIFT), SLASH_PARENS)],
        here: false,
        joins: b"+",
        at_names: false,
    },
    Host {
        name: "shellscript",
        also: &["sh", "bash", "zsh", "shell", "shell-script"],
        endings: &["sh", "bash", "zsh"],
        line_comments: &["#"],
        block_comment: None,
        quotes: &[over_lines(with(plain("\"", escape::SHELL), DOLLARS)), over_lines(raw("'"))],
        here: true,
        joins: b"\\",
        at_names: false,
    },
];

/// Text in no language: words of it can be looked up, and it has no statements.
pub static PLAIN: Host = Host {
    name: "plaintext",
    also: &[],
    endings: &[],
    line_comments: &["#"],
    block_comment: None,
    quotes: &[],
    here: false,
    joins: b"",
    at_names: false,
};

/// The language that editors call so.
pub fn by_name(name: &str) -> Option<&'static Host> {
    HOSTS.iter().find(|host| host.name == name || host.also.contains(&name))
}

/// The language of files with this ending.
pub fn by_ending(ending: &str) -> Option<&'static Host> {
    HOSTS.iter().find(|host| host.endings.contains(&ending))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use ropey::Rope;

    use super::masked::masked;
    use super::*;
    use crate::dialect::POSTGRES;
    use crate::outline::Outline;

    /// Each case: a language, its code, and the statements that are found in it.
    const CASES: &str = include_str!("cases.txt");

    #[test]
    fn statements_are_found_in_code() {
        let mut cases = 0;
        for case in CASES.split("\n====\n") {
            let (head, rest) = case.trim_start().split_once('\n').unwrap();
            let (code, expected) = rest.split_once("\n----\n").unwrap();
            let host = by_name(head.trim()).unwrap_or_else(|| panic!("{head}"));
            let masked = masked(code, host);
            assert_eq!(masked.len(), code.len(), "{head}");
            let rope = Rope::from_str(&masked);
            let outline = Outline::new(&rope, &POSTGRES);
            let blanks = |text: String| text.split_whitespace().collect::<Vec<_>>().join(" ");
            let found: Vec<String> = outline.statements().iter().map(|s| blanks(s.text(&rope))).collect();
            assert_eq!(found.join("\n"), expected.trim_end(), "{head}\n{code}");
            cases += 1;
        }
        assert!(cases >= 20);
        assert!(HOSTS.iter().all(|host| CASES.contains(&format!("\n{}\n", host.name)) || CASES.starts_with(host.name)));
    }

    proptest! {
        #[test]
        fn places_stay_where_they_are(text in "[a-z\"'`\\\\{}$#()/*\n é🚢<SQL]{0,80}") {
            for host in HOSTS {
                let masked = masked(&format!("q = \"select a from b where {text}"), host);
                prop_assert_eq!(masked.len(), text.len() + 27);
                prop_assert_eq!(masked.matches('\n').count(), text.matches('\n').count());
            }
        }
    }
}
