//! The buffer: text with its statements' marks in the margin and their notes behind them.

use std::ops::Range;

use jaunty_core::logbook::Outcome;
use jaunty_core::run::out_line::{OutLine, out_lines};
use jaunty_language::lexer::{Lexer, TokenKind};
use jaunty_language::split::Statement;
use jaunty_language::statement::parameters::with_names;
use jaunty_language::text::clean::pieces;
use jaunty_language::text::motion::{advance, column_of, line_text};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use crate::action::Scope;
use crate::app::{App, MARGIN};
use crate::paint::{fill, put, put_cut, symbol};
use crate::theme::Role;
use jaunty_core::words;

/// The fewest cells in which a note is worth showing behind a line.
const NOTE_FROM: u16 = 28;

/// The mark of a statement that waits for another.
const WAITS: (&str, Role) = ("⋯", Role::Running);

/// A run's mark in the margin: each has a shape of its own.
pub fn mark(outcome: Option<Outcome>, rolled_back: bool) -> (&'static str, Role) {
    match outcome {
        Some(_) if rolled_back => ("↺", Role::Stopped),
        None => ("◦", Role::Faint),
        Some(Outcome::Running) => ("»", Role::Running),
        Some(Outcome::Done) => ("●", Role::Done),
        Some(Outcome::Failed) => ("✗", Role::Failed),
        Some(Outcome::Stopped) => ("■", Role::Stopped),
        Some(Outcome::CutShort) => ("≠", Role::Stopped),
    }
}

pub(super) fn draw(app: &App, area: Rect, cells: &mut Buffer) -> Option<Position> {
    if area.is_empty() {
        return None;
    }
    let ground = app.theme.style(Role::Text);
    fill(cells, area, ground);
    let document = &app.buffer.document;
    let rope = document.rope();
    let lines = app.buffer.top..rope.len_lines().min(app.buffer.top + usize::from(area.height));
    let first = rope.line_to_byte(lines.start.min(rope.len_lines()));
    let last = rope.line_to_byte(lines.end);
    let statements = document.outline().statements();
    let from = statements.partition_point(|s| s.end < first);
    let to = statements.partition_point(|s| s.start < last).max(from);
    let current = document.current();
    let roles = roles(app, first..last);
    let selection = document.selection().unwrap_or(0..0);
    let sent: Vec<OutLine> = statements
        .get(from..to)
        .unwrap_or_default()
        .iter()
        .flat_map(|statement| out_lines(statement, rope, document.outline().dialect()))
        .collect();
    let wrong_targets = sent.iter().filter_map(|line| line.target.as_ref().err()).map(|error| error.range.clone());
    let wrong: Vec<Range<usize>> = statements
        .get(from..to)
        .unwrap_or_default()
        .iter()
        .flat_map(|statement| app.problems_of(statement).into_iter().map(|(range, _)| range))
        .chain(wrong_targets)
        .collect();
    for (y, line) in (area.y..).zip(lines.clone()) {
        draw_line(app, line, y, area, (&roles, &selection, &wrong), cells);
    }
    for out in &sent {
        let line = rope.byte_to_line(out.range.start);
        if lines.contains(&line) {
            let role = if out.target.is_ok() { Role::Accent } else { Role::Failed };
            let y = area.y + (line - lines.start) as u16;
            put(cells, area.x + 1, y, area.right(), "→", ground.patch(app.theme.style(role)));
        }
    }
    for index in from..to {
        let Some(statement) = statements.get(index) else { break };
        draw_statement(app, statement, current == Some(index), &lines, area, cells);
    }
    let (line, column) = app.buffer.place();
    let shown = app.panes.focus == Scope::Buffer && lines.contains(&line) && column >= app.buffer.left;
    let x = area.x + MARGIN + (column - app.buffer.left.min(column)) as u16;
    (shown && x < area.right()).then(|| Position::new(x, area.y + (line - lines.start) as u16))
}

/// The roles of the tokens in sight. Lexing begins where one is known to.
fn roles(app: &App, bytes: Range<usize>) -> Vec<(Range<usize>, Role)> {
    let document = &app.buffer.document;
    let outline = document.outline();
    // Where the statements are not known yet, the first line on the screen is taken to begin between two tokens.
    let start = if document.awaits_outline() { bytes.start } else { outline.boundary_before(bytes.start) };
    let mut roles = Vec::new();
    for token in with_names(Lexer::new(document.rope(), outline.dialect(), start), outline.dialect()) {
        if token.start >= bytes.end {
            break;
        }
        let role = match token.kind {
            TokenKind::Comment => Role::Comment,
            TokenKind::Text | TokenKind::Binary if token.closed => Role::Quoted,
            TokenKind::Text | TokenKind::Binary => Role::Failed,
            TokenKind::QuotedName | TokenKind::Parameter => Role::Name,
            TokenKind::Number => Role::Number,
            TokenKind::Word => {
                let word = document.rope().byte_slice(token.range()).to_string();
                if !outline.dialect().is_keyword(&word) {
                    continue;
                }
                Role::Keyword
            }
            _ => continue,
        };
        if token.end > bytes.start {
            roles.push((token.range(), role));
        }
    }
    roles
}

type Marked<'a> = (&'a [(Range<usize>, Role)], &'a Range<usize>, &'a [Range<usize>]);

