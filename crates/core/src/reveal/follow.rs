//! From a row along its keys: to the row that it points at, and to the rows that point at it.

use crate::catalog::templates;
use crate::complete::scope::Scope;
use jaunty_language::dialect::Dialect;
use jaunty_language::statement::shape::{Shape, words};
use jaunty_seam::catalog::{Catalog, Column, Name, Object, Rule};
use jaunty_seam::rows::cell::CellKind;

/// The table's column that a column of a result comes from.
pub type Origin = Option<(Name, String)>;

/// Where the columns of a statement's result come from. `names` are those of the result: where the
/// statement's own list does not fit them nothing is known.
pub fn origins(statement: &str, names: &[String], catalog: &Catalog, dialect: &'static Dialect) -> Vec<Origin> {
    let shape = Shape::of(words(statement, dialect, 0));
    let given = Scope::new(&shape, catalog, dialect).given(0, 0);
    let fits =
        given.len() == names.len() && given.iter().zip(names).all(|(seen, name)| seen.name.eq_ignore_ascii_case(name));
    if fits { given.into_iter().map(|seen| seen.from).collect() } else { vec![None; names.len()] }
}

/// A way to go on from a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Road {
    /// Where it leads, as `routes: id = 7`.
    pub label: String,
    /// The statement that shows the rows there.
    pub statement: String,
}

/// A value of a row: what it is, and its text; none if it is not known as a whole.
pub type Value = Option<(CellKind, String)>;

/// The roads from a row, by the column at `at`: first what it points at, then what points at it.
pub fn roads(
    (origins, row): (&[Origin], &[Value]),
    at: usize,
    catalog: &Catalog,
    dialect: &'static Dialect,
) -> Vec<Road> {
    let Some(Some((table, column))) = origins.get(at) else { return Vec::new() };
    let Some(here) = catalog.relation(table) else { return Vec::new() };
    // The value of another column of the same table in this row.
    let value = |name: &String| {
        let place = origins.iter().position(|origin| origin.as_ref().is_some_and(|(t, c)| t == table && c == name))?;
        row.get(place).cloned().flatten()
    };
    let mut all = Vec::new();
    for (ours, to, theirs) in here.references().filter(|(ours, ..)| ours.contains(column)) {
        let Some(there) = catalog.relation(to) else { continue };
        let values = ours.iter().map(value).collect::<Option<Vec<_>>>();
        all.extend(values.and_then(|values| road(there, theirs, &values, catalog, dialect)));
    }
    let key = here.primary_key().contains(&column.as_str())
        || here.constraints.iter().any(|c| c.rule == Rule::Unique && c.columns.contains(column));
    if key {
        for there in catalog.pointing_at(table) {
            for (ours, to, theirs) in there.references().filter(|(_, _, theirs)| theirs.contains(column)) {
                if to.name != table.name || to.schema != table.schema {
                    continue;
                }
                let values = theirs.iter().map(value).collect::<Option<Vec<_>>>();
                all.extend(values.and_then(|values| road(there, ours, &values, catalog, dialect)));
            }
        }
    }
    all
}

fn road(
    there: &Object,
    columns: &[String],
    values: &[(CellKind, String)],
    catalog: &Catalog,
    dialect: &'static Dialect,
) -> Option<Road> {
    if values.iter().any(|(kind, _)| matches!(kind, CellKind::Null | CellKind::Binary)) {
        return None;
    }
    let table = templates::name(there, catalog, dialect);
    let pair = |(column, (kind, text)): (&String, &(CellKind, String))| {
        let db_type = there.columns.iter().find(|c| c.name == *column);
        format!("{} = {}", dialect.name_as_written(column), literal(*kind, text, db_type, dialect))
    };
    let condition = columns.iter().zip(values).map(pair).collect::<Vec<_>>().join(" and ");
    let statement = format!("select * from {table} where {condition}");
    Some(Road { label: format!("{table}: {condition}"), statement })
}

/// A value as it stands in a statement. A number is compared with a text as a text.
fn literal(kind: CellKind, text: &str, column: Option<&Column>, dialect: &Dialect) -> String {
    let textual = column.is_some_and(|column| {
        let db_type = column.db_type.to_lowercase();
        ["char", "text", "uuid", "date", "time"].iter().any(|word| db_type.contains(word))
    });
    let plain = !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b'-'));
    if kind == CellKind::Number && plain && !textual { text.to_owned() } else { dialect.text_as_written(text) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::tests::saltmarsh;
    use jaunty_language::dialect::{POSTGRES, SQLITE};

    fn from(statement: &str, names: &[&str], row: &[&str], at: usize) -> Vec<String> {
        let catalog = saltmarsh();
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        let origins = origins(statement, &names, &catalog, &POSTGRES);
        let value = |text: &&str| {
            let kind = match text.parse::<f64>() {
                Ok(_) => CellKind::Number,
                Err(_) if *text == "∅" => CellKind::Null,
                Err(_) => CellKind::Text,
            };
            Some((kind, (*text).to_owned()))
        };
        let row: Vec<Value> = row.iter().map(value).collect();
        roads((&origins, &row), at, &catalog, &SQLITE).into_iter().map(|road| road.statement).collect()
    }

    #[test]
    fn a_row_leads_to_its_neighbours() {
        let sailings = ["id", "route_id", "vessel_id", "departs", "state"];
        let row = ["7", "3", "∅", "2031-03-01", "gone"];
        assert_eq!(from("select * from sailings", &sailings, &row, 1), ["select * from routes where id = 3"]);
        assert_eq!(from("select * from sailings", &sailings, &row, 0), ["select * from bookings where sailing_id = 7"]);
        assert_eq!(from("select * from sailings", &sailings, &row, 2), Vec::<String>::new(), "NULL points at nothing");
        assert_eq!(from("select * from sailings", &sailings, &row, 3), Vec::<String>::new());
        // Through other names, joins and queries inside.
        assert_eq!(
            from(
                "with x as (select route_id as r from sailings) select x.r as way, 1 as n from x",
                &["way", "n"],
                &["5", "1"],
                0
            ),
            ["select * from routes where id = 5"]
        );
        assert_eq!(
            from("select p.id from ports p", &["id"], &["2"], 0),
            ["select * from routes where from_port_id = 2", "select * from routes where to_port_id = 2"]
        );
        assert_eq!(
            from("select id + 1 as id from ports", &["id"], &["2"], 0),
            Vec::<String>::new(),
            "a computed value is not a key"
        );
    }

    #[test]
    fn values_are_written_as_the_column_needs() {
        let column = |db_type: &str| Column { db_type: db_type.into(), ..Column::default() };
        assert_eq!(literal(CellKind::Number, "-7", Some(&column("integer")), &SQLITE), "-7");
        assert_eq!(literal(CellKind::Number, "7", Some(&column("varchar(9)")), &SQLITE), "'7'");
        assert_eq!(literal(CellKind::Text, "it's", None, &SQLITE), "'it''s'");
    }
}
