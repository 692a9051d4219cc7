//! Statements made of what the catalog knows. What a person has to fill in stands in places, in
//! the notation of the Language Server Protocol's snippets: `${1:name}`
//! (<https://microsoft.github.io/language-server-protocol/specifications/lsp/3.17/specification/#snippet_syntax>).

use super::{changes, of_documents};
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::edit::snippet::{escaped, unfilled_place};
use jaunty_seam::catalog::{Catalog, Column, Constraint, DOMAIN, Object, ObjectKind, Rule};

/// A way to make a statement of an object.
pub struct Template {
    /// What it is called on the screen.
    pub title: &'static str,
    /// Makes it, with places; `None` where it makes no sense.
    pub make: fn(&Object, &Catalog, &Dialect) -> Option<String>,
}

/// Those of a language, in the order in which they are offered.
pub fn of(dialect: &Dialect) -> &'static [Template] {
    match dialect.family {
        Family::Documents => of_documents::TEMPLATES,
        Family::Sql | Family::Commands => TEMPLATES,
    }
}

pub(super) const NAME: Template =
    Template { title: "name", make: |object, catalog, dialect| Some(table_name(object, catalog, dialect)) };
pub(super) const ROWS: Template = Template { title: "rows", make: rows };
pub(super) const COLUMNS: Template = Template { title: "columns", make: columns };
pub(super) const DEFINITION: Template = Template {
    title: "definition",
    make: |object, catalog, dialect| definition(object, catalog, dialect).map(|text| escaped(&text)),
};

static TEMPLATES: &[Template] = &[
    NAME,
    ROWS,
    Template { title: "count", make: count },
    Template { title: "rows by column", make: rows_by_column },
    COLUMNS,
    Template { title: "insert", make: insert },
    Template { title: "update by key", make: update },
    Template { title: "delete by key", make: delete },
    Template { title: "call", make: call },
    DEFINITION,
    changes::REFRESH,
    changes::ADD_COLUMN,
    changes::CHANGE_COLUMN,
    changes::DROP_COLUMN,
    changes::ADD_REFERENCE,
    changes::ADD_VALUE,
    Template { title: "new index", make: |object, catalog, dialect| new_index(object, catalog, dialect, 0) },
    Template {
        title: "new index, every clause",
        make: |object, catalog, dialect| new_index(object, catalog, dialect, 1),
    },
];

/// Its name as it has to be written where plain names reach so far.
pub fn name(object: &Object, catalog: &Catalog, dialect: &Dialect) -> String {
    let name = match object.kind {
        ObjectKind::Keys => return object.name.clone(),
        _ => dialect.name_as_written(&object.name),
    };
    if reaches(object, catalog) { name } else { format!("{}.{name}", dialect.name_as_written(&object.schema)) }
}

/// Whether the plain name means this object: no schema before its own has one of that name.
pub fn reaches(object: &Object, catalog: &Catalog) -> bool {
    let same = |other: &&Object| {
        other.name.eq_ignore_ascii_case(&object.name) && other.kind.has_rows() == object.kind.has_rows()
    };
    let nearest = catalog.named(&object.name.to_lowercase()).filter(same).map(|o| catalog.distance(&o.schema)).min();
    catalog.is_in_path(&object.schema) && nearest.is_none_or(|nearest| catalog.distance(&object.schema) <= nearest)
}

/// A place that holds something of use already.
fn place(number: usize, text: &str) -> String {
    format!("${{{number}:{}}}", escaped(text))
}

/// The name of an object in a text with places.
pub(super) fn table_name(object: &Object, catalog: &Catalog, dialect: &Dialect) -> String {
    escaped(&name(object, catalog, dialect))
}

/// The name of a column in a text with places.
fn column_name(name: &str, dialect: &Dialect) -> String {
    escaped(&dialect.name_as_written(name))
}

fn relation(object: &Object) -> Option<&Object> {
    object.kind.has_rows().then_some(object)
}

/// What has rows that statements change.
fn written(object: &Object) -> Option<&Object> {
    relation(object).filter(|object| object.kind != ObjectKind::MaterialisedView)
}

