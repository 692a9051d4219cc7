//! Decimal numbers of 128 bits, as IEEE 754 lays them out with a binary coefficient.

use std::cmp::Ordering;
use std::fmt;

/// A decimal number.
#[derive(Debug, Clone, Copy)]
pub enum Decimal {
    /// Its coefficient and the power of ten that it is multiplied with.
    Number(bool, u128, i32),
    Infinite(bool),
    Nan,
}

const BIAS: i32 = 6176;
const MOST: u128 = 10_u128.pow(34) - 1;

impl Decimal {
    pub fn read(bytes: [u8; 16]) -> Decimal {
        let bits = u128::from_le_bytes(bytes);
        let negative = bits >> 127 == 1;
        match (bits >> 122) & 0x1F {
            0x1F => Decimal::Nan,
            0x1E => Decimal::Infinite(negative),
            // With these bits the coefficient would be larger than is allowed: it counts as zero.
            top if top >> 3 == 3 => Decimal::Number(negative, 0, ((bits >> 111) & 0x3FFF) as i32 - BIAS),
            _ => {
                let coefficient = bits & ((1 << 113) - 1);
                let exponent = ((bits >> 113) & 0x3FFF) as i32 - BIAS;
                Decimal::Number(negative, if coefficient > MOST { 0 } else { coefficient }, exponent)
            }
        }
    }

    pub fn bytes(self) -> [u8; 16] {
        let sign = |negative: bool| u128::from(negative) << 127;
        let bits = match self {
            Decimal::Nan => 0x1F << 122,
            Decimal::Infinite(negative) => sign(negative) | 0x1E << 122,
            Decimal::Number(negative, coefficient, exponent) => {
                sign(negative) | ((exponent + BIAS) as u128 & 0x3FFF) << 113 | coefficient
            }
        };
        bits.to_le_bytes()
    }

    /// Reads `-12.50`, `1E+3`, `NaN`, `Infinity`.
    pub fn parse(text: &str) -> Option<Decimal> {
        let (negative, rest) = match text.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, text.strip_prefix('+').unwrap_or(text)),
        };
        match rest.to_ascii_lowercase().as_str() {
            "nan" => return Some(Decimal::Nan),
            "infinity" | "inf" => return Some(Decimal::Infinite(negative)),
            _ => {}
        }
        let (digits, exponent) = match rest.split_once(['e', 'E']) {
            Some((digits, exponent)) => (digits, exponent.parse::<i32>().ok()?),
            None => (rest, 0),
        };
        let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
        let all = format!("{whole}{part}");
        if all.is_empty() || !all.bytes().all(|byte| byte.is_ascii_digit()) {
            return None;
        }
        let coefficient = all.parse::<u128>().ok().filter(|value| *value <= MOST)?;
        let exponent = exponent.checked_sub(i32::try_from(part.len()).ok()?)?;
        (-6176..=6111).contains(&exponent).then_some(Decimal::Number(negative, coefficient, exponent))
    }

    pub fn as_f64(&self) -> f64 {
        self.to_string().parse().unwrap_or(f64::NAN)
    }

    /// The sum, or nothing where it has more digits than a decimal.
    pub fn plus(self, other: Decimal) -> Option<Decimal> {
        let (Decimal::Number(left_sign, left, left_power), Decimal::Number(right_sign, right, right_power)) =
            (self, other)
        else {
            return None;
        };
        let power = left_power.min(right_power);
        let signed = |negative: bool, value: u128, own: i32| {
            let scaled = i128::try_from(value).ok()?.checked_mul(10_i128.checked_pow(own.abs_diff(power))?)?;
            Some(if negative { -scaled } else { scaled })
        };
        let sum = signed(left_sign, left, left_power)?.checked_add(signed(right_sign, right, right_power)?)?;
        (sum.unsigned_abs() <= MOST).then_some(Decimal::Number(sum < 0, sum.unsigned_abs(), power))
    }

    /// The product, or nothing where it has more digits than a decimal.
    pub fn times(self, other: Decimal) -> Option<Decimal> {
        match (self, other) {
            (Decimal::Number(left_sign, left, left_power), Decimal::Number(right_sign, right, right_power)) => {
                let product = left.checked_mul(right).filter(|value| *value <= MOST)?;
                Some(Decimal::Number(left_sign != right_sign, product, left_power + right_power))
            }
            _ => None,
        }
    }

    pub fn compare(&self, other: &Decimal) -> Ordering {
        match self.plus(other.negated()) {
            Some(Decimal::Number(_, 0, _)) => Ordering::Equal,
            Some(Decimal::Number(negative, ..)) => {
                if negative {
                    Ordering::Less
                } else {
                    Ordering::Greater
                }
            }
            _ => self.as_f64().total_cmp(&other.as_f64()),
        }
    }

    pub fn negated(self) -> Decimal {
        match self {
            Decimal::Number(negative, value, power) => Decimal::Number(!negative, value, power),
            Decimal::Infinite(negative) => Decimal::Infinite(!negative),
            Decimal::Nan => Decimal::Nan,
        }
    }
}

