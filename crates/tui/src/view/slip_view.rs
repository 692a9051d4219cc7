//! The slip: its drafts above, the statements that they make below.

use jaunty_core::slip::statements::Listed;
use jaunty_core::slip::{Conflict, Datum, Draft, Slip, What};
use jaunty_language::text::clean;
use jaunty_language::text::wrap::wrapped;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::cell_editor::put_datum;
use super::overlay::{heading, keys};
use crate::app::{App, SlipView};
use crate::paint::{fill, put, put_cut, put_hint};
use crate::theme::Role;
use jaunty_core::words;

/// How many lines the drafts have, or the fields of one.
pub fn lines(screen: Rect, view: &SlipView, drafts: usize) -> usize {
    let of = if view.field.is_some() { view.head.ground.fields.len() } else { drafts };
    usize::from(screen.height / 2).saturating_sub(3).min(of).max(1)
}

pub(super) fn draw(app: &App, view: &SlipView, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let style = |role| ground.patch(app.theme.style(role));
    let slip = app.slips.find(&view.head)?;
    let what = if slip.takes_back.is_some() { "take back" } else { "slip" };
    let table = clean::clean(&slip.ground.table.name);
    let title = format!("{what} · {table} on {} · {}", clean::clean(&slip.connection), slip.counted());
    let hint = match (view.sending, view.conflict.is_some(), view.field.is_some()) {
        (true, ..) => format!("sending … · {}", keys(app, &[("close-overlay", "stops")])),
        (_, true, _) => keys(
            app,
            &[("keep-theirs", "theirs"), ("keep-ours", "ours"), ("keep-both", "both"), ("close-overlay", "closes")],
        ),
        (.., true) => keys(
            app,
            &[
                ("accept", "changes it"),
                ("drop-draft", "takes it out"),
                ("send-slip", "sends"),
                ("close-overlay", "back"),
            ],
        ),
        _ => keys(
            app,
            &[
                ("send-slip", "sends"),
                ("accept", "fields"),
                ("drop-draft", "drops it"),
                ("copy-slip", "copies"),
                ("close-overlay", "closes"),
            ],
        ),
    };
    let after = heading(app, &title, area, ground, cells);
    put_hint(cells, after + 2, area.y, area.right() - 1, &hint, style(Role::Faint));
    let height = lines(app.screen(), view, slip.drafts.len()) as u16;
    let list = Rect { y: area.y + 1, height: height.min(area.height.saturating_sub(1)), ..area };
    match (view.field, slip.drafts.get(view.chosen)) {
        (Some(field), Some(draft)) => draw_fields(app, view, (slip, draft, field), list, ground, cells),
        _ => draw_drafts(app, view, slip, list, ground, cells),
    }
    let mut below = Rect { y: list.bottom(), height: area.bottom().saturating_sub(list.bottom()), ..area };
    let mut say = |text: &str, role: Role| {
        for line in wrapped(text, usize::from(area.width.saturating_sub(4)).max(1)) {
            if below.height > 1 {
                put(cells, area.x + 1, below.y, area.right() - 1, &line, style(role));
                below = Rect { y: below.y + 1, height: below.height - 1, ..below };
            }
        }
    };
    match (&app.status, &view.asks, &view.failed) {
        (Some(told), ..) if told.wrong => say(&told.text, Role::Failed),
        (_, Some(asks), _) => {
            let key = app.key_of("send-slip").unwrap_or_default();
            say(&format!("!! {asks}: {key} again sends it"), Role::Guard);
        }
        (_, None, Some(failed)) => say(failed, Role::Failed),
        (Some(told), ..) => say(&told.text, Role::Done),
        _ if slip.sending && !view.sending => {
            say("It was being sent when the program ended: it may be there already.", Role::Stopped);
        }
        _ => {}
    }
    match &view.conflict {
        Some(conflict) => draw_conflict(app, slip, conflict, below, ground, cells),
        None => draw_script(app, view, below, ground, cells),
    }
    None
}

