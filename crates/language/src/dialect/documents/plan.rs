//! What `explain` gives: the plan of a search, and the stages of a pipeline above it. Source: the server's documentation,
//! "Explain Results".

use serde_json::{Map, Value};

use crate::plan::{Plan, Plans, Step};

pub(super) const PLANS: Plans = Plans { estimated: "explain", measured: Some("explain measured"), read };

/// Each value of the reply is one cell: those that are plans are known by what they hold.
fn read(rows: &[Vec<String>]) -> Result<Plan, String> {
    let row = rows.first().ok_or("the server gave no plan")?;
    let cells: Vec<Value> = row.iter().filter_map(|cell| serde_json::from_str(cell).ok()).collect();
    let (mut steps, mut notes) = (Vec::new(), Vec::new());
    let stages = cells.iter().filter_map(Value::as_array).find(|all| all.iter().any(Value::is_object));
    match stages {
        Some(stages) => pipeline(stages, &mut steps, &mut notes),
        None => {
            let holds = |key: &str| cells.iter().filter_map(Value::as_object).find(|object| object.contains_key(key));
            search(holds("winningPlan"), holds("executionStages"), 0, &mut steps, &mut notes);
        }
    }
    if steps.is_empty() {
        return Err("this is not a plan of a document database".into());
    }
    Ok(Plan::of(steps, notes))
}

/// A number, also one that has its type beside it.
fn number(value: Option<&Value>) -> Option<f64> {
    let value = value?;
    let typed = || ["$numberLong", "$numberInt", "$numberDouble"].iter().find_map(|key| value.get(key)?.as_str());
    value.as_f64().or_else(|| typed()?.parse().ok())
}

/// The stages of a pipeline, the last of them at the top.
fn pipeline(stages: &[Value], steps: &mut Vec<Step>, notes: &mut Vec<(String, String)>) {
    let mut depth = 0;
    for stage in stages.iter().rev().filter_map(Value::as_object) {
        let Some((name, argument)) = stage.iter().find(|(name, _)| name.starts_with('$')) else { continue };
        if name == "$cursor" {
            let part = |key: &str| argument.get(key).and_then(Value::as_object);
            search(part("queryPlanner"), part("executionStats"), depth, steps, notes);
            continue;
        }
        steps.push(Step {
            depth,
            action: name.trim_start_matches('$').to_owned(),
            time: number(stage.get("executionTimeMillisEstimate")),
            met: number(stage.get("nReturned")),
            details: vec![("takes".to_owned(), argument.to_string())],
            ..Step::default()
        });
        depth += 1;
    }
}

/// A search: its tree with what was measured where the server tells both in one.
fn search(
    planner: Option<&Map<String, Value>>,
    measured: Option<&Map<String, Value>>,
    depth: usize,
    steps: &mut Vec<Step>,
    notes: &mut Vec<(String, String)>,
) {
    let namespace = planner.and_then(|planner| planner.get("namespace")).and_then(Value::as_str).unwrap_or_default();
    let target = namespace.split_once('.').map_or(namespace, |(_, name)| name);
    let planned = planner.and_then(|planner| planner.get("winningPlan"));
    // Newer servers have the plan a level further in, beside one for their own machine.
    let planned = planned.map(|plan| plan.get("queryPlan").unwrap_or(plan)).and_then(Value::as_object);
    let carried_out = measured.and_then(|measured| measured.get("executionStages")).and_then(Value::as_object);
    // What is told of that machine has none of the names of the plan.
    let alike = |tree: &&Map<String, Value>| tree.get("stage") == planned.and_then(|plan| plan.get("stage"));
    let at = steps.len();
    if let Some(tree) = carried_out.filter(|tree| planned.is_none() || alike(tree)).or(planned) {
        below(tree, target, depth, steps);
    }
    if let Some(measured) = measured {
        for (key, name) in [("totalKeysExamined", "keys examined"), ("totalDocsExamined", "documents examined")] {
            notes.extend(number(measured.get(key)).map(|value| (name.to_owned(), value.to_string())));
        }
        if let Some(first) = steps.get_mut(at) {
            first.met = first.met.or(number(measured.get("nReturned")));
            first.time = first.time.or(number(measured.get("executionTimeMillis")));
        }
    }
    let rejected =
        planner.and_then(|planner| planner.get("rejectedPlans")).and_then(Value::as_array).map_or(0, Vec::len);
    if rejected > 0 {
        notes.push(("plans that were not chosen".to_owned(), rejected.to_string()));
    }
}

/// What the server calls a step, in lower case.
fn words(stage: &str) -> String {
    match stage {
        "COLLSCAN" => "collection scan".to_owned(),
        "IXSCAN" => "index scan".to_owned(),
        "COUNT_SCAN" => "index count".to_owned(),
        "IDHACK" | "EXPRESS_IXSCAN" => "by _id".to_owned(),
        other => other.to_lowercase().replace('_', " "),
    }
}

