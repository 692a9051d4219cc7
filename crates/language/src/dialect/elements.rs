//! How single things are changed where there are no tables: documents of a collection, elements of a key.
//!
//! A language that has them says what the rows of a statement are ([`Elements::place`]) and plans what is sent for some
//! changes of them ([`Elements::plan`]): what reads each element again, what changes it, and what reads what became
//! of it. Who sends it, and what happens where an element is not what was read, is the slip's (`jaunty_core::slip`).

use std::collections::BTreeMap;
use std::fmt::Debug;

use serde::{Deserialize, Serialize};

use super::{Datum, Filling, Row};

/// What the rows of a statement are.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Place {
    /// What they are elements of: a collection, or a key. Not cleaned.
    pub name: String,
    /// It, as statements have it.
    pub written: String,
    /// What one of them is, in a word of the language's own: `document`, `member`.
    pub element: String,
    /// What each of them has.
    pub parts: Vec<Part>,
    /// Whether more of them can be added, and whether one can be deleted.
    pub can: [bool; 2],
}

/// A part of each element: a field, a position, a value.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Part {
    /// Its name.
    pub name: String,
    /// What its values are, for a person.
    pub about: String,
    /// Where it stands in the result.
    pub source: Source,
    /// What a person may give it.
    pub takes: Takes,
    /// Whether it tells elements apart.
    pub is_key: bool,
    /// Whether it stays as it is once it is there.
    pub lasting: bool,
    /// Whether the server gives it.
    pub fixed: bool,
    /// Whether it can be without a value.
    pub optional: bool,
    /// Whether it is all of the element, in which the other parts are.
    pub whole: bool,
}

/// Where the values of a part come from.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Source {
    /// It is not in the result.
    #[default]
    Untold,
    /// A column, by its place.
    Column(usize),
    /// The number of the row, counted from this one on.
    Counted(u64),
    /// What the statement asks for, row by row.
    Listed(Vec<Datum>),
}

/// What a person may give a part.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Takes {
    /// Any text.
    #[default]
    Text,
    /// Numbers.
    Number,
    /// Whole numbers above zero.
    Count,
    /// Values of any type, as the language writes them.
    Value,
}

/// A change of one element, as it is drafted.
#[derive(Debug, Clone, Copy)]
pub enum Edit<'a> {
    /// Another value of some parts.
    Change(&'a Row, &'a BTreeMap<usize, Datum>),
    /// An element more.
    Add(&'a BTreeMap<usize, Datum>),
    /// One less.
    Delete(&'a Row),
}

impl<'a> Edit<'a> {
    /// The element as it was read; none for one that is added.
    pub fn old(&self) -> Option<&'a Row> {
        match self {
            Edit::Change(old, _) | Edit::Delete(old) => Some(old),
            Edit::Add(_) => None,
        }
    }

    /// A part as it was read.
    pub fn was(&self, part: usize) -> Option<&'a Datum> {
        self.old()?.get(part)?.as_ref()
    }

    /// A part as it is to be, where another value of it is given.
    pub fn given(&self, part: usize) -> Option<&'a Datum> {
        match self {
            Edit::Change(_, new) | Edit::Add(new) => new.get(&part),
            Edit::Delete(_) => None,
        }
    }

    /// A part as it is to be.
    pub fn value(&self, part: usize) -> Option<&'a Datum> {
        self.given(part).or_else(|| self.was(part))
    }
}

/// A change that takes another one back.
#[derive(Debug, Clone, PartialEq)]
pub enum Undo {
    /// Of an element that is there as the first row says.
    Change(Row, BTreeMap<usize, Datum>),
    /// An element more.
    Add(BTreeMap<usize, Datum>),
    /// One less.
    Delete(Row),
}

/// What is sent for one change.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Planned {
    /// The change, by its place among those that were asked about.
    pub edit: usize,
    /// What is asked before anything is changed.
    pub reads: Vec<Reading>,
    /// What changes it; nothing where that would leave it as it is.
    pub writes: Vec<String>,
    /// What tells what became of it; nothing where that is not known.
    pub after: Vec<Reading>,
    /// What has to be added to a count that is read, to make a position of it.
    pub shift: i64,
}

/// A statement that reads an element, or a part of it: its first row is the answer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reading {
    /// The statement.
    pub text: String,
    /// What is asked where it gives no row.
    pub otherwise: Option<String>,
}

/// What a reading gave.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Answer {
    /// Its first row.
    pub row: Option<Vec<Datum>>,
    /// Whether it is that of [`Reading::otherwise`].
    pub is_other: bool,
}

/// What is there, before anything is changed.
#[derive(Debug, Clone, PartialEq)]
pub enum Found {
    /// What was read; no row where an element is added.
    Same(Option<Row>),
    /// Something else, or nothing more.
    Other(Option<Row>),
    /// What the change cannot be done with, as a sentence without a full stop.
    Hindered(String),
}

