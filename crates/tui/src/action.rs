//! Everything a person can ask for, declared once: its name in files, its title, one line of help,
//! where it counts, its keys, and what it does. The action list, the help, the hints in the last
//! line, the keys file and the documentation are all made from this table.

use jaunty_core::text::document::Motion;

use crate::app::App;

/// Where an action's keys count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Scope {
    /// Wherever the focus is.
    Everywhere,
    /// In the buffer.
    Buffer,
    /// In the result.
    Result,
    /// Where something is proposed.
    Offer,
}

/// One action.
pub struct Action {
    /// Its name in `settings.toml`.
    pub name: &'static str,
    /// What it is called on the screen.
    pub title: &'static str,
    /// One line of help.
    pub help: &'static str,
    /// The heading it stands under.
    pub group: &'static str,
    /// Where its keys count.
    pub scope: Scope,
    /// Its default keys.
    pub keys: &'static [&'static str],
    /// What it does.
    pub act: fn(&mut App),
}

impl std::fmt::Debug for Action {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

/// An action by its name.
pub fn by_name(name: &str) -> Option<&'static Action> {
    ACTIONS.iter().find(|action| action.name == name)
}

/// A row of the table.
macro_rules! action {
    ($group:literal, $scope:ident, $name:literal, $title:literal, [$($key:literal),*], $help:literal, $act:expr) => {
        Action { name: $name, title: $title, help: $help, group: $group, scope: Scope::$scope, keys: &[$($key),*], act: $act }
    };
}

