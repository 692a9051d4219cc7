//! Keys as the commands that make them again. Of the documentation of Redis: "SCAN", "Transactions", "RESTORE".
//!
//! Small ones are read whole, many in one go; a large one is read in parts, and begun again if somebody changed it
//! meanwhile: what is written last of a key is what it was at one moment.

use jaunty_language::dialect::commands::arguments::written;
use jaunty_seam::engine::{Remade, Statements};
use jaunty_seam::error::{EngineError, ErrorKind};
use redis::Value;

use super::errors::refusal;
use super::reply::text;
use super::session::RedisSession;
use super::wire::Place;

/// How many keys are asked about in one go.
const KEYS: usize = 100;
/// What has no more elements is read whole.
const SMALL: i64 = 500;
/// And a text with no more bytes.
const SHORT: i64 = 256 << 10;
/// The most elements and bytes of a command that is written.
const ELEMENTS: usize = 100;
const BYTES: usize = 64 << 10;
/// How often a key is read again that others change, before it is read in one go.
const TRIES: usize = 3;

/// What is asked of a key of a type: how large it is, and all of it.
struct Kind {
    name: &'static str,
    size: &'static str,
    whole: &'static [&'static str],
    scan: &'static str,
    puts: &'static str,
}

const KINDS: &[Kind] = &[
    Kind { name: "string", size: "strlen", whole: &["get"], scan: "", puts: "set" },
    Kind { name: "list", size: "llen", whole: &["lrange", "0", "-1"], scan: "", puts: "rpush" },
    Kind { name: "set", size: "scard", whole: &["smembers"], scan: "sscan", puts: "sadd" },
    Kind { name: "hash", size: "hlen", whole: &["hgetall"], scan: "hscan", puts: "hset" },
    Kind { name: "zset", size: "zcard", whole: &["zrange", "0", "-1", "withscores"], scan: "zscan", puts: "zadd" },
    Kind { name: "stream", size: "xlen", whole: &["xrange", "-", "+"], scan: "", puts: "xadd" },
];

/// Writes what makes the keys of a pattern again; all keys, and the functions of the server, where it is empty.
pub fn remake(session: &mut RedisSession, pattern: &str, take: &mut Statements<'_>) -> Result<Remade, EngineError> {
    let mut copying = Copying { session, take, made: Remade::default() };
    if pattern.is_empty() {
        copying.functions()?;
    }
    let is_one = !pattern.is_empty() && !pattern.contains(['*', '?', '[', '\\']);
    if is_one {
        copying.keys(&[pattern.as_bytes().to_vec()])?;
        return Ok(copying.made);
    }
    for server in copying.session.all()? {
        copying.server(server, if pattern.is_empty() { "*" } else { pattern })?;
    }
    Ok(copying.made)
}

fn unknown() -> EngineError {
    EngineError::new(ErrorKind::Refused, "the server's reply is of an unknown kind")
}

fn words(words: &[&[u8]]) -> Vec<Vec<u8>> {
    words.iter().map(|word| word.to_vec()).collect()
}

/// A value as an argument.
fn bytes(value: Value) -> Vec<u8> {
    match value {
        Value::BulkString(bytes) => bytes,
        value => text(&value).into_bytes(),
    }
}

/// All values in a reply, however deep: of a hash a name and a value in turn.
fn flat(value: Value, into: &mut Vec<Vec<u8>>) {
    match value {
        Value::Array(values) | Value::Set(values) => values.into_iter().for_each(|value| flat(value, into)),
        Value::Map(entries) => entries.into_iter().for_each(|(name, value)| {
            flat(name, into);
            flat(value, into);
        }),
        Value::Nil => {}
        value => into.push(bytes(value)),
    }
}

/// A field of a reply that is a map, or a list of names and values in turn.
fn field<'a>(reply: &'a Value, name: &str) -> Option<&'a Value> {
    match reply {
        Value::Map(entries) => entries.iter().find(|(key, _)| text(key) == name).map(|(_, value)| value),
        Value::Array(values) => values.chunks_exact(2).find(|pair| text(&pair[0]) == name).map(|pair| &pair[1]),
        _ => None,
    }
}

