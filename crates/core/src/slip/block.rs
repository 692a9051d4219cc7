//! A block of cells from a clipboard, as spreadsheets and result panes write one: lines of fields with tabs between.

/// Reads a block. Fields in quotes may hold tabs, line ends and doubled quotes; the last line end ends the last line.
pub fn read(text: &str) -> Vec<Vec<String>> {
    let (mut rows, mut row, mut field) = (Vec::new(), Vec::new(), String::new());
    let mut rest = text.chars().peekable();
    let mut quoted = false;
    let mut begins = true;
    while let Some(c) = rest.next() {
        match c {
            '"' if quoted && rest.peek() == Some(&'"') => {
                rest.next();
                field.push('"');
            }
            '"' if quoted && rest.peek().is_none_or(|next| matches!(next, '\t' | '\n' | '\r')) => quoted = false,
            '"' if begins && closes(rest.clone()) => quoted = true,
            '\t' if !quoted => row.push(std::mem::take(&mut field)),
            '\r' if !quoted && rest.peek() == Some(&'\n') => {}
            '\n' | '\r' if !quoted => {
                row.push(std::mem::take(&mut field));
                rows.push(std::mem::take(&mut row));
            }
            c => field.push(c),
        }
        begins = !quoted && matches!(c, '\t' | '\n' | '\r');
    }
    if !field.is_empty() || !row.is_empty() {
        row.push(field);
        rows.push(row);
    }
    rows
}

/// Whether a field that begins with a quote ends with one: a lone quote is a character.
fn closes(mut rest: std::iter::Peekable<impl Iterator<Item = char>>) -> bool {
    while let Some(c) = rest.next() {
        if c == '"' {
            match rest.peek() {
                Some('"') => {
                    rest.next();
                }
                None | Some('\t' | '\n' | '\r') => return true,
                Some(_) => return false,
            }
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::read;

    #[test]
    fn a_block_is_read_as_spreadsheets_write_it() {
        for (text, expected) in [
            ("a", &[&["a"][..]][..]),
            ("a\tb\n1\t\n", &[&["a", "b"], &["1", ""]]),
            ("a\r\nb\r\n", &[&["a"], &["b"]]),
            ("\"two\nlines\"\t\"a \"\"b\"\"\"", &[&["two\nlines", "a \"b\""]]),
            ("5\" pipe\t\"", &[&["5\" pipe", "\""]]),
            ("\"half\tb", &[&["\"half", "b"]]),
        ] {
            assert_eq!(read(text), expected, "{text:?}");
        }
        assert!(read("").is_empty());
    }
}
