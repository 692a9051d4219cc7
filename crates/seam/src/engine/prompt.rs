//! Asking a person while a connection is made.

use crate::profile::Secret;

/// Something that only a person can answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// What is wanted, as `one-time code of the purser's token`. From the server: cleaned where it is shown.
    pub text: String,
    /// A page that is to be opened in a browser first.
    pub page: Option<String>,
    /// Whether the answer is shown while it is written.
    pub visible: bool,
}

/// Where an engine asks. It is called on the thread that connects, and waits until there is an answer.
pub trait Prompt: Send + Sync {
    /// Asks. `None` gives up: nobody is there, or nobody wants to answer.
    fn ask(&self, question: &Question) -> Option<Secret>;
}

/// Nobody is there to be asked.
pub struct NoPrompt;

impl Prompt for NoPrompt {
    fn ask(&self, _: &Question) -> Option<Secret> {
        None
    }
}
