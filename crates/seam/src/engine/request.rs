//! What a session is asked.

use std::io::Read;
use std::sync::Mutex;

use jaunty_language::statement::parameters::Value;

use super::{Prompt, Stop};
use crate::profile::{Profile, Secret};

/// Rows for a statement, as lines of text: [`Request::rows`].
pub type Rows = Mutex<dyn Read + Send>;

/// A statement for a session, with all that belongs to it. The caller owns it; a session keeps nothing of it.
#[derive(Clone)]
pub struct Request<'a> {
    /// The statement, without what ends it.
    pub text: &'a str,
    /// Values for its parameters ([`jaunty_language::statement::parameters`]), sent beside the text and never pasted
    /// into it.
    pub values: &'a [Value],
    /// The wish to end it.
    pub stop: Stop,
    /// The rows that it takes, where they do not stand in the text below it (`COPY … FROM STDIN` of a script that is read
    /// while it runs), as they would stand there. They are read as the server takes them; what is left is the caller's.
    pub rows: Option<&'a Rows>,
    /// Whether each value is wanted with all that it is, where the server's usual way leaves something out (MySQL writes
    /// a `float` with six digits): rows that go on to another database. It may cost a question more, and counts for one
    /// statement only.
    pub exact: bool,
}

impl<'a> Request<'a> {
    /// A statement without parameters that nobody will stop.
    pub fn new(text: &'a str) -> Request<'a> {
        Request { text, values: &[], stop: Stop::default(), rows: None, exact: false }
    }

    /// With these values.
    pub fn with(self, values: &'a [Value]) -> Request<'a> {
        Request { values, ..self }
    }

    /// With each value whole.
    pub fn exactly(self) -> Request<'a> {
        Request { exact: true, ..self }
    }

    /// With these rows.
    pub fn taking(self, rows: Option<&'a Rows>) -> Request<'a> {
        Request { rows, ..self }
    }

    /// Ended by this wish.
    pub fn until(self, stop: &Stop) -> Request<'a> {
        Request { stop: stop.clone(), ..self }
    }
}

/// An attempt to connect.
pub struct Attempt<'a> {
    /// The profile, with its URL taken apart.
    pub profile: &'a Profile,
    /// Its secret, if there is one.
    pub secret: Option<&'a Secret>,
    /// Where to ask for more.
    pub prompt: &'a dyn Prompt,
    /// The wish to give up.
    pub stop: Stop,
}

/// A part of the catalog that is to be read.
#[derive(Debug, Clone, Default)]
pub struct CatalogPart<'a> {
    /// The schema that is looked at, its levels joined by dots; without one, all of the database. An engine that
    /// reads only what is looked at lists the names of the other schemas all the same.
    pub schema: Option<&'a str>,
    /// Another database than the one in hand, to be read into a catalog of its own: its schemas and what is in them, as
    /// far as names in statements need it. Only asked where [`Dialect::crosses_databases`] says so.
    ///
    /// [`Dialect::crosses_databases`]: jaunty_language::dialect::Dialect::crosses_databases
    pub database: Option<&'a str>,
    /// The number of the part, from 0.
    pub number: usize,
    /// The wish to stop reading.
    pub stop: Stop,
}

impl<'a> CatalogPart<'a> {
    /// A part of the whole, which nobody will stop.
    pub fn number(number: usize) -> CatalogPart<'a> {
        CatalogPart { number, ..CatalogPart::default() }
    }
}
