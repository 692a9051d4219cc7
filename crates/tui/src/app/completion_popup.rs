//! What could be written next, offered beside the cursor, and the places of what was taken.

use std::ops::Range;

use jaunty_core::complete::about::{About, Call, about, call};
use jaunty_core::complete::{Completion, Kind, Proposal, Surroundings, complete, not_read, region};
use jaunty_core::run::Order;
use jaunty_language::edit::document::Motion;
use jaunty_language::edit::snippet::Snippet;
use jaunty_seam::catalog::Catalog;

use super::overlay::prompt::Asked;
use super::{AboutView, App, Overlay, Prompt};

/// Proposals beside the cursor.
#[derive(Debug)]
pub struct CompletionPopup {
    /// The bytes that a proposal takes the place of.
    pub replace: Range<usize>,
    /// The proposals, the best first.
    pub proposals: Vec<Proposal>,
    /// The chosen one.
    pub chosen: usize,
    /// Whether a person chose it.
    pub moved: bool,
}

/// Places that are still to be filled in. They lie behind the cursor, so that their distance from
/// the end of the text stays the same while one writes.
#[derive(Debug, Default)]
pub struct Places {
    /// From the front to the back.
    ahead: Vec<Ahead>,
    /// The selected text is one of the places: what is typed takes its place.
    pub(super) filling: bool,
    /// A blank that was put in behind what was taken: a sign that is typed there takes its place.
    blank: Option<usize>,
    /// What was taken ended with a colon and a blank, here: whoever writes them again out of habit means these.
    colon: Option<usize>,
}

/// A place that is still to be filled in.
#[derive(Debug)]
struct Ahead {
    /// Where it begins and ends, counted from the end of the text.
    start: usize,
    end: usize,
    /// What stands in it: where something else does, the text was changed behind it, and the place is gone.
    holds: String,
}

impl App {
    /// Proposes what could be written at the cursor.
    pub fn propose(&mut self) {
        match self.completion() {
            Some(completion) if !completion.proposals.is_empty() => self.offer(completion),
            _ => self.tell("no completions here"),
        }
    }

    fn completion(&self) -> Option<Completion> {
        if self.buffer.document.selection().is_some() {
            return None;
        }
        Some(self.at_cursor(|text, start, cursor, around| {
            let mut completion = complete(text, cursor, around);
            completion.replace = completion.replace.start + start..completion.replace.end + start;
            completion
        }))
    }

