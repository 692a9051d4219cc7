//! Writing an archive as rows arrive.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::RecordBatch;
use arrow_array::cast::AsArray;
use arrow_ipc::writer::{FileWriter, StreamWriter};
use arrow_schema::{ArrowError, DataType, FieldRef, Schema, SchemaRef};
use arrow_select::take::take;

use super::reader::{Contents, read_place};
use super::{Archive, ArchiveError, CHECKSUMS, LATE, Place};
use jaunty_seam::rows::widen::{common_schema, widen_batch};

/// Appends batches to an archive. Dropping it leaves the file as a crash would: readable up to the
/// last batch.
pub struct Writer {
    archive: Arc<Archive>,
    file: Option<Output>,
}

/// What messages are written by.
enum Output {
    /// A file of one schema, which other programs read.
    One(FileWriter<Counted>),
    /// The messages after a further schema; how many there were before.
    Late(StreamWriter<Counted>, u32),
}

impl Output {
    fn counted(&mut self) -> &mut Counted {
        match self {
            Output::One(file) => file.get_mut(),
            Output::Late(file, _) => file.get_mut(),
        }
    }

    fn write(&mut self, batch: &RecordBatch) -> Result<(), ArrowError> {
        match self {
            Output::One(file) => file.write(batch),
            Output::Late(file, _) => file.write(batch),
        }
    }

    /// Which of the file's schemas is written.
    fn schema(&self) -> u32 {
        match self {
            Output::One(_) => 0,
            Output::Late(_, before) => *before,
        }
    }

    fn finish(self) -> Result<(), ArrowError> {
        match self {
            Output::One(mut file) => {
                let sums = std::mem::take(&mut file.get_mut().sums);
                file.write_metadata(CHECKSUMS, sums);
                file.finish()
            }
            Output::Late(mut file, _) => {
                file.finish()?;
                let sums = std::mem::take(&mut file.get_mut().sums);
                let length = u32::try_from(sums.len()).unwrap_or(u32::MAX).to_le_bytes();
                Ok(file.get_mut().write_all(&[sums.as_bytes(), &length, LATE].concat())?)
            }
        }
    }
}

/// Counts what goes through to the file.
#[derive(Debug)]
struct Counted {
    file: File,
    written: u64,
    /// The checksum of what was written since it was taken last.
    sum: crc32fast::Hasher,
    /// Those of the messages so far, in hexadecimal digits.
    sums: String,
}

impl Counted {
    /// The same, for another to go on with.
    fn taken(&mut self) -> io::Result<Counted> {
        let (sum, sums) = (std::mem::take(&mut self.sum), std::mem::take(&mut self.sums));
        Ok(Counted { file: self.file.try_clone()?, written: self.written, sum, sums })
    }

    /// Ends a message: its checksum is known.
    fn end_message(&mut self) -> u32 {
        let sum = std::mem::take(&mut self.sum).finalize();
        self.sums.push_str(&format!("{sum:08x}"));
        sum
    }
}

