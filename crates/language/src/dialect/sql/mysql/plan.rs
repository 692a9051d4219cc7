//! What `EXPLAIN FORMAT=JSON` gives, and MariaDB's `ANALYZE FORMAT=JSON`: one value, an object of nested blocks. Source:
//! <https://mariadb.com/kb/en/analyze-format-json/> and the MySQL manual, "EXPLAIN Output Format".

use serde_json::{Map, Value};

use crate::plan::{Plan, Plans, Step};

pub(super) const PLANS: Plans =
    Plans { estimated: "explain format=json", measured: Some("analyze format=json"), read };

fn read(rows: &[Vec<String>]) -> Result<Plan, String> {
    let text = rows.first().and_then(|row| row.first()).ok_or("the server gave no plan")?;
    let value: Value = serde_json::from_str(text).map_err(|error| format!("the plan is not JSON: {error}"))?;
    let object = value.as_object().ok_or("this is not a plan of MySQL or MariaDB")?;
    let mut steps = Vec::new();
    below(object, 0, &mut steps);
    if steps.is_empty() {
        return Err("this is not a plan of MySQL or MariaDB".into());
    }
    let optimization = object.get("query_optimization").and_then(|value| value.get("r_total_time_ms"));
    let notes = optimization.and_then(Value::as_f64).map(|ms| ("planning time".to_owned(), format!("{ms} ms")));
    Ok(Plan::of(steps, notes.into_iter().collect()))
}

fn number(value: Option<&Value>) -> Option<f64> {
    // MySQL writes costs as text.
    value.and_then(|value| value.as_f64().or_else(|| value.as_str()?.parse().ok()))
}

/// Keys whose objects are no steps, but tell something of the step that they stand in.
const TOLD: &[&str] = &[
    "attached_condition", "index_condition", "sort_key", "key_length", "used_key_parts", "ref", "r_filtered", "filtered",
    "r_limit", "r_output_rows", "r_used_priority_queue", "r_sort_mode", "buffer_size", "r_buffer_size", "join_type",
    "r_hit_ratio", "message", "having_condition", "using_filesort", "using_temporary_table", "r_engine_stats",
];

/// What a block is called.
fn named(key: &str, object: &Map<String, Value>) -> Option<String> {
    let select = || object.get("select_id").map(|id| format!("select #{id}")).unwrap_or_else(|| "select".to_owned());
    Some(match key {
        "query_block" => select(),
        "table" => match object.get("access_type").and_then(Value::as_str) {
            Some("ALL") => "full scan".to_owned(),
            Some("index") => "full index scan".to_owned(),
            Some(access) => access.replace('_', " "),
            None => "table".to_owned(),
        },
        "filesort" => "sort".to_owned(),
        "ordering_operation" => "order".to_owned(),
        "grouping_operation" => "group".to_owned(),
        "temporary_table" | "read_sorted_file" | "window_functions_computation" | "duplicates_removal"
        | "block-nl-join" | "union_result" | "expression_cache" | "materialized" | "materialized_from_subquery"
        | "having_subqueries" | "range-checked-for-each-record" | "buffer_result" | "windowing" | "sort" => {
            key.replace(['_', '-'], " ")
        }
        _ => return None,
    })
}

/// Adds the steps that stand in an object, in the order in which they stand there.
fn below(object: &Map<String, Value>, depth: usize, steps: &mut Vec<Step>) {
    for (key, value) in object {
        match value {
            Value::Object(inside) => match named(key, inside) {
                Some(action) => add(action, key, inside, depth, steps),
                None if TOLD.contains(&key.as_str()) => {}
                None => below(inside, depth, steps),
            },
            Value::Array(all) => {
                for one in all.iter().filter_map(Value::as_object) {
                    below(one, depth, steps);
                }
            }
            _ => {}
        }
    }
}

fn add(action: String, key: &str, object: &Map<String, Value>, depth: usize, steps: &mut Vec<Step>) {
    let text = |key: &str| object.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let get = |key: &str| number(object.get(key));
    let cost = object.get("cost_info");
    let own = get("r_table_time_ms").map(|time| time + get("r_other_time_ms").unwrap_or(0.0) + get("r_unpack_time_ms").unwrap_or(0.0));
    // Of a whole query MariaDB tells what all of it took, and of a table what it took itself.
    let total = get("r_total_time_ms");
    let time = total.filter(|_| key == "query_block");
    let own = own.or(total.filter(|_| key == "table"));
    let mut details = Vec::new();
    for told in TOLD {
        match object.get(*told) {
            Some(Value::String(text)) => details.push((told.replace('_', " "), text.clone())),
            Some(Value::Array(all)) => {
                let all: Vec<&str> = all.iter().filter_map(Value::as_str).collect();
                details.push((told.replace('_', " "), all.join(", ")));
            }
            Some(value @ (Value::Number(_) | Value::Bool(true))) => details.push((told.replace('_', " "), value.to_string())),
            _ => {}
        }
    }
    let index = text("key");
    let is_full = object.get("access_type").and_then(Value::as_str) == Some("ALL");
    let spill = match key {
        "temporary_table" => Some("a temporary table".to_owned()),
        _ => get("r_sort_passes").filter(|passes| *passes > 0.0).map(|passes| format!("sorted on disk in {passes} passes")),
    };
    steps.push(Step {
        depth,
        action,
        target: text("table_name"),
        index: Some(index).filter(|index| !index.is_empty()),
        cost: get("cost").or_else(|| number(cost.and_then(|cost| cost.get("query_cost")))),
        time,
        own: own.or_else(|| {
            let part = |key: &str| number(cost.and_then(|cost| cost.get(key)));
            part("read_cost").zip(part("eval_cost")).map(|(read, eval)| read + eval)
        }),
        estimated: get("rows").or_else(|| get("rows_examined_per_scan")),
        met: get("r_rows"),
        loops: get("r_loops"),
        reads_all: is_full && object.contains_key("attached_condition"),
        spill,
        details,
        ..Step::default()
    });
    let at = steps.len();
    below(object, depth + 1, steps);
    // Of a sort it is the one where rows are read meanwhile, and the other where they lay ready.
    if let Some(total) = total.filter(|_| !matches!(key, "query_block" | "table")) {
        let inside: f64 = steps.iter().skip(at).filter_map(|step| step.own).sum();
        if let Some(step) = at.checked_sub(1).and_then(|at| steps.get_mut(at)) {
            if total >= inside * 0.9 { step.time = Some(total) } else { step.own = Some(total) }
        }
    }
}