struct Copying<'a, 'b> {
    session: &'a mut RedisSession,
    take: &'a mut Statements<'b>,
    made: Remade,
}

impl Copying<'_, '_> {
    fn ask(&mut self, command: Vec<Vec<u8>>) -> Result<Value, EngineError> {
        let answer = self.session.send_all(&[command])?.pop().unwrap_or(Value::Nil);
        refusal(&answer).map_or(Ok(answer), Err)
    }

    fn put(&mut self, command: &[Vec<u8>]) -> Result<(), EngineError> {
        let line: Vec<String> = command.iter().map(|word| written(word)).collect();
        (self.take)(&line.join(" "), self.made.elements)
    }

    /// The functions of the server; one of before there were any has none.
    fn functions(&mut self) -> Result<(), EngineError> {
        let list = self.session.send_all(&[words(&[b"function", b"list", b"withcode"])])?.pop();
        // Not that the server does not know the command, but that the user may not.
        let denied = list.as_ref().and_then(refusal).filter(|error| error.code.as_deref() == Some("NOPERM"));
        self.made.left_out.extend(denied.map(|error| format!("functions: {}", error.message)));
        let Some(Value::Array(libraries)) = list else { return Ok(()) };
        for code in libraries.iter().filter_map(|library| field(library, "library_code")) {
            self.put(&words(&[b"function", b"load", b"replace", text(code).as_bytes()]))?;
        }
        Ok(())
    }

    /// Writes the keys of a pattern that one server has.
    fn server(&mut self, server: Place, pattern: &str) -> Result<(), EngineError> {
        let mut cursor = b"0".to_vec();
        loop {
            let scan = words(&[b"scan", &cursor, b"match", pattern.as_bytes(), b"count", b"500"]);
            let Value::Array(mut parts) = self.session.ask_at(server, &scan)? else { return Err(unknown()) };
            let (Some(Value::Array(keys)), Some(next)) = (parts.pop(), parts.pop()) else { return Err(unknown()) };
            let mut keys: Vec<Vec<u8>> = keys.into_iter().map(bytes).collect();
            // A scan may tell of a key twice.
            keys.sort();
            keys.dedup();
            keys.chunks(KEYS).try_for_each(|keys| self.keys(keys))?;
            cursor = bytes(next);
            if cursor == b"0" {
                return Ok(());
            }
        }
    }

    /// Writes some keys.
    fn keys(&mut self, keys: &[Vec<u8>]) -> Result<(), EngineError> {
        let asked = keys.iter().flat_map(|key| [words(&[b"type", key]), words(&[b"pttl", key])]);
        let answers = self.session.send_all(&asked.collect::<Vec<_>>())?;
        let mut known = Vec::new();
        for (key, answers) in keys.iter().zip(answers.chunks_exact(2)) {
            let (name, lives) = (text(&answers[0]), text(&answers[1]).parse::<i64>().unwrap_or(-1));
            if name != "none" {
                known.push((key, KINDS.iter().find(|kind| kind.name == name), lives));
            }
        }
        let sizes = known.iter().filter_map(|(key, kind, _)| Some(words(&[(*kind)?.size.as_bytes(), key])));
        let mut sizes = self.session.send_all(&sizes.collect::<Vec<_>>())?.into_iter();
        let (mut small, mut others) = (Vec::new(), Vec::new());
        for (key, kind, lives) in known {
            let Some(kind) = kind else {
                others.push((key, None, lives));
                continue;
            };
            let most = if kind.name == "string" { SHORT } else { SMALL };
            match sizes.next() {
                Some(Value::Int(size)) if size <= most && kind.name != "stream" => small.push((key, kind, lives)),
                _ => others.push((key, Some(kind), lives)),
            }
        }
        let reads: Vec<_> = small.iter().map(|(key, kind, _)| whole(kind, key)).collect();
        let read = self.session.send_all(&reads)?;
        for ((key, kind, lives), value) in small.into_iter().zip(read) {
            match value {
                // It is of another type by now.
                Value::ServerError(_) => others.push((key, Some(kind), lives)),
                value => self.small(key, kind, lives, value)?,
            }
        }
        for (key, kind, lives) in others {
            match kind {
                Some(kind) => self.large(key, kind, lives)?,
                None => self.packed(key)?,
            }
        }
        Ok(())
    }

