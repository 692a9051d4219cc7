//! The line at the top: on which connection, engine, database and schema, as whom, under which
//! guard, in a transaction or not; and which buffer.

use jaunty_core::connection::Guard;
use jaunty_core::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::{App, Link};
use crate::paint::{fill, put, put_cut};
use crate::theme::Role;

/// The guard as it stands on the screen: by word and by shape, not by colour alone.
pub fn guard_mark(guard: Guard) -> &'static str {
    match guard {
        Guard::Open => "open",
        Guard::Ask => " ?? ASKS FIRST ?? ",
        Guard::ReadOnly => " ## READ-ONLY ## ",
    }
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
            let guard =
                edge.patch(app.theme.style(if profile.guard == Guard::Open { Role::Faint } else { Role::Guard }));
            x = put(cells, x, area.y, end, guard_mark(profile.guard), guard) + 2;
            match (&connection.link, &connection.place) {
                (Link::Opening, _) => {
                    put_cut(cells, x, area.y, end, "connecting …", edge);
                }
                (Link::Failed(error), _) => {
                    let wrong = edge.patch(app.theme.style(Role::Failed));
                    put_cut(cells, x, area.y, end, &format!("not connected: {error}"), wrong);
                }
                (_, Some(place)) => {
                    if place.in_transaction() {
                        let open = edge.patch(app.theme.style(Role::Running));
                        x = put_cut(cells, x, area.y, end, "[transaction open]", open) + 2;
                    }
                    let parts = [&place.server, &place.database, &place.schema, &place.user];
                    let parts: Vec<_> = parts.into_iter().filter(|part| !part.is_empty()).map(String::as_str).collect();
                    put_cut(cells, x, area.y, end, &parts.join(" · "), edge);
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
    format!("{}{cut}{unsaved}  {}:{}", name.text, line + 1, column + 1)
}
