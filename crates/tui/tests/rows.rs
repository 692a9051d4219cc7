//! Results in the hand, on a screen in memory: order and choice, marking, copying, exporting, looking
//! at a row, facts of a column, and the logbook.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use crossterm::event::{KeyCode, KeyModifiers};
use jaunty_core::arrange::ArrangeError;
use jaunty_core::run::gate::Ahead;
use jaunty_seam::profile::Guard;
use jaunty_tui::app::{Message, Overlay};
use jaunty_tui::work::Done;
use ratatui::style::Modifier;
use support::Stage;

const SAILINGS: &str = "-- Sailings\nwith recursive n(i) as (select 1 union all select i + 1 from n where i < 1000)\nselect i as id, 'Port ' || (i % 7) as port, case when i % 10 = 0 then null else i * 1.5 end as fare, '{\"deck\": {\"cars\": ' || i || '}, \"open\": true}' as notes from n";

fn stage(text: &str) -> Stage {
    Stage::with(text, (120, 24), Guard::Open)
}

/// The result of the sailings, with the focus on it.
fn result() -> Stage {
    stage(SAILINGS).runs().control('t')
}

impl Stage {
    /// Waits until nothing is being done any more and the page is there.
    fn settles(self) -> Stage {
        self.until("the work", |app| app.work().is_none() && !app.expects_rows() && app.rows.page().is_some())
    }

    fn right(self, by: usize) -> Stage {
        (0..by).fold(self, |stage, _| stage.key(KeyCode::Right, KeyModifiers::NONE))
    }

    /// What a column shows in the first rows.
    fn shown(&self, column: usize, rows: usize) -> Vec<String> {
        let page = self.app.rows.page().unwrap();
        page.rows.iter().take(rows).map(|row| row[column].text.clone()).collect()
    }
}

#[test]
fn rows_are_sorted_up_down_and_as_they_came() {
    let stage = result().right(2).types("s").settles();
    assert_eq!(stage.shown(2, 3), ["1.5", "3.0", "4.5"]);
    assert!(stage.text().contains("fare ↑") && stage.text().contains("by fare"), "{}", stage.text());
    let stage = stage.types("s").settles();
    assert_eq!(stage.shown(2, 2), ["1498.5", "1497.0"]);
    let stage = stage.types(">").settles();
    let page = stage.app.rows.page().unwrap();
    assert_eq!(page.rows.last().unwrap()[2].text, "∅", "NULL comes last");
    let stage = stage.types("s").settles();
    assert_eq!((stage.shown(0, 2), stage.app.rows.view().row), (vec!["1".to_owned(), "2".into()], 0));
    let stage = stage.types("u").settles();
    assert_eq!(stage.shown(2, 1), ["1498.5"], "what was taken back");
    let stage = stage.key(KeyCode::Home, KeyModifiers::NONE).right(1).types("sS").types("<").settles();
    assert_eq!(stage.shown(1, 2), ["Port 6", "Port 6"], "S turns the column round that s had sorted by");
}

#[test]
fn rows_are_narrowed_by_conditions_values_and_a_search() {
    // As it is, and not as it is shown.
    let stage = stage("select 'a' || char(10) || 'b' as name union all select 'a␊b'").runs().control('t');
    assert_eq!(stage.shown(0, 2), ["a␊b", "a␊b"]);
    let stage = stage.types("=").settles();
    assert_eq!((stage.app.rows.total(), stage.shown(0, 1)), (1, vec!["a␊b".to_owned()]));
    let stage = result().right(1).types("=").settles();
    assert!(stage.told().starts_with("143 rows of 1,000"), "{}", stage.told());
    let stage = stage.right(1).types("n> 1000").enter().settles();
    assert_eq!(stage.shown(2, 1), ["1009.5"]);
    assert!(stage.text().contains("port = Port 1 · fare > 1000"), "{}", stage.text());
    let stage = stage.types("/999").enter().settles();
    assert_eq!(stage.app.rows.total(), 0, "no row of these holds it");
    let stage = stage.types("uuu").settles();
    assert_eq!(stage.app.rows.total(), 1000);
    let stage = stage.types("n> soon").enter();
    assert!(stage.told().contains("\"soon\" is not of type real"), "{}", stage.told());
    assert!(stage.text().contains("› > soon"), "what was written stays:\n{}", stage.text());
}

