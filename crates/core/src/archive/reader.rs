//! Reading pages of an archive by row number.

use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arrow_array::{RecordBatch, UInt32Array};
use arrow_buffer::Buffer;
use arrow_ipc::reader::FileDecoder;
use arrow_ipc::{Block, MetadataVersion, root_as_message};
use arrow_schema::{ArrowError, SchemaRef};
use arrow_select::concat::concat_batches;
use arrow_select::take::take_record_batch;

use super::cut::{self, Cut, Window};
use super::message::{
    Header, MAGIC, Message, buffers_of, checksum, checksums, head_length, holds_together, read_message,
};
use super::{ArchiveError, Place};
use jaunty_seam::rows::widen::{common_schema, widen_batch};

/// A batch with a longer body has long values in it: those of others end at
/// [`BATCH_BYTES`](jaunty_seam::rows::BATCH_BYTES). It is neither read whole to be looked at, nor kept in memory.
const LARGE: u64 = 8 << 20;

/// The kept rows of one result.
#[derive(Debug)]
pub struct Archive {
    path: PathBuf,
    contents: Mutex<Arc<Contents>>,
    /// The batch read last: pages that are read one after another mostly share it. Of one with long values, what
    /// was read of it, and how.
    last: Mutex<Option<(BatchKey, RecordBatch)>>,
}

/// A batch, told by the contents it is of, where it lies in them, and how much of long values was read.
type BatchKey = (u64, u64, Option<u64>);

/// What is in the file now. Readers keep what they have when it is replaced.
#[derive(Debug)]
pub(super) struct Contents {
    file: Arc<File>,
    /// The columns of all rows.
    schema: SchemaRef,
    /// Those of the batches, by [`Place::schema`]: columns may turn up late.
    schemas: Vec<SchemaRef>,
    pub(super) places: Vec<Place>,
    /// Told apart from the contents of a rewritten file.
    generation: u64,
}

impl Contents {
    pub(super) fn empty(file: File, schema: SchemaRef) -> Contents {
        let schemas = vec![Arc::clone(&schema)];
        Contents { file: Arc::new(file), schema, schemas, places: Vec::new(), generation: 0 }
    }

    /// The columns of a batch.
    fn schema_of(&self, place: &Place) -> &SchemaRef {
        self.schemas.get(place.schema as usize).unwrap_or(&self.schema)
    }

    /// From the next batch on there are more columns.
    fn add_schema(&mut self, schema: SchemaRef) {
        self.schemas.push(Arc::clone(&schema));
        self.schema = schema;
    }

    /// The same without its places.
    fn alike(&self) -> Contents {
        let (file, schema) = (Arc::clone(&self.file), Arc::clone(&self.schema));
        Contents { file, schema, schemas: self.schemas.clone(), places: Vec::new(), generation: self.generation }
    }

    fn rows(&self) -> u64 {
        self.places.last().map_or(0, |place| place.first_row + place.rows)
    }
}

/// Rows that follow each other.
#[derive(Debug, Clone)]
pub struct Page {
    /// The number of the first row, from 0.
    pub from: u64,
    /// All rows of the archive when the page was read.
    pub of: u64,
    /// The rows. All batches have the archive's schema.
    pub batches: Vec<RecordBatch>,
    /// That schema.
    pub schema: SchemaRef,
}

impl Page {
    /// How many rows it has.
    pub fn rows(&self) -> usize {
        self.batches.iter().map(RecordBatch::num_rows).sum()
    }
}

impl Archive {
    pub(super) fn new(path: PathBuf, contents: Contents) -> Archive {
        Archive { path, contents: Mutex::new(Arc::new(contents)), last: Mutex::new(None) }
    }

