//! The plan of a statement as a tree, with what each step takes for itself.

use jaunty_core::chart::scale::{number, short};
use jaunty_language::plan::{Plan, Step, Unit};
use jaunty_language::text::clean;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::{heading, keys};
use crate::app::{App, PlanView};
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
        Some(Ok(plan)) => format!("plan · {}", whole(plan)),
        _ => "plan".to_owned(),
    };
    let does = keys(
        app,
        &[
            ("overlay-up overlay-down", "steps"),
            ("plan-by-share", if view.by_share { "tree" } else { "sorts by own share" }),
            ("plan-measure", "measures"),
            ("close-overlay", "closes"),
        ],
    );
    let (hint, role) = match &app.told {
        Some(told) if told.wrong => (told.text.as_str(), Role::Failed),
        _ => (does.as_str(), Role::Faint),
    };
    let start = put_hint(cells, area.x + area.width / 3, area.y, area.right() - 1, hint, style(role));
    heading(app, &clean::fit(&title, usize::from(start.saturating_sub(area.x + 2))).text, area, ground, cells);
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
    let heads = match plan.unit {
        Unit::Time => "own time",
        Unit::Cost => "own cost",
        Unit::None => "",
    };
    put(cells, area.x + OWN, area.y + 1, area.right(), heads, style(Role::Faint));
    if tree == TREE && plan.unit != Unit::None {
        let rows = if plan.unit == Unit::Time { "rows: estimate → met" } else { "rows (estimate)" };
        put(cells, area.x + ROWS, area.y + 1, area.right(), rows, style(Role::Faint));
    }
    let height = lines(area.height);
    for (place, at) in view.order().into_iter().enumerate().skip(view.top).take(usize::from(height)) {
        let Some(step) = plan.steps.get(at) else { continue };
        let y = area.y + ABOVE + (place - view.top) as u16;
        let line = Rect { y, height: 1, ..area };
        draw_step(app, (plan, step), (place == view.chosen, view.by_share, tree), line, ground, cells);
    }
    let below = Rect { y: area.bottom().saturating_sub(BELOW), height: BELOW.min(area.height), ..area };
    if let Some(step) = view.step() {
        draw_about(app, plan, step, below, ground, cells);
    }
    None
}

/// What the whole takes, and what is told of it.
fn whole(plan: &Plan) -> String {
    let total = match plan.unit {
        Unit::Time => format!("{} ms", short(plan.total)),
        Unit::Cost => format!("cost {}", short(plan.total)),
        Unit::None => format!("{} steps", plan.steps.len()),
    };
    let notes = plan.notes.iter().map(|(name, value)| format!("{name} {value}"));
    std::iter::once(total).chain(notes).collect::<Vec<_>>().join(" · ")
}

fn draw_step(
    app: &App,
    (plan, step): (&Plan, &Step),
    (chosen, flat, tree): (bool, bool, u16),
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
        let own = step.own.map_or(String::new(), |own| match plan.unit {
            Unit::Time => format!("{} ms", short(own)),
            _ => short(own),
        });
        put_right(cells, line.x + OWN, line.y, line.x + ROWS - 2, &own, base);
    }
    if tree == TREE && plan.unit != Unit::None {
        let rows = |value: Option<f64>| value.map_or_else(|| "?".to_owned(), short);
        let mut text = match step.met {
            Some(met) => format!("{} → {}", rows(step.estimated), short(met)),
            None => step.estimated.map_or(String::new(), short),
        };
        if let Some(loops) = step.loops.filter(|loops| *loops != 1.0) {
            text.push_str(&format!(" × {}", number(loops, 0)));
        }
        let role = if step.misestimate().is_some() { Role::Failed } else { Role::Text };
        let painted = if role == Role::Failed { style(role) } else { base };
        put_cut(cells, line.x + ROWS, line.y, line.x + TREE - 1, &text, painted);
    }
    let indent = if flat { 0 } else { 2 * step.depth.min(40) as u16 };
    let start = line.x + tree + indent;
    let mark = if step.is_dear && !flat { "▸ " } else { "  " };
    let x = put(cells, start, line.y, line.right(), mark, style(Role::Failed));
    let x = put_cut(cells, x, line.y, line.right() - 1, &clean::clean(&step.action), base);
    let x = match step.target.is_empty() {
        true => x,
        false => put_cut(cells, x + 1, line.y, line.right() - 1, &clean::clean(&step.target), style(Role::Accent)),
    };
    let mut said: Vec<(String, Role)> = Vec::new();
    said.extend(step.index.as_ref().map(|index| (format!("by {index}"), Role::Faint)));
    if step.reads_all {
        said.push(("reads every row".to_owned(), Role::Stopped));
    }
    said.extend(step.misestimate().map(|ratio| (misestimate(ratio), Role::Failed)));
    said.extend(step.spill.as_ref().map(|spill| (spill.clone(), Role::Stopped)));
    let mut x = x + 2;
    for (text, role) in said {
        if x >= line.right() {
            break;
        }
        x = put_cut(cells, x, line.y, line.right() - 1, &clean::clean(&text), style(role)) + 2;
    }
}

fn misestimate(ratio: f64) -> String {
    match ratio >= 1.0 {
        true => format!("{} times more rows than estimated", short(ratio.round())),
        false => format!("{} times fewer rows than estimated", short((1.0 / ratio).round())),
    }
}

/// What is known of the step in hand.
fn draw_about(app: &App, plan: &Plan, step: &Step, area: Rect, ground: Style, cells: &mut Buffer) {
    let style = |role| ground.patch(app.theme.style(role));
    for x in area.left()..area.right() {
        put(cells, x, area.y, area.right(), "─", style(Role::Rule));
    }
    let mut lines: Vec<(String, String)> = Vec::new();
    if plan.unit != Unit::None {
        let share = format!("{} % of all", number(step.share * 100.0, 1));
        let whole = match plan.unit {
            Unit::Time => step.time.map(|time| format!(", {} ms with the steps below", short(time))),
            _ => step.cost.map(|cost| format!(", cost {} with the steps below", short(cost))),
        };
        lines.push(("own share".to_owned(), share + &whole.unwrap_or_default()));
    }
    lines.extend(step.details.iter().cloned());
    let room = usize::from(area.height.saturating_sub(1));
    let width = lines.iter().take(room).map(|(name, _)| clean::width(name)).max().unwrap_or(0).min(24) as u16;
    for ((name, value), y) in lines.iter().take(room).zip(area.y + 1..) {
        put_cut(cells, area.x + 1, y, area.x + 1 + width, name, style(Role::Faint));
        put_cut(cells, area.x + width + 3, y, area.right() - 1, &clean::clean(value), ground);
    }
}
