//! What is done with a catalog: [`store`] keeps it on disk with its age, and [`templates`] makes statements of its
//! objects ([`of_documents`] those of collections).

mod of_documents;
pub mod store;
pub mod templates;

#[cfg(test)]
mod tests;
