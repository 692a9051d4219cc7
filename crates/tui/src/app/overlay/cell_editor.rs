//! The editor of one value: a line that is checked while it is typed, with what the column takes below it.

use jaunty_core::files::parts;
use jaunty_core::run::connection_worker::Order;
use jaunty_core::run::sample::Sample;
use jaunty_core::slip::{Datum, Field, Kind, Mistake, Row, Slip, Undrafted};
use jaunty_language::dialect::Dialect;
use jaunty_language::text::clean;
use jaunty_seam::catalog::{Name, ObjectKind};
use jaunty_seam::rows::cell::CellKind;

use super::{After, Layer, Overlay, SlipView};
use crate::action::Scope;
use crate::app::App;
use crate::line::Line;
use jaunty_core::words;

/// Whose value is edited.
#[derive(Debug, Clone)]
pub enum Edited {
    /// That of rows that were read, by their number in the archive.
    Rows(Vec<(u64, Row)>),
    /// That of a draft, by its place.
    Draft(usize),
}

/// A value that can be chosen.
#[derive(Debug, Clone)]
pub struct Choice {
    /// The value.
    pub value: String,
    /// What stands beside it; cleaned.
    pub about: String,
}

/// The editor of a value.
#[derive(Debug)]
pub struct CellEditor {
    /// A slip without drafts: which one it is.
    pub head: Slip,
    /// Whose value it is.
    pub edited: Edited,
    /// The field.
    pub field: usize,
    /// Where it is in the field, where only a part of that is changed; else empty.
    pub within: String,
    /// What the value is: of a field that takes values of several types, that of the one that is there.
    kind: Kind,
    /// The value as it was, if there is one.
    pub was: Option<Datum>,
    /// What is typed.
    pub line: Line,
    /// NULL or the default, where that was chosen in the place of what is typed.
    pub given: Option<Datum>,
    /// What is wrong with what is typed.
    pub mistake: Option<Mistake>,
    /// Values that can be chosen.
    pub choices: Vec<Choice>,
    /// The one in hand among those that fit; none while the line counts.
    pub chosen: Option<usize>,
    /// The table that the choices are looked up in.
    pub looks_up: Option<Name>,
    /// Where it goes back to.
    back: Option<Box<SlipView>>,
}

/// Whether a value is an identifier as they are made here for an element more, in a field whose values are others.
fn is_made(slip: &Slip, field: usize, value: &Datum, dialect: &'static Dialect) -> bool {
    let Some(of) = slip.ground.fields.get(field).filter(|_| slip.ground.is_given_else(field)) else { return false };
    let made = dialect.elements.and_then(|elements| elements.new_key([0; 12]));
    let kind = |value: &Datum| of.kind.of_value(value, dialect).0;
    made.is_some_and(|made| kind(&made) == kind(value) && kind(value) != of.kind)
}

impl CellEditor {
    /// For a value of rows that were read; `first` is the value that it begins with.
    ///
    /// With something `within` the field, that part of it.
    pub(in crate::app) fn of_rows(
        head: Slip,
        rows: Vec<(u64, Row)>,
        (field, within): (usize, String),
        first: Option<Datum>,
        dialect: &'static Dialect,
    ) -> CellEditor {
        let was = match rows.as_slice() {
            [(_, old)] => old.get(field).cloned().flatten(),
            _ => None,
        };
        let part = |value: Option<Datum>| match within.is_empty() {
            true => value,
            false => value.map(|value| part_of(&value, &within, dialect)),
        };
        let values = (part(was), part(first));
        let mut editor = CellEditor::new(head, Edited::Rows(rows), field, values, None, dialect);
        editor.within = within;
        editor
    }

    /// For a value of a draft.
    pub(in crate::app) fn of_draft(
        slip: &Slip,
        (draft, field): (usize, usize),
        back: SlipView,
        dialect: &'static Dialect,
    ) -> CellEditor {
        let of = slip.drafts.get(draft);
        let was = of.and_then(|draft| draft.was(field)).cloned();
        let first = of.and_then(|draft| draft.value(field)).cloned();
        // Where the others have identifiers of another kind, one that was made here is in nobody's way.
        let first = first.filter(|value| !is_made(slip, field, value, dialect));
        let head = Slip { drafts: Vec::new(), ..slip.clone() };
        CellEditor::new(head, Edited::Draft(draft), field, (was, first), Some(Box::new(back)), dialect)
    }

