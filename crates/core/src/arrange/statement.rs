//! The statement that asks a server for the rows that are shown, in the order in which they are shown.
//!
//! Servers compare text by rules of their own: a collation, a case. What is written says the rule that holds
//! for kept rows, so that the server finds the same ones. Tests ask real servers.

use arrow_schema::{DataType, Field, SchemaRef};

use super::Wanted;
use super::condition::{Comparison, Kind, Test, Where, is_text};
use super::search::Search;
use super::sort::Order;
use jaunty_language::dialect::{Comparing, Dialect, Kind as Does};
use jaunty_language::split;
use jaunty_seam::rows::DB_TYPE;
use jaunty_seam::rows::form::TextForm;
use jaunty_seam::rows::shape::{digits_as_sent, is_shape};
use jaunty_seam::rows::span;
use jaunty_seam::rows::widen::is_mixed;

/// Why a server cannot be asked.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum StatementError {
    /// Queries do not nest.
    #[error("this language has no statement that asks for a part of a result")]
    Language,
    /// Only a query can stand inside another.
    #[error("only a query can be asked for in part; this is none")]
    NoQuery,
    /// A name that means two columns.
    #[error("two columns are named \"{0}\", and a server cannot tell them apart; give one another name with \"as\"")]
    SameName(String),
    /// Each server writes shapes in a way of its own.
    #[error(
        "\"{0}\" holds shapes, which a server can be asked for as a whole or as NULL, and not by their text or in an order"
    )]
    Shape(String),
    /// What is searched for can stand in none of the columns.
    #[error("no column can hold \"{0}\", so there is nothing to ask for")]
    Nowhere(String),
}

/// The statement around `inner`, whose columns are `schema`, that asks for what is wanted of its rows.
pub fn statement(
    wanted: &Wanted,
    inner: &str,
    schema: &SchemaRef,
    dialect: &'static Dialect,
) -> Result<String, StatementError> {
    let comparing = dialect.comparing.ok_or(StatementError::Language)?;
    if split::kind(inner, dialect) != Some(Does::Query) {
        return Err(StatementError::NoQuery);
    }
    if let Some(name) = same_name(wanted, schema, comparing) {
        return Err(StatementError::SameName(name));
    }
    if let Some(name) = shape_asked_for(wanted, schema, dialect) {
        return Err(StatementError::Shape(name));
    }
    let writer = Writer { dialect, comparing };
    let field = |column: usize| schema.fields().get(column).map(AsRef::as_ref);
    let mut conditions: Vec<String> = wanted
        .conditions
        .iter()
        .filter_map(|condition| Some(writer.condition(&condition.test, field(condition.column)?)))
        .collect();
    if let Some(search) = Search::new(&wanted.search) {
        let fits = |field: &Field| writer.fits(field, Where::Inside, &wanted.search);
        let places = schema.fields().iter().filter(|field| search.can_be_in(field));
        let any: Vec<String> = places.map(|field| fits(field)).collect();
        match any.as_slice() {
            [] => return Err(StatementError::Nowhere(wanted.search.clone())),
            [one] => conditions.push(one.clone()),
            _ => conditions.push(format!("({})", any.join("\n    or "))),
        }
    }
    let mut written = format!("select * from (\n{}\n) as kept", inner.trim_end());
    if !conditions.is_empty() {
        written.push_str(&format!("\nwhere {}", conditions.join("\n  and ")));
    }
    let by: Vec<String> =
        wanted.order.iter().filter_map(|order| Some(writer.order(order, field(order.column)?))).collect();
    if !by.is_empty() {
        written.push_str(&format!("\norder by {}", by.join(", ")));
    }
    Ok(written)
}

/// A name that the statement would use and that means two columns, or that the server would not take twice.
fn same_name(wanted: &Wanted, schema: &SchemaRef, comparing: &Comparing) -> Option<String> {
    let named = |name: &str| schema.fields().iter().filter(|field| field.name().eq_ignore_ascii_case(name)).count();
    let uses = |column: usize| {
        let all = !comparing.same_names || !wanted.search.is_empty();
        all || wanted.conditions.iter().any(|condition| condition.column == column)
            || wanted.order.iter().any(|order| order.column == column)
    };
    let mut names =
        schema.fields().iter().enumerate().filter(|(column, _)| uses(*column)).map(|(_, field)| field.name());
    names.find(|name| named(name) > 1).cloned()
}

