//! Which columns are on the screen, how wide, and in which order.

use ratatui::layout::Rect;

use super::{Rows, View};

use crate::app::{App, Item, List, Overlay, Pick};

/// Cells between two columns.
pub const GAP: u16 = 2;
/// No column takes more than this while others have to step aside.
const WIDE: u16 = 36;
/// A column of which only a part fits is shown from so many cells on.
const NARROW: u16 = 6;

/// A column on the screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Placed {
    /// Its place among the columns that are shown.
    pub position: usize,
    /// Its number in the result.
    pub column: usize,
    /// Its first cell.
    pub x: u16,
    /// Its cells.
    pub width: u16,
}

impl Placed {
    /// Whether a cell of the screen is its own, or that of the gap behind it.
    pub fn holds(&self, x: u16) -> bool {
        (self.x..self.x + self.width + GAP).contains(&x)
    }
}

impl Rows {
    /// The columns on the screen from left to right.
    pub fn columns(&self, area: Rect) -> Vec<Placed> {
        let view = self.view();
        place_columns(&view, area.x + self.gutter(), columns_end(area))
    }

    /// Cells for row numbers.
    pub fn gutter(&self) -> u16 {
        let last = self.view().top + self.height() as u64;
        last.min(self.total()).max(1).to_string().len() as u16 + 2
    }

    pub(super) fn keep_column_in_sight(&mut self) {
        let (start, end) = (self.area.x + self.gutter(), columns_end(self.area));
        let Some(view) = self.view_mut() else { return };
        if view.column < view.kept {
            return;
        }
        view.left = view.left.clamp(view.kept.min(view.column), view.column);
        while view.left < view.column {
            let placed = place_columns(view, start, end);
            let whole = placed.iter().find(|placed| placed.position == view.column);
            if whole.is_some_and(|placed| placed.width >= column_width(view, placed.column, end - start)) {
                break;
            }
            view.left += 1;
        }
    }
}

/// A column's cells: as a person chose, or what its values need, but no more than [`WIDE`] unless all
/// fit.
fn column_width(view: &View, column: usize, room: u16) -> u16 {
    if let Some(chosen) = view.chosen_widths.get(&column) {
        return (*chosen).min(room.max(1));
    }
    let needed = |column: &usize| {
        // A sign behind the name says that rows are sorted by it.
        let sorted = view.arranged.wanted.order.iter().any(|order| order.column == *column);
        let width = view.widths.get(*column).copied().unwrap_or(1).max(1) + if sorted { 2 } else { 0 };
        view.chosen_widths.get(column).copied().unwrap_or(u16::try_from(width).unwrap_or(u16::MAX))
    };
    let gaps = u32::from(GAP) * view.columns.len() as u32;
    let all: u32 = view.columns.iter().map(|column| u32::from(needed(column))).sum();
    let own = needed(&column);
    if all + gaps <= u32::from(room) { own } else { own.min(WIDE).min(room.max(1)) }
}

/// Columns end before the last cell, where a mark says that there are more.
fn columns_end(area: Rect) -> u16 {
    area.right().saturating_sub(1)
}

fn place_columns(view: &View, start: u16, end: u16) -> Vec<Placed> {
    let room = end.saturating_sub(start);
    let kept = view.kept.min(view.columns.len());
    let mut x = start;
    let mut placed = Vec::new();
    for position in (0..kept).chain(view.left.max(kept)..view.columns.len()) {
        let Some(column) = view.columns.get(position).copied() else { break };
        let whole = column_width(view, column, room);
        // Less than this of a column tells nothing.
        if x >= end || (end - x < whole.min(NARROW) && !placed.is_empty()) {
            break;
        }
        let width = whole.min(end - x);
        placed.push(Placed { position, column, x, width });
        x += width + GAP;
    }
    placed
}

