//! What lies over the screen: a drawer that comes up from the last line.

use jaunty_core::complete::about::About;
use jaunty_language::text::clean;
use jaunty_language::text::wrap::wrapped;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use crate::action::{Scope, by_name};
use crate::app::{App, Help, HelpLine, List, MessagesView, Overlay, Prompt, Question};
use crate::line::Line;
use crate::paint::{fill, put, put_cut, put_hint, put_right};
use crate::theme::Role;

/// Where the drawer lies on a screen.
pub fn drawer(app: &App, screen: Rect) -> Rect {
    let rows = match &app.overlay {
        Some(Overlay::List(list)) => (list.items.len() as u16 + 1).min(screen.height * 3 / 5).max(2),
        Some(Overlay::Help(_)) => screen.height.saturating_sub(2),
        Some(Overlay::Prompt(_)) => 1,
        Some(Overlay::Question(question)) => (question.answers.len() + question.about.len()) as u16 + 2,
        Some(Overlay::Form(form)) => super::form::rows(form),
        Some(Overlay::CatalogBrowser(_)) => screen.height.saturating_sub(2),
        Some(Overlay::About(view)) => (about_lines(&view.about, screen).len() as u16 + 1).min(screen.height * 3 / 5),
        Some(Overlay::RowDetail(_) | Overlay::LogbookView(_)) => screen.height.saturating_sub(2),
        Some(Overlay::Schema(_)) => screen.height.saturating_sub(2),
        Some(Overlay::Plan(_)) => screen.height.saturating_sub(2),
        Some(Overlay::Chart(_)) => screen.height.saturating_sub(2),
        Some(Overlay::Messages(view)) => {
            u16::try_from(view.lines.len()).unwrap_or(u16::MAX).saturating_add(1).min(screen.height * 3 / 5).max(2)
        }
        Some(Overlay::ColumnStats(_)) => super::column_stats::LINES,
        Some(Overlay::CellEditor(editor)) => super::cell_editor::rows(editor),
        Some(Overlay::Slip(_) | Overlay::RowComparison(_) | Overlay::StructureComparison(_) | Overlay::Import(_)) => {
            screen.height.saturating_sub(2)
        }
        None => 0,
    };
    let rows = rows.min(screen.height.saturating_sub(1));
    Rect { y: screen.bottom().saturating_sub(rows + 1), height: rows + 1, ..screen }
}

/// The first line of a list that is shown.
pub fn first_shown(list: &List, drawer: Rect) -> usize {
    let rows = usize::from(drawer.height.saturating_sub(2)).max(1);
    (list.chosen + 1).saturating_sub(rows)
}

pub(super) fn draw(app: &App, overlay: &Overlay, screen: Rect, cells: &mut Buffer) -> Option<Position> {
    let area = drawer(app, screen);
    let ground = app.theme.style(Role::Overlay);
    fill(cells, area, ground);
    match overlay {
        Overlay::List(list) => draw_list(app, list, area, ground, cells),
        Overlay::Help(help) => draw_help(app, help.top, area, ground, cells),
        Overlay::Prompt(prompt) => draw_prompt(app, prompt, area, ground, cells),
        Overlay::Question(question) => draw_question(app, question, area, ground, cells),
        Overlay::Form(form) => super::form::draw(app, form, area, ground, cells),
        Overlay::CatalogBrowser(walk) => super::catalog_browser::draw(app, walk, area, ground, cells),
        Overlay::Messages(view) => draw_messages(app, view, area, ground, cells),
        Overlay::About(view) => draw_about(app, &view.about, view.top, area, ground, cells),
        Overlay::RowDetail(whole) => super::row_detail::draw(app, whole, area, ground, cells),
        Overlay::LogbookView(past) => super::logbook_view::draw(app, past, area, ground, cells),
        Overlay::Schema(view) => super::schema_view::draw(app, view, area, ground, cells),
        Overlay::Plan(view) => super::plan::draw(app, view, area, ground, cells),
        Overlay::Chart(view) => super::chart::draw(app, view, area, ground, cells),
        Overlay::CellEditor(editor) => super::cell_editor::draw(app, editor, area, ground, cells),
        Overlay::Import(view) => super::import::draw(app, view, area, ground, cells),
        Overlay::StructureComparison(view) => super::structure_comparison::draw(app, view, area, ground, cells),
        Overlay::RowComparison(view) => super::row_comparison::draw(app, view, area, ground, cells),
        Overlay::Slip(view) => super::slip_view::draw(app, view, area, ground, cells),
        Overlay::ColumnStats(facts) => {
            super::column_stats::draw(app, facts, area, ground, cells);
            None
        }
    }
}

