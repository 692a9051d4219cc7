//! Commands about collections, indexes, databases, and what runs.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use super::super::cursor::Source;
use super::super::failure::Failure;
use super::super::scope::Documents;
use super::super::session::Call;
use super::super::store::{Collection, Index};
use super::super::value::{Document, Value, document, field};
use super::super::{Operation, bson};
use super::read::opened;
use super::{described, document_of, target, whole_of};
use crate::held;

/// An index as `createIndexes` describes it.
pub fn index_of(described: &Document) -> Result<Index, Failure> {
    let keys = field(described, "key").and_then(Value::as_document).filter(|keys| !keys.is_empty());
    let keys = keys.ok_or_else(|| Failure::new(67, "CannotCreateIndex", "Index keys cannot be an empty object."))?;
    for (path, way) in keys {
        let fine = match way {
            Value::Text(kind) => ["text", "2dsphere", "2d", "hashed"].contains(&kind.as_str()),
            way => way.as_f64().is_some_and(|way| way != 0.0),
        };
        if !fine {
            return Err(Failure::new(
                67,
                "CannotCreateIndex",
                format!("Values in v:2 index key pattern cannot be of this type, or unknown index plugin: {path}"),
            ));
        }
    }
    let usual = || {
        let part = |(path, way): &(String, Value)| match way {
            Value::Text(kind) => format!("{path}_{kind}"),
            way => format!("{path}_{}", way.as_f64().unwrap_or(1.0)),
        };
        keys.iter().map(part).collect::<Vec<_>>().join("_")
    };
    let name = field(described, "name").and_then(Value::as_text).map_or_else(usual, str::to_owned);
    let options = described.iter().filter(|(name, _)| !matches!(name.as_str(), "v" | "key" | "name")).cloned();
    Ok(Index::new(&name, keys.clone(), options.collect()))
}

fn made(store: &mut super::Store, call: &Call<'_>, name: &str, described: &[Value]) -> Result<Document, Failure> {
    let there = store.collection(&call.database, name).is_some();
    let namespace = call.namespace(name);
    let collection = store.make(&call.database, name);
    if collection.view().is_some() {
        return Err(Failure::new(
            166,
            "CommandNotSupportedOnView",
            format!("Namespace {namespace} is a view, not a collection"),
        ));
    }
    let before = collection.indexes.len();
    for one in described {
        let new = index_of(one.as_document().ok_or_else(|| Failure::type_of("an index is an object"))?)?;
        let same = collection.indexes.iter().find(|own| own.name == new.name);
        let alike = |own: &&Index| Value::Document(own.keys.clone()) == Value::Document(new.keys.clone());
        match same {
            Some(own) if alike(&own) => continue,
            Some(_) => {
                let what = format!(
                    "An existing index has the same name as the requested index. Requested index: {}",
                    new.name
                );
                return Err(Failure::new(86, "IndexKeySpecsConflict", what));
            }
            None if collection.indexes.iter().any(|own| alike(&own) && own.name != "_id_") => {
                return Err(Failure::new(85, "IndexOptionsConflict", "Index already exists with a different name"));
            }
            None => {}
        }
        let texts = |index: &Index| index.keys.iter().any(|(_, way)| way.as_text() == Some("text"));
        if texts(&new) && collection.indexes.iter().any(texts) {
            return Err(Failure::new(85, "IndexOptionsConflict", "only one text index per collection allowed"));
        }
        collection.add_index(new, &namespace)?;
    }
    Ok(document([
        ("numIndexesBefore", Value::whole(before as i64)),
        ("numIndexesAfter", Value::whole(collection.indexes.len() as i64)),
        ("createdCollectionAutomatically", Value::Bool(!there)),
    ]))
}

fn bytes_of(collection: &Collection) -> i64 {
    let mut bytes = Vec::new();
    let mut all = 0;
    for one in collection.all() {
        bytes.clear();
        bson::write(one, &mut bytes);
        all += bytes.len() as i64;
    }
    all
}

fn figures(name: String, collection: &Collection) -> Document {
    let (bytes, count) = (bytes_of(collection), collection.len() as i64);
    document([
        ("ns", Value::Text(name)),
        ("size", Value::whole(bytes)),
        ("count", Value::whole(count)),
        ("avgObjSize", Value::whole(if count == 0 { 0 } else { bytes / count })),
        ("storageSize", Value::whole(bytes)),
        ("capped", Value::Bool(field(&collection.options, "capped").is_some_and(Value::holds))),
        ("nindexes", Value::whole(collection.indexes.len() as i64)),
        ("totalIndexSize", Value::whole(count * 24 * collection.indexes.len() as i64)),
        ("totalSize", Value::whole(bytes)),
    ])
}

