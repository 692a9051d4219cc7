/// How the drivers of a system write connection strings that are no URLs, as `Server=quay;Uid=clerk`.
#[derive(Debug, Clone, Copy)]
pub struct Strings {
    /// Their words, in lower case, without blanks and underscores, and what each says. Where two say something of one
    /// key, the later of this list counts.
    pub words: &'static [(&'static str, Says)],
    /// Words by which such a string is told from those of other systems, whether they say something here or not.
    pub own: &'static [&'static str],
    /// Pairs may have blanks between them instead of semicolons: `host=quay dbname=bookings`.
    pub by_blanks: bool,
}

/// What a word of a connection string says.
#[derive(Debug, Clone, Copy)]
pub enum Says {
    /// The value of this key of a profile, as it stands. The key `password` goes to no profile.
    Key(&'static str),
    /// The server, as `quay`, `tcp:quay,1433` or `quay\instance`; a dot alone is this machine.
    Server,
    /// A key, and the value that it gets for each value of the word, in lower case. Of another value nothing is taken.
    Words(&'static str, &'static [(&'static str, &'static str)]),
}
