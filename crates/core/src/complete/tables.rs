//! Tables, schemas and joins.

use std::borrow::Cow;

use super::columns::at_path;
use super::context::{Context, Place, Surroundings};
use super::links::{LOOKED_THROUGH, Link, by_keys, by_names};
use super::rank::fit;
use super::scope::{Seen, VisibleSource};
use super::{Found, Kind, escaped};
use crate::catalog::templates;
use jaunty_language::statement::Written;
use jaunty_language::statement::shape::{Clause, Origin, Shape, words};
use jaunty_seam::catalog::{Catalog, Object, ObjectKind};

/// The kinds of objects that can stand at the cursor.
fn wanted(context: &Context<'_>) -> fn(ObjectKind) -> bool {
    let first = |word: &str| context.shape.words.first().is_some_and(|w| w.is(word));
    let previous = |word: &str| {
        context.back(1).is_some_and(|w| w.is(word))
            || context.back(1).is_some_and(|w| w.is("EXISTS")) && context.back(3).is_some_and(|w| w.is(word))
    };
    if first("DROP") || first("ALTER") {
        if previous("VIEW") {
            return |kind| matches!(kind, ObjectKind::View | ObjectKind::MaterialisedView);
        }
        if previous("SEQUENCE") {
            return |kind| kind == ObjectKind::Sequence;
        }
        if previous("FUNCTION") {
            return |kind| kind == ObjectKind::Function;
        }
        if previous("PROCEDURE") {
            return |kind| kind == ObjectKind::Procedure;
        }
        if previous("TYPE") || previous("DOMAIN") {
            return |kind| kind == ObjectKind::Type;
        }
        if previous("TABLE") {
            return |kind| matches!(kind, ObjectKind::Table | ObjectKind::ForeignTable | ObjectKind::VirtualTable);
        }
    }
    ObjectKind::has_rows
}

/// What an object is called, and what it is worth: a table is named, and not the parts of it, of which there may be very
/// many.
fn word_and_weight(object: &Object, weight: i32) -> (&'static str, i32) {
    if object.is_partition() { ("partition", weight / 2) } else { (object.kind.word(), weight) }
}

/// Tables and views of the search path, common table expressions, and schemas.
pub(super) fn tables(context: &Context<'_>, found: &mut Found) {
    if !context.qualifier.is_empty() {
        return in_schema(context, found);
    }
    let catalog = context.around.catalog;
    for cte in context.scope().ctes(context.query) {
        found.put(Kind::Cte, &cte.name.text, "with", escaped(&context.written(&cte.name.text)), 80);
    }
    let kinds = wanted(context);
    let mut put = |object: &Object| {
        let near = catalog.is_in_path(&object.schema);
        let name = templates::name(object, catalog, context.around.dialect);
        let name = if name == context.around.dialect.name_as_written(&object.name) {
            context.written(&object.name)
        } else {
            name
        };
        // A view is asked for less often than a table.
        let weight = if near { 60 } else { 25 } + if object.kind == ObjectKind::Table { 2 } else { 0 };
        let (word, weight) = word_and_weight(object, weight);
        let detail = if near { word.to_owned() } else { format!("{word} · {}", object.schema) };
        found.put(Kind::Object(object.kind), &object.name, detail, escaped(&name), weight);
    };
    // What each is worth is told first, and only the best are written out: there may be very many.
    let mut worth: Vec<(i32, usize, &Object)> = Vec::new();
    let weigh = |object: &'_ Object, fit: i32| -> Option<i32> {
        if !kinds(object.kind) {
            return None;
        }
        let near = if catalog.is_in_path(&object.schema) { 35 } else { 0 };
        let near = if object.is_partition() { -30 } else { near };
        Some(fit + near)
    };
    if context.typed.is_empty() {
        for (place, object) in catalog.objects().iter().enumerate() {
            worth.extend(weigh(object, 0).map(|rank| (rank, place, object)));
        }
    } else {
        for (place, name) in catalog.object_names().with_letters_of(&context.typed).enumerate() {
            let Some(fit) = fit(&context.typed, name) else { continue };
            let is_lower = name.bytes().all(|byte| byte.is_ascii() && !byte.is_ascii_uppercase());
            let lower = if is_lower { Cow::Borrowed(name) } else { Cow::Owned(name.to_lowercase()) };
            for object in catalog.named(&lower).filter(|o| o.name == name) {
                worth.extend(weigh(object, fit).map(|rank| (rank, place, object)));
            }
        }
    }
    let best = |(rank, place, _): &(i32, usize, &Object)| (-rank, *place);
    if worth.len() > super::MOST {
        worth.select_nth_unstable_by_key(super::MOST, best);
        worth.truncate(super::MOST);
    }
    worth.sort_by_key(best);
    worth.into_iter().for_each(|(.., object)| put(object));
    for schema in catalog.schemas() {
        found.put(Kind::Schema, schema, "schema", format!("{}.", escaped(&context.written(schema))), 5);
    }
    databases(context, found);
    if context.place == Place::Source && context.clause.0 == Clause::From {
        super::keywords::put(context, found, &["lateral"], 0);
    }
}

