//! What of a result can be changed: the table that its rows are of, and what tells those apart.

use serde::{Deserialize, Serialize};

use jaunty_language::dialect::{Dialect, Family, Part, Place, Source, Takes};
use jaunty_language::statement::shape::{self, Shape, words};
use jaunty_seam::catalog::{Catalog, Column, Name, Object, ObjectKind, Rule};
use jaunty_seam::rows::origin::Origin;

use super::kind::Kind;
use crate::complete::scope::Scope;
use crate::reveal::follow;

/// The table that is changed, and where its columns stand in the result.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Ground {
    /// The table.
    pub table: Name,
    /// Its name as it stands in statements, with its schema.
    pub written: String,
    /// All of its columns, in its own order.
    pub fields: Vec<Field>,
    /// What tells its rows apart, as places in `fields`. Empty where it has no key: all that was read does, then.
    pub key: Vec<usize>,
    /// Which columns have to be different from row to row together, as places in `fields`.
    pub unique: Vec<Vec<usize>>,
    /// What its rows are where they are not those of a table. Its parts are the fields.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<Box<Place>>,
}

/// A column of the table.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Field {
    /// It, as the catalog has it.
    pub column: Column,
    /// What its values are.
    pub kind: Kind,
    /// Its place in the result; none if it was not read.
    pub at: Option<usize>,
    /// The table and column that it references.
    pub references: Option<(Name, String)>,
    /// Whether the server numbers it where nothing is given.
    pub numbered: bool,
}

impl Field {
    /// Whether a person gives it a value: not where the server computes it.
    pub fn is_given(&self) -> bool {
        self.column.is_given()
    }
}

/// Why the rows of a result cannot be changed, in a sentence with what to do.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoGround {
    /// The language has no statements for it.
    #[error("rows of this database are changed by its own commands")]
    Language,
    /// They are not elements of anything.
    #[error("{0}")]
    NoElements(String),
    /// Rows of several queries stand together.
    #[error("the statement puts rows of several queries together ({0}): it is not known which table a row is of")]
    Together(String),
    /// A column is computed.
    #[error("\"{0}\" is computed by the statement: it is not a column of a table")]
    Computed(String),
    /// Nothing comes from a table.
    #[error("no column of this result comes from a table that the catalog knows")]
    NoTable,
    /// What it reads is in another database.
    #[error("{0} is in the database {1}: go there to change its rows")]
    Elsewhere(String, String),
    /// The table is read several times.
    #[error("{0} stands in the statement {1} times: it is not known which of them a value is of")]
    Several(String, usize),
    /// It is a view, or another thing that is not a table.
    #[error("{0} is a {1}: change the table that it reads from")]
    NotTable(String, &'static str),
    /// The key was not read.
    #[error("{0} is told apart by {1}, which the statement does not read: add {1} to it")]
    KeyMissing(String, String),
}