#[test]
fn the_same_rows_can_be_asked_of_the_server() {
    let stage = result().types("n<= 2").enter().settles().types("s").settles().types("w");
    let text = stage.buffer();
    assert!(text.ends_with(") as kept\nwhere id <= 2\norder by id nulls last;\n"), "{text}");
    let stage = stage.runs();
    assert_eq!(stage.app.rows.total(), 2);
}

#[test]
fn what_is_marked_adds_up_and_goes_to_the_clipboard() {
    let shift = |stage: Stage, code| stage.key(code, KeyModifiers::SHIFT);
    let stage = shift(shift(shift(result(), KeyCode::Down), KeyCode::Down), KeyCode::Right);
    let stage = stage.until("the sum", |app| app.rows.sums().is_some());
    assert_eq!(stage.app.rows.sums(), Some("6 cells · sum 6 · mean 2"));
    let stage = stage.types("c").settles();
    assert_eq!(stage.app.clipboard.as_deref(), Some("1\tPort 1\n2\tPort 2\n3\tPort 3\n"));
    let stage = stage.types("ycsv").enter().settles();
    assert_eq!(stage.app.clipboard.as_deref(), Some("id,port\n1,Port 1\n2,Port 2\n3,Port 3\n"));
    let stage = stage.types("yjsonl").enter().settles();
    assert_eq!(stage.app.clipboard.as_deref().unwrap().lines().nth(2), Some("{\"id\":3,\"port\":\"Port 3\"}"));
    let stage = stage.key(KeyCode::Esc, KeyModifiers::NONE);
    assert!(stage.app.rows.view().marked.is_none());
    let stage = stage.types("mmm");
    let stage = stage.types("yin").enter().settles();
    assert_eq!(
        stage.app.clipboard.as_deref(),
        Some("('Port 1', 'Port 2', 'Port 3', 'Port 4', 'Port 5', 'Port 6', 'Port 0')\n"),
        "a whole column"
    );
}

#[test]
fn rows_are_put_into_the_buffer() {
    // They are a statement of their own, whose rows are not there: only the text is waited for.
    let stage = result().types("pinsert").enter().until("the text", |app| app.work().is_none());
    assert!(
        stage.buffer().contains("insert into kept (id, port, fare, notes) values\n  (1, 'Port 1', 1.5, "),
        "{}",
        stage.buffer()
    );
}

#[test]
fn columns_are_hidden_moved_and_found() {
    let stage = result().right(1).types("h");
    assert!(!stage.text().contains("Port 1"), "{}", stage.text());
    let stage = stage.types("]");
    let names: Vec<usize> = stage.app.rows.view().columns;
    assert_eq!(names, [0, 3, 2]);
    let stage = stage.types("jport").enter();
    assert_eq!((stage.app.rows.view().columns, stage.app.rows.view().column), (vec![0, 3, 2, 1], 3));
    // They are so in the next run, too.
    let before = stage.app.rows.kept().unwrap().path().to_owned();
    let stage = stage.types("h").control('g').until("another run", |app| {
        !app.connection.is_busy() && app.rows.page().is_some_and(|page| page.path != before)
    });
    assert_eq!(stage.app.rows.view().columns, [0, 3, 2]);
    let stage = stage.types("jport").enter();
    let stage = stage.types("+").types("H");
    assert_eq!((stage.app.rows.view().columns, stage.app.rows.view().column), (vec![0, 1, 2, 3], 1));
}

