//! Catalogs on disk, one per profile: completion works before the server has answered, and without it.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::io;
use std::path::{Path, PathBuf};

use crate::files;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::profile::Profile;

/// The file of a profile. The name alone does not tell: what the profile points at may have changed.
fn path(folder: &Path, profile: &Profile) -> PathBuf {
    let mut hasher = DefaultHasher::new();
    (&profile.name, &profile.engine, &profile.file).hash(&mut hasher);
    for (key, setting) in profile.shown() {
        (key, setting.to_string()).hash(&mut hasher);
    }
    // A URL may hold a password, which must not be in a name either: its digest is of no use to anybody.
    profile.text("url").hash(&mut hasher);
    folder.join(format!("{:016x}.json", hasher.finish()))
}

/// Writes a catalog, in a file that only its owner can read.
pub fn keep(folder: &Path, profile: &Profile, catalog: &Catalog) -> io::Result<()> {
    files::private_folder(folder)?;
    let path = path(folder, profile);
    let new = path.with_extension(format!("{}.new", std::process::id()));
    let file = files::private(std::fs::OpenOptions::new().write(true).create(true).truncate(true)).open(&new)?;
    let mut file = io::BufWriter::new(file);
    serde_json::to_writer(&mut file, catalog)?;
    io::Write::flush(&mut file)?;
    std::fs::rename(new, path)
}

/// Whether there is one.
pub fn is_kept(folder: &Path, profile: &Profile) -> bool {
    path(folder, profile).exists()
}

/// Reads the catalog that was kept for a profile, if there is one. One that cannot be read (of
/// another version, or cut short) is as good as none.
pub fn kept(folder: &Path, profile: &Profile) -> Option<Catalog> {
    let bytes = std::fs::read(path(folder, profile)).ok()?;
    let mut catalog: Catalog = serde_json::from_slice(&bytes)
        .inspect_err(|error| tracing::warn!(%error, "a kept catalog cannot be read"))
        .ok()?;
    catalog.prepare();
    Some(catalog)
}