    fn new(
        head: Slip,
        edited: Edited,
        field: usize,
        (was, first): (Option<Datum>, Option<Datum>),
        back: Option<Box<SlipView>>,
        dialect: &'static Dialect,
    ) -> CellEditor {
        let of_field = head.ground.fields.get(field).map(|field| field.kind.clone()).unwrap_or_default();
        let known = first.as_ref().or(was.as_ref()).filter(|value| !value.is_word());
        let (kind, text) = match known {
            Some(value) => of_field.of_value(value, dialect),
            None => (of_field, String::new()),
        };
        let choices = kind.choices();
        let choices = choices.into_iter().map(|value| Choice { value, about: String::new() }).collect();
        let given = first.clone().filter(Datum::is_word);
        let line = Line::offered(if given.is_none() && first.is_some() { text } else { String::new() });
        CellEditor {
            head,
            edited,
            field,
            within: String::new(),
            kind,
            was,
            line,
            given,
            mistake: None,
            choices,
            chosen: None,
            looks_up: None,
            back,
        }
    }

    /// The column.
    pub fn of(&self) -> Option<&Field> {
        self.head.ground.fields.get(self.field)
    }

    /// The name of its type: that of the value where the column takes several.
    pub fn type_name(&self) -> &str {
        match &self.kind {
            Kind::Value(of) if !of.is_empty() => of,
            _ => self.of().map_or("", |field| field.column.db_type.as_str()),
        }
    }

    /// How many rows get the value.
    pub fn rows(&self) -> usize {
        match &self.edited {
            Edited::Rows(rows) => rows.len(),
            Edited::Draft(_) => 1,
        }
    }

    /// The choices that fit what is typed; all where the line has not been touched. Of several values the last one counts.
    pub fn found(&self) -> Vec<&Choice> {
        let typed = self.line.text().to_lowercase();
        let typed = match &self.kind {
            Kind::Several(_) => typed.rsplit(',').next().unwrap_or_default().trim().to_owned(),
            _ => typed,
        };
        let all = self.line.is_offered() || typed.is_empty();
        let fits = |choice: &&Choice| {
            all || choice.value.to_lowercase().contains(&typed) || choice.about.to_lowercase().contains(&typed)
        };
        self.choices.iter().filter(fits).collect()
    }

    /// The value that would be taken.
    pub fn value(&self, dialect: &Dialect) -> (Datum, Option<Mistake>) {
        if let Some(given) = &self.given {
            return (given.clone(), None);
        }
        let found = self.found();
        let chosen = self.chosen_text();
        let read = self.kind.read(chosen.as_deref().unwrap_or(self.line.text()), dialect);
        match (&read.1, found.as_slice()) {
            // The name of what is referenced means its key, and a part of a value the only one that has it.
            (Some(_), [one]) if !self.line.is_empty() => self.kind.read(&self.with_choice(one), dialect),
            _ => read,
        }
    }

    /// The text with the choice in hand taken: of several values it comes to the others, or goes from them.
    pub fn chosen_text(&self) -> Option<String> {
        let found = self.found();
        let choice = found.get(self.chosen?)?;
        Some(self.with_choice(choice))
    }

    fn with_choice(&self, choice: &Choice) -> String {
        // The value that is being typed gives way to the one that is chosen.
        let before = match self.line.is_offered() {
            true => self.line.text(),
            false => self.line.text().rsplit_once(',').map_or("", |(before, _)| before),
        };
        self.kind.toggled(before, &choice.value).unwrap_or_else(|| choice.value.clone())
    }

    /// What stands beside a choice; cleaned.
    pub fn about(&self, choice: &Choice) -> String {
        let is_in = self.line.text().split(',').any(|part| part.trim().eq_ignore_ascii_case(&choice.value));
        match &self.kind {
            Kind::Several(_) if is_in => "in it".to_owned(),
            _ => choice.about.clone(),
        }
    }

    /// Takes NULL, or the default, in the place of what is typed; the second time the text again.
    pub(crate) fn give(&mut self, value: Datum, app: &mut App) {
        // Where there are no defaults, a field is left out.
        let value = match value {
            Datum::Default if self.head.ground.can_be_absent(self.field) => Datum::Absent,
            value => value,
        };
        if self.given.as_ref() == Some(&value) {
            self.given = None;
        } else if let Err(error) = self.head.allows(self.field, &value) {
            app.tell_wrong(clean::clean(&error.to_string()).into_owned());
        } else {
            (self.given, self.mistake) = (Some(value), None);
        }
    }

