//! One row with its names down the side, or one value of it: wrapped, indented, folded, searched.

use std::collections::HashSet;
use std::ops::Range;

use jaunty_core::arrange::search::Search;

use super::{After, Layer, Overlay};
use crate::action::Scope;
use crate::app::App;
use crate::line;
use crate::pager::{AS_CANONICAL_JSON, AS_JSON, RowAnswer, Wish, is_json};
use crate::row::{Field, LONGEST, Line};

/// A row that is looked at.
#[derive(Debug, Default)]
pub struct RowDetail {
    /// Its place among the rows that are shown.
    pub at: u64,
    /// The row of the archive.
    row: u64,
    /// Its values; none until they are read.
    pub fields: Vec<Field>,
    /// The column that is looked at alone.
    pub alone: Option<usize>,
    /// The byte from which on that is shown, where it is too long to be shown at once.
    from: u64,
    /// Whether the row was there before the value.
    from_row: bool,
    /// Its lines.
    pub lines: Vec<Line>,
    /// The line in hand, among all.
    pub chosen: usize,
    /// The first line on the screen.
    top: usize,
    /// The column to go to as soon as it is laid out.
    goes_to: Option<usize>,
    /// The lines whose inside is folded away.
    folded: HashSet<usize>,
    /// What is looked for.
    pub sought: line::Line,
    /// Whether that is being typed.
    pub typing: bool,
    /// Where it stands: a line, and the bytes in it.
    places: Vec<Spot>,
    /// The place in hand, among all.
    here: Option<usize>,
}

/// A place where what is looked for stands, or the part of it that stands in one line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spot {
    /// The line.
    pub line: usize,
    /// The bytes in it.
    pub range: Range<usize>,
    /// Whether it began in a line above.
    goes_on: bool,
}

/// More places than this are not looked for.
const MOST_PLACES: usize = 100_000;

impl RowDetail {
    fn new(at: u64, row: u64, alone: Option<usize>, column: usize) -> RowDetail {
        RowDetail { at, row, alone, goes_to: Some(column), ..RowDetail::default() }
    }

    /// Takes what was laid out.
    fn take(&mut self, answer: RowAnswer) {
        (self.fields, self.lines) = (answer.fields, answer.lines);
        self.folded.clear();
        if let Some(column) = self.goes_to.take() {
            self.chosen = self.lines.iter().position(|line| line.column == column).unwrap_or(0);
        }
        self.chosen = self.chosen.min(self.lines.len().saturating_sub(1));
        self.find_places();
    }

    /// The line that closes one that is folded away.
    fn folds_to(&self, line: usize) -> Option<usize> {
        self.lines.get(line)?.closes.filter(|_| self.folded.contains(&line))
    }

    /// Whether what a line opens is folded away.
    pub fn is_folded(&self, line: usize) -> bool {
        self.folded.contains(&line)
    }

    /// The line below one, of those that are not folded away.
    fn below(&self, line: usize) -> Option<usize> {
        Some(self.folds_to(line).unwrap_or(line + 1)).filter(|line| *line < self.lines.len())
    }

    /// The line above one.
    fn above(&self, line: usize) -> Option<usize> {
        let above = line.checked_sub(1)?;
        Some(self.around(above).min().unwrap_or(above))
    }

    /// The folded lines around one.
    fn around(&self, line: usize) -> impl Iterator<Item = usize> {
        self.folded
            .iter()
            .copied()
            .filter(move |open| *open < line && self.folds_to(*open).is_some_and(|end| end > line))
    }

    /// The lines on the screen, from the first on, as many as there is room for.
    pub fn shown(&self, height: usize) -> Vec<usize> {
        let first = Some(self.top).filter(|top| *top < self.lines.len());
        std::iter::successors(first, |line| self.below(*line)).take(height).collect()
    }

    /// Keeps the line in hand on a screen of so many lines.
    fn keep_in_sight(&mut self, height: usize) {
        self.top = self.top.min(self.chosen);
        let mut first = self.chosen;
        for _ in 1..height.max(1) {
            match self.above(first).filter(|above| *above >= self.top) {
                Some(above) => first = above,
                None => break,
            }
        }
        self.top = first;
        // Nothing is left free below while there is something above.
        let below = self.shown(height).len();
        for _ in below..height {
            match self.above(self.top) {
                Some(above) => self.top = above,
                None => break,
            }
        }
    }

    /// The column of the line in hand.
    fn column(&self) -> usize {
        self.lines.get(self.chosen).map_or(0, |line| line.column)
    }

    /// How many places hold what is looked for.
    pub fn found(&self) -> usize {
        self.places.iter().filter(|place| !place.goes_on).count()
    }

