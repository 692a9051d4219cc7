//! Where rows go: standard output or a file, through an exporter, as they come.

use std::io::{self, BufWriter, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::RecordBatch;
use arrow_schema::Schema;
use jaunty_core::arrange::pick::Part;
use jaunty_core::chart::plot::Texts;
use jaunty_core::export::file::{of_result, remedy};
use jaunty_core::export::{Cleaned, ExportError, Exporter, Format, Options};
use jaunty_core::files::part_file::PartFile;
use jaunty_core::words;
use jaunty_seam::engine::{Event, Flow, Sink};

use super::interrupt::Interrupt;
use super::progress;
use crate::failure::Failure;

/// The output of a headless run. Results follow one another.
pub struct Output {
    out: Out,
    format: Format,
    options: Options,
    exporter: Box<dyn Exporter>,
    /// The file of the first result.
    path: Option<PathBuf>,
    /// The files of results before, which get their names together with that of the last.
    before: Vec<PartFile>,
    /// Writes a line about results without rows to standard error, for a person at a terminal.
    tells: bool,
    open: bool,
    /// The result began without columns.
    bare: bool,
    results: usize,
    failed: Option<ExportError>,
    name: String,
    /// Only so many rows of a result are written, and then how many there were.
    most: Option<usize>,
    written: usize,
    left_out: usize,
}

/// What is written to.
enum Out {
    Stream(Box<dyn Write + Send>),
    File(PartFile),
    Closed,
}

impl Write for Out {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Out::Stream(out) => out.write(bytes),
            Out::File(file) => file.write(bytes),
            Out::Closed => Ok(bytes.len()),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Out::Stream(out) => out.flush(),
            Out::File(file) => file.flush(),
            Out::Closed => Ok(()),
        }
    }
}

impl Output {
    /// Opens the output.
    pub fn open(path: Option<&Path>, format: Format, options: &Options) -> Result<Output, Failure> {
        let terminal = io::stdout().is_terminal();
        if path.is_none() && terminal && !format.is_text() {
            let word = format.word();
            return Err(Failure::Usage(format!("{word} cannot be shown on a terminal; name a file with --output")));
        }
        let (out, name): (Out, _) = match path {
            None if terminal => {
                (Out::Stream(Box::new(BufWriter::new(Cleaned(io::stdout())))), "standard output".into())
            }
            None => {
                let out = BufWriter::with_capacity(1 << 16, io::stdout());
                (Out::Stream(Box::new(out)), "standard output".into())
            }
            Some(path) => {
                let name = path.display().to_string();
                (Out::File(PartFile::create(path).map_err(|error| Failure::output(&error, &name))?), name)
            }
        };
        Ok(Output {
            out,
            format,
            options: options.clone(),
            exporter: format.exporter(options),
            path: path.map(Path::to_owned),
            before: Vec::new(),
            tells: io::stderr().is_terminal(),
            open: false,
            bare: false,
            results: 0,
            failed: None,
            name,
            most: None,
            written: 0,
            left_out: 0,
        })
    }

    /// Opens standard output for the first rows of results only.
    pub fn shortened(format: Format, most: usize) -> Result<Output, Failure> {
        Ok(Output { most: Some(most), ..Output::open(None, format, &Options::default())? })
    }

    /// Says what stands above and below a picture of the rows that come next.
    pub fn about(&mut self, texts: Texts) {
        if self.format.is_picture() {
            self.options.texts = texts;
            // What came before is drawn first, with its own.
            self.end_result();
            if self.results == 0 {
                self.exporter = self.format.exporter(&self.options);
            }
        }
    }

    /// Whether rows are taken as they come; else when all of them are kept.
    pub fn takes_rows_as_they_come(&self) -> bool {
        !self.format.needs_types()
    }

    /// Whether standard error is free for progress: rows do not go to the same terminal.
    pub fn shows_progress(&self) -> bool {
        self.tells && (matches!(self.out, Out::File(_)) || !io::stdout().is_terminal())
    }

    fn attempt(&mut self, act: impl FnOnce(&mut dyn Exporter, &mut dyn Write) -> Result<(), ExportError>) -> Flow {
        if self.failed.is_none() {
            self.failed = act(self.exporter.as_mut(), &mut self.out).err();
        }
        if self.failed.is_some() { Flow::Stop } else { Flow::Continue }
    }

    fn end_result(&mut self) -> Flow {
        if !std::mem::take(&mut self.open) {
            return Flow::Continue;
        }
        let (written, left_out) = (std::mem::take(&mut self.written), std::mem::take(&mut self.left_out));
        // No header tells that nothing was found, as where no documents were.
        if self.tells && self.bare && written == 0 {
            eprintln!("0 rows");
        }
        self.attempt(|exporter, out| {
            exporter.finish(out)?;
            if left_out > 0 {
                writeln!(out, "… and {left_out} more rows ({} in all)", written + left_out)?;
            }
            Ok(())
        })
    }

