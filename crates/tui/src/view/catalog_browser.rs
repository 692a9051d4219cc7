//! The catalog, column by column, with the chosen object's first rows below.

use std::time::SystemTime;

use jaunty_core::run::sample::Sample;
use jaunty_language::text::clean;
use jaunty_seam::catalog::ObjectKind;
use jaunty_seam::rows::cell::CellKind;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::keys;
use crate::app::{App, CatalogBrowser};
use crate::paint::{fill, put, put_cut, put_hint, put_right};
use crate::theme::Role;
use jaunty_core::words;

/// The fewest lines with which there is room for rows below.
const ROWS_FROM: u16 = 22;

pub(super) fn draw(
    app: &App,
    walk: &CatalogBrowser,
    area: Rect,
    ground: Style,
    cells: &mut Buffer,
) -> Option<Position> {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let accent = ground.patch(app.theme.style(Role::Accent));
    let name = app.connection.name();
    let age = words::age(walk.catalog.age(SystemTime::now()));
    let title = format!("catalog of {name}");
    let x = put(cells, area.x + 1, area.y, area.right(), &title, accent);
    let known = walk.catalog.missing.as_ref().map(|missing| format!(" · {missing}")).unwrap_or_default();
    let x = put(cells, x + 2, area.y, area.right(), &format!("read {age} ago{known}"), faint);
    let hint = match (&app.status, walk.column) {
        (Some(told), _) => told.text.as_str(),
        (_, 2) => &keys(
            app,
            &[
                ("accept", "follows a reference, or writes"),
                ("catalog-back", "back"),
                ("catalog-rows", "rows"),
                ("catalog-reload", "reloads"),
            ],
        ),
        _ => {
            let does = [
                ("accept", "writes a statement"),
                ("catalog-rows", "rows"),
                ("catalog-left catalog-right", "columns"),
                ("close-overlay", "closes"),
            ];
            &format!("type to search · {}", keys(app, &does))
        }
    };
    put_hint(cells, x + 2, area.y, area.right().saturating_sub(1), hint, faint);
    let rows = if area.height >= ROWS_FROM { area.height * 2 / 5 } else { 0 };
    let top = Rect { y: area.y + 1, height: area.height.saturating_sub(rows + 1), ..area };
    let widths = columns(top.width);
    let mut x = top.x;
    let mut cursor = None;
    for (column, width) in widths.into_iter().enumerate() {
        let part = Rect { x, width, ..top };
        let at = draw_column(app, walk, column, part, ground, cells);
        if column == walk.column {
            cursor = at;
        }
        x += width;
    }
    if rows > 0 {
        let below = Rect { y: top.bottom(), height: rows, ..area };
        draw_rows(app, walk, below, cells);
    }
    cursor
}

/// How wide the columns are.
fn columns(width: u16) -> [u16; 3] {
    let schemas = (width / 7).clamp(12, 24);
    let objects = (width * 2 / 7).clamp(20, 44);
    [schemas, objects, width.saturating_sub(schemas + objects)]
}

