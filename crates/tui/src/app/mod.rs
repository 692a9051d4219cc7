//! The state of the screen, and how it changes.
//!
//! [`App::update`] takes one message at a time: an input, a report of a run, a page of rows. It
//! never waits; what takes time is asked of other threads, whose answers are messages again.
//! `view` draws the state and changes nothing.
//!
//! The parts: `input` is what a person does, `buffer` the text in hand, `connection` where it runs (and how it comes to that), `running` how its statements do, `places`
//! going to another database or buffer, `rows` the result pane and all that is done with it, `outside` what other programs change, `overlay` what
//! lies over the screen (a list, a prompt, the catalog, …), `profiles` those of the connections files, `recall` what the logbook
//! remembers of a buffer, `slip` what is drafted of rows, `values` those of parameters, `works` what is being done beside everything else.

mod before;
mod buffer;
mod buffers;
mod completion_popup;
mod connection;
mod diagnostics;
mod drawings;
mod editing;
mod follow;
mod guest;
mod input;
mod mouse;
mod outside;
mod overlay;
mod places;
mod profiles;
mod recall;
mod rows;
mod running;
mod saving;
mod scripts;
mod slip;
mod values;
mod works;

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use crossterm::event::Event;
use jaunty_core::complete::snippets::{self, Snippet};
use jaunty_core::connection::nearby::Found;
use jaunty_core::connection::{Connections, Tried};
use jaunty_core::files::Folders;
use jaunty_core::files::parts::Held;
use jaunty_core::run::{Keeping, Report, Run};
use jaunty_core::settings::Settings;
use jaunty_core::slip::Store;
use jaunty_language::outline::StatementId;
use jaunty_seam::engine::Engine;
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::Profile;
use ratatui::layout::{Position, Rect};

pub use before::Kept;
pub use buffer::{Buffer, MARGIN, OpenError};
pub use completion_popup::{CompletionPopup, Places};
pub use connection::{Connection, Link};
pub use diagnostics::{Diagnostics, LookedFor, ProblemAt};
use guest::Watchers;
pub use guest::{NotDone, Place, Remote, Reply, Standing, Watcher, Wish};
pub use overlay::{
    AboutView, Answered, Axis, CHART_AROUND, CatalogBrowser, CellEditor, ChartView, ColumnStatsView, Compared,
    ComparedSide, Earlier, Field, Form, Gathered, Help, HelpLine, ImportView, Item, Layer, List, LogbookView,
    MessagesView, Overlay, PASSWORD, Pick, PlanView, Preview, Prompt, Question, RowComparison, RowDetail, SchemaView,
    SlipView, Spot, StructureComparison, Structures, Use,
};
pub use recall::Recalled;
pub use rows::{Arranged, HEAD, Marked, Marks, Placed, Rows, Shows, Slot, Sparked, View};
pub use slip::{Drafting, Slips};

use crate::action::{Action, Scope, by_name};
use crate::appearance::Appearance;
use crate::keys::{Key, Keymap};
use crate::layout::{Areas, Panes, areas};
use crate::pager::{Answer, Pager};
use crate::theme::{Depth, Theme};
use crate::work::{Done, Work};

/// Something that happened.
#[derive(Debug)]
pub enum Message {
    /// A person did something.
    Input(Event),
    /// The connection with this number tells something.
    Report(u64, Report),
    /// Rows that were asked for.
    Rows(Answer),
    /// What came of the work with this number.
    Worked(u64, Done),
    /// Something has changed in the folder of the buffer.
    FilesChanged,
    /// Something has changed where connections files stand.
    ConnectionsChanged,
    /// Whether what is typed is protected from a crash.
    JournalChanged,
    /// Databases that lie near.
    Nearby(Vec<Found>),
    /// What the connections files hold now.
    Known(u64, Connections),
    /// How it went to try the profile in the form with this number.
    Tried(u64, Result<Tried, EngineError>),
    /// A program wishes something.
    Wished(Remote),
}

/// Where messages go.
pub type Post = Arc<dyn Fn(Message) + Send + Sync>;

