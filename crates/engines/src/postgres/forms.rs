//! Values as the server reads them, of what other formats write: lists for arrays, and days before our era.

use jaunty_seam::catalog::Column;
use jaunty_seam::rows::nested::array_of;

use crate::net::formed::Form;

/// How values of a column are put for the server, where that is not as other formats write them.
pub(super) fn form_of(column: &Column) -> Option<Form> {
    match column.db_type.as_str() {
        list if list.ends_with(']') => Some(array_of),
        day if day.starts_with("date") || day.starts_with("timestamp") => Some(far_day),
        _ => None,
    }
}

/// A day of a year with a sign (ISO 8601, 4.1.2.4), in which there is a year 0, as the server reads it; none where it has
/// no sign and is of our era.
fn far_day(text: &str) -> Option<String> {
    if let Some(rest) = text.strip_prefix("0000-") {
        return Some(format!("0001-{rest} BC"));
    }
    let (year, rest) = text.get(1..)?.split_once('-')?;
    let number: u32 = year.parse().ok().filter(|_| (4..=6).contains(&year.len()))?;
    match text.as_bytes().first()? {
        b'-' => Some(format!("{:04}-{rest} BC", number + 1)),
        b'+' => Some(format!("{number:04}-{rest}")),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn years_with_a_sign_are_years_of_an_era() {
        for (text, wanted) in [
            ("-4712-01-01", Some("4713-01-01 BC")),
            ("-0043-03-15T12:00:00Z", Some("0044-03-15T12:00:00Z BC")),
            ("0000-12-31", Some("0001-12-31 BC")),
            ("+012031-02-03", Some("12031-02-03")),
            ("2031-02-03", None),
            ("-infinity", None),
            ("", None),
        ] {
            assert_eq!(far_day(text).as_deref(), wanted, "{text}");
        }
    }
}
