//! The result pane: a page of rows under their names and types, or what there is instead of rows.

use jaunty_core::arrange::search::Search;
use jaunty_core::logbook::Outcome;
use jaunty_core::problems::Problem;
use jaunty_core::run::Run;
use jaunty_core::slip::{Datum, Draft, Slip, What};
use jaunty_language::text::clean;
use jaunty_language::text::wrap::wrapped;
use jaunty_seam::rows::cell::{CellKind, NULL_TEXT};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

use crate::action::{Scope, by_name};
use crate::app::{App, HEAD, Link, Placed, Rows, Shows, View};
use crate::pager::{Page, Shown};
use crate::paint::{fill, put, put_cut, put_right};
use crate::theme::Role;
use jaunty_core::words;

pub(super) fn draw(app: &App, rows: &Rows, area: Rect, cells: &mut Buffer) {
    if area.is_empty() {
        return;
    }
    let ground = app.theme.style(Role::Value);
    fill(cells, area, ground);
    match (rows.shows(), rows.run()) {
        (Shows::Rows, Some(run)) => {
            draw_title(app, rows, run, area, ground, cells);
            match (rows.failure(), rows.page()) {
                (Some(failure), _) => {
                    text(&kept_rows_gone(failure), area, ground.patch(app.theme.style(Role::Failed)), cells);
                }
                (None, Some(page)) => draw_table(app, rows, page, above_trouble(run, area), ground, cells),
                (None, None) => {}
            }
            draw_trouble(app, run, area, ground, cells);
        }
        (Shows::Error, Some(run)) => {
            draw_title(app, rows, run, area, ground, cells);
            let y = draw_error(app, run, area, ground, cells);
            draw_messages(app, run, Rect { y, height: area.bottom().saturating_sub(y), ..area }, ground, cells);
        }
        (Shows::Note, Some(run)) => {
            draw_title(app, rows, run, area, ground, cells);
            let y = text(&words::note(run, app.now), area, ground, cells);
            draw_messages(app, run, Rect { y, height: area.bottom().saturating_sub(y), ..area }, ground, cells);
        }
        _ => draw_nothing(app, area, ground, cells),
    }
}

/// Whether a pane is the one that keys go to.
fn has_focus(app: &App, rows: &Rows) -> bool {
    app.panes.focus == Scope::Result && std::ptr::eq(rows, &app.rows)
}

/// The most lines that an error may take from the rows before it.
const TROUBLE: usize = 6;

/// What stands below the rows of a run, in lines: why it ended badly, or what the server said.
fn trouble(run: &Run, area: Rect) -> Vec<String> {
    let end = run.end();
    let Some(error) = end.and_then(|end| end.error.as_ref()) else { return words::said(run).into_iter().collect() };
    let room = usize::from(area.width.saturating_sub(4)).max(1);
    let said = format!("{error}\n{}", error.remedy.as_deref().unwrap_or_default());
    let lines = said.lines().flat_map(|line| wrapped(line, room));
    lines.filter(|line| !line.is_empty()).take(TROUBLE).collect()
}

/// The part of the pane that is left for rows.
pub fn above_trouble(run: &Run, area: Rect) -> Rect {
    let lines = trouble(run, area).len() as u16;
    if lines == 0 { area } else { Rect { height: area.height.saturating_sub(lines + 1), ..area } }
}

fn draw_trouble(app: &App, run: &Run, area: Rect, ground: Style, cells: &mut Buffer) {
    let failed = run.end().is_some_and(|end| end.error.is_some());
    let style = ground.patch(app.theme.style(if failed { Role::Failed } else { Role::Faint }));
    let below = above_trouble(run, area).bottom() + 1;
    let key = app.key_of("messages").filter(|_| !failed && run.said(|said| said.count()) > 1);
    let more = key.map(|key| format!(" · {key} shows all")).unwrap_or_default();
    for (line, y) in trouble(run, area).iter().zip(below..area.bottom()) {
        put_cut(cells, area.x + 3, y, area.right(), &format!("{line}{more}"), style);
    }
}

