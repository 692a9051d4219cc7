//! How the file of a buffer keeps its text: in which encoding, and with a mark before it or without.
//!
//! A text is read in another encoding than UTF-8 only where writing it gives the same bytes again, so that saving
//! changes nothing that was not changed.

use std::fmt;

use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

use crate::files::encoding::{named, sniff};

/// An encoding, by the labels of the WHATWG Encoding Standard, and whether a mark (U+FEFF) stands before the text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TextForm {
    encoding: &'static Encoding,
    mark: bool,
}

/// Bytes that are not text, or none whose encoding can be told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("it is not text in {0}")]
pub struct NotText(pub TextForm);

/// A character that an encoding does not have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{form} has no {character:?}, which stands in line {line}")]
pub struct NoSuchCharacter {
    /// How the text was to be written.
    pub form: TextForm,
    /// The first one.
    pub character: char,
    /// Its line, from 1.
    pub line: usize,
}

impl Default for TextForm {
    fn default() -> TextForm {
        TextForm { encoding: UTF_8, mark: false }
    }
}

impl fmt::Display for TextForm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // What is usual goes without saying.
        let mark = match (TextForm::is_wide(self.encoding), self.mark) {
            (false, true) => " with a mark",
            (true, false) => " without a mark",
            (false, false) | (true, true) => "",
        };
        write!(f, "{}{mark}", self.encoding.name())
    }
}

impl TextForm {
    /// A form by the name of its encoding; none where it is not known, or cannot be written. UTF-16 has a mark.
    pub fn named(name: &str) -> Option<TextForm> {
        let encoding = named(name.trim())?;
        let is_written = encoding.output_encoding() == encoding || TextForm::is_wide(encoding);
        is_written.then(|| TextForm { encoding, mark: TextForm::is_wide(encoding) })
    }

