//! Slips of what has no tables: documents, and elements of a key. Their language plans what is sent
//! ([`jaunty_language::dialect::Elements`]); here it is sent, in one of three ways that servers have:
//!
//! - a transaction in which everything is read and written;
//! - a transaction that only notes statements down, and carries them out if nothing that was read before has changed;
//! - none: each change is whole by itself, and those that were done are taken back where a later one is not.

use std::collections::BTreeMap;
use std::collections::hash_map::RandomState;
use std::hash::{BuildHasher, Hasher};
use std::time::{SystemTime, UNIX_EPOCH};

use arrow_array::RecordBatch;
use jaunty_language::dialect::{
    Answer, Around, Dialect, Edit, Elements, Found, Place, Planned, Reading, Source, Takes, Undo,
};
use jaunty_seam::engine::{Stop, Transaction};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::ColumnReader;

use super::send::Line;
use super::statements::Listed;
use super::{Conflict, Datum, Draft, Ground, Row, Sent, SentRow, Slip, Unsent, What, datum};
use crate::export::extended;

/// A language's way to change elements, and what they are elements of.
type Of<'a> = (&'static dyn Elements, &'a Place);

/// How often a slip is sent again where a key was changed by somebody else in something that the slip is not about.
const ATTEMPTS: usize = 20;

/// A row of a result as the parts of an element; `number` is that of the row in the archive.
pub fn element_of(
    ground: &Ground,
    dialect: &'static Dialect,
    batch: &RecordBatch,
    (at, number): (usize, u64),
) -> Result<Row, String> {
    let (Some(of), Some(place)) = (dialect.elements, &ground.place) else {
        return Err("these rows are not elements of anything".into());
    };
    if of.has_documents() {
        let text = extended::document(batch, at, false).map_err(|error| error.to_string())?;
        return of.of_document(place, &text, false);
    }
    let columns = ColumnReader::all(batch);
    let value = |source: &Source| match source {
        Source::Untold => None,
        Source::Column(column) => {
            let cell = columns.get(*column)?.get(at);
            Some(datum(cell.kind, &cell.text))
        }
        Source::Counted(first) => Some(Datum::Number((first + number).to_string())),
        Source::Listed(all) => usize::try_from(number).ok().and_then(|number| all.get(number)).cloned(),
    };
    Ok(place.parts.iter().map(|part| value(&part.source)).collect())
}

/// The values of an element more that is like this one: without what tells it apart.
pub(super) fn copied(ground: &Ground, old: &Row) -> BTreeMap<usize, Datum> {
    let is_taken = |at: &usize| {
        let of_it = ground.part(*at).is_some_and(|part| part.is_key || part.fixed || part.whole);
        !of_it && old.get(*at).is_some_and(|value| value.as_ref().is_some_and(|value| !value.is_word()))
    };
    (0..ground.fields.len()).filter(is_taken).filter_map(|at| Some((at, old.get(at)?.clone()?))).collect()
}

/// What tells an element more apart, where nobody has to say it. It is known before it is sent, so that it can be taken
/// back.
pub(super) fn new_key(ground: &Ground, dialect: &'static Dialect) -> BTreeMap<usize, Datum> {
    let given = ground.key.iter().filter(|at| ground.is_given_else(**at));
    given.filter_map(|at| Some((*at, dialect.elements?.new_key(random())?))).collect()
}

/// The fields of the key that a text of all of an element says; none where the field is another one.
pub(super) fn key_in_whole(ground: &Ground, dialect: &'static Dialect, field: usize, text: &Datum) -> Vec<usize> {
    let (Some(of), true) = (dialect.elements, ground.whole() == Some(field)) else { return Vec::new() };
    let says = |at: &usize| ground.part(*at).is_some_and(|part| of.part_at(text.text(), &part.name).is_some());
    ground.key.iter().copied().filter(says).collect()
}

/// Bytes that nobody has had before: seconds first, so that identifiers made of them come in the order of time.
fn random() -> [u8; 12] {
    let mut bytes = [0; 12];
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |time| time.as_secs() as u32);
    bytes[..4].copy_from_slice(&now.to_be_bytes());
    bytes[4..].copy_from_slice(&RandomState::new().build_hasher().finish().to_be_bytes());
    bytes
}

