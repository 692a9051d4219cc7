//! The statements that make the left one of two structures like the right one. They are shown, and never run by
//! themselves.

mod tables;

use std::collections::BTreeSet;

use jaunty_language::dialect::{Altering, Dialect, Tables};
use jaunty_language::statement::definition::PartKind;
use jaunty_seam::catalog::{Belonging, BelongingKind, Name, Object, ObjectKind, Rule};

use super::Difference;
use super::structure::{Differences, Item, ItemDiffers, PartDiffers, PartOf, Structure};
use crate::catalog::templates::{comment_on, filled, taken, word_in_statements};
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
    let access = differences.access;
    let mut alter = Alter { left, right, altering, access, done: Alteration::default(), steps: Default::default() };
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
        steps.parents_come,
        steps.rules_come,
        steps.references_come,
        steps.routines_come_late,
        steps.views_come,
        steps.types_go,
        steps.triggers_come,
        in_order(steps.belongings_come),
        steps.events_come,
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
    routines_come_late: Vec<Statement>,
    parents_come: Vec<Statement>,
    rules_come: Vec<Statement>,
    references_come: Vec<Statement>,
    types_go: Vec<Statement>,
    views_come: Vec<Statement>,
    triggers_come: Vec<Statement>,
    belongings_come: Vec<(BelongingKind, Statement)>,
    events_come: Vec<Statement>,
    comments: Vec<Statement>,
    /// Whether a table is made again.
    is_remade: bool,
}

struct Alter<'a> {
    left: &'a Structure,
    right: &'a Structure,
    altering: &'static Altering,
    /// Whether what is made gets its owner and its grants.
    access: bool,
    done: Alteration,
    steps: Steps,
}

/// Those of kinds that others need first.
fn in_order(mut all: Vec<(BelongingKind, Statement)>) -> Vec<Statement> {
    all.sort_by_key(|(kind, _)| *kind);
    all.into_iter().map(|(_, statement)| statement).collect()
}

fn is_view(kind: ObjectKind) -> bool {
    matches!(kind, ObjectKind::View | ObjectKind::MaterialisedView)
}

/// Whether other objects may be made of it, or it of them.
fn is_made_of(kind: ObjectKind) -> bool {
    matches!(kind, ObjectKind::Type | ObjectKind::Function | ObjectKind::Procedure)
}

fn is_table(kind: ObjectKind) -> bool {
    !is_view(kind) && !is_made_of(kind) && !matches!(kind, ObjectKind::Sequence | ObjectKind::Event)
}

