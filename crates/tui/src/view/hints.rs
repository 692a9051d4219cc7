//! The last line: what was told last, or else which keys do what here.

use jaunty_core::complete::about::Call;
use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::action::{Action, Scope, by_name};
use crate::app::{App, Shows};
use crate::paint::{fill, put, put_cut};
use crate::theme::Role;

/// The actions hinted at, most wanted first.
fn hinted(app: &App) -> Vec<&'static Action> {
    let names: &[&str] = match app.panes.focus {
        _ if app.offer.is_some() => &["take-proposal", "proposal-down", "close-offer", "run-statement"],
        _ if app.connection.is_busy() => &["back", "rows-on", "go-to-row", "other-pane", "actions", "help", "quit"],
        Scope::Result if app.rows.shows() != Shows::Rows => {
            &["to-buffer", "go-to-statement", "run-statement", "next-result", "logbook", "actions", "help"]
        }
        Scope::Result if app.rows.view().marked.is_some() => {
            &["copy-cells", "copy-as", "put-as", "export", "mark", "mark-all", "to-buffer", "actions", "help"]
        }
        Scope::Result if !app.rows.view().arranged.wanted.is_plain() => &[
            "undo-arranging",
            "original-order",
            "sort-further",
            "narrow",
            "search-rows",
            "write-arrangement",
            "facts",
            "export",
            "to-buffer",
            "actions",
            "help",
        ],
        Scope::Result if app.other.is_some() => &[
            "to-buffer",
            "next-difference",
            "link",
            "place-beside",
            "next-result",
            "last-row",
            "sort",
            "actions",
            "help",
            "fill",
        ],
        Scope::Result if app.rows.holds() && app.followed() => {
            &["to-buffer", "follow-row", "follow-back", "go-to-statement", "hold", "sort", "narrow", "actions", "help"]
        }
        Scope::Result if app.rows.holds() => {
            &["to-buffer", "hold", "next-result", "go-to-statement", "place-beside", "sort", "actions", "help"]
        }
        Scope::Result if app.panes.strip => {
            &["to-buffer", "next-result", "place-beside", "last-row", "sort", "show-row", "facts", "actions", "help"]
        }
        Scope::Result => &[
            "to-buffer",
            "last-row",
            "sort",
            "narrow",
            "search-rows",
            "show-row",
            "facts",
            "mark",
            "change-value",
            "copy-as",
            "export",
            "follow-row",
            "actions",
            "help",
            "fill",
        ],
        _ => &[
            "run-statement",
            "run-all",
            "next-statement",
            "other-pane",
            "catalog",
            "logbook",
            "actions",
            "help",
            "rows-on",
            "explain",
            "save",
            "quit",
        ],
    };
    // Beside an editor there is no buffer to go to.
    let of_buffer = ["to-buffer", "go-to-statement", "other-pane", "run-all", "save", "fill"];
    let there = names.iter().filter(|name| !app.panes.bare || !of_buffer.contains(name));
    there.filter_map(|name| by_name(name)).collect()
}

/// Where each hint stands.
fn placed(app: &App, area: Rect) -> Vec<(&'static Action, u16, String)> {
    let mut x = area.x + 1;
    let mut placed = Vec::new();
    for action in hinted(app) {
        let key = app.keymap.first(action);
        let width = (clean::width(&key) + 1 + clean::width(title(app, action))) as u16;
        if key.is_empty() {
            continue;
        }
        if x + width > area.right() {
            break;
        }
        placed.push((action, x, key));
        x += width + 3;
    }
    placed
}

fn title(app: &App, action: &'static Action) -> &'static str {
    match action.name {
        "back" if app.connection.is_busy() => "Cancel",
        "hold" if app.rows.holds() => "Release result",
        "place-beside" if app.other.is_some() => "One result",
        _ => action.title,
    }
}

/// The action whose hint stands at a column.
pub fn action_at(app: &App, area: Rect, x: u16) -> Option<&'static Action> {
    if app.status.is_some() || app.unprotected().is_some() {
        return None;
    }
    let hints = placed(app, area);
    let hit = hints.iter().rev().find(|(_, start, _)| *start <= x)?;
    let width = clean::width(&hit.2) + 1 + clean::width(title(app, hit.0));
    (x < hit.1 + width as u16).then_some(hit.0)
}

