//! Whatever is pressed, in whatever order, on a screen of whatever size: the program goes on, and paints nothing
//! that acts on a terminal.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::cell::RefCell;
use std::collections::HashSet;
use std::mem::discriminant;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use jaunty_core::run::gate::Ahead;
use jaunty_seam::profile::Guard;
use jaunty_tui::action::ACTIONS;
use jaunty_tui::app::Message;
use jaunty_tui::keys::Key;
use proptest::prelude::*;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};
use support::Stage;

/// Statements of every shape and outcome, and values of every kind, some of them hostile.
const BUFFER: &str = "-- Ports\ncreate table ports(id integer primary key, name text, berths integer, chart blob);\n
insert into ports(name, berths, chart) values ('Saltmarsh\u{1b}[2J', 6, x'00ff'), ('', null, null), ('名\u{202e}', -1, x'');\n
select * from ports;\n
-- Many\nwith recursive n(i) as (select 1 union all select i + 1 from n where i < 3000)
select i, i % 7 as seven, 'quay ' || i as name, case when i % 5 = 0 then null else i * 0.5 end as fare, '{\"deck\": [' || i || ', {}]}' as notes from n;
--> many.csv\n
select name from ports where berths > :least and name like ?;\n
select nmae from ports;\n
select 'never closed from ports";

#[derive(Debug, Clone)]
enum Done {
    Key(KeyCode, KeyModifiers),
    Text(String),
    Paste(String),
    Mouse(MouseEventKind, u16, u16),
    Resize(u16, u16),
    /// What other threads have to tell is taken.
    Wait,
    /// From where one may be, to what lies over the screen with this key.
    Opens(Key),
}

/// What a person, or a cat, may do.
fn done() -> impl Strategy<Value = Done> {
    let keys: Vec<KeyEvent> = ACTIONS
        .iter()
        // Another program would have the terminal; leaving is asked about and is no end.
        .filter(|action| action.name != "edit-outside")
        .flat_map(|action| action.keys)
        .filter_map(|name| Key::parse(name))
        .map(KeyEvent::from)
        .collect();
    let key = proptest::sample::select(keys).prop_map(|key| Done::Key(key.code, key.modifiers));
    let plain = [
        KeyCode::Enter,
        KeyCode::Esc,
        KeyCode::Tab,
        KeyCode::Backspace,
        KeyCode::Up,
        KeyCode::Down,
        KeyCode::Left,
        KeyCode::Right,
    ];
    let plain = proptest::sample::select(plain.to_vec()).prop_map(|code| Done::Key(code, KeyModifiers::NONE));
    let words = [
        "> 5",
        "select ",
        "na",
        "null",
        "y",
        "d",
        "50 %",
        "out.json",
        "7",
        "é名",
        "'",
        "(",
        ";",
        "\u{1b}[31m",
        "sort",
        "*",
    ];
    let text = proptest::sample::select(words.to_vec()).prop_map(|word| Done::Text(word.to_owned()));
    let button = MouseButton::Left;
    let mouse = proptest::sample::select(vec![
        MouseEventKind::Down(button),
        MouseEventKind::Drag(button),
        MouseEventKind::Up(button),
        MouseEventKind::ScrollDown,
        MouseEventKind::ScrollUp,
    ]);
    let mouse = (mouse, 0..150_u16, 0..50_u16).prop_map(|(kind, x, y)| Done::Mouse(kind, x, y));
    let sizes = [(80, 24), (140, 42), (120, 30), (30, 6), (43, 9), (5, 2), (0, 0), (250, 60)];
    let size = proptest::sample::select(sizes.to_vec()).prop_map(|(width, height)| Done::Resize(width, height));
    let opens = [
        "f2", "f3", "ctrl-l", "ctrl-o", "alt-l", "ctrl-k", "f9", "enter", "v", "i", "n", "alt-x", "G", "alt-w", "alt-k",
    ];
    let opens = opens.into_iter().filter_map(Key::parse).map(Done::Opens).collect::<Vec<_>>();
    prop_oneof![
        5 => proptest::sample::select(opens),
        12 => key,
        5 => plain,
        4 => text,
        1 => Just(Done::Paste("select 'a\u{7}b';\n-- two\nselect 2".to_owned())),
        3 => mouse,
        1 => size,
        8 => Just(Done::Wait),
    ]
}

fn event(done: &Done) -> Vec<Event> {
    match done {
        Done::Key(code, modifiers) => vec![Event::Key(KeyEvent::new(*code, *modifiers))],
        Done::Text(text) => {
            text.chars().map(|c| Event::Key(KeyEvent::new(KeyCode::Char(c), KeyModifiers::NONE))).collect()
        }
        Done::Paste(text) => vec![Event::Paste(text.clone())],
        Done::Mouse(kind, column, row) => {
            vec![Event::Mouse(MouseEvent { kind: *kind, column: *column, row: *row, modifiers: KeyModifiers::NONE })]
        }
        Done::Resize(width, height) => vec![Event::Resize(*width, *height)],
        Done::Opens(key) => ["esc", "esc"]
            .into_iter()
            .filter_map(Key::parse)
            .chain([*key])
            .map(|key| Event::Key(KeyEvent::from(key)))
            .collect(),
        Done::Wait => Vec::new(),
    }
}

/// Draws the screen and looks at every cell.
fn is_sound(stage: &Stage) {
    let (cells, cursor) = stage.drawn();
    for cell in &cells.content {
        let acts = |c: char| {
            c.is_control() || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
        };
        assert!(!cell.symbol().chars().any(acts), "{:?} is painted", cell.symbol());
    }
    if let Some(cursor) = cursor {
        assert!(cells.area.contains(cursor), "the cursor at {cursor:?} is outside {:?}", cells.area);
    }
}

/// Presses anything so many times; returns what lay over the screen meanwhile, of all that can.
fn goes_on(stage: impl Fn() -> Stage, cases: u32) -> usize {
    let overlay = RefCell::new(HashSet::new());
    let config = Config { failure_persistence: None, max_shrink_iters: 300, ..Config::with_cases(cases) };
    // The same each time: what it finds should not depend on the day.
    let rng = TestRng::deterministic_rng(RngAlgorithm::ChaCha);
    let all = proptest::collection::vec(done(), 60..160);
    TestRunner::new_with_rng(config, rng)
        .run(&all, |all| {
            let mut stage = stage();
            for done in &all {
                for event in event(done) {
                    stage.app.update(Message::Input(event));
                }
                if matches!(done, Done::Wait) {
                    stage.takes_what_came();
                }
                // Files are written where the buffer is; what would leave only says that it would.
                stage.app.leaving = false;
                is_sound(&stage);
                overlay.borrow_mut().extend(stage.app.overlay.as_ref().map(discriminant));
            }
            Ok(())
        })
        .unwrap();
    overlay.into_inner().len()
}

#[test]
fn anything_may_be_pressed() {
    let overlay = goes_on(|| Stage::with(BUFFER, (140, 42), Guard::Open), 25);
    assert!(overlay >= 7, "{overlay} of thirteen were seen");
}

#[test]
fn anything_may_be_pressed_while_a_result_is_in_hand() {
    let many = |guard| {
        let stage = Stage::reading(BUFFER, (140, 42), guard, Ahead { rows: 500, bytes: u64::MAX });
        // The third statement but one has rows that are held.
        (0..4).fold(stage, |stage, _| stage.control('n')).control('g').control('t')
    };
    let overlay = goes_on(|| many(Guard::Open), 20);
    assert!(overlay >= 7, "{overlay} of thirteen were seen");
    goes_on(|| many(Guard::Ask), 6);
}
