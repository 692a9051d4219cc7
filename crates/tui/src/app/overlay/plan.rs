//! The plan of a statement: asked for as a run of its own, read from its rows, and walked through as a tree.

use std::sync::Arc;

use jaunty_core::archive::Archive;
use jaunty_core::drawing::plan::{asked_about, of_rows};
use jaunty_core::run::prepare::noted;
use jaunty_core::run::{Job, Keeping, Run};
use jaunty_language::outline::StatementId;
use jaunty_language::plan::{self, Comparison, Plan, Plans, Step, Unit};
use jaunty_language::split::Statement;
use jaunty_language::statement::acts::{Acts, acts};
use jaunty_language::statement::parameters;

use super::{After, Answered, Layer, Overlay, Question};
use crate::action::Scope;
use crate::app::App;
use crate::app::drawings::Drawing;
use crate::work::{Done, Kind};

/// A plan that was asked for earlier.
#[derive(Debug)]
pub struct Earlier {
    /// When, on the clock on the wall.
    pub moment: String,
    /// The plan.
    pub plan: Plan,
    /// What is the same in both.
    pub comparison: Comparison,
}

/// A plan.
#[derive(Debug, Default)]
pub struct PlanView {
    /// The statement that it is of.
    pub statement: String,
    /// The plan; none until it is read.
    pub plan: Option<Result<Plan, String>>,
    /// The last plan of the statement before this one.
    pub earlier: Option<Earlier>,
    /// Whether that stands beside it.
    pub compares: bool,
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

    /// Puts the last plan before this one beside it, or takes it away.
    pub(crate) fn compare(&mut self, app: &mut App) {
        match (&self.plan, &self.earlier) {
            (Some(Ok(_)), None) => app.tell_wrong("no earlier plan of it is kept"),
            _ => self.compares = !self.compares && self.earlier.is_some(),
        }
    }

    /// Asks for a file to save it to.
    pub(crate) fn save(&mut self, app: &mut App) -> After {
        let Some(Ok(plan)) = &self.plan else { return After::Stay };
        app.ask_for_drawing(Drawing::Plan(Box::new(plan.clone()), self.statement.clone()), "plan");
        After::Close
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
        if app.status.as_ref().is_some_and(|told| told.wrong) { After::Stay } else { After::Close }
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

/// The plan that was asked for before this run in the same words, where its rows are kept.
fn earlier(keeping: &Keeping, run: &Run, plan: &Plan, plans: &Plans) -> Option<Earlier> {
    let found = keeping.logbook()?.earlier(&run.connection, &run.id, run.number?);
    let entry = found.inspect_err(|error| tracing::warn!(%error, "no earlier plan could be looked for")).ok()??;
    let path = *entry.archives().last()?;
    // Its rows may have been removed meanwhile to make room.
    let earlier = of_rows(&Archive::open(path).ok()?, plans).ok()?;
    Some(Earlier { moment: entry.moment(), comparison: plan.compare(&earlier), plan: earlier })
}

impl App {
    /// Asks for the plan of the statement at the cursor.
    pub fn explain_plan(&mut self, measured: bool) {
        let document = &self.buffer.document;
        let (rope, dialect) = (document.rope(), document.outline().dialect());
        let exact = |statement: &Statement| {
            let code = self.buffer.code.as_ref()?;
            Some(code.exact(statement.start..statement.body_end, dialect).ok()??.text)
        };
        let text = |statement: &Statement| exact(statement).unwrap_or_else(|| statement.text(rope));
        let text = document.selected_text().or_else(|| document.statement().map(text));
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
        let statement = asked_about(statement, plans).unwrap_or(statement).to_owned();
        let prefix = match (measured, plans.measured) {
            (false, _) => plans.estimated,
            (true, Some(prefix)) => prefix,
            (true, None) => return self.tell_wrong("this server estimates plans and does not measure them"),
        };
        if !self.connection.has_worker() {
            return self.list_connections();
        }
        let text = plan::asked(prefix, &statement);
        let names = parameters::names(&statement, dialect);
        let document = &self.buffer.document;
        let start = document.statement().map_or(document.cursor(), |statement| statement.start);
        let values = noted(&names, (document.rope(), self.buffer.code.as_ref()), start, dialect);
        let buffer = Some(self.buffer.path.clone());
        let job = |statement: &str| Job {
            statement: statement.to_owned(),
            buffer: buffer.clone(),
            values: values.clone(),
            ..Job::default()
        };
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
        match plans.is_some_and(|plans| asked_about(&run.statement, plans).is_some()) {
            true => self.open_plan(&run),
            false => self.tell("this result is not a plan; go to a statement and ask for its plan there"),
        }
    }

    fn open_plan(&mut self, run: &Arc<Run>) {
        let Some(plans) = self.buffer.document.outline().dialect().plans else { return };
        let Some(kept) = run.all_rows().last().cloned() else { return };
        let statement = asked_about(&run.statement, plans).unwrap_or(&run.statement).to_owned();
        let view = PlanView { statement, ..PlanView::default() };
        self.overlay = Some(Overlay::Plan(Box::new(view)));
        let (keeping, run) = (self.keeping.clone(), Arc::clone(run));
        self.begin_work(Kind::Plan, "reading the plan".into(), move |_| {
            let plan = kept.archive().map_err(|error| error.to_string()).and_then(|archive| of_rows(&archive, plans));
            let read = plan.map(|plan| {
                let earlier = earlier(&keeping, &run, &plan, plans);
                (plan, earlier)
            });
            Done::Planned(Box::new(read))
        });
    }

    pub(in crate::app) fn take_plan(&mut self, read: Result<(Plan, Option<Earlier>), String>) {
        if let Some(view) = self.overlaid::<PlanView>() {
            match read {
                Ok((plan, earlier)) => (view.plan, view.earlier) = (Some(Ok(plan)), earlier),
                Err(error) => view.plan = Some(Err(error)),
            }
        }
    }

    /// Keeps the step in hand in sight.
    pub(in crate::app) fn follow_plan(&mut self) {
        let height = crate::view::overlay::drawer(self, self.screen).height;
        self.on(|view: &mut PlanView, _| view.keep_in_sight(usize::from(crate::view::plan::lines(height))));
    }
}