#[test]
fn a_row_is_looked_at_with_its_names_down_the_side() {
    let there = |stage: Stage| {
        stage.until("the row", |app| matches!(&app.overlay, Some(Overlay::RowDetail(w)) if !w.fields.is_empty()))
    };
    let stage = there(result().right(3).enter());
    let text = stage.text();
    for expected in ["row 1 of 1,000", "id", "Port 1", "\"deck\": { ▾", "    \"cars\": 1", "\"open\": true"] {
        assert!(text.contains(expected), "no {expected} in\n{text}");
    }
    let stage = there(stage.right(1));
    assert!(stage.text().contains("row 2 of 1,000") && stage.text().contains("\"cars\": 2"), "{}", stage.text());
    // Down to the deck, which folds.
    let stage = stage.key(KeyCode::Down, KeyModifiers::NONE).enter();
    assert!(stage.text().contains("\"deck\": { … 1 line"), "{}", stage.text());
    let stage = stage.types("/cars").enter();
    assert!(stage.text().contains("\"cars\": 2"), "what is found opens:\n{}", stage.text());
    let stage = stage.types("c").until("the copy", |app| app.clipboard.is_some());
    assert_eq!(stage.app.clipboard.as_deref(), Some("{\"deck\": {\"cars\": 2}, \"open\": true}"));
    let stage = stage.key(KeyCode::Esc, KeyModifiers::NONE);
    assert_eq!((stage.app.rows.view().row, stage.app.overlay.is_none()), (1, true));
}

#[test]
fn a_column_tells_what_it_holds() {
    let known = |app: &jaunty_tui::app::App| matches!(&app.overlay, Some(Overlay::ColumnStats(f)) if f.facts.is_some());
    let text = result().right(2).types("i").until("the facts", known).text();
    for expected in ["1,000", "100 (10 %)", "900", "1.5", "1498.5", "750", "675000", "all values are distinct"] {
        assert!(text.contains(expected), "no {expected} in\n{text}");
    }
    let text = result().right(1).types("i").until("the facts", known).text();
    assert!(text.contains("Port 6") && text.contains("143"), "{text}");
}

/// The dots in the two lines below the head: of two columns, and of what is between them.
fn dots(stage: &Stage, line: &str) -> Vec<String> {
    let text = stage.text();
    let lines: Vec<&str> = text.lines().collect();
    let head = lines.iter().position(|text| text.contains(line)).unwrap_or_else(|| panic!("{text}"));
    let sparks = lines.get(head + 1..head + 3).unwrap_or_default();
    let bare = |line: &&str| line.split_whitespace().filter(|part| *part != "│").collect::<Vec<_>>().join(" ");
    sparks.iter().map(bare).collect()
}

#[test]
fn sparklines_show_how_the_values_of_each_column_go_along_the_rows() {
    let text = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 400) \
                select 1000 + i as number, 'berth' as word, abs(i - 200) as far from n";
    let stage = Stage::with(text, (120, 30), Guard::Open).runs().control('t').settles();
    assert!(stage.text().contains("1001"));
    let height = stage.app.rows.height();
    let stage = stage.types("L").settles();
    let types = "integer  text";
    assert_eq!(dots(&stage, types), ["⢀⣠⠴⠚ ⠲⣄ ⣠⠞", "⣠⠴⠚⠉ ⠈⠳⣤⠞⠁"], "{}", stage.text());
    assert_eq!(stage.app.rows.height(), height - 2, "two lines less are left for rows");
    let stage = stage.types("ss").settles();
    assert_eq!(dots(&stage, types), ["⠙⠒⠦⣄⣀ ⠙⢦⡀ ⢀⡴", "⠈⠉⠓⠦⢤ ⠙⢦⡴⠋"], "the greatest first:\n{}", stage.text());
    let stage = stage.types("o").settles();
    assert_eq!(dots(&stage, types), ["⢀⣠⠴⠚ ⠲⣄ ⣠⠞", "⣠⠴⠚⠉ ⠈⠳⣤⠞⠁"], "{}", stage.text());
    let stage = stage.types("L").settles();
    assert_eq!(stage.app.rows.height(), height);
    // Words have none, and it is said; rows that are come by later have theirs.
    let stage = Stage::with("select 'berth' as word", (120, 30), Guard::Open).runs().control('t').settles();
    let height = stage.app.rows.height();
    let stage = stage.types("L").settles();
    assert!(stage.text().contains("no column of numbers or times has values here"), "{}", stage.text());
    assert_eq!(stage.app.rows.height(), height, "nothing is left free for what is not there");
}

