//! Loading a file: what is said of it at the left, where its columns go at the right, its first rows below.

use std::sync::atomic::Ordering;

use jaunty_core::import::preview::Preview;
use jaunty_core::import::{Dates, Format, Numbers};
use jaunty_core::words;
use jaunty_language::text::clean;
use jaunty_language::text::wrap::wrapped;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::{heading, keys};
use crate::app::{App, ImportView};
use crate::line::Line;
use crate::paint::{fill, put, put_cut, put_hint, put_right};
use crate::theme::Role;

/// Columns of the names of fields.
const NAMES: u16 = 11;

/// The widest column of the first rows.
const WIDEST: u16 = 28;

pub(super) fn draw(app: &App, view: &ImportView, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let style = |role| ground.patch(app.theme.style(role));
    let after = heading(app, &format!("load a file · {}", clean::clean(&view.profile.name)), area, ground, cells);
    let hint = match &view.loading {
        Some(_) => keys(app, &[("close-overlay", "stops")]),
        None if matches!(view.ended, Some(Ok(_))) => keys(app, &[("close-overlay", "closes")]),
        None => {
            let clipboard = ("import-clipboard", "takes the clipboard");
            keys(app, &[("load-rows", "loads"), clipboard, ("accept", "next"), ("close-overlay", "closes")])
        }
    };
    put_hint(cells, after + 2, area.y, area.right() - 1, &hint, style(Role::Faint));
    let half = (area.width * 2 / 5).clamp(44, 64).min(area.width);
    let top = Rect { y: area.y + 1, height: (view.fields.len() as u16).min(area.height.saturating_sub(2)), ..area };
    let left = Rect { width: half, ..top };
    let right = Rect { x: area.x + half, width: area.width - half, ..top };
    let mut cursor = None;
    for ((at, field), y) in view.fields.iter().enumerate().zip(left.y..left.bottom()) {
        let chosen = at == view.chosen && view.loading.is_none();
        let base = if chosen { style(Role::Selected) } else { ground };
        fill(cells, Rect { y, height: 1, ..left }, base);
        put(cells, left.x + 1, y, left.right(), if chosen { "›" } else { " " }, base);
        let name = if chosen { base } else { style(Role::Accent) };
        put_cut(cells, left.x + 3, y, left.x + 3 + NAMES, field.name, name);
        let usual = found(view, field.name).unwrap_or_else(|| field.usual.clone());
        let place = (left.x + 3 + NAMES + 1, y, left.right() - 1);
        let column = draw_line(&field.line, &usual, place, (base, style(Role::Faint)), chosen, cells);
        if chosen {
            cursor = Some(Position::new(column, y));
            if !field.words.is_empty() {
                put_right(cells, place.0 + 14, y, place.2, "‹ ›", base);
            }
        }
    }
    draw_columns(app, view, right, ground, cells, &mut cursor);
    let mut y = top.bottom();
    put(cells, area.x, y, area.right(), &"─".repeat(usize::from(area.width)), style(Role::Rule));
    y += 1;
    let mut say = |text: &str, role: Role| {
        for line in wrapped(&clean::clean(text), usize::from(area.width.saturating_sub(4)).max(1)).iter().take(3) {
            if y < area.bottom() {
                put(cells, area.x + 1, y, area.right() - 1, line, style(role));
                y += 1;
            }
        }
    };
    if view.asks {
        let (name, key) = (clean::clean(&view.profile.name), app.key_of("load-rows").unwrap_or_default());
        say(&format!("!! {name} asks before anything that writes: {key} again loads"), Role::Guard);
    }
    match (&view.loading, &view.ended) {
        (Some(loading), _) => {
            let rows = words::count(loading.rows.load(Ordering::Relaxed), "row");
            let read = loading.read.load(Ordering::Relaxed);
            let percent = loading.size.filter(|size| *size > 0).map(|size| read.min(size) * 100 / size);
            let percent = percent.map(|percent| format!(" · {percent} %")).unwrap_or_default();
            say(&format!("loading … {rows}{percent} · {}", words::clock(loading.since.elapsed())), Role::Running);
        }
        (None, Some(Ok(said))) => say(said, Role::Done),
        (None, Some(Err(error))) => say(error, Role::Failed),
        (None, None) if view.goes_on => say("loads as soon as the file has been looked at", Role::Running),
        (None, None) => say(view.help(), Role::Faint),
    }
    let preview = match &view.preview {
        None => {
            if app.connection.catalog.is_none() {
                say("the catalog is still being read: its tables are not known yet", Role::Running);
            }
            return cursor;
        }
        Some(Err(error)) => {
            say(error, Role::Failed);
            return cursor;
        }
        Some(Ok(preview)) => preview,
    };
    if let Err(error) = &preview.matching {
        say(&error.to_string(), Role::Failed);
    }
    let (text, role) = fits(preview);
    say(&text, role);
    let is_loaded = matches!(view.ended, Some(Ok(_)));
    let definition = preview.matching.as_ref().ok().and_then(|matching| matching.definition.as_ref());
    if let Some(definition) = definition.filter(|_| !is_loaded) {
        let definition = definition.split_whitespace().collect::<Vec<_>>().join(" ");
        say(&format!("The table is new: {definition}"), Role::Accent);
    }
    if !preview.looked.example.is_empty() && !is_loaded {
        say(&format!("The first row: {}", preview.looked.example.join("; ")), Role::Accent);
    }
    if let Some((line, what)) = &preview.looked.first_unusual {
        let values = words::count(preview.looked.unusual, "value");
        let text =
            format!("{values} not of the type of the column, and stored all the same, such as line {line}: {what}");
        say(&text, Role::Stopped);
    }
    for bad in preview.looked.bad.iter().take(5) {
        say(&format!("line {}: {}", bad.line, bad.reason), Role::Failed);
    }
    let rest = Rect { y: y + 1, height: area.bottom().saturating_sub(y + 1), ..area };
    draw_rows(app, preview, rest, ground, cells);
    if view.loading.is_some() { None } else { cursor }
}

