//! Paths as people write them.

use std::path::{Path, PathBuf};

/// A path as a person writes it: `~/` is the home folder, and what is relative is relative to `base`.
pub fn written(text: &Path, base: &Path) -> PathBuf {
    match (text.strip_prefix("~"), etcetera::home_dir()) {
        (Ok(rest), Ok(home)) => home.join(rest),
        _ => base.join(text),
    }
}
