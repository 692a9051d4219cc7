//! What belongs to objects: indexes, triggers, comments, policies and more, made with them and changed by themselves.

use jaunty_language::statement::definition::PartKind;
use jaunty_seam::catalog::{Belonging, BelongingKind, Object};

use super::{Alter, Statement, is_view, keeps};
use crate::catalog::templates::{comment_by, comment_on, filled};
use crate::compare::Difference;
use crate::compare::differences::{ItemDiffers, PartDiffers};
use crate::compare::structure::{Item, PartOf};

impl Alter<'_> {
    /// Indexes, triggers and comments of what was made.
    pub(super) fn belongings(&mut self, item: &Item) {
        let access = self.access;
        for part in item.parts.iter().filter(|part| access || !part.of.is_access()) {
            let text = self.theirs(&part.text);
            match part.of {
                PartOf::Index => {
                    let of_view = is_view(item.object.kind);
                    let step = if of_view { &mut self.steps.views_come } else { &mut self.steps.rules_come };
                    step.push(keeps(text));
                }
                PartOf::Trigger => self.trigger_comes(item, &part.name, text),
                PartOf::Comment => self.comment(item, &part.name, (false, &part.text)),
                PartOf::Belonging(kind) => self.belonging_comes(item, kind, text),
                _ => {}
            }
        }
    }

    /// A statement, under the settings of the session that what it makes works with.
    pub(super) fn made(&self, text: String, made_with: &str) -> Vec<Statement> {
        let copying = self.left.dialect.changing.and_then(|changing| changing.copying);
        let [with, before] = copying.map_or(["", ""], |copying| copying.made_with);
        if made_with.is_empty() || with.is_empty() {
            return vec![keeps(text)];
        }
        vec![keeps(filled(with, &[("SETTINGS", made_with)])), keeps(text), keeps(before.to_owned())]
    }

    /// What belongs to an object, when it is due.
    pub(super) fn belonging_comes(&mut self, item: &Item, kind: BelongingKind, text: String) {
        match kind {
            BelongingKind::Setting if is_view(item.object.kind) => self.steps.views_come.push(keeps(text)),
            BelongingKind::Setting => self.steps.tables_come.push(keeps(text)),
            BelongingKind::Parent => self.steps.parents_come.push(keeps(text)),
            kind => self.steps.belongings_come.push((kind, keeps(text))),
        }
    }

    /// What is written about an object or a column, where something was or was not before.
    pub(super) fn comment(&mut self, item: &Item, column: &str, (was, text): (bool, &str)) {
        let mut object = item.object.clone();
        if !self.right.schema.is_empty() && !self.left.schema.is_empty() {
            object.schema.clone_from(&self.left.schema);
        }
        let drops = self.altering.drop_comment;
        let (catalog, dialect) = (&self.left.catalog, self.left.dialect);
        if was && !drops[0].is_empty() {
            let gone = comment_by(drops, &object, (column, text), catalog, dialect);
            self.steps.comments.extend(gone.map(keeps));
            if text.is_empty() {
                return;
            }
        }
        let statement = comment_on(&object, column, text, catalog, dialect);
        self.steps.comments.extend(statement.map(keeps));
    }

    /// Indexes, triggers and comments that differ.
    pub(super) fn belongings_change(&mut self, differs: &ItemDiffers, ours: &Item, theirs: &Item) {
        for part in &differs.parts {
            let (old, new) = (part.left.map(|at| &ours.parts[at]), part.right.map(|at| &theirs.parts[at]));
            match part.of {
                PartOf::Index => {
                    if let Some(old) = old {
                        let name = self.whole(&ours.object.schema, &old.name);
                        let (index, table) = (self.left.dialect.name_as_written(&old.name), self.name(&ours.object));
                        let words = [("NAME", &*name), ("INDEX", &index), ("TABLE", &table)];
                        self.steps.rules_go.push(keeps(filled(self.altering.drop_index, &words)));
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
                PartOf::Comment => {
                    let text = new.map_or("", |part| part.text.as_str());
                    // What is written about a column goes with it.
                    if !part.name.is_empty() && !theirs.object.columns.iter().any(|column| column.name == part.name) {
                        continue;
                    }
                    self.comment(theirs, &part.name, (old.is_some(), text));
                }
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
    pub(super) fn what_hangs_on(&mut self, again: &[String], theirs: &Item, told: &[PartDiffers]) {
        let is_told = |belonging: &Belonging| {
            told.iter().any(|part| part.of == PartOf::Belonging(belonging.kind) && part.name == belonging.name)
        };
        let hanging = theirs.object.belongings.iter().filter(|belonging| again.contains(&belonging.of));
        for belonging in hanging.filter(|belonging| !is_told(belonging)) {
            let text = self.theirs(&belonging.makes);
            self.belonging_comes(theirs, belonging.kind, text);
        }
    }

    pub(super) fn trigger_comes(&mut self, item: &Item, name: &str, text: String) {
        let trigger = item.object.triggers.iter().find(|trigger| trigger.name == name);
        let made = self.made(text, trigger.map_or("", |trigger| &trigger.made_with));
        self.steps.triggers_come.extend(made);
    }

    pub(super) fn drop_trigger(&self, object: &Object, trigger: &str) -> String {
        let (table, name) = (self.name(object), self.left.dialect.name_as_written(trigger));
        let schema = match self.left.schema.as_str() {
            "" => &object.schema,
            schema => schema,
        };
        let schema = self.left.dialect.name_as_written(schema);
        filled(self.altering.drop_trigger, &[("NAME", &name), ("SCHEMA", &schema), ("TABLE", &table)])
    }
}
