//! What differs between two structures, part by part.

use std::collections::HashMap;

use jaunty_language::statement::definition::PartKind;
use jaunty_seam::catalog::ObjectKind;

use super::Difference;
use super::structure::{Item, Part, PartOf, Structure};

/// A part that is not the same on both sides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartDiffers {
    /// How.
    pub what: Difference,
    /// What it is.
    pub of: PartOf,
    /// Its name.
    pub name: String,
    /// Its place in the parts of the left; in [`Item::held`] where the two are of different languages.
    pub left: Option<usize>,
    /// Its place in the parts of the right.
    pub right: Option<usize>,
    /// What is shown of the left, and of the right.
    pub shown: [String; 2],
}

/// An object that is not the same on both sides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ItemDiffers {
    /// How.
    pub what: Difference,
    /// What it is.
    pub kind: ObjectKind,
    /// Its name.
    pub name: String,
    /// Its place in the items of the left.
    pub left: Option<usize>,
    /// Its place in the items of the right.
    pub right: Option<usize>,
    /// Which of its parts differ, where both have it.
    pub parts: Vec<PartDiffers>,
}

/// What two structures have that the other has not.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Differences {
    /// The objects that differ: tables first, by name.
    pub items: Vec<ItemDiffers>,
    /// How many objects are the same.
    pub same: usize,
    /// Whether both are of one language, so that definitions were compared.
    pub one_language: bool,
    /// Whether owners and grants count.
    pub access: bool,
}

/// Compares two structures; with whose the objects are and what others may do, where `access` says so.
pub fn compare(left: &Structure, right: &Structure, access: bool) -> Differences {
    let one_language = left.dialect.name == right.dialect.name;
    let keyed = |structure: &Structure| -> HashMap<(ObjectKind, String), usize> {
        let key = |item: &Item| match one_language {
            true => (item.object.kind, item.key.clone()),
            false => (item.object.kind, item.key.to_lowercase()),
        };
        structure.items.iter().enumerate().map(|(at, item)| (key(item), at)).collect()
    };
    let (lefts, mut rights) = (keyed(left), keyed(right));
    let (mut items, mut same) = (Vec::new(), 0);
    for ((kind, key), at) in lefts {
        let ours = &left.items[at];
        let mut differs = ItemDiffers {
            what: Difference::OnlyLeft,
            kind,
            name: ours.key.clone(),
            left: Some(at),
            right: None,
            parts: Vec::new(),
        };
        if let Some(with) = rights.remove(&(kind, key)) {
            differs.parts = parts(ours, &right.items[with], one_language, access);
            if differs.parts.is_empty() {
                same += 1;
                continue;
            }
            (differs.what, differs.right) = (Difference::Changed, Some(with));
        }
        items.push(differs);
    }
    items.extend(rights.into_iter().map(|((kind, _), at)| ItemDiffers {
        what: Difference::OnlyRight,
        kind,
        name: right.items[at].key.clone(),
        left: None,
        right: Some(at),
        parts: Vec::new(),
    }));
    items.sort_by(|a, b| (a.kind, &a.name, a.what).cmp(&(b.kind, &b.name, b.what)));
    Differences { items, same, one_language, access }
}

/// The parts of two objects that differ.
fn parts(left: &Item, right: &Item, one_language: bool, access: bool) -> Vec<PartDiffers> {
    let [left_parts, right_parts] = [left, right].map(|item| if one_language { &item.parts } else { &item.held });
    let (mut lefts, mut rights): (Vec<usize>, Vec<usize>) =
        ((0..left_parts.len()).collect(), (0..right_parts.len()).collect());
    for (parts, places) in [(left_parts, &mut lefts), (right_parts, &mut rights)] {
        places.retain(|at| access || !parts[*at].of.is_access());
    }
    let by_name = |part: &Part| match part.of {
        PartOf::Table(PartKind::Column) | PartOf::Trigger | PartOf::Belonging(_) | PartOf::Value | PartOf::Comment => {
            true
        }
        // What an index is over is found again in another language, and not its name.
        PartOf::Index | PartOf::Table(PartKind::Index) => one_language,
        _ => false,
    };
    let same_name = |a: &Part, b: &Part| match one_language {
        true => a.name == b.name,
        false => a.name.to_lowercase() == b.name.to_lowercase(),
    };
    lefts.retain(|at| {
        let ours = &left_parts[*at];
        let found = rights.iter().position(|other| {
            let theirs = &right_parts[*other];
            ours.of == theirs.of && ours.told == theirs.told && (!by_name(ours) || same_name(ours, theirs))
        });
        found.map(|found| rights.remove(found)).is_none()
    });
    let shown = |parts: &[Part], at: Option<usize>| at.map(|at| parts[at].shown.clone()).unwrap_or_default();
    let differs = |what, of, name: &str, ours, theirs| PartDiffers {
        what,
        of,
        name: name.to_owned(),
        left: ours,
        right: theirs,
        shown: [shown(left_parts, ours), shown(right_parts, theirs)],
    };
    let mut all = Vec::new();
    for at in lefts {
        let ours = &left_parts[at];
        let found = rights.iter().position(|other| {
            let theirs = &right_parts[*other];
            ours.of == theirs.of && same_name(ours, theirs)
        });
        let with = found.map(|found| rights.remove(found));
        let what = if with.is_some() { Difference::Changed } else { Difference::OnlyLeft };
        all.push(differs(what, ours.of, &ours.name, Some(at), with));
    }
    for at in rights {
        let theirs = &right_parts[at];
        all.push(differs(Difference::OnlyRight, theirs.of, &theirs.name, None, Some(at)));
    }
    all.sort_by_key(|part| (part.of, part.left.is_none(), part.left, part.right));
    if one_language {
        all.extend(order(left, right, (PartOf::Table(PartKind::Column), PartOf::Order)));
        all.extend(order(left, right, (PartOf::Value, PartOf::ValueOrder)));
    }
    all
}

/// The order of the parts of a kind that both have, where it is another one.
fn order(left: &Item, right: &Item, (of, told): (PartOf, PartOf)) -> Option<PartDiffers> {
    let names = |item: &Item, other: &Item| -> Vec<String> {
        let is = |part: &&Part| part.of == of;
        let has = |name: &str| other.parts.iter().filter(is).any(|part| part.name == name);
        item.parts.iter().filter(is).map(|part| part.name.clone()).filter(|name| has(name)).collect()
    };
    let (ours, theirs) = (names(left, right), names(right, left));
    (ours != theirs).then(|| PartDiffers {
        what: Difference::Changed,
        of: told,
        name: String::new(),
        left: None,
        right: None,
        shown: [ours.join(", "), theirs.join(", ")],
    })
}

impl Differences {
    /// How many objects differ in each way.
    pub fn counted(&self, what: Difference) -> usize {
        self.items.iter().filter(|item| item.what == what).count()
    }
}
