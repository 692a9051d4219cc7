//! Buffers: those that are open and those that lie near; making, naming, removing and searching them.

use std::path::{Path, PathBuf};
use std::process::Command;

use jaunty_core::buffers::{self, Hit};
use jaunty_core::connection::load;
use jaunty_language::edit::document::Motion;
use jaunty_language::text::clean;

use super::overlay::prompt::Asked;
use super::{Answered, App, Buffer, Item, Layer, List, Overlay, Pick, Prompt, Question};
use crate::opening::is_large;
use crate::work::{Done, Kind};
use jaunty_core::words;

impl App {
    /// Lists the buffers: those that are open, and, as soon as they are found, files of others.
    pub fn list_buffers(&mut self) {
        let mut list = List::new(BUFFERS, self.open_buffers());
        list.move_by(isize::from(!self.background_buffers.is_empty()));
        self.overlay = Some(Overlay::List(list));
        let shelves = self.shelves();
        self.begin_work(Kind::Files, "looking for buffers".into(), move |_| Done::Files(shelves.files()));
    }

    fn open_buffers(&self) -> Vec<Item> {
        // The one before comes next: it is chosen at once.
        let open = [&self.buffer].into_iter().chain(self.background_buffers.iter().rev());
        open.map(|buffer| item(&buffer.path, state(buffer), buffer.connection.as_deref())).collect()
    }

    pub(super) fn take_files(&mut self, files: &[PathBuf]) {
        let mut items = self.open_buffers();
        let open =
            |path: &Path| path == self.buffer.path || self.background_buffers.iter().any(|buffer| buffer.path == path);
        items.extend(files.iter().filter(|path| !open(path)).map(|path| item(path, "", None)));
        if let Some(list) = self.list_of(BUFFERS) {
            list.renew(items);
        }
    }

    /// Takes up a buffer, on the connection that its statements ran on last. The one in hand stays
    /// open. A large file is read beside the screen first.
    pub(super) fn take_up_buffer(&mut self, path: &Path) {
        self.take_up_buffer_at(path, None);
    }

    /// The same, at a place in it.
    pub(super) fn take_up_buffer_at(&mut self, path: &Path, at: Option<usize>) {
        if self.buffer.path == path {
            return self.go_to_place_in_hand(at);
        }
        if let Some(open) = self.background_buffers.iter().position(|buffer| buffer.path == path) {
            let next = self.background_buffers.remove(open);
            return self.take_up(next, at);
        }
        let journals = self.folders.journals();
        if !is_large(path) {
            return match Buffer::open(path, &journals) {
                Ok(buffer) => self.take_up(buffer, at),
                Err(error) => self.tell_wrong(error.to_string()),
            };
        }
        let path = path.to_owned();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        self.begin_work(Kind::Open, format!("reading {}", clean::clean(&name)), move |_| {
            Done::Opened(Buffer::open(&path, &journals).map(Box::new).map_err(|error| error.to_string()), at)
        });
    }

    pub(super) fn take_up(&mut self, next: Buffer, at: Option<usize>) {
        let before = std::mem::replace(&mut self.buffer, next);
        let here = self.connection.profile.clone();
        self.background_buffers.push(before);
        self.take_in_recovery();
        self.go_where_it_ran(here);
        self.go_to_place_in_hand(at);
    }

    fn go_to_place_in_hand(&mut self, at: Option<usize>) {
        if let Some(at) = at {
            self.go(Motion::To(at), false);
        }
    }

    /// Where files of buffers may lie: in this project, among those of all projects, beside the one in hand.
    fn shelves(&self) -> Shelves {
        let project = self.buffer.path.ancestors().skip(1).map(|folder| folder.join(".jaunty/buffers"));
        Shelves {
            roots: project.chain([self.folders.data.join("buffers")]).collect(),
            beside: self.buffer.path.parent().map(Path::to_owned),
            endings: self.engines.iter().map(|engine| engine.dialect().extension).collect(),
        }
    }

    /// Asks for the name of a new buffer.
    pub fn ask_for_new_buffer(&mut self) {
        self.ask_for_name("new buffer", "", Asked::NewBuffer);
    }

    /// Asks under which other name the buffer is to go on.
    pub fn ask_to_rename(&mut self) {
        let name = self.buffer.name();
        self.ask_for_name("new name", &name, Asked::Rename);
    }

    /// Asks under which name to write the text a second time.
    pub fn ask_to_copy_buffer(&mut self) {
        let name = self.buffer.name();
        self.ask_for_name("name of the copy", &name, Asked::CopyBuffer);
    }

