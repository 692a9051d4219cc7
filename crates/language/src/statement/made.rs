//! The names that come into being by the statements of a text.

use std::collections::HashSet;

use super::definition::unquoted;
use super::shape::words;
use crate::dialect::Dialect;

/// The names that a text makes or lets exist, in lower case: tables that a statement in it creates.
pub fn made_in(text: &str, dialect: &'static Dialect) -> HashSet<String> {
    let all = words(text, dialect, 0);
    let mut made = HashSet::new();
    for (at, word) in all.iter().enumerate() {
        if !word.is_one_of(&["TABLE", "VIEW", "INTO", "TO", "AS"]) {
            continue;
        }
        let mut next = at + 1;
        while all.get(next).is_some_and(|w| w.is_one_of(&["IF", "NOT", "EXISTS"])) {
            next += 1;
        }
        // The last name of a path.
        while all.get(next + 1).is_some_and(|w| w.sign(b'.')) {
            next += 2;
        }
        let created = word.is_one_of(&["TABLE", "VIEW"])
            && (0..at).rev().take(4).any(|at| all.get(at).is_some_and(|w| w.is("CREATE")));
        // `rename to x`, `select … into x`, `attach … as x`: they may exist by then.
        let elsewhere =
            word.is_one_of(&["TO", "INTO", "AS"]) && !all.get(at.wrapping_sub(1)).is_some_and(|w| w.is("INSERT"));
        if let Some(name) = all.get(next).filter(|_| created || elsewhere) {
            made.insert(unquoted(&name.text).to_lowercase());
        }
    }
    made
}
