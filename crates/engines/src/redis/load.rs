//! Many rows at once, each as the command that puts it there. Of the documentation of Redis: "Transactions", "Pipelining".
//!
//! A block is one transaction: its keys are watched, what is there already is asked for, and what is sent then is carried
//! out only if nobody changed one of the keys meanwhile. In a cluster the rows of each slot are a block.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashSet};

use arrow_array::RecordBatch;
use jaunty_language::dialect::bytes_of;
use jaunty_language::dialect::commands::arguments::written;
use jaunty_language::dialect::commands::filling::{Arguments, Field, Holds, Rows};
use jaunty_seam::engine::load::{Load, Meeting, NextRows};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use redis::Value;

use super::cluster::slot;
use super::errors::refusal;
use super::reply::text;
use super::session::RedisSession;

/// How often a block is begun again, if others change its keys meanwhile.
const TRIES: usize = 20;

/// A row on its way.
struct Row {
    key: Vec<u8>,
    commands: Vec<Arguments>,
}

/// Loads rows; returns how many the server took. A block of them is there as a whole after this, or not at all.
pub fn rows(session: &mut RedisSession, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
    let target = Rows::read(load.table).map_err(wrong)?;
    let mut taken = 0;
    while let Some(batch) = next()? {
        let block = block(&target, load, &batch)?;
        for block in if session.is_cluster() { by_slot(block) } else { vec![block] } {
            taken += Loading { session, target: &target, meeting: load.meeting }.block(&block)?;
        }
    }
    Ok(taken)
}

/// Rows whose keys can be in one transaction of a cluster.
fn by_slot(block: Vec<Row>) -> Vec<Vec<Row>> {
    let mut slots = BTreeMap::<u16, Vec<Row>>::new();
    for row in block {
        slots.entry(slot(&row.key)).or_default().push(row);
    }
    slots.into_values().collect()
}

fn wrong(what: String) -> EngineError {
    EngineError::new(ErrorKind::Refused, what)
}

/// The rows of a batch as commands.
fn block(target: &Rows, load: &Load<'_>, batch: &RecordBatch) -> Result<Vec<Row>, EngineError> {
    let columns = ColumnReader::all(batch);
    let is_key: Vec<bool> = load.columns.iter().map(|column| load.key.contains(&column.name)).collect();
    let row = |row: usize| {
        let values: Vec<Option<Cow<'_, [u8]>>> = columns.iter().map(|column| value(column, row)).collect();
        let mut places = Vec::new();
        for name in load.key {
            let at = load.columns.iter().position(|column| column.name == *name);
            let value = at.and_then(|at| values.get(at)).and_then(Option::as_deref);
            places.push(value.ok_or_else(|| wrong(format!("{name}: NULL cannot be part of a key")))?);
        }
        let fields = load.columns.iter().zip(&values).zip(&is_key).filter(|(_, is_key)| !**is_key);
        let fields: Vec<Field<'_>> =
            fields.map(|((column, value), _)| (column.name.as_str(), value.as_deref())).collect();
        let key = target.key(&places);
        let commands = target.commands(&key, &fields);
        let commands = commands.map_err(|what| wrong(format!("{}: {what}", written(&key))))?;
        Ok(Row { key, commands })
    };
    (0..batch.num_rows()).map(row).collect()
}

/// A value as bytes: as they are, or the text of what is something else.
fn value<'a>(column: &'a ColumnReader<'_>, row: usize) -> Option<Cow<'a, [u8]>> {
    let cell = column.get(row);
    match cell.kind {
        CellKind::Null => None,
        CellKind::Binary => Some(Cow::Owned(bytes_of(cell.text.trim_start_matches("\\x")))),
        _ => Some(match cell.text {
            Cow::Borrowed(text) => Cow::Borrowed(text.as_bytes()),
            Cow::Owned(text) => Cow::Owned(text.into_bytes()),
        }),
    }
}

/// What is there already, by key.
#[derive(Default)]
struct There<'a> {
    keys: HashSet<&'a [u8]>,
    members: HashSet<(&'a [u8], &'a [u8])>,
}

/// The words of a command.
fn owned(words: &[&[u8]]) -> Arguments {
    words.iter().map(|word| word.to_vec()).collect()
}

fn no_error(answer: &Value) -> Result<(), EngineError> {
    refusal(answer).map_or(Ok(()), Err)
}

struct Loading<'a> {
    session: &'a mut RedisSession,
    target: &'a Rows,
    meeting: Meeting,
}

