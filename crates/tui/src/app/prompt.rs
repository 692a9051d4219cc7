//! What a person is asked: to fill in a line, or to answer with one key.

use jaunty_core::logbook::Entry;
use jaunty_core::run::Job;
use jaunty_seam::engine::SwitchKind;
use jaunty_seam::profile::Profile;

use crate::line::Line;

/// A line to fill in.
#[derive(Debug)]
pub struct Prompt {
    /// What is asked for.
    pub title: String,
    /// What is filled in.
    pub line: Line,
    /// Whether what is typed must not be seen.
    pub hidden: bool,
    pub(super) asked: Asked,
}

impl Drop for Prompt {
    fn drop(&mut self) {
        if self.hidden {
            self.line.wipe();
        }
    }
}

/// What a prompt asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Asked {
    Snippet,
    NewBuffer,
    Rename,
    CopyBuffer,
    SearchAll,
    /// What to find.
    Find,
    /// What to replace by what.
    Replace,
    Row,
    Line,
    /// The value of a parameter.
    Value,
    /// What the values of a column have to fulfil.
    Condition,
    /// What rows have to hold.
    RowSearch,
    /// Where rows are to be written.
    Export,
    Secret,
    /// What an engine wants to know before there is a connection.
    Answer,
    Url,
    Switch(SwitchKind),
}

impl Prompt {
    pub(super) fn new(title: String, asked: Asked) -> Prompt {
        Prompt::with(title, asked, "")
    }

    /// One in which something stands already, which typing replaces.
    pub(super) fn with(title: String, asked: Asked, text: impl Into<String>) -> Prompt {
        Prompt { title, line: Line::offered(text.into()), hidden: false, asked }
    }

    /// The same prompt again with what was filled in, after a mistake in it. None where that must not be kept.
    pub(super) fn again(&self) -> Option<Prompt> {
        let line = Line::from(self.line.text());
        (!self.hidden).then(|| Prompt { title: self.title.clone(), line, hidden: false, asked: self.asked })
    }

    pub(super) fn hidden(title: String, asked: Asked) -> Prompt {
        Prompt { title, line: Line::default(), hidden: true, asked }
    }
}

/// A question.
#[derive(Debug)]
pub struct Question {
    /// The question.
    pub text: String,
    /// Lines about it.
    pub about: Vec<String>,
    /// Its answers: a key, a line about it, and what it means.
    pub answers: Vec<(char, &'static str, Answered)>,
    /// What the question is about, where it is about statements.
    pub(super) jobs: Vec<Job>,
    /// What the question is about, where it is about a profile.
    pub(super) profile: Option<Box<Profile>>,
    /// What the question is about, where it is about a file to export to.
    pub(super) export: String,
    /// What the question is about, where it is about runs.
    pub(super) forget: Vec<Entry>,
}

/// What an answer means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answered {
    /// Leave.
    Leave,
    /// Save and leave.
    SaveAndLeave,
    /// Leave and drop unsaved text.
    DropAndLeave,
    /// Save over what another program wrote.
    Overwrite,
    /// Save under another name.
    SaveBeside,
    /// Run the statements.
    Run,
    /// Take the profile out of its file.
    Remove,
    /// Move the buffer's file to the trash.
    RemoveBuffer,
    /// Take the text that another program wrote.
    Reload,
    /// Replace the file that rows are exported to.
    Export,
    /// Forget runs.
    Forget,
    /// Do nothing.
    Nothing,
}

impl Question {
    pub(super) fn new(text: String, answers: &[(char, &'static str, Answered)]) -> Question {
        Question {
            text,
            about: Vec::new(),
            answers: answers.to_vec(),
            jobs: Vec::new(),
            profile: None,
            export: String::new(),
            forget: Vec::new(),
        }
    }
}
