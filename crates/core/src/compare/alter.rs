//! The statements that make the left one of two structures like the right one. They are shown, and never run by
//! themselves.

use std::collections::BTreeSet;

use jaunty_language::dialect::{Altering, Change, Clauses, Dialect, Tables};
use jaunty_language::statement::definition::{PartKind, parts_of_table};
use jaunty_seam::catalog::{Column, Name, Object, ObjectKind};

use super::Difference;
use super::structure::{Differences, Item, ItemDiffers, Part, PartDiffers, PartOf, Structure};
use crate::catalog::templates::{arguments, comment_on, filled};
use crate::catalog::{lasting, script};

/// A statement that makes something of the left as it is on the right.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Statement {
    /// It, without what ends it.
    pub text: String,
    /// Whether rows or values are gone after it.
    pub loses: bool,
}

/// Statements, in an order that can be run.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Alteration {
    /// The statements.
    pub statements: Vec<Statement>,
    /// What no statement does.
    pub notes: Vec<String>,
}

/// Why there are no statements.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NoStatements {
    /// The two are of different languages.
    #[error("the two are not of one kind of database: statements of one mean something else in the other")]
    Languages,
    /// Nothing is known of how this language changes structures.
    #[error("how this kind of database changes its structure is not known here yet")]
    Unknown,
}

impl Alteration {
    /// All of it as a text that can be run.
    pub fn script(&self, dialect: &'static Dialect) -> String {
        // A name may hold what ends a line: nothing of it is to be more than a comment.
        let notes = self.notes.iter().flat_map(|note| note.split(['\n', '\r'])).map(|line| format!("-- {line}\n"));
        let statements = self.statements.iter().map(|statement| script::ended(&statement.text, dialect) + "\n");
        notes.chain(statements).collect()
    }

    /// How many of the statements take something away.
    pub fn losing(&self) -> usize {
        self.statements.iter().filter(|statement| statement.loses).count()
    }
}

/// Writes the statements that make `left` like `right`.
pub fn make_alike(left: &Structure, right: &Structure, differences: &Differences) -> Result<Alteration, NoStatements> {
    if !differences.one_language {
        return Err(NoStatements::Languages);
    }
    let altering = left.dialect.altering.ok_or(NoStatements::Unknown)?;
    let mut alter = Alter { left, right, altering, done: Alteration::default(), steps: Default::default() };
    alter.all(differences);
    let Alter { steps, mut done, .. } = alter;
    let body: Vec<Statement> = [
        steps.triggers_go,
        steps.views_go,
        steps.references_go,
        steps.rules_go,
        steps.routines_go,
        steps.tables_go,
        steps.schemas_come,
        steps.types_come,
        steps.routines_come,
        steps.tables_come,
        steps.rules_come,
        steps.references_come,
        steps.types_go,
        steps.views_come,
        steps.triggers_come,
        steps.comments,
    ]
    .concat();
    done.statements = steps.before_all;
    if !body.is_empty() {
        let plain = |all: &[&str]| all.iter().map(|text| keeps((*text).to_owned())).collect::<Vec<_>>();
        let [mut before, mut after] = altering.around.map(plain);
        if let Tables::Remade(around) = altering.tables
            && steps.is_remade
        {
            before.splice(..0, plain(around[0]));
            after.extend(plain(around[1]));
        }
        let name = left.dialect.name_as_written(&left.schema);
        let goes_to = Some(filled(altering.goes_to, &[("NAME", &name)])).filter(|text| !text.is_empty());
        done.statements.extend(before.into_iter().chain(goes_to.map(keeps)).chain(body).chain(after));
    }
    Ok(done)
}

/// Statements by when they have to come.
#[derive(Default)]
struct Steps {
    before_all: Vec<Statement>,
    triggers_go: Vec<Statement>,
    views_go: Vec<Statement>,
    references_go: Vec<Statement>,
    rules_go: Vec<Statement>,
    routines_go: Vec<Statement>,
    tables_go: Vec<Statement>,
    schemas_come: Vec<Statement>,
    types_come: Vec<Statement>,
    routines_come: Vec<Statement>,
    tables_come: Vec<Statement>,
    rules_come: Vec<Statement>,
    references_come: Vec<Statement>,
    types_go: Vec<Statement>,
    views_come: Vec<Statement>,
    triggers_come: Vec<Statement>,
    comments: Vec<Statement>,
    /// Whether a table is made again.
    is_remade: bool,
}

