//! What depends on a table or view whose structure a statement changes, or that it takes away or empties: told before it
//! runs.

use jaunty_language::dialect::Dialect;
use jaunty_language::statement::Written;
use jaunty_language::statement::shape::{Shape, words};
use jaunty_language::text::numbers::{count, grouped};
use jaunty_seam::catalog::{Catalog, Name, Object, ObjectKind};

/// Words between the verb and the name.
const BETWEEN: &[&str] = &["FROM", "TABLE", "VIEW", "MATERIALIZED", "FOREIGN", "TEMPORARY", "IF", "EXISTS", "ONLY"];

/// What depends on what a statement drops, alters or empties, a line for each kind; nothing for other statements.
pub fn depends(statement: &str, catalog: &Catalog, dialect: &'static Dialect) -> Vec<String> {
    let shape = Shape::of(words(statement, dialect, 0));
    let mut lines = Vec::new();
    for (verb, object, after) in about(&shape, catalog, dialect).into_iter().filter(|(verb, ..)| DEFINES.contains(verb))
    {
        lines.extend(of_object(object, verb, &dropped_column(&shape, after), catalog, dialect));
    }
    lines.extend(dropped(&shape, catalog, dialect).iter().flat_map(|schema| of_schema(schema, catalog)));
    if !lines.is_empty() && dialect.definitions_commit {
        lines.push("This server commits it at once: it cannot be rolled back.".to_owned());
    }
    lines
}

/// The tables whose definition or rows a statement changes or takes away: what a copy would be of. Those that only get more
/// rows are not.
pub fn endangered<'a>(statement: &str, catalog: &'a Catalog, dialect: &'static Dialect) -> Vec<&'a Object> {
    let shape = Shape::of(words(statement, dialect, 0));
    let all = about(&shape, catalog, dialect).into_iter().map(|(_, object, _)| object);
    all.filter(|object| object.kind == ObjectKind::Table).collect()
}

/// The schemas that a statement drops, or the database where that is what schemas are, as the server has their names. One that
/// the catalog does not have (it may be empty, or made since) is there as it is written.
pub fn dropped_schemas(statement: &str, catalog: &Catalog, dialect: &'static Dialect) -> Vec<String> {
    dropped(&Shape::of(words(statement, dialect, 0)), catalog, dialect)
}

fn dropped(shape: &Shape, catalog: &Catalog, dialect: &'static Dialect) -> Vec<String> {
    let is = |at: usize, text: &str| shape.words.get(at).is_some_and(|word| word.is(text));
    let copying = dialect.changing.and_then(|changing| changing.copying);
    let of_databases = copying.is_some_and(|copying| copying.schemas_are_databases);
    if !is(0, "DROP") || !(is(1, "SCHEMA") || is(1, "DATABASE") && of_databases) {
        return Vec::new();
    }
    let all = catalog.schemas();
    let (mut found, mut at) = (Vec::new(), if is(2, "IF") { 4 } else { 2 });
    while let Some(name) = shape.name_at(at) {
        let known = all.iter().find(|schema| name.means(schema, dialect)).map(|schema| (*schema).to_owned());
        let folds = dialect.folds_names && !name.quoted;
        found.push(known.unwrap_or_else(|| if folds { name.text.to_lowercase() } else { name.text }));
        if !shape.words.get(at + 1).is_some_and(|word| word.sign(b',')) {
            break;
        }
        at += 2;
    }
    found
}