fn draw_drafts(app: &App, view: &SlipView, slip: &Slip, area: Rect, ground: Style, cells: &mut Buffer) {
    for ((at, draft), y) in slip.drafts.iter().enumerate().skip(view.top).zip(area.y..area.bottom()) {
        let chosen = at == view.chosen;
        let line = if chosen { ground.patch(app.theme.style(Role::Selected)) } else { ground };
        fill(cells, Rect { y, height: 1, ..area }, line);
        let sign = if chosen { line } else { ground.patch(app.theme.style(Role::Accent)) };
        put(cells, area.x + 1, y, area.right(), if chosen { "›" } else { " " }, line);
        put(cells, area.x + 3, y, area.right(), &format!("{} {}", draft.what.sign(), draft.what.word()), sign);
        put_cut(cells, area.x + 14, y, area.right() - 1, &clean::clean(&slip.line(at)), line);
    }
}

fn draw_fields(
    app: &App,
    view: &SlipView,
    (slip, draft, chosen): (&Slip, &Draft, usize),
    area: Rect,
    ground: Style,
    cells: &mut Buffer,
) {
    let width = |text: &str| clean::width(&clean::clean(text));
    let names = slip.ground.fields.iter().map(|field| width(&field.column.name)).max().unwrap_or(0).min(28) as u16;
    let types = slip.ground.fields.iter().map(|field| width(&field.column.db_type)).max().unwrap_or(0).min(24) as u16;
    for ((at, field), y) in slip.ground.fields.iter().enumerate().skip(view.top).zip(area.y..area.bottom()) {
        let in_hand = at == chosen;
        let line = if in_hand { ground.patch(app.theme.style(Role::Selected)) } else { ground };
        let style = |role| if in_hand { line } else { ground.patch(app.theme.style(role)) };
        fill(cells, Rect { y, height: 1, ..area }, line);
        put(cells, area.x + 1, y, area.right(), if in_hand { "›" } else { " " }, line);
        let x = area.x + 3;
        put_cut(cells, x, y, x + names, &clean::clean(&field.column.name), style(Role::Accent));
        let x = x + names + 2;
        put_cut(cells, x, y, x + types, &clean::clean(&field.column.db_type), style(Role::Faint));
        let (x, end) = (x + types + 2, area.right() - 1);
        let is_element = slip.ground.place.is_some();
        let usual = match (&field.column.default, field.numbered, field.is_given()) {
            (.., false) if is_element => "set by the server".to_owned(),
            _ if slip.ground.whole() == Some(at) => {
                "the whole document as text; fields above take precedence".to_owned()
            }
            _ if slip.ground.is_given_else(at) => "generated by the server if empty".to_owned(),
            _ if slip.ground.can_be_absent(at) => "left out if empty".to_owned(),
            (.., false) => "computed by the server".to_owned(),
            (_, true, _) => "numbered by the server".to_owned(),
            (Some(default), ..) => format!("default {}", clean::clean(default)),
            (None, ..) if field.column.nullable => "NULL where nothing is given".to_owned(),
            _ => "needs a value".to_owned(),
        };
        match (draft.was(at), draft.new.get(&at)) {
            (Some(was), Some(new)) => {
                let x = put_datum(app, was, (x, y, end), style(Role::Faint), cells);
                let x = put(cells, x, y, end, " → ", style(Role::Accent));
                put_datum(app, new, (x, y, end), style(Role::Draft), cells);
            }
            (None, Some(new)) => {
                put_datum(app, new, (x, y, end), style(Role::Draft), cells);
            }
            (Some(was), None) => {
                put_datum(app, was, (x, y, end), line, cells);
            }
            (None, None) if draft.what == What::Add => {
                let comes = slip.ground.whole() == Some(at) || slip.ground.is_given_else(at);
                let needs = field.column.default.is_none() && !field.column.nullable && !field.numbered && !comes;
                let role = if needs && field.is_given() { Role::Failed } else { Role::Faint };
                put_cut(cells, x, y, end, &usual, style(role));
            }
            (None, None) => {
                put_cut(cells, x, y, end, "not read", style(Role::Faint));
            }
        }
    }
}