/// What the screen is opened with.
pub struct Options {
    /// The program's folders.
    pub folders: Folders,
    /// All engines.
    pub engines: &'static [&'static dyn Engine],
    /// All profiles.
    pub connections: Connections,
    /// The one to connect to; without one, a person chooses.
    pub profile: Option<Profile>,
    /// The buffer's file.
    pub buffer: PathBuf,
    /// A file of rows to load, which is asked about as soon as there is a connection.
    pub rows: Option<PathBuf>,
    /// Where the runs are kept.
    pub keeping: Keeping,
    /// What a person has set.
    pub settings: Settings,
    /// Theme and keys of a person.
    pub appearance: Appearance,
    /// The colours of the terminal.
    pub depth: Depth,
    /// Whether it is the guest of a text editor, whose text is shown there.
    pub guest: bool,
    /// Is given the way for messages of other programs.
    pub outside: Option<Box<dyn FnOnce(Post) + Send>>,
}

/// A sentence in the last line.
#[derive(Debug, Clone)]
pub struct Status {
    /// The sentence.
    pub text: String,
    /// Whether something went wrong.
    pub wrong: bool,
    since: Instant,
}

/// How long a sentence stays.
const TOLD_FOR: Duration = Duration::from_secs(8);

/// The state of the screen.
pub struct App {
    /// The text in hand.
    pub buffer: Buffer,
    /// Where it runs.
    pub connection: Connection,
    /// Other connections that are open.
    pub background: Vec<Connection>,
    /// Other buffers that are open.
    pub background_buffers: Vec<Buffer>,
    /// All profiles.
    pub known: Connections,
    /// How often that was read.
    known_stamp: u64,
    /// Databases that lie near, and no file names.
    pub nearby: Vec<Found>,
    profiles_from: Option<String>,
    /// Warnings that were given, each once.
    warned: HashSet<String>,
    /// The result in hand.
    pub rows: Rows,
    /// Another one beside it.
    pub other: Option<Rows>,
    /// How the two scroll together, if they do.
    linked: Option<rows::Linked>,
    /// Runs whose results stay in the strip, and in a pane wherever the cursor is.
    kept_in_sight: Vec<Arc<Run>>,
    /// What lies over the screen.
    pub overlay: Option<Overlay>,
    /// The action that opened it, whose keys close it.
    opened_by: Option<&'static Action>,
    /// What could be written at the cursor.
    pub offer: Option<CompletionPopup>,
    /// Where the cursor was when something was last typed, unless what was offered there was closed or taken.
    typed_to: Option<usize>,
    /// The call that the cursor stands in, as of a revision and a place.
    call: Option<((u64, usize), Option<jaunty_core::complete::about::Call>)>,
    /// What is wrong with statements.
    pub troubles: Diagnostics,
    /// Tells of changes that other programs make.
    with_cancel: Option<outside::Watched>,
    /// Snippets: those that ship, and a person's own.
    snippets: Vec<Snippet>,
    /// What the pane held when a person went on from its rows; none where it followed the cursor.
    trail: Vec<Option<Arc<Run>>>,
    /// A statement beside the buffer that was asked for: its result is held as soon as it runs.
    aside: Option<StatementId>,
    watchers: Watchers,
    /// What is drafted and not yet sent.
    pub slips: Slips,
    /// Keys that were pressed while rows were read to be changed: they are for what opens then.
    typed_ahead: Vec<Key>,
    /// Two results whose key is asked for.
    comparing: Option<[ComparedSide; 2]>,
    /// A value that a text editor has in hand.
    value_outside: Option<Held>,
    /// What a drawing showed last.
    drawing: Option<drawings::Drawing>,
    /// A statement that gives a plan, to be shown when it has.
    planning: Option<StatementId>,
    /// Statements that wait for values.
    wanting: Option<values::Wanting>,
    /// The values that were given last, by buffer and parameter.
    values: HashMap<PathBuf, HashMap<String, String>>,
    /// What is being done beside everything else.
    works: Vec<Work>,
    works_begun: u64,
    /// How many columns were opened so far, so that each has a file of its own.
    parts_opened: u64,
    /// What was sought last.
    sought: String,
    /// What is to be filled in of what was taken.
    places: Places,
    /// What the last line says.
    pub status: Option<Status>,
    /// The panes.
    pub panes: Panes,
    /// Whether it is the guest of a text editor.
    guest: bool,
    /// The theme.
    pub theme: Theme,
    /// The keys.
    pub keymap: Keymap,
    /// The time that notes count from.
    pub now: SystemTime,
    /// A text editor that is to have the terminal.
    pub editor: Option<Command>,
    /// Text for the desktop's clipboard.
    pub clipboard: Option<String>,
    /// Whether to leave.
    pub leaving: bool,
    screen: Rect,
    dragging: Option<mouse::Dragging>,
    /// The last click into a result.
    clicked: Option<(Instant, Position)>,
    engines: &'static [&'static dyn Engine],
    folders: Folders,
    keeping: Keeping,
    post: Post,
    pager: Pager,
    /// How many connections there have been: each has a number of its own.
    connections: u64,
    /// A file of rows that is to be loaded once there is a connection.
    to_load: Option<PathBuf>,
}

