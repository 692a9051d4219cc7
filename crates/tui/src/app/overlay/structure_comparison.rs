//! What two databases are made of, beside each other: what differs, and the statements that make one like the other.

use jaunty_core::compare::Difference;
use jaunty_core::compare::alter::{Alteration, make_alike};
use jaunty_core::compare::differences::{Differences, compare};
use jaunty_core::compare::structure::{Schemas, Structure};
use jaunty_core::connection::open_asking;
use jaunty_language::text::clean;
use jaunty_seam::engine::{Engine, NoPrompt, Stop};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::Profile;

use super::{After, Item, Layer, List, Overlay, Pick};
use crate::action::Scope;
use crate::app::App;
use crate::work::{Done, Kind, stopping};
use jaunty_core::words;

/// One of the two: where it is, and which of its schemas are meant.
#[derive(Debug, Clone)]
pub struct StructureSide {
    profile: Profile,
    schema: Option<String>,
}

impl StructureSide {
    /// It in words.
    pub fn title(&self) -> String {
        let schema = self.schema.as_ref().map(|schema| format!(" · schema {schema}")).unwrap_or_default();
        clean::clean(&format!("{}{schema}", self.profile.name)).into_owned()
    }
}

/// What a thread found out.
#[derive(Debug)]
pub struct Structures {
    /// Left and right.
    pub read: [Structure; 2],
    /// What differs.
    pub differences: Differences,
    /// The statements, or why there are none.
    pub made: Result<Alteration, String>,
    /// The statements as a text.
    pub script: String,
}

impl Structures {
    /// Whether owners and grants are known of either side.
    pub fn knows_access(&self) -> bool {
        let mut objects = self.read.iter().flat_map(|of| &of.items).map(|item| &item.object);
        objects.any(|object| object.belongings.iter().any(|belonging| belonging.kind.is_access()))
    }

    fn of(read: [Structure; 2], access: bool) -> Structures {
        let [left, right] = &read;
        let differences = compare(left, right, access);
        let made = make_alike(left, right, &differences).map_err(|why| why.to_string());
        let script = made.as_ref().map(|made| made.script(left.dialect)).unwrap_or_default();
        Structures { read, differences, made, script }
    }
}

/// A line of the list: an object, or a part of the one above it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Line {
    /// The object, among those that differ.
    pub item: usize,
    /// The part, among those of it that differ.
    pub part: Option<usize>,
}

/// The comparison.
#[derive(Debug)]
pub struct StructureComparison {
    /// Left and right.
    pub sides: [StructureSide; 2],
    /// What came of it; none until it is there.
    pub found: Option<Result<Box<Structures>, String>>,
    /// The lines that are shown.
    pub lines: Vec<Line>,
    /// Only objects that differ in this way.
    pub only: Option<Difference>,
    /// The line in hand.
    pub chosen: usize,
    /// The first one on the screen.
    pub top: usize,
    /// Whether the statements are shown in the place of the definitions.
    pub statements: bool,
    /// Whether owners and grants count.
    pub access: bool,
    /// The first line that is shown of what is below.
    pub below: usize,
    stop: Stop,
}

fn stopped(error: EngineError, name: &str) -> String {
    match (error.kind, error.step) {
        (_, Some(Step::Secret)) => format!("{name} needs a password: connect to it once, then compare"),
        (ErrorKind::Stopped, _) => "stopped".to_owned(),
        _ => format!("{name}: {error}"),
    }
}

impl StructureComparison {
    /// What was found, if it is there.
    pub fn structures(&self) -> Option<&Structures> {
        self.found.as_ref()?.as_ref().ok().map(|found| &**found)
    }

    fn list(&mut self) {
        let Some(found) = self.structures() else { return };
        let items = found.differences.items.iter().enumerate();
        let items = items.filter(|(_, item)| self.only.is_none_or(|only| item.what == only));
        let lines = items.flat_map(|(at, item)| {
            let parts = (0..item.parts.len()).map(move |part| Line { item: at, part: Some(part) });
            [Line { item: at, part: None }].into_iter().chain(parts)
        });
        self.lines = lines.collect();
        (self.chosen, self.top, self.below) = (0, 0, 0);
    }

    /// Shows all objects that differ, or those of one way after the other.
    pub(crate) fn turn_filter(&mut self) {
        let Some(found) = self.structures() else { return };
        let counts = Difference::ALL.map(|what| found.differences.counted(what));
        let from = self.only.map_or(0, |only| only as usize + 1);
        self.only = Difference::ALL.into_iter().skip(from).find(|what| counts[*what as usize] > 0);
        self.list();
    }