    fn small(&mut self, key: &[u8], kind: &Kind, lives: i64, value: Value) -> Result<(), EngineError> {
        let mut elements = Vec::new();
        flat(value, &mut elements);
        // It is gone by now. Only a text may be empty.
        if elements.is_empty() {
            return Ok(());
        }
        self.begin(key, kind)?;
        self.elements(key, kind, &elements)?;
        self.end(key, lives)
    }

    /// What stands before the elements of a key.
    fn begin(&mut self, key: &[u8], kind: &Kind) -> Result<(), EngineError> {
        match kind.name {
            // Setting it replaces what is there.
            "string" => Ok(()),
            _ => self.put(&words(&[b"unlink", key])),
        }
    }

    fn end(&mut self, key: &[u8], lives: i64) -> Result<(), EngineError> {
        self.made.elements += 1;
        match lives {
            0.. => self.put(&words(&[b"pexpire", key, lives.max(1).to_string().as_bytes()])),
            _ => Ok(()),
        }
    }

    /// Writes elements in commands of not too many.
    fn elements(&mut self, key: &[u8], kind: &Kind, elements: &[Vec<u8>]) -> Result<(), EngineError> {
        let of_one = if matches!(kind.name, "hash" | "zset") { 2 } else { 1 };
        let start = words(&[kind.puts.as_bytes(), key]);
        let (mut command, mut size) = (start.clone(), 0);
        for one in elements.chunks(of_one) {
            size += one.iter().map(Vec::len).sum::<usize>();
            match kind.name {
                // Told as a member and its score, and written the other way round.
                "zset" => command.extend(one.iter().rev().cloned()),
                _ => command.extend(one.iter().cloned()),
            }
            if size >= BYTES || command.len() - 2 >= ELEMENTS * of_one {
                self.put(&std::mem::replace(&mut command, start.clone()))?;
                size = 0;
            }
        }
        if command.len() > 2 { self.put(&command) } else { Ok(()) }
    }

    /// A key that is read in parts, and again where somebody changed it meanwhile.
    fn large(&mut self, key: &[u8], kind: &Kind, lives: i64) -> Result<(), EngineError> {
        for _ in 0..TRIES {
            let before = (self.made.elements, self.made.left_out.len());
            self.ask(words(&[b"watch", key]))?;
            let outcome = self.in_parts(key, kind);
            let is_same = match &outcome {
                Ok(_) => {
                    let last = self.session.send_all(&[words(&[b"multi"]), words(&[b"exec"])])?.pop();
                    matches!(last, Some(Value::Array(_)))
                }
                Err(error) if error.code.as_deref() == Some("WRONGTYPE") => {
                    self.ask(words(&[b"unwatch"]))?;
                    false
                }
                Err(_) => return outcome.map(drop),
            };
            match outcome {
                Ok(true) if is_same => return self.end(key, lives),
                // There is nothing: it is gone, or packed.
                Ok(false) if is_same => return Ok(()),
                // It is written once more, and counted once.
                _ => {
                    self.made.elements = before.0;
                    self.made.left_out.truncate(before.1);
                }
            }
        }
        let of_type = text(&self.ask(words(&[b"type", key]))?);
        match KINDS.iter().find(|kind| kind.name == of_type) {
            Some(kind) if kind.name != "stream" => {
                let value = self.ask(whole(kind, key))?;
                self.small(key, kind, lives, value)
            }
            _ => self.packed(key),
        }
    }

