//! A file that gets its name when it is whole: never half a file under the name that a person gave.
//!
//! What is not a plain file (a device, a pipe, `/dev/stdout`) cannot be replaced by one: it is written to as it is. A link
//! stays one, and what it leads to is replaced; permissions of a file that was there are kept.

use std::fs::{File, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use super::parts::{Remembered, remember};

/// A file under its temporary name. Dropped before [`PartFile::finish`], it is removed.
#[derive(Debug)]
pub struct PartFile {
    out: Option<BufWriter<File>>,
    /// Its temporary name; none where it is written to as it is.
    beside: Option<PathBuf>,
    path: PathBuf,
    _remembered: Option<Remembered>,
}

/// Where a link leads to, also if nothing is there; any other path as it is.
fn target(path: &Path) -> PathBuf {
    let is_link = path.symlink_metadata().is_ok_and(|data| data.file_type().is_symlink());
    match is_link.then(|| path.canonicalize().or_else(|_| path.read_link().map(|to| path.with_file_name(to)))) {
        Some(Ok(target)) => target,
        _ => path.to_owned(),
    }
}

/// Whether something is there that is not a plain file, and not a folder either; or that is one, but is named as what is open
/// already (`/dev/stdout`, which may go into a file): whoever opened that would not see another in its place.
pub(super) fn is_no_file(path: &Path) -> bool {
    let is_open = ["/dev/stdout", "/dev/stderr", "/dev/fd", "/proc"].iter().any(|open| path.starts_with(open));
    path.metadata().is_ok_and(|data| !data.is_dir() && (is_open || !data.is_file()))
}

/// Opens what is written to as it is: after what is there, if it is a file.
pub(super) fn opened(path: &Path) -> io::Result<File> {
    OpenOptions::new().append(true).open(path)
}

impl PartFile {
    /// Begins a file beside the place where it will stand.
    pub fn create(path: &Path) -> io::Result<PartFile> {
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        if path.is_dir() || path.file_name().is_none() {
            return Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a folder"));
        }
        if is_no_file(path) {
            let out = BufWriter::with_capacity(1 << 16, opened(path)?);
            return Ok(PartFile { out: Some(out), beside: None, path: path.to_owned(), _remembered: None });
        }
        let path = target(path);
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let beside = path.with_file_name(format!(".{name}.{}-{number}.part", std::process::id()));
        let remembered = remember(&beside);
        let file = File::create_new(&beside)?;
        if let Ok(old) = path.metadata() {
            file.set_permissions(old.permissions())?;
        }
        let out = BufWriter::with_capacity(1 << 16, file);
        Ok(PartFile { out: Some(out), beside: Some(beside), path, _remembered: Some(remembered) })
    }

    /// Whether it is a device or a pipe, which has what was written as soon as it is written.
    pub fn is_written_through(&self) -> bool {
        self.beside.is_none()
    }

    /// Where it stands until it gets its name, for whoever writes it in another way. An error where it has no such place.
    pub fn place(&self) -> io::Result<&Path> {
        self.beside.as_deref().ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "it is not a plain file"))
    }

    /// Gives it its name. A file that had the name before is replaced.
    pub fn finish(mut self) -> io::Result<()> {
        let out = self.out.take();
        let Some(beside) = &self.beside else { return out.map_or(Ok(()), |mut out| out.flush()) };
        if let Some(mut out) = out {
            out.flush()?;
            // A disk that is full may say so only now.
            out.get_ref().sync_data()?;
        }
        std::fs::rename(beside, &self.path)
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
        if let Some(beside) = &self.beside {
            let _ = std::fs::remove_file(beside);
        }
    }
}

#[cfg(all(test, unix))]
mod tests {
    use std::os::unix::fs::{FileTypeExt as _, PermissionsExt, symlink};

    use super::*;

    fn written(path: &Path, text: &str) -> io::Result<()> {
        let mut file = PartFile::create(path)?;
        file.write_all(text.as_bytes())?;
        file.finish()
    }

    #[test]
    fn links_and_permissions_stay() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("rows.csv"), "old").unwrap();
        std::fs::set_permissions(at("rows.csv"), PermissionsExt::from_mode(0o600)).unwrap();
        symlink("rows.csv", at("link.csv")).unwrap();
        symlink("new.csv", at("ahead.csv")).unwrap();
        for name in ["link.csv", "ahead.csv"] {
            written(&at(name), "new").unwrap();
            assert!(at(name).symlink_metadata().unwrap().file_type().is_symlink(), "{name}");
        }
        assert_eq!(std::fs::read_to_string(at("rows.csv")).unwrap(), "new");
        assert_eq!(at("rows.csv").metadata().unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(std::fs::read_to_string(at("new.csv")).unwrap(), "new");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 4, "nothing else is left");
    }

    #[test]
    fn a_pipe_is_written_to_and_stays_one() {
        let folder = tempfile::tempdir().unwrap();
        let pipe = folder.path().join("pipe");
        assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
        let reader = std::thread::spawn({
            let pipe = pipe.clone();
            move || std::fs::read_to_string(pipe).unwrap()
        });
        written(&pipe, "rows").unwrap();
        assert_eq!(reader.join().unwrap(), "rows");
        assert!(pipe.symlink_metadata().unwrap().file_type().is_fifo());
        assert!(PartFile::create(Path::new("/dev/null")).unwrap().place().is_err());
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}