impl App {
    /// Opens everything. `post` receives what other threads have to tell; give it back to
    /// [`App::update`]. The buffer is read here unless it is given.
    pub fn open(options: Options, opened: Option<Buffer>, post: Post) -> Result<App, OpenError> {
        let Options {
            folders,
            engines,
            connections,
            profile,
            buffer,
            rows: to_load,
            keeping,
            settings,
            appearance,
            depth,
            guest,
            outside,
        } = options;
        let answers = Arc::clone(&post);
        let pager = Pager::start(move |answer| answers(Message::Rows(answer))).map_err(OpenError::Thread)?;
        let project = buffer.ancestors().skip(1).map(|folder| folder.join(".jaunty/snippets.toml"));
        let mut files: Vec<PathBuf> = project.filter(|file| file.is_file()).take(1).collect();
        files.push(folders.snippets());
        let (snippets, wrong) = snippets::all(&files.iter().map(PathBuf::as_path).collect::<Vec<_>>());
        let opened = match opened {
            Some(opened) => opened,
            None if guest => Buffer::of_editor(&buffer, 0, "", None),
            None => Buffer::open(&buffer, &folders.journals())?,
        };
        let mut app = App {
            buffer: opened,
            connection: Connection::none(),
            background: Vec::new(),
            background_buffers: Vec::new(),
            known: connections,
            known_stamp: 0,
            nearby: Vec::new(),
            profiles_from: settings.profiles_from.clone(),
            warned: HashSet::new(),
            rows: Rows::default(),
            other: None,
            linked: None,
            kept_in_sight: Vec::new(),
            overlay: None,
            opened_by: None,
            offer: None,
            typed_to: None,
            call: None,
            troubles: Diagnostics::default(),
            with_cancel: None,
            snippets,
            trail: Vec::new(),
            aside: None,
            watchers: Watchers::default(),
            planning: None,
            slips: Slips::open(Store::new(folders.slips())),
            typed_ahead: Vec::new(),
            comparing: None,
            value_outside: None,
            drawing: None,
            wanting: None,
            values: HashMap::new(),
            works: Vec::new(),
            works_begun: 0,
            parts_opened: 0,
            sought: String::new(),
            places: Places::default(),
            status: None,
            panes: Panes {
                share: 50,
                filled: false,
                focus: if guest { Scope::Result } else { Scope::Buffer },
                strip: false,
                other: None,
                bare: guest,
            },
            guest,
            theme: Theme::new(appearance.theme, depth),
            keymap: Keymap::new(&appearance.keys),
            now: SystemTime::now(),
            editor: None,
            clipboard: None,
            leaving: false,
            screen: Rect::new(0, 0, 80, 24),
            dragging: None,
            clicked: None,
            engines,
            folders,
            keeping,
            post,
            pager,
            connections: 0,
            to_load,
        };
        app.tell_of_the_start(&settings);
        if let Some(error) = wrong.first() {
            app.tell_wrong(error.to_string());
        }
        if let Some(profile) = profile {
            app.connect(profile);
        }
        match guest {
            true => app.look_near(),
            false => app.recall(None),
        }
        app.follow();
        app.tell_of_rows_to_load();
        if let Some(outside) = outside {
            outside(Arc::clone(&app.post));
        }
        Ok(app)
    }

    fn tell_of_the_start(&mut self, settings: &Settings) {
        let problems = self.known.problems.iter().map(ToString::to_string);
        let all: Vec<_> = problems
            .chain(settings.problems.iter().cloned())
            .chain(self.keeping.trouble().map(str::to_owned))
            .collect();
        self.tell_of_slips();
        self.take_in_recovery();
        match all.as_slice() {
            [] => {}
            [one] => self.tell_wrong(one.clone()),
            [first, rest @ ..] => self.tell_wrong(format!("{first} (and {} more; see the log)", rest.len())),
        }
        for problem in all {
            tracing::warn!("{problem}");
        }
    }

