//! What lies over the screen and takes all keys until it is closed. Each kind is a value of its own ([`Layer`]) with
//! actions of its own in the table of `action`; what all of them share stands here.

mod about;
mod catalog_browser;
mod cell_editor;
mod chart;
mod column_stats;
mod form;
mod help;
mod import;
pub(in crate::app) mod list;
mod logbook_view;
mod messages_view;
mod plan;
pub(in crate::app) mod prompt;
mod row_comparison;
mod row_detail;
mod schema_view;
mod slip_view;
mod structure_comparison;

pub use about::AboutView;
pub(in crate::app) use catalog_browser::RELOADING;
pub use catalog_browser::{CatalogBrowser, Preview};
pub use cell_editor::CellEditor;
pub use chart::{AROUND as CHART_AROUND, Axis, ChartView, Gathered};
pub use column_stats::ColumnStatsView;
pub use form::{Field, Form, PASSWORD};
pub use help::{Help, HelpLine};
pub use import::ImportView;
pub use list::{Item, List, Pick};
pub use logbook_view::LogbookView;
pub use messages_view::MessagesView;
pub use plan::{Earlier, PlanView};
pub use prompt::{Answered, Prompt, Question};
use ratatui::layout::Position;
pub use row_comparison::{Compared, ComparedSide, RowComparison, Use};
pub use row_detail::{RowDetail, Spot};
pub use schema_view::SchemaView;
pub use slip_view::SlipView;
pub use structure_comparison::{StructureComparison, Structures};

use super::App;
use crate::action::{Action, Scope};
use crate::keys::Key;
use crate::line::{Edit, Line, LineEdit};

/// What becomes of an overlay after something was done with it. Where another one was opened meanwhile, that one stays.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum After {
    /// It stays.
    Stay,
    /// It is closed.
    Close,
}

impl From<()> for After {
    fn from((): ()) -> After {
        After::Stay
    }
}

/// Something that lies over the screen. While one of its methods has the [`App`], the app has no overlay: what is put
/// there takes its place.
pub trait Layer {
    /// Where its own actions count, which come before those of every overlay.
    fn scope(&self) -> Option<Scope> {
        None
    }

    /// Actions of the screen below that close it and are done.
    fn gives_way_to(&self) -> &'static [&'static str] {
        &[]
    }

    /// Whether characters that are typed are for it.
    fn takes_text(&self) -> bool {
        false
    }

    /// The line that a person writes in.
    fn line(&mut self) -> Option<&mut Line> {
        None
    }

    /// Does what follows when its line is another.
    fn line_changed(&mut self) {}

    /// Writes at the cursor.
    fn type_text(&mut self, text: &str) {
        if let Some(line) = self.line() {
            line.insert(text);
            self.line_changed();
        }
    }

    /// Takes what was pasted: of several lines the first.
    fn paste(&mut self, text: &str) {
        self.type_text(text.lines().next().unwrap_or_default().trim());
    }

    /// Takes a character that was typed.
    fn type_char(&mut self, c: char, _: &mut App) -> After {
        self.type_text(c.encode_utf8(&mut [0; 4]));
        After::Stay
    }

    /// Edits its line.
    fn edit(&mut self, edit: LineEdit) {
        if self.line().is_some_and(|line| line.edit(edit) == Edit::Changed) {
            self.line_changed();
        }
    }

    /// Moves what is chosen, or scrolls, by so many lines; [`isize::MIN`] and [`isize::MAX`] go to the ends.
    fn move_by(&mut self, _: isize) {}

    /// How many lines a page is.
    fn page(&self) -> isize {
        10
    }

    /// How many lines a step of the mouse's wheel is.
    fn wheel(&self) -> isize {
        1
    }

    /// Takes what is chosen or filled in.
    fn accept(&mut self, _: &mut App) -> After {
        After::Stay
    }

    /// Is told that a person wants it closed.
    fn close(&mut self, _: &mut App) -> After {
        After::Close
    }

    /// Does what follows after each key.
    fn after_key(&mut self, _: &mut App) {}
}

/// A kind of overlay, to be found in an [`Overlay`].
pub trait Kind: Sized {
    /// It, if the overlay is of this kind.
    fn within(overlay: &mut Overlay) -> Option<&mut Self>;
}

