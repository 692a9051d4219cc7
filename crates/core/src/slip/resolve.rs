//! What becomes of a draft whose row somebody else changed.

use super::{Conflict, Datum, Draft, Slip, What};

/// Whose values are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keep {
    /// Theirs: the draft is dropped.
    Theirs,
    /// Ours: the row will be as it stands in the draft, in all of its columns that were read.
    Ours,
    /// Both: what they changed stays, and what was drafted is changed.
    Both,
}

impl Slip {
    /// Settles a conflict. Nothing is sent.
    pub fn settle(&mut self, conflict: &Conflict, keep: Keep) {
        let Some(draft) = self.drafts.get_mut(conflict.draft) else { return };
        let stays = |field: usize| self.ground.part(field).is_some_and(|part| part.whole || part.lasting);
        let given =
            |field: &usize| self.ground.fields.get(*field).is_some_and(super::Field::is_given) && !stays(*field);
        match (keep, &conflict.theirs) {
            (Keep::Theirs, _) => {
                self.drafts.remove(conflict.draft);
            }
            (_, Some(theirs)) => {
                let ours = std::mem::replace(&mut draft.old, theirs.clone());
                let read: Vec<bool> = ours.iter().map(Option::is_some).collect();
                // What was not read before is still not known.
                for (value, read) in draft.old.iter_mut().zip(&read) {
                    *value = value.take().filter(|_| *read);
                }
                if draft.what == What::Change {
                    if keep == Keep::Ours {
                        let whole = ours.into_iter().enumerate().filter_map(|(field, value)| Some((field, value?)));
                        let whole: Vec<(usize, Datum)> = whole.filter(|(field, _)| given(field)).collect();
                        for (field, value) in whole {
                            // A field that is not there was read as NULL.
                            let absent = theirs.get(field).is_some_and(|now| *now == Some(Datum::Absent));
                            if !(value == Datum::Null && absent) {
                                draft.new.entry(field).or_insert(value);
                            }
                        }
                    }
                    let old = &draft.old;
                    draft.new.retain(|field, value| old.get(*field).and_then(Option::as_ref) != Some(value));
                    if draft.new.is_empty() {
                        self.drafts.remove(conflict.draft);
                    }
                }
            }
            // The row is gone: what was known of it is added again, or there is nothing left to delete.
            (_, None) if draft.what == What::Change => {
                let mut new = std::mem::take(&mut draft.new);
                let given = |field: usize| self.ground.fields.get(field).is_some_and(super::Field::is_given);
                for (field, value) in draft.old.iter().enumerate() {
                    if let Some(value) = value.as_ref().filter(|_| given(field)) {
                        new.entry(field).or_insert_with(|| value.clone());
                    }
                }
                *draft = Draft { what: What::Add, row: None, old: Vec::new(), new };
            }
            (_, None) => {
                self.drafts.remove(conflict.draft);
            }
        }
    }
}