    fn ask_for_name(&mut self, what: &str, name: &str, asked: Asked) {
        let folder = self.buffer.path.parent().map(|folder| folder.display().to_string()).unwrap_or_default();
        let title = format!("{what}, in {}", clean::clean(&folder));
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, asked, name)));
    }

    /// The path of a buffer with this name beside the one in hand; tells why there is none. A name
    /// without an ending gets that of the language.
    fn path_beside(&mut self, name: &str) -> Option<PathBuf> {
        let name = name.trim();
        if let Some(problem) = buffers::name_problem(name) {
            self.tell_wrong(format!("\"{}\" cannot be its name: {problem}", clean::clean(name)));
            return None;
        }
        let extension = self.buffer.document.outline().dialect().extension;
        let name = if Path::new(name).extension().is_some() { name.to_owned() } else { format!("{name}.{extension}") };
        let path = self.buffer.path.with_file_name(name);
        if path.exists() || self.background_buffers.iter().any(|buffer| buffer.path == path) {
            self.tell_wrong(format!("{} already exists", path.display()));
            return None;
        }
        Some(path)
    }

    pub(super) fn new_buffer(&mut self, name: &str) {
        if let Some(path) = self.path_beside(name) {
            self.take_up_buffer(&path);
            self.tell(format!("{} is created when you save", self.buffer.name()));
        }
    }

    pub(super) fn copy_buffer(&mut self, name: &str) {
        let Some(path) = self.path_beside(name) else { return };
        let text = self.buffer.document.rope().to_string();
        self.take_up_buffer(&path);
        self.buffer.document.insert(&text);
        self.buffer.document.go(Motion::Top, false);
        self.save_anyway();
    }

    /// Goes on under another name. The old file goes once the new one is complete.
    pub(super) fn rename_buffer(&mut self, name: &str) {
        if self.leaves_to_editor() {
            return;
        }
        let Some(path) = self.path_beside(name) else { return };
        let old = self.buffer.path.clone();
        if self.buffer.changed_outside() {
            return self.save();
        }
        match self.buffer.move_to(&path, &self.folders.journals()) {
            Ok(()) => {
                let removed = if old.exists() { buffers::remove(&self.folders, &old).map(drop) } else { Ok(()) };
                match removed {
                    Ok(()) => self.tell(format!("renamed to {}", self.buffer.name())),
                    Err(error) => self.tell_wrong(format!(
                        "renamed to {}; {} could not be removed: {error}",
                        self.buffer.name(),
                        old.display()
                    )),
                }
            }
            Err(error) => self.tell_wrong(format!("{} cannot be written: {error}", path.display())),
        }
    }

    /// Asks whether to remove the buffer in hand.
    pub fn ask_to_remove_buffer(&mut self) {
        if self.leaves_to_editor() {
            return;
        }
        let text = format!("Remove {}?", self.buffer.path.display());
        let answers =
            &[('r', "remove it; its file goes to the trash, its runs stay in the logbook", Answered::RemoveBuffer)];
        self.overlay = Some(Overlay::Question(Question::new(text, answers)));
    }

    pub(super) fn remove_buffer(&mut self) {
        // What was typed and not saved goes along.
        if (self.buffer.document.is_unsaved() || !self.buffer.path.exists()) && !self.save_anyway() {
            return;
        }
        let path = self.buffer.path.clone();
        match buffers::remove(&self.folders, &path) {
            Ok(there) => {
                let next = self.background_buffers.last().map(|buffer| buffer.path.clone());
                let next = next.unwrap_or_else(|| path.with_file_name(format!("statements.{}", self.extension())));
                if next == path {
                    self.buffer.begin_anew(&self.folders.journals());
                } else {
                    self.take_up_buffer(&next);
                    self.background_buffers.retain(|buffer| buffer.path != path);
                }
                self.tell(format!("moved to {}", there.display()));
            }
            Err(error) => self.tell_wrong(format!("{} cannot be removed: {error}", path.display())),
        }
    }

    fn extension(&self) -> &'static str {
        self.buffer.document.outline().dialect().extension
    }

    /// Opens the buffer in the text editor that the environment names, at the line of the cursor.
    pub fn edit_outside(&mut self) {
        if self.leaves_to_editor() {
            return;
        }
        // What is on disk is what the editor gets.
        if self.buffer.changed_outside() {
            return self.save();
        }
        if !self.save_anyway() {
            return;
        }
        let (path, line) = (self.buffer.path.clone(), self.buffer.place().0 + 1);
        self.edit_file_outside(&path, line);
    }

    /// Opens a file in that text editor, at a line from 1.
    pub(super) fn edit_file_outside(&mut self, path: &Path, line: usize) {
        let Some(named) = text_editor() else {
            let place = clean::clean(&path.display().to_string()).into_owned();
            return self.tell_wrong(format!("no text editor for {place}: set VISUAL or EDITOR before starting"));
        };
        let mut words = named.split_whitespace();
        let program = words.next().unwrap_or_default();
        let mut editor = Command::new(program);
        editor.args(words);
        // Others would take it for a file.
        if takes_line(program) {
            editor.arg(format!("+{line}"));
        }
        editor.arg(path);
        self.editor = Some(editor);
    }

    /// Takes in what the editor has written.
    pub fn back_from_editor(&mut self, outcome: std::io::Result<std::process::ExitStatus>) {
        match outcome {
            Ok(status) if !status.success() => self.tell_wrong(format!("the editor ended with {status}")),
            Ok(_) => self.tell("back from the editor"),
            Err(error) => self.tell_wrong(format!("the editor cannot be started: {error}; set VISUAL or EDITOR")),
        }
        self.take_value_from_outside();
        self.take_in_changes();
        // It may have been a connections file.
        self.know(load(&self.connections_files(), self.engines));
    }

    /// Asks what to find in all buffers.
    pub fn ask_to_search_all(&mut self) {
        let title = "find a regular expression in all buffers, of this project and of all projects".to_owned();
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::SearchAll, self.sought.as_str())));
    }

    pub(super) fn search_all(&mut self, pattern: &str) {
        self.sought = pattern.to_owned();
        let (shelves, pattern) = (self.shelves(), pattern.to_owned());
        self.begin_work(Kind::Find, format!("looking for \"{pattern}\""), move |progress| {
            let files = shelves.files();
            progress.expect(files.len() as u64);
            let wanted = files.iter().take_while(|_| progress.advance(1).is_ok());
            let found = buffers::search(wanted, &pattern).map_err(|error| error.to_string());
            Done::Found(found.and_then(|hits| match hits.is_empty() {
                true => Err(format!("no match for \"{pattern}\" in saved buffers")),
                false => Ok(hits),
            }))
        });
    }

    pub(super) fn list_hits(&mut self, hits: Vec<Hit>) {
        let found = words::count(hits.len() as u64, "line");
        let items = hits.into_iter().map(|hit| Item {
            label: clean::clean(&hit.text).into_owned(),
            key: format!("line {}", hit.line),
            help: clean::clean(&hit.path.display().to_string()).into_owned(),
            pick: Pick::PlaceIn(hit.path, hit.at),
        });
        self.overlay = Some(Overlay::List(List::new("lines", items.collect())));
        self.tell(found);
    }
}

