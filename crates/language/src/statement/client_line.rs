//! Lines of the servers' own command-line clients. They are not SQL, and no server knows them. Where one stands in a buffer
//! the error says so, and how the same is done here.

/// What such lines begin with, and our own way to do the same.
const WAYS: &[(&str, &str)] = &[
    ("\\dt", "The action \"Tables\", or jaunty schema, lists tables and views."),
    ("\\d", "The action \"Tables\", or jaunty schema, lists tables and views."),
    ("\\l", "The action \"Switch database\" lists databases."),
    (
        "\\connect",
        "Use the actions \"Connections\" and \"Switch database\"; a script goes on there by --from and the next line.",
    ),
    ("\\copy", "Use copy … to stdout, or jaunty run --output with a file."),
    ("\\c", "Use the actions \"Connections\" and \"Switch database\"."),
    ("\\u", "Use the action \"Switch database\", or the statement use name."),
    ("\\i", "Open that file as a buffer: jaunty FILE."),
    ("\\.", "Open that file as a buffer: jaunty FILE."),
    ("\\timing", "Each statement shows how long it ran."),
    ("\\t", "Each statement shows how long it ran."),
    ("\\q", "The action \"Quit\" does this."),
    ("\\G", "Leave it out: the result pane shows the rows."),
    ("\\g", "Leave it out: the action \"Run statement\" does this."),
    (".tables", "The action \"Tables\", or jaunty schema, lists tables and views."),
    (".schema", "The catalog shows definitions, and so does jaunty schema with a name."),
    (".indexes", "The catalog shows the indexes of a table, and so does jaunty schema with a name."),
    (".databases", "The action \"Connections\" lists what can be opened."),
    (".open", "The action \"Connections\" opens another database; so does jaunty FILE."),
    (".read", "Open that file as a buffer: jaunty FILE, or run it: jaunty run FILE."),
    (".import", "jaunty load, or the action \"Load a file\", does this."),
    (".dump", "jaunty dump does this."),
    (".mode", "Rows are exported in any format: --format, or the action \"Export\"."),
    (".headers", "Rows are exported in any format: --format, or the action \"Export\"."),
    (".quit", "The action \"Quit\" does this."),
    (".exit", "The action \"Quit\" does this."),
    ("quit", "The action \"Quit\" does this."),
    ("exit", "The action \"Quit\" does this."),
    ("help", "The list of actions has every action, and help for a word is an action, too."),
    ("clear", "There is nothing to clear here."),
    ("go", "Statements end at a semicolon or a blank line; go parts batches of SQL Server alone."),
    ("source", "Open that file as a buffer: jaunty FILE, or run it: jaunty run FILE."),
];

/// A line of a client.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClientLine<'a> {
    /// Its first word.
    pub word: &'a str,
    /// How the same is done here, as a sentence.
    pub way: &'static str,
}

impl ClientLine<'_> {
    /// What is wrong with it, as a sentence without a full stop.
    pub fn sentence(&self) -> String {
        format!("{} is a command of a command-line client, not a statement", self.word)
    }
}

/// Whether a statement is a line that says something to a client alone, and nothing of the database: what the servers' own
/// programs for copies put into scripts, so that a client carries no other lines of its own out.
pub fn is_for_clients_alone(statement: &str) -> bool {
    matches!(statement.split_whitespace().next(), Some("\\restrict" | "\\unrestrict"))
}

/// The line of a client that a statement is; nothing where it is none. A word that could begin a statement is only looked at
/// where a server refused it.
pub fn client_line(statement: &str, refused: bool) -> Option<ClientLine<'_>> {
    let word = statement.split_whitespace().next()?.trim_end_matches(';');
    let is_command = word.starts_with('\\') || (refused && word.starts_with('.'));
    let fits = |(start, _): &&(&str, &str)| match is_command {
        true => word.starts_with(start),
        false => refused && word.eq_ignore_ascii_case(start),
    };
    let known = WAYS.iter().filter(fits).max_by_key(|(start, _)| start.len()).map(|(_, way)| *way);
    let way = known.or(is_command.then_some("The list of actions has every action."))?;
    Some(ClientLine { word, way })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_a_client_has_a_way_of_ours() {
        let line = client_line("\\dt+ ports", false).unwrap();
        assert_eq!(line.sentence(), "\\dt+ is a command of a command-line client, not a statement");
        assert!(line.way.contains("tables"), "{}", line.way);
        assert!(is_for_clients_alone("\\restrict a7") && is_for_clients_alone("\\unrestrict a7"));
        for (statement, refused, way) in [
            ("\\zz", false, Some("The list of actions")),
            (".tables", true, Some("jaunty schema")),
            (".tables", false, None),
            ("EXIT;", true, Some("Quit")),
            ("exit", false, None),
            ("select '\\d'", true, None),
            ("helper", true, None),
            ("", true, None),
        ] {
            let found = client_line(statement, refused).map(|line| line.way);
            assert_eq!(found.is_some(), way.is_some(), "{statement}");
            assert!(!is_for_clients_alone(statement), "{statement}");
            assert!(found.unwrap_or_default().contains(way.unwrap_or_default()), "{statement}");
        }
    }
}
