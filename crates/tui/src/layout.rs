//! Where everything is on the screen.

use ratatui::layout::Rect;

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
}

/// The areas of the screen. An area that is not shown is empty.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Areas {
    /// The context line.
    pub context: Rect,
    /// The buffer with its margin.
    pub buffer: Rect,
    /// The rule between the panes.
    pub rule: Rect,
    /// The result.
    pub result: Rect,
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
        (true, Scope::Result) => (none, none, middle),
        (true, _) => (middle, none, none),
        (false, _) if screen.width >= BESIDE_FROM => {
            let width = (middle.width - 1) * panes.share / 100;
            let rule = Rect { x: middle.x + width, width: 1, ..middle };
            let result = Rect { x: rule.right(), width: middle.width - width - 1, ..middle };
            (Rect { width, ..middle }, rule, result)
        }
        (false, _) => {
            let height = (middle.height.saturating_sub(1)) * panes.share / 100;
            let rule = Rect { y: middle.y + height, height: 1.min(middle.height), ..middle };
            let result = Rect { y: rule.bottom(), height: middle.height.saturating_sub(height + 1), ..middle };
            (Rect { height, ..middle }, rule, result)
        }
    };
    Areas { context, buffer, rule, result, hints }
}

impl Areas {
    /// Whether the panes stand beside each other.
    pub fn beside(&self) -> bool {
        self.rule.width == 1 && self.rule.height > 0
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
                for share in [20, 50, 80] {
                    let screen = Rect::new(0, 0, width, height);
                    let a = areas(screen, Panes { share, filled, focus });
                    let all = [a.context, a.buffer, a.rule, a.result, a.hints];
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
