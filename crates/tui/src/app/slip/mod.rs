//! The slip on the screen: what is drafted of the result in hand, and how it is sent and taken back.

mod sending;
mod slips;

pub use slips::Slips;

use std::collections::BTreeMap;
use std::path::Path;

use jaunty_core::archive::Archive;
use jaunty_core::run::execute::keeps;
use jaunty_core::slip::{Ground, Row, Slip, Undrafted, block, element_of, row_of};
use jaunty_language::dialect::Dialect;
use jaunty_language::text::clean;
use jaunty_seam::profile::{Guard, Profile};
use jaunty_seam::rows::cell::type_name;
use jaunty_seam::rows::origin::Origin;

use super::overlay::{CellEditor, SlipView};
use super::{App, Overlay};
use crate::work::{Done, Kind};
use jaunty_core::words;

/// More rows than this are changed by a statement.
const MOST: u64 = 10_000;

/// What rows are read again for.
#[derive(Debug, Clone)]
pub enum Purpose {
    /// To give a value of theirs another one.
    Change,
    /// To give all of a document another text.
    Whole,
    /// To be deleted, or not.
    Delete,
    /// To be added once more.
    Copy,
    /// For a row that is added.
    Add,
    /// To take cells of a block, from a clipboard.
    Paste(Vec<Vec<String>>),
}

/// Rows that were read to be changed.
#[derive(Debug)]
pub struct Drafting {
    /// A slip without drafts, for what can be changed of them.
    pub head: Slip,
    /// The rows, by their number in the archive.
    pub rows: Vec<(u64, Row)>,
    /// The places in the result of the columns from the one in hand on, as they are shown.
    pub columns: Vec<usize>,
    /// The name of the column in hand, where it is a part of one that was opened.
    pub part: Option<String>,
    /// What for.
    pub purpose: Purpose,
}

impl App {
    /// Tells of slips that were drafted earlier.
    pub(super) fn tell_of_slips(&mut self) {
        if let Some(unread) = self.slips.unread.first() {
            return self.tell_wrong(clean::clean(unread).into_owned());
        }
        let drafts: usize = self.slips.all.iter().map(|slip| slip.drafts.len()).sum();
        if drafts > 0 {
            let key = self.key_of("slip").unwrap_or_default();
            let drafts = words::count(drafts as u64, "change");
            self.tell(format!("{drafts} drafted earlier and not sent · {key} lists them"));
        }
    }

    /// Opens the editor of the value in hand, or of the cells that are marked.
    pub fn change_value(&mut self) {
        self.read_rows(Purpose::Change);
    }

    /// Opens all of the document in hand as text.
    pub fn change_document(&mut self) {
        self.read_rows(Purpose::Whole);
    }

    /// Marks rows to be deleted, or takes the mark back.
    pub fn delete_rows(&mut self) {
        self.read_rows(Purpose::Delete);
    }

    /// Drafts a row more.
    pub fn add_row(&mut self) {
        self.read_rows(Purpose::Add);
    }

    /// Drafts a row more with the values of this one.
    pub fn copy_row(&mut self) {
        self.read_rows(Purpose::Copy);
    }

    /// Takes a block of cells for the cells from the one in hand on. False if it is text for the buffer.
    pub(super) fn paste_cells(&mut self, text: &str) -> bool {
        let path = self.rows.base();
        let has_slip = path.is_some_and(|path| self.slips.of_rows(&path).next().is_some());
        if !(has_slip || text.contains('\t')) {
            return false;
        }
        let block = block::read(text);
        if !block.is_empty() {
            self.read_rows(Purpose::Paste(block));
        }
        true
    }

