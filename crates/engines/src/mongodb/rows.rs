//! Documents as rows: each top-level field is a column, in the order in which they are met.

use std::collections::HashMap;
use std::time::Instant;

use jaunty_documents::json::{self, Form};
use jaunty_documents::raw::{Element, RawDocument};
use jaunty_documents::{Malformed, decimal};
use jaunty_seam::engine::{Event, Flow, Sink};
use jaunty_seam::error::EngineError;
use jaunty_seam::rows::BATCH_DELAY;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value};

use crate::net::feed::{held, local};

/// The most rows of the first batch: about what fits on a screen.
const FIRST_BATCH: usize = 128;

/// The most fields that are columns of their own.
const MOST_COLUMNS: usize = 1000;

/// The column of all other fields.
const OTHERS: &str = "(others)";

/// Documents on their way to a sink.
pub struct Rows {
    sink: Box<dyn Sink>,
    assembler: Assembler,
    columns: HashMap<String, usize>,
    /// The type that each column began with.
    kinds: Vec<&'static str>,
    /// The fields of a document that have no column, as JSON, and the column that they are put into.
    others: String,
    column_of_others: Option<usize>,
    /// The text of what is no text, a column each.
    texts: Vec<String>,
    begun: bool,
    /// A result has begun, and nobody was told: its first rows say which columns it has.
    untold: bool,
    first: bool,
    pushed: Instant,
    flow: Flow,
    failed: Option<EngineError>,
}

