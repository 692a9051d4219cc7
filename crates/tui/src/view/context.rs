//! The line at the top: on which connection, engine, database and schema, as whom, under which
//! guard, in a transaction or not; and which buffer.

use std::time::SystemTime;

use jaunty_language::text::clean;
use jaunty_seam::engine::Transaction;
use jaunty_seam::profile::Guard;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::{App, Link};
use crate::paint::{fill, put, put_cut};
use crate::theme::Role;
use jaunty_core::words;

/// The guard as it stands on the screen: by word and by shape, not by colour alone.
pub fn guard_mark(guard: Guard) -> &'static str {
    match guard {
        Guard::Open => "open",
        Guard::Ask => " ?? ASKS FIRST ?? ",
        Guard::ReadOnly => " ## READ-ONLY ## ",
    }
}

/// The open transaction, with its age.
fn transaction_mark(transaction: Transaction, since: Option<SystemTime>, now: SystemTime) -> String {
    let age = since.and_then(|since| now.duration_since(since).ok()).unwrap_or_default();
    match transaction {
        Transaction::Open => format!("[transaction open {}]", words::age(age)),
        Transaction::Failed => format!("[TRANSACTION FAILED, {}: roll it back]", words::age(age)),
    }
}

/// Which of two sessions is in hand, and how the other one stands.
fn session_mark(app: &App) -> Option<String> {
    let twin = app.twin()?;
    let open = twin.location.as_ref().is_some_and(|location| location.in_transaction());
    let other = match (twin.is_busy() && !twin.is_held(), open) {
        (true, _) => format!(", {} is running", twin.session),
        (false, true) => format!(", {} has a transaction open", twin.session),
        (false, false) => String::new(),
    };
    Some(format!("session {}{other}", app.connection.session))
}

pub(super) fn draw(app: &App, area: Rect, cells: &mut Buffer) {
    if area.is_empty() {
        return;
    }
    let edge = app.theme.style(Role::Edge);
    let faint = edge.patch(app.theme.style(Role::Faint));
    let strong = edge.patch(app.theme.style(Role::Accent));
    fill(cells, area, edge);
    let right = buffer_part(app);
    let end = area.right().saturating_sub(clean::width(&right) as u16 + 2);
    let mut x = area.x + 1;
    let connection = &app.connection;
    match &connection.profile {
        None => {
            put_cut(cells, x, area.y, end, "no connection", faint);
        }
        Some(profile) => {
            x = put_cut(cells, x, area.y, end, &profile.name, strong) + 1;
            if let Some(label) = &profile.label {
                let word = clean::fit(&clean::clean(label), 24).text.to_uppercase();
                x = put(cells, x, area.y, end, &format!(" ◆ {word} ◆ "), edge.patch(app.theme.style(Role::Guard))) + 1;
            }
            let guard =
                edge.patch(app.theme.style(if profile.guard == Guard::Open { Role::Faint } else { Role::Guard }));
            let lifted = connection.location.as_ref().is_some_and(|location| location.guard_lifted);
            let mark = if lifted { " !! READ-ONLY WAS LIFTED !! " } else { guard_mark(profile.guard) };
            x = put(cells, x, area.y, end, mark, guard) + 2;
            if let Some(session) = session_mark(app) {
                x = put_cut(cells, x, area.y, end, &session, edge.patch(app.theme.style(Role::Running))) + 2;
            }
            match (&connection.link, &connection.location) {
                (Link::Opening, _) => {
                    put_cut(cells, x, area.y, end, "connecting …", edge);
                }
                (Link::Failed(error), _) => {
                    let wrong = edge.patch(app.theme.style(Role::Failed));
                    let text = format!("not connected · {}{error}", error.step_words());
                    put_cut(cells, x, area.y, end, &text, wrong);
                }
                (_, Some(place)) => {
                    if let Some(transaction) = place.transaction {
                        let role = if transaction == Transaction::Failed { Role::Failed } else { Role::Running };
                        let text = transaction_mark(transaction, connection.transaction_since, app.now);
                        x = put_cut(cells, x, area.y, end, &text, edge.patch(app.theme.style(role))) + 2;
                    }
                    let parts = [&place.server, &place.node, &place.database, &place.schema, &place.user];
                    let parts: Vec<_> = parts.into_iter().filter(|part| !part.is_empty()).map(String::as_str).collect();
                    put_cut(cells, x, area.y, end, &parts.join(" · "), edge);
                }
                (Link::Gone(what), None) => {
                    put_cut(cells, x, area.y, end, what, faint);
                }
                (_, None) => {}
            }
        }
    }
    put(cells, end + 1, area.y, area.right(), &right, if app.buffer.document.is_unsaved() { strong } else { edge });
}

fn buffer_part(app: &App) -> String {
    let (line, column) = app.buffer.place();
    let unsaved = if app.buffer.document.is_unsaved() { " + unsaved" } else { "" };
    let name = clean::fit(&app.buffer.name(), 30);
    let cut = if name.cut { "…" } else { "" };
    let form = app.buffer.form();
    let form = if form.is_usual() { String::new() } else { format!("  {form}") };
    format!("{}{cut}{unsaved}{form}  {}:{}", name.text, line + 1, column + 1)
}