    /// Reads rows again, whole: what is drafted is compared with them when it is sent.
    fn read_rows(&mut self, purpose: Purpose) {
        let (Some(run), Some(shown), Some(kept)) =
            (self.rows.run().cloned(), self.rows.kept().cloned(), self.rows.own())
        else {
            return self.tell_wrong("no rows here");
        };
        if self.refuses_from_elsewhere() {
            return;
        }
        let Some(profile) = self.connection.profile.clone() else { return self.tell_wrong("not connected") };
        if profile.guard == Guard::ReadOnly {
            let name = clean::clean(&profile.name).into_owned();
            return self.tell_wrong(format!("{name} is read-only: its rows cannot be changed here"));
        }
        let dialect = self.buffer.document.outline().dialect();
        let is_opened = self.rows.is_opened();
        if is_opened && (dialect.elements.is_none() || matches!(purpose, Purpose::Paste(_))) {
            return self.tell_wrong("a column is opened into its parts; close it (X) to change rows");
        }
        // What tells elements apart is known from the statement; rows of a table want the catalog.
        let catalog = self.connection.catalog.clone();
        if catalog.is_none() && dialect.elements.is_none() {
            return self.tell_wrong("the catalog is still being read: the key of these rows is not known yet");
        }
        let (view, total) = (self.rows.view(), self.rows.total());
        let (from, to, first) = match (&purpose, view.marked(total)) {
            (Purpose::Add, _) => (view.row, view.row, view.column),
            (Purpose::Paste(block), _) => (view.row, total.min(view.row + block.len() as u64), view.column),
            (_, Some((rows, columns))) => (rows.start, rows.end.min(total), columns.start),
            _ => (view.row, (view.row + 1).min(total), view.column),
        };
        if to - from > MOST {
            return self.tell_wrong(format!(
                "{} are too many for a slip, which takes {}; change them by a statement",
                words::count(to - from, "row"),
                words::number(MOST)
            ));
        }
        if let (Purpose::Change, Some((_, columns))) = (&purpose, view.marked(total))
            && columns.len() > 1
        {
            return self.tell_wrong("mark cells of one column to give all of them one value");
        }
        let numbers: Vec<u64> = (from..to).map(|at| view.row_of(at)).collect();
        let mut columns = view.columns.get(first..).unwrap_or_default().to_vec();
        let at = columns.first().copied().unwrap_or(first);
        let head = Slip {
            connection: profile.name.clone(),
            database: run.database.clone(),
            statement: run.statement.clone(),
            archive: kept.path().to_owned(),
            ..Slip::default()
        };
        self.begin_work(Kind::Slip, "reading the rows".into(), move |_| {
            let read = || -> Result<Drafting, String> {
                let archive = kept.archive().map_err(|error| error.to_string())?;
                let schema = archive.schema();
                let names: Vec<String> = schema.fields().iter().map(|field| field.name().clone()).collect();
                // A key may be quicker than the first page, from which on the order of columns is known.
                if columns.is_empty() {
                    columns = (first..names.len()).collect();
                }
                let found = match &catalog {
                    Some(catalog) if dialect.elements.is_none() => {
                        let told: Vec<Option<Origin>> = schema.fields().iter().map(|field| Origin::of(field)).collect();
                        Ground::find((&head.statement, &names, &told), at, catalog, dialect)
                    }
                    _ => {
                        let types = schema.fields().iter().map(|field| type_name(field));
                        let columns: Vec<_> = names.into_iter().zip(types).collect();
                        Ground::of_elements(&head.statement, &columns, dialect)
                    }
                };
                let ground = found.map_err(|error| error.to_string())?;
                let rows = rows_of(&archive, &ground, &numbers, dialect)?;
                let part = match is_opened {
                    true => {
                        let opened = shown.archive().map_err(|error| error.to_string())?.schema();
                        opened.fields().get(at).map(|field| field.name().clone())
                    }
                    false => None,
                };
                Ok(Drafting { head: Slip { ground, ..head }, rows, columns, part, purpose })
            };
            Done::Drafting(read().map(Box::new))
        });
    }

