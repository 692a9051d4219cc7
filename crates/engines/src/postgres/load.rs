//! Many rows at once: `COPY … FROM STDIN`, in the binary format where every column has one here, else as text.

use std::pin::pin;

use arrow_array::RecordBatch;
use bytes::{BufMut, Bytes, BytesMut};
use futures_util::SinkExt;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting, NextRows};
use jaunty_seam::error::EngineError;
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::moment;

use super::cancel::cancel;
use super::errors;
use super::forms::form_of;
use super::session::{Outcome, PostgresSession};
use crate::net::formed::as_read;
use crate::net::tabbed;
use crate::net::work::with_cancel;

/// So much is sent at a time.
const PIECE: usize = 256 << 10;

/// The head of the binary format ([the documentation of `COPY`](https://www.postgresql.org/docs/current/sql-copy.html),
/// "Binary Format"): its sign, no flags, no extension.
const HEAD: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

/// The table that rows go to first where some may be there already.
const STAGE: &str = "pg_temp.jaunty_load";

/// How a column's values are sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Sent {
    I16,
    I32,
    I64,
    F32,
    F64,
    Bool,
    Text,
    Jsonb,
    Bytes,
    Date,
    Timestamp,
    Numeric,
    Uuid,
}

impl Sent {
    fn of(column: &Column) -> Option<Sent> {
        let lower = column.db_type.to_ascii_lowercase();
        Some(match lower.split('(').next().unwrap_or_default().trim() {
            "smallint" | "int2" => Sent::I16,
            "integer" | "int" | "int4" => Sent::I32,
            "bigint" | "int8" => Sent::I64,
            "real" | "float4" => Sent::F32,
            "double precision" | "float8" => Sent::F64,
            "boolean" | "bool" => Sent::Bool,
            "text" | "character varying" | "varchar" | "character" | "char" | "bpchar" | "json" => Sent::Text,
            "jsonb" => Sent::Jsonb,
            "bytea" => Sent::Bytes,
            "date" => Sent::Date,
            "timestamp without time zone" | "timestamp" => Sent::Timestamp,
            "numeric" | "decimal" => Sent::Numeric,
            "uuid" => Sent::Uuid,
            _ => return None,
        })
    }

    /// Adds a value with its length; false if the text is not one here, though the server might take it.
    fn put(self, text: &str, out: &mut BytesMut) -> bool {
        let trimmed = text.trim();
        match self {
            Sent::I16 => trimmed.parse::<i16>().is_ok_and(|value| fixed(&value.to_be_bytes(), out)),
            Sent::I32 => trimmed.parse::<i32>().is_ok_and(|value| fixed(&value.to_be_bytes(), out)),
            Sent::I64 => trimmed.parse::<i64>().is_ok_and(|value| fixed(&value.to_be_bytes(), out)),
            Sent::F32 => {
                trimmed.parse::<f32>().is_ok_and(|value| value.is_finite() && fixed(&value.to_be_bytes(), out))
            }
            Sent::F64 => {
                trimmed.parse::<f64>().is_ok_and(|value| value.is_finite() && fixed(&value.to_be_bytes(), out))
            }
            Sent::Bool => match trimmed {
                "true" | "t" | "1" | "yes" | "TRUE" | "True" => fixed(&[1], out),
                "false" | "f" | "0" | "no" | "FALSE" | "False" => fixed(&[0], out),
                _ => false,
            },
            Sent::Text => fixed(text.as_bytes(), out),
            Sent::Jsonb => {
                out.put_i32(text.len() as i32 + 1);
                out.put_u8(1);
                out.put_slice(text.as_bytes());
                true
            }
            Sent::Bytes => {
                let digits = trimmed.strip_prefix("\\x").or(trimmed.strip_prefix("0x")).unwrap_or(trimmed);
                if !digits.len().is_multiple_of(2) || !digits.bytes().all(|byte| byte.is_ascii_hexdigit()) {
                    return false;
                }
                out.put_i32((digits.len() / 2) as i32);
                hex_digits(digits, out);
                true
            }
            Sent::Date => day(trimmed)
                .and_then(|day| i32::try_from(day - EPOCH_DAYS).ok())
                .is_some_and(|days| fixed(&days.to_be_bytes(), out)),
            Sent::Timestamp => {
                micros(trimmed).is_some_and(|micros| fixed(&(micros - EPOCH_DAYS * DAY).to_be_bytes(), out))
            }
            Sent::Numeric => numeric(trimmed, out),
            Sent::Uuid => {
                let digits: String = trimmed.chars().filter(char::is_ascii_hexdigit).collect();
                if digits.len() != 32 {
                    return false;
                }
                out.put_i32(16);
                hex_digits(&digits, out);
                true
            }
        }
    }
}

