//! How a language reads, as data.
//!
//! A dialect is a table: quotes, comments, parameters, keywords, the words that begin statements,
//! and the constructs that hold semicolons of their own. The lexer and the splitter know only
//! these tables; adding a language is adding one.

mod acting;
mod altering;
mod changing;
pub mod commands;
mod comparing;
mod datum;
pub mod documents;
mod elements;
mod filling;
mod phrases;
mod sql;

use std::sync::LazyLock;

use crate::plan::Plans;

pub use acting::Acting;
pub use altering::{Altering, Change, Clauses, Tables};
pub use changing::{Changing, ColumnType, Copying, Inserted};
pub use comparing::{Comparing, Pattern};
pub use datum::{Datum, Row, bytes_of};
pub use elements::{Answer, Around, Edit, Elements, Found, Part, Place, Planned, Reading, Source, Takes, Undo};
pub use filling::{Filling, Own};

pub use phrases::Phrases;

pub use commands::REDIS;
pub use documents::DOCUMENTS;
pub use sql::{MYSQL, POSTGRES, SQLITE, SQLSERVER};

/// All dialects, in the order in which they are offered.
pub static DIALECTS: LazyLock<Vec<&'static Dialect>> =
    LazyLock::new(|| [sql::ALL, commands::ALL, documents::ALL].concat());

/// The dialect of texts that nothing says one of.
pub static FALLBACK: &Dialect = &SQLITE;

/// Finds a dialect by its name, in any case.
pub fn by_name(name: &str) -> Option<&'static Dialect> {
    DIALECTS.iter().copied().find(|d| d.name.eq_ignore_ascii_case(name))
}

/// The dialect that files with this ending are in, as far as the ending tells.
pub fn by_extension(extension: &str) -> Option<&'static Dialect> {
    DIALECTS.iter().copied().find(|d| d.extension.eq_ignore_ascii_case(extension))
}