/// Other databases, where names reach into them.
fn databases(context: &Context<'_>, found: &mut Found) {
    let catalog = context.around.catalog;
    for name in
        catalog.databases.iter().filter(|name| context.around.dialect.crosses_databases && **name != catalog.database)
    {
        found.put(Kind::Schema, name, "database", format!("{}.", escaped(&context.written(name))), 3);
    }
}

/// The databases that a statement names and of which nothing is known yet, as the server writes them.
pub fn not_read<'a>(text: &str, around: Surroundings<'a>) -> Vec<&'a str> {
    let (catalog, dialect) = (around.catalog, around.dialect);
    if !dialect.crosses_databases || catalog.databases.len() < 2 {
        return Vec::new();
    }
    let shape = Shape::of(words(text, dialect, 0));
    let begins = |at: &usize| {
        let dot = |at: usize| shape.words.get(at).is_some_and(|word| word.sign(b'.'));
        dot(at + 1) && !at.checked_sub(1).is_some_and(dot)
    };
    let named = (0..shape.words.len()).filter(begins).filter_map(|at| shape.name_at(at));
    let mut found: Vec<&str> = named.filter_map(|name| catalog.not_read(&name, dialect)).collect();
    found.sort_unstable();
    found.dedup();
    found
}

/// What lies in what stands before the dot: the objects of a schema, the schemas of a database.
pub(super) fn in_schema(context: &Context<'_>, found: &mut Found) {
    let (dialect, catalog) = (context.around.dialect, context.around.catalog);
    let database = |name: &Written| match name.means(&catalog.database, dialect) {
        true => Some(catalog),
        false => catalog.other(name, dialect),
    };
    match context.qualifier.as_slice() {
        [name] => {
            objects_of(catalog, name, context, found);
            for schema in database(name).iter().flat_map(|there| there.schemas()) {
                found.put(Kind::Schema, schema, "schema", format!("{}.", escaped(&context.written(schema))), 40);
            }
        }
        [name, schema] => {
            if let Some(there) = database(name) {
                objects_of(there, schema, context, found);
            }
        }
        _ => {}
    }
}

/// The objects of a schema; of an empty one, those that plain names mean.
fn objects_of(catalog: &Catalog, schema: &Written, context: &Context<'_>, found: &mut Found) {
    let dialect = context.around.dialect;
    let operand = !matches!(context.place, Place::Source | Place::Procedure);
    let kinds = wanted(context);
    let is_meant = |of: &str| match schema.text.is_empty() {
        true => catalog.is_in_path(of),
        false => schema.means(of, dialect),
    };
    for object in catalog.objects().iter().chain(&catalog.brought) {
        let fits = match context.place {
            Place::Procedure => object.kind == ObjectKind::Procedure,
            _ if operand => object.kind == ObjectKind::Function,
            _ => kinds(object.kind) || context.clause.0 == Clause::From && object.gives_rows(),
        };
        if fits && is_meant(&object.schema) && fit(&context.typed, &object.name).is_some() {
            let name = escaped(&context.written(&object.name));
            let insert = match context.place {
                // Its name alone: what it lies in is written.
                Place::Procedure => {
                    templates::call_with_places(&Object { schema: String::new(), ..object.clone() }, catalog, dialect)
                }
                _ if object.kind == ObjectKind::Function => format!("{name}($1)$0"),
                _ => name,
            };
            let (word, weight) = word_and_weight(object, 50);
            found.put(Kind::Object(object.kind), &object.name, word, insert, weight);
        }
    }
}

/// Procedures, each with places for its arguments.
pub(super) fn procedures(context: &Context<'_>, found: &mut Found) {
    if !context.qualifier.is_empty() {
        return in_schema(context, found);
    }
    let (catalog, dialect) = (context.around.catalog, context.around.dialect);
    for object in catalog.usable(ObjectKind::Procedure) {
        let insert = templates::call_with_places(object, catalog, dialect);
        found.put(Kind::Object(object.kind), &object.name, object.signature.clone(), insert, 60);
    }
    databases(context, found);
}

/// How many joins that names suggest are proposed.
const SUGGESTED: usize = 12;

