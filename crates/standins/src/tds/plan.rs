//! Plans as the server's XML, made of what SQLite says of its own.

use std::fmt::Write as _;

use rusqlite::Connection;

use super::lex::Token;

/// One statement in a plan.
pub struct Planned {
    /// The server's word for its kind.
    pub kind: &'static str,
    pub text: String,
    /// How many rows it would touch or give.
    pub rows: u64,
    /// How many it gave, where it ran.
    pub met: Option<u64>,
    /// SQLite's steps: how deep each is, and its sentence.
    pub steps: Vec<(usize, String)>,
}

/// The kind of a statement by its first words.
pub fn kind(tokens: &[Token]) -> &'static str {
    let word = |at: usize| tokens.get(at).map(|token| token.text.to_ascii_lowercase()).unwrap_or_default();
    let main = if word(0) == "with" {
        let mut depth = 0_i32;
        tokens
            .iter()
            .skip(1)
            .find(|token| {
                depth += i32::from(token.is("(")) - i32::from(token.is(")"));
                depth == 0 && token.is_one(&["select", "insert", "update", "delete"])
            })
            .map(|token| token.text.to_ascii_lowercase())
            .unwrap_or_default()
    } else {
        word(0)
    };
    let into = tokens.iter().any(|token| token.is("into"));
    match main.as_str() {
        "select" if into => "SELECT INTO",
        "select" if !tokens.iter().any(|token| token.is("from")) => "SELECT WITHOUT QUERY",
        "select" => "SELECT",
        "insert" => "INSERT",
        "update" => "UPDATE",
        "delete" => "DELETE",
        "merge" => "MERGE",
        "truncate" => "TRUNCATE TABLE",
        "create" if word(1) == "table" => "CREATE TABLE",
        "create" => "CREATE OBJECT",
        "alter" => "ALTER OBJECT",
        "drop" => "DROP OBJECT",
        "grant" | "deny" | "revoke" => "GRANT OBJECT",
        _ => "UNKNOWN",
    }
}

/// SQLite's steps for a statement of its own.
pub fn steps(db: &Connection, text: &str) -> Vec<(usize, String)> {
    let Ok(mut asked) = db.prepare(&format!("explain query plan {text}")) else { return Vec::new() };
    let Ok(rows) =
        asked.query_map([], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?, row.get::<_, String>(3)?)))
    else {
        return Vec::new();
    };
    let mut depths: Vec<(i64, usize)> = vec![(0, 0)];
    rows.flatten()
        .map(|(id, parent, sentence)| {
            let depth = depths.iter().find(|(known, _)| *known == parent).map_or(0, |(_, depth)| *depth);
            depths.push((id, depth + 1));
            (depth, sentence)
        })
        .collect()
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;").replace('\n', "&#xA;")
}

/// The document of a batch.
pub fn document(statements: &[Planned]) -> String {
    let mut text = String::from(
        "<ShowPlanXML xmlns=\"http://schemas.microsoft.com/sqlserver/2004/07/showplan\" Version=\"1.564\"><BatchSequence><Batch><Statements>",
    );
    for statement in statements {
        let cost = 0.003 * (statement.rows as f64 + 1.0);
        let _ = write!(
            text,
            "<StmtSimple StatementText=\"{}\" StatementType=\"{}\" StatementEstRows=\"{}\" StatementSubTreeCost=\"{cost}\">",
            escaped(&statement.text),
            statement.kind,
            statement.rows
        );
        if !statement.steps.is_empty() {
            text.push_str("<QueryPlan>");
            let root = (0, format!("RESULT {}", statement.kind));
            let mut all = vec![root];
            all.extend(statement.steps.iter().map(|(depth, sentence)| (depth + 1, sentence.clone())));
            step(&all, 0, statement, cost, &mut text);
            text.push_str("</QueryPlan>");
        }
        text.push_str("</StmtSimple>");
    }
    text.push_str("</Statements></Batch></BatchSequence></ShowPlanXML>");
    text
}

/// Adds a step and those below it.
fn step(all: &[(usize, String)], at: usize, of: &Planned, cost: f64, text: &mut String) {
    let Some((depth, sentence)) = all.get(at) else { return };
    let words: Vec<&str> = sentence.split_whitespace().collect();
    let target = words.get(1).copied().unwrap_or_default();
    let index = words.iter().position(|word| *word == "INDEX").and_then(|at| words.get(at + 1)).copied();
    let (physical, inside) = match (words.first().copied().unwrap_or_default(), index) {
        ("RESULT", _) => ("Compute Scalar", "ComputeScalar"),
        ("SCAN", None) => ("Table Scan", "TableScan"),
        ("SCAN", Some(_)) => ("Index Scan", "IndexScan"),
        ("SEARCH", None) => ("Clustered Index Seek", "IndexScan"),
        ("SEARCH", Some(_)) => ("Index Seek", "IndexScan"),
        ("USE", _) => ("Sort", "Sort"),
        _ => ("Nested Loops", "NestedLoops"),
    };
    let below: Vec<usize> = (at + 1..all.len())
        .take_while(|next| all.get(*next).is_some_and(|(deep, _)| deep > depth))
        .filter(|next| all.get(*next).is_some_and(|(deep, _)| *deep == depth + 1))
        .collect();
    let own = cost / 2.0_f64.powi(*depth as i32);
    let _ = write!(
        text,
        "<RelOp NodeId=\"{at}\" PhysicalOp=\"{physical}\" LogicalOp=\"{physical}\" EstimateRows=\"{}\" EstimatedTotalSubtreeCost=\"{own}\">",
        of.rows
    );
    if let Some(met) = of.met {
        let _ = write!(
            text,
            "<RunTimeInformation><RunTimeCountersPerThread Thread=\"0\" ActualRows=\"{met}\" ActualExecutions=\"1\" ActualElapsedms=\"{}\"/></RunTimeInformation>",
            4 * (all.len() - at)
        );
    }
    let _ = write!(text, "<{inside}>");
    if matches!(words.first().copied(), Some("SCAN" | "SEARCH")) {
        let index = index.map(|index| format!(" Index=\"[{}]\"", escaped(index))).unwrap_or_default();
        let _ = write!(text, "<Object Table=\"[{}]\"{index}/>", escaped(target));
    }
    if let Some((_, condition)) = sentence.split_once(" (") {
        let condition = escaped(condition.trim_end_matches(')'));
        let _ = write!(text, "<Predicate><ScalarOperator ScalarString=\"{condition}\"/></Predicate>");
    }
    for next in below {
        step(all, next, of, cost, text);
    }
    let _ = write!(text, "</{inside}></RelOp>");
}