    /// Opens the text in a person's own text editor.
    pub(crate) fn edit_outside(&mut self, app: &mut App) {
        let ending = if matches!(self.kind, Kind::Json | Kind::Value(_)) { "json" } else { "txt" };
        let text = match (&self.kind, app.dialect_of(&self.head).elements) {
            (Kind::Value(of), Some(elements)) if !matches!(of.as_str(), "string") => {
                elements.laid_out(self.line.text())
            }
            _ => self.line.text().to_owned(),
        };
        let file = match parts::hold(&text, &format!(".{ending}")) {
            Ok(file) => file,
            Err(error) => return app.tell_wrong(format!("no file for your text editor: {error}")),
        };
        app.edit_file_outside(file.path(), 1);
        if app.editor.is_some() {
            app.value_outside = Some(file);
        }
    }

    /// Takes what was written in a text editor.
    pub(in crate::app) fn take_text(&mut self, text: &str) {
        // An editor ends the last line, which the value need not have.
        let had_end = self.line.text().ends_with('\n');
        let text = if had_end { text } else { text.strip_suffix('\n').unwrap_or(text) };
        (self.line, self.given, self.chosen) = (Line::from(text), None, None);
    }

    /// Takes rows of the table that the column references.
    fn take_choices(&mut self, sample: &Sample) {
        let Some((_, key)) = self.of().and_then(|field| field.references.clone()) else { return };
        let Some(at) = sample.names.iter().position(|name| *name == key) else { return };
        let choice = |row: &Vec<(CellKind, String)>| {
            let value = row.get(at)?.1.clone();
            let others = row.iter().enumerate().filter(|(place, (kind, _))| *place != at && *kind != CellKind::Null);
            let about: Vec<String> = others.take(4).map(|(_, (_, text))| clean::clean(text).into_owned()).collect();
            Some(Choice { value, about: about.join(" · ") })
        };
        self.choices = sample.rows.iter().filter_map(choice).collect();
    }
}

/// A part of a value.
fn part_of(value: &Datum, within: &str, dialect: &'static Dialect) -> Datum {
    let part = dialect.elements.and_then(|elements| elements.part_at(value.text(), within));
    part.map_or(Datum::Absent, |part| if part == "null" { Datum::Null } else { Datum::Written(part) })
}

/// The field of a row with another part in it: of what is drafted for it, or else was read.
fn with_part(
    slip: &Slip,
    (row, old): &(u64, Row),
    (field, within): (usize, &str),
    value: &Datum,
    dialect: &'static Dialect,
) -> Result<Datum, Undrafted> {
    let draft = slip.of_row(*row).and_then(|at| slip.drafts.get(at));
    let whole = draft.and_then(|draft| draft.value(field)).or(old.get(field).and_then(Option::as_ref));
    let part = (*value != Datum::Absent).then(|| value.literal(dialect));
    let made = whole.and_then(|whole| dialect.elements?.with_part(whole.text(), within, part.as_deref()));
    let name = || slip.ground.fields.get(field).map_or_else(String::new, |field| field.column.name.clone());
    made.map(Datum::Written).ok_or_else(|| Undrafted::Mistake(name(), format!("there is no value at {within}")))
}

