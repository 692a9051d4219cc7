//! Where files go, and how they are written so that others cannot read them and a crash cannot halve them.

pub mod encoding;
pub mod part_file;
pub mod parts;

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use etcetera::BaseStrategy;

/// The folders of the program, by the XDG base directory specification.
#[derive(Debug, Clone)]
pub struct Folders {
    /// Connections and settings.
    pub config: PathBuf,
    /// Buffers.
    pub data: PathBuf,
    /// The logbook, archives and journals.
    pub state: PathBuf,
}

impl Folders {
    /// The user's own.
    pub fn of_user() -> Result<Folders, FolderError> {
        let base = etcetera::base_strategy::Xdg::new().map_err(|_| FolderError)?;
        let under = |folder: PathBuf| folder.join("jaunty");
        Ok(Folders {
            config: under(base.config_dir()),
            data: under(base.data_dir()),
            state: under(base.state_dir().unwrap_or_else(|| base.data_dir())),
        })
    }

    /// All below one folder, for the demonstration and for tests.
    pub fn below(folder: &Path) -> Folders {
        Folders { config: folder.join("config"), data: folder.join("data"), state: folder.join("state") }
    }

    /// The logbook's file.
    pub fn logbook(&self) -> PathBuf {
        self.state.join("logbook.db")
    }

    /// Where archives lie.
    pub fn archives(&self) -> PathBuf {
        self.state.join("archives")
    }

    /// Where journals lie.
    pub fn journals(&self) -> PathBuf {
        self.state.join("journals")
    }

    /// Where catalogs are kept from one time to the next.
    pub fn catalogs(&self) -> PathBuf {
        self.state.join("catalogs")
    }

    /// Where changes to rows are kept that are not sent yet.
    pub fn slips(&self) -> PathBuf {
        self.state.join("slips")
    }

    /// Where it is noted what was in hand when a screen was left.
    pub fn lasts(&self) -> PathBuf {
        self.state.join("last")
    }

    /// Where it is noted which connections of projects a person wants.
    pub fn consents(&self) -> PathBuf {
        self.state.join("consents")
    }

    /// Where files under temporary names are remembered.
    pub fn parts(&self) -> PathBuf {
        self.state.join("parts")
    }

    /// The log of the program itself.
    pub fn log(&self) -> PathBuf {
        self.state.join("jaunty.log")
    }

    /// A person's own snippets.
    pub fn snippets(&self) -> PathBuf {
        self.config.join("snippets.toml")
    }

    /// The settings.
    pub fn settings(&self) -> PathBuf {
        self.config.join("settings.toml")
    }
}

/// There is no home folder to put files in.
#[derive(Debug, Clone, Copy, thiserror::Error)]
#[error("there is no home folder; set HOME, or XDG_CONFIG_HOME, XDG_DATA_HOME and XDG_STATE_HOME")]
pub struct FolderError;

/// Makes a folder that only its owner may enter, with all above it.
pub fn private_folder(folder: &Path) -> io::Result<()> {
    let mut builder = std::fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder.create(folder)
}

/// Files opened with these options are their owner's alone.
pub fn private(options: &mut OpenOptions) -> &mut OpenOptions {
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(options, 0o600);
    options
}

/// Replaces a file as a whole: a crash leaves the old text or the new one. Permissions are kept,
/// and a link stays a link.
pub fn replace(path: &Path, text: &[u8]) -> io::Result<()> {
    if part_file::is_no_file(path) {
        return part_file::opened(path)?.write_all(text);
    }
    let target = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let folder = target.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let name = target.file_name().ok_or(io::ErrorKind::InvalidInput)?;
    let mut temporary = folder.join(name);
    temporary.set_file_name(format!(".{}.{}.new", name.to_string_lossy(), std::process::id()));
    // It may hold what others may not see, a password say.
    let _remembered = parts::remember(&temporary);
    let outcome = write_new(&temporary, &target, text);
    if outcome.is_err() {
        let _ = std::fs::remove_file(&temporary);
    }
    outcome
}

fn write_new(temporary: &Path, target: &Path, text: &[u8]) -> io::Result<()> {
    let mut file = File::create(temporary)?;
    // Before the text: it may hold what others may not read.
    if let Ok(old) = std::fs::metadata(target) {
        file.set_permissions(old.permissions())?;
    }
    file.write_all(text)?;
    file.sync_all()?;
    std::fs::rename(temporary, target)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn replacing_keeps_permissions_and_links() {
        let folder = tempfile::tempdir().unwrap();
        let (file, link) = (folder.path().join("a.sql"), folder.path().join("b.sql"));
        std::fs::write(&file, "old").unwrap();
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o640)).unwrap();
            std::os::unix::fs::symlink(&file, &link).unwrap();
            replace(&link, b"new").unwrap();
            assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o640);
            assert!(link.is_symlink());
        }
        assert_eq!(std::fs::read_to_string(&file).unwrap(), "new");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2, "no temporary file is left");
    }
}