    /// Opens an archive that nobody writes any more. One that a crash cut short is readable up to
    /// its last whole batch.
    pub fn open(path: &Path) -> Result<Archive, ArchiveError> {
        let read = |source| ArchiveError::File { path: path.to_owned(), act: "read", source };
        let file = File::open(path).map_err(read)?;
        let length = file.metadata().map_err(read)?.len();
        let mut magic = [0; 8];
        let not = |what: &str| ArchiveError::NotAnArchive { path: path.to_owned(), what: what.to_owned() };
        file.read_exact_at(&mut magic, 0).map_err(|_| not("it is too short"))?;
        if &magic != MAGIC {
            return Err(not("it does not begin as an Arrow file"));
        }
        let damaged = |what: String| ArchiveError::Damaged { path: path.to_owned(), what };
        let sums = checksums(&file, length);
        // Writers pad the magic bytes to the alignment they keep: 8 by the standard, 64 by this one.
        let begins = (8..=64).step_by(8).find(|at| head_length(&file, *at).is_ok());
        let mut at = begins.ok_or_else(|| not("it ends before its schema"))?;
        let mut contents: Option<Contents> = None;
        let mut messages = 0;
        while let Some(message) = read_message(&file, at, length).map_err(read)? {
            let Message { header, head, body } = message;
            match (header, &mut contents) {
                (Header::Schema(schema), None) => {
                    // With the magic bytes before it, as they were written.
                    if let Some(sum) = sums.first()
                        && checksum(&file, 0, at + u64::from(head) + body).map_err(read)? != *sum
                    {
                        return Err(damaged("its columns are not the ones that were written".to_owned()));
                    }
                    contents = Some(Contents::empty(file.try_clone().map_err(read)?, schema));
                }
                (Header::Schema(schema), Some(contents)) => {
                    let is_wider =
                        common_schema(&contents.schema, &schema).is_some_and(|c| c.fields() == schema.fields());
                    let sum = sums.get(messages).copied();
                    if !is_wider {
                        return Err(damaged(format!("message {messages} has columns of another result")));
                    }
                    if let Some(sum) = sum
                        && checksum(&file, at, at + u64::from(head) + body).map_err(read)? != sum
                    {
                        return Err(damaged(format!("message {messages} is not what was written")));
                    }
                    contents.add_schema(schema);
                }
                (Header::Rows(rows), Some(contents)) => {
                    let first_row = contents.rows();
                    let sum = sums.get(messages).copied();
                    let schema = contents.schemas.len() as u32 - 1;
                    contents.places.push(Place { offset: at, head, body, first_row, rows, sum, schema });
                }
                _ => return Err(not("its messages are in the wrong order")),
            }
            at += u64::from(head) + body;
            messages += 1;
        }
        let contents = contents.ok_or_else(|| not("it ends before its schema"))?;
        if sums.len() > messages {
            return Err(damaged(format!("batch {messages} of {} cannot be read", sums.len() - 1)));
        }
        Ok(Archive::new(path.to_owned(), contents))
    }

    /// Its file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The columns. They can become wider while the archive grows.
    pub fn schema(&self) -> SchemaRef {
        Arc::clone(&self.lock().schema)
    }

    /// How many rows can be read now.
    pub fn rows(&self) -> u64 {
        self.lock().rows()
    }

    /// Rows `from` up to `from + count`, as far as they are there.
    pub fn page(&self, from: u64, count: usize) -> Result<Page, ArchiveError> {
        self.read_page(from, count, None)
    }

    /// The same, with values cut after so many bytes in batches that have long ones.
    pub fn glimpse(&self, from: u64, count: usize, most: u64) -> Result<Page, ArchiveError> {
        self.read_page(from, count, Some(most))
    }

    /// One row, its long values through a window; and which of them were cut. None if it is not there.
    pub fn row_through(&self, row: u64, window: Window) -> Result<Option<(RecordBatch, Vec<Cut>)>, ArchiveError> {
        let contents = self.snapshot();
        let index = contents.places.partition_point(|place| place.first_row + place.rows <= row);
        let Some(place) = contents.places.get(index) else { return Ok(None) };
        let at = (row - place.first_row) as usize;
        if place.body <= LARGE || !cut::can_be_cut(contents.schema_of(place)) {
            return Ok(Some((self.batch(&contents, place, None)?.slice(at, 1), Vec::new())));
        }
        let (batch, cuts) = self.read_cut(&contents, place, window)?;
        let cuts = cuts.into_iter().filter(|cut| cut.row == at).map(|cut| Cut { row: 0, ..cut });
        Ok(Some((batch.slice(at, 1), cuts.collect())))
    }

