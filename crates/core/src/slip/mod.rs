//! The slip: changes to rows that are drafted but not yet sent.
//!
//! [`Ground`] says what of a result can be changed and [`Kind`] what a column takes. A [`Slip`] holds the drafts;
//! [`Store`] keeps it on disk with each of them. [`statements::steps`] makes statements of it, in the order that keys
//! need, and [`send`] carries them out in one transaction, in which each row is read again first: where it is not what
//! was read, everything is rolled back. What was sent has an [`opposite`](send::Sent::opposite), which takes it back.
//!
//! What has no tables has [`Place`](jaunty_language::dialect::Place)s: documents, and elements of a key, are drafted,
//! shown and taken back as rows are; their language plans what is sent, and [`elements`] sends it.

pub mod block;
mod elements;
mod ground;
mod kind;
mod resolve;
mod send;
pub mod statements;
mod store;

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use jaunty_language::dialect::Dialect;
use jaunty_language::text::numbers::grouped;

pub use elements::element_of;
pub use ground::{Field, Ground, NoGround};
pub use jaunty_language::dialect::{Datum, Row};
pub use kind::{Kind, Mistake};
pub use resolve::Keep;
pub use send::{Conflict, Sent, SentRow, Unsent, datum, row_of, send};
pub use store::{Kept, Store};

/// Changes of the rows of one table.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Slip {
    /// The profile that it is for.
    pub connection: String,
    /// The database there.
    pub database: String,
    /// The statement whose rows are changed.
    pub statement: String,
    /// The rows as they were kept.
    pub archive: PathBuf,
    /// The run that this takes back, by its number in the logbook.
    #[serde(default)]
    pub takes_back: Option<i64>,
    /// Whether it was about to be sent. Where this is read from disk the program ended meanwhile, and it may have been.
    #[serde(default)]
    pub sending: bool,
    /// What is changed.
    pub ground: Ground,
    /// The changes, in the order in which they were drafted.
    pub drafts: Vec<Draft>,
}

/// What a draft does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum What {
    /// Changes a row.
    Change,
    /// Adds one.
    Add,
    /// Deletes one.
    Delete,
}

impl What {
    /// Its word, as it stands beside a row.
    pub fn word(self) -> &'static str {
        match self {
            What::Change => "changed",
            What::Add => "added",
            What::Delete => "deleted",
        }
    }

    /// Its sign, as it stands beside a row.
    pub fn sign(self) -> char {
        match self {
            What::Change => '≠',
            What::Add => '+',
            What::Delete => '−',
        }
    }
}

/// One change of one row.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Draft {
    /// What it does.
    pub what: What,
    /// The row of the archive; none for one that is added.
    pub row: Option<u64>,
    /// The row as it was read; empty for one that is added.
    pub old: Row,
    /// The new values, by the field.
    pub new: BTreeMap<usize, Datum>,
}

impl Draft {
    /// A field as it will be; none where it is not known.
    pub fn value(&self, field: usize) -> Option<&Datum> {
        self.new.get(&field).or_else(|| self.old.get(field).and_then(Option::as_ref))
    }

    /// A field as it was.
    pub fn was(&self, field: usize) -> Option<&Datum> {
        self.old.get(field).and_then(Option::as_ref)
    }
}

/// Why something cannot be drafted.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Undrafted {
    /// The server computes the column.
    #[error("\"{0}\" is computed by the server: it cannot be given a value")]
    Computed(String),
    /// The part of an element is not one that a statement can change: a position, a field whose name would be a path.
    #[error("\"{0}\" cannot be changed here; write a statement")]
    Fixed(String),
    /// The column says which row it is, and has none of another name.
    #[error("\"{0}\" cannot be changed; copy the row, and delete this one")]
    Lasting(String),
    /// The column has no NULL.
    #[error("\"{0}\" cannot be NULL")]
    NotNull(String),
    /// The column has no default.
    #[error("\"{0}\" has no default")]
    NoDefault(String),
    /// An outer join found no row.
    #[error("there is no row of {0} here: its key is NULL")]
    NoRow(String),
    /// A key or a field was asked for that is not there.
    #[error("nothing to change: {0} does not exist")]
    Nothing(String),
    /// The row is going to be deleted.
    #[error("this row is marked to be deleted; press the key for deleting again to keep it")]
    Deleted,
    /// The text is not a value of the column.
    #[error("{0}: {1}")]
    Mistake(String, String),
}

impl Slip {
    /// The draft of a row of the archive, by its place.
    pub fn of_row(&self, row: u64) -> Option<usize> {
        self.drafts.iter().position(|draft| draft.row == Some(row))
    }

    /// Whether nothing is drafted.
    pub fn is_empty(&self) -> bool {
        self.drafts.is_empty()
    }

    /// How many drafts there are of each kind, in words: `2 changed, 1 added`.
    pub fn counted(&self) -> String {
        let count = |what| self.drafts.iter().filter(|draft| draft.what == what).count();
        let said = [What::Change, What::Add, What::Delete]
            .into_iter()
            .map(|what| (count(what), what.word()))
            .filter(|(count, _)| *count > 0)
            .map(|(count, word)| format!("{} {word}", grouped(count as u64)));
        said.collect::<Vec<_>>().join(", ")
    }

