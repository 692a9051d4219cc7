//! The font of pictures: DejaVu Sans Mono (fonts/LICENSE), which has Latin, Greek and Cyrillic letters, and of which each
//! picture carries the characters that it uses.
//!
//! Source of the tables: OpenType specification 1.9.1, "Font File" and the chapters of the tables named here.

use std::collections::{BTreeMap, BTreeSet};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ttf_parser::{Face, Tag};

/// What the embedded part is called.
pub const NAME: &str = "DejaVu Sans Mono";

/// The width of a character at a size of 1.
pub const ADVANCE: f32 = 1233.0 / 2048.0;

/// The size of text, in points.
pub const SIZE: f32 = 9.0;

/// The size of headings, in points.
pub const STRONG: f32 = 11.0;

const FONT: &[u8] = include_bytes!("../fonts/DejaVuSansMono.ttf");

/// How far below the middle of a line its baseline is.
pub(crate) fn baseline(strong: bool) -> f32 {
    // Half of the height of a digit.
    if strong { STRONG * 0.36 } else { SIZE * 0.36 }
}

/// The part of the font that some texts need.
#[derive(Debug, Clone)]
pub struct Subset {
    /// The number of each character's glyph in the part.
    glyphs: BTreeMap<char, u16>,
    file: Vec<u8>,
}

impl Subset {
    /// For these texts.
    pub fn of<'a>(texts: impl Iterator<Item = &'a str>) -> Subset {
        let characters: BTreeSet<char> = texts.flat_map(str::chars).chain([' ', '\u{fffd}']).collect();
        let made = Face::parse(FONT, 0).ok().and_then(|face| subset(&face, &characters));
        // The font ships with the program and a test reads it.
        made.unwrap_or_else(|| Subset { glyphs: BTreeMap::new(), file: FONT.to_vec() })
    }

    /// The font file.
    pub fn file(&self) -> &[u8] {
        &self.file
    }

    /// It in Base64 (RFC 4648).
    pub fn base64(&self) -> String {
        STANDARD.encode(&self.file)
    }

    /// The number of a character's glyph; that of the replacement character where the font has none.
    pub fn glyph(&self, c: char) -> u16 {
        self.glyphs.get(&c).or_else(|| self.glyphs.get(&'\u{fffd}')).copied().unwrap_or(0)
    }

    /// All characters that it has, with the numbers of their glyphs.
    pub fn characters(&self) -> impl Iterator<Item = (char, u16)> {
        self.glyphs.iter().map(|(c, glyph)| (*c, *glyph))
    }
}