/// One language, as the lexer and the splitter see it.
#[derive(Debug)]
pub struct Dialect {
    /// The name used on the command line and in profiles.
    pub name: &'static str,
    /// The ending of its files, without the dot.
    pub extension: &'static str,
    /// What languages it is like.
    pub family: Family,
    /// Help for its words, as texts of [`crate::help`]; a later entry stands before an earlier one of the same name.
    pub help: &'static [(HelpKind, &'static str)],
    /// Entries of its family's help that it has not: their names.
    pub lacks: &'static [&'static str],
    /// Quoted forms, tried in order.
    pub quotes: &'static [Quote],
    /// What begins a comment that runs to the end of its line.
    pub line_comments: &'static [&'static str],
    /// What encloses a comment over several lines.
    pub block_comment: Option<BlockComment>,
    /// Signs that words may hold and begin with, as letters (`@variable`, `#temporary`).
    pub word_signs: &'static [u8],
    /// The word that, alone on its line but for a count, ends the statements above it, whatever is open in them.
    pub batch_word: Option<&'static str>,
    /// Words that, with a condition, stand before a statement and are a part of it.
    pub conditions: &'static [&'static str],
    /// Whether the names of a statement reach into other databases of the server (`archive.dbo.tickets`).
    pub crosses_databases: bool,
    /// A part of a column of JSON, as a text: with places for `{column}` and `{key}`.
    pub part_of_json: Option<&'static str>,
    /// Whether a text that is not ASCII needs an `N` before its quote.
    pub national_texts: bool,
    /// Whether a statement ends at a character NUL, so that no literal of text can have one.
    pub ends_at_nul: bool,
    /// Characters that begin a parameter (`:name`, `?1`).
    pub parameters: &'static [u8],
    /// Words to be set off from names, upper case and sorted.
    pub keywords: &'static [&'static str],
    /// Words that begin a statement. One word may stand here several times, with several ways to
    /// begin one.
    pub starters: &'static [Starter],
    /// Words that may be put before a whole statement (`EXPLAIN QUERY PLAN`).
    pub prefixes: &'static [&'static str],
    /// Words that may follow a prefix and are none themselves (`EXPLAIN ANALYZE VERBOSE`). What
    /// stands in parentheses there is passed over too.
    pub prefix_options: &'static [&'static str],
    /// Statements that carry another one behind a word of theirs (`PREPARE p AS …`). Up to that word they are
    /// read like a prefix: what is said of leading words holds for the statement that is carried.
    pub carriers: &'static [Carrier],
    /// Whether `CREATE TABLE t (…)` may go on with a query that fills it, without a word between.
    pub tables_take_queries: bool,
    /// Words that say what a leading word is about, of those on which a continuation depends.
    pub seconds: &'static [&'static str],
    /// Words before which one of `prefixes` is none (`ANALYZE TABLE`).
    pub no_prefix_before: &'static [&'static str],
    /// Keywords that may be the last word of a statement.
    pub can_end: &'static [&'static str],
    /// Statements with semicolons inside.
    pub bodies: &'static [Body],
    /// What stands before and behind a quoted name. The second one is doubled inside.
    pub name_quotes: [char; 2],
    /// Whether a name without quotes is taken in lower case, and one in quotes as it stands.
    pub folds_names: bool,
    /// Whether a quoted name that means nothing is taken as a text.
    pub quoted_names_may_be_text: bool,
    /// Schemas that every server has, in lower case: what is in them is not in a catalog.
    pub own_schemas: &'static [&'static str],
    /// What names of the server's own tables and functions begin with, in lower case.
    pub own_prefixes: &'static [&'static str],
    /// Names of types, the usual ones first.
    pub types: &'static [&'static str],
    /// A table that does not exist yet, as it usually is, and with all clauses that the server has as places to be
    /// filled in (`catalog::templates` of the core). Empty where there are none.
    pub new_table: [&'static str; 2],
    /// An index on `TABLE`, in the same way: its `NAME` is place 1 and its first `COLUMN` place 2.
    pub new_index: [&'static str; 2],
    /// The first `COUNT` rows of `TABLE`.
    pub first_rows: &'static str,
    /// Words that begin a line of a formatted statement, beside those of all languages; the first ones may begin it.
    pub clauses: &'static [&'static str],
    /// What may follow what in statements that define or change something.
    pub phrases: Option<&'static Phrases>,
    /// Entries of its help that are used all day: they are proposed before others that are as near.
    pub usual: &'static [&'static str],
    /// Words that others of its family have and it has not, with what it says instead: a line for each, as
    /// [`crate::statement::habits`] reads them.
    pub habits: &'static str,
    /// Calls of a function and of a procedure: `SCHEMA`, `NAME` (with its schema where that is needed) and `ARGUMENTS`.
    pub calls: [&'static str; 2],
    /// What stands behind the name of a column that the server numbers, and of one that it computes: `TYPE`, `WORD` (the
    /// catalog's word for how it is numbered) and `EXPRESSION` stand for theirs.
    pub generated: [&'static str; 2],
    /// Statements that give a table and a column a comment: `SCHEMA`, `TABLE`, `COLUMN` and `TEXT` stand for texts, and
    /// `NAME` for the names of both as they are written.
    pub comments: [&'static str; 2],
    /// Whether `$tag$ … $tag$` is a quoted text.
    pub dollar_quotes: bool,
    /// The word before a text whose bytes need not be text, in lower case.
    pub binary_texts: Option<&'static str>,
    /// Openings of comments whose content the server carries out (`/*! … */`).
    pub code_comments: &'static [&'static str],
    /// Whether a statement ends with its line, unless a quote is open there.
    pub ends_with_line: bool,
    /// Whether a blank line outside brackets ends a statement.
    pub ends_with_blank: bool,
    /// Whether a line that begins with a backslash is a line of the server's own command-line
    /// client: a statement of its own, which no server understands.
    pub client_lines: bool,
    /// A word that, at the beginning of a line, sets what ends the statements below it.
    pub delimiter_word: Option<&'static str>,
    /// Whether the rows of `COPY … FROM STDIN` stand below it, up to a line `\.`.
    pub copy_data: bool,
    /// What its statements do, for guards; none where only the server tells.
    pub acting: Option<&'static Acting>,
    /// How it compares and orders values; none where a query cannot stand inside another.
    pub comparing: Option<&'static Comparing>,
    /// How it changes single rows; none where rows are not changed by statements of SQL.
    pub changing: Option<&'static Changing>,
    /// How single documents, or elements of a key, are changed; none where rows are those of tables.
    pub elements: Option<&'static dyn Elements>,
    /// How structures are changed; none where it is not known yet.
    pub altering: Option<&'static Altering>,
    /// A number that is read as infinity, where there is no word for it.
    pub infinity: Option<&'static str>,
    /// Whether a definition commits the open transaction, and itself at once.
    pub definitions_commit: bool,
    /// The statements around a transaction.
    pub transaction: TransactionWords,
    /// How the plan of a statement is asked for and read, where the server has one.
    pub plans: Option<&'static Plans>,
}

/// What languages a language is like: what is known of statements, and of places in them, differs between families,
/// and within one in data only.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Family {
    /// SQL: clauses, expressions, names of tables and columns, parameters.
    Sql,
    /// A command and its arguments.
    Commands,
    /// Calls on collections, with documents as arguments.
    Documents,
}