#[test]
fn a_result_is_exported_and_nothing_is_replaced_unasked() {
    let stage = result().types("n< 3").enter().settles();
    let stage = stage.key(KeyCode::Char('x'), KeyModifiers::ALT);
    assert!(
        stage.text().contains("export 2 rows to a file") && stage.text().contains("› sailings.csv"),
        "{}",
        stage.text()
    );
    let stage = stage.enter().settles();
    let path = stage.app.buffer.path.with_file_name("sailings.csv");
    let written = std::fs::read_to_string(&path).unwrap();
    assert!(written.starts_with("id,port,fare,notes\n1,Port 1,1.5,") && written.lines().count() == 3, "{written}");
    assert!(stage.told().starts_with("2 rows in "), "{}", stage.told());
    let stage = stage.types("o").key(KeyCode::Char('x'), KeyModifiers::ALT).enter().settles();
    assert!(stage.text().contains("already exists"), "{}", stage.text());
    let stage = stage.types("r").settles();
    assert_eq!(std::fs::read_to_string(&path).unwrap().lines().count(), 1001);
    let stage = stage.key(KeyCode::Char('x'), KeyModifiers::ALT);
    let stage = (0..12).fold(stage, |stage, _| stage.key(KeyCode::Backspace, KeyModifiers::NONE));
    let stage = stage.types("rows.doc").enter();
    assert!(stage.told().contains("not a file with a known ending"), "{}", stage.told());
    assert!(stage.text().contains("› rows.doc"), "{}", stage.text());
}

#[test]
fn an_out_line_sends_the_rows_of_every_run() {
    let stage = stage("select 1 as a, 'x' as b;\n--> kept.csv null=-\n--> json\n\nselect 2 as c\n").runs();
    let stage = stage.until("the files", |app| app.work().is_none());
    let read = |stage: &Stage, name: &str| std::fs::read_to_string(stage.app.buffer.path.with_file_name(name)).unwrap();
    assert_eq!(read(&stage, "kept.csv"), "a,b\n1,x\n");
    assert_eq!(read(&stage, "select-1-as-a-x-as-b.json"), "[\n  {\"a\":1,\"b\":\"x\"}\n]\n");
    assert!(stage.text().contains("→  --> kept.csv"), "{}", stage.text());
}

#[test]
fn a_mistake_in_an_out_line_runs_nothing() {
    let stage = stage("select 1 as a;\n--> kept.doc\n").control('g');
    assert!(stage.told().starts_with("line 2: \"kept.doc\" is not a format"), "{}", stage.told());
    assert!(stage.told().ends_with("nothing was run") && !stage.app.connection.is_busy());
    assert_eq!(stage.app.buffer.place(), (1, 4), "the cursor stands at the mistake");
}

#[test]
fn the_logbook_finds_runs_and_opens_their_rows() {
    let stage =
        stage("-- One\nselect 41 + 1 as answer;\n-- Two\nselect nmae;\n").runs().control('n').control('n').runs();
    let read =
        |app: &jaunty_tui::app::App| matches!(&app.overlay, Some(Overlay::LogbookView(p)) if p.entries.is_some());
    let open = |stage: Stage| stage.key(KeyCode::Char('l'), KeyModifiers::ALT).until("the logbook", read);
    let stage = open(stage);
    let text = stage.text();
    assert!(text.contains("logbook · 2 of 2 runs") && text.contains("no such column: nmae"), "{text}");
    let stage = stage.types("done answer");
    assert!(stage.text().contains("logbook · 1 of 2 runs"), "{}", stage.text());
    let stage = stage.enter().settles();
    assert_eq!(stage.shown(0, 1), ["42"]);
    assert!(stage.text().contains("held · One"), "the cursor is on the other statement:\n{}", stage.text());
    let stage = stage.types("g");
    assert_eq!((stage.app.buffer.place().0, stage.app.rows.holds()), (1, false), "at its statement");
    let stage = open(stage).types("failed").key(KeyCode::Char('x'), KeyModifiers::CONTROL);
    assert!(stage.text().contains("Forget 1 run"), "{}", stage.text());
    let stage = stage.types("f").settles();
    let stage = open(stage);
    assert!(stage.text().contains("logbook · 1 of 1 run"), "{}", stage.text());
}