/// What the server said while a statement ran that gave no rows: as much as there is room for.
fn draw_messages(app: &App, run: &Run, area: Rect, ground: Style, cells: &mut Buffer) {
    let room = usize::from(area.height.saturating_sub(1));
    let (all, shown) = run.said(|said| {
        let last = said.kept().iter().rev().take(room).map(words::message).collect::<Vec<_>>();
        (said.kept().len() as u64, last)
    });
    // The last ones that are kept, as they come; those before are a key away.
    let hidden = all.saturating_sub(shown.len() as u64);
    let mut lines: Vec<String> = shown.into_iter().rev().collect();
    if hidden > 0
        && let Some(first) = lines.first_mut()
    {
        let key = app.key_of("messages").unwrap_or_default();
        *first = format!("… {} before these · {key} in the result shows all", words::count(hidden + 1, "message"));
    }
    for (line, y) in lines.iter().zip(area.y + 1..area.bottom()) {
        put_cut(cells, area.x + 3, y, area.right(), line, ground);
    }
}

fn kept_rows_gone(failure: &str) -> String {
    format!("The kept rows cannot be read: {failure}\nRun the statement again to fetch them.")
}

fn draw_title(app: &App, rows: &Rows, run: &Run, area: Rect, ground: Style, cells: &mut Buffer) {
    let focused = has_focus(app, rows);
    let strong = ground.patch(app.theme.style(Role::Accent));
    let faint = ground.patch(app.theme.style(Role::Faint));
    let mut arranged = arranged(rows);
    let drafted = rows.base().map(|base| app.drafted_of(&base)).unwrap_or_default();
    if !drafted.is_empty() {
        arranged = format!("{drafted}{}{arranged}", if arranged.is_empty() { "" } else { " · " });
    }
    let first_line = run.statement.lines().next().unwrap_or_default();
    let title = run.title.as_deref().unwrap_or(first_line);
    let (shown, results) = rows.results();
    // The server may give each a name.
    let name = run.all_rows().get(shown).and_then(|rows| rows.name()).map(|name| format!("{name} · "));
    let name = name.unwrap_or_default();
    let title = match results {
        0 | 1 => format!("{name}{title}"),
        _ => format!("result {} of {results} · {name}{title}", shown + 1),
    };
    // Numbers are told at length where neither the title nor how the rows are arranged needs the room.
    let needed = clean::width(&title).min(TITLE.1) + clean::width(&arranged) + 8;
    let room = usize::from(area.width).saturating_sub(needed);
    // A third is the title's, however long the numbers are.
    let most = usize::from(area.width - area.width / 3).saturating_sub(1);
    let right = match rows.sums() {
        Some(sums) => sums.to_owned(),
        None => progress(rows, run, (room, most)),
    };
    let style = if run.outcome() == Outcome::Running { ground.patch(app.theme.style(Role::Running)) } else { faint };
    let start = put_right(cells, area.x + area.width / 3, area.y, area.right().saturating_sub(1), &right, style);
    let x = put(cells, area.x + 1, area.y, area.right(), if focused { "› " } else { "  " }, strong);
    let x = put(cells, x, area.y, area.right(), &app.mark_of(run, rows.holds()), strong);
    let style = if focused { strong } else { ground.add_modifier(Modifier::BOLD) };
    let end = start.saturating_sub(2);
    if arranged.is_empty() {
        put_cut(cells, x, area.y, end, &title, style);
        return;
    }
    let room = usize::from(end.saturating_sub(x));
    let least = clean::width(&title).min(TITLE.0).min(room / 3);
    let wanted = (clean::width(&arranged) + 3).min(room - least) as u16;
    let x = put_cut(cells, x, area.y, end.saturating_sub(wanted), &title, style);
    put_cut(cells, x, area.y, end, &format!(" · {arranged}"), ground);
}

/// A title keeps so many cells, whatever stands beside it; and so many, if numbers do as well when they are short.
const TITLE: (usize, usize) = (8, 24);

/// How the rows are arranged, in words.
fn arranged(rows: &Rows) -> String {
    let names: Vec<String> =
        rows.page().map_or_else(Vec::new, |page| page.columns.iter().map(|head| head.name.clone()).collect());
    rows.view().arranged.wanted.words(&names)
}

