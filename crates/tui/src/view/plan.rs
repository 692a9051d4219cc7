//! The plan of a statement as a tree, with what each step takes for itself.

use jaunty_core::chart::scale::{number, short};
use jaunty_core::drawing::plan::{About, DEEPEST, headings, own, remarks, rows, total, whole};
use jaunty_language::plan::{Plan, Step, Unit};
use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::{heading_before, keys};
use crate::app::{App, Earlier, PlanView};
use crate::paint::{fill, put, put_cut, put_hint, put_right};
use crate::theme::Role;

/// The heading, the names of the columns, and what is told of the step in hand.
const ABOVE: u16 = 2;
const BELOW: u16 = 7;

/// The bar of a step's share, in cells.
const BAR: u16 = 8;

/// Where the columns begin: what it takes for itself, its rows, and the tree.
const OWN: u16 = 1 + BAR + 1;
const ROWS: u16 = OWN + 12;
const TREE: u16 = ROWS + 26;

/// How many steps have room in so many lines.
pub fn lines(height: u16) -> u16 {
    height.saturating_sub(ABOVE + BELOW)
}

const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];

pub(super) fn draw(app: &App, view: &PlanView, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let style = |role| ground.patch(app.theme.style(role));
    let title = match &view.plan {
        Some(Ok(plan)) => match compared(view) {
            Some(earlier) => format!("plan · {} now, {} at {}", total(plan), total(&earlier.plan), earlier.moment),
            None => format!("plan · {}", whole(plan)),
        },
        _ => "plan".to_owned(),
    };
    let does = keys(
        app,
        &[
            ("plan-by-share", if view.by_share { "tree" } else { "sorts" }),
            ("plan-measure", "measures"),
            ("plan-compare", if view.compares { "alone" } else { "compares" }),
            ("plan-save", "saves"),
            ("close-overlay", "closes"),
        ],
    );
    let (hint, role) = match &app.status {
        Some(told) if told.wrong => (told.text.as_str(), Role::Failed),
        _ => (does.as_str(), Role::Faint),
    };
    let start = put_hint(cells, area.x + area.width / 2, area.y, area.right() - 1, hint, style(role));
    heading_before(app, &title, start, area, ground, cells);
    let plan = match &view.plan {
        None => {
            put(cells, area.x + 3, area.y + 2, area.right(), "reading the plan …", style(Role::Faint));
            return None;
        }
        Some(Err(error)) => {
            put_cut(cells, area.x + 3, area.y + 2, area.right() - 1, error, style(Role::Failed));
            return None;
        }
        Some(Ok(plan)) => plan,
    };
    let tree = if area.width >= 100 { TREE } else { ROWS };
    let (owns, met) = headings(plan);
    put(cells, area.x + OWN, area.y + 1, area.right(), owns, style(Role::Faint));
    if tree == TREE {
        let heading = if compared(view).is_some() { "earlier → now" } else { met };
        put(cells, area.x + ROWS, area.y + 1, area.right(), heading, style(Role::Faint));
    }
    let height = lines(area.height);
    for (place, at) in view.order().into_iter().enumerate().skip(view.top).take(usize::from(height)) {
        let Some(step) = plan.steps.get(at) else { continue };
        let y = area.y + ABOVE + (place - view.top) as u16;
        let line = Rect { y, height: 1, ..area };
        draw_step(app, view, (plan, at, step), (place == view.chosen, tree), line, ground, cells);
    }
    let below = Rect { y: area.bottom().saturating_sub(BELOW), height: BELOW.min(area.height), ..area };
    if let Some(step) = view.step() {
        draw_about(app, view, (plan, step), below, ground, cells);
    }
    None
}

/// The plan that stands beside it.
fn compared(view: &PlanView) -> Option<&Earlier> {
    view.earlier.as_ref().filter(|_| view.compares)
}

/// What a step took for itself in the earlier plan, and takes now.
fn changed(earlier: &Earlier, plan: &Plan, at: usize, step: &Step) -> String {
    let same = earlier.comparison.earlier.get(at).copied().flatten().and_then(|at| earlier.plan.steps.get(at));
    match (same, plan.unit) {
        (None, _) => "new".to_owned(),
        (Some(_), Unit::None) => "as before".to_owned(),
        (Some(before), _) => format!("{} → {}", own(&earlier.plan, before), own(plan, step)),
    }
}