impl App {
    /// Keeps the columns up to the one in hand in sight, or lets them go.
    pub fn keep_columns(&mut self) {
        let room = columns_end(self.rows.area).saturating_sub(self.rows.area.x + self.rows.gutter());
        let Some(view) = self.rows.view_mut() else { return };
        let wanted = view.column + 1;
        let first = view.columns.iter().take(wanted);
        let taken: u32 = first.map(|column| u32::from(column_width(view, *column, room) + GAP)).sum();
        if view.kept != wanted && taken > u32::from(room) * 2 / 3 {
            return self.tell("too wide to freeze; narrow these columns, or freeze fewer");
        }
        view.kept = if view.kept == wanted { 0 } else { wanted };
        let text = match view.kept {
            0 => "no frozen columns".to_owned(),
            1 => "first column frozen".to_owned(),
            kept => format!("first {kept} columns frozen"),
        };
        self.tell(text);
    }

    /// Hides the column in hand.
    pub fn hide_column(&mut self) {
        let Some(view) = self.rows.view_mut() else { return };
        if view.columns.len() < 2 {
            return self.tell("the last visible column cannot be hidden");
        }
        let hidden = view.columns.remove(view.column);
        if view.column < view.kept {
            view.kept -= 1;
        }
        view.column = view.column.min(view.columns.len() - 1);
        let name = self.column_name(hidden);
        self.tell(format!("{name} hidden; H shows all columns"));
    }

    /// Shows all columns in their own order and width.
    pub fn all_columns(&mut self) {
        let Some(view) = self.rows.view_mut() else { return };
        let in_hand = view.column_in_hand();
        view.columns = (0..view.widths.len()).collect();
        view.chosen_widths.clear();
        (view.column, view.kept) = (in_hand, 0);
    }

    /// Moves the column in hand to another place.
    pub fn shift_column(&mut self, by: isize) {
        let Some(view) = self.rows.view_mut() else { return };
        let to = view.column.saturating_add_signed(by).min(view.columns.len().saturating_sub(1));
        if to != view.column {
            view.columns.swap(view.column, to);
            view.column = to;
        }
    }

    /// Makes the column in hand wider or narrower.
    pub fn widen_column(&mut self, by: i16) {
        let area = self.rows.area;
        let placed = self.rows.columns(area).into_iter().find(|placed| placed.position == self.rows.view().column);
        if let (Some(placed), Some(view)) = (placed, self.rows.view_mut()) {
            view.chosen_widths.insert(placed.column, placed.width.saturating_add_signed(by).max(1));
        }
    }

    /// Lists the columns, to go to one.
    pub fn list_columns(&mut self) {
        let view = self.rows.view();
        let Some(page) = self.rows.page() else { return };
        let hidden = (0..page.columns.len()).filter(|column| !view.columns.contains(column));
        let shown: Vec<usize> = view.columns.iter().copied().chain(hidden).collect();
        let items = shown.into_iter().filter_map(|column| {
            let head = page.columns.get(column)?;
            let hidden = if view.columns.contains(&column) { "" } else { "hidden" };
            Some(Item {
                label: head.name.clone(),
                key: hidden.to_owned(),
                help: head.type_name.clone(),
                pick: Pick::Column(column),
            })
        });
        self.overlay = Some(Overlay::List(List::new("columns", items.collect())));
    }

    /// Goes to a column of the result, and shows it if it is hidden.
    pub(in crate::app) fn go_to_column(&mut self, column: usize) {
        let Some(view) = self.rows.view_mut() else { return };
        view.column = view.columns.iter().position(|shown| *shown == column).unwrap_or_else(|| {
            view.columns.push(column);
            view.columns.len() - 1
        });
        self.panes.focus = crate::action::Scope::Result;
    }

    /// A column's name, for sentences.
    pub(super) fn column_name(&self, column: usize) -> String {
        let head = self.rows.page().and_then(|page| page.columns.get(column));
        head.map_or_else(String::new, |head| head.name.clone())
    }
}
