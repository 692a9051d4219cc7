//! What a desk does when nothing runs, or beside it: reading the catalog part by part, first rows, and
//! asking the server about statements.

use std::sync::{Arc, PoisonError};
use std::thread;

use super::super::sample;
use super::{Report, Worker};
use crate::catalog::store;
use jaunty_language::outline::StatementId;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::error::ErrorKind;

impl Worker {
    pub(super) fn check(&mut self, id: StatementId, statement: &str) {
        // Inside a transaction a statement that is refused would end it on some servers.
        let Some((session, _)) = self.session.as_mut().filter(|(_, place)| !place.in_transaction()) else { return };
        let outcome = session.check(statement);
        let lost = outcome.as_ref().is_err_and(|error| error.kind == ErrorKind::Lost);
        match outcome {
            Err(_) if lost => self.drop_if_lost(),
            outcome => (self.tell)(Report::Checked(id, outcome.err())),
        }
    }

    /// Reads a few rows. Nobody waits for them: they are left out where something else is asked for.
    pub(super) fn sample(&mut self, of: &Object, statement: &str, stops: u64) {
        // Inside a transaction a question that fails would end it on some servers.
        let at_rest = self.session.as_ref().is_some_and(|(_, place)| !place.in_transaction());
        if !at_rest || self.current().stops != stops {
            return;
        }
        let current = Arc::clone(&self.current);
        let wanted = move || current.lock().unwrap_or_else(PoisonError::into_inner).stops == stops;
        let Some((session, _)) = &mut self.session else { return };
        let outcome = sample::take(wanted, |sink| session.first_rows(of, statement, sink));
        // A part of it would look like all there is.
        if self.current().stops != stops {
            return;
        }
        (self.tell)(Report::Sample(of.to_name(), outcome));
    }

    /// Whether there is a catalog to be read, and nothing against it. While a transaction is open
    /// there is: a question that fails would end it on some servers.
    pub(super) fn has_to_read(&self) -> bool {
        self.stale && self.session.as_ref().is_some_and(|(_, place)| !place.in_transaction())
    }

    /// Reads the next part of the catalog. It goes on when nothing else is to be done.
    pub(super) fn read_on(&mut self) {
        let Some((session, place)) = &mut self.session else { return };
        let (mut catalog, part) = self.reading.take().unwrap_or_else(|| {
            let path = [&place.schema].into_iter().filter(|schema| !schema.is_empty()).cloned();
            (Catalog::along(path), 0)
        });
        match session.catalog(part, &mut catalog) {
            Ok(true) => self.reading = Some((catalog, part + 1)),
            Ok(false) => {
                self.stale = false;
                catalog.complete();
                let catalog = Arc::new(catalog);
                (self.tell)(Report::Catalog(Arc::clone(&catalog)));
                self.keep(catalog);
            }
            Err(error) => {
                self.stale = false;
                (self.tell)(Report::NoCatalog(error.clone()));
                if error.kind == ErrorKind::Lost {
                    let transaction = self.lose();
                    (self.tell)(Report::Lost { transaction });
                }
            }
        }
    }

    /// Writes a catalog to disk, beside everything else: a large one takes a while.
    fn keep(&self, catalog: Arc<Catalog>) {
        let (folder, profile) = (self.keeping.catalogs().to_owned(), self.profile.clone());
        let write = move || {
            if let Err(error) = store::keep(&folder, &profile, &catalog) {
                tracing::warn!(%error, "a catalog could not be kept");
            }
        };
        let _ = thread::Builder::new().name("catalog".into()).spawn(write);
    }
}