    /// Drafts what rows were read for.
    pub(super) fn take_drafting(&mut self, drafting: Drafting) {
        let Drafting { head, rows, columns, part, purpose } = drafting;
        if let Some(place) = &head.ground.place {
            let refused = match purpose {
                Purpose::Add | Purpose::Copy => !place.can[0],
                Purpose::Delete => !place.can[1],
                _ => false,
            };
            if refused {
                let key = self.key_of("change-value").unwrap_or_default();
                return self.tell_wrong(format!("nothing can be added or deleted here; {key} changes the value"));
            }
        }
        if let (true, Some((_, row))) = (head.ground.key.is_empty(), rows.first()) {
            let known = row.iter().filter(|value| value.is_some()).count();
            if known < head.ground.fields.len() {
                let missing: Vec<usize> =
                    (0..head.ground.fields.len()).filter(|at| row.get(*at).is_some_and(Option::is_none)).collect();
                return self.tell_wrong(format!(
                    "{} has no key, and {} was not read: without it nothing tells its rows apart",
                    head.ground.table.name,
                    head.ground.names(&missing)
                ));
            }
        }
        match purpose {
            Purpose::Change | Purpose::Whole => {
                let whole = matches!(purpose, Purpose::Whole);
                // A part of an opened column is changed within its field.
                let own = part.as_ref().and_then(|name| {
                    let named = |field: &jaunty_core::slip::Field| field.column.name == *name;
                    head.ground.fields.iter().position(named).map(|field| (field, String::new()))
                });
                let found = match &part {
                    _ if whole => head.ground.whole().map(|field| (field, String::new())),
                    Some(name) => own.or_else(|| head.ground.within(name)),
                    None => columns.first().and_then(|at| head.ground.field_at(*at)).map(|at| (at, String::new())),
                };
                let Some((field, within)) = found else {
                    return self.tell_wrong(match (whole, &head.ground.place) {
                        (true, _) => "only documents can be changed as text".to_owned(),
                        (_, Some(_)) => "this column is not one that can be changed here".to_owned(),
                        (_, None) => "this column is not one of the table".to_owned(),
                    });
                };
                let slip = self.slips.find(&head).unwrap_or(&head);
                let dialect = self.buffer.document.outline().dialect();
                let first = rows.first().and_then(|(row, old)| {
                    if whole {
                        return slip.whole_of((*row, old), dialect);
                    }
                    let draft = slip.of_row(*row).and_then(|at| slip.drafts.get(at));
                    draft.and_then(|draft| draft.value(field)).or(old.get(field)?.as_ref()).cloned()
                });
                let editor = CellEditor::of_rows(head, rows, (field, within), first, dialect);
                self.open_cell_editor(editor);
                if whole && crate::app::buffers::text_editor().is_some() {
                    self.on::<CellEditor, _>(CellEditor::edit_outside);
                }
            }
            Purpose::Delete => {
                let mut kept = 0;
                let count = rows.len();
                let drafted = self.draft(&head, |slip| {
                    for row in rows {
                        kept += usize::from(!slip.delete(row)?);
                    }
                    Ok(())
                });
                if drafted {
                    let said = match kept {
                        0 => format!("{} marked to be deleted", words::count(count as u64, "row")),
                        _ => format!("{} kept", words::count(kept as u64, "row")),
                    };
                    self.tell(format!("{said} · {}", self.how_to_send()));
                }
                self.unmark();
            }
            Purpose::Add => {
                let begun = head.begun(self.buffer.document.outline().dialect());
                self.open_added(&head, begun);
            }
            Purpose::Copy => {
                let dialect = self.buffer.document.outline().dialect();
                let like = |old: &Row| {
                    let mut new = head.begun(dialect);
                    new.extend(head.copied(old));
                    new
                };
                let new: Vec<_> = rows.iter().map(|(_, old)| like(old)).collect();
                match new.len() {
                    1 => new.into_iter().for_each(|new| self.open_added(&head, new)),
                    count => {
                        let drafted = self.draft(&head, |slip| {
                            for new in new {
                                slip.add(new);
                            }
                            Ok(())
                        });
                        if drafted {
                            let rows = words::count(count as u64, "row");
                            self.tell(format!("{rows} drafted again · {}", self.how_to_send()));
                        }
                    }
                }
            }
            Purpose::Paste(block) => self.paste_block(&head, rows, &columns, &block),
        }
    }

    fn open_added(&mut self, head: &Slip, new: BTreeMap<usize, jaunty_core::slip::Datum>) {
        let mut at = 0;
        self.status = None;
        self.draft(head, |slip| {
            at = slip.add(new);
            Ok(())
        });
        let mut view = SlipView::of(head, at);
        view.open_fields();
        self.overlay = Some(Overlay::Slip(Box::new(view)));
    }

    fn paste_block(&mut self, head: &Slip, rows: Vec<(u64, Row)>, columns: &[usize], block: &[Vec<String>]) {
        let dialect = self.buffer.document.outline().dialect();
        let widest = block.iter().map(Vec::len).max().unwrap_or(0);
        if rows.len() < block.len() || columns.len() < widest {
            return self.tell_wrong(format!(
                "the block has {} of {}; from this cell on there are {} of {}. Nothing was drafted",
                words::count(block.len() as u64, "row"),
                words::count(widest as u64, "column"),
                rows.len(),
                columns.len()
            ));
        }
        let fields: Vec<Option<usize>> = columns.iter().map(|place| head.ground.field_at(*place)).collect();
        let mut cells = 0;
        let drafted = self.draft(head, |slip| {
            for (row, line) in rows.into_iter().zip(block) {
                for (text, field) in line.iter().zip(&fields) {
                    let Some(field) = field else { continue };
                    let of = &slip.ground.fields[*field];
                    let (value, mistake) = of.kind.read(text, dialect);
                    if let Some(jaunty_core::slip::Mistake::Wrong(what)) = mistake {
                        return Err(Undrafted::Mistake(of.column.name.clone(), what));
                    }
                    slip.change(row.clone(), *field, value)?;
                    cells += 1;
                }
            }
            Ok(())
        });
        if drafted {
            self.tell(format!("{} drafted · {}", words::count(cells, "cell"), self.how_to_send()));
        }
    }

