//! Other databases of the server than the one in hand: read when a statement names one, after everything else, and told
//! as a part of what is known of the one in hand.

use std::sync::Arc;

use super::{Report, Worker};
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{CatalogPart, Stop};
use jaunty_seam::error::ErrorKind;

/// What is known, and what is to be.
#[derive(Default)]
pub(super) struct Others {
    /// What the database in hand holds, as it was told last.
    known: Option<Arc<Catalog>>,
    /// The databases that are to be read.
    wanted: Vec<String>,
    /// The one that is being read, and its next part.
    reading: Option<(Catalog, usize)>,
}

impl Others {
    /// Notes that somebody wants to know of a database.
    pub(super) fn want(&mut self, database: String) {
        let is_known = self.known.as_ref().is_some_and(|known| known.others.contains_key(&database));
        let is_read = self.reading.as_ref().is_some_and(|(catalog, _)| catalog.database == database);
        if !is_known && !is_read && !self.wanted.contains(&database) {
            self.wanted.push(database);
        }
    }

    /// Has all of them read again.
    pub(super) fn forget(&mut self) {
        if let Some(known) = self.known.take() {
            self.wanted.extend(known.others.keys().cloned());
        }
    }

    /// Whether there is one to be read.
    pub(super) fn wait(&self) -> bool {
        self.reading.is_some() || !self.wanted.is_empty()
    }

    /// Puts what is known of them to what was read of the database in hand.
    pub(super) fn join(&mut self, mut catalog: Catalog) -> Arc<Catalog> {
        if let Some(known) = &self.known {
            catalog.others.clone_from(&known.others);
        }
        let catalog = Arc::new(catalog);
        self.known = Some(Arc::clone(&catalog));
        catalog
    }

    fn add(&mut self, mut read: Catalog) -> Option<Arc<Catalog>> {
        read.complete();
        let mut whole = Catalog::clone(self.known.as_ref()?);
        whole.others.insert(read.database.clone(), Arc::new(read));
        let whole = Arc::new(whole);
        self.known = Some(Arc::clone(&whole));
        Some(whole)
    }
}

impl Worker {
    /// Reads the next part of another database.
    pub(super) fn read_another_on(&mut self, stop: &Stop) {
        let Some((session, _)) = &mut self.session else { return };
        let first = |database: String| (Catalog::of_database(database), 0);
        let next = self.others.reading.take().or_else(|| self.others.wanted.pop().map(first));
        let Some((mut catalog, number)) = next else { return };
        let database = catalog.database.clone();
        let part = CatalogPart { database: Some(&database), number, stop: stop.clone(), ..CatalogPart::default() };
        match session.catalog(&part, &mut catalog) {
            Ok(true) => {
                self.others.reading = Some((catalog, number + 1));
                return;
            }
            Ok(false) => {}
            Err(error) if error.kind == ErrorKind::Lost => {
                self.others.wanted.push(database);
                let transaction = self.lose();
                return (self.tell)(Report::Lost { transaction });
            }
            // Not everybody may look into every database: it is not asked again.
            Err(error) => {
                tracing::info!(%database, error = error.message, "another database could not be read");
                catalog.missing = Some(error.message);
            }
        }
        if let Some(whole) = self.others.add(catalog) {
            (self.tell)(Report::Catalog(whole));
        }
    }
}
