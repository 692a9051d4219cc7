//! The drawing of a schema: as much of it as the screen has room for, around the table in hand.

use jaunty_picture::Paint;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::{heading, keys};
use crate::app::{App, SchemaView};
use crate::paint::{put, put_hint};
use crate::theme::Role;

/// The line above it.
pub const HEAD: u16 = 1;

pub(super) fn draw(app: &App, view: &SchemaView, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let keys_of = jaunty_core::words::count(view.layout.roads.len() as u64, "foreign key");
    let title =
        format!("{} · {} · {keys_of}", view.title(), jaunty_core::words::count(view.tables.len() as u64, "table"));
    let x = heading(app, &title, area, ground, cells);
    let does = keys(
        app,
        &[
            ("schema-left schema-right overlay-up overlay-down", "tables"),
            ("schema-follow", "follows a key"),
            ("accept", "reveals"),
            ("schema-fewer schema-more", "fewer or more"),
            ("schema-save", "saves"),
            ("close-overlay", "closes"),
        ],
    );
    put_hint(cells, x + 2, area.y, area.right() - 1, &does, ground.patch(app.theme.style(Role::Faint)));
    let inside = Rect { y: area.y + HEAD, height: area.height.saturating_sub(HEAD), ..area };
    let chosen = view.layout.boxes.get(view.chosen).copied();
    for y in 0..inside.height {
        for x in 0..inside.width {
            let (at_x, at_y) = (view.corner.0 + i32::from(x), view.corner.1 + i32::from(y));
            let cell = view.cells.cell(at_x, at_y);
            let is_chosen = chosen.is_some_and(|placed| {
                (placed.x..placed.x + placed.width).contains(&at_x)
                    && (placed.y..placed.y + placed.height).contains(&at_y)
            });
            let base = if is_chosen { ground.patch(app.theme.style(Role::Selected)) } else { ground };
            if cell.symbol == '\0' || (cell.symbol == ' ' && !is_chosen) {
                continue;
            }
            let style = if is_chosen { base } else { app.theme.painted(cell.paint, Paint::Ground, ground) };
            put(cells, inside.x + x, inside.y + y, inside.right(), cell.symbol.encode_utf8(&mut [0; 4]), style);
        }
    }
    None
}
