//! The strip above the results: their titles in a line, the one in hand among them.

use std::ops::Range;

use jaunty_core::logbook::Outcome;
use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::{App, Slot};
use crate::paint::{fill, put, put_cut};
use crate::theme::Role;
use jaunty_core::words;

/// The widest title; a longer one is cut.
const WIDEST: usize = 28;

/// Where each result of the strip stands, as far as it is in sight.
fn placed(app: &App, strip: &[Slot], area: Rect) -> Vec<(usize, Range<u16>)> {
    let chosen = strip.iter().position(|slot| app.rows.shows_slot(slot)).unwrap_or(0);
    // From the first one on from which the chosen one is whole.
    let room = usize::from(area.width.saturating_sub(4));
    let mut taken = 0;
    let fits = |slot: &&Slot| {
        taken += label(app, slot).1 + 1;
        taken <= room
    };
    let before = strip.get(..=chosen).unwrap_or_default().iter().rev().take_while(fits).count();
    from(app, strip, (chosen + 1).saturating_sub(before.max(1)), area)
}

fn from(app: &App, strip: &[Slot], first: usize, area: Rect) -> Vec<(usize, Range<u16>)> {
    let mut x = area.x + 2;
    let mut placed = Vec::new();
    for (at, slot) in strip.iter().enumerate().skip(first) {
        let end = (x + label(app, slot).1 as u16).min(area.right().saturating_sub(1));
        if x + 4 > end {
            break;
        }
        placed.push((at, x..end));
        x = end + 1;
    }
    placed
}

/// What stands there for a result, and its width.
fn label(app: &App, slot: &Slot) -> (String, usize) {
    let title = clean::fit(&slot.title(), WIDEST);
    let rows = match (slot.run.outcome(), slot.run.all_rows().get(slot.which).and_then(|kept| kept.rows())) {
        (Outcome::Failed, _) => Some(Outcome::Failed.word().to_owned()),
        (_, rows) => rows.or(Some(slot.run.rows()).filter(|rows| *rows > 0)).map(words::number),
    };
    let mut text = format!(" {}{}", app.mark_of(&slot.run, slot.held), title.text);
    if title.cut {
        text.push('…');
    }
    if let Some(rows) = rows {
        text.push_str(&format!(" · {rows}"));
    }
    text.push(' ');
    let width = clean::width(&text);
    (text, width)
}

/// The result of the strip that stands at a column.
pub fn slot_at(app: &App, area: Rect, x: u16) -> Option<usize> {
    placed(app, &app.strip(), area).into_iter().find(|(_, cells)| cells.contains(&x)).map(|(at, _)| at)
}

pub(super) fn draw(app: &App, area: Rect, cells: &mut Buffer) {
    if area.is_empty() {
        return;
    }
    let ground = app.theme.style(Role::Value);
    let faint = ground.patch(app.theme.style(Role::Faint));
    fill(cells, area, ground);
    let strip = app.strip();
    let placed = placed(app, &strip, area);
    for (at, place) in &placed {
        let Some(slot) = strip.get(*at) else { continue };
        let role = match slot.run.outcome() {
            Outcome::Failed => Role::Failed,
            Outcome::Running => Role::Running,
            _ => Role::Faint,
        };
        let style = ground.patch(app.theme.style(role));
        let style = if app.rows.shows_slot(slot) {
            ground.patch(app.theme.style(Role::Selected))
        } else if app.other.as_ref().is_some_and(|other| other.shows_slot(slot)) {
            ground.patch(app.theme.style(Role::Row))
        } else {
            style
        };
        put_cut(cells, place.start, area.y, place.end, &label(app, slot).0, style);
    }
    if placed.first().is_some_and(|(at, _)| *at > 0) {
        put(cells, area.x, area.y, area.right(), "‹", faint);
    }
    if placed.last().is_some_and(|(at, _)| at + 1 < strip.len()) {
        put(cells, area.right() - 1, area.y, area.right(), "›", faint);
    }
}