/// Whether only what belongs to an object differs.
fn is_definition_the_same(differs: &ItemDiffers) -> bool {
    differs.parts.iter().all(|part| matches!(part.of, PartOf::Comment | PartOf::Belonging(_) | PartOf::Trigger))
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
        self.what_goes(differences);
        self.what_comes(differences);
        self.references_that_hold(differences);
        self.views(differences, &fallen);
    }

    /// What only the left has, and others are not held by: parts of tables before the whole, and at the end what tables are
    /// made of.
    fn what_goes(&mut self, differences: &Differences) {
        let left = self.left;
        let gone = differences.items.iter().filter(|item| item.right.is_none()).filter_map(|item| item.left);
        let gone: Vec<&Object> = gone.map(|at| &left.items[at].object).collect();
        let of = |is_meant: &dyn Fn(&Object) -> bool| gone.iter().copied().filter(|object| is_meant(object)).collect();
        let is_made_of = |object: &Object| is_made_of(object.kind) && !lasting::needs_tables(object, &left.catalog);
        for object in lasting::parts_last(of(&|object| is_table(object.kind))).into_iter().rev() {
            let text = self.drop_of(object);
            self.steps.tables_go.push(loses(text));
        }
        for object in lasting::in_order(of(&is_made_of)).into_iter().rev() {
            let text = self.drop_of(object);
            self.steps.types_go.push(keeps(text));
        }
    }

    /// Types, and routines that need no table, that only the right has.
    fn what_comes(&mut self, differences: &Differences) {
        let right = self.right;
        let new = differences.items.iter().filter(|item| item.left.is_none()).filter_map(|item| item.right);
        let new: Vec<&Item> = new.map(|at| &right.items[at]).collect();
        let is_early =
            |item: &&&Item| is_made_of(item.object.kind) && !lasting::needs_tables(&item.object, &right.catalog);
        let early: Vec<&Object> = new.iter().filter(is_early).map(|item| &item.object).collect();
        for object in lasting::in_order(early) {
            let Some(item) = new.iter().find(|item| std::ptr::eq(&item.object, object)) else { continue };
            let made = self.made(self.theirs(&item.definition), &object.made_with);
            self.steps.types_come.extend(made);
            self.belongings(item);
        }
    }

    /// References to a key that goes or changes are taken away before, and made again.
    fn references_that_hold(&mut self, differences: &Differences) {
        let is_key = |of: PartOf| matches!(of, PartOf::Table(PartKind::Primary | PartKind::Unique));
        let changing = differences.items.iter().filter(|item| {
            item.right.is_some() && item.parts.iter().any(|part| is_key(part.of) && part.left.is_some())
        });
        let changing: BTreeSet<Name> =
            changing.filter_map(|item| Some(self.left.items[item.left?].object.to_name())).collect();
        if changing.is_empty() || !matches!(self.altering.tables, Tables::Altered(_)) {
            return;
        }
        let (left, right) = (self.left, self.right);
        for (at, ours) in left.items.iter().enumerate() {
            let same = |item: &&Item| item.object.kind == ours.object.kind && item.key == ours.key;
            let Some(theirs) = right.items.iter().find(same) else { continue };
            let differs = differences.items.iter().find(|item| item.left == Some(at));
            let is_told = |place: usize| differs.is_some_and(|item| item.parts.iter().any(|p| p.left == Some(place)));
            let references = ours.parts.iter().enumerate().filter(|(_, p)| p.of == PartOf::Table(PartKind::Reference));
            for (_, part) in references.filter(|(place, _)| !is_told(*place)) {
                let rule = ours.object.constraints.iter().find(|rule| !part.name.is_empty() && rule.name == part.name);
                let Some(Rule::Foreign { to, .. }) = rule.map(|rule| &rule.rule) else { continue };
                let again = theirs.parts.iter().find(|their| their.of == part.of && their.told == part.told);
                let (true, Some(again)) = (changing.contains(to), again) else { continue };
                let (gone, name) = (self.drop_rule(&ours.object, part), self.name(&ours.object));
                self.steps.references_go.extend(gone.map(keeps));
                let text = format!("alter table {name} add {}", self.theirs(&again.text));
                self.steps.references_come.push(keeps(text));
                let hangs = [format!("constraint {}", again.name)];
                self.what_hangs_on(&hangs, theirs, differs.map(|item| item.parts.as_slice()).unwrap_or_default());
            }
        }
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
                let without = if self.access { "" } else { ", without the grants and owners that they have" };
                self.done.notes.push(format!("made again{without}: {names}"));
            }
        }
        // Routines that take or give rows of tables and views go and come with these.
        let is_late = |item: &Item, of: &Structure| {
            is_made_of(item.object.kind) && lasting::needs_tables(&item.object, &of.catalog)
        };
        let alone = differences.items.iter().filter(|item| item.right.is_none()).filter_map(|item| item.left);
        let routines = alone.map(|at| &left.items[at]).filter(|item| is_late(item, left));
        let all = gone.iter().copied().chain(routines).map(|item| &item.object).collect();
        for object in lasting::in_order(all).into_iter().rev() {
            self.steps.views_go.push(keeps(self.drop_of(object)));
        }
        let is_new = |at: usize| differences.items.iter().any(|item| item.right == Some(at) && item.left.is_none());
        let again = |item: &Item| gone.iter().any(|gone| gone.object.kind == item.object.kind && gone.key == item.key);
        let is_meant = |item: &Item| is_view(item.object.kind) || is_late(item, right);
        let views = right.items.iter().enumerate().filter(|(_, item)| is_meant(item));
        let come: Vec<&Item> = views.filter(|(at, item)| is_new(*at) || again(item)).map(|(_, item)| item).collect();
        for object in lasting::in_order(come.iter().map(|item| &item.object).collect()) {
            let Some(item) = come.iter().find(|item| std::ptr::eq(&item.object, object)) else { continue };
            let text = self.theirs(&item.definition);
            self.steps.views_come.push(keeps(text));
            self.belongings(item);
        }
    }

    /// Indexes, triggers and comments of what was made.
    fn belongings(&mut self, item: &Item) {
        let access = self.access;
        for part in item.parts.iter().filter(|part| access || !part.of.is_access()) {
            let text = self.theirs(&part.text);
            match part.of {
                PartOf::Index => {
                    let of_view = item.object.kind == ObjectKind::MaterialisedView;
                    let step = if of_view { &mut self.steps.views_come } else { &mut self.steps.rules_come };
                    step.push(keeps(text));
                }
                PartOf::Trigger => self.trigger_comes(item, &part.name, text),
                PartOf::Comment => self.comment(item, &part.name, &part.text),
                PartOf::Belonging(kind) => self.belonging_comes(item, kind, text),
                _ => {}
            }
        }
    }

    /// A statement, under the settings of the session that what it makes works with.
    fn made(&self, text: String, made_with: &str) -> Vec<Statement> {
        let [with, before] = self.altering.made_with;
        if made_with.is_empty() || with.is_empty() {
            return vec![keeps(text)];
        }
        vec![keeps(filled(with, &[("SETTINGS", made_with)])), keeps(text), keeps(before.to_owned())]
    }

    /// What belongs to an object, when it is due.
    fn belonging_comes(&mut self, item: &Item, kind: BelongingKind, text: String) {
        match kind {
            BelongingKind::Setting if is_view(item.object.kind) => self.steps.views_come.push(keeps(text)),
            BelongingKind::Setting => self.steps.tables_come.push(keeps(text)),
            BelongingKind::Parent => self.steps.parents_come.push(keeps(text)),
            kind => self.steps.belongings_come.push((kind, keeps(text))),
        }
    }

    fn comment(&mut self, item: &Item, column: &str, text: &str) {
        let mut object = item.object.clone();
        if !self.right.schema.is_empty() && !self.left.schema.is_empty() {
            object.schema.clone_from(&self.left.schema);
        }
        let statement = comment_on(&object, column, text, &self.left.catalog, self.left.dialect);
        self.steps.comments.extend(statement.map(keeps));
    }

    fn drop_of(&self, object: &Object) -> String {
        let word = word_in_statements(object);
        let is_routine = matches!(object.kind, ObjectKind::Function | ObjectKind::Procedure);
        let takes = match is_routine && self.altering.overloads {
            true => taken(&object.signature),
            false => String::new(),
        };
        format!("drop {word} {}{takes}", self.name(object))
    }

    fn gone(&mut self, ours: &Item) {
        let text = self.drop_of(&ours.object);
        match ours.object.kind {
            ObjectKind::View | ObjectKind::MaterialisedView => {}
            kind if is_made_of(kind) => {}
            // It may have gone with the table whose column it numbered.
            ObjectKind::Sequence => {
                let text = text.replacen("drop sequence ", "drop sequence if exists ", 1);
                self.steps.types_go.push(keeps(text));
            }
            ObjectKind::Event => self.steps.triggers_go.push(keeps(text)),
            _ => {
                // What a table does with others holds those.
                let holds =
                    |belonging: &&Belonging| matches!(belonging.kind, BelongingKind::Rule | BelongingKind::Policy);
                let held = ours.object.belongings.iter().filter(holds);
                self.steps.triggers_go.extend(held.map(|belonging| keeps(belonging.unmakes.clone())));
                // Two tables that go may reference each other.
                let references = ours.parts.iter().filter(|part| part.of == PartOf::Table(PartKind::Reference));
                for part in references.filter(|_| self.altering.views_hold) {
                    if let Some(text) = self.drop_rule(&ours.object, part) {
                        self.steps.references_go.push(keeps(text));
                    }
                }
            }
        }
    }

    fn added(&mut self, theirs: &Item) {
        let text = self.theirs(&theirs.definition);
        match theirs.object.kind {
            ObjectKind::View | ObjectKind::MaterialisedView => return,
            kind if is_made_of(kind) => return,
            ObjectKind::Sequence => self.steps.types_come.push(keeps(text)),
            ObjectKind::Event => {
                let made = self.made(text, &theirs.object.made_with);
                self.steps.events_come.extend(made);
            }
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

    fn changed(&mut self, differs: &ItemDiffers, ours: &Item, theirs: &Item) {
        match ours.object.kind {
            ObjectKind::View | ObjectKind::MaterialisedView => {
                if !differs.parts.iter().any(|part| part.of == PartOf::Definition) {
                    self.belongings_change(differs, ours, theirs);
                }
            }
            ObjectKind::Event => {
                let text = self.drop_of(&ours.object);
                self.steps.triggers_go.push(keeps(text));
                let made = self.made(self.theirs(&theirs.definition), &theirs.object.made_with);
                self.steps.events_come.extend(made);
            }
            ObjectKind::Function | ObjectKind::Procedure if is_definition_the_same(differs) => {
                self.belongings_change(differs, ours, theirs);
            }
            ObjectKind::Function | ObjectKind::Procedure => {
                let replaces = self.altering.overloads && ours.object.signature == theirs.object.signature;
                if !replaces {
                    let text = self.drop_of(&ours.object);
                    self.steps.routines_go.push(keeps(text));
                }
                let made = self.made(self.theirs(&theirs.definition), &theirs.object.made_with);
                match lasting::needs_tables(&theirs.object, &self.right.catalog) {
                    true => self.steps.routines_come_late.extend(made),
                    false => self.steps.routines_come.extend(made),
                }
                match replaces {
                    true => self.belongings_change(differs, ours, theirs),
                    false => self.belongings(theirs),
                }
            }
            ObjectKind::Type | ObjectKind::Sequence if is_definition_the_same(differs) => {
                self.belongings_change(differs, ours, theirs);
            }
            ObjectKind::Type => {
                self.type_changes(differs, ours, theirs);
                self.belongings_change(differs, ours, theirs);
            }
            ObjectKind::Sequence => {
                let text = self.theirs(&theirs.definition);
                let name = &differs.name;
                match text.strip_prefix("create ").filter(|_| self.altering.overloads) {
                    Some(rest) => self.steps.types_come.push(keeps(format!("alter {rest}"))),
                    None => self.done.notes.push(format!("sequence {name}: it is changed by hand")),
                }
                self.belongings_change(differs, ours, theirs);
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
        let mut own = differs.parts.iter().filter(|part| !matches!(part.of, PartOf::Comment | PartOf::Belonging(_)));
        let only_new = own.all(|part| part.of == PartOf::Value && part.what == Difference::OnlyRight);
        if !only_new || self.altering.add_value.is_empty() {
            let name = &differs.name;
            self.done.notes.push(format!("type {name}: no statement changes it so; it has to be made again by hand"));
            return;
        }
        let name = self.name(&ours.object);
        for part in differs.parts.iter().filter(|part| part.of == PartOf::Value) {
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
                        self.trigger_comes(theirs, &new.name, text);
                    }
                }
                PartOf::Comment => self.comment(theirs, &part.name, new.map_or("", |part| part.text.as_str())),
                PartOf::Belonging(kind) => {
                    let is_it = |belonging: &&Belonging| belonging.kind == kind && belonging.name == part.name;
                    let goes = old.and_then(|_| ours.object.belongings.iter().find(is_it));
                    if let Some(goes) = goes.filter(|goes| !goes.unmakes.is_empty()) {
                        self.steps.triggers_go.push(keeps(goes.unmakes.clone()));
                    }
                    if let Some(new) = new {
                        let text = self.theirs(&new.text);
                        self.belonging_comes(theirs, kind, text);
                    }
                }
                _ => {}
            }
        }
        let again = differs.parts.iter().filter(|part| part.what == Difference::Changed).filter_map(|part| {
            let word = match part.of {
                PartOf::Index => "index",
                PartOf::Trigger => "trigger",
                PartOf::Belonging(kind) => kind.word(),
                PartOf::Table(PartKind::Column) => return None,
                PartOf::Table(_) => "constraint",
                _ => return None,
            };
            Some(format!("{word} {}", part.name))
        });
        self.what_hangs_on(&again.collect::<Vec<_>>(), theirs, &differs.parts);
    }

    /// What hangs on parts that are made again is made again with them, where it is the same on both sides.
    fn what_hangs_on(&mut self, again: &[String], theirs: &Item, told: &[PartDiffers]) {
        let is_told = |belonging: &Belonging| {
            told.iter().any(|part| part.of == PartOf::Belonging(belonging.kind) && part.name == belonging.name)
        };
        let hanging = theirs.object.belongings.iter().filter(|belonging| again.contains(&belonging.of));
        for belonging in hanging.filter(|belonging| !is_told(belonging)) {
            let text = self.theirs(&belonging.makes);
            self.belonging_comes(theirs, belonging.kind, text);
        }
    }

    fn trigger_comes(&mut self, item: &Item, name: &str, text: String) {
        let trigger = item.object.triggers.iter().find(|trigger| trigger.name == name);
        let made = self.made(text, trigger.map_or("", |trigger| &trigger.made_with));
        self.steps.triggers_come.extend(made);
    }

    fn drop_trigger(&self, object: &Object, trigger: &str) -> String {
        let (table, name) = (self.name(object), self.left.dialect.name_as_written(trigger));
        filled(self.altering.drop_trigger, &[("NAME", &name), ("TABLE", &table)])
    }
}