pub(super) fn draw(app: &App, area: Rect, cells: &mut Buffer) {
    if area.is_empty() {
        return;
    }
    let edge = app.theme.style(Role::Edge);
    fill(cells, area, edge);
    if let Some(work) = app.work() {
        let line = format!(
            "{} · {} stops",
            work.words(),
            by_name("back").map_or_else(String::new, |back| app.keymap.first(back))
        );
        put_cut(cells, area.x + 1, area.y, area.right(), &line, edge.patch(app.theme.style(Role::Running)));
        return;
    }
    // It stands there for as long as it is so, and what else is to be told beside it.
    let mut area = area;
    if let Some(unprotected) = app.unprotected() {
        let style = edge.patch(app.theme.style(Role::Failed));
        let next = put_cut(cells, area.x + 1, area.y, area.right(), &clean::clean(&unprotected), style);
        area = Rect { x: (next + 2).min(area.right()), width: area.right().saturating_sub(next + 2), ..area };
    }
    if let Some(batch) = app.connection.batch_words() {
        let stops = by_name("back").map_or_else(String::new, |back| app.keymap.first(back));
        let line = format!("{batch} · {stops} stops");
        put_cut(cells, area.x + 1, area.y, area.right(), &line, edge.patch(app.theme.style(Role::Running)));
        return;
    }
    if app.connection.is_looked_at() {
        let stops = by_name("back").map_or_else(String::new, |back| app.keymap.first(back));
        let line = format!("asking the server what this would do · {stops} stops");
        put_cut(cells, area.x + 1, area.y, area.right(), &line, edge.patch(app.theme.style(Role::Running)));
        return;
    }
    if let Some(told) = &app.status {
        let style = if told.wrong { edge.patch(app.theme.style(Role::Failed)) } else { edge };
        let line = told.text.replace('\n', " · ");
        put_cut(cells, area.x + 1, area.y, area.right(), &line, style);
        return;
    }
    if app.connection.is_held() && app.offer.is_none() {
        let key = |name| by_name(name).map_or_else(String::new, |action| app.keymap.first(action));
        let line = format!(
            "rows fetched so far are kept, the server's cursor is open · {} in the result fetches the rest · {} closes it",
            key("last-row"),
            key("back")
        );
        put_cut(cells, area.x + 1, area.y, area.right(), &line, edge.patch(app.theme.style(Role::Running)));
        return;
    }
    if let Some(problem) = app.offer.is_none().then(|| app.problem_at_cursor()).flatten() {
        put_cut(cells, area.x + 1, area.y, area.right(), &problem, edge.patch(app.theme.style(Role::Failed)));
        return;
    }
    if let Some(call) = app.offer.is_none().then(|| app.call()).flatten() {
        return draw_call(app, call, area, edge, cells);
    }
    for (action, x, key) in placed(app, area) {
        let next = put(cells, x, area.y, area.right(), &key, edge.patch(app.theme.style(Role::Accent)));
        let faint = edge.patch(app.theme.style(Role::Faint));
        put(cells, next + 1, area.y, area.right(), title(app, action), faint);
    }
}

/// The call that the cursor stands in, with the argument that is being written.
fn draw_call(app: &App, call: &Call, area: Rect, edge: Style, cells: &mut Buffer) {
    let part = |range: std::ops::Range<usize>| call.signature.get(range).unwrap_or_default();
    let strong = edge.patch(app.theme.style(Role::Accent));
    let x = put(cells, area.x + 1, area.y, area.right(), part(0..call.argument.start), edge);
    let x = put(cells, x, area.y, area.right(), part(call.argument.clone()), strong);
    put_cut(cells, x, area.y, area.right(), part(call.argument.end..call.signature.len()), edge);
}