    /// Puts a sentence in the last line.
    pub fn tell(&mut self, text: impl Into<String>) {
        self.status = Some(Status { text: text.into(), wrong: false, since: Instant::now() });
    }

    /// Puts a sentence about something wrong in the last line.
    pub fn tell_wrong(&mut self, text: impl Into<String>) {
        self.status = Some(Status { text: text.into(), wrong: true, since: Instant::now() });
    }

    /// The first key of an action, as text; none if it has none.
    pub fn key_of(&self, name: &str) -> Option<String> {
        let key = by_name(name).map(|action| self.keymap.first(action))?;
        (!key.is_empty()).then_some(key)
    }

    /// The areas of the screen as it is.
    pub fn areas(&self) -> Areas {
        areas(self.screen, self.panes)
    }

    /// The screen's area.
    pub fn screen(&self) -> Rect {
        self.screen
    }

    /// Takes the terminal's size.
    pub fn resize(&mut self, screen: Rect) {
        let before = std::mem::replace(&mut self.screen, screen);
        if before.width != screen.width {
            self.ask_for_row_as_it_is();
        }
        self.follow();
    }

    /// How long the screen stays as it is when nothing happens.
    pub fn rests_for(&self) -> Duration {
        let trying = matches!(&self.overlay, Some(Overlay::Form(form)) if form.trying.is_some());
        if (self.connection.is_busy() && !self.connection.is_held())
            || !self.works.is_empty()
            || trying
            || matches!(self.connection.link, Link::Opening)
        {
            Duration::from_millis(100)
        } else if let Some(rest) = self.troubles.rests_for() {
            rest
        } else if self.connection.transaction_since.is_some() {
            // Its age is in sight.
            Duration::from_secs(1)
        } else if self.status.is_some() {
            TOLD_FOR
        } else {
            // Notes count minutes.
            Duration::from_secs(30)
        }
    }

    /// Whether rows have been asked for that are about to come.
    pub fn expects_rows(&self) -> bool {
        self.rows.is_waiting() || self.other.as_ref().is_some_and(Rows::is_waiting)
    }

    /// Takes note of the time.
    pub fn tick(&mut self, now: SystemTime) {
        self.now = now;
        self.ask_about_trouble();
        if self.status.as_ref().is_some_and(|told| !told.wrong && told.since.elapsed() >= TOLD_FOR) {
            self.status = None;
        }
        self.tell_watchers();
    }

    /// Takes one message.
    pub fn update(&mut self, message: Message) {
        match message {
            Message::Input(event) => self.input(event),
            Message::Report(number, report) => self.report(number, report),
            Message::Rows(answer) => self.answered(answer),
            Message::Worked(number, done) => self.worked(number, done),
            Message::FilesChanged => self.take_in_changes(),
            Message::ConnectionsChanged => self.read_connections(),
            // The last line shows it.
            Message::JournalChanged => {}
            Message::Nearby(found) => self.found_nearby(found),
            Message::Known(stamp, known) => self.known_again(stamp, known),
            Message::Tried(number, outcome) => self.tried(number, outcome),
            Message::Wished(remote) => self.wished(remote),
        }
        self.keep_editors_text();
        self.buffer.journal_edits();
        self.watch_folder();
        self.find_call();
        self.follow();
        self.look_for_trouble();
    }

    /// Keeps the result pane at the statement of the cursor and the cursor in sight.
    fn follow(&mut self) {
        self.find_statements();
        self.panes.strip = self.strip().len() > 1;
        let areas = self.areas();
        self.buffer.keep_cursor_in_sight(areas.buffer);
        self.arrange_what_came();
        let of_cursor = self.buffer.document.statement().and_then(|statement| self.run_of(statement)).cloned();
        self.rows.follow(of_cursor.as_ref(), areas.result, &self.pager);
        self.scroll_along();
        self.keep_line_in_sight();
        self.follow_chart();
        self.follow_plan();
        self.follow_drawing();
        self.follow_slip();
        self.follow_comparison();
        self.follow_structures();
        self.load_what_was_named();
        self.follow_import();
        if let Some(other) = &mut self.other {
            other.follow(of_cursor.as_ref(), areas.other, &self.pager);
        }
        self.follow_sparklines();
        self.add_up();
    }
}