/// A column of shapes that the statement would ask for by its text, or sort by.
fn shape_asked_for(wanted: &Wanted, schema: &SchemaRef, dialect: &Dialect) -> Option<String> {
    let search = Search::new(&wanted.search);
    let is_asked = |column: usize, field: &Field| {
        let by_text =
            |test: &Test| !matches!(test.kind, Kind::Null | Kind::In(..) | Kind::Compare(Comparison::Equal, ..));
        wanted.order.iter().any(|order| order.column == column)
            || wanted.conditions.iter().any(|condition| condition.column == column && by_text(&condition.test))
            || search.as_ref().is_some_and(|search| search.can_be_in(field))
    };
    let mut fields = schema.fields().iter().enumerate().filter(|(_, field)| is_of_shapes(field, dialect));
    fields.find(|(column, field)| is_asked(*column, field)).map(|(_, field)| field.name().clone())
}

fn is_of_shapes(field: &Field, dialect: &Dialect) -> bool {
    field.metadata().get(DB_TYPE).is_some_and(|db_type| is_shape(db_type, dialect))
}

struct Writer {
    dialect: &'static Dialect,
    comparing: &'static Comparing,
}

impl Writer {
    fn name(&self, field: &Field) -> String {
        self.dialect.name_as_written(field.name())
    }

    /// A text as a literal in a template.
    fn text(&self, template: &str, text: &str) -> String {
        template.replace("TEXT", &self.dialect.text_as_written(text))
    }

    fn condition(&self, test: &Test, field: &Field) -> String {
        let name = self.name(field);
        let not = if test.not { "not " } else { "" };
        let equal = |text: &String| self.literal(text, field, self.comparing.equal);
        let ordered = |text: &String| self.literal(text, field, self.comparing.ordered);
        match &test.kind {
            Kind::Null => format!("{name} is {not}null"),
            Kind::Empty => format!("{} {} ''", self.as_text(field), if test.not { "<>" } else { "=" }),
            Kind::Compare(Comparison::Equal, text, _) => {
                format!("{} {} {}", self.compared(field), if test.not { "<>" } else { "=" }, equal(text))
            }
            Kind::Compare(comparison, text, _) => {
                let plain = format!("{} {} {}", self.compared(field), comparison.sign(), ordered(text));
                if test.not { format!("not ({plain})") } else { plain }
            }
            Kind::Between([low, high], _) => {
                // Behind `between` some grammars take no collation without parentheses.
                let [low, high] =
                    [low, high].map(|end| match shown_as_text(field) && self.comparing.ordered != "TEXT" {
                        true => format!("({})", ordered(end)),
                        false => ordered(end),
                    });
                format!("{} {not}between {low} and {high}", self.compared(field))
            }
            Kind::In(all, _) => {
                let all: Vec<String> = all.iter().map(equal).collect();
                format!("{} {not}in ({})", self.compared(field), all.join(", "))
            }
            Kind::Text(place, text, _) => format!("{not}{}", self.fits(field, *place, text)),
        }
    }

    /// Whether a column's text holds another, begins or ends with it, or fits an expression. A capital letter
    /// means that the case counts.
    fn fits(&self, field: &Field, place: Where, text: &str) -> String {
        let value = self.as_text(field);
        let case = usize::from(text.chars().any(char::is_uppercase));
        if place == Where::Expression {
            let (template, flags) = self.comparing.expression[case];
            return self.text(&template.replace("VALUE", &value), &format!("{flags}{text}"));
        }
        let (pattern, template) = self.comparing.fits[case];
        let (any, sought) = (pattern.any(), pattern.of(text));
        let sought = match place {
            Where::Begins => format!("{sought}{any}"),
            Where::Ends => format!("{any}{sought}"),
            Where::Inside | Where::Expression => format!("{any}{sought}{any}"),
        };
        self.text(&template.replace("VALUE", &value), &sought)
    }

    /// A column as the text that is shown of it.
    fn as_text(&self, field: &Field) -> String {
        let name = self.name(field);
        match field.data_type() {
            DataType::Binary => self.comparing.bytes_as_text.replace("VALUE", &name),
            _ if self.is_text(field) => name,
            _ => self.comparing.as_text.replace("VALUE", &name),
        }
    }

    /// A column whose values come before or after others: what is shown as text is compared as text.
    fn compared(&self, field: &Field) -> String {
        let as_text = shown_as_text(field) && !is_of_shapes(field, self.dialect);
        if as_text { self.as_text(field) } else { self.name(field) }
    }

