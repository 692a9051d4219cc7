//! Numbers and times in words, as notes and titles show them.

use std::sync::atomic::Ordering::Relaxed;
use std::time::{Duration, SystemTime};

use crate::connection::Tried;
use crate::logbook::{Entry, KeptResult, Outcome};
use crate::run::Run;
use crate::run::script::Meter;
use jaunty_language::statement::parameters::Value;
use jaunty_language::text::clean;
use jaunty_seam::engine::{Effect, Message, Progress};
use jaunty_seam::profile::Guard;

pub use jaunty_language::text::numbers::{bytes, count, grouped as number};

/// A duration in the unit that suits it.
pub fn duration(d: Duration) -> String {
    let ms = d.as_millis();
    match ms {
        0 => "under 1 ms".into(),
        1..1000 => format!("{ms} ms"),
        1000..60_000 => format!("{}.{} s", ms / 1000, ms % 1000 / 100),
        _ => format!("{} min {} s", ms / 60_000, ms / 1000 % 60),
    }
}

/// How long ago something was.
pub fn ago(then: SystemTime, now: SystemTime) -> String {
    let seconds = now.duration_since(then).map_or(0, |d| d.as_secs());
    match seconds {
        0..60 => "just now".into(),
        60..3600 => format!("{} min ago", seconds / 60),
        3600..86_400 => format!("{} h ago", seconds / 3600),
        86_400..172_800 => "yesterday".into(),
        _ => format!("{} days ago", seconds / 86_400),
    }
}

/// Said of a statement in program code that would change or remove all rows.
pub const MAY_BE_PART: &str =
    "This touches all rows of its table, and stands in program code, which may add a condition to it somewhere else";

/// What came of a run: rows, or rows touched.
fn yielded(run: &Run) -> Option<String> {
    match (run.kept_rows(), run.affected()) {
        (Some(_), _) => Some(count(run.rows(), "row")),
        (None, Some(rows)) => Some(format!("{} changed", count(rows, "row"))),
        (None, None) => None,
    }
}

/// Said of a run whose changes are gone.
pub const ROLLED_BACK: &str = "rolled back";

/// Why a statement of program code is not run that has this escape within a quoted text: what it stands for is not known.
pub fn escaped(escape: &str) -> String {
    let escape = clean::clean(escape);
    format!(
        "{escape} within a quoted text is not understood; nothing was run: copy the statement into a buffer and write what it stands for"
    )
}

/// What came of a run of the logbook.
pub fn yielded_by(entry: &Entry) -> String {
    let changed: Vec<u64> = entry
        .results
        .iter()
        .filter_map(|result| match result {
            KeptResult::Affected(rows) => *rows,
            KeptResult::Rows(_) => None,
        })
        .collect();
    if entry.rolled_back {
        return ROLLED_BACK.to_owned();
    }
    let has_rows = entry.results.iter().any(|result| matches!(result, KeptResult::Rows(_)));
    match (has_rows, changed.is_empty()) {
        (true, _) => count(entry.ended.rows, "row"),
        (false, false) => format!("{} changed", number(changed.iter().sum())),
        (false, true) => String::new(),
    }
}

/// The values of parameters, with their names.
pub fn values(values: &[Value]) -> String {
    let each: Vec<_> = values.iter().map(|(name, value)| format!("{name} = {}", value.written())).collect();
    clean::clean(&each.join(" · ")).into_owned()
}

/// The note after a statement.
pub fn note(run: &Run, now: SystemTime) -> String {
    if run.is_held() {
        return format!("held after {}", count(run.rows(), "row"));
    }
    let took = duration(run.duration());
    let when = ago(run.started, now);
    let parts: Vec<String> = match run.outcome() {
        Outcome::Running => {
            let rows = (run.rows() > 0).then(|| format!("{} so far", count(run.rows(), "row")));
            let parts = ["running".into(), clock(run.duration())].into_iter();
            let id = run.query_id().map(|id| clean::clean(id).into_owned());
            let far = run.script().map(|(meter, size)| script(meter, size));
            parts
                .chain(far)
                .chain(run.progress().map(progress))
                .chain(id)
                .filter(|part| !part.is_empty())
                .chain(rows)
                .collect()
        }
        Outcome::Done => {
            let gone = run.is_rolled_back().then(|| ROLLED_BACK.to_owned());
            let touched = run.also_affected().filter(|touched| *touched != run.rows());
            let touched = touched.map(|touched| format!("{} changed", count(touched, "row")));
            let before = run.lines_before();
            let before = (before > 0).then(|| format!("with {} of its batch", count(before.into(), "line")));
            ran(run)
                .into_iter()
                .chain([yielded(run).unwrap_or_else(|| "done".into())])
                .chain(touched)
                .chain(before)
                .chain(gone)
                .chain([took, when])
                .collect()
        }
        Outcome::Failed => {
            let error = run.end().and_then(|end| end.error.as_ref());
            let message = error.map(|error| error.to_string().lines().next().unwrap_or_default().to_owned());
            ["failed".into()].into_iter().chain(message).chain(ran(run)).chain([when]).collect()
        }
        Outcome::Stopped | Outcome::CutShort => {
            let rows = (run.rows() > 0).then(|| format!("{} kept", count(run.rows(), "row")));
            // Of one whose program ended nobody knows how long it ran.
            let took = (!run.duration().is_zero()).then_some(took);
            [run.outcome().word().to_owned()]
                .into_iter()
                .chain(ran(run))
                .chain(rows)
                .chain(took)
                .chain([when])
                .collect()
        }
    };
    parts.join(" · ")
}

