//! What is wrong with a command: a name that is near to a known one, arguments that are missing, a quote that never closes.
//!
//! A server may know more commands than the help does, from modules and newer versions: a name that is near to none is
//! none of ours to judge.

use std::ops::Range;

use jaunty_language::dialect::commands::arguments;
use jaunty_language::help::{self, Entry};

use super::{Problem, few_letters_off};
use crate::complete::Surroundings;

/// What is wrong with it.
pub fn problems(text: &str, around: Surroundings<'_>) -> Vec<Problem> {
    let Some(start) = beginning(text) else { return Vec::new() };
    let command = text.get(start..).unwrap_or_default().trim_end();
    if let Err(mistake) = arguments::split(command) {
        let at = start + mistake.at.min(command.len().saturating_sub(1));
        return vec![Problem::new(at..at + 1, mistake.message)];
    }
    let last = words(command).last().map(|at| start + at.start..start + at.end);
    let semicolon = last.and_then(|last| with_semicolon(text, last));
    let mut words = words(command).map(|at| start + at.start..start + at.end);
    let (Some(first), second) = (words.next(), words.next()) else { return Vec::new() };
    let word = |at: &Range<usize>| text.get(at.clone()).unwrap_or_default();
    if let Some(way) = of_sql(word(&first), second.as_ref().map(word)) {
        return vec![Problem::new(first, way)];
    }
    let help = help::of(around.dialect);
    let both = second.as_ref().map(|second| format!("{} {}", word(&first), word(second)));
    if let Some(entry) = both.and_then(|both| help.keyword(&both)) {
        return missing(entry, command, start, 2).or(semicolon).into_iter().collect();
    }
    if let Some(entry) = help.keyword(word(&first)) {
        return missing(entry, command, start, 1).or(semicolon).into_iter().collect();
    }
    let firsts = || help.entries().iter().filter_map(|entry| entry.name.split(' ').next());
    if firsts().any(|known| known.eq_ignore_ascii_case(word(&first))) {
        let seconds = help.entries().iter().filter_map(|entry| {
            let (before, second) = entry.name.split_once(' ')?;
            before.eq_ignore_ascii_case(word(&first)).then_some(second)
        });
        return second.and_then(|second| unknown(word(&second), second.clone(), seconds)).into_iter().collect();
    }
    unknown(word(&first), first.clone(), firsts()).into_iter().collect()
}

/// A semicolon as statements of other languages end with: here it belongs to the last argument, and the server takes it.
fn with_semicolon(text: &str, last: Range<usize>) -> Option<Problem> {
    let without = text.get(last.clone())?.strip_suffix(';').filter(|without| !without.contains(';'))?;
    let message = "a command ends with its line: this semicolon is a part of the argument";
    let near = Some(without).filter(|without| !without.is_empty()).map(str::to_owned).into_iter().collect();
    Some(Problem { near, is_written: true, taken: true, ..Problem::new(last, message) })
}

/// What stands for a statement of SQL, which begins so.
fn of_sql(first: &str, second: Option<&str>) -> Option<&'static str> {
    let is = |word: &str| first.eq_ignore_ascii_case(word);
    // The number of a database may follow that.
    let reads =
        is("SELECT") && second.is_some_and(|second| second.parse::<u32>().is_err() && !second.starts_with([':', '$']));
    if reads || ["WITH", "SHOW", "DESCRIBE"].into_iter().any(is) {
        return Some(
            "this is not SQL: a key is read by GET, HGETALL, LRANGE, SMEMBERS or ZRANGE, by its type; SCAN lists keys",
        );
    }
    let writes = ["INSERT", "UPDATE", "CREATE"].into_iter().any(is);
    writes
        .then_some("this is not SQL: a key is written by SET, HSET, RPUSH, SADD or ZADD")
        .or_else(|| is("DELETE").then_some("this is not SQL: keys are removed by DEL or UNLINK"))
}

/// Where the command begins, behind comments.
fn beginning(text: &str) -> Option<usize> {
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let trimmed = line.trim_start();
        if !trimmed.trim_end().is_empty() && !trimmed.starts_with('#') {
            return Some(at + line.len() - trimmed.len());
        }
        at += line.len();
    }
    None
}

