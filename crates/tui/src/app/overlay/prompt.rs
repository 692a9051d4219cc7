//! What a person is asked: to fill in a line, or to answer with one key.

use jaunty_core::buffers::form::TextForm;
use jaunty_core::logbook::Entry;
use jaunty_core::run::Job;
use jaunty_core::run::connection_worker::ScriptOrder;
use jaunty_language::edit::document::Motion;
use jaunty_seam::engine::{Switch, SwitchKind};
use jaunty_seam::profile::Profile;

use super::{After, Layer};
use crate::action::Scope;
use crate::app::App;
use crate::line::Line;
use crate::work::Kind;

/// A line to fill in.
#[derive(Debug)]
pub struct Prompt {
    /// What is asked for.
    pub title: String,
    /// What is filled in.
    pub line: Line,
    /// Whether what is typed must not be seen.
    pub hidden: bool,
    pub(in crate::app) asked: Asked,
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
pub(in crate::app) enum Asked {
    Snippet,
    NewBuffer,
    Rename,
    CopyBuffer,
    /// The encoding of the buffer's file.
    Encoding,
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
    /// The columns that tell the rows of two results apart.
    CompareKey,
    /// Where rows are to be written.
    Export,
    Secret,
    /// What an engine wants to know before there is a connection.
    Answer,
    Url,
    /// Where a drawing is to be saved.
    Drawing,
    /// The script that is to be run.
    Script,
    Switch(SwitchKind),
}

impl Prompt {
    pub(in crate::app) fn new(title: String, asked: Asked) -> Prompt {
        Prompt::with(title, asked, "")
    }

    /// One in which something stands already, which typing replaces.
    pub(in crate::app) fn with(title: String, asked: Asked, text: impl Into<String>) -> Prompt {
        Prompt { title, line: Line::offered(text.into()), hidden: false, asked }
    }

    pub(in crate::app) fn hidden(title: String, asked: Asked) -> Prompt {
        Prompt { title, line: Line::default(), hidden: true, asked }
    }
}

impl Layer for Prompt {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::Prompt)
    }

    fn takes_text(&self) -> bool {
        true
    }

    fn line(&mut self) -> Option<&mut Line> {
        Some(&mut self.line)
    }

    fn accept(&mut self, app: &mut App) -> After {
        app.status = None;
        let text = self.line.text();
        match self.asked {
            Asked::Row => app.go_to_row_number(text.trim()),
            Asked::Line => app.go_to_line_number(text.trim()),
            Asked::Value => app.give_value(text),
            Asked::Condition => app.narrow(text),
            Asked::RowSearch => app.search_rows(text),
            Asked::CompareKey => app.compare_by(text),
            Asked::Export => app.export(text, false),
            Asked::Secret => app.give_secret(self.line.take()),
            Asked::Answer => app.answer_while_connecting(Some(self.line.take())),
            Asked::Url => app.begin_profile(text),
            Asked::Drawing => app.save_drawing(text, false),
            Asked::Script => app.run_script_file(text),
            Asked::Snippet => app.make_snippet(text),
            Asked::NewBuffer => app.new_buffer(text),
            Asked::Rename => app.rename_buffer(text),
            Asked::CopyBuffer => app.copy_buffer(text),
            Asked::Encoding => app.take_encoding(text),
            Asked::SearchAll => app.search_all(text),
            Asked::Find => app.find(text),
            Asked::Replace => app.replace_all(text),
            Asked::Switch(kind) => app.switch(Switch { kind, to: text.trim().to_owned() }),
        }
        // A mistake keeps what was typed, to be put right; a secret is not kept.
        if !self.hidden && app.status.as_ref().is_some_and(|told| told.wrong) {
            self.line = Line::from(self.line.text());
            return After::Stay;
        }
        After::Close
    }

    fn close(&mut self, app: &mut App) -> After {
        if self.asked == Asked::Answer {
            app.answer_while_connecting(None);
        }
        After::Close
    }
}