/// Keys that tell something of a step.
const TOLD: &[(&str, &str)] = &[
    ("filter", "filter"),
    ("keyPattern", "keys"),
    ("indexBounds", "bounds"),
    ("direction", "direction"),
    ("sortPattern", "sort"),
    ("limitAmount", "limit"),
    ("skipAmount", "skip"),
    ("transformBy", "fields"),
    ("isMultiKey", "lists in the index"),
    ("keysExamined", "keys examined"),
    ("docsExamined", "documents examined"),
    ("memLimit", "memory allowed"),
];

fn below(tree: &Map<String, Value>, target: &str, depth: usize, steps: &mut Vec<Step>) {
    let stage = tree.get("stage").and_then(Value::as_str).unwrap_or_default();
    let reads =
        stage.contains("SCAN") || stage.starts_with("GEO_NEAR") || stage.starts_with("TEXT") || stage == "IDHACK";
    let details = TOLD.iter().filter_map(|(key, name)| {
        let value = tree.get(*key)?;
        Some(((*name).to_owned(), value.as_str().map_or_else(|| value.to_string(), str::to_owned)))
    });
    let filter = tree.get("filter").and_then(Value::as_object).is_some_and(|filter| !filter.is_empty());
    steps.push(Step {
        depth,
        action: words(stage),
        target: if reads { target.to_owned() } else { String::new() },
        index: tree.get("indexName").and_then(Value::as_str).map(str::to_owned),
        time: number(tree.get("executionTimeMillisEstimate")),
        met: number(tree.get("nReturned")),
        reads_all: stage == "COLLSCAN" && filter,
        spill: (tree.get("usedDisk") == Some(&Value::Bool(true))).then(|| "sorted on disk".to_owned()),
        details: details.collect(),
        ..Step::default()
    });
    let many = tree.get("inputStages").and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default();
    let shards = tree.get("shards").and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default();
    for inner in tree.get("inputStage").into_iter().chain(many).filter_map(Value::as_object) {
        below(inner, target, depth + 1, steps);
    }
    for shard in shards.iter().filter_map(Value::as_object) {
        let inner = shard.get("winningPlan").or_else(|| shard.get("executionStages")).and_then(Value::as_object);
        if let Some(inner) = inner {
            below(inner, target, depth + 1, steps);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plan(cells: &[&str]) -> Plan {
        read(&[cells.iter().map(|cell| (*cell).to_owned()).collect()]).unwrap()
    }

    #[test]
    fn a_search_is_a_tree() {
        let planner = r#"{"namespace":"ferry.sailings","winningPlan":{"stage":"LIMIT","limitAmount":5,"inputStage":
            {"stage":"FETCH","filter":{"delay":{"$gt":3}},"inputStage":{"stage":"IXSCAN","indexName":"delay_1",
            "keyPattern":{"delay":1},"indexBounds":{"delay":["[3, inf]"]}}}},"rejectedPlans":[{}]}"#;
        let estimated = plan(&["1", planner]);
        assert_eq!(estimated.text(), "limit\n  fetch\n    index scan sailings by delay_1\n");
        assert_eq!(estimated.notes, [("plans that were not chosen".to_owned(), "1".to_owned())]);
        let stats = r#"{"nReturned":5,"executionTimeMillis":8,"totalDocsExamined":{"$numberLong":"9000"},"executionStages":
            {"stage":"LIMIT","nReturned":5,"executionTimeMillisEstimate":8,"inputStage":
            {"stage":"COLLSCAN","filter":{"a":1},"nReturned":5,"executionTimeMillisEstimate":7,"docsExamined":9000}}}"#;
        let scan =
            r#"{"namespace":"ferry.sailings","winningPlan":{"stage":"LIMIT","inputStage":{"stage":"COLLSCAN"}}}"#;
        let measured = plan(&[scan, stats]);
        assert_eq!(measured.text(), "limit 12 %\n  collection scan sailings 88 %\n");
        assert!(measured.steps[1].reads_all && measured.notes.contains(&("documents examined".into(), "9000".into())));
    }

    #[test]
    fn a_pipeline_stands_above_its_search() {
        let stages = r#"[{"$cursor":{"queryPlanner":{"namespace":"ferry.sailings","winningPlan":{"queryPlan":
            {"stage":"COLLSCAN"},"slotBasedPlan":{}}},"executionStats":{"nReturned":9000,"executionTimeMillis":4,
            "executionStages":{"stage":"mkobj"}}}},
            {"$group":{"_id":"$vessel"},"nReturned":{"$numberLong":"8"},"executionTimeMillisEstimate":{"$numberLong":"9"}},
            {"$sort":{"sortKey":{"n":-1}},"nReturned":8,"executionTimeMillisEstimate":10}]"#;
        let plan = plan(&["1", stages]);
        assert_eq!(plan.text(), "sort 10 %\n  group 50 %\n    collection scan sailings 40 %\n");
        assert_eq!(plan.steps[2].met, Some(9000.0));
    }

    #[test]
    fn what_is_no_plan_is_refused() {
        for cells in [&[][..], &["1"], &["{}"], &["[1, 2]"], &["not json"]] {
            assert!(read(&[cells.iter().map(|cell| (*cell).to_owned()).collect()]).is_err(), "{cells:?}");
        }
        assert!(read(&[]).is_err());
    }
}
