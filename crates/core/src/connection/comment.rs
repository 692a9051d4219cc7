//! The connection that a comment at the top of a text names: `-- connection: bookings-dev`.

use jaunty_language::split::CONNECTION;

/// It stands in one of so many lines at the top.
const LINES: usize = 5;

/// The name, if one of the first lines is such a comment; `marks` begin comments to the end of a line.
pub fn named(lines: impl IntoIterator<Item = impl AsRef<str>>, marks: &[&str]) -> Option<String> {
    lines.into_iter().take(LINES).find_map(|line| {
        let line = line.as_ref().trim_start_matches('\u{feff}').trim_start();
        let inside = marks.iter().find_map(|mark| line.strip_prefix(mark))?;
        let name = inside.trim_start().strip_prefix(CONNECTION)?.trim();
        (!name.is_empty()).then(|| name.to_owned())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_comment_at_the_top_names_a_connection() {
        let of = |text: &str| named(text.lines(), &["--", "#"]);
        assert_eq!(of("-- connection: ferry\nselect 7").as_deref(), Some("ferry"));
        assert_eq!(of("# Ports\n\n  #connection:  quay-1  \nget a").as_deref(), Some("quay-1"));
        assert_eq!(of("\u{feff}-- connection: ferry\r\n").as_deref(), Some("ferry"), "behind the mark of the encoding");
        assert_eq!(of("-- connection:\n// connection: ferry\nselect '-- connection: x'"), None);
        assert_eq!(of("\n\n\n\n\n-- connection: ferry\n"), None, "further down it is about something else");
    }
}
