//! A row with its names down the side, or one value alone.

use jaunty_language::text::clean;
use jaunty_seam::rows::cell::CellKind;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::{Modifier, Style};

use super::overlay::{input, keys};
use crate::app::{App, RowDetail};
use crate::paint::{fill, put, put_cut, put_hint, put_right};
use crate::row::{Field, Line, columns, left};
use crate::theme::Role;
use jaunty_core::words;

/// Lines above those of the row: what is looked at, and what is known of the line in hand.
pub const HEAD: u16 = 2;

pub(super) fn draw(app: &App, whole: &RowDetail, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    draw_head(app, whole, area, ground, cells);
    let inside = Rect { y: area.y + HEAD, height: area.height.saturating_sub(HEAD), ..area };
    for (at, y) in whole.shown(usize::from(inside.height)).into_iter().zip(inside.y..) {
        let Some(line) = whole.lines.get(at) else { continue };
        let chosen = at == whole.chosen;
        let base = if chosen { ground.patch(app.theme.style(Role::Row)) } else { ground };
        let place = Rect { y, height: 1, ..inside };
        fill(cells, place, base);
        if chosen {
            put(cells, place.x + 1, y, place.right(), "›", base.patch(app.theme.style(Role::Accent)));
        }
        draw_line(app, whole, (at, line), place, base, cells);
    }
    if whole.typing {
        return input(app, "/ ", &whole.sought, area, ground, cells);
    }
    None
}

fn draw_head(app: &App, whole: &RowDetail, area: Rect, ground: Style, cells: &mut Buffer) {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let title = match whole.alone.and_then(|column| whole.fields.get(column)) {
        Some(field) => format!("{} · row {}", field.name, words::number(whole.at + 1)),
        None if whole.alone.is_some() => format!("row {} as JSON", words::number(whole.at + 1)),
        None => format!("row {} of {}", words::number(whole.at + 1), words::number(app.rows.total())),
    };
    let found = match whole.sought.is_empty() {
        true => String::new(),
        false => format!("{} · ", words::count(whole.found() as u64, "place")),
    };
    let does = keys(
        app,
        &[
            ("previous-row next-row", "other rows"),
            ("accept", "folds or shows a value"),
            ("as-json", "as JSON"),
            ("search-row", "searches"),
            ("copy-value", "copies"),
            ("close-overlay", "closes"),
        ],
    );
    let hint = format!("{found}{does}");
    let start = put_hint(cells, area.x + 20, area.y, area.right() - 1, &hint, faint);
    let strong = ground.patch(app.theme.style(Role::Accent));
    put_cut(cells, area.x + 1, area.y, start.saturating_sub(2), &title, strong);
    let Some(line) = whole.lines.get(whole.chosen) else { return };
    if let Some(field) = whole.fields.get(line.column) {
        put_cut(cells, area.x + 3, area.y + 1, area.right() - 1, &nature(field), faint);
    }
    // Of a value alone, how far down the line in hand is.
    if whole.alone.is_some() && whole.lines.len() > usize::from(area.height.saturating_sub(HEAD)) {
        let (at, of) = (whole.chosen as u64 + 1, whole.lines.len() as u64);
        let place = format!("line {} of {}", words::number(at), words::number(of));
        put_right(cells, area.x + 20, area.y + 1, area.right() - 1, &place, faint);
    }
}

fn draw_line(app: &App, whole: &RowDetail, (at, line): (usize, &Line), place: Rect, base: Style, cells: &mut Buffer) {
    let Some(field) = whole.fields.get(line.column) else { return };
    let (y, end) = (place.y, place.right() - 1);
    if line.first && whole.alone.is_none() {
        let (names, types) = columns(&whole.fields);
        let x = place.x + 3;
        put_cut(cells, x, y, x + names, &field.name, base.patch(app.theme.style(Role::Keyword)));
        let faint = base.patch(app.theme.style(Role::Faint));
        put_cut(cells, x + names + 2, y, x + names + types + 3, &field.type_name, faint);
    }
    let x = place.x + left(&whole.fields, whole.alone.is_some());
    let style = value_style(app, field, line, base);
    let after = put_cut(cells, x, y, end, &line.text, style);
    if let Some(closes) = line.closes {
        let sign = match whole.is_folded(at) {
            true => format!(" … {} ", words::count((closes - at - 1) as u64, "line")),
            false => " ▾".to_owned(),
        };
        put_cut(cells, after, y, end, &sign, base.patch(app.theme.style(Role::Faint)));
    }
    let in_hand = whole.place_in_hand();
    for spot in whole.places_in(at) {
        let width = |text: Option<&str>| clean::width(text.unwrap_or_default()) as u16;
        let from = x + width(line.text.get(..spot.range.start));
        let mark = match in_hand.is_some_and(|place| place == spot) {
            true => app.theme.style(Role::Selected),
            false => app.theme.style(Role::Accent),
        };
        for x in from..(from + width(line.text.get(spot.range.clone()))).min(end) {
            if let Some(cell) = cells.cell_mut((x, y)) {
                cell.set_style(cell.style().patch(mark).add_modifier(Modifier::UNDERLINED));
            }
        }
    }
}

/// What a field is, in words: its type, whether it can be missing, and where it comes from.
fn nature(field: &Field) -> String {
    let mut parts = vec![field.name.clone()];
    parts.extend(Some(field.type_name.clone()).filter(|name| !name.is_empty()));
    if let Some(origin) = &field.origin {
        let whole = [&origin.schema, &origin.table, &origin.column];
        let path: Vec<&str> = whole.into_iter().map(String::as_str).filter(|part| !part.is_empty()).collect();
        parts.push(format!("from {}", clean::clean(&path.join("."))));
        parts.push(if origin.required { "NOT NULL there" } else { "may be NULL" }.to_owned());
    }
    parts.join(" · ")
}

fn value_style(app: &App, field: &Field, line: &Line, base: Style) -> Style {
    match field.kind {
        _ if line.is_note => base.patch(app.theme.style(Role::Faint)),
        CellKind::Null => base.patch(app.theme.style(Role::StandIn)),
        CellKind::Binary => base.patch(app.theme.style(Role::Name)),
        CellKind::Text if field.bytes == 0 => base.patch(app.theme.style(Role::Faint)),
        _ => base,
    }
}
