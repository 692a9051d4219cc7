//! Rows that are objects of JSON.

use std::collections::HashSet;
use std::io::{BufRead, BufReader, Read};
use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::builder::StringBuilder;
use arrow_buffer::BooleanBufferBuilder;
use serde::de::{Deserialize, Deserializer, Error, MapAccess, Visitor};
use serde_json::error::Category;
use serde_json::value::RawValue;

use super::{Block, ROWS, Rows, batch, text_schema};
use crate::import::ImportError;
use crate::import::csv::LONGEST;
use crate::import::refused::Bad;

/// An object: its fields in their order, as texts; none where it is null. A text is without its quotation marks, and any
/// other value as it is written, since a number may have more digits than any type of ours.
struct Object(Vec<ObjectField>);

/// A field of an object.
struct ObjectField {
    name: String,
    /// None where it is null.
    text: Option<String>,
    /// Whether it stands in quotation marks.
    is_quoted: bool,
}

impl<'de> Deserialize<'de> for Object {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Object, D::Error> {
        struct Fields;
        impl<'de> Visitor<'de> for Fields {
            type Value = Object;

            fn expecting(&self, text: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                text.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Object, A::Error> {
                let (mut fields, mut names) = (Vec::new(), HashSet::new());
                while let Some((name, value)) = map.next_entry::<String, &RawValue>()? {
                    // Which of them counts is not said anywhere.
                    if !names.insert(name.clone()) {
                        return Err(A::Error::custom(format_args!("{OWN}the field \"{name}\" stands there twice")));
                    }
                    let is_quoted = value.get().starts_with('"');
                    let text = match value.get() {
                        "null" => None,
                        // Half of a pair of surrogates is no text.
                        text if is_quoted => Some(serde_json::from_str(text).map_err(|error| {
                            A::Error::custom(format_args!("{OWN}the field \"{name}\" is not a text: {error}"))
                        })?),
                        other => Some(other.to_owned()),
                    };
                    fields.push(ObjectField { name, text, is_quoted });
                }
                Ok(Object(fields))
            }
        }
        deserializer.deserialize_map(Fields)
    }
}

impl Object {
    /// A field. Objects of a file mostly have the same fields in the same order, so it is looked for at `at` first.
    fn field(&self, at: usize, name: &str) -> Option<&ObjectField> {
        let is_it = |field: &&ObjectField| field.name == name;
        self.0.get(at).filter(is_it).or_else(|| self.0.iter().find(is_it))
    }
}

/// What a message of our own begins with.
const OWN: &str = "own: ";

/// Why a text is not an object.
fn reason(text: &str, error: &serde_json::Error) -> String {
    let said = error.to_string();
    // Where in the line it is stands at the end, once for each reader.
    let bare = |said: &str| said.split(" at line ").next().unwrap_or_default().to_owned();
    if let Some(own) = said.strip_prefix(OWN) {
        return bare(own);
    }
    let what = match text.trim_start().chars().next() {
        Some('[') => "a list",
        Some('"') => "a text",
        Some('t' | 'f') => "true or false",
        Some('n') => "null",
        _ => "a number",
    };
    match error.classify() {
        Category::Data => format!("{what}, and not an object of JSON"),
        Category::Eof => "the object of JSON ends too early".to_owned(),
        Category::Syntax | Category::Io => {
            format!("not JSON from character {} on: {}", error.column(), bare(&said))
        }
    }
}

/// Objects of JSON. Their columns are those of the first thousands; a row with others is a bad one.
pub(super) struct JsonRows {
    objects: Box<dyn Iterator<Item = Result<(u64, String), ImportError>> + Send>,
    names: Vec<String>,
    /// For each column whether a value of it stood in quotation marks.
    quoted: Vec<bool>,
    /// Whether the columns are known: of the first block they are all that it has.
    known: bool,
}

impl JsonRows {
    pub fn lines(text: Box<dyn Read + Send>) -> JsonRows {
        let mut reader = BufReader::with_capacity(256 << 10, text);
        let mut number = 0;
        let objects = std::iter::from_fn(move || {
            loop {
                let mut line = Vec::new();
                let read = (&mut reader).take(LONGEST as u64 + 1).read_until(b'\n', &mut line);
                number += 1;
                match read {
                    Ok(0) => return None,
                    Ok(_) if line.len() > LONGEST => {
                        return Some(Err(ImportError::Malformed(format!("line {number} is longer than 64 MiB"))));
                    }
                    Ok(_) if line.iter().all(u8::is_ascii_whitespace) => {}
                    Ok(_) => return Some(Ok((number, String::from_utf8_lossy(&line).into_owned()))),
                    Err(error) => return Some(Err(ImportError::Malformed(format!("line {number}: {error}")))),
                }
            }
        });
        JsonRows { objects: Box::new(objects), names: Vec::new(), quoted: Vec::new(), known: false }
    }

