//! A file that gets its name when it is whole: never half a file under the name that a person gave.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use super::parts::{Remembered, remember};

/// A file under its temporary name. Dropped before [`PartFile::finish`], it is removed.
#[derive(Debug)]
pub struct PartFile {
    out: Option<BufWriter<File>>,
    beside: PathBuf,
    path: PathBuf,
    _remembered: Remembered,
}

impl PartFile {
    /// Begins a file beside the place where it will stand.
    pub fn create(path: &Path) -> io::Result<PartFile> {
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        if path.is_dir() || path.file_name().is_none() {
            return Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a folder"));
        }
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let beside = path.with_file_name(format!(".{name}.{}-{number}.part", std::process::id()));
        let _remembered = remember(&beside);
        let out = BufWriter::with_capacity(1 << 16, File::create_new(&beside)?);
        Ok(PartFile { out: Some(out), beside, path: path.to_owned(), _remembered })
    }

    /// Where it stands until it gets its name, for whoever writes it in another way.
    pub fn place(&self) -> &Path {
        &self.beside
    }

    /// Gives it its name. A file that had the name before is replaced.
    pub fn finish(mut self) -> io::Result<()> {
        if let Some(mut out) = self.out.take() {
            out.flush()?;
            // A disk that is full may say so only now.
            out.get_ref().sync_data()?;
        }
        std::fs::rename(&self.beside, &self.path)
    }
}

impl Write for PartFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.out.as_mut().map_or(Ok(0), |out| out.write(bytes))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.as_mut().map_or(Ok(()), Write::flush)
    }
}

impl Drop for PartFile {
    fn drop(&mut self) {
        // After it got its name, nothing has this one.
        let _ = std::fs::remove_file(&self.beside);
    }
}
