//! Where rows go: standard output or a file, through an exporter, as they come.

use std::io::{self, BufWriter, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;
use jaunty_core::engine::{Flow, Notice, Sink};
use jaunty_core::export::{Cleaned, ExportError, Exporter, Format};

use crate::failure::Failure;

/// The output of a headless run. Results follow one another.
pub struct Output {
    out: Box<dyn Write + Send>,
    exporter: Box<dyn Exporter>,
    /// Writes a line about results without rows to standard error, for a person at a terminal.
    tells: bool,
    /// Where a file is written until it is whole, and its final name.
    file: Option<(PathBuf, PathBuf)>,
    open: bool,
    results: usize,
    blank_between: bool,
    failed: Option<ExportError>,
    name: String,
    /// Only so many rows of a result are written, and then how many there were.
    most: Option<usize>,
    written: usize,
    left_out: usize,
}

impl Output {
    /// Opens the output.
    pub fn open(path: Option<&Path>, format: Format) -> Result<Output, Failure> {
        let blank_between = matches!(format, Format::Table | Format::Markdown);
        let (out, file, name): (Box<dyn Write + Send>, _, _) = match path {
            None if io::stdout().is_terminal() => {
                (Box::new(BufWriter::new(Cleaned(io::stdout()))), None, "standard output".into())
            }
            None => (Box::new(BufWriter::with_capacity(1 << 16, io::stdout())), None, "standard output".into()),
            Some(path) => {
                let name = path.display().to_string();
                let mut beside = path.to_owned();
                beside.set_file_name(format!(".{}.part", path.file_name().unwrap_or_default().to_string_lossy()));
                let file = std::fs::File::create(&beside).map_err(|error| Failure::output(&error, &name))?;
                (Box::new(BufWriter::with_capacity(1 << 16, file)), Some((beside, path.to_owned())), name)
            }
        };
        Ok(Output {
            out,
            exporter: format.exporter(),
            tells: io::stderr().is_terminal(),
            file,
            open: false,
            results: 0,
            blank_between,
            failed: None,
            name,
            most: None,
            written: 0,
            left_out: 0,
        })
    }

    /// Opens standard output for the first rows of results only.
    pub fn shortened(format: Format, most: usize) -> Result<Output, Failure> {
        Ok(Output { most: Some(most), ..Output::open(None, format)? })
    }

    fn attempt(&mut self, act: impl FnOnce(&mut dyn Exporter, &mut dyn Write) -> Result<(), ExportError>) -> Flow {
        if self.failed.is_none() {
            self.failed = act(self.exporter.as_mut(), &mut self.out).err();
        }
        if self.failed.is_some() { Flow::Stop } else { Flow::GoOn }
    }

    fn end_result(&mut self) -> Flow {
        if !std::mem::take(&mut self.open) {
            return Flow::GoOn;
        }
        let (written, left_out) = (std::mem::take(&mut self.written), std::mem::take(&mut self.left_out));
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
        self.attempt(|_, out| Ok(out.flush()?));
        let failed = self.failed.take().map(|error| match error {
            ExportError::Output(error) => Failure::output(&error, &self.name),
            ExportError::Rows(error) => Failure::Usage(format!("{} cannot be written: {error}", self.name)),
        });
        if let Some((beside, path)) = self.file.take() {
            if failed.is_none() && whole {
                std::fs::rename(&beside, &path).map_err(|error| Failure::output(&error, &self.name))?;
            } else {
                let _ = std::fs::remove_file(&beside);
            }
        }
        failed.map_or(Ok(()), Err)
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
        if self.lock().failed.is_some() { Flow::Stop } else { Flow::GoOn }
    }

    fn columns(&mut self, schema: SchemaRef) -> Flow {
        let mut output = self.lock();
        output.end_result();
        output.open = true;
        output.results += 1;
        if output.results > 1 && output.blank_between {
            output.attempt(|_, out| Ok(out.write_all(b"\n")?));
        }
        output.attempt(|exporter, out| exporter.columns(&schema, out))
    }

    fn batch(&mut self, batch: RecordBatch) -> Flow {
        let mut output = self.lock();
        let rows = batch.num_rows();
        let take = output.most.map_or(rows, |most| rows.min(most.saturating_sub(output.written)));
        output.written += take;
        output.left_out += rows - take;
        let batch = batch.slice(0, take);
        output.attempt(|exporter, out| exporter.batch(&batch, out))
    }

    fn affected(&mut self, rows: Option<u64>) -> Flow {
        let mut output = self.lock();
        match rows {
            // The demonstration prints one story; a run keeps standard output for rows.
            Some(rows) if output.most.is_some() => output.attempt(|_, out| Ok(writeln!(out, "{rows} rows changed")?)),
            Some(rows) if output.tells => {
                eprintln!("{rows} rows changed");
                Flow::GoOn
            }
            _ => Flow::GoOn,
        }
    }

    fn notice(&mut self, notice: Notice) {
        eprintln!("{}: {}", notice.severity, jaunty_core::text::clean::clean_lines(&notice.text));
    }
}
