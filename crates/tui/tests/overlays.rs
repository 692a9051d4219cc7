//! What lies over the screen: its keys can be bound to others, what opens it closes it, and help keeps what it lies over.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::collections::HashMap;

use crossterm::event::{KeyCode, KeyModifiers};
use jaunty_seam::profile::Guard;
use jaunty_tui::action::by_name;
use jaunty_tui::app::Overlay;
use jaunty_tui::keys::{Key, Keymap};
use support::Stage;

fn stage(keys: &[(&str, &str)]) -> Stage {
    let mut stage = Stage::with("create table ports(name text);\n\nselect 7 as berths;\n", (120, 30), Guard::Open);
    let bound = keys.iter().map(|(name, key)| (by_name(name).unwrap().name, vec![Key::parse(key).unwrap()]));
    stage.app.keymap = Keymap::new(&bound.collect::<HashMap<_, _>>());
    stage
}

#[test]
fn the_key_that_opens_something_closes_it_whichever_it_is() {
    for (name, key, usual) in [("logbook", "alt-z", 'l'), ("outline", "alt-z", 'o'), ("search-buffers", "alt-z", 'b')] {
        let mut stage = stage(&[(name, key)]).runs();
        stage = stage.alt('z');
        assert!(stage.app.overlay.is_some(), "{name}");
        // The usual one means nothing any more.
        stage = stage.alt(usual);
        assert!(stage.app.overlay.is_some(), "{name}");
        stage = stage.alt('z');
        assert!(stage.app.overlay.is_none(), "{name}");
    }
}

#[test]
fn what_closes_and_chooses_can_be_another_key() {
    let stage = stage(&[("close-overlay", "f12"), ("accept", "f11"), ("overlay-down", "f10")]);
    let stage = stage.control('l').esc();
    assert!(stage.app.overlay.is_some(), "esc is free now");
    let stage = stage.f(12);
    assert!(stage.app.overlay.is_none());
    let stage = stage.control('l').types("switch theme").enter();
    assert!(stage.app.overlay.is_some());
    assert!(stage.text().contains("f11 chooses · f12 closes"), "{}", stage.text());
    let before = stage.app.theme.name;
    let stage = stage.f(11);
    assert_ne!(stage.app.theme.name, before);
    let stage = stage.alt('o').f(10);
    assert!(matches!(&stage.app.overlay, Some(Overlay::List(list)) if list.chosen == 1));
}

#[test]
fn each_has_keys_of_its_own_that_can_be_others() {
    let stage = stage(&[("catalog-left", "f11"), ("keep-entry", "f12"), ("next-field", "f10")]).runs();
    let stage = stage.until("the catalog", |app| app.connection.catalog.is_some()).control('o');
    let column = |stage: &Stage| match &stage.app.overlay {
        Some(Overlay::CatalogBrowser(catalog)) => catalog.column,
        other => panic!("{other:?}"),
    };
    let stage = stage.key(KeyCode::Left, KeyModifiers::NONE);
    assert_eq!(column(&stage), 1, "left is free now");
    let stage = stage.f(11);
    assert_eq!(column(&stage), 0);
    let stage = stage.esc().alt('l').until(
        "the logbook",
        |app| matches!(&app.overlay, Some(Overlay::LogbookView(logbook)) if logbook.entries.is_some()),
    );
    let pinned = |app: &jaunty_tui::app::App| matches!(&app.overlay, Some(Overlay::LogbookView(logbook)) if logbook.entry().is_some_and(|entry| entry.pinned));
    let stage = stage.f(12).until("it is kept", pinned);
    assert!(stage.text().contains("f12 keep rows"));
}

#[test]
fn the_keys_of_a_line_can_be_others() {
    let stage = stage(&[("input-delete-word-left", "f9"), ("clear-input", "f10")]).alt('b').types("two words");
    let line = |stage: &Stage| match &stage.app.overlay {
        Some(Overlay::Prompt(prompt)) => prompt.line.text().to_owned(),
        other => panic!("{other:?}"),
    };
    let stage = stage.f(9);
    assert_eq!(line(&stage), "two ");
    let stage = stage.f(10);
    assert_eq!(line(&stage), "");
}

#[test]
fn help_lies_over_what_is_open_and_gives_it_back() {
    let open = || stage(&[]).alt('b').types("salt").f(2);
    let stage = open();
    assert!(matches!(stage.app.overlay, Some(Overlay::Help(_))));
    let lines = stage.text();
    assert!(lines.contains("Line of input") || lines.contains("Clear the line of a prompt"), "{lines}");
    for close in [KeyCode::F(2), KeyCode::Esc] {
        let stage = open().key(close, KeyModifiers::NONE);
        match &stage.app.overlay {
            Some(Overlay::Prompt(prompt)) => assert_eq!(prompt.line.text(), "salt"),
            other => panic!("{other:?}"),
        }
        // What opened the prompt still closes it.
        assert!(stage.alt('b').app.overlay.is_none());
    }
}
