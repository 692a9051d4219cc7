//! How a profile protects its database.

/// See the values, each stricter than those before it. The word is shown on every screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum Guard {
    /// Statements run as they are.
    #[default]
    Open,
    /// A statement that writes runs only after a yes.
    Ask,
    /// The server itself is told to refuse writes.
    ReadOnly,
}

impl Guard {
    /// All guards.
    pub const ALL: [Guard; 3] = [Guard::Open, Guard::Ask, Guard::ReadOnly];

    /// Its word in files and on the screen.
    pub fn word(self) -> &'static str {
        match self {
            Guard::Open => "open",
            Guard::Ask => "ask",
            Guard::ReadOnly => "read-only",
        }
    }

    /// The guard with this word.
    pub fn from_word(word: &str) -> Option<Guard> {
        Guard::ALL.into_iter().find(|guard| guard.word() == word)
    }
}
