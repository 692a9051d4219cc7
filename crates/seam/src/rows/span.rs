//! Spans of time: from the text that servers and people write to microseconds, and back.
//!
//! As PostgreSQL compares them, a day has 24 hours and a month 30 days (its documentation, section 9.9).

/// The microseconds of a unit of time, by any of its names.
fn unit(name: &str) -> Option<i128> {
    const SECOND: i128 = 1_000_000;
    const DAY: i128 = 86_400 * SECOND;
    Some(match name.to_ascii_lowercase().as_str() {
        "us" | "microsecond" | "microseconds" => 1,
        "ms" | "millisecond" | "milliseconds" => 1000,
        "s" | "sec" | "secs" | "second" | "seconds" => SECOND,
        "m" | "min" | "mins" | "minute" | "minutes" => 60 * SECOND,
        "h" | "hour" | "hours" => 3600 * SECOND,
        "d" | "day" | "days" => DAY,
        "w" | "week" | "weeks" => 7 * DAY,
        "mon" | "mons" | "month" | "months" => 30 * DAY,
        "y" | "year" | "years" => 360 * DAY,
        _ => return None,
    })
}

/// So many of a unit: `-1.5`, times the microseconds of one. Digits beyond a microsecond are left out.
fn times(number: &str, unit: i128) -> Option<i128> {
    let (negative, digits) = match number.split_at_checked(1) {
        Some(("-", digits)) => (true, digits),
        Some(("+", digits)) => (false, digits),
        _ => (false, number),
    };
    let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
    let part = part.get(..part.len().min(9))?;
    if whole.len() + part.len() == 0 || !whole.bytes().chain(part.bytes()).all(|b| b.is_ascii_digit()) {
        return None;
    }
    let all: i128 = format!("{whole}{part}").parse().ok()?;
    let value = all.checked_mul(unit)? / 10_i128.pow(part.len() as u32);
    Some(if negative { -value } else { value })
}

/// Hours, minutes and seconds: `-12:30`, `100:00:00.25`.
fn clock(text: &str) -> Option<i128> {
    let (sign, text) = match text.split_at_checked(1) {
        Some(("-", rest)) => (-1, rest),
        Some(("+", rest)) => (1, rest),
        _ => (1, text),
    };
    let mut parts = text.split(':');
    let mut sum = times(parts.next()?, unit("h")?)?;
    sum += times(parts.next()?, unit("min")?)?;
    if let Some(seconds) = parts.next() {
        sum += times(seconds, unit("s")?)?;
    }
    (parts.next().is_none() && text.starts_with(|c: char| c.is_ascii_digit())).then_some(sign * sum)
}

/// A span of time in microseconds, as `1 year 2 mons -3 days 04:05:06.7`, `-25:00:01`, `90 min`, `1.5h` or a
/// number of seconds; none if it is written in another way.
pub fn micros(text: &str) -> Option<i128> {
    let mut sum = 0_i128;
    let mut words = text.split_whitespace().peekable();
    words.peek()?;
    while let Some(word) = words.next() {
        if word.contains(':') {
            sum = sum.checked_add(clock(word)?)?;
            continue;
        }
        let end = word.find(|c: char| c.is_alphabetic()).unwrap_or(word.len());
        let (number, name) = word.split_at(end);
        let scale = match name {
            "" => match words.next() {
                Some(name) => unit(name)?,
                None => unit("s")?,
            },
            name => unit(name)?,
        };
        sum = sum.checked_add(times(number, scale)?)?;
    }
    Some(sum)
}

/// A span of time as hours, minutes and seconds, which every server reads: `-25:00:01.5`.
pub fn written(micros: i128) -> String {
    let (sign, micros) = if micros < 0 { ("-", -micros) } else { ("", micros) };
    let (seconds, part) = (micros / 1_000_000, micros % 1_000_000);
    let text = format!("{sign}{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    if part == 0 { text } else { format!("{text}.{part:06}").trim_end_matches('0').to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_read_as_they_are_written() {
        const HOUR: i128 = 3_600_000_000;
        for (text, expected) in [
            ("04:05:06.7", 4 * HOUR + 306_700_000),
            ("-25:00:01", -(25 * HOUR + 1_000_000)),
            ("838:59:59", 838 * HOUR + 3_599_000_000),
            ("1:30", HOUR * 3 / 2),
            ("1 day", 24 * HOUR),
            ("1 mon -1 days +02:03:00", 29 * 24 * HOUR + 2 * HOUR + 180_000_000),
            ("1 year 2 mons 3 days", (360 + 60 + 3) * 24 * HOUR),
            ("-2 years", -720 * 24 * HOUR),
            ("90 min", HOUR * 3 / 2),
            ("1.5h", HOUR * 3 / 2),
            ("2 weeks 1 d", 15 * 24 * HOUR),
            ("0.000001", 1),
            ("250 ms", 250_000),
            ("7", 7_000_000),
            ("178000000 years", 178_000_000 * 360 * 24 * HOUR),
        ] {
            assert_eq!(micros(text), Some(expected), "{text}");
            assert_eq!(micros(&written(expected)), Some(expected), "{text} as {}", written(expected));
        }
        for text in ["", " ", "soon", "1 moon", "P1DT2H", "1:2:3:4", ":30", "1.2.3 h", "h", "-", "1 2", "infinity", "é"]
        {
            assert_eq!(micros(text), None, "{text}");
        }
    }

    #[test]
    fn they_are_written_for_every_server() {
        assert_eq!([0, -90_000_000_000, 1_500_000].map(written), ["00:00:00", "-25:00:00", "00:00:01.5"]);
    }
}
