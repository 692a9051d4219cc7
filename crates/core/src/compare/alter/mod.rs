//! The statements that make the left one of two structures like the right one. They are shown, and never run by
//! themselves.

mod belongings;
mod tables;
mod views;

use std::collections::BTreeSet;

use jaunty_language::dialect::{Altering, Dialect, Tables};
use jaunty_language::statement::definition::PartKind;
use jaunty_seam::catalog::{Belonging, BelongingKind, Name, Object, ObjectKind, Rule};

use super::Difference;
use super::differences::{Differences, ItemDiffers};
use super::structure::{Item, PartOf, Structure};
use crate::catalog::templates::{filled, new_schema, taken, word_in_statements};
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
    kind == ObjectKind::Type || kind.is_routine()
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
                let text = self.add_rule(&name, &theirs.object, &again.name, &self.theirs(&again.text));
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
            self.steps.schemas_come.extend(new_schema(schema, self.left.dialect).map(keeps));
        }
    }

    fn drop_of(&self, object: &Object) -> String {
        let word = word_in_statements(object);
        let takes = match object.kind.is_routine() && self.altering.overloads {
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
                for part in references.filter(|_| self.altering.references_apart) {
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
                let bare = self.without_references(&text).filter(|_| self.altering.references_apart);
                match bare {
                    Some((bare, references)) => {
                        self.steps.tables_come.push(keeps(bare));
                        let name = self.name(&theirs.object);
                        let add =
                            |(of, text): (String, String)| keeps(self.add_rule(&name, &theirs.object, &of, &text));
                        let added: Vec<Statement> = references.into_iter().map(add).collect();
                        self.steps.references_come.extend(added);
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
                    None => self.done.notes.push(format!("sequence {name}: change it by hand")),
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
            self.done.notes.push(format!("type {name}: no statement can change this; recreate it by hand"));
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
}
