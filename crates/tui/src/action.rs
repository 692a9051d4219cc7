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

/// Declares the table: under each heading, where an action counts, its name in files, its title, its keys, its
/// line of help and what it does.
macro_rules! actions {
    ($($group:literal { $($scope:ident $name:literal $title:literal [$($key:literal),*] $help:literal => $act:expr;)* })*) => {
        /// All actions, in the order in which they are listed.
        pub static ACTIONS: &[Action] = &[$($(Action {
            name: $name,
            title: $title,
            help: $help,
            group: $group,
            scope: Scope::$scope,
            keys: &[$($key),*],
            act: $act,
        }),*),*];
    };
}

actions! {
    "Running" {
        Everywhere "run-statement" "run" ["ctrl-r"]
            "Run the statement at the cursor, or those that are selected" => App::run_statement;
        Everywhere "run-all" "run all" ["ctrl-e"]
            "Run every statement of the buffer, one after the other, up to the first error" => App::run_all;
        Everywhere "back" "stop or step back" ["esc"]
            "Stop what runs (its rows stay); else drop the selection, or leave the result" => App::back;
        Everywhere "logbook" "logbook" ["alt-l"]
            "Find any run of any connection, open its kept rows, put its statement back" => App::open_logbook;
    }

    "Moving around" {
        Everywhere "actions" "list of actions" ["ctrl-l"]
            "Find any action by typing part of its name" => App::list_actions;
        Everywhere "help" "help" ["f2"]
            "Show all keys" => App::show_help;
        Everywhere "other-pane" "other pane" ["ctrl-t"]
            "Go from the buffer to the result, or back" => App::other_pane;
        Everywhere "fill" "fill the screen" ["ctrl-w"]
            "Let this pane fill the screen, or share it again" => App::fill;
        Everywhere "divider-back" "divider back" ["f7"]
            "Make the buffer smaller" => |app| app.move_divider(-5);
        Everywhere "divider-on" "divider on" ["f8"]
            "Make the buffer larger" => |app| app.move_divider(5);
        Everywhere "theme" "other theme" []
            "Change between lamplight (dark) and foolscap (light)" => App::other_theme;
        Everywhere "quit" "quit" ["ctrl-q"]
            "Leave, after asking what to do with unsaved text" => App::ask_to_quit;
    }

    "Connections" {
        Everywhere "connections" "connections" ["f3"]
            "Choose the connection that statements run on" => App::list_connections;
        Everywhere "new-connection" "new connection" []
            "Write a connection into the file, from a URL or field by field" => App::ask_for_url;
        Everywhere "go-to-database" "go to database" ["f4"]
            "Go to another database on this connection" => App::choose_database;
        Everywhere "go-to-schema" "go to schema" ["f5"]
            "Choose the schema that plain names are looked up in" => App::choose_schema;
        Everywhere "take-role" "take on a role" []
            "Choose the role whose rights count from now on" => App::choose_role;
        Everywhere "let-go" "close the connection" []
            "Close the connection of this buffer" => App::let_go;
    }

    "Catalog" {
        Everywhere "catalog" "catalog" ["ctrl-o"]
            "Walk through what the database holds: schemas, objects, their shape and first rows" => App::walk_catalog;
        Everywhere "reveal" "reveal" ["f9"]
            "Show the table at the cursor, or of the column: its shape, rows, what its keys lead to" => App::reveal;
        Everywhere "tables" "tables" []
            "Find a table or view by typing part of its name, and look at its rows" => App::list_objects;
        Everywhere "explain" "what is this?" ["ctrl-k"]
            "Say what is known of the word at the cursor: keyword, function, table, column, alias" => App::explain;
    }

    "Rows" {
        Everywhere "rows-on" "rows on" ["ctrl-d"]
            "Next page of rows, from wherever the focus is" => |app| app.page_by(1);
        Everywhere "rows-back" "rows back" ["ctrl-u"]
            "Page of rows before" => |app| app.page_by(-1);
        Everywhere "go-to-row" "go to row" ["ctrl-g"]
            "Go to a row by its number, or by how far down it is, as 50 %" => App::ask_for_row;
        Result "page-on" "next page" ["pagedown", "space"]
            "Next page" => |app| app.page_by(1);
        Result "page-back" "page before" ["pageup", "b"]
            "Page before" => |app| app.page_by(-1);
        Result "half-page-on" "half a page on" ["d"]
            "Half a page on" => |app| app.half_page_by(1);
        Result "half-page-back" "half a page back" ["e"]
            "Half a page back" => |app| app.half_page_by(-1);
        Result "first-row" "first row" ["<", "ctrl-home"]
            "First row" => App::first_row;
        Result "last-row" "last row" [">", "ctrl-end"]
            "Last row that has been fetched" => App::last_row;
        Result "row-up" "row up" ["up"]
            "One row up" => |app| app.move_row(-1);
        Result "row-down" "row down" ["down"]
            "One row down" => |app| app.move_row(1);
        Result "column-back" "column back" ["left"]
            "One column to the left" => |app| app.move_column(-1);
        Result "column-on" "column on" ["right"]
            "One column to the right" => |app| app.move_column(1);
        Result "first-column" "first column" ["home"]
            "First column" => |app| app.move_column(isize::MIN);
        Result "last-column" "last column" ["end"]
            "Last column" => |app| app.move_column(isize::MAX);
        Result "keep-columns" "keep columns" ["k"]
            "Keep the columns up to this one in sight while moving right, or let them go" => App::keep_columns;
        Result "hide-column" "hide column" ["h"]
            "Hide this column" => App::hide_column;
        Result "all-columns" "all columns" ["H"]
            "Show all columns in their own order and width" => App::all_columns;
        Result "columns" "columns" ["j"]
            "Go to a column by typing part of its name" => App::list_columns;
        Result "wider" "wider" ["+"]
            "Make this column wider" => |app| app.widen_column(4);
        Result "narrower" "narrower" ["-"]
            "Make this column narrower" => |app| app.widen_column(-4);
        Result "column-earlier" "column to the left" ["["]
            "Move this column to the left" => |app| app.shift_column(-1);
        Result "column-later" "column to the right" ["]"]
            "Move this column to the right" => |app| app.shift_column(1);
        Result "show-row" "whole row" ["enter"]
            "Show this row with its names down the side" => App::show_row;
        Result "show-value" "whole value" ["v"]
            "Show this value alone" => App::show_value;
        Result "facts" "column facts" ["i"]
            "Say what this column holds: how many values, least, most, mean, the most frequent" => App::column_facts;
        Result "follow-row" "follow key" ["f"]
            "Go to the row that this value points at, or to the rows that point at it" => App::follow_row;
        Result "follow-back" "follow back" ["r"]
            "Go back to the rows that you came from" => App::follow_back;
        Result "go-to-statement" "its statement" ["g"]
            "Go to the statement of this result" => App::go_to_statement;
        Result "to-buffer" "to the buffer" ["tab"]
            "Go back to the buffer" => App::other_pane;
    }

    "Several results" {
        Result "next-result" "next result" ["."]
            "Next result of those in the strip" => |app| app.other_result(1);
        Result "result-before" "result before" [","]
            "The result before it in the strip" => |app| app.other_result(-1);
        Everywhere "hold" "hold the result" ["alt-h"]
            "Keep this result in sight, and in the strip, wherever the cursor goes; or let it go" => App::hold;
        Result "place-beside" "place beside" ["t"]
            "Place this result to the left and another one beside it, or go back to one" => App::place_beside;
        Result "next-difference" "next difference" ["D"]
            "Go to the next row that differs from the one beside it" => App::next_difference;
        Result "link" "scroll together" ["l"]
            "Let two results scroll together, so far apart as they are, or each for itself" => App::link;
    }

    "Order and choice" {
        Result "sort" "sort" ["s"]
            "Sort by this column: up, down, and as the rows came" => App::sort;
        Result "sort-further" "sort further" ["S"]
            "Sort by this column too, where the others are equal" => App::sort_further;
        Result "narrow" "narrow" ["n"]
            "Keep the rows whose value in this column fulfils a condition" => App::ask_for_condition;
        Result "only-this" "only this value" ["="]
            "Keep the rows with this value" => |app| app.narrow_to_value(false);
        Result "without-this" "without this value" ["!"]
            "Keep the rows with another value than this" => |app| app.narrow_to_value(true);
        Result "search-rows" "search rows" ["/"]
            "Keep the rows that hold a text in any column" => App::ask_for_search;
        Result "undo-arranging" "take back" ["u"]
            "Take the last sorting or narrowing back" => App::undo_arranging;
        Result "original-order" "rows as they came" ["o"]
            "Show all rows in their own order" => App::original_order;
        Result "write-arrangement" "as a statement" ["w"]
            "Put the statement that asks the server for the same rows into the buffer" => App::write_arrangement;
    }

    "Copying" {
        Result "mark" "mark" ["m"]
            "Mark cells from here on; again: whole rows, whole columns, nothing" => App::mark;
        Result "mark-all" "mark all" ["ctrl-a"]
            "Mark everything" => App::mark_all;
        Result "mark-up" "mark up" ["shift-up"]
            "Stretch what is marked up" => |app| app.stretch(-1, 0);
        Result "mark-down" "mark down" ["shift-down"]
            "Stretch what is marked down" => |app| app.stretch(1, 0);
        Result "mark-left" "mark left" ["shift-left"]
            "Stretch what is marked to the left" => |app| {app.stretch(0, -1)};
        Result "mark-right" "mark right" ["shift-right"]
            "Stretch what is marked to the right" => |app| app.stretch(0, 1);
        Result "copy-cells" "copy" ["ctrl-c", "c"]
            "Copy what is marked, or the whole value of the cell" => App::copy_cells;
        Result "copy-as" "copy as" ["y"]
            "Copy what is marked, or the row, as CSV, JSON, Markdown, INSERT, a list …" => App::list_copies;
        Result "put-as" "put into the buffer" ["p"]
            "Put what is marked, or the row, into the buffer at its cursor, in a format" => App::list_puts;
        Everywhere "export" "export" ["alt-x"]
            "Write the result, or what is marked, to a file: CSV, JSON, XLSX, Parquet …" => App::ask_for_export;
    }

    "Statements" {
        Buffer "next-problem" "next problem" ["alt-n"]
            "Go to the next thing that is marked as wrong" => App::next_problem;
        Everywhere "problems" "problems" ["alt-p"]
            "List what is marked as wrong in the buffer" => App::list_problems;
        Buffer "next-statement" "next statement" ["ctrl-n"]
            "Go to the next statement and its rows" => |app| app.go(Motion::NextStatement, false);
        Buffer "previous-statement" "statement before" ["ctrl-p"]
            "Go to the statement before and its rows" => |app| app.go(Motion::PreviousStatement, false);
        Buffer "outline" "statements" ["alt-o"]
            "Find a statement of the buffer by its title or text, and go there" => App::list_outline;
        Buffer "make-snippet" "make a snippet" []
            "Keep the selection, or the statement, under a name that proposes it from now on" => App::ask_for_snippet_name;
        Buffer "format" "format" ["alt-q"]
            "Write the statement at the cursor anew, a clause a line" => App::format_statement;
    }

    "Buffer" {
        Everywhere "save" "save" ["ctrl-s"]
            "Save the buffer" => App::save;
        Buffer "undo" "undo" ["ctrl-z"]
            "Take the last change back" => App::undo;
        Buffer "redo" "redo" ["ctrl-y"]
            "Do again what was taken back" => App::redo;
        Buffer "cut" "cut" ["ctrl-x"]
            "Cut the selection, or the line" => App::cut;
        Buffer "copy" "copy" ["ctrl-c"]
            "Copy the selection, or the line" => App::copy;
        Buffer "paste" "paste" ["ctrl-v"]
            "Put in what was cut or copied here; the terminal's own paste works too" => App::paste;
        Buffer "select-all" "select all" ["ctrl-a"]
            "Select the whole buffer" => App::select_all;
        Buffer "find" "find" ["ctrl-f"]
            "Find a regular expression in the buffer" => App::ask_for_pattern;
        Buffer "find-next" "find next" ["alt-f"]
            "Go to the next place that was found" => App::find_next;
        Buffer "replace" "replace" ["alt-r"]
            "Replace a regular expression in the selection or the buffer" => App::ask_to_replace;
        Buffer "comment-lines" "comment" ["alt-c"]
            "Make lines comments, or no comments any more" => App::comment_lines;
        Buffer "outdent" "lines left" ["backtab"]
            "Move lines a step to the left" => App::outdent_lines;
        Buffer "duplicate" "write twice" ["alt-t"]
            "Write the selection or the line a second time" => App::duplicate;
        Buffer "lines-above" "lines up" ["alt-up"]
            "Exchange lines with the one above" => |app| app.shift_lines(false);
        Buffer "lines-below" "lines down" ["alt-down"]
            "Exchange lines with the one below" => |app| {app.shift_lines(true)};
        Buffer "partner" "other parenthesis" ["alt-m"]
            "Go to the parenthesis that belongs to the one at the cursor" => App::go_to_partner;
        Buffer "go-to-line" "go to line" ["f6"]
            "Go to a line by its number" => App::ask_for_line;
    }

    "Buffers" {
        Everywhere "buffers" "buffers" ["ctrl-b"]
            "Go to another buffer, on the connection it ran on last" => App::list_buffers;
        Everywhere "new-buffer" "new buffer" []
            "Begin another buffer beside this one" => App::ask_for_new_buffer;
        Everywhere "rename-buffer" "rename buffer" []
            "Go on under another name" => App::ask_to_rename;
        Everywhere "copy-buffer" "copy buffer" []
            "Write the text a second time, under another name" => App::ask_to_copy_buffer;
        Everywhere "remove-buffer" "remove buffer" []
            "Move the buffer's file to the trash, after asking" => App::ask_to_remove_buffer;
        Everywhere "edit-outside" "text editor" ["alt-e"]
            "Open the buffer in your own text editor ($VISUAL or $EDITOR), and come back" => App::edit_outside;
        Everywhere "search-buffers" "find in all buffers" ["alt-b"]
            "Find a regular expression in all buffers, of this project and of all projects" => App::ask_to_search_all;
    }

    "Writing" {
        Buffer "left" "left" ["left"]
            "One character back" => |app| app.go(Motion::Left, false);
        Buffer "right" "right" ["right"]
            "One character on" => |app| app.go(Motion::Right, false);
        Buffer "up" "up" ["up"]
            "One line up" => |app| app.go(Motion::Up(1), false);
        Buffer "down" "down" ["down"]
            "One line down" => |app| app.go(Motion::Down(1), false);
        Buffer "word-left" "word back" ["ctrl-left", "alt-left"]
            "To the beginning of the word" => |app| app.go(Motion::WordLeft, false);
        Buffer "word-right" "word on" ["ctrl-right", "alt-right"]
            "To the end of the word" => |app| {app.go(Motion::WordRight, false)};
        Buffer "line-home" "line's beginning" ["home"]
            "To the beginning of the line" => |app| app.go(Motion::LineHome, false);
        Buffer "line-end" "line's end" ["end"]
            "To the end of the line" => |app| app.go(Motion::LineEnd, false);
        Buffer "lines-up" "page up" ["pageup"]
            "A screen of text up" => |app| app.go_pages(-1);
        Buffer "lines-down" "page down" ["pagedown"]
            "A screen of text down" => |app| app.go_pages(1);
        Buffer "top" "top" ["ctrl-home"]
            "To the beginning of the buffer" => |app| app.go(Motion::Top, false);
        Buffer "bottom" "bottom" ["ctrl-end"]
            "To the end of the buffer" => |app| app.go(Motion::Bottom, false);
        Buffer "select-left" "select left" ["shift-left"]
            "Stretch the selection back" => |app| app.go(Motion::Left, true);
        Buffer "select-right" "select right" ["shift-right"]
            "Stretch the selection on" => |app| app.go(Motion::Right, true);
        Buffer "select-up" "select up" ["shift-up"]
            "Stretch the selection a line up" => |app| app.go(Motion::Up(1), true);
        Buffer "select-down" "select down" ["shift-down"]
            "Stretch the selection a line down" => |app| app.go(Motion::Down(1), true);
        Buffer "select-word-left" "select word back" ["ctrl-shift-left"]
            "Stretch the selection a word back" => |app| app.go(Motion::WordLeft, true);
        Buffer "select-word-right" "select word on" ["ctrl-shift-right"]
            "Stretch the selection a word on" => |app| app.go(Motion::WordRight, true);
        Buffer "select-home" "select to the beginning" ["shift-home"]
            "Stretch the selection to the line's beginning" => |app| app.go(Motion::LineHome, true);
        Buffer "select-end" "select to the end" ["shift-end"]
            "Stretch the selection to the line's end" => |app| app.go(Motion::LineEnd, true);
        Buffer "new-line" "new line" ["enter"]
            "Begin a line" => App::new_line;
        Buffer "tab" "propose or indent" ["tab"]
            "Go to the next place to fill in; behind a word, propose how it goes on; else indent" => App::tab;
        Buffer "propose" "propose" ["ctrl-space"]
            "Propose what could be written here" => App::propose;
        Buffer "delete-left" "delete back" ["backspace", "ctrl-h"]
            "Delete the character before, or the selection" => |app| app.delete(Motion::Left);
        Buffer "delete-right" "delete" ["delete"]
            "Delete the character after, or the selection" => |app| app.delete(Motion::Right);
        Buffer "delete-word-left" "delete word back" ["alt-backspace"]
            "Delete to the beginning of the word" => |app| app.delete(Motion::WordLeft);
        Buffer "delete-word-right" "delete word" ["ctrl-delete", "alt-d"]
            "Delete to the end of the word" => |app| app.delete(Motion::WordRight);
    }

    "Proposals" {
        Offer "take-proposal" "take it" ["tab"]
            "Put the chosen proposal in" => App::take_proposal;
        Offer "take-or-new-line" "take what was moved to" ["enter"]
            "Put the proposal in that was moved to; begin a line if none was" => App::take_or_new_line;
        Offer "proposal-down" "next proposal" ["down"]
            "Next proposal" => |app| app.choose_proposal(1);
        Offer "proposal-up" "proposal before" ["up"]
            "Proposal before" => |app| app.choose_proposal(-1);
        Offer "proposal-page-down" "proposals on" ["pagedown"]
            "Eight proposals on" => |app| app.choose_proposal(8);
        Offer "proposal-page-up" "proposals back" ["pageup"]
            "Eight proposals back" => |app| app.choose_proposal(-8);
        Offer "close-offer" "write on" ["esc"]
            "Close the proposals" => App::close_offer;
    }
}

