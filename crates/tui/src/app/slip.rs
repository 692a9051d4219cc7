//! The slip on the screen: what is drafted of the result in hand, and how it is sent and taken back.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use jaunty_core::archive::Archive;
use jaunty_core::run::connection_worker::{Order, Sending};
use jaunty_core::run::{Job, Run};
use jaunty_core::slip::{Draft, Ground, Row, Slip, Store, Undrafted, Unsent, block, row_of};
use jaunty_language::statement::parameters;
use jaunty_language::text::clean;
use jaunty_seam::profile::Guard;
use jaunty_seam::rows::origin::Origin;

use super::overlay::{CellEditor, SlipView};
use super::{App, Item, List, Overlay, Pick};
use crate::work::{Done, Kind};
use jaunty_core::words;

/// More rows than this are changed by a statement.
const MOST: u64 = 10_000;

/// All slips, of all connections.
#[derive(Debug)]
pub struct Slips {
    store: Store,
    all: Vec<Slip>,
    /// How often one was changed.
    revision: u64,
    /// Files that could not be read, each with why.
    pub unread: Vec<String>,
}

/// What rows are read again for.
#[derive(Debug, Clone)]
pub enum Purpose {
    /// To give a value of theirs another one.
    Change,
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
    /// What for.
    pub purpose: Purpose,
}

impl Slips {
    /// Those that are on disk.
    pub fn open(store: Store) -> Slips {
        let (mut all, mut unread) = (Vec::new(), Vec::new());
        for kept in store.all() {
            match kept.slip {
                Ok(slip) => all.push(slip),
                Err(error) => unread.push(format!("the slip {} cannot be read: {error}", kept.path.display())),
            }
        }
        Slips { store, all, revision: 0, unread }
    }

    /// How often one was changed: what was made of them is as they are while it is the same.
    pub fn revision(&self) -> u64 {
        self.revision
    }

    /// All of them.
    pub fn all(&self) -> &[Slip] {
        &self.all
    }

    /// The slip that this one is the head of.
    pub fn find(&self, head: &Slip) -> Option<&Slip> {
        self.all.iter().find(|slip| is_same(slip, head))
    }

    /// The slips of a result.
    pub fn of_rows<'a>(&'a self, archive: &'a Path) -> impl Iterator<Item = &'a Slip> {
        self.all.iter().filter(move |slip| slip.archive == archive && slip.takes_back.is_none())
    }

    /// What is drafted for a row of a result: the draft and where its fields stand.
    pub fn draft_of<'a>(&'a self, archive: &'a Path, row: u64) -> Option<(&'a Slip, &'a Draft)> {
        self.of_rows(archive).find_map(|slip| Some((slip, slip.drafts.get(slip.of_row(row)?)?)))
    }

    fn find_mut(&mut self, head: &Slip) -> &mut Slip {
        self.revision += 1;
        let at = self.all.iter().position(|slip| is_same(slip, head)).unwrap_or_else(|| {
            self.all.insert(0, Slip { drafts: Vec::new(), ..head.clone() });
            0
        });
        &mut self.all[at]
    }
}

fn is_same(one: &Slip, other: &Slip) -> bool {
    (&one.archive, &one.ground.table, one.takes_back, &one.connection, &one.database)
        == (&other.archive, &other.ground.table, other.takes_back, &other.connection, &other.database)
}

impl App {
    /// Tells of slips that were drafted earlier.
    pub(super) fn tell_of_slips(&mut self) {
        if let Some(unread) = self.slips.unread.first() {
            return self.tell_wrong(clean::clean(unread).into_owned());
        }
        let drafts: usize = self.slips.all.iter().map(|slip| slip.drafts.len()).sum();
        if drafts > 0 {
            let key = self.key_of("slips").unwrap_or_default();
            let drafts = words::count(drafts as u64, "change");
            self.tell(format!("{drafts} drafted earlier and not sent · {key} lists them"));
        }
    }

