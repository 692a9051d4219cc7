//! How databases write values as text, where they differ from each other. A field says it in its
//! metadata ([`TEXT_FORM`]), so that every reader of an archive writes what the server would.

use std::fmt::Write as _;

use arrow_schema::Field;

/// The key of a field's metadata under which its [`TextForm`] stands.
pub const TEXT_FORM: &str = "text_form";

/// How the values of a column are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum TextForm {
    /// In the program's own way.
    #[default]
    Plain,
    /// Exponents with a sign and two digits (`1e+15`), dates and times with a blank between them,
    /// bytes behind `\x`, and `infinity` for the ends of time.
    Padded,
    /// Exponents as short as can be (`1e15`), times with this many digits behind the point.
    Bare(u8),
    /// Text that is a number, which no other type has room for.
    Number,
    /// Text that is a span of time ([`super::span`]).
    Span,
}

impl TextForm {
    /// The word in the metadata.
    pub fn word(self) -> String {
        match self {
            TextForm::Plain => "plain".into(),
            TextForm::Padded => "padded".into(),
            TextForm::Bare(digits) => format!("bare {digits}"),
            TextForm::Number => "number".into(),
            TextForm::Span => "span".into(),
        }
    }

    /// The form of a field.
    pub fn of(field: &Field) -> TextForm {
        match field.metadata().get(TEXT_FORM).map(|word| word.split_once(' ').unwrap_or((word, ""))) {
            Some(("padded", _)) => TextForm::Padded,
            Some(("bare", digits)) => TextForm::Bare(digits.parse().unwrap_or(0)),
            Some(("number", _)) => TextForm::Number,
            Some(("span", _)) => TextForm::Span,
            _ => TextForm::Plain,
        }
    }
}

/// The year, month and day of a day counted from 1970-01-01, in the Gregorian calendar without an
/// end to either side. Year 0 is the one before year 1.
pub fn civil(days: i64) -> (i64, u8, u8) {
    // Years begin in March, so that the leap day is the last: then months have a fixed pattern.
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let day_of_era = z.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    (year_of_era + era * 400 + i64::from(month <= 2), month as u8, day as u8)
}

/// The day, counted from 1970-01-01, of a date; nothing where there is no such date.
pub fn days(year: i64, month: u8, day: u8) -> Option<i64> {
    let is_leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let length = match month {
        2 => 28 + u8::from(is_leap),
        4 | 6 | 9 | 11 => 30,
        1..=12 => 31,
        _ => return None,
    };
    if day == 0 || day > length {
        return None;
    }
    let shifted = if month <= 2 { year - 1 } else { year };
    let era = shifted.div_euclid(400);
    let year_of_era = shifted.rem_euclid(400);
    let month_from_march = (i64::from(month) + 9) % 12;
    let day_of_year = (153 * month_from_march + 2) / 5 + i64::from(day) - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    Some(era * 146_097 + day_of_era - 719_468)
}

/// Writes a date; years before the first end in ` BC`.
pub fn date(days: i32, text: &mut String) {
    match days {
        i32::MAX => text.push_str("infinity"),
        i32::MIN => text.push_str("-infinity"),
        _ => {
            let bc = ymd(i64::from(days), text);
            text.push_str(bc);
        }
    }
}

fn ymd(days: i64, text: &mut String) -> &'static str {
    let (year, month, day) = civil(days);
    let (year, bc) = if year > 0 { (year, "") } else { (1 - year, " BC") };
    padded(year, 4, text);
    text.push('-');
    padded(i64::from(month), 2, text);
    text.push('-');
    padded(i64::from(day), 2, text);
    bc
}

/// A number of at least so many digits; it is not below zero.
fn padded(value: i64, width: usize, text: &mut String) {
    let mut buffer = itoa::Buffer::new();
    let digits = buffer.format(value);
    text.extend(std::iter::repeat_n('0', width.saturating_sub(digits.len())));
    text.push_str(digits);
}

/// Writes a time of day in microseconds. `digits` is how many stand behind the point; without it,
/// as many as it takes.
pub fn time(micros: i64, digits: Option<u8>, text: &mut String) {
    let (seconds, fraction) = (micros / 1_000_000, micros % 1_000_000);
    padded(seconds / 3600, 2, text);
    text.push(':');
    padded(seconds / 60 % 60, 2, text);
    text.push(':');
    padded(seconds % 60, 2, text);
    match digits {
        Some(0) => {}
        Some(digits) => {
            text.push('.');
            padded(fraction, 6, text);
            text.truncate(text.len() - 6 + usize::from(digits.min(6)));
        }
        None if fraction == 0 => {}
        None => {
            text.push('.');
            padded(fraction, 6, text);
            text.truncate(text.trim_end_matches('0').len());
        }
    }
}

