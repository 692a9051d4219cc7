//! What `settings.toml` says about the screen: its theme and its keys.

use std::collections::HashMap;

use jaunty_core::settings::Settings;

use crate::action::by_name;
use crate::keys::Key;
use crate::theme;

/// How the screen looks, and what its keys do.
#[derive(Debug)]
pub struct Appearance {
    /// The theme.
    pub theme: theme::Name,
    /// Keys that differ from the defaults, by action.
    pub keys: HashMap<&'static str, Vec<Key>>,
}

/// Understands theme and keys. What cannot be used is left out, and joins the problems of the settings.
pub fn understood(settings: &mut Settings) -> Appearance {
    let mut appearance = Appearance { theme: theme::Name::Lamplight, keys: HashMap::new() };
    if let Some(wanted) = settings.theme.clone() {
        match theme::Name::ALL.iter().find(|name| wanted.value.as_deref() == Some(name.word())) {
            Some(name) => appearance.theme = *name,
            None => settings.problem(wanted.line, "unknown theme. Use lamplight or foolscap."),
        }
    }
    for (name, keys) in settings.keys.clone() {
        let Some(action) = by_name(&name) else {
            settings.problem(keys.line, &format!("unknown action \"{name}\". docs/keys.md lists them all."));
            continue;
        };
        match keys.value.and_then(|keys| keys.iter().map(|key| Key::parse(key)).collect::<Option<Vec<_>>>()) {
            Some(keys) => {
                appearance.keys.insert(action.name, keys);
            }
            None => {
                let what = format!("{name} is not a list of keys. Write {name} = [\"ctrl-g\", \"f4\"].");
                settings.problem(keys.line, &what);
            }
        }
    }
    appearance
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_core::settings::parse;
    use std::path::Path;

    #[test]
    fn theme_and_keys_are_understood() {
        let mut settings =
            parse("theme = \"foolscap\"\n[keys]\nrun-statement = [\"ctrl-g\", \"f4\"]\n", Path::new("s"));
        let appearance = understood(&mut settings);
        assert_eq!(settings.problems, [] as [String; 0]);
        assert_eq!(appearance.theme, theme::Name::Foolscap);
        assert_eq!(appearance.keys["run-statement"].len(), 2);
    }

    #[test]
    fn every_mistake_has_its_line() {
        for (text, expected) in [
            ("theme = \"dusk\"", "line 1: unknown theme. Use lamplight or foolscap."),
            ("\n[keys]\nrun = [\"x\"]", "line 3: unknown action \"run\". docs/keys.md lists them all."),
            ("[keys]\nsave = \"x\"", "line 2: save is not a list of keys. Write save = [\"ctrl-g\", \"f4\"]."),
            ("[keys]\nsave = [\"hyper-x\"]", "line 2: save is not a list of keys. Write save = [\"ctrl-g\", \"f4\"]."),
        ] {
            let mut settings = parse(text, Path::new("s.toml"));
            understood(&mut settings);
            assert_eq!(settings.problems, [format!("s.toml, {expected}")]);
        }
    }
}
