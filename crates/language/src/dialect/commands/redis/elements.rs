//! Changes of what a key holds: a value, the fields of a hash, the elements of a list, the members of a set and of a sorted
//! set, and how long a key lives. Commands and their replies: <https://redis.io/docs/latest/commands/>.
//!
//! All keys are watched before anything is read, and all changes are sent in one transaction: where somebody changed a
//! key in between, none of them is carried out (<https://redis.io/docs/latest/develop/using-commands/transactions/>).
//!
//! An element of a list has no name but its position, which others change. So positions of one slip are those in the list
//! with everything in it that is deleted, or put back, by this slip: what is put back comes first, from the front on,
//! what is deleted goes from the end on, and what is new is appended last.

use super::arguments::{split, written};
use super::filling::{Field, LEFT, Rows};
use crate::dialect::{
    Answer, Around, Datum, Edit, Elements, Filling, Found, Part, Place, Planned, Reading, Row, Source, Takes, Undo,
    bytes_of,
};

/// What keys hold.
#[derive(Debug)]
pub(super) struct Keys;

const STRING: &str = "value";
const LIFETIME: &str = "lifetime";
const HASH: &str = "field";
const LIST: &str = "element";
const SET: &str = "member";
const SORTED_SET: &str = "member with a score";

/// The part that tells elements apart: a key, a field, a position, a member.
const NAME: usize = 0;
/// A value, or a score.
const VALUE: usize = 1;
/// How long a key lives.
const LIVES: usize = 2;
/// The element that stands after one that was deleted.
const NEXT: usize = 2;

/// What marks an element of a list until it is removed, or something is put before it.
const MARK: &str = "\"\\x00jaunty slip\\x00\"";

fn part(name: &str, source: Source) -> Part {
    Part { name: name.to_owned(), source, ..Part::default() }
}

fn key_part(name: &str, source: Source) -> Part {
    Part { is_key: true, ..part(name, source) }
}

/// A value as an argument.
fn argument(value: &Datum) -> String {
    match value {
        Datum::Bytes(digits) => written(&bytes_of(digits)),
        value => written(value.text().as_bytes()),
    }
}

/// Bytes of a statement as a value.
fn datum(bytes: &[u8]) -> Datum {
    match std::str::from_utf8(bytes) {
        Ok(text) => Datum::Text(text.to_owned()),
        Err(_) => Datum::Bytes(bytes.iter().map(|byte| format!("{byte:02x}")).collect()),
    }
}

/// How many there are, or the time that is left.
fn number(answer: Option<&Answer>) -> Option<i64> {
    answer?.row.as_ref()?.first()?.text().parse().ok()
}

/// The value that a command gave; none where it gave nothing.
fn value_of(answer: Option<&Answer>) -> Option<Datum> {
    answer?.row.as_ref()?.first().filter(|value| **value != Datum::Null).cloned()
}

/// How long a key lives, as `ttl` tells: for ever is nothing.
fn life(answer: Option<&Answer>) -> Option<Datum> {
    match number(answer)? {
        -2 => None,
        -1 => Some(Datum::Null),
        left => Some(Datum::Number(left.to_string())),
    }
}

fn reading(text: String) -> Reading {
    Reading { text, otherwise: None }
}

/// A position of a list, by the part that has it.
fn position(value: Option<&Datum>) -> i64 {
    value.and_then(|value| value.text().parse().ok()).unwrap_or(0)
}

/// Whether an element is put back where it was, and is not a new one.
fn is_put_back(edit: &Edit<'_>) -> bool {
    matches!(edit, Edit::Add(new) if new.contains_key(&NAME))
}

