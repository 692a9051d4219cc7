//! The logbook: runs in lines, and what is known of the chosen one below.

use std::time::Duration;

use jaunty_core::logbook::{Entry, Outcome};
use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::buffer::mark;
use super::overlay::{input, keys};
use crate::app::{App, LogbookView};
use crate::paint::{fill, put, put_cut, put_hint, put_right};
use crate::theme::Role;
use jaunty_core::words;

/// Lines about the chosen run.
const ABOUT: u16 = 11;

const EIGHTHS: [&str; 8] = ["▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

pub(super) fn draw(app: &App, past: &LogbookView, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let all = past.entries.as_ref().map_or(0, Vec::len) as u64;
    let latest = if past.is_cut() { "the latest " } else { "" };
    let found = words::number(past.found.len() as u64);
    let title = format!("logbook · {found} of {latest}{}", words::count(all, "run"));
    let does = keys(
        app,
        &[
            ("accept", "rows"),
            ("put-entry", "statement"),
            ("run-entry", "run"),
            ("keep-entry", "keep rows"),
            ("forget-entry", "forget"),
            ("forget-found", "forget all"),
            ("close-overlay", "closes"),
        ],
    );
    let hint = match &app.status {
        Some(told) if told.wrong => told.text.as_str(),
        _ => does.as_str(),
    };
    let start = put_hint(cells, area.x + 30, area.y, area.right() - 1, hint, faint);
    put_cut(cells, area.x + 1, area.y, start.saturating_sub(2), &title, ground.patch(app.theme.style(Role::Accent)));
    let about = ABOUT.min(area.height / 2);
    let list = Rect { y: area.y + 1, height: area.height.saturating_sub(about + 2), ..area };
    let Some(entries) = &past.entries else {
        put(cells, area.x + 3, area.y + 2, area.right(), "reading …", faint);
        return None;
    };
    let first = (past.chosen + 1).saturating_sub(usize::from(list.height));
    for ((position, at), y) in past.found.iter().enumerate().skip(first).zip(list.y..list.bottom()) {
        if let Some(entry) = entries.get(*at) {
            draw_entry(app, entry, position == past.chosen, Rect { y, height: 1, ..list }, ground, cells);
        }
    }
    if let Some(entry) = past.entry() {
        let below = Rect { y: list.bottom(), height: about, ..area };
        draw_about(app, past, entry, below, ground, cells);
    }
    let cursor = input(app, "› ", &past.query, area, ground, cells);
    if let (Some(Position { x, y }), true) = (cursor, past.query.is_empty()) {
        let help = "search statements, titles, errors; connection=… outcome=failed day=today since=2026-11 before=… database=…";
        put_cut(cells, x, y, area.right() - 1, help, faint);
    }
    cursor
}

/// Where the columns begin: the first two counted from the left, the others from the right.
struct Columns {
    connection: u16,
    title: u16,
    yielded: u16,
    took: u16,
}

/// On a screen of fewer cells columns are shorter.
const NARROW: u16 = 100;

fn draw_entry(app: &App, entry: &Entry, chosen: bool, area: Rect, ground: Style, cells: &mut Buffer) {
    let base = if chosen { ground.patch(app.theme.style(Role::Selected)) } else { ground };
    fill(cells, area, base);
    let faint = if chosen { base } else { base.patch(app.theme.style(Role::Faint)) };
    let (sign, role) = mark(Some(entry.outcome), entry.rolled_back);
    let sign_style = if chosen { base } else { base.patch(app.theme.style(role)) };
    let (x, y, end) = (area.x, area.y, area.right() - 1);
    put(cells, x + 1, y, end, sign, sign_style);
    put(cells, x + 2, y, end, if entry.pinned { "◆" } else { " " }, sign_style);
    let moment = entry.moment();
    // On a narrow screen without the year and the seconds: 11-29 07:30.
    let narrow = area.width < NARROW;
    let (moment, columns) = match narrow {
        true => (moment.get(5..16).unwrap_or(&moment), Columns { connection: 17, title: 27, yielded: 23, took: 10 }),
        false => (moment.as_str(), Columns { connection: 25, title: 41, yielded: 28, took: 14 }),
    };
    put(cells, x + 4, y, end, moment, faint);
    put_cut(cells, x + columns.connection, y, x + columns.title - 1, &clean::clean(&entry.connection), base);
    let title = entry.title.as_deref().unwrap_or_else(|| entry.statement.lines().next().unwrap_or_default());
    let (yielded, last) = (end.saturating_sub(columns.yielded), end.saturating_sub(columns.took));
    put_right(cells, yielded, y, last.saturating_sub(1), &words::yielded_by(entry), base);
    // Of one whose program ended nobody knows how long it ran.
    let known = entry.outcome != Outcome::CutShort || entry.ended.duration_ms > 0;
    put_right(cells, last, y, end, &if known { took(entry.ended.duration_ms) } else { String::new() }, faint);
    put_cut(cells, x + columns.title, y, yielded.saturating_sub(1), &clean::clean(title), base);
}

fn took(ms: i64) -> String {
    words::duration(Duration::from_millis(ms.unsigned_abs()))
}

fn draw_about(app: &App, past: &LogbookView, entry: &Entry, area: Rect, ground: Style, cells: &mut Buffer) {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let rule = "─".repeat(usize::from(area.width));
    put(cells, area.x, area.y, area.right(), &rule, ground.patch(app.theme.style(Role::Rule)));
    let first_row = entry.ended.first_row_ms.map_or_else(String::new, |ms| format!(" · first row after {}", took(ms)));
    let session =
        if entry.session.is_empty() { String::new() } else { format!(" · {}", clean::clean(&entry.session)) };
    let facts = format!(
        "run {} · {} on {} · {}{session} · {}{first_row} · {}",
        entry.number,
        if entry.rolled_back { words::ROLLED_BACK } else { entry.outcome.word() },
        clean::clean(&entry.connection),
        clean::clean(&entry.database),
        took(entry.ended.duration_ms),
        words::bytes(entry.ended.bytes)
    );
    put_cut(cells, area.x + 1, area.y + 1, area.right() - 1, &facts, faint);
    draw_durations(app, &past.durations(), area, ground, cells);
    let mut y = area.y + 3;
    if let Some(error) = &entry.ended.error {
        let failed = ground.patch(app.theme.style(Role::Failed));
        put_cut(
            cells,
            area.x + 3,
            y,
            area.right() - 1,
            &clean::clean(error.lines().next().unwrap_or_default()),
            failed,
        );
        y += 1;
    }
    if !entry.values.is_empty() {
        let style = ground.patch(app.theme.style(Role::Name));
        put_cut(cells, area.x + 3, y, area.right() - 1, &words::values(&entry.values), style);
        y += 1;
    }
    for line in entry.statement.lines() {
        if y >= area.bottom() {
            break;
        }
        put_cut(cells, area.x + 3, y, area.right() - 1, &clean::clean(line), ground);
        y += 1;
    }
}

/// How long the same statement took each time.
fn draw_durations(app: &App, durations: &[i64], area: Rect, ground: Style, cells: &mut Buffer) {
    let last = durations.iter().rev().take(40).rev();
    let (Some(least), Some(most)) = (last.clone().min(), last.clone().max()) else { return };
    if durations.len() < 2 {
        return;
    }
    let bar = |ms: &i64| EIGHTHS.get((ms * 7 / most.max(&1)) as usize).copied().unwrap_or("█");
    let bars: String = last.clone().map(bar).collect();
    let faint = ground.patch(app.theme.style(Role::Faint));
    let (x, y) = (area.x + 1, area.y + 2);
    let x = put(cells, x, y, area.right(), &format!("{} times ", durations.len()), faint);
    let x = put(cells, x, y, area.right(), &bars, ground.patch(app.theme.style(Role::Number)));
    put_cut(cells, x + 1, y, area.right(), &format!("{} to {}", took(*least), took(*most)), faint);
}