/// All actions, in the order in which they are listed.
pub static ACTIONS: &[Action] = &[
    action!(
        "Running",
        Everywhere,
        "run-statement",
        "run",
        ["ctrl-r"],
        "Run the statement at the cursor, or those that are selected",
        App::run_statement
    ),
    action!(
        "Running",
        Everywhere,
        "run-all",
        "run all",
        ["ctrl-e"],
        "Run every statement of the buffer, one after the other, up to the first error",
        App::run_all
    ),
    action!(
        "Running",
        Everywhere,
        "back",
        "stop or step back",
        ["esc"],
        "Stop what runs (its rows stay); else drop the selection, or leave the result",
        App::back
    ),
    action!(
        "Moving around",
        Everywhere,
        "actions",
        "list of actions",
        ["ctrl-l"],
        "Find any action by typing part of its name",
        App::list_actions
    ),
    action!("Moving around", Everywhere, "help", "help", ["f2"], "Show all keys", App::show_help),
    action!(
        "Moving around",
        Everywhere,
        "other-pane",
        "other pane",
        ["ctrl-t"],
        "Go from the buffer to the result, or back",
        App::other_pane
    ),
    action!(
        "Moving around",
        Everywhere,
        "fill",
        "fill the screen",
        ["ctrl-w"],
        "Let this pane fill the screen, or share it again",
        App::fill
    ),
    action!("Moving around", Everywhere, "divider-back", "divider back", ["f7"], "Make the buffer smaller", |app| app
        .move_divider(-5)),
    action!("Moving around", Everywhere, "divider-on", "divider on", ["f8"], "Make the buffer larger", |app| app
        .move_divider(5)),
    action!(
        "Moving around",
        Everywhere,
        "connections",
        "connections",
        ["f3"],
        "Choose the connection that statements run on",
        App::list_connections
    ),
    action!(
        "Moving around",
        Everywhere,
        "new-connection",
        "new connection",
        [],
        "Write a connection into the file, from a URL or field by field",
        App::ask_for_url
    ),
    action!(
        "Moving around",
        Everywhere,
        "go-to-database",
        "go to database",
        ["f4"],
        "Go to another database on this connection",
        App::choose_database
    ),
    action!(
        "Moving around",
        Everywhere,
        "go-to-schema",
        "go to schema",
        ["f5"],
        "Choose the schema that plain names are looked up in",
        App::choose_schema
    ),
    action!(
        "Moving around",
        Everywhere,
        "take-role",
        "take on a role",
        [],
        "Choose the role whose rights count from now on",
        App::choose_role
    ),
    action!(
        "Moving around",
        Everywhere,
        "let-go",
        "close the connection",
        [],
        "Close the connection of this buffer",
        App::let_go
    ),
    action!(
        "Moving around",
        Everywhere,
        "buffers",
        "buffers",
        ["ctrl-b"],
        "Go to another buffer, on the connection it ran on last",
        App::list_buffers
    ),
    action!(
        "Moving around",
        Everywhere,
        "logbook",
        "logbook",
        ["alt-l"],
        "Find any run of any connection, open its kept rows, put its statement back",
        App::open_logbook
    ),
    action!(
        "Moving around",
        Everywhere,
        "hold",
        "hold the result",
        ["alt-h"],
        "Keep this result in sight, and in the strip, wherever the cursor goes; or let it go",
        App::hold
    ),
    action!(
        "Moving around",
        Result,
        "place-beside",
        "place beside",
        ["t"],
        "Place this result to the left and another one beside it, or go back to one",
        App::place_beside
    ),
    action!(
        "Moving around",
        Result,
        "link",
        "scroll together",
        ["l"],
        "Let two results scroll together, so far apart as they are, or each for itself",
        App::link
    ),
    action!(
        "Moving around",
        Everywhere,
        "catalog",
        "catalog",
        ["ctrl-o"],
        "Walk through what the database holds: schemas, objects, their shape and first rows",
        App::walk_catalog
    ),
    action!(
        "Moving around",
        Everywhere,
        "reveal",
        "reveal",
        ["f9"],
        "Show the table at the cursor, or of the column: its shape, rows, what its keys lead to",
        App::reveal
    ),
    action!(
        "Moving around",
        Everywhere,
        "tables",
        "tables",
        [],
        "Find a table or view by typing part of its name, and look at its rows",
        App::list_objects
    ),
    action!(
        "Statements",
        Buffer,
        "next-problem",
        "next problem",
        ["alt-n"],
        "Go to the next thing that is marked as wrong",
        App::next_problem
    ),
    action!(
        "Statements",
        Everywhere,
        "problems",
        "problems",
        ["alt-p"],
        "List what is marked as wrong in the buffer",
        App::list_problems
    ),
    action!(
        "Statements",
        Everywhere,
        "explain",
        "what is this?",
        ["ctrl-k"],
        "Say what is known of the word at the cursor: keyword, function, table, column, alias",
        App::explain
    ),
    action!(
        "Moving around",
        Everywhere,
        "theme",
        "other theme",
        [],
        "Change between lamplight (dark) and foolscap (light)",
        App::other_theme
    ),
    action!(
        "Moving around",
        Everywhere,
        "quit",
        "quit",
        ["ctrl-q"],
        "Leave, after asking what to do with unsaved text",
        App::ask_to_quit
    ),
    action!(
        "Rows",
        Everywhere,
        "rows-on",
        "rows on",
        ["ctrl-d"],
        "Next page of rows, from wherever the focus is",
        |app| app.page_by(1)
    ),
    action!("Rows", Everywhere, "rows-back", "rows back", ["ctrl-u"], "Page of rows before", |app| app.page_by(-1)),
    action!(
        "Rows",
        Everywhere,
        "go-to-row",
        "go to row",
        ["ctrl-g"],
        "Go to a row by its number, or by how far down it is, as 50 %",
        App::ask_for_row
    ),
    action!("Rows", Result, "page-on", "next page", ["pagedown", "space"], "Next page", |app| app.page_by(1)),
    action!("Rows", Result, "page-back", "page before", ["pageup", "b"], "Page before", |app| app.page_by(-1)),
    action!("Rows", Result, "half-page-on", "half a page on", ["d"], "Half a page on", |app| app.half_page_by(1)),
    action!("Rows", Result, "half-page-back", "half a page back", ["e"], "Half a page back", |app| app
        .half_page_by(-1)),
    action!("Rows", Result, "first-row", "first row", ["<", "ctrl-home"], "First row", App::first_row),
    action!("Rows", Result, "last-row", "last row", [">", "ctrl-end"], "Last row that has been fetched", App::last_row),
    action!("Rows", Result, "next-result", "next result", ["."], "Next result of those in the strip", |app| app
        .other_result(1)),
    action!("Rows", Result, "result-before", "result before", [","], "The result before it in the strip", |app| app
        .other_result(-1)),
    action!("Rows", Result, "row-up", "row up", ["up"], "One row up", |app| app.move_row(-1)),
    action!("Rows", Result, "row-down", "row down", ["down"], "One row down", |app| app.move_row(1)),
    action!("Rows", Result, "column-back", "column back", ["left"], "One column to the left", |app| app
        .move_column(-1)),
    action!("Rows", Result, "column-on", "column on", ["right"], "One column to the right", |app| app.move_column(1)),
    action!("Rows", Result, "first-column", "first column", ["home"], "First column", |app| app
        .move_column(isize::MIN)),
    action!("Rows", Result, "last-column", "last column", ["end"], "Last column", |app| app.move_column(isize::MAX)),
    action!(
        "Rows",
        Result,
        "keep-columns",
        "keep columns",
        ["k"],
        "Keep the columns up to this one in sight while moving right, or let them go",
        App::keep_columns
    ),
    action!("Rows", Result, "hide-column", "hide column", ["h"], "Hide this column", App::hide_column),
    action!(
        "Rows",
        Result,
        "all-columns",
        "all columns",
        ["H"],
        "Show all columns in their own order and width",
        App::all_columns
    ),
    action!(
        "Rows",
        Result,
        "columns",
        "columns",
        ["j"],
        "Go to a column by typing part of its name",
        App::list_columns
    ),
    action!("Rows", Result, "wider", "wider", ["+"], "Make this column wider", |app| app.widen_column(4)),
    action!("Rows", Result, "narrower", "narrower", ["-"], "Make this column narrower", |app| app.widen_column(-4)),
    action!("Rows", Result, "column-earlier", "column to the left", ["["], "Move this column to the left", |app| app
        .shift_column(-1)),
    action!("Rows", Result, "column-later", "column to the right", ["]"], "Move this column to the right", |app| app
        .shift_column(1)),
    action!(
        "Rows",
        Result,
        "show-row",
        "whole row",
        ["enter"],
        "Show this row with its names down the side",
        App::show_row
    ),
    action!("Rows", Result, "show-value", "whole value", ["v"], "Show this value alone", App::show_value),
    action!(
        "Rows",
        Result,
        "facts",
        "column facts",
        ["i"],
        "Say what this column holds: how many values, least, most, mean, the most frequent",
        App::column_facts
    ),
    action!(
        "Order and choice",
        Result,
        "sort",
        "sort",
        ["s"],
        "Sort by this column: up, down, and as the rows came",
        App::sort
    ),
    action!(
        "Order and choice",
        Result,
        "sort-further",
        "sort further",
        ["S"],
        "Sort by this column too, where the others are equal",
        App::sort_further
    ),
    action!(
        "Order and choice",
        Result,
        "narrow",
        "narrow",
        ["n"],
        "Keep the rows whose value in this column fulfils a condition",
        App::ask_for_condition
    ),
    action!(
        "Order and choice",
        Result,
        "only-this",
        "only this value",
        ["="],
        "Keep the rows with this value",
        |app| app.narrow_to_value(false)
    ),
    action!(
        "Order and choice",
        Result,
        "without-this",
        "without this value",
        ["!"],
        "Keep the rows with another value than this",
        |app| app.narrow_to_value(true)
    ),
    action!(
        "Order and choice",
        Result,
        "search-rows",
        "search rows",
        ["/"],
        "Keep the rows that hold a text in any column",
        App::ask_for_search
    ),
    action!(
        "Order and choice",
        Result,
        "undo-arranging",
        "take back",
        ["u"],
        "Take the last sorting or narrowing back",
        App::undo_arranging
    ),
    action!(
        "Order and choice",
        Result,
        "original-order",
        "rows as they came",
        ["o"],
        "Show all rows in their own order",
        App::original_order
    ),
    action!(
        "Order and choice",
        Result,
        "write-arrangement",
        "as a statement",
        ["w"],
        "Put the statement that asks the server for the same rows into the buffer",
        App::write_arrangement
    ),
    action!(
        "Copying",
        Result,
        "mark",
        "mark",
        ["m"],
        "Mark cells from here on; again: whole rows, whole columns, nothing",
        App::mark
    ),
    action!("Copying", Result, "mark-all", "mark all", ["ctrl-a"], "Mark everything", App::mark_all),
    action!("Copying", Result, "mark-up", "mark up", ["shift-up"], "Stretch what is marked up", |app| app
        .stretch(-1, 0)),
    action!("Copying", Result, "mark-down", "mark down", ["shift-down"], "Stretch what is marked down", |app| app
        .stretch(1, 0)),
    action!("Copying", Result, "mark-left", "mark left", ["shift-left"], "Stretch what is marked to the left", |app| {
        app.stretch(0, -1)
    }),
    action!(
        "Copying",
        Result,
        "mark-right",
        "mark right",
        ["shift-right"],
        "Stretch what is marked to the right",
        |app| app.stretch(0, 1)
    ),
    action!(
        "Copying",
        Result,
        "copy-cells",
        "copy",
        ["ctrl-c", "c"],
        "Copy what is marked, or the whole value of the cell",
        App::copy_cells
    ),
    action!(
        "Copying",
        Result,
        "copy-as",
        "copy as",
        ["y"],
        "Copy what is marked, or the row, as CSV, JSON, Markdown, INSERT, a list …",
        App::list_copies
    ),
    action!(
        "Copying",
        Result,
        "put-as",
        "put into the buffer",
        ["p"],
        "Put what is marked, or the row, into the buffer at its cursor, in a format",
        App::list_puts
    ),
    action!(
        "Copying",
        Everywhere,
        "export",
        "export",
        ["alt-x"],
        "Write the result, or what is marked, to a file: CSV, JSON, XLSX, Parquet …",
        App::ask_for_export
    ),
    action!(
        "Rows",
        Result,
        "follow-row",
        "follow key",
        ["f"],
        "Go to the row that this value points at, or to the rows that point at it",
        App::follow_row
    ),
    action!(
        "Rows",
        Result,
        "follow-back",
        "follow back",
        ["r"],
        "Go back to the rows that you came from",
        App::follow_back
    ),
    action!(
        "Rows",
        Result,
        "go-to-statement",
        "its statement",
        ["g"],
        "Go to the statement of this result",
        App::go_to_statement
    ),
    action!("Rows", Result, "to-buffer", "to the buffer", ["tab"], "Go back to the buffer", App::other_pane),
    action!(
        "Statements",
        Buffer,
        "next-statement",
        "next statement",
        ["ctrl-n"],
        "Go to the next statement and its rows",
        |app| app.go(Motion::NextStatement, false)
    ),
    action!(
        "Statements",
        Buffer,
        "previous-statement",
        "statement before",
        ["ctrl-p"],
        "Go to the statement before and its rows",
        |app| app.go(Motion::PreviousStatement, false)
    ),
    action!("Buffer", Everywhere, "save", "save", ["ctrl-s"], "Save the buffer", App::save),
    action!("Buffer", Buffer, "undo", "undo", ["ctrl-z"], "Take the last change back", App::undo),
    action!("Buffer", Buffer, "redo", "redo", ["ctrl-y"], "Do again what was taken back", App::redo),
    action!("Buffer", Buffer, "cut", "cut", ["ctrl-x"], "Cut the selection, or the line", App::cut),
    action!("Buffer", Buffer, "copy", "copy", ["ctrl-c"], "Copy the selection, or the line", App::copy),
    action!(
        "Buffer",
        Buffer,
        "paste",
        "paste",
        ["ctrl-v"],
        "Put in what was cut or copied here; the terminal's own paste works too",
        App::paste
    ),
    action!("Buffer", Buffer, "select-all", "select all", ["ctrl-a"], "Select the whole buffer", App::select_all),
    action!(
        "Buffer",
        Buffer,
        "find",
        "find",
        ["ctrl-f"],
        "Find a regular expression in the buffer",
        App::ask_for_pattern
    ),
    action!(
        "Buffer",
        Buffer,
        "find-next",
        "find next",
        ["alt-f"],
        "Go to the next place that was found",
        App::find_next
    ),
    action!(
        "Buffer",
        Buffer,
        "replace",
        "replace",
        ["alt-r"],
        "Replace a regular expression in the selection or the buffer",
        App::ask_to_replace
    ),
    action!(
        "Buffer",
        Buffer,
        "comment-lines",
        "comment",
        ["alt-c"],
        "Make lines comments, or no comments any more",
        App::comment_lines
    ),
    action!(
        "Buffer",
        Buffer,
        "outdent",
        "lines left",
        ["backtab"],
        "Move lines a step to the left",
        App::outdent_lines
    ),
    action!(
        "Buffer",
        Buffer,
        "duplicate",
        "write twice",
        ["alt-t"],
        "Write the selection or the line a second time",
        App::duplicate
    ),
    action!("Buffer", Buffer, "lines-above", "lines up", ["alt-up"], "Exchange lines with the one above", |app| app
        .shift_lines(false)),
    action!("Buffer", Buffer, "lines-below", "lines down", ["alt-down"], "Exchange lines with the one below", |app| {
        app.shift_lines(true)
    }),
    action!(
        "Buffer",
        Buffer,
        "partner",
        "other parenthesis",
        ["alt-m"],
        "Go to the parenthesis that belongs to the one at the cursor",
        App::go_to_partner
    ),
    action!(
        "Statements",
        Buffer,
        "outline",
        "statements",
        ["alt-o"],
        "Find a statement of the buffer by its title or text, and go there",
        App::list_outline
    ),
    action!(
        "Statements",
        Buffer,
        "make-snippet",
        "make a snippet",
        [],
        "Keep the selection, or the statement, under a name that proposes it from now on",
        App::ask_for_snippet_name
    ),
    action!(
        "Statements",
        Buffer,
        "format",
        "format",
        ["alt-q"],
        "Write the statement at the cursor anew, a clause a line",
        App::format_statement
    ),
    action!("Buffer", Buffer, "go-to-line", "go to line", ["f6"], "Go to a line by its number", App::ask_for_line),
    action!(
        "Buffers",
        Everywhere,
        "new-buffer",
        "new buffer",
        [],
        "Begin another buffer beside this one",
        App::ask_for_new_buffer
    ),
    action!(
        "Buffers",
        Everywhere,
        "rename-buffer",
        "rename buffer",
        [],
        "Go on under another name",
        App::ask_to_rename
    ),
    action!(
        "Buffers",
        Everywhere,
        "copy-buffer",
        "copy buffer",
        [],
        "Write the text a second time, under another name",
        App::ask_to_copy_buffer
    ),
    action!(
        "Buffers",
        Everywhere,
        "remove-buffer",
        "remove buffer",
        [],
        "Move the buffer's file to the trash, after asking",
        App::ask_to_remove_buffer
    ),
    action!(
        "Buffers",
        Everywhere,
        "edit-outside",
        "text editor",
        ["alt-e"],
        "Open the buffer in your own text editor ($VISUAL or $EDITOR), and come back",
        App::edit_outside
    ),
    action!(
        "Buffers",
        Everywhere,
        "search-buffers",
        "find in all buffers",
        ["alt-b"],
        "Find a regular expression in all buffers, of this project and of all projects",
        App::ask_to_search_all
    ),
    action!("Writing", Buffer, "left", "left", ["left"], "One character back", |app| app.go(Motion::Left, false)),
    action!("Writing", Buffer, "right", "right", ["right"], "One character on", |app| app.go(Motion::Right, false)),
    action!("Writing", Buffer, "up", "up", ["up"], "One line up", |app| app.go(Motion::Up(1), false)),
    action!("Writing", Buffer, "down", "down", ["down"], "One line down", |app| app.go(Motion::Down(1), false)),
    action!(
        "Writing",
        Buffer,
        "word-left",
        "word back",
        ["ctrl-left", "alt-left"],
        "To the beginning of the word",
        |app| app.go(Motion::WordLeft, false)
    ),
    action!("Writing", Buffer, "word-right", "word on", ["ctrl-right", "alt-right"], "To the end of the word", |app| {
        app.go(Motion::WordRight, false)
    }),
    action!("Writing", Buffer, "line-home", "line's beginning", ["home"], "To the beginning of the line", |app| app
        .go(Motion::LineHome, false)),
    action!("Writing", Buffer, "line-end", "line's end", ["end"], "To the end of the line", |app| app
        .go(Motion::LineEnd, false)),
    action!("Writing", Buffer, "lines-up", "page up", ["pageup"], "A screen of text up", |app| app.go_pages(-1)),
    action!("Writing", Buffer, "lines-down", "page down", ["pagedown"], "A screen of text down", |app| app.go_pages(1)),
    action!("Writing", Buffer, "top", "top", ["ctrl-home"], "To the beginning of the buffer", |app| app
        .go(Motion::Top, false)),
    action!("Writing", Buffer, "bottom", "bottom", ["ctrl-end"], "To the end of the buffer", |app| app
        .go(Motion::Bottom, false)),
    action!("Writing", Buffer, "select-left", "select left", ["shift-left"], "Stretch the selection back", |app| app
        .go(Motion::Left, true)),
    action!("Writing", Buffer, "select-right", "select right", ["shift-right"], "Stretch the selection on", |app| app
        .go(Motion::Right, true)),
    action!("Writing", Buffer, "select-up", "select up", ["shift-up"], "Stretch the selection a line up", |app| app
        .go(Motion::Up(1), true)),
    action!(
        "Writing",
        Buffer,
        "select-down",
        "select down",
        ["shift-down"],
        "Stretch the selection a line down",
        |app| app.go(Motion::Down(1), true)
    ),
    action!(
        "Writing",
        Buffer,
        "select-word-left",
        "select word back",
        ["ctrl-shift-left"],
        "Stretch the selection a word back",
        |app| app.go(Motion::WordLeft, true)
    ),
    action!(
        "Writing",
        Buffer,
        "select-word-right",
        "select word on",
        ["ctrl-shift-right"],
        "Stretch the selection a word on",
        |app| app.go(Motion::WordRight, true)
    ),
    action!(
        "Writing",
        Buffer,
        "select-home",
        "select to the beginning",
        ["shift-home"],
        "Stretch the selection to the line's beginning",
        |app| app.go(Motion::LineHome, true)
    ),
    action!(
        "Writing",
        Buffer,
        "select-end",
        "select to the end",
        ["shift-end"],
        "Stretch the selection to the line's end",
        |app| app.go(Motion::LineEnd, true)
    ),
    action!("Writing", Buffer, "new-line", "new line", ["enter"], "Begin a line", App::new_line),
    action!(
        "Writing",
        Buffer,
        "tab",
        "propose or indent",
        ["tab"],
        "Go to the next place to fill in; behind a word, propose how it goes on; else indent",
        App::tab
    ),
    action!(
        "Writing",
        Buffer,
        "propose",
        "propose",
        ["ctrl-space"],
        "Propose what could be written here",
        App::propose
    ),
    action!("Proposals", Offer, "take-proposal", "take it", ["tab"], "Put the chosen proposal in", App::take_proposal),
    action!(
        "Proposals",
        Offer,
        "take-or-new-line",
        "take what was moved to",
        ["enter"],
        "Put the proposal in that was moved to; begin a line if none was",
        App::take_or_new_line
    ),
    action!("Proposals", Offer, "proposal-down", "next proposal", ["down"], "Next proposal", |app| app
        .choose_proposal(1)),
    action!("Proposals", Offer, "proposal-up", "proposal before", ["up"], "Proposal before", |app| app
        .choose_proposal(-1)),
    action!("Proposals", Offer, "proposal-page-down", "proposals on", ["pagedown"], "Eight proposals on", |app| app
        .choose_proposal(8)),
    action!("Proposals", Offer, "proposal-page-up", "proposals back", ["pageup"], "Eight proposals back", |app| app
        .choose_proposal(-8)),
    action!("Proposals", Offer, "close-offer", "write on", ["esc"], "Close the proposals", App::close_offer),
    action!(
        "Writing",
        Buffer,
        "delete-left",
        "delete back",
        ["backspace", "ctrl-h"],
        "Delete the character before, or the selection",
        |app| app.delete(Motion::Left)
    ),
    action!(
        "Writing",
        Buffer,
        "delete-right",
        "delete",
        ["delete"],
        "Delete the character after, or the selection",
        |app| app.delete(Motion::Right)
    ),
    action!(
        "Writing",
        Buffer,
        "delete-word-left",
        "delete word back",
        ["alt-backspace"],
        "Delete to the beginning of the word",
        |app| app.delete(Motion::WordLeft)
    ),
    action!(
        "Writing",
        Buffer,
        "delete-word-right",
        "delete word",
        ["ctrl-delete", "alt-d"],
        "Delete to the end of the word",
        |app| app.delete(Motion::WordRight)
    ),
];

