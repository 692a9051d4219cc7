//! What is done with a catalog: [`store`] keeps it on disk with its age, and [`templates`] makes statements of its
//! objects ([`of_documents`] those of collections), which [`script`] ends. [`lasting`] says which objects a database is made
//! of.

pub mod lasting;
mod of_documents;
pub mod script;
pub mod store;
pub mod templates;

#[cfg(test)]
mod tests;
