//! From bytes to values ([MS-TDS] 2.2.5.5).

use std::borrow::Cow;
use std::fmt::Write as _;
use std::ops::Range;

use crate::clr;
use crate::text::{CodePage, from_utf16, utf8_in_place};
use crate::types::{Kind, Length, Reader, TypeInfo};

/// What a value that comes in parts begins with where it is NULL.
const NO_PARTS: u64 = u64::MAX;

/// How far a row has been measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Measured {
    /// How many values are behind.
    pub column: usize,
    /// The byte behind them, from the beginning of the row.
    pub at: usize,
    /// Whether the parts of a value are being counted.
    pub in_parts: bool,
}

impl Measured {
    /// Measures on, in the bytes of a row so far. Whether the row is whole.
    ///
    /// What has been measured is not measured again when more bytes come, so that a value of many parts costs each of
    /// them once.
    pub fn go_on(&mut self, row: &[u8], infos: impl Iterator<Item = (bool, Length)>) -> bool {
        for (null, length) in infos.skip(self.column) {
            if !null && !self.pass(row, length) {
                return false;
            }
            self.column += 1;
        }
        true
    }

    fn pass(&mut self, row: &[u8], length: Length) -> bool {
        let mut from = Reader::new(row, self.at);
        let counted = match length {
            Length::Parts => return self.pass_parts(row),
            Length::Fixed(count) => Some(usize::from(count)),
            Length::Byte => from.u8().map(usize::from),
            Length::ByteOr255 => from.u8().map(|count| if count == u8::MAX { 0 } else { count.into() }),
            Length::Short => from.u16().map(|count| if count == u16::MAX { 0 } else { count.into() }),
            Length::Long => from.u32().map(|count| count as usize),
            Length::Pointer => match from.u8() {
                Some(0) => Some(0),
                Some(pointer) => from.take(usize::from(pointer) + 8).and_then(|_| from.u32()).map(|c| c as usize),
                None => None,
            },
        };
        match counted.and_then(|count| from.take(count)) {
            Some(_) => {
                self.at = from.at;
                true
            }
            None => false,
        }
    }

    fn pass_parts(&mut self, row: &[u8]) -> bool {
        let mut from = Reader::new(row, self.at);
        if !self.in_parts {
            let Some(total) = from.u64() else { return false };
            self.at = from.at;
            if total == NO_PARTS {
                return true;
            }
            self.in_parts = true;
        }
        loop {
            let Some(count) = from.u32() else { return false };
            if from.take(count as usize).is_none() {
                return false;
            }
            self.at = from.at;
            if count == 0 {
                self.in_parts = false;
                return true;
            }
        }
    }
}

/// The bytes of a value, without their count; `None` for NULL. `at` goes on behind it. A row that was measured has all
/// of them; of one that was not, what is missing is NULL.
#[inline]
pub fn take<'a>(row: &'a [u8], at: &mut usize, length: Length) -> Option<Cow<'a, [u8]>> {
    let mut from = Reader::new(row, *at);
    let bytes = match length {
        Length::Fixed(count) => from.take(count.into()),
        Length::Byte => from.u8().filter(|count| *count != 0).and_then(|count| from.take(count.into())),
        Length::ByteOr255 => from.u8().filter(|count| *count != u8::MAX).and_then(|count| from.take(count.into())),
        Length::Short => from.u16().filter(|count| *count != u16::MAX).and_then(|count| from.take(count.into())),
        Length::Long => from.u32().filter(|count| *count != 0).and_then(|count| from.take(count as usize)),
        Length::Pointer => from.u8().filter(|pointer| *pointer != 0).and_then(|pointer| {
            from.take(usize::from(pointer) + 8)?;
            let count = from.u32()?;
            from.take(count as usize)
        }),
        Length::Parts => {
            let all = parts(&mut from);
            *at = from.at;
            return all;
        }
    };
    *at = from.at;
    bytes.map(Cow::Borrowed)
}

fn parts<'a>(from: &mut Reader<'a>) -> Option<Cow<'a, [u8]>> {
    if from.u64()? == NO_PARTS {
        return None;
    }
    let mut all: Cow<'a, [u8]> = Cow::Borrowed(&[]);
    loop {
        let count = from.u32()? as usize;
        if count == 0 {
            return Some(all);
        }
        let part = from.take(count)?;
        if all.is_empty() {
            all = Cow::Borrowed(part);
        } else {
            all.to_mut().extend(part);
        }
    }
}

