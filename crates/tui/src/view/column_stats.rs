//! What a column holds, in numbers and in bars.

use jaunty_core::arrange::facts::ColumnStats;
use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::overlay::keys;
use crate::app::{App, ColumnStatsView};
use crate::paint::{put, put_cut, put_right};
use crate::theme::Role;
use jaunty_core::words;

/// Lines of the drawer, its heading among them.
pub(super) const LINES: u16 = 14;
/// Cells of one bar of the spread.
const WIDE: u16 = 2;

const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

pub(super) fn draw(app: &App, view: &ColumnStatsView, area: Rect, ground: Style, cells: &mut Buffer) {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let hint = format!("of the rows shown · {}", keys(app, &[("close-overlay", "closes")]));
    put_right(cells, area.x + 20, area.y, area.right() - 1, &hint, faint);
    super::overlay::heading(app, &view.title, area, ground, cells);
    let Some(facts) = &view.facts else {
        let words = app.work().map_or_else(String::new, crate::work::Work::words);
        put(cells, area.x + 3, area.y + 2, area.right(), &words, ground.patch(app.theme.style(Role::Running)));
        return;
    };
    let middle = area.x + area.width * 2 / 5;
    draw_numbers(app, facts, Rect { width: middle - area.x, ..area }, ground, cells);
    draw_frequent(app, facts, Rect { x: middle, width: area.right() - middle, ..area }, ground, cells);
}

fn draw_numbers(app: &App, facts: &ColumnStats, area: Rect, ground: Style, cells: &mut Buffer) {
    let share = |n: u64| match n {
        0 => "0".to_owned(),
        n => format!("{} ({} %)", words::number(n), n * 100 / facts.rows.max(1)),
    };
    let mut lines = vec![
        ("rows", words::number(facts.rows)),
        ("NULL", share(facts.nulls)),
        ("distinct", words::number(facts.distinct)),
    ];
    if let Some((least, most)) = &facts.ends {
        lines.push(("min", clean::clean(least).into_owned()));
        lines.push(("max", clean::clean(most).into_owned()));
    }
    if let Some(numbers) = &facts.numbers {
        lines.push(("mean", numbers.mean()));
        lines.push(("sum", numbers.sum.clone()));
    }
    let faint = ground.patch(app.theme.style(Role::Faint));
    for ((name, value), y) in lines.iter().zip(area.y + 2..area.bottom()) {
        put(cells, area.x + 3, y, area.right(), name, faint);
        put_cut(cells, area.x + 21, y, area.right() - 1, value, ground);
    }
    draw_spread(app, facts, Rect { x: area.x + 3, ..area }, area.y + 2 + lines.len() as u16, ground, cells);
}

/// Two lines of bars: each as high as its part has values.
fn draw_spread(app: &App, facts: &ColumnStats, area: Rect, top: u16, ground: Style, cells: &mut Buffer) {
    let bars = ground.patch(app.theme.style(Role::Number));
    let Some(spread) = &facts.spread else { return };
    let most = spread.iter().copied().max().unwrap_or(0).max(1);
    for (at, count) in (0_u16..).zip(spread) {
        // Sixteen steps; what is there at all is seen.
        let height = (count * 16 / most).max(u64::from(*count > 0)) as usize;
        for (y, step) in [(top + 1, height.saturating_sub(8)), (top + 2, height.min(8))] {
            if y < area.bottom() {
                let bar = EIGHTHS.get(step).copied().unwrap_or(" ");
                put(cells, area.x + at * WIDE, y, area.right(), &bar.repeat(usize::from(WIDE)), bars);
            }
        }
    }
    let Some((least, most)) = &facts.ends else { return };
    let faint = ground.patch(app.theme.style(Role::Faint));
    let end = area.x + WIDE * facts.spread.map_or(0, |spread| spread.len()) as u16;
    if top + 3 < area.bottom() {
        put_cut(cells, area.x, top + 3, end, &clean::clean(least), faint);
        put_right(cells, area.x + (end - area.x) / 2, top + 3, end, &clean::clean(most), faint);
    }
}

fn draw_frequent(app: &App, facts: &ColumnStats, area: Rect, ground: Style, cells: &mut Buffer) {
    let faint = ground.patch(app.theme.style(Role::Faint));
    if facts.frequent.is_empty() {
        let text = if facts.distinct > 0 { "all values are distinct" } else { "all values are NULL" };
        put(cells, area.x, area.y + 2, area.right(), text, faint);
        return;
    }
    put(cells, area.x, area.y + 1, area.right(), "most frequent", faint);
    let most = facts.frequent.first().map_or(1, |(_, count)| *count).max(1);
    let widest = facts.frequent.iter().map(|(value, _)| clean::width(&clean::clean(value))).max().unwrap_or(0);
    let room = (widest as u16 + 3).clamp(8, area.width / 2);
    let counts = facts.frequent.iter().map(|(_, count)| words::number(*count).len()).max().unwrap_or(1) as u16;
    for ((value, count), y) in facts.frequent.iter().zip(area.y + 2..area.bottom()) {
        let shown = if value.is_empty() { "''".into() } else { clean::clean(value) };
        put_cut(cells, area.x, y, area.x + room - 1, &shown, ground);
        let end = area.x + room + counts;
        put_right(cells, area.x + room, y, end, &words::number(*count), ground);
        let bar = u64::from(area.right().saturating_sub(end + 3)).min(30);
        let length = (count * bar).div_ceil(most) as usize;
        put(cells, end + 2, y, area.right(), &"▬".repeat(length), ground.patch(app.theme.style(Role::Number)));
    }
}
