//! Days and times as texts, `2031-03-05 12:30:00.1234567 +01:00`.

/// A point in time, as a text tells it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Moment {
    /// Days since 0001-01-01.
    pub day: i64,
    /// Ten-millionths of a second since midnight.
    pub ticks: i64,
    /// Minutes east of Greenwich.
    pub east: i64,
}

const SECOND: i64 = 10_000_000;

/// The days of a date since 0001-01-01.
pub fn day_of(year: i64, month: i64, day: i64) -> i64 {
    let (y, m) = if month <= 2 { (year - 1, month + 9) } else { (year, month - 3) };
    let era = y.div_euclid(400);
    let of_era = y.rem_euclid(400);
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + (153 * m + 2) / 5 + day - 1 - 306
}

/// The year, month and day of a day since 0001-01-01.
pub fn date_of(day: i64) -> (i64, i64, i64) {
    let z = day + 306;
    let (era, of_era) = (z.div_euclid(146_097), z.rem_euclid(146_097));
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let m = (5 * of_year + 2) / 153;
    let month = if m < 10 { m + 3 } else { m - 9 };
    (year + era * 400 + i64::from(month <= 2), month, of_year - (153 * m + 2) / 5 + 1)
}

/// Reads a text; `None` where it is none.
pub fn read(text: &str) -> Option<Moment> {
    let text = text.trim();
    let mut moment = Moment::default();
    let mut rest = text;
    if text.as_bytes().get(4) == Some(&b'-') {
        let mut parts = text.get(..10)?.split('-').map(|part| part.parse::<i64>().ok());
        let (year, month, day) = (parts.next()??, parts.next()??, parts.next()??);
        moment.day = day_of(year, month, day);
        if date_of(moment.day) != (year, month, day) {
            return None;
        }
        rest = text.get(10..)?.trim_start_matches(['T', ' ']);
    }
    if rest.is_empty() {
        return Some(moment);
    }
    let (clock, zone) = match rest.find([' ', '+', 'Z']).or_else(|| rest.rfind('-')) {
        Some(at) => rest.split_at(at),
        None => (rest, ""),
    };
    let mut parts = clock.split(':');
    let number = |part: Option<&str>| part.map_or(Some(0), |part| part.parse::<i64>().ok());
    let (hours, minutes) = (number(parts.next())?, number(parts.next())?);
    let (seconds, fraction) = parts.next().map_or(("0", ""), |part| part.split_once('.').unwrap_or((part, "")));
    let fraction = format!("{fraction:0<7}");
    moment.ticks = (hours * 3600 + minutes * 60 + seconds.parse::<i64>().ok()?) * SECOND
        + fraction.get(..7)?.parse::<i64>().ok()?;
    let zone = zone.trim();
    if let Some((hours, minutes)) = zone.get(1..).and_then(|zone| zone.split_once(':')) {
        let east = hours.parse::<i64>().ok()? * 60 + minutes.parse::<i64>().ok()?;
        moment.east = if zone.starts_with('-') { -east } else { east };
    }
    Some(moment)
}

/// Writes a date and a time with so many digits of the second.
pub fn written(day: i64, ticks: i64, digits: usize) -> String {
    let (year, month, date) = date_of(day);
    let seconds = ticks / SECOND;
    let fraction = format!("{:07}", ticks % SECOND);
    let fraction = match digits {
        0 => String::new(),
        digits => format!(".{}", &fraction[..digits.min(7)]),
    };
    format!(
        "{year:04}-{month:02}-{date:02} {:02}:{:02}:{:02}{fraction}",
        seconds / 3600,
        seconds / 60 % 60,
        seconds % 60
    )
}

/// Now, in Greenwich.
pub fn now() -> Moment {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    let ticks = i64::try_from(since.as_nanos() / 100).unwrap_or_default();
    let a_day = 86_400 * SECOND;
    Moment { day: day_of(1970, 1, 1) + ticks / a_day, ticks: ticks % a_day, east: 0 }
}