struct Alter<'a> {
    left: &'a Structure,
    right: &'a Structure,
    altering: &'static Altering,
    done: Alteration,
    steps: Steps,
}

fn keeps(text: String) -> Statement {
    Statement { text, loses: false }
}

fn loses(text: String) -> Statement {
    Statement { text, loses: true }
}

impl<'a> Alter<'a> {
    fn all(&mut self, differences: &Differences) {
        self.schemas(differences);
        let fallen = self.fallen(differences);
        for item in &differences.items {
            match (item.left.map(|at| &self.left.items[at]), item.right.map(|at| &self.right.items[at])) {
                (Some(ours), Some(theirs)) => self.changed(item, ours, theirs),
                (Some(ours), None) => self.gone(ours),
                (None, Some(theirs)) => self.added(theirs),
                (None, None) => {}
            }
        }
        self.views(differences, &fallen);
    }

    /// The name of an object on the left, with its schema.
    fn name(&self, object: &Object) -> String {
        let schema = match self.right.schema.is_empty() || self.left.schema.is_empty() {
            true => &object.schema,
            false => &self.left.schema,
        };
        self.whole(schema, &object.name)
    }

    fn whole(&self, schema: &str, name: &str) -> String {
        let name = self.left.dialect.name_as_written(name);
        if schema.is_empty() { name } else { format!("{}.{name}", self.left.dialect.name_as_written(schema)) }
    }

    /// A text of the right, for the left.
    fn theirs(&self, text: &str) -> String {
        self.right.text_for(text, &self.left.schema)
    }

    fn schemas(&mut self, differences: &Differences) {
        if !self.left.schema.is_empty() || !self.right.schema.is_empty() {
            return;
        }
        let of = |structure: &Structure| -> BTreeSet<String> {
            structure.items.iter().map(|item| item.object.schema.clone()).collect()
        };
        let new = differences.items.iter().filter_map(|item| Some(&self.right.items[item.right?].object.schema));
        let new: BTreeSet<&String> = new.collect();
        let known = of(self.left);
        for schema in new.into_iter().filter(|schema| !known.contains(*schema)) {
            let name = self.left.dialect.name_as_written(schema);
            self.steps.schemas_come.push(keeps(format!("create schema if not exists {name}")));
        }
    }

    /// The views of the left that have to be taken away: those that differ, and those that hold what changes.
    fn fallen(&self, differences: &Differences) -> BTreeSet<Name> {
        let is_view = |kind: ObjectKind| matches!(kind, ObjectKind::View | ObjectKind::MaterialisedView);
        let mut touched: BTreeSet<Name> = BTreeSet::new();
        let mut fallen: BTreeSet<Name> = BTreeSet::new();
        for item in &differences.items {
            let Some(ours) = item.left.map(|at| &self.left.items[at].object) else { continue };
            let of_view = is_view(item.kind) && item.parts.iter().any(|part| part.of == PartOf::Definition);
            let of_columns = item
                .parts
                .iter()
                .any(|part| part.of == PartOf::Table(PartKind::Column) && part.what != Difference::OnlyRight);
            let goes = item.what == Difference::OnlyLeft;
            if of_view || is_view(item.kind) && goes {
                fallen.insert(ours.to_name());
            }
            if of_view || of_columns || goes {
                touched.insert(ours.to_name());
            }
        }
        if self.altering.views_hold {
            loop {
                let views = self.left.items.iter().map(|item| &item.object).filter(|object| is_view(object.kind));
                let holds = |object: &&Object| {
                    !fallen.contains(&object.to_name()) && object.uses.iter().any(|used| touched.contains(used))
                };
                let found: Vec<Name> = views.filter(holds).map(Object::to_name).collect();
                if found.is_empty() {
                    break;
                }
                touched.extend(found.iter().cloned());
                fallen.extend(found);
            }
        }
        fallen
    }