    fn read_cut(
        &self,
        contents: &Contents,
        place: &Place,
        window: Window,
    ) -> Result<(RecordBatch, Vec<Cut>), ArchiveError> {
        let read = cut::read(&contents.file, contents.schema_of(place), place, window);
        let read = read.and_then(|(batch, cuts)| {
            let batch = with_late(batch, contents, place, None).map_err(io::Error::other)?;
            Ok((batch, cuts))
        });
        read.map_err(|source| {
            let path = self.path.clone();
            let rows = || format!("rows {} to {}: {source}", place.first_row + 1, place.first_row + place.rows);
            match source.kind() {
                io::ErrorKind::InvalidData | io::ErrorKind::Other => ArchiveError::Damaged { what: rows(), path },
                _ => ArchiveError::File { path, act: "read", source },
            }
        })
    }

    fn read_page(&self, from: u64, count: usize, most: Option<u64>) -> Result<Page, ArchiveError> {
        let contents = self.snapshot();
        let of = contents.rows();
        let end = of.min(from.saturating_add(count as u64));
        let mut batches = Vec::new();
        let mut at = from;
        while at < end {
            let index = contents.places.partition_point(|place| place.first_row + place.rows <= at);
            let Some(place) = contents.places.get(index) else { break };
            let batch = self.batch(&contents, place, most)?;
            let skip = (at - place.first_row) as usize;
            let take = (end - at).min(place.rows - skip as u64) as usize;
            batches.push(batch.slice(skip, take));
            at += take as u64;
        }
        Ok(Page { from, of, batches, schema: Arc::clone(&contents.schema) })
    }

    /// Batch by batch from the first row on, as they lie in the file.
    pub fn batches(&self) -> impl Iterator<Item = Result<RecordBatch, ArchiveError>> + use<> {
        self.scan(None, 0..u64::MAX).map(|batch| batch.map(|(_, batch)| batch))
    }

    /// Rows batch by batch, each with the number of its first row; of all columns or of these, which
    /// are in order.
    pub fn scan(
        &self,
        columns: Option<&[usize]>,
        rows: Range<u64>,
    ) -> impl Iterator<Item = Result<(u64, RecordBatch), ArchiveError>> + use<> {
        let (contents, path, columns) = (self.snapshot(), self.path.clone(), columns.map(<[usize]>::to_vec));
        let first = contents.places.partition_point(|place| place.first_row + place.rows <= rows.start);
        let last = contents.places.partition_point(|place| place.first_row < rows.end).max(first);
        // The bytes of the batch before are taken again if nobody has kept any of it.
        let mut spare = Buffer::default();
        (first..last).map(move |i| {
            let place = &contents.places[i];
            let bytes = std::mem::take(&mut spare).into_vec().unwrap_or_default();
            let batch;
            (batch, spare) = read_columns(&path, &contents, place, columns.as_deref(), bytes)?;
            let skip = rows.start.saturating_sub(place.first_row);
            let take = (rows.end - place.first_row).min(place.rows) - skip;
            Ok((place.first_row + skip, batch.slice(skip as usize, take as usize)))
        })
    }

    /// Rows by their numbers, in that order, as one batch; of all columns or of these, which are in
    /// order. Rows that are not there are left out.
    pub fn gather(&self, rows: &[u32], columns: Option<&[usize]>) -> Result<RecordBatch, ArchiveError> {
        self.gathered(rows, columns, None)
    }

    /// Rows by their numbers, as [`Archive::glimpse`] reads them.
    pub fn gather_glimpse(&self, rows: &[u32], most: u64) -> Result<RecordBatch, ArchiveError> {
        self.gathered(rows, None, Some(most))
    }

