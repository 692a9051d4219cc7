//! The connection that a comment at the top of a text names: `-- connection: bookings-dev`.

use std::path::Path;

use jaunty_language::split::CONNECTION;
use jaunty_language::{dialect, host};

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

/// What begins comments to the end of a line in a file with this ending: those of the program code or of the dialect, or
/// those of SQL.
pub fn marks(path: &Path) -> &'static [&'static str] {
    let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    let of_code = host::by_ending(ending).map(|host| host.line_comments);
    of_code.or_else(|| dialect::by_extension(ending).map(|dialect| dialect.line_comments)).unwrap_or(&["--"])
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

    #[test]
    fn the_ending_of_a_file_gives_the_marks_of_its_comments() {
        let of = |name: &str| marks(Path::new(name));
        assert!(of("fares.sql").contains(&"--") && of("fares").contains(&"--"));
        assert!(of("fares.py").contains(&"#") && !of("fares.py").contains(&"--"));
        assert!(of("fares.rs").contains(&"//"));
    }
}