#[test]
fn a_result_can_be_held_while_the_cursor_goes_on() {
    let stage = stage("select 1 as one;\nselect 2 as two;\n").runs();
    let stage = stage.key(KeyCode::Char('h'), KeyModifiers::ALT).control('n');
    assert!(stage.text().contains("held · select 1 as one"), "{}", stage.text());
    let stage = stage.key(KeyCode::Char('h'), KeyModifiers::ALT);
    assert!(stage.text().contains("This statement has not run here yet"), "{}", stage.text());
}

const MANY: &str = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 60000) select i from n;\nselect 'other' as b\n";

/// A run that waits after some ten thousand rows of sixty thousand.
fn held() -> Stage {
    let ahead = Ahead { rows: 10_000, bytes: u64::MAX };
    let stage = Stage::reading(MANY, (120, 24), Guard::Open, ahead).control('g');
    let stage = stage.until("the hold", |app| app.connection.is_held() && !app.expects_rows());
    stage.until("the rows", |app| app.rows.run().is_some_and(|run| run.rows() >= 10_000))
}

#[test]
fn rows_are_fetched_up_to_a_limit_and_then_when_they_are_wanted() {
    let stage = held();
    let text = stage.text();
    assert!(text.contains("so far, held") && text.contains("the server's cursor is open"), "{text}");
    let before = stage.app.rows.total();
    assert!(before < 30_000, "{before}");
    // Whoever comes near the end of them reads on.
    let stage = stage.control('t').alt('j').types(&before.to_string()).key(KeyCode::Enter, KeyModifiers::NONE);
    let stage = stage.until("more rows", |app| app.rows.total() > before);
    // The last row is the last of all.
    let stage = stage.types(">").until("all rows", |app| !app.connection.is_busy() && app.rows.total() == 60_000);
    assert_eq!(stage.app.rows.view().row, 59_999);
}

#[test]
fn sorting_fetches_what_is_still_held() {
    let stage = held().control('t').types("ss").settles();
    let stage = stage.until("the end", |app| !app.connection.is_busy()).settles();
    assert_eq!(stage.shown(0, 2), ["60000", "59999"]);
}

#[test]
fn a_held_run_makes_room_for_the_next() {
    let stage = held().control('n').control('g').until("the other", |app| {
        !app.connection.is_busy() && app.rows.run().is_some_and(|run| run.statement.contains("other"))
    });
    let stage = stage.control('p').settles();
    assert!(stage.text().contains("stopped"), "its rows stay, and it says so:\n{}", stage.text());
    assert!(stage.app.rows.total() >= 10_000);
}

