//! What an `ALTER TABLE` demands of the rows that are there, as queries that count those which do not fulfil it; and what
//! the server does to the table meanwhile.

use jaunty_language::dialect::{Change, Clauses as OfTables, Dialect, Tables};
use jaunty_language::statement::shape::{Shape, Word, words};
use jaunty_seam::catalog::{Catalog, Object, ObjectKind};

/// A rule that a statement makes, and the query that counts the rows in its way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewRule {
    /// What the rows are that do not fulfil it, as `rows where tide is NULL`.
    pub what: String,
    /// Counts them: one row with one number.
    pub query: String,
}

/// The rules that a statement makes for rows that are there already.
pub fn new_rules(statement: &str, catalog: &Catalog, dialect: &'static Dialect) -> Vec<NewRule> {
    let shape = Shape::of(words(statement, dialect, 0));
    let Some((table, from)) = altered(&shape, catalog, dialect) else { return Vec::new() };
    let name = |column: &str| dialect.name_as_written(column);
    let schema = if table.schema.is_empty() { String::new() } else { format!("{}.", name(&table.schema)) };
    let written = format!("{schema}{}", name(&table.name));
    let clauses = Clauses { statement, words: &shape.words };
    let mut rules = Vec::new();
    let twice = |columns: &[String]| {
        let list: Vec<String> = columns.iter().map(|column| name(column)).collect();
        let known: Vec<String> = list.iter().map(|column| format!("{column} is not null")).collect();
        NewRule {
            what: format!("values of {} that come several times", columns.join(", ")),
            query: format!(
                "select count(*) from (select 1 as one from {written} where {} group by {} having count(*) > 1) several",
                known.join(" and "),
                list.join(", ")
            ),
        }
    };
    let nulls = |column: &str| NewRule {
        what: format!("rows where {column} is NULL"),
        query: format!("select count(*) from {written} where {} is null", name(column)),
    };
    if shape.words.first().is_some_and(|word| word.is("CREATE")) {
        // A unique index.
        rules.extend(clauses.names_in(from, catalog_columns(table)).map(|columns| twice(&columns)));
        return rules;
    }
    for at in from..shape.words.len() {
        let is = |ahead: usize, word: &str| shape.words.get(at + ahead).is_some_and(|found| found.is(word));
        let column = |place: usize| {
            let written = shape.name_at(place)?;
            table.column(&written, dialect)
        };
        match () {
            // Columns of a primary key are never NULL.
            () if is(0, "PRIMARY") && is(1, "KEY") => {
                if let Some(columns) = clauses.names_in(at + 2, catalog_columns(table)) {
                    let nullable = table.columns.iter().filter(|c| c.nullable && columns.contains(&c.name));
                    rules.extend(nullable.map(|column| nulls(&column.name)));
                    rules.push(twice(&columns));
                }
            }
            () if is(0, "UNIQUE") => {
                rules.extend(clauses.names_in(at + 1, catalog_columns(table)).map(|columns| twice(&columns)));
            }
            () if is(0, "CHECK") => {
                if let Some(inside) = clauses.inside(at + 1) {
                    rules.push(NewRule {
                        what: format!("rows where {inside} is false"),
                        query: format!("select count(*) from {written} where not ({inside})"),
                    });
                }
            }
            () if is(0, "FOREIGN") && is(1, "KEY") => {
                rules.extend(reference((table, &written), at + 2, &clauses, &shape, catalog, dialect));
            }
            // `alter column c set not null`
            () if is(0, "SET") && is(1, "NOT") && is(2, "NULL") => {
                if let Some(column) = at.checked_sub(1).and_then(column).filter(|column| column.nullable) {
                    rules.push(nulls(&column.name));
                }
            }
            // `modify column c type not null`, `alter column c type not null`
            () if is(0, "MODIFY") || is(0, "ALTER") => {
                let place = if is(1, "COLUMN") { at + 2 } else { at + 1 };
                let ends = |word: &Word| word.sign(b',');
                let clause = shape.words.get(place..).unwrap_or_default();
                let clause = clause.split(ends).next().unwrap_or_default();
                let not_null = clause.windows(2).any(|two| two[0].is("NOT") && two[1].is("NULL"));
                let set = clause.iter().any(|word| word.is_one_of(&["SET", "DROP"]));
                if let Some(column) = column(place).filter(|column| not_null && !set && column.nullable) {
                    rules.push(nulls(&column.name));
                }
            }
            () => {}
        }
    }
    rules
}