impl Loading<'_> {
    fn block(&mut self, rows: &[Row]) -> Result<u64, EngineError> {
        if rows.is_empty() {
            return Ok(0);
        }
        for _ in 0..TRIES {
            let wanted = match self.wanted(rows) {
                Ok(wanted) => wanted,
                Err(error) => {
                    // What is watched would count for the next one.
                    if error.kind == ErrorKind::Refused {
                        self.session.ask(&["unwatch"])?;
                    }
                    return Err(error);
                }
            };
            if let Some(taken) = self.written(&wanted)? {
                return Ok(taken);
            }
        }
        let what = "others keep changing these keys: nothing of this block was loaded";
        Err(EngineError::new(ErrorKind::Refused, what).remedy("Load it again when they are done."))
    }

    /// Watches all keys, asks what is there, and tells the rows that are to be written.
    fn wanted<'a>(&mut self, rows: &'a [Row]) -> Result<Vec<&'a Row>, EngineError> {
        let mut members = BTreeMap::<&[u8], Vec<&[u8]>>::new();
        for row in rows {
            let of_key = members.entry(&row.key).or_default();
            of_key.extend(row.commands[0].get(3).filter(|_| self.target.holds == Holds::Scored).map(Vec::as_slice));
        }
        let keys: Vec<&[u8]> = members.keys().copied().collect();
        let watches: Vec<&[u8]> = [&b"watch"[..]].into_iter().chain(keys.iter().copied()).collect();
        if self.target.holds.is_whole_key() {
            // Mostly none of them is there, which one question tells.
            let exist: Vec<&[u8]> = [&b"exists"[..]].into_iter().chain(keys.iter().copied()).collect();
            let answers = self.session.send_all(&[&watches, &exist].map(|words| owned(words)))?;
            answers.iter().try_for_each(no_error)?;
            if self.meeting == Meeting::Replace || (answers.last() == Some(&Value::Int(0)) && keys.len() == rows.len())
            {
                return Ok(rows.iter().collect());
            }
        } else {
            no_error(&self.session.send_all(&[owned(&watches)])?[0])?;
        }
        let asks_members = self.target.holds == Holds::Scored && self.meeting == Meeting::Refuse;
        let mut questions = Vec::new();
        for (key, members) in &members {
            questions.push(owned(&[b"type", key]));
            if asks_members {
                questions.push(owned(&[&[&b"zmscore"[..], key], members.as_slice()].concat()));
            }
        }
        let answers = self.session.send_all(&questions)?;
        let mut there = There::default();
        for ((key, members), answers) in members.iter().zip(answers.chunks(if asks_members { 2 } else { 1 })) {
            // A key of another type has no members: what is wrong with it is told below.
            let is_of_type = |error: &EngineError| error.code.as_deref() == Some("WRONGTYPE");
            answers
                .iter()
                .try_for_each(no_error)
                .or_else(|error| if is_of_type(&error) { Ok(()) } else { Err(error) })?;
            let of_type = answers.first().map(text).unwrap_or_default();
            if of_type == "none" {
                continue;
            }
            let (wanted, shown) = (self.target.holds.of_type(), written(key));
            if !self.target.holds.is_whole_key() && of_type != wanted {
                return Err(wrong(format!("{shown} is there already, as a {of_type} and not a {wanted}")));
            }
            there.keys.insert(key);
            if let Some(Value::Array(scores)) = answers.get(1) {
                let are = members.iter().zip(scores).filter(|(_, score)| **score != Value::Nil);
                there.members.extend(are.map(|(member, _)| (*key, *member)));
            }
        }
        let mut wanted = Vec::with_capacity(rows.len());
        for row in rows {
            let member = row.commands[0].get(3).map_or(&[][..], Vec::as_slice);
            // What comes twice in the block is there by then, too.
            let (is_new, what) = match (self.target.holds, self.meeting) {
                (_, Meeting::Replace) => (true, String::new()),
                (Holds::Hash | Holds::Text, _) => (there.keys.insert(&row.key), written(&row.key)),
                (Holds::Scored, Meeting::Refuse) => {
                    (there.members.insert((&row.key, member)), format!("{} of {}", written(member), written(&row.key)))
                }
                _ => (true, String::new()),
            };
            match (is_new, self.meeting) {
                (true, _) => wanted.push(row),
                (false, Meeting::Skip) => {}
                (false, _) => return Err(wrong(format!("{what} is there already"))),
            }
        }
        Ok(wanted)
    }

    /// Writes rows in one transaction; returns how many were taken, or none where somebody changed a key meanwhile.
    fn written(&mut self, rows: &[&Row]) -> Result<Option<u64>, EngineError> {
        let word = |word: &str| vec![word.as_bytes().to_vec()];
        let mut commands = vec![word("multi")];
        // Which reply tells how many of a row are new.
        let mut counted = Vec::new();
        let mut lives = BTreeMap::<&[u8], &Arguments>::new();
        for row in rows {
            let whole = self.target.holds.is_whole_key();
            if whole && self.meeting == Meeting::Replace {
                commands.push(vec![b"del".to_vec(), row.key.clone()]);
            }
            for (at, command) in row.commands.iter().enumerate() {
                match (at, self.target.holds, self.meeting) {
                    (0, Holds::Scored, Meeting::Skip) => {
                        let mut command = command.clone();
                        command.insert(2, b"nx".to_vec());
                        counted.push(commands.len() - 1);
                        commands.push(command);
                    }
                    (0, holds, _) => {
                        counted.extend((holds == Holds::Member).then_some(commands.len() - 1));
                        commands.push(command.clone());
                    }
                    // Of a key that many rows share once is enough.
                    (..) if !whole => drop(lives.insert(&row.key, command)),
                    _ => commands.push(command.clone()),
                }
            }
        }
        commands.extend(lives.into_values().cloned());
        commands.push(word("exec"));
        let mut answers = self.session.send_all(&commands).map_err(|error| match error.kind {
            ErrorKind::Stopped | ErrorKind::Lost => EngineError::new(ErrorKind::Lost, error.message)
                .remedy("Rows of the last block may be there: look before you load it again."),
            _ => error,
        })?;
        match answers.pop() {
            Some(Value::Nil) => Ok(None),
            Some(Value::Array(replies)) => {
                // What else was in the block was carried out: it must not be sent again, so it is not only refused.
                replies.iter().try_for_each(no_error).map_err(|error| EngineError {
                    kind: ErrorKind::Lost,
                    ..error.remedy("The other rows of the last block are there: look before you load it again.")
                })?;
                if counted.is_empty() {
                    return Ok(Some(rows.len() as u64));
                }
                let new = counted.iter().filter(|at| matches!(replies.get(**at), Some(Value::Int(1..))));
                Ok(Some(new.count() as u64))
            }
            // Why it did not go is said of the command that was not taken.
            last => {
                answers.iter().chain(&last).try_for_each(no_error)?;
                Err(wrong("the transaction was not carried out".into()))
            }
        }
    }
}
