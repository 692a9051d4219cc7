//! The text of a table that SQLite keeps, in its parts: the rules with their names, and changes that SQLite has no statement
//! for.

use super::lex::{Token, tokens};
use super::{parse, sqlite};

/// A `CREATE TABLE` in its parts.
#[derive(Debug, Clone)]
pub struct Table {
    head: String,
    parts: Vec<Vec<Token>>,
}

/// A rule of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// Its name, where it has one.
    pub name: Option<String>,
    /// The columns it is about.
    pub columns: Vec<String>,
}

/// Why a table cannot be changed so.
#[derive(Debug, PartialEq, Eq)]
pub enum Wrong {
    /// There is no column of this name.
    NoColumn(String),
    /// There is no rule of this name.
    NoRule(String),
    /// The column has a default, and keeps its type.
    Depends(String),
}

/// Words that begin a rule of the whole table.
const RULES: &[&str] = &["constraint", "primary", "unique", "foreign", "check"];

/// What may stand after a column's type.
const AFTER_TYPE: &[&str] =
    &["not", "null", "default", "constraint", "primary", "unique", "check", "references", "as", "collate"];

impl Table {
    /// Reads one.
    pub fn read(text: &str) -> Option<Table> {
        let all = tokens(text).ok()?;
        let open = all.iter().position(|token| token.is("("))?;
        let head = text.get(..all.get(open)?.at)?.trim_end().to_owned();
        let parts = parse::parted(&inside(all.get(open..)?));
        Some(Table { head, parts })
    }

    /// It as a text.
    pub fn text(&self) -> String {
        let parts: Vec<String> = self.parts.iter().map(|part| sqlite::written(part).trim().to_owned()).collect();
        format!("{} ({})", self.head, parts.join(", "))
    }

    /// Its parts.
    pub fn parts(&self) -> &[Vec<Token>] {
        &self.parts
    }

    /// The rules that begin with this word: `primary`, `unique` or `foreign`.
    pub fn rules(&self, word: &str) -> Vec<Named> {
        let of = |part: &Vec<Token>| {
            let (name, rest) = match part.as_slice() {
                [constraint, name, rest @ ..] if constraint.is("constraint") => (Some(name.text.clone()), rest),
                rest => (None, rest),
            };
            if !rest.first()?.is(word) {
                return None;
            }
            let open = rest.iter().position(|token| token.is("("))?;
            let columns = parse::parted(&inside(rest.get(open..)?));
            let columns = columns.iter().filter_map(|column| Some(column.first()?.text.clone())).collect();
            Some(Named { name, columns })
        };
        self.parts.iter().filter_map(of).collect()
    }

    /// The name of a column's default, where somebody gave it one.
    pub fn default_name(&self, column: &str) -> Option<String> {
        let part = self.parts.get(self.column(column)?)?;
        part.windows(3)
            .find(|three| three[0].is("constraint") && three[2].is("default"))
            .map(|three| three[1].text.clone())
    }

    fn column(&self, name: &str) -> Option<usize> {
        self.parts.iter().position(|part| {
            part.first()
                .is_some_and(|first| first.is_name() && !first.is_one(RULES) && first.text.eq_ignore_ascii_case(name))
        })
    }

    /// Adds a part.
    pub fn add(&mut self, rule: &[Token]) {
        self.parts.push(rule.to_vec());
    }

    /// Gives a column a default: `[constraint name] default value`.
    pub fn add_default(&mut self, column: &str, default: &[Token]) -> Result<(), Wrong> {
        let at = self.column(column).ok_or_else(|| Wrong::NoColumn(column.to_owned()))?;
        self.parts[at].extend_from_slice(default);
        Ok(())
    }

    /// Gives a column another type: its name, its type, and `null` or `not null`.
    pub fn alter(&mut self, column: &[Token]) -> Result<(), Wrong> {
        let name = column.first().map(|token| token.text.clone()).unwrap_or_default();
        let at = self.column(&name).ok_or_else(|| Wrong::NoColumn(name.clone()))?;
        if self.parts[at].iter().any(|token| token.is("default")) {
            return Err(Wrong::Depends(name));
        }
        // What stands after its type stays, but for whether it may be NULL.
        let after = self.parts[at].iter().position(|token| token.is_one(AFTER_TYPE)).unwrap_or(self.parts[at].len());
        let rest = self.parts[at].split_off(after);
        let is_null = |token: &Token| token.is("null") || token.is("not");
        self.parts[at] = column.to_vec();
        self.parts[at].extend(rest.into_iter().skip_while(is_null));
        Ok(())
    }

