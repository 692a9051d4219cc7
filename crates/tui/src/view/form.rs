//! The form in which a profile is written.

use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::{heading, keys};
use crate::app::{App, Form};
use crate::paint::{fill, put, put_cut, put_hint, put_right};
use crate::theme::Role;
use jaunty_core::words;

/// Columns of the names.
const NAMES: u16 = 20;

/// Lines below the fields: one of help, and what trying it found.
const BELOW: u16 = 4;

/// How many lines it takes.
pub fn rows(form: &Form) -> u16 {
    form.shown().len() as u16 + BELOW
}

pub(super) fn draw(app: &App, form: &Form, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let style = |role| ground.patch(app.theme.style(role));
    let what = if form.changes_one() { "change" } else { "new connection" };
    heading(app, &format!("{what} · {}", form.title), area, ground, cells);
    let more = if form.all { "fewer" } else { "all" };
    let more = format!("{more} fields");
    let hint = keys(
        app,
        &[
            ("test-profile", "tests it"),
            ("save-profile", "saves and connects"),
            ("more-fields", &more),
            ("close-overlay", "closes"),
        ],
    );
    put_hint(cells, area.x + 24, area.y, area.right() - 1, &hint, style(Role::Faint));
    let lines = area.height.saturating_sub(BELOW + 1);
    let first = (form.chosen + 1).saturating_sub(usize::from(lines));
    let mut cursor = None;
    let values = area.x + 3 + NAMES;
    for ((position, at), y) in form.shown().into_iter().enumerate().skip(first).zip(area.y + 1..area.y + 1 + lines) {
        let field = &form.fields[at];
        let chosen = position == form.chosen;
        let line = if chosen { style(Role::Selected) } else { ground };
        fill(cells, Rect { y, height: 1, ..area }, line);
        put(cells, area.x + 1, y, area.right(), if chosen { "›" } else { " " }, line);
        let name = if chosen { line } else { style(Role::Accent) };
        put_cut(cells, area.x + 3, y, values - 1, field.key, name);
        let right = area.right() - 1;
        let secret = matches!(field.key, crate::app::PASSWORD | "password");
        let written = if secret { field.line.hidden() } else { field.line.clone() };
        // Of the one in hand that part is seen in which a person writes.
        let (seen, column) = written.seen(usize::from(right.saturating_sub(values)));
        if written.is_empty() {
            let faint = if chosen { line } else { style(Role::Faint) };
            put_cut(cells, values, y, right, field.usual, faint);
        } else if chosen {
            put(cells, values, y, right, seen, line);
        } else {
            put_cut(cells, values, y, right, written.text(), line);
        }
        if chosen {
            cursor = Some(Position::new(values + column as u16, y));
            if !field.words.is_empty() {
                let words = format!("left and right: {}", field.words.join(", "));
                put_right(cells, values + 14, y, right, &words, line);
            }
        }
    }
    let y = area.y + 1 + lines;
    if let Some(field) = form.field() {
        put_cut(cells, area.x + 3, y, area.right() - 1, field.help, style(Role::Faint));
    }
    match (&form.trying, &form.status) {
        (Some(since), _) => {
            let text = format!("trying … {}", words::age(since.elapsed()));
            put_cut(cells, area.x + 3, y + 1, area.right() - 1, &text, style(Role::Running));
        }
        (None, Some((well, lines))) => {
            let role = if *well { Role::Done } else { Role::Failed };
            for (index, (line, y)) in lines.iter().zip(y + 1..area.bottom()).enumerate() {
                let shown = if index == 0 { style(role) } else { ground };
                put_cut(cells, area.x + 3, y, area.right() - 1, &clean::clean(line), shown);
            }
        }
        (None, None) => {}
    }
    cursor
}