/// Which rows are on the screen, of how many, and how the run stands: at length in so many cells, and never in
/// more than so many.
fn progress(rows: &Rows, run: &Run, (room, most): (usize, usize)) -> String {
    let is_done = run.outcome() != Outcome::Running;
    let total = rows.total();
    let shown = rows.page().filter(|page| !page.rows.is_empty());
    let counted = match shown {
        Some(page) if rows.shows() == Shows::Rows => {
            // The page may be of when the pane was higher.
            let last = page.from + page.rows.len().min(rows.height()) as u64;
            let bare = format!("{}–{}", words::number(page.from + 1), words::number(last));
            let place = format!("{bare} of {}", words::number(total));
            let all = rows.all();
            let long = match total < all {
                true => format!("{place}, all {}", words::number(all)),
                // Of what is still coming nobody knows how much it is in all.
                false if is_done => format!("rows {place}{}", percent(last, total)),
                false => format!("rows {place}"),
            };
            match clean::width(&place) {
                width if width > most => bare,
                _ if clean::width(&long) > room => place,
                _ => long,
            }
        }
        // The note below says more.
        _ if run.script().is_some() => run.script().map_or_else(String::new, |(far, size)| words::percent(far, size)),
        _ if rows.shows() == Shows::Rows => words::count(total, "row"),
        _ => String::new(),
    };
    match run.outcome() {
        Outcome::Running if run.is_held() => format!("{counted} so far, held"),
        Outcome::Running if run.script().is_some() => format!("{counted}  » {}", words::clock(run.duration())),
        Outcome::Running => format!("{counted} so far  » {}", words::clock(run.duration())),
        Outcome::Done => counted,
        other => format!("{counted} · {}", other.word()).trim_start_matches(" · ").to_owned(),
    }
}

/// How far down a long result the screen is; nothing at its top, where it would read as how much has come.
fn percent(last: u64, total: u64) -> String {
    let percent = last * 100 / total.max(1);
    if total < 1000 || percent == 0 { String::new() } else { format!(" · {percent} % down") }
}

/// Writes lines below the title; gives the line after them.
fn text(text: &str, area: Rect, style: Style, cells: &mut Buffer) -> u16 {
    let room = usize::from(area.width.saturating_sub(4)).max(1);
    let mut y = area.y + 2;
    for line in text.lines() {
        for part in wrapped(line, room) {
            if y >= area.bottom() {
                return y;
            }
            put(cells, area.x + 3, y, area.right(), &part, style);
            y += 1;
        }
    }
    y
}

fn draw_error(app: &App, run: &Run, area: Rect, ground: Style, cells: &mut Buffer) -> u16 {
    let Some(error) = run.end().and_then(|end| end.error.as_ref()) else { return area.y };
    let document = &app.buffer.document;
    // A result that is held may be of another statement.
    let current = document.statement().filter(|statement| app.buffer.id_of(statement) == run.id);
    let line = current.map_or(1, |s| document.rope().byte_to_line(s.start) + 1);
    let mut explained = error.explain_within(&run.statement, line, usize::from(area.width.saturating_sub(4)));
    let problems = app.troubles.of(run.id);
    let checked = |problem: &&Problem| !problem.near.is_empty() && app.troubles.is_meant(run.id, problem, error);
    if let Some(problem) = problems.iter().find(checked) {
        explained.push_str(&format!("\n\nDid you mean {}?", clean::clean(&problem.near.join(" or "))));
    }
    let (first, rest) = explained.split_once('\n').unwrap_or((&explained, ""));
    let failed = ground.patch(app.theme.style(Role::Failed));
    text(first, area, failed, cells);
    let lines = wrapped(first, usize::from(area.width.saturating_sub(4)).max(1)).len() as u16;
    let below = Rect { y: area.y + lines, height: area.height.saturating_sub(lines), ..area };
    text(rest, below, ground, cells)
}

