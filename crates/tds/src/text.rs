//! Text as it travels: UTF-16, and the code pages of columns that are older.

use encoding_rs::Encoding;

use crate::codepage::{CP437, CP850};

/// A text as the protocol writes it: UTF-16, the low byte first.
pub fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// Adds a text as the protocol writes it.
pub fn push_units(text: &str, into: &mut Vec<u8>) {
    into.reserve(text.len() * 2);
    if text.is_ascii() {
        into.extend(text.bytes().flat_map(|byte| [byte, 0]));
    } else {
        into.extend(text.encode_utf16().flat_map(u16::to_le_bytes));
    }
}

/// Whether four units are ASCII.
#[inline]
fn is_plain(four: &[u8; 8]) -> bool {
    u64::from_le_bytes(*four) & 0xFF80_FF80_FF80_FF80 == 0
}

/// Adds text in UTF-16; halves of characters, which the server lets through, become U+FFFD.
pub fn push_utf16(bytes: &[u8], into: &mut String) {
    into.reserve(bytes.len() / 2);
    let mut rest = bytes;
    // Most text is ASCII: eight bytes of it at a time.
    while let Some((four, after)) = rest.split_first_chunk::<8>() {
        if !is_plain(four) {
            break;
        }
        for at in [0, 2, 4, 6] {
            into.push(char::from(four[at]));
        }
        rest = after;
    }
    let units = rest.chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]]));
    into.extend(char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)));
}

/// Makes UTF-8 of UTF-16 where it lies, as [`push_utf16`] does: how many bytes it has then. `None` where there is no room
/// for it, and nothing was changed.
pub fn utf8_in_place(bytes: &mut [u8]) -> Option<usize> {
    let units = |bytes: &[u8], at: usize| bytes.get(at..at + 2).map(|unit| u16::from_le_bytes([unit[0], unit[1]]));
    let next = |bytes: &[u8], at: usize| {
        let unit = units(bytes, at)?;
        let pair = [unit, units(bytes, at + 2).unwrap_or_default()];
        let char = char::decode_utf16(pair).next()?.unwrap_or(char::REPLACEMENT_CHARACTER);
        Some((char, at + 2 * char.len_utf16()))
    };
    // Most text is ASCII, to begin with at least.
    let plain = 4 * bytes.as_chunks().0.iter().take_while(|four| is_plain(four)).count();
    // What is written must never overtake what is still to be read.
    let (mut read, mut written) = (2 * plain, plain);
    while let Some((char, after)) = next(bytes, read) {
        read = after;
        written += char.len_utf8();
        if written > read {
            return None;
        }
    }
    for at in 0..plain {
        bytes[at] = bytes[2 * at];
    }
    let (mut read, mut written) = (2 * plain, plain);
    while let Some((char, after)) = next(bytes, read) {
        read = after;
        written += char.encode_utf8(bytes.get_mut(written..)?).len();
    }
    Some(written)
}

/// Text in UTF-16.
pub fn from_utf16(bytes: &[u8]) -> String {
    let mut text = String::new();
    push_utf16(bytes, &mut text);
    text
}