#[test]
fn parameters_are_asked_for_and_remembered() {
    let stage = stage("select :port || ' ' || :berth as place;\n").control('g');
    assert!(stage.text().contains("value of :port"), "{}", stage.text());
    let stage = stage.types("Saltmarsh").enter();
    assert!(stage.text().contains("value of :berth"), "{}", stage.text());
    let shown =
        |app: &jaunty_tui::app::App| !app.connection.is_busy() && app.rows.page().is_some_and(|page| page.of == 1);
    let stage = stage.types("7").enter().until("the row", shown);
    assert_eq!(stage.shown(0, 1), ["Saltmarsh 7"]);
    // They stand there the next time.
    let stage = stage.control('g');
    assert!(stage.text().contains("› Saltmarsh"), "{}", stage.text());
    let stage =
        stage.key(KeyCode::End, KeyModifiers::NONE).types(" Quay").enter().enter().until("the other row", |app| {
            shown(app) && app.rows.page().is_some_and(|page| page.rows[0][0].text == "Saltmarsh Quay 7")
        });
    let stage = stage.control('g').key(KeyCode::Esc, KeyModifiers::NONE);
    assert!(stage.app.overlay.is_none() && !stage.app.connection.is_busy(), "nothing runs");
    // And on another day.
    let stage = stage.again().control('g').until(
        "what was given before",
        |app| matches!(&app.overlay, Some(Overlay::Prompt(prompt)) if !prompt.line.is_empty()),
    );
    assert!(stage.text().contains("› Saltmarsh Quay"), "{}", stage.text());
    let stage = stage.key(KeyCode::Esc, KeyModifiers::NONE).key(KeyCode::Char('l'), KeyModifiers::ALT);
    let stage = stage.until(
        "what it ran with",
        |app| matches!(&app.overlay, Some(Overlay::LogbookView(past)) if past.entries.is_some()),
    );
    assert!(stage.text().contains(":port = Saltmarsh Quay · :berth = 7"), "{}", stage.text());
}

#[test]
fn a_run_of_all_asks_once_for_what_its_statements_want() {
    let text = "create table t(a);\ninsert into t values (:a), (:a + 1);\nselect a from t where a > :least\n";
    let stage = stage(text).alt('g');
    assert!(stage.text().contains("value of :a"), "{}", stage.text());
    let stage = stage.types("5").enter().types("5").enter();
    let stage = stage.until("the last", |app| !app.connection.is_busy() && app.connection.catalog.is_some());
    let stage = stage.key(KeyCode::End, KeyModifiers::CONTROL).settles();
    assert_eq!(stage.shown(0, 3), ["6"]);
}

/// Two statements that have run together.
const TWO: &str = "-- Ports\nselect 1 as id, 'North' as port union all select 2, 'South';\n\n-- Numbers\nwith recursive n(i) as (select 1 union all select i + 1 from n where i < 500) select i as id, i * 2 as twice from n;\n";

fn two() -> Stage {
    let stage = Stage::with(TWO, (160, 30), Guard::Open).alt('g');
    stage.until("both", |app| !app.connection.is_busy() && app.strip().len() == 2)
}

fn titles(stage: &Stage) -> Vec<(String, bool)> {
    stage.app.strip().iter().map(|slot| (slot.title(), slot.held)).collect()
}

#[test]
fn results_that_ran_together_stand_in_a_strip() {
    let stage = two();
    assert_eq!(titles(&stage), [("Ports".into(), false), ("Numbers".into(), false)]);
    assert!(line(&stage, 1).ends_with(" Ports · 2   Numbers · 500"), "{}", stage.text());
    let here = |stage: &Stage| stage.app.rows.run().unwrap().title.clone().unwrap();
    let stage = stage.control('t');
    let first = here(&stage);
    let stage = stage.types(".").settles();
    assert_ne!(here(&stage), first, "the cursor went to the other statement, and its result came");
    let stage = stage.types(",").settles();
    assert_eq!(here(&stage), first);
    let title = stage
        .app
        .buffer
        .document
        .statement()
        .unwrap()
        .title_text(stage.app.buffer.document.rope(), stage.app.buffer.document.outline().dialect());
    assert_eq!(title, Some(first));
}

#[test]
fn what_is_held_stays_in_the_strip_until_it_is_let_go() {
    let stage = two().control('t').key(KeyCode::Char('h'), KeyModifiers::ALT);
    let held = stage.app.rows.run().unwrap().title.clone().unwrap();
    assert_eq!(titles(&stage)[0], (held.clone(), true));
    assert!(line(&stage, 1).contains(&format!("held · {held}")), "{}", stage.text());
    // Back to the cursor's; it is one step away.
    let stage = stage.key(KeyCode::Esc, KeyModifiers::NONE);
    assert!(!stage.app.rows.holds() && stage.app.strip().len() == 3);
    let stage = stage.types(",");
    assert!(stage.app.rows.holds() && stage.app.rows.run().unwrap().title.as_deref() == Some(&held));
    let stage = stage.key(KeyCode::Char('h'), KeyModifiers::ALT);
    assert_eq!(stage.app.strip().len(), 2);
}