    /// Exchanges left and right: the other one is made like this one.
    pub(crate) fn exchange(&mut self, app: &mut App) {
        if self.compare_again(app, self.access, |[left, right]| [right, left]) {
            self.sides.swap(0, 1);
        }
    }

    /// Has owners and grants count, or not.
    pub(crate) fn turn_access(&mut self, app: &mut App) {
        if self.compare_again(app, !self.access, |read| read) {
            self.access = !self.access;
        }
    }

    /// Compares what was read once more, beside the screen. False where nothing was read yet.
    fn compare_again(&mut self, app: &mut App, access: bool, order: fn([Structure; 2]) -> [Structure; 2]) -> bool {
        let Some(Ok(found)) = self.found.take_if(|found| found.is_ok()) else { return false };
        (self.only, self.lines) = (None, Vec::new());
        app.begin_work(Kind::Structures, "comparing structures".into(), move |_| {
            Done::Structures(Ok(Box::new(Structures::of(order(found.read), access))))
        });
        true
    }

    /// Shows the statements, or the definitions again.
    pub(crate) fn turn(&mut self, app: &mut App) {
        match self.structures().map(|found| &found.made) {
            Some(Err(why)) => app.tell_wrong(why.clone()),
            _ => self.statements = !self.statements,
        }
        self.below = 0;
    }

    /// All statements, as a text.
    pub fn script(&self) -> Option<Result<&str, &str>> {
        let found = self.structures()?;
        Some(found.made.as_ref().map(|_| found.script.as_str()).map_err(String::as_str))
    }

    /// Copies the statements.
    pub(crate) fn copy(&mut self, app: &mut App) {
        match self.script() {
            Some(Ok(text)) => {
                app.clipboard = Some(text.to_owned());
                app.tell("statements copied");
            }
            Some(Err(why)) => app.tell_wrong(why.to_owned()),
            None => {}
        }
    }

    /// Puts the statements into the buffer.
    pub(crate) fn put(&mut self, app: &mut App) -> After {
        let text = match self.script() {
            Some(Ok(text)) if !text.is_empty() => text.to_owned(),
            Some(Err(why)) => {
                app.tell_wrong(why.to_owned());
                return After::Stay;
            }
            _ => return After::Stay,
        };
        // They are meant for the left one, and the buffer runs on the connection in hand.
        if app.connection.name() != self.sides[0].profile.name {
            let name = self.sides[0].title();
            app.tell_wrong(format!("the statements are for {name}, and the buffer runs on {}", app.connection.name()));
            return After::Stay;
        }
        app.begin_statement_at_end();
        app.buffer.document.insert(&text);
        app.panes.focus = Scope::Buffer;
        app.tell("the statements are in the buffer; nothing was run");
        After::Close
    }

    /// How many lines the longer definition of what is in hand has.
    fn longest_definition(&self) -> usize {
        let Some(found) = self.structures() else { return 0 };
        let line = self.lines.get(self.chosen);
        let Some(item) = line.and_then(|line| found.differences.items.get(line.item)) else { return 0 };
        let of = |side: usize, at: Option<usize>| {
            at.and_then(|at| found.read[side].items.get(at)).map_or(0, |item| item.definition.lines().count())
        };
        of(0, item.left).max(of(1, item.right))
    }

    /// Scrolls what is below.
    pub(crate) fn scroll(&mut self, by: isize) {
        let lines = match self.script().filter(|_| self.statements) {
            Some(Ok(script)) => script.lines().count(),
            _ => self.longest_definition(),
        };
        self.below = self.below.saturating_add_signed(by).min(lines.saturating_sub(1));
    }
}

impl Layer for StructureComparison {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::StructureComparison)
    }

    fn move_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.lines.len().saturating_sub(1));
        if !self.statements {
            self.below = 0;
        }
    }

    fn close(&mut self, app: &mut App) -> After {
        self.stop.wish();
        app.stop_works(|work| work.kind == Kind::Structures);
        After::Close
    }
}

