//! Rows as commands: each becomes a hash, a text, an element, a member or an entry of a stream.
//!
//! Where rows go is a name of keys with a star for each column of the key, as patterns have them
//! (<https://redis.io/docs/latest/commands/keys/>); before it the command may stand by which a row gets there, after it
//! `ex` and the seconds that a key is to live: `port:*`, `set fare:* ex 600`, `rpush waiting`.

use super::arguments::{split, written};
use crate::dialect::{Filling, Own, Takes};

/// How long a key lives, as a column.
pub const LEFT: &str = "seconds left";
/// The score of a member, as a column.
pub const SCORE: &str = "score";

/// A key may live for so many seconds: more of them, as milliseconds, are too many for the server.
const LONGEST: u64 = 1 << 40;

const LIVES: Own = Own { name: LEFT, takes: Takes::Count, is_needed: false };

/// What a row becomes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// A hash of its own, with a field a column.
    Hash,
    /// A text of its own.
    Text,
    /// The last element of a list.
    Last,
    /// The first element of a list.
    First,
    /// A member of a set.
    Member,
    /// A member of a sorted set.
    Scored,
    /// An entry of a stream, with a field a column.
    Entry,
}

/// The commands, what they make, and what that is.
const COMMANDS: &[(&str, Holds, &str)] = &[
    ("hset", Holds::Hash, "hash"),
    ("set", Holds::Text, "text"),
    ("rpush", Holds::Last, "element"),
    ("lpush", Holds::First, "element"),
    ("sadd", Holds::Member, "member"),
    ("zadd", Holds::Scored, "member with a score"),
    ("xadd", Holds::Entry, "entry"),
];

impl Holds {
    /// Whether each row has a key of its own.
    pub fn is_whole_key(self) -> bool {
        matches!(self, Holds::Hash | Holds::Text)
    }

    /// The type of the key, as the server's `type` tells it.
    pub fn of_type(self) -> &'static str {
        match self {
            Holds::Hash => "hash",
            Holds::Text => "string",
            Holds::Last | Holds::First => "list",
            Holds::Member => "set",
            Holds::Scored => "zset",
            Holds::Entry => "stream",
        }
    }
}

/// A value, by the name of its column; none where it is NULL.
pub type Field<'a> = (&'a str, Option<&'a [u8]>);

/// A command, argument by argument.
pub type Arguments = Vec<Vec<u8>>;

/// Where rows go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rows {
    /// What each of them becomes.
    pub holds: Holds,
    /// For how many seconds a key is to live.
    pub lives: Option<u64>,
    /// The name of the keys, in parts between its stars.
    name: Vec<Vec<u8>>,
}

impl Rows {
    /// Where a person wants them. An error is a sentence without a full stop.
    pub fn read(target: &str) -> Result<Rows, String> {
        let words = split(target).map_err(|mistake| mistake.message.to_owned())?;
        let of = |word: &[u8]| COMMANDS.iter().find(|(name, ..)| word.eq_ignore_ascii_case(name.as_bytes()));
        let (command, name, rest) = match words.as_slice() {
            [] => return Err("name the keys, such as port:*".to_owned()),
            [name] if of(name).is_none() => ("hset", name, &[][..]),
            [command] => return Err(format!("{}: name the keys, such as port:*", written(command))),
            [name, ex, seconds] if of(name).is_none() && ex.eq_ignore_ascii_case(b"ex") => {
                ("hset", name, &[ex.clone(), seconds.clone()][..])
            }
            [command, name, rest @ ..] => match of(command) {
                Some((command, ..)) => (*command, name, rest),
                None => {
                    let names: Vec<_> = COMMANDS.iter().map(|(name, ..)| *name).collect();
                    let what = format!("{} is not a command that rows are put by", written(command));
                    return Err(format!("{what}; {} are, and a name with blanks stands in quotes", names.join(", ")));
                }
            },
        };
        let lives = match rest {
            [] => None,
            [ex, seconds] if ex.eq_ignore_ascii_case(b"ex") => {
                let seconds = std::str::from_utf8(seconds).ok().and_then(|text| text.parse::<u64>().ok());
                Some(seconds.filter(|seconds| (1..=LONGEST).contains(seconds)).ok_or("ex: a whole number of seconds")?)
            }
            [word, ..] => {
                return Err(format!(
                    "{}: after the name only \"ex\" and the seconds that the keys are to live are known",
                    written(word)
                ));
            }
        };
        let (holds, element) = of(command.as_bytes()).map_or((Holds::Hash, "hash"), |(_, holds, what)| (*holds, what));
        if holds.is_whole_key() && !name.contains(&b'*') {
            let like = written(&[name.trim_ascii_end(), b":*"].concat());
            return Err(format!(
                "each row is a {element} of its own: its key goes in the place of a star, such as {like}"
            ));
        }
        Ok(Rows { holds, lives, name: name.split(|byte| *byte == b'*').map(<[u8]>::to_vec).collect() })
    }