/// Which keys do what, in words: each action (or several of one kind, in one string) with what it does. Those without
/// a key are left out.
pub(super) fn keys(app: &App, actions: &[(&str, &str)]) -> String {
    let parts = actions.iter().filter_map(|(names, does)| {
        let keys: Vec<String> = names.split(' ').filter_map(|name| app.key_of(name)).collect();
        (!keys.is_empty()).then(|| format!("{} {does}", keys.join(" ")))
    });
    parts.collect::<Vec<_>>().join(" · ")
}

pub(super) fn heading(app: &App, text: &str, area: Rect, ground: Style, cells: &mut Buffer) -> u16 {
    put(cells, area.x + 1, area.y, area.right(), text, ground.patch(app.theme.style(Role::Accent)))
}

/// A heading that ends before the cell at which something else begins.
pub(super) fn heading_before(app: &App, text: &str, end: u16, area: Rect, ground: Style, cells: &mut Buffer) {
    put_cut(cells, area.x + 1, area.y, end.saturating_sub(2), text, ground.patch(app.theme.style(Role::Accent)));
}

fn draw_list(app: &App, list: &List, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let found = format!("{} of {} {}", list.found.len(), list.items.len(), list.title);
    heading(app, &found, area, ground, cells);
    let hint = match list.title {
        "connections" => keys(
            app,
            &[
                ("accept", "connects"),
                ("edit-profile", "edits"),
                ("copy-profile", "copies"),
                ("remove-profile", "removes"),
                ("profile-up profile-down", "move"),
                ("close-overlay", "closes"),
            ],
        ),
        _ => format!("type to search · {}", keys(app, &[("accept", "chooses"), ("close-overlay", "closes")])),
    };
    // The drawer lies over the line where things are told.
    let (hint, style) = match &app.status {
        Some(told) if told.wrong => (told.text.as_str(), ground.patch(app.theme.style(Role::Failed))),
        _ => (hint.as_str(), faint),
    };
    put_hint(cells, area.x + 26, area.y, area.right() - 1, hint, style);
    let widest = usize::from(area.width / 3).max(40);
    let labels = list.items.iter().map(|item| clean::width(&item.label)).max().unwrap_or(0).min(widest) as u16;
    let keys = list.items.iter().map(|item| clean::width(&item.key)).max().unwrap_or(0).min(14) as u16;
    let first = first_shown(list, area);
    let lines = area.y + 1..area.bottom().saturating_sub(1);
    if list.found.is_empty() && !list.items.is_empty() {
        put_cut(cells, area.x + 3, area.y + 1, area.right() - 1, "no match", faint);
    }
    for ((position, index), y) in list.found.iter().enumerate().skip(first).zip(lines) {
        let Some(item) = list.items.get(*index) else { continue };
        let chosen = position == list.chosen;
        let style = if chosen { ground.patch(app.theme.style(Role::Selected)) } else { ground };
        fill(cells, Rect { y, height: 1, ..area }, style);
        put(cells, area.x + 1, y, area.right(), if chosen { "›" } else { " " }, style);
        let key = if chosen { style } else { style.patch(app.theme.style(Role::Accent)) };
        put_cut(cells, area.x + 3, y, area.x + 3 + keys, &item.key, key);
        let x = area.x + 3 + keys + 2;
        // One that nothing stands behind has the rest of the line.
        let end = if item.help.is_empty() { area.right() - 1 } else { (x + labels).min(area.right()) };
        put_cut(cells, x, y, end, &item.label, style);
        let help = if chosen { style } else { style.patch(app.theme.style(Role::Faint)) };
        put_cut(cells, x + labels + 2, y, area.right() - 1, &item.help, help);
    }
    input(app, "› ", &list.query, area, ground, cells)
}

/// The last line of an area, where a person writes behind a sign.
pub(super) fn input(
    app: &App,
    sign: &str,
    line: &Line,
    area: Rect,
    ground: Style,
    cells: &mut Buffer,
) -> Option<Position> {
    let y = area.bottom().checked_sub(1)?;
    fill(cells, Rect { y, height: 1, ..area }, ground);
    let x = put(cells, area.x + 1, y, area.right(), sign, ground.patch(app.theme.style(Role::Accent)));
    let right = area.right().saturating_sub(1);
    let (seen, column) = line.seen(usize::from(right.saturating_sub(x)));
    // What would be replaced stands out as a selection does.
    let style = if line.is_offered() { ground.patch(app.theme.style(Role::Selected)) } else { ground };
    put(cells, x, y, right, seen, style);
    if seen.len() < line.text().len() {
        put(cells, x.saturating_sub(1), y, right, "…", ground.patch(app.theme.style(Role::Faint)));
    }
    Some(Position::new(x + column as u16, y))
}

fn draw_prompt(app: &App, prompt: &Prompt, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    match &app.status {
        Some(told) if told.wrong => {
            let wrong = ground.patch(app.theme.style(Role::Failed));
            put_cut(cells, area.x + 1, area.y, area.right() - 1, &told.text, wrong);
        }
        _ => {
            heading(app, &prompt.title, area, ground, cells);
        }
    }
    if prompt.hidden {
        return input(app, "› ", &prompt.line.hidden(), area, ground, cells);
    }
    input(app, "› ", &prompt.line, area, ground, cells)
}

