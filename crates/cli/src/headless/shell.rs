//! What shells and readers of manuals need, from the declaration of the command line.

use std::path::Path;

use clap::CommandFactory;
use clap_complete::{Shell, generate};
use jaunty_core::files::private_folder;

use crate::args::Args;
use crate::failure::Failure;

/// Asks this program for the names of connections, one a line.
const NAMES: &str = "jaunty connections list --names 2>/dev/null";

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

/// The script with names of connections where the command line takes one: they are asked of the program when they are
/// wanted, since files change.
fn with_names(script: &str, shell: Shell) -> String {
    match shell {
        Shell::Zsh => {
            let function = format!(
                "_jaunty_names() {{\n    local -a names\n    names=(${{(f)\"$({NAMES})\"}})\n    compadd -a names\n}}\n"
            );
            let script = script.replace(":NAME:_default", ":NAME:_jaunty_names");
            // Behind the line that tells which command it is for.
            match script.split_once('\n') {
                Some((first, rest)) => format!("{first}\n\n{function}{rest}"),
                None => script,
            }
        }
        Shell::Fish => {
            let names = format!("complete -c jaunty -s c -l connection -x -a \"({NAMES})\"\n");
            format!("{script}{names}")
        }
        _ => format!(
            "{script}\n_jaunty_with_names() {{\n    case \"${{COMP_WORDS[COMP_CWORD-1]}}\" in\n        -c|--connection)\n            \
             COMPREPLY=($(compgen -W \"$({NAMES})\" -- \"${{COMP_WORDS[COMP_CWORD]}}\"))\n            return ;;\n    esac\n    \
             _jaunty \"$@\"\n}}\ncomplete -F _jaunty_with_names -o bashdefault -o default jaunty\n"
        ),
    }
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