fn draw_nothing(app: &App, area: Rect, ground: Style, cells: &mut Buffer) {
    let faint = ground.patch(app.theme.style(Role::Faint));
    if let Link::Failed(error) = &app.connection.link {
        let mut explained = error.explain("", 1);
        explained.push_str("\n\nRun a statement to reconnect.");
        text(&explained, area, ground.patch(app.theme.style(Role::Failed)), cells);
        return;
    }
    let key = |name: &str| by_name(name).map_or_else(String::new, |action| app.keymap.first(action));
    let document = &app.buffer.document;
    let hint = if app.connection.profile.is_none() {
        match app.known.profiles.is_empty() {
            true if !app.nearby.is_empty() => {
                let mut from: Vec<&str> =
                    app.nearby.iter().map(|found| found.from.split(',').next().unwrap_or_default()).collect();
                from.dedup();
                let found = words::count(app.nearby.len() as u64, "connection");
                let more = if from.len() > 3 { ", …" } else { "" };
                format!(
                    "Not connected. {found} found near, in {}{more}.\nPress {} to choose one, or to add another.",
                    clean::clean(&from.get(..3).unwrap_or(&from).join(", ")),
                    key("connections")
                )
            }
            true => format!(
                "No connections yet.\nPress {} to add one: paste a URL, or fill in fields.\njaunty FILE opens a database file, jaunty demo the demonstration.",
                key("connections")
            ),
            false => format!("Not connected.\nPress {} to choose a connection.", key("connections")),
        }
    } else if app.panes.bare && app.buffer.document.outline().statements().is_empty() {
        format!(
            "Follows a text editor that `jaunty lsp` serves in this project:\nthe rows of the statement at its cursor are shown here.\n{} opens the catalog, {} the logbook.",
            key("catalog"),
            key("logbook")
        )
    } else if app.buffer.document.outline().statements().is_empty() {
        format!("Write a statement and run it with {}.\n{} opens the catalog.", key("run-statement"), key("catalog"))
    } else if app.connection.has_waiting()
        && document.statement().is_some_and(|statement| app.connection.is_waiting(app.buffer.id_of(statement)))
    {
        app.connection.awaited()
    } else {
        format!("This statement has not run here yet.\nPress {} to run it.", key("run-statement"))
    };
    text(&hint, area, faint, cells);
}

fn draw_table(app: &App, rows: &Rows, page: &Page, area: Rect, ground: Style, cells: &mut Buffer) {
    let faint = ground.patch(app.theme.style(Role::Faint));
    let placed = rows.columns(area);
    let view = rows.view();
    let has_focus = has_focus(app, rows);
    let marked = view.marked(rows.total());
    let search = Search::new(&view.arranged.wanted.search);
    let opposite = app.opposite(rows);
    // Behind the last of the columns that stay.
    let rule = placed.iter().rev().find(|placed| placed.position < view.kept).map(|placed| placed.x + placed.width);
    for Placed { position, column, x, width } in &placed {
        let Some(head) = page.columns.get(*column) else { continue };
        let chosen = *position == view.column && has_focus;
        let name =
            if chosen { ground.patch(app.theme.style(Role::Accent)) } else { ground.add_modifier(Modifier::BOLD) };
        let end = x + width;
        let named = format!("{}{}", head.name, sorted(&view, *column));
        for (y, text, style) in [(area.y + 1, &named, name), (area.y + 2, &head.type_name, faint)] {
            if y >= area.bottom() {
                continue;
            }
            match head.right && fits(text, *width) {
                true => put_right(cells, *x, y, end, text, style),
                false => put_cut(cells, *x, y, end, text, style),
            };
        }
        let height = (rows.head(area) - HEAD).min(area.height.saturating_sub(HEAD));
        if let Some(spark) = rows.spark(*column).filter(|_| height > 0) {
            let line = Rect { x: *x, y: area.y + HEAD, width: *width, height };
            super::chart::picture(app, &spark.scene(*width, height, app.theme.has_colours()), line, ground, cells);
        }
    }
    if let Some(x) = rule {
        for y in area.y + 1..area.bottom() {
            put(cells, x, y, area.right(), " │", ground.patch(app.theme.style(Role::Rule)));
        }
    }
    let more_left = view.left > view.kept;
    let more_right = placed.last().is_some_and(|placed| placed.position + 1 < view.columns.len());
    if more_left {
        put(cells, area.x, area.y + 1, area.right(), "‹", faint);
    }
    if more_right && area.width > 0 {
        put(cells, area.right() - 1, area.y + 1, area.right(), "›", faint);
    }
    // A page that is not the one in sight yet is shown where its rows belong.
    let skip = view.top.saturating_sub(page.from) as usize;
    let (base, is_opened) = (rows.base(), rows.is_opened());
    let lines = page.rows.iter().enumerate().skip(skip);
    for ((offset, row), y) in lines.zip(area.y + rows.head(area)..area.bottom()) {
        let number = page.from + offset as u64;
        let in_hand = number == view.row;
        let ground = if in_hand { ground.patch(app.theme.style(Role::Row)) } else { ground };
        if in_hand {
            fill(cells, Rect { y, height: 1, ..area }, ground);
        }
        let draft = base.as_ref().and_then(|base| app.slips.draft_of(base, view.row_of(number)));
        let numbers = ground.patch(app.theme.style(if draft.is_some() { Role::Accent } else { Role::Faint }));
        if let Some((_, draft)) = draft {
            put(cells, area.x, y, area.right(), &draft.what.sign().to_string(), numbers);
        }
        put_right(cells, area.x, y, area.x + rows.gutter() - 1, &(number + 1).to_string(), numbers);
        for Placed { position, column, x, width } in &placed {
            let (Some(cell), Some(head)) = (row.get(*column), page.columns.get(*column)) else { continue };
            let chosen = in_hand && *position == view.column && has_focus;
            let within =
                marked.as_ref().is_some_and(|(rows, columns)| rows.contains(&number) && columns.contains(position));
            let ground = if within { ground.patch(app.theme.style(Role::Selected)) } else { ground };
            if within {
                fill(cells, Rect { x: *x, y, width: *width, height: 1 }, ground);
            }
            let opened = is_opened.then_some(head.name.as_str());
            let changed = draft.and_then(|(slip, draft)| drafted(app, slip, draft, *column, opened));
            let deleted = draft.is_some_and(|(_, draft)| draft.what == What::Delete);
            let ground = match (&changed, deleted) {
                (Some(_), _) => {
                    let style = ground.patch(app.theme.style(Role::Draft));
                    fill(cells, Rect { x: *x, y, width: *width, height: 1 }, style);
                    style
                }
                (None, true) => ground.add_modifier(Modifier::CROSSED_OUT),
                (None, false) => ground,
            };
            let cell = changed.as_ref().unwrap_or(cell);
            draw_cell(app, cell, (*x, y, *width), (ground, chosen), head.right, cells);
            if !chosen && opposite.as_ref().is_some_and(|opposite| opposite.differs(number, *column, cell)) {
                underline(Rect { x: *x, y, width: *width, height: 1 }, app.theme.style(Role::Differing), cells);
            }
            if let Some(search) = search.as_ref().filter(|_| !chosen) {
                draw_found(app, search, cell, (*x, y, *width), cells);
            }
        }
        if let Some(x) = rule {
            put(cells, x, y, area.right(), " │", ground.patch(app.theme.style(Role::Rule)));
        }
    }
}

