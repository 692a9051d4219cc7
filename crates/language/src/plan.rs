//! How a server carries a statement out: one model for all of them, and what follows from it. What each server calls its
//! plan, and how that is read, stands with its dialect.

use std::collections::{HashMap, VecDeque};
use std::fmt::Write;

/// How a dialect asks for plans.
#[derive(Debug)]
pub struct Plans {
    /// What stands before a statement whose plan is asked for without running it: words, or lines.
    pub estimated: &'static str,
    /// What stands before one that is run and measured, where the server can.
    pub measured: Option<&'static str>,
    /// Reads the rows that the server gives.
    pub read: fn(&[Vec<String>]) -> Result<Plan, String>,
}

/// A statement behind what asks for its plan.
pub fn asked(prefix: &str, statement: &str) -> String {
    let between = if prefix.contains('\n') { '\n' } else { ' ' };
    format!("{prefix}{between}{statement}")
}

/// What the numbers of steps count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Unit {
    /// Nothing: the server tells neither.
    #[default]
    None,
    /// The server's own unit of cost.
    Cost,
    /// Milliseconds.
    Time,
}

/// A step of a plan.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Step {
    /// How deep it is: its parent is the last one before that is less deep.
    pub depth: usize,
    /// What it does, in the server's words.
    pub action: String,
    /// The table or the like that it reads.
    pub target: String,
    /// The index that it uses.
    pub index: Option<String>,
    /// Cost with all steps below, in the server's unit.
    pub cost: Option<f64>,
    /// Milliseconds with all steps below and all loops, as the clock showed them.
    pub time: Option<f64>,
    /// Cost or time without the steps below, as far as the server tells them apart itself.
    pub own: Option<f64>,
    /// Rows in each loop, as the server thought.
    pub estimated: Option<f64>,
    /// Rows in each loop, as they were.
    pub met: Option<f64>,
    /// How often it was carried out.
    pub loops: Option<f64>,
    /// Whether it reads every row of its target to find some.
    pub reads_all: bool,
    /// What went to disk since memory did not hold it.
    pub spill: Option<String>,
    /// More that the server says: names and values.
    pub details: Vec<(String, String)>,
    /// Its own part of the whole, from 0 to 1.
    pub share: f64,
    /// Whether it lies on the way from the root to the dearest step.
    pub is_dear: bool,
    /// The steps elsewhere that wait for it, by their places in the plan, where that is known: its time is in theirs, not
    /// its parent's alone.
    pub awaited_by: Vec<usize>,
}

/// A plan.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Plan {
    /// The steps, each before those below it.
    pub steps: Vec<Step>,
    /// What is counted.
    pub unit: Unit,
    /// All of it.
    pub total: f64,
    /// What is told of the whole: names and values.
    pub notes: Vec<(String, String)>,
}

/// A plan beside an earlier one of the same statement.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Comparison {
    /// For each step, the one of the earlier plan that did the same; none where there was none.
    pub earlier: Vec<Option<usize>>,
    /// The steps of the earlier plan that are not carried out any more.
    pub gone: Vec<usize>,
}

/// So many times more or fewer rows than thought are marked.
const MISESTIMATE: f64 = 10.0;

/// Fewer rows than this make no difference.
const FEW: f64 = 100.0;

impl Step {
    /// How many times more rows there were than thought, or fewer; none where that makes no difference.
    pub fn misestimate(&self) -> Option<f64> {
        let (estimated, met) = (self.estimated?, self.met?);
        let loops = self.loops.unwrap_or(1.0).max(1.0);
        if (estimated - met).abs() * loops < FEW {
            return None;
        }
        let ratio = met.max(0.5) / estimated.max(0.5);
        (ratio >= MISESTIMATE || ratio <= 1.0 / MISESTIMATE).then_some(ratio)
    }

    fn whole(&self, unit: Unit) -> Option<f64> {
        match unit {
            Unit::Time => self.time,
            Unit::Cost => self.cost,
            Unit::None => None,
        }
    }
}

/// Takes the time of steps that others waited for out of the others' own: the first that asks waits for most of it. What
/// none of them has was spent for the parent.
fn take_awaited(steps: &[Step], wholes: &[f64], owns: &mut [f64]) {
    for (at, step) in steps.iter().enumerate().filter(|(_, step)| !step.awaited_by.is_empty()) {
        let mut left = wholes[at];
        let parent = (0..at).rev().find(|above| steps[*above].depth < step.depth);
        for other in step.awaited_by.iter().copied().chain(parent) {
            let taken = left.min(owns[other]);
            owns[other] -= taken;
            left -= taken;
        }
    }
}

