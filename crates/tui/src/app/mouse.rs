//! What the mouse does: everything that keys do as well, where it points.

use std::time::{Duration, Instant};

use crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};

use super::App;
use crate::action::Scope;
use crate::layout::Areas;

/// What a hand is dragging.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Dragging {
    Selection,
    Divider,
    /// Cells of a result, which it marks.
    Cells,
}

/// Two clicks at one place within this time are one of two.
const TWICE: Duration = Duration::from_millis(400);

impl App {
    pub(super) fn mouse(&mut self, mouse: MouseEvent) {
        if matches!(mouse.kind, MouseEventKind::Down(_) | MouseEventKind::ScrollUp | MouseEventKind::ScrollDown) {
            self.offer = None;
        }
        let at = Position::new(mouse.column, mouse.row);
        let areas = self.areas();
        if self.overlay.is_some() {
            if mouse.kind == MouseEventKind::Down(MouseButton::Left) {
                self.click_overlay(at);
            } else if matches!(mouse.kind, MouseEventKind::ScrollUp | MouseEventKind::ScrollDown) {
                let by = if mouse.kind == MouseEventKind::ScrollUp { -1 } else { 1 };
                self.on_layer(|layer, _| layer.move_by(by * layer.wheel()));
            }
            return;
        }
        match mouse.kind {
            MouseEventKind::ScrollUp | MouseEventKind::ScrollDown => {
                let up = mouse.kind == MouseEventKind::ScrollUp;
                let by = if up { -3 } else { 3 };
                if areas.result.contains(at) || (self.is_linked() && areas.other.contains(at)) {
                    self.rows.scroll(by);
                } else if let Some(other) = self.other.as_mut().filter(|_| areas.other.contains(at)) {
                    other.scroll(by);
                } else {
                    self.buffer.scroll(if up { -3 } else { 3 }, areas.buffer);
                }
            }
            MouseEventKind::Down(MouseButton::Left) if areas.rule.contains(at) => {
                self.dragging = Some(Dragging::Divider)
            }
            MouseEventKind::Down(MouseButton::Left) if areas.buffer.contains(at) => {
                self.panes.focus = Scope::Buffer;
                self.dragging = Some(Dragging::Selection);
                self.buffer.click(at, areas.buffer, false);
            }
            MouseEventKind::Down(MouseButton::Left) if areas.in_results(at) => self.click_result(at, areas),
            MouseEventKind::ScrollLeft | MouseEventKind::ScrollRight if areas.result.contains(at) => {
                self.move_column(if mouse.kind == MouseEventKind::ScrollLeft { -1 } else { 1 });
            }
            MouseEventKind::Down(MouseButton::Left) if areas.strip.contains(at) => {
                let strip = self.strip();
                if let Some(slot) = crate::view::strip::slot_at(self, areas.strip, at.x).and_then(|at| strip.get(at)) {
                    self.choose_slot(slot);
                }
            }
            MouseEventKind::Down(MouseButton::Left) if areas.hints.contains(at) => {
                if let Some(action) = crate::view::hints::action_at(self, areas.hints, at.x) {
                    self.act(action);
                }
            }
            MouseEventKind::Down(MouseButton::Left) if areas.context.contains(at) => self.list_connections(),
            MouseEventKind::Drag(MouseButton::Left) => match self.dragging {
                Some(Dragging::Selection) => self.buffer.click(at, areas.buffer, true),
                Some(Dragging::Divider) => self.drag_divider(at, areas),
                Some(Dragging::Cells) => self.mark_to(at, areas.result),
                None => {}
            },
            MouseEventKind::Up(MouseButton::Left) => self.dragging = None,
            _ => {}
        }
    }

    /// A click takes the cell in hand; on the name of the column that is in hand already it sorts, and twice on a
    /// cell it shows the value alone.
    fn click_result(&mut self, at: Position, areas: Areas) {
        let had_focus = std::mem::replace(&mut self.panes.focus, Scope::Result) == Scope::Result;
        let other = areas.other.contains(at);
        if other {
            self.take_other();
        }
        // Where the other one was is now the area of the one in hand.
        let area = self.areas().result;
        let before = self.rows.view();
        self.rows.click(at, area);
        let now = self.rows.view();
        let twice = self
            .clicked
            .replace((Instant::now(), at))
            .is_some_and(|(when, place)| place == at && when.elapsed() < TWICE);
        if at.y == area.y + 1 {
            if had_focus && !other && before.column == now.column {
                self.sort();
            }
        } else if at.y >= area.y + self.rows.head(area) {
            self.unmark();
            self.dragging = Some(Dragging::Cells);
            if twice {
                self.show_value();
            }
        }
    }

    /// Marks the cells between the one in hand and the one that a hand has come to.
    fn mark_to(&mut self, at: Position, area: Rect) {
        let from = self.rows.view();
        self.rows.click(at, area);
        let now = self.rows.view();
        if (from.row, from.column) != (now.row, now.column) {
            self.begin_mark((from.row, from.column));
            self.add_up();
        }
    }

    fn drag_divider(&mut self, at: Position, areas: Areas) {
        let (taken, whole) = if areas.beside() {
            (at.x, self.screen.width)
        } else {
            (at.y.saturating_sub(1), self.screen.height.saturating_sub(2))
        };
        self.panes.share = (taken * 100 / whole.max(1)).clamp(20, 80);
    }
}
