//! `jaunty buffers`: the buffers of the project and of the user, by the names that other commands take.

use std::path::{Path, PathBuf};

use jaunty_core::buffers::names::{all, find, roots};
use jaunty_core::words;
use jaunty_language::dialect::DIALECTS;
use serde_json::json;

use crate::args::Buffers;
use crate::failure::Failure;

fn folders() -> Result<Vec<PathBuf>, Failure> {
    let folders = crate::open::folders()?;
    Ok(roots(&folders, crate::open::project_folder().as_deref()))
}

fn endings() -> Vec<&'static str> {
    DIALECTS.iter().map(|dialect| dialect.extension).collect()
}

/// Lists them.
pub fn list(args: &Buffers) -> Result<(), Failure> {
    let mut lines = String::new();
    let all = all(&folders()?, &endings());
    let widest = all.iter().map(|buffer| buffer.name.chars().count()).max().unwrap_or_default();
    for buffer in all {
        let data = std::fs::metadata(&buffer.path).ok();
        let (name, size) = (&buffer.name, data.as_ref().map_or(0, std::fs::Metadata::len));
        let changed = data.and_then(|data| data.modified().ok()).map(chrono::DateTime::<chrono::Local>::from);
        lines.push_str(&match (args.names, args.json) {
            (true, _) => format!("{name}\n"),
            (_, true) => {
                let changed = changed.map(|changed| changed.to_rfc3339_opts(chrono::SecondsFormat::Secs, false));
                let path = buffer.path.display().to_string();
                format!("{}\n", json!({ "name": name, "path": path, "bytes": size, "changed": changed }))
            }
            _ => {
                let changed = changed.map(|changed| changed.format("%Y-%m-%d %H:%M").to_string()).unwrap_or_default();
                format!("{name:widest$}  {changed}  {}\n", words::bytes(size))
            }
        });
    }
    super::print(&lines)
}

/// The file that a person means: what they wrote where that is there, or the buffer of that name.
pub fn meant(file: PathBuf) -> PathBuf {
    if file.exists() || file.is_absolute() {
        return file;
    }
    let named = |name: &str| find(&folders().ok()?, &endings(), name);
    Path::to_str(&file).and_then(named).unwrap_or(file)
}