impl App {
    /// Asks for another connection or schema that what is in hand is compared with.
    pub fn compare_structure(&mut self) {
        let Some(profile) = self.connection.profile.clone() else {
            return self.tell_wrong("connect first: the current connection is the left side");
        };
        let own = self.connection.location.as_ref().map(|location| location.schema.clone()).unwrap_or_default();
        let catalog = self.connection.catalog.clone();
        let mut schemas: Vec<String> =
            catalog.iter().flat_map(|catalog| catalog.objects()).map(|object| object.schema.clone()).collect();
        schemas.sort_unstable();
        schemas.dedup();
        let other = |schema: &String| *schema != own && !schema.is_empty();
        let of_schemas = schemas.into_iter().filter(other).map(|schema| Item {
            label: clean::clean(&schema).into_owned(),
            key: "schema".to_owned(),
            help: format!(
                "of this connection, with {}",
                clean::clean(if own.is_empty() { "the current one" } else { &own })
            ),
            pick: Pick::CompareWith(Box::new(profile.clone()), Some((own.clone(), schema))),
        });
        let others = self.known.profiles.iter().filter(|other| other.name != profile.name).map(|other| Item {
            label: clean::clean(&other.name).into_owned(),
            key: other.guard.word().to_owned(),
            help: clean::clean(&format!("{}  {}", other.engine, other.note.as_deref().unwrap_or_default()))
                .into_owned(),
            pick: Pick::CompareWith(Box::new(other.clone()), None),
        });
        let items: Vec<Item> = others.chain(of_schemas).collect();
        if items.is_empty() {
            return self.tell("there is no other connection and no other schema to compare with");
        }
        self.overlay = Some(Overlay::List(List::new("to compare the structure with", items)));
    }

    /// Compares what is in hand with this.
    pub(in crate::app) fn compare_structure_with(&mut self, with: Profile, schemas: Option<(String, String)>) {
        let Some(profile) = self.connection.profile.clone() else { return };
        let (left, right) = schemas.map_or((None, None), |(left, right)| (Some(left), Some(right)));
        let sides = [StructureSide { profile, schema: left }, StructureSide { profile: with, schema: right }];
        let [Some(engine), Some(other)] = [0, 1].map(|at| self.engine_of(&sides[at].profile)) else {
            return self.tell_wrong("unknown engine");
        };
        let private = [engine, other].into_iter().zip(&sides).find(|(engine, side)| engine.is_private(&side.profile));
        if let Some((_, side)) = private {
            let name = side.title();
            return self.tell_wrong(format!("{name} is in memory, and another session would see nothing of it"));
        }
        let secrets = [0, 1].map(|at: usize| self.secret_of(&sides[at].profile));
        let stop = Stop::default();
        let (engines, theirs, wish) = ([engine, other], sides.clone(), stop.clone());
        self.begin_work(Kind::Structures, "comparing structures".into(), move |progress| {
            let usual = Schemas::usual(engines[0].dialect(), engines[1].dialect());
            let read = |at: usize| -> Result<Structure, String> {
                let name = clean::clean(&theirs[at].profile.name).into_owned();
                let said = |error| stopped(error, &name);
                let opened = open_asking(engines[at], &theirs[at].profile, secrets[at].as_ref(), &NoPrompt, &wish);
                let mut session = opened.map_err(said)?;
                let schemas = theirs[at].schema.clone().map_or_else(|| usual.clone(), Schemas::Named);
                let mut done = 0;
                let mut told = |at: usize, of: usize| {
                    progress.expect(of as u64);
                    // Stopping is the token's matter.
                    let _ = progress.advance(at - done);
                    done = at;
                };
                Structure::read(session.as_mut(), engines[at].dialect(), &schemas, &wish, &mut told).map_err(said)
            };
            let compared = || -> Result<Structures, String> { Ok(Structures::of([read(0)?, read(1)?], false)) };
            Done::Structures(stopping(progress, &wish, compared).map(Box::new))
        });
        let view = StructureComparison {
            sides,
            found: None,
            lines: Vec::new(),
            only: None,
            chosen: 0,
            top: 0,
            statements: false,
            access: false,
            below: 0,
            stop,
        };
        self.overlay = Some(Overlay::StructureComparison(Box::new(view)));
    }

    pub(in crate::app) fn engine_of(&self, profile: &Profile) -> Option<&'static dyn Engine> {
        self.engines.iter().copied().find(|engine| engine.name() == profile.engine)
    }

    pub(in crate::app) fn take_structures(&mut self, found: Result<Box<Structures>, String>) {
        let Some(view) = self.overlaid::<StructureComparison>() else { return };
        view.found = Some(found);
        view.list();
        let left_out: Vec<String> = view.structures().map_or_else(Vec::new, |found| {
            let sides = found.read.iter().zip(&view.sides);
            sides
                .flat_map(|(read, side)| read.left_out.iter().map(|what| format!("{}: {what}", side.title())))
                .collect()
        });
        if let Some(first) = left_out.first() {
            let more = words::count(left_out.len() as u64, "definition");
            self.tell_wrong(clean::clean(&format!("{more} could not be read, such as {first}")).into_owned());
        }
    }

    /// Keeps the line in hand in sight.
    pub(in crate::app) fn follow_structures(&mut self) {
        let height = crate::view::structure_comparison::lines(self.screen());
        if let Some(view) = self.overlaid::<StructureComparison>() {
            view.top = view.top.clamp((view.chosen + 1).saturating_sub(height.max(1)), view.chosen);
        }
    }
}