/// What a schema holds, and what of other schemas needs it.
fn of_schema(schema: &str, catalog: &Catalog) -> Vec<String> {
    let (inside, outside): (Vec<&Object>, Vec<&Object>) =
        catalog.objects().iter().partition(|object| object.schema == schema);
    let mut kinds: Vec<(ObjectKind, u64)> = Vec::new();
    for object in &inside {
        match kinds.iter_mut().find(|(kind, _)| *kind == object.kind) {
            Some((_, many)) => *many += 1,
            None => kinds.push((object.kind, 1)),
        }
    }
    kinds.sort_by_key(|(kind, _)| *kind);
    let rows: u64 =
        inside.iter().filter(|object| object.kind == ObjectKind::Table).filter_map(|table| table.rows).sum();
    let rows = if rows > 0 { format!(", with about {}", count(rows, "row")) } else { String::new() };
    let kinds: Vec<String> = kinds.into_iter().map(|(kind, many)| count(many, kind.word())).collect();
    let needs = |object: &&&Object| {
        object.references().any(|(_, to, _)| to.schema == schema)
            || object.uses.iter().any(|used| used.schema == schema)
    };
    let needing: Vec<String> =
        outside.iter().filter(needs).map(|object| format!("{}.{}", object.schema, object.name)).collect();
    let held = (!kinds.is_empty()).then(|| format!("{schema} has {}{rows}.", kinds.join(", ")));
    let needed = (!needing.is_empty()).then(|| format!("{schema} is referenced or read by {}.", needing.join(", ")));
    held.into_iter().chain(needed).collect()
}

/// Verbs of definitions; `TRUNCATE` is one, as far as what depends on a table goes.
const DEFINES: &[&str] = &["DROP", "ALTER", "TRUNCATE"];

/// The tables and views that a statement is about, with its verb and the word after each.
fn about<'a>(shape: &Shape, catalog: &'a Catalog, dialect: &'static Dialect) -> Vec<(&'static str, &'a Object, usize)> {
    let verbs = DEFINES.iter().chain(&["DELETE", "UPDATE"]);
    let verb = verbs.copied().find(|verb| shape.words.first().is_some_and(|word| word.is(verb)));
    let Some(verb) = verb else { return Vec::new() };
    let mut at = 1;
    let mut of_table = !matches!(verb, "DROP" | "ALTER");
    while let Some(word) = shape.words.get(at).filter(|word| BETWEEN.iter().any(|between| word.is(between))) {
        of_table |= word.is("TABLE") || word.is("VIEW");
        at += 1;
    }
    let mut found = Vec::new();
    if !of_table {
        return found;
    }
    loop {
        let (path, after) = shape.path_from(at);
        let Some(object) = catalog.relation_at(&path, dialect) else { break };
        found.push((verb, object, after));
        // Several can be dropped or emptied at once.
        match shape.words.get(after) {
            Some(word) if word.sign(b',') && verb != "ALTER" => at = after + 1,
            _ => break,
        }
    }
    found
}

/// The column that an `ALTER` takes away.
fn dropped_column(shape: &Shape, from: usize) -> Option<Written> {
    let drops = (from..shape.words.len()).find(|at| shape.words[*at].is("DROP"))?;
    let mut at = drops + 1;
    while shape.words.get(at).is_some_and(|word| ["COLUMN", "IF", "EXISTS"].iter().any(|between| word.is(between))) {
        at += 1;
    }
    let is_rule = |word: &str| shape.words.get(at).is_some_and(|found| found.is(word));
    let other = ["CONSTRAINT", "PRIMARY", "FOREIGN", "INDEX", "KEY", "CHECK", "PARTITION"].into_iter().any(is_rule);
    shape.name_at(at).filter(|_| !other)
}

