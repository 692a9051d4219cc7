//! A row with its names down the side, or one value alone.

use jaunty_core::rows::cell::CellKind;
use jaunty_core::text::clean;
use jaunty_core::text::wrap::wrapped;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::summoned::input;
use crate::app::{App, Line, Whole};
use crate::pager::Field;
use crate::paint::{fill, put, put_cut, put_right};
use crate::theme::Role;
use crate::words;

pub(super) fn draw(app: &App, whole: &Whole, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let strong = ground.patch(app.theme.style(Role::Accent));
    let title = match whole.alone.and_then(|column| whole.fields.get(column)) {
        Some(field) => format!("{} · row {}", field.name, words::number(whole.at + 1)),
        None => format!("row {} of {}", words::number(whole.at + 1), words::number(app.rows.total())),
    };
    let found = if whole.sought.is_empty() {
        String::new()
    } else {
        format!("{} · ", words::count(whole.found as u64, "line"))
    };
    let hint = format!(
        "{found}left and right other rows · enter folds or shows a value alone · / searches · c copies · esc leaves"
    );
    let start = put_right(cells, area.x + 20, area.y, area.right() - 1, &hint, faint);
    put_cut(cells, area.x + 1, area.y, start.saturating_sub(2), &title, strong);
    if let Some(field) = whole.lines.get(whole.chosen).and_then(|line| whole.fields.get(line.column)) {
        put_cut(cells, area.x + 3, area.y + 1, area.right() - 1, &nature(field), faint);
    }
    let inside = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    let names = whole.fields.iter().map(|field| clean::width(&field.name)).max().unwrap_or(0).min(28) as u16;
    let types = whole.fields.iter().map(|field| clean::width(&field.type_name)).max().unwrap_or(0).min(20) as u16;
    let left = if whole.alone.is_some() { inside.x + 3 } else { inside.x + 3 + names + 2 + types + 2 };
    let room = usize::from(inside.right().saturating_sub(left + 1)).max(10);
    // Each line takes as many of the screen as its text needs.
    // Of a value of many thousands only what is near the one in hand is laid out.
    let (visible, height) = (whole.visible(), usize::from(inside.height));
    let place = visible.partition_point(|at| *at < whole.chosen);
    let near = place.saturating_sub(height)..(place + height).min(visible.len());
    let laid: Vec<(usize, Vec<String>)> = visible
        .get(near)
        .unwrap_or_default()
        .iter()
        .filter_map(|at| Some((*at, parts(whole, *at, whole.lines.get(*at)?, room))))
        .collect();
    let skip = first_shown(&laid, whole.chosen, usize::from(inside.height));
    let mut y = inside.y;
    for (at, parts) in laid.iter().skip(skip) {
        let Some(line) = whole.lines.get(*at) else { continue };
        let Some(field) = whole.fields.get(line.column) else { continue };
        let chosen = *at == whole.chosen;
        let base = if chosen { ground.patch(app.theme.style(Role::Row)) } else { ground };
        for (n, part) in parts.iter().enumerate() {
            if y >= inside.bottom() {
                return None;
            }
            fill(cells, Rect { y, height: 1, ..inside }, base);
            if chosen && n == 0 {
                put(cells, inside.x + 1, y, inside.right(), "›", base.patch(app.theme.style(Role::Accent)));
            }
            if line.first && n == 0 && whole.alone.is_none() {
                let end = inside.x + 3 + names;
                put_cut(cells, inside.x + 3, y, end, &field.name, base.patch(app.theme.style(Role::Keyword)));
                put_cut(
                    cells,
                    end + 2,
                    y,
                    end + 2 + types + 1,
                    &field.type_name,
                    base.patch(app.theme.style(Role::Faint)),
                );
            }
            let style = value_style(app, field.kind, &field.text, base);
            let style = if whole.matches(line) { style.patch(app.theme.style(Role::Accent)) } else { style };
            put_cut(cells, left, y, inside.right() - 1, part, style);
            y += 1;
        }
    }
    if whole.typing {
        return input(app, "/ ", &whole.sought, area, ground, cells);
    }
    None
}

/// What a field is, in words: its type, whether it can be missing, and where it comes from.
fn nature(field: &Field) -> String {
    let mut parts = vec![field.name.clone()];
    parts.extend(Some(field.type_name.clone()).filter(|name| !name.is_empty()));
    if let Some(origin) = &field.origin {
        let whole = [&origin.schema, &origin.table, &origin.column];
        let path: Vec<&str> = whole.into_iter().map(String::as_str).filter(|part| !part.is_empty()).collect();
        parts.push(format!("from {}", clean::clean(&path.join("."))));
        parts.push(if origin.required { "never NULL there" } else { "may be NULL" }.to_owned());
    }
    parts.join(" · ")
}

fn value_style(app: &App, kind: CellKind, text: &str, base: Style) -> Style {
    match kind {
        CellKind::Null => base.patch(app.theme.style(Role::StandIn)),
        CellKind::Binary => base.patch(app.theme.style(Role::Name)),
        CellKind::Text if text.is_empty() => base.patch(app.theme.style(Role::Faint)),
        _ => base,
    }
}

/// The text of a line, wrapped; with what is folded away, and with the size of bytes and of what is cut.
fn parts(whole: &Whole, at: usize, line: &Line, room: usize) -> Vec<String> {
    let Some(field) = whole.fields.get(line.column) else { return Vec::new() };
    let mut text = match field.kind {
        CellKind::Text if field.text.is_empty() => "'' (no characters)".to_owned(),
        // Blanks that could not be seen are.
        CellKind::Text if line.text.chars().all(|c| c == ' ') && !line.text.is_empty() => {
            format!("{} ({})", "␣".repeat(line.text.len()), words::count(line.text.len() as u64, "blank"))
        }
        CellKind::Binary if field.bytes == 0 => "x'' (no bytes)".to_owned(),
        _ => line.text.clone(),
    };
    if let Some(closes) = line.closes.filter(|_| whole.is_folded(at)) {
        text.push_str(&format!(" … {} ", words::count((closes - at - 1) as u64, "line")));
    } else if line.closes.is_some() {
        text.push_str(" ▾");
    }
    let mut parts = Vec::new();
    if line.first && field.kind == CellKind::Binary && field.bytes > 0 {
        parts.push(words::bytes(field.bytes as u64));
    }
    // A line of bytes is as wide as it is.
    match field.kind {
        CellKind::Binary => parts.push(text),
        _ => parts.extend(wrapped(&text, room)),
    }
    let shown = if field.kind == CellKind::Binary { field.text.len() / 2 } else { field.text.len() };
    let last = whole.lines.get(at + 1).is_none_or(|next| next.column != line.column);
    if last && shown < field.bytes && field.kind != CellKind::Null {
        parts.push(format!("… {} in all; c copies all of it", words::bytes(field.bytes as u64)));
    }
    parts
}

/// How many lines are left out above, so that the one in hand is in sight.
fn first_shown(laid: &[(usize, Vec<String>)], chosen: usize, height: usize) -> usize {
    let place = laid.iter().position(|(at, _)| *at >= chosen).unwrap_or(0);
    let mut taken = 0;
    let mut first = place;
    for (at, (_, parts)) in laid.iter().enumerate().take(place + 1).rev() {
        taken += parts.len();
        if taken > height {
            break;
        }
        first = at;
    }
    first
}
