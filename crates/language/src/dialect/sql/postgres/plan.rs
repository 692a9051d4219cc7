//! What `EXPLAIN (FORMAT JSON)` gives: one value, an array of one object. Source: the manual's chapter "Using EXPLAIN",
//! and `src/backend/commands/explain.c` for the names.

use serde_json::Value;

use crate::plan::{Plan, Plans, Step};

pub(super) const PLANS: Plans = Plans {
    estimated: "explain (format json)",
    measured: Some("explain (analyze, buffers, format json)"),
    read,
};

fn read(rows: &[Vec<String>]) -> Result<Plan, String> {
    let text = rows.first().and_then(|row| row.first()).ok_or("the server gave no plan")?;
    let value: Value = serde_json::from_str(text).map_err(|error| format!("the plan is not JSON: {error}"))?;
    let top = value.get(0).ok_or("this is not a plan of PostgreSQL")?;
    let mut steps = Vec::new();
    let root = top.get("Plan").ok_or("this is not a plan of PostgreSQL")?;
    walk(root, 0, 1.0, &mut steps);
    await_initial(root, &mut 0, &mut steps);
    let mut notes = Vec::new();
    for name in ["Planning Time", "Execution Time"] {
        if let Some(ms) = top.get(name).and_then(Value::as_f64) {
            notes.push((name.to_lowercase(), format!("{ms} ms")));
        }
    }
    // What triggers take is not part of any step.
    for trigger in top.get("Triggers").and_then(Value::as_array).into_iter().flatten() {
        let text = |key| trigger.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
        let time = trigger.get("Time").and_then(Value::as_f64);
        let name = if text("Constraint Name").is_empty() { text("Trigger Name") } else { text("Constraint Name") };
        steps.push(Step {
            action: "Trigger".to_owned(),
            target: format!("{name} on {}", text("Relation")),
            time,
            own: time,
            loops: trigger.get("Calls").and_then(Value::as_f64),
            ..Step::default()
        });
    }
    Ok(Plan::of(steps, notes))
}

/// Tells of plans that are carried out once, when they are first asked for, by whom that is: they hang from the node that
/// is above all of these (the manual, "Using EXPLAIN"; `SS_attach_initplans` in `src/backend/optimizer/plan/subselect.c`).
/// `at` is the place of the node among the steps, then that after its last.
fn await_initial(node: &Value, at: &mut usize, steps: &mut Vec<Step>) {
    let text = |key: &str| node.get(key).and_then(Value::as_str).unwrap_or_default();
    if text("Parent Relationship") == "InitPlan" {
        let name = text("Subplan Name");
        let waits = |step: &Step| match name.strip_prefix("CTE ") {
            Some(name) => {
                let reads = |(key, value): &(String, String)| key == "cte name" && value == name;
                step.action.ends_with("CTE Scan") && step.details.iter().any(reads)
            }
            None => step.details.iter().any(|(key, value)| key != "subplan name" && mentions(value, name)),
        };
        // What goes to other processes is found out before they begin (`ExecGather` in `src/backend/executor`).
        let above = |other: usize| {
            let above = (0..other).rev().find(|above| steps[*above].depth < steps[other].depth);
            above.filter(|above| steps[*above].depth >= steps[*at].depth)
        };
        let sends = |other: usize| {
            let all = std::iter::successors(above(other), |step| above(*step));
            all.filter(|step| steps[*step].action.starts_with("Gather"))
        };
        let waiting = (0..steps.len()).filter(|other| waits(&steps[*other]));
        let mut waiting: Vec<usize> = waiting.flat_map(|other| sends(other).chain([other])).collect();
        waiting.sort_unstable();
        waiting.dedup();
        steps[*at].awaited_by = waiting;
    }
    *at += 1;
    for child in node.get("Plans").and_then(Value::as_array).into_iter().flatten() {
        await_initial(child, at, steps);
    }
}

/// Whether a condition needs what the plan of this name gives, `InitPlan 1 (returns $0,$1)` before the server's version 17
/// and `InitPlan 1` since.
fn mentions(condition: &str, name: &str) -> bool {
    let ends = |rest: &str| !rest.starts_with(|letter: char| letter.is_ascii_digit());
    let stands = |word: &str| condition.match_indices(word).any(|(at, _)| ends(&condition[at + word.len()..]));
    match name.split_once(" (returns ") {
        Some((_, given)) => given.trim_end_matches(')').split(',').any(stands),
        None => stands(name),
    }
}

