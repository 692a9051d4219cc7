//! Commands that change documents.

use std::sync::Arc;

use super::super::failure::Failure;
use super::super::matching;
use super::super::scope::{Documents, Scope};
use super::super::session::Call;
use super::super::stages;
use super::super::store::{Collection, Store};
use super::super::update;
use super::super::value::{Document, Value, document, field, set};
use super::{document_of, target};

fn list<'a>(command: &'a Document, name: &str) -> Result<&'a [Value], Failure> {
    let all = field(command, name).and_then(Value::as_array).filter(|all| !all.is_empty());
    all.ok_or_else(|| Failure::parse(format!("BSON field '{name}' is missing but a required field")))
}

/// Carries out each statement of a write. One that fails ends it, unless they are not in order.
fn each(
    command: &Document,
    statements: &[Value],
    mut one: impl FnMut(usize, &Document) -> Result<(), Failure>,
) -> Result<Vec<Value>, Failure> {
    let goes_on = field(command, "ordered").is_some_and(|ordered| !ordered.holds());
    let mut errors = Vec::new();
    for (number, statement) in statements.iter().enumerate() {
        let statement =
            statement.as_document().ok_or_else(|| Failure::type_of("a statement of a write is an object"))?;
        match one(number, statement) {
            Ok(()) => {}
            // An end that somebody wished for ends the command.
            Err(failure) if failure.code == 11601 => return Err(failure),
            Err(failure) => {
                errors.push(failure.of_write(number));
                if !goes_on {
                    break;
                }
            }
        }
    }
    Ok(errors)
}

fn with_errors(mut reply: Document, errors: Vec<Value>) -> Document {
    if !errors.is_empty() {
        reply.push(("writeErrors".to_owned(), Value::Array(errors)));
    }
    reply
}

fn refuse_view(store: &Store, database: &str, name: &str) -> Result<(), Failure> {
    match store.collection(database, name).is_some_and(|own| own.view().is_some()) {
        true => Err(Failure::new(
            166,
            "CommandNotSupportedOnView",
            format!("Namespace {database}.{name} is a view, not a collection"),
        )),
        false => Ok(()),
    }
}

pub fn insert(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let (name, statements) = (target(command)?, list(command, "documents")?);
    let namespace = call.namespace(&name);
    let empty = Store::default();
    let scope = call.scope(&empty, None);
    let mut added = 0;
    let errors = call.change(|store| {
        refuse_view(store, &call.database, &name)?;
        let collection = store.make(&call.database, &name);
        each(command, statements, |_, one| {
            scope.go_on()?;
            collection.insert(one.clone(), &namespace, &scope)?;
            added += 1;
            Ok(())
        })
    })?;
    Ok(with_errors(document([("n", Value::Int(added))]), errors))
}

/// The numbers of the documents that fit a filter: the first of them, or all.
fn numbers(collection: &Collection, filter: &Document, all: bool, scope: &Scope<'_>) -> Result<Vec<u64>, Failure> {
    let mut found = Vec::new();
    for number in collection.plan(filter).numbers {
        scope.go_on()?;
        let Some(one) = collection.at(number) else { continue };
        if matching::fits(filter, one, scope)? {
            found.push(number);
            if !all {
                break;
            }
        }
    }
    Ok(found)
}

