//! What `SET SHOWPLAN_XML` and `SET STATISTICS XML` give: a document a statement. Source: the schema that the server's
//! vendor publishes (<https://schemas.microsoft.com/sqlserver/2004/07/showplan/>).

use roxmltree::{Document, Node};

use crate::plan::{Plan, Plans, Step};

/// The settings hold for what is run with them, and are taken back behind it.
pub(super) const PLANS: Plans =
    Plans { estimated: "set showplan_xml on\ngo", measured: Some("set statistics xml on\ngo"), read };

fn read(rows: &[Vec<String>]) -> Result<Plan, String> {
    let text = rows.first().and_then(|row| row.first()).ok_or("the server gave no plan")?;
    let document = Document::parse(text).map_err(|error| format!("the plan is not XML: {error}"))?;
    let mut steps = Vec::new();
    let mut notes = Vec::new();
    for statement in document.descendants().filter(|node| node.has_tag_name_of("StmtSimple")) {
        if let Some(group) = statement.descendants().find(|node| node.has_tag_name_of("MissingIndexGroup")) {
            notes.push(("missing index".to_owned(), missing(group)));
        }
        if let Some(root) = statement.descendants().find(|node| node.has_tag_name_of("RelOp")) {
            add(root, 0, &mut steps);
        }
    }
    if steps.is_empty() {
        return Err("this is not a plan of SQL Server".into());
    }
    Ok(Plan::of(steps, notes))
}

/// Names without the name space that the documents are in.
trait Named {
    fn has_tag_name_of(&self, name: &str) -> bool;
}

impl Named for Node<'_, '_> {
    fn has_tag_name_of(&self, name: &str) -> bool {
        self.is_element() && self.tag_name().name() == name
    }
}

/// What stands in the part of a step, without the steps below it.
fn within<'a, 'd>(step: Node<'a, 'd>) -> Vec<Node<'a, 'd>> {
    let (mut found, mut next) = (Vec::new(), step.children().rev().collect::<Vec<_>>());
    while let Some(node) = next.pop() {
        if !node.is_element() || node.has_tag_name_of("RelOp") {
            continue;
        }
        found.push(node);
        next.extend(node.children().rev());
    }
    found
}

fn add(step: Node<'_, '_>, depth: usize, steps: &mut Vec<Step>) {
    let number = |node: &Node<'_, '_>, name: &str| node.attribute(name).and_then(|text| text.parse::<f64>().ok());
    let told = within(step);
    let find = |name: &str| told.iter().find(|node| node.has_tag_name_of(name));
    let bare = |name: &str| name.trim_matches(['[', ']']).to_owned();
    let (physical, logical) = (step.attribute("PhysicalOp").unwrap_or("step"), step.attribute("LogicalOp").unwrap_or(""));
    let same = physical.eq_ignore_ascii_case(logical) || logical.is_empty();
    let action = if same { physical.to_lowercase() } else { format!("{} ({})", physical.to_lowercase(), logical.to_lowercase()) };
    let object = find("Object");
    let attribute = |name: &str| object.and_then(|object| object.attribute(name)).map(bare);
    let threads: Vec<_> = told.iter().filter(|node| node.has_tag_name_of("RunTimeCountersPerThread")).collect();
    let sum = |name: &str| {
        let all: Vec<f64> = threads.iter().filter_map(|thread| number(thread, name)).collect();
        (!all.is_empty()).then(|| all.iter().sum::<f64>())
    };
    let most = |name: &str| threads.iter().filter_map(|thread| number(thread, name)).reduce(f64::max);
    let loops = sum("ActualExecutions").filter(|loops| *loops > 0.0);
    let mut details = Vec::new();
    for (name, inside) in [("Predicate", "predicate"), ("SeekPredicates", "seek"), ("DefinedValues", "computes")] {
        let text = find(name).and_then(|node| {
            node.descendants().find_map(|node| node.attribute("ScalarString")).map(str::to_owned)
        });
        details.extend(text.map(|text| (inside.to_owned(), text)));
    }
    let filtered = find("Predicate").is_some();
    let scans = physical.contains("Scan") && !physical.starts_with("Constant");
    steps.push(Step {
        depth,
        action,
        target: attribute("Table").unwrap_or_default(),
        index: attribute("Index"),
        cost: number(&step, "EstimatedTotalSubtreeCost"),
        time: most("ActualElapsedms"),
        estimated: number(&step, "EstimateRows"),
        met: sum("ActualRows").map(|rows| rows / loops.unwrap_or(1.0)),
        loops,
        reads_all: scans && filtered,
        spill: find("SpillToTempDb").map(|_| "to the database tempdb".to_owned()),
        details,
        ..Step::default()
    });
    let mut next: Vec<_> = step.children().collect();
    let mut below = Vec::new();
    while !next.is_empty() {
        let mut inner = Vec::new();
        for node in next {
            if node.has_tag_name_of("RelOp") { below.push(node) } else { inner.extend(node.children()) }
        }
        next = inner;
    }
    for node in below {
        add(node, depth + 1, steps);
    }
}

