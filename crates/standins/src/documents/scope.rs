//! What a filter, an expression or a pipeline sees besides its documents.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use super::failure::Failure;
use super::store::Store;
use super::value::{Document, Value};

/// What surrounds what is worked out.
#[derive(Clone)]
pub struct Scope<'a> {
    /// All collections as they were when it began.
    pub store: &'a Store,
    pub database: &'a str,
    /// `$$NAME`, the later ones first.
    pub variables: Vec<(String, Value)>,
    /// The paths of the collection's index of text.
    pub text: Vec<String>,
    /// The paths of its indexes of places.
    pub places: Vec<String>,
    /// Milliseconds since 1970.
    pub now: i64,
    /// Somebody has ended it.
    pub ended: &'a AtomicBool,
}

/// A scope with the document that is looked at.
pub struct Frame<'a, 'b> {
    pub scope: &'b Scope<'a>,
    pub root: &'b [(String, Value)],
    /// `$$NAME`; nothing where what it stands for is missing.
    pub own: Vec<(String, Option<Value>)>,
}

impl<'a> Scope<'a> {
    pub fn of<'b>(&'b self, root: &'b [(String, Value)]) -> Frame<'a, 'b> {
        Frame { scope: self, root, own: Vec::new() }
    }

    /// One without indexes and variables.
    pub fn bare(store: &'a Store, database: &'a str, ended: &'a AtomicBool) -> Scope<'a> {
        let now = chrono::Utc::now().timestamp_millis();
        Scope { store, database, variables: Vec::new(), text: Vec::new(), places: Vec::new(), now, ended }
    }

    pub fn go_on(&self) -> Result<(), Failure> {
        if self.ended.load(Ordering::Relaxed) { Err(Failure::ended()) } else { Ok(()) }
    }

    /// The same with more variables.
    pub fn with(&self, variables: Vec<(String, Value)>) -> Scope<'a> {
        let mut scope = self.clone();
        scope.variables.extend(variables);
        scope
    }
}

impl<'a, 'b> Frame<'a, 'b> {
    pub fn with(&self, name: &str, value: Value) -> Frame<'a, 'b> {
        self.with_found(name, Some(value))
    }

    pub fn with_found(&self, name: &str, value: Option<Value>) -> Frame<'a, 'b> {
        let mut own = self.own.clone();
        own.push((name.to_owned(), value));
        Frame { scope: self.scope, root: self.root, own }
    }

    /// The value of `$$name`.
    pub fn variable(&self, name: &str) -> Result<Option<Value>, Failure> {
        if let Some((_, value)) = self.own.iter().rev().find(|(own, _)| own == name) {
            return Ok(value.clone());
        }
        if let Some((_, value)) = self.scope.variables.iter().rev().find(|(own, _)| own == name) {
            return Ok(Some(value.clone()));
        }
        Ok(match name {
            "ROOT" | "CURRENT" => Some(Value::Document(self.root.to_vec())),
            "NOW" => Some(Value::Date(self.scope.now)),
            "REMOVE" => None,
            _ => {
                return Err(Failure::new(17276, "Location17276", format!("Use of undefined variable: {name}")));
            }
        })
    }
}

/// Documents on their way through a pipeline.
pub type Documents = Vec<Arc<Document>>;
