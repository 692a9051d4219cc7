//! The plan of a statement: asked for as a run of its own, read from its rows, and walked through as a tree.

use std::sync::Arc;

use jaunty_core::run::{Job, Run};
use jaunty_language::outline::StatementId;
use jaunty_language::plan::{Plan, Plans, Step, Unit};
use jaunty_language::statement::acts::{Acts, acts};
use jaunty_language::statement::parameters;
use jaunty_seam::rows::cell::ColumnReader;

use super::{After, Answered, Layer, Overlay, Question};
use crate::action::Scope;
use crate::app::App;
use crate::work::{Done, Kind};

/// The most rows that a plan has.
const MOST: usize = 10_000;

/// A plan.
#[derive(Debug)]
pub struct PlanView {
    /// The statement that it is of.
    pub statement: String,
    /// The plan; none until it is read.
    pub plan: Option<Result<Plan, String>>,
    /// Whether the steps stand by what each takes for itself.
    pub by_share: bool,
    /// The step in hand, among those as they stand.
    pub chosen: usize,
    /// The first one on the screen.
    pub top: usize,
}

impl PlanView {
    /// The steps in the order in which they stand.
    pub fn order(&self) -> Vec<usize> {
        match &self.plan {
            Some(Ok(plan)) if self.by_share => plan.by_share(),
            Some(Ok(plan)) => (0..plan.steps.len()).collect(),
            _ => Vec::new(),
        }
    }

    /// The step in hand.
    pub fn step(&self) -> Option<&Step> {
        let at = *self.order().get(self.chosen)?;
        self.plan.as_ref()?.as_ref().ok()?.steps.get(at)
    }

    /// Sorts by what each step takes for itself, or shows the tree again; the step in hand stays.
    pub(crate) fn turn(&mut self) {
        let step = self.order().get(self.chosen).copied();
        self.by_share = !self.by_share;
        self.chosen = self.order().iter().position(|at| Some(*at) == step).unwrap_or(0);
    }

    /// Runs the statement to measure what was estimated.
    pub(crate) fn measure(&mut self, app: &mut App) -> After {
        if matches!(&self.plan, Some(Ok(plan)) if plan.unit == Unit::Time) {
            app.tell("this plan is measured already");
            return After::Stay;
        }
        let statement = self.statement.clone();
        app.ask_for_plan(&statement, true);
        // Where the server cannot, that is told above the plan.
        if app.told.as_ref().is_some_and(|told| told.wrong) { After::Stay } else { After::Close }
    }

    /// Keeps the step in hand on a screen of so many lines.
    pub fn keep_in_sight(&mut self, height: usize) {
        self.top = self.top.clamp((self.chosen + 1).saturating_sub(height.max(1)), self.chosen);
    }
}

impl Layer for PlanView {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::PlanView)
    }

    fn move_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.order().len().saturating_sub(1));
    }
}

/// The statement behind the words that ask for its plan, if it begins with them.
fn behind<'a>(text: &'a str, plans: &Plans) -> Option<&'a str> {
    let with = |prefix: &str| {
        let head = text.get(..prefix.len())?;
        let rest = text.get(prefix.len()..)?;
        (head.eq_ignore_ascii_case(prefix) && rest.starts_with(char::is_whitespace)).then(|| rest.trim_start())
    };
    with(plans.estimated).or_else(|| plans.measured.and_then(with))
}

impl App {
    /// Asks for the plan of the statement at the cursor.
    pub fn explain_plan(&mut self, measured: bool) {
        let document = &self.buffer.document;
        let text = document.selected_text().or_else(|| document.statement().map(|s| s.text(document.rope())));
        match text.map(|text| text.trim().trim_end_matches(';').trim_end().to_owned()).filter(|text| !text.is_empty()) {
            Some(statement) => self.ask_for_plan(&statement, measured),
            None => self.tell("no statement here"),
        }
    }