#[test]
fn two_results_stand_side_by_side_and_scroll_together() {
    let stage = two().control('t').types(".");
    let stage = match stage.app.rows.run().unwrap().title.as_deref() {
        Some("Numbers") => stage,
        _ => stage.types("."),
    };
    // The same statement, before and after.
    let stage = stage.settles().types("t").settles();
    let text = stage.text();
    assert!(text.matches("twice").count() == 2 && text.contains('║'), "{text}");
    let rows = |stage: &Stage| (stage.app.rows.view().row, stage.app.other.as_ref().unwrap().view().row);
    let stage = stage.key(KeyCode::PageDown, KeyModifiers::NONE).settles();
    let (here, there) = rows(&stage);
    assert!(here > 10 && here == there, "{here} {there}");
    let stage = stage.types(">").settles();
    assert_eq!(rows(&stage), (499, 499));
    assert_eq!(stage.app.other.as_ref().unwrap().page().unwrap().rows.last().unwrap()[0].text, "500");
    // Each for itself, and then so far apart.
    let stage = stage.types("l").types("<").types("l").key(KeyCode::Down, KeyModifiers::NONE).settles();
    assert_eq!(rows(&stage), (1, 499), "the last row is the last row");
    // The held one is one pane before; it is what is sorted then, and it alone.
    let stage = stage.key(KeyCode::Tab, KeyModifiers::NONE);
    assert_eq!(stage.app.panes.focus, jaunty_tui::action::Scope::Buffer);
    let stage = stage.control('t');
    assert!(stage.app.rows.holds());
    let stage = stage.types("ss").settles();
    assert_eq!(stage.shown(0, 1), ["500"]);
    assert_eq!(stage.app.other.as_ref().unwrap().page().unwrap().rows[0][0].text, "1");
    let stage = stage.types("t");
    assert!(stage.app.other.is_none() && stage.app.rows.holds() && !stage.text().contains('║'));
}

#[test]
fn what_differs_between_two_results_is_underlined() {
    let text = "create table ports(code, name, berths);\n\
                insert into ports values ('SMQ', 'Saltmarsh', 6), ('GUL', 'Gullhaven', 4), ('EMB', null, 2);\n\
                update ports set berths = 5, name = name || ' ' where code = 'GUL';\n\
                insert into ports values ('FYR', 'Fyrlund', 3);\n\
                select * from ports;";
    let stage = Stage::with(text, (160, 24), Guard::Open).runs().control('n').runs();
    let stage = stage.key(KeyCode::End, KeyModifiers::CONTROL).runs().control('t').types("t").settles();
    let underlined = |stage: &Stage| -> Vec<String> {
        let (cells, _) = stage.drawn();
        let lines = (0..cells.area.height).map(|y| {
            let line = (0..cells.area.width).filter_map(|x| cells.cell((x, y)));
            let found = line.filter(|cell| cell.modifier.contains(Modifier::UNDERLINED));
            found.map(|cell| cell.symbol()).collect::<String>()
        });
        lines.filter(|line| !line.is_empty()).collect()
    };
    assert_eq!(underlined(&stage), Vec::<String>::new(), "both are the same run");
    let stage = stage.control('t').control('p').runs().control('p').runs();
    let stage = stage.control('n').control('n').runs().settles();
    let stage = stage.until("both pages", |app| app.rows.page().is_some_and(|page| page.rows.len() == 4)).settles();
    // Both sides of a line; the row that came has nothing beside it.
    assert_eq!(underlined(&stage), ["Gullhaven4Gullhaven␣5", "FYRFyrlund3"], "{}", stage.text());
    // One row apart all of them differ, but for what is the same by chance.
    let stage = stage.control('t').types("l").key(KeyCode::Down, KeyModifiers::NONE).types("l").settles();
    assert!(stage.told().contains("1 row apart"), "{}", stage.told());
    assert_eq!(underlined(&stage).first().map(String::as_str), Some("SMQSaltmarsh6SMQSaltmarsh6"));
    // Each for itself, nothing is beside anything.
    assert_eq!(underlined(&stage.types("l")), Vec::<String>::new());
}

