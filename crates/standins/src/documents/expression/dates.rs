//! Operators of points in time, which are told in UTC.

use chrono::{DateTime, Datelike as _, Days, Months, NaiveDate, SecondsFormat, TimeZone as _, Timelike as _, Utc};

use super::{Found, exactly, is_nothing, part};
use crate::documents::failure::Failure;
use crate::documents::scope::Frame;
use crate::documents::value::Value;

fn moment(at: i64) -> Option<DateTime<Utc>> {
    DateTime::from_timestamp_millis(at)
}

/// `2031-03-05T12:00:00.000Z`.
pub fn written(at: i64) -> String {
    moment(at).map_or_else(|| at.to_string(), |at| at.to_rfc3339_opts(SecondsFormat::Millis, true))
}

/// Reads a point in time, or a day.
pub fn read(text: &str) -> Option<i64> {
    if let Ok(at) = DateTime::parse_from_rfc3339(text) {
        return Some(at.timestamp_millis());
    }
    let day = NaiveDate::parse_from_str(text, "%Y-%m-%d").ok()?;
    Some(day.and_hms_opt(0, 0, 0)?.and_utc().timestamp_millis())
}

fn wrong(name: &str) -> Failure {
    Failure::new(16006, "Location16006", format!("{name}: can't convert to a date"))
}

/// The formats of `$dateToString`, which has fewer signs than others.
fn shown(at: DateTime<Utc>, format: &str) -> String {
    let format = format.replace("%L", "%3f").replace("%Z", "0").replace("%z", "+0000");
    let items: Vec<_> = chrono::format::StrftimeItems::new(&format).collect();
    if items.contains(&chrono::format::Item::Error) {
        format
    } else {
        at.format_with_items(items.into_iter()).to_string()
    }
}

fn months_of(unit: &str) -> Option<u32> {
    Some(match unit {
        "year" => 12,
        "quarter" => 3,
        "month" => 1,
        _ => return None,
    })
}

fn millis_of(unit: &str) -> Option<i64> {
    Some(match unit {
        "week" => 7 * 86_400_000,
        "day" => 86_400_000,
        "hour" => 3_600_000,
        "minute" => 60_000,
        "second" => 1000,
        "millisecond" => 1,
        _ => return None,
    })
}

fn moved(at: DateTime<Utc>, unit: &str, by: i64) -> Option<DateTime<Utc>> {
    match months_of(unit) {
        Some(each) => {
            let months = Months::new(u32::try_from(by.unsigned_abs()).ok()?.checked_mul(each)?);
            if by < 0 { at.checked_sub_months(months) } else { at.checked_add_months(months) }
        }
        None => moment(at.timestamp_millis().checked_add(millis_of(unit)?.checked_mul(by)?)?),
    }
}

fn truncated(at: DateTime<Utc>, unit: &str, size: i64) -> Option<DateTime<Utc>> {
    let midnight = |year: i32, month: u32, day: u32| Utc.with_ymd_and_hms(year, month, day, 0, 0, 0).single();
    if let Some(each) = months_of(unit) {
        let step = i64::from(each) * size.max(1);
        let months = (i64::from(at.year()) * 12 + i64::from(at.month0())).div_euclid(step) * step;
        return midnight(i32::try_from(months.div_euclid(12)).ok()?, months.rem_euclid(12) as u32 + 1, 1);
    }
    if unit == "week" {
        let day = midnight(at.year(), at.month(), at.day())?;
        return day.checked_sub_days(Days::new(at.weekday().num_days_from_sunday().into()));
    }
    let step = millis_of(unit)? * size.max(1);
    moment(at.timestamp_millis().div_euclid(step) * step)
}

