//! The messages of an Arrow IPC file, as far as they are looked at before a decoder is: where each lies, whether
//! what it says of itself can be, and its checksum. Source: the columnar format's specification, version 5,
//! <https://arrow.apache.org/docs/format/Columnar.html#serialization-and-interprocess-communication-ipc>.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::sync::Arc;

use arrow_ipc::{MessageHeader, convert::try_fb_to_schema, root_as_footer, root_as_message};
use arrow_schema::{DataType, SchemaRef, UnionMode};

use super::{CHECKSUMS, LATE, Place};

/// The bytes that an Arrow file begins with, padded to eight.
pub(super) const MAGIC: &[u8; 8] = b"ARROW1\0\0";
/// What stands before the length of every message.
const CONTINUATION: u32 = 0xffff_ffff;
/// The heads of messages are small; one that claims more is no message.
const LONGEST_HEAD: u32 = 16 << 20;

/// Whether what the head of a message says of its columns fits the schema, and lies within its body: a decoder
/// believes it.
pub(super) fn holds_together(schema: &SchemaRef, place: &Place, bytes: &[u8]) -> bool {
    let Some(head) = bytes.get(8..place.head as usize) else { return false };
    let Some(batch) = root_as_message(head).ok().and_then(|message| message.header_as_record_batch()) else {
        return false;
    };
    // Of what lists hold there may be more than there are rows.
    let flat = schema.fields().iter().all(|field| !holds_others(field.data_type()));
    let within = |rows: i64, nulls: i64| {
        (0..=rows).contains(&nulls) && u64::try_from(rows).is_ok_and(|n| !flat || n <= place.rows)
    };
    let counts: Option<Vec<usize>> = schema.fields().iter().map(|field| buffers_of(field.data_type())).collect();
    let (Some(nodes), Some(buffers)) = (batch.nodes(), batch.buffers()) else { return schema.fields().is_empty() };
    let expected = counts.map(|counts| counts.iter().sum::<usize>());
    u64::try_from(batch.length()).is_ok_and(|rows| rows == place.rows)
        && batch.compression().is_none()
        && nodes.iter().all(|node| within(node.length(), node.null_count()))
        && expected.is_none_or(|expected| expected == buffers.len())
        && buffers.iter().all(|buffer| {
            let end = buffer.offset().checked_add(buffer.length());
            let end = end.and_then(|end| u64::try_from(end).ok());
            buffer.offset() >= 0 && buffer.length() >= 0 && end.is_some_and(|end| end <= place.body)
        })
}

/// The checksums that a finished file tells of its messages; none for one that a crash cut short, or an older one.
pub(super) fn checksums(file: &File, length: u64) -> Vec<u32> {
    let numbers = |digits: &[u8]| -> Option<Vec<u32>> {
        let digits = digits.chunks_exact(8);
        digits.map(|digits| u32::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()).collect()
    };
    let read_late = || -> Option<Vec<u32>> {
        let mut tail = [0; 12];
        file.read_exact_at(&mut tail, length.checked_sub(12)?).ok()?;
        let (size, mark) = tail.split_at(4);
        let size = u64::from(u32::from_le_bytes(size.try_into().ok()?));
        if mark != LATE {
            return None;
        }
        let from = length.checked_sub(12 + size)?;
        let mut sums = vec![0; usize::try_from(size).ok()?];
        file.read_exact_at(&mut sums, from).ok()?;
        numbers(&sums)
    };
    let read = || -> Option<Vec<u32>> {
        // The length of the footer and the magic bytes come last.
        let mut tail = [0; 10];
        file.read_exact_at(&mut tail, length.checked_sub(10)?).ok()?;
        let (size, magic) = tail.split_at(4);
        let size = u64::from(u32::from_le_bytes(size.try_into().ok()?));
        if magic != MAGIC.get(..6)? || size > u64::from(LONGEST_HEAD) {
            return None;
        }
        let mut footer = vec![0; usize::try_from(size).ok()?];
        file.read_exact_at(&mut footer, length.checked_sub(10 + size)?).ok()?;
        let footer = root_as_footer(&footer).ok()?;
        let sums = footer.custom_metadata()?.iter().find(|pair| pair.key() == Some(CHECKSUMS))?;
        numbers(sums.value()?.as_bytes())
    };
    read().or_else(read_late).unwrap_or_default()
}