/// What stands in a line of a column: a heading, text, what is faint beside it.
type Row = (Option<&'static str>, String, String);

fn rows_of(app: &App, walk: &CatalogBrowser, column: usize) -> Vec<Row> {
    match column {
        0 => {
            let here = app.connection.location.as_ref().map_or("", |location| location.schema.as_str());
            let row = |schema: &String| {
                let shown = if schema.is_empty() { "all".to_owned() } else { schema.clone() };
                let mark = if schema == here && !here.is_empty() { "here" } else { "" };
                (None, shown, mark.to_owned())
            };
            walk.schemas.iter().map(row).collect()
        }
        1 => {
            let objects = walk.objects.iter().filter_map(|at| walk.catalog.objects().get(*at));
            let schema = walk.schemas.get(walk.chosen[0]).map_or("", String::as_str);
            let row = |object: &jaunty_seam::catalog::Object| {
                let count = object.rows.map(words::number).unwrap_or_default();
                let beside = match object.kind {
                    ObjectKind::Table if object.is_partition() && !count.is_empty() => format!("part · {count}"),
                    ObjectKind::Table if !count.is_empty() => count,
                    ObjectKind::Keys => format!("{} · {count}", object.signature),
                    _ => object.kind_word().to_owned(),
                };
                let elsewhere = object.schema != schema && !object.schema.is_empty();
                let name = if elsewhere { format!("{}.{}", object.schema, object.name) } else { object.name.clone() };
                (None, name, beside)
            };
            objects.map(row).collect()
        }
        _ => {
            let mut section = "";
            let mut rows = Vec::new();
            for line in &walk.shape {
                let heading = (line.section != section).then_some(line.section);
                section = line.section;
                rows.push((heading, line.text.clone(), String::new()));
            }
            rows
        }
    }
}

fn draw_column(
    app: &App,
    walk: &CatalogBrowser,
    column: usize,
    area: Rect,
    ground: Style,
    cells: &mut Buffer,
) -> Option<Position> {
    let in_hand = column == walk.column;
    let faint = ground.patch(app.theme.style(Role::Faint));
    let heading = ["schema", "object", "shape"].get(column).copied().unwrap_or_default();
    let typed = walk.typed.get(column).map_or("", String::as_str);
    let end = area.right().saturating_sub(2);
    let style = if in_hand { ground.patch(app.theme.style(Role::Accent)) } else { faint };
    let x = put(cells, area.x + 1, area.y, end, heading, style);
    let x = if in_hand || !typed.is_empty() { put(cells, x + 1, area.y, end, "› ", style) } else { x };
    let x = put(cells, x, area.y, end, typed, ground);
    let rows = rows_of(app, walk, column);
    let chosen = walk.chosen.get(column).copied().unwrap_or(0);
    let room = usize::from(area.height.saturating_sub(2)).max(1);
    // Sections of the shape are set off to the left; the other columns need no room for that.
    let indent = if column == 2 { 16.min(area.width / 4) } else { 1 };
    let first = (chosen + 1 + usize::from(room > 4)).saturating_sub(room).min(rows.len().saturating_sub(room));
    for ((at, (section, text, beside)), y) in
        rows.iter().enumerate().skip(first).zip(area.y + 1..area.bottom().saturating_sub(1))
    {
        let is_chosen = at == chosen && (column < 2 || in_hand);
        let style = match (is_chosen, in_hand) {
            (true, true) => ground.patch(app.theme.style(Role::Selected)),
            (true, false) => ground.patch(app.theme.style(Role::Row)),
            _ => ground,
        };
        let line = Rect { x: area.x + indent, y, width: area.width.saturating_sub(indent + 1), height: 1 };
        fill(cells, line, style);
        if let Some(section) =
            section.or((at == first && column == 2).then(|| walk.shape.get(at).map_or("", |l| l.section)))
        {
            put_cut(cells, area.x + 1, y, area.x + indent, section, faint);
        }
        let beside_style = if is_chosen { style } else { style.patch(app.theme.style(Role::Faint)) };
        let taken = clean::width(beside) as u16 + 1;
        put_cut(
            cells,
            line.x + 1,
            y,
            line.right().saturating_sub(if beside.is_empty() { 0 } else { taken + 1 }),
            text,
            style,
        );
        put_right(cells, line.x + 4, y, line.right(), beside, beside_style);
    }
    if rows.is_empty() {
        put_cut(cells, area.x + 2, area.y + 1, end, "no match", faint);
    }
    Some(Position::new(x, area.y))
}

fn draw_rows(app: &App, walk: &CatalogBrowser, area: Rect, cells: &mut Buffer) {
    let ground = app.theme.style(Role::Value);
    fill(cells, area, ground);
    let faint = ground.patch(app.theme.style(Role::Faint));
    let Some(object) = walk.object() else { return };
    let tell = |text: &str, style: Style, cells: &mut Buffer| {
        put_cut(cells, area.x + 3, area.y + 1, area.right() - 1, text, style);
    };
    match &walk.sample {
        Some((name, Ok(sample))) if *name == object.to_name() => draw_sample(app, sample, area, ground, cells),
        Some((name, Err(error))) if *name == object.to_name() => {
            tell(&error.to_string(), ground.patch(app.theme.style(Role::Failed)), cells);
        }
        _ if !(object.kind.has_rows() || object.kind == ObjectKind::Keys) => tell("no rows", faint, cells),
        _ if app.connection.location.as_ref().is_some_and(|location| location.in_transaction()) => {
            let runs = keys(app, &[("catalog-rows", "runs the statement")]);
            tell(&format!("no preview while a transaction is open; {runs}"), faint, cells);
        }
        _ => tell("reading its first rows …", faint, cells),
    }
}

fn draw_sample(app: &App, sample: &Sample, area: Rect, ground: Style, cells: &mut Buffer) {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let mut x = area.x + 3;
    for (column, name) in sample.names.iter().enumerate() {
        let values = sample.rows.iter().filter_map(|row| row.get(column));
        let widest = values.clone().map(|(_, text)| clean::width(text)).max().unwrap_or(0).max(clean::width(name));
        let width = widest.clamp(1, 32) as u16;
        if x + 3 > area.right() {
            break;
        }
        let end = (x + width).min(area.right());
        let right = values.clone().any(|(kind, _)| *kind == CellKind::Number)
            && values.clone().all(|(kind, _)| matches!(kind, CellKind::Number | CellKind::Null));
        let place = |text: &str, y: u16, style: Style, cells: &mut Buffer| {
            if right && clean::width(text) <= usize::from(width) {
                put_right(cells, x, y, end, text, style);
            } else {
                put_cut(cells, x, y, end, text, style);
            }
        };
        place(name, area.y, faint, cells);
        for ((kind, text), y) in values.zip(area.y + 1..area.bottom()) {
            let style = if *kind == CellKind::Null { ground.patch(app.theme.style(Role::StandIn)) } else { ground };
            place(text, y, style, cells);
        }
        x += width + 2;
    }
    if sample.rows.is_empty() {
        put(cells, area.x + 3, area.y + 1, area.right(), "no rows", faint);
    }
}