fn of_object(
    object: &Object,
    verb: &str,
    column: &Option<Written>,
    catalog: &Catalog,
    dialect: &'static Dialect,
) -> Vec<String> {
    let column =
        column.as_ref().map(|name| object.column(name, dialect).map_or(name.text.clone(), |of| of.name.clone()));
    let about = |names: &[String]| column.as_ref().is_none_or(|column| names.contains(column));
    let mut lines = Vec::new();
    let subject = match &column {
        Some(column) => format!("{}.{column}", object.name),
        None => object.name.clone(),
    };
    let name = object.to_name();
    let mut references: Vec<String> = Vec::new();
    for other in catalog.pointing_at(&name) {
        let to_here = other.references().filter(|(_, to, theirs)| **to == name && about(theirs));
        let ours: Vec<String> = to_here.flat_map(|(ours, ..)| ours.to_vec()).collect();
        if !ours.is_empty() && other.to_name() != name {
            references.push(format!("{} ({})", other.name, ours.join(", ")));
        }
    }
    if !references.is_empty() {
        lines.push(format!("{subject} is referenced by {}.", references.join(", ")));
    }
    let readers: Vec<&str> = catalog.reading(&name).map(|reader| reader.name.as_str()).collect();
    if !readers.is_empty() {
        lines.push(format!("{} is read by {}.", object.name, readers.join(", ")));
    }
    let indexes: Vec<&str> =
        object.indexes.iter().filter(|i| column.is_some() && about(&i.over)).map(|i| i.name.as_str()).collect();
    if !indexes.is_empty() {
        lines.push(format!("{subject} is in the index {}.", indexes.join(", ")));
    }
    let parts = parts_of(&name, catalog);
    if !parts.is_empty() && column.is_none() {
        let what = if verb == "DROP" { "Its parts go with it" } else { "Its parts are meant, too" };
        lines.push(format!("{what}: {}.", parts.join(", ")));
    }
    if verb == "DROP" && !object.triggers.is_empty() {
        let triggers: Vec<&str> = object.triggers.iter().map(|trigger| trigger.name.as_str()).collect();
        lines.push(format!("Its triggers go with it: {}.", triggers.join(", ")));
    }
    if let Some(rows) = object.rows.filter(|rows| *rows > 0 && column.is_none() && verb != "ALTER") {
        lines.push(format!("{} has about {} rows.", object.name, grouped(rows)));
    }
    lines
}