    fn type_of<'f>(&self, field: &'f Field) -> &'f str {
        field.metadata().get(DB_TYPE).map_or("", String::as_str)
    }

    /// Whether the server takes a column for text without being told.
    fn is_text(&self, field: &Field) -> bool {
        let types = self.comparing.text_types;
        let db_type = self.type_of(field);
        // `character varying(40)` is text, and an array of texts is none.
        let begins =
            |name: &&str| db_type.strip_prefix(name).is_some_and(|rest| rest.is_empty() || rest.starts_with('('));
        types.is_empty() || (is_text(field) && (db_type.is_empty() || types.iter().any(begins)))
    }

    /// A value that a column is compared with.
    fn literal(&self, text: &str, field: &Field, template: &str) -> String {
        let number = !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit() || b"+-.eE".contains(&b));
        match field.data_type() {
            // `NaN` and `inf` are text to a server.
            kind if is_number(field) || is_mixed(kind) => match number && text.parse::<f64>().is_ok() {
                true => text.to_owned(),
                false => self.dialect.text_as_written(text),
            },
            DataType::Binary => {
                let [open, close] = self.comparing.bytes;
                format!("{open}{}{close}", text.trim_start_matches("\\x").trim_start_matches("0x"))
            }
            _ if is_of_shapes(field, self.dialect) => match digits_as_sent(text, self.type_of(field), self.dialect) {
                Some(digits) => self.dialect.bytes_as_written(&digits),
                None => self.dialect.text_as_written(text),
            },
            _ if shown_as_text(field) => self.text(template, text),
            // People's words for units are not those of every server.
            _ if TextForm::of(field) == TextForm::Span => {
                let micros = span::micros(text).map_or_else(|| text.to_owned(), span::written);
                self.dialect.text_as_written(&micros)
            }
            _ => self.dialect.text_as_written(text),
        }
    }

    fn order(&self, order: &Order, field: &Field) -> String {
        let value = match shown_as_text(field) {
            true => self.comparing.sorted.replace("VALUE", &self.as_text(field)),
            false => self.name(field),
        };
        let [up, down] = self.comparing.nulls_last;
        if order.descending { down } else { up }.replace("VALUE", &value).replace("NAME", &self.name(field))
    }
}

fn is_number(field: &Field) -> bool {
    field.data_type().is_numeric() || TextForm::of(field) == TextForm::Number
}