/// Puts a value that comes in parts together where it lies in its row: where it is then. `None` for NULL. `at` goes on
/// behind its last part.
pub fn join(row: &mut [u8], at: &mut usize) -> Option<Range<usize>> {
    let mut from = Reader::new(row, *at);
    if from.u64()? == NO_PARTS {
        *at = from.at;
        return None;
    }
    let mut read = from.at;
    let mut whole: Option<Range<usize>> = None;
    loop {
        let mut from = Reader::new(row, read);
        let count = from.u32()? as usize;
        let part = from.at..from.at.checked_add(count)?;
        read = part.end;
        *at = read;
        if count == 0 {
            return Some(whole.unwrap_or(part));
        }
        from.take(count)?;
        match &mut whole {
            None => whole = Some(part),
            Some(whole) => {
                row.copy_within(part, whole.end);
                whole.end += count;
            }
        }
    }
}

/// Makes bytes, or text in UTF-8, of a value where it lies: where that is then. `None` where it needs room elsewhere, and
/// nothing was changed.
pub fn in_place(info: &TypeInfo, bytes: &mut [u8], at: Range<usize>) -> Option<Range<usize>> {
    let raw = bytes.get_mut(at.clone())?;
    let is_utf8 = |page| page == CodePage::Known(encoding_rs::UTF_8);
    match info.kind {
        Kind::Binary | Kind::Json => Some(at),
        Kind::Char if raw.is_ascii() || info.code_page.is_some_and(is_utf8) => Some(at),
        Kind::NChar | Kind::Xml => {
            // A mark of order may stand before the latter.
            let skip = if info.kind == Kind::Xml && raw.starts_with(&[0xFF, 0xFE]) { 2 } else { 0 };
            let start = at.start + skip;
            utf8_in_place(raw.get_mut(skip..)?).map(|length| start..start + length)
        }
        _ => None,
    }
}

/// A number of `int` and its kin. One byte has no sign.
#[inline]
pub fn int(raw: &[u8]) -> i64 {
    match *raw {
        [a] => i64::from(a),
        [a, b] => i16::from_le_bytes([a, b]).into(),
        [a, b, c, d] => i32::from_le_bytes([a, b, c, d]).into(),
        _ => raw.try_into().map(i64::from_le_bytes).unwrap_or_default(),
    }
}

/// A floating-point number of four or eight bytes.
#[inline]
pub fn float(raw: &[u8]) -> f64 {
    match *raw {
        [a, b, c, d] => f32::from_le_bytes([a, b, c, d]).into(),
        _ => raw.try_into().map(f64::from_le_bytes).unwrap_or_default(),
    }
}

/// A decimal, counted in its smallest part.
#[inline]
pub fn decimal(raw: &[u8]) -> i128 {
    let Some((sign, digits)) = raw.split_first() else { return 0 };
    let mut wide = [0; 16];
    wide.iter_mut().zip(digits).for_each(|(to, from)| *to = *from);
    let value = i128::from_le_bytes(wide);
    if *sign == 0 { -value } else { value }
}

/// An amount of money in its ten-thousandths.
#[inline]
pub fn money(raw: &[u8]) -> i64 {
    match *raw {
        [a, b, c, d] => i32::from_le_bytes([a, b, c, d]).into(),
        // The upper half comes first.
        [a, b, c, d, e, f, g, h] => i64::from_le_bytes([e, f, g, h, a, b, c, d]),
        _ => 0,
    }
}

/// Days from 1970-01-01 to 1900-01-01.
const FROM_1900: i64 = -25_567;
/// Days from 1970-01-01 to 0001-01-01.
const FROM_1: i64 = -719_162;
const SECONDS_A_DAY: i64 = 86_400;
const TICKS_A_SECOND: i64 = 10_000_000;

/// A moment: days since 1970-01-01, and ten-millionths of a second of the day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Moment {
    /// The day.
    pub day: i64,
    /// What has gone by of it.
    pub ticks: i64,
}

impl Moment {
    /// In ten-millionths of a second since 1970; the calendar of the server fits.
    pub fn ticks(self) -> i64 {
        self.day * SECONDS_A_DAY * TICKS_A_SECOND + self.ticks
    }
}