/// Writes a point in time in microseconds since 1970, at so many seconds east of Greenwich where
/// that is known.
pub fn timestamp(micros: i64, offset: Option<i32>, digits: Option<u8>, text: &mut String) {
    match micros {
        i64::MAX => return text.push_str("infinity"),
        i64::MIN => return text.push_str("-infinity"),
        _ => {}
    }
    const DAY: i64 = 86_400_000_000;
    // The clock there may be in the day before, or after.
    let clock = micros.rem_euclid(DAY) + i64::from(offset.unwrap_or(0)) * 1_000_000;
    let bc = ymd(micros.div_euclid(DAY) + clock.div_euclid(DAY), text);
    text.push(' ');
    time(clock.rem_euclid(DAY), digits, text);
    if let Some(offset) = offset {
        let (sign, seconds) = if offset < 0 { ('-', -offset) } else { ('+', offset) };
        let parts = [seconds / 3600, seconds / 60 % 60, seconds % 60].map(i64::from);
        let count = if seconds % 60 != 0 {
            3
        } else if seconds % 3600 != 0 {
            2
        } else {
            1
        };
        for (sign, part) in [sign, ':', ':'].into_iter().zip(parts).take(count) {
            text.push(sign);
            padded(part, 2, text);
        }
    }
    text.push_str(bc);
}

/// Writes a floating-point number in as few digits as tell it from all others. `single` is for one
/// of 32 bits.
pub fn real(value: f64, single: bool, form: TextForm, text: &mut String) {
    let mut buffer = ryu::Buffer::new();
    let short = if single { buffer.format(value as f32) } else { buffer.format(value) };
    let (least, most, padded) = match form {
        TextForm::Plain | TextForm::Number | TextForm::Span => return text.push_str(short),
        TextForm::Padded => (-4, if single { 6 } else { 15 }, true),
        TextForm::Bare(_) => (-15, 15, false),
    };
    if !value.is_finite() {
        return text.push_str(match value {
            v if v.is_nan() => "NaN",
            v if v > 0.0 => "Infinity",
            _ => "-Infinity",
        });
    }
    // `-12.5e7` as a sign, the digits, and the power of ten of the first of them.
    let (mantissa, exponent) = short.split_once('e').unwrap_or((short, "0"));
    let (sign, mantissa) = mantissa.strip_prefix('-').map_or(("", mantissa), |rest| ("-", rest));
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let all = format!("{whole}{fraction}");
    let digits = all.trim_start_matches('0');
    let power = whole.len() as i32 - 1 - (all.len() - digits.len()) as i32 + exponent.parse::<i32>().unwrap_or(0);
    let digits = digits.trim_end_matches('0');
    text.push_str(sign);
    if digits.is_empty() {
        return text.push('0');
    }
    if power < least || power >= most {
        text.push_str(&digits[..1]);
        if digits.len() > 1 {
            let _ = write!(text, ".{}", &digits[1..]);
        }
        let _ = if padded {
            write!(text, "e{}{:02}", if power < 0 { '-' } else { '+' }, power.abs())
        } else {
            write!(text, "e{power}")
        };
    } else if power < 0 {
        let _ = write!(text, "0.{}{digits}", "0".repeat((-power - 1) as usize));
    } else {
        let whole = power as usize + 1;
        match digits.len() > whole {
            true => {
                let _ = write!(text, "{}.{}", &digits[..whole], &digits[whole..]);
            }
            false => {
                let _ = write!(text, "{digits}{}", "0".repeat(whole - digits.len()));
            }
        }
    }
}