/// What an entry of the help is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HelpKind {
    /// A function.
    Function,
    /// A keyword or a clause.
    Keyword,
    /// A command of a server of commands.
    Command,
}

/// The statements that begin and end transactions; empty where there is none.
#[derive(Debug, Clone, Copy)]
pub struct TransactionWords {
    /// Begins one.
    pub begin: &'static str,
    /// Ends it and keeps what was done.
    pub commit: &'static str,
    /// Ends it and keeps nothing.
    pub roll_back: &'static str,
    /// Marks a place in it.
    pub savepoint: &'static str,
    /// Goes back to that place.
    pub back_to_savepoint: &'static str,
}

/// A language with nothing in it, for tables to be written as a difference from it.
pub(super) const PLAIN: Dialect = Dialect {
    name: "",
    extension: "sql",
    family: Family::Sql,
    help: &[],
    lacks: &[],
    quotes: &[],
    line_comments: &[],
    block_comment: None,
    word_signs: &[],
    batch_word: None,
    conditions: &[],
    crosses_databases: false,
    part_of_json: None,
    national_texts: false,
    ends_at_nul: false,
    parameters: &[],
    keywords: &[],
    starters: &[],
    prefixes: &[],
    prefix_options: &[],
    carriers: &[],
    tables_take_queries: false,
    seconds: &[],
    no_prefix_before: &[],
    can_end: &[],
    bodies: &[],
    name_quotes: ['"', '"'],
    folds_names: false,
    quoted_names_may_be_text: false,
    own_schemas: &[],
    own_prefixes: &[],
    types: &[],
    new_table: ["", ""],
    new_index: ["", ""],
    first_rows: "select * from TABLE limit COUNT",
    clauses: &[],
    phrases: None,
    usual: &[],
    habits: "",
    calls: ["select NAME(ARGUMENTS)", "call NAME(ARGUMENTS)"],
    generated: ["TYPE generated WORD", "TYPE generated always as (EXPRESSION) stored"],
    comments: ["comment on KIND NAME is TEXT", "comment on column NAME is TEXT"],
    dollar_quotes: false,
    binary_texts: None,
    code_comments: &[],
    ends_with_line: false,
    ends_with_blank: false,
    client_lines: false,
    delimiter_word: None,
    copy_data: false,
    acting: None,
    comparing: None,
    changing: None,
    elements: None,
    altering: None,
    definitions_commit: false,
    plans: None,
    infinity: None,
    transaction: TransactionWords {
        begin: "begin",
        commit: "commit",
        roll_back: "rollback",
        savepoint: "savepoint here",
        back_to_savepoint: "rollback to savepoint here",
    },
};

/// A word that begins a statement and nothing else.
pub(super) const fn starter(word: &'static str, kind: Kind, role: Role) -> Starter {
    Starter {
        word,
        kind,
        role,
        reserved: true,
        then: Then::Anything,
        continues_after: &[],
        continues_in: &[],
        breaks_bodies: false,
        ends_in_type: false,
        alone: false,
        after_blank: false,
    }
}

/// A word that may also be a plain name, which takes a second word to be sure of.
pub(super) const fn unreserved(word: &'static str, kind: Kind, then: Then) -> Starter {
    Starter { reserved: false, then, ..starter(word, kind, Role::Plain) }
}

impl Dialect {
    /// Whether `word` (in any case) is one of the dialect's keywords.
    pub fn is_keyword(&self, word: &str) -> bool {
        let mut upper = [0_u8; 24];
        let Some(upper) = upper.get_mut(..word.len()) else { return false };
        upper.copy_from_slice(word.as_bytes());
        upper.make_ascii_uppercase();
        self.keywords.binary_search_by(|k| k.as_bytes().cmp(upper)).is_ok()
    }

    /// A name as it has to be written: quoted only if it must be.
    pub fn name_as_written(&self, name: &str) -> String {
        if self.family == Family::Documents {
            return documents::statement::name(name);
        }
        let plain = !name.is_empty()
            && name.bytes().all(|b| b.is_ascii_lowercase() || b == b'_' || b.is_ascii_digit())
            && !name.starts_with(|c: char| c.is_ascii_digit())
            && !self.is_keyword(name);
        if plain {
            return name.to_owned();
        }
        self.quoted_name(name)
    }

    /// Whether a name is one of a variable or a temporary object by its first sign, and none of the catalog.
    pub fn is_own_name(&self, name: &str) -> bool {
        name.bytes().next().is_some_and(|first| self.word_signs.contains(&first))
    }

