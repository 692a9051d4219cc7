//! Cursors: documents that a client takes a batch at a time.

use std::sync::Arc;

use super::failure::Failure;
use super::matching;
use super::scope::Scope;
use super::stages::{SCORE, project};
use super::store::{Collection, Store};
use super::value::{Document, Value, document};

/// A batch has at most so many bytes.
const BATCH: usize = 16 << 20;

/// How many documents come with the first reply.
pub const FIRST: usize = 101;

/// A cursor.
pub struct Cursor {
    pub database: String,
    pub collection: String,
    pub documents: Source,
}

/// Where documents come from.
pub enum Source {
    /// All of them are known.
    Ready(std::vec::IntoIter<Arc<Document>>),
    /// They are looked for as they are taken.
    Scan(Box<Scan>),
    /// They never end: each has the next number.
    Endless(i64),
}

/// A search that goes on.
pub struct Scan {
    pub store: Arc<Store>,
    pub collection: Arc<Collection>,
    pub numbers: std::vec::IntoIter<u64>,
    pub filter: Document,
    pub projection: Document,
    pub skip: usize,
    pub limit: usize,
    pub variables: Vec<(String, Value)>,
}

/// The bytes of a value, nearly.
fn size(value: &Value) -> usize {
    match value {
        Value::Text(text) | Value::Code(text) => text.len() + 5,
        Value::Document(fields) => fields.iter().map(|(name, value)| name.len() + 2 + size(value)).sum::<usize>() + 5,
        Value::Array(values) => values.iter().map(|value| size(value) + 6).sum::<usize>() + 5,
        Value::Binary(_, bytes) => bytes.len() + 5,
        Value::Regex(pattern, options) => pattern.len() + options.len() + 2,
        _ => 16,
    }
}

/// A document as it goes out: without what only we know of it.
pub fn shown(document: &Document) -> Value {
    Value::Document(document.iter().filter(|(name, _)| name != SCORE).cloned().collect())
}

impl Source {
    fn next(&mut self, scope: &Scope<'_>) -> Result<Option<Arc<Document>>, Failure> {
        match self {
            Source::Ready(all) => Ok(all.next()),
            Source::Endless(number) => {
                scope.go_on()?;
                *number += 1;
                Ok(Some(Arc::new(document([("_id", Value::Long(*number))]))))
            }
            Source::Scan(scan) => {
                if scan.limit == 0 {
                    return Ok(None);
                }
                let scope = Scope { store: &scan.store, variables: scan.variables.clone(), ..scope.clone() };
                let scope = Scope { text: scan.collection.paths_of(&["text"]), ..scope };
                for number in scan.numbers.by_ref() {
                    scope.go_on()?;
                    let Some(one) = scan.collection.at(number) else { continue };
                    if !matching::fits(&scan.filter, one, &scope)? {
                        continue;
                    }
                    if scan.skip > 0 {
                        scan.skip -= 1;
                        continue;
                    }
                    scan.limit -= 1;
                    return Ok(Some(if scan.projection.is_empty() {
                        Arc::clone(one)
                    } else {
                        Arc::new(project(&scan.projection, one, &scope)?)
                    }));
                }
                Ok(None)
            }
        }
    }

    /// The next batch, and whether it is the last.
    pub fn batch(&mut self, most: usize, scope: &Scope<'_>) -> Result<(Vec<Value>, bool), Failure> {
        let (mut batch, mut bytes) = (Vec::new(), 0);
        while batch.len() < most && bytes < BATCH {
            let Some(one) = self.next(scope)? else { return Ok((batch, true)) };
            let one = shown(&one);
            bytes += size(&one);
            batch.push(one);
        }
        let over = match self {
            Source::Ready(all) => all.len() == 0,
            Source::Scan(scan) => scan.limit == 0,
            Source::Endless(_) => false,
        };
        Ok((batch, over))
    }
}
