//! All slips that there are, in memory and on disk.

use std::path::Path;

use jaunty_core::slip::{Draft, Slip, Store};

/// All slips, of all connections.
#[derive(Debug)]
pub struct Slips {
    pub(super) store: Store,
    pub(super) all: Vec<Slip>,
    /// How often one was changed.
    revision: u64,
    /// The last draft met drafts of another program for the same rows.
    pub(super) with_others: bool,
    /// Files that could not be read, each with why.
    pub unread: Vec<String>,
}

impl Slips {
    /// Those that are on disk.
    pub fn open(store: Store) -> Slips {
        let (mut all, mut unread) = (Vec::new(), Vec::new());
        for kept in store.all() {
            match kept.slip {
                Ok(slip) => all.push(slip),
                Err(error) => unread.push(format!("the slip {} cannot be read: {error}", kept.path.display())),
            }
        }
        Slips { store, all, revision: 0, with_others: false, unread }
    }

    /// How often one was changed: what was made of them is as they are while it is the same.
    pub fn revision(&self) -> u64 {
        self.revision
    }

    /// All of them.
    pub fn all(&self) -> &[Slip] {
        &self.all
    }

    /// The slip that this one is the head of.
    pub fn find(&self, head: &Slip) -> Option<&Slip> {
        self.all.iter().find(|slip| is_same(slip, head))
    }

    /// The slips of a result.
    pub fn of_rows<'a>(&'a self, archive: &'a Path) -> impl Iterator<Item = &'a Slip> {
        self.all.iter().filter(move |slip| slip.archive == archive && slip.takes_back.is_none())
    }

    /// What is drafted for a row of a result: the draft and where its fields stand.
    pub fn draft_of<'a>(&'a self, archive: &'a Path, row: u64) -> Option<(&'a Slip, &'a Draft)> {
        self.of_rows(archive).find_map(|slip| Some((slip, slip.drafts.get(slip.of_row(row)?)?)))
    }

    pub(super) fn find_mut(&mut self, head: &Slip) -> &mut Slip {
        self.revision += 1;
        let at = self.all.iter().position(|slip| is_same(slip, head)).unwrap_or_else(|| {
            self.all.insert(0, Slip { drafts: Vec::new(), ..head.clone() });
            0
        });
        &mut self.all[at]
    }
}

pub(super) fn is_same(one: &Slip, other: &Slip) -> bool {
    (&one.archive, &one.ground.table, one.takes_back, &one.connection, &one.database)
        == (&other.archive, &other.ground.table, other.takes_back, &other.connection, &other.database)
}