pub fn update(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let (name, statements) = (target(command)?, list(command, "updates")?);
    let namespace = call.namespace(&name);
    let before = call.store();
    let scope = call.scope(&before, before.collection(&call.database, &name));
    let (mut fits, mut changed, mut made) = (0, 0, Vec::new());
    let errors = call.change(|store| {
        refuse_view(store, &call.database, &name)?;
        each(command, statements, |number, one| {
            let (filter, change) = (document_of(one, "q"), field(one, "u").cloned().unwrap_or(Value::Null));
            let all = field(one, "multi").is_some_and(Value::holds);
            if all && matches!(&change, Value::Document(change) if !matching::has_operators(change)) {
                return Err(Failure::parse("multi update is not supported for replacement-style update"));
            }
            let collection = store.make(&call.database, &name);
            let found = numbers(collection, &filter, all, &scope)?;
            for at in &found {
                let Some(own) = collection.at(*at).cloned() else { continue };
                let new = update::apply(&change, &own, false, &scope)?;
                changed += i32::from(collection.replace(*at, new, &namespace, &scope)?);
            }
            fits += found.len() as i32;
            if found.is_empty() && field(one, "upsert").is_some_and(Value::holds) {
                let new = update::apply(&change, &update::seed(&filter)?, true, &scope)?;
                let id = collection.insert(new, &namespace, &scope)?;
                made.push(Value::Document(document([("index", Value::Int(number as i32)), ("_id", id)])));
                fits += 1;
            }
            Ok(())
        })
    })?;
    let mut reply = document([("n", Value::Int(fits)), ("nModified", Value::Int(changed))]);
    if !made.is_empty() {
        reply.push(("upserted".to_owned(), Value::Array(made)));
    }
    Ok(with_errors(reply, errors))
}

pub fn delete(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let (name, statements) = (target(command)?, list(command, "deletes")?);
    let before = call.store();
    let scope = call.scope(&before, before.collection(&call.database, &name));
    let mut gone = 0;
    let errors = call.change(|store| {
        refuse_view(store, &call.database, &name)?;
        if store.collection(&call.database, &name).is_none() {
            return Ok(Vec::new());
        }
        let collection = store.make(&call.database, &name);
        each(command, statements, |_, one| {
            let limit = field(one, "limit").and_then(Value::as_i64);
            let limit = limit
                .ok_or_else(|| Failure::parse("BSON field 'delete.deletes.limit' is missing but a required field"))?;
            for number in numbers(collection, &document_of(one, "q"), limit == 0, &scope)? {
                gone += i32::from(collection.remove(number).is_some());
            }
            Ok(())
        })
    })?;
    Ok(with_errors(document([("n", Value::Int(gone))]), errors))
}

pub fn find_and_modify(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let name = target(command)?;
    let namespace = call.namespace(&name);
    let before = call.store();
    let scope = call.scope(&before, before.collection(&call.database, &name));
    let (filter, keys) = (document_of(command, "query"), stages::order(&document_of(command, "sort"))?);
    let flag = |name: &str| field(command, name).is_some_and(Value::holds);
    let (old, new, made) = call.change(|store| {
        refuse_view(store, &call.database, &name)?;
        let collection = store.make(&call.database, &name);
        let mut found = numbers(collection, &filter, !keys.is_empty(), &scope)?;
        found.sort_by(|left, right| match (collection.at(*left), collection.at(*right)) {
            (Some(left), Some(right)) => stages::compared(&keys, left, right),
            _ => std::cmp::Ordering::Equal,
        });
        let change = field(command, "update").cloned().unwrap_or(Value::Null);
        let own = found.first().and_then(|at| Some((*at, collection.at(*at).cloned()?)));
        match own {
            Some((at, _)) if flag("remove") => Ok((collection.remove(at), None, None)),
            Some((at, own)) => {
                let new = update::apply(&change, &own, false, &scope)?;
                collection.replace(at, new.clone(), &namespace, &scope)?;
                Ok((Some(own), Some(new), None))
            }
            None if flag("upsert") && !flag("remove") => {
                let mut new = update::apply(&change, &update::seed(&filter)?, true, &scope)?;
                let id = collection.insert(new.clone(), &namespace, &scope)?;
                set(&mut new, "_id", id.clone());
                Ok((None, Some(new), Some(id)))
            }
            None => Ok((None, None, None)),
        }
    })?;
    let mut last = document([("n", Value::Int(i32::from(old.is_some() || new.is_some())))]);
    if !flag("remove") {
        last.push(("updatedExisting".to_owned(), Value::Bool(old.is_some())));
    }
    last.extend(made.map(|id| ("upserted".to_owned(), id)));
    let shown = if flag("new") { new } else { old.map(|old| (*old).clone()) };
    let fields = document_of(command, "fields");
    let shown = match shown {
        Some(one) if !fields.is_empty() => Some(stages::project(&fields, &one, &scope)?),
        other => other,
    };
    Ok(document([("lastErrorObject", Value::Document(last)), ("value", shown.map_or(Value::Null, Value::Document))]))
}