    /// Takes a rule away, by its name or by the one that it is told by where it has none.
    pub fn drop_rule(&mut self, table: &str, rule: &str) -> Result<(), Wrong> {
        let is_it = |name: &str| name.eq_ignore_ascii_case(rule);
        let named = |part: &Vec<Token>| matches!(part.as_slice(), [constraint, name, ..] if constraint.is("constraint") && is_it(&name.text));
        let key =
            |part: &Vec<Token>| is_it(&format!("PK_{table}")) && part.first().is_some_and(|first| first.is("primary"));
        if let Some(at) = self.parts.iter().position(|part| named(part) || key(part)) {
            self.parts.remove(at);
            return Ok(());
        }
        for part in &mut self.parts {
            let column = part.first().map(|token| token.text.clone()).unwrap_or_default();
            let Some(default) = part.iter().position(|token| token.is("default")) else { continue };
            let name =
                default.checked_sub(2).filter(|at| part[*at].is("constraint")).map(|at| part[at + 1].text.clone());
            if is_it(&name.clone().unwrap_or_else(|| format!("DF_{table}_{column}"))) {
                let start = if name.is_some() { default - 2 } else { default };
                let end = default + 1 + value_of(&part[default + 1..]);
                part.drain(start..end);
                return Ok(());
            }
        }
        Err(Wrong::NoRule(rule.to_owned()))
    }
}

/// How many tokens the value of a default is.
fn value_of(tokens: &[Token]) -> usize {
    let sign = usize::from(tokens.first().is_some_and(|token| token.is_one(&["-", "+"])));
    let opens = |at: usize| tokens.get(at).is_some_and(|token| token.is("("));
    let from = sign + usize::from(!opens(sign));
    if opens(from) { from + inside(&tokens[from..]).len() + 2 } else { from }
}

/// What is between the parenthesis that comes first and the one that closes it.
pub fn inside(tokens: &[Token]) -> Vec<Token> {
    let mut depth = 0_i32;
    let close = tokens.iter().position(|token| {
        depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        depth == 0
    });
    tokens.get(1..close.unwrap_or(tokens.len())).unwrap_or_default().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "CREATE TABLE ports(id integer not null, name nvarchar(60) constraint few default ('x') not null, b int default -1, \
        \"two words\" int, constraint PK_p primary key (id), foreign key (b) references t (id), constraint c check (b > 0))";

    fn changed(change: impl FnOnce(&mut Table) -> Result<(), Wrong>) -> String {
        let mut table = Table::read(TEXT).unwrap();
        change(&mut table).unwrap();
        table.text()
    }

    #[test]
    fn rules_have_their_names_and_columns() {
        let table = Table::read(TEXT).unwrap();
        let named =
            |name: Option<&str>, column: &str| Named { name: name.map(str::to_owned), columns: vec![column.into()] };
        assert_eq!(table.rules("primary"), [named(Some("PK_p"), "id")]);
        assert_eq!(table.rules("foreign"), [named(None, "b")]);
        assert_eq!((table.default_name("name"), table.default_name("b")), (Some("few".into()), None));
    }

    #[test]
    fn a_table_changes_part_by_part() {
        assert!(changed(|t| t.drop_rule("ports", "FEW")).contains("name nvarchar(60) not null, b int default"));
        assert!(changed(|t| t.drop_rule("ports", "df_ports_b")).contains("b int, \"two words\""));
        assert!(!changed(|t| t.drop_rule("ports", "pk_p")).contains("primary key"));
        assert!(!changed(|t| t.drop_rule("ports", "c")).contains("check"));
        let wide = tokens("[Two Words] decimal(9, 2) not null").unwrap();
        assert!(changed(|t| t.alter(&wide)).contains("\"Two Words\" decimal(9, 2) not null, constraint PK_p"));
        let mut table = Table::read(TEXT).unwrap();
        assert_eq!(table.alter(&tokens("b bigint null").unwrap()), Err(Wrong::Depends("b".into())));
        assert_eq!(table.drop_rule("ports", "nothing"), Err(Wrong::NoRule("nothing".into())));
    }
}