/// `datetime`, whose parts of a second are three hundredths and are told in thousandths, and `smalldatetime`, which
/// counts minutes.
#[inline]
pub fn datetime(raw: &[u8]) -> Moment {
    match *raw {
        [a, b, c, d] => Moment {
            day: FROM_1900 + i64::from(u16::from_le_bytes([a, b])),
            ticks: i64::from(u16::from_le_bytes([c, d])) * 60 * TICKS_A_SECOND,
        },
        [a, b, c, d, e, f, g, h] => {
            let parts = i64::from(u32::from_le_bytes([e, f, g, h]));
            Moment {
                day: FROM_1900 + i64::from(i32::from_le_bytes([a, b, c, d])),
                ticks: (parts * 10 + 1) / 3 * (TICKS_A_SECOND / 1000),
            }
        }
        _ => Moment { day: 0, ticks: 0 },
    }
}

#[inline]
fn number(raw: &[u8]) -> i64 {
    raw.iter().rev().fold(0, |number, byte| number << 8 | i64::from(*byte))
}

/// `date`, as days since 1970-01-01.
#[inline]
pub fn date(raw: &[u8]) -> i64 {
    FROM_1 + number(raw)
}

/// `time`, in ten-millionths of a second; it was sent with so many digits behind the point.
#[inline]
pub fn time(raw: &[u8], scale: u8) -> i64 {
    number(raw) * 10_i64.pow(u32::from(7 - scale.min(7)))
}

/// `datetime2`.
#[inline]
pub fn datetime2(raw: &[u8], scale: u8) -> Moment {
    let (clock, day) = raw.split_at(raw.len().saturating_sub(3));
    Moment { day: date(day), ticks: time(clock, scale) }
}

/// `datetimeoffset`: the moment in Greenwich, and how many minutes east of it the clock was.
#[inline]
pub fn datetimeoffset(raw: &[u8], scale: u8) -> (Moment, i16) {
    let (moment, east) = raw.split_at(raw.len().saturating_sub(2));
    let east = east.try_into().map(i16::from_le_bytes).unwrap_or_default();
    (datetime2(moment, scale), east)
}

/// `uniqueidentifier`, as the server writes it: its first three parts have their low byte first.
pub fn guid(raw: &[u8]) -> String {
    let Ok(b) = <[u8; 16]>::try_from(raw) else { return hex(raw) };
    let order = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];
    let mut text = String::with_capacity(36);
    for (count, at) in order.into_iter().enumerate() {
        if matches!(count, 4 | 6 | 8 | 10) {
            text.push('-');
        }
        let _ = write!(text, "{:02X}", b[at]);
    }
    text
}

fn hex(raw: &[u8]) -> String {
    raw.iter().fold(String::from("0x"), |mut text, byte| {
        let _ = write!(text, "{byte:02X}");
        text
    })
}

fn put_date(day: i64, text: &mut String) {
    // Years begin in March, so that the leap day is the last.
    let z = day + 719_468;
    let (era, of_era) = (z.div_euclid(146_097), z.rem_euclid(146_097));
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let (day, month) = (of_year - (153 * month + 2) / 5 + 1, if month < 10 { month + 3 } else { month - 9 });
    let year = year + era * 400 + i64::from(month <= 2);
    let _ = write!(text, "{year:04}-{month:02}-{day:02}");
}

fn put_time(ticks: i64, scale: u8, text: &mut String) {
    let seconds = ticks / TICKS_A_SECOND;
    let _ = write!(text, "{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    if scale > 0 {
        let fraction = format!("{:07}", ticks % TICKS_A_SECOND);
        let _ = write!(text, ".{}", fraction.get(..usize::from(scale.min(7))).unwrap_or(&fraction));
    }
}

fn put_scaled(value: i128, scale: u8, text: &mut String) {
    let scale = usize::from(scale);
    let digits = format!("{:0width$}", value.unsigned_abs(), width = scale + 1);
    let (whole, fraction) = digits.split_at(digits.len() - scale);
    let point = if scale == 0 { "" } else { "." };
    let _ = write!(text, "{}{whole}{point}{fraction}", if value < 0 { "-" } else { "" });
}

