//! Reading a batch without the whole of its long values: of each a window, wherever it lies in the file.
//!
//! Who looks at a page sees some hundred characters of a value, and who looks at one value alone a few mebibytes of
//! it; a value of half a gigabyte need not be in memory for that. Checksums are of whole messages, so what is read
//! here is only looked at for lengths and offsets, as where single columns are scanned.

use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::sync::Arc;

use arrow_array::{
    ArrayRef, BinaryArray, NullArray, RecordBatch, RecordBatchOptions, StringArray, UnionArray, make_array,
};
use arrow_buffer::{BooleanBuffer, Buffer, NullBuffer, OffsetBuffer, ScalarBuffer};
use arrow_data::ArrayDataBuilder;
use arrow_ipc::root_as_message;
use arrow_schema::{DataType, SchemaRef};

use super::Place;

/// Whether all columns can be read so: what holds other values is read whole.
pub(super) fn can_be_cut(schema: &SchemaRef) -> bool {
    let simple = |of: &DataType| match of {
        DataType::Null | DataType::Utf8 | DataType::Binary | DataType::Union(..) | DataType::Boolean => true,
        other => other.is_primitive(),
    };
    schema.fields().iter().all(|field| simple(field.data_type()))
}

/// Which bytes of long values are wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    /// The first of them, in this column; in the others the first is byte 0.
    pub from: (usize, u64),
    /// At most so many.
    pub most: u64,
}

impl Window {
    /// The beginnings of all values.
    pub fn first(most: u64) -> Window {
        Window { from: (0, 0), most }
    }

    fn of(&self, column: usize, length: u64) -> Range<u64> {
        let from = if self.from.0 == column { self.from.1.min(length) } else { 0 };
        from..from.saturating_add(self.most).min(length)
    }
}

/// A value of which only a part was read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cut {
    /// Its row, counted from the first one read.
    pub row: usize,
    /// Its column.
    pub column: usize,
    /// Where the part begins, in bytes of the value.
    pub from: u64,
    /// How many bytes the value has in all.
    pub length: u64,
}

/// Reads a batch in which long values are cut; the last part of a text ends with a whole character, and the first
/// begins with one.
pub(super) fn read(
    file: &File,
    schema: &SchemaRef,
    place: &Place,
    window: Window,
) -> io::Result<(RecordBatch, Vec<Cut>)> {
    let mut head = vec![0; place.head as usize];
    file.read_exact_at(&mut head, place.offset)?;
    if !super::message::holds_together(schema, place, &head) {
        return Err(damaged("its columns do not lie where their message says"));
    }
    let message = head.get(8..).and_then(|head| root_as_message(head).ok());
    let batch = message.and_then(|message| message.header_as_record_batch()).ok_or_else(|| damaged("no rows"))?;
    let nodes = batch.nodes().into_iter().flatten().map(|node| node.length());
    let buffers = batch.buffers().into_iter().flatten().map(|buffer| (buffer.offset(), buffer.length()));
    let mut parts = Parts {
        file,
        start: place.offset + u64::from(place.head),
        nodes: nodes.collect::<Vec<_>>().into_iter(),
        buffers: buffers.collect::<Vec<_>>().into_iter(),
        window,
        column: 0,
    };
    let (mut columns, mut cut) = (Vec::with_capacity(schema.fields().len()), Vec::new());
    for (column, field) in schema.fields().iter().enumerate() {
        parts.column = column;
        let (array, mut of_column) = parts.array(field.data_type())?;
        columns.push(array);
        cut.append(&mut of_column);
    }
    let rows = usize::try_from(place.rows).map_err(io::Error::other)?;
    let options = RecordBatchOptions::new().with_row_count(Some(rows));
    let batch = RecordBatch::try_new_with_options(Arc::clone(schema), columns, &options).map_err(io::Error::other)?;
    Ok((batch, cut))
}

fn damaged(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_owned())
}

/// What the head of a message says of its columns, taken one after the other as the columnar format's specification
/// (version 5) orders them.
struct Parts<'a> {
    file: &'a File,
    /// Where the body begins.
    start: u64,
    nodes: std::vec::IntoIter<i64>,
    buffers: std::vec::IntoIter<(i64, i64)>,
    window: Window,
    column: usize,
}

