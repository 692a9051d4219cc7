//! Rows on their way out of the program: what of them is meant, in which order, and what is said where they cannot
//! go.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use crossterm::event::{KeyCode, KeyModifiers};
use jaunty_core::run::gate::Ahead;
use jaunty_seam::profile::Guard;
use support::Stage;

const NONE: KeyModifiers = KeyModifiers::NONE;

/// Ports, of which one has no number of berths.
const PORTS: &str = "-- Ports\nselect 1 as id, 'Saltmarsh' as name, 6 as berths union all select 2, 'Gullhaven', null union all select 3, 'Emberwick', 4\n";

fn ports() -> Stage {
    Stage::with(PORTS, (120, 24), Guard::Open).runs().control('t')
}

impl Stage {
    fn settles(self) -> Stage {
        self.until("the work", |app| app.work().is_none() && !app.expects_rows())
    }

    fn right(self, by: usize) -> Stage {
        (0..by).fold(self, |stage, _| stage.key(KeyCode::Right, NONE))
    }

    fn down(self, by: usize) -> Stage {
        (0..by).fold(self, |stage, _| stage.key(KeyCode::Down, NONE))
    }

    /// Exports to what is written instead of what is proposed, and waits for what comes of it.
    fn exports(self, target: &str) -> Stage {
        let stage = self.alt('x');
        let stage = (0..90).fold(stage, |stage, _| stage.key(KeyCode::Backspace, NONE));
        stage.types(target).enter().settles()
    }

    /// What the clipboard gets.
    fn copied(mut self) -> (Stage, String) {
        self.app.clipboard = None;
        let stage = self.types("c").until("the copy", |app| app.clipboard.is_some());
        let text = stage.app.clipboard.clone().unwrap();
        (stage, text)
    }
}

#[test]
fn what_is_exported_is_what_is_shown() {
    // Sorted, narrowed, with a column less and the others in another order.
    let stage = ports().right(2).types("n> 0").enter().settles().types("s").settles();
    let stage = stage.key(KeyCode::Home, NONE).types("h").right(1).types("[").exports("shown.csv");
    assert_eq!(stage.file("shown.csv"), "berths,name\n4,Emberwick\n6,Saltmarsh\n");
    let stage = stage.types("oH").exports("all.jsonl");
    assert_eq!(
        stage.file("all.jsonl"),
        "{\"id\":1,\"name\":\"Saltmarsh\",\"berths\":6}\n{\"id\":2,\"name\":\"Gullhaven\",\"berths\":null}\n{\"id\":3,\"name\":\"Emberwick\",\"berths\":4}\n"
    );
}

#[test]
fn each_way_of_marking_means_its_cells() {
    let stage = ports().right(1).types("m").down(1);
    let (stage, cells) = stage.copied();
    assert_eq!(cells, "Saltmarsh\nGullhaven\n");
    let (stage, rows) = stage.types("m").copied();
    assert_eq!(rows, "1\tSaltmarsh\t6\n2\tGullhaven\t\n");
    let (stage, columns) = stage.types("m").copied();
    assert_eq!(columns, "Saltmarsh\nGullhaven\nEmberwick\n");
    let (stage, all) = stage.control('a').copied();
    assert_eq!(all.lines().count(), 3);
    let stage = stage.until("the sum", |app| app.rows.sums().is_some());
    assert_eq!(stage.app.rows.sums(), Some("9 cells · 1 ∅ · sum 16 · mean 3.2"));
    // Nothing is marked: the value in hand, whole, and nothing for NULL.
    let (stage, value) = stage.esc().copied();
    assert_eq!(value, "Gullhaven");
    let (_, none) = stage.right(1).copied();
    assert_eq!(none, "");
}

#[test]
fn what_is_marked_backwards_is_marked_all_the_same() {
    let stage = ports().right(2).down(2).types("m").key(KeyCode::Up, NONE).key(KeyCode::Left, NONE);
    let (stage, cells) = stage.copied();
    assert_eq!(cells, "Gullhaven\t\nEmberwick\t4\n");
    // Another order makes another selection of it, so it is dropped.
    let stage = stage.types("s").settles();
    assert!(stage.app.rows.view().marked.is_none());
}

