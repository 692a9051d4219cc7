//! The slip, before it is sent: its drafts, the SQL that they make, and what stood in the way.

use jaunty_core::slip::statements::{Listed, listed};
use jaunty_core::slip::{Conflict, Keep, Slip, Unsent, What};
use jaunty_language::text::clean;
use jaunty_seam::profile::Guard;

use super::{After, CellEditor, Layer, Overlay};
use crate::action::Scope;
use crate::app::App;

/// The slip.
#[derive(Debug, Clone)]
pub struct SlipView {
    /// A slip without drafts: which one it is.
    pub head: Slip,
    /// The draft in hand.
    pub chosen: usize,
    /// The field in hand, where the fields of the draft are shown.
    pub field: Option<usize>,
    /// The first line that is shown.
    pub top: usize,
    /// A row that somebody else changed.
    pub conflict: Option<Conflict>,
    /// Why it was not sent.
    pub failed: Option<String>,
    /// Whether a yes is wanted before it is sent, and why.
    pub asks: Option<String>,
    /// Whether it is being sent.
    pub sending: bool,
    /// The statements, as they will be sent.
    pub statements: Vec<Listed>,
    /// What they were made of: the revision of all slips, and whether a transaction is open.
    made_of: Option<(u64, bool)>,
}

impl SlipView {
    pub(in crate::app) fn of(slip: &Slip, chosen: usize) -> SlipView {
        let head = Slip { drafts: Vec::new(), ..slip.clone() };
        SlipView {
            head,
            chosen,
            field: None,
            top: 0,
            conflict: None,
            failed: None,
            asks: None,
            sending: false,
            statements: Vec::new(),
            made_of: None,
        }
    }

    /// Shows the fields of the draft in hand.
    pub(in crate::app) fn open_fields(&mut self) {
        let given = self.head.ground.fields.iter().position(|field| field.is_given() && !field.numbered);
        (self.field, self.top) = (Some(given.unwrap_or(0)), 0);
    }

    /// Goes to the next field.
    pub(in crate::app) fn next_field(&mut self) {
        let last = self.head.ground.fields.len().saturating_sub(1);
        self.field = self.field.map(|field| (field + 1).min(last));
    }

    /// Says why it was not sent.
    pub(in crate::app) fn not_sent(&mut self, unsent: Unsent) {
        let said = clean::clean_lines(&unsent.to_string());
        let draft = match &unsent {
            Unsent::Conflict(conflict) => Some(conflict.draft),
            Unsent::NotOne { draft, .. } | Unsent::Counted { draft, .. } | Unsent::Hindered { draft, .. } => {
                Some(*draft)
            }
            Unsent::Refused { draft, .. } => *draft,
            Unsent::FailedTransaction | Unsent::Noting => None,
        };
        self.failed = Some(match &unsent {
            Unsent::Refused { rolled_back: false, .. } => {
                format!("{said} · whether it was sent is not known: look at the rows before sending it again")
            }
            Unsent::Refused { .. } => format!("{said} · everything was rolled back"),
            _ => said,
        });
        self.chosen = draft.unwrap_or(self.chosen);
        if let Unsent::Conflict(conflict) = unsent {
            self.conflict = Some(conflict);
        }
    }

    /// Drops the draft in hand, or takes a field out of it.
    pub(crate) fn drop_one(&mut self, app: &mut App) -> After {
        if self.sending {
            return After::Stay;
        }
        let (chosen, field) = (self.chosen, self.field);
        self.settled();
        app.draft(&self.head, |slip| {
            match (field, slip.drafts.get(chosen).map(|draft| draft.what)) {
                (Some(field), Some(What::Change | What::Add)) => slip.take_out(chosen, field),
                _ => drop(slip.drop_draft(chosen)),
            }
            Ok(())
        });
        let left = app.slips.find(&self.head).map_or(0, |slip| slip.drafts.len());
        self.chosen = self.chosen.min(left.saturating_sub(1));
        if left == 0 {
            app.tell("the slip is empty");
            return After::Close;
        }
        After::Stay
    }

    fn settled(&mut self) {
        (self.conflict, self.failed, self.asks) = (None, None, None);
    }

    /// Settles the conflict.
    pub(crate) fn keep(&mut self, keep: Keep, app: &mut App) -> After {
        let Some(conflict) = self.conflict.take() else { return After::Stay };
        self.settled();
        app.draft(&self.head, |slip| {
            slip.settle(&conflict, keep);
            Ok(())
        });
        let left = app.slips.find(&self.head).map_or(0, |slip| slip.drafts.len());
        self.chosen = self.chosen.min(left.saturating_sub(1));
        if left == 0 {
            app.tell("the slip is empty: what they changed stays");
            return After::Close;
        }
        app.tell("settled; look at the statements and send them");
        After::Stay
    }