/// Whether kept values are text, which is what they are sorted as, whatever they are on the server.
fn shown_as_text(field: &Field) -> bool {
    *field.data_type() == DataType::Utf8 && !is_number(field) && TextForm::of(field) != TextForm::Span
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;
    use std::sync::Arc;

    use arrow_schema::{Schema, TimeUnit};

    use super::super::condition::Condition;
    use super::*;
    use jaunty_language::dialect::{MYSQL, POSTGRES, REDIS, SQLITE};

    fn schema() -> SchemaRef {
        let field = |name: &str, kind: DataType, db_type: &str| {
            Field::new(name, kind, true).with_metadata(HashMap::from([(DB_TYPE.to_owned(), db_type.to_owned())]))
        };
        Arc::new(Schema::new(vec![
            field("id", DataType::Int32, "integer"),
            field("Name", DataType::Utf8, "varchar(40)"),
            field("status", DataType::Utf8, "sailing_status"),
            field("pennant", DataType::Binary, "bytea"),
            field("at", DataType::Timestamp(TimeUnit::Microsecond, None), "timestamp"),
        ]))
    }

    fn wanted(conditions: &[(usize, &str)], order: &[(usize, bool)], search: &str) -> Wanted {
        let test = |column: usize, text: &str| Test::read(text, schema().field(column)).unwrap();
        Wanted {
            conditions: conditions
                .iter()
                .map(|(column, text)| Condition { column: *column, test: test(*column, text) })
                .collect(),
            order: order
                .iter()
                .map(|(column, descending)| Order { column: *column, descending: *descending })
                .collect(),
            search: search.into(),
        }
    }

    /// What is written behind the statement inside.
    fn written(wanted: &Wanted, dialect: &'static Dialect) -> String {
        let whole = statement(wanted, "select 1 as id -- all", &schema(), dialect).unwrap();
        whole.strip_prefix("select * from (\nselect 1 as id -- all\n) as kept\n").unwrap().to_owned()
    }

    #[test]
    fn each_language_says_the_rule_that_holds_here() {
        let any_case = wanted(&[(1, "has 50%_off")], &[], "");
        assert_eq!(written(&any_case, &SQLITE), r#"where "Name" like '%50\%\_off%' escape '\'"#);
        assert_eq!(written(&any_case, &POSTGRES), r#"where "Name" ilike '%50\%\_off%'"#);
        assert_eq!(written(&any_case, &MYSQL), r"where `Name` like '%50\\%\\_off%'");
        let this_case = wanted(&[(1, "not begins It's")], &[], "");
        assert_eq!(written(&this_case, &SQLITE), r#"where not "Name" glob 'It''s*'"#);
        assert_eq!(written(&this_case, &POSTGRES), r#"where not "Name" like 'It''s%'"#);
        assert_eq!(written(&this_case, &MYSQL), r"where not `Name` like 'It''s%' collate utf8mb4_bin");
        let expression = wanted(&[(1, "~ ^quay")], &[], "");
        assert_eq!(written(&expression, &SQLITE), r#"where "Name" regexp '(?i)^quay'"#);
        assert_eq!(written(&expression, &POSTGRES), r#"where "Name" ~* '^quay'"#);
        assert_eq!(written(&expression, &MYSQL), "where `Name` regexp '(?i)^quay'");
    }

    #[test]
    fn null_comes_last_and_text_by_code_point() {
        let order = wanted(&[], &[(1, false), (0, true)], "");
        assert_eq!(written(&order, &SQLITE), r#"order by "Name" nulls last, id desc"#);
        assert_eq!(written(&order, &POSTGRES), r#"order by "Name" collate "C", id desc nulls last"#);
        assert_eq!(written(&order, &MYSQL), "order by `Name` is null, cast(`Name` as binary), id desc");
    }

    #[test]
    fn what_is_kept_as_text_is_asked_for_as_text() {
        let conditions = wanted(
            &[(2, "> early"), (2, "in late, held"), (3, "= 0xff"), (0, "has 7"), (4, "2031-03-05")],
            &[(2, false)],
            "",
        );
        assert_eq!(
            written(&conditions, &POSTGRES),
            "where status::text > 'early' collate \"C\"\n  and status::text in ('late', 'held')\n  and pennant = '\\xff'\n  and id::text ilike '%7%'\n  and at = '2031-03-05'\norder by status::text collate \"C\""
        );
        let searched = wanted(&[], &[], "ab");
        assert_eq!(
            written(&searched, &POSTGRES),
            "where (\"Name\" ilike '%ab%'\n    or status::text ilike '%ab%'\n    or pennant::text ilike '%ab%')"
        );
        assert_eq!(
            written(&searched, &MYSQL),
            "where (`Name` like '%ab%'\n    or status like '%ab%'\n    or lower(hex(pennant)) like '%ab%')"
        );
    }

    #[test]
    fn numbers_stand_as_they_are_and_nothing_else_does() {
        for (text, expected) in [
            ("5", "id = 5"),
            ("!= -5", "id <> -5"),
            ("between 1 and 9", "id between 1 and 9"),
            ("not between 1 and 9", "id not between 1 and 9"),
            ("not > 3", "not (id > 3)"),
            ("null", "id is null"),
            ("not null", "id is not null"),
            ("not in 1, 2", "id not in (1, 2)"),
        ] {
            assert_eq!(written(&wanted(&[(0, text)], &[], ""), &POSTGRES), format!("where {expected}"), "{text}");
        }
        let real = Arc::new(Schema::new(vec![Field::new("depth", DataType::Float64, true)]));
        for (text, expected) in [("> NaN", "> 'NaN'"), ("< inf", "< 'inf'"), ("> 1.5e3", "> 1.5e3")] {
            let test = Test::read(text, real.field(0)).unwrap();
            let wanted = Wanted { conditions: vec![Condition { column: 0, test }], ..Wanted::default() };
            let whole = statement(&wanted, "select 1", &real, &POSTGRES).unwrap();
            assert!(whole.ends_with(&format!("where depth {expected}")), "{whole}");
        }
    }

    #[test]
    fn what_cannot_be_asked_for_says_why() {
        let by_id = wanted(&[(0, "> 5")], &[], "");
        let ask = |inner: &str, schema: &SchemaRef, dialect| statement(&by_id, inner, schema, dialect);
        assert_eq!(ask("get a", &schema(), &REDIS), Err(StatementError::Language));
        for inner in ["update t set a = 1 returning id", "explain select 1", "show tables", ""] {
            assert_eq!(ask(inner, &schema(), &MYSQL), Err(StatementError::NoQuery), "{inner}");
        }
        let twice = |name: &str| {
            let fields = ["id", name, "name"].map(|name| Field::new(name, DataType::Int64, true));
            Arc::new(Schema::new(fields.to_vec()))
        };
        let same = |name: &str| Err(StatementError::SameName(name.into()));
        assert_eq!(ask("select 1", &twice("ID"), &SQLITE), same("id"));
        assert!(ask("select 1", &twice("name"), &SQLITE).is_ok(), "nobody asks for that column");
        assert_eq!(ask("select 1", &twice("name"), &MYSQL), same("name"), "it takes no name twice");
        let numbers = Arc::new(Schema::new(vec![Field::new("id", DataType::Int64, true)]));
        let searched = wanted(&[], &[], "quay");
        assert_eq!(statement(&searched, "select 1", &numbers, &SQLITE), Err(StatementError::Nowhere("quay".into())));
    }
}