    /// Views that go, and those that come, with all that belongs to them.
    fn views(&mut self, differences: &Differences, fallen: &BTreeSet<Name>) {
        let (left, right) = (self.left, self.right);
        let gone = left.items.iter().filter(|item| fallen.contains(&item.object.to_name()));
        let gone: Vec<&Item> = gone.collect();
        if self.altering.views_hold && !gone.is_empty() {
            let again = gone.iter().filter(|gone| right.items.iter().any(|item| item.key == gone.key));
            let names: Vec<&str> = again.map(|item| item.key.as_str()).collect();
            if !names.is_empty() {
                let names = names.join(", ");
                self.done
                    .notes
                    .push(format!("made again, without the grants, owners and rules that they have: {names}"));
            }
        }
        for object in lasting::in_order(gone.iter().map(|item| &item.object).collect()).into_iter().rev() {
            self.steps.views_go.push(keeps(self.drop_of(object)));
        }
        let is_new = |at: usize| differences.items.iter().any(|item| item.right == Some(at) && item.left.is_none());
        let is_view = |kind: ObjectKind| matches!(kind, ObjectKind::View | ObjectKind::MaterialisedView);
        let again = |item: &Item| gone.iter().any(|gone| gone.object.kind == item.object.kind && gone.key == item.key);
        let views = right.items.iter().enumerate().filter(|(_, item)| is_view(item.object.kind));
        let come: Vec<&Item> = views.filter(|(at, item)| is_new(*at) || again(item)).map(|(_, item)| item).collect();
        for object in lasting::in_order(come.iter().map(|item| &item.object).collect()) {
            let Some(item) = come.iter().find(|item| item.object == *object) else { continue };
            let text = self.theirs(&item.definition);
            self.steps.views_come.push(keeps(text));
            self.belongings(item);
        }
    }

    /// Indexes, triggers and comments of what was made.
    fn belongings(&mut self, item: &Item) {
        for part in &item.parts {
            let text = self.theirs(&part.text);
            match part.of {
                PartOf::Index => {
                    let of_view = item.object.kind == ObjectKind::MaterialisedView;
                    let step = if of_view { &mut self.steps.views_come } else { &mut self.steps.rules_come };
                    step.push(keeps(text));
                }
                PartOf::Trigger => self.steps.triggers_come.push(keeps(text)),
                PartOf::Comment => self.comment(item, &part.name, &part.text),
                _ => {}
            }
        }
    }

    fn comment(&mut self, item: &Item, column: &str, text: &str) {
        let mut object = item.object.clone();
        if !self.right.schema.is_empty() && !self.left.schema.is_empty() {
            object.schema.clone_from(&self.left.schema);
        }
        let kind = match object.kind {
            ObjectKind::View => "on view ",
            ObjectKind::MaterialisedView => "on materialized view ",
            _ => "on table ",
        };
        let statement = comment_on(&object, column, text, &self.left.catalog, self.left.dialect);
        self.steps.comments.extend(statement.map(|text| keeps(text.replacen("on table ", kind, 1))));
    }

    fn drop_of(&self, object: &Object) -> String {
        let word = match object.kind {
            ObjectKind::MaterialisedView => "materialized view",
            ObjectKind::VirtualTable => "table",
            kind => kind.word(),
        };
        let is_routine = matches!(object.kind, ObjectKind::Function | ObjectKind::Procedure);
        let takes = match is_routine && self.altering.overloads {
            true => {
                let plain = |takes: &String| {
                    let lower = takes.to_lowercase();
                    let end = [" default ", " = "].iter().filter_map(|word| lower.find(word)).min();
                    takes.get(..end.unwrap_or(takes.len())).unwrap_or_default().to_owned()
                };
                let all: Vec<String> = arguments(&object.signature).iter().map(plain).collect();
                format!("({})", all.join(", "))
            }
            false => String::new(),
        };
        format!("drop {word} {}{takes}", self.name(object))
    }

    fn gone(&mut self, ours: &Item) {
        let text = self.drop_of(&ours.object);
        match ours.object.kind {
            ObjectKind::View | ObjectKind::MaterialisedView => {}
            ObjectKind::Function | ObjectKind::Procedure => self.steps.routines_go.push(keeps(text)),
            ObjectKind::Type | ObjectKind::Sequence => self.steps.types_go.push(keeps(text)),
            _ => {
                // Two tables that go may reference each other.
                let references = ours.parts.iter().filter(|part| part.of == PartOf::Table(PartKind::Reference));
                for part in references.filter(|_| self.altering.views_hold) {
                    if let Some(text) = self.drop_rule(&ours.object, part) {
                        self.steps.references_go.push(keeps(text));
                    }
                }
                self.steps.tables_go.push(loses(text));
            }
        }
    }

