//! What a connection's thread does when nothing runs, or beside it: reading the catalog part by part, first rows, and
//! asking the server about statements.

use std::sync::Arc;
use std::thread;

use super::super::sample;
use super::{Report, Worker};
use crate::catalog::store;
use jaunty_language::outline::StatementId;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::{CatalogPart, Location, Request, Session, Stop, Verdict};
use jaunty_seam::error::ErrorKind;

impl Worker {
    pub(super) fn check(&mut self, id: StatementId, statement: &str, stop: &Stop) {
        // Inside a transaction a statement that is refused would end it on some servers.
        let at_rest = |(_, location): &&mut (Box<dyn Session>, Location)| !location.in_transaction();
        let Some((session, _)) = self.session.as_mut().filter(at_rest) else { return };
        match session.check(&Request::new(statement).until(stop)) {
            Err(error) if error.kind == ErrorKind::Lost => self.drop_if_lost(),
            Err(error) if error.kind == ErrorKind::Stopped => {}
            Err(error) => (self.tell)(Report::Checked(id, Some(error))),
            Ok(Verdict::Accepted) => (self.tell)(Report::Checked(id, None)),
            // What cannot be asked about counts as taken: nothing is marked that may be right.
            Ok(Verdict::Unknown) => (self.tell)(Report::Checked(id, None)),
        }
    }

    /// Reads a few rows. Nobody waits for them: they are left out where something else is asked for.
    pub(super) fn sample(&mut self, of: &Object, statement: &str, stop: &Stop) {
        // Inside a transaction a question that fails would end it on some servers.
        let at_rest = |(_, location): &&mut (Box<dyn Session>, Location)| !location.in_transaction();
        let Some((session, _)) = self.session.as_mut().filter(at_rest) else { return };
        if stop.is_wished() {
            return;
        }
        let wish = stop.clone();
        let request = Request::new(statement).until(stop);
        let outcome = sample::take(move || !wish.is_wished(), |sink| session.first_rows(of, &request, sink));
        // A part of it would look like all there is.
        if !stop.is_wished() {
            (self.tell)(Report::Sample(of.to_name(), outcome));
        }
    }

    /// Whether the server is to be asked where the session is. Not inside a transaction: a question would fix what
    /// it sees, or be refused.
    pub(super) fn has_to_locate(&self) -> bool {
        self.session.as_ref().is_some_and(|(_, location)| location.uncertain && !location.in_transaction())
    }

    /// Asks the server where the session is, once: not again before something else runs.
    pub(super) fn locate(&mut self) {
        let Some((session, _)) = &mut self.session else { return };
        match session.locate(&Stop::default()) {
            Ok(_) => self.moved(),
            Err(error) => {
                tracing::warn!(%error, "where the session is");
                self.drop_if_lost();
            }
        }
        if let Some((_, location)) = &mut self.session {
            location.uncertain = false;
        }
    }

    /// Whether there is a catalog to be read, and nothing against it. While a transaction is open
    /// there is: a question that fails would end it on some servers.
    pub(super) fn has_to_read(&self) -> bool {
        let is_due = self.stale || self.others.wait();
        is_due && self.session.as_ref().is_some_and(|(_, location)| !location.in_transaction())
    }

    /// Reads the next part of the catalog. It goes on when nothing else is to be done.
    pub(super) fn read_on(&mut self, stop: &Stop) {
        if !self.stale {
            return self.read_another_on(stop);
        }
        let Some((session, location)) = &mut self.session else { return };
        let (mut catalog, part) = self.reading.take().unwrap_or_else(|| {
            let path = [&location.schema].into_iter().filter(|schema| !schema.is_empty()).cloned();
            (Catalog::along(path), 0)
        });
        match session.catalog(&CatalogPart { number: part, stop: stop.clone(), ..CatalogPart::default() }, &mut catalog)
        {
            Ok(true) => self.reading = Some((catalog, part + 1)),
            Ok(false) => {
                self.stale = false;
                catalog.complete();
                let catalog = self.others.join(catalog);
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