impl Write for Counted {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.written += written as u64;
        self.sum.update(bytes.get(..written).unwrap_or_default());
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl Writer {
    /// Begins an archive in a new file, which only its owner can read.
    pub fn create(path: &Path, schema: &SchemaRef) -> Result<Writer, ArchiveError> {
        let schema = plain_schema(schema);
        let (file, reader) = begin(path, &schema)?;
        let archive = Arc::new(Archive::new(path.to_owned(), Contents::empty(reader, schema)));
        Ok(Writer { archive, file: Some(file) })
    }

    /// The archive, to read from while it grows.
    pub fn archive(&self) -> &Arc<Archive> {
        &self.archive
    }

    /// Adds rows. When this returns they can be read.
    ///
    /// A batch may have wider columns than those before; the archive is then written anew, once, with all rows in the
    /// wider schema. Further columns behind those of before only take another schema from here on.
    pub fn write(&mut self, batch: &RecordBatch) -> Result<(), ArchiveError> {
        let batch = &plain_batch(batch)?;
        let schema = self.archive.schema();
        if batch.schema().fields() == schema.fields() {
            return self.append(batch);
        }
        let wide = common_schema(&schema, &batch.schema())
            .ok_or_else(|| ArrowError::SchemaError("a batch of another result".into()))?;
        let wide = Arc::new(wide);
        if wide.fields().get(..schema.fields().len()) != Some(schema.fields().as_ref()) {
            self.widen(&wide)?;
        } else if wide.fields() != schema.fields() {
            self.add_columns(&wide)?;
        }
        self.append(&widen_batch(batch, &wide)?)
    }

    fn append(&mut self, batch: &RecordBatch) -> Result<(), ArchiveError> {
        if batch.num_rows() == 0 {
            return Ok(());
        }
        let Some(file) = &mut self.file else { return Ok(()) };
        let first_row = self.archive.rows();
        let place = append(file, batch, first_row).map_err(|source| file_error(self.archive.path(), source))?;
        self.archive.add(place);
        Ok(())
    }

    /// Writes another schema from here on.
    fn add_columns(&mut self, schema: &SchemaRef) -> Result<(), ArchiveError> {
        let Some(file) = self.file.take() else { return Ok(()) };
        let before = file.schema() + 1;
        let counted = match file {
            Output::One(mut file) => file.get_mut().taken(),
            Output::Late(mut file, _) => file.get_mut().taken(),
        };
        let counted = counted.map_err(|source| file_error(self.archive.path(), source))?;
        let mut late = StreamWriter::try_new(counted, schema)?;
        late.get_mut().end_message();
        self.file = Some(Output::Late(late, before));
        self.archive.add_schema(Arc::clone(schema));
        Ok(())
    }

    /// Writes the archive anew in a wider schema. Its readers see the old rows or the new ones,
    /// never a mixture.
    fn widen(&mut self, schema: &SchemaRef) -> Result<(), ArchiveError> {
        let path = self.archive.path().to_owned();
        let beside = path.with_extension("wider");
        let (mut file, reader) = begin(&beside, schema)?;
        let old = self.archive.snapshot();
        let mut contents = Contents::empty(reader, Arc::clone(schema));
        for place in &old.places {
            let batch = widen_batch(&read_place(&path, &old, place)?, schema)?;
            let place = append(&mut file, &batch, place.first_row).map_err(|source| file_error(&beside, source))?;
            contents.places.push(place);
        }
        std::fs::rename(&beside, &path).map_err(|source| file_error(&path, source))?;
        self.archive.replace(contents);
        self.file = Some(file);
        Ok(())
    }

    /// Writes the footer, by which other programs find the batches.
    pub fn finish(mut self) -> Result<(), ArchiveError> {
        match self.file.take() {
            Some(file) => Ok(file.finish()?),
            None => Ok(()),
        }
    }
}

/// The type of a column in an archive. Values of a dictionary stand there themselves: each batch is then readable
/// alone, as after a crash.
fn plain_type(of: &DataType) -> DataType {
    match of {
        DataType::Dictionary(_, values) => plain_type(values),
        other => other.clone(),
    }
}

fn plain_schema(schema: &SchemaRef) -> SchemaRef {
    let is_dictionary = |field: &FieldRef| matches!(field.data_type(), DataType::Dictionary(..));
    if !schema.fields().iter().any(is_dictionary) {
        return Arc::clone(schema);
    }
    let fields =
        schema.fields().iter().map(|field| field.as_ref().clone().with_data_type(plain_type(field.data_type())));
    Arc::new(Schema::new_with_metadata(fields.collect::<Vec<_>>(), schema.metadata().clone()))
}

/// The values of a dictionary may be another.
fn plain_column(column: &ArrayRef) -> Result<ArrayRef, ArrowError> {
    match column.as_any_dictionary_opt() {
        Some(words) => plain_column(&take(words.values(), words.keys(), None)?),
        None => Ok(Arc::clone(column)),
    }
}

fn plain_batch(batch: &RecordBatch) -> Result<RecordBatch, ArrowError> {
    let schema = plain_schema(batch.schema_ref());
    if Arc::ptr_eq(&schema, batch.schema_ref()) {
        return Ok(batch.clone());
    }
    let columns = batch.columns().iter().map(plain_column);
    RecordBatch::try_new(schema, columns.collect::<Result<Vec<_>, _>>()?)
}

fn file_error(path: &Path, source: io::Error) -> ArchiveError {
    ArchiveError::File { path: path.to_owned(), act: "written", source }
}

fn begin(path: &Path, schema: &Schema) -> Result<(Output, File), ArchiveError> {
    let open = || {
        if let Some(folder) = path.parent() {
            crate::files::private_folder(folder)?;
        }
        crate::files::private(OpenOptions::new().read(true).write(true).create(true).truncate(true)).open(path)
    };
    let file = open().map_err(|source| file_error(path, source))?;
    let reader = file.try_clone().map_err(|source| file_error(path, source))?;
    let counted = Counted { file, written: 0, sum: crc32fast::Hasher::new(), sums: String::new() };
    let mut file = FileWriter::try_new(counted, schema)?;
    file.get_mut().end_message();
    Ok((Output::One(file), reader))
}

fn append(file: &mut Output, batch: &RecordBatch, first_row: u64) -> io::Result<Place> {
    let offset = file.counted().written;
    file.write(batch).map_err(|error| match error {
        ArrowError::IoError(_, source) => source,
        other => io::Error::other(other),
    })?;
    let schema = file.schema();
    let counted = file.counted();
    let length = counted.written - offset;
    let head = super::message::head_length(&counted.file, offset)?;
    let sum = Some(counted.end_message());
    Ok(Place { offset, head, body: length - u64::from(head), first_row, rows: batch.num_rows() as u64, sum, schema })
}

impl Drop for Writer {
    fn drop(&mut self) {
        // Half a rewrite is of no use to anybody.
        let beside: PathBuf = self.archive.path().with_extension("wider");
        if beside.exists() {
            let _ = std::fs::remove_file(beside);
        }
    }
}