impl Plan {
    /// A plan of these steps: what each has for itself, and which are dear, follows from what they tell.
    pub fn of(mut steps: Vec<Step>, notes: Vec<(String, String)>) -> Plan {
        let unit = match () {
            () if steps.iter().any(|step| step.time.is_some()) => Unit::Time,
            () if steps.iter().any(|step| step.cost.is_some() || step.own.is_some()) => Unit::Cost,
            () => Unit::None,
        };
        // From the last to the first, so that those below are known.
        let mut wholes: Vec<f64> = vec![0.0; steps.len()];
        let mut owns: Vec<f64> = vec![0.0; steps.len()];
        for at in (0..steps.len()).rev() {
            let depth = steps[at].depth;
            let below = steps.iter().enumerate().skip(at + 1).take_while(|(_, step)| step.depth > depth);
            let counts = |step: &Step| step.depth == depth + 1 && (unit != Unit::Time || step.awaited_by.is_empty());
            let below: f64 = below.filter(|(_, step)| counts(step)).map(|(at, _)| wholes[at]).sum();
            let step = &steps[at];
            let (whole, own) = match (step.whole(unit), step.own) {
                (whole, Some(own)) => (whole.unwrap_or(own + below).max(own + below), own),
                // A clock is read at two places; what is below zero is nothing.
                (Some(whole), None) => (whole.max(0.0), (whole - below).max(0.0)),
                (None, None) => (below, 0.0),
            };
            (wholes[at], owns[at]) = (whole, own);
        }
        if unit == Unit::Time {
            take_awaited(&steps, &wholes, &mut owns);
        }
        let all: f64 = owns.iter().sum();
        for (step, own) in steps.iter_mut().zip(&owns) {
            step.share = if all > 0.0 { own / all } else { 0.0 };
            step.own = (unit != Unit::None).then_some(*own);
        }
        let total = steps.iter().zip(&wholes).filter(|(step, _)| step.depth == 0).map(|(_, whole)| whole).sum();
        let mut plan = Plan { steps, unit, total, notes };
        plan.mark_dear();
        plan
    }

    fn mark_dear(&mut self) {
        let dearest = (0..self.steps.len()).max_by(|a, b| self.steps[*a].share.total_cmp(&self.steps[*b].share));
        let Some(mut at) = dearest.filter(|at| self.steps[*at].share > 0.0) else { return };
        loop {
            self.steps[at].is_dear = true;
            let depth = self.steps[at].depth;
            match (0..at).rev().find(|above| self.steps[*above].depth < depth) {
                Some(parent) => at = parent,
                None => return,
            }
        }
    }

    /// The steps by their own part of the whole, the largest first.
    pub fn by_share(&self) -> Vec<usize> {
        let mut order: Vec<usize> = (0..self.steps.len()).collect();
        order.sort_by(|a, b| self.steps[*b].share.total_cmp(&self.steps[*a].share).then(a.cmp(b)));
        order
    }