/// The value that is drafted for a column of the result, ready to be painted.
///
/// With the name of the column where that is not one of the result itself, but was made by opening one.
fn drafted(app: &App, slip: &Slip, draft: &Draft, column: usize, opened: Option<&str>) -> Option<Shown> {
    let elements = slip.ground.place.as_ref().and_then(|_| app.dialect_of(slip).elements);
    let named = |name: &str| slip.ground.fields.iter().position(|field| field.column.name == name);
    let (value, part);
    match opened {
        None => value = draft.new.get(&slip.ground.field_at(column)?)?,
        Some(name) => match named(name) {
            Some(field) => value = draft.new.get(&field)?,
            None => {
                let (field, within) = slip.ground.within(name)?;
                let at = |value: Option<&Datum>| elements?.part_at(value?.text(), &within);
                let (was, is) = (at(draft.was(field)), at(draft.new.get(&field)));
                draft.new.get(&field).filter(|_| was != is)?;
                part = is.map_or(Datum::Absent, Datum::Written);
                value = &part;
            }
        },
    }
    let plain;
    let value = match value {
        // Texts stand in a result without the quotation marks that a statement has.
        Datum::Written(text) => {
            plain = elements.and_then(|elements| elements.plain(text)).map_or_else(|| text.clone(), |(_, text)| text);
            &Datum::Text(plain)
        }
        value => value,
    };
    let kind = match value {
        Datum::Null | Datum::Default | Datum::Absent => CellKind::Null,
        Datum::Number(_) => CellKind::Number,
        Datum::Text(_) | Datum::Written(_) => CellKind::Text,
        Datum::Bytes(_) => CellKind::Binary,
        Datum::Bool(_) => CellKind::Boolean,
    };
    let shown = if *value == Datum::Null { NULL_TEXT } else { value.shown() };
    let fitted = clean::fit(shown, crate::pager::WIDEST);
    Some(Shown { kind, width: clean::width(&fitted.text), cut: fitted.text.len() < shown.len(), text: fitted.text })
}