#[test]
fn the_next_difference_is_found_wherever_it_is() {
    let numbers = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 20000)";
    let text = format!(
        "-- Before\n{numbers} select i, 'row ' || i as name, i % 7 as k from n;\n\n-- After\n{numbers}\n\
         select i, iif(i in (9000, 19990), 'another', 'row ' || i) as name, i % 7 as k from n where i <= 19995"
    );
    let stage = Stage::with(&text, (160, 24), Guard::Open).runs().control('t').types("D");
    assert!(stage.told().starts_with("open two results with the same columns"), "{}", stage.told());
    let stage = stage.types("t").control('t').control('n').runs().control('t').settles();
    let place = |stage: &Stage| (stage.app.rows.view().row, stage.app.rows.view().column);
    let stage = stage.types("D").settles();
    assert_eq!(place(&stage), (8999, 1));
    assert_eq!(stage.app.other.as_ref().unwrap().view().row, 8999, "the other one comes along");
    let mut stage = stage.types("D").settles();
    assert_eq!(place(&stage), (19_989, 1));
    // The number of rows is left out where it would be cut.
    for width in (30..160).step_by(2) {
        stage = stage.resized((width, 24)).settles();
        let text = stage.text();
        let heads = text.lines().flat_map(|line| line.split(['║', '│'])).filter(|head| head.contains('–'));
        let heads: Vec<_> = heads.collect();
        let whole =
            |head: &&str| !head.contains(" of") || [" of 19,995", " of 20,000"].iter().any(|of| head.contains(of));
        assert!(!heads.is_empty() && heads.iter().all(whole), "{width}: {heads:?}");
    }
    let stage = stage.resized((160, 24)).settles();
    // Of the rows at the end there are none on the other side; seen from there, there are only others.
    let stage = stage.types("D").settles();
    assert!(stage.app.rows.holds());
    assert_eq!(place(&stage).0, 19_995);
    let stage = stage.control('t').types("D").settles();
    assert!(!stage.app.rows.holds());
    assert_eq!((place(&stage).0, stage.told()), (19_994, "from here on there are rows only in the other result"));
    // What is hidden is not looked at, and rows are compared in the order in which they are shown.
    let hides = |stage: Stage| stage.key(KeyCode::Home, KeyModifiers::NONE).right(1).types("h").types("<");
    let stage = hides(stage).types("D").settles();
    assert_eq!(place(&stage).0, 19_994);
    let stage = stage.types("<").types("ss").settles().types("D").settles();
    assert_eq!(place(&stage).0, 1, "this one is sorted, the other one is not");
}

#[test]
fn an_order_that_is_stopped_leaves_what_was() {
    let orders = |stage: &Stage| stage.app.rows.view().arranged.wanted.order.clone();
    let stage = result().right(2).types("s").settles();
    let up = orders(&stage);
    let stage = stage.types("s").settles();
    let down = orders(&stage);
    // Taken back, and that is stopped before it is there.
    let mut stage = stage.types("u");
    let number = stage.app.work().unwrap().number;
    stage.app.update(Message::Worked(number, Done::Arranged(Err(ArrangeError::Stopped))));
    assert_eq!((orders(&stage), stage.told()), (down, "cancelled; the rows are unchanged"));
    let stage = stage.types("u").settles();
    assert_eq!(orders(&stage), up, "and can be taken back again");
    assert_eq!(stage.shown(2, 1), ["1.5"]);
    let stage = stage.types("u").types("u");
    assert_eq!(stage.told(), "the rows are in their original order");
}

fn line(stage: &Stage, y: usize) -> String {
    stage.text().lines().nth(y).unwrap_or_default().trim_end().to_owned()
}
