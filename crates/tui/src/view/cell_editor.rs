//! The editor of one value.

use jaunty_core::slip::{Datum, Mistake};
use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::{heading, input, keys};
use crate::app::{App, CellEditor};
use crate::paint::{fill, put, put_cut, put_hint};
use crate::theme::Role;
use jaunty_core::words;

/// So many choices are shown at a time.
const CHOICES: usize = 8;

/// How many lines it takes, but for the line of input.
pub fn rows(editor: &CellEditor) -> u16 {
    2 + editor.choices.len().min(CHOICES) as u16
}

pub(super) fn draw(app: &App, editor: &CellEditor, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let style = |role| ground.patch(app.theme.style(role));
    let of = editor.of()?;
    let column = clean::clean(&of.column.name);
    let within = clean::clean(&editor.within);
    let mut title = format!("{column}{}{within}", if within.is_empty() { "" } else { "." });
    let about = clean::clean(editor.type_name());
    title.push_str(&format!("{}{about}", if about.is_empty() { "" } else { " · " }));
    if !of.column.nullable && editor.head.ground.place.is_none() {
        title.push_str(" · not NULL");
    }
    if let Some((table, key)) = &of.references {
        title.push_str(&format!(" · references {}.{}", clean::clean(&table.name), clean::clean(key)));
    }
    if editor.rows() > 1 {
        title.push_str(&format!(" · {}", words::count(editor.rows() as u64, "row")));
    }
    let can = |value: &Datum| editor.head.allows(editor.field, value).is_ok();
    let has_default = of.column.default.is_some() || of.numbered;
    let mut does = vec![("accept", "drafts it")];
    does.extend(can(&Datum::Null).then_some(("cell-null", "NULL")));
    does.extend((has_default && can(&Datum::Default)).then_some(("cell-default", "default")));
    does.extend(can(&Datum::Absent).then_some(("cell-default", "not there")));
    does.extend([("cell-outside", "text editor"), ("close-overlay", "closes")]);
    let hint = keys(app, &does);
    let after = heading(app, &title, area, ground, cells);
    put_hint(cells, after + 2, area.y, area.right() - 1, &hint, style(Role::Faint));
    // What was there, or what is wrong with what is to be.
    let y = area.y + 1;
    match (&app.status, &editor.mistake, &editor.was) {
        (Some(told), ..) if told.wrong => {
            put_cut(cells, area.x + 3, y, area.right() - 1, &told.text, style(Role::Failed));
        }
        (_, Some(mistake), _) => {
            let role = if matches!(mistake, Mistake::Wrong(_)) { Role::Failed } else { Role::Stopped };
            let unusual = if matches!(mistake, Mistake::Wrong(_)) { "" } else { " (it can be stored all the same)" };
            let text = format!("{}{unusual}", clean::clean(mistake.text()));
            put_cut(cells, area.x + 3, y, area.right() - 1, &text, style(role));
        }
        (_, None, Some(was)) => {
            let x = put(cells, area.x + 3, y, area.right(), "was ", style(Role::Faint));
            put_datum(app, was, (x, y, area.right() - 1), ground, cells);
        }
        (_, None, None) => {}
    }
    let found = editor.found();
    let first = editor.chosen.map_or(0, |at| (at + 1).saturating_sub(CHOICES));
    for ((at, choice), y) in
        found.iter().enumerate().skip(first).take(CHOICES).zip(area.y + 2..area.bottom().saturating_sub(1))
    {
        let chosen = editor.chosen == Some(at);
        let line = if chosen { style(Role::Selected) } else { ground };
        fill(cells, Rect { y, height: 1, ..area }, line);
        put(cells, area.x + 1, y, area.right(), if chosen { "›" } else { " " }, line);
        let x = put_cut(cells, area.x + 3, y, area.x + 27, &clean::clean(&choice.value), line);
        let about = if chosen { line } else { style(Role::Faint) };
        put_cut(cells, x.max(area.x + 14) + 2, y, area.right() - 1, &editor.about(choice), about);
    }
    match (&editor.given, editor.chosen) {
        (None, None) => input(app, "› ", &editor.line, area, ground, cells),
        (given, _) => {
            let y = area.bottom().checked_sub(1)?;
            fill(cells, Rect { y, height: 1, ..area }, ground);
            let x = put(cells, area.x + 1, y, area.right(), "› ", style(Role::Accent));
            let chosen = editor.chosen_text().map(Datum::Text);
            let value = given.clone().or(chosen)?;
            put_datum(app, &value, (x, y, area.right() - 1), ground, cells);
            None
        }
    }
}

/// Puts a value: NULL, defaults and an empty text stand out from texts that look like them. Returns where it ends.
pub(super) fn put_datum(
    app: &App,
    value: &Datum,
    (x, y, end): (u16, u16, u16),
    ground: Style,
    cells: &mut Buffer,
) -> u16 {
    match value {
        Datum::Text(text) if text.is_empty() => put(cells, x, y, end, "''", ground.patch(app.theme.style(Role::Faint))),
        value if value.is_word() => put(cells, x, y, end, value.shown(), ground.patch(app.theme.style(Role::StandIn))),
        value => put_cut(cells, x, y, end, &clean::clean(value.shown()), ground),
    }
}