    /// The places in a line.
    pub fn places_in(&self, line: usize) -> &[Spot] {
        let from = self.places.partition_point(|place| place.line < line);
        let to = self.places.partition_point(|place| place.line <= line);
        self.places.get(from..to).unwrap_or_default()
    }

    /// Finds the places of what is looked for. It may begin in one line and go on in the next, where a line was
    /// only divided for want of room.
    fn find_places(&mut self) {
        self.places.clear();
        self.here = None;
        let Some(search) = Search::new(self.sought.text()) else { return };
        let mut from = 0;
        while from < self.lines.len() && self.places.len() < MOST_PLACES {
            let goes_on = |line: &&Line| line.goes_on.is_some();
            let to = from + 1 + self.lines.get(from + 1..).unwrap_or_default().iter().take_while(goes_on).count();
            let parts = self.lines.get(from..to).unwrap_or_default();
            if !parts.iter().any(|line| line.is_note) {
                add_places(&search, from, parts, &mut self.places);
            }
            from = to;
        }
    }

    /// Goes to the next place, or to the one before.
    pub(crate) fn seek(&mut self, back: bool) {
        let now = self.here.unwrap_or_else(|| self.places.partition_point(|place| place.line < self.chosen));
        let is_other = |at: &usize| self.places.get(*at).is_some_and(|place| !place.goes_on);
        let (before, after) = (0..now.min(self.places.len()), now + 1..self.places.len());
        self.here = match back {
            false => after.clone().find(is_other).or_else(|| (0..self.places.len()).find(is_other)),
            true => before.rev().find(is_other).or_else(|| (0..self.places.len()).rev().find(is_other)),
        };
        self.go_to_place();
    }

    fn go_to_place(&mut self) {
        let Some(line) = self.here.and_then(|here| self.places.get(here)).map(|place| place.line) else { return };
        // What it is folded in opens.
        let around: Vec<usize> = self.around(line).collect();
        self.folded.retain(|open| !around.contains(open));
        self.chosen = line;
    }

    /// The place in hand.
    pub fn place_in_hand(&self) -> Option<&Spot> {
        self.places.get(self.here?)
    }

    fn fold(&mut self) -> bool {
        let opens = self.lines.get(self.chosen).is_some_and(|line| line.closes.is_some());
        if opens && !self.folded.remove(&self.chosen) {
            self.folded.insert(self.chosen);
        }
        opens
    }

    /// Begins to look for something else.
    pub(crate) fn begin_search(&mut self) {
        (self.typing, self.sought) = (true, line::Line::default());
    }

    /// Copies the whole value in hand.
    pub(crate) fn copy(&mut self, app: &mut App) {
        if let Some(rows) = app.rows.kept().cloned() {
            // Of a row as JSON all of it.
            let column = self.alone.filter(|column| is_json(*column)).unwrap_or(self.column());
            app.pager.ask(Wish::Cell { rows, row: self.row, column });
        }
    }

    /// Shows the value in hand alone, or the whole row again.
    pub(crate) fn turn(&mut self, app: &mut App) {
        let alone = if self.alone.is_some() { None } else { Some(self.column()) };
        self.look_at_alone(alone, false, app);
    }

    /// Shows the row as JSON, with or without the types of all numbers.
    pub(crate) fn as_json(&mut self, app: &mut App) {
        let from_row = self.alone.is_none() || self.from_row;
        let alone = if self.alone == Some(AS_JSON) { AS_CANONICAL_JSON } else { AS_JSON };
        self.look_at_alone(Some(alone), from_row, app);
    }

    fn look_at_alone(&mut self, alone: Option<usize>, from_row: bool, app: &App) {
        self.goes_to = Some(self.column());
        (self.alone, self.from_row, self.from) = (alone, from_row, 0);
        self.ask(app);
    }

    /// Has it laid out on the screen as it is now.
    fn ask(&self, app: &App) {
        let Some(rows) = app.rows.kept().cloned() else { return };
        let (row, alone, from, width) = (self.row, self.alone, self.from, app.screen.width);
        app.pager.ask(Wish::Row { rows, row, alone, from, width });
    }

    /// Shows the next part of a value that is too long to be shown at once, or the one before.
    pub(crate) fn other_part(&mut self, next: bool, app: &mut App) {
        let Some(field) = self.alone.and_then(|column| self.fields.get(if is_json(column) { 0 } else { column }))
        else {
            return;
        };
        let from = match next {
            true => field.part.end,
            false => field.part.start.saturating_sub(LONGEST),
        };
        if from < field.bytes && from != self.from {
            (self.from, self.chosen) = (from, 0);
            self.ask(app);
        } else {
            app.tell(if next { "this is the end of the value" } else { "this is the beginning of the value" });
        }
    }

