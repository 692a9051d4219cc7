//! What shells and readers of manuals need, from the declaration of the command line.

use std::path::Path;

use clap::CommandFactory;
use clap_complete::{Shell, generate};
use jaunty_core::files::private_folder;

use crate::args::Args;
use crate::failure::Failure;

/// Asks this program for the names of connections, one a line.
const NAMES: &str = "jaunty connections list --names 2>/dev/null";

/// Asks it for the names of buffers.
const BUFFERS: &str = "jaunty buffers --names 2>/dev/null";

/// Prints the completion script of a shell.
pub fn completions(shell: &str) -> Result<(), Failure> {
    let kind = match shell {
        "zsh" => Shell::Zsh,
        "fish" => Shell::Fish,
        _ => Shell::Bash,
    };
    let mut out = Vec::new();
    generate(kind, &mut Args::command(), "jaunty", &mut out);
    let script = String::from_utf8_lossy(&out).into_owned();
    super::print_as_it_is(&with_names(&script, kind))
}

/// The script with names of connections and of buffers where the command line takes one: they are asked of the program
/// when they are wanted, since files change.
fn with_names(script: &str, shell: Shell) -> String {
    match shell {
        Shell::Zsh => {
            let function = |name: &str, asked: &str, also: &str| {
                format!(
                    "{name}() {{\n    local -a names\n    names=(${{(f)\"$({asked})\"}})\n    compadd -a names\n{also}}}\n"
                )
            };
            let functions = function("_jaunty_names", NAMES, "")
                + &function("_jaunty_files", BUFFERS, "    _files\n")
                + &function("_jaunty_first", BUFFERS, "    _jaunty_names\n    _files\n");
            let mut script = script.replace(":NAME:_default", ":NAME:_jaunty_names");
            let root = Args::command();
            // The first word may be a connection, too.
            let first = place_of(&root);
            script = script.replace(&format!("{first}:_files"), &format!("{first}:_jaunty_first"));
            for place in root.get_subcommands().filter(|sub| TAKE_BUFFERS.contains(&sub.get_name())).map(place_of) {
                script = script.replace(&format!("{place}:_default"), &format!("{place}:_jaunty_files"));
                script = script.replace(&format!("{place}:_files"), &format!("{place}:_jaunty_files"));
            }
            // Behind the line that tells which command it is for.
            match script.split_once('\n') {
                Some((first, rest)) => format!("{first}\n\n{functions}{rest}"),
                None => script,
            }
        }
        Shell::Fish => {
            let names = format!("complete -c jaunty -s c -l connection -x -a \"({NAMES})\"\n");
            let taken = TAKE_BUFFERS.join(" ");
            let buffers = format!("complete -c jaunty -n \"__fish_seen_subcommand_from {taken}\" -a \"({BUFFERS})\"\n");
            let alone = format!("complete -c jaunty -n __fish_use_subcommand -a \"({BUFFERS}; {NAMES})\"\n");
            format!("{script}{names}{buffers}{alone}")
        }
        _ => {
            let taken = TAKE_BUFFERS.join("|");
            format!(
                r#"{script}
_jaunty_with_names() {{
    local word="${{COMP_WORDS[COMP_CWORD]}}" command="${{COMP_WORDS[1]}}"
    case "${{COMP_WORDS[COMP_CWORD-1]}}" in
        -c|--connection)
            COMPREPLY=($(compgen -W "$({NAMES})" -- "$word"))
            return ;;
    esac
    _jaunty "$@"
    case "$word" in -*) return ;; esac
    if ((COMP_CWORD == 1)); then command=; fi
    case "$command" in
        ''|{taken})
            local name
            while IFS= read -r name; do
                if [[ "$name" == "$word"* ]]; then COMPREPLY+=("$name"); fi
            done < <({BUFFERS}; if ((COMP_CWORD == 1)); then {NAMES}; fi) ;;
    esac
}}
complete -F _jaunty_with_names -o bashdefault -o default jaunty
"#
            )
        }
    }
}

/// The commands that take a buffer by its name.
const TAKE_BUFFERS: &[&str] = &["run", "plan", "send", "statements"];

/// How the file that a command takes stands in what is generated for zsh, before what completes it.
fn place_of(command: &clap::Command) -> String {
    let file = command.get_positionals().next();
    let help = file.and_then(clap::Arg::get_help).map(ToString::to_string).unwrap_or_default();
    format!("{} -- {}", file.map(clap::Arg::get_id).map_or("", clap::Id::as_str), help.replace(':', "\\:"))
}

/// Writes the manual pages into a folder, or prints that of the program.
pub fn man(folder: Option<&Path>) -> Result<(), Failure> {
    let command = Args::command();
    match folder {
        Some(folder) => {
            let failed =
                |error: std::io::Error| Failure::Usage(format!("{} cannot be written: {error}", folder.display()));
            if !folder.is_dir() {
                private_folder(folder).map_err(failed)?;
            }
            clap_mangen::generate_to(command, folder).map_err(failed)
        }
        None => {
            let mut out = Vec::new();
            let page = clap_mangen::Man::new(command);
            page.render(&mut out).map_err(|error| Failure::output(&error, "standard output"))?;
            super::print_as_it_is(&String::from_utf8_lossy(&out))
        }
    }
}
