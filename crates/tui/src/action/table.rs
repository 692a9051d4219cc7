//! The table of actions.

use jaunty_core::slip::{Datum, Keep};
use jaunty_language::edit::document::Motion;

use super::{Action, Scope};
use crate::app::{
    App, Axis, CatalogBrowser, CellEditor, ChartView, Form, ImportView, LogbookView, MessagesView, PlanView,
    RowComparison, RowDetail, SchemaView, SlipView, StructureComparison, Use,
};
use crate::line::{LineEdit, LinePlace};

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
        Everywhere "run-statement" "Run statement" ["ctrl-g"]
            "Run the statement at the cursor, or the selected ones" => App::run_statement;
        Everywhere "run-all" "Run all" ["alt-g"]
            "Run every statement of the buffer in order, until one fails" => App::run_all;
        Everywhere "run-script" "Run a script" []
            "Run the statements of a file while it is read, however large it is, from a line on" => App::ask_for_script;
        Everywhere "back" "Cancel or step back" ["esc"]
            "Cancel what runs (fetched rows stay); else clear the selection, or leave the result" => App::back;
        Everywhere "logbook" "Logbook" ["alt-l"]
            "Search all runs of all connections; open kept rows, reuse statements" => App::open_logbook;
    }

    "Transactions" {
        Everywhere "begin-transaction" "Begin transaction" []
            "Begin a transaction on this connection" => |app| app.run_transaction_words(|words| words.begin);
        Everywhere "commit" "Commit" []
            "Commit the open transaction" => |app| app.run_transaction_words(|words| words.commit);
        Everywhere "roll-back" "Roll back" []
            "Roll back the open transaction" => |app| app.run_transaction_words(|words| words.roll_back);
        Everywhere "savepoint" "Set savepoint" []
            "Set a savepoint in the open transaction" => |app| app.run_transaction_words(|words| words.savepoint);
        Everywhere "back-to-savepoint" "Back to savepoint" []
            "Undo what was done since the savepoint; the transaction stays open" => |app| app.run_transaction_words(|words| words.back_to_savepoint);
    }

    "Getting around" {
        Everywhere "actions" "List of actions" ["ctrl-l"]
            "Find any action by part of its name" => App::list_actions;
        Everywhere "help" "Help" ["f2"]
            "Show all keys" => App::show_help;
        Everywhere "other-pane" "Other pane" ["ctrl-t"]
            "Switch between the buffer and the result" => App::other_pane;
        Everywhere "fill" "Maximise pane" ["ctrl-w"]
            "Let this pane fill the screen, or share it again" => App::fill;
        Everywhere "divider-back" "Shrink buffer" ["f7"]
            "Make the buffer smaller" => |app| app.move_divider(-5);
        Everywhere "divider-on" "Grow buffer" ["f8"]
            "Make the buffer larger" => |app| app.move_divider(5);
        Everywhere "theme" "Switch theme" []
            "Change between lamplight (dark) and foolscap (light)" => App::other_theme;
        Everywhere "quit" "Quit" ["ctrl-q"]
            "Quit; asks about unsaved text first" => App::ask_to_quit;
    }

    "Connections" {
        Everywhere "connections" "Connections" ["f3"]
            "Choose the connection that statements run on" => App::list_connections;
        Everywhere "new-connection" "New connection" []
            "Add a connection, from a URL or field by field" => App::ask_for_url;
        Everywhere "edit-connections" "Connections file" []
            "Open the connections file at this profile in your text editor" => App::edit_connections_file;
        Everywhere "go-to-database" "Switch database" ["f4"]
            "Go to another database of this server, or another server of a cluster" => App::choose_database;
        Everywhere "go-to-schema" "Switch schema" ["f5"]
            "Choose the schema for names without one" => App::choose_schema;
        Everywhere "take-role" "Switch role" []
            "Choose the role whose privileges apply from now on" => App::choose_role;
        Everywhere "switch" "Switch …" []
            "Choose what to switch: all that this connection can" => App::choose_switch;
        Everywhere "other-session" "Second session" ["alt-s"]
            "Open a second session of this connection, or switch between the two" => App::other_session;
        Everywhere "let-go" "Disconnect" []
            "Close the connection of this buffer" => App::let_go;
    }

    "Catalog" {
        Everywhere "catalog" "Catalog" ["ctrl-o"]
            "Browse schemas, tables, columns, keys, definitions and first rows" => App::walk_catalog;
        Everywhere "reveal" "Reveal" ["f9"]
            "Show the table at the cursor: columns, rows, references" => App::reveal;
        Everywhere "load-file" "Load a file" ["alt-i"]
            "Load a file, or pasted rows, into a table: CSV, JSON, Parquet, Arrow, workbooks" => App::load_file;
        Everywhere "keep-database" "Copy database" []
            "Copy the whole database into a file: the server's own backup, or statements that make it" => App::keep_database;
        Everywhere "compare-structure" "Compare structure" ["alt-y"]
            "Compare tables, views and routines with those of another connection or schema" => App::compare_structure;
        Everywhere "draw-schema" "Schema drawing" ["alt-w"]
            "Draw the table at the cursor and its neighbours, or the whole schema" => App::draw_schema;
        Everywhere "tables" "Tables" []
            "Find a table or view by part of its name, and open its rows" => App::list_objects;
        Everywhere "explain" "Explain word" ["ctrl-k"]
            "Explain the word at the cursor: keyword, function, table, column, alias" => App::explain;
    }

    "Rows" {
        Everywhere "rows-on" "Next page" ["ctrl-d"]
            "Next page of rows, from either pane" => |app| app.page_by(1);
        Everywhere "rows-back" "Previous page" ["ctrl-u"]
            "Previous page of rows, from either pane" => |app| app.page_by(-1);
        Everywhere "go-to-row" "Go to row" ["alt-j"]
            "Go to a row by number or percentage, such as 50 %" => App::ask_for_row;
        Result "go-to-row-here" "Go to row" ["#"]
            "Go to a row by number or percentage, such as 50 %" => App::ask_for_row;
        Result "page-on" "Next page" ["pagedown", "space"]
            "Next page" => |app| app.page_by(1);
        Result "page-back" "Previous page" ["pageup", "b"]
            "Previous page" => |app| app.page_by(-1);
        Result "half-page-on" "Half page down" ["d"]
            "Half a page down" => |app| app.half_page_by(1);
        Result "half-page-back" "Half page up" ["e"]
            "Half a page up" => |app| app.half_page_by(-1);
        Result "first-row" "First row" ["<", "ctrl-home"]
            "First row" => App::first_row;
        Result "last-row" "Last row" [">", "ctrl-end"]
            "Last row fetched so far" => App::last_row;
        Result "row-up" "Row up" ["up"]
            "One row up" => |app| app.move_row(-1);
        Result "row-down" "Row down" ["down"]
            "One row down" => |app| app.move_row(1);
        Result "column-back" "Column left" ["left"]
            "One column to the left" => |app| app.move_column(-1);
        Result "column-on" "Column right" ["right"]
            "One column to the right" => |app| app.move_column(1);
        Result "first-column" "First column" ["home"]
            "First column" => |app| app.move_column(isize::MIN);
        Result "last-column" "Last column" ["end"]
            "Last column" => |app| app.move_column(isize::MAX);
        Result "keep-columns" "Freeze columns" ["k"]
            "Keep the columns up to this one visible while scrolling, or unfreeze them" => App::keep_columns;
        Result "hide-column" "Hide column" ["h"]
            "Hide this column" => App::hide_column;
        Result "all-columns" "Show all columns" ["H"]
            "Show all columns in their original order and width" => App::all_columns;
        Result "columns" "Go to column" ["j"]
            "Go to a column by part of its name" => App::list_columns;
        Result "wider" "Widen column" ["+"]
            "Make this column wider" => |app| app.widen_column(4);
        Result "narrower" "Narrow column" ["-"]
            "Make this column narrower" => |app| app.widen_column(-4);
        Result "column-earlier" "Move column left" ["["]
            "Move this column to the left" => |app| app.shift_column(-1);
        Result "column-later" "Move column right" ["]"]
            "Move this column to the right" => |app| app.shift_column(1);
        Result "open-column" "Open column" ["x"]
            "Open a column of objects or lists into one for each part; on such a part, close it" => App::open_column;
        Result "close-column" "Close column" ["X"]
            "Close the column that was opened last" => App::close_column;
        Result "show-row" "Show row" ["enter"]
            "Show this row with column names down the side" => App::show_row;
        Result "show-value" "Show value" ["v"]
            "Show this value on its own" => App::show_value;
        Result "show-json" "Show as JSON" ["J"]
            "Show this row as one document of JSON" => App::show_json;
        Result "edit-document" "Edit document" ["E"]
            "Write the statement that changes this document, unless somebody else did" => App::edit_document;
        Result "facts" "Column statistics" ["i"]
            "Count, NULL, distinct, min, max, mean and most frequent values of this column" => App::column_facts;
        Result "sparklines" "Sparklines" ["L"]
            "Show how the values of each column go along the rows, above it; or not" => App::toggle_sparklines;
        Result "chart" "Chart" ["G"]
            "Draw a chart of these rows: lines, bars, a histogram …, chosen by the columns" => App::open_chart;
        Result "messages" "Messages" ["M"]
            "Show what the server said while this statement ran: notices, warnings, printed lines" => App::show_messages;
        Result "show-plan" "Show as plan" ["P"]
            "Show the rows of an EXPLAIN as a tree of steps" => App::show_plan;
        Result "follow-row" "Follow key" ["f"]
            "Go to the row that this value references, or to rows that reference it" => App::follow_row;
        Result "follow-back" "Follow back" ["r"]
            "Return to the rows you came from" => App::follow_back;
        Result "go-to-statement" "Go to statement" ["g"]
            "Go to the statement of this result; one that is not in the buffer is added at its end" => App::go_to_statement;
        Result "to-buffer" "Go to buffer" ["tab"]
            "Return to the buffer" => App::other_pane;
    }

    "Several results" {
        Result "next-result" "Next result" ["."]
            "Next result in the list above the rows" => |app| app.other_result(1);
        Result "result-before" "Previous result" [","]
            "Previous result in the list above the rows" => |app| app.other_result(-1);
        Everywhere "hold" "Hold result" ["alt-h"]
            "Keep this result on the screen while the cursor moves on, or let it go" => App::hold;
        Result "place-beside" "Side by side" ["t"]
            "Pin this result on the left with another beside it, or return to one" => App::place_beside;
        Result "next-difference" "Next difference" ["D"]
            "Go to the next row that differs from the one beside it" => App::next_difference;
        Result "compare-rows" "Compare by key" ["K"]
            "Compare the two results by a key: rows only one has, and values that differ" => App::compare_rows;
        Result "link" "Scroll together" ["l"]
            "Scroll two results together, or each on its own" => App::link;
    }

    "Sorting and filtering" {
        Result "sort" "Sort" ["s"]
            "Sort by this column: ascending, descending, original order" => App::sort;
        Result "sort-further" "Add to sort" ["S"]
            "Sort by this column too, where the other sort columns are equal" => App::sort_further;
        Result "narrow" "Filter this column" ["n"]
            "Keep the rows whose value in this column meets a condition" => App::ask_for_condition;
        Result "only-this" "Only this value" ["="]
            "Keep the rows with this value" => |app| app.narrow_to_value(false);
        Result "without-this" "Without this value" ["!"]
            "Drop the rows with this value" => |app| app.narrow_to_value(true);
        Result "search-rows" "Search rows" ["/"]
            "Keep the rows that contain a text in any column" => App::ask_for_search;
        Result "undo-arranging" "Undo sort or filter" ["u"]
            "Undo the last sort or filter" => App::undo_arranging;
        Result "original-order" "Clear sort and filters" ["o"]
            "Show all rows in the order in which they came" => App::original_order;
        Result "write-arrangement" "As a statement" ["w"]
            "Write the statement that returns these rows from the server into the buffer" => App::write_arrangement;
    }

    "Changing rows" {
        Result "change-value" "Change value" ["a"]
            "Change this value, or the marked cells of a column; drafted, not sent" => App::change_value;
        Result "change-document" "Change document" ["W"]
            "Edit this document as text, in your text editor if one is set; drafted, not sent" => App::change_document;
        Result "add-row" "Add row" ["A"]
            "Draft a new row of this table" => App::add_row;
        Result "copy-row" "Copy row" ["C"]
            "Draft a new row with the values of this one, without the key that the server gives" => App::copy_row;
        Result "delete-rows" "Delete row" ["delete"]
            "Mark this row, or the marked rows, to be deleted; again: keep them" => App::delete_rows;
        Result "undo-draft" "Drop last draft" ["z"]
            "Drop the change that was drafted last in this result" => App::undo_draft;
        Everywhere "slip" "Slip" ["alt-u"]
            "Show what is drafted here as SQL, and send it in one transaction" => App::open_slip;
        Everywhere "slips" "All slips" []
            "List the changes of all results and connections that are drafted and not sent" => App::list_slips;
        Result "take-back" "Take back" ["T"]
            "Show the changes that take the last slip of this connection back, to be sent" => App::take_back;
    }

    "Copying" {
        Result "mark" "Mark" ["m"]
            "Start marking cells here; again: whole rows, whole columns, nothing" => App::mark;
        Result "mark-all" "Mark all" ["ctrl-a"]
            "Mark everything" => App::mark_all;
        Result "mark-up" "Mark up" ["shift-up"]
            "Extend the marked cells up" => |app| app.stretch(-1, 0);
        Result "mark-down" "Mark down" ["shift-down"]
            "Extend the marked cells down" => |app| app.stretch(1, 0);
        Result "mark-left" "Mark left" ["shift-left"]
            "Extend the marked cells to the left" => |app| {app.stretch(0, -1)};
        Result "mark-right" "Mark right" ["shift-right"]
            "Extend the marked cells to the right" => |app| app.stretch(0, 1);
        Result "copy-cells" "Copy" ["ctrl-c", "c"]
            "Copy the marked cells, or the whole value of this cell" => App::copy_cells;
        Result "copy-as" "Copy as" ["y"]
            "Copy the marked cells, or the row, as CSV, JSON, Markdown, INSERT, a list …" => App::list_copies;
        Result "put-as" "Put into buffer" ["p"]
            "Insert the marked cells, or the row, at the cursor of the buffer, in a format" => App::list_puts;
        Everywhere "export" "Export" ["alt-x"]
            "Write the result, or the marked cells, to a file: CSV, JSON, XLSX, Parquet …" => App::ask_for_export;
    }

    "Statements" {
        Buffer "next-problem" "Next problem" ["alt-n"]
            "Go to the next problem in the buffer" => App::next_problem;
        Everywhere "problems" "Problems" ["alt-p"]
            "List the problems in the buffer" => App::list_problems;
        Buffer "next-statement" "Next statement" ["ctrl-n"]
            "Go to the next statement and its rows" => |app| app.go(Motion::NextStatement, false);
        Buffer "previous-statement" "Previous statement" ["ctrl-p"]
            "Go to the previous statement and its rows" => |app| app.go(Motion::PreviousStatement, false);
        Buffer "outline" "Statements" ["alt-o"]
            "Find a statement of the buffer by title or text, and go to it" => App::list_outline;
        Buffer "plan" "Execution plan" ["alt-k"]
            "Show how the server would carry out the statement at the cursor, as estimated" => |app| app.explain_plan(false);
        Buffer "measured-plan" "Measured plan" ["alt-v"]
            "Run the statement at the cursor and show its plan with times and rows as they were" => |app| app.explain_plan(true);
        Buffer "make-snippet" "Create snippet" []
            "Save the selection, or the statement, as a snippet for completion" => App::ask_for_snippet_name;
        Buffer "turn-statement" "Other form" []
            "Turn the statement into the command that is sent, or a command into the short form" => App::turn_statement;
        Buffer "format" "Format statement" ["alt-q"]
            "Format the statement at the cursor, one clause per line" => App::format_statement;
    }

    "Buffer" {
        Everywhere "save" "Save" ["ctrl-s"]
            "Save the buffer" => App::save;
        Buffer "undo" "Undo" ["ctrl-z"]
            "Undo the last change" => App::undo;
        Buffer "redo" "Redo" ["ctrl-y"]
            "Redo the change that was undone" => App::redo;
        Buffer "cut" "Cut" ["ctrl-x"]
            "Cut the selection, or the line" => App::cut;
        Buffer "copy" "Copy" ["ctrl-c"]
            "Copy the selection, or the line" => App::copy;
        Buffer "paste" "Paste" ["ctrl-v"]
            "Paste what was cut or copied here; the terminal's own paste works too" => App::paste;
        Buffer "select-all" "Select all" ["ctrl-a"]
            "Select the whole buffer" => App::select_all;
        Buffer "find" "Find" ["ctrl-f"]
            "Find a regular expression in the buffer" => App::ask_for_pattern;
        Buffer "find-next" "Find next" ["alt-f"]
            "Go to the next match" => App::find_next;
        Buffer "replace" "Replace" ["alt-r"]
            "Replace a regular expression in the selection or the buffer" => App::ask_to_replace;
        Buffer "comment-lines" "Comment lines" ["alt-c"]
            "Turn lines into comments, or back" => App::comment_lines;
        Buffer "outdent" "Outdent lines" ["backtab"]
            "Move lines one step to the left" => App::outdent_lines;
        Buffer "duplicate" "Duplicate line" ["alt-t"]
            "Duplicate the selection or the line" => App::duplicate;
        Buffer "lines-above" "Move lines up" ["alt-up"]
            "Move the lines up by one" => |app| app.shift_lines(false);
        Buffer "lines-below" "Move lines down" ["alt-down"]
            "Move the lines down by one" => |app| {app.shift_lines(true)};
        Buffer "partner" "Matching parenthesis" ["alt-m"]
            "Go to the matching parenthesis" => App::go_to_partner;
        Buffer "go-to-line" "Go to line" ["f6"]
            "Go to a line by its number" => App::ask_for_line;
    }

    "Buffers" {
        Everywhere "buffers" "Buffers" ["ctrl-b"]
            "Switch to another buffer, on the connection that it last ran on" => App::list_buffers;
        Everywhere "new-buffer" "New buffer" []
            "Create a buffer in this folder" => App::ask_for_new_buffer;
        Everywhere "rename-buffer" "Rename buffer" []
            "Rename the buffer and its file" => App::ask_to_rename;
        Everywhere "copy-buffer" "Copy buffer" []
            "Save a copy under another name" => App::ask_to_copy_buffer;
        Everywhere "remove-buffer" "Remove buffer" []
            "Move the buffer's file to the trash, after asking" => App::ask_to_remove_buffer;
        Everywhere "encoding" "Encoding" []
            "Read the buffer's file in another encoding, or save the text in one" => App::ask_for_encoding;
        Everywhere "edit-outside" "Text editor" ["alt-e"]
            "Open the buffer in your own text editor ($VISUAL or $EDITOR), then return" => App::edit_outside;
        Everywhere "search-buffers" "Find in all buffers" ["alt-b"]
            "Find a regular expression in all buffers of this project and of all projects" => App::ask_to_search_all;
    }

    "Typing" {
        Buffer "left" "Left" ["left"]
            "One character left" => |app| app.go(Motion::Left, false);
        Buffer "right" "Right" ["right"]
            "One character right" => |app| app.go(Motion::Right, false);
        Buffer "up" "Up" ["up"]
            "One line up" => |app| app.go(Motion::Up(1), false);
        Buffer "down" "Down" ["down"]
            "One line down" => |app| app.go(Motion::Down(1), false);
        Buffer "word-left" "Word left" ["ctrl-left", "alt-left"]
            "To the beginning of the word" => |app| app.go(Motion::WordLeft, false);
        Buffer "word-right" "Word right" ["ctrl-right", "alt-right"]
            "To the end of the word" => |app| {app.go(Motion::WordRight, false)};
        Buffer "line-home" "Line start" ["home"]
            "To the beginning of the line" => |app| app.go(Motion::LineHome, false);
        Buffer "line-end" "Line end" ["end"]
            "To the end of the line" => |app| app.go(Motion::LineEnd, false);
        Buffer "lines-up" "Page up" ["pageup"]
            "One screen up" => |app| app.go_pages(-1);
        Buffer "lines-down" "Page down" ["pagedown"]
            "One screen down" => |app| app.go_pages(1);
        Buffer "top" "Top" ["ctrl-home"]
            "To the beginning of the buffer" => |app| app.go(Motion::Top, false);
        Buffer "bottom" "Bottom" ["ctrl-end"]
            "To the end of the buffer" => |app| app.go(Motion::Bottom, false);
        Buffer "select-left" "Select left" ["shift-left"]
            "Extend the selection by a character to the left" => |app| app.go(Motion::Left, true);
        Buffer "select-right" "Select right" ["shift-right"]
            "Extend the selection by a character to the right" => |app| app.go(Motion::Right, true);
        Buffer "select-up" "Select up" ["shift-up"]
            "Extend the selection a line up" => |app| app.go(Motion::Up(1), true);
        Buffer "select-down" "Select down" ["shift-down"]
            "Extend the selection a line down" => |app| app.go(Motion::Down(1), true);
        Buffer "select-word-left" "Select word left" ["ctrl-shift-left"]
            "Extend the selection to the beginning of the word" => |app| app.go(Motion::WordLeft, true);
        Buffer "select-word-right" "Select word right" ["ctrl-shift-right"]
            "Extend the selection to the end of the word" => |app| app.go(Motion::WordRight, true);
        Buffer "select-home" "Select to line start" ["shift-home"]
            "Extend the selection to the beginning of the line" => |app| app.go(Motion::LineHome, true);
        Buffer "select-end" "Select to line end" ["shift-end"]
            "Extend the selection to the end of the line" => |app| app.go(Motion::LineEnd, true);
        Buffer "new-line" "New line" ["enter"]
            "Start a new line" => App::new_line;
        Buffer "tab" "Complete or indent" ["tab"]
            "Go to the next place to fill in; after a word, complete it; else indent" => App::tab;
        Buffer "propose" "Complete" ["ctrl-space"]
            "Show completions" => App::propose;
        Buffer "delete-left" "Delete left" ["backspace", "ctrl-h"]
            "Delete the character to the left, or the selection" => |app| app.delete(Motion::Left);
        Buffer "delete-right" "Delete" ["delete"]
            "Delete the character to the right, or the selection" => |app| app.delete(Motion::Right);
        Buffer "delete-word-left" "Delete word left" ["alt-backspace"]
            "Delete to the beginning of the word" => |app| app.delete(Motion::WordLeft);
        Buffer "delete-word-right" "Delete word right" ["ctrl-delete", "alt-d"]
            "Delete to the end of the word" => |app| app.delete(Motion::WordRight);
    }

    "Completion" {
        CompletionPopup "take-proposal" "Accept" ["tab"]
            "Insert the chosen completion" => App::take_proposal;
        CompletionPopup "take-or-new-line" "Accept or new line" ["enter"]
            "Insert the completion that was moved to; without one, start a new line" => App::take_or_new_line;
        CompletionPopup "proposal-down" "Next completion" ["down"]
            "Next completion" => |app| app.choose_proposal(1);
        CompletionPopup "proposal-up" "Previous completion" ["up"]
            "Previous completion" => |app| app.choose_proposal(-1);
        CompletionPopup "proposal-page-down" "Completions down" ["pagedown"]
            "Eight completions down" => |app| app.choose_proposal(8);
        CompletionPopup "proposal-page-up" "Completions up" ["pageup"]
            "Eight completions up" => |app| app.choose_proposal(-8);
        CompletionPopup "close-offer" "Close completions" ["esc"]
            "Close the list of completions" => App::close_offer;
    }

    "Overlays" {
        Overlay "close-overlay" "Close" ["esc"]
            "Close what lies over the screen; the key that opened it does so too" => |app| app.on_layer(|layer, app| layer.close(app));
        Overlay "accept" "Accept" ["enter"]
            "Take what is chosen or filled in" => |app| app.on_layer(|layer, app| layer.accept(app));
        Overlay "overlay-up" "Up" ["up", "ctrl-p"]
            "One line up" => |app| app.on_layer(|layer, _| layer.move_by(-1));
        Overlay "overlay-down" "Down" ["down", "ctrl-n"]
            "One line down" => |app| app.on_layer(|layer, _| layer.move_by(1));
        Overlay "overlay-page-up" "Page up" ["pageup", "ctrl-u"]
            "One page up" => |app| app.page_overlay(-1);
        Overlay "overlay-page-down" "Page down" ["pagedown", "ctrl-d"]
            "One page down" => |app| app.page_overlay(1);
        Overlay "overlay-first" "First" ["home"]
            "To the first line" => |app| app.on_layer(|layer, _| layer.move_by(isize::MIN));
        Overlay "overlay-last" "Last" ["end"]
            "To the last line" => |app| app.on_layer(|layer, _| layer.move_by(isize::MAX));
    }

    "Line of input" {
        Input "input-left" "Left" ["left"]
            "One character left; in a field with a choice of words, the word before" => |app| app.edit_input(LineEdit::Go(LinePlace::Left));
        Input "input-right" "Right" ["right"]
            "One character right; in a field with a choice of words, the next word" => |app| app.edit_input(LineEdit::Go(LinePlace::Right));
        Input "input-word-left" "Word left" ["ctrl-left", "alt-left"]
            "To the beginning of the word" => |app| app.edit_input(LineEdit::Go(LinePlace::WordLeft));
        Input "input-word-right" "Word right" ["ctrl-right", "alt-right"]
            "To the end of the word" => |app| app.edit_input(LineEdit::Go(LinePlace::WordRight));
        Input "input-home" "Line start" ["home"]
            "To the beginning of the line" => |app| app.edit_input(LineEdit::Go(LinePlace::Home));
        Input "input-end" "Line end" ["end"]
            "To the end of the line" => |app| app.edit_input(LineEdit::Go(LinePlace::End));
        Input "input-delete-left" "Delete left" ["backspace", "ctrl-h"]
            "Delete the character to the left" => |app| app.edit_input(LineEdit::Delete(LinePlace::Left));
        Input "input-delete-right" "Delete" ["delete"]
            "Delete the character to the right" => |app| app.edit_input(LineEdit::Delete(LinePlace::Right));
        Input "input-delete-word-left" "Delete word left" ["alt-backspace"]
            "Delete to the beginning of the word" => |app| app.edit_input(LineEdit::Delete(LinePlace::WordLeft));
        Input "input-delete-word-right" "Delete word right" ["ctrl-delete", "alt-d"]
            "Delete to the end of the word" => |app| app.edit_input(LineEdit::Delete(LinePlace::WordRight));
        Prompt "clear-input" "Clear" ["ctrl-u"]
            "Clear the line of a prompt" => |app| app.edit_input(LineEdit::Clear);
    }

    "List of connections" {
        ConnectionList "edit-profile" "Edit" ["ctrl-e"]
            "Change the chosen profile" => App::edit_profile;
        ConnectionList "copy-profile" "Copy" ["ctrl-y"]
            "Create a profile from a copy of the chosen one" => App::copy_profile;
        ConnectionList "remove-profile" "Remove" ["ctrl-x"]
            "Remove the chosen profile from its file, after asking" => App::ask_to_remove_profile;
        ConnectionList "profile-up" "Move up" ["alt-up"]
            "Move the chosen profile up in its file" => |app| app.shift_profile(-1);
        ConnectionList "profile-down" "Move down" ["alt-down"]
            "Move the chosen profile down in its file" => |app| app.shift_profile(1);
    }

    "Form" {
        Form "next-field" "Next field" ["enter", "tab"]
            "Next field" => |app| app.on(|form: &mut Form, _| form.other_field(1));
        Form "previous-field" "Previous field" ["backtab"]
            "Previous field" => |app| app.on(|form: &mut Form, _| form.other_field(-1));
        Form "more-fields" "All fields" ["ctrl-t"]
            "Show all fields, or the common ones" => |app| app.on(|form: &mut Form, _| form.show_more());
        Form "test-profile" "Test" ["ctrl-g"]
            "Connect as filled in, and disconnect again" => |app| app.on(Form::test);
        Form "save-profile" "Save" ["ctrl-s"]
            "Save the profile in its file, and connect" => |app| app.on(Form::save);
    }

    "In the catalog" {
        CatalogBrowser "catalog-right" "Column right" ["right", "tab"]
            "To the column on the right: schemas, objects, one object" => |app| app.on(|catalog: &mut CatalogBrowser, _| catalog.column_by(1));
        CatalogBrowser "catalog-left" "Column left" ["left", "backtab"]
            "To the column on the left" => |app| app.on(|catalog: &mut CatalogBrowser, _| catalog.column_by(-1));
        CatalogBrowser "catalog-back" "Back" ["alt-left", "ctrl-b"]
            "Back to the object that was looked at before" => |app| app.on(|catalog: &mut CatalogBrowser, _| catalog.back());
        CatalogBrowser "catalog-forward" "Forward" ["alt-right", "ctrl-f"]
            "Forward again after going back" => |app| app.on(|catalog: &mut CatalogBrowser, _| catalog.forth());
        CatalogBrowser "catalog-first" "First" ["home"]
            "To the first line of the column" => |app| app.on_layer(|layer, _| layer.move_by(isize::MIN));
        CatalogBrowser "catalog-last" "Last" ["end"]
            "To the last line of the column" => |app| app.on_layer(|layer, _| layer.move_by(isize::MAX));
        CatalogBrowser "catalog-rows" "Rows" ["ctrl-g"]
            "Run a statement for the rows of the chosen object" => |app| app.on(CatalogBrowser::run_rows);
        CatalogBrowser "catalog-draw" "Draw" ["ctrl-y"]
            "Draw the chosen schema, or the chosen table and its neighbours" => |app| app.on(CatalogBrowser::draw);
        CatalogBrowser "catalog-keep" "Keep a copy" ["ctrl-k"]
            "Copy the chosen table or schema into a file as SQL: definitions and rows" => |app| app.on(CatalogBrowser::keep_copy);
        CatalogBrowser "catalog-reload" "Reload" ["f5"]
            "Read the catalog again" => |app| app.on(CatalogBrowser::reload);
    }

    "One row" {
        RowDetail "next-row" "Next row" ["right"]
            "Next row, at the same column" => |app| app.on(|row: &mut RowDetail, app| row.other_row(1, app));
        RowDetail "previous-row" "Previous row" ["left"]
            "Previous row, at the same column" => |app| app.on(|row: &mut RowDetail, app| row.other_row(-1, app));
        RowDetail "row-page-down" "Page down" ["space"]
            "One page down" => |app| app.page_overlay(1);
        RowDetail "whole-or-value" "Row or value" ["v"]
            "Show this value alone, or the whole row again" => |app| app.on(RowDetail::turn);
        RowDetail "as-json" "As JSON" ["J"]
            "Show the row as JSON; again: with the types of all numbers" => |app| app.on(RowDetail::as_json);
        RowDetail "search-row" "Search" ["/"]
            "Search in this row" => |app| app.on(|row: &mut RowDetail, _| row.begin_search());
        RowDetail "next-match" "Next match" ["n"]
            "Next match" => |app| app.on(|row: &mut RowDetail, _| row.seek(false));
        RowDetail "previous-match" "Previous match" ["p"]
            "Previous match" => |app| app.on(|row: &mut RowDetail, _| row.seek(true));
        RowDetail "next-part" "Next part" [">"]
            "Next part of a value that is too long to be shown at once" => |app| app.on(|row: &mut RowDetail, app| row.other_part(true, app));
        RowDetail "previous-part" "Previous part" ["<"]
            "Previous part of such a value" => |app| app.on(|row: &mut RowDetail, app| row.other_part(false, app));
        RowDetail "copy-value" "Copy value" ["c", "ctrl-c"]
            "Copy the whole value" => |app| app.on(RowDetail::copy);
    }

    "In a chart" {
        ChartView "chart-next" "Next position" ["right"]
            "Next position of the chart, with its values" => |app| app.on_layer(|layer, _| layer.move_by(1));
        ChartView "chart-previous" "Previous position" ["left"]
            "Previous position of the chart" => |app| app.on_layer(|layer, _| layer.move_by(-1));
        ChartView "chart-kind" "Kind" ["k"]
            "Next kind: line, area, bar, scatter, histogram, box, heat, map" => |app| app.on(ChartView::next_kind);
        ChartView "chart-x" "X" ["x"]
            "Choose the column of the x axis" => |app| app.on(|chart: &mut ChartView, app| chart.choose(Axis::X, app));
        ChartView "chart-y" "Y" ["y"]
            "Choose the column of the y axis" => |app| app.on(|chart: &mut ChartView, app| chart.choose(Axis::Y, app));
        ChartView "chart-by" "By" ["b"]
            "Choose the column that splits the rows into series" => |app| app.on(|chart: &mut ChartView, app| chart.choose(Axis::By, app));
        ChartView "chart-each" "Each" ["e"]
            "Choose the column that splits it into small multiples" => |app| app.on(|chart: &mut ChartView, app| chart.choose(Axis::Each, app));
        ChartView "chart-aggregate" "Aggregate" ["a"]
            "Next aggregate: sum, mean, count, min, max, median" => |app| app.on(ChartView::next_aggregate);
        ChartView "chart-step" "Step" ["t"]
            "Next step of time: minute, hour, day, week, month, quarter, year" => |app| app.on(ChartView::next_step);
        ChartView "chart-stack" "Stack" ["s"]
            "Series beside each other, stacked, or as shares of 100 %" => |app| app.on(ChartView::next_stack);
        ChartView "chart-log" "Logarithmic" ["l"]
            "Logarithmic y axis, or a linear one" => |app| app.on(ChartView::toggle_log);
        ChartView "chart-zero" "From zero" ["z"]
            "Begin the y axis at 0, or at the smallest value" => |app| app.on(ChartView::toggle_zero);
        ChartView "chart-more" "More" ["+"]
            "Show one more name or series before the rest" => |app| app.on(|chart: &mut ChartView, app| chart.show_more(1, app));
        ChartView "chart-fewer" "Fewer" ["-"]
            "Show one name or series fewer" => |app| app.on(|chart: &mut ChartView, app| chart.show_more(-1, app));
        ChartView "chart-save" "Save" ["o"]
            "Save the chart as SVG or PDF" => |app| app.on(ChartView::save);
        ChartView "chart-out-line" "Out-line" ["w"]
            "Put an out-line below the statement that saves the chart on every run" => |app| app.on(ChartView::put_out_line);
    }

    "In the drawing of a schema" {
        SchemaView "schema-left" "Column left" ["left"]
            "To the nearest table of the column on the left" => |app| app.on(|schema: &mut SchemaView, _| schema.column_by(-1));
        SchemaView "schema-right" "Column right" ["right"]
            "To the nearest table of the column on the right" => |app| app.on(|schema: &mut SchemaView, _| schema.column_by(1));
        SchemaView "schema-follow" "Follow key" ["f"]
            "Follow the next key of this table; again to come back and follow the one after" => |app| app.on(|schema: &mut SchemaView, _| schema.follow());
        SchemaView "schema-more" "More tables" ["+"]
            "Draw tables that are one key further away" => |app| app.on(|schema: &mut SchemaView, _| schema.deepen(1));
        SchemaView "schema-fewer" "Fewer tables" ["-"]
            "Draw this table and its neighbours, or one key less" => |app| app.on(|schema: &mut SchemaView, _| schema.deepen(-1));
        SchemaView "schema-save" "Save" ["o"]
            "Save the drawing as SVG or PDF" => |app| app.on(SchemaView::save);
    }

    "In the editor of a value" {
        CellEditor "cell-null" "NULL" ["ctrl-n"]
            "NULL instead of what is typed; again: what is typed" => |app| app.on(|editor: &mut CellEditor, app| editor.give(Datum::Null, app));
        CellEditor "cell-default" "Default" ["ctrl-d"]
            "The default of the column instead of what is typed; again: what is typed" => |app| app.on(|editor: &mut CellEditor, app| editor.give(Datum::Default, app));
        CellEditor "cell-clear" "Clear" ["ctrl-u"]
            "Clear the line: an empty text" => |app| app.edit_input(LineEdit::Clear);
        CellEditor "cell-outside" "Text editor" ["alt-e"]
            "Open the value in your own text editor ($VISUAL or $EDITOR), then return" => |app| app.on(CellEditor::edit_outside);
    }

    "In a slip" {
        SlipView "send-slip" "Send" ["ctrl-g"]
            "Send all of it in one transaction; nothing is kept unless all of it can be" => |app| app.on(SlipView::send);
        SlipView "drop-draft" "Drop" ["delete", "d"]
            "Drop this change, or take this field out of it" => |app| app.on(SlipView::drop_one);
        SlipView "copy-slip" "Copy" ["c"]
            "Copy the statements" => |app| app.on(SlipView::copy);
        SlipView "keep-theirs" "Theirs" ["1"]
            "After a conflict: keep their row, and drop the draft" => |app| app.on(|view: &mut SlipView, app| view.keep(Keep::Theirs, app));
        SlipView "keep-ours" "Ours" ["2"]
            "After a conflict: make the row as it was read, with what is drafted" => |app| app.on(|view: &mut SlipView, app| view.keep(Keep::Ours, app));
        SlipView "keep-both" "Both" ["3"]
            "After a conflict: keep what they changed, and change what is drafted" => |app| app.on(|view: &mut SlipView, app| view.keep(Keep::Both, app));
    }

    "In a comparison of rows" {
        RowComparison "compare-draft" "Draft" ["d"]
            "Draft what makes the left result like the right one: a slip, to be looked at and sent" => |app| app.on(|view: &mut RowComparison, app| view.make(Use::Draft, app));
        RowComparison "compare-put" "Into the buffer" ["p"]
            "Put the statements that make the left like the right into the buffer" => |app| app.on(|view: &mut RowComparison, app| view.make(Use::Put, app));
        RowComparison "compare-copy" "Copy" ["c"]
            "Copy those statements" => |app| app.on(|view: &mut RowComparison, app| view.make(Use::Copy, app));
        RowComparison "compare-only" "Only some" ["n"]
            "Only rows that changed, then those only left, then only right, then all again" => |app| app.on(|view: &mut RowComparison, _| view.turn_filter());
        RowComparison "compare-key" "Other key" ["k"]
            "Compare by other columns" => |app| app.on(RowComparison::other_key);
        RowComparison "compare-exchange" "Exchange" ["x"]
            "Swap left and right" => |app| app.on(RowComparison::exchange);
        RowComparison "compare-columns-on" "Columns down" ["right"]
            "Scroll the columns of the row" => |app| app.on(|view: &mut RowComparison, _| view.column_by(1));
        RowComparison "compare-columns-back" "Columns up" ["left"]
            "Scroll them back" => |app| app.on(|view: &mut RowComparison, _| view.column_by(-1));
        RowComparison "compare-first" "First" ["home"]
            "To the first row that differs" => |app| app.on_layer(|layer, _| layer.move_by(isize::MIN));
        RowComparison "compare-last" "Last" ["end"]
            "To the last row that differs" => |app| app.on_layer(|layer, _| layer.move_by(isize::MAX));
    }

    "In a comparison of structures" {
        StructureComparison "structure-statements" "Statements" ["s"]
            "Show the statements that make the left like the right, or the definitions again" => |app| app.on(StructureComparison::turn);
        StructureComparison "structure-put" "Into the buffer" ["p"]
            "Put those statements into the buffer; none is run" => |app| app.on(StructureComparison::put);
        StructureComparison "structure-copy" "Copy" ["c"]
            "Copy them" => |app| app.on(StructureComparison::copy);
        StructureComparison "structure-only" "Only some" ["n"]
            "Only objects that changed, then those only left, then only right, then all" => |app| app.on(|view: &mut StructureComparison, _| view.turn_filter());
        StructureComparison "structure-access" "Owners, grants" ["o"]
            "Whether owners and grants count" => |app| app.on(StructureComparison::turn_access);
        StructureComparison "structure-exchange" "Exchange" ["x"]
            "Swap left and right" => |app| app.on(StructureComparison::exchange);
        StructureComparison "structure-down" "Text down" ["right"]
            "Scroll the text below" => |app| app.on(|view: &mut StructureComparison, _| view.scroll(1));
        StructureComparison "structure-up" "Text up" ["left"]
            "Scroll it back" => |app| app.on(|view: &mut StructureComparison, _| view.scroll(-1));
        StructureComparison "structure-first" "First" ["home"]
            "To the first line" => |app| app.on_layer(|layer, _| layer.move_by(isize::MIN));
        StructureComparison "structure-last" "Last" ["end"]
            "To the last line" => |app| app.on_layer(|layer, _| layer.move_by(isize::MAX));
    }

    "Where a file is loaded" {
        ImportView "load-rows" "Load" ["ctrl-g"]
            "Load the file as it is shown: all of it or nothing, unless parts are named" => |app| app.on(ImportView::load);
        ImportView "import-clipboard" "Clipboard" ["ctrl-v"]
            "Take what is in the desktop's clipboard as rows" => |app| app.on(ImportView::take_clipboard);
        ImportView "import-clear" "Clear" ["ctrl-u"]
            "Clear the field" => |app| app.edit_input(LineEdit::Clear);
        ImportView "import-next" "Next field" ["tab"]
            "To the next field" => |app| app.on_layer(|layer, _| layer.move_by(1));
        ImportView "import-previous" "Previous field" ["backtab"]
            "To the previous field" => |app| app.on_layer(|layer, _| layer.move_by(-1));
    }

    "In messages" {
        MessagesView "copy-messages" "Copy" ["c"]
            "Copy all of them" => |app| app.on(|view: &mut MessagesView, app| view.copy(app));
    }

    "In a plan" {
        PlanView "plan-by-share" "Sort" ["s"]
            "Sort the steps by their own share, or show the tree again" => |app| app.on(|plan: &mut PlanView, _| plan.turn());
        PlanView "plan-compare" "Compare" ["c"]
            "Show the previous plan of the same statement beside this one, or close it" => |app| app.on(PlanView::compare);
        PlanView "plan-save" "Save" ["o"]
            "Save the plan as SVG or PDF" => |app| app.on(PlanView::save);
        PlanView "plan-measure" "Measure" ["m"]
            "Run the statement, and show its plan with times and rows as they were" => |app| app.on(PlanView::measure);
    }

    "In the logbook" {
        LogbookView "put-entry" "Put into buffer" ["tab"]
            "Insert the statement of the chosen run into the buffer" => |app| app.on(LogbookView::put);
        LogbookView "run-entry" "Run again" ["ctrl-g"]
            "Insert the statement of the chosen run into the buffer, and run it" => |app| app.on(LogbookView::run);
        LogbookView "keep-entry" "Keep rows" ["ctrl-k"]
            "Keep the rows of the chosen run however old they get, or no longer" => |app| app.on(LogbookView::keep);
        LogbookView "forget-entry" "Forget" ["ctrl-x"]
            "Forget the chosen run and its rows, after asking" => |app| app.on(LogbookView::forget);
        LogbookView "forget-found" "Forget all" ["ctrl-w"]
            "Forget all runs that match, and their rows, after asking" => |app| app.on(LogbookView::forget_found);
        LogbookView "first-entry" "First" ["home"]
            "To the latest run" => |app| app.on_layer(|layer, _| layer.move_by(isize::MIN));
        LogbookView "last-entry" "Last" ["end"]
            "To the earliest run" => |app| app.on_layer(|layer, _| layer.move_by(isize::MAX));
    }
}
