//! From values to places along an edge, and where numbers stand beside it.

use chrono::{Datelike, Months, NaiveDate};

use super::steps::moment;

/// What an edge counts.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Edge {
    /// Numbers at even distances.
    Linear,
    /// Numbers in powers of ten.
    Log,
    /// Time, in seconds since 1970.
    Time,
}

/// A range of values along an edge.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Scale {
    /// What it counts.
    pub edge: Edge,
    /// The value at its beginning.
    pub from: f64,
    /// The value at its end.
    pub to: f64,
}

/// A place beside an edge, and what stands there.
#[derive(Debug, Clone, PartialEq)]
pub struct Tick {
    /// The value.
    pub at: f64,
    /// The text.
    pub label: String,
}

impl Scale {
    /// For values between these, ending at round ones. For powers only what is greater than 0 has a place.
    pub fn round((low, high): (f64, f64), edge: Edge, zero: bool) -> Scale {
        let (low, high) = if low.is_finite() && high.is_finite() { (low, high) } else { (0.0, 1.0) };
        match edge {
            Edge::Log => {
                let low = if low > 0.0 { low } else { f64::MIN_POSITIVE.max(high.abs() / 1e6) };
                let high = if high > low { high } else { low * 10.0 };
                Scale { edge, from: 10_f64.powf(low.log10().floor()), to: 10_f64.powf(high.log10().ceil()) }
            }
            Edge::Time => {
                let high = if high > low { high } else { low + 1.0 };
                Scale { edge, from: low, to: high }
            }
            Edge::Linear => {
                let (low, high) = if zero { (low.min(0.0), high.max(0.0)) } else { (low, high) };
                let (low, high) =
                    if high > low { (low, high) } else { (low - 0.5 - low.abs() / 10.0, low + 0.5 + low.abs() / 10.0) };
                let step = step_of(high - low, 5);
                Scale { edge, from: (low / step).floor() * step, to: (high / step).ceil() * step }
            }
        }
    }

    /// How far along the edge a value stands: 0 at its beginning, 1 at its end. None where it has no place.
    pub fn share(&self, value: f64) -> Option<f64> {
        let share = match self.edge {
            Edge::Log if value <= 0.0 => return None,
            Edge::Log => (value / self.from).log10() / (self.to / self.from).log10(),
            Edge::Linear | Edge::Time => (value - self.from) / (self.to - self.from),
        };
        share.is_finite().then_some(share)
    }

    /// The value at a place along the edge.
    pub fn value(&self, share: f64) -> f64 {
        match self.edge {
            Edge::Log => self.from * (self.to / self.from).powf(share),
            Edge::Linear | Edge::Time => self.from + (self.to - self.from) * share,
        }
    }

    /// About so many places with what stands there.
    pub fn ticks(&self, about: usize) -> Vec<Tick> {
        match self.edge {
            Edge::Linear => linear(self.from, self.to, about),
            Edge::Log => powers(self.from, self.to, about),
            Edge::Time => times(self.from, self.to, about),
        }
    }
}

/// A step of 1, 2 or 5 times a power of ten that divides a range in about so many.
fn step_of(range: f64, about: usize) -> f64 {
    let rough = range / about.max(1) as f64;
    let power = 10_f64.powf(rough.log10().floor());
    let step = match rough / power {
        n if n < 1.5 => 1.0,
        n if n < 3.5 => 2.0,
        n if n < 7.5 => 5.0,
        _ => 10.0,
    };
    if (step * power).is_normal() { step * power } else { 1.0 }
}

fn linear(from: f64, to: f64, about: usize) -> Vec<Tick> {
    let step = step_of(to - from, about);
    let first = (from / step - 1e-6).ceil();
    let places = places_of(step);
    let at = (0..=2 * about + 2).map(|n| (first + n as f64) * step).take_while(|at| *at <= to + step * 1e-6);
    at.map(|at| Tick { at, label: number(at, places) }).collect()
}

fn powers(from: f64, to: f64, about: usize) -> Vec<Tick> {
    let (low, high) = (from.log10().round() as i32, to.log10().round() as i32);
    let every = ((high - low) as usize / about.max(1)).max(1);
    let powers = (low..=high).step_by(every).map(|power| 10_f64.powi(power));
    powers.map(|at| Tick { at, label: short(at) }).collect()
}

