//! How a value of a change is sent beside a statement.

use super::parameters::ParameterValue;
use crate::dialect::{Datum, bytes_of};

impl Datum {
    /// As it is sent beside a statement; none where it stands in the text as a word.
    pub fn parameter(&self) -> Option<ParameterValue> {
        Some(match self {
            Datum::Null | Datum::Default | Datum::Absent | Datum::Written(_) => return None,
            Datum::Number(text) => match text.parse::<i64>() {
                Ok(number) if number.to_string() == *text => ParameterValue::Int(number),
                _ if keeps_its_digits(text) => ParameterValue::Number(text.clone()),
                // A server reads text as the number that its column holds, digit by digit.
                _ => ParameterValue::Text(text.clone()),
            },
            Datum::Text(text) => ParameterValue::Text(text.clone()),
            Datum::Bytes(digits) => ParameterValue::Bytes(bytes_of(digits)),
            Datum::Bool(value) => ParameterValue::Bool(*value),
        })
    }
}

/// Whether a double is this number and no other with more digits.
fn keeps_its_digits(text: &str) -> bool {
    let Ok(number) = text.parse::<f64>() else { return false };
    if number.is_infinite() && matches!(text, "inf" | "-inf") {
        return true;
    }
    let digits = text.bytes().filter(u8::is_ascii_digit).count();
    number.is_finite() && (digits <= 15 || ryu::Buffer::new().format(number) == text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_is_sent_with_all_of_its_digits() {
        let sent = |text: &str| Datum::Number(text.into()).parameter().unwrap();
        assert_eq!(sent("-5"), ParameterValue::Int(-5));
        assert_eq!(sent("007"), ParameterValue::Number("007".into()));
        assert_eq!(sent("0.1"), ParameterValue::Number("0.1".into()));
        let long = "12345678901234567890.123456789";
        assert_eq!(sent(long), ParameterValue::Text(long.into()));
        assert_eq!(Datum::Bytes("00ff1".into()).parameter(), Some(ParameterValue::Bytes(vec![0, 255])));
        assert_eq!(Datum::Null.parameter(), None);
    }
}