    /// What is the same as in an earlier plan: steps that do the same on the same target by the same index, the first
    /// with the first. Of those without a target, those go together first that begin with the same one below them. How
    /// deep steps are does not count, since a new one above moves all others in.
    pub fn compare(&self, earlier: &Plan) -> Comparison {
        let mut found: Vec<Option<usize>> = vec![None; self.steps.len()];
        let mut gone: Vec<usize> = (0..earlier.steps.len()).collect();
        for with_below in [true, false] {
            let what = |plan: &'_ Plan, at: usize| {
                let step = &plan.steps[at];
                let below = if with_below { plan.target_below(at) } else { "" };
                (step.action.clone(), step.target.clone(), step.index.clone(), below.to_owned())
            };
            let mut left: HashMap<_, VecDeque<usize>> = HashMap::new();
            for at in gone.drain(..) {
                left.entry(what(earlier, at)).or_default().push_back(at);
            }
            for (at, found) in found.iter_mut().enumerate().filter(|(_, found)| found.is_none()) {
                *found = left.get_mut(&what(self, at)).and_then(VecDeque::pop_front);
            }
            gone.extend(left.into_values().flatten());
            gone.sort_unstable();
        }
        Comparison { earlier: found, gone }
    }

    /// The first target among the steps below one.
    fn target_below(&self, at: usize) -> &str {
        let depth = self.steps[at].depth;
        let mut below = self.steps[at + 1..].iter().take_while(|step| step.depth > depth);
        below.find(|step| !step.target.is_empty()).map_or("", |step| step.target.as_str())
    }

    /// The tree as text, for whoever cannot see it drawn.
    pub fn text(&self) -> String {
        let mut text = String::new();
        for step in &self.steps {
            let index = step.index.as_ref().map(|index| format!(" by {index}")).unwrap_or_default();
            let target = if step.target.is_empty() { String::new() } else { format!(" {}", step.target) };
            let share = match self.unit {
                Unit::None => String::new(),
                _ => format!(" {:.0} %", step.share * 100.0),
            };
            // Writing to a string never fails.
            let _ = writeln!(text, "{}{}{target}{index}{share}", "  ".repeat(step.depth), step.action);
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(depth: usize, action: &str, time: f64) -> Step {
        Step { depth, action: action.into(), time: Some(time), ..Step::default() }
    }

    #[test]
    fn what_a_step_takes_for_itself_is_what_those_below_leave() {
        let steps = vec![step(0, "sort", 10.0), step(1, "join", 9.0), step(2, "scan", 6.0), step(2, "seek", 1.0)];
        let plan = Plan::of(steps, Vec::new());
        assert_eq!((plan.unit, plan.total), (Unit::Time, 10.0));
        let own: Vec<f64> = plan.steps.iter().filter_map(|step| step.own).collect();
        assert_eq!(own, [1.0, 2.0, 6.0, 1.0]);
        assert_eq!(own.iter().sum::<f64>(), plan.total, "they add up");
        assert_eq!(plan.steps.iter().map(|step| step.is_dear).collect::<Vec<_>>(), [true, true, true, false]);
        assert_eq!(plan.by_share(), [2, 1, 0, 3]);
        assert_eq!(plan.text(), "sort 10 %\n  join 20 %\n    scan 60 %\n    seek 10 %\n");
    }

    #[test]
    fn what_others_wait_for_is_in_their_time() {
        let step = |depth, time, awaited_by: &[usize]| Step {
            depth,
            time: Some(time),
            awaited_by: awaited_by.to_vec(),
            ..Step::default()
        };
        let own = |plan: &Plan| plan.steps.iter().filter_map(|step| step.own).collect::<Vec<_>>();
        // A common table expression hangs from the root, and the scans below another step wait for it.
        let plan = Plan::of(
            vec![step(0, 10.0, &[]), step(1, 6.0, &[3, 4]), step(1, 9.0, &[]), step(2, 5.0, &[]), step(2, 3.0, &[])],
            Vec::new(),
        );
        assert_eq!(own(&plan), [1.0, 6.0, 1.0, 0.0, 2.0]);
        assert_eq!(own(&plan).iter().sum::<f64>(), plan.total, "they add up");
        // What nobody below has waited for, its parent has.
        let plan = Plan::of(vec![step(0, 10.0, &[]), step(1, 6.0, &[2]), step(1, 2.0, &[])], Vec::new());
        assert_eq!(own(&plan), [4.0, 6.0, 0.0]);
        // A cost is that of the parent.
        let cost =
            |depth, cost, awaited_by: &[usize]| Step { cost: Some(cost), time: None, ..step(depth, 0.0, awaited_by) };
        let plan = Plan::of(vec![cost(0, 10.0, &[]), cost(1, 6.0, &[2]), cost(1, 2.0, &[])], Vec::new());
        assert_eq!(own(&plan), [2.0, 6.0, 2.0]);
    }

    #[test]
    fn steps_that_only_tell_their_own_add_up_too() {
        let own = |depth, own| Step { depth, own: Some(own), time: None, ..Step::default() };
        let mut steps = vec![own(0, 0.0), own(1, 3.0), own(1, 1.0)];
        steps[0].time = Some(4.5);
        steps[0].own = None;
        let plan = Plan::of(steps, Vec::new());
        assert_eq!(plan.steps.iter().filter_map(|step| step.own).collect::<Vec<_>>(), [0.5, 3.0, 1.0]);
    }

    #[test]
    fn an_earlier_plan_stands_beside() {
        let on = |depth, action: &str, target: &str, time| Step { target: target.into(), ..step(depth, action, time) };
        let earlier = Plan::of(
            vec![on(0, "join", "", 9.0), on(1, "scan", "bookings", 6.0), on(1, "scan", "ports", 1.0)],
            Vec::new(),
        );
        let now = Plan::of(
            vec![
                on(0, "sort", "", 4.0),
                on(1, "join", "", 3.0),
                on(2, "seek", "bookings", 1.0),
                on(2, "scan", "ports", 1.0),
                on(2, "scan", "ports", 0.5),
            ],
            Vec::new(),
        );
        let compared = now.compare(&earlier);
        assert_eq!(compared.earlier, [None, Some(0), None, Some(2), None]);
        assert_eq!(compared.gone, [1]);
        // The hash of one table is not that of another.
        let hashes = |tables: &[&str]| {
            let steps = tables.iter().flat_map(|table| [on(0, "hash", "", 2.0), on(1, "scan", table, 1.0)]);
            Plan::of(steps.collect(), Vec::new())
        };
        let compared = hashes(&["ports", "quays"]).compare(&hashes(&["bookings", "ports"]));
        assert_eq!(compared, Comparison { earlier: vec![Some(2), Some(3), Some(0), None], gone: vec![1] });
        let compared = hashes(&["ports"]).compare(&hashes(&["bookings", "ports"]));
        assert_eq!(compared, Comparison { earlier: vec![Some(2), Some(3)], gone: vec![0, 1] });
        let same = now.compare(&now);
        assert_eq!(same.earlier, (0..5).map(Some).collect::<Vec<_>>());
        assert!(same.gone.is_empty());
    }

    #[test]
    fn what_is_far_from_what_was_thought_is_marked() {
        let with = |estimated, met, loops| {
            Step { estimated: Some(estimated), met: Some(met), loops: Some(loops), ..Step::default() }.misestimate()
        };
        assert_eq!(with(1.0, 5000.0, 1.0), Some(5000.0));
        assert_eq!(with(5000.0, 10.0, 1.0), Some(0.002));
        assert_eq!(with(1.0, 20.0, 1.0), None, "that makes no difference");
        assert_eq!(with(1.0, 20.0, 50.0), Some(20.0), "but fifty times it does");
        assert_eq!(with(900.0, 1000.0, 1.0), None);
    }
}
