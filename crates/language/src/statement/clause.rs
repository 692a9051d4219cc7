//! The clauses of a statement, and the words that begin them.

use crate::statement::shape::Shape;

/// A clause of a query.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Clause {
    /// Before the first word that means something.
    Start,
    /// The list of common table expressions.
    With,
    /// What is selected.
    Select,
    /// Where rows come from; after `JOIN` and `INTO` too.
    From,
    /// The condition of a join.
    On,
    /// The columns that a join is over.
    Using,
    /// The condition of rows.
    Where,
    /// What rows are put together by.
    GroupBy,
    /// The condition of groups.
    Having,
    /// The order of rows.
    OrderBy,
    /// How many rows.
    Limit,
    /// Named windows.
    Window,
    /// The table that is written to.
    Target,
    /// What is set to what.
    Set,
    /// Rows given one by one.
    Values,
    /// What of the changed rows comes back.
    Returning,
    /// What follows when a row is there already.
    Conflict,
    /// A statement that makes, changes or removes an object.
    Define,
    /// A call.
    Call,
    /// Anything else.
    Other,
}

/// What a word begins.
pub(super) enum Beginning {
    /// A clause.
    Clause(Clause),
    /// Another query, as behind `UNION`.
    SetOperation,
}

/// The clause that a word begins, after another one.
pub(super) fn clause_of(word: &str, now: Clause, shape: &Shape, at: usize) -> Option<Beginning> {
    use Clause::*;
    let before = |word: &str| at > 0 && shape.is(at - 1, word);
    let defines = now == Define;
    let clause = match word {
        "UNION" | "EXCEPT" | "INTERSECT" | "MINUS" if now != Start && !defines => return Some(Beginning::SetOperation),
        "WITH" if matches!(now, Start | Other) || (defines && before("AS")) => With,
        // `insert into t with s as (…) select`.
        "WITH" if now == Target && shape.with_begins_ctes(at) => With,
        "SELECT" | "INSERT" | "UPDATE" | "DELETE" if shape.is(0, "GRANT") || shape.is(0, "REVOKE") => return None,
        "SELECT" if !before("ON") && !shape.sign(at.wrapping_sub(1), b',') => Select,
        "FROM" if matches!(now, Select | Set | Start | Other | Returning) && !before("DISTINCT") => {
            if before("DELETE") { Target } else { From }
        }
        "FROM" if before("DELETE") => Target,
        // Hints to the optimizer: `use index for join (i)`, `select straight_join a`.
        "JOIN" | "GROUP" | "ORDER" if before("FOR") => return None,
        "STRAIGHT_JOIN" if now == Select => return None,
        "JOIN" | "STRAIGHT_JOIN" => From,
        "USING" if matches!(now, Target) => From,
        "USING" if matches!(now, From | On) => Using,
        "ON" if now != Define && (shape.is(at + 1, "CONFLICT") || shape.is(at + 1, "DUPLICATE")) => Conflict,
        "ON" if matches!(now, From | Using) => On,
        "ON" if now == Define => return None,
        "WHERE" => Where,
        "GROUP" if matches!(now, From | On | Using | Where | Select) => GroupBy,
        "HAVING" => Having,
        "ORDER" if !matches!(now, Start | Other) => OrderBy,
        "LIMIT" | "OFFSET" | "FETCH" if !matches!(now, Start | Other | Define) => Limit,
        "WINDOW" if !matches!(now, Start | Other | Define) => Window,
        "INTO"
            if before("INSERT") || before("REPLACE") || before("MERGE") || before("IGNORE") || before("OVERWRITE") =>
        {
            Target
        }
        "INTO" if now == Target || matches!(now, Start | Other) => Target,
        "UPDATE" if matches!(now, Start | With | Other) => Target,
        "UPDATE" if now == Conflict => return None,
        "SET" if matches!(now, Target | Conflict | From | On) => Set,
        "VALUES" | "VALUE" if matches!(now, Target | Start | With | Other | Select) => Values,
        "RETURNING" => Returning,
        "CALL" | "EXEC" | "EXECUTE" if matches!(now, Start) => Call,
        "CREATE" | "ALTER" | "DROP" | "TRUNCATE" | "COMMENT" | "GRANT" | "REVOKE" | "ANALYZE" | "VACUUM"
        | "REINDEX" | "REFRESH" | "DESCRIBE" | "DESC" | "LOCK" | "CLUSTER" | "RENAME"
            if matches!(now, Start | Other) =>
        {
            Define
        }
        "EXPLAIN" | "PRAGMA" | "SHOW" | "BEGIN" | "COMMIT" | "ROLLBACK" | "COPY" | "DECLARE" | "PREPARE"
            if now == Start =>
        {
            Other
        }
        _ => return None,
    };
    Some(Beginning::Clause(clause))
}
