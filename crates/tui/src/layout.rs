//! Where everything is on the screen.

use ratatui::layout::{Position, Rect};

use crate::action::Scope;

/// From this width on the result stands beside the buffer; below it stands under it.
pub const BESIDE_FROM: u16 = 120;

/// What a person has chosen about the panes.
#[derive(Debug, Clone, Copy)]
pub struct Panes {
    /// The buffer's share, in percent.
    pub share: u16,
    /// Whether the pane with the focus fills the screen.
    pub filled: bool,
    /// The pane with the focus.
    pub focus: Scope,
    /// Whether there are several results to choose from.
    pub strip: bool,
    /// Where another result stands beside the one in hand.
    pub other: Option<Side>,
    /// Whether there is no buffer: the text is in an editor.
    pub bare: bool,
}

/// A side of the result area; the first is left, or above.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// Left, or above.
    First,
    /// Right, or below.
    Second,
}

impl Side {
    /// The other side.
    pub fn opposite(self) -> Side {
        if self == Side::First { Side::Second } else { Side::First }
    }
}

/// From this width on two results stand beside each other; below it one under the other.
const RESULTS_BESIDE_FROM: u16 = 64;

/// The areas of the screen. An area that is not shown is empty.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Areas {
    /// The context line.
    pub context: Rect,
    /// The buffer with its margin.
    pub buffer: Rect,
    /// The rule between the panes.
    pub rule: Rect,
    /// The results to choose from.
    pub strip: Rect,
    /// The result in hand.
    pub result: Rect,
    /// The rule between it and the other one.
    pub between: Rect,
    /// The other result.
    pub other: Rect,
    /// The last line.
    pub hints: Rect,
}

/// Divides a screen.
pub fn areas(screen: Rect, panes: Panes) -> Areas {
    let line = |y| Rect { y, height: 1.min(screen.height), ..screen };
    let context = line(screen.y);
    let hints = line(screen.bottom().saturating_sub(1));
    let middle = Rect { y: screen.y + context.height, height: screen.height.saturating_sub(2), ..screen };
    let none = Rect { width: 0, height: 0, ..middle };
    let (buffer, rule, result) = match (panes.filled, panes.focus) {
        _ if panes.bare => (none, none, middle),
        (true, Scope::Result) => (none, none, middle),
        (true, _) => (middle, none, none),
        (false, _) => divided(middle, screen.width >= BESIDE_FROM, panes.share),
    };
    let (strip, results) = below_strip(result, panes.strip);
    let (result, between, other) = side_by_side(results, panes.other);
    Areas { context, buffer, rule, strip, result, between, other, hints }
}

fn below_strip(area: Rect, strip: bool) -> (Rect, Rect) {
    let height = if strip { 1.min(area.height) } else { 0 };
    (Rect { height, ..area }, Rect { y: area.y + height, height: area.height - height, ..area })
}

/// The area of the result in hand, of the rule, and of the other result.
fn side_by_side(area: Rect, other: Option<Side>) -> (Rect, Rect, Rect) {
    let none = Rect { width: 0, height: 0, ..area };
    let Some(side) = other.filter(|_| !area.is_empty()) else { return (area, none, none) };
    let (first, between, second) = divided(area, area.width >= RESULTS_BESIDE_FROM, 50);
    match side {
        Side::First => (second, between, first),
        Side::Second => (first, between, second),
    }
}

/// Divides an area at a rule, from left to right or from top to bottom.
fn divided(area: Rect, beside: bool, share: u16) -> (Rect, Rect, Rect) {
    if beside {
        let width = (area.width - 1) * share / 100;
        let rule = Rect { x: area.x + width, width: 1, ..area };
        (Rect { width, ..area }, rule, Rect { x: rule.right(), width: area.width - width - 1, ..area })
    } else {
        let height = area.height.saturating_sub(1) * share / 100;
        let rule = Rect { y: area.y + height, height: 1.min(area.height), ..area };
        let below = Rect { y: rule.bottom(), height: area.height.saturating_sub(height + 1), ..area };
        (Rect { height, ..area }, rule, below)
    }
}

impl Areas {
    /// Whether the panes stand beside each other.
    pub fn beside(&self) -> bool {
        self.rule.width == 1 && self.rule.height > 0
    }

    /// Whether a place is in one of the results.
    pub fn in_results(&self, at: Position) -> bool {
        self.result.contains(at) || self.other.contains(at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_size_is_covered_without_overlap() {
        for (width, height) in
            [(80, 24), (119, 30), (120, 30), (140, 42), (200, 60), (500, 200), (20, 5), (1, 1), (0, 0)]
        {
            for (filled, focus) in [(false, Scope::Buffer), (true, Scope::Buffer), (true, Scope::Result)] {
                for (share, other) in [(20, None), (50, Some(Side::First)), (80, Some(Side::Second))] {
                    let screen = Rect::new(0, 0, width, height);
                    let strip = other.is_some();
                    let a = areas(screen, Panes { share, filled, focus, strip, other, bare: false });
                    let all = [a.context, a.buffer, a.rule, a.strip, a.result, a.between, a.other, a.hints];
                    let covered: u32 = all.iter().map(|r| r.area()).sum();
                    if height >= 4 {
                        assert_eq!(covered, screen.area(), "{width}x{height}");
                    }
                    assert!(all.iter().all(|r| r.is_empty() || screen.intersection(*r) == *r), "{width}x{height}");
                }
            }
        }
    }
}
