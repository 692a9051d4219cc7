//! Slips that are listed, sent, and taken back.

use jaunty_core::run::Job;
use jaunty_core::run::connection_worker::{Order, Sending};
use jaunty_core::slip::{Draft, Slip, Unsent};
use jaunty_language::statement::parameters;
use jaunty_language::text::clean;

use super::slips::is_same;
use crate::app::overlay::SlipView;
use crate::app::rows::InHand;
use crate::app::{App, Connection, Item, List, Overlay, Pick};
use crate::work::{Done, Kind};

impl App {
    /// Opens the slip of the result in hand; where it has none, lists all.
    pub fn open_slip(&mut self) {
        self.status = None;
        let path = self.rows.base().unwrap_or_default();
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
        let saved = if self.keeps_slips_of(&slip) { self.slips.store.save(&slip) } else { Ok(None) };
        match saved {
            Ok(None) => {}
            Ok(Some(merged)) => {
                // Nothing is sent that was not seen.
                let merged = Slip { sending: false, ..merged };
                let _ = self.slips.store.save(&merged);
                *self.slips.find_mut(head) = merged;
                self.slips.all.retain(|slip| !slip.is_empty());
                self.tell_wrong("not sent: another jaunty changed this slip meanwhile; look at it as it is now");
                return false;
            }
            Err(error) => {
                self.tell_wrong(format!("not sent: the slip is not safe on disk: {error}"));
                return false;
            }
        }
        self.connection.order_slip(slip);
        true
    }

    /// Takes in what became of a slip.
    pub(in crate::app) fn take_sending(&mut self, slip: &Slip, sending: Sending) {
        match sending {
            Sending::Sent { uncommitted, has_opposite } => {
                self.slips.all.retain(|known| !is_same(known, slip));
                if let Err(error) = self.slips.store.remove(slip) {
                    tracing::warn!(%error, "a slip that was sent could not be removed");
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
                self.read_again(slip);
                self.tell(format!("{done}: {} in {table} · {after}", slip.counted()));
            }
            Sending::Unsent(unsent) => {
                // What may have been committed is marked so on disk.
                let known = !matches!(&unsent, Unsent::Refused { rolled_back: false, .. });
                let told = Slip { sending: !known, ..slip.clone() };
                let saved = if self.keeps_slips_of(&told) { self.slips.store.save(&told) } else { Ok(None) };
                let told = match saved {
                    Ok(merged) => merged.unwrap_or(told),
                    Err(error) => {
                        tracing::warn!(%error, "the slip is not safe on disk");
                        told
                    }
                };
                *self.slips.find_mut(slip) = told;
                let mut view = SlipView::of(slip, 0);
                view.not_sent(unsent);
                self.overlay = Some(Overlay::Slip(Box::new(view)));
            }
        }
    }

    /// Runs the statement of changed rows once more, so that they are shown as they are now.
    fn read_again(&mut self, slip: &Slip) {
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
        self.rows.in_hand = self.row_in_hand(slip);
        let buffer = Some(self.buffer.path.clone());
        let title = self.rows.run().and_then(|run| run.title.clone());
        self.connection.begin(vec![Job { statement: slip.statement.clone(), title, buffer, ..Job::default() }]);
    }

    /// The row in hand as it is after a slip was sent: its number, and what tells it apart.
    fn row_in_hand(&self, slip: &Slip) -> Option<InHand> {
        let row = self.rows.view().row;
        let page = self.rows.page()?;
        let shown = page.rows.get(usize::try_from(row.checked_sub(page.from)?).ok()?)?;
        let places = slip.ground.key.iter().map(|field| Some((*field, slip.ground.fields.get(*field)?.at?)));
        let places: Vec<(usize, usize)> = places.collect::<Option<_>>()?;
        let text = |at: usize| shown.get(at).map(|cell| cell.text.as_str());
        let is_it = |draft: &&Draft| {
            let same = |(field, at): &(usize, usize)| {
                draft.was(*field).is_some_and(|was| Some(&*clean::clean(was.text())) == text(*at))
            };
            places.iter().all(same)
        };
        let draft = slip.drafts.iter().find(is_it);
        let value = |(field, at): &(usize, usize)| {
            let new = draft.and_then(|draft| draft.new.get(field)).map(|new| clean::clean(new.text()).into_owned());
            Some((*at, new.or_else(|| text(*at).map(str::to_owned))?))
        };
        Some((row, places.iter().map(value).collect::<Option<_>>()?))
    }

    /// Shows the slip that takes the last one back.
    pub fn take_back(&mut self) {
        let name = self.connection.profile.as_ref().map(|profile| profile.name.clone()).unwrap_or_default();
        let keeping = self.keeping.clone();
        self.begin_work(Kind::Slip, "reading the logbook".into(), move |_| {
            let found = keeping.note(|logbook| match logbook.last_slip(&name)? {
                Some(number) => logbook.slip_of(number),
                None => Ok(None),
            });
            let slip = found.flatten().and_then(|text| serde_json::from_str::<Slip>(&text).ok());
            Done::Opposite(slip.map(Box::new))
        });
    }

    /// Shows the slip that takes another one back, if there is one.
    pub(in crate::app) fn take_opposite(&mut self, slip: Option<Slip>) {
        let Some(slip) = slip else {
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

impl Connection {
    fn order_slip(&mut self, slip: Slip) {
        self.ask_for_person(Order::Send(Box::new(slip)));
    }
}
