//! Shapes (points, lines, areas) as well-known text, from the binary forms in which servers give them and back.
//!
//! The text and the binary form are those of OGC 06-103r4 ("Simple feature access", parts 7 and 8), where the numbers of
//! kinds also say whether points have a height and a measure. Two servers' own ways are read beside it: signs for both and the
//! number of the reference system in the first number (the extended form), and that number before all else, of four bytes
//! with the lowest first (<https://dev.mysql.com/doc/refman/8.4/en/gis-data-formats.html>, "Internal Geometry Storage
//! Format"). The number of the reference system stands before the text as `SRID=4326;`, where there is one.

use std::fmt::Write as _;

use jaunty_language::dialect::Dialect;

use super::cell::{hex, is_hex};

/// Signs of the extended form in the number of a kind.
const HAS_Z: u32 = 0x8000_0000;
const HAS_M: u32 = 0x4000_0000;
const HAS_SRID: u32 = 0x2000_0000;

/// Shapes within shapes are followed so far.
const DEEPEST: usize = 32;

/// The words for the kinds, by their numbers.
const WORDS: [(u32, &str); 15] = [
    (1, "POINT"),
    (2, "LINESTRING"),
    (3, "POLYGON"),
    (4, "MULTIPOINT"),
    (5, "MULTILINESTRING"),
    (6, "MULTIPOLYGON"),
    (7, "GEOMETRYCOLLECTION"),
    (8, "CIRCULARSTRING"),
    (9, "COMPOUNDCURVE"),
    (10, "CURVEPOLYGON"),
    (11, "MULTICURVE"),
    (12, "MULTISURFACE"),
    (15, "POLYHEDRALSURFACE"),
    (16, "TIN"),
    (17, "TRIANGLE"),
];

/// The kind whose word the parts of another leave out; none where each says its own.
fn unsaid(kind: u32) -> Option<u32> {
    match kind {
        4 => Some(1),
        5 | 9 | 10 | 11 => Some(2),
        6 | 12 | 15 => Some(3),
        16 => Some(17),
        _ => None,
    }
}

/// Whether the values of a type are shapes that are read as text and written back so, by the database's name of it.
pub fn is_shape(db_type: &str, dialect: &Dialect) -> bool {
    let word = db_type.rsplit('.').next().unwrap_or(db_type).split(|c: char| !c.is_ascii_alphanumeric()).next();
    let types = dialect.changing.map_or(&[][..], |changing| changing.types_of_shapes);
    word.is_some_and(|word| types.iter().any(|of| of.eq_ignore_ascii_case(word)))
}

/// The hexadecimal digits of the bytes that a server takes for the text of a shape, or for these digits; `None` where it takes
/// the text itself, and where that is not one.
pub fn digits_as_sent(text: &str, db_type: &str, dialect: &Dialect) -> Option<String> {
    let takes_bytes = dialect.changing.is_some_and(|changing| changing.shapes_are_bytes);
    if !takes_bytes || !is_shape(db_type, dialect) {
        return None;
    }
    if is_hex(text) { Some(text.to_owned()) } else { numbered(text).map(|raw| hex(&raw)) }
}

/// The text of a shape in well-known binary, plain or extended; `None` where the bytes are not one.
pub fn text(raw: &[u8]) -> Option<String> {
    written(raw, 0)
}

/// The text of a shape with the number of its reference system in the first four bytes; `None` where the bytes are not one.
pub fn numbered_text(raw: &[u8]) -> Option<String> {
    let (srid, raw) = raw.split_at_checked(4)?;
    written(raw, u32::from_le_bytes(srid.try_into().ok()?))
}

/// The text of a shape in well-known binary in hexadecimal digits; `None` where they are not one.
pub fn text_of_digits(digits: &str) -> Option<String> {
    let pairs = digits.as_bytes().chunks(2);
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    let raw: Vec<u8> = pairs.map(byte).collect::<Option<_>>()?;
    text(&raw).filter(|_| digits.len().is_multiple_of(2))
}

fn written(raw: &[u8], srid: u32) -> Option<String> {
    let mut from = Bytes { rest: raw, srid };
    let mut shape = String::new();
    from.shape(None, 0, &mut shape)?;
    let is_whole = from.rest.is_empty();
    is_whole.then(|| if from.srid == 0 { shape } else { format!("SRID={};{shape}", from.srid) })
}

