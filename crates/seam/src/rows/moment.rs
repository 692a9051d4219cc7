//! Days, times of day and points in time, from the text that servers and people write.

use arrow_array::timezone::Tz;
use chrono::{NaiveDate, NaiveTime, Offset, TimeZone};

const MICROS_OF_A_DAY: i64 = 86_400_000_000;

/// A day as `2031-03-05`, counted from 1970-01-01.
pub fn day(text: &str) -> Option<i64> {
    let epoch = NaiveDate::default();
    Some(NaiveDate::parse_from_str(text.trim(), "%Y-%m-%d").ok()?.signed_duration_since(epoch).num_days())
}

/// A time of day as `7:30` or `07:30:05.25`, in microseconds.
pub fn time_of_day(text: &str) -> Option<i64> {
    let read = |form| NaiveTime::parse_from_str(text.trim(), form).ok();
    let time = read("%H:%M:%S%.f").or_else(|| read("%H:%M"))?;
    time.signed_duration_since(NaiveTime::MIN).num_microseconds()
}

/// A point in time as `2031-03-05 07:30`, `2031-03-05T07:30:00Z`, `2031-03-05 07:30:00+02:30` or its day
/// alone, in microseconds since 1970. Where it says no zone it is what the clocks of `here` show, which are
/// those that the column's values are shown by.
pub fn instant(text: &str, here: Option<&str>) -> Option<i64> {
    let (date, rest) = text.trim().split_once(['T', ' ']).unwrap_or((text.trim(), "00:00"));
    let (clock, zone) = rest.split_at(rest.find(['Z', 'z', '+', '-']).unwrap_or(rest.len()));
    let shown = day(date)?.checked_mul(MICROS_OF_A_DAY)?.checked_add(time_of_day(clock)?)?;
    let east = match zone.split_at_checked(1) {
        None => here.map_or(Some(0), |here| micros_east(here, shown))?,
        Some(("Z" | "z", "")) => 0,
        Some((sign, offset)) => {
            let (hours, minutes) = offset.split_once(':').unwrap_or((offset.get(..2)?, offset.get(2..)?));
            let minutes = if minutes.is_empty() { 0 } else { minutes.parse::<i64>().ok()? };
            let east = (hours.parse::<i64>().ok()? * 60 + minutes) * 60_000_000;
            if sign == "-" { -east } else { east }
        }
    };
    shown.checked_sub(east)
}

/// A point in time that says its offset, as `2031-03-05 07:30:00+02`, by the clocks of UTC and without one; nothing where
/// it says none.
pub fn utc(text: &str) -> Option<String> {
    let clock = text.trim().split_once(['T', ' '])?.1;
    // Most have none, and are told by that at once.
    if !clock.contains(['Z', 'z', '+', '-']) {
        return None;
    }
    let micros = instant(text, None)?;
    let moment = chrono::DateTime::from_timestamp_micros(micros)?;
    Some(moment.format("%Y-%m-%d %H:%M:%S%.6f").to_string())
}

/// A day or a point in time as ISO 8601 writes it, `2031-03-05T07:30:00+02:00`, from the form that servers show
/// it in. Years beyond four digits have a sign, and the year before 1 is 0. Nothing for what is no such
/// time, as infinity.
pub fn iso_8601(text: &str) -> Option<String> {
    let (text, before_christ) = text.strip_suffix(" BC").map_or((text, false), |text| (text, true));
    let (date, clock) = text.split_once(' ').unwrap_or((text, ""));
    let (year, month_and_day) = date.split_once('-')?;
    let year: i64 = year.parse().ok()?;
    let year = match if before_christ { 1 - year } else { year } {
        year @ 0..=9999 => format!("{year:04}"),
        year => format!("{year:+05}"),
    };
    let mut iso = format!("{year}-{month_and_day}");
    if !clock.is_empty() {
        iso.push('T');
        iso.push_str(clock);
        // An offset has its minutes.
        let offset = clock.rfind(['+', '-']).map(|at| clock.len() - at);
        if offset == Some(3) {
            iso.push_str(":00");
        }
    }
    Some(iso)
}

/// How far east of Greenwich the clocks of a zone are when they show a time. Of an hour that comes twice the
/// first is meant; one that is left out is as late as what came before it.
fn micros_east(zone: &str, shown: i64) -> Option<i64> {
    let zone: Tz = zone.parse().ok()?;
    let shown = chrono::DateTime::from_timestamp_micros(shown)?.naive_utc();
    let offset = zone.offset_from_local_datetime(&shown).earliest().or_else(|| {
        zone.offset_from_local_datetime(&shown.checked_sub_signed(chrono::TimeDelta::hours(3))?).earliest()
    })?;
    Some(i64::from(offset.fix().local_minus_utc()) * 1_000_000)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_in_time_with_an_offset_are_those_of_utc() {
        for (text, wanted) in [
            ("2031-03-05 00:30:00+02", Some("2031-03-04 22:30:00.000000")),
            ("2031-03-05T07:30:00.25Z", Some("2031-03-05 07:30:00.250000")),
            ("2031-03-05 07:30:00-02:30", Some("2031-03-05 10:00:00.000000")),
            ("2031-03-05 07:30:00", None),
            ("2031-03-05", None),
            ("-infinity", None),
        ] {
            assert_eq!(utc(text).as_deref(), wanted, "{text}");
        }
    }

    #[test]
    fn times_are_written_as_the_standard_has_it() {
        for (text, expected) in [
            ("2031-03-05", Some("2031-03-05")),
            ("2031-03-05 07:30:00", Some("2031-03-05T07:30:00")),
            ("2031-03-05 07:30:00.25+02", Some("2031-03-05T07:30:00.25+02:00")),
            ("2031-03-05 07:30:00-02:30", Some("2031-03-05T07:30:00-02:30")),
            ("12031-03-05 07:30:00", Some("+12031-03-05T07:30:00")),
            ("0044-03-15 BC", Some("-0043-03-15")),
            ("0001-12-31 10:00:00+00 BC", Some("0000-12-31T10:00:00+00:00")),
            ("infinity", None),
            ("-infinity", None),
        ] {
            assert_eq!(iso_8601(text).as_deref(), expected, "{text}");
        }
    }

    #[test]
    fn days_and_times_are_read_as_people_write_them() {
        let at = |text: &str| instant(text, None).map(|micros| micros as f64 / 1e6);
        for (text, expected) in [
            ("1970-01-02", Some(86_400.0)),
            ("1970-01-01 00:00:01.5", Some(1.5)),
            ("1970-01-01T01:00", Some(3600.0)),
            ("1970-01-01T01:00:00Z", Some(3600.0)),
            ("1970-01-01 01:00:00+01", Some(0.0)),
            ("1970-01-01 01:00:00+01:30", Some(-1800.0)),
            ("1969-12-31 23:59:59 -0230", Some(8999.0)),
            ("1970-02-30", None),
            ("1970-01-01 25:00", None),
            ("1970-01-01 01:00 +x", None),
            ("1970-01-01 01:00:00é", None),
            ("1970-01-01 01:00:00+é", None),
            ("morning", None),
        ] {
            assert_eq!(at(text), expected, "{text}");
        }
        assert_eq!(
            [time_of_day("7:30"), time_of_day("07:30:00.25"), time_of_day("7")],
            [Some(27_000_000_000), Some(27_000_250_000), None]
        );
        assert_eq!([day("1969-12-31"), day("31.12.1969")], [Some(-1), None]);
    }
}