    /// Looks at the next row, or the one before, at the same column.
    pub(crate) fn other_row(&mut self, by: i64, app: &mut App) {
        let (alone, column) = (self.alone, self.column());
        app.move_row(by);
        app.rows.take_column(column);
        app.look_at_row(alone);
        // A column that is hidden in the table is none there.
        if let Some(other) = app.overlaid::<RowDetail>() {
            other.goes_to = Some(column);
        }
    }
}

impl Layer for RowDetail {
    fn scope(&self) -> Option<Scope> {
        (!self.typing).then_some(Scope::RowDetail)
    }

    fn takes_text(&self) -> bool {
        self.typing
    }

    fn line(&mut self) -> Option<&mut line::Line> {
        self.typing.then_some(&mut self.sought)
    }

    fn line_changed(&mut self) {
        self.find_places();
        if self.places_in(self.chosen).is_empty() {
            self.here = self.places.iter().position(|place| place.line > self.chosen).or(Some(0));
            self.go_to_place();
        }
    }

    fn move_by(&mut self, by: isize) {
        match by {
            isize::MIN => return self.chosen = 0,
            isize::MAX => return self.chosen = self.above(self.lines.len()).unwrap_or(0),
            _ => {}
        }
        for _ in 0..by.unsigned_abs() {
            match if by < 0 { self.above(self.chosen) } else { self.below(self.chosen) } {
                Some(line) => self.chosen = line,
                None => break,
            }
        }
    }

    fn page(&self) -> isize {
        20
    }

    fn wheel(&self) -> isize {
        3
    }

    fn accept(&mut self, app: &mut App) -> After {
        if self.typing {
            self.typing = false;
        } else if !self.fold() && self.alone.is_none() {
            let column = self.column();
            self.look_at_alone(Some(column), true, app);
        }
        After::Stay
    }

    fn close(&mut self, app: &mut App) -> After {
        if self.typing {
            (self.typing, self.sought) = (false, line::Line::default());
            self.find_places();
        } else if self.alone.is_some() && self.from_row {
            self.look_at_alone(None, false, app);
        } else {
            return After::Close;
        }
        After::Stay
    }
}

/// Adds the places in the parts of a line, the first of which has this number.
fn add_places(search: &Search, first: usize, parts: &[Line], places: &mut Vec<Spot>) {
    let own = |line: &Line| line.goes_on.unwrap_or(0);
    let whole: String = parts.iter().map(|line| line.text.get(own(line)..).unwrap_or_default()).collect();
    // Where each part begins in the whole.
    let mut begins = Vec::with_capacity(parts.len() + 1);
    begins.push(0);
    for line in parts {
        begins.push(begins.last().copied().unwrap_or(0) + line.text.len() - own(line));
    }
    for found in search.places(&whole).take(MOST_PLACES) {
        let mut part = begins.partition_point(|begin| *begin <= found.start).saturating_sub(1);
        let mut goes_on = false;
        while let (Some(line), Some([begin, end])) = (parts.get(part), begins.get(part..part + 2)) {
            if found.end <= *begin {
                break;
            }
            let within = found.start.max(*begin) - begin..found.end.min(*end) - begin;
            let range = within.start + own(line)..within.end + own(line);
            places.push(Spot { line: first + part, range, goes_on });
            (part, goes_on) = (part + 1, true);
        }
    }
}

impl App {
    /// Shows the row in hand with its names down the side.
    pub fn show_row(&mut self) {
        self.look_at_row(None);
    }

    /// Shows the value in hand alone.
    pub fn show_value(&mut self) {
        let column = self.rows.view().column_in_hand();
        self.look_at_row(Some(column));
    }

    /// Shows the row in hand as JSON.
    pub fn show_json(&mut self) {
        self.look_at_row(Some(AS_JSON));
    }

    fn look_at_row(&mut self, alone: Option<usize>) {
        let view = self.rows.view();
        if self.rows.kept().is_none() || self.rows.total() == 0 {
            return self.tell("no rows here");
        }
        let row = view.row_of(view.row);
        let whole = RowDetail::new(view.row, row, alone, view.column_in_hand());
        whole.ask(self);
        self.overlay = Some(Overlay::RowDetail(Box::new(whole)));
    }

    /// Has the row that is looked at laid out on the screen as it is now.
    pub(in crate::app) fn ask_for_row_as_it_is(&mut self) {
        self.on(|row: &mut RowDetail, app| row.ask(app));
    }

    pub(in crate::app) fn take_row(&mut self, answer: RowAnswer) {
        let ours = self.rows.kept().is_some_and(|kept| kept.path() == answer.path);
        if let Some(whole) = self.overlaid::<RowDetail>()
            && ours
            && (whole.row, whole.alone, whole.from) == (answer.row, answer.alone, answer.from)
        {
            whole.take(answer);
        }
    }