impl fmt::Display for Decimal {
    /// "to-scientific-string" of the General Decimal Arithmetic specification.
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (negative, value, power) = match *self {
            Decimal::Nan => return formatter.write_str("NaN"),
            Decimal::Infinite(negative) => return formatter.write_str(if negative { "-Infinity" } else { "Infinity" }),
            Decimal::Number(negative, value, power) => (negative, value, power),
        };
        let digits = value.to_string();
        let adjusted = power + digits.len() as i32 - 1;
        let mut text = String::from(if negative { "-" } else { "" });
        if power <= 0 && adjusted >= -6 {
            let places = power.unsigned_abs() as usize;
            let padded = format!("{digits:0>width$}", width = places + 1);
            let (whole, part) = padded.split_at(padded.len() - places);
            text.push_str(whole);
            if !part.is_empty() {
                text.push('.');
                text.push_str(part);
            }
        } else {
            let (first, rest) = digits.split_at(1);
            text.push_str(first);
            if !rest.is_empty() {
                text.push('.');
                text.push_str(rest);
            }
            text.push_str(&format!("E{adjusted:+}"));
        }
        formatter.write_str(&text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_and_bytes_are_the_same_number() {
        // Of the specification's own corpus: texts, and the bytes in hexadecimal digits.
        for (text, bytes) in [
            ("0", "00000000000000000000000000004030"),
            ("-1", "010000000000000000000000000040b0"),
            ("0.1", "01000000000000000000000000003e30"),
            ("0.001234", "d2040000000000000000000000003430"),
            ("123456789012", "141a99be1c0000000000000000004030"),
            ("1E+3", "01000000000000000000000000004630"),
            ("9.999999999999999999999999999999999E+6144", "ffffffff638e8d37c087adbe09edff5f"),
            ("Infinity", "00000000000000000000000000000078"),
            ("-Infinity", "000000000000000000000000000000f8"),
            ("NaN", "0000000000000000000000000000007c"),
        ] {
            let value = Decimal::parse(text).unwrap();
            let shown: String = value.bytes().iter().map(|byte| format!("{byte:02x}")).collect();
            assert_eq!(shown, bytes, "{text}");
            assert_eq!(Decimal::read(value.bytes()).to_string(), text);
        }
        for text in ["", "1.2.3", "e5", "1e99999", "12345678901234567890123456789012345"] {
            assert!(Decimal::parse(text).is_none(), "{text}");
        }
    }

    #[test]
    fn sums_and_products_keep_their_digits() {
        let number = |text: &str| Decimal::parse(text).unwrap();
        for (left, right, sum, product) in
            [("12.50", "0.5", "13.00", "6.250"), ("-1", "1.00", "0.00", "-1.00"), ("1E+3", "1", "1001", "1E+3")]
        {
            assert_eq!(number(left).plus(number(right)).unwrap().to_string(), sum);
            assert_eq!(number(left).times(number(right)).unwrap().to_string(), product);
        }
        assert!(number("1E+6000").plus(number("1")).is_none(), "more digits than there is room for");
        assert_eq!(number("1.0").compare(&number("1.00")), Ordering::Equal);
        assert_eq!(number("-2").compare(&number("1.5")), Ordering::Less);
    }
}
