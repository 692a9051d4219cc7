//! Drawing the state of the screen. Every view is a function from the state and an area into cells;
//! none changes anything, and each can be drawn into cells in memory.

pub mod buffer;
pub mod catalog_browser;
mod cell_editor;
mod chart;
mod column_stats;
pub mod completion_popup;
pub mod context;
pub mod form;
pub mod hints;
mod import;
mod logbook_view;
pub mod overlay;
pub mod plan;
pub mod row_comparison;
pub mod row_detail;
pub mod rows;
pub mod schema_view;
pub mod slip_view;
pub mod strip;
pub mod structure_comparison;

use ratatui::buffer::Buffer;
use ratatui::layout::Position;

use crate::app::App;
use crate::paint::{fill, put};
use crate::theme::Role;

/// The least columns and lines that anything can be shown on.
const LEAST: (u16, u16) = (30, 6);

/// Draws everything. Returns where the cursor stands, if anywhere.
pub fn draw(app: &App, cells: &mut Buffer) -> Option<Position> {
    let screen = cells.area;
    fill(cells, screen, app.theme.style(Role::Text));
    if screen.width < LEAST.0 || screen.height < LEAST.1 {
        put(cells, screen.x, screen.y, screen.right(), "make this larger", app.theme.style(Role::Faint));
        return None;
    }
    let areas = app.areas();
    context::draw(app, areas.context, cells);
    let cursor = buffer::draw(app, areas.buffer, cells);
    let rule = app.theme.style(Role::Text).patch(app.theme.style(Role::Rule));
    for y in areas.rule.top()..areas.rule.bottom() {
        for x in areas.rule.left()..areas.rule.right() {
            put(cells, x, y, areas.rule.right(), if areas.beside() { "│" } else { "─" }, rule);
        }
    }
    strip::draw(app, areas.strip, cells);
    rows::draw(app, &app.rows, areas.result, cells);
    if let Some(other) = &app.other {
        rows::draw(app, other, areas.other, cells);
        let sign = match (areas.between.width, app.is_linked()) {
            (1, false) => "│",
            // Both scroll together.
            (1, true) => "║",
            (_, false) => "─",
            (_, true) => "═",
        };
        for at in areas.between.positions() {
            put(cells, at.x, at.y, areas.between.right(), sign, rule);
        }
    }
    hints::draw(app, areas.hints, cells);
    let cursor = match &app.overlay {
        Some(overlay) => overlay::draw(app, overlay, screen, cells),
        None => {
            if let (Some(offer), Some(at)) = (&app.offer, cursor) {
                completion_popup::draw(app, offer, at, areas.buffer, cells);
            }
            cursor
        }
    };
    // What is written may go on beyond the screen.
    cursor.filter(|cursor| screen.contains(*cursor))
}