/// What was found where a field is not filled in.
fn found(view: &ImportView, field: &str) -> Option<String> {
    let Some(Ok(preview)) = &view.preview else { return None };
    let source = &preview.source;
    let csv = source.format == Format::Csv;
    Some(match field {
        "format" => source.format.word().to_owned(),
        "sheet" => source.sheet.clone()?,
        "separator" if csv => match source.form.separator {
            b'\t' => "tab".to_owned(),
            sign => char::from(sign).to_string(),
        },
        "encoding" if csv => source.encoding.to_owned(),
        "skip" if source.titles > 0 => {
            format!("0; perhaps {} of a title", words::count(source.titles, "line"))
        }
        "header" => if source.header { "yes" } else { "no" }.to_owned(),
        "dates" => {
            let column = source.found.columns.iter().find(|column| column.dates != Dates::Iso)?;
            format!("{} in {}", column.dates.word(), clean::clean(&column.name))
        }
        "decimal" => {
            let column = source.found.columns.iter().find(|column| column.numbers != Numbers::Plain)?;
            format!("{} in {}", column.numbers.example(), clean::clean(&column.name))
        }
        "key" => {
            let matching = preview.matching.as_ref().ok()?;
            match (&matching.definition, matching.key.is_empty()) {
                (None, true) if view.of_keys => "none".to_owned(),
                (None, true) => "the table has none".to_owned(),
                (None, false) => matching.key.join(", "),
                (Some(_), _) => {
                    let key = jaunty_core::import::Matching::proposed_key(&source.found)?;
                    format!("none; every {} is different", clean::clean(key))
                }
            }
        }
        _ => return None,
    })
}

/// Writes a line, or what counts without one. Gives the column of the cursor.
fn draw_line(
    line: &Line,
    usual: &str,
    (x, y, end): (u16, u16, u16),
    (base, faint): (Style, Style),
    chosen: bool,
    cells: &mut Buffer,
) -> u16 {
    let (seen, column) = line.seen(usize::from(end.saturating_sub(x)));
    match (line.is_empty(), chosen) {
        (true, _) => put_cut(cells, x, y, end, usual, if chosen { base } else { faint }),
        (false, true) => put(cells, x, y, end, seen, base),
        (false, false) => put_cut(cells, x, y, end, &clean::clean(line.text()), base),
    };
    x + column as u16
}