/// The tables that are parts of one, or take their columns from it, and those that are of these.
fn parts_of<'a>(name: &Name, catalog: &'a Catalog) -> Vec<&'a str> {
    let (mut found, mut parts) = (vec![name.clone()], Vec::new());
    let mut at = 0;
    while let Some(whole) = found.get(at).cloned() {
        let is_part = |object: &&Object| {
            let is_of = object.kind.has_rows() && object.parents().any(|parent| *parent == whole);
            is_of && !found.contains(&object.to_name())
        };
        let next: Vec<&Object> = catalog.objects().iter().filter(is_part).collect();
        found.extend(next.iter().map(|object| object.to_name()));
        parts.extend(next.iter().map(|object| object.name.as_str()));
        at += 1;
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::tests::{of_a_server, saltmarsh};
    use jaunty_language::dialect::{MYSQL, POSTGRES, SQLSERVER};
    use jaunty_seam::catalog::{Belonging, BelongingKind};

    fn told(statement: &str, dialect: &'static Dialect) -> Vec<String> {
        let mut catalog = saltmarsh();
        let uses = vec![Name { schema: "public".into(), name: "ports".into() }];
        catalog.object("public", "harbours", ObjectKind::View).uses = uses;
        catalog.complete();
        depends(statement, &catalog, dialect)
    }

    #[test]
    fn a_table_of_another_database_is_not_taken_for_one_of_this() {
        let catalog = of_a_server();
        for statement in
            ["drop table archive.dbo.ports", "drop table archive..ports", "truncate table archive.public.ports"]
        {
            assert_eq!(depends(statement, &catalog, &SQLSERVER), Vec::<String>::new(), "{statement}");
            assert!(endangered(statement, &catalog, &SQLSERVER).is_empty(), "{statement}");
        }
        assert!(!depends("drop table ferry.public.ports", &catalog, &SQLSERVER).is_empty());
    }

    #[test]
    fn what_a_schema_holds_is_told() {
        let mut catalog = saltmarsh();
        catalog.object("public", "harbours", ObjectKind::View).uses =
            vec![Name { schema: "tolls".into(), name: "rates".into() }];
        catalog.object("tolls", "rates", ObjectKind::Table).rows = Some(1200);
        catalog.object("tolls", "next", ObjectKind::Sequence);
        catalog.object("tolls", "fines", ObjectKind::Table);
        catalog.complete();
        let expected = [
            "tolls has 2 tables, 1 sequence, with about 1,200 rows.",
            "tolls is referenced or read by public.harbours.",
        ];
        for statement in ["drop schema tolls cascade", "DROP SCHEMA IF EXISTS \"tolls\""] {
            assert_eq!(depends(statement, &catalog, &POSTGRES), expected, "{statement}");
            assert_eq!(dropped_schemas(statement, &catalog, &POSTGRES), ["tolls"], "{statement}");
        }
        for statement in ["drop database tolls", "alter schema tolls rename to x", "drop schema"] {
            assert!(dropped_schemas(statement, &catalog, &POSTGRES).is_empty(), "{statement}");
        }
        let several = "drop schema Made_Since, tolls, \"Empty\", public";
        assert_eq!(dropped_schemas(several, &catalog, &POSTGRES), ["made_since", "tolls", "Empty", "public"]);
        assert_eq!(depends(several, &catalog, &POSTGRES)[0], expected[0]);
        assert_eq!(dropped_schemas("drop database tolls", &catalog, &MYSQL), ["tolls"]);
    }

    #[test]
    fn what_depends_on_a_table_is_told() {
        let references = "ports is referenced by routes (from_port_id, to_port_id).".to_owned();
        let read = "ports is read by harbours.".to_owned();
        for statement in [
            "drop table ports",
            "DROP TABLE IF EXISTS public.\"ports\" CASCADE",
            "truncate ports",
            "alter table ports add x int",
        ] {
            assert_eq!(told(statement, &POSTGRES)[..2], [references.clone(), read.clone()], "{statement}");
        }
        assert_eq!(
            told("alter table ports drop column id", &POSTGRES)[0],
            "ports.id is referenced by routes (from_port_id, to_port_id)."
        );
        assert!(!told("alter table ports drop column name", &POSTGRES)[0].contains("referenced"));
        assert_eq!(
            told("drop table ports", &MYSQL).last().unwrap(),
            "This server commits it at once: it cannot be rolled back."
        );
        for statement in ["drop index ports", "select * from ports", "delete from ports", "drop table nowhere", "drop"]
        {
            assert!(told(statement, &POSTGRES).is_empty(), "{statement}");
        }
        assert!(told("drop table bookings, ports", &POSTGRES).contains(&read));
    }

    #[test]
    fn parts_of_a_table_go_with_it() {
        let mut catalog = saltmarsh();
        let name = |name: &str| Name { schema: "public".into(), name: name.into() };
        for (part, whole) in [("log_a", "log_31"), ("log_31", "ports"), ("ports", "log_a")] {
            catalog.object("public", part, ObjectKind::Table).belongings.push(Belonging {
                kind: BelongingKind::Parent,
                name: String::new(),
                of: String::new(),
                to: Some(name(whole)),
                makes: String::new(),
                unmakes: String::new(),
            });
        }
        catalog.complete();
        let told = |statement: &str| depends(statement, &catalog, &POSTGRES).join(" ");
        // Also where they go around in a ring, which no server says.
        assert!(
            told("drop table ports").contains("Its parts go with it: log_31, log_a."),
            "{}",
            told("drop table ports")
        );
        assert!(told("truncate log_31").contains("Its parts are meant, too: log_a, ports."));
        assert!(!told("alter table ports drop column name").contains("parts"));
    }

    #[test]
    fn a_copy_is_of_what_can_be_lost() {
        let names = |statement: &str| {
            let catalog = saltmarsh();
            let found = endangered(statement, &catalog, &POSTGRES);
            found.into_iter().map(|object| object.name.clone()).collect::<Vec<_>>().join(" ")
        };
        for (statement, expected) in [
            ("drop table ports, routes", "ports routes"),
            ("alter table only public.ports add column x int", "ports"),
            ("delete from ports where id = 1", "ports"),
            ("update ports set name = 'x'", "ports"),
            ("truncate table ports", "ports"),
            ("insert into ports values (1)", ""),
            ("drop view nothing", ""),
            ("create table ports (id int)", ""),
            ("with x as (delete from ports) select 1", ""),
        ] {
            assert_eq!(names(statement), expected, "{statement}");
        }
    }
}