fn rows(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Option<String> {
    if object.kind == ObjectKind::Keys {
        return Some(format!("scan 0 match {} count 1000", escaped(&object.name)));
    }
    let words = [("TABLE", &*table_name(relation(object)?, catalog, dialect)), ("COUNT", "100")];
    Some(filled(dialect.first_rows, &words))
}

fn count(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Option<String> {
    relation(object).map(|object| format!("select count(*) from {}", table_name(object, catalog, dialect)))
}

fn columns(object: &Object, _: &Catalog, dialect: &Dialect) -> Option<String> {
    let names: Vec<_> = object.columns.iter().map(|column| column_name(&column.name, dialect)).collect();
    (!names.is_empty()).then(|| names.join(", "))
}

fn rows_by_column(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Option<String> {
    let columns = columns(relation(object)?, catalog, dialect)?;
    Some(format!("select {columns}\nfrom {}", table_name(object, catalog, dialect)))
}

/// The columns that a person gives values for.
fn given(object: &Object) -> Vec<&Column> {
    object.columns.iter().filter(|column| column.generated.is_none()).collect()
}

fn insert(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Option<String> {
    let given = given(written(object)?);
    if given.is_empty() {
        return None;
    }
    let names: Vec<_> = given.iter().map(|column| column_name(&column.name, dialect)).collect();
    let places: Vec<_> = given.iter().zip(1..).map(|(column, number)| unfilled_place(number, &column.name)).collect();
    let table = table_name(object, catalog, dialect);
    Some(format!("insert into {table} ({})\nvalues ({})", names.join(", "), places.join(", ")))
}

/// The condition that finds one row, with places from this number on.
fn by_key(object: &Object, from: usize, dialect: &Dialect) -> String {
    let key = object.primary_key();
    if key.is_empty() {
        return format!("where {}", unfilled_place(from, "condition"));
    }
    let equal = |(column, number): (&&str, usize)| {
        format!("{} = {}", column_name(column, dialect), unfilled_place(number, column))
    };
    let all: Vec<_> = key.iter().zip(from..).map(equal).collect();
    format!("where {}", all.join(" and "))
}

fn update(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Option<String> {
    let given: Vec<_> = given(written(object)?).into_iter().filter(|column| !column.key).collect();
    if given.is_empty() {
        return None;
    }
    let set: Vec<_> = given
        .iter()
        .zip(1..)
        .map(|(column, number)| {
            format!("{} = {}", column_name(&column.name, dialect), unfilled_place(number, &column.name))
        })
        .collect();
    let (table, condition) = (table_name(object, catalog, dialect), by_key(object, given.len() + 1, dialect));
    Some(format!("update {table}\nset {}\n{condition}", set.join(", ")))
}

fn delete(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Option<String> {
    let object = written(object)?;
    Some(format!("delete from {}\n{}", table_name(object, catalog, dialect), by_key(object, 1, dialect)))
}

/// A call of a routine with places for its arguments, as it stands behind the word that begins it.
pub fn call_with_places(object: &Object, catalog: &Catalog, dialect: &Dialect) -> String {
    let call = call(object, catalog, dialect);
    call.and_then(|call| Some(call.split_once(' ')?.1.to_owned()))
        .unwrap_or_else(|| table_name(object, catalog, dialect))
}

/// The name by which a function is called in an expression: some languages want its schema whatever plain names reach.
pub fn function_name(object: &Object, catalog: &Catalog, dialect: &Dialect) -> String {
    if dialect.calls[0].contains("SCHEMA") && !object.schema.is_empty() {
        return format!("{}.{}", dialect.name_as_written(&object.schema), dialect.name_as_written(&object.name));
    }
    name(object, catalog, dialect)
}

fn call(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Option<String> {
    let [of_function, of_procedure] = dialect.calls;
    let call = match object.kind {
        ObjectKind::Function => of_function,
        ObjectKind::Procedure => of_procedure,
        _ => return None,
    };
    let takes = arguments(&object.signature);
    let places: Vec<_> = takes.iter().zip(1..).map(|(takes, number)| unfilled_place(number, takes)).collect();
    let (arguments, schema) = (places.join(", "), column_name(&object.schema, dialect));
    let own =
        if call.contains("SCHEMA") { column_name(&object.name, dialect) } else { table_name(object, catalog, dialect) };
    Some(filled(call, &[("SCHEMA", &schema), ("NAME", &own), ("ARGUMENTS", &arguments)]).trim_end().to_owned())
}

/// The arguments in a signature as `(a integer, b numeric(10,2)) returns text`.
pub fn arguments(signature: &str) -> Vec<String> {
    let (mut depth, mut quote) = (0, None);
    let mut all = vec![String::new()];
    for c in signature.chars() {
        match c {
            // A quote in quotes is doubled: it closes, and opens again.
            '\'' | '"' if quote.is_none_or(|open| open == c) => quote = if quote.is_none() { Some(c) } else { None },
            _ if quote.is_some() => {}
            '(' | '[' => depth += 1,
            ')' | ']' => depth -= 1,
            ',' if depth == 1 => {
                all.push(String::new());
                continue;
            }
            _ => {}
        }
        if depth == 0 {
            break;
        }
        if let Some(last) = all.last_mut().filter(|last| !(c == '(' && depth == 1 || last.is_empty() && c == ' ')) {
            last.push(c);
        }
    }
    all.retain(|takes| !takes.is_empty());
    all
}

/// The statement that makes an object, from what the catalog knows of it. The server's own word is
/// better, where it gives one.
pub fn definition(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Option<String> {
    if !object.definition.is_empty() && object.kind != ObjectKind::Keys {
        return Some(object.definition.clone());
    }
    let shown = name(object, catalog, dialect);
    match object.kind {
        ObjectKind::Table | ObjectKind::ForeignTable => Some(table(object, &shown, catalog, dialect)),
        ObjectKind::Sequence => Some(format!("create sequence {shown}")),
        ObjectKind::Type => Some(named_type(object, &shown, dialect)),
        _ => None,
    }
}

fn named_type(object: &Object, shown: &str, dialect: &Dialect) -> String {
    if let Some(base) = object.signature.strip_prefix(DOMAIN) {
        return format!("create domain {shown} as {base}");
    }
    if object.signature == "enum" {
        let values: Vec<_> = object.values.iter().map(|value| dialect.text_as_written(value)).collect();
        return format!("create type {shown} as enum ({})", values.join(", "));
    }
    let fields: Vec<_> =
        object.columns.iter().map(|c| format!("{} {}", dialect.name_as_written(&c.name), c.declared_type())).collect();
    format!("create type {shown} as ({})", fields.join(", "))
}

fn table(object: &Object, shown: &str, catalog: &Catalog, dialect: &Dialect) -> String {
    let width = object.columns.iter().map(|c| dialect.name_as_written(&c.name).chars().count()).max().unwrap_or(0);
    let columns = object.columns.iter().map(|column| {
        let mut line = format!("    {:width$} ", dialect.name_as_written(&column.name));
        let [numbered, computed] = dialect.generated;
        let type_ = column.declared_type();
        line.push_str(&match &column.generated {
            Some(word) if word.ends_with("identity") => filled(numbered, &[("TYPE", &type_), ("WORD", word)]),
            // Its type says it all.
            Some(word) if word == Column::BY_SERVER => type_,
            Some(expression) => filled(computed, &[("TYPE", &type_), ("EXPRESSION", expression)]),
            None => type_,
        });
        if !column.numbering.is_empty() {
            line.push_str(&format!(" ({})", column.numbering));
        }
        if !column.more.is_empty() {
            line.push_str(&format!(" {}", column.more));
        }
        if let Some(default) = &column.default {
            if !column.default_name.is_empty() {
                line.push_str(&format!(" constraint {}", dialect.name_as_written(&column.default_name)));
            }
            line.push_str(&format!(" default {default}"));
        }
        // A computed column without a type is as its expression is, unless it is kept.
        let is_computed = !column.is_given() && column.generated.as_deref() != Some(Column::BY_SERVER);
        let untyped = is_computed && !computed.contains("TYPE") && column.more.is_empty();
        if !column.nullable && !untyped {
            line.push_str(" not null");
        }
        line
    });
    let rules = object.constraints.iter().map(|rule| format!("    {}", constraint(rule, object, catalog, dialect)));
    let word = if object.kind == ObjectKind::ForeignTable { "foreign table" } else { "table" };
    let mut text = format!("create {word} {shown} (\n{}\n)", columns.chain(rules).collect::<Vec<_>>().join(",\n"));
    if !object.clauses.is_empty() {
        text.push_str(&format!(" {}", object.clauses));
    }
    for index in object.indexes.iter().filter(|index| !index.definition.is_empty()) {
        text.push_str(&format!(";\n{}", index.definition));
    }
    let mut told = |column: &str, comment: &str| {
        text.extend(comment_on(object, column, comment, catalog, dialect).map(|statement| format!(";\n{statement}")));
    };
    if !object.comment.is_empty() {
        told("", &object.comment);
    }
    for column in object.columns.iter().filter(|column| !column.comment.is_empty()) {
        told(&column.name, &column.comment);
    }
    for belonging in object.belongings.iter().filter(|belonging| !belonging.kind.is_access()) {
        text.push_str(&format!(";\n{}", belonging.makes));
    }
    text
}

/// An expression that reads all of a column's values, where its name alone does not: some servers write numbers of 32 bits
/// with fewer digits than these have.
pub fn exactly(column: &Column, dialect: &Dialect) -> Option<String> {
    let copying = dialect.changing?.copying?;
    let word = column.db_type.split(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default();
    let (_, template) = copying.exactly.iter().find(|(of, _)| of.eq_ignore_ascii_case(word))?;
    Some(filled(template, &[("NAME", &dialect.name_as_written(&column.name))]))
}

/// The statement that says something about an object, or about one of its columns; none where a language has none.
pub fn comment_on(
    object: &Object,
    column: &str,
    comment: &str,
    catalog: &Catalog,
    dialect: &Dialect,
) -> Option<String> {
    comment_by(dialect.comments, object, (column, comment), catalog, dialect)
}

/// The statement that one of two templates makes about an object, or about one of its columns.
pub fn comment_by(
    [of_table, of_column]: [&str; 2],
    object: &Object,
    (column, comment): (&str, &str),
    catalog: &Catalog,
    dialect: &Dialect,
) -> Option<String> {
    let literal = |text: &str| dialect.text_as_written(text);
    let shown = called(object, catalog, dialect);
    // Where the language has no word for what it is, only tables can be written about.
    if !of_table.contains("KIND") && object.kind != ObjectKind::Table {
        return None;
    }
    let (template, named) = match column {
        "" => (of_table, shown),
        column => (of_column, format!("{shown}.{}", dialect.name_as_written(column))),
    };
    let (schema, table) = (literal(&object.schema), literal(&object.name));
    let words: [(&str, &str); 6] = [
        ("KIND", word_in_statements(object)),
        ("NAME", &named),
        ("SCHEMA", &schema),
        ("TABLE", &table),
        ("COLUMN", &literal(column)),
        ("TEXT", &literal(comment)),
    ];
    (!template.is_empty()).then(|| filled(template, &words))
}

/// The word for its kind where a statement drops it or says something about it.
pub fn word_in_statements(object: &Object) -> &'static str {
    match object.kind {
        ObjectKind::MaterialisedView => "materialized view",
        ObjectKind::VirtualTable => "table",
        ObjectKind::Function if object.definition.starts_with("create aggregate") => "aggregate",
        ObjectKind::Type if object.signature.starts_with("domain") => "domain",
        kind => kind.word(),
    }
}

/// Its name as a statement calls it: a routine's with what it takes, where several may have the name.
pub fn called(object: &Object, catalog: &Catalog, dialect: &Dialect) -> String {
    let takes = match object.kind.is_routine() && dialect.altering.is_some_and(|altering| altering.overloads) {
        true => taken(&object.signature),
        false => String::new(),
    };
    name(object, catalog, dialect) + &takes
}

/// What a routine takes, without what it takes where nothing is given: as it is written where it is dropped.
pub fn taken(signature: &str) -> String {
    let plain = |takes: &String| {
        let lower = takes.to_ascii_lowercase();
        let end = [" default ", " = "].iter().filter_map(|word| lower.find(word)).min();
        takes.get(..end.unwrap_or(takes.len())).unwrap_or_default().to_owned()
    };
    let all: Vec<String> = arguments(signature).iter().map(plain).collect();
    format!("({})", all.join(", "))
}

/// A template with what its words stand for. What is put in is not looked at again.
pub fn filled(template: &str, words: &[(&str, &str)]) -> String {
    let (mut text, mut rest) = (String::new(), template);
    let first =
        |rest: &str| words.iter().filter_map(|(word, by)| Some((rest.find(word)?, *word, *by))).min_by_key(|f| f.0);
    while let Some((at, word, by)) = first(rest) {
        text.push_str(rest.get(..at).unwrap_or_default());
        text.push_str(by);
        rest = rest.get(at + word.len()..).unwrap_or_default();
    }
    text + rest
}

/// The statement that makes a schema where there is none of that name; none where nothing is changed by statements.
pub fn new_schema(schema: &str, dialect: &Dialect) -> Option<String> {
    let words = [("NAME", &*dialect.name_as_written(schema)), ("TEXT", &dialect.text_as_written(schema))];
    dialect.changing.map(|changing| filled(changing.new_schema, &words))
}

/// A constraint as it stands in a table's definition.
pub fn constraint(rule: &Constraint, of: &Object, catalog: &Catalog, dialect: &Dialect) -> String {
    let list = |names: &[String]| {
        let names: Vec<_> = names.iter().map(|name| dialect.name_as_written(name)).collect();
        names.join(", ")
    };
    let named = match rule.name.as_str() {
        "" | "PRIMARY" => String::new(),
        name => format!("constraint {} ", dialect.name_as_written(name)),
    };
    let columns = list(&rule.columns);
    if !rule.definition.is_empty() {
        return format!("{named}{}", rule.definition);
    }
    match &rule.rule {
        Rule::Exclude(text) => format!("{named}exclude {text}"),
        Rule::Primary => format!("{named}primary key ({columns})"),
        Rule::Unique => format!("{named}unique ({columns})"),
        Rule::Check(expression) => format!("{named}check ({})", bare(expression)),
        Rule::Foreign { to, columns: others, actions } => {
            let over_there = match catalog.relation(to) {
                Some(object) => name(object, catalog, dialect),
                None if to.schema == of.schema => dialect.name_as_written(&to.name),
                None => format!("{}.{}", dialect.name_as_written(&to.schema), dialect.name_as_written(&to.name)),
            };
            let actions = if actions.is_empty() { String::new() } else { format!(" {actions}") };
            format!("{named}foreign key ({columns}) references {over_there} ({}){actions}", list(others))
        }
    }
}

/// An expression without parentheses around all of it.
fn bare(expression: &str) -> &str {
    let Some(inside) = expression.strip_prefix('(').and_then(|rest| rest.strip_suffix(')')) else { return expression };
    let mut depth = 0;
    for c in inside.chars() {
        match c {
            '(' => depth += 1,
            ')' => depth -= 1,
            _ => {}
        }
        if depth < 0 {
            return expression;
        }
    }
    inside
}

fn new_index(object: &Object, catalog: &Catalog, dialect: &Dialect, form: usize) -> Option<String> {
    if !matches!(object.kind, ObjectKind::Table | ObjectKind::MaterialisedView) {
        return None;
    }
    let column = object.columns.first().map_or("column", |column| column.name.as_str());
    let places = [
        ("NAME", place(1, &dialect.name_as_written(&format!("{}_{column}", object.name)))),
        ("TABLE", table_name(object, catalog, dialect)),
    ];
    let column = ("COLUMN", place(2, &dialect.name_as_written(column)));
    let text = places
        .iter()
        .chain([&column])
        .fold(dialect.new_index.get(form)?.to_string(), |text, (word, by)| text.replace(word, by));
    (!text.is_empty()).then_some(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{DOCUMENTS, MYSQL, POSTGRES, SQLITE, SQLSERVER};
    use jaunty_language::edit::snippet::Snippet;
    use jaunty_seam::catalog::Name;

    fn harbour() -> Catalog {
        let mut catalog = Catalog::along(["public".to_owned()]);
        let column = |name: &str, db_type: &str, key: bool| Column {
            name: name.into(),
            db_type: db_type.into(),
            nullable: !key,
            key,
            ..Column::default()
        };
        let ports = catalog.object("public", "ports", ObjectKind::Table);
        ports.columns = vec![column("id", "integer", true), column("name", "text", false)];
        ports.constraints = vec![Constraint::new("ports_pkey", vec!["id".into()], Rule::Primary)];
        let berths = catalog.object("ops", "Berth Plan", ObjectKind::Table);
        berths.columns = vec![column("port", "integer", false), column("order", "numeric(4,1)", false)];
        berths.columns[1].default = Some("0".into());
        berths.comment = "who's where".into();
        let to = Name { schema: "public".into(), name: "ports".into() };
        let rule = Rule::Foreign { to, columns: vec!["id".into()], actions: "on delete cascade".into() };
        berths.constraints = vec![
            Constraint::new("at", vec!["port".into()], rule),
            Constraint::new("", vec![], Rule::Check("((port > 0) and (port < 9))".into())),
        ];
        catalog.object("public", "tides", ObjectKind::Function).signature =
            "(port integer, days numeric(3,0) default 2) returns numeric".into();
        catalog.complete();
        catalog
    }

    #[test]
    fn every_statement_of_an_object() {
        let catalog = harbour();
        let mut all = String::new();
        for object in catalog.objects() {
            for template in of(&POSTGRES) {
                if let Some(text) = (template.make)(object, &catalog, &POSTGRES) {
                    all.push_str(&format!("-- {} of {}\n{text}\n", template.title, object.name));
                }
            }
        }
        insta::assert_snapshot!(all);
    }

    #[test]
    fn names_are_quoted_as_the_dialect_needs() {
        let catalog = harbour();
        let berths = &catalog.objects()[1];
        for (dialect, wanted) in
            [(&POSTGRES, "ops.\"Berth Plan\""), (&MYSQL, "ops.`Berth Plan`"), (&SQLITE, "ops.\"Berth Plan\"")]
        {
            assert_eq!(name(berths, &catalog, dialect), wanted);
            assert!(columns(berths, &catalog, dialect).unwrap().contains("order"), "{}", dialect.name);
        }
    }

    #[test]
    fn each_language_has_its_own_way() {
        let mut catalog = harbour();
        let ports = catalog.object("public", "odd $1}", ObjectKind::Table);
        ports.columns =
            ["_id", "name", "place.type", "a b"].map(|name| Column { name: name.into(), ..Column::default() }).into();
        catalog.object("public", "sail", ObjectKind::Procedure).signature = "(@port int, @days int)".into();
        catalog.complete();
        let mut all = String::new();
        for (object, dialects) in
            [("odd $1}", &[&SQLSERVER, &DOCUMENTS][..]), ("tides", &[&SQLSERVER]), ("sail", &[&SQLSERVER])]
        {
            let object = catalog.objects().iter().find(|known| known.name == object).unwrap();
            for dialect in dialects {
                for template in of(dialect).iter().filter(|template| template.title != "definition") {
                    if let Some(text) = (template.make)(object, &catalog, dialect) {
                        all.push_str(&format!("-- {} of {}\n{}\n", template.title, object.name, Snippet::plain(&text)));
                    }
                }
            }
        }
        insta::assert_snapshot!(all);
    }

    #[test]
    fn all_that_is_known_of_a_column_is_in_the_definition() {
        let mut catalog = Catalog::along(["dbo".to_owned()]);
        let plan = catalog.object("dbo", "plan", ObjectKind::Table);
        let column =
            |name: &str, db_type: &str| Column { name: name.into(), db_type: db_type.into(), ..Column::default() };
        let said = |default: &str, name: &str| (Some(default.to_owned()), name.to_owned());
        plan.columns = ["id", "fare", "twice", "thrice", "note", "seen"].map(|name| column(name, "int")).into();
        (plan.columns[0].generated, plan.columns[0].numbering) = (Some("identity".into()), "10, 5".into());
        (plan.columns[1].default, plan.columns[1].default_name) = said("(1 + 1)", "two of them");
        (plan.columns[2].generated, plan.columns[2].more) = (Some("fare * 2".into()), "persisted".into());
        plan.columns[3].generated = Some("fare * 3".into());
        (plan.columns[4].nullable, plan.columns[4].more) = (true, "sparse".into());
        (plan.columns[5].db_type, plan.columns[5].generated) = ("rowversion".into(), Some(Column::BY_SERVER.into()));
        catalog.complete();
        assert_eq!(
            definition(&catalog.objects()[0], &catalog, &SQLSERVER).unwrap(),
            "create table [plan] (\n    id     int identity (10, 5) not null,\n    \
             fare   int constraint [two of them] default (1 + 1) not null,\n    twice  as (fare * 2) persisted not null,\n    \
             thrice as (fare * 3),\n    note   int sparse,\n    seen   rowversion not null\n)"
        );
    }

    #[test]
    fn a_column_may_be_computed_from_one_that_is_called_as_its_type() {
        let mut catalog = harbour();
        let tides = catalog.object("public", "tides by day", ObjectKind::Table);
        let column = |name: &str| Column { name: name.into(), db_type: "date".into(), ..Column::default() };
        tides.columns = vec![column("date"), Column { generated: Some("date".into()), ..column("same") }];
        catalog.complete();
        let tides = catalog.objects().iter().find(|object| object.name == "tides by day").unwrap();
        let made = definition(tides, &catalog, &POSTGRES).unwrap();
        assert!(made.contains("date generated always as (date) stored"), "{made}");
    }

    #[test]
    fn arguments_are_told_apart() {
        assert_eq!(
            arguments("(a integer, b numeric(10,2) default 0) returns int[]"),
            ["a integer", "b numeric(10,2) default 0"]
        );
        assert_eq!(arguments("()"), Vec::<String>::new());
        let told = "(INOUT n integer, \"odd, name\" text DEFAULT 'x, y) = ''z'::text, c integer[] = '{}')";
        assert_eq!(arguments(told).len(), 3, "{:?}", arguments(told));
        assert_eq!(taken(told), "(INOUT n integer, \"odd, name\" text, c integer[])");
    }
}