    /// Sends it; where the connection asks first, the second time.
    pub(crate) fn send(&mut self, app: &mut App) -> After {
        if self.sending {
            return After::Stay;
        }
        if self.conflict.is_some() {
            app.tell_wrong("choose first whose values to keep: 1 theirs, 2 ours, 3 both");
            return After::Stay;
        }
        let was_sending = app.slips.find(&self.head).is_some_and(|slip| slip.sending);
        let profile = app.connection.profile.as_ref();
        let asks = match profile {
            Some(profile) if profile.guard == Guard::Ask => {
                let name = clean::clean(&profile.name).into_owned();
                let label = profile.label.as_ref().map(|label| format!(" ({})", clean::clean(label)));
                Some(format!("{name}{} asks before anything that writes", label.unwrap_or_default()))
            }
            _ if was_sending => {
                Some("it was being sent when the program or the connection ended: it may be there already".to_owned())
            }
            _ => None,
        };
        if self.asks.is_none() && asks.is_some() {
            self.asks = asks;
            return After::Stay;
        }
        self.settled();
        self.sending = app.send_slip(&self.head);
        After::Stay
    }

    /// Copies the statements.
    pub(crate) fn copy(&mut self, app: &mut App) {
        app.clipboard = Some(self.statements.iter().map(|listed| format!("{}\n", listed.text)).collect());
        app.tell("statements copied");
    }

    /// Keeps what is in hand on a screen of so many lines.
    pub fn keep_in_sight(&mut self, height: usize) {
        let at = self.field.unwrap_or(self.chosen);
        self.top = self.top.clamp((at + 1).saturating_sub(height.max(1)), at);
    }
}

impl Layer for SlipView {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::SlipView)
    }

    fn move_by(&mut self, by: isize) {
        let fields = self.head.ground.fields.len();
        match &mut self.field {
            Some(field) => *field = field.saturating_add_signed(by).min(fields.saturating_sub(1)),
            // How many there are is known where it is drawn.
            None => self.chosen = self.chosen.saturating_add_signed(by),
        }
    }

    fn accept(&mut self, app: &mut App) -> After {
        let Some(slip) = app.slips.find(&self.head).filter(|_| !self.sending) else { return After::Stay };
        let is_deleted = slip.drafts.get(self.chosen).is_some_and(|draft| draft.what == What::Delete);
        match self.field {
            Some(_) if is_deleted => app.tell("the row is going to be deleted: its values stay as they are"),
            Some(field) => {
                let dialect = app.dialect_of(&self.head);
                let editor = CellEditor::of_draft(slip, (self.chosen, field), self.clone(), dialect);
                app.open_cell_editor(editor);
            }
            None => self.open_fields(),
        }
        After::Stay
    }

    fn close(&mut self, app: &mut App) -> After {
        if self.sending {
            app.connection.stop();
            return After::Stay;
        }
        if self.field.take().is_none() {
            return After::Close;
        }
        self.top = 0;
        // A row to which nothing was given was only looked at.
        let chosen = self.chosen;
        let slip = app.slips.find(&self.head);
        let draft = slip.and_then(|slip| slip.drafts.get(chosen));
        if draft.is_some_and(|draft| draft.what == What::Add && draft.new.is_empty()) {
            return self.drop_one(app);
        }
        After::Stay
    }

    fn after_key(&mut self, app: &mut App) {
        let drafts = app.slips.find(&self.head).map_or(0, |slip| slip.drafts.len());
        self.chosen = self.chosen.min(drafts.saturating_sub(1));
    }
}

impl App {
    /// Keeps what is in hand of the slip in sight.
    pub(in crate::app) fn follow_slip(&mut self) {
        let screen = self.screen();
        let Some(Overlay::Slip(view)) = &self.overlay else { return };
        let drafts = self.slips.find(&view.head).map_or(0, |slip| slip.drafts.len());
        let height = crate::view::slip_view::lines(screen, view, drafts);
        let within = self.connection.location.as_ref().is_some_and(|location| location.transaction.is_some());
        let made_of = Some((self.slips.revision(), within));
        let dialect = self.dialect_of(&view.head);
        if let Some(Overlay::Slip(view)) = &mut self.overlay {
            view.keep_in_sight(height);
            // Of ten thousand changes they are not made again for each key.
            if view.made_of != made_of {
                let slip = self.slips.find(&view.head);
                view.statements = slip.map_or_else(Vec::new, |slip| listed(slip, dialect, within));
                view.made_of = made_of;
            }
        }
    }
}
