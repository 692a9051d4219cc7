//! An HTML document with one table a result, for a browser or a mail.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::Schema;

use super::{ExportError, Exporter};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

const HEAD: &str = "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>Rows</title>\n<style>\ntable { border-collapse: collapse; font: 14px system-ui, sans-serif; margin: 1em; }\nth, td { padding: 2px 10px; text-align: left; border-bottom: 1px solid #ddd; white-space: pre-wrap; vertical-align: top; }\n.number { text-align: right; font-variant-numeric: tabular-nums; }\n.null { color: #999; }\n</style>\n</head>\n<body>\n";

/// Writes the document's head with the first result, its end with nothing: browsers close it.
pub(super) struct Html {
    begun: bool,
    /// What stands for NULL, escaped.
    null: String,
}

impl Html {
    /// A document in which `null` stands for NULL.
    pub(super) fn new(null: &str) -> Html {
        let mut escaped = String::new();
        put_escaped(null, &mut escaped);
        Html { begun: false, null: escaped }
    }
}

fn put_escaped(text: &str, out: &mut String) {
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            // No HTML document may hold these (HTML, section 13.2.3.5).
            c if c.is_control() && !matches!(c, '\n' | '\t' | '\r') => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
}

impl Exporter for Html {
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        let mut text = String::from(if std::mem::replace(&mut self.begun, true) { "" } else { HEAD });
        text.push_str("<table>\n<thead><tr>");
        for field in schema.fields() {
            text.push_str("<th>");
            put_escaped(field.name(), &mut text);
            text.push_str("</th>");
        }
        text.push_str("</tr></thead>\n<tbody>\n");
        Ok(out.write_all(text.as_bytes())?)
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let columns = ColumnReader::all(batch);
        let (mut text, mut value) = (String::new(), String::new());
        for row in 0..batch.num_rows() {
            text.push_str("<tr>");
            for column in &columns {
                value.clear();
                match column.put(row, &mut value) {
                    CellKind::Null => text.push_str(&format!("<td class=\"null\">{}</td>", self.null)),
                    kind => {
                        text.push_str(if kind == CellKind::Number { "<td class=\"number\">" } else { "<td>" });
                        put_escaped(&value, &mut text);
                        text.push_str("</td>");
                    }
                }
            }
            text.push_str("</tr>\n");
        }
        Ok(out.write_all(text.as_bytes())?)
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        Ok(out.write_all(b"</tbody>\n</table>\n")?)
    }
}