fn draw_step(
    app: &App,
    view: &PlanView,
    (plan, at, step): (&Plan, usize, &Step),
    (chosen, tree): (bool, u16),
    line: Rect,
    ground: Style,
    cells: &mut Buffer,
) {
    let base = if chosen { ground.patch(app.theme.style(Role::Selected)) } else { ground };
    fill(cells, line, base);
    let style = |role| if chosen { base } else { base.patch(app.theme.style(role)) };
    if plan.unit != Unit::None {
        let eighths = (step.share * f64::from(BAR) * 8.0).round() as usize;
        let bar = "█".repeat(eighths / 8) + EIGHTHS[eighths % 8];
        put(
            cells,
            line.x + 1,
            line.y,
            line.right(),
            &bar,
            style(if step.is_dear { Role::Failed } else { Role::Accent }),
        );
        put_right(cells, line.x + OWN, line.y, line.x + ROWS - 2, &own(plan, step), base);
    }
    if tree == TREE {
        let (text, role) = match compared(view) {
            Some(earlier) => {
                let text = changed(earlier, plan, at, step);
                let role = if text == "new" { Role::Accent } else { Role::Text };
                (text, role)
            }
            None if step.misestimate().is_some() => (rows(step), Role::Failed),
            None => (rows(step), Role::Text),
        };
        let painted = if role == Role::Text { base } else { style(role) };
        put_cut(cells, line.x + ROWS, line.y, line.x + TREE - 1, &text, painted);
    }
    let flat = view.by_share;
    let indent = if flat { 0 } else { 2 * step.depth.min(DEEPEST) as u16 };
    let start = line.x + tree + indent;
    let mark = if step.is_dear && !flat { "▸ " } else { "  " };
    let x = put(cells, start, line.y, line.right(), mark, style(Role::Failed));
    let x = put_cut(cells, x, line.y, line.right() - 1, &clean::clean(&step.action), base);
    let x = match step.target.is_empty() {
        true => x,
        false => put_cut(cells, x + 1, line.y, line.right() - 1, &clean::clean(&step.target), style(Role::Accent)),
    };
    let mut x = x + 2;
    for (about, text) in remarks(step) {
        if x >= line.right() {
            break;
        }
        let role = match about {
            About::Way => Role::Faint,
            About::Caution => Role::Stopped,
            About::Misestimate => Role::Failed,
        };
        x = put_cut(cells, x, line.y, line.right() - 1, &text, style(role)) + 2;
    }
}

/// What is known of the step in hand.
fn draw_about(app: &App, view: &PlanView, (plan, step): (&Plan, &Step), area: Rect, ground: Style, cells: &mut Buffer) {
    let style = |role| ground.patch(app.theme.style(role));
    for x in area.left()..area.right() {
        put(cells, x, area.y, area.right(), "─", style(Role::Rule));
    }
    let room = usize::from(area.height.saturating_sub(1));
    let mut lines = compared(view).map(|earlier| gone(earlier, room)).unwrap_or_default();
    if plan.unit != Unit::None {
        let share = format!("{} % of all", number(step.share * 100.0, 1));
        let whole = match plan.unit {
            Unit::Time => step.time.map(|time| format!(", {} ms with the steps below", short(time))),
            _ => step.cost.map(|cost| format!(", cost {} with the steps below", short(cost))),
        };
        lines.push(("own share".to_owned(), share + &whole.unwrap_or_default()));
    }
    lines.extend(step.details.iter().cloned());
    let width = lines.iter().take(room).map(|(name, _)| clean::width(name)).max().unwrap_or(0).min(24) as u16;
    for ((name, value), y) in lines.iter().take(room).zip(area.y + 1..) {
        put_cut(cells, area.x + 1, y, area.x + 1 + width, name, style(Role::Faint));
        put_cut(cells, area.x + width + 3, y, area.right() - 1, &clean::clean(value), ground);
    }
}

/// The steps that are carried out no more, the dearest first, in at most so many lines.
fn gone(earlier: &Earlier, room: usize) -> Vec<(String, String)> {
    let by_share = earlier.plan.by_share();
    let gone: Vec<&usize> = by_share.iter().filter(|at| earlier.comparison.gone.binary_search(at).is_ok()).collect();
    let shown = if gone.len() > room { room.saturating_sub(1) } else { gone.len() };
    let mut lines: Vec<(String, String)> = Vec::new();
    for step in gone.iter().take(shown).filter_map(|at| earlier.plan.steps.get(**at)) {
        let index = step.index.as_ref().map(|index| format!("by {index}")).unwrap_or_default();
        let words = [&step.action, &step.target, &index, &own(&earlier.plan, step)];
        let words: Vec<&str> = words.into_iter().map(String::as_str).filter(|word| !word.is_empty()).collect();
        lines.push(("gone".to_owned(), words.join(" ")));
    }
    match gone.len() - shown {
        0 if gone.is_empty() => lines.push(("gone".to_owned(), "no step".to_owned())),
        0 => {}
        more => lines.push((String::new(), format!("… {more} more"))),
    }
    lines
}