/// What is left of the bytes, and the reference system that they name.
struct Bytes<'a> {
    rest: &'a [u8],
    srid: u32,
}

/// How the numbers of a shape stand: the lowest byte first or last, and how many a point has.
#[derive(Clone, Copy)]
struct Layout {
    little: bool,
    numbers: usize,
}

impl Bytes<'_> {
    fn take<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (taken, rest) = self.rest.split_first_chunk::<N>()?;
        self.rest = rest;
        Some(*taken)
    }

    fn number(&mut self, little: bool) -> Option<u32> {
        self.take().map(if little { u32::from_le_bytes } else { u32::from_be_bytes })
    }

    /// Writes a shape: with its word, unless it is what its surroundings are made of.
    fn shape(&mut self, within: Option<u32>, depth: usize, out: &mut String) -> Option<()> {
        if depth > DEEPEST {
            return None;
        }
        let little = match self.take::<1>()? {
            [0] => false,
            [1] => true,
            _ => return None,
        };
        let number = self.number(little)?;
        if number & HAS_SRID != 0 {
            self.srid = self.number(little)?;
        }
        let plain = number & !(HAS_Z | HAS_M | HAS_SRID);
        let (kind, thousands) = (plain % 1000, plain / 1000);
        let z = number & HAS_Z != 0 || matches!(thousands, 1 | 3);
        let m = number & HAS_M != 0 || matches!(thousands, 2 | 3);
        let (_, word) = WORDS.iter().find(|(of, _)| *of == kind).filter(|_| thousands <= 3)?;
        if within.and_then(unsaid) != Some(kind) {
            out.push_str(word);
            out.push_str(match (z, m) {
                (false, false) => " ",
                (true, false) => " Z ",
                (false, true) => " M ",
                (true, true) => " ZM ",
            });
        }
        let layout = Layout { little, numbers: 2 + usize::from(z) + usize::from(m) };
        match kind {
            1 => {
                let from = out.len();
                if self.point(layout, out)? {
                    out.insert(from, '(');
                    out.push(')');
                } else {
                    out.truncate(from);
                    out.push_str("EMPTY");
                }
                Some(())
            }
            2 | 8 => self.points(layout, out),
            3 | 17 => self.list(layout, out, |bytes, out| bytes.points(layout, out)),
            kind => self.list(layout, out, |bytes, out| bytes.shape(Some(kind), depth + 1, out)),
        }
    }

    /// Writes a list of so many as the bytes say, each of which takes some of them.
    fn list(
        &mut self,
        layout: Layout,
        out: &mut String,
        mut one: impl FnMut(&mut Self, &mut String) -> Option<()>,
    ) -> Option<()> {
        let count = self.number(layout.little)?;
        if count == 0 {
            out.push_str("EMPTY");
            return Some(());
        }
        for at in 0..count {
            out.push_str(if at == 0 { "(" } else { ", " });
            one(self, out)?;
        }
        out.push(')');
        Some(())
    }

    fn points(&mut self, layout: Layout, out: &mut String) -> Option<()> {
        self.list(layout, out, |bytes, out| bytes.point(layout, out).map(|_| ()))
    }

    /// Writes a point; whether it is anywhere.
    fn point(&mut self, layout: Layout, out: &mut String) -> Option<bool> {
        let mut somewhere = false;
        for at in 0..layout.numbers {
            let value = self.take().map(if layout.little { f64::from_le_bytes } else { f64::from_be_bytes })?;
            // No server reads the word for it.
            if value.is_infinite() {
                return None;
            }
            somewhere |= !value.is_nan();
            out.push_str(if at == 0 { "" } else { " " });
            // As short as it can be to be read back as the same number.
            let plain = value == 0.0 || (1e-5..1e16).contains(&value.abs()) || value.is_nan();
            let _ = if plain { write!(out, "{value}") } else { write!(out, "{value:e}") };
        }
        Some(somewhere)
    }
}

/// The bytes of a text, with the number of its reference system in the first four: of the seven kinds that servers with this
/// form have, in two dimensions. `None` where the text is not one of those.
pub fn numbered(text: &str) -> Option<Vec<u8>> {
    let trimmed = text.trim();
    let (srid, shape) = match trimmed.get(..5).filter(|head| head.eq_ignore_ascii_case("srid=")) {
        Some(_) => trimmed.get(5..)?.split_once(';')?,
        None => ("0", trimmed),
    };
    let mut out = srid.trim().parse::<u32>().ok()?.to_le_bytes().to_vec();
    let mut from = Words { rest: shape.trim_start() };
    from.shape(None, 0, &mut out)?;
    from.rest.is_empty().then_some(out)
}