    fn gathered(
        &self,
        rows: &[u32],
        columns: Option<&[usize]>,
        most: Option<u64>,
    ) -> Result<RecordBatch, ArchiveError> {
        let contents = self.snapshot();
        let mut sorted: Vec<u32> = rows.iter().copied().filter(|row| u64::from(*row) < contents.rows()).collect();
        sorted.sort_unstable();
        sorted.dedup();
        let mut pieces = Vec::new();
        let mut from = 0;
        while let Some(row) = sorted.get(from) {
            let row = u64::from(*row);
            let index = contents.places.partition_point(|place| place.first_row + place.rows <= row);
            let Some(place) = contents.places.get(index) else { break };
            let rest = sorted.get(from..).unwrap_or_default();
            let here = rest.partition_point(|row| u64::from(*row) < place.first_row + place.rows);
            let within = rest.iter().take(here).map(|row| (u64::from(*row) - place.first_row) as u32);
            let batch = match columns {
                Some(_) => read_columns(&self.path, &contents, place, columns, Vec::new())?.0,
                None => self.batch(&contents, place, most)?,
            };
            pieces.push(take_record_batch(&batch, &UInt32Array::from_iter_values(within))?);
            from += here;
        }
        let schema = match columns {
            Some(columns) => Arc::new(contents.schema.project(columns)?),
            None => Arc::clone(&contents.schema),
        };
        let all = concat_batches(&schema, &pieces)?;
        let places = rows.iter().filter_map(|row| sorted.binary_search(row).ok()).map(|at| at as u32);
        Ok(take_record_batch(&all, &UInt32Array::from_iter_values(places))?)
    }

    /// A batch, its values cut after so many bytes if there are long ones.
    fn batch(&self, contents: &Contents, place: &Place, most: Option<u64>) -> Result<RecordBatch, ArchiveError> {
        let is_large = place.body > LARGE && cut::can_be_cut(contents.schema_of(place));
        if is_large && most.is_none() {
            return read_place(&self.path, contents, place);
        }
        let key = (contents.generation, place.offset, most.filter(|_| is_large));
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, batch)) = last.as_ref().filter(|(known, _)| *known == key) {
            return Ok(batch.clone());
        }
        let batch = match most.filter(|_| is_large) {
            Some(most) => self.read_cut(contents, place, Window::first(most))?.0,
            None => read_place(&self.path, contents, place)?,
        };
        *last = Some((key, batch.clone()));
        Ok(batch)
    }

    fn lock(&self) -> MutexGuard<'_, Arc<Contents>> {
        // The contents are replaced or pushed to as a whole, so a panic elsewhere leaves them sound.
        self.contents.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn snapshot(&self) -> Arc<Contents> {
        Arc::clone(&self.lock())
    }

    pub(super) fn add(&self, place: Place) {
        let mut contents = self.lock();
        match Arc::get_mut(&mut contents) {
            Some(contents) => contents.places.push(place),
            // A page is being read from the list at this moment.
            None => {
                let mut places = contents.places.clone();
                places.push(place);
                *contents = Arc::new(Contents { places, ..contents.alike() });
            }
        }
    }

    pub(super) fn add_schema(&self, schema: SchemaRef) {
        let mut contents = self.lock();
        let mut next = Contents { places: contents.places.clone(), ..contents.alike() };
        next.add_schema(schema);
        *contents = Arc::new(next);
    }

    pub(super) fn replace(&self, mut new: Contents) {
        let mut contents = self.lock();
        new.generation = contents.generation + 1;
        *contents = Arc::new(new);
    }
}

/// Reads the batch that lies at a place.
pub(super) fn read_place(path: &Path, contents: &Contents, place: &Place) -> Result<RecordBatch, ArchiveError> {
    Ok(read_columns(path, contents, place, None, Vec::new())?.0)
}