    /// Whether a field can be given this value.
    pub fn allows(&self, field: usize, value: &Datum) -> Result<(), Undrafted> {
        let Some(of) = self.ground.fields.get(field) else { return Ok(()) };
        let name = || of.column.name.clone();
        match value {
            _ if !of.is_given() && self.ground.place.is_some() => Err(Undrafted::Fixed(name())),
            _ if !of.is_given() => Err(Undrafted::Computed(name())),
            Datum::Absent if !self.ground.can_be_absent(field) => Err(Undrafted::NotNull(name())),
            Datum::Default if self.ground.place.is_some() => Err(Undrafted::NoDefault(name())),
            Datum::Null if !of.column.nullable => Err(Undrafted::NotNull(name())),
            Datum::Default if of.column.default.is_none() && !of.numbered && !of.column.nullable => {
                Err(Undrafted::NoDefault(name()))
            }
            _ => Ok(()),
        }
    }

    /// Drafts another value of a row that was read as `old`. A value as it was takes the draft back.
    pub fn change(&mut self, (row, old): (u64, Row), field: usize, value: Datum) -> Result<(), Undrafted> {
        self.allows(field, &value)?;
        if let Some(part) = self.ground.part(field).filter(|part| part.lasting) {
            return Err(Undrafted::Lasting(part.name.clone()));
        }
        let at = match self.of_row(row) {
            Some(at) if self.drafts[at].what == What::Delete => return Err(Undrafted::Deleted),
            Some(at) => at,
            None => {
                self.is_there(&old)?;
                self.drafts.push(Draft { what: What::Change, row: Some(row), old, new: BTreeMap::new() });
                self.drafts.len() - 1
            }
        };
        let draft = &mut self.drafts[at];
        if draft.was(field) == Some(&value) {
            draft.new.remove(&field);
        } else {
            draft.new.insert(field, value);
        }
        if draft.new.is_empty() {
            self.drafts.remove(at);
        }
        Ok(())
    }

    /// All of an element as text, as it is drafted; `old` is what was read.
    pub fn whole_of(&self, (row, old): (u64, &Row), dialect: &'static Dialect) -> Option<Datum> {
        match self.of_row(row).and_then(|at| self.drafts.get(at)) {
            Some(draft) => elements::whole_with_drafts(&self.ground, dialect, draft),
            None => old.get(self.ground.whole()?)?.clone(),
        }
    }

    /// Drafts another text of all of an element that was read as `old`. Where only parts differ that the result has, it is
    /// those that are drafted.
    pub fn change_whole(
        &mut self,
        (row, old): (u64, Row),
        text: Datum,
        dialect: &'static Dialect,
    ) -> Result<(), Undrafted> {
        let Some(whole) = self.ground.whole() else { return Ok(()) };
        if let Some(parts) = elements::parts_of_whole(&self.ground, dialect, &old, &text) {
            if let Some(at) = self.of_row(row) {
                self.take_out(at, whole);
            }
            return parts.into_iter().try_for_each(|(field, value)| self.change((row, old.clone()), field, value));
        }
        self.change((row, old), whole, text)
    }

    /// Gives a field of a row that is added a value: of this draft, and its field. A text of all of an element that says
    /// what tells it apart takes the place of what was said before.
    pub fn fill_in(
        &mut self,
        (draft, field): (usize, usize),
        value: Datum,
        dialect: &'static Dialect,
    ) -> Result<(), Undrafted> {
        self.allows(field, &value)?;
        let said = elements::key_in_whole(&self.ground, dialect, field, &value);
        if let Some(draft) = self.drafts.get_mut(draft).filter(|draft| draft.what == What::Add) {
            draft.new.insert(field, value);
            draft.new.retain(|field, _| !said.contains(field));
        }
        Ok(())
    }

    /// Drafts a row more; returns the place of the draft.
    pub fn add(&mut self, new: BTreeMap<usize, Datum>) -> usize {
        self.drafts.push(Draft { what: What::Add, row: None, old: Vec::new(), new });
        self.drafts.len() - 1
    }

    /// What a row more begins with: an identifier, if the language makes them.
    pub fn begun(&self, dialect: &'static Dialect) -> BTreeMap<usize, Datum> {
        elements::new_key(&self.ground, dialect)
    }

    /// The values of a row more that is like this one: without what the server numbers, and without columns that were
    /// not read.
    pub fn copied(&self, old: &Row) -> BTreeMap<usize, Datum> {
        if self.ground.place.is_some() {
            return elements::copied(&self.ground, old);
        }
        let given = |(field, value): (usize, &Option<Datum>)| {
            let of = self.ground.fields.get(field)?;
            let is_plain =
                of.column.generated.is_none() && !of.numbered && !(of.column.key && of.column.default.is_some());
            is_plain.then(|| Some((field, value.clone()?)))?
        };
        old.iter().enumerate().filter_map(given).collect()
    }