#[test]
fn what_cannot_be_written_says_why_and_leaves_nothing() {
    let stage = ports().exports("nowhere/ports.csv");
    assert!(stage.told().contains("cannot be written") && stage.told().contains("create it first"), "{}", stage.told());
    std::fs::create_dir(stage.path("taken.csv")).unwrap();
    let stage = stage.exports("taken.csv");
    assert!(stage.text().contains("already exists"), "{}", stage.text());
    let stage = stage.types("r").settles();
    assert!(stage.told().contains("it is a folder"), "{}", stage.told());
    let stage = stage.exports("insert");
    assert!(stage.told().contains("name a file"), "{}", stage.told());
    let left: Vec<_> = std::fs::read_dir(stage.path("")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(left.iter().all(|name| !name.to_string_lossy().contains("part")), "{left:?}");
}

#[test]
fn too_much_for_the_clipboard_is_for_a_file() {
    let big = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 300) select printf('%.100000c', 'x') as x from n";
    let stage = Stage::with(big, (120, 24), Guard::Open).runs().control('t').control('a').types("c").settles();
    assert_eq!(stage.told(), "this is more than 16.0 MiB; export it to a file");
    assert!(stage.app.clipboard.is_none());
}

#[test]
fn an_export_waits_for_rows_that_are_still_to_come() {
    let many = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 40000) select i from n";
    let ahead = Ahead { rows: 5_000, bytes: u64::MAX };
    let stage = Stage::reading(many, (120, 24), Guard::Open, ahead).control('g');
    let stage = stage.until("the hold", |app| app.connection.is_held()).control('t').exports("all.csv");
    assert_eq!(stage.file("all.csv").lines().count(), 40_001);
    assert!(stage.told().starts_with("40,000 rows in "), "{}", stage.told());
}

#[test]
fn an_export_that_waits_is_stopped_by_the_key_that_stops() {
    let endless = "with recursive n(i) as (select 1 union all select i + 1 from n) select i from n";
    let ahead = Ahead { rows: 5_000, bytes: u64::MAX };
    let stage = Stage::reading(endless, (120, 24), Guard::Open, ahead).control('g');
    let stage = stage.until("the hold", |app| app.connection.is_held()).control('t').alt('x').enter();
    assert!(stage.text().contains("exporting") && stage.text().contains("waiting for rows"), "{}", stage.text());
    let stage = stage.esc().settles();
    assert!(stage.told().starts_with("cancelled; nothing was written to "), "{}", stage.told());
    // The next one stops the statement; its rows stay.
    let stage = stage.esc().until("the end of the run", |app| !app.connection.is_busy());
    assert!(stage.app.rows.total() >= 5_000);
    let files = std::fs::read_dir(stage.path("")).unwrap().map(|entry| entry.unwrap().file_name());
    assert_eq!(files.filter(|name| name.to_string_lossy().contains("csv")).count(), 0);
}

#[test]
fn an_out_line_that_fails_leaves_the_file_as_it_was() {
    let text = "select 1 as a\n--> kept.csv\n";
    let stage = Stage::with(text, (120, 24), Guard::Open).runs().settles();
    assert_eq!(stage.file("kept.csv"), "a\n1\n");
    let stage = stage.control('a').key(KeyCode::Delete, NONE).paste("select nmae as a\n--> kept.csv\n").runs();
    assert!(stage.told().ends_with("kept.csv is unchanged: the run was failed"), "{}", stage.told());
    assert_eq!(stage.file("kept.csv"), "a\n1\n");
    // Into a folder that is not there.
    let stage =
        stage.control('a').key(KeyCode::Delete, NONE).paste("select 3 as a\n--> gone/kept.csv\n").runs().settles();
    assert!(stage.told().contains("create it first"), "{}", stage.told());
}

#[test]
fn rows_are_put_where_the_cursor_stands() {
    let text = format!("{PORTS};\n\nselect * from ports where id in ;\n");
    // The result stays while the cursor goes to where its ids are wanted.
    let stage = Stage::with(&text, (120, 24), Guard::Open).runs().alt('h').control('n').key(KeyCode::End, NONE);
    let stage = stage.key(KeyCode::Left, NONE).control('t').types("mmm").types("pin").enter().settles();
    assert!(stage.buffer().contains("select * from ports where id in (1, 2, 3)\n;"), "{}", stage.buffer());
}
