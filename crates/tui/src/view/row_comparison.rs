//! Two results by a key: the rows that differ above, the values of the one in hand below.

use jaunty_core::compare::Difference;
use jaunty_core::compare::rows::Shown;
use jaunty_core::slip::Datum;
use jaunty_core::words;
use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::cell_editor::put_datum;
use super::overlay::{heading, keys};
use crate::app::{App, RowComparison};
use crate::paint::{fill, put, put_cut, put_hint};
use crate::theme::Role;

/// The heading, what is compared, and how much differs.
const ABOVE: u16 = 4;

/// How many rows have room: what the columns of one row leave, and at least half.
pub fn lines(screen: Rect, view: &RowComparison) -> usize {
    let room = usize::from(screen.height.saturating_sub(2 + ABOVE));
    let columns = view.comparison().map_or(0, |found| found.columns.pairs.len());
    room.saturating_sub(columns + 3).max(room / 2).max(1)
}

pub(super) fn role_of(what: Difference) -> Role {
    match what {
        Difference::Changed => Role::Differing,
        Difference::OnlyLeft => Role::Stopped,
        Difference::OnlyRight => Role::Done,
    }
}

pub(super) fn draw(app: &App, view: &RowComparison, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let style = |role| ground.patch(app.theme.style(role));
    let key = view.comparison().map(|found| found.columns.key().join(", "));
    let by = match key.as_deref() {
        None => String::new(),
        Some("") => " · as whole rows, since no key is known".to_owned(),
        Some(key) => format!(" · by {}", clean::clean(key)),
    };
    let after = heading(app, &format!("rows that differ{by}"), area, ground, cells);
    let hint = keys(
        app,
        &[
            ("compare-draft", "drafts"),
            ("compare-put", "into the buffer"),
            ("compare-copy", "copies"),
            ("compare-only", "only some"),
            ("compare-key", "other key"),
            ("compare-exchange", "swaps"),
            ("accept", "goes there"),
            ("close-overlay", "closes"),
        ],
    );
    let (hint, role) = match &app.status {
        Some(told) if told.wrong => (told.text.as_str(), Role::Failed),
        Some(told) => (told.text.as_str(), Role::Done),
        None => (hint.as_str(), Role::Faint),
    };
    put_hint(cells, after + 2, area.y, area.right() - 1, hint, style(role));
    for (at, (word, side)) in ["left ", "right"].iter().zip(&view.sides).enumerate() {
        let y = area.y + 1 + at as u16;
        let x = put(cells, area.x + 1, y, area.right(), word, style(Role::Faint));
        let x = put_cut(cells, x + 1, y, area.right() - 1, &side.title, ground);
        if let Some(why) = side.partial().filter(|_| view.found.is_some()) {
            put_cut(cells, x + 2, y, area.right() - 1, &format!("!! {why}"), style(Role::Guard));
        }
    }
    let y = area.y + 3;
    match &view.found {
        None => {
            put(cells, area.x + 1, y, area.right(), "comparing …", style(Role::Faint));
            return None;
        }
        Some(Err(error)) => {
            put_cut(cells, area.x + 1, y, area.right() - 1, &clean::clean(error), style(Role::Failed));
            return None;
        }
        Some(Ok(found)) => {
            let mut x = area.x + 1;
            for (what, count) in Difference::ALL.into_iter().zip(view.counts) {
                let role =
                    if count == 0 || view.only.is_some_and(|only| only != what) { Role::Faint } else { role_of(what) };
                let text = format!("{} {} {}", what.sign(), words::number(count), what.word());
                x = put(cells, x, y, area.right(), &text, style(role)) + 3;
            }
            let mut said = format!("{} the same", words::count(found.same, "row"));
            for (only, side) in found.columns.only.iter().zip(["left", "right"]).filter(|(only, _)| !only.is_empty()) {
                said.push_str(&format!(" · only {side}: column {}", only.join(", ")));
            }
            let repeated: u64 = found.repeated.iter().sum();
            if repeated > 0 && !found.columns.key().is_empty() {
                said.push_str(&format!(" · the key comes again in {}", words::count(repeated, "row")));
            }
            put_cut(cells, x, y, area.right() - 1, &clean::clean(&said), style(Role::Faint));
        }
    }
    let height = lines(app.screen(), view) as u16;
    let list = Rect { y: area.y + ABOVE, height: height.min(area.height.saturating_sub(ABOVE)), ..area };
    if view.rows.is_empty() {
        put(cells, area.x + 3, list.y, area.right(), "nothing differs", style(Role::Done));
        return None;
    }
    for (at, y) in (view.top..view.rows.len()).zip(list.y..list.bottom()) {
        let chosen = at == view.chosen;
        let base = if chosen { ground.patch(app.theme.style(Role::Selected)) } else { ground };
        fill(cells, Rect { y, height: 1, ..area }, base);
        let Some(row) = view.rows.get(at) else { continue };
        let what = row.what();
        let sign = if chosen { base } else { base.patch(app.theme.style(role_of(what))) };
        put(cells, area.x + 1, y, area.right(), if chosen { "›" } else { " " }, base);
        put(cells, area.x + 3, y, area.right(), &format!("{} {}", what.sign(), what.word()), sign);
        let Some(shown) = view.shown(at) else {
            put(cells, area.x + 16, y, area.right(), "…", base);
            continue;
        };
        put_cut(cells, area.x + 16, y, area.right() - 1, &line(view, shown), base);
    }
    let below = Rect { y: list.bottom(), height: area.bottom().saturating_sub(list.bottom()), ..area };
    if let Some(shown) = view.shown(view.chosen) {
        draw_row(app, view, shown, below, ground, cells);
    }
    None
}