/// What an element is called that is not there at all: its key was asked for, and nothing was found.
pub(super) fn nothing_there(ground: &Ground, old: &Row) -> Option<String> {
    let place = ground.place.as_ref()?;
    let is_nothing = |(part, value): (&jaunty_language::dialect::Part, &Option<Datum>)| {
        part.takes == Takes::Text && !part.is_key && !part.optional && *value == Some(Datum::Null)
    };
    let name = || {
        let at = place.parts.iter().position(|part| part.is_key)?;
        old.get(at)?.as_ref().map(|name| name.shown().to_owned())
    };
    place.parts.iter().zip(old).any(is_nothing).then(|| name().unwrap_or_else(|| place.name.clone()))
}

/// All of an element as text, with what is drafted for its parts.
pub(super) fn whole_with_drafts(ground: &Ground, dialect: &'static Dialect, draft: &Draft) -> Option<Datum> {
    let (of, place) = (dialect.elements?, ground.place.as_ref()?);
    let mut text = draft.value(ground.whole()?)?.text().to_owned();
    for (field, value) in draft.new.iter().filter(|(field, _)| Some(**field) != ground.whole()) {
        let written = (*value != Datum::Absent).then(|| value.literal(dialect));
        text = of.with_part(&text, &place.parts.get(*field)?.name, written.as_deref())?;
    }
    Some(Datum::Text(text))
}

/// The parts of a text of all of an element, where nothing else in it differs from what was read: each as it is to be.
pub(super) fn parts_of_whole(
    ground: &Ground,
    dialect: &'static Dialect,
    old: &Row,
    text: &Datum,
) -> Option<Vec<(usize, Datum)>> {
    let (of, place) = (dialect.elements?, ground.place.as_ref()?);
    let before = old.get(ground.whole()?)?.as_ref()?;
    let can = |part: &&jaunty_language::dialect::Part| !part.whole && !part.fixed && !part.lasting;
    let names: Vec<&str> = place.parts.iter().filter(can).map(|part| part.name.as_str()).collect();
    if !of.differ_only_in(before.text(), text.text(), &names) {
        return None;
    }
    let now = of.of_document(place, text.text(), true).ok()?;
    let mut parts = Vec::new();
    for (at, _) in place.parts.iter().enumerate().filter(|(_, part)| can(part)) {
        match (old.get(at).and_then(Option::as_ref), now.get(at).cloned().flatten()) {
            // What is NULL is not in the text.
            (Some(was @ Datum::Null), Some(Datum::Absent | Datum::Null)) => parts.push((at, was.clone())),
            (_, Some(is)) => parts.push((at, is)),
            (_, None) => {}
        }
    }
    Some(parts)
}

fn edit(draft: &Draft) -> Edit<'_> {
    match draft.what {
        What::Change => Edit::Change(&draft.old, &draft.new),
        What::Add => Edit::Add(&draft.new),
        What::Delete => Edit::Delete(&draft.old),
    }
}

fn draft(undo: Undo) -> Draft {
    let (what, old, new) = match undo {
        Undo::Change(old, new) => (What::Change, old, new),
        Undo::Add(new) => (What::Add, Row::new(), new),
        Undo::Delete(old) => (What::Delete, old, BTreeMap::new()),
    };
    Draft { what, row: None, old, new }
}

/// All statements in the order in which they are sent; see [`super::statements::listed`].
pub(super) fn listed(slip: &Slip, (of, place): Of<'_>, dialect: &Dialect, within: bool) -> Vec<Listed> {
    let end = if dialect.ends_with_line { "" } else { ";" };
    let line = |draft, changes, text: &str| Listed { draft, changes, text: format!("{text}{end}") };
    let edits: Vec<Edit<'_>> = slip.drafts.iter().map(edit).collect();
    let around = of.around(place, &edits);
    let planned = match of.plan(place, &edits) {
        Ok(planned) => planned,
        Err((draft, what)) => {
            return vec![Listed { draft: Some(draft), changes: true, text: format!("{} {what}", around.remark) }];
        }
    };
    let mut all = Vec::new();
    if !within {
        let mut first = line(None, false, &around.first);
        if around.may_be_refused {
            first.text.push_str(&format!("  {} where the server has transactions", around.remark));
        }
        all.push(first);
    }
    let reads = |planned: &Planned| -> Vec<Listed> {
        planned.reads.iter().map(|reading| line(Some(planned.edit), false, &reading.text)).collect()
    };
    all.extend(planned.iter().flat_map(reads));
    if !around.within.is_empty() {
        all.push(line(None, false, around.within));
    }
    let writes = |planned: &Planned| -> Vec<Listed> {
        planned.writes.iter().map(|text| line(Some(planned.edit), true, text)).collect()
    };
    all.extend(planned.iter().flat_map(writes));
    if !within {
        all.push(line(None, false, around.last));
    }
    all
}