    /// What is to be known before anything is read.
    pub fn filling(&self) -> Filling {
        let element = COMMANDS.iter().find(|(_, holds, _)| *holds == self.holds).map_or("", |(.., element)| *element);
        const SCORED: &[Own] = &[Own { name: SCORE, takes: Takes::Number, is_needed: true }];
        Filling {
            written: self.written(),
            element,
            places: self.name.len() - 1,
            own: match self.holds {
                Holds::Hash | Holds::Text => &[LIVES],
                Holds::Scored => SCORED,
                _ => &[],
            },
            one_value: !matches!(self.holds, Holds::Hash | Holds::Entry),
            meets: !matches!(self.holds, Holds::First | Holds::Last | Holds::Entry),
        }
    }

    fn written(&self) -> String {
        let command = COMMANDS.iter().find(|(_, holds, _)| *holds == self.holds).map_or("", |(name, ..)| *name);
        let lives = self.lives.map(|seconds| format!(" ex {seconds}")).unwrap_or_default();
        format!("{command} {}{lives}", written(&self.name.join(&b'*')))
    }

    /// The key of a row: what goes in the places of the stars.
    pub fn key(&self, places: &[&[u8]]) -> Vec<u8> {
        let mut key = Vec::new();
        for (at, part) in self.name.iter().enumerate() {
            if let Some(value) = at.checked_sub(1).and_then(|at| places.get(at)) {
                key.extend_from_slice(value);
            }
            key.extend_from_slice(part);
        }
        key
    }