/// What a column of a row holds.
#[derive(Clone, Copy)]
enum Cell<'a> {
    Nothing,
    Value(Value<'a>),
    /// In the texts, a value of this type.
    Written(&'static str),
}

impl Rows {
    pub fn new(sink: Box<dyn Sink>) -> Rows {
        Rows {
            sink,
            assembler: Assembler::new(Vec::new()),
            columns: HashMap::new(),
            kinds: Vec::new(),
            others: String::new(),
            column_of_others: None,
            texts: Vec::new(),
            begun: false,
            untold: false,
            first: true,
            pushed: Instant::now(),
            flow: Flow::Continue,
            failed: None,
        }
    }

    /// The name of a type, as the server's documentation writes it.
    pub fn type_name(element: &Element<'_>) -> &'static str {
        match element {
            Element::Double(_) => "double",
            Element::Text(_) => "string",
            Element::Document(_) => "object",
            Element::Array(_) => "array",
            Element::Binary(..) => "binData",
            Element::Undefined => "undefined",
            Element::ObjectId(_) => "objectId",
            Element::Bool(_) => "bool",
            Element::DateTime(_) => "date",
            Element::Null => "null",
            Element::Regex(..) => "regex",
            Element::Code(..) => "javascript",
            Element::Symbol(_) => "symbol",
            Element::Pointer(..) => "dbPointer",
            Element::Int32(_) => "int",
            Element::Timestamp(..) => "timestamp",
            Element::Int64(_) => "long",
            Element::Decimal(_) => "decimal",
            Element::MinKey => "minKey",
            Element::MaxKey => "maxKey",
        }
    }

    /// The result begins, if it has not: a server may say so twice, or never.
    pub fn begin(&mut self) {
        self.untold |= !std::mem::replace(&mut self.begun, true);
    }

    fn tell_columns(&mut self) {
        if std::mem::take(&mut self.untold) {
            let schema = self.assembler.schema();
            self.send(Event::Begins { schema, name: None });
        }
    }

    fn add_column(&mut self, name: &str, kind: &'static str) -> usize {
        let announced = Announced { name: name.to_owned(), db_type: kind.to_owned(), origin: None, of_documents: true };
        self.assembler.add_column(announced);
        self.texts.push(String::new());
        self.kinds.push(kind);
        self.kinds.len() - 1
    }

    /// Adds a document as a row.
    pub fn document(&mut self, document: &RawDocument<'_>) -> Result<Flow, Malformed> {
        let mut cells: Vec<Cell<'_>> = vec![Cell::Nothing; self.kinds.len()];
        for field in document.iter() {
            let (name, element) = field?;
            let column = match self.columns.get(name) {
                Some(column) => *column,
                None if self.columns.len() < MOST_COLUMNS => {
                    let column = self.add_column(name, Rows::type_name(&element));
                    self.columns.insert(name.to_owned(), column);
                    cells.resize(column + 1, Cell::Nothing);
                    column
                }
                // Where names are data, each document has others: a column for each would be without an end.
                None => {
                    self.others.push_str(if self.others.is_empty() { "{" } else { ", " });
                    json::quoted(name, &mut self.others);
                    self.others.push_str(": ");
                    json::value(&element, Form::Typed, &mut self.others);
                    continue;
                }
            };
            let text = &mut self.texts[column];
            let kind = Rows::type_name(&element);
            if self.kinds[column] == "null" {
                self.kinds[column] = kind;
            }
            let mut written = |write: &mut dyn FnMut(&mut String)| {
                text.clear();
                write(text);
                Cell::Written(kind)
            };
            let cell = match element {
                Element::Null | Element::Undefined => Cell::Value(Value::Null),
                // Whole numbers of both sizes in one column: the others say which they are, where that is not seen.
                Element::Int32(value) if self.kinds[column] == "long" => {
                    written(&mut |text| text.push_str(&value.to_string()))
                }
                Element::Int64(value) if self.kinds[column] != "long" && i32::try_from(value).is_ok() => {
                    written(&mut |text| text.push_str(&value.to_string()))
                }
                Element::Int32(value) => Cell::Value(Value::Int(value.into())),
                Element::Int64(value) => Cell::Value(Value::Int(value)),
                Element::Double(value) => Cell::Value(Value::Real(value)),
                Element::Text(value) => Cell::Value(Value::Text(value)),
                Element::Binary(0, bytes) => Cell::Value(Value::Bytes(bytes)),
                Element::Bool(value) => Cell::Value(Value::Typed("bool", if value { "true" } else { "false" })),
                Element::ObjectId(id) => written(&mut |text| text.push_str(&json::hex(&id))),
                Element::DateTime(millis) => written(&mut |text| text.push_str(&json::moment(millis))),
                Element::Decimal(bytes) => written(&mut |text| text.push_str(&decimal::text(bytes))),
                other => written(&mut |text| json::value(&other, Form::Typed, text)),
            };
            cells[column] = cell;
        }
        if !self.others.is_empty() {
            self.others.push('}');
            let known = self.column_of_others;
            let column = known.unwrap_or_else(|| self.add_column(OTHERS, "object"));
            self.column_of_others = Some(column);
            cells.resize(cells.len().max(column + 1), Cell::Nothing);
            cells[column] = Cell::Written("object");
            std::mem::swap(&mut self.texts[column], &mut self.others);
            self.others.clear();
        }
        let texts = &self.texts;
        let pushed = self.assembler.push_row(|column| match cells.get(column) {
            Some(Cell::Value(value)) => *value,
            Some(Cell::Written(kind)) => Value::Typed(kind, texts.get(column).map_or("", String::as_str)),
            _ => Value::Null,
        });
        let full = match pushed {
            Ok(full) => full,
            Err(error) => {
                self.failed.get_or_insert(local(&error));
                self.flow = Flow::Stop;
                return Ok(self.flow);
            }
        };
        if full || (self.first && self.assembler.rows() >= FIRST_BATCH) {
            self.push();
        }
        Ok(self.flow)
    }

    /// Called while the server lets us wait.
    pub fn look(&mut self) -> Flow {
        if self.assembler.rows() > 0 && (self.first || self.pushed.elapsed() >= BATCH_DELAY) {
            self.push();
        }
        if self.flow == Flow::Continue {
            self.flow = self.sink.wanted();
        }
        self.flow
    }

    /// A batch has come, and there are more: the first documents are shown at once.
    pub fn came(&mut self) {
        if self.first {
            self.push();
        }
    }

    pub fn flow(&self) -> Flow {
        self.flow
    }

    /// Nothing more is wanted.
    pub fn stop(&mut self) {
        self.flow = Flow::Stop;
    }

    /// The result is whole.
    pub fn ends(&mut self, affected: Option<u64>) {
        self.push();
        self.tell_columns();
        self.send(Event::Ends { affected });
    }

    pub fn push(&mut self) {
        self.pushed = Instant::now();
        if self.assembler.rows() == 0 {
            return;
        }
        self.first = false;
        self.tell_columns();
        match self.assembler.take() {
            Ok(batch) => self.send(Event::Rows(batch)),
            Err(error) => {
                self.failed.get_or_insert(local(&error));
                self.flow = Flow::Stop;
            }
        }
    }

    fn send(&mut self, event: Event) {
        if self.flow == Flow::Continue {
            self.flow = held(self.sink.as_mut(), event);
        }
    }

    /// How it ended, as far as the rows know; `outcome` is what the server says.
    pub fn end(mut self, outcome: Result<(), EngineError>) -> Result<(), EngineError> {
        self.push();
        match (self.failed, self.flow, outcome) {
            (Some(error), ..) => Err(error),
            (None, _, Err(error)) if error.kind == jaunty_seam::error::ErrorKind::Lost => Err(error),
            (None, Flow::Stop, _) => Err(EngineError::stopped()),
            (None, _, outcome) => outcome,
        }
    }
}