    fn added(&mut self, theirs: &Item) {
        let text = self.theirs(&theirs.definition);
        match theirs.object.kind {
            ObjectKind::View | ObjectKind::MaterialisedView => return,
            ObjectKind::Function | ObjectKind::Procedure => self.steps.routines_come.push(keeps(text)),
            ObjectKind::Type | ObjectKind::Sequence => self.steps.types_come.push(keeps(text)),
            _ => {
                let bare = self.without_references(&text).filter(|_| self.altering.views_hold);
                match bare {
                    Some((bare, references)) => {
                        self.steps.tables_come.push(keeps(bare));
                        let name = self.name(&theirs.object);
                        let add = |text: String| keeps(format!("alter table {name} add {text}"));
                        self.steps.references_come.extend(references.into_iter().map(add));
                    }
                    None => self.steps.tables_come.push(keeps(text)),
                }
            }
        }
        self.belongings(theirs);
    }

    /// A table's definition without its references, and those.
    fn without_references(&self, text: &str) -> Option<(String, Vec<String>)> {
        let (parts, name, tail) = parts_of_table(text, self.left.dialect)?;
        let (references, others): (Vec<_>, Vec<_>) =
            parts.into_iter().partition(|part| part.kind == PartKind::Reference);
        let others: Vec<String> = others.into_iter().map(|part| format!("    {}", part.text)).collect();
        let head = text.get(..name.end)?;
        let tail = if tail.is_empty() { tail } else { format!(" {tail}") };
        let bare = format!("{head} (\n{}\n){tail}", others.join(",\n"));
        Some((bare, references.into_iter().map(|part| part.text).collect()))
    }

    fn changed(&mut self, differs: &ItemDiffers, ours: &Item, theirs: &Item) {
        match ours.object.kind {
            ObjectKind::View | ObjectKind::MaterialisedView => {
                if !differs.parts.iter().any(|part| part.of == PartOf::Definition) {
                    self.belongings_change(differs, ours, theirs);
                }
            }
            ObjectKind::Function | ObjectKind::Procedure => {
                let replaces = self.altering.overloads && ours.object.signature == theirs.object.signature;
                if !replaces {
                    let text = self.drop_of(&ours.object);
                    self.steps.routines_go.push(keeps(text));
                }
                let text = self.theirs(&theirs.definition);
                self.steps.routines_come.push(keeps(text));
            }
            ObjectKind::Type => self.type_changes(differs, ours, theirs),
            ObjectKind::Sequence => {
                let text = self.theirs(&theirs.definition);
                let name = &differs.name;
                match text.strip_prefix("create ").filter(|_| self.altering.overloads) {
                    Some(rest) => self.steps.types_come.push(keeps(format!("alter {rest}"))),
                    None => self.done.notes.push(format!("sequence {name}: it is changed by hand")),
                }
            }
            ObjectKind::VirtualTable => {
                let (go, come) = (self.drop_of(&ours.object), self.theirs(&theirs.definition));
                self.steps.tables_go.push(loses(go));
                self.steps.tables_come.push(keeps(come));
            }
            _ => match &self.altering.tables {
                Tables::Altered(clauses) => self.table_alters(clauses, differs, ours, theirs),
                Tables::Remade(_) => self.table_is_remade(differs, ours, theirs),
            },
        }
    }

    fn type_changes(&mut self, differs: &ItemDiffers, ours: &Item, theirs: &Item) {
        let only_new = differs.parts.iter().all(|part| part.of == PartOf::Value && part.what == Difference::OnlyRight);
        if !only_new || self.altering.add_value.is_empty() {
            let name = &differs.name;
            self.done.notes.push(format!("type {name}: no statement changes it so; it has to be made again by hand"));
            return;
        }
        let name = self.name(&ours.object);
        for part in &differs.parts {
            let Some(at) = part.right else { continue };
            let before = at.checked_sub(1).and_then(|at| theirs.parts.get(at));
            let place = match before {
                Some(before) => format!(" after {}", before.text),
                None => theirs.parts.get(1).map(|next| format!(" before {}", next.text)).unwrap_or_default(),
            };
            let text = format!("{}{place}", theirs.parts[at].text);
            let text = filled(self.altering.add_value, &[("NAME", &name), ("TEXT", &text)]);
            // A new value cannot be used in the transaction that adds it.
            self.steps.before_all.push(keeps(text));
        }
    }

