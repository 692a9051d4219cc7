//! What `EXPLAIN QUERY PLAN` gives: rows of a number, that of the parent, nothing, and a sentence. Source:
//! <https://www.sqlite.org/eqp.html>. There are neither costs nor times in it.

use crate::plan::{Plan, Plans, Step};

pub(super) const PLANS: Plans = Plans { estimated: "explain query plan", measured: None, read };

fn read(rows: &[Vec<String>]) -> Result<Plan, String> {
    let mut depths: Vec<(String, usize)> = vec![("0".to_owned(), 0)];
    let mut steps = Vec::new();
    for row in rows {
        let [id, parent, _, detail] = row.as_slice() else { return Err("this is not a query plan of SQLite".into()) };
        let depth = depths.iter().find(|(known, _)| known == parent).map_or(0, |(_, depth)| *depth);
        depths.push((id.clone(), depth + 1));
        steps.push(step(depth, detail));
    }
    Ok(Plan::of(steps, Vec::new()))
}

/// `SEARCH sailings AS s USING INDEX by_route (route_id=?)` and its like.
fn step(depth: usize, detail: &str) -> Step {
    let mut step = Step { depth, action: detail.to_owned(), ..Step::default() };
    let Some((word @ ("SCAN" | "SEARCH"), rest)) = detail.split_once(' ') else {
        if detail.starts_with("USE TEMP B-TREE") {
            step.spill = Some("sorts in a temporary B-tree".to_owned());
        }
        return step;
    };
    word.clone_into(&mut step.action);
    let (target, using) = rest.split_once(" USING ").unwrap_or((rest, ""));
    target.clone_into(&mut step.target);
    let (using, condition) = using.split_once(" (").map_or((using, None), |(using, rest)| (using, Some(rest)));
    if let Some(condition) = condition {
        step.details.push(("condition".to_owned(), condition.trim_end_matches(')').to_owned()));
    }
    let index = ["AUTOMATIC COVERING INDEX", "AUTOMATIC PARTIAL COVERING INDEX", "AUTOMATIC INDEX", "COVERING INDEX", "INDEX"]
        .iter()
        .find_map(|word| using.strip_prefix(word).map(|name| (*word, name.trim())));
    match index {
        Some((word, _)) if word.starts_with("AUTOMATIC") => {
            step.index = Some("an index made for this statement alone".to_owned());
        }
        Some((word, name)) => {
            step.index = Some(name.to_owned());
            if word == "COVERING INDEX" {
                step.details.push(("covering".to_owned(), "all columns come from the index".to_owned()));
            }
        }
        None if !using.is_empty() => step.index = Some(using.to_lowercase()),
        None => {}
    }
    step.reads_all = word == "SCAN" && !target.starts_with("CONSTANT ROW") && step.index.is_none();
    step
}