    /// The types of columns, or of fields, of rows that are loaded, by what their values are ([`ColumnType`]); none where no
    /// rows can be loaded.
    pub fn types_of_rows(&self) -> Option<&'static [&'static str; 13]> {
        match self.changing {
            Some(changing) => Some(&changing.types),
            None => self.elements.and_then(Elements::types),
        }
    }

    /// The type of numbers that come from columns of decimals, where that is another one than numbers of text get.
    pub fn type_of_decimals(&self) -> Option<&'static str> {
        self.elements.and_then(Elements::type_of_decimals)
    }

    /// A name in the quotes of the dialect.
    pub fn quoted_name(&self, name: &str) -> String {
        let [open, close] = self.name_quotes;
        format!("{open}{}{close}", name.replace(close, &format!("{close}{close}")))
    }

    /// A text as a literal, between the quotes that the language has for it.
    pub fn text_as_written(&self, text: &str) -> String {
        let plain = self.quotes.iter().find(|quote| quote.kind == QuoteKind::Text && quote.prefix.is_none());
        let Some(quote) = plain else { return text.to_owned() };
        if self.ends_at_nul && text.contains('\0') {
            let digits: String = text.bytes().map(|byte| format!("{byte:02x}")).collect();
            return format!("cast({} as text)", self.bytes_as_written(&digits));
        }
        // Without the letter it is a text of an older code page, which lacks most letters.
        let national = if self.national_texts && !text.is_ascii() { "N" } else { "" };
        let close = char::from(quote.close);
        let text = if quote.backslash { text.replace('\\', "\\\\") } else { text.to_owned() };
        let escaped = if quote.doubled { format!("{close}{close}") } else { format!("\\{close}") };
        format!("{national}{}{}{close}", char::from(quote.open), text.replace(close, &escaped))
    }

    /// Bytes as a literal, from their hexadecimal digits.
    pub fn bytes_as_written(&self, digits: &str) -> String {
        let [open, close] = self.comparing.map_or(["x'", "'"], |comparing| comparing.bytes);
        format!("{open}{digits}{close}")
    }

    /// What a person writes after a statement to end it.
    pub fn terminator(&self) -> &'static str {
        if self.ends_with_line { "" } else { ";" }
    }

    /// Whether values may stand beside a statement, under the names of parameters in it.
    pub fn takes_parameters(&self) -> bool {
        matches!(self.family, Family::Sql | Family::Documents)
    }

    /// Whether rows can be written as statements of it.
    pub fn writes_rows(&self) -> bool {
        self.family == Family::Sql
    }

    /// The first starter for `word`, in any case.
    pub fn starter(&self, word: &str) -> Option<&'static Starter> {
        self.starters.iter().find(|s| s.word.eq_ignore_ascii_case(word))
    }
}

/// A quoted form.
#[derive(Debug, Clone, Copy)]
pub struct Quote {
    /// A letter that must stand directly before the opening quote (`x` in `x'00'`), lower case.
    pub prefix: Option<u8>,
    /// The opening quote.
    pub open: u8,
    /// The closing quote.
    pub close: u8,
    /// Whether a doubled closing quote stands for itself.
    pub doubled: bool,
    /// Whether a backslash takes the next character as it is.
    pub backslash: bool,
    /// What the form is.
    pub kind: QuoteKind,
}

/// What a quoted form stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum QuoteKind {
    /// Text.
    Text,
    /// Bytes.
    Binary,
    /// The name of a thing.
    Name,
}

/// A comment with an opening and a closing mark.
#[derive(Debug, Clone, Copy)]
pub struct BlockComment {
    /// The opening mark.
    pub open: &'static str,
    /// The closing mark.
    pub close: &'static str,
    /// Whether comments nest.
    pub nests: bool,
}

/// What a statement does, told from its leading word. The server has the last word on what it
/// really does; this is for outlines, notes and questions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Reads rows.
    Query,
    /// Adds, changes or removes rows.
    Change,
    /// Makes, alters or drops an object.
    Definition,
    /// Begins, ends or marks a transaction.
    Transaction,
    /// Reads or sets something of the session or the database file.
    Setting,
    /// Asks how another statement would be carried out.
    Plan,
    /// Anything else.
    Other,
}

impl Kind {
    /// The word used in JSON and in the logbook.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Query => "query",
            Kind::Change => "change",
            Kind::Definition => "definition",
            Kind::Transaction => "transaction",
            Kind::Setting => "setting",
            Kind::Plan => "plan",
            Kind::Other => "other",
        }
    }
}

