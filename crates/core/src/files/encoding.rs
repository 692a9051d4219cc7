//! Text in any encoding, as UTF-8.

use std::io::{self, Read};

use encoding_rs::{Decoder, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

pub use encoding_rs::Encoding;

/// The encoding of a text by its mark, or by its first bytes; with how many bytes the mark takes.
///
/// UTF-8 where they are that, UTF-16 where every second byte is zero, or else Windows-1252, the usual one of
/// spreadsheets in the west. UTF-16 is told from text by its zeros.
pub fn sniff(first: &[u8]) -> (&'static Encoding, usize) {
    if let Some((encoding, length)) = Encoding::for_bom(first) {
        return (encoding, length);
    }
    let zeros = |from: usize| first.iter().skip(from).step_by(2).filter(|byte| **byte == 0).count();
    let half = first.len() / 2;
    if half >= 2 {
        if zeros(1) * 10 >= half * 8 && zeros(0) == 0 {
            return (UTF_16LE, 0);
        }
        if zeros(0) * 10 >= half * 8 && zeros(1) == 0 {
            return (UTF_16BE, 0);
        }
    }
    match std::str::from_utf8(first) {
        Ok(_) => (UTF_8, 0),
        // The end of what was read may be in the middle of a character.
        Err(error) if error.error_len().is_none() => (UTF_8, 0),
        Err(_) => (WINDOWS_1252, 0),
    }
}

/// The encoding of a name, by the labels of the WHATWG Encoding Standard; none if it is not known.
pub fn named(name: &str) -> Option<&'static Encoding> {
    Encoding::for_label(name.as_bytes())
}

/// The encoding that a mark at the beginning names, other than UTF-8; with how many bytes the mark takes.
pub fn marked(first: &[u8]) -> Option<(&'static Encoding, usize)> {
    Encoding::for_bom(first).filter(|(encoding, _)| *encoding != UTF_8)
}

/// Reads another encoding as UTF-8. What is not a text in it is an error, with the byte.
pub struct Decoded<R> {
    source: R,
    decoder: Decoder,
    raw: Vec<u8>,
    from: usize,
    to: usize,
    before: u64,
    ended: bool,
    name: &'static str,
    /// What comes after the text that was read.
    wrong: Option<io::Error>,
}

impl<R: Read> Decoded<R> {
    /// Reads from `source`, whose mark was taken off.
    pub fn new(source: R, encoding: &'static Encoding) -> Decoded<R> {
        Decoded {
            source,
            decoder: encoding.new_decoder_without_bom_handling(),
            raw: vec![0; 64 << 10],
            from: 0,
            to: 0,
            before: 0,
            ended: false,
            name: encoding.name(),
            wrong: None,
        }
    }
}

impl<R: Read> Read for Decoded<R> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        if let Some(wrong) = self.wrong.take() {
            return Err(wrong);
        }
        loop {
            if self.from == self.to && !self.ended {
                self.before += self.to as u64;
                (self.from, self.to) = (0, self.source.read(&mut self.raw)?);
                self.ended = self.to == 0;
            }
            let raw = &self.raw[self.from..self.to];
            let (result, read, written) = self.decoder.decode_to_utf8_without_replacement(raw, out, self.ended);
            self.from += read;
            if let encoding_rs::DecoderResult::Malformed(length, _) = result {
                let at = self.before + self.from as u64 - u64::from(length);
                let what = format!("byte {at} is not {} text; --encoding names another one", self.name);
                let wrong = io::Error::new(io::ErrorKind::InvalidData, what);
                if written == 0 {
                    return Err(wrong);
                }
                self.wrong = Some(wrong);
            }
            if written > 0 || self.ended {
                return Ok(written);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(bytes: &[u8]) -> io::Result<String> {
        let (encoding, mark) = sniff(bytes);
        let mut text = String::new();
        Decoded::new(&bytes[mark..], encoding).read_to_string(&mut text).map(|_| text)
    }

    #[test]
    fn encodings_are_told_by_mark_or_by_look() {
        let utf16 = |text: &str, mark: &[u8], big: bool| -> Vec<u8> {
            let units = text.encode_utf16().flat_map(|unit| if big { unit.to_be_bytes() } else { unit.to_le_bytes() });
            mark.iter().copied().chain(units).collect()
        };
        for (bytes, name, text) in [
            ("naïve 🛳".as_bytes().to_vec(), "UTF-8", "naïve 🛳"),
            ([&[0xEF, 0xBB, 0xBF], "é".as_bytes()].concat(), "UTF-8", "é"),
            (utf16("port,é🛳", &[0xFF, 0xFE], false), "UTF-16LE", "port,é🛳"),
            (utf16("port,é🛳", &[0xFE, 0xFF], true), "UTF-16BE", "port,é🛳"),
            (utf16("port,code", &[], false), "UTF-16LE", "port,code"),
            (utf16("port,code", &[], true), "UTF-16BE", "port,code"),
            (b"caf\xe9 \x80".to_vec(), "windows-1252", "café €"),
        ] {
            assert_eq!(sniff(&bytes).0.name(), name);
            assert_eq!(read(&bytes).unwrap(), text);
        }
        let mut wrong = Decoded::new(&b"ab\xffcd"[..], UTF_8);
        let mut before = String::new();
        let error = wrong.read_to_string(&mut before).unwrap_err();
        assert_eq!(before, "ab");
        assert_eq!(error.to_string(), "byte 2 is not UTF-8 text; --encoding names another one");
    }
}
