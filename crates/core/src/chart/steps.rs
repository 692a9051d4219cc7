//! Steps of time: where each begins, and how it is written.

use chrono::{DateTime, Datelike, Months, NaiveDate, NaiveDateTime, Timelike};

use super::spec::Step;

/// A point in time by its seconds since 1970; none beyond the years that a calendar has.
pub fn moment(seconds: f64) -> Option<NaiveDateTime> {
    if !seconds.is_finite() || seconds.abs() > 8e12 {
        return None;
    }
    let whole = seconds.floor();
    let nanos = ((seconds - whole) * 1e9).min(999_999_999.0) as u32;
    DateTime::from_timestamp(whole as i64, nanos).map(|moment| moment.naive_utc())
}

fn seconds(date: NaiveDate) -> f64 {
    date.and_hms_opt(0, 0, 0).map_or(0.0, |moment| moment.and_utc().timestamp() as f64)
}

/// The beginning of the step that a point in time lies in.
pub fn start_of(at: f64, step: Step) -> f64 {
    let floor = |unit: f64| (at / unit).floor() * unit;
    let date = || moment(at).map(|moment| moment.date());
    let first = |date: NaiveDate, month: u32| NaiveDate::from_ymd_opt(date.year(), month, 1).map_or(at, seconds);
    match step {
        Step::Minute => floor(60.0),
        Step::Hour => floor(3600.0),
        Step::Day => floor(86_400.0),
        // 1970 began on a Thursday.
        Step::Week => ((at - 4.0 * 86_400.0) / 604_800.0).floor() * 604_800.0 + 4.0 * 86_400.0,
        Step::Month => date().map_or(at, |date| first(date, date.month())),
        Step::Quarter => date().map_or(at, |date| first(date, date.month0() / 3 * 3 + 1)),
        Step::Year => date().map_or(at, |date| first(date, 1)),
    }
}

/// The beginning of the step after the one that begins there.
pub fn next(start: f64, step: Step) -> f64 {
    let after = |months: u32| {
        let date = moment(start).and_then(|moment| moment.date().checked_add_months(Months::new(months)));
        date.map_or(start + 2_629_800.0 * f64::from(months), seconds)
    };
    match step {
        Step::Minute => start + 60.0,
        Step::Hour => start + 3600.0,
        Step::Day => start + 86_400.0,
        Step::Week => start + 604_800.0,
        Step::Month => after(1),
        Step::Quarter => after(3),
        Step::Year => after(12),
    }
}

/// The number of the step that a point in time lies in: those that follow each other have numbers that do.
pub fn index(at: f64, step: Step) -> i64 {
    let month = || moment(at).map_or(0, |moment| i64::from(moment.year()) * 12 + i64::from(moment.month0()));
    match step {
        Step::Minute => (at / 60.0).floor() as i64,
        Step::Hour => (at / 3600.0).floor() as i64,
        Step::Day => (at / 86_400.0).floor() as i64,
        Step::Week => ((at - 4.0 * 86_400.0) / 604_800.0).floor() as i64,
        Step::Month => month(),
        Step::Quarter => month().div_euclid(3),
        Step::Year => month().div_euclid(12),
    }
}

/// The step after this one, of which each holds whole ones of it.
pub fn coarser(step: Step) -> Option<Step> {
    match step {
        Step::Minute => Some(Step::Hour),
        Step::Hour => Some(Step::Day),
        // Weeks do not divide months.
        Step::Day | Step::Week => Some(Step::Month),
        Step::Month => Some(Step::Quarter),
        Step::Quarter => Some(Step::Year),
        Step::Year => None,
    }
}

/// A step as text.
pub fn named(start: f64, step: Step) -> String {
    let Some(at) = moment(start) else { return "?".to_owned() };
    match step {
        Step::Minute | Step::Hour => at.format("%Y-%m-%d %H:%M").to_string(),
        Step::Day => at.format("%Y-%m-%d").to_string(),
        Step::Week => at.format("%G-W%V").to_string(),
        Step::Month => at.format("%Y-%m").to_string(),
        Step::Quarter => format!("{}-Q{}", at.year(), at.month0() / 3 + 1),
        Step::Year => at.format("%Y").to_string(),
    }
}

/// A point in time as text, with no more than what is not zero.
pub fn written(at: f64) -> String {
    let Some(moment) = moment(at) else { return "?".to_owned() };
    match (moment.hour(), moment.minute(), moment.second(), moment.nanosecond()) {
        (0, 0, 0, 0) => moment.format("%Y-%m-%d").to_string(),
        (_, _, 0, 0) => moment.format("%Y-%m-%d %H:%M").to_string(),
        (_, _, _, 0) => moment.format("%Y-%m-%d %H:%M:%S").to_string(),
        _ => moment.format("%Y-%m-%d %H:%M:%S%.3f").to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> f64 {
        NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S").unwrap().and_utc().timestamp() as f64
    }

    #[test]
    fn steps_begin_where_the_calendar_says() {
        let moment = at("2031-05-17 13:47:21");
        for (step, begins, name, after) in [
            (Step::Minute, "2031-05-17 13:47:00", "2031-05-17 13:47", "2031-05-17 13:48:00"),
            (Step::Hour, "2031-05-17 13:00:00", "2031-05-17 13:00", "2031-05-17 14:00:00"),
            (Step::Day, "2031-05-17 00:00:00", "2031-05-17", "2031-05-18 00:00:00"),
            (Step::Week, "2031-05-12 00:00:00", "2031-W20", "2031-05-19 00:00:00"),
            (Step::Month, "2031-05-01 00:00:00", "2031-05", "2031-06-01 00:00:00"),
            (Step::Quarter, "2031-04-01 00:00:00", "2031-Q2", "2031-07-01 00:00:00"),
            (Step::Year, "2031-01-01 00:00:00", "2031", "2032-01-01 00:00:00"),
        ] {
            let start = start_of(moment, step);
            assert_eq!(
                (start, named(start, step).as_str(), next(start, step)),
                (at(begins), name, at(after)),
                "{step:?}"
            );
            assert_eq!(start_of(start, step), start);
            assert_eq!(index(moment, step), index(start, step));
            assert_eq!(index(next(start, step), step), index(start, step) + 1, "{step:?}");
        }
        assert_eq!(start_of(at("1969-12-31 23:59:59"), Step::Year), at("1969-01-01 00:00:00"));
    }

    #[test]
    fn what_no_calendar_has_is_a_question_mark() {
        assert_eq!([written(f64::NAN), written(1e300), named(1e13, Step::Day)], ["?", "?", "?"]);
        assert_eq!(written(0.5), "1970-01-01 00:00:00.500");
    }
}