    /// The commands by which a row gets there: the first puts it, another says how long its key lives. An error is why it cannot
    /// be put there, without a full stop.
    pub fn commands(&self, key: &[u8], fields: &[Field<'_>]) -> Result<Vec<Arguments>, String> {
        let of = |name: &str| fields.iter().find(|(field, _)| *field == name).and_then(|(_, value)| *value);
        let named = |words: &[&[u8]]| words.iter().map(|word| word.to_vec()).collect::<Arguments>();
        let (own, own_left) = (of(SCORE), of(LEFT));
        let is_own = |name: &str| match self.holds {
            Holds::Hash | Holds::Text => name == LEFT,
            Holds::Scored => name == SCORE,
            _ => false,
        };
        let mut values = fields.iter().filter(|(name, _)| !is_own(name));
        let mut one = || match values.next() {
            Some((_, Some(value))) => Ok(*value),
            Some((name, None)) => Err(format!("{name}: NULL cannot be a value here")),
            None => Err("there is no value".to_owned()),
        };
        let first = match self.holds {
            Holds::Hash | Holds::Entry => {
                let mut command = match self.holds {
                    Holds::Hash => named(&[b"hset", key]),
                    _ => named(&[b"xadd", key, b"*"]),
                };
                let fixed = command.len();
                for (name, value) in values {
                    // What is NULL is left out.
                    command.extend(value.iter().flat_map(|value| [name.as_bytes().to_vec(), value.to_vec()]));
                }
                if command.len() == fixed {
                    return Err("every field is NULL, and there has to be one".to_owned());
                }
                command
            }
            Holds::Text => named(&[b"set", key, one()?]),
            Holds::Last => named(&[b"rpush", key, one()?]),
            Holds::First => named(&[b"lpush", key, one()?]),
            Holds::Member => named(&[b"sadd", key, one()?]),
            Holds::Scored => {
                let score = own.ok_or("score: NULL cannot be one")?;
                let number = std::str::from_utf8(score).ok().and_then(|text| text.parse::<f64>().ok());
                if number.is_none_or(f64::is_nan) {
                    return Err(format!("score: {} is not a number", String::from_utf8_lossy(score)));
                }
                named(&[b"zadd", key, score, one()?])
            }
        };
        let mut commands = vec![first];
        let lives = match (own_left.filter(|_| self.holds.is_whole_key()), self.lives) {
            (Some(left), _) => {
                let seconds = std::str::from_utf8(left).ok().and_then(|text| text.parse::<u64>().ok());
                if seconds.is_none_or(|seconds| !(1..=LONGEST).contains(&seconds)) {
                    let shown = String::from_utf8_lossy(left);
                    return Err(format!("{LEFT}: {shown} is not a whole number of seconds above zero"));
                }
                seconds
            }
            (None, lives) => lives,
        };
        if let Some(seconds) = lives {
            commands.push(named(&[b"expire", key, seconds.to_string().as_bytes()]));
        }
        Ok(commands)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn where_rows_go_is_read_and_written() {
        for (target, wanted) in [
            ("port:*", Ok("hset port:*")),
            ("port:* ex 60", Ok("hset port:* ex 60")),
            ("  SET fare:*:*   EX 600 ", Ok("set fare:*:* ex 600")),
            ("rpush \"waiting room\"", Ok("rpush \"waiting room\"")),
            ("zadd depths", Ok("zadd depths")),
            ("", Err("name the keys, such as port:*")),
            ("hset", Err("hset: name the keys, such as port:*")),
            ("port", Err("each row is a hash of its own: its key goes in the place of a star, such as port:*")),
            ("set a nx", Err("nx: after the name only \"ex\" and the seconds that the keys are to live are known")),
            ("rpush a ex 0", Err("ex: a whole number of seconds")),
            ("rpush a ex 9223372036854775", Err("ex: a whole number of seconds")),
            (
                "port list",
                Err(
                    "port is not a command that rows are put by; hset, set, rpush, lpush, sadd, zadd, xadd are, and a name with blanks stands in quotes",
                ),
            ),
            ("\"open", Err("a quote never closes")),
        ] {
            let read = Rows::read(target);
            let found = read.as_ref().map(Rows::written).map_err(Clone::clone);
            assert_eq!(found, wanted.map(str::to_owned).map_err(str::to_owned), "{target}");
            if let Ok(rows) = read {
                assert_eq!(Rows::read(&rows.written()).as_ref(), Ok(&rows), "{target}");
            }
        }
    }

    /// The commands of a row, as a person would write them.
    fn of(target: &str, places: &[&str], fields: &[(&str, Option<&str>)]) -> Result<String, String> {
        let rows = Rows::read(target)?;
        let places: Vec<_> = places.iter().map(|place| place.as_bytes()).collect();
        let fields: Vec<Field<'_>> = fields.iter().map(|(name, value)| (*name, value.map(str::as_bytes))).collect();
        let commands = rows.commands(&rows.key(&places), &fields)?;
        let line = |command: &Arguments| command.iter().map(|word| written(word)).collect::<Vec<_>>().join(" ");
        Ok(commands.iter().map(line).collect::<Vec<_>>().join("; "))
    }

    #[test]
    fn a_row_is_the_commands_that_make_it() {
        let all: &[(&str, Option<&str>)] = &[("name", Some("Gull Quay")), ("berths", Some("3")), ("note", None)];
        assert_eq!(of("port:*", &["GUL"], all).unwrap(), "hset port:GUL name \"Gull Quay\" berths 3");
        assert_eq!(of("xadd seen:*", &["GUL"], all).unwrap(), "xadd seen:GUL * name \"Gull Quay\" berths 3");
        let one: &[(&str, Option<&str>)] = &[("fare", Some("12.50"))];
        assert_eq!(of("set f:*:* ex 9", &["a", "*"], one).unwrap(), "set f:a:* 12.50; expire f:a:* 9");
        assert_eq!(of("lpush q", &[], one).unwrap(), "lpush q 12.50");
        assert_eq!(of("sadd q ex 5", &[], one).unwrap(), "sadd q 12.50; expire q 5");
        let scored = [("score", Some("-inf")), ("port", Some("GUL"))];
        assert_eq!(of("zadd d", &[], &scored).unwrap(), "zadd d -inf GUL");
        // What a row says of its own life comes before what is said of all.
        let lives = [("seconds left", Some("30")), ("fare", Some("1"))];
        assert_eq!(of("set f:* ex 9", &["a"], &lives).unwrap(), "set f:a 1; expire f:a 30");
        // Of what is not a key of its own it is a field like others.
        assert_eq!(of("xadd f", &[], &lives).unwrap(), "xadd f * \"seconds left\" 30 fare 1");
    }

    #[test]
    fn what_cannot_be_put_there_is_told() {
        for (target, fields, wanted) in [
            ("port:*", vec![("name", None)], "every field is NULL, and there has to be one"),
            ("set port:*", vec![("name", None)], "name: NULL cannot be a value here"),
            ("zadd d", vec![("score", None), ("port", Some("a"))], "score: NULL cannot be one"),
            ("zadd d", vec![("score", Some("nan")), ("port", Some("a"))], "score: nan is not a number"),
            (
                "set port:*",
                vec![("seconds left", Some("-1")), ("name", Some("a"))],
                "seconds left: -1 is not a whole number of seconds above zero",
            ),
        ] {
            assert_eq!(of(target, &["a"], &fields).unwrap_err(), wanted, "{target}");
        }
    }
}
