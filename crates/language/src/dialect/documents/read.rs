//! JSON as people write it: names without quotes, single quotes, comments, and commas behind the last.

/// A value as it is written. What stands for other types (`{ $oid: … }`) is told apart by whoever sends it.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// No value.
    Null,
    /// True or false.
    Bool(bool),
    /// A number, as it is written.
    Number(String),
    /// Text.
    Text(String),
    /// Values in order.
    Array(Vec<Value>),
    /// Fields in order.
    Object(Vec<(String, Value)>),
    /// What a value is asked for: `:name`, with its colon.
    Parameter(String),
}

/// What could not be read: where, in bytes, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    /// The byte.
    pub at: usize,
    /// A sentence without a full stop.
    pub message: String,
}

/// Of a word that is not expected, so much is shown.
const LONGEST_WORD: usize = 24;

/// How deep brackets may lie within each other.
const DEEPEST: usize = 180;

/// A reader over a text.
#[derive(Debug, Clone)]
pub struct Reader<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Reader<'a> {
    /// Begins at the beginning.
    pub fn new(text: &'a str) -> Reader<'a> {
        Reader { text, at: 0 }
    }

    fn rest(&self) -> &'a str {
        self.text.get(self.at..).unwrap_or_default()
    }

    /// Where the next token begins, behind blanks and comments.
    pub fn place(&mut self) -> Result<usize, Mistake> {
        loop {
            let rest = self.rest();
            let blank = rest.len() - rest.trim_start().len();
            self.at += blank;
            let rest = self.rest();
            if rest.starts_with("//") {
                self.at += rest.find('\n').unwrap_or(rest.len());
            } else if rest.starts_with("/*") {
                match rest.find("*/") {
                    Some(end) => self.at += end + 2,
                    None => return Err(self.mistake("this comment never closes")),
                }
            } else if blank == 0 {
                return Ok(self.at);
            }
        }
    }

    /// The next character, behind blanks and comments.
    pub fn peek(&mut self) -> Result<Option<char>, Mistake> {
        self.place()?;
        Ok(self.rest().chars().next())
    }

    /// Whether there is no more.
    pub fn is_done(&mut self) -> Result<bool, Mistake> {
        Ok(self.peek()?.is_none())
    }

    /// Passes over a character, if it is next.
    pub fn take(&mut self, wanted: char) -> Result<bool, Mistake> {
        let is = self.peek()? == Some(wanted);
        self.at += if is { wanted.len_utf8() } else { 0 };
        Ok(is)
    }

    /// A mistake at this place.
    pub fn mistake(&self, message: impl Into<String>) -> Mistake {
        Mistake { at: self.at.min(self.text.len()), message: message.into() }
    }

    /// A mistake at the next token.
    pub fn unexpected(&mut self, wanted: &str) -> Mistake {
        match self.peek() {
            Err(mistake) => mistake,
            Ok(None) => self.mistake(format!("{wanted} is missing at the end")),
            Ok(Some(c)) => {
                let rest = self.rest();
                let end = rest.find(|c: char| !c.is_alphanumeric()).unwrap_or(rest.len()).min(LONGEST_WORD);
                let word = rest.get(..end).filter(|word| !word.is_empty()).map_or_else(|| c.to_string(), str::to_owned);
                self.mistake(format!("{wanted} is expected here, and not {word}"))
            }
        }
    }

    /// A word without quotes: letters, digits and the signs of names. `None` where there is none.
    pub fn word(&mut self) -> Result<Option<&'a str>, Mistake> {
        self.place()?;
        let rest = self.rest();
        let end =
            rest.find(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '$' | '.' | '-'))).unwrap_or(rest.len());
        let word = rest.get(..end).unwrap_or_default();
        if word.is_empty() || word.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '-' | '.')) {
            return Ok(None);
        }
        self.at += end;
        Ok(Some(word))
    }

    /// A name: a word, or a text in quotes.
    pub fn name(&mut self) -> Result<Option<String>, Mistake> {
        match self.peek()? {
            Some('"' | '\'') => self.text().map(Some),
            _ => Ok(self.word()?.map(str::to_owned)),
        }
    }

    /// A value.
    pub fn value(&mut self) -> Result<Value, Mistake> {
        self.within(0)
    }

    fn within(&mut self, depth: usize) -> Result<Value, Mistake> {
        if depth > DEEPEST {
            return Err(self.mistake("brackets are nested too deeply"));
        }
        match self.peek()? {
            Some('{') => self.object(depth),
            Some('[') => {
                self.at += 1;
                let mut values = Vec::new();
                loop {
                    if self.take(']')? {
                        return Ok(Value::Array(values));
                    }
                    if !values.is_empty() && !self.take(',')? {
                        return Err(self.unexpected("a comma or ]"));
                    }
                    if self.take(']')? {
                        return Ok(Value::Array(values));
                    }
                    values.push(self.within(depth + 1)?);
                }
            }
            Some('"' | '\'') => Ok(Value::Text(self.text()?)),
            Some(':') => {
                self.at += 1;
                let at = self.at;
                match self.word()? {
                    // Right behind its colon.
                    Some(name) if self.at == at + name.len() => Ok(Value::Parameter(format!(":{name}"))),
                    _ => {
                        self.at = at;
                        Err(self.unexpected("the name of a parameter right after its colon"))
                    }
                }
            }
            Some(c) if c.is_ascii_digit() || matches!(c, '-' | '+' | '.') => self.number(),
            _ => {
                let start = self.at;
                match self.word()? {
                    Some("null") => Ok(Value::Null),
                    Some("true") => Ok(Value::Bool(true)),
                    Some("false") => Ok(Value::Bool(false)),
                    Some(word @ ("NaN" | "Infinity")) => Ok(typed_double(word)),
                    Some(word) => {
                        let called = self.called(word);
                        self.at = start;
                        Err(self.mistake(called.unwrap_or_else(|| format!("{word} is not a value; text needs quotes"))))
                    }
                    None if self.rest().starts_with('/') => {
                        Err(self
                            .mistake("a regular expression is Extended JSON: { $regex: \"^salt\", $options: \"i\" }"))
                    }
                    None => Err(self.unexpected("a value")),
                }
            }
        }
    }

    /// What is written instead of the call of a function after a word, as programs make values of types of their own; none
    /// where none is called. <https://www.mongodb.com/docs/manual/reference/mongodb-extended-json/>
    fn called(&mut self, word: &str) -> Option<String> {
        let name = match word {
            "new" => self.word().ok().flatten()?,
            word => word,
        };
        let inside = self.rest().trim_start().strip_prefix('(')?;
        // What it is called with, where that is short and a single value.
        let given = inside.split_once(')').map(|(given, _)| given.trim().trim_matches(['"', '\'']));
        let plain = |given: &&str| given.len() < 40 && !given.is_empty() && !given.contains(['"', '\'', ',', '(']);
        let given = given.filter(plain);
        let with = |key: &str, example: &str| format!("{{ {key}: \"{}\" }}", given.unwrap_or(example));
        let written = match name.to_ascii_lowercase().as_str() {
            "objectid" => with("$oid", "…"),
            "isodate" | "date" => with("$date", "2031-03-05T07:30:00Z"),
            "numberlong" | "long" | "int64" => with("$numberLong", "5"),
            "numberdecimal" | "decimal128" => with("$numberDecimal", "1.5"),
            "numberint" | "int32" => given.unwrap_or("5").to_owned(),
            "uuid" => with("$uuid", "…"),
            "regexp" => "{ $regex: \"^salt\", $options: \"i\" }".to_owned(),
            _ => {
                return Some(format!(
                    "{name}(…) is not a value; one with a type of its own is Extended JSON, such as \
                     {{ $numberDecimal: \"1.5\" }}, {{ $oid: \"…\" }} or {{ $date: \"2031-03-05T07:30:00Z\" }}"
                ));
            }
        };
        Some(format!("{name}(…) is not a value; it is Extended JSON: {written}"))
    }

    /// A document.
    pub fn object_here(&mut self) -> Result<Vec<(String, Value)>, Mistake> {
        match self.peek()? {
            Some('{') => match self.object(0)? {
                Value::Object(fields) => Ok(fields),
                _ => Err(self.unexpected("a document")),
            },
            _ => Err(self.unexpected("a document { … }")),
        }
    }

    fn object(&mut self, depth: usize) -> Result<Value, Mistake> {
        self.at += 1;
        let mut fields: Vec<(String, Value)> = Vec::new();
        loop {
            if self.take('}')? {
                return Ok(Value::Object(fields));
            }
            if !fields.is_empty() && !self.take(',')? {
                return Err(self.unexpected("a comma or }"));
            }
            if self.take('}')? {
                return Ok(Value::Object(fields));
            }
            let start = self.at;
            let name = match self.name()? {
                Some(name) => name,
                // A number may be one, too.
                None => match self.peek()? {
                    Some(c) if c.is_ascii_digit() => {
                        let Value::Number(text) = self.number()? else { return Err(self.unexpected("a name")) };
                        text
                    }
                    _ => return Err(self.unexpected("the name of a field")),
                },
            };
            if name.contains('\0') {
                return Err(Mistake { at: start, message: "a name cannot hold the character zero".into() });
            }
            if !self.take(':')? {
                return Err(self.unexpected("a colon"));
            }
            fields.push((name, self.within(depth + 1)?));
        }
    }

    fn number(&mut self) -> Result<Value, Mistake> {
        let rest = self.rest();
        let end = rest.find(|c: char| !(c.is_alphanumeric() || matches!(c, '+' | '-' | '.'))).unwrap_or(rest.len());
        let text = rest.get(..end).unwrap_or_default();
        let value = match text.trim_start_matches(['+', '-']) {
            "Infinity" => typed_double(if text.starts_with('-') { "-Infinity" } else { "Infinity" }),
            _ if text.parse::<f64>().is_ok() && text.contains(|c: char| c.is_ascii_digit()) => {
                Value::Number(text.trim_start_matches('+').to_owned())
            }
            _ => return Err(self.mistake(format!("{text} is not a number"))),
        };
        self.at += end;
        Ok(value)
    }

    /// A text in quotes of either kind.
    pub fn text(&mut self) -> Result<String, Mistake> {
        self.place()?;
        let start = self.at;
        let mut rest = self.rest().char_indices();
        let Some((_, quote)) = rest.next() else { return Err(self.unexpected("a text")) };
        let mut text = String::new();
        let mut half: Option<u32> = None;
        while let Some((at, c)) = rest.next() {
            if c == quote {
                self.at = start + at + c.len_utf8();
                return Ok(text);
            }
            if c != '\\' {
                text.push(c);
                continue;
            }
            let wrong = |at: usize, message: &str| Mistake { at: start + at, message: message.to_owned() };
            match rest.next() {
                Some((_, 'n')) => text.push('\n'),
                Some((_, 't')) => text.push('\t'),
                Some((_, 'r')) => text.push('\r'),
                Some((_, 'b')) => text.push('\u{8}'),
                Some((_, 'f')) => text.push('\u{c}'),
                Some((place, 'u')) => {
                    let digits: String = rest.by_ref().take(4).map(|(_, c)| c).collect();
                    let unit = u32::from_str_radix(&digits, 16).ok().filter(|_| digits.len() == 4);
                    let unit = unit.ok_or_else(|| wrong(place, "\\u needs four hexadecimal digits"))?;
                    match (half.take(), unit) {
                        (None, 0xD800..=0xDBFF) => half = Some(unit),
                        (Some(high), 0xDC00..=0xDFFF) => {
                            let both = 0x1_0000 + ((high - 0xD800) << 10) + (unit - 0xDC00);
                            text.push(char::from_u32(both).unwrap_or(char::REPLACEMENT_CHARACTER));
                        }
                        (_, unit) => text.push(char::from_u32(unit).unwrap_or(char::REPLACEMENT_CHARACTER)),
                    }
                }
                Some((_, c @ ('"' | '\'' | '\\' | '/'))) => text.push(c),
                Some((place, c)) => return Err(wrong(place, &format!("\\{c} is not an escape"))),
                None => break,
            }
        }
        self.at = start;
        Err(self.mistake("this text never closes"))
    }
}

