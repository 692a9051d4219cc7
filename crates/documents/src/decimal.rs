//! Decimal numbers of 128 bits (IEEE 754-2008, binary integer form), as text and back.

const BIAS: i32 = 6176;
const MOST_DIGITS: usize = 34;

/// The text of a number, as the Extended JSON specification writes it.
pub fn text(bytes: [u8; 16]) -> String {
    let bits = u128::from_le_bytes(bytes);
    let sign = if bits >> 127 == 1 { "-" } else { "" };
    let top = (bits >> 122 & 0x1F) as u8;
    if top == 0x1F {
        return "NaN".to_owned();
    }
    if top == 0x1E {
        return format!("{sign}Infinity");
    }
    // In the other form the digits would be more than there are: they count as none.
    let (exponent, digits) = if top >> 3 == 3 {
        ((bits >> 111 & 0x3FFF) as i32, 0)
    } else {
        ((bits >> 113 & 0x3FFF) as i32, bits & ((1 << 113) - 1))
    };
    let digits = if digits >= 10_u128.pow(MOST_DIGITS as u32) { 0 } else { digits };
    let exponent = exponent - BIAS;
    let written = digits.to_string();
    let scientific = exponent + written.len() as i32 - 1;
    if exponent > 0 || scientific < -6 {
        let (first, rest) = written.split_at(1);
        let point = if rest.is_empty() { "" } else { "." };
        let plus = if scientific >= 0 { "+" } else { "" };
        return format!("{sign}{first}{point}{rest}E{plus}{scientific}");
    }
    if exponent == 0 {
        return format!("{sign}{written}");
    }
    let behind = exponent.unsigned_abs() as usize;
    let padded = format!("{written:0>width$}", width = behind + 1);
    let (whole, fraction) = padded.split_at(padded.len() - behind);
    format!("{sign}{whole}.{fraction}")
}

/// A number out of its text; `None` where it has too many digits, or is none.
pub fn read(text: &str) -> Option<[u8; 16]> {
    let (negative, rest) = match text.as_bytes().first()? {
        b'-' => (true, text.get(1..)?),
        b'+' => (false, text.get(1..)?),
        _ => (false, text),
    };
    let sign = u128::from(negative) << 127;
    match rest.to_ascii_lowercase().as_str() {
        "nan" => return Some((0x1F_u128 << 122).to_le_bytes()),
        "infinity" | "inf" => return Some((sign | 0x1E << 122).to_le_bytes()),
        _ => {}
    }
    let (number, exponent) = match rest.find(['e', 'E']) {
        Some(at) => (rest.get(..at)?, rest.get(at + 1..)?.parse::<i32>().ok()?),
        None => (rest, 0),
    };
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    let all = format!("{whole}{fraction}");
    if all.is_empty() || !all.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let mut digits = all.trim_start_matches('0').to_owned();
    let mut exponent = exponent.checked_sub(i32::try_from(fraction.len()).ok()?)?;
    // Zeros at the end may go where there are too many digits, or the exponent is too small.
    while (digits.len() > MOST_DIGITS || exponent < -BIAS) && digits.ends_with('0') {
        digits.pop();
        exponent += 1;
    }
    while exponent > 6111 && !digits.is_empty() && digits.len() < MOST_DIGITS {
        digits.push('0');
        exponent -= 1;
    }
    if digits.is_empty() {
        exponent = exponent.clamp(-BIAS, 6111);
    }
    if digits.len() > MOST_DIGITS || !(-BIAS..=6111).contains(&exponent) {
        return None;
    }
    let value: u128 = if digits.is_empty() { 0 } else { digits.parse().ok()? };
    Some((sign | ((exponent + BIAS) as u128) << 113 | value).to_le_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_come_back() {
        for written in [
            "0",
            "-0",
            "1",
            "1.5",
            "-12.50",
            "0.000001",
            "1E-7",
            "1E+3",
            "9.999999999999999999999999999999999E+6144",
            "NaN",
            "Infinity",
            "-Infinity",
            "1.000000000000000000000000000000000",
            "0E-6176",
        ] {
            assert_eq!(text(read(written).unwrap()), written);
        }
        assert_eq!((read("1e3").map(text), read("007").map(text)), (Some("1E+3".into()), Some("7".into())));
        for wrong in ["", "-", "1.2.3", "x", "1e", "12345678901234567890123456789012345", "1E+6145"] {
            assert_eq!(read(wrong), None, "{wrong}");
        }
    }
}