/// After `JOIN`: the tables that a foreign key leads to, each with a name and its condition, then those that names suggest.
pub(super) fn joined(context: &Context<'_>, found: &mut Found) {
    if !context.back(1).is_some_and(|w| w.is("JOIN")) || !context.qualifier.is_empty() {
        return;
    }
    if context.back(2).is_some_and(|w| w.is_one_of(&["CROSS", "NATURAL"])) {
        return;
    }
    let visible = context.visible();
    let taken: Vec<String> = visible.iter().map(|source| source.name.text.to_lowercase()).collect();
    for source in visible.iter().filter(|source| source.outer == 0) {
        let Some(here) = source.table.as_ref().and_then(|name| context.around.catalog.relation(name)) else { continue };
        let over_there = here.references().filter_map(|(_, to, _)| context.around.catalog.relation(to));
        let pointing = context.around.catalog.pointing_at(&here.to_name());
        let mut others: Vec<&Object> = over_there.chain(pointing).collect();
        others.dedup_by_key(|object| object.to_name());
        let mut put = |other: &Object, link: &Link<'_>, why: &str, weight: i32| {
            let alias = short_name(&other.name, &taken);
            let name = templates::name(other, context.around.catalog, context.around.dialect);
            let condition = condition(context, link, &source.name.text, &alias);
            let on = context.cased("on");
            let label = format!("{} {alias} on {condition}", other.name);
            let insert = escaped(&format!("{name} {alias} {on} {condition}"));
            found.put_join(&other.name, &label, why, insert, weight);
        };
        for other in &others {
            by_keys(here, other).iter().for_each(|link| put(other, link, "foreign key", 85));
        }
        let catalog = context.around.catalog;
        if catalog.objects().len() <= LOOKED_THROUGH {
            let near = |other: &&Object| {
                let is_near = other.schema == here.schema || catalog.is_in_path(&other.schema);
                is_near && other.kind.has_rows() && !others.iter().any(|linked| linked.to_name() == other.to_name())
            };
            let near = catalog.objects().iter().filter(near);
            let suggested = near.flat_map(|other| by_names(here, other).into_iter().map(move |link| (other, link)));
            suggested.take(SUGGESTED).for_each(|(other, link)| put(other, &link, "by name", 72));
        }
    }
}

fn condition(context: &Context<'_>, link: &Link<'_>, here: &str, there: &str) -> String {
    let and = format!(" {} ", context.cased("and"));
    link.condition(&context.written(here), &context.written(there), &and, |column| context.written(column))
}

/// The first letters of a name's parts, made different from what is taken.
fn short_name(name: &str, taken: &[String]) -> String {
    let parts = name.split(|c: char| !c.is_alphanumeric()).filter_map(|part| part.chars().next());
    let letters: String = parts.filter(|c| c.is_ascii_alphabetic()).collect::<String>().to_lowercase();
    let letters = if letters.is_empty() { "t".to_owned() } else { letters };
    let keyword = |alias: &str| {
        matches!(alias, "as" | "on" | "or" | "by" | "in" | "is" | "if" | "to" | "do" | "no" | "of" | "at" | "go")
    };
    let free = |alias: &String| !taken.contains(alias) && !keyword(alias);
    let numbered = (2..).map(|number| format!("{letters}{number}"));
    [letters.clone()].into_iter().chain(numbered).find(free).unwrap_or(letters)
}

/// The conditions that foreign keys give for the last table of a join, where one is to be written.
pub(super) fn conditions(context: &Context<'_>, found: &mut Found) {
    let Some(query) = context.shape.queries.get(context.query) else { return };
    let before = query.sources.iter().rposition(|source| source.at < context.begins);
    let Some(last) = before.filter(|last| *last > 0) else { return };
    let Some(joined) = query.sources.get(last) else { return };
    // A join, and not a comma; its condition is not written yet.
    let is_join = joined.at.checked_sub(1).and_then(|at| context.shape.words.get(at)).is_some_and(|w| w.is("JOIN"));
    let asks = match context.place {
        Place::AfterSource => joined.end == context.begins,
        _ => context.back(1).is_some_and(|w| w.is("ON")) && context.clause.0 == Clause::On,
    };
    if !is_join || !asks {
        return;
    }
    let visible: Vec<VisibleSource> = context.visible();
    let own: Vec<&VisibleSource> = visible.iter().filter(|source| source.outer == 0).collect();
    let (Some(there), Some(others)) = (own.get(last), own.get(..last)) else { return };
    let on = if context.place == Place::AfterSource { format!("{} ", context.cased("on")) } else { String::new() };
    let known = |source: &VisibleSource| source.table.as_ref().and_then(|name| context.around.catalog.relation(name));
    for here in others.iter().rev() {
        if let (Some(a), Some(b)) = (known(here), known(there)) {
            let keys = by_keys(a, b);
            let (links, why, weight) =
                if keys.is_empty() { (by_names(a, b), "by name", 84) } else { (keys, "foreign key", 90) };
            for link in links {
                let text = format!("{on}{}", condition(context, &link, &here.name.text, &there.name.text));
                found.put(Kind::Join, &text, why, escaped(&text), weight);
            }
        }
    }
    // Without either: columns of one name that look like keys. A plain `id` of both says nothing.
    if found.all.iter().all(|proposal| proposal.kind != Kind::Join) {
        let Origin::Named(path) = &joined.origin else { return };
        let looks_like_a_key = |column: &&Seen| {
            let name = column.name.to_lowercase();
            name.ends_with("id") && name != "id"
        };
        for column in at_path(context, path).iter().filter(looks_like_a_key) {
            for here in others.iter().rev().filter(|here| here.columns.iter().any(|c| c.name == column.name)) {
                let link = Link::one(&column.name, &column.name);
                let text = format!("{on}{}", condition(context, &link, &here.name.text, &there.name.text));
                found.put(Kind::Join, &text, "same name", escaped(&text), 80);
            }
        }
    }
}