/// Days from 1970 to 2000, from which the server counts.
const EPOCH_DAYS: i64 = 10_957;
const DAY: i64 = 86_400_000_000;

fn fixed(bytes: &[u8], out: &mut BytesMut) -> bool {
    out.put_i32(bytes.len() as i32);
    out.put_slice(bytes);
    true
}

fn hex_digits(digits: &str, out: &mut BytesMut) {
    let value = |byte: u8| (byte as char).to_digit(16).unwrap_or(0) as u8;
    digits.as_bytes().chunks_exact(2).for_each(|pair| out.put_u8(value(pair[0]) << 4 | value(pair[1])));
}

/// Days since 1970, quickly where it is written as `2031-03-05`.
fn day(text: &str) -> Option<i64> {
    let bytes = text.as_bytes();
    let digits = |range: std::ops::Range<usize>| {
        bytes.get(range)?.iter().try_fold(0_i64, |sum, b| b.is_ascii_digit().then(|| sum * 10 + i64::from(b - b'0')))
    };
    if bytes.len() == 10 && bytes[4] == b'-' && bytes[7] == b'-' {
        let (year, month, day) = (digits(0..4)?, digits(5..7)?, digits(8..10)?);
        let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
        let days = [31, if leap { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
        let last = *days.get(usize::try_from(month - 1).ok()?)?;
        if year == 0 || day < 1 || day > last {
            return None;
        }
        // Days of the civil calendar, counted from the first of March.
        let (shifted, month) = if month <= 2 { (year - 1, month + 9) } else { (year, month - 3) };
        let era = shifted.div_euclid(400);
        let of_era = shifted - era * 400;
        let of_year = (153 * month + 2) / 5 + day - 1;
        return Some(era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468);
    }
    moment::day(text)
}

/// Microseconds since 1970, quickly where it is written as `2031-03-05 07:30:00`.
fn micros(text: &str) -> Option<i64> {
    let bytes = text.as_bytes();
    let pair = |at: usize| {
        let (a, b) = (*bytes.get(at)?, *bytes.get(at + 1)?);
        (a.is_ascii_digit() && b.is_ascii_digit()).then(|| i64::from(a - b'0') * 10 + i64::from(b - b'0'))
    };
    if bytes.len() >= 19 && matches!(bytes[10], b' ' | b'T') && bytes[13] == b':' && bytes[16] == b':' {
        let (day, hours, minutes, seconds) = (day(text.get(..10)?)?, pair(11)?, pair(14)?, pair(17)?);
        let fraction = match text.get(19..)? {
            "" => Some(0),
            rest => rest.strip_prefix('.').filter(|digits| (1..=6).contains(&digits.len())).and_then(|digits| {
                let value = digits.parse::<u32>().ok().filter(|_| digits.bytes().all(|b| b.is_ascii_digit()))?;
                Some(i64::from(value) * 10_i64.pow(6 - digits.len() as u32))
            }),
        };
        if hours > 23 || minutes > 59 || seconds > 59 {
            return None;
        }
        return Some(day * DAY + ((hours * 60 + minutes) * 60 + seconds) * 1_000_000 + fraction?);
    }
    // A point in time with an offset means another one here.
    let has_zone = text.get(10..).is_some_and(|clock| clock.contains(['Z', 'z', '+', '-']));
    if has_zone { None } else { moment::instant(text, None) }
}

/// A number in base 10,000 with its sign, weight and scale (`numeric_send` of the server's sources).
fn numeric(text: &str, out: &mut BytesMut) -> bool {
    let (negative, digits) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let plain = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    if whole.is_empty() && fraction.is_empty()
        || !plain(whole)
        || !plain(fraction)
        || whole.len() > 1000
        || fraction.len() > 1000
    {
        return false;
    }
    let whole = whole.trim_start_matches('0');
    // Groups of four digits, to either side of the point.
    let value = |group: &[u8]| group.iter().fold(0_i16, |sum, byte| sum * 10 + i16::from(byte - b'0'));
    let mut all: [i16; 502] = [0; 502];
    let mut count = 0;
    let (first, others) = whole.as_bytes().split_at(whole.len() % 4);
    for group in [first].into_iter().filter(|group| !group.is_empty()).chain(others.chunks(4)) {
        all[count] = value(group);
        count += 1;
    }
    let weight = count as i16 - 1;
    for group in fraction.as_bytes().chunks(4) {
        all[count] = value(group) * 10_i16.pow(4 - group.len() as u32);
        count += 1;
    }
    // Zeros at either end are left out.
    let (mut from, mut to, mut weight) = (0, count, weight);
    while from < to && all[from] == 0 {
        from += 1;
        weight -= 1;
    }
    while to > from && all[to - 1] == 0 {
        to -= 1;
    }
    let groups = &all[from..to];
    out.put_i32(8 + 2 * groups.len() as i32);
    out.put_i16(groups.len() as i16);
    out.put_i16(if groups.is_empty() { 0 } else { weight });
    out.put_u16(if negative && !groups.is_empty() { 0x4000 } else { 0 });
    out.put_u16(fraction.len() as u16);
    groups.iter().for_each(|group| out.put_i16(*group));
    true
}

impl PostgresSession {
    pub(super) fn load_rows(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Outcome<u64> {
        let names = load.names();
        if load.meeting == Meeting::Refuse {
            return self.copy_rows(load.table, &names, load, next);
        }
        // Where some may be there already the rows go to a table beside it first.
        let (table, stage) = (load.table, STAGE);
        self.ask(&format!("drop table if exists {stage}"))?;
        let made = format!("create temporary table jaunty_load as select {names} from {table} with no data");
        self.ask(&made)?;
        self.copy_rows(stage, &names, load, next)?;
        let Some([before, after]) = load.around() else { return Ok(0) };
        let moved = self.ask(&format!(
            "with moved as ({before} select {names} from {stage} {after} returning 1) select count(*) from moved"
        ))?;
        let moved = moved.first().and_then(|row| row.try_get(0).ok().flatten()?.parse().ok()).unwrap_or(0);
        self.ask(&format!("drop table {stage}"))?;
        Ok(moved)
    }

    fn copy_rows(&mut self, table: &str, names: &str, load: &Load<'_>, next: &mut NextRows<'_>) -> Outcome<u64> {
        let as_text = format!("copy {table} ({names}) from stdin");
        let Some(sent) = load.columns.iter().map(Sent::of).collect::<Option<Vec<Sent>>>() else {
            return self.copy_in(&as_text, load, &mut |out| text_piece(load, next, out), b"", b"");
        };
        let binary = format!("{as_text} with (format binary)");
        let mut taken = 0;
        loop {
            // A value that has no binary form here is left to the server to read, with the rows of its batch.
            let mut rest = None;
            let mut more = |out: &mut BytesMut| binary_piece(next, out, &sent, &mut rest);
            taken += self.copy_in(&binary, load, &mut more, HEAD, &[0xff, 0xff])?;
            let Some(batch) = rest else { return Ok(taken) };
            let mut once = Some(batch);
            taken +=
                self.copy_in(&as_text, load, &mut |out| text_piece(load, &mut || Ok(once.take()), out), b"", b"")?;
        }
    }

    /// Sends what `more` puts into a buffer until it puts nothing there any more.
    fn copy_in(
        &mut self,
        statement: &str,
        load: &Load<'_>,
        more: &mut dyn FnMut(&mut BytesMut) -> Result<bool, EngineError>,
        head: &[u8],
        tail: &[u8],
    ) -> Outcome<u64> {
        self.patience.follow(&load.stop);
        let (link, patience) = (&self.link, &self.patience);
        let failed = |error: tokio_postgres::Error| errors::statement(&error, statement);
        let stop = || cancel(link);
        let look = || patience.look();
        link.runtime.block_on(async {
            let sink = with_cancel(link.client.copy_in::<_, Bytes>(statement), look, stop(), patience.within).await?;
            let mut sink = pin!(sink.map_err(failed)?);
            let mut buffer = BytesMut::with_capacity(PIECE * 2);
            buffer.extend_from_slice(head);
            loop {
                let goes_on = more(&mut buffer)?;
                if load.stop.is_wished() {
                    return Err(EngineError::stopped());
                }
                if !goes_on {
                    buffer.extend_from_slice(tail);
                }
                if !buffer.is_empty() {
                    let piece = buffer.split().freeze();
                    with_cancel(sink.send(piece), look, stop(), patience.within).await?.map_err(failed)?;
                }
                if !goes_on {
                    return with_cancel(sink.finish(), look, stop(), patience.within).await?.map_err(failed);
                }
            }
        })
    }
}

/// Puts the next rows into a buffer as lines of text; false once there are none.
fn text_piece(load: &Load<'_>, next: &mut NextRows<'_>, out: &mut BytesMut) -> Result<bool, EngineError> {
    let Some(batch) = next()? else { return Ok(false) };
    let (mut scratch, mut lines) = (String::new(), Vec::with_capacity(PIECE));
    // Digits alone would be text, whose letters are other bytes.
    let before_bytes = load.columns.iter().map(|column| match Sent::of(column) {
        Some(Sent::Text) => "",
        _ => "\\x",
    });
    let before_bytes: Vec<&str> = before_bytes.collect();
    let batch = as_read(batch, load, form_of)?;
    let columns = ColumnReader::all(&batch);
    (0..batch.num_rows()).for_each(|row| tabbed::put_row(&columns, row, &before_bytes, &mut scratch, &mut lines));
    out.extend_from_slice(&lines);
    Ok(true)
}

/// Puts the next rows into a buffer in their binary form. False once there are none, or where a value has none: it is
/// in `rest` then, with the rows after it.
fn binary_piece(
    next: &mut NextRows<'_>,
    out: &mut BytesMut,
    sent: &[Sent],
    rest: &mut Option<RecordBatch>,
) -> Result<bool, EngineError> {
    let Some(batch) = next()? else { return Ok(false) };
    let columns = ColumnReader::all(&batch);
    let mut scratch = String::new();
    for row in 0..batch.num_rows() {
        let begins = out.len();
        out.put_i16(sent.len() as i16);
        for (column, sent) in columns.iter().zip(sent) {
            let text = match column {
                ColumnReader::Text(_) if column.is_null(row) => None,
                ColumnReader::Text(texts) => Some(texts.value(row)),
                column => {
                    scratch.clear();
                    (column.put(row, &mut scratch) != CellKind::Null).then_some(scratch.as_str())
                }
            };
            let fits = match text {
                Some(text) => sent.put(text, out),
                None => {
                    out.put_i32(-1);
                    true
                }
            };
            if !fits {
                out.truncate(begins);
                *rest = Some(batch.slice(row, batch.num_rows() - row));
                return Ok(false);
            }
        }
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_and_times_are_counted_from_2000() {
        for (text, days) in [
            ("2000-01-01", 0),
            ("2000-03-01", 60),
            ("1999-12-31", -1),
            ("2031-03-05", 11_386),
            ("0001-01-01", -730_119),
        ] {
            assert_eq!(day(text).unwrap() - EPOCH_DAYS, days, "{text}");
            assert_eq!(day(text), moment::day(text), "{text}");
        }
        for wrong in ["2031-02-29", "2031-13-01", "2031-00-10", "2031-1x-01"] {
            assert_eq!(day(wrong), None, "{wrong}");
        }
        for text in ["2031-03-05 07:30:00", "2031-03-05T07:30:00.25", "2031-03-05 07:30:00.123456"] {
            assert_eq!(micros(text), moment::instant(text, None), "{text}");
        }
        assert_eq!(micros("2031-03-05 24:00:00"), None);
        assert_eq!(micros("2031-03-05 07:30:00+02"), None);
    }

    #[test]
    fn numbers_are_sent_in_groups_of_four_digits() {
        for (text, expected) in [
            ("0", "0 0 0 0"),
            ("-12345.678", "3 1 16384 3 1 2345 6780"),
            ("10000", "1 1 0 0 1"),
            ("0.0001", "1 -1 0 4 1"),
            ("00.50", "1 -1 0 2 5000"),
            ("-0.00", "0 0 0 2"),
            (".5", "1 -1 0 1 5000"),
            ("123456789", "3 2 0 0 1 2345 6789"),
        ] {
            let mut out = BytesMut::new();
            assert!(numeric(text, &mut out), "{text}");
            let numbers: Vec<String> =
                out[4..].chunks(2).map(|pair| i16::from_be_bytes([pair[0], pair[1]]).to_string()).collect();
            assert_eq!(numbers.join(" "), expected, "{text}");
        }
        for wrong in ["", "-", ".", "1e5", "NaN", "1.2.3"] {
            assert!(!numeric(wrong, &mut BytesMut::new()), "{wrong}");
        }
    }
}