    pub(in crate::app) fn ask_for_plan(&mut self, statement: &str, measured: bool) {
        let dialect = self.buffer.document.outline().dialect();
        let Some(plans) = dialect.plans else {
            return self.tell_wrong("there are no plans in this language");
        };
        let statement = behind(statement, plans).unwrap_or(statement).to_owned();
        let prefix = match (measured, plans.measured) {
            (false, _) => plans.estimated,
            (true, Some(prefix)) => prefix,
            (true, None) => return self.tell_wrong("this server estimates plans and does not measure them"),
        };
        if !self.connection.has_desk() {
            return self.list_connections();
        }
        let text = format!("{prefix} {statement}");
        let names = parameters::names(&statement, dialect);
        let buffer = Some(self.buffer.path.clone());
        let job = |statement: &str| Job { statement: statement.to_owned(), buffer: buffer.clone(), ..Job::default() };
        self.planning = Some(StatementId::of(&text));
        if !measured || acts(&statement, dialect) == Acts::Reads {
            return self.ask_for_values(vec![job(&text)], vec![names]);
        }
        // What writes is measured in a transaction that is rolled back.
        if !names.is_empty() {
            self.planning = None;
            return self.tell_wrong("measuring runs this statement; write its values into it first");
        }
        let words = &dialect.transaction;
        let open = self.connection.location.as_ref().is_some_and(|location| location.in_transaction());
        let (before, after) =
            if open { (words.savepoint, words.back_to_savepoint) } else { (words.begin, words.roll_back) };
        let question = Question::new(
            "Measuring this plan runs the statement, which may write.".to_owned(),
            &[('m', "run it in a transaction, and roll that back", Answered::Run)],
        );
        let jobs = vec![job(before), job(&text), job(after)];
        self.overlay = Some(Overlay::Question(Question { jobs, ..question }));
    }

    /// Shows the plan that a run gave, if it is the one that was asked for.
    pub(in crate::app) fn show_plan_of(&mut self, run: &Arc<Run>) {
        if self.planning == Some(run.id) {
            self.planning = None;
            if !run.all_rows().is_empty() && self.overlay.is_none() {
                self.open_plan(run);
            }
        }
    }

    /// Shows the rows of the result in hand as a plan.
    pub fn show_plan(&mut self) {
        let Some(run) = self.rows.run().cloned() else { return self.tell("no rows here") };
        let plans = self.buffer.document.outline().dialect().plans;
        match plans.is_some_and(|plans| behind(&run.statement, plans).is_some()) {
            true => self.open_plan(&run),
            false => self.tell("this result is not a plan; go to a statement and ask for its plan there"),
        }
    }

    fn open_plan(&mut self, run: &Arc<Run>) {
        let Some(plans) = self.buffer.document.outline().dialect().plans else { return };
        let Some(kept) = run.all_rows().first().cloned() else { return };
        let statement = behind(&run.statement, plans).unwrap_or(&run.statement).to_owned();
        let view = PlanView { statement, plan: None, by_share: false, chosen: 0, top: 0 };
        self.overlay = Some(Overlay::Plan(Box::new(view)));
        self.begin_work(Kind::Plan, "reading the plan".into(), move |_| {
            let read =
                || -> Result<Plan, String> {
                    let page =
                        kept.archive().and_then(|archive| archive.page(0, MOST)).map_err(|error| error.to_string())?;
                    let mut rows = Vec::new();
                    for batch in &page.batches {
                        let columns = ColumnReader::all(batch);
                        rows.extend((0..batch.num_rows()).map(|row| {
                            columns.iter().map(|column| column.get(row).text.into_owned()).collect::<Vec<_>>()
                        }));
                    }
                    (plans.read)(&rows)
                };
            Done::Planned(Box::new(read()))
        });
    }

    pub(in crate::app) fn take_plan(&mut self, plan: Result<Plan, String>) {
        if let Some(view) = self.overlaid::<PlanView>() {
            view.plan = Some(plan);
        }
    }

    /// Keeps the step in hand in sight.
    pub(in crate::app) fn follow_plan(&mut self) {
        let height = crate::view::overlay::drawer(self, self.screen).height;
        self.on(|view: &mut PlanView, _| view.keep_in_sight(usize::from(crate::view::plan::lines(height))));
    }
}
