//! What is done with a catalog: [`store`] keeps it on disk with its age, and [`templates`] makes statements of its
//! objects ([`changes`] those that alter one, [`of_documents`] those of collections), which [`script`] ends. [`lasting`] says which objects a database is made
//! of, [`naming`] how they are usually called, and [`checks`] what their checks say of values.

mod changes;
pub mod checks;
pub mod lasting;
pub mod naming;
mod of_documents;
pub mod script;
pub mod store;
pub mod templates;

use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{CatalogPart, Session, Stop};
use jaunty_seam::error::EngineError;

/// What a database holds, all of it, part after part. The wish ends the reading with an error.
pub fn read_whole(session: &mut dyn Session, stop: &Stop) -> Result<Catalog, EngineError> {
    let (mut catalog, mut number) = (Catalog::default(), 0);
    while session.catalog(&CatalogPart { number, stop: stop.clone(), ..CatalogPart::default() }, &mut catalog)? {
        number += 1;
    }
    catalog.complete();
    Ok(catalog)
}

#[cfg(test)]
mod tests;