/// A value as the server writes it as text.
pub fn text(info: &TypeInfo, raw: &[u8]) -> String {
    let mut text = String::new();
    match info.kind {
        Kind::Null => {}
        Kind::Int => text.push_str(&int(raw).to_string()),
        Kind::Bit => text.push(if raw.first().is_some_and(|bit| *bit != 0) { '1' } else { '0' }),
        Kind::Float if raw.len() == 4 => text.push_str(&(float(raw) as f32).to_string()),
        Kind::Float => text.push_str(&float(raw).to_string()),
        Kind::Money => put_scaled(money(raw).into(), 4, &mut text),
        Kind::Decimal => put_scaled(decimal(raw), info.scale, &mut text),
        Kind::DateTime => {
            let moment = datetime(raw);
            put_date(moment.day, &mut text);
            text.push(' ');
            put_time(moment.ticks, if raw.len() == 4 { 0 } else { 3 }, &mut text);
        }
        Kind::Guid => text = guid(raw),
        Kind::Date => put_date(date(raw), &mut text),
        Kind::Time => put_time(time(raw, info.scale), info.scale, &mut text),
        Kind::DateTime2 => {
            let moment = datetime2(raw, info.scale);
            put_date(moment.day, &mut text);
            text.push(' ');
            put_time(moment.ticks, info.scale, &mut text);
        }
        Kind::DateTimeOffset => {
            let (moment, east) = datetimeoffset(raw, info.scale);
            let there = moment.ticks() + i64::from(east) * 60 * TICKS_A_SECOND;
            put_date(there.div_euclid(SECONDS_A_DAY * TICKS_A_SECOND), &mut text);
            text.push(' ');
            put_time(there.rem_euclid(SECONDS_A_DAY * TICKS_A_SECOND), info.scale, &mut text);
            let minutes = east.unsigned_abs();
            let _ = write!(text, " {}{:02}:{:02}", if east < 0 { '-' } else { '+' }, minutes / 60, minutes % 60);
        }
        Kind::Char => info.code_page.unwrap_or(CodePage::Known(encoding_rs::WINDOWS_1252)).push(raw, &mut text),
        Kind::NChar => text = from_utf16(raw),
        // A mark of order may stand before it.
        Kind::Xml => text = from_utf16(raw.strip_prefix(&[0xFF, 0xFE]).unwrap_or(raw)),
        Kind::Json => text = String::from_utf8_lossy(raw).into_owned(),
        Kind::Binary => text = hex(raw),
        Kind::Class => text = clr::text(&info.class, raw).unwrap_or_else(|| hex(raw)),
        Kind::Variant => match variant(raw) {
            Some((info, raw)) => return self::text(&info, raw),
            None => text = hex(raw),
        },
    }
    text
}