/// A moment and so many of a part of it later.
pub fn add(part: &str, count: i64, to: Moment) -> Option<Moment> {
    let a_day = 86_400 * SECOND;
    let each = match part.to_ascii_lowercase().as_str() {
        "year" | "yy" | "yyyy" | "quarter" | "qq" | "q" | "month" | "mm" | "m" => {
            let months = match part.to_ascii_lowercase().chars().next() {
                Some('y') => 12 * count,
                Some('q') => 3 * count,
                _ => count,
            };
            let (year, month, day) = date_of(to.day);
            let all = year * 12 + month - 1 + months;
            let (year, month) = (all.div_euclid(12), all.rem_euclid(12) + 1);
            let last = day_of(year + month / 12, month % 12 + 1, 1) - day_of(year, month, 1);
            return Some(Moment { day: day_of(year, month, day.min(last)), ..to });
        }
        "week" | "wk" | "ww" => 7 * a_day,
        "day" | "dd" | "d" | "dayofyear" => a_day,
        "hour" | "hh" => 3600 * SECOND,
        "minute" | "mi" | "n" => 60 * SECOND,
        "second" | "ss" | "s" => SECOND,
        "millisecond" | "ms" => SECOND / 1000,
        _ => return None,
    };
    let ticks = to.ticks + count * each;
    Some(Moment { day: to.day + ticks.div_euclid(a_day), ticks: ticks.rem_euclid(a_day), ..to })
}

/// A part of a moment.
pub fn part(of: &str, moment: Moment) -> Option<i64> {
    let (year, month, day) = date_of(moment.day);
    let seconds = moment.ticks / SECOND;
    Some(match of.to_ascii_lowercase().as_str() {
        "year" | "yy" | "yyyy" => year,
        "quarter" | "qq" | "q" => (month + 2) / 3,
        "month" | "mm" | "m" => month,
        "day" | "dd" | "d" => day,
        "dayofyear" | "dy" | "y" => moment.day - day_of(year, 1, 1) + 1,
        // 0001-01-01 was a Monday, and weeks begin on Sunday.
        "weekday" | "dw" => (moment.day + 1) % 7 + 1,
        "hour" | "hh" => seconds / 3600,
        "minute" | "mi" | "n" => seconds / 60 % 60,
        "second" | "ss" | "s" => seconds % 60,
        "millisecond" | "ms" => moment.ticks % SECOND / 10_000,
        _ => return None,
    })
}

/// How many borders of a part lie between two moments.
pub fn between(part_of: &str, from: Moment, to: Moment) -> Option<i64> {
    let months = |moment: Moment| {
        let (year, month, _) = date_of(moment.day);
        year * 12 + month - 1
    };
    let seconds = |moment: Moment| moment.day * 86_400 + moment.ticks / SECOND;
    Some(match part_of.to_ascii_lowercase().as_str() {
        "year" | "yy" | "yyyy" => date_of(to.day).0 - date_of(from.day).0,
        "quarter" | "qq" | "q" => months(to) / 3 - months(from) / 3,
        "month" | "mm" | "m" => months(to) - months(from),
        "week" | "wk" | "ww" => (to.day + 1).div_euclid(7) - (from.day + 1).div_euclid(7),
        "day" | "dd" | "d" | "dayofyear" => to.day - from.day,
        "hour" | "hh" => seconds(to).div_euclid(3600) - seconds(from).div_euclid(3600),
        "minute" | "mi" | "n" => seconds(to).div_euclid(60) - seconds(from).div_euclid(60),
        "second" | "ss" | "s" => seconds(to) - seconds(from),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_read_and_written() {
        let moment = read("2031-03-05T12:30:00.5 +01:30").unwrap();
        assert_eq!((written(moment.day, moment.ticks, 7), moment.east), ("2031-03-05 12:30:00.5000000".into(), 90));
        assert_eq!((day_of(1, 1, 1), day_of(1970, 1, 1), day_of(1900, 1, 1)), (0, 719_162, 693_595));
        assert_eq!(read("2031-02-30"), None);
        assert_eq!(
            add("month", 1, read("2031-01-31").unwrap()).map(|m| written(m.day, 0, 0)),
            Some("2031-02-28 00:00:00".into())
        );
        assert_eq!(between("day", read("2031-01-31 23:00").unwrap(), read("2031-02-01").unwrap()), Some(1));
        assert_eq!(part("weekday", read("2026-11-29").unwrap()), Some(1));
    }
}
