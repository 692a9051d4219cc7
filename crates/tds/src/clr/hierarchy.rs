//! `hierarchyid`: bits that sort as the tree does ([MS-SSCLRT] 2.2.3, "HierarchyId").
//!
//! Each step is a prefix that says in which range its number lies, the number's bits with fixed ones between them, and a
//! bit that says whether it is a step of the path or one between two (`1.1`).

/// A range of numbers: its prefix, the least of it, and the bits of the number among fixed ones; `x` stands for a bit.
struct Span {
    pattern: &'static str,
    least: i64,
}

/// The ranges, by their prefixes. From the table of the specification.
const SPANS: &[Span] = &[
    Span { pattern: "000100xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx0xxxxxx0xxx0x1xxx", least: -281_479_271_682_120 },
    Span { pattern: "000101xxxxxxxxxxxxxxxxxxx0xxxxxx0xxx0x1xxx", least: -4_294_971_464 },
    Span { pattern: "00011xxxxx0xxx0x1xxx", least: -4168 },
    Span { pattern: "0010xx0x1xxx", least: -72 },
    Span { pattern: "00111xxx", least: -8 },
    Span { pattern: "01xx", least: 0 },
    Span { pattern: "100xx", least: 4 },
    Span { pattern: "101xxx", least: 8 },
    Span { pattern: "110xx0x1xxx", least: 16 },
    Span { pattern: "1110xxx0xxx0x1xxx", least: 80 },
    Span { pattern: "11110xxxxx0xxx0x1xxx", least: 1104 },
    Span { pattern: "111110xxxxxxxxxxxxxxxxxxx0xxxxxx0xxx0x1xxx", least: 5200 },
    Span { pattern: "111111xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx0xxxxxx0xxx0x1xxx", least: 4_294_972_496 },
];

/// The path, as `/1/2.1/`; `None` where the bits are none.
pub fn text(raw: &[u8]) -> Option<String> {
    let bits: Vec<u8> = raw.iter().flat_map(|byte| (0..8).rev().map(move |at| byte >> at & 1)).collect();
    let mut path = String::from("/");
    let mut at = 0;
    // What is left at the end fills the last byte with zeros.
    while bits.get(at..).is_some_and(|rest| rest.contains(&1)) {
        let (number, length) = SPANS.iter().find_map(|span| number(span, bits.get(at..)?))?;
        let ends = *bits.get(at + length)? == 1;
        at += length + 1;
        // A step between two is one less than its bits say, so that what goes on sorts behind it.
        let number = if ends { number } else { number - 1 };
        path.push_str(&number.to_string());
        path.push(if ends { '/' } else { '.' });
    }
    Some(path)
}

/// The number of a step, if its bits are in this range, and how many they are.
fn number(span: &Span, bits: &[u8]) -> Option<(i64, usize)> {
    let mut value: i64 = 0;
    for (at, sign) in span.pattern.bytes().enumerate() {
        let bit = *bits.get(at)?;
        match sign {
            b'x' => value = value << 1 | i64::from(bit),
            fixed if fixed - b'0' == bit => {}
            _ => return None,
        }
    }
    Some((span.least + value, span.pattern.len()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_read() {
        // The values that the server's documentation shows.
        for (raw, path) in [
            (&[][..], "/"),
            (&[0x58], "/1/"),
            (&[0x68], "/2/"),
            (&[0x78], "/3/"),
            (&[0x84], "/4/"),
            (&[0x5A, 0xC0], "/1/1/"),
            (&[0x5B, 0x40], "/1/2/"),
            (&[0x62, 0xC0], "/1.1/"),
        ] {
            assert_eq!(text(raw).as_deref(), Some(path), "{raw:02x?}");
        }
        assert_eq!(text(&[0x01]), None);
    }
}