impl Elements for Keys {
    fn place(&self, statement: &str, columns: &[(String, String)]) -> Result<Place, String> {
        let arguments = split(statement).map_err(|mistake| mistake.message.to_owned())?;
        let word = |at: usize| arguments.get(at).map(|word| String::from_utf8_lossy(word).to_ascii_lowercase());
        let command = word(0).unwrap_or_default();
        let no = |why: &str| Err(why.to_owned());
        let Some(key) = arguments.get(1) else { return no("this reply is not the value of a key") };
        let has_pairs = columns.first().is_some_and(|(name, _)| name == "key");
        let has = |wanted: &str| arguments.iter().skip(2).any(|word| word.eq_ignore_ascii_case(wanted.as_bytes()));
        let listed = |from: usize| Source::Listed(arguments.iter().skip(from).map(|word| datum(word)).collect());
        let value = |at: usize| part("value", Source::Column(at));
        let (element, parts, can) = match command.as_str() {
            "get" | "mget" => {
                let lives = Part { takes: Takes::Count, optional: true, ..part(LEFT, Source::Untold) };
                let key = Part { lasting: true, ..key_part("key", listed(1)) };
                (STRING, vec![key, value(0), lives], [false, true])
            }
            "ttl" | "pttl" => {
                let name = if command == "ttl" { LEFT } else { "milliseconds left" };
                let lives = Part { takes: Takes::Count, optional: true, ..part(name, Source::Column(0)) };
                let key = Part { lasting: true, ..key_part("key", listed(1)) };
                (LIFETIME, vec![key, lives], [false, false])
            }
            "hget" | "hmget" => (HASH, vec![key_part("field", listed(2)), value(0)], [true, true]),
            "hgetall" => {
                let at = usize::from(has_pairs);
                (HASH, vec![key_part("field", Source::Column(0)), value(at)], [true, true])
            }
            "lrange" | "lindex" => {
                let Some(first) = word(2).and_then(|first| first.parse().ok()) else {
                    return no("negative positions shift with each change: use a start of 0 or more");
                };
                let position = Part { fixed: true, ..key_part("position", Source::Counted(first)) };
                let next = Part { fixed: true, ..part("in front of", Source::Untold) };
                (LIST, vec![position, value(0), next], [true, true])
            }
            "smembers" => (SET, vec![key_part("member", Source::Column(0))], [true, true]),
            "zrange" | "zrevrange" | "zrangebyscore" | "zrevrangebyscore" if has("withscores") => {
                let score = Part { takes: Takes::Number, ..part("score", Source::Column(1)) };
                (SORTED_SET, vec![key_part("member", Source::Column(0)), score], [true, true])
            }
            "zrange" | "zrevrange" | "zrangebyscore" | "zrevrangebyscore" => {
                return no("add withscores to change members and their scores");
            }
            "xrange" | "xrevrange" | "xread" => {
                return no("stream entries cannot be changed; xadd adds one, xdel removes one");
            }
            // The keys of a pattern, as the catalog shows them.
            "scan" if columns.get(2).is_some_and(|(name, _)| name == LEFT) => {
                let lives = Part { takes: Takes::Count, optional: true, ..part(LEFT, Source::Column(2)) };
                let key = Part { lasting: true, ..key_part("key", Source::Column(0)) };
                (LIFETIME, vec![key, lives], [false, false])
            }
            "scan" | "keys" => {
                return no(
                    "these are key names: read one (get, hgetall, lrange …) to change what it holds; \"delete\" among the formats to put into the buffer removes them",
                );
            }
            other => {
                return Err(format!(
                    "the reply of {other} cannot be changed; get, hgetall, lrange, smembers, zrange … withscores and ttl can"
                ));
            }
        };
        let name = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let name = match command.as_str() {
            "mget" => arguments.iter().skip(1).map(|key| name(key)).collect::<Vec<_>>().join(" "),
            _ => name(key),
        };
        Ok(Place { name, written: written(key), element: element.to_owned(), parts, can })
    }

