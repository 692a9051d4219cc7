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

/// A command that takes a connection by its name: as an argument, by options, or both.
struct Taker {
    /// Its words, such as `connections try`; none for the program itself.
    words: String,
    /// How the argument stands in what is generated for zsh, before what completes it; whether several may be given.
    argument: Option<(String, bool)>,
    /// The options, with their short forms.
    options: Vec<(Option<char>, String)>,
}

/// What values that are names of connections are called in the declaration.
const NAME: &str = "NAME";

/// All commands that take the name of a connection, the program itself first.
fn takers(command: &clap::Command, words: &str) -> Vec<Taker> {
    let first = |arg: &clap::Arg| arg.get_value_names()?.first().map(|name| name == NAME);
    let takes = |arg: &&clap::Arg| first(arg) == Some(true);
    let argument = command.get_positionals().next().filter(takes).map(|arg| {
        let several = arg.get_num_args().is_some_and(|count| count.max_values() > 1);
        (place_of(command), several && arg.get_value_names().is_some_and(|names| names.len() == 1))
    });
    let options = command.get_opts().filter(takes);
    let options = options.map(|arg| (arg.get_short(), arg.get_long().unwrap_or_default().to_owned())).collect();
    let own = Taker { words: words.to_owned(), argument, options };
    let below = command.get_subcommands().flat_map(|sub| takers(sub, format!("{words} {}", sub.get_name()).trim()));
    [own].into_iter().chain(below).filter(|taker| taker.argument.is_some() || !taker.options.is_empty()).collect()
}

/// The script with names of connections and of buffers where the command line takes one: they are asked of the program
/// when they are wanted, since files change.
fn with_names(script: &str, shell: Shell) -> String {
    let root = Args::command();
    let takers = takers(&root, "");
    match shell {
        Shell::Zsh => in_zsh(script, &root, &takers),
        Shell::Fish => in_fish(script, &takers),
        _ => in_bash(script, &takers),
    }
}

fn in_zsh(script: &str, root: &clap::Command, takers: &[Taker]) -> String {
    let function = |name: &str, asked: &str, also: &str| {
        format!("{name}() {{\n    local -a names\n    names=(${{(f)\"$({asked})\"}})\n    compadd -a names\n{also}}}\n")
    };
    let functions = function("_jaunty_names", NAMES, "")
        + &function("_jaunty_files", BUFFERS, "    _files\n")
        + &function("_jaunty_first", BUFFERS, "    _jaunty_commands\n    _jaunty_names\n    _files\n");
    let mut script = script.replace(&format!(":{NAME}:_default"), &format!(":{NAME}:_jaunty_names"));
    for (place, _) in takers.iter().filter_map(|taker| taker.argument.as_ref()) {
        script = script.replace(&format!("{place}:_default"), &format!("{place}:_jaunty_names"));
    }
    // The first word is a command or what the screen is opened with. What is generated wants the one after the other, and
    // offers commands where their own arguments are due.
    let first = place_of(root);
    let script_lines = script.lines().filter(|line| !line.contains(&first));
    script = script_lines.flat_map(|line| [line, "\n"]).collect();
    script = script.replace("\":: :_jaunty_commands\"", "\":: :_jaunty_first\"").replace("$line[2]", "$line[1]");
    for place in root.get_subcommands().filter(|sub| TAKE_BUFFERS.contains(&sub.get_name())).map(place_of) {
        script = script.replace(&format!("{place}:_default"), &format!("{place}:_jaunty_files"));
        script = script.replace(&format!("{place}:_files"), &format!("{place}:_jaunty_files"));
    }
    // After the line that says which command it is for.
    match script.split_once('\n') {
        Some((first, rest)) => format!("{first}\n\n{functions}{rest}"),
        None => script,
    }
}

fn in_fish(script: &str, takers: &[Taker]) -> String {
    let mut script = script.to_owned();
    for taker in takers {
        let seen: Vec<String> =
            taker.words.split(' ').map(|word| format!("__fish_seen_subcommand_from {word}")).collect();
        let when = if taker.words.is_empty() { "__fish_use_subcommand".to_owned() } else { seen.join("; and ") };
        let mut line =
            |what: &str| script.push_str(&format!("complete -c jaunty -n \"{when}\" {what} -a \"({NAMES})\"\n"));
        for (short, long) in &taker.options {
            line(&format!("{}-l {long} -x", short.map(|short| format!("-s {short} ")).unwrap_or_default()));
        }
        if taker.argument.is_some() {
            line("");
        }
    }
    let taken = TAKE_BUFFERS.join(" ");
    let buffers = format!("complete -c jaunty -n \"__fish_seen_subcommand_from {taken}\" -a \"({BUFFERS})\"\n");
    let alone = format!("complete -c jaunty -n __fish_use_subcommand -a \"({BUFFERS}; {NAMES})\"\n");
    format!("{script}{buffers}{alone}")
}

fn in_bash(script: &str, takers: &[Taker]) -> String {
    let mut options = Vec::new();
    let mut arguments = Vec::new();
    for taker in takers {
        let before = if taker.words.is_empty() { String::new() } else { format!("{} ", taker.words) };
        for (short, long) in &taker.options {
            // Of the program itself the option is the first word.
            let between = if taker.words.is_empty() { "" } else { "*" };
            let short = short.map(|short| format!("\"{before}\"{between}-{short}|")).unwrap_or_default();
            options.push(format!("{short}\"{before}\"{between}--{long}"));
        }
        if let Some((_, several)) = &taker.argument {
            arguments.push(format!("\"{}\"", taker.words));
            arguments.extend(several.then(|| format!("\"{} \"*", taker.words)));
        }
    }
    let (options, arguments, taken) = (options.join("|"), arguments.join("|"), TAKE_BUFFERS.join("|"));
    format!(
        r#"{script}
_jaunty_with_names() {{
    local word="${{COMP_WORDS[COMP_CWORD]}}" command="${{COMP_WORDS[1]}}"
    local before="${{COMP_WORDS[*]:1:COMP_CWORD-1}}"
    case "$before" in
        {options})
            COMPREPLY=($(compgen -W "$({NAMES})" -- "$word"))
            return ;;
    esac
    _jaunty "$@"
    case "$word" in -*) return ;; esac
    case "$before" in
        {arguments})
            COMPREPLY+=($(compgen -W "$({NAMES})" -- "$word"))
            return ;;
    esac
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

/// The commands that take a buffer by its name.
const TAKE_BUFFERS: &[&str] = &["run", "plan", "send", "statements"];

/// How the first argument that a command takes stands in what is generated for zsh, before what completes it.
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