/// What a `sql_variant` holds ([MS-TDS] 2.2.5.5.4): its type and its bytes.
pub fn variant(raw: &[u8]) -> Option<(TypeInfo, &[u8])> {
    let [token, properties, rest @ ..] = raw else { return None };
    let (about, value) = rest.split_at_checked(usize::from(*properties))?;
    let size = u32::try_from(value.len()).ok()?;
    let plain = |kind| TypeInfo::new(kind, Length::Short, size);
    let first = about.first().copied().unwrap_or_default();
    let info = match token {
        0x30 | 0x34 | 0x38 | 0x7F => plain(Kind::Int),
        0x32 => plain(Kind::Bit),
        0x3A | 0x3D => plain(Kind::DateTime),
        0x3B | 0x3E => plain(Kind::Float),
        0x3C | 0x7A => plain(Kind::Money),
        0x24 => plain(Kind::Guid),
        0x28 => plain(Kind::Date),
        0x29 => TypeInfo { scale: first.min(7), ..plain(Kind::Time) },
        0x2A => TypeInfo { scale: first.min(7), ..plain(Kind::DateTime2) },
        0x2B => TypeInfo { scale: first.min(7), ..plain(Kind::DateTimeOffset) },
        0x6A | 0x6C => {
            TypeInfo { precision: first, scale: about.get(1).copied().unwrap_or_default(), ..plain(Kind::Decimal) }
        }
        0xA7 | 0xAF => {
            let collation = about.get(..5).and_then(|bytes| bytes.try_into().ok()).unwrap_or_default();
            TypeInfo { code_page: Some(CodePage::of(collation)), ..plain(Kind::Char) }
        }
        0xE7 | 0xEF => plain(Kind::NChar),
        0xA5 | 0xAD => plain(Kind::Binary),
        _ => return None,
    };
    Some((info, value))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn info(kind: Kind, scale: u8) -> TypeInfo {
        TypeInfo { scale, ..TypeInfo::new(kind, Length::Byte, 0) }
    }

    #[test]
    fn values_are_written_as_the_server_writes_them() {
        let guid = [0x33, 0x22, 0x11, 0x00, 0x55, 0x44, 0x77, 0x66, 0x88, 0x99, 0xAA, 0xBB, 0xCC, 0xDD, 0xEE, 0xFF];
        for (info, raw, expected) in [
            (info(Kind::Int, 0), &[0xFF][..], "255"),
            (info(Kind::Int, 0), &[0xFF, 0xFF], "-1"),
            (info(Kind::Bit, 0), &[1], "1"),
            (info(Kind::Money, 0), &[0, 0, 0, 0, 0x39, 0x30, 0, 0], "1.2345"),
            (info(Kind::Money, 0), &[0xFF; 8], "-0.0001"),
            (info(Kind::Decimal, 2), &[1, 0xE2, 0x04, 0, 0], "12.50"),
            (info(Kind::Decimal, 2), &[0, 5, 0, 0, 0], "-0.05"),
            (info(Kind::Decimal, 0), &[1, 7, 0, 0, 0], "7"),
            (info(Kind::DateTime, 0), &[0, 0, 0, 0, 2, 0, 0, 0], "1900-01-01 00:00:00.007"),
            (info(Kind::DateTime, 0), &[0xFF, 0xFF, 0xFF, 0xFF, 1, 0, 0, 0], "1899-12-31 00:00:00.003"),
            (info(Kind::DateTime, 0), &[1, 0, 1, 0], "1900-01-02 00:01:00"),
            (info(Kind::Date, 0), &[0, 0, 0], "0001-01-01"),
            (info(Kind::Date, 0), &[0xDA, 0xB9, 0x37], "9999-12-31"),
            (info(Kind::Time, 7), &[1, 0, 0, 0, 0], "00:00:00.0000001"),
            (info(Kind::Time, 0), &[0x7F, 0x51, 0x01], "23:59:59"),
            (info(Kind::DateTime2, 3), &[1, 0, 0, 0, 0x3A, 0xF9, 0x0A], "1970-01-01 00:00:00.001"),
            (info(Kind::DateTimeOffset, 0), &[0, 0, 0, 0x3A, 0xF9, 0x0A, 0xA6, 0xFF], "1969-12-31 22:30:00 -01:30"),
            (info(Kind::Guid, 0), &guid, "00112233-4455-6677-8899-AABBCCDDEEFF"),
            (info(Kind::Binary, 0), &[0xCA, 0xFE], "0xCAFE"),
            (info(Kind::Xml, 0), &[0xFF, 0xFE, b'<', 0], "<"),
            (info(Kind::Variant, 0), &[0x38, 0, 7, 0, 0, 0], "7"),
            (info(Kind::Variant, 0), &[0xE7, 7, 0, 0, 0, 0, 0, 0, 0, b'q', 0], "q"),
            (info(Kind::Variant, 0), &[0x6C, 2, 9, 1, 1, 15, 0, 0, 0], "1.5"),
        ] {
            assert_eq!(text(&info, raw), expected, "{:?}", info.kind);
        }
    }

    #[test]
    fn a_row_is_measured_however_it_arrives() {
        // A number, a value in two parts, NULL in parts, a short text.
        let lengths = [Length::Byte, Length::Parts, Length::Parts, Length::Short, Length::Fixed(2)];
        let mut row = vec![1, 7];
        row.extend(5_u64.to_le_bytes());
        row.extend([3, 0, 0, 0, b'a', b'b', b'c', 2, 0, 0, 0, b'd', b'e', 0, 0, 0, 0]);
        row.extend(u64::MAX.to_le_bytes());
        row.extend([2, 0, b'h', b'i', 9, 9]);
        let mut measured = Measured::default();
        for end in 0..row.len() {
            assert!(!measured.go_on(&row[..end], lengths.iter().map(|length| (false, *length))), "{end}");
        }
        assert!(measured.go_on(&row, lengths.iter().map(|length| (false, *length))));
        assert_eq!(measured.at, row.len());
        let mut joined = row.clone();
        let (mut first, mut second) = (2, 27);
        assert_eq!(join(&mut joined, &mut first).and_then(|at| joined.get(at)), Some(&b"abcde"[..]));
        assert_eq!((join(&mut joined, &mut second), first, second), (None, 27, 35));
        assert_eq!(join(&mut row[..20].to_vec(), &mut 2), None, "cut in the middle");
        let mut at = 0;
        let values: Vec<_> = lengths.iter().map(|length| take(&row, &mut at, *length).map(Cow::into_owned)).collect();
        let some = |bytes: &[u8]| Some(bytes.to_vec());
        assert_eq!(values, [some(&[7]), some(b"abcde"), None, some(b"hi"), some(&[9, 9])]);
    }
}