/// A number that JSON has no word for.
fn typed_double(word: &str) -> Value {
    Value::Object(vec![("$numberDouble".to_owned(), Value::Text(word.to_owned()))])
}

/// Reads a text that is one value.
pub fn value(text: &str) -> Result<Value, Mistake> {
    let mut reader = Reader::new(text);
    let value = reader.value()?;
    if reader.is_done()? { Ok(value) } else { Err(reader.unexpected("the end")) }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_people_write_is_read() {
        let text = "{ a: 1, 'b c': [true, null,], \"d\": { $gt: -1.5e3, }, // why\n e.f: 'it\\'s', /* or */ 7: \"\\u00e9\\ud83d\\ude00\" }";
        let Value::Object(fields) = value(text).unwrap() else { panic!("a document") };
        let names: Vec<_> = fields.iter().map(|(name, _)| name.as_str()).collect();
        assert_eq!(names, ["a", "b c", "d", "e.f", "7"]);
        assert_eq!(fields[1].1, Value::Array(vec![Value::Bool(true), Value::Null]));
        assert_eq!(fields[4].1, Value::Text("é😀".into()));
    }

    #[test]
    fn mistakes_say_where() {
        for (text, at, message) in [
            ("{ a: b }", 5, "b is not a value; text needs quotes"),
            ("{ a: ObjectId(\"65f0\") }", 5, "ObjectId(…) is not a value; it is Extended JSON: { $oid: \"65f0\" }"),
            (
                "{ a: new Date(2031, 2) }",
                5,
                "Date(…) is not a value; it is Extended JSON: { $date: \"2031-03-05T07:30:00Z\" }",
            ),
            ("{ a: NumberInt( 7 ) }", 5, "NumberInt(…) is not a value; it is Extended JSON: 7"),
            (
                "{ a: Fog('x') }",
                5,
                "Fog(…) is not a value; one with a type of its own is Extended JSON, such as { $numberDecimal: \"1.5\" }, \
                 { $oid: \"…\" } or { $date: \"2031-03-05T07:30:00Z\" }",
            ),
            ("{ a: /salt/i }", 5, "a regular expression is Extended JSON: { $regex: \"^salt\", $options: \"i\" }"),
            ("{ a: new }", 5, "new is not a value; text needs quotes"),
            ("{} limit 2", 3, "the end is expected here, and not limit"),
            ("{ a 1 }", 4, "a colon is expected here, and not 1"),
            ("{ a: 1 b: 2 }", 7, "a comma or } is expected here, and not b"),
            ("{ a: 1", 6, "a comma or } is missing at the end"),
            ("{ a: 'x }", 5, "this text never closes"),
            ("[1, 2", 5, "a comma or ] is missing at the end"),
            ("{ a: 1x }", 5, "1x is not a number"),
            ("{} {}", 3, "the end is expected here, and not {"),
            ("/* x", 0, "this comment never closes"),
            ("'\\q'", 2, "\\q is not an escape"),
        ] {
            assert_eq!(value(text).unwrap_err(), Mistake { at, message: message.into() }, "{text}");
        }
    }

    proptest! {
        #[test]
        fn nothing_is_too_broken(text in "[\\[\\]{}:,'\"a1. \\\\/*\n$-]{0,40}") {
            if let Err(mistake) = value(&text) {
                prop_assert!(mistake.at <= text.len());
            }
        }
    }

    #[test]
    fn depth_has_an_end() {
        assert!(value(&"[".repeat(100_000)).is_err());
    }
}