    /// Of an array the elements are taken apart one by one.
    pub fn array(text: Box<dyn Read + Send>) -> Result<JsonRows, ImportError> {
        let mut bytes = BufReader::with_capacity(256 << 10, text).bytes();
        let opened = bytes.by_ref().find(|byte| byte.as_ref().map_or(true, |byte| !byte.is_ascii_whitespace()));
        if !matches!(opened, Some(Ok(b'['))) {
            return Err(ImportError::Malformed(
                "a JSON file of rows is an array of objects; one object a line is jsonl".into(),
            ));
        }
        let mut number = 0;
        let objects = std::iter::from_fn(move || {
            let (mut depth, mut in_text, mut escaped, mut element) = (0_usize, false, false, Vec::new());
            for byte in bytes.by_ref() {
                let byte = match byte {
                    Ok(byte) => byte,
                    Err(error) => return Some(Err(ImportError::Malformed(error.to_string()))),
                };
                match byte {
                    _ if in_text => {
                        in_text = escaped || byte != b'"';
                        escaped = !escaped && byte == b'\\';
                    }
                    b'"' => in_text = true,
                    b'{' | b'[' => depth += 1,
                    b'}' | b']' if depth > 0 => depth -= 1,
                    b',' | b']' if depth == 0 => {
                        if element.iter().all(u8::is_ascii_whitespace) {
                            if byte == b']' {
                                return None;
                            }
                            continue;
                        }
                        number += 1;
                        return Some(Ok((number, String::from_utf8_lossy(&element).into_owned())));
                    }
                    _ => {}
                }
                element.push(byte);
                if element.len() > LONGEST {
                    return Some(Err(ImportError::Malformed(format!("row {} is longer than 64 MiB", number + 1))));
                }
            }
            let ends = element.iter().all(u8::is_ascii_whitespace);
            (!ends).then(|| Err(ImportError::Malformed("the file ends in the middle of a row".into())))
        });
        Ok(JsonRows { objects: Box::new(objects), names: Vec::new(), quoted: Vec::new(), known: false })
    }
}

impl Rows for JsonRows {
    fn next(&mut self) -> Result<Option<Block>, ImportError> {
        let (mut objects, mut bad) = (Vec::new(), Vec::new());
        let mut bytes = 0;
        while objects.len() + bad.len() < ROWS && bytes < 16 << 20 {
            let Some((line, text)) = self.objects.next().transpose()? else { break };
            bytes += text.len();
            match serde_json::from_str::<Object>(&text) {
                Ok(object) => {
                    if !self.known {
                        for ObjectField { name, .. } in &object.0 {
                            if !self.names.contains(name) {
                                self.names.push(name.clone());
                            }
                        }
                    }
                    let is_known =
                        |at: usize, name: &String| self.names.get(at) == Some(name) || self.names.contains(name);
                    match object.0.iter().enumerate().find(|(at, field)| !is_known(*at, &field.name)) {
                        Some((_, ObjectField { name, .. })) => {
                            let reason = format!("a field \"{name}\" that the rows before do not have");
                            bad.push(Bad { line, reason, fields: vec![text.trim_end().to_owned()] });
                        }
                        None => objects.push((line, object)),
                    }
                }
                Err(error) => {
                    let reason = reason(&text, &error);
                    bad.push(Bad { line, reason, fields: vec![text.trim_end().to_owned()] });
                }
            }
        }
        self.known = true;
        if objects.is_empty() && bad.is_empty() {
            return Ok(None);
        }
        self.quoted.resize(self.names.len(), false);
        let column = |(at, name): (usize, &String)| {
            let (mut column, mut quoted) = (StringBuilder::new(), BooleanBufferBuilder::new(objects.len()));
            for (_, object) in &objects {
                let field = object.field(at, name);
                quoted.append(field.is_some_and(|field| field.is_quoted));
                column.append_option(field.and_then(|field| field.text.as_deref()));
            }
            (Arc::new(column.finish()) as ArrayRef, quoted.finish())
        };
        let (arrays, quoted): (Vec<ArrayRef>, Vec<_>) = self.names.iter().enumerate().map(column).unzip();
        for (known, quoted) in self.quoted.iter_mut().zip(&quoted) {
            *known |= quoted.count_set_bits() > 0;
        }
        let rows = batch(text_schema(&self.names), arrays, objects.len())?;
        let lines = objects.into_iter().map(|(line, _)| line).collect();
        Ok(Some(Block { rows, lines, bad, quoted }))
    }

    fn are_texts(&self, column: usize) -> bool {
        self.quoted.get(column).is_some_and(|quoted| *quoted)
    }
}