/// What runs, as `currentOp` tells it.
fn running(id: i32, operation: &Operation) -> Document {
    let command = operation.command.iter().take(8).filter(|(name, _)| name != "lsid").cloned().collect();
    let collection = operation.command.first().and_then(|(_, value)| value.as_text()).unwrap_or("$cmd");
    document([
        ("type", Value::text("op")),
        ("host", Value::text("127.0.0.1")),
        ("connectionId", Value::Int(operation.connection)),
        ("active", Value::Bool(true)),
        ("opid", Value::Int(id)),
        ("secs_running", Value::Long(operation.since.elapsed().as_secs() as i64)),
        ("microsecs_running", Value::Long(operation.since.elapsed().as_micros() as i64)),
        ("op", Value::text("command")),
        ("ns", Value::Text(format!("{}.{collection}", operation.database))),
        ("command", Value::Document(command)),
    ])
}

/// The documents of a first stage that looks at none of the collection's: figures, or what runs.
pub fn first_stage(name: &str, pipeline: &[Value], call: &Call<'_>) -> Result<Option<Documents>, Failure> {
    let Some((stage, argument)) = pipeline.first().and_then(Value::as_document).and_then(|stage| stage.first()) else {
        return Ok(None);
    };
    let store = call.store();
    let missing = || {
        let what = format!("Collection [{}] not found", call.namespace(name));
        Failure::new(26, "NamespaceNotFound", what)
    };
    Ok(Some(match stage.as_str() {
        "$currentOp" => {
            let shared = &call.session.shared;
            held(&shared.operations).iter().map(|(id, own)| Arc::new(running(*id, own))).collect()
        }
        "$indexStats" => {
            let collection = store.collection(&call.database, name).ok_or_else(missing)?;
            let one = |index: &Index| {
                let accesses = document([("ops", Value::Long(index.uses.load(Ordering::Relaxed) as i64))]);
                Arc::new(document([
                    ("name", Value::text(&*index.name)),
                    ("key", Value::Document(index.keys.clone())),
                    ("accesses", Value::Document(accesses)),
                    ("spec", Value::Document(described(index))),
                ]))
            };
            collection.indexes.iter().map(one).collect()
        }
        "$collStats" => {
            let collection = store.collection(&call.database, name).ok_or_else(missing)?;
            let mut made = document([("ns", Value::Text(call.namespace(name)))]);
            if argument.as_document().is_some_and(|wanted| field(wanted, "storageStats").is_some()) {
                let figures = figures(call.namespace(name), collection);
                made.push(("storageStats".to_owned(), Value::Document(figures)));
            }
            made.push(("count".to_owned(), Value::whole(collection.len() as i64)));
            vec![Arc::new(made)]
        }
        // The documents that the stage has itself.
        "$documents" => super::super::stages::run(&pipeline[..1], Documents::new(), &call.scope(&store, None))?,
        _ => return Ok(None),
    }))
}

fn listed(all: Vec<Document>, name: &str, call: &Call<'_>) -> Result<Document, Failure> {
    let all: Documents = all.into_iter().map(Arc::new).collect();
    opened(Source::Ready(all.into_iter()), name, None, call)
}

fn missing(what: &str) -> Failure {
    Failure::new(26, "NamespaceNotFound", what)
}

