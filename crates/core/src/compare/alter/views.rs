//! Views, which hold what they read from being changed, and routines that take or give rows of tables.

use std::collections::BTreeSet;

use jaunty_language::statement::definition::PartKind;
use jaunty_seam::catalog::{Name, Object};

use super::{Alter, is_made_of, is_view, keeps};
use crate::catalog::lasting;
use crate::compare::Difference;
use crate::compare::differences::Differences;
use crate::compare::structure::{Item, PartOf, Structure};

impl Alter<'_> {
    /// The views of the left that have to be taken away: those that differ, and those that hold what changes.
    pub(super) fn fallen(&self, differences: &Differences) -> BTreeSet<Name> {
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
    pub(super) fn views(&mut self, differences: &Differences, fallen: &BTreeSet<Name>) {
        let (left, right) = (self.left, self.right);
        let gone = left.items.iter().filter(|item| fallen.contains(&item.object.to_name()));
        let gone: Vec<&Item> = gone.collect();
        if self.altering.views_hold && !gone.is_empty() {
            let again = gone.iter().filter(|gone| right.items.iter().any(|item| item.key == gone.key));
            let names: Vec<&str> = again.map(|item| item.key.as_str()).collect();
            if !names.is_empty() {
                let names = names.join(", ");
                let without = if self.access { "" } else { ", without the grants and owners that they have" };
                self.done.notes.push(format!("recreated{without}: {names}"));
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
}