    /// Opens the editor of the value in hand, or of the cells that are marked.
    pub fn change_value(&mut self) {
        self.read_rows(Purpose::Change);
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
        let path = self.rows.kept().map(|kept| kept.path().to_owned());
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
        let (Some(run), Some(kept)) = (self.rows.run().cloned(), self.rows.kept().cloned()) else {
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
        if self.rows.is_opened() {
            return self.tell_wrong("a column is opened into its parts; close it (X) to change rows");
        }
        let Some(catalog) = self.connection.catalog.clone() else {
            return self.tell_wrong("the catalog is still being read: the key of these rows is not known yet");
        };
        let (view, total) = (self.rows.view(), self.rows.total());
        let dialect = self.buffer.document.outline().dialect();
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
        let columns = view.columns.get(first..).unwrap_or_default().to_vec();
        let at = columns.first().copied().unwrap_or(0);
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
                let told: Vec<Option<Origin>> = schema.fields().iter().map(|field| Origin::of(field)).collect();
                let ground = Ground::find((&head.statement, &names, &told), at, &catalog, dialect)
                    .map_err(|error| error.to_string())?;
                let rows = rows_of(&archive, &ground, &numbers)?;
                Ok(Drafting { head: Slip { ground, ..head }, rows, columns, purpose })
            };
            Done::Drafting(read().map(Box::new))
        });
    }

    /// Drafts what rows were read for.
    pub(super) fn take_drafting(&mut self, drafting: Drafting) {
        let Drafting { head, rows, columns, purpose } = drafting;
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
            Purpose::Change => {
                let field = columns.first().and_then(|place| head.ground.field_at(*place));
                let Some(field) = field else { return self.tell_wrong("this column is not one of the table") };
                let slip = self.slips.find(&head).unwrap_or(&head);
                let first = rows.first().and_then(|(row, old)| {
                    let draft = slip.of_row(*row).and_then(|at| slip.drafts.get(at));
                    draft.and_then(|draft| draft.value(field)).or(old.get(field)?.as_ref()).cloned()
                });
                let editor = CellEditor::of_rows(head, rows, field, first);
                self.open_cell_editor(editor);
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
            Purpose::Add => self.open_added(&head, BTreeMap::new()),
            Purpose::Copy => {
                let new: Vec<_> = rows.iter().map(|(_, old)| head.copied(old)).collect();
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
                            self.tell(format!("{rows} drafted once more · {}", self.how_to_send()));
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
        let before = self.slips.find(head).cloned();
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
        } else {
            // All of a block or nothing of it.
            self.draft(head, |slip| {
                slip.drafts = before.map(|slip| slip.drafts).unwrap_or_default();
                Ok(())
            });
        }
    }

    /// Changes a slip, and writes it to disk. False, with the reason told, where that cannot be.
    pub(in crate::app) fn draft(
        &mut self,
        head: &Slip,
        change: impl FnOnce(&mut Slip) -> Result<(), Undrafted>,
    ) -> bool {
        let slip = self.slips.find_mut(head);
        slip.sending = false;
        let outcome = change(slip);
        let saved = self.slips.find(head).map(|slip| self.slips.store.save(slip));
        self.slips.all.retain(|slip| !slip.is_empty());
        if let Some(Err(error)) = saved {
            self.tell_wrong(format!("the slip is not safe on disk: {error}"));
            return outcome.is_ok();
        }
        if let Err(error) = &outcome {
            self.tell_wrong(clean::clean(&error.to_string()).into_owned());
        }
        outcome.is_ok()
    }

    /// What a person presses to go on.
    pub(in crate::app) fn how_to_send(&self) -> String {
        let key = |name: &str| self.key_of(name).unwrap_or_default();
        format!("{} shows and sends the slip", key("slip"))
    }

    /// What is drafted of a result, in words; empty where nothing is.
    pub fn drafted_of(&self, archive: &Path) -> String {
        let all: Vec<String> = self.slips.of_rows(archive).map(Slip::counted).collect();
        if all.is_empty() { String::new() } else { format!("slip: {}", all.join(" · ")) }
    }

    /// Opens the slip of the result in hand; where it has none, lists all.
    pub fn open_slip(&mut self) {
        self.status = None;
        let path = self.rows.kept().map(|kept| kept.path().to_owned()).unwrap_or_default();
        let of_rows: Vec<Slip> = self.slips.of_rows(&path).cloned().collect();
        match of_rows.as_slice() {
            [one] => self.overlay = Some(Overlay::Slip(Box::new(SlipView::of(one, 0)))),
            _ => self.list_slips(),
        }
    }

    /// Lists all slips that were not sent.
    pub fn list_slips(&mut self) {
        if self.slips.all.is_empty() {
            let key = self.key_of("change-value").unwrap_or_default();
            return self.tell(format!("nothing is drafted; {key} on a value in a result changes it"));
        }
        let item = |slip: &Slip| Item {
            label: format!("{} · {}", clean::clean(&slip.ground.table.name), slip.counted()),
            key: clean::clean(&slip.connection).into_owned(),
            help: clean::clean(slip.statement.lines().next().unwrap_or_default()).into_owned(),
            pick: Pick::Slip(Box::new(slip.clone())),
        };
        let items = self.slips.all.iter().map(item).collect();
        self.overlay = Some(Overlay::List(List::new("slips", items)));
    }

    /// Opens a slip of the list.
    pub(in crate::app) fn show_slip(&mut self, slip: &Slip) {
        self.overlay = Some(Overlay::Slip(Box::new(SlipView::of(slip, 0))));
    }

    /// Drops the draft that was made last of the result in hand.
    pub fn undo_draft(&mut self) {
        let path = self.rows.kept().map(|kept| kept.path().to_owned()).unwrap_or_default();
        let Some(head) = self.slips.of_rows(&path).next().cloned() else { return self.tell("nothing is drafted here") };
        let last = head.drafts.len().saturating_sub(1);
        let line = clean::clean(&head.line(last)).into_owned();
        self.draft(&head, |slip| {
            slip.drop_draft(last);
            Ok(())
        });
        self.tell(format!("draft dropped: {line}"));
    }

    /// Sends a slip that a person said yes to. False if there is nothing to send it on.
    pub(in crate::app) fn send_slip(&mut self, head: &Slip) -> bool {
        let Some(slip) = self.slips.find(head).cloned() else { return false };
        if !self.connection.has_worker() || self.connection.name() != slip.connection {
            let name = clean::clean(&slip.connection).into_owned();
            self.tell_wrong(format!("this slip is for {name}; switch to it first (f3)"));
            return false;
        }
        if self.connection.is_busy() {
            self.tell_wrong("a statement is running on this connection; wait for it, or cancel it");
            return false;
        }
        // If the program ends meanwhile, nobody knows whether it was sent: it says so then.
        let slip = Slip { sending: true, ..slip };
        if let Err(error) = self.slips.store.save(&slip) {
            self.tell_wrong(format!("not sent: the slip is not safe on disk: {error}"));
            return false;
        }
        self.connection.order_slip(slip);
        true
    }

    /// Takes in what became of a slip.
    pub(super) fn take_sending(&mut self, slip: &Slip, sending: Sending) {
        match sending {
            Sending::Sent { run, uncommitted, has_opposite } => {
                self.slips.all.retain(|known| !is_same(known, slip));
                if let Err(error) = self.slips.store.remove(slip) {
                    tracing::warn!(%error, "a slip that was sent could not be removed");
                }
                if let (Some(number), Some(logbook)) = (slip.takes_back, self.keeping.logbook())
                    && let Err(error) = logbook.taken_back(number)
                {
                    tracing::warn!(%error, "a run that was taken back is still offered");
                }
                if matches!(&self.overlay, Some(Overlay::Slip(view)) if is_same(&view.head, slip)) {
                    self.overlay = None;
                }
                let key = self.key_of("take-back").unwrap_or_default();
                let table = clean::clean(&slip.ground.table.name).into_owned();
                let done = if slip.takes_back.is_some() { "taken back" } else { "sent" };
                let after = match (uncommitted, has_opposite) {
                    (true, _) => "in the open transaction: commit it to keep it".to_owned(),
                    (false, true) => format!("{key} takes it back"),
                    (false, false) => "it cannot be taken back here".to_owned(),
                };
                self.read_again(slip, &run);
                self.tell(format!("{done}: {} in {table} · {after}", slip.counted()));
            }
            Sending::Unsent(unsent) => {
                // What may have been committed is marked so on disk.
                let known = !matches!(&unsent, Unsent::Refused { rolled_back: false, .. });
                let told = Slip { sending: !known, ..slip.clone() };
                *self.slips.find_mut(slip) = told.clone();
                if let Err(error) = self.slips.store.save(&told) {
                    tracing::warn!(%error, "the slip is not safe on disk");
                }
                let mut view = SlipView::of(slip, 0);
                view.not_sent(unsent);
                self.overlay = Some(Overlay::Slip(Box::new(view)));
            }
        }
    }

    /// Runs the statement of changed rows once more, so that they are shown as they are now.
    fn read_again(&mut self, slip: &Slip, _: &Arc<Run>) {
        let dialect = self.buffer.document.outline().dialect();
        let shown = self.rows.run().is_some_and(|run| run.statement == slip.statement);
        // Its values are not known here.
        if !shown || !parameters::names(&slip.statement, dialect).is_empty() {
            return;
        }
        let of_cursor = self.buffer.document.statement().map(|statement| self.buffer.id_of(statement));
        let id = jaunty_language::outline::StatementId::of(&slip.statement);
        if of_cursor != Some(id) {
            self.aside = Some(id);
        }
        self.rows.stays = true;
        let buffer = Some(self.buffer.path.clone());
        let title = self.rows.run().and_then(|run| run.title.clone());
        self.connection.begin(vec![Job { statement: slip.statement.clone(), title, buffer, ..Job::default() }]);
    }

    /// Shows the slip that takes the last one back.
    pub fn take_back(&mut self) {
        let name = self.connection.profile.as_ref().map(|profile| profile.name.clone()).unwrap_or_default();
        let found = self.keeping.logbook().and_then(|logbook| {
            let number = logbook.last_slip(&name).ok().flatten()?;
            logbook.slip_of(number).ok().flatten()
        });
        let Some(slip) = found.and_then(|text| serde_json::from_str::<Slip>(&text).ok()) else {
            return self.tell("no slip was sent on this connection that could be taken back");
        };
        let drafts = slip.drafts.clone();
        let drafted = self.draft(&slip, |own| {
            own.drafts = drafts;
            Ok(())
        });
        if drafted {
            self.overlay = Some(Overlay::Slip(Box::new(SlipView::of(&slip, 0))));
        }
    }
}

impl super::Connection {
    fn order_slip(&mut self, slip: Slip) {
        self.ask_for_person(Order::Send(Box::new(slip)));
    }
}

/// Some rows of an archive, whole.
fn rows_of(archive: &Archive, ground: &Ground, numbers: &[u64]) -> Result<Vec<(u64, Row)>, String> {
    let mut rows = Vec::with_capacity(numbers.len());
    for numbers in numbers.chunks(256) {
        let wanted: Vec<u32> = numbers.iter().filter_map(|number| u32::try_from(*number).ok()).collect();
        let batch = archive.gather(&wanted, None).map_err(|error| error.to_string())?;
        rows.extend(numbers.iter().enumerate().map(|(at, number)| (*number, row_of(ground, &batch, at))));
    }
    Ok(rows)
}