/// How the text of a column is encoded that is not UTF-16 ([MS-TDS] 2.2.5.1.2).
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum CodePage {
    /// One that a library knows.
    Known(&'static Encoding),
    /// One whose upper half is here.
    Table(&'static [char; 128]),
}

impl CodePage {
    /// That of a collation: five bytes.
    pub fn of(collation: [u8; 5]) -> CodePage {
        let bits = u32::from_le_bytes([collation[0], collation[1], collation[2], collation[3]]);
        if bits & 1 << 26 != 0 {
            return CodePage::Known(encoding_rs::UTF_8);
        }
        match collation[4] {
            // The server's own orders, from before there were Windows' ones.
            30..=35 => return CodePage::Table(&CP437),
            40..=44 | 49 | 55..=61 => return CodePage::Table(&CP850),
            80..=96 => return CodePage::Known(encoding_rs::WINDOWS_1250),
            104..=108 => return CodePage::Known(encoding_rs::WINDOWS_1251),
            112..=114 | 120..=122 | 124 => return CodePage::Known(encoding_rs::WINDOWS_1253),
            128..=130 => return CodePage::Known(encoding_rs::WINDOWS_1254),
            136..=138 => return CodePage::Known(encoding_rs::WINDOWS_1255),
            144..=146 => return CodePage::Known(encoding_rs::WINDOWS_1256),
            152..=160 => return CodePage::Known(encoding_rs::WINDOWS_1257),
            192 | 193 | 200 => return CodePage::Known(encoding_rs::SHIFT_JIS),
            194 | 195 | 201 => return CodePage::Known(encoding_rs::EUC_KR),
            196 | 197 | 202 => return CodePage::Known(encoding_rs::BIG5),
            198 | 199 | 203 => return CodePage::Known(encoding_rs::GBK),
            204..=206 => return CodePage::Known(encoding_rs::WINDOWS_874),
            _ => {}
        }
        // By the language otherwise: Windows' list of them.
        CodePage::Known(match bits & 0xFFFF {
            0x0405 | 0x040E | 0x0415 | 0x0418 | 0x041A | 0x041B | 0x041C | 0x0424 | 0x081A | 0x141A | 0x0442 => {
                encoding_rs::WINDOWS_1250
            }
            0x0402 | 0x0419 | 0x0422 | 0x0423 | 0x042F | 0x043F | 0x0440 | 0x0444 | 0x0450 | 0x046D | 0x0485
            | 0x082C | 0x0843 | 0x0C1A | 0x1C1A | 0x201A => encoding_rs::WINDOWS_1251,
            0x0408 => encoding_rs::WINDOWS_1253,
            0x041F | 0x042C | 0x0443 => encoding_rs::WINDOWS_1254,
            0x040D => encoding_rs::WINDOWS_1255,
            0x0401 | 0x0801 | 0x0C01 | 0x0420 | 0x0429 | 0x0480 | 0x048C => encoding_rs::WINDOWS_1256,
            0x0425..=0x0427 => encoding_rs::WINDOWS_1257,
            0x042A => encoding_rs::WINDOWS_1258,
            0x041E => encoding_rs::WINDOWS_874,
            0x0411 => encoding_rs::SHIFT_JIS,
            0x0804 | 0x1004 => encoding_rs::GBK,
            0x0412 => encoding_rs::EUC_KR,
            0x0404 | 0x0C04 | 0x1404 => encoding_rs::BIG5,
            _ => encoding_rs::WINDOWS_1252,
        })
    }

    /// Adds text; what is none in this encoding becomes U+FFFD.
    pub fn push(self, bytes: &[u8], into: &mut String) {
        match self {
            // All of them are ASCII in their lower half.
            _ if bytes.is_ascii() => into.push_str(std::str::from_utf8(bytes).unwrap_or_default()),
            CodePage::Known(encoding) => into.push_str(&encoding.decode_without_bom_handling(bytes).0),
            CodePage::Table(upper) => into.extend(bytes.iter().map(|byte| match byte.checked_sub(128) {
                None => char::from(*byte),
                Some(at) => upper.get(usize::from(at)).copied().unwrap_or(char::REPLACEMENT_CHARACTER),
            })),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::collection::vec;
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn code_pages_follow_from_collations() {
        let read = |collation: [u8; 5], bytes: &[u8]| {
            let mut text = String::new();
            CodePage::of(collation).push(bytes, &mut text);
            text
        };
        // SQL_Latin1_General_CP1_CI_AS, the usual one; SQL_Latin1_General_CP850; Cyrillic; Japanese; UTF-8.
        assert_eq!(read([9, 4, 0xD0, 0, 52], b"caf\xe9 \x80"), "café €");
        assert_eq!(read([9, 4, 0, 0, 40], b"caf\x82"), "café");
        assert_eq!(read([9, 4, 0, 0, 30], b"\xe1"), "ß");
        assert_eq!(read([0x19, 4, 0, 0, 0], b"\xcf\xee\xf0\xf2"), "Порт");
        assert_eq!(read([0x11, 4, 0, 0, 0], b"\x8d\x60"), "港");
        assert_eq!(read([9, 4, 0, 4, 0], "港é".as_bytes()), "港é");
    }

    proptest! {
        #[test]
        fn text_comes_back(text in "\\PC*") {
            prop_assert_eq!(from_utf16(&utf16(&text)), text);
        }

        #[test]
        fn text_is_the_same_where_it_lies(units in vec(prop_oneof![0..0x80_u16, 0xD7F0..0xE010_u16, any::<u16>()], 0..40)) {
            let bytes: Vec<u8> = units.into_iter().flat_map(u16::to_le_bytes).collect();
            let mut changed = bytes.clone();
            match utf8_in_place(&mut changed) {
                Some(length) => prop_assert_eq!(&changed[..length], &from_utf16(&bytes).into_bytes()),
                None => prop_assert_eq!(changed, bytes),
            }
        }
    }

    #[test]
    fn half_a_character_is_told() {
        assert_eq!(from_utf16(&[0x3D, 0xD8, b'a', 0]), "\u{FFFD}a");
        assert_eq!(from_utf16(&[b'a', 0, b'b']), "a");
        // Three bytes have no room where there were two, unless some was left before.
        assert_eq!(utf8_in_place(&mut utf16("港")), None);
        assert_eq!(utf8_in_place(&mut utf16("a港😀")), Some(8));
    }
}
