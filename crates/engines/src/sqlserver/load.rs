//! Many rows at once: `INSERT BULK`, in which values travel as text or bytes, and the server makes of them what it makes
//! of literals. What has no such form goes in statements of many rows, as everything else that is loaded.

use arrow_array::RecordBatch;
use jaunty_language::dialect::SQLSERVER;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::Flow;
use jaunty_seam::engine::load::{Load, Meeting, NextRows, by_statements};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_tds::Error;
use jaunty_tds::bulk::{ROW, Sent};
use jaunty_tds::packet::Framing;

use super::errors;
use super::run::patient;
use super::session::SqlServerSession;

/// So much is sent at a time.
const PIECE: usize = 64 << 10;

/// So much is sent before the server's word on it is waited for: what was begun has to be taken in before a wish to stop is
/// heard.
const STRETCH: usize = 2 << 20;

/// The server's number for a transaction that can only be rolled back.
const DOOMED: &str = "3930";

/// What the texts of a column are read as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reads {
    Text,
    /// Whole numbers and decimals: an exponent is a literal's only.
    Number,
    Float,
    /// Days, times, bits, identifiers.
    Other,
    Bytes,
}

/// How a column's values are sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Form {
    sent: Sent,
    reads: Reads,
    /// The most units or bytes of a value: the server is not trusted to refuse what is longer.
    most: usize,
}

impl Form {
    /// None where the values of a type are not sent so.
    fn of(column: &Column) -> Option<Form> {
        let lower = column.db_type.to_ascii_lowercase();
        let (word, inside) = lower.split_once('(').unwrap_or((&lower, "1"));
        let size = inside.trim_end_matches(')').trim();
        let short = |reads| Some(Form { sent: Sent::Text, reads, most: 4000 });
        let sized = |short: Sent, long: Sent, reads| match size {
            "max" => Some(Form { sent: long, reads, most: usize::MAX }),
            size => Some(Form { sent: short, reads, most: size.parse().ok()? }),
        };
        match word.trim() {
            "tinyint" | "smallint" | "int" | "bigint" | "decimal" | "numeric" | "money" | "smallmoney" => {
                short(Reads::Number)
            }
            "float" | "real" => short(Reads::Float),
            "bit" | "date" | "time" | "datetime" | "datetime2" | "smalldatetime" | "datetimeoffset"
            | "uniqueidentifier" => short(Reads::Other),
            "char" | "varchar" | "nchar" | "nvarchar" => sized(Sent::Text, Sent::LongText, Reads::Text),
            "binary" | "varbinary" => sized(Sent::Bytes, Sent::LongBytes, Reads::Bytes),
            _ => None,
        }
    }

    /// Adds a value; false where it has no form here, though the server might take it as a literal.
    fn put(self, kind: CellKind, text: &str, out: &mut Vec<u8>) -> bool {
        let trimmed = text.trim();
        match self.reads {
            _ if kind == CellKind::Null => {
                self.sent.put_null(out);
                true
            }
            Reads::Bytes => {
                let digits = trimmed.strip_prefix("\\x").or(trimmed.strip_prefix("0x")).unwrap_or(trimmed);
                unhex(digits).is_some_and(|bytes| bytes.len() <= self.most && self.sent.put(&bytes, out))
            }
            _ if kind == CellKind::Binary => false,
            Reads::Text => units(text) <= self.most && self.sent.put(text.as_bytes(), out),
            Reads::Number => {
                let plain = trimmed.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'+' | b'-' | b'.'));
                plain && self.sent.put(trimmed.as_bytes(), out)
            }
            Reads::Float | Reads::Other => self.sent.put(trimmed.as_bytes(), out),
        }
    }
}

/// How many units of UTF-16 a text has.
fn units(text: &str) -> usize {
    if text.is_ascii() { text.len() } else { text.encode_utf16().count() }
}

fn unhex(digits: &str) -> Option<Vec<u8>> {
    let value = |byte: u8| char::from(byte).to_digit(16).map(|value| value as u8);
    if !digits.len().is_multiple_of(2) {
        return None;
    }
    digits.as_bytes().chunks_exact(2).map(|pair| Some(value(pair[0])? << 4 | value(pair[1])?)).collect()
}

/// Refuses an empty text for a column that holds none: the server would make 0, or the first of January 1900, of it.
fn refuse_empty(batch: &RecordBatch, forms: &[Option<Form>], load: &Load<'_>) -> Result<(), EngineError> {
    for ((reader, form), column) in ColumnReader::all(batch).iter().zip(forms).zip(load.columns) {
        let (ColumnReader::Text(texts), Some(form)) = (reader, form) else { continue };
        if matches!(form.reads, Reads::Text | Reads::Bytes) {
            continue;
        }
        let empty = (0..batch.num_rows()).any(|row| !reader.is_null(row) && texts.value(row).trim().is_empty());
        if empty {
            let what = format!("an empty text cannot be a value of {} ({})", column.name, column.db_type);
            return Err(EngineError::new(ErrorKind::Refused, what).remedy("Load it as NULL, or give it a value."));
        }
    }
    Ok(())
}