/// The drafts that take everything back; none where it is not known what became of something.
pub(super) fn opposite(slip: &Slip, rows: &[SentRow], (of, place): Of<'_>) -> Option<Vec<Draft>> {
    let pairs = slip.drafts.iter().zip(rows);
    let undone = pairs.map(|(draft, row)| of.opposite(place, &edit(draft), row.before.as_ref(), row.after.as_ref()));
    let mut drafts = undone.map(|undo| undo.map(draft)).collect::<Option<Vec<Draft>>>()?;
    drafts.retain(|draft| draft.what != What::Change || !draft.new.is_empty());
    drafts.reverse();
    Some(drafts)
}

fn refused(draft: Option<usize>, error: EngineError) -> Unsent {
    Unsent::Refused { draft, error, rolled_back: true }
}

/// Sends a slip; see [`super::send()`].
pub(super) fn send(
    slip: &Slip,
    (of, place): Of<'_>,
    line: &mut Line<'_>,
    mut told: impl FnMut(usize),
) -> Result<Sent, Unsent> {
    let edits: Vec<Edit<'_>> = slip.drafts.iter().map(edit).collect();
    let planned = of.plan(place, &edits).map_err(|(draft, what)| Unsent::Hindered { draft, what })?;
    let around = of.around(place, &edits);
    let within = match line.session.location().transaction {
        Some(Transaction::Failed) => return Err(Unsent::FailedTransaction),
        Some(_) if !around.within.is_empty() => return Err(Unsent::Noting),
        open => open.is_some(),
    };
    for _ in 0..ATTEMPTS {
        let mut sending = Sending { of, place, edits: &edits, planned: &planned, around: &around, line: &mut *line };
        if let Some(rows) = sending.attempt(within, &mut told)? {
            return Ok(Sent { rows, uncommitted: within });
        }
    }
    let what = format!("{} kept changing while the slip was sent ({ATTEMPTS} attempts)", place.name);
    Err(Unsent::Hindered { draft: 0, what })
}

/// How what is sent is held together.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Held {
    /// By a transaction, that was begun here or before.
    Together,
    /// By one that notes down what is to be done.
    Noted,
    /// Not at all.
    Alone,
}

struct Sending<'a, 'b> {
    of: &'static dyn Elements,
    place: &'a Place,
    edits: &'a [Edit<'a>],
    planned: &'a [Planned],
    around: &'a Around,
    line: &'a mut Line<'b>,
}

impl Sending<'_, '_> {
    /// Reads everything, and writes everything where it is what was read. None if somebody changed something in between, so
    /// that nothing was written.
    fn attempt(&mut self, within: bool, told: &mut impl FnMut(usize)) -> Result<Option<Vec<SentRow>>, Unsent> {
        let mut held = if self.around.within.is_empty() { Held::Together } else { Held::Noted };
        if !within && let Err(error) = self.line.run(&self.around.first, &[]) {
            match error.kind == ErrorKind::Refused && self.around.may_be_refused {
                true => held = Held::Alone,
                false => return Err(refused(None, error)),
            }
        }
        let begun = !within && held != Held::Alone;
        let mut answers = Vec::with_capacity(self.planned.len());
        let mut rows = vec![SentRow::default(); self.edits.len()];
        for planned in self.planned {
            match self.look(planned) {
                Ok((before, read)) => {
                    rows[planned.edit].before = before;
                    answers.push(read);
                }
                Err(unsent) => return Err(self.give_up(begun, 0, unsent)),
            }
        }
        match held {
            Held::Noted => self.note(&answers, rows, told),
            held => self.write(held, begun, &answers, rows, told).map(Some),
        }
    }

