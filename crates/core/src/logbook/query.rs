//! What a person writes to find runs, on the screen as in `jaunty log`.
//!
//! ```text
//! query = {word | key "=" word}
//! key   = "connection" | "database" | "outcome" | "day" | "since" | "before", or how one of them begins
//! ```
//!
//! A run is found if all of it fits. A word alone is looked for in all that is known of a run, in any case;
//! double quotes keep blanks in it. A day is written as far as it counts, as `2031-03`; `today` and
//! `yesterday` are days. Nothing is wrong while it is being written: what no run fits finds none.

use chrono::{Days, NaiveDate};

use super::{Entry, Outcome};
use crate::connection::nearest;
use jaunty_language::text::words::words;

/// What is looked for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Query(Vec<Term>);

#[derive(Debug, Clone, PartialEq, Eq)]
enum Term {
    /// Anywhere.
    Word(String),
    /// In this.
    In(Key, String),
    /// On the connection with this name and no other.
    On(String),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Key {
    Connection,
    Database,
    Outcome,
    Day,
    Since,
    Before,
}

/// The keys of a query. Of several that begin as what is written does the first is meant.
const KEYS: [(&str, Key); 6] = [
    ("connection", Key::Connection),
    ("outcome", Key::Outcome),
    ("day", Key::Day),
    ("database", Key::Database),
    ("since", Key::Since),
    ("before", Key::Before),
];

/// What of a run is searched, made ready.
#[derive(Debug, Clone, Default)]
pub struct Searchable {
    moment: String,
    outcome: &'static str,
    connection: String,
    database: String,
    /// All of it, and the rest.
    all: String,
}

impl Searchable {
    /// What there is of a run.
    pub fn of(entry: &Entry) -> Searchable {
        let (connection, database) = (entry.connection.to_lowercase(), entry.database.to_lowercase());
        let (moment, outcome) = (entry.moment(), entry.outcome.word());
        let kept = if entry.pinned { "kept" } else { "" };
        let [title, error] = [&entry.title, &entry.ended.error].map(|text| text.as_deref().unwrap_or_default());
        let all = [&moment, outcome, kept, &entry.connection, &entry.database, title, &entry.statement, error];
        Searchable { all: all.join("\n").to_lowercase(), moment, outcome, connection, database }
    }
}

impl Query {
    /// Reads a query. `today` is the day that it is where the person sits.
    pub fn read(text: &str, today: NaiveDate) -> Query {
        let day = |word: &str| match word {
            "today" => today.to_string(),
            "yesterday" => today.checked_sub_days(Days::new(1)).unwrap_or(today).to_string(),
            word => word.to_owned(),
        };
        let term = |word: String| {
            let word = word.to_lowercase();
            let key = word.split_once('=').and_then(|(key, value)| {
                let known = KEYS.iter().find(|(name, _)| !key.is_empty() && name.starts_with(key))?;
                Some((known.1, value))
            });
            match key {
                Some((key @ (Key::Day | Key::Since | Key::Before), value)) => Term::In(key, day(value)),
                Some((key, value)) => Term::In(key, value.to_owned()),
                None => Term::Word(day(&word)),
            }
        };
        let (words, _) = words(text);
        Query(words.into_iter().map(|(_, word)| term(word)).collect())
    }

    /// What is wrong in a query that is written to its end: a key that is none, a day or an outcome that no run can
    /// have. `id=7` looks for that text, since nothing like it is a key.
    pub fn mistake(text: &str) -> Option<String> {
        words(text).0.into_iter().find_map(|(_, word)| {
            let (key, value) = word.split_once('=')?;
            let (key, value) = (key.to_lowercase(), value.to_lowercase());
            let known = KEYS.iter().find(|(name, _)| !key.is_empty() && name.starts_with(key.as_str()));
            let Some((name, kind)) = known else {
                let near = nearest(&key, KEYS.iter().map(|(name, _)| *name))?;
                return Some(format!("\"{key}\" is not a key of the logbook; did you mean {near}=…?"));
            };
            let wrong = match kind {
                Key::Day | Key::Since | Key::Before => !is_day(&value),
                Key::Outcome => !Outcome::ALL.iter().any(|outcome| outcome.word().starts_with(value.as_str())),
                Key::Connection | Key::Database => false,
            };
            let allowed = || match kind {
                Key::Outcome => Outcome::ALL.map(Outcome::word).join(", "),
                _ => "a date such as 2026-11-23, a month such as 2026-11, today or yesterday".to_owned(),
            };
            wrong.then(|| format!("\"{value}\" is not a value for {name}=; use {}", allowed()))
        })
    }

    /// Whether every run fits.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Only those on the connection with this name.
    pub fn on(mut self, connection: &str) -> Query {
        self.0.push(Term::On(connection.to_lowercase()));
        self
    }

