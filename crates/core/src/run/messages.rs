//! What a server said while a statement ran, as much of it as is kept.

use jaunty_seam::engine::Message;

/// So many messages are kept in memory, and so many bytes of them: a server may send more than anybody reads.
pub const MOST: usize = 10_000;
const MOST_BYTES: usize = 4 << 20;

/// The messages of a run, in the order in which they came.
#[derive(Debug, Default)]
pub struct Messages {
    kept: Vec<Message>,
    bytes: usize,
    left_out: u64,
}

impl Messages {
    /// Those that were kept of an earlier run.
    pub fn of(kept: Vec<Message>, left_out: u64) -> Messages {
        Messages { bytes: kept.iter().map(|message| message.text.len()).sum(), kept, left_out }
    }

    /// Takes one more; one beyond what is kept is counted.
    pub fn add(&mut self, message: Message) {
        let bytes = self.bytes + message.text.len();
        if self.kept.len() >= MOST || bytes > MOST_BYTES && !self.kept.is_empty() {
            self.left_out += 1;
            return;
        }
        self.bytes = bytes;
        self.kept.push(message);
    }

    /// Those that are kept.
    pub fn kept(&self) -> &[Message] {
        &self.kept
    }

    /// How many came after them, and are not.
    pub fn left_out(&self) -> u64 {
        self.left_out
    }

    /// How many came.
    pub fn count(&self) -> u64 {
        self.kept.len() as u64 + self.left_out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_is_counted_and_not_kept() {
        let mut messages = Messages::default();
        (0..MOST + 5).for_each(|n| messages.add(Message::new("notice", n.to_string())));
        assert_eq!((messages.kept().len(), messages.left_out(), messages.count()), (MOST, 5, MOST as u64 + 5));
        let mut messages = Messages::default();
        let long = "x".repeat(MOST_BYTES + 1);
        // The first is there however long it is.
        (0..3).for_each(|_| messages.add(Message::new("notice", long.clone())));
        assert_eq!((messages.kept().len(), messages.left_out()), (1, 2));
    }
}