    /// Indexes, triggers and comments that differ.
    fn belongings_change(&mut self, differs: &ItemDiffers, ours: &Item, theirs: &Item) {
        for part in &differs.parts {
            let (old, new) = (part.left.map(|at| &ours.parts[at]), part.right.map(|at| &theirs.parts[at]));
            match part.of {
                PartOf::Index => {
                    if let Some(old) = old {
                        let name = self.whole(&ours.object.schema, &old.name);
                        self.steps.rules_go.push(keeps(filled(self.altering.drop_index, &[("NAME", &name)])));
                    }
                    if let Some(new) = new {
                        let text = self.theirs(&new.text);
                        self.steps.rules_come.push(keeps(text));
                    }
                }
                PartOf::Trigger => {
                    if let Some(old) = old {
                        let text = self.drop_trigger(&ours.object, &old.name);
                        self.steps.triggers_go.push(keeps(text));
                    }
                    if let Some(new) = new {
                        let text = self.theirs(&new.text);
                        self.steps.triggers_come.push(keeps(text));
                    }
                }
                PartOf::Comment => self.comment(theirs, &part.name, new.map_or("", |part| part.text.as_str())),
                _ => {}
            }
        }
    }

    fn drop_trigger(&self, object: &Object, trigger: &str) -> String {
        let (table, name) = (self.name(object), self.left.dialect.name_as_written(trigger));
        filled(self.altering.drop_trigger, &[("NAME", &name), ("TABLE", &table)])
    }

    fn drop_rule(&self, object: &Object, part: &Part) -> Option<String> {
        let Tables::Altered(clauses) = &self.altering.tables else { return None };
        Some(format!("alter table {} {}", self.name(object), drop_clause(clauses, part, self.left.dialect)?))
    }

    fn table_alters(&mut self, clauses: &'static Clauses, differs: &ItemDiffers, ours: &Item, theirs: &Item) {
        let name = self.name(&ours.object);
        let dialect = self.left.dialect;
        let (mut altered, mut drops) = (Vec::new(), false);
        let said = |text: String| format!("table {}: {text}", differs.name);
        for part in &differs.parts {
            let (old, new) = (part.left.map(|at| &ours.parts[at]), part.right.map(|at| &theirs.parts[at]));
            match part.of {
                PartOf::Table(PartKind::Column) => {
                    let (text, lost) = self.column(clauses, part, ours, theirs);
                    if text.is_empty() {
                        self.done.notes.push(said(format!("column {}: no statement changes it so", part.name)));
                    }
                    altered.extend(text);
                    drops |= lost;
                }
                PartOf::Table(PartKind::Reference) => {
                    if let Some(text) = old.and_then(|old| self.drop_rule(&ours.object, old)) {
                        self.steps.references_go.push(keeps(text));
                    }
                    if let Some(new) = new {
                        let text = self.theirs(&new.text);
                        self.steps.references_come.push(keeps(format!("alter table {name} add {text}")));
                    }
                }
                PartOf::Table(_) => {
                    if let Some(old) = old {
                        match drop_clause(clauses, old, dialect) {
                            Some(clause) => altered.insert(0, clause),
                            None => self.done.notes.push(said(format!(
                                "{} {}: it is taken away by hand",
                                part.of.word(),
                                part.name
                            ))),
                        }
                    }
                    if let Some(new) = new {
                        let text = self.theirs(&new.text);
                        altered.push(filled(clauses.add_rule, &[("TEXT", &text)]));
                    }
                }
                PartOf::Options => match new.filter(|_| matches!(clauses.change, Change::Whole(_))) {
                    Some(new) => altered.push(new.text.clone()),
                    None => {
                        self.done.notes.push(said("what follows its columns cannot be changed by a statement".into()))
                    }
                },
                PartOf::Definition => self.done.notes.push(said("it has to be made again by hand".into())),
                PartOf::Order | PartOf::Index | PartOf::Trigger | PartOf::Comment | PartOf::Value => {}
            }
        }
        let adds_last = clauses.place[0].is_empty();
        if order_after(differs, ours, theirs, adds_last) != names_of_columns(theirs) {
            self.done.notes.push(said("the order of its columns is not made the same: no statement moves one".into()));
        }
        if !altered.is_empty() {
            let text = format!("alter table {name}\n    {}", altered.join(",\n    "));
            self.steps.tables_come.push(Statement { text, loses: drops });
        }
        self.belongings_change(differs, ours, theirs);
    }

