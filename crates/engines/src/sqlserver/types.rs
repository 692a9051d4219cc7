//! From the server's values to columns.
//!
//! Moments to a ten-millionth of a second are kept to the nanosecond, which reaches from 1677 to 2262: a column with one
//! before or after becomes one of text from there on.

use jaunty_seam::error::EngineError;
use jaunty_seam::rows::columns::{Cells, Columns, Typed};
use jaunty_seam::rows::form::TextForm;
use jaunty_tds::text::push_utf16;
use jaunty_tds::types::{Column, Kind, TypeInfo};
use jaunty_tds::value;

use crate::net::feed::local;

/// The columns of a result.
pub fn columns(columns: &[Column]) -> Columns {
    Columns::new(columns.iter().map(typed).collect())
}

fn typed(column: &Column) -> Typed {
    let info = &column.info;
    let (cells, form) = match info.kind {
        Kind::Int => match info.size {
            1 | 2 => (Cells::I16(Default::default()), TextForm::Plain),
            4 => (Cells::I32(Default::default()), TextForm::Plain),
            _ => (Cells::I64(Default::default()), TextForm::Plain),
        },
        // The server writes it as a number, and takes nothing else.
        Kind::Bit => (Cells::I16(Default::default()), TextForm::Plain),
        Kind::Float if info.size == 4 => (Cells::F32(Default::default()), TextForm::Bare(0)),
        Kind::Float => (Cells::F64(Default::default()), TextForm::Bare(0)),
        Kind::Money => (Cells::decimal(if info.size == 4 { 10 } else { 19 }, 4), TextForm::Plain),
        Kind::Decimal => (Cells::decimal(info.precision.max(1), info.scale as i8), TextForm::Plain),
        Kind::DateTime => (Cells::timestamp(None), TextForm::Bare(if info.size == 4 { 0 } else { 3 })),
        Kind::Date => (Cells::Date(Default::default()), TextForm::Bare(0)),
        Kind::Time if info.scale == 7 => (Cells::TimeNanos(Default::default()), TextForm::Plain),
        Kind::Time => (Cells::Time(Default::default()), TextForm::Bare(info.scale)),
        Kind::DateTime2 if info.scale == 7 => (Cells::TimestampNanos(Default::default()), TextForm::Plain),
        Kind::DateTime2 => (Cells::timestamp(None), TextForm::Bare(info.scale)),
        Kind::Binary => (Cells::Bytes(Default::default()), TextForm::Plain),
        _ => (Cells::text(), TextForm::Plain),
    };
    Typed { name: column.name.clone(), db_type: column.type_name(), origin: None, form, cells }
}

/// A value that its column's type has no room for.
#[derive(Debug)]
pub struct Misfit;

/// Ten-millionths of a second in a microsecond.
const TICKS: i64 = 10;
/// Nanoseconds in a ten-millionth of a second.
const NANOS: i64 = 100;

/// Appends a value; its column becomes one of text where it has no room for it.
#[inline]
pub fn append_or_widen(
    info: &TypeInfo,
    raw: &[u8],
    column: usize,
    columns: &mut Columns,
    scratch: &mut String,
) -> Result<(), EngineError> {
    if append(info, raw, columns.cells(column), scratch).is_err() {
        columns.become_text(column).map_err(|error| local(&error))?.append_value(value::text(info, raw));
    }
    Ok(())
}

/// Appends a value. `scratch` is kept for text.
#[inline]
fn append(info: &TypeInfo, raw: &[u8], cells: &mut Cells, scratch: &mut String) -> Result<(), Misfit> {
    match (info.kind, cells) {
        (Kind::Int, Cells::I32(b)) => b.append_value(value::int(raw) as i32),
        (Kind::Int, Cells::I64(b)) => b.append_value(value::int(raw)),
        (Kind::Int | Kind::Bit, Cells::I16(b)) => b.append_value(value::int(raw) as i16),
        (Kind::NChar, Cells::Text(b)) => {
            scratch.clear();
            push_utf16(raw, scratch);
            b.append_value(&scratch);
        }
        (Kind::Char, Cells::Text(b)) => match info.code_page {
            Some(page) => {
                scratch.clear();
                page.push(raw, scratch);
                b.append_value(&scratch);
            }
            None => return Err(Misfit),
        },
        (Kind::Float, Cells::F32(b)) => b.append_value(value::float(raw) as f32),
        (Kind::Float, Cells::F64(b)) => b.append_value(value::float(raw)),
        (Kind::Money, Cells::Decimal(b, ..)) => b.append_value(value::money(raw).into()),
        (Kind::Decimal, Cells::Decimal(b, ..)) => b.append_value(value::decimal(raw)),
        (Kind::Date, Cells::Date(b)) => b.append_value(i32::try_from(value::date(raw)).map_err(|_| Misfit)?),
        (Kind::Time, Cells::Time(b)) => b.append_value(value::time(raw, info.scale) / TICKS),
        (Kind::Time, Cells::TimeNanos(b)) => b.append_value(value::time(raw, info.scale) * NANOS),
        (Kind::DateTime, Cells::Timestamp(b, _)) => b.append_value(value::datetime(raw).ticks() / TICKS),
        (Kind::DateTime2, Cells::Timestamp(b, _)) => b.append_value(value::datetime2(raw, info.scale).ticks() / TICKS),
        (Kind::DateTime2, Cells::TimestampNanos(b)) => {
            b.append_value(value::datetime2(raw, info.scale).ticks().checked_mul(NANOS).ok_or(Misfit)?);
        }
        (Kind::Binary, Cells::Bytes(b)) => b.append_value(raw),
        // Those that are text here, and those that have become it.
        (_, Cells::Text(b)) => b.append_value(value::text(info, raw)),
        _ => return Err(Misfit),
    }
    Ok(())
}