fn draw_question(app: &App, question: &Question, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let strong = ground.patch(app.theme.style(Role::Accent));
    put_cut(cells, area.x + 1, area.y, area.right() - 1, &question.text, strong);
    for (line, y) in question.about.iter().zip(area.y + 1..area.bottom()) {
        let style = if line.starts_with("!!") { ground.patch(app.theme.style(Role::Guard)) } else { ground };
        put_cut(cells, area.x + 1, y, area.right() - 1, line, style);
    }
    let below = area.y + 1 + question.about.len() as u16;
    let stay = (app.key_of("close-overlay").unwrap_or_default(), "stay here");
    let answers = question.answers.iter().map(|(key, text, _)| (key.to_string(), *text)).chain([stay]);
    for ((key, text), y) in answers.zip(below..area.bottom()) {
        put(cells, area.x + 3, y, area.right(), &key, strong);
        put_cut(cells, area.x + 8, y, area.right(), text, ground);
    }
    None
}

/// The lines about something, wrapped to the screen.
fn about_lines(about: &About, screen: Rect) -> Vec<String> {
    let room = usize::from(screen.width.saturating_sub(6)).max(10);
    about.lines.iter().flat_map(|line| wrapped(line, room)).collect()
}

fn draw_about(app: &App, about: &About, top: usize, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let reveal: &[_] = if about.table.is_some() { &[("reveal", "reveals the table")] } else { &[] };
    let hint = keys(app, &[reveal, &[("close-overlay", "closes")]].concat());
    let start = put_right(cells, area.x + 20, area.y, area.right() - 1, &hint, faint);
    put_cut(
        cells,
        area.x + 1,
        area.y,
        start.saturating_sub(2),
        &about.title,
        ground.patch(app.theme.style(Role::Accent)),
    );
    for (line, y) in about_lines(about, area).iter().skip(top).zip(area.y + 1..area.bottom()) {
        put_cut(cells, area.x + 3, y, area.right() - 1, line, ground);
    }
    None
}

fn draw_messages(app: &App, view: &MessagesView, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let hint =
        keys(app, &[("overlay-up overlay-down", "scroll"), ("copy-messages", "copies"), ("close-overlay", "closes")]);
    let start = put_right(cells, area.x + 20, area.y, area.right() - 1, &hint, faint);
    heading_before(app, &view.title(), start, area, ground, cells);
    let wrong = ground.patch(app.theme.style(Role::Failed));
    for ((is_wrong, line), y) in view.lines.iter().skip(view.top).zip(area.y + 1..area.bottom()) {
        put_cut(cells, area.x + 3, y, area.right() - 1, line, if *is_wrong { wrong } else { ground });
    }
    None
}

fn draw_help(app: &App, top: usize, area: Rect, ground: Style, cells: &mut Buffer) -> Option<Position> {
    heading(app, "keys", area, ground, cells);
    let faint = ground.patch(app.theme.style(Role::Faint));
    put_right(
        cells,
        area.x + 10,
        area.y,
        area.right() - 1,
        &format!(
            "{} · docs/keys.md shows how to bind other keys",
            keys(app, &[("overlay-up overlay-down", "scroll"), ("close-overlay", "closes")])
        ),
        faint,
    );
    let list = by_name("actions").map_or_else(String::new, |list| app.keymap.first(list));
    let shown = |line: HelpLine| {
        let action = match line {
            HelpLine::Free => return (String::new(), String::new(), Role::Faint),
            HelpLine::Group(group) => return (group.to_owned(), String::new(), Role::Faint),
            HelpLine::Action(action) => action,
        };
        let keys: Vec<_> = app.keymap.keys(action).iter().map(ToString::to_string).collect();
        let place = match action.scope {
            Scope::Result => "  (in the result)",
            Scope::CompletionPopup => "  (while completing)",
            // The heading says it.
            _ => "",
        };
        // One without a key is found in the list of actions by its title.
        let (left, role) = match keys.as_slice() {
            [] if !action.scope.is_overlaid() => (format!("{list} {}", action.title), Role::Overlay),
            keys => (keys.join(", "), Role::Accent),
        };
        (left, format!("{}{place}", action.help), role)
    };
    let lines = Help::lines().into_iter().map(shown);
    for ((left, right, role), y) in lines.skip(top).zip(area.y + 1..area.bottom()) {
        let style = ground.patch(app.theme.style(role));
        put_cut(cells, area.x + if role == Role::Faint { 1 } else { 3 }, y, area.x + 30, &left, style);
        put_cut(cells, area.x + 31, y, area.right() - 1, &right, ground);
    }
    None
}