/// An index that the server would use: its table and its columns.
fn missing(group: Node<'_, '_>) -> String {
    let index = group.descendants().find(|node| node.has_tag_name_of("MissingIndex"));
    let table = index.and_then(|index| index.attribute("Table")).unwrap_or_default();
    let columns = group.descendants().filter(|node| node.has_tag_name_of("Column")).filter_map(|node| node.attribute("Name"));
    let columns: Vec<_> = columns.collect();
    format!("{} ({})", table.trim_matches(['[', ']']), columns.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;

    const SEEN: &str = r#"<ShowPlanXML xmlns="http://schemas.microsoft.com/sqlserver/2004/07/showplan"><BatchSequence><Batch><Statements>
<StmtSimple StatementText="select …" StatementType="SELECT" StatementSubTreeCost="0.5" StatementEstRows="40"><QueryPlan>
<MissingIndexes><MissingIndexGroup Impact="90"><MissingIndex Table="[sailings]"><ColumnGroup Usage="EQUALITY"><Column Name="[delay]"/></ColumnGroup></MissingIndex></MissingIndexGroup></MissingIndexes>
<RelOp NodeId="0" PhysicalOp="Nested Loops" LogicalOp="Inner Join" EstimateRows="40" EstimatedTotalSubtreeCost="0.5"><RunTimeInformation><RunTimeCountersPerThread Thread="0" ActualRows="400" ActualExecutions="1" ActualElapsedms="12"/></RunTimeInformation><NestedLoops>
<RelOp NodeId="1" PhysicalOp="Clustered Index Scan" LogicalOp="Clustered Index Scan" EstimateRows="40" EstimatedTotalSubtreeCost="0.3"><RunTimeInformation><RunTimeCountersPerThread Thread="0" ActualRows="400" ActualExecutions="1" ActualElapsedms="5"/></RunTimeInformation><IndexScan><Object Table="[sailings]" Index="[PK_sailings]"/><Predicate><ScalarOperator ScalarString="[delay]&gt;(60)"/></Predicate></IndexScan></RelOp>
<RelOp NodeId="2" PhysicalOp="Index Seek" LogicalOp="Index Seek" EstimateRows="1" EstimatedTotalSubtreeCost="0.1"><RunTimeInformation><RunTimeCountersPerThread Thread="0" ActualRows="400" ActualExecutions="400" ActualElapsedms="4"/></RunTimeInformation><IndexScan><Object Table="[ports]" Index="[by_id]"/></IndexScan></RelOp>
</NestedLoops></RelOp></QueryPlan></StmtSimple></Statements></Batch></BatchSequence></ShowPlanXML>"#;

    #[test]
    fn steps_are_read_with_what_belongs_to_each() {
        let plan = read(&[vec![SEEN.to_owned()]]).unwrap();
        let told: Vec<_> = plan.steps.iter().map(|step| (step.depth, step.action.as_str(), step.target.as_str())).collect();
        assert_eq!(
            told,
            [(0, "nested loops (inner join)", ""), (1, "clustered index scan", "sailings"), (1, "index seek", "ports")]
        );
        let [_, scan, seek] = plan.steps.as_slice() else { panic!("three steps") };
        assert_eq!((scan.reads_all, scan.index.as_deref(), scan.met), (true, Some("PK_sailings"), Some(400.0)));
        assert_eq!(scan.details, [("predicate".to_owned(), "[delay]>(60)".to_owned())]);
        assert_eq!((seek.met, seek.loops), (Some(1.0), Some(400.0)));
        assert_eq!(plan.notes, [("missing index".to_owned(), "sailings ([delay])".to_owned())]);
    }

    #[test]
    fn what_is_none_is_told() {
        for text in ["", "select", "<a/>"] {
            assert!(read(&[vec![text.to_owned()]]).is_err());
        }
    }
}