/// The table as a Markdown document.
pub fn markdown() -> String {
    let mut text = String::from(
        "# Keys\n\nMade from the action table by `jaunty keys --markdown`. Every action can also be found by part of its name in the list of actions. `settings.toml` binds other keys, by the names in the last column:\n\n```toml\n[keys]\nrun-statement = [\"ctrl-r\", \"f4\"]\n```\n\nIn a line that is filled in (a prompt, a field, what narrows a list) these edit: `left` `right` `home` `end`, `ctrl-left` `ctrl-right` by word, `backspace` `delete`, `alt-backspace` `alt-d` by word. In lists that have other uses for some of them, those come first.\n\nA hand on the mouse: a click takes a cell in hand, another one on the name of its column sorts by it, drawing over cells marks them, and two clicks show a value alone. The wheel moves what it is over. What the last line names, the strip of results and the line between the panes can be clicked and drawn.\n",
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
        let mut groups: Vec<_> = ACTIONS.iter().map(|a| a.group).collect();
        groups.dedup();
        let of_each = groups.iter().filter(|group| groups.iter().filter(|g| g == group).count() == 1).count();
        assert_eq!(of_each, groups.len(), "what stands under one heading stands together");
        for action in ACTIONS {
            assert!(action.help.len() < 90 && !action.help.ends_with('.'), "{}", action.name);
        }
    }
}