impl Ground {
    /// What can be changed of the result of a statement, by the column in hand. `told` is where the server says that
    /// the columns come from.
    pub fn find(
        (statement, names, told): (&str, &[String], &[Option<Origin>]),
        at: usize,
        catalog: &Catalog,
        dialect: &'static Dialect,
    ) -> Result<Ground, NoGround> {
        if dialect.family != Family::Sql || dialect.changing.is_none() {
            return Err(NoGround::Language);
        }
        let shape = Shape::of(words(statement, dialect, 0));
        let together = ["UNION", "INTERSECT", "EXCEPT", "MINUS", "PIVOT", "UNPIVOT"];
        if let Some(word) = together.iter().find(|word| shape.words.iter().any(|found| found.is(word))) {
            return Err(NoGround::Together(word.to_lowercase()));
        }
        let seen = follow::origins(statement, names, catalog, dialect);
        let origin = |place: usize| -> Option<(&Object, String)> {
            let by_server = told.get(place).and_then(Option::as_ref).and_then(|origin| {
                let object = catalog.objects().iter().find(|object| {
                    object.kind.has_rows()
                        && object.name == origin.table
                        && (origin.schema.is_empty() || object.schema == origin.schema)
                })?;
                Some((object, origin.column.clone()))
            });
            by_server.or_else(|| {
                let (name, column) = seen.get(place)?.clone()?;
                Some((catalog.relation(&name)?, column))
            })
        };
        let Some((object, _)) = origin(at) else {
            let any = (0..names.len()).any(|place| origin(place).is_some());
            return Err(match names.get(at).filter(|_| any) {
                Some(name) => NoGround::Computed(name.clone()),
                None => elsewhere(&shape, catalog, dialect).unwrap_or(NoGround::NoTable),
            });
        };
        if object.kind != ObjectKind::Table {
            return Err(NoGround::NotTable(object.name.clone(), object.kind.word()));
        }
        if let Some(view) = view_between(&shape, object, catalog, dialect) {
            return Err(NoGround::NotTable(view.name.clone(), view.kind.word()));
        }
        let times = times_read(&shape, object, catalog, dialect);
        if times > 1 {
            return Err(NoGround::Several(object.name.clone(), times));
        }
        let place_of = |column: &str| {
            (0..names.len()).find(|place| {
                origin(*place).is_some_and(|(of, name)| of.to_name() == object.to_name() && name == column)
            })
        };
        let numbers_keys = dialect.changing.is_some_and(|c| c.numbers_integer_keys) && object.primary_key().len() == 1;
        let field = |column: &Column| Field {
            at: place_of(&column.name),
            kind: Kind::in_table(column, object, catalog, dialect),
            references: object.references().find_map(|(ours, to, theirs)| match (ours, theirs) {
                ([own], [their]) if *own == column.name => Some((to.clone(), their.clone())),
                _ => None,
            }),
            numbered: column.is_numbered()
                || numbers_keys && column.key && column.db_type.eq_ignore_ascii_case("integer"),
            column: column.clone(),
        };
        let fields: Vec<Field> = object.columns.iter().map(field).collect();
        let places = |columns: &[&str]| -> Option<Vec<usize>> {
            columns.iter().map(|name| fields.iter().position(|field| field.column.name == **name)).collect()
        };
        let uniques = object.constraints.iter().filter(|c| c.rule == Rule::Unique);
        let by_index = object.indexes.iter().filter(|index| {
            index.unique
                && index.over.iter().all(|over| fields.iter().any(|field| field.column.name == *over))
                && !index.definition.to_ascii_lowercase().contains(" where ")
        });
        let mut unique: Vec<Vec<usize>> = Vec::new();
        let named = uniques.map(|c| c.columns.iter().map(String::as_str).collect::<Vec<_>>());
        let named = named.chain(by_index.map(|index| index.over.iter().map(String::as_str).collect()));
        let primary = object.primary_key();
        unique.extend(places(&primary).filter(|key| !key.is_empty()));
        unique.extend(named.filter_map(|columns| places(&columns)).filter(|key| !key.is_empty()));
        unique.dedup();
        let is_read = |key: &&Vec<usize>| key.iter().all(|at| fields[*at].at.is_some());
        // A column that may be NULL tells nothing apart where it is.
        let is_sure = |key: &&Vec<usize>| key.iter().all(|at| !fields[*at].column.nullable || fields[*at].column.key);
        let key = unique.iter().filter(is_sure).find(is_read).cloned();
        let key = match (key, primary.is_empty()) {
            (Some(key), _) => key,
            (None, false) => return Err(NoGround::KeyMissing(object.name.clone(), primary.join(", "))),
            (None, true) => Vec::new(),
        };
        let schema = match object.schema.is_empty() {
            true => String::new(),
            false => format!("{}.", dialect.name_as_written(&object.schema)),
        };
        let written = format!("{schema}{}", dialect.name_as_written(&object.name));
        Ok(Ground { table: object.to_name(), written, fields, key, unique, place: None })
    }

    /// What can be changed of the result of a statement where there are no tables; `columns` are those of the result, with
    /// the names of their types.
    pub fn of_elements(
        statement: &str,
        columns: &[(String, String)],
        dialect: &'static Dialect,
    ) -> Result<Ground, NoGround> {
        let elements = dialect.elements.ok_or(NoGround::Language)?;
        let place = elements.place(statement, columns).map_err(NoGround::NoElements)?;
        let field = |part: &Part| Field {
            column: Column {
                name: part.name.clone(),
                db_type: part.about.clone(),
                nullable: part.optional,
                key: part.is_key,
                generated: part.fixed.then(|| Column::BY_SERVER.to_owned()),
                ..Column::default()
            },
            kind: match part.takes {
                Takes::Text => Kind::Text(None),
                Takes::Number => Kind::Real,
                Takes::Count => Kind::Integer(1, i64::MAX.into()),
                Takes::Value => Kind::Value(part.about.clone()),
            },
            at: match part.source {
                Source::Column(at) => Some(at),
                _ => None,
            },
            references: None,
            numbered: false,
        };
        let fields: Vec<Field> = place.parts.iter().map(field).collect();
        let key = (0..fields.len()).filter(|at| place.parts[*at].is_key).collect();
        let table = Name { schema: String::new(), name: place.name.clone() };
        Ok(Ground {
            table,
            written: place.written.clone(),
            fields,
            key,
            unique: Vec::new(),
            place: Some(Box::new(place)),
        })
    }