/// Puts a style on what is written in a part of a line, blanks before and behind it left out.
fn underline(area: Rect, style: Style, cells: &mut Buffer) {
    let written = |x: &u16| cells.cell((*x, area.y)).is_some_and(|cell| !matches!(cell.symbol(), " " | ""));
    let mut places = (area.left()..area.right()).filter(written);
    let Some(first) = places.next() else { return };
    let last = places.next_back().unwrap_or(first);
    for x in first..=last {
        if let Some(cell) = cells.cell_mut((x, area.y)) {
            cell.set_style(cell.style().patch(style));
        }
    }
}

/// The sign behind the name of a column that is sorted by: up or down, and which of several.
fn sorted(view: &View, column: usize) -> String {
    let order = &view.arranged.wanted.order;
    let Some(at) = order.iter().position(|order| order.column == column) else { return String::new() };
    let sign = if order.get(at).is_some_and(|order| order.descending) { "↓" } else { "↑" };
    if order.len() > 1 { format!(" {sign}{}", at + 1) } else { format!(" {sign}") }
}

/// Marks what was searched for in a value that stands to the left and is not cut.
fn draw_found(app: &App, search: &Search, cell: &Shown, (x, y, width): (u16, u16, u16), cells: &mut Buffer) {
    if cell.kind == CellKind::Null || cell.width > usize::from(width) {
        return;
    }
    let from = if cell.kind == CellKind::Number { x + width - cell.width as u16 } else { x };
    let style = app.theme.style(Role::Accent);
    for place in search.places(&cell.text) {
        let before = clean::width(cell.text.get(..place.start).unwrap_or_default()) as u16;
        let wide = clean::width(cell.text.get(place).unwrap_or_default()) as u16;
        for x in from + before..from + before + wide {
            if let Some(cell) = cells.cell_mut((x, y)) {
                cell.set_style(cell.style().patch(style).add_modifier(Modifier::UNDERLINED));
            }
        }
    }
}

fn fits(text: &str, width: u16) -> bool {
    clean::width(text) <= usize::from(width)
}

fn draw_cell(
    app: &App,
    cell: &Shown,
    (x, y, width): (u16, u16, u16),
    (ground, chosen): (Style, bool),
    right: bool,
    cells: &mut Buffer,
) {
    let (text, style) = match cell.kind {
        CellKind::Null => (cell.text.as_str(), ground.patch(app.theme.style(Role::StandIn))),
        // Empty text is not nothing.
        CellKind::Text if cell.text.is_empty() => ("''", ground.patch(app.theme.style(Role::Faint))),
        CellKind::Binary if cell.text.is_empty() => ("x''", ground.patch(app.theme.style(Role::Faint))),
        CellKind::Binary => (cell.text.as_str(), ground.patch(app.theme.style(Role::Name))),
        _ => (cell.text.as_str(), ground),
    };
    let style = if chosen { style.patch(app.theme.style(Role::Cell)) } else { style };
    let end = x + width;
    if chosen {
        fill(cells, Rect { x, y, width, height: 1 }, style);
    }
    let cut = cell.cut || cell.width > usize::from(width);
    if !cut && (right || cell.kind == CellKind::Number) {
        put_right(cells, x, y, end, text, style);
    } else if cut {
        let at = put_cut(cells, x, y, end, &format!("{text}…"), style);
        // The mark stands out from the value it ends.
        put(
            cells,
            at.min(end) - 1,
            y,
            end,
            "…",
            if chosen { style } else { style.patch(app.theme.style(Role::Accent)) },
        );
    } else {
        let bare = text.trim_end_matches(' ');
        let after = put(cells, x, y, end, bare, style);
        // Blanks at the end are there, though nothing is seen of them; of nothing but blanks each is.
        let blanks = text.len() - bare.len();
        let signs = if bare.is_empty() { blanks } else { blanks.min(1) };
        let faint = if chosen { style } else { style.patch(app.theme.style(Role::Faint)) };
        put(cells, after, y, end, &"␣".repeat(signs), faint);
    }
}