    /// What changes a column, and whether values are lost by it.
    fn column(&self, clauses: &Clauses, part: &PartDiffers, ours: &Item, theirs: &Item) -> (Vec<String>, bool) {
        let name = self.left.dialect.name_as_written(&part.name);
        let of = |item: &Item| item.object.columns.iter().find(|column| column.name == part.name).cloned();
        let drop = || filled(clauses.drop_column, &[("NAME", &name)]);
        let text = part.right.map(|at| self.theirs(&theirs.parts[at].text)).unwrap_or_default();
        let add = || {
            let columns: Vec<&Part> =
                theirs.parts.iter().filter(|part| part.of == PartOf::Table(PartKind::Column)).collect();
            let at = columns.iter().position(|column| column.name == part.name).unwrap_or_default();
            let place = match at.checked_sub(1).and_then(|at| columns.get(at)) {
                _ if at + 1 == columns.len() => String::new(),
                Some(before) => filled(clauses.place[1], &[("NAME", &self.left.dialect.name_as_written(&before.name))]),
                None => clauses.place[0].to_owned(),
            };
            format!("{}{place}", filled(clauses.add_column, &[("TEXT", &text)]))
        };
        match (part.what, &clauses.change) {
            (Difference::OnlyLeft, _) => (vec![drop()], true),
            (Difference::OnlyRight, _) => (vec![add()], false),
            (Difference::Changed, Change::Whole(template)) => (vec![filled(template, &[("TEXT", &text)])], false),
            (Difference::Changed, Change::Bits { plain, numbered }) => {
                let Some((old, new)) = of(ours).zip(of(theirs)) else { return (Vec::new(), false) };
                if old.generated == new.generated {
                    return (by_bits(&name, &old, &new, plain), false);
                }
                // A computed column cannot become one that is given values, nor the other way round.
                if !old.is_given() || !new.is_given() {
                    return (vec![drop(), add()], old.is_given());
                }
                let [set, gone, added] = numbered;
                let word = new.generated.as_deref().unwrap_or_default().trim_end_matches(" as identity");
                let words = [("NAME", name.as_str()), ("WORD", word)];
                let template = match (old.is_numbered(), new.is_numbered()) {
                    (true, true) => set,
                    (true, false) => gone,
                    _ => added,
                };
                let mut all = by_bits(&name, &old, &new, plain);
                // What is numbered has no default, and is not NULL.
                let at = if new.is_numbered() { all.len() } else { 0 };
                all.insert(at, filled(template, &words));
                (all, false)
            }
        }
    }

    fn table_is_remade(&mut self, differs: &ItemDiffers, ours: &Item, theirs: &Item) {
        let name = self.name(&ours.object);
        let is_belonging = |part: &PartDiffers| matches!(part.of, PartOf::Index | PartOf::Trigger | PartOf::Comment);
        let new: Vec<&PartDiffers> = differs.parts.iter().filter(|part| !is_belonging(part)).collect();
        let columns = names_of_columns;
        let added: Vec<&Part> = new.iter().filter_map(|part| theirs.parts.get(part.right?)).collect();
        let appended =
            new.iter().all(|part| part.of == PartOf::Table(PartKind::Column) && part.what == Difference::OnlyRight)
                && columns(theirs).starts_with(&columns(ours))
                && added.iter().all(|part| can_be_added(&part.text));
        if appended {
            let add = |part: &&Part| keeps(format!("alter table {name} add column {}", part.text));
            self.steps.tables_come.extend(added.iter().map(add));
            return self.belongings_change(differs, ours, theirs);
        }
        let temporary = self.whole(&ours.object.schema, &format!("{} as it will be", ours.object.name));
        let Some((_, at, _)) = parts_of_table(&theirs.definition, self.left.dialect) else {
            self.done.notes.push(format!("table {}: it has to be made again by hand", differs.name));
            return;
        };
        let [head, tail] =
            [theirs.definition.get(..at.start), theirs.definition.get(at.end..)].map(Option::unwrap_or_default);
        let given = |name: &&String| {
            theirs.object.columns.iter().find(|column| column.name == **name).is_some_and(Column::is_given)
        };
        let (ours_names, theirs_names) = (columns(ours), columns(theirs));
        let both: Vec<String> = theirs_names
            .iter()
            .filter(|name| ours_names.contains(name))
            .filter(given)
            .map(|name| self.left.dialect.name_as_written(name))
            .collect();
        let both = both.join(", ");
        let drops = ours_names.iter().any(|name| !theirs_names.contains(name));
        let plain = self.left.dialect.name_as_written(&ours.object.name);
        self.steps.is_remade = true;
        self.steps.tables_come.push(keeps(format!("{head}{temporary}{tail}")));
        if !both.is_empty() {
            self.steps.tables_come.push(keeps(format!("insert into {temporary} ({both})\nselect {both} from {name}")));
        }
        self.steps.tables_come.push(Statement { text: format!("drop table {name}"), loses: drops });
        self.steps.tables_come.push(keeps(format!("alter table {temporary} rename to {plain}")));
        self.belongings(theirs);
    }
}