/// The table that an `ALTER TABLE` or a `CREATE UNIQUE INDEX` is about, and the word after its name.
fn altered<'a>(shape: &Shape, catalog: &'a Catalog, dialect: &'static Dialect) -> Option<(&'a Object, usize)> {
    let first = shape.words.first()?;
    let mut at = match () {
        () if first.is("ALTER") && shape.words.get(1)?.is("TABLE") => 2,
        () if first.is("CREATE") && shape.words.get(1)?.is("UNIQUE") && shape.words.get(2)?.is("INDEX") => {
            shape.words.iter().position(|word| word.is("ON"))? + 1
        }
        () => return None,
    };
    while shape.words.get(at)?.is_one_of(&["ONLY", "IF", "EXISTS"]) {
        at += 1;
    }
    let (path, after) = shape.path_from(at);
    let object = catalog.relation_at(&path, dialect)?;
    (object.kind == ObjectKind::Table).then_some((object, after))
}

fn catalog_columns(table: &Object) -> Vec<&str> {
    table.columns.iter().map(|column| column.name.as_str()).collect()
}

/// The rows whose reference would lead nowhere.
fn reference(
    (table, written): (&Object, &str),
    from: usize,
    clauses: &Clauses<'_>,
    shape: &Shape,
    catalog: &Catalog,
    dialect: &'static Dialect,
) -> Option<NewRule> {
    let ours = clauses.names_in(from, catalog_columns(table))?;
    let at = (from..shape.words.len()).find(|at| shape.words[*at].is("REFERENCES"))? + 1;
    let (path, after) = shape.path_from(at);
    let other = catalog.relation_at(&path, dialect)?;
    let theirs = match shape.words.get(after).is_some_and(|word| word.sign(b'(')) {
        true => clauses.names_in(after, catalog_columns(other))?,
        false => other.primary_key().into_iter().map(str::to_owned).collect(),
    };
    if theirs.len() != ours.len() {
        return None;
    }
    let name = |column: &str| dialect.name_as_written(column);
    let schema = if other.schema.is_empty() { String::new() } else { format!("{}.", name(&other.schema)) };
    let known: Vec<String> = ours.iter().map(|column| format!("here.{} is not null", name(column))).collect();
    let equal = ours.iter().zip(&theirs);
    let equal: Vec<String> =
        equal.map(|(ours, theirs)| format!("there.{} = here.{}", name(theirs), name(ours))).collect();
    Some(NewRule {
        what: format!("rows whose {} is not in {}", ours.join(", "), other.name),
        query: format!(
            "select count(*) from {written} here where {} and not exists (select 1 from {schema}{} there where {})",
            known.join(" and "),
            name(&other.name),
            equal.join(" and ")
        ),
    })
}

/// The words of a statement, and its text.
struct Clauses<'a> {
    statement: &'a str,
    words: &'a [Word],
}

impl Clauses<'_> {
    /// The text between the next parenthesis and the one that closes it.
    fn inside(&self, from: usize) -> Option<&str> {
        let open = (from..self.words.len()).find(|at| self.words[*at].sign(b'('))?;
        let mut depth = 0;
        for word in self.words.get(open..)? {
            depth += i32::from(word.sign(b'(')) - i32::from(word.sign(b')'));
            if depth == 0 {
                return self.statement.get(self.words.get(open)?.range.end..word.range.start).map(str::trim);
            }
        }
        None
    }

    /// The names in the next parentheses, if all of them are columns and nothing else.
    fn names_in(&self, from: usize, columns: Vec<&str>) -> Option<Vec<String>> {
        let inside = self.inside(from)?;
        let all = inside.split(',').map(|name| {
            let name = jaunty_language::statement::definition::unquoted(name.trim());
            let found = columns.iter().find(|column| **column == name);
            found.or_else(|| columns.iter().find(|column| column.eq_ignore_ascii_case(&name))).map(|c| (*c).to_owned())
        });
        all.collect::<Option<Vec<_>>>().filter(|all| !all.is_empty())
    }
}