/// A word that begins a statement, and when it does so without a semicolon before it.
#[derive(Debug, PartialEq)]
pub struct Starter {
    /// The word, upper case.
    pub word: &'static str,
    /// What the statement does.
    pub kind: Kind,
    /// Its part in statements made of several.
    pub role: Role,
    /// Whether the language forbids the word as a plain name. One that it allows can be an alias,
    /// so it begins a statement only where an alias could not stand.
    pub reserved: bool,
    /// What has to follow for it to begin a statement where a semicolon was forgotten.
    pub then: Then,
    /// Words after which it goes on with the statement (`ON` before `DELETE CASCADE`).
    pub continues_after: &'static [&'static str],
    /// Leading words of statements inside which it goes on (`ALTER TABLE … DROP COLUMN`); two words where
    /// the one after the leading one counts too (`CREATE SCHEMA s CREATE TABLE …`).
    pub continues_in: &'static [&'static str],
    /// Whether it cannot even stand in the body of a [`Body`].
    pub breaks_bodies: bool,
    /// Whether its statement may end in a type, which any names can go on (`ALTER TABLE t ADD c …`).
    pub ends_in_type: bool,
    /// Whether it may be a whole statement by itself (`VACUUM`), and so is one after a blank line and a title.
    pub alone: bool,
    /// Whether it begins one only below a blank line: the language would take it and what follows
    /// as an alias and the next clause (`SELECT a DELETE FROM t`).
    pub after_blank: bool,
}

/// The part of a starter in statements that hold several of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// A query: it may also follow an opening parenthesis, `AS`, a set operator or `INSERT INTO t`.
    Query,
    /// A list of common table expressions, which a main statement follows.
    With,
    /// A statement that takes its rows from a query (`INSERT INTO t SELECT …`).
    Filled,
    /// Changes rows; it may follow a list of common table expressions.
    Change,
    /// Stands for itself.
    Plain,
}

/// What must follow a starter.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Then {
    /// Anything at all.
    Anything,
    /// One of these words.
    Words(&'static [&'static str]),
    /// A name or a string, but no keyword other than these.
    Name(&'static [&'static str]),
    /// A common table expression: a name, and `AS` or the names of its columns after it. This tells the `WITH`
    /// that begins a query from all others (`WITH TIES`, `WITH TIME ZONE`, `WITH LOGIN`).
    TableExpression,
}

/// A statement that carries another.
#[derive(Debug, PartialEq)]
pub struct Carrier {
    /// Its leading word.
    pub lead: &'static str,
    /// The word that has to follow; empty where any may.
    pub second: &'static str,
    /// The word behind which the carried statement begins.
    pub until: &'static str,
    /// What the whole does; `None` for what the carried statement does.
    pub kind: Option<Kind>,
}

/// A statement that holds other statements, each with its own semicolon.
#[derive(Debug, PartialEq)]
pub struct Body {
    /// The word that makes a statement one with a body (`TRIGGER`)…
    pub object: &'static str,
    /// …if it comes after this word with only these between.
    pub after: &'static str,
    /// Words that may stand between the two.
    pub between: &'static [&'static str],
    /// The word that opens the body; empty where the object word itself does.
    pub open: &'static str,
    /// The word that closes it, directly after a semicolon.
    pub close: &'static str,
    /// Words that open a block within the body, each with a closing word of its own. Without them
    /// the body is a flat list of statements.
    pub blocks: &'static [&'static str],
    /// Whether plain names and signs may also stand between the first word and the object word.
    pub names_between: bool,
    /// Whether one statement, or one block of `blocks`, can be the whole body, without `open` and `close`.
    pub single: bool,
    /// The word behind which such a statement begins (`EVENT … DO`); empty where it follows the head.
    pub single_after: &'static str,
    /// Whether its blocks are told by their words alone, since nothing ends the statements in them.
    pub by_words: bool,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_in_order() {
        for dialect in DIALECTS.iter() {
            assert!(dialect.keywords.is_sorted(), "keywords of {} are not sorted", dialect.name);
            for starter in dialect.starters {
                assert!(dialect.is_keyword(starter.word), "{} is not a keyword", starter.word);
            }
            for word in dialect.can_end {
                assert!(dialect.is_keyword(word), "{word} is not a keyword");
            }
        }
    }

    #[test]
    fn keywords_are_found_in_any_case_and_long_names_do_not_fit() {
        assert!(SQLITE.is_keyword("select") && SQLITE.is_keyword("SeLeCt"));
        assert!(!SQLITE.is_keyword("sailing"));
        assert!(!SQLITE.is_keyword("a_name_that_is_longer_than_every_keyword"));
    }
}
