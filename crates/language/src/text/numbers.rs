//! Numbers as people read them.

/// A number with its thousands set apart.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::with_capacity(digits.len() * 4 / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// So many of something.
pub fn count(number: u64, thing: &str) -> String {
    format!("{} {thing}{}", grouped(number), if number == 1 { "" } else { "s" })
}

/// A number of bytes in the unit that suits it, of which nothing is rounded up.
pub fn bytes(number: u64) -> String {
    const UNITS: [&str; 5] = ["KiB", "MiB", "GiB", "TiB", "PiB"];
    let unit = (number.max(1).ilog2() / 10) as usize;
    let Some(name) = unit.checked_sub(1).and_then(|at| UNITS.get(at)) else { return count(number, "byte") };
    let tenths = ((number >> (10 * (unit - 1))) % 1024) * 10 / 1024;
    format!("{}.{tenths} {name}", number >> (10 * unit))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_set_apart_and_sizes_have_units() {
        assert_eq!([0, 999, 1000, 6_000_000].map(grouped), ["0", "999", "1,000", "6,000,000"]);
        assert_eq!([1, 2000].map(|rows| count(rows, "row")), ["1 row", "2,000 rows"]);
        let sizes = [0, 1, 1023, 1024, 1536, (1 << 20) - 1, 5 << 30, u64::MAX >> 4].map(bytes);
        let expected =
            ["0 bytes", "1 byte", "1,023 bytes", "1.0 KiB", "1.5 KiB", "1023.9 KiB", "5.0 GiB", "1023.9 PiB"];
        assert_eq!(sizes, expected);
    }
}