/// How many statements a script ran, when it has ended.
fn ran(run: &Run) -> Option<String> {
    run.statements().map(|statements| format!("{} run", count(statements, "statement")))
}

/// What a run's server said, in one line: the message, or how many there are and the last.
pub fn said(run: &Run) -> Option<String> {
    let (all, last) = run.said(|said| (said.count(), said.kept().last().map(message)));
    match (all, last) {
        (0 | 1, last) => last,
        (all, last) => Some(format!("{} · {}", count(all, "message"), last.unwrap_or_default())),
    }
}

/// A message of the server, in one line.
pub fn message(message: &Message) -> String {
    let line = message.line.map(|line| format!("line {line}: ")).unwrap_or_default();
    let code = message.code.as_deref().map(|code| format!(" [{code}]")).unwrap_or_default();
    clean::clean(&format!("{}: {line}{}{code}", message.severity, message.text)).into_owned()
}

/// How far a script is.
pub fn script(meter: &Meter, size: u64) -> String {
    let (statement, line) = (number(meter.statements.load(Relaxed)), number(meter.line.load(Relaxed)));
    format!("{} · statement {statement} · line {line}", percent(meter, size))
}

/// The share of a script that was read.
pub fn percent(meter: &Meter, size: u64) -> String {
    format!("{} %", meter.read.load(Relaxed).min(size) * 100 / size.max(1))
}

/// How far a server is, by its own word.
fn progress(progress: Progress) -> String {
    let done = progress.done.map(|done| format!("{:.0} %", f64::from(done.clamp(0.0, 1.0)) * 100.0));
    let rows = progress.rows.map(|rows| format!("{} read", count(rows, "row")));
    let size = progress.bytes.map(|size| format!("{} read", bytes(size)));
    done.into_iter().chain(rows.or(size)).collect::<Vec<_>>().join(" · ")
}

/// A clock that runs: tenths of a second.
pub fn clock(d: Duration) -> String {
    let tenths = d.as_millis() / 100;
    match tenths {
        0..600 => format!("{}.{} s", tenths / 10, tenths % 10),
        _ => format!("{}:{:02}", tenths / 600, tenths / 10 % 60),
    }
}

/// What trying a profile found, a fact a line.
pub fn tried(found: &Tried) -> Vec<String> {
    let location = &found.location;
    let named = |name: &str, value: &str| (!value.is_empty()).then(|| format!("{name} {value}"));
    let facts = [
        Some(location.server.clone()),
        named("at", &location.node),
        named("as", &location.user),
        named("in", &location.database),
        named("schema", &location.schema),
    ];
    let facts: Vec<_> = facts.into_iter().flatten().collect();
    let transport = if location.transport.is_empty() { String::new() } else { format!("{} · ", location.transport) };
    let (connecting, trip) = (duration(found.connecting), precise(found.round_trip));
    vec![facts.join(" · "), format!("{transport}connected in {connecting} · round trip {trip}")]
}

/// An age in one unit, as `12 s`.
pub fn age(d: Duration) -> String {
    match d.as_secs() {
        seconds @ 0..60 => format!("{seconds} s"),
        seconds @ 60..3600 => format!("{} min", seconds / 60),
        seconds => format!("{} h", seconds / 3600),
    }
}

/// A short duration to a tenth of a millisecond.
fn precise(d: Duration) -> String {
    let tenths = d.as_micros() / 100;
    format!("{}.{} ms", tenths / 10, tenths % 10)
}