impl Layer for CellEditor {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::CellEditor)
    }

    fn takes_text(&self) -> bool {
        true
    }

    fn line(&mut self) -> Option<&mut Line> {
        Some(&mut self.line)
    }

    fn line_changed(&mut self) {
        (self.given, self.chosen) = (None, None);
    }

    fn type_text(&mut self, text: &str) {
        self.line.insert(text);
        self.line_changed();
    }

    /// A value is pasted as it is, with all of its lines.
    fn paste(&mut self, text: &str) {
        self.type_text(text);
    }

    fn after_key(&mut self, app: &mut App) {
        let (_, mistake) = self.value(app.dialect_of(&self.head));
        self.mistake = mistake.filter(|_| !self.line.is_offered() || self.chosen.is_some());
    }

    fn move_by(&mut self, by: isize) {
        let last = self.found().len();
        if last == 0 {
            return;
        }
        self.given = None;
        self.chosen = match self.chosen {
            None if by > 0 => Some(0),
            Some(0) if by < 0 => None,
            Some(at) => Some(at.saturating_add_signed(by).min(last - 1)),
            None => None,
        };
    }

    fn accept(&mut self, app: &mut App) -> After {
        let (value, mistake) = self.value(app.dialect_of(&self.head));
        if let Some(Mistake::Wrong(what)) = mistake {
            app.tell_wrong(clean::clean(&what).into_owned());
            return After::Stay;
        }
        let field = self.field;
        let (within, dialect) = (self.within.clone(), app.dialect_of(&self.head));
        let is_whole = self.head.ground.whole() == Some(field);
        let drafted = match &self.edited {
            Edited::Rows(rows) => {
                let rows = rows.clone();
                app.draft(&self.head, |slip| {
                    slip.allows(field, &value)?;
                    rows.into_iter().try_for_each(|row| {
                        if is_whole {
                            return slip.change_whole(row, value.clone(), dialect);
                        }
                        let value = match within.is_empty() {
                            true => value.clone(),
                            false => with_part(slip, &row, (field, &within), &value, dialect)?,
                        };
                        slip.change(row, field, value)
                    })
                })
            }
            Edited::Draft(draft) => {
                let draft = *draft;
                app.draft(&self.head, |slip| {
                    let of = slip.drafts.get(draft).cloned();
                    match of.and_then(|of| Some((of.row?, of.old))) {
                        Some(row) => slip.change(row, field, value.clone()),
                        None => slip.fill_in((draft, field), value.clone(), dialect),
                    }
                })
            }
        };
        if !drafted {
            return After::Stay;
        }
        if let Some(back) = &mut self.back {
            // A row that is added is filled in from field to field.
            back.next_field();
        } else {
            let slip = app.slips.find(&self.head);
            let changed = match &self.edited {
                Edited::Rows(rows) => {
                    let is_drafted = |(row, _): &&(u64, Row)| {
                        slip.and_then(|slip| slip.drafts.get(slip.of_row(*row)?))
                            .is_some_and(|draft| is_whole || draft.new.contains_key(&field))
                    };
                    rows.iter().filter(is_drafted).count()
                }
                Edited::Draft(_) => 1,
            };
            app.unmark();
            match changed {
                0 => app.tell("as it was: nothing is drafted"),
                _ => {
                    let count = words::count(changed as u64, "value");
                    app.tell(format!("{count} drafted · {}", app.how_to_send()));
                }
            }
        }
        self.close(app)
    }

    fn close(&mut self, app: &mut App) -> After {
        app.drain_samples();
        if let Some(back) = self.back.take() {
            app.overlay = Some(Overlay::Slip(back));
        }
        After::Close
    }
}

impl App {
    /// Opens the editor of a value, and looks up what it may reference.
    pub(in crate::app) fn open_cell_editor(&mut self, mut editor: CellEditor) {
        let Some(of) = editor.of() else { return };
        if !of.is_given() {
            let error = editor.head.allows(editor.field, &Datum::Null).err();
            return self
                .tell_wrong(error.map_or_else(String::new, |error| clean::clean(&error.to_string()).into_owned()));
        }
        if let Some((table, _)) = of.references.clone() {
            let catalog = self.connection.catalog.clone();
            let object = catalog.as_ref().and_then(|catalog| catalog.relation(&table)).cloned();
            let profile = self.connection.profile.as_ref();
            let engine = profile.and_then(|p| self.engines.iter().find(|engine| engine.name() == p.engine));
            if let (Some(object), Some(engine)) = (object.filter(|of| of.kind == ObjectKind::Table), engine) {
                let here = self.connection.location.as_ref().map_or("", |location| location.schema.as_str());
                let statement = engine.preview_statement(&table.schema, &table.name, here);
                self.connection.ask(Order::Sample(Box::new(object), statement));
                editor.looks_up = Some(table);
            }
        }
        self.overlay = Some(Overlay::CellEditor(Box::new(editor)));
    }

    /// Takes rows that were looked up for the editor of a value. False if they are not for it.
    pub(in crate::app) fn take_looked_up(&mut self, of: &Name, sample: &Sample) -> bool {
        let Some(editor) = self.overlaid::<CellEditor>().filter(|editor| editor.looks_up.as_ref() == Some(of)) else {
            return false;
        };
        editor.take_choices(sample);
        true
    }

    fn drain_samples(&mut self) {
        self.connection.end_preview();
    }

    /// Takes in the value that a text editor has written, if it was one.
    pub(in crate::app) fn take_value_from_outside(&mut self) {
        let Some(file) = self.value_outside.take() else { return };
        let text = std::fs::read(file.path()).map_err(|error| error.to_string());
        match text.and_then(|text| String::from_utf8(text).map_err(|_| "it is not UTF-8".to_owned())) {
            Ok(text) => self.on::<CellEditor, _>(|editor, app| {
                editor.take_text(&text);
                editor.after_key(app);
            }),
            Err(error) => self.tell_wrong(format!("the value was not taken: {error}")),
        }
    }
}