/// A decimal, counted in its smallest part, with so many digits behind the point; fewer than none are zeros
/// before it.
pub fn decimal(value: i128, scale: i8, text: &mut String) {
    let (mut short, mut long) = (itoa::Buffer::new(), itoa::Buffer::new());
    // Most are short, and those are quicker.
    let digits = match i64::try_from(value) {
        Ok(value) => short.format(value),
        Err(_) => long.format(value),
    };
    let (sign, digits) = match digits.strip_prefix('-') {
        Some(digits) => ("-", digits),
        None => ("", digits),
    };
    let behind = usize::from(scale.unsigned_abs());
    text.push_str(sign);
    if scale < 0 {
        text.push_str(digits);
        text.extend(std::iter::repeat_n('0', if value == 0 { 0 } else { behind }));
    } else if let Some((before, after)) = digits.len().checked_sub(behind).and_then(|at| digits.split_at_checked(at)) {
        text.push_str(if before.is_empty() { "0" } else { before });
        if !after.is_empty() {
            text.push('.');
            text.push_str(after);
        }
    } else {
        text.push_str("0.");
        text.extend(std::iter::repeat_n('0', behind - digits.len()));
        text.push_str(digits);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn written(act: impl FnOnce(&mut String)) -> String {
        let mut text = String::new();
        act(&mut text);
        text
    }

    #[test]
    fn decimals_have_their_point_where_the_scale_says() {
        for (value, scale, expected) in [
            (1250, 2, "12.50"),
            (-5, 2, "-0.05"),
            (-125, 3, "-0.125"),
            (0, 2, "0.00"),
            (7, 0, "7"),
            (7, -3, "7000"),
            (0, -3, "0"),
            (-1_234_567_890_123_456_789_012, 4, "-123456789012345678.9012"),
            (i128::MIN, 0, "-170141183460469231731687303715884105728"),
        ] {
            assert_eq!(written(|text| decimal(value, scale, text)), expected);
        }
    }

    #[test]
    fn floating_point_numbers() {
        for (value, padded, bare) in [
            (0.0, "0", "0"),
            (-0.0, "-0", "-0"),
            (1.0, "1", "1"),
            (-1.5, "-1.5", "-1.5"),
            (0.1, "0.1", "0.1"),
            (1e14, "100000000000000", "100000000000000"),
            (1e15, "1e+15", "1e15"),
            (1.25e300, "1.25e+300", "1.25e300"),
            (0.0001, "0.0001", "0.0001"),
            (0.00001, "1e-05", "0.00001"),
            (1.5e-16, "1.5e-16", "1.5e-16"),
            (123456.789, "123456.789", "123456.789"),
            (f64::NAN, "NaN", "NaN"),
            (f64::NEG_INFINITY, "-Infinity", "-Infinity"),
        ] {
            assert_eq!(written(|text| real(value, false, TextForm::Padded, text)), padded);
            assert_eq!(written(|text| real(value, false, TextForm::Bare(0), text)), bare);
        }
        assert_eq!(written(|text| real(f64::from(0.1_f32), true, TextForm::Padded, text)), "0.1");
        assert_eq!(written(|text| real(1e6, true, TextForm::Padded, text)), "1e+06");
    }

    #[test]
    fn points_in_time() {
        for (micros, offset, digits, expected) in [
            (0, None, None, "1970-01-01 00:00:00"),
            (1_500_000, Some(0), None, "1970-01-01 00:00:01.5+00"),
            (-1, Some(-12_600), None, "1969-12-31 20:29:59.999999-03:30"),
            (0, Some(1172), None, "1970-01-01 00:19:32+00:19:32"),
            (1_500_000, None, Some(3), "1970-01-01 00:00:01.500"),
            (-62_167_219_200_000_000 - 1_000_000, None, None, "0002-12-31 23:59:59 BC"),
            (253_402_300_800_000_000, None, None, "10000-01-01 00:00:00"),
            (i64::MAX, Some(3600), None, "infinity"),
            (i64::MIN, None, None, "-infinity"),
        ] {
            assert_eq!(written(|text| timestamp(micros, offset, digits, text)), expected);
        }
        assert_eq!(written(|text| time(86_400_000_000, None, text)), "24:00:00");
    }

    proptest! {
        #[test]
        fn decimals_are_written_as_arrow_writes_them(value in prop_oneof![any::<i64>().prop_map(i128::from), -(10_i128.pow(37))..10_i128.pow(37)], scale in 0..=37_i8) {
            use arrow_array::types::{Decimal128Type, DecimalType};
            prop_assert_eq!(written(|text| decimal(value, scale, text)), Decimal128Type::format_decimal(value, 38, scale));
        }

        #[test]
        fn days_and_dates_are_each_others_reverse(day in -800_000_000_i64..800_000_000) {
            let (year, month, date) = civil(day);
            prop_assert_eq!(days(year, month, date), Some(day));
        }

        #[test]
        fn a_number_reads_back_as_itself(bits in any::<u64>()) {
            let value = f64::from_bits(bits);
            for form in [TextForm::Padded, TextForm::Bare(0)] {
                let text = written(|text| real(value, false, form, text));
                let back: f64 = text.parse().unwrap();
                prop_assert!(back.to_bits() == bits || (value.is_nan() && back.is_nan()), "{}", text);
            }
        }
    }

    #[test]
    fn there_is_no_thirtieth_of_february() {
        assert_eq!((days(2024, 2, 30), days(2023, 2, 29), days(2024, 0, 1)), (None, None, None));
        assert_eq!(days(2024, 2, 29), Some(19_782));
    }
}