    /// The part of an element that a field is; none where there are tables.
    pub fn part(&self, field: usize) -> Option<&Part> {
        self.place.as_ref()?.parts.get(field)
    }

    /// Whether a field may be taken out of its element.
    pub fn can_be_absent(&self, field: usize) -> bool {
        self.part(field).is_some_and(|part| part.optional && part.takes == Takes::Value)
    }

    /// Whether the server gives an element this part where nobody does.
    pub fn is_given_else(&self, field: usize) -> bool {
        self.part(field).is_some_and(|part| part.is_key && part.takes == Takes::Value)
    }

    /// All of an element, where the fields are parts of it.
    pub fn whole(&self) -> Option<usize> {
        self.place.as_ref()?.parts.iter().position(|part| part.whole)
    }

    /// The field that a column of the result is a part of, by its name, and where it is in that: `place.code` is `code` in
    /// `place`, once that column was opened.
    pub fn within(&self, column: &str) -> Option<(usize, String)> {
        let inside = |(field, of): (usize, &Field)| {
            let path = column.strip_prefix(of.column.name.as_str())?.strip_prefix('.')?;
            of.at.map(|_| (field, path.to_owned()))
        };
        let mut found = self.fields.iter().enumerate().filter_map(inside);
        found.next().filter(|_| found.next().is_none())
    }

    /// The field that stands at a place of the result, if it is one of the table.
    pub fn field_at(&self, place: usize) -> Option<usize> {
        self.fields.iter().position(|field| field.at == Some(place))
    }

    /// What tells a row apart: the key, or else all that was read.
    pub fn identity(&self) -> Vec<usize> {
        if !self.key.is_empty() {
            return self.key.clone();
        }
        (0..self.fields.len()).filter(|at| self.fields[*at].at.is_some()).collect()
    }

    /// The names of some of its columns, for a sentence.
    pub fn names(&self, of: &[usize]) -> String {
        of.iter().filter_map(|at| self.fields.get(*at)).map(|f| f.column.name.as_str()).collect::<Vec<_>>().join(", ")
    }
}

/// That a statement reads a table of another database.
fn elsewhere(shape: &Shape, catalog: &Catalog, dialect: &Dialect) -> Option<NoGround> {
    shape.queries.iter().flat_map(|query| &query.sources).find_map(|source| match &source.origin {
        shape::Origin::Named(path) => match path.as_slice() {
            [database, _, name] if catalog.relation_at(path, dialect).is_none() => {
                Some(NoGround::Elsewhere(name.text.clone(), database.text.clone()))
            }
            _ => None,
        },
        _ => None,
    })
}

/// A view in the statement that reads the table, itself or through others: what it does with its rows is not looked at.
fn view_between<'a>(
    shape: &Shape,
    object: &Object,
    catalog: &'a Catalog,
    dialect: &'static Dialect,
) -> Option<&'a Object> {
    let path = |source: &shape::Source| match &source.origin {
        shape::Origin::Named(path) => Some(path.clone()),
        _ => None,
    };
    let sources = shape.queries.iter().flat_map(|query| &query.sources).filter_map(path);
    let found = sources.filter_map(|path| catalog.relation_at(&path, dialect));
    let mut views = found.filter(|found| found.kind != ObjectKind::Table);
    let reads = |view: &&'a Object| {
        let (mut seen, mut left) = (Vec::new(), vec![view.to_name()]);
        while let Some(name) = left.pop() {
            if name == object.to_name() {
                return true;
            }
            if !seen.contains(&name) {
                left.extend(catalog.relation(&name).into_iter().flat_map(|found| found.uses.clone()));
                seen.push(name);
            }
        }
        // Of one that says nothing it is not known.
        view.uses.iter().all(|name| catalog.relation(name).is_none())
    };
    views.find(reads)
}