/// Words as they stand, without a look at quotes.
fn words(text: &str) -> impl Iterator<Item = Range<usize>> {
    text.split_whitespace().map(|word| {
        let start = word.as_ptr() as usize - text.as_ptr() as usize;
        start..start + word.len()
    })
}

/// A name that is near to a known one.
fn unknown<'a>(name: &str, at: Range<usize>, known: impl Iterator<Item = &'a str>) -> Option<Problem> {
    let lower = name.bytes().any(|b| b.is_ascii_lowercase());
    let near = few_letters_off(name, known);
    let near = near.into_iter().map(|name| if lower { name.to_lowercase() } else { name }).collect::<Vec<_>>();
    (!near.is_empty()).then(|| Problem { near, ..Problem::new(at, format!("no command named {name}")) })
}

/// What an entry asks for before anything that may be left out, and is not there.
fn missing(entry: &Entry, command: &str, start: usize, words: usize) -> Option<Problem> {
    // Behind a word in capitals other words may stand in its place.
    let plain = |argument: &&str| argument.starts_with(|c: char| c.is_lowercase()) && !argument.ends_with('…');
    let asked = entry.signature.split_whitespace().skip(words).take_while(plain).count();
    let given = arguments::split(command).ok()?.len().saturating_sub(words);
    let last = self::words(command).last()?;
    (given < asked).then(|| {
        Problem::new(start + last.start..start + last.end, format!("arguments are missing: {}", entry.signature))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::REDIS;
    use jaunty_seam::catalog::Catalog;

    fn told(text: &str) -> Vec<String> {
        let catalog = Catalog::default();
        let around = Surroundings { catalog: &catalog, dialect: &REDIS, snippets: &[], nearby: "" };
        let say = |problem: &Problem| format!("{}: {}", text.get(problem.range.clone()).unwrap(), problem.sentence());
        problems(text, around).iter().map(say).collect()
    }

    #[test]
    fn what_is_right_is_not_marked() {
        for text in [
            "get fare:SMQ",
            "set a \"two words\"",
            "GEOADD quays 1.5 51 SMQ",
            "auth secret",
            "eval \"return 1\" 0",
            "client list",
            "config get max*",
            "ping",
            "# get",
            "# a note\n\nhgetall vessel:1",
            "ft.search quays fog",
            "json.get a $",
            "xread count 2 streams a 0",
            "zadd k 1 a",
            "geosearch quays frommember SMQ byradius 1 km",
            "xreadgroup group g c streams a >",
            "unsubscribe",
            "select 3",
            "select :db",
            "",
        ] {
            assert!(told(text).is_empty(), "{text}: {:?}", told(text));
        }
    }

    #[test]
    fn slips_are_marked_with_what_was_meant() {
        for (text, wanted) in [
            ("hgetal vessel:1", "hgetal: no command named hgetal · did you mean \"hgetall\"?"),
            ("# a note\nHGETAL vessel:1", "HGETAL: no command named HGETAL · did you mean \"HGETALL\"?"),
            (
                "select * from quays",
                "select: this is not SQL: a key is read by GET, HGETALL, LRANGE, SMEMBERS or ZRANGE, by its type; SCAN lists keys",
            ),
            ("insert into a values (1)", "insert: this is not SQL: a key is written by SET, HSET, RPUSH, SADD or ZADD"),
            ("Delete from a", "Delete: this is not SQL: keys are removed by DEL or UNLINK"),
            ("client lisst", "lisst: no command named lisst · did you mean \"list\"?"),
            (
                "set fare:SMQ",
                "fare:SMQ: arguments are missing: SET key value [NX|XX] [GET] [EX seconds|PX milliseconds|KEEPTTL]",
            ),
            ("lrange berths 0", "0: arguments are missing: LRANGE key start stop"),
            ("config set", "set: arguments are missing: CONFIG SET name value…"),
            ("get \"a", "\": a quote never closes"),
            (
                "get fare;",
                "fare;: a command ends with its line: this semicolon is a part of the argument · did you mean fare?",
            ),
            ("get fare ;", ";: a command ends with its line: this semicolon is a part of the argument"),
            ("set a \"b\";", ";: a closing quote is followed by a semicolon"),
        ] {
            assert_eq!(told(text), [wanted]);
        }
    }
}