/// The checksum of a part of the file.
pub(super) fn checksum(file: &File, from: u64, to: u64) -> io::Result<u32> {
    let mut bytes = vec![0; usize::try_from(to - from).unwrap_or(0)];
    file.read_exact_at(&mut bytes, from)?;
    Ok(crc32fast::hash(&bytes))
}

/// How many buffers a column of this type has in a message, by the columnar format's specification,
/// version 5; none for types that no archive of ours has.
pub(super) fn buffers_of(data_type: &DataType) -> Option<usize> {
    match data_type {
        DataType::Null => Some(0),
        DataType::Utf8 | DataType::Binary | DataType::LargeUtf8 | DataType::LargeBinary => Some(3),
        DataType::FixedSizeBinary(_) => Some(2),
        DataType::List(inside) | DataType::LargeList(inside) | DataType::Map(inside, _) => {
            Some(2 + buffers_of(inside.data_type())?)
        }
        DataType::FixedSizeList(inside, _) => Some(1 + buffers_of(inside.data_type())?),
        DataType::Struct(fields) => {
            fields.iter().try_fold(1, |count, field| Some(count + buffers_of(field.data_type())?))
        }
        DataType::Union(fields, UnionMode::Dense) => {
            fields.iter().try_fold(2, |count, (_, field)| Some(count + buffers_of(field.data_type())?))
        }
        kind if kind.is_primitive() || *kind == DataType::Boolean => Some(2),
        _ => None,
    }
}

/// Whether values of a type hold others.
pub(super) fn holds_others(data_type: &DataType) -> bool {
    use DataType::{FixedSizeList, LargeList, List, Map, Struct};
    matches!(data_type, List(_) | LargeList(_) | FixedSizeList(..) | Map(..) | Struct(_))
}

/// What a message is.
pub(super) enum Header {
    Schema(SchemaRef),
    Rows(u64),
}

/// A message that is whole.
pub(super) struct Message {
    pub(super) header: Header,
    /// The bytes of its head, with what stands before it.
    pub(super) head: u32,
    /// The bytes of its body.
    pub(super) body: u64,
}

/// The length of a message's head with its prefix, read from the file.
pub(super) fn head_length(file: &File, at: u64) -> io::Result<u32> {
    let mut prefix = [0; 8];
    file.read_exact_at(&mut prefix, at)?;
    let (mark, length) = prefix.split_at(4);
    let number = |bytes: &[u8]| bytes.iter().rev().fold(0_u32, |n, b| n << 8 | u32::from(*b));
    if number(mark) != CONTINUATION || number(length) > LONGEST_HEAD {
        return Err(io::ErrorKind::InvalidData.into());
    }
    Ok(number(length) + 8)
}

/// The message at `at`, if it is whole; `None` at the end of the messages or where a crash cut one.
pub(super) fn read_message(file: &File, at: u64, length: u64) -> io::Result<Option<Message>> {
    let Ok(head) = head_length(file, at) else { return Ok(None) };
    if head == 8 || at + u64::from(head) > length {
        return Ok(None);
    }
    let mut bytes = vec![0; head as usize - 8];
    file.read_exact_at(&mut bytes, at + 8)?;
    let Ok(message) = root_as_message(&bytes) else { return Ok(None) };
    let body = u64::try_from(message.bodyLength()).unwrap_or(u64::MAX);
    if at.saturating_add(u64::from(head)).saturating_add(body) > length {
        return Ok(None);
    }
    let header = match message.header_type() {
        MessageHeader::Schema => {
            let schema = message.header_as_schema().and_then(|s| try_fb_to_schema(s).ok());
            schema.map(|schema| Header::Schema(Arc::new(schema)))
        }
        MessageHeader::RecordBatch => {
            message.header_as_record_batch().map(|b| Header::Rows(u64::try_from(b.length()).unwrap_or(0)))
        }
        _ => None,
    };
    Ok(header.map(|header| Message { header, head, body }))
}