/// Whether a text editor is known to go to the line of an argument `+LINE` before the file.
fn takes_line(program: &str) -> bool {
    const EDITORS: &[&str] =
        &["ed", "emacs", "emacsclient", "ex", "jed", "joe", "mg", "nano", "ne", "nvim", "pico", "vi", "view", "vim"];
    let name = Path::new(program).file_name().unwrap_or_default().to_string_lossy();
    EDITORS.contains(&name.as_ref())
}

/// The title of the list of buffers.
const BUFFERS: &str = "buffers";

/// Where files of buffers may lie.
struct Shelves {
    roots: Vec<PathBuf>,
    /// The folder in hand, of which only what lies directly in it counts: it may be a person's whole home.
    beside: Option<PathBuf>,
    endings: Vec<&'static str>,
}

impl Shelves {
    fn files(&self) -> Vec<PathBuf> {
        let mut files = buffers::files(&self.roots, &self.endings);
        let beside = self.beside.iter().flat_map(std::fs::read_dir).flatten().flatten();
        let fits = |path: &PathBuf| path.extension().is_some_and(|e| self.endings.iter().any(|ending| e == *ending));
        files.extend(beside.map(|entry| entry.path()).filter(fits));
        files.sort();
        files.dedup();
        files
    }
}

fn item(path: &Path, state: &str, connection: Option<&str>) -> Item {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let folder = path.parent().map(|folder| folder.display().to_string()).unwrap_or_default();
    Item {
        label: clean::clean(&name).into_owned(),
        key: state.to_owned(),
        help: format!("{}{}", connection.map(|name| format!("on {name}  ")).unwrap_or_default(), clean::clean(&folder)),
        pick: Pick::Buffer(path.to_owned()),
    }
}

fn state(buffer: &Buffer) -> &'static str {
    if buffer.document.is_unsaved() { "unsaved" } else { "open" }
}

/// The text editor that a person has named.
pub(super) fn text_editor() -> Option<String> {
    let named = |name: &&str| std::env::var(name).ok().filter(|value| !value.trim().is_empty());
    ["VISUAL", "EDITOR"].iter().find_map(named)
}