impl App {
    fn go_to_line_number(&mut self, text: &str) {
        let rope = self.buffer.document.rope();
        match text.parse::<usize>() {
            Ok(line) if line > 0 => {
                let start = rope.line_to_byte((line - 1).min(rope.len_lines() - 1));
                self.go(Motion::To(start), false);
                self.panes.focus = Scope::Buffer;
            }
            _ => self.tell_wrong(format!("\"{text}\" is not a line number; lines start at 1")),
        }
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
    pub(in crate::app) jobs: Vec<Job>,
    /// What the question is about, where it is about a profile.
    pub(in crate::app) profile: Option<Box<Profile>>,
    /// What the question is about, where it is about a file to export to.
    pub(in crate::app) export: String,
    /// What the question is about, where it is about runs.
    pub(in crate::app) forget: Vec<Entry>,
    /// What the question is about, where it is about a script.
    pub(in crate::app) script: Option<Box<ScriptOrder>>,
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
    /// Read the buffer's file in this form.
    ReadAs(TextForm),
    /// Save the buffer in this form.
    SaveAs(TextForm),
    /// Run the statements.
    Run,
    /// Keep a copy of what they are about, then run them.
    KeepAndRun,
    /// Take the profile out of its file.
    Remove,
    /// Move the buffer's file to the trash.
    RemoveBuffer,
    /// Take the text that another program wrote.
    Reload,
    /// Replace the file that rows are exported to.
    Export,
    /// Replace the file that a drawing is saved to.
    Drawing,
    /// Forget runs.
    Forget,
    /// Run the script.
    Script {
        /// In one transaction.
        whole: bool,
        /// Also after statements that fail.
        keep_going: bool,
    },
    /// Do nothing.
    Nothing,
}

impl Question {
    pub(in crate::app) fn new(text: String, answers: &[(char, &'static str, Answered)]) -> Question {
        Question {
            text,
            about: Vec::new(),
            answers: answers.to_vec(),
            jobs: Vec::new(),
            profile: None,
            export: String::new(),
            forget: Vec::new(),
            script: None,
        }
    }
}

impl Layer for Question {
    fn takes_text(&self) -> bool {
        true
    }

    fn close(&mut self, app: &mut App) -> After {
        app.stop_works(|work| work.kind == Kind::Rules);
        After::Close
    }

    fn type_char(&mut self, c: char, app: &mut App) -> After {
        let Some(answer) = self.answers.iter().find(|(key, ..)| c == *key).map(|(.., answer)| *answer) else {
            return After::Stay;
        };
        app.stop_works(|work| work.kind == Kind::Rules);
        match answer {
            Answered::Leave => app.leave(),
            Answered::SaveAndLeave => {
                if app.buffer.changed_outside() {
                    app.save();
                } else if app.save_anyway() && app.save_shelved() {
                    app.leave();
                }
            }
            Answered::DropAndLeave => {
                app.drop_text();
                app.leave();
            }
            Answered::Overwrite => {
                app.save_anyway();
            }
            Answered::SaveBeside => app.save_beside(),
            Answered::ReadAs(form) => app.read_as(form),
            Answered::SaveAs(form) => app.save_as(form),
            Answered::Run => {
                app.run_confirmed(std::mem::take(&mut self.jobs));
            }
            Answered::KeepAndRun => app.keep_and_run(std::mem::take(&mut self.jobs)),
            Answered::Remove => {
                if let Some(profile) = self.profile.take() {
                    app.remove_profile(&profile);
                }
            }
            Answered::RemoveBuffer => app.remove_buffer(),
            Answered::Reload => app.reload(),
            Answered::Forget => app.forget_runs(std::mem::take(&mut self.forget)),
            Answered::Export => app.export(&self.export, true),
            Answered::Drawing => app.save_drawing(&self.export, true),
            Answered::Script { whole, keep_going } => {
                if let Some(script) = self.script.take() {
                    app.run_script(script, (whole, keep_going));
                }
            }
            Answered::Nothing => {}
        }
        After::Close
    }
}