    /// Marks a row to be deleted, or takes the mark back. What was drafted for it is dropped.
    pub fn delete(&mut self, (row, old): (u64, Row)) -> Result<bool, Undrafted> {
        let before = self.of_row(row).map(|at| self.drafts.remove(at));
        if before.as_ref().is_some_and(|draft| draft.what == What::Delete) {
            return Ok(false);
        }
        self.is_there(&old)?;
        // What was read counts, also where a conflict brought it up to date.
        let old = before.map_or(old, |draft| draft.old);
        self.drafts.push(Draft { what: What::Delete, row: Some(row), old, new: BTreeMap::new() });
        Ok(true)
    }

    /// Takes the new value of a field out of a draft; one that changes nothing more is dropped.
    pub fn take_out(&mut self, at: usize, field: usize) {
        let Some(draft) = self.drafts.get_mut(at) else { return };
        draft.new.remove(&field);
        if draft.what == What::Change && draft.new.is_empty() {
            self.drafts.remove(at);
        }
    }

    /// Drops a draft.
    pub fn drop_draft(&mut self, at: usize) -> Option<Draft> {
        (at < self.drafts.len()).then(|| self.drafts.remove(at))
    }

    /// Whether there is a row of the table at all: an outer join gives NULL where there is none.
    fn is_there(&self, old: &Row) -> Result<(), Undrafted> {
        if let Some(name) = elements::nothing_there(&self.ground, old) {
            return Err(Undrafted::Nothing(name));
        }
        let key = &self.ground.key;
        let missing = key.iter().any(|at| matches!(old.get(*at), Some(Some(Datum::Null)) | None));
        match missing && !key.is_empty() {
            true => Err(Undrafted::NoRow(self.ground.table.name.clone())),
            false => Ok(()),
        }
    }

    /// A draft in one line, for a list: what it does to which row.
    pub fn line(&self, at: usize) -> String {
        let Some(draft) = self.drafts.get(at) else { return String::new() };
        let name = |field: usize| self.ground.fields.get(field).map_or("", |field| field.column.name.as_str());
        let pair = |(field, value): (&usize, &Datum)| match draft.was(*field) {
            Some(old) => {
                let (old, new) = where_they_differ(&quoted(old), &quoted(value));
                format!("{}: {old} → {new}", name(*field))
            }
            None => format!("{} {}", name(*field), quoted(value)),
        };
        let identity: Vec<String> = self
            .ground
            .identity()
            .into_iter()
            .filter_map(|field| Some(format!("{} {}", name(field), quoted(draft.was(field)?))))
            .collect();
        let changes: Vec<String> = draft.new.iter().map(pair).collect();
        let (identity, changes) = (identity.join(", "), changes.join(", "));
        match draft.what {
            What::Change => format!("{identity}: {changes}"),
            What::Add if changes.is_empty() => "only defaults".into(),
            What::Add => changes,
            What::Delete => identity,
        }
    }
}

/// Two values without most of what long ones have in common at their beginnings and ends, so that the difference is seen.
fn where_they_differ(old: &str, new: &str) -> (String, String) {
    /// Less in common is not left out.
    const LITTLE: usize = 16;
    /// How far back the beginning of what differs is looked for: a field with its name.
    const NEAR: usize = 32;
    /// Longer values are not compared: this is asked for whenever they are shown.
    const LONGEST: usize = 64 << 10;
    if old.len().max(new.len()) > LONGEST {
        return (old.to_owned(), new.to_owned());
    }
    let common = old.chars().zip(new.chars()).take_while(|(one, other)| one == other);
    let same: String = common.map(|(c, _)| c).collect();
    let near = same.char_indices().rev().nth(NEAR).map_or(0, |(at, _)| at);
    let head = same[near..].rfind([',', '{', '[']).map(|at| near + at + 1).or_else(|| same.rfind(' ')).unwrap_or(0);
    // Only what both have: one may begin with more white space than the other.
    let head = same.len() - same[head..].trim_start().len();
    let (old_rest, new_rest) = (&old[head..], &new[head..]);
    let common = old_rest.chars().rev().zip(new_rest.chars().rev()).take_while(|(one, other)| one == other);
    let tail: usize = common.map(|(c, _)| c.len_utf8()).sum();
    let tail = old[old.len() - tail..].find([',', ' ', '}', ']']).map_or(0, |at| tail - at);
    let (head, tail) = (if head > LITTLE { head } else { 0 }, if tail > LITTLE { tail } else { 0 });
    let cut = |text: &str| {
        let (before, after) = (if head > 0 { "… " } else { "" }, if tail > 0 { " …" } else { "" });
        format!("{before}{}{after}", &text[head..text.len() - tail])
    };
    (cut(old), cut(new))
}

/// A value in a sentence: an empty text, and one that looks like a word, are told from what they look like.
fn quoted(value: &Datum) -> String {
    match value {
        Datum::Text(text) if text.is_empty() || matches!(text.as_str(), "NULL" | "default") => format!("'{text}'"),
        value => value.shown().to_owned(),
    }
}

#[cfg(test)]
mod tests;