/// `$out` and `$merge`: what a pipeline made goes into a collection.
pub fn put_back(stage: &str, argument: &Value, made: Documents, call: &Call<'_>) -> Result<(), Failure> {
    let parts = argument.as_document().cloned().unwrap_or_default();
    let into = if stage == "$out" { Some(argument) } else { field(&parts, "into").or(Some(argument)) };
    let (database, name) = match into {
        Some(Value::Text(name)) => (call.database.clone(), name.clone()),
        Some(Value::Document(place)) => {
            let text = |name: &str| field(place, name).and_then(Value::as_text).map(str::to_owned);
            let name = text("coll").ok_or_else(|| Failure::parse(format!("{stage} needs a collection")))?;
            (text("db").unwrap_or_else(|| call.database.clone()), name)
        }
        _ => return Err(Failure::parse(format!("{stage} needs a collection"))),
    };
    let namespace = format!("{database}.{name}");
    let before = call.store();
    let scope = call.scope(&before, None);
    if stage == "$out" {
        let mut new = Collection::new(Document::new());
        for index in before.collection(&database, &name).map_or(&[][..], |own| &own.indexes) {
            if index.name != "_id_" {
                new.indexes.push(super::Index::new(&index.name, index.keys.clone(), index.options.clone()));
            }
        }
        for one in made {
            new.insert((*one).clone(), &namespace, &scope)?;
        }
        return call.change(|store| {
            store.put(&database, &name, new);
            Ok(())
        });
    }
    let on = match field(&parts, "on") {
        Some(Value::Text(path)) => vec![path.clone()],
        Some(Value::Array(paths)) => paths.iter().filter_map(Value::as_text).map(str::to_owned).collect(),
        _ => vec!["_id".to_owned()],
    };
    let when = |name: &str, usual: &str| field(&parts, name).cloned().unwrap_or(Value::text(usual));
    let (fits, misses) = (when("whenMatched", "merge"), when("whenNotMatched", "insert"));
    call.change(|store| {
        let collection = store.make(&database, &name);
        for one in made {
            let filter: Document =
                on.iter().map(|path| (path.clone(), field(&one, path).cloned().unwrap_or(Value::Null))).collect();
            let found = numbers(collection, &filter, false, &scope)?;
            let own = found.first().and_then(|at| Some((*at, collection.at(*at).cloned()?)));
            let Some((at, own)) = own else {
                match misses.as_text() {
                    Some("discard") => {}
                    Some("fail") => {
                        return Err(Failure::new(
                            13113,
                            "MergeStageNoMatchingDocument",
                            "$merge could not find a matching document in the target collection",
                        ));
                    }
                    _ => drop(collection.insert((*one).clone(), &namespace, &scope)?),
                }
                continue;
            };
            let new = match &fits {
                Value::Array(pipeline) => {
                    let scope = scope.with(vec![("new".to_owned(), Value::Document((*one).clone()))]);
                    let made = stages::run(pipeline, vec![Arc::clone(&own)], &scope)?;
                    made.first().map_or_else(Document::new, |one| (**one).clone())
                }
                how => match how.as_text() {
                    Some("keepExisting") => continue,
                    Some("fail") => {
                        return Err(Failure::new(
                            11000,
                            "DuplicateKey",
                            "$merge found a matching document in the target collection",
                        ));
                    }
                    Some("replace") => (*one).clone(),
                    _ => {
                        let mut merged = (*own).clone();
                        one.iter().for_each(|(name, value)| set(&mut merged, name, value.clone()));
                        merged
                    }
                },
            };
            collection.replace(at, new, &namespace, &scope)?;
        }
        Ok(())
    })
}