    /// Asks what is there of one element, and compares it with what was read.
    fn look(&mut self, planned: &Planned) -> Result<(Option<Row>, Vec<Answer>), Unsent> {
        let edit = &self.edits[planned.edit];
        let answers = self.ask(&planned.reads).map_err(|error| refused(Some(planned.edit), error))?;
        match self.of.found(self.place, edit, planned, &answers) {
            Found::Same(row) => Ok((row, answers)),
            Found::Other(theirs) => Err(Unsent::Conflict(Conflict { draft: planned.edit, theirs })),
            Found::Hindered(what) => Err(Unsent::Hindered { draft: planned.edit, what }),
        }
    }

    fn ask(&mut self, readings: &[Reading]) -> Result<Vec<Answer>, EngineError> {
        let mut answers = Vec::with_capacity(readings.len());
        for reading in readings {
            if self.line.stop.is_wished() {
                return Err(EngineError::stopped());
            }
            let mut answer = Answer { row: first(self.line.run(&reading.text, &[])?.first()), is_other: false };
            if let (None, Some(otherwise)) = (&answer.row, &reading.otherwise) {
                answer = Answer { row: first(self.line.run(otherwise, &[])?.first()), is_other: true };
            }
            answers.push(answer);
        }
        Ok(answers)
    }

    /// Ends what was begun, where nothing is to come of it.
    fn give_up(&mut self, begun: bool, way: usize, unsent: Unsent) -> Unsent {
        let lost = matches!(&unsent, Unsent::Refused { error, .. } if error.kind == ErrorKind::Lost);
        if begun && !lost {
            let stop = Stop::default();
            let mut line = Line { session: &mut *self.line.session, stop: &stop };
            if let Err(error) = line.run(self.around.back[way], &[]) {
                tracing::warn!(%error, "a slip was not given up");
            }
        }
        unsent
    }

    /// Writes everything, statement by statement.
    fn write(
        &mut self,
        held: Held,
        begun: bool,
        answers: &[Vec<Answer>],
        mut rows: Vec<SentRow>,
        told: &mut impl FnMut(usize),
    ) -> Result<Vec<SentRow>, Unsent> {
        let (mut failed, mut done) = (None, 0);
        for (planned, before) in self.planned.iter().zip(answers) {
            match self.change(planned, before) {
                Ok(after) => rows[planned.edit].after = after,
                Err(unsent) => {
                    failed = Some(unsent);
                    break;
                }
            }
            done += 1;
            told(done);
        }
        if failed.is_none() && begun {
            // It is not stopped: whether it was done before the wish arrived, nobody could say.
            let still = Stop::default();
            let kept = Line { session: &mut *self.line.session, stop: &still }.run(self.around.last, &[]);
            if let Err(error) = kept {
                let rolled_back = error.kind != ErrorKind::Lost;
                return Err(Unsent::Refused { draft: None, error, rolled_back });
            }
        }
        match failed {
            None => Ok(rows),
            Some(unsent) if held == Held::Alone => Err(self.undo(done, &rows, unsent)),
            Some(unsent) => Err(self.give_up(begun, 1, unsent)),
        }
    }

    /// Writes one change, and reads what became of it.
    fn change(&mut self, planned: &Planned, before: &[Answer]) -> Result<Option<Row>, Unsent> {
        let of_draft = |error| refused(Some(planned.edit), error);
        if self.line.stop.is_wished() {
            return Err(of_draft(EngineError::stopped()));
        }
        for text in &planned.writes {
            let done = self.line.run(text, &[]).map_err(of_draft)?;
            match done.affected.unwrap_or(done.rows) {
                1 => {}
                // It was there a moment ago: somebody else was quicker.
                0 => {
                    let theirs = self.look(planned).err();
                    let gone = Conflict { draft: planned.edit, theirs: None };
                    return Err(theirs.unwrap_or(Unsent::Conflict(gone)));
                }
                rows => return Err(Unsent::Counted { draft: planned.edit, rows }),
            }
        }
        let after = self.ask(&planned.after);
        // What became of it is only for taking it back: it is done.
        let after = after.unwrap_or_default();
        Ok(self.of.became(self.place, &self.edits[planned.edit], planned, [before, &after]))
    }

