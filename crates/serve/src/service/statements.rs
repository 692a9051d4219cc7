//! Statements: found, judged, completed, explained, run, and how a server carries them out.

use std::path::Path;

use jaunty_core::complete::about::about;
use jaunty_core::complete::{Surroundings, complete, not_read};
use jaunty_core::drawing::plan::{asked_about, of_rows, scene, text as plan_text};
use jaunty_core::drawing::save::save;
use jaunty_core::problems::problems;
use jaunty_language::dialect::{self, Dialect};
use jaunty_language::outline::Outline;
use jaunty_language::plan::{Step, Unit, asked};
use jaunty_language::statement::acts::{Acts, acts};
use ropey::Rope;
use serde_json::{Value, json};

use super::catalog::paper_of;
use super::given::{Given, failed, flag, job_of, number, text};
use super::session::refused;
use super::told::run_json;
use super::{Outcome, Service};
use crate::socket::Tell;
use crate::wire::Refusal;

impl Service {
    pub(super) fn dialect_of(&self, given: &Given) -> Result<&'static Dialect, Refusal> {
        let (connection, language) = (text(given, "connection"), text(given, "language"));
        if !connection.is_empty() {
            let known = self.known();
            let engine = known
                .find(connection)
                .and_then(|profile| self.options.engines.iter().find(|engine| engine.name() == profile.engine));
            let unknown = || Refusal::params(format!("no connection is named \"{connection}\""));
            return engine.map(|engine| engine.dialect()).ok_or_else(unknown);
        }
        if language.is_empty() {
            return Ok(dialect::FALLBACK);
        }
        dialect::by_name(language).ok_or_else(|| {
            let all: Vec<&str> = dialect::DIALECTS.iter().map(|dialect| dialect.name).collect();
            Refusal::params(format!("no language is named {language}; there are {}", all.join(", ")))
        })
    }

    pub(super) fn statements_list(&self, given: &Given) -> Outcome {
        let dialect = self.dialect_of(given)?;
        let rope = Rope::from_str(text(given, "text"));
        let outline = Outline::new(&rope, dialect);
        let one = |statement: &jaunty_language::split::Statement| {
            json!({
                "title": statement.title_text(&rope, dialect), "text": statement.text(&rope),
                "kind": statement.kind.word(), "start": statement.start, "end": statement.end,
            })
        };
        Ok(outline.statements().iter().map(one).collect())
    }

    /// Asks something about a statement, with what is known around it.
    pub(super) fn about<T>(
        &self,
        given: &Given,
        ask: impl FnOnce(&str, usize, Surroundings<'_>) -> T,
    ) -> Result<T, Refusal> {
        let session = self.session(text(given, "connection"))?;
        let mut catalog = session.catalog(false)?;
        let written = text(given, "text");
        let at = usize::try_from(number(given, "at").unwrap_or_default()).unwrap_or(usize::MAX).min(written.len());
        if !written.is_char_boundary(at) {
            return Err(Refusal::params("at lies within a character"));
        }
        let dialect = session.engine.dialect();
        let around = Surroundings { catalog: &catalog, dialect, snippets: &self.snippets, nearby: written };
        let named: Vec<String> = not_read(written, around).into_iter().map(str::to_owned).collect();
        if !named.is_empty() {
            catalog = session.catalog_with(&named)?;
        }
        Ok(ask(written, at, Surroundings { catalog: &catalog, dialect, snippets: &self.snippets, nearby: written }))
    }

    pub(super) fn statements_problems(&self, given: &Given) -> Outcome {
        let found = self.about(given, |text, _, around| problems(text, around, &Default::default()))?;
        let one = |problem: &jaunty_core::problems::Problem| json!({"message": problem.message, "start": problem.range.start, "end": problem.range.end, "near": problem.near});
        Ok(found.iter().map(one).collect())
    }

    pub(super) fn complete(&self, given: &Given) -> Outcome {
        let found = self.about(given, complete)?;
        let one = |proposal: &jaunty_core::complete::Proposal| json!({"label": proposal.label, "kind": proposal.kind.word(), "detail": proposal.detail, "insert": proposal.insert});
        let proposals: Value = found.proposals.iter().map(one).collect();
        Ok(json!({"start": found.replace.start, "end": found.replace.end, "proposals": proposals}))
    }

    pub(super) fn explain(&self, given: &Given) -> Outcome {
        let found = self.about(given, about)?;
        Ok(found.map_or(Value::Null, |found| json!({"title": found.title, "lines": found.lines})))
    }

    pub(super) fn run(&self, given: &Given, tell: &Tell) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let mut job = job_of(given, session.engine.dialect())?;
        job.confirmed = flag(given, "confirmed");
        let title = Some(text(given, "title")).filter(|title| !title.is_empty());
        job.title = title.map(str::to_owned).or(job.title);
        Ok(run_json(&*session.run(job, tell)?))
    }

    pub(super) fn plan(&self, given: &Given, tell: &Tell) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let dialect = session.engine.dialect();
        let plans = dialect.plans.ok_or_else(|| Refusal::failed("there are no plans in this language"))?;
        let mut job = job_of(given, dialect)?;
        let statement = asked_about(&job.statement, plans).unwrap_or(&job.statement).to_owned();
        let prefix = match (flag(given, "measured"), plans.measured) {
            (false, _) => plans.estimated,
            (true, Some(_)) if acts(&statement, dialect) != Acts::Reads => {
                return Err(Refusal::failed("measuring runs the statement, and it may write; ask for the estimate"));
            }
            (true, Some(prefix)) => prefix,
            (true, None) => return Err(Refusal::failed("this server estimates plans and does not measure them")),
        };
        let path = Some(text(given, "path")).filter(|path| !path.is_empty()).map(Path::new);
        let paper = path.map(paper_of).transpose()?;
        job.statement = asked(prefix, &statement);
        // The guard judges all of what is sent: words of the statement might make it run.
        job.confirmed = flag(given, "confirmed");
        let run = session.run(job, tell)?;
        if let Some(error) = run.end().and_then(|end| end.error.as_ref()) {
            return Err(refused(error));
        }
        let kept = run.all_rows().last().cloned().ok_or_else(|| Refusal::failed("the server gave no plan"))?;
        let plan = of_rows(&*kept.archive().map_err(failed)?, plans).map_err(Refusal::failed)?;
        if let Some((path, paper)) = path.zip(paper) {
            save(scene(&plan, &statement, &session.profile.name), path, paper).map_err(failed)?;
        }
        let step = |step: &Step| {
            json!({
                "depth": step.depth, "action": step.action, "target": step.target, "index": step.index,
                "own": step.own, "share": step.share, "estimated": step.estimated, "met": step.met, "loops": step.loops,
                "reads_all": step.reads_all, "spill": step.spill,
            })
        };
        let unit = match plan.unit {
            Unit::None => Value::Null,
            Unit::Cost => json!("cost"),
            Unit::Time => json!("ms"),
        };
        let steps: Value = plan.steps.iter().map(step).collect();
        Ok(json!({"run": run.number, "text": plan_text(&plan), "unit": unit, "total": plan.total, "steps": steps}))
    }
}