pub fn run(name: &str, command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let store = call.store();
    let shared = Arc::clone(&call.session.shared);
    match name {
        "ping" | "endSessions" | "startSession" | "refreshSessions" => Ok(Document::new()),
        "buildInfo" | "buildinfo" => Ok(document([
            ("version", Value::text("8.0.0")),
            ("versionArray", Value::Array([8, 0, 0, 0].map(Value::Int).to_vec())),
            ("modules", Value::Array(vec![Value::text("jaunty-standins")])),
            ("bits", Value::Int(64)),
            ("maxBsonObjectSize", Value::Int(16 << 20)),
        ])),
        "whatsmyuri" => Ok(document([("you", Value::text("127.0.0.1"))])),
        "listDatabases" => {
            let only = field(command, "nameOnly").is_some_and(Value::holds);
            let one = |name: &str| {
                let mut one = document([("name", Value::text(name))]);
                if !only {
                    let size = store.of_database(name).map(|(_, own)| bytes_of(own)).sum();
                    one.extend(document([("sizeOnDisk", Value::Long(size)), ("empty", Value::Bool(false))]));
                }
                Value::Document(one)
            };
            Ok(document([("databases", Value::Array(store.databases().into_iter().map(one).collect()))]))
        }
        "listCollections" => {
            let filter = document_of(command, "filter");
            let scope = call.scope(&store, None);
            let mut all = Vec::new();
            for (name, collection) in store.of_database(&call.database) {
                let mut one = document([
                    ("name", Value::text(name)),
                    ("type", Value::text(collection.kind())),
                    ("options", Value::Document(collection.options.clone())),
                    ("info", Value::Document(document([("readOnly", Value::Bool(collection.view().is_some()))]))),
                ]);
                if let Some(index) = collection.indexes.first() {
                    one.push(("idIndex".to_owned(), Value::Document(described(index))));
                }
                if super::super::matching::fits(&filter, &one, &scope)? {
                    all.push(one);
                }
            }
            listed(all, "$cmd.listCollections", call)
        }
        "listIndexes" => {
            let name = target(command)?;
            let collection = store.collection(&call.database, &name);
            let collection =
                collection.ok_or_else(|| missing(&format!("ns does not exist: {}", call.namespace(&name))))?;
            listed(collection.indexes.iter().map(described).collect(), &name, call)
        }
        "create" => {
            let name = target(command)?;
            if store.collection(&call.database, &name).is_some() {
                let what = format!("Collection {} already exists.", call.namespace(&name));
                return Err(Failure::new(48, "NamespaceExists", what));
            }
            let known = |name: &str| {
                matches!(
                    name,
                    "capped"
                        | "size"
                        | "max"
                        | "validator"
                        | "validationLevel"
                        | "validationAction"
                        | "viewOn"
                        | "pipeline"
                        | "timeseries"
                        | "expireAfterSeconds"
                        | "collation"
                        | "comment"
                )
            };
            let options: Document = command.iter().filter(|(name, _)| known(name)).cloned().collect();
            call.change(|store| {
                store.put(&call.database, &name, Collection::new(options));
                Ok(Document::new())
            })
        }
        "collMod" => {
            let name = target(command)?;
            if store.collection(&call.database, &name).is_none() {
                return Err(missing("ns does not exist"));
            }
            call.change(|store| {
                let own = store.make(&call.database, &name);
                for (option, value) in command.iter().filter(|(name, _)| {
                    matches!(
                        name.as_str(),
                        "validator" | "validationLevel" | "validationAction" | "viewOn" | "pipeline"
                    )
                }) {
                    super::super::value::set(&mut own.options, option, value.clone());
                }
                Ok(Document::new())
            })
        }
        "drop" => {
            let name = target(command)?;
            let gone = call.change(|store| Ok(store.remove(&call.database, &name)))?;
            let gone = gone.ok_or_else(|| missing("ns not found"))?;
            Ok(document([
                ("nIndexesWas", Value::whole(gone.indexes.len() as i64)),
                ("ns", Value::Text(call.namespace(&name))),
            ]))
        }
        "dropDatabase" => {
            call.change(|store| {
                store.remove_database(&call.database);
                Ok(())
            })?;
            Ok(document([("dropped", Value::text(&*call.database))]))
        }
        "createIndexes" => {
            let name = target(command)?;
            let described = field(command, "indexes").and_then(Value::as_array).unwrap_or_default();
            if described.is_empty() {
                return Err(Failure::bad("Must specify at least one index to create"));
            }
            call.change(|store| made(store, call, &name, described))
        }
        "dropIndexes" => {
            let name = target(command)?;
            if store.collection(&call.database, &name).is_none() {
                return Err(missing(&format!("ns not found {}", call.namespace(&name))));
            }
            call.change(|store| {
                let own = store.make(&call.database, &name);
                let before = own.indexes.len();
                match field(command, "index") {
                    Some(Value::Text(wanted)) if wanted == "*" => own.indexes.truncate(1),
                    Some(Value::Text(wanted)) if wanted == "_id_" => {
                        return Err(Failure::new(72, "InvalidOptions", "cannot drop _id index"));
                    }
                    Some(wanted) => {
                        own.indexes.retain(|index| match wanted {
                            Value::Text(name) => index.name != *name,
                            keys => Value::Document(index.keys.clone()) != *keys || index.name == "_id_",
                        });
                        if own.indexes.len() == before {
                            let name = wanted.as_text().unwrap_or("of these keys");
                            return Err(Failure::new(
                                27,
                                "IndexNotFound",
                                format!("index not found with name [{name}]"),
                            ));
                        }
                    }
                    None => return Err(Failure::bad("dropIndexes needs an index")),
                }
                Ok(document([("nIndexesWas", Value::whole(before as i64))]))
            })
        }
        "renameCollection" => {
            let parts =
                |name: &str| field(command, name).and_then(Value::as_text).and_then(|whole| whole.split_once('.'));
            let from = parts("renameCollection").ok_or_else(|| missing("source namespace does not exist"))?;
            let to = parts("to").ok_or_else(|| Failure::new(73, "InvalidNamespace", "Invalid target namespace"))?;
            if store.collection(to.0, to.1).is_some() && !field(command, "dropTarget").is_some_and(Value::holds) {
                return Err(Failure::new(48, "NamespaceExists", "target namespace exists"));
            }
            call.change(|store| {
                let own = store.remove(from.0, from.1).ok_or_else(|| missing("source namespace does not exist"))?;
                store.put(to.0, to.1, (*own).clone());
                Ok(Document::new())
            })
        }
        "collStats" | "collstats" => {
            let name = target(command)?;
            Ok(store
                .collection(&call.database, &name)
                .map_or_else(Document::new, |own| figures(call.namespace(&name), own)))
        }
        "dbStats" | "dbstats" => {
            let all: Vec<&Collection> = store.of_database(&call.database).map(|(_, own)| own).collect();
            Ok(document([
                ("db", Value::text(&*call.database)),
                ("collections", Value::whole(all.len() as i64)),
                ("objects", Value::whole(all.iter().map(|own| own.len() as i64).sum())),
                ("dataSize", Value::whole(all.iter().map(|own| bytes_of(own)).sum())),
                ("indexes", Value::whole(all.iter().map(|own| own.indexes.len() as i64).sum())),
            ]))
        }
        "serverStatus" => Ok(document([
            ("host", Value::text("127.0.0.1")),
            ("version", Value::text("8.0.0")),
            ("process", Value::text("jaunty-standins")),
            ("uptime", Value::Double(shared.since.elapsed().as_secs_f64())),
            ("connections", Value::Document(document([("current", Value::whole(held(&shared.streams).len() as i64))]))),
        ])),
        "currentOp" => {
            let own = whole_of(command, "connectionId")?;
            let operations = held(&shared.operations);
            let all = operations.iter().filter(|(_, one)| own.is_none_or(|own| own == i64::from(one.connection)));
            let all = all.map(|(id, one)| Value::Document(running(*id, one))).collect();
            Ok(document([("inprog", Value::Array(all))]))
        }
        "killOp" => {
            let id = whole_of(command, "op")?.ok_or_else(|| Failure::parse("Did not provide \"op\" field"))?;
            if let Some(operation) = i32::try_from(id)
                .ok()
                .and_then(|id| held(&shared.operations).get(&id).map(|own| Arc::clone(&own.ended)))
            {
                operation.store(true, Ordering::Relaxed);
            }
            Ok(document([("info", Value::text("attempting to kill op"))]))
        }
        "configureFailPoint" => {
            shared.set_fail_point(command);
            Ok(Document::new())
        }
        "replSetStepDown" => {
            if shared.options.replica_set.is_none() {
                return Err(Failure::new(76, "NoReplicationEnabled", "not running with --replSet"));
            }
            if !call.session.is_primary() {
                return Err(Failure::new(10107, "NotWritablePrimary", "not primary so can't step down"));
            }
            let next = (call.session.member + 1) % shared.members.len();
            shared.primary.store(next, Ordering::SeqCst);
            Ok(Document::new())
        }
        "validate" => {
            let name = target(command)?;
            let own = store
                .collection(&call.database, &name)
                .ok_or_else(|| missing("Collection does not exist to validate."))?;
            Ok(document([
                ("ns", Value::Text(call.namespace(&name))),
                ("nrecords", Value::whole(own.len() as i64)),
                ("valid", Value::Bool(true)),
            ]))
        }
        other => Err(Failure::new(59, "CommandNotFound", format!("no such command: '{other}'"))),
    }
}