/// Rows that are being sent.
struct Sending {
    framing: Framing,
    bytes: usize,
}

impl SqlServerSession {
    pub(super) fn load_rows(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        let forms: Vec<Option<Form>> = load.columns.iter().map(Form::of).collect();
        let mut next = || {
            let batch = next()?;
            batch.iter().try_for_each(|batch| refuse_empty(batch, &forms, load))?;
            Ok(batch)
        };
        let all = forms.iter().copied().collect::<Option<Vec<Form>>>();
        match all.filter(|_| load.meeting == Meeting::Refuse && !self.is_read_only()) {
            Some(forms) => self.load_in_bulk(load, &forms, &mut next),
            None => by_statements(self, load, &mut next),
        }
    }

    fn load_in_bulk(&mut self, load: &Load<'_>, forms: &[Form], next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        self.refuse_if_lost()?;
        self.patience.follow(&load.stop);
        let (mut taken, mut begun, mut sending) = (0, false, None);
        let mut rows = Vec::new();
        loop {
            let batch = match next() {
                Ok(Some(batch)) => batch,
                Ok(None) => break,
                Err(error) => return Err(self.break_off(sending.take(), error)),
            };
            rows.clear();
            let fit = put_rows(&batch, forms, &mut rows);
            if fit > 0 {
                let going = match sending.take() {
                    Some(going) => going,
                    None => match self.begin_sending(load, forms) {
                        Ok(going) => going,
                        // Not every server that speaks the protocol has this statement.
                        Err(error) if !begun && error.kind == ErrorKind::Refused => {
                            tracing::info!(error = error.message, "rows are loaded by statements");
                            let mut first = Some(batch);
                            let rest = by_statements(self, load, &mut || match first.take() {
                                Some(batch) => Ok(Some(batch)),
                                None => next(),
                            });
                            // What the refusal has done to the transaction says nothing of the rows.
                            let rest = rest.map_err(|second| match second.code.as_deref() {
                                Some(DOOMED) => error,
                                _ => second,
                            });
                            return rest.map(|rows| taken + rows);
                        }
                        Err(error) => return Err(error),
                    },
                };
                begun = true;
                let going = self.go_on_sending(going, &rows)?;
                taken += fit as u64;
                match going.bytes > STRETCH || fit < batch.num_rows() {
                    true => self.end_sending(going)?,
                    false => sending = Some(going),
                }
            } else if let Some(going) = sending.take() {
                self.end_sending(going)?;
            }
            if fit < batch.num_rows() {
                let mut rest = Some(batch.slice(fit, batch.num_rows() - fit));
                taken += by_statements(self, load, &mut || Ok(rest.take()))?;
            }
        }
        sending.map_or(Ok(()), |going| self.end_sending(going))?;
        Ok(taken)
    }

    fn begin_sending(&mut self, load: &Load<'_>, forms: &[Form]) -> Result<Sending, EngineError> {
        let columns = load.columns.iter().zip(forms).map(|(column, form)| (column.name.clone(), form.sent));
        let columns: Vec<(String, Sent)> = columns.collect();
        let declared =
            |(name, sent): &(String, Sent)| format!("{} {}", SQLSERVER.name_as_written(name), sent.declared());
        let declared: Vec<String> = columns.iter().map(declared).collect();
        // As a statement would: rules hold, triggers fire, and what is NULL stays so.
        self.ask(&format!(
            "insert bulk {} ({}) with (check_constraints, fire_triggers, keep_nulls)",
            load.table,
            declared.join(", ")
        ))?;
        let begun = self.link.runtime.block_on(self.link.client.begin_rows(&columns));
        Ok(Sending { framing: begun.map_err(|error| self.lost_by(errors::broken(&error)))?, bytes: 0 })
    }

    fn go_on_sending(&mut self, mut going: Sending, rows: &[u8]) -> Result<Sending, EngineError> {
        for piece in rows.chunks(PIECE) {
            if self.patience.is_over() {
                return Err(self.break_off(Some(going), EngineError::stopped()));
            }
            let patience = &self.patience;
            let look = || if patience.is_over() { Flow::Stop } else { Flow::Continue };
            let sent = self.link.client.go_on_rows(&mut going.framing, piece);
            let sent = self.link.runtime.block_on(patient(sent, look));
            match sent {
                Some(sent) => sent.map_err(|error| self.lost_by(errors::broken(&error)))?,
                // A part of it may have been sent: nothing can be put behind that.
                None => {
                    let what = "the connection was closed: the server did not listen";
                    return Err(self.lost_by(EngineError::new(ErrorKind::Lost, what)));
                }
            }
            going.bytes += piece.len();
        }
        Ok(going)
    }

