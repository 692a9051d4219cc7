//! The arguments of a command, as the server's inline protocol takes a line apart: blanks divide;
//! in double quotes `\n`, `\r`, `\t`, `\b`, `\a`, `\xHH` and `\` before any other character are
//! escapes; in single quotes only `\'` is.

/// Why a line cannot be taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mistake {
    /// The byte.
    pub at: usize,
    /// What is wrong, without a full stop.
    pub message: &'static str,
    /// What to do.
    pub remedy: &'static str,
}

/// The arguments of a line, as bytes.
pub fn split(line: &str) -> Result<Vec<Vec<u8>>, Mistake> {
    let bytes = line.as_bytes();
    let mut arguments = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        if bytes[at].is_ascii_whitespace() {
            at += 1;
            continue;
        }
        let mut argument = Vec::new();
        while at < bytes.len() && !bytes[at].is_ascii_whitespace() {
            match bytes[at] {
                quote @ (b'"' | b'\'') => at = quoted_part(bytes, at, quote, &mut argument)?,
                byte => {
                    argument.push(byte);
                    at += 1;
                }
            }
        }
        arguments.push(argument);
    }
    Ok(arguments)
}

/// Takes what stands in quotes; returns the byte behind them.
fn quoted_part(bytes: &[u8], open: usize, quote: u8, argument: &mut Vec<u8>) -> Result<usize, Mistake> {
    let mut at = open + 1;
    while let Some(byte) = bytes.get(at) {
        match (*byte, bytes.get(at + 1)) {
            (b'\\', Some(b'x')) if quote == b'"' => match bytes.get(at + 2..at + 4).and_then(hex) {
                Some(value) => {
                    argument.push(value);
                    at += 4;
                }
                None => {
                    argument.push(b'x');
                    at += 2;
                }
            },
            (b'\\', Some(escaped)) if quote == b'"' => {
                argument.push(match escaped {
                    b'n' => b'\n',
                    b'r' => b'\r',
                    b't' => b'\t',
                    b'b' => 8,
                    b'a' => 7,
                    other => *other,
                });
                at += 2;
            }
            (b'\\', Some(b'\'')) if quote == b'\'' => {
                argument.push(b'\'');
                at += 2;
            }
            (byte, next) if byte == quote => {
                return match next {
                    // Where nothing else comes, as in languages whose statements end so.
                    Some(b';') if bytes.get(at + 2).is_none_or(u8::is_ascii_whitespace) => Err(Mistake {
                        at: at + 1,
                        message: "a closing quote is followed by a semicolon",
                        remedy: "A command ends with its line, without a semicolon.",
                    }),
                    Some(next) if !next.is_ascii_whitespace() => Err(Mistake {
                        at: at + 1,
                        message: "a closing quote is followed by more",
                        remedy: "Put a blank after the quote, or quote the whole argument.",
                    }),
                    _ => Ok(at + 1),
                };
            }
            (byte, _) => {
                argument.push(byte);
                at += 1;
            }
        }
    }
    Err(Mistake {
        at: open,
        message: "a quote never closes",
        remedy: "Close it, or write a quote within quotes as \\\".",
    })
}

fn hex(digits: &[u8]) -> Option<u8> {
    u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()
}

/// An argument as it has to be written: as it is where that is plain, else in double quotes.
pub fn written(argument: &[u8]) -> String {
    let plain = !argument.is_empty()
        && argument.iter().all(|byte| byte.is_ascii_graphic() && !matches!(byte, b'"' | b'\'' | b'\\' | b'#'));
    let mut text = String::with_capacity(argument.len() + 2);
    if !plain {
        text.push('"');
    }
    for chunk in argument.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '"' | '\\' => text.extend(['\\', c]),
                '\n' => text.push_str("\\n"),
                '\r' => text.push_str("\\r"),
                '\t' => text.push_str("\\t"),
                c if c.is_control() => {
                    let mut bytes = [0; 4];
                    c.encode_utf8(&mut bytes).bytes().for_each(|byte| text.push_str(&format!("\\x{byte:02x}")));
                }
                c => text.push(c),
            }
        }
        chunk.invalid().iter().for_each(|byte| text.push_str(&format!("\\x{byte:02x}")));
    }
    if !plain {
        text.push('"');
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_taken_apart_as_the_server_does() {
        for (line, expected) in [
            ("get  port:1 ", &["get", "port:1"][..]),
            ("set a \"two\\nlines \\x41 \\\"\"", &["set", "a", "two\nlines A \""]),
            ("set a 'it\\'s \\n'", &["set", "a", "it's \\n"]),
            ("set a \"\"", &["set", "a", ""]),
            ("set a pre\"fix 1\"", &["set", "a", "prefix 1"]),
            ("set a \"\\xzz\"", &["set", "a", "xzz"]),
            ("", &[]),
        ] {
            let found: Vec<_> = split(line).unwrap().iter().map(|a| String::from_utf8_lossy(a).into_owned()).collect();
            assert_eq!(found, expected, "{line}");
        }
        assert_eq!(split("set a \"open").unwrap_err().at, 6);
        assert_eq!(split("set a 'b'c").unwrap_err().at, 9);
    }

    #[test]
    fn what_is_written_reads_back() {
        let odd: [&[u8]; 12] = [
            b"port:1",
            b"two words",
            b"a\"b",
            b"",
            b"it's",
            b"#x",
            b"a\\b",
            b"line\nend\ttab\r",
            b"\xff\x00",
            "\u{7f}\u{9b}".as_bytes(),
            "čaj 🛳".as_bytes(),
            b"\xc4half",
        ];
        for argument in odd {
            let line = written(argument);
            assert!(!line.contains(['\n', '\r']), "{line}");
            assert_eq!(split(&line).unwrap(), [argument], "{line}");
        }
        assert_eq!((written(b"port:1"), written(b"a b")), ("port:1".into(), "\"a b\"".into()));
    }
}
