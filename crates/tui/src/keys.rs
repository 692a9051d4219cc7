//! Keys: their names in files and on the screen, and which action each means where.

use std::collections::HashMap;
use std::fmt;

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use crate::action::{ACTIONS, Action, Scope};

/// One key with its modifiers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Key {
    code: KeyCode,
    modifiers: KeyModifiers,
}

const NAMED: &[(&str, KeyCode)] = &[
    ("enter", KeyCode::Enter),
    ("esc", KeyCode::Esc),
    ("tab", KeyCode::Tab),
    ("backtab", KeyCode::BackTab),
    ("backspace", KeyCode::Backspace),
    ("delete", KeyCode::Delete),
    ("left", KeyCode::Left),
    ("right", KeyCode::Right),
    ("up", KeyCode::Up),
    ("down", KeyCode::Down),
    ("home", KeyCode::Home),
    ("end", KeyCode::End),
    ("pageup", KeyCode::PageUp),
    ("pagedown", KeyCode::PageDown),
    ("space", KeyCode::Char(' ')),
];

impl Key {
    /// The key of an event. What a terminal cannot tell apart is the same key.
    pub fn of(event: &KeyEvent) -> Key {
        let mut modifiers = event.modifiers & (KeyModifiers::CONTROL | KeyModifiers::ALT | KeyModifiers::SHIFT);
        let code = match event.code {
            KeyCode::Char(c) => {
                modifiers -= KeyModifiers::SHIFT;
                if modifiers.contains(KeyModifiers::CONTROL) {
                    KeyCode::Char(c.to_ascii_lowercase())
                } else {
                    KeyCode::Char(c)
                }
            }
            KeyCode::BackTab => {
                modifiers -= KeyModifiers::SHIFT;
                KeyCode::BackTab
            }
            code => code,
        };
        Key { code, modifiers }
    }

    /// Reads a name as `ctrl-g`, `shift-left`, `f2` or `<`.
    pub fn parse(name: &str) -> Option<Key> {
        let mut rest = name;
        let mut modifiers = KeyModifiers::NONE;
        for (prefix, modifier) in
            [("ctrl-", KeyModifiers::CONTROL), ("alt-", KeyModifiers::ALT), ("shift-", KeyModifiers::SHIFT)]
        {
            if let Some(after) = rest.strip_prefix(prefix) {
                rest = after;
                modifiers |= modifier;
            }
        }
        let mut characters = rest.chars();
        let code = match (characters.next(), characters.next()) {
            (Some(c), None) => KeyCode::Char(c),
            (Some('f'), _) if rest[1..].parse::<u8>().is_ok_and(|n| (1..=12).contains(&n)) => {
                KeyCode::F(rest[1..].parse().ok()?)
            }
            _ => NAMED.iter().find(|(known, _)| *known == rest).map(|(_, code)| *code)?,
        };
        Some(Key { code, modifiers })
    }

    /// The character it types, if it types one.
    pub fn typed(&self) -> Option<char> {
        match self.code {
            KeyCode::Char(c) if !self.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT) => Some(c),
            _ => None,
        }
    }
}

impl From<Key> for KeyEvent {
    fn from(key: Key) -> KeyEvent {
        KeyEvent::new(key.code, key.modifiers)
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (modifier, prefix) in
            [(KeyModifiers::CONTROL, "ctrl-"), (KeyModifiers::ALT, "alt-"), (KeyModifiers::SHIFT, "shift-")]
        {
            if self.modifiers.contains(modifier) {
                f.write_str(prefix)?;
            }
        }
        match (NAMED.iter().find(|(_, code)| *code == self.code), self.code) {
            (Some((name, _)), _) => f.write_str(name),
            (None, KeyCode::Char(c)) => write!(f, "{c}"),
            (None, KeyCode::F(n)) => write!(f, "f{n}"),
            (None, other) => write!(f, "{other:?}"),
        }
    }
}

/// Which key means which action.
#[derive(Debug)]
pub struct Keymap {
    bound: HashMap<(Scope, Key), &'static Action>,
    keys: HashMap<&'static str, Vec<Key>>,
}

impl Keymap {
    /// The default keys, with those of the settings in their place.
    pub fn new(rebound: &HashMap<&'static str, Vec<Key>>) -> Keymap {
        let mut keymap = Keymap { bound: HashMap::new(), keys: HashMap::new() };
        // A key that a person binds is taken from the action that had it.
        for chosen in [false, true] {
            for action in ACTIONS {
                let keys = match (chosen, rebound.get(action.name)) {
                    (true, Some(keys)) => keys.clone(),
                    (false, None) => action.keys.iter().filter_map(|name| Key::parse(name)).collect(),
                    _ => continue,
                };
                for key in &keys {
                    if let Some(before) = keymap.bound.insert((action.scope, *key), action)
                        && let Some(keys) = keymap.keys.get_mut(before.name)
                    {
                        keys.retain(|k| k != key);
                    }
                }
                keymap.keys.insert(action.name, keys);
            }
        }
        keymap
    }

    /// What a key means where the focus is.
    pub fn action(&self, key: Key, scope: Scope) -> Option<&'static Action> {
        self.bound.get(&(scope, key)).or_else(|| self.bound.get(&(Scope::Everywhere, key))).copied()
    }

    /// What a key means in this place alone.
    pub fn only(&self, key: Key, scope: Scope) -> Option<&'static Action> {
        self.bound.get(&(scope, key)).copied()
    }

    /// The keys of an action.
    pub fn keys(&self, action: &Action) -> &[Key] {
        self.keys.get(action.name).map_or(&[], Vec::as_slice)
    }

    /// The first key of an action, as text; empty if it has none.
    pub fn first(&self, action: &Action) -> String {
        self.keys(action).first().map_or_else(String::new, Key::to_string)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_read_back() {
        for name in
            ["ctrl-g", "alt-enter", "shift-left", "ctrl-shift-left", "f2", "f12", "<", "-", "space", "pagedown", "g"]
        {
            assert_eq!(Key::parse(name).map(|key| key.to_string()).as_deref(), Some(name));
        }
        assert_eq!([Key::parse("ctrl-"), Key::parse("f13"), Key::parse("hyper-x")], [None; 3]);
    }

    #[test]
    fn every_default_key_can_be_typed_and_means_one_thing() {
        let mut seen: HashMap<(Scope, Key), &str> = HashMap::new();
        for action in ACTIONS {
            for name in action.keys {
                let key = Key::parse(name).unwrap_or_else(|| panic!("{name} of {} is not a key", action.name));
                let other = seen.insert((action.scope, key), action.name);
                assert_eq!(other, None, "{name} of {} is taken", action.name);
                let everywhere = seen.get(&(Scope::Everywhere, key));
                // Proposals and overlays go before everything else while they are there.
                let alone =
                    matches!(action.scope, Scope::Everywhere | Scope::CompletionPopup) || action.scope.is_overlaid();
                assert!(alone || everywhere.is_none(), "{name} hides {everywhere:?}");
            }
        }
    }

    #[test]
    fn a_rebound_key_is_taken_from_its_action() {
        let key = Key::parse("alt-g").unwrap();
        let keymap = Keymap::new(&HashMap::from([("run-statement", vec![key])]));
        assert_eq!(keymap.action(key, Scope::Buffer).map(|a| a.name), Some("run-statement"));
        assert_eq!(keymap.action(Key::parse("ctrl-g").unwrap(), Scope::Buffer).map(|a| a.name), None);
        let all = ACTIONS.iter().find(|a| a.name == "run-all").unwrap();
        assert!(keymap.keys(all).is_empty());
    }
}
