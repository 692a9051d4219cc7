//! A chart of the rows that are shown: gathered beside the screen, changed by keys, and a way back to its rows.

use std::sync::Arc;
use std::time::{Duration, Instant};

use jaunty_core::arrange::Condition;
use jaunty_core::arrange::condition::Test;
use jaunty_core::chart::plot::{Place, Plot, Texts, draw};
use jaunty_core::chart::{Aggregate, Data, Gather, Kind, Spec, Stack, Step};
use jaunty_core::export::target::name_of;
use jaunty_core::logbook::Outcome;
use jaunty_core::run::Run;
use jaunty_picture::Metrics;

use super::{After, Item, Layer, List, Overlay, Pick};
use crate::action::Scope;
use crate::app::App;
use crate::work::{Done, Kind as Work};

/// How often a chart of rows that still come is drawn again.
const AGAIN: Duration = Duration::from_secs(1);

/// The lines above and below the picture.
pub const AROUND: u16 = 2;

/// What was gathered: it, and the columns of the result that those of the chart are.
pub type Gathered = Result<(Data, Vec<usize>), String>;

/// A chart.
#[derive(Debug)]
pub struct ChartView {
    /// What a person said.
    pub spec: Spec,
    /// What is drawn; none until it is gathered.
    pub data: Option<Data>,
    /// Why nothing is drawn.
    pub failed: Option<String>,
    /// The picture, as it was drawn last.
    pub plot: Option<Plot>,
    /// The place in hand, if one was gone to.
    pub chosen: Option<usize>,
    texts: Texts,
    columns: Vec<usize>,
    run: Arc<Run>,
    gathered: Instant,
    rows: u64,
    size: (u16, u16),
}

/// Which column of a chart is chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Axis {
    /// Along the lower edge.
    X,
    /// Along the left edge.
    Y,
    /// A series each.
    By,
    /// A small chart each.
    Each,
}

/// The one after this in a list that begins again; the first is none.
fn next<T: Copy + PartialEq>(now: Option<T>, all: &[T]) -> Option<T> {
    match now {
        None => all.first().copied(),
        Some(now) => all.iter().position(|one| *one == now).and_then(|at| all.get(at + 1)).copied(),
    }
}

impl ChartView {
    /// The place in hand.
    pub fn place(&self) -> Option<&Place> {
        self.plot.as_ref()?.places.get(self.chosen?)
    }

    /// What stands above the picture.
    pub fn title(&self) -> &str {
        &self.texts.title
    }

    /// Draws it for an area of so many cells.
    pub fn fit(&mut self, width: u16, height: u16) {
        if self.size == (width, height) && self.plot.is_some() {
            return;
        }
        self.size = (width, height);
        let Some(data) = &self.data else { return };
        let size = (f32::from(width) * 2.0, f32::from(height) * 4.0);
        let texts = Texts { title: String::new(), ..self.texts.clone() };
        let spec = Spec { title: None, ..self.spec.clone() };
        let plot = draw(data, &spec, &texts, size, Metrics::TERMINAL);
        self.chosen = self.chosen.filter(|_| !plot.places.is_empty()).map(|at| at.min(plot.places.len() - 1));
        self.plot = Some(plot);
    }

    fn change(&mut self, app: &mut App, change: impl FnOnce(&mut Spec)) {
        change(&mut self.spec);
        self.gather(app);
    }

    /// The next kind.
    pub(crate) fn next_kind(&mut self, app: &mut App) {
        // What the columns chose comes first.
        let now = self.spec.kind.or(self.data.as_ref().map(|data| data.plan.kind));
        self.change(app, |spec| spec.kind = next(now, Kind::ALL).or(Kind::ALL.first().copied()));
    }

    /// What else is made of several values.
    pub(crate) fn next_aggregate(&mut self, app: &mut App) {
        self.change(app, |spec| spec.aggregate = next(spec.aggregate, Aggregate::ALL));
    }

    /// Another step of time.
    pub(crate) fn next_step(&mut self, app: &mut App) {
        self.change(app, |spec| spec.step = next(spec.step, Step::ALL));
    }

    /// Another way for series to share a place.
    pub(crate) fn next_stack(&mut self, app: &mut App) {
        self.change(app, |spec| spec.stack = next(Some(spec.stack), Stack::ALL).unwrap_or_default());
    }

    /// Powers of ten, or not.
    pub(crate) fn toggle_log(&mut self, app: &mut App) {
        self.change(app, |spec| spec.log = !spec.log);
    }

    /// From 0 on, or not, or as it suits.
    pub(crate) fn toggle_zero(&mut self, app: &mut App) {
        self.change(app, |spec| spec.zero = next(spec.zero, &[true, false]));
    }

    /// More or fewer names or series before all others are one.
    pub(crate) fn show_more(&mut self, by: isize, app: &mut App) {
        self.change(app, |spec| spec.top = Some(spec.top.unwrap_or(8).saturating_add_signed(by).clamp(1, 200)));
    }

    /// Lists the columns to choose one from.
    pub(crate) fn choose(&mut self, axis: Axis, app: &mut App) {
        let Some(schema) = app.rows_schema() else { return };
        let with = |name: Option<String>| {
            let mut spec = self.spec.clone();
            match axis {
                Axis::X => spec.x = name,
                Axis::Y => spec.y = name.into_iter().collect(),
                Axis::By => spec.by = name,
                Axis::Each => spec.each = name,
            }
            Pick::Chart(Box::new(spec))
        };
        let item = |label: &str, help: String, name: Option<String>| Item {
            label: label.to_owned(),
            key: String::new(),
            help,
            pick: with(name),
        };
        let none = match axis {
            Axis::X | Axis::Y => "chosen by the columns",
            Axis::By => "one series",
            Axis::Each => "one chart",
        };
        let columns = schema.fields().iter().map(|field| {
            let name = field.name();
            let shown = jaunty_language::text::clean::clean(name).into_owned();
            item(&shown, jaunty_seam::rows::cell::type_name(field), Some(name.clone()))
        });
        let items = columns.chain([item(none, String::new(), None)]).collect();
        let title = match axis {
            Axis::X => "columns for x",
            Axis::Y => "columns for y",
            Axis::By => "columns for series",
            Axis::Each => "columns for small multiples",
        };
        app.overlay = Some(Overlay::List(List::new(title, items)));
    }