/// When a profile with this guard asks for a yes.
pub fn asks(guard: Guard) -> &'static str {
    match guard {
        Guard::ReadOnly => "is read-only, and asks before a statement whose text does not show what it runs",
        Guard::Ask | Guard::Open => "asks before anything that writes",
    }
}

/// What a statement that writes would do, a sentence a line.
pub fn effect(effect: Effect) -> Vec<String> {
    let Effect::Writes(touches) = effect else {
        return vec!["The server cannot tell what it would do.".to_owned()];
    };
    let mut lines = Vec::new();
    if touches.everything {
        lines.push("!! No WHERE: every row would change. !!".to_owned());
    }
    match (touches.rows, touches.counted) {
        (Some(rows), true) => lines.push(format!("{} would change (counted now).", count(rows, "row"))),
        (Some(rows), false) => lines.push(format!("About {} would change (server's estimate).", count(rows, "row"))),
        (None, _) => {}
    }
    lines
}

#[cfg(test)]
mod tests {
    use crate::logbook::Ended;

    use super::*;

    #[test]
    fn in_words() {
        assert_eq!([0, 999, 1000, 1_234_567].map(number), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!([count(1, "row"), count(0, "row")], ["1 row", "0 rows"]);
        let ms = [0, 38, 999, 1500, 61_000].map(|ms| duration(Duration::from_millis(ms)));
        assert_eq!(ms, ["under 1 ms", "38 ms", "999 ms", "1.5 s", "1 min 1 s"]);
        let now = SystemTime::now();
        let before = [1, 120, 7200, 90_000, 900_000].map(|s| ago(now - Duration::from_secs(s), now));
        assert_eq!(before, ["just now", "2 min ago", "2 h ago", "yesterday", "10 days ago"]);
        assert_eq!([50, 61_000].map(|ms| clock(Duration::from_millis(ms))), ["0.0 s", "1:01"]);
    }

    /// A run of two minutes ago, as the logbook has it.
    fn run(outcome: Outcome, rows: u64, results: Vec<KeptResult>, error: Option<&str>) -> Run {
        Run::remembered(entry(outcome, rows, results, error))
    }

    fn entry(outcome: Outcome, rows: u64, results: Vec<KeptResult>, error: Option<&str>) -> Entry {
        let started = SystemTime::now() - Duration::from_secs(120);
        let started_ms = started.duration_since(SystemTime::UNIX_EPOCH).unwrap().as_millis() as i64;
        Entry {
            messages: Vec::new(),
            left_out: 0,
            number: 1,
            connection: "ferry".into(),
            engine: "sqlite".into(),
            database: "saltmarsh.db".into(),
            pinned: false,
            rolled_back: false,
            title: None,
            statement: "select 1".into(),
            values: Vec::new(),
            session: String::new(),
            started_ms,
            outcome,
            ended: Ended { first_row_ms: None, duration_ms: 38, rows, bytes: 0, error: error.map(str::to_owned) },
            results,
        }
    }

    #[test]
    fn the_note_says_what_came_of_it() {
        let rows = || vec![KeptResult::Rows("a.arrow".into())];
        let changed = |n| vec![KeptResult::Affected(n)];
        for (run, expected) in [
            (run(Outcome::Done, 412, rows(), None), "412 rows · 38 ms · 2 min ago"),
            (run(Outcome::Done, 1, rows(), None), "1 row · 38 ms · 2 min ago"),
            (run(Outcome::Done, 0, changed(Some(3)), None), "3 rows changed · 38 ms · 2 min ago"),
            (run(Outcome::Done, 0, changed(None), None), "done · 38 ms · 2 min ago"),
            (
                run(Outcome::Failed, 0, vec![], Some("no such table: prots\nmore")),
                "failed · no such table: prots · 2 min ago",
            ),
            (run(Outcome::Stopped, 8192, rows(), None), "stopped · 8,192 rows kept · 38 ms · 2 min ago"),
            (run(Outcome::CutShort, 0, vec![], None), "cut short · 38 ms · 2 min ago"),
            (
                Run::remembered(Entry { ended: Ended::default(), ..entry(Outcome::CutShort, 0, vec![], None) }),
                "cut short · 2 min ago",
            ),
        ] {
            assert_eq!(note(&run, SystemTime::now()), expected);
        }
        let gone = Entry { rolled_back: true, ..entry(Outcome::Done, 0, changed(Some(3)), None) };
        assert_eq!(yielded_by(&gone), "rolled back");
        assert_eq!(note(&Run::remembered(gone), SystemTime::now()), "3 rows changed · rolled back · 38 ms · 2 min ago");
    }
}
