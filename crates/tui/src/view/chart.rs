//! A chart of rows, as large as the screen.

use jaunty_language::text::clean;
use jaunty_picture::cells::{Cell, Grid};
use jaunty_picture::{Paint, Scene};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::{heading_before, keys};
use crate::app::{App, ChartView};
use crate::paint::{put, put_cut, put_hint};
use crate::theme::Role;

pub(super) fn draw(app: &App, view: &ChartView, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let style = |role| ground.patch(app.theme.style(role));
    let kind = view.data.as_ref().map_or("chart", |data| data.plan.kind.word());
    let title = format!("{kind} · {}", clean::clean(view.title()));
    let hint = keys(
        app,
        &[
            ("chart-previous chart-next", "positions"),
            ("accept", "rows"),
            ("chart-kind", "kind"),
            ("chart-x chart-y", "columns"),
            ("chart-by", "series"),
            ("chart-each", "multiples"),
            ("chart-aggregate", "aggregate"),
            ("chart-step", "step"),
            ("chart-stack", "stack"),
            ("chart-log", "log"),
            ("chart-save", "saves"),
            ("close-overlay", "closes"),
        ],
    );
    let start = put_hint(cells, area.x + area.width * 2 / 5, area.y, area.right() - 1, &hint, style(Role::Faint));
    heading_before(app, &title, start, area, ground, cells);
    let inside = Rect { y: area.y + 1, height: area.height.saturating_sub(crate::app::CHART_AROUND), ..area };
    match (&view.plot, &view.failed) {
        (_, Some(failed)) => {
            put_cut(cells, area.x + 3, inside.y + 1, area.right() - 1, failed, style(Role::Failed));
        }
        (Some(plot), None) => {
            picture(app, &plot.scene, inside, ground, cells);
            mark_place(app, view, inside, cells);
        }
        (None, None) => {
            put(cells, area.x + 3, inside.y + 1, area.right(), "drawing …", style(Role::Faint));
        }
    }
    let last = area.bottom().saturating_sub(1);
    let told = app.work().map(|work| work.words());
    match (view.place(), told) {
        (Some(place), _) => {
            let name = format!("{}  ", clean::clean(&place.name));
            let mut x = put_cut(cells, area.x + 1, last, area.right() - 1, &name, style(Role::Accent));
            for (at, (series, value)) in place.values.iter().enumerate() {
                if at > 0 {
                    x = put_cut(cells, x, last, area.right() - 1, " · ", style(Role::Faint));
                }
                let text = match series.is_empty() {
                    true => value.clone(),
                    false => format!("{series} {value}"),
                };
                x = put_cut(cells, x, last, area.right() - 1, &text, ground);
                if x >= area.right() - 1 {
                    break;
                }
            }
        }
        (None, Some(work)) => drop(put_cut(cells, area.x + 1, last, area.right() - 1, &work, style(Role::Running))),
        (None, None) => {}
    }
    None
}

/// Paints a scene of [`Metrics::TERMINAL`](jaunty_picture::Metrics::TERMINAL) into an area.
pub(super) fn picture(app: &App, scene: &Scene, area: Rect, ground: Style, cells: &mut Buffer) {
    let grid = Grid::paint(scene, app.theme.has_colours());
    for y in 0..area.height {
        for x in 0..area.width {
            let Cell { symbol, paint, ground: below } = grid.cell(usize::from(x), usize::from(y));
            if symbol == '\0' || (symbol == ' ' && below == Paint::Ground) {
                continue;
            }
            let painted = app.theme.painted(paint, below, ground);
            put(cells, area.x + x, area.y + y, area.right(), symbol.encode_utf8(&mut [0; 4]), painted);
        }
    }
}

/// Shows where the place in hand is.
fn mark_place(app: &App, view: &ChartView, inside: Rect, cells: &mut Buffer) {
    let (Some(plot), Some(place)) = (&view.plot, view.place()) else { return };
    let chosen = app.theme.style(Role::Selected);
    let Some([left, top, right, bottom]) = plot.frames.get(place.part).copied() else { return };
    let cell = |at: f32, size: f32| (at / size).floor().max(0.0) as u16;
    if place.lies {
        let y = inside.y + cell(place.at.1, 4.0);
        if y < inside.bottom() {
            put(cells, inside.x, y, inside.right(), "›", chosen);
            cells.set_style(Rect { y, height: 1, ..inside }, Style::new().bg(chosen.bg.unwrap_or_default()));
        }
        return;
    }
    let x = (inside.x + cell(place.at.0, 2.0)).min(inside.right().saturating_sub(1));
    let _ = (left, right);
    let from = inside.y + cell(top, 4.0);
    let to = (inside.y + cell(bottom + 3.9, 4.0)).min(inside.bottom());
    for y in from..to {
        if let Some(cell) = cells.cell_mut(Position::new(x, y)) {
            if cell.symbol() == " " {
                cell.set_symbol("│");
            }
            cell.set_style(chosen);
        }
    }
}