/// Units of time in seconds, with how many of them a step may be; months and years by the calendar.
fn times(from: f64, to: f64, about: usize) -> Vec<Tick> {
    const DAY: f64 = 86_400.0;
    const STEPS: [f64; 20] = [
        1.0,
        2.0,
        5.0,
        10.0,
        15.0,
        30.0,
        60.0,
        120.0,
        300.0,
        600.0,
        900.0,
        1800.0,
        3600.0,
        7200.0,
        10_800.0,
        21_600.0,
        43_200.0,
        DAY,
        2.0 * DAY,
        7.0 * DAY,
    ];
    let rough = (to - from) / about.max(1) as f64;
    if rough < 0.5 {
        let places = places_of(step_of(to - from, about));
        return linear(from, to, about)
            .into_iter()
            .map(|tick| Tick { label: clock(tick.at, places.max(1)), ..tick })
            .collect();
    }
    if let Some(step) = STEPS.iter().copied().find(|step| *step >= rough) {
        // Weeks begin on Mondays.
        let shift = if step == 7.0 * DAY { 4.0 * DAY } else { 0.0 };
        let first = ((from - shift) / step).ceil() * step + shift;
        let at = (0..=2 * about + 2).map(|n| first + n as f64 * step).take_while(|at| *at <= to);
        let mut before = None;
        return at
            .map(|at| {
                let day = moment(at).map(|moment| moment.date());
                // The day stands where it changes.
                let label = match moment(at) {
                    Some(moment) if step < DAY && before == day => {
                        moment.format(if step < 60.0 { "%H:%M:%S" } else { "%H:%M" }).to_string()
                    }
                    Some(moment) if step < DAY && at % DAY != 0.0 => moment.format("%m-%d %H:%M").to_string(),
                    Some(moment) if step < DAY => moment.format("%m-%d").to_string(),
                    Some(moment) => moment.format("%Y-%m-%d").to_string(),
                    None => "?".to_owned(),
                };
                before = day;
                Tick { at, label }
            })
            .collect();
    }
    let months = rough / (30.44 * DAY);
    let step = [1, 2, 3, 6, 12, 24, 60, 120, 240, 600, 1200, 6000, 12_000, 24_000, 60_000]
        .into_iter()
        .find(|step| f64::from(*step) >= months);
    let step = step.unwrap_or(120_000);
    let Some(date) = moment(from).map(|moment| moment.date()) else { return linear(from, to, about) };
    let index = date.year() * 12 + date.month0() as i32;
    let first = index.div_euclid(step) * step;
    let begin = NaiveDate::from_ymd_opt(first.div_euclid(12), first.rem_euclid(12) as u32 + 1, 1);
    let Some(begin) = begin else { return linear(from, to, about) };
    let dates = (0..2 * about as u32 + 3).filter_map(|n| begin.checked_add_months(Months::new(n * step as u32)));
    let ticks = dates.filter_map(|date| {
        let at = date.and_hms_opt(0, 0, 0)?.and_utc().timestamp() as f64;
        let form = if step % 12 == 0 { "%Y" } else { "%Y-%m" };
        (from..=to).contains(&at).then(|| Tick { at, label: date.format(form).to_string() })
    });
    ticks.collect()
}

fn clock(at: f64, places: usize) -> String {
    let whole = at.floor();
    let part = number(at - whole, places);
    let seconds = moment(whole).map_or_else(|| "?".to_owned(), |moment| moment.format("%H:%M:%S").to_string());
    format!("{seconds}{}", part.strip_prefix('0').unwrap_or_default())
}

/// How many digits behind the point a step needs.
fn places_of(step: f64) -> usize {
    (-step.abs().log10().floor()).clamp(0.0, 12.0) as usize
}