    /// Changes a slip, and writes it to disk. False, with the reason told, where that cannot be: all of it is as it was
    /// then.
    pub(in crate::app) fn draft(
        &mut self,
        head: &Slip,
        change: impl FnOnce(&mut Slip) -> Result<(), Undrafted>,
    ) -> bool {
        let slip = self.slips.find_mut(head);
        let before = slip.drafts.clone();
        let outcome = change(slip);
        if outcome.is_err() {
            slip.drafts = before;
        }
        // Where runs are not recorded, drafts go with the program too.
        let keeps = self.keeps_slips_of(head);
        let saved = self.slips.find(head).filter(|_| keeps).map(|slip| self.slips.store.save(slip));
        self.slips.with_others = false;
        match saved {
            Some(Ok(Some(merged))) => {
                *self.slips.find_mut(head) = merged;
                self.slips.with_others = true;
            }
            Some(Err(error)) => {
                self.slips.all.retain(|slip| !slip.is_empty());
                self.tell_wrong(format!("the slip is not safe on disk: {error}"));
                return outcome.is_ok();
            }
            Some(Ok(None)) | None => {}
        }
        self.slips.all.retain(|slip| !slip.is_empty());
        if let Err(error) = &outcome {
            self.tell_wrong(clean::clean(&error.to_string()).into_owned());
        }
        outcome.is_ok()
    }

    /// The profile that a slip is for, if it is known.
    fn profile_of(&self, slip: &Slip) -> Option<&Profile> {
        let in_hand = self.connection.profile.as_ref().filter(|profile| profile.name == slip.connection);
        in_hand.or_else(|| self.known.find(&slip.connection))
    }

    /// Whether the slips of this one's profile are written to disk.
    pub(super) fn keeps_slips_of(&self, slip: &Slip) -> bool {
        self.profile_of(slip).is_none_or(keeps)
    }

    /// The language of a slip, which may be for another connection than the one in hand.
    pub fn dialect_of(&self, slip: &Slip) -> &'static Dialect {
        let engine = self.profile_of(slip).map(|profile| profile.engine.as_str());
        let engine = engine.and_then(|name| self.engines.iter().find(|engine| engine.name() == name));
        engine.map_or_else(|| self.buffer.document.outline().dialect(), |engine| engine.dialect())
    }

    /// What a person presses to go on.
    pub(in crate::app) fn how_to_send(&self) -> String {
        let key = |name: &str| self.key_of(name).unwrap_or_default();
        let others = if self.slips.with_others { ", with what another jaunty drafted" } else { "" };
        format!("{} shows and sends the slip{others}", key("slip"))
    }

    /// What is drafted of a result, in words; empty where nothing is.
    pub fn drafted_of(&self, archive: &Path) -> String {
        let all: Vec<String> = self.slips.of_rows(archive).map(Slip::counted).collect();
        if all.is_empty() { String::new() } else { format!("slip: {}", all.join(" · ")) }
    }

    /// Drops the draft that was made last of the result in hand.
    pub fn undo_draft(&mut self) {
        let path = self.rows.base().unwrap_or_default();
        let Some(head) = self.slips.of_rows(&path).next().cloned() else { return self.tell("nothing is drafted here") };
        let last = head.drafts.len().saturating_sub(1);
        let line = clean::clean(&head.line(last)).into_owned();
        self.draft(&head, |slip| {
            slip.drop_draft(last);
            Ok(())
        });
        self.tell(format!("draft dropped: {line}"));
    }
}

/// Some rows of an archive, whole.
fn rows_of(
    archive: &Archive,
    ground: &Ground,
    numbers: &[u64],
    dialect: &'static Dialect,
) -> Result<Vec<(u64, Row)>, String> {
    let mut rows = Vec::with_capacity(numbers.len());
    for numbers in numbers.chunks(256) {
        let wanted: Vec<u32> = numbers.iter().filter_map(|number| u32::try_from(*number).ok()).collect();
        let batch = archive.gather(&wanted, None).map_err(|error| error.to_string())?;
        for (at, number) in numbers.iter().enumerate() {
            let row = match ground.place {
                Some(_) => element_of(ground, dialect, &batch, (at, *number))?,
                None => row_of(ground, &batch, at),
            };
            rows.push((*number, row));
        }
    }
    Ok(rows)
}