/// The value of an operator, if it is one of these.
pub fn operator(name: &str, argument: &Value, frame: &Frame<'_, '_>) -> Result<Option<Found>, Failure> {
    let at_of = |found: Found| -> Result<Option<DateTime<Utc>>, Failure> {
        match found {
            None | Some(Value::Null) => Ok(None),
            Some(Value::Date(at)) => moment(at).map(Some).ok_or_else(|| wrong(name)),
            Some(Value::Timestamp(seconds, _)) => Ok(moment(i64::from(seconds) * 1000)),
            Some(Value::ObjectId(id)) => Ok(moment(i64::from(u32::from_be_bytes([id[0], id[1], id[2], id[3]])) * 1000)),
            Some(_) => Err(wrong(name)),
        }
    };
    let text_of = |wanted: &str| -> Result<Option<String>, Failure> {
        Ok(part(name, argument, wanted, frame)?.and_then(|value| value.as_text().map(str::to_owned)))
    };
    let unit = || text_of("unit")?.ok_or_else(|| Failure::parse(format!("{name} needs a unit")));
    let unknown = |unit: &str| Failure::parse(format!("{name}: unknown time unit {unit}"));
    let made = match name {
        "$year" | "$month" | "$dayOfMonth" | "$dayOfWeek" | "$dayOfYear" | "$hour" | "$minute" | "$second"
        | "$millisecond" | "$week" | "$isoWeek" | "$isoDayOfWeek" => {
            let found = match argument.as_document().is_some_and(|parts| parts.iter().any(|(name, _)| name == "date")) {
                true => part(name, argument, "date", frame)?,
                false => exactly::<1>(name, argument, frame)?.into_iter().next().flatten(),
            };
            let Some(at) = at_of(found)? else { return Ok(Some(Some(Value::Null))) };
            Value::Int(match name {
                "$year" => at.year(),
                "$month" => at.month() as i32,
                "$dayOfMonth" => at.day() as i32,
                "$dayOfWeek" => at.weekday().num_days_from_sunday() as i32 + 1,
                "$isoDayOfWeek" => at.weekday().number_from_monday() as i32,
                "$dayOfYear" => at.ordinal() as i32,
                "$hour" => at.hour() as i32,
                "$minute" => at.minute() as i32,
                "$second" => at.second() as i32,
                "$isoWeek" => at.iso_week().week() as i32,
                "$week" => (at.ordinal0() + 7 - at.weekday().num_days_from_sunday()) as i32 / 7,
                _ => at.timestamp_subsec_millis() as i32,
            })
        }
        "$dateToString" => {
            let Some(at) = at_of(part(name, argument, "date", frame)?)? else {
                return Ok(Some(part(name, argument, "onNull", frame)?.or(Some(Value::Null))));
            };
            let format = text_of("format")?;
            Value::Text(format.map_or_else(|| written(at.timestamp_millis()), |format| shown(at, &format)))
        }
        "$dateFromString" => {
            let text = part(name, argument, "dateString", frame)?;
            if is_nothing(&text) {
                return Ok(Some(part(name, argument, "onNull", frame)?.or(Some(Value::Null))));
            }
            match text.as_ref().and_then(Value::as_text).and_then(read) {
                Some(at) => Value::Date(at),
                None => match part(name, argument, "onError", frame)? {
                    Some(other) => other,
                    None => {
                        let what = format!(
                            "Error parsing date string {:?}",
                            text.and_then(|text| text.as_text().map(str::to_owned))
                        );
                        return Err(Failure::new(241, "ConversionFailure", what));
                    }
                },
            }
        }
        "$dateTrunc" => {
            let Some(at) = at_of(part(name, argument, "date", frame)?)? else { return Ok(Some(Some(Value::Null))) };
            let (unit, size) = (unit()?, part(name, argument, "binSize", frame)?.and_then(|size| size.as_i64()));
            let at = truncated(at, &unit, size.unwrap_or(1)).ok_or_else(|| unknown(&unit))?;
            Value::Date(at.timestamp_millis())
        }
        "$dateAdd" | "$dateSubtract" => {
            let Some(at) = at_of(part(name, argument, "startDate", frame)?)? else {
                return Ok(Some(Some(Value::Null)));
            };
            let by = part(name, argument, "amount", frame)?.and_then(|by| by.as_i64()).unwrap_or(0);
            let unit = unit()?;
            let by = if name == "$dateAdd" { by } else { -by };
            Value::Date(moved(at, &unit, by).ok_or_else(|| unknown(&unit))?.timestamp_millis())
        }
        "$dateDiff" => {
            let [from, to] = ["startDate", "endDate"].map(|wanted| part(name, argument, wanted, frame).and_then(at_of));
            let (Some(from), Some(to)) = (from?, to?) else { return Ok(Some(Some(Value::Null))) };
            let unit = unit()?;
            let count = |at: DateTime<Utc>| match months_of(&unit) {
                Some(each) => Some((i64::from(at.year()) * 12 + i64::from(at.month0())).div_euclid(each.into())),
                None => {
                    let day = if unit == "week" { truncated(at, "week", 1)? } else { at };
                    Some(day.timestamp_millis().div_euclid(millis_of(&unit)?))
                }
            };
            let (Some(from), Some(to)) = (count(from), count(to)) else { return Err(unknown(&unit)) };
            Value::Long(to - from)
        }
        _ => return Ok(None),
    };
    Ok(Some(Some(made)))
}