/// A number with its thousands set apart and so many digits behind the point; very large and small ones by powers of ten.
pub fn number(value: f64, places: usize) -> String {
    if value != 0.0 && (value.abs() >= 1e12 || value.abs() < 1e-9) {
        return short(value);
    }
    let text = format!("{:.places$}", value.abs());
    let (whole, part) = text.split_once('.').unwrap_or((&text, ""));
    let mut out = String::new();
    let is_zero = text.bytes().all(|b| matches!(b, b'0' | b'.'));
    if value < 0.0 && !is_zero {
        out.push('-');
    }
    for (at, digit) in whole.chars().enumerate() {
        if at > 0 && (whole.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    if !part.is_empty() {
        out.push('.');
        out.push_str(part);
    }
    out
}

/// A number with as many digits as tell something: three, or all of the whole part.
pub fn short(value: f64) -> String {
    let size = value.abs();
    if value == 0.0 {
        return "0".to_owned();
    }
    if !(1e-4..1e12).contains(&size) {
        return format!("{value:.2e}").replace(".00e", "e");
    }
    let places = (2.0 - size.log10().floor()).clamp(0.0, 9.0) as usize;
    let text = number(value, places);
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

#[cfg(test)]
mod tests {
    use chrono::NaiveDateTime;

    use super::*;

    fn labels(scale: Scale, about: usize) -> Vec<String> {
        scale.ticks(about).into_iter().map(|tick| tick.label).collect()
    }

    fn at(text: &str) -> f64 {
        NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S").unwrap().and_utc().timestamp() as f64
    }

    #[test]
    fn numbers_stand_at_round_places() {
        let round = |low, high, zero| Scale::round((low, high), Edge::Linear, zero);
        assert_eq!(labels(round(0.0, 4.0, true), 5), ["0", "1", "2", "3", "4"]);
        assert_eq!(labels(round(3.0, 1187.0, true), 5), ["0", "200", "400", "600", "800", "1,000", "1,200"]);
        assert_eq!(labels(round(-0.31, 0.22, false), 5), ["-0.4", "-0.3", "-0.2", "-0.1", "0.0", "0.1", "0.2", "0.3"]);
        assert_eq!(labels(round(7.0, 7.0, false), 3), ["6", "7", "8"]);
        assert_eq!(
            labels(Scale::round((3.0, 41_000.0), Edge::Log, false), 9),
            ["1", "10", "100", "1,000", "10,000", "100,000"]
        );
        let endless = round(f64::INFINITY, f64::NEG_INFINITY, false);
        assert_eq!((endless.from, endless.to), (0.0, 1.0), "no values at all");
        assert!(labels(round(1e300, 1.7e308, false), 5).len() < 15);
    }

    #[test]
    fn times_stand_at_what_a_calendar_calls_round() {
        let between = |from: &str, to: &str, about| labels(Scale::round((at(from), at(to)), Edge::Time, false), about);
        assert_eq!(
            between("2031-03-05 07:00:00", "2031-03-05 09:00:00", 4),
            ["03-05 07:00", "07:30", "08:00", "08:30", "09:00"]
        );
        assert_eq!(
            between("2031-03-05 22:00:00", "2031-03-06 04:00:00", 3),
            ["03-05 22:00", "03-06", "02:00", "04:00"]
        );
        assert_eq!(
            between("2031-03-03 12:00:00", "2031-03-24 00:00:00", 4),
            ["2031-03-10", "2031-03-17", "2031-03-24"]
        );
        assert_eq!(between("2030-11-20 00:00:00", "2031-05-02 00:00:00", 3), ["2031-01", "2031-03", "2031-05"]);
        assert_eq!(between("2001-01-01 00:00:00", "2031-01-01 00:00:00", 4), ["2010", "2020", "2030"]);
        assert_eq!(between("0001-01-01 00:00:00", "9999-01-01 00:00:00", 3), ["5000"]);
    }

    #[test]
    fn numbers_are_written_for_people() {
        for (value, text) in [
            (0.0, "0"),
            (-1234.6, "-1,235"),
            (1.0, "1"),
            (0.125, "0.125"),
            (0.000_01, "1e-5"),
            (12.345, "12.3"),
            (2.5e15, "2.50e15"),
            (1e15, "1e15"),
        ] {
            assert_eq!(short(value), text);
        }
        assert_eq!([number(-0.0001, 2), number(1_234_567.891, 1)], ["0.00", "1,234,567.9"]);
    }
}
