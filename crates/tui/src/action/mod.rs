//! Everything a person can ask for, declared once: its name in files, its title, one line of help,
//! where it counts, its keys, and what it does. The action list, the help, the hints in the last
//! line, the keys file and the documentation are all made from this table.

mod table;

pub use table::ACTIONS;

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
    CompletionPopup,
    /// In whatever lies over the screen.
    Overlay,
    /// In a line of input: a prompt, a field, the search line of a list.
    Input,
    /// In a prompt.
    Prompt,
    /// In the list of connections.
    ConnectionList,
    /// In the form for a profile.
    Form,
    /// In the catalog.
    CatalogBrowser,
    /// Where a row, or a value of it, is looked at.
    RowDetail,
    /// In the logbook.
    LogbookView,
    /// In a chart.
    ChartView,
    /// In a plan.
    PlanView,
    /// In the drawing of a schema.
    SchemaView,
    /// In the editor of a value.
    CellEditor,
    /// In a slip.
    SlipView,
    /// In a comparison of rows.
    RowComparison,
    /// In a comparison of structures.
    StructureComparison,
    /// Where a file is loaded.
    ImportView,
    /// Where messages are read.
    MessagesView,
}

impl Scope {
    /// What it is called.
    pub fn word(self) -> &'static str {
        match self {
            Scope::Everywhere => "everywhere",
            Scope::Buffer => "buffer",
            Scope::Result => "result",
            Scope::CompletionPopup => "completion",
            Scope::Overlay => "overlay",
            Scope::Input => "line of input",
            Scope::Prompt => "prompt",
            Scope::ConnectionList => "list of connections",
            Scope::Form => "form",
            Scope::CatalogBrowser => "catalog",
            Scope::RowDetail => "one row",
            Scope::LogbookView => "logbook",
            Scope::ChartView => "chart",
            Scope::PlanView => "plan",
            Scope::SchemaView => "drawing",
            Scope::CellEditor => "value",
            Scope::SlipView => "slip",
            Scope::RowComparison => "comparison of rows",
            Scope::StructureComparison => "comparison of structures",
            Scope::ImportView => "load",
            Scope::MessagesView => "messages",
        }
    }

    /// Whether it is something that lies over the screen, where the keys of the screen below do not count.
    pub fn is_overlaid(self) -> bool {
        !matches!(self, Scope::Everywhere | Scope::Buffer | Scope::Result | Scope::CompletionPopup)
    }
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

/// Other words under which a person may look for an action, in one line; none for most.
pub fn synonyms(name: &str) -> &'static str {
    match name {
        "run-statement" => "execute go query send submit",
        "run-all" => "execute script batch everything",
        "run-script" => "execute sql file source restore dump import",
        "back" => "stop abort interrupt kill",
        "logbook" => "history past queries recent runs log",
        "actions" => "command palette menu commands",
        "help" => "shortcuts keybindings cheat sheet",
        "fill" => "zoom full screen maximize",
        "theme" => "dark light colours colors",
        "other-session" => "second connection parallel",
        "quit" => "exit leave close",
        "connections" => "servers databases profiles connect open",
        "new-connection" => "add server profile url dsn",
        "go-to-database" => "use catalog change database",
        "go-to-schema" => "search path namespace change schema",
        "take-role" => "user privileges set role",
        "let-go" => "close hang up",
        "catalog" => "schema browser tree tables objects explorer describe reload refresh template create index",
        "load-file" => "import csv json excel spreadsheet paste rows",
        "keep-database" | "catalog-keep" => "backup dump export save database",
        "compare-structure" => "diff schema migrate migration",
        "draw-schema" => "diagram er erd relations tables",
        "reveal" => "describe inspect definition ddl",
        "tables" => "views relations list",
        "explain" => "documentation hover what is this",
        "facts" => "profile distribution histogram summary sample",
        "change-value" => "edit cell update modify set",
        "delete-rows" => "remove delete row",
        "add-row" => "insert new row",
        "copy-row" => "duplicate clone insert",
        "slip" | "slips" => "changes pending edits send apply commit drafts",
        "take-back" => "undo revert changes",
        "plan" | "measured-plan" | "show-plan" => "explain analyze query cost slow index",
        "messages" => "notices warnings print output",
        "chart" => "graph plot picture line bar scatter histogram map",
        "narrow" => "where condition",
        "search-rows" => "grep find",
        "keep-columns" => "pin columns sticky",
        "export" => "save download csv json excel dump write file",
        "copy-as" => "clipboard csv json insert update delete",
        "hold" => "pin result keep",
        "place-beside" => "compare split diff two results",
        "next-difference" | "compare-rows" => "compare diff",
        "go-to-statement" => "jump source query",
        "outline" => "symbols list of statements",
        "make-snippet" => "template abbreviation",
        "format" => "pretty beautify indent",
        "problems" => "errors diagnostics warnings lint",
        "replace" => "substitute",
        "search-buffers" => "grep search files",
        "write-arrangement" => "sql statement query push down",
        "save" => "write",
        "edit-outside" => "external editor vi emacs nano",
        "begin-transaction" => "start transaction work",
        "commit" => "transaction end apply",
        "roll-back" => "rollback transaction undo abort",
        "savepoint" => "transaction nested",
        _ => "",
    }
}

/// The table as a Markdown document.
pub fn markdown() -> String {
    let mut text = String::from(
        "# Keys\n\nMade from the action table by `jaunty keys --markdown`. Every action can also be found by part of its name in the list of actions. To bind other keys, use the names in the last column in `settings.toml`:\n\n```toml\n[keys]\nrun-statement = [\"ctrl-g\", \"f4\"]\n```\n\nWhat lies over the screen (lists, prompts, the catalog, the logbook, one row …) takes all keys while it is open: its own keys count before those of a line of input, and these before the keys of all overlays. The key that opened it closes it, and the key for help shows its keys. In a prompt typing replaces text that was filled in for you; the cursor keys keep it. The letters that answer a question stand beside the answers.\n\nMouse: click a cell to select it, click a column's name to sort by it, drag over cells to mark them, double-click to show a value on its own. The wheel scrolls what it is over. The keys in the last line, the list of results and the line between the panes can be clicked and dragged.\n",
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
        let place = action.scope.word();
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