/// Which column goes where, those around the one in hand.
fn draw_columns(
    app: &App,
    view: &ImportView,
    area: Rect,
    ground: Style,
    cells: &mut Buffer,
    cursor: &mut Option<Position>,
) {
    let style = |role| ground.patch(app.theme.style(role));
    let height = usize::from(area.height);
    let in_hand = view.chosen.checked_sub(view.fields.len());
    let first = in_hand.unwrap_or(0).saturating_sub(height / 2).min(view.columns.len().saturating_sub(height));
    let names =
        view.columns.iter().map(|(name, _)| clean::width(&clean::clean(name))).max().unwrap_or(0).clamp(4, 24) as u16;
    let preview = view.preview.as_ref().and_then(|preview| preview.as_ref().ok());
    for ((at, (name, line)), y) in view.columns.iter().enumerate().skip(first).zip(area.y..area.bottom()) {
        let chosen = in_hand == Some(at) && view.loading.is_none();
        let base = if chosen { style(Role::Selected) } else { ground };
        fill(cells, Rect { y, height: 1, ..area }, base);
        put(cells, area.x, y, area.right(), if chosen { "›" } else { " " }, base);
        put_cut(cells, area.x + 2, y, area.x + 2 + names, &clean::clean(name), base);
        let x = put(cells, area.x + 3 + names, y, area.right(), "→ ", if chosen { base } else { style(Role::Faint) });
        let end = (x + 22).min(area.right() - 1);
        let column = draw_line(line, "(nowhere)", (x, y, end), (base, style(Role::Faint)), chosen, cells);
        if chosen {
            *cursor = Some(Position::new(column, y));
        }
        let target = preview.and_then(|p| p.matching.as_ref().ok()?.targets.iter().find(|target| target.from == at));
        let of = preview.and_then(|preview| preview.source.found.columns.get(at));
        let mut about = Vec::new();
        about.extend(target.map(|target| target.column.db_type.clone()));
        about.extend(target.and_then(|target| target.loses).map(str::to_owned));
        about.extend(of.filter(|of| of.nulls > 0).map(|of| format!("{} NULL", words::number(of.nulls))));
        about.extend(of.filter(|of| !of.examples.is_empty()).map(|of| of.examples.join(", ")));
        put_cut(
            cells,
            end + 1,
            y,
            area.right() - 1,
            &clean::clean(&about.join(" · ")),
            if chosen { base } else { style(Role::Faint) },
        );
    }
    if view.columns.len() > height {
        let text = format!("{} columns", words::number(view.columns.len() as u64));
        put_right(cells, area.x, area.bottom().saturating_sub(1), area.right() - 1, &text, style(Role::Faint));
    }
}

/// How many of the rows that were looked at fit.
fn fits(preview: &Preview) -> (String, Role) {
    let found = &preview.source.found;
    let of = if found.all { String::new() } else { "the first ".to_owned() };
    let rows = words::count(preview.looked.seen, "row");
    match (&preview.matching, preview.looked.misfits) {
        (Err(_), _) => (format!("{of}{rows} looked at"), Role::Faint),
        (Ok(_), 0) => (format!("{of}{rows} looked at: all of them fit"), Role::Done),
        (Ok(_), bad) => (format!("{of}{rows} looked at: {} of them do not fit", words::number(bad)), Role::Failed),
    }
}

fn draw_rows(app: &App, preview: &Preview, area: Rect, ground: Style, cells: &mut Buffer) {
    let style = |role| ground.patch(app.theme.style(role));
    let names: Vec<String> =
        preview.source.found.columns.iter().map(|column| clean::clean(&column.name).into_owned()).collect();
    let mut x = area.x + 1;
    for (at, name) in names.iter().enumerate() {
        let texts: Vec<Option<String>> = preview
            .looked
            .rows
            .iter()
            .take(usize::from(area.height))
            .map(|row| row.get(at)?.as_ref().map(|text| clean::clean(text).into_owned()))
            .collect();
        let widest = texts.iter().flatten().map(|text| clean::width(text)).max().unwrap_or(0);
        let width = (widest.max(clean::width(name)) as u16).clamp(4, WIDEST);
        if x + 4 >= area.right() {
            break;
        }
        let end = (x + width).min(area.right() - 1);
        put_cut(cells, x, area.y, end, name, style(Role::Accent));
        for (text, y) in texts.iter().zip(area.y + 1..area.bottom()) {
            match text {
                Some(text) => put_cut(cells, x, y, end, text, ground),
                None => put_cut(cells, x, y, end, "∅", style(Role::StandIn)),
            };
        }
        x = end + 2;
    }
}
