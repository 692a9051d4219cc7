//! Two structures: what differs above, the definitions of what is in hand (or the statements) below.

use jaunty_core::compare::Difference;
use jaunty_core::compare::differences::{ItemDiffers, PartDiffers};
use jaunty_core::words;
use jaunty_language::text::clean;
use jaunty_language::text::wrap::wrapped;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::overlay::{heading, keys};
use super::row_comparison::role_of;
use crate::app::{App, StructureComparison, Structures};
use crate::paint::{fill, put, put_cut, put_hint};
use crate::theme::Role;

/// The heading, and how much differs.
const ABOVE: u16 = 2;

/// How many lines the list has.
pub fn lines(screen: Rect) -> usize {
    usize::from(screen.height.saturating_sub(1 + ABOVE) / 2).max(1)
}

pub(super) fn draw(
    app: &App,
    view: &StructureComparison,
    area: Rect,
    ground: Style,
    cells: &mut Buffer,
) -> Option<Position> {
    let style = |role| ground.patch(app.theme.style(role));
    let title = format!("structure · left {} · right {}", view.sides[0].title(), view.sides[1].title());
    let after = heading(app, &title, area, ground, cells);
    let mut hints = vec![
        ("structure-statements", if view.statements { "definitions" } else { "statements" }),
        ("structure-put", "into the buffer"),
        ("structure-copy", "copies"),
        ("structure-only", "only some"),
        ("structure-exchange", "swaps"),
        ("close-overlay", "closes"),
    ];
    if view.structures().is_some_and(Structures::knows_access) {
        hints.insert(4, ("structure-access", if view.access { "without grants" } else { "grants" }));
    }
    let hint = keys(app, &hints);
    let (hint, role) = match &app.status {
        Some(told) if told.wrong => (told.text.as_str(), Role::Failed),
        Some(told) => (told.text.as_str(), Role::Done),
        None => (hint.as_str(), Role::Faint),
    };
    put_hint(cells, after + 2, area.y, area.right() - 1, hint, style(role));
    let found = match &view.found {
        None => {
            put(cells, area.x + 1, area.y + 1, area.right(), "reading both …", style(Role::Faint));
            return None;
        }
        Some(Err(error)) => {
            let lines = wrapped(&clean::clean(error), usize::from(area.width.saturating_sub(2)).max(1));
            for (line, y) in lines.iter().zip(area.y + 1..area.bottom()) {
                put(cells, area.x + 1, y, area.right(), line, style(Role::Failed));
            }
            return None;
        }
        Some(Ok(found)) => found,
    };
    let mut x = area.x + 1;
    for what in Difference::ALL {
        let count = found.differences.counted(what) as u64;
        let role = if count == 0 || view.only.is_some_and(|only| only != what) { Role::Faint } else { role_of(what) };
        let text = format!("{} {} {}", what.sign(), words::number(count), what.word());
        x = put(cells, x, area.y + 1, area.right(), &text, style(role)) + 3;
    }
    let mut said = format!("{} the same", words::count(found.differences.same as u64, "object"));
    if view.access {
        said.push_str(" · owners and grants count");
    }
    match &found.made {
        _ if !found.differences.one_language => {
            said.push_str(" · two kinds of database: what columns hold, keys, references and indexes were compared");
        }
        Ok(made) if made.losing() > 0 => {
            let of = words::count(made.statements.len() as u64, "statement");
            said.push_str(&format!(" · {} of {of} delete rows or values", words::number(made.losing() as u64)));
        }
        _ => {}
    }
    put_cut(cells, x, area.y + 1, area.right() - 1, &said, style(Role::Faint));
    let height = lines(app.screen()) as u16;
    let list = Rect { y: area.y + ABOVE, height: height.min(area.height.saturating_sub(ABOVE)), ..area };
    if view.lines.is_empty() {
        put(cells, area.x + 3, list.y, area.right(), "nothing differs", style(Role::Done));
        return None;
    }
    for (at, y) in (view.top..view.lines.len()).zip(list.y..list.bottom()) {
        let chosen = at == view.chosen;
        let base = if chosen { ground.patch(app.theme.style(Role::Selected)) } else { ground };
        fill(cells, Rect { y, height: 1, ..area }, base);
        put(cells, area.x + 1, y, area.right(), if chosen { "›" } else { " " }, base);
        let Some((item, part)) = of_line(found, view, at) else { continue };
        let line = Rect { y, height: 1, ..area };
        match part {
            None => draw_item(app, item, line, (base, chosen), cells),
            Some(part) => draw_part(app, part, line, (base, chosen), cells),
        }
    }
    let below = Rect { y: list.bottom(), height: area.bottom().saturating_sub(list.bottom()), ..area };
    put(cells, below.x, below.y, below.right(), &"─".repeat(usize::from(below.width)), style(Role::Rule));
    let below = Rect { y: below.y + 1, height: below.height.saturating_sub(1), ..below };
    match view.script().filter(|_| view.statements) {
        Some(Ok(script)) => draw_text(script, view.below, below, ground, cells),
        _ => draw_both(app, view, found, below, ground, cells),
    }
    None
}