    fn plan(&self, place: &Place, edits: &[Edit<'_>]) -> Result<Vec<Planned>, (usize, String)> {
        let mut order: Vec<usize> = (0..edits.len()).collect();
        if place.element == LIST {
            order.sort_by_key(|at| match &edits[*at] {
                edit if is_put_back(edit) => (0, position(edit.given(NAME))),
                Edit::Change(..) => (1, 0),
                edit @ Edit::Delete(_) => (2, -position(edit.was(NAME))),
                Edit::Add(_) => (3, 0),
            });
            return order.into_iter().map(|at| plan_in_list(&place.written, edits, at)).collect();
        }
        order.sort_by_key(|at| match &edits[*at] {
            Edit::Delete(_) => 0,
            Edit::Change(..) => 1,
            Edit::Add(_) => 2,
        });
        order.into_iter().map(|at| plan_by_name(place, edits, at)).collect()
    }

    fn found(&self, place: &Place, edit: &Edit<'_>, planned: &Planned, answers: &[Answer]) -> Found {
        let element = place.element.as_str();
        let there = |at: usize, answer: usize| -> Option<Row> {
            let name = edit.was(at).or(edit.given(at)).cloned();
            let answer = answers.get(answer);
            match element {
                STRING => Some(vec![name, Some(value_of(answer)?), life(answers.get(1))]),
                LIFETIME => Some(vec![name, Some(life(answer)?)]),
                SET => (number(answer)? == 1).then(|| vec![name]),
                LIST => Some(vec![name, Some(value_of(answer)?), None]),
                _ => Some(vec![name, Some(value_of(answer)?)]),
            }
        };
        if let (LIST, Edit::Add(new)) = (element, edit) {
            let next = new.get(&NEXT).filter(|next| **next != Datum::Absent).cloned();
            return match is_put_back(edit) && value_of(answers.first()) != next {
                true => Found::Hindered("the list has changed at this position".into()),
                false => Found::Same(None),
            };
        }
        // What is going to be made must not be there.
        let of_new = match edit {
            Edit::Add(_) => Some(0),
            Edit::Change(..) if !matches!(element, STRING | LIFETIME) && planned.reads.len() > 1 => Some(1),
            _ => None,
        };
        if let Some(at) = of_new {
            let is_there = match element {
                SET => number(answers.get(at)) == Some(1),
                _ => value_of(answers.get(at)).is_some(),
            };
            if is_there {
                let name = edit.given(NAME).map(argument).unwrap_or_default();
                return Found::Hindered(format!("{name} already exists"));
            }
        }
        let Some(old) = edit.old() else { return Found::Same(None) };
        match there(NAME, 0) {
            Some(now) if is_as_read(element, old, &now) => Found::Same(Some(now)),
            now => Found::Other(now),
        }
    }

    fn became(
        &self,
        place: &Place,
        edit: &Edit<'_>,
        planned: &Planned,
        [before, after]: [&[Answer]; 2],
    ) -> Option<Row> {
        let name = edit.value(NAME).cloned();
        let answer = after.first();
        match place.element.as_str() {
            STRING => Some(vec![name, Some(value_of(answer)?), life(after.get(1))]),
            LIFETIME => Some(vec![name, Some(life(answer)?)]),
            SET => (number(answer)? == 1).then(|| vec![name]),
            LIST => match edit {
                Edit::Delete(old) => {
                    let mut row = (*old).clone();
                    *row.get_mut(NEXT)? = Some(value_of(answer).unwrap_or(Datum::Absent));
                    Some(row)
                }
                Edit::Add(_) if !is_put_back(edit) => {
                    let at = number(before.first())? + planned.shift;
                    Some(vec![Some(Datum::Number(at.to_string())), Some(value_of(answer)?), None])
                }
                _ => Some(vec![name, Some(value_of(answer)?), None]),
            },
            _ => Some(vec![name, Some(value_of(answer)?)]),
        }
    }

    fn opposite(&self, place: &Place, edit: &Edit<'_>, before: Option<&Row>, after: Option<&Row>) -> Option<Undo> {
        let given = |row: &Row, parts: &mut dyn Iterator<Item = usize>| {
            parts.filter_map(|part| Some((part, row.get(part)?.clone()?))).collect::<std::collections::BTreeMap<_, _>>()
        };
        Some(match edit {
            Edit::Change(_, new) => Undo::Change(after?.clone(), given(before?, &mut new.keys().copied())),
            Edit::Add(_) => Undo::Delete(after?.clone()),
            Edit::Delete(_) if place.element == LIST => {
                // What stands there now says whether the list is still the same there.
                let mut new = given(before?, &mut (0..=VALUE));
                new.insert(NEXT, after?.get(NEXT)?.clone()?);
                Undo::Add(new)
            }
            Edit::Delete(_) => {
                let mut new = given(before?, &mut (0..place.parts.len()));
                new.retain(|_, value| *value != Datum::Null);
                Undo::Add(new)
            }
        })
    }

    fn around(&self, place: &Place, edits: &[Edit<'_>]) -> Around {
        let keys: Vec<String> = match place.element.as_str() {
            STRING | LIFETIME => {
                let mut keys: Vec<_> = edits.iter().filter_map(|edit| edit.value(NAME)).map(argument).collect();
                keys.sort();
                keys.dedup();
                keys
            }
            _ => vec![place.written.clone()],
        };
        Around {
            first: format!("watch {}", keys.join(" ")),
            may_be_refused: false,
            within: "multi",
            last: "exec",
            back: ["unwatch", "discard"],
            remark: "#",
        }
    }

    fn went_well(&self, reply: &[Datum]) -> bool {
        !matches!(reply.last(), Some(Datum::Text(of)) if of == "error")
    }

    fn types(&self) -> Option<&'static [&'static str; 13]> {
        // A value is a string of bytes, whatever it came from.
        const TEXT: &str = "text";
        Some(&[TEXT, TEXT, TEXT, TEXT, TEXT, TEXT, TEXT, TEXT, TEXT, TEXT, TEXT, TEXT, "bytes"])
    }

    fn filling(&self, target: &str) -> Option<Result<Filling, String>> {
        Some(Rows::read(target).map(|rows| rows.filling()))
    }

    fn filled(&self, target: &str, places: &[Datum], fields: &[(&str, Datum)]) -> Result<Vec<String>, String> {
        let bytes = |value: &Datum| match value {
            Datum::Null => None,
            Datum::Bytes(digits) => Some(bytes_of(digits)),
            value => Some(value.text().as_bytes().to_vec()),
        };
        let rows = Rows::read(target)?;
        let places = places.iter().map(|value| bytes(value).ok_or("NULL cannot be part of a key"));
        let places = places.collect::<Result<Vec<_>, _>>()?;
        let places = places.iter().map(Vec::as_slice).collect::<Vec<_>>();
        let values = fields.iter().map(|(name, value)| (*name, bytes(value))).collect::<Vec<_>>();
        let values = values.iter().map(|(name, value)| (*name, value.as_deref())).collect::<Vec<Field<'_>>>();
        let commands = rows.commands(&rows.key(&places), &values)?;
        let line = |command: &Vec<Vec<u8>>| command.iter().map(|word| written(word)).collect::<Vec<_>>().join(" ");
        Ok(commands.iter().map(line).collect())
    }
}

/// Whether an element is still what was read. How long a key lives is less with every moment.
fn is_as_read(element: &str, old: &Row, now: &Row) -> bool {
    let score = |value: &Datum| value.text().parse::<f64>().ok();
    old.iter().zip(now).enumerate().all(|(part, (old, now))| match (old, now) {
        (None, _) => true,
        _ if element == STRING && part == LIVES || element == LIFETIME => true,
        (Some(old), Some(now)) if element == SORTED_SET && part == VALUE => score(old) == score(now),
        (old, now) => part == NEXT || old == now,
    })
}

/// What is sent for a change of an element that has a name, by its place.
fn plan_by_name(place: &Place, edits: &[Edit<'_>], at: usize) -> Result<Planned, (usize, String)> {
    let (edit, key) = (&edits[at], &place.written);
    let missing = |part: usize| {
        let name = place.parts.get(part).map_or("name", |part| part.name.as_str());
        (at, format!("the {name} is missing"))
    };
    let element = place.element.as_str();
    let value_at = |part: usize| edit.value(part).filter(|value| !value.is_word()).map(argument);
    let Some(now) = value_at(NAME) else { return Err(missing(NAME)) };
    let was = edit.was(NAME).map_or_else(|| now.clone(), argument);
    let ask = |name: &str| {
        reading(match element {
            STRING => format!("get {name}"),
            LIFETIME => format!("{} {name}", time_command(place)),
            HASH => format!("hget {key} {name}"),
            SET => format!("sismember {key} {name}"),
            _ => format!("zscore {key} {name}"),
        })
    };
    let all = |name: &str| match element {
        STRING => vec![ask(name), reading(format!("ttl {name}"))],
        _ => vec![ask(name)],
    };
    let mut reads = all(&was);
    if was != now {
        reads.push(ask(&now));
    }
    let needed = || value_at(VALUE).ok_or_else(|| missing(VALUE));
    let (is_added, is_deleted) = (matches!(edit, Edit::Add(_)), matches!(edit, Edit::Delete(_)));
    let writes = match element {
        STRING if is_deleted => vec![format!("del {was}")],
        STRING => set(edit, &now, is_added, needed)?,
        LIFETIME => vec![expire(place, &now, edit.given(VALUE))],
        HASH if is_deleted => vec![format!("hdel {key} {was}")],
        HASH => {
            let mut all: Vec<_> = (was != now).then(|| format!("hdel {key} {was}")).into_iter().collect();
            all.push(format!("hset {key} {now} {}", needed()?));
            all
        }
        SET if is_deleted => vec![format!("srem {key} {was}")],
        SET => {
            let mut all: Vec<_> = (was != now).then(|| format!("srem {key} {was}")).into_iter().collect();
            all.push(format!("sadd {key} {now}"));
            all
        }
        _ if is_deleted => vec![format!("zrem {key} {was}")],
        _ => {
            let mut all: Vec<_> = (was != now).then(|| format!("zrem {key} {was}")).into_iter().collect();
            all.push(format!("zadd {key} {} {now}", needed()?));
            all
        }
    };
    let after = if is_deleted { Vec::new() } else { all(&now) };
    Ok(Planned { edit: at, reads, writes, after, shift: 0 })
}

/// A value of a key, and how long it lives.
fn set(
    edit: &Edit<'_>,
    key: &str,
    is_added: bool,
    needed: impl Fn() -> Result<String, (usize, String)>,
) -> Result<Vec<String>, (usize, String)> {
    let lives = edit.given(LIVES).map(|lives| (lives.text(), lives.is_word()));
    if edit.given(VALUE).is_none() && !is_added {
        return Ok(vec![match lives {
            Some((seconds, false)) => format!("expire {key} {seconds}"),
            _ => format!("persist {key}"),
        }]);
    }
    let there = if is_added { "nx" } else { "xx" };
    let lives = match lives {
        Some((seconds, false)) => format!(" ex {seconds}"),
        None if !is_added => " keepttl".to_owned(),
        _ => String::new(),
    };
    Ok(vec![format!("set {key} {} {there}{lives}", needed()?)])
}

/// The command that tells how long a key lives, in the unit of the place.
fn time_command(place: &Place) -> &'static str {
    match place.parts.get(VALUE).is_some_and(|part| part.name.starts_with("milli")) {
        true => "pttl",
        false => "ttl",
    }
}

fn expire(place: &Place, key: &str, lives: Option<&Datum>) -> String {
    let command = if time_command(place) == "pttl" { "pexpire" } else { "expire" };
    match lives.filter(|lives| !lives.is_word()) {
        Some(lives) => format!("{command} {key} {}", lives.text()),
        None => format!("persist {key}"),
    }
}

/// What is sent for a change of an element of a list, by its place.
fn plan_in_list(key: &str, edits: &[Edit<'_>], at: usize) -> Result<Planned, (usize, String)> {
    let edit = &edits[at];
    let put_back = || edits.iter().filter(|edit| is_put_back(edit));
    let deleted = || edits.iter().filter(|edit| matches!(edit, Edit::Delete(_)));
    let position_here = position(edit.value(NAME));
    // Where it is before anything is sent, and after everything was.
    let now = position_here - put_back().filter(|other| position(other.given(NAME)) < position_here).count() as i64;
    let then = position_here - deleted().filter(|other| position(other.was(NAME)) < position_here).count() as i64;
    let value = edit.value(VALUE).filter(|value| !value.is_word()).map(argument);
    let value = value.ok_or_else(|| (at, "the value is missing".to_owned()))?;
    let one = |position: i64| vec![reading(format!("lindex {key} {position}"))];
    let next = edit.given(NEXT).filter(|next| !next.is_word()).map(argument);
    let is_new = |edit: &&Edit<'_>| matches!(edit, Edit::Add(_)) && !is_put_back(edit);
    let planned = |reads, writes: Vec<String>, after, shift| Planned { edit: at, reads, writes, after, shift };
    Ok(match edit {
        Edit::Change(..) => planned(one(now), vec![format!("lset {key} {position_here} {value}")], one(then), 0),
        Edit::Delete(_) => {
            let writes = vec![format!("lset {key} {position_here} {MARK}"), format!("lrem {key} 1 {MARK}")];
            planned(one(now), writes, one(then), 0)
        }
        Edit::Add(_) if !is_put_back(edit) => {
            let before = edits.iter().take(at).filter(is_new).count() as i64;
            let after = edits.iter().skip(at).filter(is_new).count() as i64;
            let shift = put_back().count() as i64 + before;
            planned(vec![reading(format!("llen {key}"))], vec![format!("rpush {key} {value}")], one(-after), shift)
        }
        Edit::Add(_) => {
            let writes = match next {
                Some(next) => vec![
                    format!("lset {key} {position_here} {MARK}"),
                    format!("linsert {key} before {MARK} {value}"),
                    format!("lset {key} {} {next}", position_here + 1),
                ],
                None => vec![format!("rpush {key} {value}")],
            };
            planned(one(now), writes, one(then), 0)
        }
    })
}