/// The row as it was read, as it is now, and as it is drafted: the columns that differ.
fn draw_conflict(app: &App, slip: &Slip, conflict: &Conflict, area: Rect, ground: Style, cells: &mut Buffer) {
    let style = |role| ground.patch(app.theme.style(role));
    let Some(draft) = slip.drafts.get(conflict.draft) else { return };
    let Some(theirs) = &conflict.theirs else {
        let text = match draft.what {
            What::Delete => "The row is gone already: nothing is left to delete.",
            _ => "The row is gone: \"ours\" adds it again with the values that were read and drafted.",
        };
        put_cut(cells, area.x + 3, area.y + 1, area.right() - 1, text, ground);
        return;
    };
    let third = (area.width.saturating_sub(6)) / 4;
    let x = |column: u16| area.x + 3 + third * column;
    for (column, text) in ["column", "as it was read", "theirs", "ours"].iter().enumerate() {
        put(cells, x(column as u16), area.y + 1, area.right(), text, style(Role::Faint));
    }
    let differing = slip.ground.fields.iter().enumerate().filter(|(at, _)| {
        let (was, now) = (draft.was(*at), theirs.get(*at).and_then(Option::as_ref));
        // A field of a document that is NULL was read as one that is not there; and all of it is in its fields.
        let is_nothing =
            |value: Option<&Datum>| value.is_some_and(|value| matches!(value, Datum::Null | Datum::Absent));
        let tells = slip.ground.whole() != Some(*at) && !(is_nothing(was) && is_nothing(now));
        draft.new.contains_key(at) || was.is_some() && was != now && tells
    });
    for ((at, field), y) in differing.zip(area.y + 2..area.bottom()) {
        let name = clean::clean(&field.column.name);
        put_cut(cells, x(0), y, x(1) - 2, &name, style(Role::Accent));
        let values = [draft.was(at), theirs.get(at).and_then(Option::as_ref), draft.value(at)];
        let ours = if draft.what == What::Delete { None } else { values[2] };
        for (column, value) in [values[0], values[1], ours].into_iter().enumerate() {
            let (from, end) = (x(column as u16 + 1), x(column as u16 + 2).min(area.right()) - 2);
            let differs = column == 1 && value != values[0];
            let drafted = column == 2 && draft.new.contains_key(&at);
            let role = if drafted {
                Role::Draft
            } else if differs {
                Role::Differing
            } else {
                Role::Overlay
            };
            let deleted = Datum::Text("(deleted)".into());
            let value = value.or((column == 2 && draft.what == What::Delete).then_some(&deleted));
            if let Some(value) = value {
                put_datum(app, value, (from, y, end), style(role), cells);
            }
        }
    }
}

fn draw_script(app: &App, view: &SlipView, area: Rect, ground: Style, cells: &mut Buffer) {
    let style = |role| ground.patch(app.theme.style(role));
    let room = usize::from(area.width.saturating_sub(5)).max(1);
    let rule = "─".repeat(usize::from(area.width));
    put(cells, area.x, area.y, area.right(), &rule, style(Role::Rule));
    let height = usize::from(area.height.saturating_sub(1));
    // That of the draft in hand stands out and is in sight, and what only surrounds them steps back.
    let is_in_hand = |listed: &Listed| listed.changes && listed.draft == Some(view.chosen);
    let at = view.statements.iter().position(is_in_hand).unwrap_or(0);
    let first = (at + 2).saturating_sub(height.max(2)).min(view.statements.len().saturating_sub(height));
    let mut y = area.y + 1;
    for (number, listed) in view.statements.iter().enumerate().skip(first) {
        let role = match (is_in_hand(listed), listed.changes) {
            (true, _) => Role::Accent,
            (false, true) => Role::Overlay,
            (false, false) => Role::Faint,
        };
        let lines = listed.text.lines().flat_map(|line| wrapped(&clean::clean(line), room).into_iter().enumerate());
        for (part, line) in lines {
            if y + 1 >= area.bottom() && number + 1 < view.statements.len() {
                let left = words::count((view.statements.len() - number) as u64, "statement");
                put_cut(cells, area.x + 3, y, area.right() - 1, &format!("… {left} more"), style(Role::Faint));
                return;
            }
            if y >= area.bottom() {
                return;
            }
            let text = if part == 0 { line } else { format!("  {line}") };
            put_cut(cells, area.x + 3, y, area.right() - 1, &text, style(role));
            y += 1;
        }
    }
}