    /// Writes a key in parts; false where it is not there, or was written as a whole.
    fn in_parts(&mut self, key: &[u8], kind: &Kind) -> Result<bool, EngineError> {
        if kind.name == "stream" {
            return self.stream(key, kind);
        }
        self.begin(key, kind)?;
        let (mut cursor, mut any) = (b"0".to_vec(), false);
        let mut from = 0;
        loop {
            let mut elements = Vec::new();
            let is_last = match kind.name {
                "string" => {
                    flat(self.ask(words(&[b"get", key]))?, &mut elements);
                    true
                }
                "list" => {
                    let to = from + SMALL - 1;
                    let part = [&b"lrange"[..], key, from.to_string().as_bytes(), to.to_string().as_bytes()]
                        .map(<[u8]>::to_vec);
                    flat(self.ask(part.to_vec())?, &mut elements);
                    from += SMALL;
                    elements.is_empty()
                }
                _ => {
                    let part = words(&[kind.scan.as_bytes(), key, &cursor, b"count", b"500"]);
                    let Value::Array(mut parts) = self.ask(part)? else { return Err(unknown()) };
                    flat(parts.pop().unwrap_or(Value::Nil), &mut elements);
                    cursor = bytes(parts.pop().unwrap_or(Value::Nil));
                    cursor == b"0"
                }
            };
            any |= !elements.is_empty();
            self.elements(key, kind, &elements)?;
            if is_last {
                return Ok(any);
            }
        }
    }

    /// A stream entry by entry; one that is empty, or that groups read, in the server's own form.
    fn stream(&mut self, key: &[u8], kind: &Kind) -> Result<bool, EngineError> {
        let about = match self.ask(words(&[b"xinfo", b"stream", key])) {
            Ok(about) => about,
            // There is no such key.
            Err(error) if error.kind == ErrorKind::Refused && error.code.as_deref() == Some("ERR") => return Ok(false),
            Err(error) => return Err(error),
        };
        let is_zero = |name: &str| matches!(field(&about, name), Some(Value::Int(0)) | None);
        if is_zero("length") || !is_zero("groups") {
            self.packed(key)?;
            return Ok(false);
        }
        self.begin(key, kind)?;
        let mut from = b"-".to_vec();
        let mut last = Vec::new();
        loop {
            let part = words(&[b"xrange", key, &from, b"+", b"count", b"500"]);
            let Value::Array(entries) = self.ask(part)? else { return Err(unknown()) };
            if entries.is_empty() {
                break;
            }
            for entry in entries {
                let Value::Array(mut parts) = entry else { return Err(unknown()) };
                let (fields, id) = (parts.pop().unwrap_or(Value::Nil), bytes(parts.pop().unwrap_or(Value::Nil)));
                let mut command = words(&[kind.puts.as_bytes(), key, &id]);
                flat(fields, &mut command);
                self.put(&command)?;
                last = id;
            }
            from = [b"(", last.as_slice()].concat();
        }
        // Entries after the last may have been removed: their numbers are not given again.
        if let Some(newest) = field(&about, "last-generated-id").map(text).filter(|newest| newest.as_bytes() != last) {
            self.put(&words(&[b"xsetid", key, newest.as_bytes()]))?;
        }
        Ok(true)
    }

    /// A key in the server's own form, which takes all types: what `DUMP` gives and `RESTORE` takes.
    fn packed(&mut self, key: &[u8]) -> Result<(), EngineError> {
        let mut answers = self.session.send_all(&[words(&[b"pttl", key]), words(&[b"dump", key])])?;
        let (value, lives) = (answers.pop().unwrap_or(Value::Nil), answers.pop().unwrap_or(Value::Nil));
        match value {
            Value::Nil => Ok(()),
            Value::ServerError(error) => {
                let why = error.details().unwrap_or_else(|| error.code());
                self.made.left_out.push(format!("{}: {why}", written(key)));
                Ok(())
            }
            value => {
                let lives = text(&lives).parse::<i64>().unwrap_or(0).max(0).to_string();
                self.put(&words(&[b"restore", key, lives.as_bytes(), &bytes(value), b"replace"]))?;
                self.made.elements += 1;
                Ok(())
            }
        }
    }
}

/// The command that reads all of a key.
fn whole(kind: &Kind, key: &[u8]) -> Vec<Vec<u8>> {
    let mut command = words(&[kind.whole[0].as_bytes(), key]);
    command.extend(kind.whole[1..].iter().map(|word| word.as_bytes().to_vec()));
    command
}