/// The statements around all changes.
#[derive(Debug, Clone, PartialEq)]
pub struct Around {
    /// Before anything is read.
    pub first: String,
    /// Whether the server may refuse that: then each change is whole by itself, and what was done is taken back by changes.
    pub may_be_refused: bool,
    /// Between what reads and what writes: from there on statements are only noted down. Empty where there is no such thing.
    pub within: &'static str,
    /// Keeps what was written. Where statements were only noted down, it gives the reply of each as a row, or nothing, where
    /// somebody else changed what was read.
    pub last: &'static str,
    /// Gives it up: before [`Around::within`], and from there on.
    pub back: [&'static str; 2],
    /// What stands before a remark.
    pub remark: &'static str,
}

/// How a language changes single elements.
pub trait Elements: Debug + Sync {
    /// What the rows of a statement are; `columns` are those of the result, with their types. An error is a sentence
    /// that says why they cannot be changed.
    fn place(&self, statement: &str, columns: &[(String, String)]) -> Result<Place, String>;

    /// Whether rows are read as documents, which [`Elements::of_document`] takes apart.
    fn has_documents(&self) -> bool {
        false
    }

    /// The values of a row that is a document; `exact` if fields that are NULL and fields that are not there are told apart in it.
    fn of_document(&self, _place: &Place, _document: &str, _exact: bool) -> Result<Row, String> {
        Err("these rows are not documents".into())
    }

    /// What is sent for these changes, in the order in which it is sent. An error is the change and a sentence.
    fn plan(&self, place: &Place, edits: &[Edit<'_>]) -> Result<Vec<Planned>, (usize, String)>;

    /// What is there, by the answers to what was asked first.
    fn found(&self, place: &Place, edit: &Edit<'_>, planned: &Planned, answers: &[Answer]) -> Found;

    /// What became of an element, by the answers to what was asked before and after; none where that is not known. Of one that
    /// was deleted it may be what stands there now.
    fn became(&self, place: &Place, edit: &Edit<'_>, planned: &Planned, answers: [&[Answer]; 2]) -> Option<Row>;

    /// The change that takes one back, whose element was and is now as told; none where nobody knows.
    fn opposite(&self, place: &Place, edit: &Edit<'_>, before: Option<&Row>, after: Option<&Row>) -> Option<Undo>;

    /// The statements around changes.
    fn around(&self, place: &Place, edits: &[Edit<'_>]) -> Around;

    /// Whether a reply in [`Around::last`] says that its statement was carried out.
    fn went_well(&self, _reply: &[Datum]) -> bool {
        true
    }

    /// The types of fields, by what their values are ([`super::ColumnType`]), where rows of a file become elements.
    fn types(&self) -> Option<&'static [&'static str; 13]> {
        None
    }

    /// What rows that are loaded become, where the name of where they go does not say it; an error is a sentence without a
    /// full stop. None where each of them is an element of what is named.
    fn filling(&self, _target: &str) -> Option<Result<Filling, String>> {
        None
    }

    /// What would be sent for a row that goes there, to be looked at: `places` are the values of its key, `fields` the others by
    /// the names of their columns. An error is why it cannot go there: something is NULL
    /// that cannot be, or a column that has a meaning of its own has another value.
    fn filled(&self, _target: &str, _places: &[Datum], _fields: &[(&str, Datum)]) -> Result<Vec<String>, String> {
        Ok(Vec::new())
    }

    /// The type of numbers that come from columns of decimals, where it is not the one of numbers that are written so.
    fn type_of_decimals(&self) -> Option<&'static str> {
        None
    }

    /// The type of a value, as it is written, and its text as a person edits it.
    fn plain(&self, _written: &str) -> Option<(String, String)> {
        None
    }

    /// A value of a type as it is written, from the text that a person typed. An error says what is wrong.
    fn written(&self, _of: &str, text: &str) -> Result<String, String> {
        Ok(text.to_owned())
    }

    /// What stands at a path in a value: names and positions with dots between.
    fn part_at(&self, _written: &str, _path: &str) -> Option<String> {
        None
    }

    /// A value with another one at a path in it, or with nothing there.
    fn with_part(&self, _written: &str, _path: &str, _part: Option<&str>) -> Option<String> {
        None
    }

    /// Whether two elements, as they are written, differ in no other parts than these.
    fn differ_only_in(&self, _one: &str, _other: &str, _names: &[&str]) -> bool {
        false
    }

    /// A value over several lines, for a person to edit.
    fn laid_out(&self, written: &str) -> String {
        written.to_owned()
    }

    /// An identifier for an element more, from 12 random bytes: the one that the server or its drivers would make of them
    /// where nobody says one. None if a person has to say.
    fn new_key(&self, _random: [u8; 12]) -> Option<Datum> {
        None
    }
}
