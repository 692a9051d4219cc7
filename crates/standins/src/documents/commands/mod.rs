//! The commands of the server ("Database Commands").

mod admin;
mod explain;
mod read;
mod write;

use std::sync::Arc;

use super::failure::Failure;
use super::scope::Scope;
use super::session::Call;
use super::store::{Collection, Index, Store};
use super::value::{Document, Value, document, field};
use crate::held;

pub use admin::index_of;

/// Commands that change something.
const WRITES: &[&str] = &[
    "insert",
    "update",
    "delete",
    "findAndModify",
    "findandmodify",
    "create",
    "drop",
    "dropDatabase",
    "createIndexes",
    "dropIndexes",
    "collMod",
    "renameCollection",
];

/// Carries out a command.
pub fn run(name: &str, command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    if !call.session.is_primary() {
        if WRITES.contains(&name) {
            return Err(Failure::not_primary());
        }
        let secondary = field(command, "$readPreference").and_then(Value::as_document);
        let secondary = secondary.and_then(|wish| field(wish, "mode")).and_then(Value::as_text);
        if matches!(name, "find" | "aggregate" | "count" | "distinct") && secondary.is_none_or(|mode| mode == "primary")
        {
            return Err(Failure::new(13435, "NotPrimaryNoSecondaryOk", "not primary and secondaryOk=false"));
        }
    }
    match name {
        "find" => read::find(command, call),
        "getMore" => read::get_more(command, call),
        "killCursors" => read::kill_cursors(command, call),
        "aggregate" => read::aggregate(command, call),
        "count" => read::count(command, call),
        "distinct" => read::distinct(command, call),
        "explain" => explain::explain(command, call),
        "insert" => write::insert(command, call),
        "update" => write::update(command, call),
        "delete" => write::delete(command, call),
        "findAndModify" | "findandmodify" => write::find_and_modify(command, call),
        _ => admin::run(name, command, call),
    }
}

/// The name of the collection that a command is about.
fn target(command: &Document) -> Result<String, Failure> {
    let (name, value) = command.first().ok_or_else(|| Failure::bad("an empty command"))?;
    match value.as_text() {
        Some(text) if !text.is_empty() => Ok(text.to_owned()),
        _ => {
            Err(Failure::new(73, "InvalidNamespace", format!("collection name has invalid type or is empty in {name}")))
        }
    }
}

fn document_of(command: &[(String, Value)], name: &str) -> Document {
    field(command, name).and_then(Value::as_document).cloned().unwrap_or_default()
}

fn whole_of(command: &[(String, Value)], name: &str) -> Result<Option<i64>, Failure> {
    match field(command, name) {
        None | Some(Value::Null) => Ok(None),
        Some(value) => value.as_i64().map(Some).ok_or_else(|| {
            Failure::type_of(format!("BSON field '{name}' is the wrong type '{}', expected a number", value.kind()))
        }),
    }
}

impl Call<'_> {
    /// All collections as they are now.
    fn store(&self) -> Arc<Store> {
        match &self.transaction {
            Some(open) => Arc::clone(&open.borrow().own),
            None => Arc::clone(&held(&self.session.shared.store)),
        }
    }

    /// Changes the store; if that fails, what was changed before stays.
    fn change<T>(&self, change: impl FnOnce(&mut Store) -> Result<T, Failure>) -> Result<T, Failure> {
        match &self.transaction {
            Some(open) => change(Arc::make_mut(&mut open.borrow_mut().own)),
            None => change(Arc::make_mut(&mut held(&self.session.shared.store))),
        }
    }

    fn scope<'a>(&'a self, store: &'a Store, collection: Option<&Collection>) -> Scope<'a> {
        let mut scope = Scope::bare(store, &self.database, &self.ended);
        if let Some(collection) = collection {
            scope.text = collection.paths_of(&["text"]);
            scope.places = collection.paths_of(&["2dsphere", "2d"]);
        }
        scope
    }

    fn namespace(&self, collection: &str) -> String {
        format!("{}.{collection}", self.database)
    }
}

/// An index of a new collection, as others are.
fn described(index: &Index) -> Document {
    let mut made = document([
        ("v", Value::Int(2)),
        ("key", Value::Document(index.keys.clone())),
        ("name", Value::text(&*index.name)),
    ]);
    made.extend(index.options.iter().cloned());
    made
}
