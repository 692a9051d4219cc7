//! Proposals beside the cursor, and a line about the chosen one.

use jaunty_core::complete::about::help_for;
use jaunty_core::complete::{Kind, Proposal};
use jaunty_language::text::clean;
use jaunty_seam::catalog::Catalog;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

use crate::app::{App, CompletionPopup};
use crate::paint::{fill, put, put_cut, put_right};
use crate::theme::Role;

/// The most proposals in sight.
const ROWS: usize = 8;

/// The widest that the labels may be, and all of it.
const LABELS: usize = 44;
const WIDEST: u16 = 78;

pub(super) fn draw(app: &App, offer: &CompletionPopup, cursor: Position, buffer: Rect, cells: &mut Buffer) {
    let about = offer.proposals.get(offer.chosen).map(|chosen| about(app, chosen)).unwrap_or_default();
    let shown = offer.proposals.len().min(ROWS);
    let rows = shown as u16 + u16::from(!about.is_empty());
    let labels = offer.proposals.iter().map(|p| clean::width(&p.label)).max().unwrap_or(0).min(LABELS) as u16;
    let details = offer.proposals.iter().map(|p| clean::width(&beside(p))).max().unwrap_or(0) as u16;
    let whole = cells.area;
    let about_width = clean::width(&about).min(60) as u16;
    let width = (labels + details + 5).max(about_width + 4).clamp(24, WIDEST).min(whole.width);
    // Under the line of the cursor, or above it where there is no room.
    let below = buffer.bottom().saturating_sub(cursor.y + 1);
    let y = if below >= rows || below >= cursor.y { cursor.y + 1 } else { cursor.y.saturating_sub(rows) };
    let rope = app.buffer.document.rope();
    let typed = rope.byte_slice(offer.replace.start..app.buffer.document.cursor().max(offer.replace.start));
    let typed = typed.len_chars() as u16;
    let x = cursor.x.saturating_sub(typed + 2).min(whole.right().saturating_sub(width));
    let area = Rect { x, y, width, height: rows }.intersection(whole);
    let ground = app.theme.style(Role::Overlay);
    let faint = ground.patch(app.theme.style(Role::Faint));
    fill(cells, area, ground);
    let first = (offer.chosen + 1).saturating_sub(ROWS);
    for (row, y) in (first..first + shown).zip(area.y..area.bottom()) {
        let Some(proposal) = offer.proposals.get(row) else { break };
        let chosen = row == offer.chosen;
        let style = if chosen { ground.patch(app.theme.style(Role::Selected)) } else { ground };
        fill(cells, Rect { y, height: 1, ..area }, style);
        put(cells, area.x, y, area.right(), if chosen { "›" } else { " " }, style);
        let label = match proposal.kind {
            Kind::Keyword if !chosen => style.patch(app.theme.style(Role::Keyword)),
            Kind::Value if !chosen => style.patch(app.theme.style(Role::Quoted)),
            _ => style,
        };
        let end = put_cut(cells, area.x + 2, y, (area.x + 2 + labels).min(area.right()), &proposal.label, label);
        let detail = if chosen { style } else { style.patch(app.theme.style(Role::Faint)) };
        put_right(
            cells,
            end.max(area.x + 2 + labels.min(20)) + 2,
            y,
            area.right().saturating_sub(1),
            &beside(proposal),
            detail,
        );
    }
    if !about.is_empty() && area.height == rows {
        put_cut(cells, area.x + 2, area.bottom() - 1, area.right() - 1, &about, faint);
    }
}

/// What stands beside a proposal: what is known of it, else what it is.
fn beside(proposal: &Proposal) -> String {
    match (proposal.kind, proposal.detail.as_str()) {
        (Kind::Keyword, "") => String::new(),
        (kind, "") => kind.word().to_owned(),
        (_, detail) => detail.to_owned(),
    }
}

/// The first sentence of the help for it.
fn about(app: &App, proposal: &Proposal) -> String {
    let nothing = Catalog::default();
    let catalog = app.connection.catalog.as_deref().unwrap_or(&nothing);
    let text = help_for(proposal, catalog, app.buffer.document.outline().dialect()).unwrap_or_default();
    let sentence = text.find(". ").map_or(text, |end| text.get(..=end).unwrap_or(text));
    clean::clean(sentence).into_owned()
}
