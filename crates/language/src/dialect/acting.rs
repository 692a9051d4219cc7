//! How the statements of a language are told apart, for guards: the tables that [`crate::statement::acts`] reads.

/// How the statements of a language are told apart, for guards.
#[derive(Debug)]
pub struct Acting {
    /// The words, upper case, with which statements begin that read: one, or several with blanks between.
    pub reads: &'static [&'static str],
    /// Those with which statements begin that a server which was told to refuse writes does refuse.
    pub refused: &'static [&'static str],
    /// Those with which statements begin that carry out what their words do not show.
    pub hidden: &'static [&'static str],
    /// Those with which statements begin that change the guard or write outside transactions.
    pub leads_outside: &'static [&'static str],
    /// Words, one after the other, that change the guard or write outside transactions wherever they stand.
    pub outside: &'static [&'static [&'static str]],
    /// Words that do so behind `SET`, `BEGIN` or `START`.
    pub settings: &'static [&'static str],
    /// Functions that do so; one that ends in `*` means all that begin so.
    pub functions: &'static [&'static str],
    /// Words that write where they stand in a query outside parentheses (`SELECT … INTO`).
    pub into: &'static [&'static [&'static str]],
}