    /// The name of its encoding.
    pub fn encoding(self) -> &'static str {
        self.encoding.name()
    }

    /// Whether it is how new buffers are written.
    pub fn is_usual(self) -> bool {
        self == TextForm::default()
    }

    /// Whether it can only have been guessed: its texts look like those of others.
    pub fn is_guess(self) -> bool {
        self.encoding != UTF_8 && !TextForm::is_wide(self.encoding)
    }

    fn is_wide(encoding: &'static Encoding) -> bool {
        encoding == UTF_16LE || encoding == UTF_16BE
    }

    /// The text of a file, in the encoding of its mark; in UTF-8 or UTF-16 if it looks like that; or else in Windows-1252,
    /// unless it looks like no text at all.
    pub fn read(bytes: Vec<u8>) -> Result<(String, TextForm), NotText> {
        let marked = Encoding::for_bom(&bytes).is_some();
        let bytes = match String::from_utf8(bytes) {
            // Letters of two bytes, one of them zero, are UTF-8 as well.
            Ok(text) if !marked && (!text.contains('\0') || sniff(text.as_bytes()).0 == UTF_8) => {
                return Ok((text, TextForm::default()));
            }
            Ok(text) => text.into_bytes(),
            Err(error) => error.into_bytes(),
        };
        // A character that is cut off at the end of what is looked at counts for UTF-8; here it is the end of all.
        let (encoding, mark) = match sniff(&bytes) {
            (encoding, 0) if encoding == UTF_8 => (WINDOWS_1252, 0),
            known => known,
        };
        let form = TextForm { encoding, mark: mark > 0 };
        let is_control = |byte: &u8| *byte < b' ' && !b"\t\n\r\x0c\x1b".contains(byte);
        // Statements of a copy may have bytes in their texts, which are not characters.
        let has_bytes = || bytes.windows(8).any(|word| word.eq_ignore_ascii_case(b"_binary "));
        if form.is_guess() && (bytes.iter().any(is_control) || has_bytes()) {
            return Err(NotText(TextForm::default()));
        }
        form.text_of(&bytes).map(|text| (text, form))
    }

    /// The text of a file in this form. A mark may stand before it, or not; the form that is given back says so.
    pub fn read_as(self, bytes: &[u8]) -> Result<(String, TextForm), NotText> {
        let mark = Encoding::for_bom(bytes).is_some_and(|(encoding, _)| encoding == self.encoding);
        let form = TextForm { mark, ..self };
        form.text_of(bytes).map(|text| (text, form))
    }

    fn text_of(self, bytes: &[u8]) -> Result<String, NotText> {
        let from = if self.mark { self.mark_bytes().len() } else { 0 };
        let bytes = bytes.get(from..).unwrap_or_default();
        let text = self.encoding.decode_without_bom_handling_and_without_replacement(bytes).ok_or(NotText(self))?;
        let text = text.into_owned();
        match (TextForm { mark: false, ..self }).write(&text) {
            Ok(same) if same == bytes => Ok(text),
            _ => Err(NotText(self)),
        }
    }

    fn mark_bytes(self) -> &'static [u8] {
        match self.encoding {
            encoding if encoding == UTF_16LE => &[0xFF, 0xFE],
            encoding if encoding == UTF_16BE => &[0xFE, 0xFF],
            encoding if encoding == UTF_8 => &[0xEF, 0xBB, 0xBF],
            _ => &[],
        }
    }

    /// The bytes of a file with this text.
    pub fn write(self, text: &str) -> Result<Vec<u8>, NoSuchCharacter> {
        let mut bytes = if self.mark { self.mark_bytes().to_vec() } else { Vec::new() };
        match self.encoding {
            encoding if encoding == UTF_16LE => bytes.extend(text.encode_utf16().flat_map(u16::to_le_bytes)),
            encoding if encoding == UTF_16BE => bytes.extend(text.encode_utf16().flat_map(u16::to_be_bytes)),
            encoding => {
                let mut encoder = encoding.new_encoder();
                let room = encoder.max_buffer_length_from_utf8_without_replacement(text.len()).unwrap_or(text.len());
                let mut out = vec![0; room];
                let (result, read, written) = encoder.encode_from_utf8_without_replacement(text, &mut out, true);
                if let encoding_rs::EncoderResult::Unmappable(character) = result {
                    let line = text.get(..read).unwrap_or(text).matches('\n').count() + 1;
                    return Err(NoSuchCharacter { form: self, character, line });
                }
                out.truncate(written);
                bytes.append(&mut out);
            }
        }
        Ok(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wide(text: &str, mark: &[u8], big: bool) -> Vec<u8> {
        let units = text.encode_utf16().flat_map(|unit| if big { unit.to_be_bytes() } else { unit.to_le_bytes() });
        mark.iter().copied().chain(units).collect()
    }

    #[test]
    fn a_text_is_written_as_it_was_read() {
        for (bytes, text, form) in [
            (b"select 1;\r\n".to_vec(), "select 1;\r\n", "UTF-8"),
            (b"".to_vec(), "", "UTF-8"),
            ("-- Süd".as_bytes().to_vec(), "-- Süd", "UTF-8"),
            ([&[0xEF, 0xBB, 0xBF], "é".as_bytes()].concat(), "é", "UTF-8 with a mark"),
            (wide("select N'é🛳';\r\n", &[0xFF, 0xFE], false), "select N'é🛳';\r\n", "UTF-16LE"),
            (wide("select 1", &[0xFE, 0xFF], true), "select 1", "UTF-16BE"),
            (wide("select 1", &[], false), "select 1", "UTF-16LE without a mark"),
            (b"-- S\xfcd \x80\x81".to_vec(), "-- Süd €\u{81}", "windows-1252"),
            (b"cut off \xc3".to_vec(), "cut off Ã", "windows-1252"),
        ] {
            let (read, known) = TextForm::read(bytes.clone()).unwrap_or_else(|error| panic!("{form}: {error}"));
            assert_eq!((read.as_str(), known.to_string().as_str()), (text, form));
            assert_eq!(known.write(&read).unwrap(), bytes, "{form}");
        }
    }

    #[test]
    fn what_would_not_come_back_is_not_read() {
        for (bytes, why) in [
            (b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR".to_vec(), "bytes that are not characters"),
            (b"insert into t values (_binary '\xff\xfe')".to_vec(), "a text of bytes"),
            ([&[0xFF, 0xFE][..], &[0x00, 0xD8, b'a', 0]].concat(), "half a pair"),
            ([&[0xFF, 0xFE][..], b"abc"].concat(), "half a character"),
            ([&[0xEF, 0xBB, 0xBF][..], b"\xff"].concat(), "a mark that is not true"),
        ] {
            assert!(TextForm::read(bytes).is_err(), "{why}");
        }
    }

    #[test]
    fn a_form_may_be_told() {
        let cyrillic = TextForm::named("Windows-1251").unwrap();
        let (text, form) = cyrillic.read_as(b"-- \xcf\xee\xf0\xf2").unwrap();
        assert_eq!((text.as_str(), form), ("-- Порт", cyrillic));
        assert_eq!(TextForm::named("utf-16le").unwrap().write("a").unwrap(), [0xFF, 0xFE, b'a', 0]);
        // A mark that is there is kept, and one that is not is not made.
        assert_eq!(
            TextForm::named("utf-16le").unwrap().read_as(b"a\0").unwrap().1.to_string(),
            "UTF-16LE without a mark"
        );
        assert_eq!(TextForm::named("utf-8").unwrap().read_as(b"\xEF\xBB\xBFa").unwrap().0, "a");
        for unknown in ["", "latin", "replacement", "x-user-defined"] {
            assert!(TextForm::named(unknown).is_none_or(|form| form.write("é").is_err()), "{unknown}");
        }
        let error = TextForm::named("latin1").unwrap().write("a\nГ").unwrap_err();
        assert_eq!(error.to_string(), "windows-1252 has no 'Г', which stands in line 2");
    }
}