/// Reads a batch, or some of its columns, into these bytes, and gives them back beside it.
fn read_columns(
    path: &Path,
    contents: &Contents,
    place: &Place,
    columns: Option<&[usize]>,
    mut bytes: Vec<u8>,
) -> Result<(RecordBatch, Buffer), ArchiveError> {
    // Each column goes where the head says that it lies; what is not wanted leaves a hole.
    bytes.resize(place.head as usize + place.body as usize, 0);
    let schema = contents.schema_of(place);
    // Those that turned up later are not there.
    let there =
        columns.map(|columns| columns.iter().copied().filter(|at| *at < schema.fields().len()).collect::<Vec<_>>());
    let read = match &there {
        Some(columns) => read_parts(contents, place, columns, &mut bytes),
        None => contents.file.read_exact_at(&mut bytes, place.offset),
    };
    read.map_err(|source| ArchiveError::File { path: path.to_owned(), act: "read", source })?;
    let rows = || format!("rows {} to {}", place.first_row + 1, place.first_row + place.rows);
    let damaged = |what: String| ArchiveError::Damaged { path: path.to_owned(), what };
    let whole = columns.is_none();
    if let Some(sum) = place.sum.filter(|_| whole)
        && crc32fast::hash(&bytes) != sum
    {
        return Err(damaged(format!("{} are not what was written", rows())));
    }
    if !holds_together(schema, place, &bytes) {
        return Err(damaged(format!("{} do not lie where their message says", rows())));
    }
    let block = Block::new(place.offset as i64, place.head as i32, place.body as i64);
    let mut decoder = FileDecoder::new(Arc::clone(schema), MetadataVersion::V5);
    if let Some(columns) = there {
        decoder = decoder.with_projection(columns);
    }
    let bytes = Buffer::from_vec(bytes);
    // Where no checksum tells that bytes were changed, the library may stumble over them.
    let decoded = catch_unwind(AssertUnwindSafe(|| decoder.read_record_batch(&block, &bytes)));
    let batch = decoded.map_err(|_| damaged(format!("{} cannot be read", rows())))?;
    let batch = batch.map_err(|error| damaged(format!("{}: {error}", rows())))?;
    let batch = batch.ok_or_else(|| damaged(format!("{} are missing", rows())))?;
    Ok((with_late(batch, contents, place, columns)?, bytes))
}

/// A batch, or these columns of it, with the columns that turned up later.
fn with_late(
    batch: RecordBatch,
    contents: &Contents,
    place: &Place,
    columns: Option<&[usize]>,
) -> Result<RecordBatch, ArrowError> {
    if place.schema as usize + 1 == contents.schemas.len() {
        return Ok(batch);
    }
    let schema = match columns {
        Some(columns) => Arc::new(contents.schema.project(columns)?),
        None => Arc::clone(&contents.schema),
    };
    widen_batch(&batch, &schema)
}

/// Reads the head of a batch and the buffers of these columns to where they belong.
fn read_parts(contents: &Contents, place: &Place, columns: &[usize], bytes: &mut [u8]) -> io::Result<()> {
    let (head, body) = bytes.split_at_mut(place.head as usize);
    contents.file.read_exact_at(head, place.offset)?;
    let start = place.offset + u64::from(place.head);
    let message = head.get(8..).and_then(|head| root_as_message(head).ok());
    let buffers = message.and_then(|message| message.header_as_record_batch()).and_then(|batch| batch.buffers());
    let counts: Option<Vec<usize>> =
        contents.schema_of(place).fields().iter().map(|field| buffers_of(field.data_type())).collect();
    let (Some(buffers), Some(counts)) = (buffers, counts) else { return contents.file.read_exact_at(body, start) };
    let mut next = 0;
    for (column, count) in counts.into_iter().enumerate() {
        for buffer in buffers.iter().skip(next).take(count).filter(|_| columns.contains(&column)) {
            let part = usize::try_from(buffer.offset()).ok().zip(usize::try_from(buffer.length()).ok());
            let part = part.and_then(|(from, length)| body.get_mut(from..from.checked_add(length)?));
            let part = part.ok_or(io::ErrorKind::InvalidData)?;
            contents.file.read_exact_at(part, start + buffer.offset() as u64)?;
        }
        next += count;
    }
    Ok(())
}