/// What the server does to a table while a statement alters it, by its documentation: a sentence where that is more than a
/// moment.
pub fn meanwhile(statement: &str, dialect: &'static Dialect) -> Option<&'static str> {
    let all = words(statement, dialect, 0);
    if !all.first()?.is("ALTER") || !all.get(1)?.is("TABLE") {
        return None;
    }
    let altering = dialect.altering?;
    let [retypes, looks, drops, otherwise] = altering.meanwhile;
    let has = |word: &str| all.iter().any(|found| found.is(word));
    // Where no word says so, a column that is altered is declared anew.
    let declares = matches!(altering.tables, Tables::Altered(OfTables { change: Change::Apart { .. }, .. }))
        && all.windows(2).skip(1).any(|two| two[0].is("ALTER") && two[1].is("COLUMN"));
    let retyped = has("TYPE") || has("MODIFY") || has("CHANGE") || declares;
    let rules = ["CHECK", "UNIQUE", "PRIMARY", "FOREIGN"];
    let ruled = !has("NOCHECK") && (rules.into_iter().any(has) || has("NOT") && has("SET"));
    let dropped = has("DROP") && has("COLUMN");
    let said = match () {
        () if retyped => retypes,
        () if ruled => looks,
        () if dropped => drops,
        () => otherwise,
    };
    (!said.is_empty()).then_some(said)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::tests::saltmarsh;
    use jaunty_language::dialect::{MYSQL, POSTGRES, SQLITE, SQLSERVER};

    fn told(statement: &str, dialect: &'static Dialect) -> Vec<(String, String)> {
        new_rules(statement, &saltmarsh(), dialect).into_iter().map(|rule| (rule.what, rule.query)).collect()
    }

    #[test]
    fn rules_for_rows_that_are_there_are_queries() {
        let one = |statement: &str, what: &str, query: &str| {
            assert_eq!(told(statement, &POSTGRES), [(what.to_owned(), query.to_owned())], "{statement}");
        };
        one(
            "alter table routes add constraint ok check (minutes > (0) and true)",
            "rows where minutes > (0) and true is false",
            "select count(*) from public.routes where not (minutes > (0) and true)",
        );
        one(
            "alter table public.ports add unique (name)",
            "values of name that come several times",
            "select count(*) from (select 1 as one from public.ports where name is not null group by name having count(*) > 1) several",
        );
        one(
            "create unique index on ports (\"name\")",
            "values of name that come several times",
            "select count(*) from (select 1 as one from public.ports where name is not null group by name having count(*) > 1) several",
        );
        one(
            "alter table routes add foreign key (from_port_id) references ports",
            "rows whose from_port_id is not in ports",
            "select count(*) from public.routes here where here.from_port_id is not null and not exists \
             (select 1 from public.ports there where there.id = here.from_port_id)",
        );
        for nothing in [
            "alter table ports rename to harbours",
            "alter table nowhere add unique (x)",
            "select 1",
            "create unique index on ports (lower(name))",
        ] {
            assert_eq!(told(nothing, &POSTGRES), [], "{nothing}");
        }
    }

    #[test]
    fn columns_that_are_not_to_be_null() {
        let nullable = saltmarsh();
        let (table, column) = nullable
            .objects()
            .iter()
            .filter(|object| object.kind == ObjectKind::Table)
            .find_map(|object| Some((object, object.columns.iter().find(|column| column.nullable)?)))
            .unwrap();
        let expected = vec![(
            format!("rows where {} is NULL", column.name),
            format!("select count(*) from public.{} where {} is null", table.name, column.name),
        )];
        assert_eq!(
            told(&format!("alter table {} alter column {} set not null", table.name, column.name), &POSTGRES),
            expected
        );
        assert_eq!(told(&format!("alter table {} modify {} int not null", table.name, column.name), &MYSQL), expected);
        assert_eq!(
            told(&format!("alter table {} alter column {} drop not null", table.name, column.name), &POSTGRES),
            []
        );
    }

    #[test]
    fn what_the_server_does_meanwhile() {
        let said = |statement: &str, dialect| meanwhile(statement, dialect).unwrap_or_default();
        assert!(said("alter table ports alter column id type bigint", &POSTGRES).contains("is rewritten with"));
        assert!(said("alter table ports add check (id > 0)", &POSTGRES).contains("looked at"));
        assert!(said("alter table ports drop column name", &SQLITE).contains("rewritten"));
        assert!(said("alter table ports alter column name nvarchar(9) not null", &SQLSERVER).contains("written again"));
        assert!(said("alter table ports with check add check (id > 0)", &SQLSERVER).contains("looked at"));
        assert_eq!(said("alter table ports with nocheck add constraint c check (id > 0)", &SQLSERVER), "");
        assert_eq!(said("alter table ports rename to x", &SQLITE), "");
        assert_eq!(said("drop table ports", &POSTGRES), "");
    }
}
