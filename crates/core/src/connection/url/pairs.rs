//! Connection strings that are no URLs: words and values, with semicolons between them (`Server=quay;Uid=clerk`) or
//! blanks (`host=quay user=clerk`). Which words there are the engines say; nothing here repeats a value, since any of
//! them may be a password.

use std::collections::BTreeMap;

use jaunty_seam::engine::{Engine, Says, Strings};

/// Words as they are written, with their values.
pub(super) type Pairs = Vec<(String, String)>;

/// What a string says to one engine.
pub(super) struct Said {
    /// Keys of a profile, and `password`.
    pub(super) settings: BTreeMap<&'static str, String>,
    /// Words that say nothing here.
    pub(super) left_out: Vec<String>,
}

/// Whether a text is such a string, by a word of it that some engine's drivers know.
pub(super) fn is_one(text: &str, engines: &[&dyn Engine]) -> bool {
    engines.iter().any(|engine| readings(text, *engine).next().is_some_and(|(_, known)| known > 0))
}

/// The engine that a string is for, and its pairs; where that cannot be told, the engines that it may be for.
pub(super) fn engine_of<'e>(
    text: &str,
    engines: &[&'e dyn Engine],
) -> Result<(&'e dyn Engine, Pairs), Vec<&'e dyn Engine>> {
    let mut fits: Vec<(&'e dyn Engine, Pairs, (bool, usize))> = Vec::new();
    for engine in engines {
        let Some(strings) = engine.strings() else { continue };
        let Some((pairs, known)) = readings(text, *engine).max_by_key(|(_, known)| *known) else { continue };
        if known == 0 {
            continue;
        }
        let port = pairs.iter().find(|(word, _)| plain(word) == "port").map(|(_, value)| value.clone());
        let usual = engine.keys().iter().find(|key| key.name == "port").map(|key| key.usual);
        let is_own = pairs.iter().any(|(word, _)| strings.own.contains(&plain(word).as_str()));
        fits.push((*engine, pairs, (is_own || (port.is_some() && port.as_deref() == usual), known)));
    }
    let best = fits.iter().map(|(.., rank)| *rank).max().unwrap_or_default();
    fits.retain(|(.., rank)| *rank == best);
    match fits.len() {
        1 => fits.pop().map(|(engine, pairs, _)| (engine, pairs)).ok_or_else(Vec::new),
        _ => Err(fits.into_iter().map(|(engine, ..)| engine).collect()),
    }
}

/// What pairs say, by the words of a system's drivers.
pub(super) fn said(pairs: &Pairs, strings: &Strings) -> Said {
    let mut said = Said { settings: BTreeMap::new(), left_out: Vec::new() };
    for (word, says) in strings.words {
        for (_, value) in pairs.iter().filter(|(written, value)| plain(written) == *word && !value.is_empty()) {
            match says {
                Says::Key(key) => drop(said.settings.insert(key, value.clone())),
                Says::Server => server(value, &mut said.settings),
                Says::Words(key, words) => {
                    let value = value.to_ascii_lowercase();
                    if let Some((_, ours)) = words.iter().find(|(theirs, _)| *theirs == value) {
                        said.settings.insert(key, (*ours).to_owned());
                    }
                }
            }
        }
    }
    said.left_out = pairs.iter().map(|(word, _)| word.clone()).filter(|word| !is_known(word, strings)).collect();
    said
}

/// Whether the first word of these is one that a system's drivers know.
pub(super) fn begin_known(pairs: &Pairs, strings: &Strings) -> bool {
    pairs.first().is_some_and(|(word, _)| is_known(word, strings))
}

fn is_known(word: &str, strings: &Strings) -> bool {
    let word = plain(word);
    strings.words.iter().any(|(known, _)| *known == word)
}

/// A server with its protocol before it, and its port after a comma.
fn server(text: &str, settings: &mut BTreeMap<&'static str, String>) {
    let text = text.trim().strip_prefix("tcp:").unwrap_or(text.trim());
    let (host, port) = text.split_once(',').unwrap_or((text, ""));
    let here = ["(local)", "."].into_iter().find_map(|here| host.strip_prefix(here));
    let host = match here {
        Some(instance) if instance.is_empty() || instance.starts_with('\\') => format!("127.0.0.1{instance}"),
        _ => host.trim().to_owned(),
    };
    settings.insert("host", host);
    if !port.trim().is_empty() {
        settings.insert("port", port.trim().to_owned());
    }
}

/// A word without what is not told apart in it.
fn plain(word: &str) -> String {
    word.chars().filter(|c| !matches!(c, ' ' | '_')).flat_map(char::to_lowercase).collect()
}

/// The ways to read a text that an engine's drivers have, each with how many of its words they know.
fn readings(text: &str, engine: &dyn Engine) -> impl Iterator<Item = (Pairs, usize)> {
    let strings = engine.strings();
    let ways =
        [Some(by_semicolons as fn(&str) -> Option<Pairs>), strings.filter(|s| s.by_blanks).map(|_| by_blanks as _)];
    let read = ways.into_iter().flatten().filter_map(|way| way(text)).collect::<Vec<_>>();
    read.into_iter().filter_map(move |pairs| {
        let strings = strings?;
        let count = pairs.iter().filter(|(word, _)| is_known(word, strings)).count();
        // A first word that nobody knows may be the beginning of something else.
        (count > 1 || begin_known(&pairs, strings)).then_some((pairs, count))
    })
}

/// `word=value;word="va;lue";word={value}`: a quote inside quotes stands twice.
pub(super) fn by_semicolons(text: &str) -> Option<Pairs> {
    let mut pairs = Vec::new();
    let mut rest = text.trim_start_matches([';', ' ', '\t']);
    while !rest.is_empty() {
        let (word, after) = rest.split_once('=')?;
        let after = after.trim_start();
        let (value, left) = match after.chars().next() {
            Some(quote @ ('"' | '\'')) => quoted(&after[1..], quote)?,
            Some('{') => {
                let (value, left) = after[1..].split_once('}')?;
                (value.to_owned(), left)
            }
            _ => {
                let end = after.find(';').unwrap_or(after.len());
                (after[..end].trim_end().to_owned(), &after[end..])
            }
        };
        pairs.push((checked(word)?, value));
        let left = left.trim_start();
        if !left.is_empty() && !left.starts_with(';') {
            return None;
        }
        rest = left.trim_start_matches([';', ' ', '\t', '\n', '\r']);
    }
    (!pairs.is_empty()).then_some(pairs)
}

/// `word=value word='va lue'`: a backslash takes the following character as it stands.
fn by_blanks(text: &str) -> Option<Pairs> {
    let mut pairs = Vec::new();
    let mut rest = text.trim_start();
    while !rest.is_empty() {
        let (word, after) = rest.split_once('=')?;
        let after = after.trim_start();
        let is_quoted = after.starts_with('\'');
        let mut value = String::new();
        let mut chars = after.char_indices().skip(usize::from(is_quoted));
        let mut end = None;
        while let Some((at, c)) = chars.next() {
            match c {
                '\\' => value.extend(chars.next().map(|(_, c)| c)),
                '\'' if is_quoted => {
                    end = Some(at + 1);
                    break;
                }
                c if c.is_whitespace() && !is_quoted => {
                    end = Some(at);
                    break;
                }
                c => value.push(c),
            }
        }
        if is_quoted && end.is_none() {
            return None;
        }
        pairs.push((checked(word)?, value));
        rest = after[end.unwrap_or(after.len())..].trim_start();
    }
    (!pairs.is_empty()).then_some(pairs)
}

/// What stands in quotes, and what comes after them.
fn quoted(text: &str, quote: char) -> Option<(String, &str)> {
    let mut value = String::new();
    let mut rest = text;
    loop {
        let (before, after) = rest.split_once(quote)?;
        value.push_str(before);
        match after.strip_prefix(quote) {
            Some(more) => {
                value.push(quote);
                rest = more;
            }
            None => return Some((value, after)),
        }
    }
}

/// A word, if it can be one.
fn checked(word: &str) -> Option<String> {
    let word = word.trim();
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, ' ' | '_' | '.');
    (!word.is_empty() && word.len() <= 40 && word.chars().all(fits)).then(|| word.to_owned())
}