fn names_of_columns(item: &Item) -> Vec<String> {
    let all = item.parts.iter().filter(|part| part.of == PartOf::Table(PartKind::Column));
    all.map(|part| part.name.clone()).collect()
}

/// The order in which the columns stand when those that are new were added: last, or each where it belongs.
fn order_after(differs: &ItemDiffers, ours: &Item, theirs: &Item, adds_last: bool) -> Vec<String> {
    let (ours, theirs) = (names_of_columns(ours), names_of_columns(theirs));
    let mut after: Vec<String> = ours.iter().filter(|name| theirs.contains(name)).cloned().collect();
    if !adds_last {
        // They come to stand where they belong if the others do.
        return if differs.parts.iter().any(|part| part.of == PartOf::Order) { after } else { theirs };
    }
    after.extend(theirs.iter().filter(|name| !ours.contains(name)).cloned());
    after
}

/// Changes of a column bit by bit.
fn by_bits(name: &str, old: &Column, new: &Column, bits: &[&str; 5]) -> Vec<String> {
    let [type_, no_default, default, not_null, null] = bits;
    let value = new.default.clone().unwrap_or_default();
    let words = [("NAME", name), ("TYPE", new.db_type.as_str()), ("VALUE", value.as_str())];
    let mut all = Vec::new();
    let retyped = old.db_type != new.db_type;
    // A default of the old type may not be one of the new.
    if old.default.is_some() && (new.default.is_none() || retyped) {
        all.push(filled(no_default, &words));
    }
    if retyped {
        all.push(filled(type_, &words));
    }
    if new.default.is_some() && (old.default != new.default || retyped) {
        all.push(filled(default, &words));
    }
    if old.nullable != new.nullable {
        all.push(filled(if new.nullable { null } else { not_null }, &words));
    }
    all
}

/// The clause that takes a rule away; none where it has no name to be called by.
fn drop_clause(clauses: &Clauses, part: &Part, dialect: &Dialect) -> Option<String> {
    let at = match part.of {
        PartOf::Table(PartKind::Primary) => 0,
        PartOf::Table(PartKind::Unique) => 1,
        PartOf::Table(PartKind::Reference) => 2,
        PartOf::Table(PartKind::Check) => 3,
        _ => 4,
    };
    let template = clauses.drop_rule[at];
    if template.is_empty() || template.contains("NAME") && part.name.is_empty() {
        return None;
    }
    Some(filled(template, &[("NAME", &dialect.name_as_written(&part.name))]))
}

/// Whether a column of this definition can be added to a table with rows:
/// <https://www.sqlite.org/lang_altertable.html#altertabaddcol>.
fn can_be_added(text: &str) -> bool {
    let upper = text.to_uppercase();
    let has = |word: &str| upper.split(|c: char| !c.is_alphanumeric() && c != '_').any(|found| found == word);
    let fixed = !has("DEFAULT") || !upper.contains("CURRENT_") && !upper.replace(' ', "").contains("DEFAULT(");
    !has("PRIMARY") && !has("UNIQUE") && !has("STORED") && fixed && (!upper.contains("NOT NULL") || has("DEFAULT"))
}