    /// Takes the first changes back, where a later one could not be done and no transaction does it.
    fn undo(&mut self, done: usize, rows: &[SentRow], unsent: Unsent) -> Unsent {
        if matches!(&unsent, Unsent::Refused { error, .. } if error.kind == ErrorKind::Lost) {
            let Unsent::Refused { draft, error, .. } = unsent else { return unsent };
            return Unsent::Refused { draft, error, rolled_back: done == 0 };
        }
        let stop = Stop::default();
        for planned in self.planned.iter().take(done).rev().filter(|planned| !planned.writes.is_empty()) {
            let SentRow { before, after } = &rows[planned.edit];
            let undo = self.of.opposite(self.place, &self.edits[planned.edit], before.as_ref(), after.as_ref());
            let undo = undo.map(draft);
            let texts = undo.as_ref().and_then(|undo| self.of.plan(self.place, &[edit(undo)]).ok());
            let mut line = Line { session: &mut *self.line.session, stop: &stop };
            let mut all = texts.iter().flatten().flat_map(|planned| &planned.writes);
            let is_undone = texts.is_some()
                && all.all(|text| line.run(text, &[]).is_ok_and(|found| found.affected.unwrap_or(found.rows) == 1));
            if !is_undone {
                let what = format!("{unsent}; a change that was done before it could not be taken back");
                let error = EngineError::new(ErrorKind::Refused, what);
                return Unsent::Refused { draft: Some(planned.edit), error, rolled_back: false };
            }
        }
        unsent
    }

    /// Has everything noted down, and carried out in one. None if somebody changed something that was read.
    fn note(
        &mut self,
        answers: &[Vec<Answer>],
        mut rows: Vec<SentRow>,
        told: &mut impl FnMut(usize),
    ) -> Result<Option<Vec<SentRow>>, Unsent> {
        if let Err(error) = self.line.run(self.around.within, &[]) {
            return Err(self.give_up(true, 0, refused(None, error)));
        }
        let writes = self.planned.iter().flat_map(|planned| planned.writes.iter().map(|text| (planned.edit, text)));
        let reads = self.planned.iter().flat_map(|planned| planned.after.iter().map(|r| (planned.edit, &r.text)));
        let writes: Vec<_> = writes.collect();
        for (draft, text) in writes.iter().copied().chain(reads) {
            if let Err(error) = self.line.run(text, &[]) {
                return Err(self.give_up(true, 1, refused(Some(draft), error)));
            }
        }
        if self.line.stop.is_wished() {
            return Err(self.give_up(true, 1, refused(None, EngineError::stopped())));
        }
        let still = Stop::default();
        let done = Line { session: &mut *self.line.session, stop: &still }.run(self.around.last, &[]);
        let replies = match done {
            Ok(found) => found.kept,
            Err(error) => {
                let rolled_back = error.kind != ErrorKind::Lost;
                return Err(Unsent::Refused { draft: None, error, rolled_back });
            }
        };
        if let [only] = replies.as_slice()
            && only.iter().all(|value| value.as_ref().is_none_or(|value| matches!(value.text(), "" | "null")))
        {
            return Ok(None);
        }
        let replies: Vec<Vec<Datum>> = replies.into_iter().map(|row| row.into_iter().flatten().collect()).collect();
        if let Some(((draft, text), reply)) = writes.iter().zip(&replies).find(|(_, reply)| !self.of.went_well(reply)) {
            // There is no way back: the others were carried out.
            let said = reply.first().map_or("", Datum::text);
            let error = EngineError::new(ErrorKind::Refused, format!("{text}: {said}"))
                .remedy("What stood beside it in the slip was carried out.");
            return Err(Unsent::Refused { draft: Some(*draft), error, rolled_back: false });
        }
        let mut replies = replies.into_iter().skip(writes.len());
        for ((planned, before), number) in self.planned.iter().zip(answers).zip(1..) {
            let after: Vec<Answer> = replies
                .by_ref()
                .take(planned.after.len())
                .map(|reply| Answer { row: Some(reply), is_other: false })
                .collect();
            rows[planned.edit].after = self.of.became(self.place, &self.edits[planned.edit], planned, [before, &after]);
            told(number);
        }
        Ok(Some(rows))
    }
}

fn first(row: Option<Row>) -> Option<Vec<Datum>> {
    row.map(|row| row.into_iter().flatten().collect())
}