    /// Asks something about the statement at the cursor: of its text, where in the buffer it begins,
    /// where in it the cursor stands, and what is known around it.
    fn at_cursor<T>(&self, ask: impl FnOnce(&str, usize, usize, Surroundings<'_>) -> T) -> T {
        let document = &self.buffer.document;
        let (rope, cursor) = (document.rope(), document.cursor());
        let range = region::around(rope, document.outline(), cursor);
        let text: String = rope.byte_slice(range.clone()).into();
        let none = Catalog::default();
        let catalog = self.connection.catalog.as_deref().unwrap_or(&none);
        let nearby = region::nearby(rope, cursor);
        let around =
            Surroundings { catalog, dialect: document.outline().dialect(), snippets: &self.snippets, nearby: &nearby };
        for database in not_read(&text, around) {
            self.connection.ask(Order::Database(database.to_owned()));
        }
        ask(&text, range.start, cursor - range.start, around)
    }

    /// Asks for a name under which to keep the selection, or the statement, as a snippet.
    pub fn ask_for_snippet_name(&mut self) {
        let title = "name of the snippet; places written ${1:like this} are filled in when it is used".to_owned();
        self.overlay = Some(Overlay::Prompt(Prompt::new(title, Asked::Snippet)));
    }

    pub(super) fn make_snippet(&mut self, name: &str) {
        let document = &self.buffer.document;
        let statement = document.statement();
        let text = document.selected_text().or_else(|| statement.map(|s| s.text(document.rope())));
        let name = name.trim();
        let (Some(text), false) = (text, name.is_empty() || name.contains(char::is_whitespace)) else {
            return self.tell_wrong("a snippet needs a name without blanks, and a statement or selection");
        };
        let dialect = Some(document.outline().dialect().name.to_owned());
        let snippet =
            jaunty_core::complete::snippets::Snippet { name: name.to_owned(), text: text.trim().to_owned(), dialect };
        let file = self.folders.snippets();
        match jaunty_core::complete::snippets::add(&file, &snippet) {
            Ok(()) => {
                self.snippets.insert(0, snippet);
                self.tell(format!("saved in {}; type {name} at the start of a statement", file.display()));
            }
            Err(error) => self.tell_wrong(error.to_string()),
        }
    }

    /// What is known of the word at the cursor.
    pub(super) fn about_at_cursor(&self) -> Option<About> {
        self.at_cursor(|text, _, cursor, around| about(text, cursor, around))
    }

    /// The call that the cursor stands in.
    pub fn call(&self) -> Option<&Call> {
        self.call.as_ref().and_then(|(_, call)| call.as_ref())
    }

    /// Looks for it again if something has changed.
    pub(super) fn find_call(&mut self) {
        let now = (self.buffer.document.revision(), self.buffer.document.cursor());
        let in_buffer = self.panes.focus == crate::action::Scope::Buffer && self.overlay.is_none();
        if !in_buffer {
            self.call = None;
        } else if self.call.as_ref().is_none_or(|(then, _)| *then != now) {
            let found = self.at_cursor(|text, _, cursor, around| call(text, cursor, around));
            self.call = Some((now, found));
        }
    }

    /// Says what is known of the word at the cursor.
    pub fn explain(&mut self) {
        match self.about_at_cursor() {
            Some(about) => self.overlay = Some(Overlay::About(AboutView { about, top: 0 })),
            None => self.tell("nothing known about this word"),
        }
    }

    fn offer(&mut self, completion: Completion) {
        let Completion { replace, proposals, .. } = completion;
        self.offer = (!proposals.is_empty()).then_some(CompletionPopup { replace, proposals, chosen: 0, moved: false });
    }

    /// After a character was typed: proposes if there is a word to go by, or if what can stand here
    /// is one of a few.
    pub(super) fn offer_while_typing(&mut self, typed: char) {
        self.offer = None;
        self.typed_to = Some(self.buffer.document.cursor());
        let word = typed.is_alphanumeric() || typed == '_';
        // Variables and operators of documents begin with a sign.
        let sign = matches!(typed, '.' | '@' | '$');
        if !(word || sign || matches!(typed, ' ' | '(' | ',' | '=' | '\'' | '"' | '`')) {
            return;
        }
        let Some(completion) = self.completion() else { return };
        let written = self.buffer.document.rope().byte_slice(completion.replace.clone()).to_string();
        // What is written already needs no proposal.
        let same = |p: &Proposal| p.insert.eq_ignore_ascii_case(&written);
        if completion.proposals.first().is_some_and(same) {
            return;
        }
        if word || sign || completion.eager {
            self.offer(completion);
        }
    }

    /// Proposes anew after a character was deleted.
    pub(super) fn offer_again(&mut self) {
        let document = &self.buffer.document;
        let before = document.cursor().checked_sub(1).and_then(|at| document.rope().get_byte(at));
        if before.is_some_and(|byte| byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'.') {
            self.offer_while_typing('a');
        }
    }

    /// Moves the choice.
    pub fn choose_proposal(&mut self, by: isize) {
        if let Some(offer) = &mut self.offer {
            let last = offer.proposals.len().saturating_sub(1);
            offer.moved = true;
            offer.chosen = offer.chosen.saturating_add_signed(by).min(last);
        }
    }

    /// Takes the chosen proposal.
    pub fn take_proposal(&mut self) {
        let Some(CompletionPopup { replace, proposals, chosen, .. }) = self.offer.take() else { return };
        self.typed_to = None;
        let Some(proposal) = proposals.into_iter().nth(chosen) else { return };
        let behind = self.buffer.document.rope().get_byte(replace.end);
        let goes_on = match proposal.kind {
            Kind::Keyword => !proposal.insert.ends_with(['(', ' ', '\n', ')']),
            Kind::Object(kind) => kind.has_rows() && !proposal.insert.ends_with(')'),
            Kind::Cte | Kind::Join => true,
            _ => false,
        };
        let blank = goes_on && behind.is_none_or(|byte| byte == b'\n' || byte == b'\r');
        let insert = if blank { format!("{} ", proposal.insert) } else { proposal.insert };
        self.put_snippet(replace, &insert);
        let cursor = self.buffer.document.cursor();
        self.places.blank = blank.then_some(cursor);
        self.places.colon = insert.ends_with(": ").then_some(cursor);
        if matches!(proposal.kind, Kind::Alias | Kind::Schema) {
            self.offer_while_typing('.');
        } else if blank {
            self.offer_while_typing(' ');
        }
    }

    /// Takes it if a person has moved to it, and else begins a line.
    pub fn take_or_new_line(&mut self) {
        if self.offer.as_ref().is_some_and(|offer| offer.moved) {
            self.take_proposal();
        } else {
            self.offer = None;
            self.new_line();
        }
    }

    /// Puts a text with places in, and goes to the first of them.
    pub(super) fn put_snippet(&mut self, replace: Range<usize>, written: &str) {
        let document = &mut self.buffer.document;
        let snippet = Snippet::read(&document.with_own_line_ends(written));
        // What is put into a place leaves those that follow it.
        let behind = document.rope().len_bytes().saturating_sub(replace.end);
        let outer = std::mem::take(&mut self.places.ahead).into_iter().filter(|place| place.start <= behind);
        document.go(Motion::To(replace.start), false);
        if !replace.is_empty() {
            document.go(Motion::To(replace.end), true);
        }
        document.insert(&snippet.text);
        let end = document.rope().len_bytes();
        let start = document.cursor() - snippet.text.len();
        let place = |range: &Range<usize>| Ahead {
            start: end - (start + range.start),
            end: end - (start + range.end),
            holds: snippet.text.get(range.clone()).unwrap_or_default().to_owned(),
        };
        let own = snippet.places.iter().map(|(_, range)| place(range)).collect::<Vec<_>>();
        let goes_on = !own.is_empty();
        let mut ahead: Vec<Ahead> = own.into_iter().chain(outer).collect();
        // Filling in goes from the front to the back; only then do places stay where they are.
        ahead.sort_by_key(|place| std::cmp::Reverse(place.start));
        self.places = Places { ahead, ..Places::default() };
        // Of a name alone more may follow before the next place.
        if goes_on {
            self.buffer.document.go(Motion::To(start), false);
            self.next_place();
        }
    }

    /// Goes to the next place that is to be filled in. False if there is none.
    pub(super) fn next_place(&mut self) -> bool {
        if self.places.ahead.is_empty() {
            return false;
        }
        let place = self.places.ahead.remove(0);
        let document = &mut self.buffer.document;
        let rope = document.rope();
        let whole = rope.len_bytes();
        let there = whole.checked_sub(place.start).zip(whole.checked_sub(place.end));
        let holds = |(start, end)| rope.get_byte_slice(start..end).is_some_and(|text| text == place.holds.as_str());
        let ahead = |(start, _)| document.cursor() <= start;
        let Some((start, end)) = there.filter(|there| holds(*there) && ahead(*there)) else {
            self.places = Places::default();
            return false;
        };
        document.go(Motion::To(start), false);
        if start < end {
            document.go(Motion::To(end), true);
        }
        self.places.filling = start < end;
        true
    }

    /// A sign is typed: the blank that was put in before it was not meant to stand there.
    pub(super) fn drop_blank_before(&mut self, typed: char) {
        let blank = self.places.blank.take();
        let document = &mut self.buffer.document;
        if matches!(typed, ',' | ';' | ')' | '.' | ' ')
            && blank == Some(document.cursor())
            && document.selection().is_none()
        {
            document.delete(Motion::Left);
        }
    }

    /// A colon and a blank that came with what was taken are not written a second time. A colon alone begins a parameter,
    /// so it goes only when what follows it is no name.
    fn steps_over_colon(&mut self, typed: char) -> bool {
        let document = &mut self.buffer.document;
        let Some(at) = self.places.colon.filter(|_| document.selection().is_none()) else { return false };
        let twice = document.cursor() == at + 1 && document.rope().get_byte(at) == Some(b':');
        if typed == ':' && document.cursor() == at {
            return false;
        }
        self.places.colon = None;
        if twice && !(typed.is_alphabetic() || typed == '_') {
            document.delete(Motion::Left);
        }
        typed == ' ' && document.cursor() == at
    }

    /// What was put in with what was taken, a parenthesis or a colon with its blank, is not written a second time.
    pub(super) fn steps_over(&mut self, typed: char) -> bool {
        if self.steps_over_colon(typed) {
            return true;
        }
        let document = &self.buffer.document;
        let (cursor, whole) = (document.cursor(), document.rope().len_bytes());
        let there = document.rope().get_byte(cursor) == Some(b')') && document.selection().is_none();
        let next = self.places.ahead.first().map(|place| whole.saturating_sub(place.start));
        let steps = typed == ')' && there && next == Some(cursor + 1);
        if steps {
            self.offer = None;
            self.next_place();
        }
        steps
    }

    /// Tab: the next place; blanks at the beginning of a line; and else proposals.
    pub fn tab(&mut self) {
        if self.next_place() {
            return;
        }
        let document = &self.buffer.document;
        let line = document.rope().line_to_byte(document.rope().byte_to_line(document.cursor()));
        let before = document.rope().byte_slice(line..document.cursor());
        if document.selected_text().is_some_and(|text| text.contains('\n')) {
            self.indent_lines();
        } else if document.selection().is_some() || before.chars().all(char::is_whitespace) {
            self.indent();
        } else {
            self.propose();
        }
    }

    /// Proposes anew, since more is known now.
    pub(super) fn renew_offer(&mut self) {
        match &self.offer {
            Some(offer) if offer.moved => {}
            Some(_) => {
                self.offer_while_typing(' ');
                if self.offer.is_none() {
                    self.offer_while_typing('a');
                }
            }
            // Nothing was known when the word at the cursor was typed.
            None if self.typed_to == Some(self.buffer.document.cursor()) => self.offer_again(),
            None => {}
        }
    }

    /// Closes what is offered.
    pub fn close_offer(&mut self) {
        self.offer = None;
        self.typed_to = None;
    }
}