/// What is left of a text, without blanks before it.
struct Words<'a> {
    rest: &'a str,
}

impl<'a> Words<'a> {
    fn word(&mut self, fits: impl Fn(char) -> bool) -> &'a str {
        let end = self.rest.find(|c| !fits(c)).unwrap_or(self.rest.len());
        let (word, rest) = self.rest.split_at(end);
        self.rest = rest.trim_start();
        word
    }

    fn sign(&mut self, sign: char) -> bool {
        let rest = self.rest.strip_prefix(sign);
        self.rest = rest.map_or(self.rest, str::trim_start);
        rest.is_some()
    }

    fn shape(&mut self, within: Option<u32>, depth: usize, out: &mut Vec<u8>) -> Option<()> {
        if depth > DEEPEST {
            return None;
        }
        let word = self.word(|c| c.is_ascii_alphabetic());
        let kind = match word {
            "" => within.and_then(unsaid)?,
            word => WORDS.iter().find(|(_, known)| known.eq_ignore_ascii_case(word)).map(|(kind, _)| *kind)?,
        };
        let is_meant = kind <= 7 && within.is_none_or(|within| unsaid(within).is_none_or(|part| part == kind));
        if !is_meant {
            return None;
        }
        out.push(1);
        out.extend(kind.to_le_bytes());
        match kind {
            1 => {
                // Those of a list may have none of their own.
                let alone = within == Some(4) && !self.rest.starts_with('(');
                if !alone && !self.sign('(') {
                    return None;
                }
                self.point(out)?;
                (alone || self.sign(')')).then_some(())
            }
            2 => self.list(out, |words, out| words.point(out)),
            3 => self.list(out, |words, out| words.list(out, |words, out| words.point(out))),
            _ if kind == 7 && self.rest.eq_ignore_ascii_case("empty") => {
                self.rest = "";
                out.extend(0_u32.to_le_bytes());
                Some(())
            }
            kind => self.list(out, |words, out| words.shape(Some(kind), depth + 1, out)),
        }
    }

    fn list(&mut self, out: &mut Vec<u8>, mut one: impl FnMut(&mut Self, &mut Vec<u8>) -> Option<()>) -> Option<()> {
        let (at, mut count) = (out.len(), 0_u32);
        out.extend(count.to_le_bytes());
        if !self.sign('(') {
            return None;
        }
        loop {
            one(self, out)?;
            count += 1;
            if !self.sign(',') {
                break;
            }
        }
        out.get_mut(at..at + 4)?.copy_from_slice(&count.to_le_bytes());
        self.sign(')').then_some(())
    }

    fn point(&mut self, out: &mut Vec<u8>) -> Option<()> {
        for _ in 0..2 {
            let number: f64 = self.word(|c| c.is_ascii_alphanumeric() || "+-.".contains(c)).parse().ok()?;
            out.extend(Some(number).filter(|number| number.is_finite())?.to_le_bytes());
        }
        Some(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shapes_are_written() {
        for (digits, wanted) in [
            ("0101000000000000000000f03f0000000000000040", "POINT (1 2)"),
            ("00000000013ff00000000000004000000000000000", "POINT (1 2)"),
            ("0101000020E6100000000000000000D0BF0000000000C04940", "SRID=4326;POINT (-0.25 51.5)"),
            ("0101000020E6100000000000000000F87F000000000000F87F", "SRID=4326;POINT EMPTY"),
            (
                "01020000800200000000000000000000000000000000000000000000000000F03F000000000000F03F000000000000F03F0000000000000440",
                "LINESTRING Z (0 0 1, 1 1 2.5)",
            ),
            // The number of the kind says it, too.
            ("01e9030000000000000000f03f00000000000000400000000000000840", "POINT Z (1 2 3)"),
            ("01d1070000000000000000f03f00000000000000400000000000000840", "POINT M (1 2 3)"),
            ("010700000000000000", "GEOMETRYCOLLECTION EMPTY"),
            ("0104000000010000000101000000000000000000f03f0000000000000040", "MULTIPOINT ((1 2))"),
            ("0107000000010000000101000000000000000000f03f0000000000000040", "GEOMETRYCOLLECTION (POINT (1 2))"),
        ] {
            assert_eq!(text_of_digits(digits).as_deref(), Some(wanted), "{digits}");
        }
    }

    #[test]
    fn texts_come_back_as_they_were() {
        for shape in [
            "POINT (1 2)",
            "SRID=4326;POINT (-0.25 51.5)",
            "LINESTRING (0 0, 1e300 1e-7, -3.5 0.1)",
            "POLYGON ((0 0, 3 0, 0 3, 0 0), (1 1, 2 1, 1 2, 1 1))",
            "MULTIPOINT ((1 2), (3 4))",
            "MULTILINESTRING ((0 0, 1 1), (2 2, 3 3))",
            "MULTIPOLYGON (((0 0, 3 0, 0 3, 0 0)), ((5 5, 6 5, 5 6, 5 5)))",
            "GEOMETRYCOLLECTION (POINT (1 2), LINESTRING (0 0, 1 1), GEOMETRYCOLLECTION (POINT (3 4)))",
            "GEOMETRYCOLLECTION EMPTY",
        ] {
            let raw = numbered(shape).unwrap_or_else(|| panic!("{shape} is not read"));
            assert_eq!(numbered_text(&raw).as_deref(), Some(shape));
        }
        let as_others_write = numbered(" srid=4326 ;multipoint( 1 2 ,3 4)").unwrap();
        assert_eq!(numbered_text(&as_others_write).as_deref(), Some("SRID=4326;MULTIPOINT ((1 2), (3 4))"));
    }

    #[test]
    fn what_a_server_takes_is_sent() {
        use jaunty_language::dialect::{MYSQL, POSTGRES};
        let point = hex(&numbered("POINT (1 2)").unwrap());
        for (text, db_type, dialect, wanted) in [
            ("POINT (1 2)", "point", &MYSQL, Some(point.as_str())),
            (point.as_str(), "geometry", &MYSQL, Some(point.as_str())),
            ("POINT (1 2)", "varchar(20)", &MYSQL, None),
            ("nowhere", "point", &MYSQL, None),
            ("POINT (1 2)", "geometry(Point,4326)", &POSTGRES, None),
        ] {
            assert_eq!(digits_as_sent(text, db_type, dialect).as_deref(), wanted, "{text} {db_type}");
        }
        let types = ["geometry", "public.geometry(Point,4326)", "GEOGRAPHY", "point"];
        assert_eq!(types.map(|of| is_shape(of, &POSTGRES)), [true, true, true, false]);
    }

    #[test]
    fn what_is_not_a_shape_is_left() {
        for text in [
            "",
            "POINT",
            "POINT (1)",
            "POINT (1 2",
            "POINT (1 2) x",
            "POINT Z (1 2 3)",
            "POINT EMPTY",
            "CIRCLE (1 2)",
            "MULTIPOINT (LINESTRING (0 0, 1 1))",
            "SRID=x;POINT (1 2)",
            "POINT (nan 2)",
            "0101",
            "LINESTRING ()",
        ] {
            assert_eq!(numbered(text), None, "{text}");
        }
        let whole = numbered("GEOMETRYCOLLECTION (POINT (1 2), POLYGON ((0 0, 3 0, 0 3, 0 0)))").unwrap();
        for end in 0..whole.len() {
            assert_eq!(numbered_text(&whole[..end]), None, "cut at {end}");
        }
        assert_eq!(
            (text_of_digits("01010"), text_of_digits("zz"), text(&[1, 2, 0, 0, 0, 255, 255, 255, 255])),
            (None, None, None)
        );
        // One in another in another.
        let deep = |times: usize| {
            [vec![0; 4], [1, 7, 0, 0, 0, 1, 0, 0, 0].repeat(times), vec![1, 7, 0, 0, 0, 0, 0, 0, 0]].concat()
        };
        assert!(numbered_text(&deep(10)).is_some());
        assert_eq!(numbered_text(&deep(100_000)), None);
        assert_eq!(numbered(&"GEOMETRYCOLLECTION (".repeat(100_000)), None);
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_or_left(raw in proptest::collection::vec(0_u8..=20, 0..80)) {
            if let Some(shape) = numbered_text(&raw) {
                proptest::prop_assert!(shape.len() < raw.len() * 40 + 40);
            }
        }
    }
}