fn quoted(value: &Datum) -> String {
    match value {
        Datum::Text(text) if text.is_empty() => "''".into(),
        value => value.shown().to_owned(),
    }
}

/// A row in a line: its key, and what differs or what it is.
fn line(view: &RowComparison, shown: &Shown) -> String {
    let Some(found) = view.comparison() else { return String::new() };
    let of = |cells: &[Option<Datum>; 2]| cells.iter().flatten().next().map(quoted).unwrap_or_default();
    let whole = found.columns.key().is_empty();
    let (mut key, mut others) = (Vec::new(), Vec::new());
    for ((pair, cells), differs) in found.columns.pairs.iter().zip(&shown.cells).zip(&shown.differs) {
        match (pair.key && !whole, cells) {
            (true, cells) => key.push(format!("{} {}", pair.name, of(cells))),
            (false, [Some(left), Some(right)]) if *differs => {
                others.push(format!("{}: {} → {}", pair.name, quoted(left), quoted(right)));
            }
            (false, cells) if shown.what != Difference::Changed => others.push(format!("{} {}", pair.name, of(cells))),
            _ => {}
        }
    }
    let parts = [key.join(", "), others.join(" · ")];
    let parts: Vec<String> = parts.into_iter().filter(|part| !part.is_empty()).collect();
    clean::clean(&parts.join("  ")).into_owned()
}

/// All columns of a row, left and right.
fn draw_row(app: &App, view: &RowComparison, shown: &Shown, area: Rect, ground: Style, cells: &mut Buffer) {
    let style = |role| ground.patch(app.theme.style(role));
    let Some(found) = view.comparison() else { return };
    put(cells, area.x, area.y, area.right(), &"─".repeat(usize::from(area.width)), style(Role::Rule));
    let names = found.columns.pairs.iter().map(|pair| clean::width(&clean::clean(&pair.name))).max().unwrap_or(0);
    let names = (names as u16).clamp(6, 28);
    let x = [area.x + 3, area.x + 5 + names, 0];
    let half = area.right().saturating_sub(x[1] + 2) / 2;
    let x = [x[0], x[1], x[1] + half + 1];
    for (at, word) in [(1, "left"), (2, "right")] {
        put(cells, x[at], area.y + 1, area.right(), word, style(Role::Faint));
    }
    let room = usize::from(area.height.saturating_sub(2));
    let all = found.columns.pairs.iter().zip(&shown.cells).zip(&shown.differs);
    let first = view.column.min(found.columns.pairs.len().saturating_sub(room));
    for (((pair, values), differs), y) in all.skip(first).zip(area.y + 2..area.bottom()) {
        let both = values.iter().all(Option::is_some);
        let role = if pair.key { Role::Accent } else { Role::Overlay };
        put_cut(cells, x[0], y, x[0] + names, &clean::clean(&pair.name), style(role));
        for (side, value) in values.iter().enumerate() {
            let end = if side == 0 { x[2] - 1 } else { area.right() - 1 };
            let role = if *differs && both { Role::Differing } else { Role::Overlay };
            if let Some(value) = value {
                put_datum(app, value, (x[side + 1], y, end), style(role), cells);
            }
        }
    }
}