    /// Asks for a file to save it to.
    pub(crate) fn save(&mut self, app: &mut App) -> After {
        let words = self.words();
        app.ask_for_export_to(Some(&format!("{}.svg {words}", name_of(&self.texts.title))));
        After::Close
    }

    /// Puts an out-line for it below the statement.
    pub(crate) fn put_out_line(&mut self, app: &mut App) -> After {
        let line = format!("{}.svg {}", name_of(&self.texts.title), self.words());
        app.put_out_line(&self.run, line.trim());
        After::Close
    }

    /// What is drawn, as words of an out-line.
    fn words(&self) -> String {
        let mut spec = self.spec.clone();
        // The kind stays what it is when other columns come.
        spec.kind = spec.kind.or(self.data.as_ref().map(|data| data.plan.kind));
        spec.to_string()
    }

    /// Has it gathered anew.
    fn gather(&mut self, app: &mut App) {
        let Some(part) = app.part_for_chart() else { return };
        (self.gathered, self.rows) = (Instant::now(), self.run.rows());
        let spec = self.spec.clone();
        app.begin_work(Work::Chart, "drawing".into(), move |progress| {
            let gather = || -> Gathered {
                let part = part().map_err(|error| error.to_string())?;
                Gather::part(&part, &spec, progress).map_err(|error| error.to_string())
            };
            Done::Charted(Box::new(gather()))
        });
    }
}

impl Layer for ChartView {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::ChartView)
    }

    fn move_by(&mut self, by: isize) {
        let Some(last) = self.plot.as_ref().and_then(|plot| plot.places.len().checked_sub(1)) else { return };
        self.chosen = Some(match (self.chosen, by) {
            (_, isize::MIN) => 0,
            (_, isize::MAX) => last,
            (None, by) => {
                if by > 0 {
                    0
                } else {
                    last
                }
            }
            (Some(at), by) => at.saturating_add_signed(by).min(last),
        });
    }

    /// Shows the rows of the place in hand.
    fn accept(&mut self, app: &mut App) -> After {
        let Some(place) = self.place() else {
            app.tell("move to a position first");
            return After::Stay;
        };
        let Some(rows) = place.rows.clone() else {
            app.tell("no filter can select the rows of this position");
            return After::Stay;
        };
        let conditions = rows
            .conditions
            .into_iter()
            .map(|(column, text)| (self.columns.get(column).copied().unwrap_or(usize::MAX), text));
        app.narrow_to_all(conditions.collect());
        After::Close
    }

    fn close(&mut self, app: &mut App) -> After {
        app.stop_works(|work| work.kind == Work::Chart);
        After::Close
    }
}

impl App {
    /// Opens a chart of the rows that are shown, as it was looked at last.
    pub fn open_chart(&mut self) {
        let spec = self.rows.chart().unwrap_or_default();
        self.open_chart_of(spec);
    }

    /// Opens a chart of the rows that are shown.
    pub(in crate::app) fn open_chart_of(&mut self, spec: Spec) {
        let Some(run) = self.rows.run().filter(|_| self.rows.kept().is_some()).cloned() else {
            return self.tell("no rows here");
        };
        let mut view = ChartView {
            spec,
            data: None,
            failed: None,
            plot: None,
            chosen: None,
            texts: run.texts(),
            columns: Vec::new(),
            run,
            gathered: Instant::now(),
            rows: 0,
            size: (0, 0),
        };
        view.gather(self);
        self.overlay = Some(Overlay::Chart(Box::new(view)));
    }

    pub(in crate::app) fn take_chart(&mut self, gathered: Gathered) {
        let Some(view) = self.overlaid::<ChartView>() else { return };
        view.plot = None;
        match gathered {
            Ok((data, columns)) => {
                (view.data, view.columns, view.failed) = (Some(data), columns, None);
                let spec = view.spec.clone();
                self.rows.keep_chart(spec);
            }
            Err(error) => (view.data, view.failed) = (None, Some(error)),
        }
    }

    /// Draws the chart for the screen as it is, and again while rows still come.
    pub(in crate::app) fn follow_chart(&mut self) {
        let drawer = crate::view::overlay::drawer(self, self.screen);
        let drawing = self.works.iter().any(|work| work.kind == Work::Chart);
        self.on(|view: &mut ChartView, app| {
            view.fit(drawer.width, drawer.height.saturating_sub(AROUND));
            let grows = view.run.rows() > view.rows
                && (view.gathered.elapsed() >= AGAIN || view.run.outcome() != Outcome::Running);
            if grows && !drawing {
                view.gather(app);
            }
        });
    }

    /// Narrows the rows that are shown to those that fulfil all of these, each of a column.
    fn narrow_to_all(&mut self, conditions: Vec<(usize, String)>) {
        let Some(schema) = self.rows_schema() else { return };
        let mut tests = Vec::new();
        for (column, text) in conditions {
            let Some(field) = schema.fields().get(column) else { return };
            match Test::read(&text, field) {
                Ok(test) => tests.push(Condition { column, test }),
                Err(error) => return self.tell_wrong(error.to_string()),
            }
        }
        self.panes.focus = Scope::Result;
        self.narrow_by_all(tests);
    }
}
