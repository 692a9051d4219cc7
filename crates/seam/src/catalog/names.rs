//! Very many names, quickly searched.

/// Different names, in order, each with the letters it is made of, so that most that do not fit
/// are passed over at the price of one comparison.
#[derive(Debug, Clone, Default)]
pub struct Names {
    all: Vec<(Box<str>, u64)>,
}

/// A bit for each letter and digit that stands in a text, in any case.
pub fn letters(text: &str) -> u64 {
    text.bytes().fold(0, |mask, byte| {
        mask | match byte.to_ascii_lowercase() {
            letter @ b'a'..=b'z' => 1 << (letter - b'a'),
            digit @ b'0'..=b'9' => 1 << (26 + digit - b'0'),
            b'_' => 1 << 36,
            other if other >= 0x80 => 1 << 37,
            _ => 0,
        }
    })
}

/// A name's bytes in small letters.
fn lower(name: &str) -> impl Iterator<Item = u8> + '_ {
    name.bytes().map(|byte| byte.to_ascii_lowercase())
}

impl Names {
    /// Takes names; those that are the same are one.
    pub fn of<'a>(names: impl Iterator<Item = &'a str>) -> Names {
        let mut all: Vec<&str> = names.collect();
        all.sort_unstable_by(|a, b| lower(a).cmp(lower(b)).then_with(|| a.cmp(b)));
        all.dedup();
        Names { all: all.into_iter().map(|name| (name.into(), letters(name))).collect() }
    }

    /// Those that begin with a text, in any case.
    pub fn beginning_with<'a>(&'a self, text: &'a str) -> impl Iterator<Item = &'a str> {
        let from = self.all.partition_point(|(name, _)| lower(name).lt(lower(text)));
        let begins = |name: &str| {
            name.as_bytes().get(..text.len()).is_some_and(|head| head.eq_ignore_ascii_case(text.as_bytes()))
        };
        self.all.iter().skip(from).map(|(name, _)| &**name).take_while(move |name| begins(name))
    }

    /// Those that have all letters of a text, in order of the alphabet.
    pub fn with_letters_of(&self, text: &str) -> impl Iterator<Item = &str> {
        let wanted = letters(text);
        self.all.iter().filter(move |(_, has)| has & wanted == wanted).map(|(name, _)| &**name)
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.all.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }
}