fn u16_at(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_be_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

fn subset(face: &Face<'_>, characters: &BTreeSet<char>) -> Option<Subset> {
    let table = |tag: &[u8; 4]| face.raw_face().table(Tag::from_bytes(tag));
    let (glyf, loca, head) = (table(b"glyf")?, table(b"loca")?, table(b"head")?);
    let (hhea, hmtx, maxp) = (table(b"hhea")?, table(b"hmtx")?, table(b"maxp")?);
    let long = u16_at(head, 50)? == 1;
    let outline = |glyph: u16| -> Option<&[u8]> {
        let at = |n: usize| match long {
            true => Some(u32::from_be_bytes(loca.get(4 * n..4 * n + 4)?.try_into().ok()?) as usize),
            false => Some(usize::from(u16_at(loca, 2 * n)?) * 2),
        };
        glyf.get(at(usize::from(glyph))?..at(usize::from(glyph) + 1)?)
    };
    // Old numbers by new ones: first the glyph for what is missing, then by character, then parts of others.
    let mut order: Vec<u16> = vec![0];
    let mut glyphs = BTreeMap::new();
    for c in characters {
        let Some(glyph) = face.glyph_index(*c) else { continue };
        let new = order.iter().position(|known| *known == glyph.0).unwrap_or_else(|| {
            order.push(glyph.0);
            order.len() - 1
        });
        glyphs.insert(*c, u16::try_from(new).ok()?);
    }
    let mut outlines: Vec<Vec<u8>> = Vec::new();
    let mut next = 0;
    while let Some(glyph) = order.get(next).copied() {
        let mut bytes = outline(glyph)?.to_vec();
        for place in components(&bytes) {
            let part = u16_at(&bytes, place)?;
            let new = order.iter().position(|known| *known == part).unwrap_or_else(|| {
                order.push(part);
                order.len() - 1
            });
            bytes.get_mut(place..place + 2)?.copy_from_slice(&u16::try_from(new).ok()?.to_be_bytes());
        }
        outlines.push(bytes);
        next += 1;
    }
    let count = u16::try_from(order.len()).ok()?;
    let (mut new_glyf, mut new_loca, mut new_hmtx) = (Vec::new(), Vec::new(), Vec::new());
    let metrics = usize::from(u16_at(hhea, 34)?);
    for (bytes, old) in outlines.iter().zip(&order) {
        new_loca.extend_from_slice(&u32::try_from(new_glyf.len()).ok()?.to_be_bytes());
        new_glyf.extend_from_slice(bytes);
        new_glyf.resize(new_glyf.len().next_multiple_of(4), 0);
        let old = usize::from(*old);
        // Behind the last width all have it, and only their side bearings are told.
        let width = 4 * old.min(metrics - 1);
        let bearing = if old < metrics { 4 * old + 2 } else { 4 * metrics + 2 * (old - metrics) };
        new_hmtx.extend_from_slice(hmtx.get(width..width + 2)?);
        new_hmtx.extend_from_slice(hmtx.get(bearing..bearing + 2)?);
    }
    new_loca.extend_from_slice(&u32::try_from(new_glyf.len()).ok()?.to_be_bytes());
    let mut new_head = head.to_vec();
    new_head.get_mut(8..12)?.fill(0);
    new_head.get_mut(50..52)?.copy_from_slice(&1_u16.to_be_bytes());
    let mut new_hhea = hhea.to_vec();
    new_hhea.get_mut(34..36)?.copy_from_slice(&count.to_be_bytes());
    let mut new_maxp = maxp.to_vec();
    new_maxp.get_mut(4..6)?.copy_from_slice(&count.to_be_bytes());
    let mut tables: BTreeMap<[u8; 4], Vec<u8>> = BTreeMap::from([
        (*b"cmap", cmap(&glyphs)),
        (*b"glyf", new_glyf),
        (*b"head", new_head),
        (*b"hhea", new_hhea),
        (*b"hmtx", new_hmtx),
        (*b"loca", new_loca),
        (*b"maxp", new_maxp),
        (*b"name", name()),
        (*b"post", post(table(b"post")?)?),
    ]);
    for tag in [b"OS/2", b"cvt ", b"fpgm", b"prep"] {
        tables.extend(table(tag).map(|bytes| (*tag, bytes.to_vec())));
    }
    Some(Subset { glyphs, file: file(&tables)? })
}

/// Where the numbers of a composite glyph's parts stand.
fn components(glyph: &[u8]) -> Vec<usize> {
    const WORDS: u16 = 0x0001;
    const SCALE: u16 = 0x0008;
    const MORE: u16 = 0x0020;
    const TWO_SCALES: u16 = 0x0040;
    const MATRIX: u16 = 0x0080;
    let mut places = Vec::new();
    // Of simple ones the count of contours is not negative.
    if u16_at(glyph, 0).is_none_or(|contours| contours < 0x8000) {
        return places;
    }
    let mut at = 10;
    while let Some(flags) = u16_at(glyph, at) {
        places.push(at + 2);
        at += 4 + if flags & WORDS != 0 { 4 } else { 2 };
        at += match flags {
            flags if flags & SCALE != 0 => 2,
            flags if flags & TWO_SCALES != 0 => 4,
            flags if flags & MATRIX != 0 => 8,
            _ => 0,
        };
        if flags & MORE == 0 {
            break;
        }
    }
    places
}

/// A character map of format 12, a group for each character.
fn cmap(glyphs: &BTreeMap<char, u16>) -> Vec<u8> {
    let groups = glyphs.len() as u32;
    let mut table = Vec::new();
    // Version, one encoding: Windows, full Unicode; it begins at byte 12.
    for word in [0_u16, 1, 3, 10, 0, 12, 12, 0] {
        table.extend_from_slice(&word.to_be_bytes());
    }
    for word in [16 + 12 * groups, 0, groups] {
        table.extend_from_slice(&word.to_be_bytes());
    }
    for (c, glyph) in glyphs {
        for word in [*c as u32, *c as u32, u32::from(*glyph)] {
            table.extend_from_slice(&word.to_be_bytes());
        }
    }
    table
}

/// A table of names with the one that counts.
fn name() -> Vec<u8> {
    let text: Vec<u8> = NAME.encode_utf16().flat_map(u16::to_be_bytes).collect();
    let mut table = Vec::new();
    // Format, count, where text begins; then Windows, Unicode, English, family, length, offset.
    for word in [0, 1, 18, 3, 1, 0x409, 1, text.len() as u16, 0] {
        table.extend_from_slice(&u16::to_be_bytes(word));
    }
    table.extend_from_slice(&text);
    table
}

/// What stands of the table for printers where glyphs have no names: version 3.
fn post(table: &[u8]) -> Option<Vec<u8>> {
    let mut post = table.get(..32)?.to_vec();
    post.get_mut(..4)?.copy_from_slice(&0x0003_0000_u32.to_be_bytes());
    Some(post)
}

fn sum(bytes: &[u8]) -> u32 {
    bytes.chunks(4).fold(0_u32, |sum, chunk| {
        let mut word = [0; 4];
        word[..chunk.len()].copy_from_slice(chunk);
        sum.wrapping_add(u32::from_be_bytes(word))
    })
}

fn file(tables: &BTreeMap<[u8; 4], Vec<u8>>) -> Option<Vec<u8>> {
    let count = tables.len() as u16;
    let power = count.checked_ilog2()?;
    let range = 16 << power;
    let mut file = 0x0001_0000_u32.to_be_bytes().to_vec();
    for word in [count, range, power as u16, 16 * count - range] {
        file.extend_from_slice(&word.to_be_bytes());
    }
    let mut at = file.len() + 16 * tables.len();
    let mut head = None;
    for (tag, bytes) in tables {
        if tag == b"head" {
            head = Some(at);
        }
        file.extend_from_slice(tag);
        for word in [sum(bytes), at as u32, bytes.len() as u32] {
            file.extend_from_slice(&word.to_be_bytes());
        }
        at += bytes.len().next_multiple_of(4);
    }
    for bytes in tables.values() {
        file.extend_from_slice(bytes);
        file.resize(file.len().next_multiple_of(4), 0);
    }
    let adjusted = 0xb1b0_afba_u32.wrapping_sub(sum(&file));
    file.get_mut(head? + 8..head? + 12)?.copy_from_slice(&adjusted.to_be_bytes());
    Some(file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_reads_as_the_whole_for_its_characters() {
        let text = "Saltmarsh — Größe ελ жц ∅ ▁█";
        let part = Subset::of([text].into_iter());
        assert!(part.file().len() < 24_000, "{}", part.file().len());
        let (whole, face) = (Face::parse(FONT, 0).unwrap(), Face::parse(part.file(), 0).unwrap());
        for c in text.chars() {
            let (old, new) = (whole.glyph_index(c).unwrap(), face.glyph_index(c).unwrap());
            assert_eq!(new.0, part.glyph(c), "{c}");
            assert_eq!(whole.glyph_hor_advance(old), face.glyph_hor_advance(new), "{c}");
            assert_eq!(whole.glyph_bounding_box(old), face.glyph_bounding_box(new), "{c}");
        }
        assert_eq!(face.glyph_index('Q'), None);
        assert_eq!(part.glyph('名'), part.glyph('\u{fffd}'), "what the font has not");
        assert_eq!(Subset::of([text].into_iter()).file(), part.file(), "the same every time");
    }

    #[test]
    fn all_have_one_width() {
        let face = Face::parse(FONT, 0).unwrap();
        for c in ['i', 'W', 'ж', '█'] {
            let advance = face.glyph_hor_advance(face.glyph_index(c).unwrap()).unwrap();
            assert!((f32::from(advance) / f32::from(face.units_per_em()) - ADVANCE).abs() < 1e-6);
        }
    }
}
