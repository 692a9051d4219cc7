//! What a statement would do, by the server's own word: its plan names each statement's kind, and a procedure of the
//! server reads a statement without carrying it out.

use std::time::Duration;

use jaunty_language::statement::parameters::Numbered;
use jaunty_seam::engine::Verdict;
use jaunty_seam::error::{EngineError, ErrorKind};
use roxmltree::Document;

use super::errors;
use super::session::{SqlServerSession, field};

/// What the plans of a text say.
#[derive(Debug, Default, PartialEq)]
pub struct Described {
    /// How many statements there are, those within others not counted.
    pub statements: usize,
    /// The kinds of all of them, in the server's words.
    pub kinds: Vec<String>,
    /// How many rows the server thinks that the last one of those that change rows touches.
    pub rows: Option<u64>,
}

/// Kinds that change nothing: the schema of plans calls the rest by other words.
const READS: &[&str] = &[
    "SELECT",
    "SELECT WITHOUT QUERY",
    "ASSIGN",
    "ASSIGN WITH QUERY",
    "COND",
    "COND WITH QUERY",
    "DECLARE",
    "PRINT",
    "RETURN",
    "RETURN WITH QUERY",
    "GOTO",
    "WAITFOR",
    "RAISERROR",
    "SET ON/OFF",
    "SET COMMAND",
    "SET STATS",
    "BEGIN TRANSACTION",
    "COMMIT TRANSACTION",
    "ROLLBACK TRANSACTION",
    "SAVE TRANSACTION",
    "USE DATABASE",
    "DECLARE CURSOR",
    "OPEN CURSOR",
    "FETCH CURSOR",
    "CLOSE CURSOR",
    "DEALLOCATE CURSOR",
    // What it carries out stands beside it.
    "EXECUTE PROC",
    "EXECUTE UDF",
];

/// Kinds that change rows.
const CHANGES: &[&str] = &["INSERT", "UPDATE", "DELETE", "MERGE"];

impl Described {
    /// Reads the documents of a text.
    fn read(documents: &[String]) -> Option<Described> {
        let mut found = Described::default();
        for text in documents {
            let document = Document::parse(text).ok()?;
            for node in document.descendants().filter(|node| node.is_element()) {
                let Some(kind) = node.attribute("StatementType") else { continue };
                let inside = node.ancestors().skip(1).any(|above| above.attribute("StatementType").is_some());
                found.statements += usize::from(!inside);
                if CHANGES.contains(&kind) {
                    let rows = node.attribute("StatementEstRows").and_then(|rows| rows.parse::<f64>().ok());
                    found.rows = rows.map(|rows| rows.round() as u64).or(found.rows);
                }
                found.kinds.push(kind.to_owned());
            }
        }
        (!found.kinds.is_empty()).then_some(found)
    }

    /// The kind of one of the statements that is not known to read.
    pub fn writes(&self) -> Option<&str> {
        self.kinds.iter().map(String::as_str).find(|kind| !READS.contains(kind))
    }

    /// Whether what is not known to read changes rows and nothing else.
    pub fn changes_rows(&self) -> bool {
        self.kinds.iter().all(|kind| READS.contains(&kind.as_str()) || CHANGES.contains(&kind.as_str()))
    }
}

/// The plans of a text, which is not carried out. `None` where the server does not show them.
pub fn plan(
    session: &mut SqlServerSession,
    text: &str,
    limit: Option<Duration>,
) -> Result<Option<Described>, EngineError> {
    // It has to be a batch of its own.
    let (_, refused) = match session.ask_all("set showplan_xml on", None) {
        Ok(said) => said,
        // A wish to stop may have come after the server had heard.
        Err(error) => {
            if error.kind != ErrorKind::Lost {
                end_plans(session)?;
            }
            return Err(error);
        }
    };
    if let Some(message) = refused.first() {
        tracing::debug!(message.text, "the server shows no plans");
        return Ok(None);
    }
    let asked = session.ask_all(text, limit);
    if matches!(&asked, Err(error) if error.kind == ErrorKind::Lost) {
        return asked.map(|_| None);
    }
    end_plans(session)?;
    let (rows, failed) = asked?;
    if let Some(message) = failed.first() {
        // The right to see plans is one of its own.
        if message.number == 262 {
            return Ok(None);
        }
        return Err(errors::statement(message, text));
    }
    let documents: Vec<String> = rows.iter().map(|row| field(row, 0).to_owned()).collect();
    Ok(Described::read(&documents))
}

/// Has statements carried out again, whatever anybody wishes meanwhile: else each would only give its plan.
fn end_plans(session: &mut SqlServerSession) -> Result<(), EngineError> {
    let wish = session.patience.wish();
    session.patience.follow_none();
    let ended = session.ask("set showplan_xml off").map(drop);
    if !wish.is_wished() {
        session.patience.follow(&wish);
    }
    ended
}

/// The numbers of errors that only say that a statement could not be described; what is wrong with it comes before.
const UNDESCRIBED: std::ops::RangeInclusive<i32> = 11_501..=11_530;

/// Whether the server would take a statement.
pub fn check(session: &mut SqlServerSession, numbered: &Numbered, limit: Duration) -> Result<Verdict, EngineError> {
    let quoted = |text: &str| format!("N'{}'", text.replace('\'', "''"));
    let text = &numbered.text;
    let names = jaunty_language::statement::parameters::names(text, &jaunty_language::dialect::SQLSERVER);
    let declared: Vec<_> = names.iter().map(|name| format!("{name} sql_variant")).collect();
    let declared = if declared.is_empty() { "null".to_owned() } else { quoted(&declared.join(", ")) };
    let question = format!("exec sp_describe_first_result_set {}, {declared}", quoted(text));
    let failed = match session.ask_all(&question, Some(limit)) {
        Ok((_, failed)) => failed,
        Err(error) if error.kind == ErrorKind::Stopped => return Ok(Verdict::Unknown),
        Err(error) => return Err(error),
    };
    // With values of unknown types a mistake may be one of ours.
    match failed.iter().find(|message| !UNDESCRIBED.contains(&message.number)) {
        Some(message) if message.number == 2812 || !names.is_empty() => {
            tracing::debug!(message.text, "a statement could not be checked");
            Ok(Verdict::Unknown)
        }
        Some(message) => Err(errors::statement(message, text).as_written(numbered)),
        None if failed.is_empty() => Ok(Verdict::Accepted),
        None => Ok(Verdict::Unknown),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_read_and_those_within_others_counted_once() {
        let text = r#"<ShowPlanXML><BatchSequence><Batch><Statements>
            <StmtSimple StatementType="EXECUTE PROC"><StoredProc><Statements>
                <StmtSimple StatementType="SELECT" StatementEstRows="3"/><StmtSimple StatementType="DELETE" StatementEstRows="41.6"/>
            </Statements></StoredProc></StmtSimple>
            <StmtCond StatementType="COND"/></Statements></Batch></BatchSequence></ShowPlanXML>"#;
        let described = Described::read(&[text.to_owned()]).unwrap();
        assert_eq!((described.statements, described.rows, described.writes()), (2, Some(42), Some("DELETE")));
        assert!(described.changes_rows());
        assert_eq!(Described::read(&["no".to_owned()]), None);
        assert_eq!(Described::read(&[]), None);
    }
}