    /// Ends the output. A file gets its final name only now, when it is whole.
    pub fn close(&mut self, whole: bool) -> Result<(), Failure> {
        self.end_result();
        self.attempt(|exporter, out| exporter.close(out));
        self.attempt(|_, out| Ok(out.flush()?));
        if let Some(error) = self.failed.take() {
            self.out = Out::Closed;
            return Err(match error {
                ExportError::Output(error) if error.kind() == io::ErrorKind::BrokenPipe => Failure::Closed,
                other => Failure::Usage(format!("{} cannot be written: {other}. {}", self.name, remedy(&other))),
            });
        }
        let last = std::mem::replace(&mut self.out, Out::Closed);
        let Out::File(last) = last else { return Ok(()) };
        let mut files = self.before.drain(..).chain([last]).filter(|_| whole);
        files.try_for_each(PartFile::finish).map_err(|error| Failure::output(&error, &self.name))
    }

    /// Writes a part of a result that is kept, unless a person stops it.
    pub fn write(&mut self, part: &Part, interrupt: &Interrupt) -> Result<(), Failure> {
        let (shows, what) = (self.shows_progress(), self.name.clone());
        self.begin(&part.schema());
        progress::with_cancel(shows, &what, interrupt, |progress| {
            progress.expect(part.len());
            for batch in part.batches() {
                let batch = batch.map_err(|error| Failure::Usage(error.to_string()))?;
                if self.batch(&batch) == Flow::Stop {
                    break;
                }
                progress.advance(batch.num_rows()).map_err(|_| self.stopped())?;
            }
            Ok(())
        })
    }

    /// The failure of a person having stopped it.
    fn stopped(&self) -> Failure {
        Failure::Stopped(match self.out {
            Out::File(ref file) if !file.is_written_through() => {
                format!("cancelled; nothing was written to {}", self.name)
            }
            _ => "cancelled; the output is incomplete".into(),
        })
    }

    fn begin(&mut self, schema: &Schema) -> Flow {
        self.end_result();
        if self.results > 0 && self.format.holds_one() {
            self.begin_file();
        }
        self.open = true;
        self.bare = schema.fields().is_empty();
        self.results += 1;
        if self.results > 1 && matches!(self.format, Format::Table | Format::Markdown) {
            self.attempt(|_, out| Ok(out.write_all(b"\n")?));
        }
        self.attempt(|exporter, out| exporter.columns(schema, out))
    }

    /// Begins the next file, where files are written to.
    fn begin_file(&mut self) {
        let Some(next) = self.path.as_deref().map(|path| of_result(path, self.results)) else { return };
        self.attempt(|exporter, out| exporter.close(out));
        self.attempt(|_, out| Ok(out.flush()?));
        // A device or a pipe takes one after the other.
        if matches!(&self.out, Out::File(file) if file.is_written_through()) {
            self.exporter = self.format.exporter(&self.options);
            return;
        }
        match PartFile::create(&next) {
            Ok(next) => {
                if let Out::File(file) = std::mem::replace(&mut self.out, Out::File(next)) {
                    self.before.push(file);
                }
                self.exporter = self.format.exporter(&self.options);
            }
            Err(error) => self.failed = self.failed.take().or(Some(error.into())),
        }
    }

    /// The result is whole, or there was none.
    fn ends(&mut self, affected: Option<u64>) -> Flow {
        let Some(rows) = affected.filter(|_| !self.open) else { return Flow::Continue };
        // The demonstration prints one story; a run keeps standard output for rows.
        if self.most.is_some() {
            return self.attempt(|_, out| Ok(writeln!(out, "{rows} rows changed")?));
        }
        if self.tells {
            eprintln!("{rows} rows changed");
        }
        Flow::Continue
    }

    fn batch(&mut self, batch: &RecordBatch) -> Flow {
        let rows = batch.num_rows();
        let take = self.most.map_or(rows, |most| rows.min(most.saturating_sub(self.written)));
        self.written += take;
        self.left_out += rows - take;
        let batch = batch.slice(0, take);
        self.attempt(|exporter, out| exporter.batch(&batch, out))
    }
}

/// An output that runs one after the other write to.
#[derive(Clone)]
pub struct Shared(pub Arc<Mutex<Output>>);

impl Shared {
    /// The output.
    pub fn lock(&self) -> std::sync::MutexGuard<'_, Output> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Sink for Shared {
    fn wanted(&self) -> Flow {
        if self.lock().failed.is_some() { Flow::Stop } else { Flow::Continue }
    }

    fn take(&mut self, event: Event) -> Flow {
        let mut output = self.lock();
        match event {
            Event::Begins { schema, .. } => output.begin(&schema),
            Event::Rows(batch) => output.batch(&batch),
            Event::Ends { affected } => output.ends(affected),
            Event::Message(message) => {
                drop(output);
                eprintln!("{}", words::message(&message));
                Flow::Continue
            }
            Event::Output(_) | Event::Progress(_) | Event::QueryId(_) => Flow::Continue,
        }
    }
}