/// Declares what can lie over the screen, one layer for each.
macro_rules! overlays {
    ($($(#[$doc:meta])* $variant:ident($held:ty) is $layer:ty;)*) => {
        /// What lies over the screen.
        #[derive(Debug)]
        pub enum Overlay {
            $($(#[$doc])* $variant($held),)*
        }

        impl Overlay {
            /// What it lies over itself: that goes on meanwhile.
            fn beneath(&mut self) -> Option<&mut Overlay> {
                match self {
                    Overlay::Help(help) => help.over.as_deref_mut(),
                    _ => None,
                }
            }

            /// It, without its kind.
            pub fn layer(&mut self) -> &mut dyn Layer {
                match self {
                    $(Overlay::$variant(layer) => &mut *layer as &mut $layer,)*
                }
            }
        }

        $(impl Kind for $layer {
            fn within(overlay: &mut Overlay) -> Option<&mut Self> {
                match overlay {
                    Overlay::$variant(layer) => Some(layer),
                    other => other.beneath().and_then(Self::within),
                }
            }
        })*
    };
}

overlays! {
    /// A list to choose from by typing.
    List(List) is List;
    /// A line to fill in.
    Prompt(Prompt) is Prompt;
    /// A question to answer with one key.
    Question(Question) is Question;
    /// A profile that is being written.
    Form(Box<Form>) is Form;
    /// A walk through what the database holds.
    CatalogBrowser(Box<CatalogBrowser>) is CatalogBrowser;
    /// What is known of something.
    About(AboutView) is AboutView;
    /// A row, or a value of it.
    RowDetail(Box<RowDetail>) is RowDetail;
    /// The logbook.
    LogbookView(Box<LogbookView>) is LogbookView;
    /// A chart of rows.
    Chart(Box<ChartView>) is ChartView;
    /// The plan of a statement.
    Plan(Box<PlanView>) is PlanView;
    /// The drawing of a schema.
    Schema(Box<SchemaView>) is SchemaView;
    /// The editor of a value.
    CellEditor(Box<CellEditor>) is CellEditor;
    /// What is drafted, before it is sent.
    Slip(Box<SlipView>) is SlipView;
    /// Two results by a key.
    RowComparison(Box<RowComparison>) is RowComparison;
    /// Two structures.
    StructureComparison(Box<StructureComparison>) is StructureComparison;
    /// A file that is loaded.
    Import(Box<ImportView>) is ImportView;
    /// What the server said.
    Messages(Box<MessagesView>) is MessagesView;
    /// What a column holds.
    ColumnStats(ColumnStatsView) is ColumnStatsView;
    /// All keys.
    Help(Help) is Help;
}

impl App {
    /// The overlay of this kind, if it is the one that is open.
    pub(in crate::app) fn overlaid<T: Kind>(&mut self) -> Option<&mut T> {
        self.overlay.as_mut().and_then(T::within)
    }

    /// Does something with the overlay of this kind, if it is the one that is open.
    pub(crate) fn on<T: Kind, R: Into<After>>(&mut self, act: impl FnOnce(&mut T, &mut App) -> R) {
        self.on_overlay(|overlay, app| match T::within(overlay) {
            Some(layer) => act(layer, app).into(),
            None => After::Stay,
        });
    }

    /// Does something with the overlay, whichever it is.
    pub(crate) fn on_layer<R: Into<After>>(&mut self, act: impl FnOnce(&mut dyn Layer, &mut App) -> R) {
        self.on_overlay(|overlay, app| act(overlay.layer(), app).into());
    }

    fn on_overlay(&mut self, act: impl FnOnce(&mut Overlay, &mut App) -> After) {
        let Some(mut overlay) = self.overlay.take() else { return };
        let after = act(&mut overlay, self);
        if self.overlay.is_none() && after == After::Stay {
            self.overlay = Some(overlay);
        }
    }

    /// Edits the line of the overlay.
    pub(crate) fn edit_input(&mut self, edit: LineEdit) {
        self.on_layer(|layer, _| layer.edit(edit));
    }

    /// Moves in the overlay by pages.
    pub(crate) fn page_overlay(&mut self, by: isize) {
        self.on_layer(|layer, _| layer.move_by(by * layer.page()));
    }

    /// Takes a key while something lies over the screen: its own actions first, then characters, the keys of a line,
    /// those of every overlay, and last the key that opened it.
    pub(super) fn key_to_overlay(&mut self, key: Key) {
        let Some(overlay) = &mut self.overlay else { return };
        let layer = overlay.layer();
        let takes_text = layer.takes_text();
        let own = layer.scope().and_then(|scope| self.keymap.only(key, scope));
        let in_line = if takes_text { self.keymap.only(key, Scope::Input) } else { None };
        let of_all = self.keymap.only(key, Scope::Overlay);
        match (own, key.typed().filter(|_| takes_text)) {
            (Some(action), _) => (action.act)(self),
            (None, Some(c)) => self.on_layer(|layer, app| layer.type_char(c, app)),
            (None, None) => match in_line.or(of_all) {
                Some(action) => (action.act)(self),
                None => self.key_from_below(key),
            },
        }
        self.on_layer(|layer, app| layer.after_key(app));
    }

    /// Does what an action means. Its keys close the overlay that it opens, if it opens one.
    pub(crate) fn act(&mut self, action: &'static Action) {
        let was_free = self.overlay.is_none();
        (action.act)(self);
        if self.overlay.is_some() && (was_free || action.name == "help") {
            self.opened_by = Some(action);
        }
    }

    /// A key that means something on the screen below: what opened the overlay closes it, and help is there everywhere.
    fn key_from_below(&mut self, key: Key) {
        let Some(overlay) = &mut self.overlay else { return };
        let gives_way_to = overlay.layer().gives_way_to();
        let opened = self.opened_by.is_some_and(|action| self.keymap.keys(action).contains(&key));
        let action = self.keymap.action(key, self.panes.focus);
        match action.map(|action| action.name) {
            _ if opened => self.on_layer(|layer, app| layer.close(app)),
            Some("quit") => self.on_layer(|layer, app| layer.close(app)),
            Some("help") => action.into_iter().for_each(|action| self.act(action)),
            Some(name) if gives_way_to.contains(&name) => {
                self.overlay = None;
                action.into_iter().for_each(|action| self.act(action));
            }
            _ => {}
        }
    }

    /// A click while something lies over the screen: beside it it is closed.
    pub(super) fn click_overlay(&mut self, at: Position) {
        let drawer = crate::view::overlay::drawer(self, self.screen);
        match &mut self.overlay {
            Some(Overlay::List(list)) if drawer.contains(at) && at.y > drawer.y => {
                let first = crate::view::overlay::first_shown(list, drawer);
                let row = first + usize::from(at.y - drawer.y - 1);
                if row < list.found.len() {
                    list.chosen = row;
                    self.on_layer(|layer, app| layer.accept(app));
                }
            }
            _ if drawer.contains(at) => {}
            _ => self.on_layer(|layer, app| layer.close(app)),
        }
    }
}
