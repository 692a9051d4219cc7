//! Drawings in files: SVG or PDF, by the ending.

use std::io::{self, Write};
use std::path::Path;

use crate::files::part_file::PartFile;
use jaunty_picture::{Look, Scene, pdf, svg};

/// What a file ends in, of those that drawings are written in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Paper {
    /// SVG.
    Svg,
    /// PDF.
    Pdf,
}

impl Paper {
    /// The kind that a file's ending says; none where it says another.
    pub fn of(path: &Path) -> Option<Paper> {
        match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
            "svg" => Some(Paper::Svg),
            "pdf" => Some(Paper::Pdf),
            _ => None,
        }
    }
}

/// Writes a drawing. The file gets its name when it is whole.
pub fn save(scene: Scene, path: &Path, paper: Paper) -> io::Result<()> {
    let bytes = match paper {
        Paper::Pdf => pdf::write(&[scene], Look::Light),
        Paper::Svg => svg::write(&scene, Look::Light).into_bytes(),
    };
    let mut part = PartFile::create(path)?;
    part.write_all(&bytes)?;
    part.finish()
}