impl Parts<'_> {
    /// Where the next buffer lies in the file. That it lies within the message was looked at before.
    fn next(&mut self) -> io::Result<Range<u64>> {
        let (offset, length) = self.buffers.next().ok_or_else(|| damaged("a part is missing"))?;
        let from = self.start + u64::try_from(offset).map_err(io::Error::other)?;
        Ok(from..from + u64::try_from(length).map_err(io::Error::other)?)
    }

    fn whole(&mut self) -> io::Result<Buffer> {
        let place = self.next()?;
        let mut bytes = vec![0; usize::try_from(place.end - place.start).map_err(io::Error::other)?];
        self.file.read_exact_at(&mut bytes, place.start)?;
        Ok(Buffer::from_vec(bytes))
    }

    fn nulls(&mut self, rows: usize) -> io::Result<Option<NullBuffer>> {
        let bits = self.whole()?;
        match bits.len() {
            0 => Ok(None),
            bytes if bytes * 8 < rows => Err(damaged("a part is too short")),
            _ => Ok(Some(NullBuffer::new(BooleanBuffer::new(bits, 0, rows)))),
        }
    }

    fn numbers(&mut self, count: usize) -> io::Result<ScalarBuffer<i32>> {
        let bytes = self.whole()?;
        let numbers: Vec<i32> =
            bytes.as_chunks().0.iter().take(count).map(|bytes| i32::from_le_bytes(*bytes)).collect();
        if numbers.len() < count { Err(damaged("a part is too short")) } else { Ok(numbers.into()) }
    }

    fn array(&mut self, data_type: &DataType) -> io::Result<(ArrayRef, Vec<Cut>)> {
        let rows = self.nodes.next().and_then(|rows| usize::try_from(rows).ok());
        let rows = rows.ok_or_else(|| damaged("a column is missing"))?;
        let array: ArrayRef = match data_type {
            DataType::Null => Arc::new(NullArray::new(rows)),
            DataType::Utf8 | DataType::Binary => return self.values(rows, *data_type == DataType::Utf8),
            DataType::Union(fields, _) => {
                let kinds = self.whole()?;
                if kinds.len() < rows {
                    return Err(damaged("a part is too short"));
                }
                let kinds: ScalarBuffer<i8> = ScalarBuffer::new(kinds, 0, rows);
                let places = self.numbers(rows)?;
                let (mut children, mut cut) = (Vec::new(), Vec::new());
                for (kind, field) in fields.iter() {
                    let (child, of_child) = self.array(field.data_type())?;
                    children.push(child);
                    for one in of_child {
                        let here = |row: &usize| kinds[*row] == kind && places[*row] as usize == one.row;
                        cut.extend((0..rows).find(here).map(|row| Cut { row, ..one }));
                    }
                }
                let union = UnionArray::try_new(fields.clone(), kinds, Some(places), children);
                return Ok((Arc::new(union.map_err(io::Error::other)?), cut));
            }
            other => {
                let nulls = self.nulls(rows)?;
                let data = ArrayDataBuilder::new(other.clone()).len(rows).nulls(nulls).add_buffer(self.whole()?);
                make_array(data.align_buffers(true).build().map_err(io::Error::other)?)
            }
        };
        Ok((array, Vec::new()))
    }

    /// Text or bytes, each cut.
    fn values(&mut self, rows: usize, text: bool) -> io::Result<(ArrayRef, Vec<Cut>)> {
        let nulls = self.nulls(rows)?;
        let offsets = if rows == 0 { ScalarBuffer::from(vec![0]) } else { self.numbers(rows + 1)? };
        let place = self.next()?;
        let (mut bytes, mut ends, mut cut) = (Vec::new(), Vec::with_capacity(rows + 1), Vec::new());
        ends.push(0_i32);
        // What follows one after the other in the file is read at once.
        let mut pending = 0..0_u64;
        for (row, pair) in offsets.windows(2).enumerate() {
            let [from, to] = [pair[0], pair[1]].map(|at| u64::try_from(at).unwrap_or(u64::MAX));
            if from > to || to > place.end - place.start {
                return Err(damaged("a value does not lie where its column says"));
            }
            let window = self.window.of(self.column, to - from);
            let mut part = from + window.start..from + window.end;
            if window != (0..to - from) {
                if text {
                    part = self.characters(place.start, part, from..to)?;
                }
                cut.push(Cut { row, column: self.column, from: part.start - from, length: to - from });
            }
            if part.start != pending.end {
                self.read_into(place.start, &mut pending, &mut bytes)?;
                pending = part.start..part.start;
            }
            pending.end = part.end;
            let end = bytes.len() as u64 + (pending.end - pending.start);
            ends.push(i32::try_from(end).map_err(io::Error::other)?);
        }
        self.read_into(place.start, &mut pending, &mut bytes)?;
        let ends = OffsetBuffer::new(ends.into());
        let array: ArrayRef = match text {
            true => Arc::new(StringArray::try_new(ends, Buffer::from_vec(bytes), nulls).map_err(io::Error::other)?),
            false => Arc::new(BinaryArray::try_new(ends, Buffer::from_vec(bytes), nulls).map_err(io::Error::other)?),
        };
        Ok((array, cut))
    }

    /// A part of a text, without the pieces of characters at its ends.
    fn characters(&self, start: u64, part: Range<u64>, whole: Range<u64>) -> io::Result<Range<u64>> {
        let first_of_character = |mut at: u64| -> io::Result<u64> {
            let mut byte = [0];
            // A character has four bytes at most.
            for _ in 0..4 {
                if at <= whole.start || at >= whole.end {
                    break;
                }
                self.file.read_exact_at(&mut byte, start + at)?;
                if byte[0] & 0xc0 != 0x80 {
                    break;
                }
                at -= 1;
            }
            Ok(at)
        };
        Ok(first_of_character(part.start)?..first_of_character(part.end)?)
    }

    fn read_into(&self, start: u64, pending: &mut Range<u64>, bytes: &mut Vec<u8>) -> io::Result<()> {
        let from = bytes.len();
        bytes.resize(from + usize::try_from(pending.end - pending.start).map_err(io::Error::other)?, 0);
        self.file.read_exact_at(bytes.get_mut(from..).unwrap_or_default(), start + pending.start)?;
        pending.start = pending.end;
        Ok(())
    }
}