    fn end_sending(&mut self, going: Sending) -> Result<(), EngineError> {
        let patience = &self.patience;
        let look = || if patience.is_over() { Flow::Stop } else { Flow::Continue };
        let ended = self.link.runtime.block_on(patient(self.link.client.end_rows(going.framing), look));
        ended.unwrap_or(Err(Error::Closed)).map_err(|error| self.lost_by(errors::broken(&error)))?;
        let (_, failed) = self.answer(None).map_err(|error| self.lost_by(error))?;
        failed.first().map_or(Ok(()), |message| Err(errors::statement(message, "")))
    }

    /// Ends the rows in the middle: the message has to be whole before anything else can be said. What the server takes
    /// of them the caller rolls back.
    fn break_off(&mut self, going: Option<Sending>, error: EngineError) -> EngineError {
        let Some(going) = going else { return error };
        let within = self.patience.within;
        let client = &mut self.link.client;
        let ended = self.link.runtime.block_on(async {
            tokio::time::timeout(within, client.end_rows(going.framing)).await.unwrap_or(Err(Error::Closed))
        });
        match ended.map_err(|error| errors::broken(&error)).and_then(|()| self.end()) {
            Ok(()) => error,
            Err(lost) => self.lost_by(lost),
        }
    }

    fn lost_by(&mut self, error: EngineError) -> EngineError {
        if error.kind == ErrorKind::Lost {
            self.lost = Some(error.clone());
        }
        error
    }
}

/// Adds the rows of a batch up to the first with a value that has no form here; how many those are.
fn put_rows(batch: &RecordBatch, forms: &[Form], out: &mut Vec<u8>) -> usize {
    let columns = ColumnReader::all(batch);
    let mut scratch = String::new();
    for row in 0..batch.num_rows() {
        let begins = out.len();
        out.push(ROW);
        for (column, form) in columns.iter().zip(forms) {
            let fits = match column {
                ColumnReader::Text(texts) if !column.is_null(row) => form.put(CellKind::Text, texts.value(row), out),
                column => {
                    scratch.clear();
                    let kind = column.put(row, &mut scratch);
                    form.put(kind, &scratch, out)
                }
            };
            if !fits {
                out.truncate(begins);
                return row;
            }
        }
    }
    batch.num_rows()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn form(db_type: &str) -> Option<Form> {
        Form::of(&Column { db_type: db_type.to_owned(), ..Column::default() })
    }

    #[test]
    fn each_type_has_its_form_or_none() {
        for (db_type, sent, most) in [
            ("int", Sent::Text, 4000),
            ("decimal(8,2)", Sent::Text, 4000),
            ("nvarchar(40)", Sent::Text, 40),
            ("nvarchar(max)", Sent::LongText, usize::MAX),
            ("nchar", Sent::Text, 1),
            ("varbinary(16)", Sent::Bytes, 16),
            ("VARBINARY(MAX)", Sent::LongBytes, usize::MAX),
            ("datetimeoffset(7)", Sent::Text, 4000),
        ] {
            assert_eq!(form(db_type).map(|form| (form.sent, form.most)), Some((sent, most)), "{db_type}");
        }
        for db_type in ["xml", "sql_variant", "geography", "text", "image", "dbo.code", "rowversion", "nvarchar(x)"] {
            assert_eq!(form(db_type), None, "{db_type}");
        }
    }

    #[test]
    fn what_has_no_form_is_left_to_a_literal() {
        for (db_type, kind, text, fits) in [
            ("int", CellKind::Number, "12", true),
            ("int", CellKind::Text, " 12 ", true),
            ("int", CellKind::Number, "1e5", false),
            ("decimal(8,2)", CellKind::Number, "-1.25", true),
            ("float", CellKind::Number, "1e5", true),
            ("nvarchar(3)", CellKind::Text, "äöü", true),
            ("nvarchar(3)", CellKind::Text, "a🚢b", false),
            ("nvarchar(max)", CellKind::Binary, "\\x00", false),
            ("varbinary(2)", CellKind::Binary, "\\x00ff", true),
            ("varbinary(2)", CellKind::Text, "00ff00", false),
            ("varbinary(2)", CellKind::Text, "zz", false),
            ("bit", CellKind::Boolean, "true", true),
            ("xml", CellKind::Null, "", false),
        ] {
            let fitted = form(db_type).is_some_and(|form| form.put(kind, text, &mut Vec::new()));
            assert_eq!(fitted, fits, "{db_type} {text}");
        }
    }
}