fn of_line<'a>(
    found: &'a Structures,
    view: &StructureComparison,
    at: usize,
) -> Option<(&'a ItemDiffers, Option<&'a PartDiffers>)> {
    let line = view.lines.get(at)?;
    let item = found.differences.items.get(line.item)?;
    Some((item, line.part.and_then(|part| item.parts.get(part))))
}

fn draw_item(app: &App, item: &ItemDiffers, line: Rect, (base, chosen): (Style, bool), cells: &mut Buffer) {
    let style = |role| if chosen { base } else { base.patch(app.theme.style(role)) };
    let text = format!("{} {}", item.what.sign(), item.what.word());
    put(cells, line.x + 3, line.y, line.right(), &text, style(role_of(item.what)));
    let x = put(cells, line.x + 16, line.y, line.right(), item.kind.word(), style(Role::Faint));
    put_cut(cells, x + 1, line.y, line.right() - 1, &clean::clean(&item.name), style(Role::Accent));
}

fn draw_part(app: &App, part: &PartDiffers, line: Rect, (base, chosen): (Style, bool), cells: &mut Buffer) {
    let style = |role| if chosen { base } else { base.patch(app.theme.style(role)) };
    put(cells, line.x + 16, line.y, line.right(), &part.what.sign().to_string(), style(role_of(part.what)));
    let x = put(cells, line.x + 18, line.y, line.right(), part.of.word(), style(Role::Faint));
    let mut x = match part.name.as_str() {
        "" => x,
        name => put_cut(cells, x + 1, line.y, line.right() - 1, &clean::clean(name), base),
    };
    let [left, right] = part.shown.each_ref().map(|text| clean::clean(text).into_owned());
    let text = match (left.is_empty(), right.is_empty()) {
        (false, false) => format!("{left} → {right}"),
        (false, true) => left,
        _ => right,
    };
    x += 2;
    put_cut(cells, x.min(line.right()), line.y, line.right() - 1, &text, style(Role::Faint));
}

fn draw_text(text: &str, from: usize, area: Rect, ground: Style, cells: &mut Buffer) {
    let room = usize::from(area.width.saturating_sub(4)).max(1);
    let from = from.min(text.lines().count().saturating_sub(1));
    // Only what is seen is wrapped: the text may be long.
    let lines = text.lines().skip(from).flat_map(|line| wrapped(&clean::clean(line), room));
    for (line, y) in lines.zip(area.y..area.bottom()) {
        put_cut(cells, area.x + 3, y, area.right() - 1, &line, ground);
    }
}

/// What is in hand on the left and on the right.
fn draw_both(app: &App, view: &StructureComparison, found: &Structures, area: Rect, ground: Style, cells: &mut Buffer) {
    let Some((item, part)) = of_line(found, view, view.chosen) else { return };
    let faint = ground.patch(app.theme.style(Role::Faint));
    let half = area.width / 2;
    let of = |side: usize| {
        let at = if side == 0 { item.left } else { item.right };
        let object = at.and_then(|at| found.read[side].items.get(at));
        let text = match part {
            None => object.map(|object| object.definition.clone()),
            Some(part) => {
                let place = if side == 0 { part.left } else { part.right };
                let own = object.filter(|_| found.differences.one_language).zip(place);
                let own = own.and_then(|(object, place)| object.parts.get(place)).map(|part| part.text.clone());
                own.or_else(|| Some(part.shown[side].clone())).filter(|text| !text.is_empty())
            }
        };
        text.unwrap_or_default()
    };
    for (side, word) in ["left", "right"].into_iter().enumerate() {
        let x = area.x + if side == 0 { 0 } else { half };
        let width = if side == 0 { half } else { area.width - half };
        let text = of(side);
        let head = if text.is_empty() { format!("{word}: not there") } else { word.to_owned() };
        put(cells, x + 3, area.y, area.right(), &head, faint);
        let below = Rect { x, y: area.y + 1, width, height: area.height.saturating_sub(1) };
        draw_text(&text, view.below, below, ground, cells);
    }
}