    /// Whether a run is one of those that are looked for.
    pub fn fits(&self, run: &Searchable) -> bool {
        self.0.iter().all(|term| match term {
            Term::Word(word) => run.all.contains(word.as_str()),
            Term::On(name) => run.connection == *name,
            // What is not written yet narrows nothing.
            Term::In(_, value) if value.is_empty() => true,
            Term::In(Key::Connection, name) => run.connection.contains(name.as_str()),
            Term::In(Key::Database, name) => run.database.contains(name.as_str()),
            Term::In(Key::Outcome, word) => run.outcome.starts_with(word.as_str()),
            Term::In(Key::Day, day) => run.moment.starts_with(day.as_str()),
            Term::In(Key::Since, day) => run.moment.as_str() >= day.as_str(),
            Term::In(Key::Before, day) => run.moment.as_str() < day.as_str(),
        })
    }
}

/// Whether a word is a day, or the beginning of one: a year, a month, a day, with a time if there is one.
fn is_day(word: &str) -> bool {
    let like = |word: &str, shape: &str| {
        word.len() <= shape.len()
            && word.bytes().zip(shape.bytes()).all(|(byte, shape)| match shape {
                b'0' => byte.is_ascii_digit(),
                shape => byte == shape,
            })
    };
    ["", "today", "yesterday"].contains(&word) || like(word, "0000-00-00 00:00:00")
}

#[cfg(test)]
mod tests {
    use chrono::TimeZone;

    use super::*;
    use crate::logbook::Ended;

    fn run(day: u32, connection: &str, statement: &str, outcome: Outcome) -> Entry {
        let noon = chrono::Local.with_ymd_and_hms(2031, 3, day, 12, 30, 0).earliest().unwrap();
        Entry {
            messages: Vec::new(),
            left_out: 0,
            number: i64::from(day),
            connection: connection.into(),
            engine: "sqlite".into(),
            database: "saltmarsh".into(),
            title: (day == 3).then(|| "Late Sailings".into()),
            statement: statement.into(),
            values: Vec::new(),
            session: String::new(),
            started_ms: noon.timestamp_millis(),
            rolled_back: false,
            pinned: day == 1,
            outcome,
            ended: Ended {
                error: (outcome == Outcome::Failed).then(|| "no such table: PORT".into()),
                ..Ended::default()
            },
            results: Vec::new(),
        }
    }

    #[test]
    fn a_run_is_found_if_all_of_it_fits() {
        let runs = [
            run(1, "Bookings-dev", "select * from ports", Outcome::Done),
            run(2, "bookings", "select 'failed' as outcome", Outcome::Stopped),
            run(3, "telemetry", "select * from sailings where a=1", Outcome::Done),
            run(4, "telemetry", "select * from port", Outcome::Failed),
            run(5, "telemetry", "delete from engines", Outcome::CutShort),
        ];
        let today = NaiveDate::from_ymd_opt(2031, 3, 5).unwrap();
        for (text, expected) in [
            ("", &[1, 2, 3, 4, 5][..]),
            ("port", &[1, 4]),
            ("PORT table", &[4]),
            ("failed", &[2, 4]),
            ("outcome=failed", &[4]),
            ("o=fail", &[4]),
            ("outcome=cut", &[5]),
            ("outcome=\"cut short\"", &[5]),
            ("outcome=", &[1, 2, 3, 4, 5]),
            ("outcome=late", &[]),
            ("connection=bookings", &[1, 2]),
            ("conn=BOOKINGS-", &[1]),
            ("c=tele late", &[3]),
            ("database=salt c=tele o=done", &[3]),
            ("today", &[5]),
            ("yesterday", &[4]),
            ("day=yesterday", &[4]),
            ("day=2031-03-0", &[1, 2, 3, 4, 5]),
            ("d=2031-03-02", &[2]),
            ("since=2031-03-04", &[4, 5]),
            ("since=yesterday outcome=failed", &[4]),
            ("before=2031-03-02", &[1]),
            ("before=2031", &[]),
            ("since=2031-03-02 before=2031-03-04", &[2, 3]),
            ("\"late sail\"", &[3]),
            ("\"late sail", &[3]),
            ("a=1", &[3]),
            ("=1", &[3]),
            ("kept", &[1]),
        ] {
            let query = Query::read(text, today);
            let found: Vec<i64> =
                runs.iter().filter(|run| query.fits(&Searchable::of(run))).map(|run| run.number).collect();
            assert_eq!(found, expected, "{text}");
        }
        let on = |name: &str| {
            let query = Query::read("", today).on(name);
            runs.iter().filter(|run| query.fits(&Searchable::of(run))).count()
        };
        assert_eq!((on("Bookings"), on("telemetry"), on("book")), (1, 3, 0));
    }

    #[test]
    fn what_no_run_can_have_is_a_mistake() {
        for (text, mistake) in [
            ("outcome=failed day=today since=2031-03 before=2031-03-04", None),
            ("out=fai d=2031", None),
            ("id=7 \"a = b\" x= connection=ferry", None),
            ("outcom=failed", None),
            ("outcmoe=failed", Some("\"outcmoe\" is not a key of the logbook; did you mean outcome=…?")),
            ("conection=ferry", Some("\"conection\" is not a key of the logbook; did you mean connection=…?")),
            (
                "ferry day=yesterdy",
                Some(
                    "\"yesterdy\" is not a value for day=; use a date such as 2026-11-23, a month such as 2026-11, today or yesterday",
                ),
            ),
            (
                "outcome=lost",
                Some("\"lost\" is not a value for outcome=; use running, done, failed, stopped, cut short"),
            ),
        ] {
            assert_eq!(Query::mistake(text).as_deref(), mistake, "{text}");
        }
    }
}