/// Keys that are shown as they are, where they are there.
const DETAILS: &[&str] = &[
    "Join Type", "Hash Cond", "Merge Cond", "Join Filter", "Index Cond", "Recheck Cond", "Filter", "TID Cond",
    "One-Time Filter", "Sort Key", "Presorted Key", "Group Key", "Rows Removed by Filter",
    "Rows Removed by Join Filter", "Rows Removed by Index Recheck", "Heap Fetches", "Sort Method", "Strategy",
    "Partial Mode", "Workers Planned", "Workers Launched", "Subplan Name", "CTE Name", "Function Name", "Exact Heap Blocks",
    "Lossy Heap Blocks", "Hash Buckets", "Hash Batches", "Cache Hits", "Cache Misses", "Operation", "Output",
];

/// Adds a node and those below it. `workers` is how many processes share its loops.
fn walk(node: &Value, depth: usize, workers: f64, steps: &mut Vec<Step>) {
    let text = |key: &str| node.get(key).and_then(Value::as_str).unwrap_or_default();
    let number = |key: &str| node.get(key).and_then(Value::as_f64);
    let kind = text("Node Type");
    let action = match (kind, text("Operation"), text("Strategy")) {
        ("ModifyTable", operation, _) if !operation.is_empty() => operation.to_owned(),
        ("Aggregate", _, "Hashed") => "Hash Aggregate".to_owned(),
        ("Aggregate", _, "Sorted") => "Group Aggregate".to_owned(),
        _ => kind.to_owned(),
    };
    let is_parallel = node.get("Parallel Aware").and_then(Value::as_bool) == Some(true);
    let named = ["Relation Name", "CTE Name", "Function Name"].map(text).into_iter().find(|name| !name.is_empty());
    let name = named.unwrap_or_default();
    let alias = text("Alias");
    let target = if alias.is_empty() || alias == name { name.to_owned() } else { format!("{name} {alias}").trim().to_owned() };
    let loops = number("Actual Loops");
    // A time is the mean of the loops; those of several processes ran at once.
    let time = number("Actual Total Time").zip(loops).map(|(time, loops)| time * loops / workers.min(loops.max(1.0)));
    let blocks = |key: &str| number(key).filter(|count| *count > 0.0);
    let mut details: Vec<(String, String)> = Vec::new();
    for key in DETAILS {
        match node.get(*key) {
            Some(Value::String(text)) => details.push(((*key).to_lowercase(), text.clone())),
            Some(Value::Array(all)) => {
                let all: Vec<&str> = all.iter().filter_map(Value::as_str).collect();
                details.push(((*key).to_lowercase(), all.join(", ")));
            }
            Some(Value::Number(number)) if number.as_f64() != Some(0.0) => {
                details.push(((*key).to_lowercase(), number.to_string()));
            }
            _ => {}
        }
    }
    for (key, word) in [("Shared Hit Blocks", "blocks in memory"), ("Shared Read Blocks", "blocks read")] {
        if let Some(count) = blocks(key) {
            details.push((word.to_owned(), count.to_string()));
        }
    }
    let spilled = blocks("Temp Written Blocks").map(|count| format!("{count} blocks written to disk"));
    let sorted = (text("Sort Space Type") == "Disk").then(|| format!("sorted on disk, {} kB", number("Sort Space Used").unwrap_or(0.0)));
    let batches = number("Hash Batches").filter(|batches| *batches > 1.0).map(|batches| format!("hashed in {batches} batches"));
    steps.push(Step {
        depth,
        action: if is_parallel { format!("Parallel {action}") } else { action },
        target,
        index: Some(text("Index Name").to_owned()).filter(|name| !name.is_empty()),
        cost: number("Total Cost"),
        time,
        own: None,
        estimated: number("Plan Rows"),
        met: number("Actual Rows"),
        loops,
        reads_all: kind == "Seq Scan" && !text("Filter").is_empty(),
        spill: sorted.or(batches).or(spilled),
        details,
        ..Step::default()
    });
    let below = match kind {
        "Gather" | "Gather Merge" => number("Workers Launched").map_or(workers, |launched| launched + 1.0),
        _ => workers,
    };
    for child in node.get("Plans").and_then(Value::as_array).into_iter().flatten() {
        walk(child, depth + 1, below, steps);
    }
}