/// How often the rows of a result come from a table: once for each time that it stands in the query, or in queries
/// that this one reads from. Where there are common table expressions each mention counts.
fn times_read(shape: &Shape, object: &Object, catalog: &Catalog, dialect: &'static Dialect) -> usize {
    let scope = Scope::new(shape, catalog, dialect);
    let of_table = |source: &&shape::Source| match &source.origin {
        shape::Origin::Named(path) => scope.relation(path).is_some_and(|found| found.to_name() == object.to_name()),
        _ => false,
    };
    if shape.queries.iter().any(|query| !query.ctes.is_empty()) {
        return shape.queries.iter().flat_map(|query| &query.sources).filter(of_table).count();
    }
    let (mut times, mut queries) = (0, vec![0]);
    while let Some(query) = queries.pop().and_then(|at: usize| shape.queries.get(at)) {
        times += query.sources.iter().filter(of_table).count();
        queries.extend(query.sources.iter().filter_map(|source| match source.origin {
            shape::Origin::Query(inner) => Some(inner),
            _ => None,
        }));
    }
    times
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::tests::{of_a_server, saltmarsh};
    use jaunty_language::dialect::{POSTGRES, REDIS, SQLSERVER};

    fn ground(statement: &str, names: &[&str], at: usize) -> Result<Ground, String> {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        Ground::find((statement, &names, &[]), at, &saltmarsh(), &POSTGRES).map_err(|error| error.to_string())
    }

    #[test]
    fn rows_with_their_key_can_be_changed() {
        let whole = ground("select * from sailings", &["id", "route_id", "vessel_id", "departs", "state"], 4).unwrap();
        assert_eq!((whole.written.as_str(), whole.names(&whole.key)), ("public.sailings", "id".into()));
        assert_eq!(whole.fields[1].references.as_ref().unwrap().1, "id");
        // Of several tables, that of the column in hand.
        let joined = "select s.id, s.state, p.name from sailings s join routes r on r.id = s.route_id \
                      join ports p on p.id = r.from_port_id";
        assert_eq!(ground(joined, &["id", "state", "name"], 1).unwrap().written, "public.sailings");
        assert_eq!(
            ground(joined, &["id", "state", "name"], 2).unwrap_err(),
            "ports is told apart by id, which the statement does not read: add id to it"
        );
        // A table inside of a condition is not one that the rows are of.
        let inside = "select id, state from sailings where id in (select id from sailings where state = 'due')";
        assert!(ground(inside, &["id", "state"], 1).is_ok());
    }

    #[test]
    fn it_says_why_not() {
        for (statement, names, at, expected) in [
            ("select id, upper(state) as loud from sailings", &["id", "loud"][..], 1, "\"loud\" is computed"),
            ("select id from ports union all select id from routes", &["id"], 0, "several queries together (union)"),
            ("select a.id, b.name from ports a, ports b", &["id", "name"], 1, "ports stands in the statement 2 times"),
            ("with x as (select * from ports) select x.id, p.name from x, ports p", &["id", "name"], 1, "2 times"),
            ("select 1 as one", &["one"], 0, "no column of this result comes from a table"),
        ] {
            let told = ground(statement, names, at).unwrap_err();
            assert!(told.contains(expected), "{statement}: {told}");
        }
        // A table of another database is none of this one, whatever it is called.
        let of_server = |statement: &str| {
            let names = ["id".to_owned(), "fare".to_owned()];
            let found = Ground::find((statement, &names, &[]), 0, &of_a_server(), &SQLSERVER);
            found.map(|ground| ground.written).map_err(|error| error.to_string())
        };
        for path in ["archive.dbo.ports", "archive..ports", "[ledger 2025].public.ports", "elsewhere.public.ports"] {
            let told = of_server(&format!("select id, fare from {path}")).unwrap_err();
            assert!(told.contains("ports is in the database"), "{path}: {told}");
        }
        assert_eq!(of_server("select id, name as fare from ferry.public.ports").unwrap(), "[public].ports");
        let of_keys = Ground::find(("get a", &[], &[]), 0, &saltmarsh(), &REDIS);
        assert_eq!(of_keys, Err(NoGround::Language));
    }
}