    /// Keeps the line of a row that is looked at in sight.
    pub(in crate::app) fn keep_line_in_sight(&mut self) {
        let height =
            crate::view::overlay::drawer(self, self.screen).height.saturating_sub(crate::view::row_detail::HEAD);
        if let Some(whole) = self.overlaid::<RowDetail>() {
            whole.keep_in_sight(usize::from(height));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A value of lines, of which those that begin with a plus go on with the one above, and those that end with
    /// `{` open what the next `}` of the same depth closes.
    fn whole(lines: &[&str]) -> RowDetail {
        let mut open = Vec::new();
        let mut laid: Vec<Line> = Vec::new();
        for (at, text) in lines.iter().enumerate() {
            let goes_on = text.starts_with('+').then_some(1);
            laid.push(Line { text: (*text).to_owned(), goes_on, ..Line::default() });
            if text.ends_with('{') {
                open.push(at);
            } else if text.ends_with('}')
                && let Some(opened) = open.pop()
            {
                laid[opened].closes = Some(at);
            }
        }
        RowDetail { lines: laid, ..RowDetail::default() }
    }

    const NESTED: [&str; 8] = ["a{", "b{", "quay", "}", "c", "d{", "}", "}"];

    #[test]
    fn lines_that_are_folded_away_are_stepped_over() {
        let mut value = whole(&NESTED);
        (value.chosen, value.folded) = (1, HashSet::from([1, 5]));
        assert_eq!(value.shown(99), [0, 1, 3, 4, 5, 6, 7]);
        value.move_by(1);
        assert_eq!(value.chosen, 3);
        value.move_by(-1);
        assert_eq!(value.chosen, 1);
        value.folded.insert(0);
        assert_eq!(value.shown(99), [0, 7]);
        value.move_by(isize::MAX);
        value.move_by(-1);
        assert_eq!(value.chosen, 0, "the outermost counts");
        value.move_by(isize::MAX);
        assert_eq!(value.chosen, 7);
    }

    #[test]
    fn the_screen_moves_only_where_the_line_in_hand_would_leave_it() {
        let mut value = whole(&["0", "1", "2", "3", "4", "5", "6", "7", "8", "9"]);
        let go = |value: &mut RowDetail, by: isize| {
            value.move_by(by);
            value.keep_in_sight(4);
            (value.chosen, value.top)
        };
        assert_eq!(go(&mut value, 3), (3, 0));
        assert_eq!(go(&mut value, 2), (5, 2));
        assert_eq!(go(&mut value, -2), (3, 2), "it stays where it is");
        assert_eq!(go(&mut value, -2), (1, 1));
        assert_eq!(go(&mut value, 99), (9, 6));
        value.lines.truncate(8);
        value.chosen = 7;
        assert_eq!(go(&mut value, 0), (7, 4), "nothing is left free below");
        value.keep_in_sight(0);
        assert_eq!(value.top, 7);
    }

    #[test]
    fn what_is_looked_for_may_go_on_in_the_next_line() {
        let mut value = whole(&["the quay of salt", "+marsh, and the qu", "+ay", "Quay", "quayquay"]);
        let found = |value: &mut RowDetail, text: &str| {
            value.sought = text.into();
            value.find_places();
            let places = value.places.iter().map(|place| (place.line, place.range.clone())).collect::<Vec<_>>();
            (value.found(), places)
        };
        assert_eq!(found(&mut value, "saltmarsh"), (1, vec![(0, 12..16), (1, 1..6)]));
        assert_eq!(
            found(&mut value, "quay"),
            (5, vec![(0, 4..8), (1, 16..18), (2, 1..3), (3, 0..4), (4, 0..4), (4, 4..8)])
        );
        assert_eq!(found(&mut value, "Quay").0, 1, "a capital letter counts");
        assert_eq!(found(&mut value, "").0, 0);
        // From place to place, round the end and back.
        found(&mut value, "quay");
        value.chosen = 0;
        let mut lines = Vec::new();
        for back in [false, false, false, false, false, true] {
            value.seek(back);
            lines.push((value.chosen, value.place_in_hand().unwrap().range.start));
        }
        assert_eq!(lines, [(1, 16), (3, 0), (4, 0), (4, 4), (0, 4), (4, 4)]);
    }

    #[test]
    fn what_is_found_is_unfolded() {
        let mut value = whole(&NESTED);
        value.folded = HashSet::from([0, 1, 5]);
        value.sought = "quay".into();
        value.line_changed();
        assert_eq!((value.chosen, value.shown(99)), (2, vec![0, 1, 2, 3, 4, 5, 6, 7]));
        assert_eq!(value.folded, HashSet::from([5]), "what does not hide it stays");
    }
}
