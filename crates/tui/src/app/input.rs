//! What a person does: keys, pastes, and the panes that they go to.

use crossterm::event::{Event, KeyEventKind};
use ratatui::layout::Rect;

use super::{App, Link};
use crate::action::Scope;
use crate::keys::Key;
use crate::layout::Side;
use crate::work::Kind;

impl App {
    /// Takes what a person did.
    pub(super) fn input(&mut self, event: Event) {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => {
                if self.status.as_ref().is_some_and(|told| told.wrong) {
                    self.status = None;
                }
                self.key(Key::of(&key));
            }
            Event::Paste(text) => self.take_pasted(&text),
            Event::Mouse(mouse) => self.mouse(mouse),
            Event::Resize(width, height) => self.resize(Rect::new(0, 0, width, height)),
            _ => {}
        }
    }

    /// Takes what was pasted: for what lies over the screen, for cells of the result in hand, or for the buffer.
    fn take_pasted(&mut self, text: &str) {
        if let Some(overlay) = &mut self.overlay {
            overlay.layer().paste(text);
            self.on_layer(|layer, app| layer.after_key(app));
        } else if self.panes.focus != Scope::Result || !self.paste_cells(text) {
            self.panes.focus = Scope::Buffer;
            self.offer = None;
            self.buffer.document.insert(text);
        }
    }

    pub(super) fn key(&mut self, key: Key) {
        if self.works.iter().any(|work| work.kind == Kind::Slip) && !self.leaves_reading(key) {
            return self.typed_ahead.push(key);
        }
        if self.overlay.is_some() {
            return self.key_to_overlay(key);
        }
        if self.offer.is_some()
            && let Some(action) = self.keymap.only(key, Scope::CompletionPopup)
        {
            return self.act(action);
        }
        match (self.keymap.action(key, self.panes.focus), key.typed()) {
            (Some(action), _) => {
                let offered = self.offer.take().is_some();
                self.act(action);
                if offered && action.name == "delete-left" {
                    self.offer_again();
                }
            }
            (None, Some(c)) if self.panes.focus == Scope::Buffer => {
                if !std::mem::take(&mut self.places.filling) && self.surround(c) {
                    return;
                }
                if self.steps_over(c) {
                    return;
                }
                self.drop_blank_before(c);
                self.buffer.document.type_text(&c.to_string());
                self.offer_while_typing(c);
            }
            // Writing goes to the buffer from anywhere but a result, whose letters are its keys.
            _ => {}
        }
    }

    /// Takes the keys that were pressed while rows were read.
    pub(super) fn take_typed_ahead(&mut self) {
        for key in std::mem::take(&mut self.typed_ahead) {
            self.key(key);
        }
    }

    /// Whether a key gives up the rows that are read to be changed.
    fn leaves_reading(&mut self, key: Key) -> bool {
        let is_back = self.keymap.action(key, self.panes.focus).is_some_and(|action| action.name == "back");
        if is_back {
            self.typed_ahead.clear();
        }
        is_back
    }

    /// Makes the buffer's share larger or smaller.
    pub fn move_divider(&mut self, by: i16) {
        self.panes.share = self.panes.share.saturating_add_signed(by).clamp(20, 80);
    }

    /// Goes to the next pane: the buffer, the results from left to right, and the buffer again.
    pub fn other_pane(&mut self) {
        if self.panes.bare && self.panes.other.is_none() {
            return self.tell("the text is in the editor");
        }
        match (self.panes.focus, self.panes.other) {
            (Scope::Result, Some(Side::Second)) => self.take_other(),
            (Scope::Result, _) => self.panes.focus = Scope::Buffer,
            (_, other) => {
                if other == Some(Side::First) {
                    self.take_other();
                }
                self.panes.focus = Scope::Result;
            }
        }
    }

    /// Lets the pane with the focus fill the screen, or not.
    pub fn fill(&mut self) {
        self.panes.filled = !self.panes.filled;
    }

    /// Changes the theme.
    pub fn other_theme(&mut self) {
        self.theme.name = self.theme.name.other();
    }

    /// Stops what runs; else drops the selection; else leaves the result.
    pub fn back(&mut self) {
        if let Some(work) = self.work() {
            match work.kind {
                Kind::Recall => self.give_recall_up(),
                _ => work.stop(),
            }
        } else if self.connection.is_busy() || self.connection.asks() {
            self.connection.stop();
        } else if matches!(self.connection.link, Link::Opening) {
            self.give_connecting_up();
        } else if self.buffer.document.selection().is_some() {
            self.buffer.document.unselect();
        } else if self.panes.focus == Scope::Result && (self.unmark() || self.follow_cursor_again()) {
            self.status = None;
        } else {
            self.status = None;
            self.panes.focus = Scope::Buffer;
        }
    }
}