/// The table as a Markdown document.
pub fn markdown() -> String {
    let mut text = String::from(
        "# Keys\n\nMade from the action table by `jaunty keys --markdown`. Every action can also be found by part of its name in the list of actions. `settings.toml` binds other keys, by the names in the last column:\n\n```toml\n[keys]\nrun-statement = [\"ctrl-r\", \"f4\"]\n```\n\nIn a line that is filled in (a prompt, a field, what narrows a list) these edit: `left` `right` `home` `end`, `ctrl-left` `ctrl-right` by word, `backspace` `delete`, `alt-backspace` `alt-d` by word. In lists that have other uses for some of them, those come first.\n",
    );
    let mut group = "";
    for action in ACTIONS {
        if action.group != group {
            group = action.group;
            text.push_str(&format!(
                "\n## {group}\n\n| keys | what it does | where | name |\n| --- | --- | --- | --- |\n"
            ));
        }
        let keys: Vec<_> = action.keys.iter().map(|key| format!("`{key}`")).collect();
        let place = match action.scope {
            Scope::Everywhere => "everywhere",
            Scope::Buffer => "buffer",
            Scope::Result => "result",
            Scope::Offer => "proposals",
        };
        text.push_str(&format!("| {} | {} | {place} | `{}` |\n", keys.join(" "), action.help, action.name));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_unique_and_help_is_one_line() {
        let mut names: Vec<_> = ACTIONS.iter().map(|a| a.name).collect();
        names.sort_unstable();
        let all = names.len();
        names.dedup();
        assert_eq!(names.len(), all);
        for action in ACTIONS {
            assert!(action.help.len() < 90 && !action.help.ends_with('.'), "{}", action.name);
        }
    }
}
