//! Places of a text that was written in another way.

use std::ops::Range;

/// Where the parts of a text that were written differently stand in it, and where they stood before.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Moved {
    parts: Vec<(Range<usize>, Range<usize>)>,
}

impl Moved {
    /// Takes in the next part: its bytes now, and those that it had.
    pub fn add(&mut self, now: Range<usize>, before: Range<usize>) {
        self.parts.push((now, before));
    }

    /// The place before of a place now, in bytes; within a part, where that began.
    pub fn before(&self, at: usize) -> usize {
        let passed = self.parts.partition_point(|(now, _)| now.start <= at);
        match passed.checked_sub(1).and_then(|last| self.parts.get(last)) {
            None => at,
            Some((now, before)) if at < now.end => before.start,
            Some((now, before)) => before.end + (at - now.end),
        }
    }

    /// The bytes now of a part, by its place in their order.
    #[cfg(test)]
    pub(crate) fn part(&self, number: usize) -> Range<usize> {
        self.parts[number].0.clone()
    }
}
