//! Putting text into cells, cleaned.

use jaunty_language::text::clean::{self, pieces};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Fills an area with a style.
pub fn fill(cells: &mut Buffer, area: Rect, style: Style) {
    let area = area.intersection(cells.area);
    for y in area.top()..area.bottom() {
        for x in area.left()..area.right() {
            if let Some(cell) = cells.cell_mut((x, y)) {
                cell.reset();
                cell.set_style(style);
            }
        }
    }
}

/// Puts `text` at (x, y), cleaned, as far as it fits before `end`. Returns the next free column.
pub fn put(cells: &mut Buffer, x: u16, y: u16, end: u16, text: &str, style: Style) -> u16 {
    let mut at = x;
    for piece in pieces(text) {
        match symbol(cells, at, y, end, &piece.shown, piece.width, style) {
            Some(next) => at = next,
            None => break,
        }
    }
    at
}

/// Puts one piece; none if it does not fit.
pub fn symbol(cells: &mut Buffer, x: u16, y: u16, end: u16, shown: &str, width: usize, style: Style) -> Option<u16> {
    let next = x + width as u16;
    if next > end {
        return None;
    }
    cells.cell_mut((x, y))?.set_symbol(shown).set_style(style);
    // The second cell of a wide character is covered by it.
    for covered in x + 1..next {
        if let Some(cell) = cells.cell_mut((covered, y)) {
            cell.set_symbol(" ").set_style(style);
        }
    }
    Some(next)
}

/// Puts `text` so that it ends before `end`; where there is no room for all of it an ellipsis stands at its end.
pub fn put_right(cells: &mut Buffer, start: u16, y: u16, end: u16, text: &str, style: Style) -> u16 {
    let fitted = clean::fit(text, usize::from(end.saturating_sub(start)));
    if fitted.cut {
        put_cut(cells, start, y, end, text, style);
        return start;
    }
    let x = end.saturating_sub(fitted.width as u16);
    put(cells, x, y, end, &fitted.text, style);
    x
}

/// Puts a line of keys, parts with ` · ` between, so that it ends before `end`. Where there is no room for all, those
/// before the last are left out for an ellipsis: the last says how to get away.
pub fn put_hint(cells: &mut Buffer, start: u16, y: u16, end: u16, hint: &str, style: Style) -> u16 {
    let room = usize::from(end.saturating_sub(start));
    let mut parts: Vec<&str> = hint.split(" · ").collect();
    let mut line = hint.to_owned();
    while clean::width(&line) > room && parts.len() > 1 {
        let last = parts.pop().unwrap_or_default();
        parts.pop();
        line = [&parts[..], &["…", last]].concat().join(" · ");
        parts.push(last);
    }
    put_right(cells, start, y, end, &line, style)
}

/// Puts `text`, and an ellipsis where it is cut.
pub fn put_cut(cells: &mut Buffer, x: u16, y: u16, end: u16, text: &str, style: Style) -> u16 {
    let fitted = clean::fit(text, usize::from(end.saturating_sub(x)));
    let at = put(cells, x, y, end, &fitted.text, style);
    if fitted.cut { put(cells, at, y, end, "…", style) } else { at }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hostile_text_stays_in_its_place() {
        let mut cells = Buffer::empty(Rect::new(0, 0, 12, 1));
        let next = put(&mut cells, 1, 0, 9, "\x1b[2Ja\u{202e}名b和c", Style::new());
        let line: String = (0..12).map(|x| cells[(x, 0)].symbol()).collect();
        assert_eq!((line.as_str(), next), (" ␛[2Ja�名    ", 9));
    }

    #[test]
    fn what_ends_at_the_right_says_that_it_is_cut() {
        let shown = |text: &str| {
            let mut cells = Buffer::empty(Rect::new(0, 0, 8, 1));
            let at = put_right(&mut cells, 2, 0, 8, text, Style::new());
            ((0..8).map(|x| cells[(x, 0)].symbol()).collect::<String>(), at)
        };
        assert_eq!(shown("quay"), ("    quay".into(), 4));
        assert_eq!(shown("harbour wall"), ("  harbo…".into(), 2));
    }

    #[test]
    fn the_way_out_is_said_however_narrow_it_is() {
        let shown = |width: u16| {
            let mut cells = Buffer::empty(Rect::new(0, 0, width, 1));
            put_hint(&mut cells, 0, 0, width, "enter rows · tab statement · esc closes", Style::new());
            (0..width).map(|x| cells[(x, 0)].symbol()).collect::<String>().trim().to_owned()
        };
        assert_eq!(shown(50), "enter rows · tab statement · esc closes");
        assert_eq!(shown(38), "enter rows · … · esc closes");
        assert_eq!(shown(20), "… · esc closes");
        assert_eq!(shown(10), "… · esc c…");
    }

    #[test]
    fn what_is_cut_says_so() {
        let mut cells = Buffer::empty(Rect::new(0, 0, 6, 1));
        put_cut(&mut cells, 0, 0, 6, "名前名前", Style::new());
        let line: String = [0, 2, 4, 5].map(|x| cells[(x, 0)].symbol()).concat();
        assert_eq!(line, "名前… ");
    }
}