fn draw_line(app: &App, line: usize, y: u16, area: Rect, (roles, selection, wrong): Marked<'_>, cells: &mut Buffer) {
    let rope = app.buffer.document.rope();
    let (start, text) = (rope.line_to_byte(line), line_text(rope, line));
    let ground = app.theme.style(Role::Text);
    let left = app.buffer.left;
    let x0 = area.x + MARGIN;
    let mut column = 0;
    for piece in pieces(&text) {
        let next = advance(column, &text, &piece);
        let byte = start + piece.at;
        let role = roles.partition_point(|(range, _)| range.end <= byte);
        let role = roles.get(role).filter(|(range, _)| range.start <= byte).map(|(_, role)| *role);
        let mut style = role.map_or(ground, |role| ground.patch(app.theme.style(role)));
        let tab = text.as_bytes().get(piece.at) == Some(&b'\t');
        if piece.stands_in && !tab {
            style = ground.patch(app.theme.style(Role::StandIn));
        }
        if wrong.iter().any(|range| range.contains(&byte)) {
            style = style.patch(app.theme.style(Role::Wrong));
        }
        if selection.contains(&byte) {
            style = style.patch(app.theme.style(Role::Selected));
        }
        if column >= left {
            let x = x0 + (column - left) as u16;
            if tab {
                put(cells, x, y, area.right(), &" ".repeat(next - column), style);
            } else if symbol(cells, x, y, area.right(), &piece.shown, piece.width, style).is_none() {
                put(cells, area.right() - 1, y, area.right(), "…", ground.patch(app.theme.style(Role::Faint)));
                break;
            }
        }
        column = next;
    }
    if left > 0 && column > 0 {
        // It has scrolled sideways.
        put(cells, x0, y, area.right(), "…", ground.patch(app.theme.style(Role::Faint)));
    }
    // A selection that goes on to the next line shows so.
    let end = start + text.len();
    if selection.contains(&end) && line + 1 < rope.len_lines() && column >= left {
        put(cells, x0 + (column - left) as u16, y, area.right(), " ", ground.patch(app.theme.style(Role::Selected)));
    }
}

/// The margin beside a statement and the note behind it.
fn draw_statement(app: &App, s: &Statement, current: bool, lines: &Range<usize>, area: Rect, cells: &mut Buffer) {
    let rope = app.buffer.document.rope();
    let ground = app.theme.style(Role::Text);
    let run = app.run_of(s);
    let connection = &app.connection;
    let waits = connection.has_waiting() && connection.is_waiting(app.buffer.id_of(s));
    let gone = run.is_some_and(|run| run.is_rolled_back());
    let (shape, role) = if waits { WAITS } else { mark(run.map(|run| run.outcome()), gone) };
    let (top, bottom) = (rope.byte_to_line(s.start), rope.byte_to_line(s.body_end));
    let y = |line: usize| area.y + (line - lines.start) as u16;
    if lines.contains(&top) {
        put(cells, area.x + 1, y(top), area.right(), shape, ground.patch(app.theme.style(role)));
    }
    if current {
        // What is sent with it.
        let needs = app.buffer.needed_by_current();
        let thin = ground.patch(app.theme.style(Role::Faint));
        for (start, end) in needs {
            for line in rope.byte_to_line(start).max(lines.start)..(rope.byte_to_line(end) + 1).min(lines.end) {
                put(cells, area.x + 2, y(line), area.right(), "┊", thin);
            }
        }
        let bar = ground.patch(app.theme.style(Role::Accent));
        for line in top.max(lines.start)..(bottom + 1).min(lines.end) {
            put(cells, area.x + 2, y(line), area.right(), "▎", bar);
        }
    }
    let note = match run {
        _ if waits => Some((connection.awaited(), ground.patch(app.theme.style(Role::Running)))),
        Some(run) => Some((words::note(run, app.now), note_style(app, run.outcome(), ground))),
        None => None,
    };
    if let (Some((note, style)), Some((x, y))) = (note, note_place(app, s, bottom, lines, area)) {
        put_cut(cells, x, y, area.right(), &note, style);
    }
}

/// Where the note of a statement stands: behind its last line, or behind one of its out-lines; where
/// those are full, on the line below, if that is free.
fn note_place(app: &App, s: &Statement, bottom: usize, lines: &Range<usize>, area: Rect) -> Option<(u16, u16)> {
    let document = &app.buffer.document;
    let (rope, outline) = (document.rope(), document.outline());
    let text = line_text(rope, bottom);
    // A statement that begins on the same line has the place.
    let end = rope.line_to_byte(bottom) + text.len();
    if !outline.within(s.end..end).is_empty() {
        return None;
    }
    let x0 = area.x + MARGIN;
    let behind = |line: usize| {
        let text = line_text(rope, line);
        let x = x0 as usize + column_of(&text, text.len()).saturating_sub(app.buffer.left) + 2;
        (x + usize::from(NOTE_FROM) < usize::from(area.right())).then_some((x as u16, line))
    };
    let below = bottom + 1;
    let sent = out_lines(s, rope, outline.dialect()).len();
    let place = (bottom..=bottom + sent).find_map(behind).or_else(|| {
        let free = below + sent >= rope.len_lines() || line_text(rope, below + sent).trim().is_empty();
        free.then_some((x0, below + sent))
    });
    let (x, line) = place.filter(|(_, line)| *line >= lines.start)?;
    let y = area.y + (line - lines.start) as u16;
    (y < area.bottom()).then_some((x, y))
}

fn note_style(app: &App, outcome: Outcome, ground: Style) -> Style {
    ground.patch(app.theme.style(match outcome {
        Outcome::Failed => Role::Failed,
        Outcome::Running => Role::Running,
        _ => Role::Faint,
    }))
}
