//! The program in a real terminal: what a person types, and what a person sees.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use support::{Home, Screen};

const ENDLESS: &str =
    "with recursive n(i) as (select 1 union all select i + 1 from n) select i, 'row ' || i as name from n";

fn ferry(buffer: &str) -> (Home, Screen) {
    let home = Home::ferry().file("a.sql", buffer);
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main");
    (home, screen)
}

#[test]
fn the_statement_at_the_cursor_runs_and_results_follow_the_cursor() {
    let (_home, screen) = ferry("-- Ports\nselect name, berths from ports;\n\n-- Big ones\nselect * from big\n");
    screen.shows("This statement has not run here yet.");
    screen.press(&["C-g"]).shows("rows 1–3 of 3").shows("3 rows · ").shows("Emberwick");
    screen.press(&["C-n"]).shows("This statement has not run here yet.");
    screen.press(&["C-g"]).shows("rows 1–1 of 1").shows("Big ones");
    screen.press(&["C-p"]).shows("rows 1–3 of 3").shows("Emberwick");
}

#[test]
fn rows_that_were_kept_come_back_without_the_server() {
    let (home, screen) = ferry("select name from ports");
    screen.press(&["C-g"]).shows("3 rows · ").shows("Gullhaven").press(&["C-q"]).ends();
    std::fs::remove_file(home.path("project/ferry.db")).unwrap();
    let again = home.screen(&["a.sql", "-c", "ferry"]);
    again.shows("no such file").shows("3 rows · ").shows("Gullhaven");
    // Lines above it do not matter; its own text does.
    again.types("-- a title above").press(&["Enter", "Down"]).shows("Gullhaven");
    again.press(&["End"]).types(" limit 1").loses("Gullhaven");
}

#[test]
fn pages_of_any_size_at_any_place() {
    let (_home, screen) = ferry(&format!("{ENDLESS} limit 300000"));
    screen.press(&["C-g"]).shows("rows 1–37 of 300,000").loses("so far");
    screen.press(&["C-d"]).shows("rows 38–74 of").press(&["C-u"]).shows("rows 1–37 of");
    screen.press(&["M-j"]).shows("go to row, 1 to 300,000").types("123,456").press(&["Enter"]).shows("row 123456");
    screen.press(&["M-j"]).types("50 %").press(&["Enter"]).shows("row 150000").types("<").shows("rows 1–37");
    screen.types("d").shows("rows 19–55 of").types("d").shows("rows 37–73 of").types("ee").shows("rows 1–37 of");
    screen.types(">").shows("of 300,000").shows("row 300000").types("<").shows("row 1\n");
    screen.press(&["Space"]).shows("rows 38–74").press(&["Tab"]);
}

#[test]
fn a_disk_that_fills_while_rows_come() {
    let home = Home::ferry().file("a.sql", ENDLESS);
    let screen = home.on_a_small_disk(6, &["a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main").press(&["C-g"]).shows("the rows cannot be stored").shows("failed");
    screen.shows("The disk is full: free some space");
    // What was kept pages from the first to the last.
    screen.press(&["C-t"]).types(">").loses("rows 1–").types("<").shows("rows 1–").press(&["C-q"]).ends();
    // The next day the logbook still says how it ended.
    let later = home.screen(&["a.sql", "-c", "ferry"]);
    later.shows("failed").press(&["C-q"]).ends();
}

#[test]
fn one_key_stops_and_the_rows_stay() {
    let (_home, screen) = ferry(ENDLESS);
    screen.press(&["C-g"]).shows("so far  » ").shows("esc Cancel");
    screen.press(&["Escape"]).shows("stopped · ").shows("rows kept").shows("row 30\n");
    screen.types(">").press(&["C-d"]);
    screen.press(&["C-t"]).types(">").loses("rows 1–37");
}

#[test]
fn typing_while_rows_stream() {
    let (_home, screen) = ferry(&format!("{ENDLESS};\n\n"));
    screen.press(&["C-g"]).shows("so far");
    screen.press(&["C-End"]).types("select 'typed meanwhile'").shows("select 'typed meanwhile'").shows("+ unsaved");
    screen.press(&["Escape"]).shows("stopped · ");
}

#[test]
fn all_statements_run_up_to_the_first_error() {
    let (_home, screen) = ferry("select 1;\n\nselect nmae\nfrom ports;\n\nselect 3;\n");
    screen.press(&["M-g"]).shows("failed at line 3; 1 statement after it not run");
    screen.shows("no such column: nmae [SQLITE_ERROR]").shows("3 | select nmae").shows("  |        ^");
    screen.shows("✗▎ select nmae").shows(" ●  select 1;").shows(" ◦  select 3;");
}

#[test]
fn a_selection_runs_alone() {
    let (_home, screen) = ferry("select 'one' as a; select 'two' as b; select 'three' as c;");
    screen.press(&["C-Right", "C-Right"]).press(&["Home"]);
    screen.press(&["S-End", "C-g"]).shows("1 row · ");
    let text = screen.text();
    assert!(!text.contains("not run"), "{text}");
    screen.press(&["Escape", "C-End", "C-p"]).shows("three");
}

#[test]
fn a_crash_brings_back_the_last_keystroke() {
    let (home, screen) = ferry("select 1;\n");
    screen.press(&["Down"]).types("select 'not yet saved' as note").shows("'not yet saved' as note").shows("+ unsaved");
    screen.kill();
    assert_eq!(support::read(&home, "a.sql"), "select 1;\n", "it was never saved");
    let again = home.screen(&["a.sql", "-c", "ferry"]);
    again.shows("select 'not yet saved' as note").shows("recovered 30 unsaved changes").shows("+ unsaved");
    // And once more: what was recovered is not lost by a second crash.
    again.kill();
    let third = home.screen(&["a.sql", "-c", "ferry"]);
    third.shows("select 'not yet saved' as note").press(&["C-s"]).shows("saved a.sql").loses("+ unsaved");
    assert_eq!(support::read(&home, "a.sql"), "select 1;\nselect 'not yet saved' as note");
}

#[test]
fn a_crash_while_rows_stream_keeps_whole_batches() {
    let (home, screen) = ferry(ENDLESS);
    screen
        .press(&["C-g"])
        .shows("so far")
        .until("many rows", |text| text.contains(",000") || text.contains("of 1") && text.contains(','));
    screen.kill();
    let again = home.screen(&["a.sql", "-c", "ferry"]);
    again.shows("cut short · ").shows("rows kept").shows("row 30\n");
    again.press(&["C-t"]).types(">").loses("rows 1–37").shows("cut short");
    let logbook = rusqlite::Connection::open(home.path("state/jaunty/logbook.db")).unwrap();
    let (outcome, rows): (String, i64) =
        logbook.query_row("select outcome, row_count from runs", [], |r| Ok((r.get(0)?, r.get(1)?))).unwrap();
    assert_eq!(outcome, "cut short");
    let archive = std::fs::read_dir(home.path("state/jaunty/archives")).unwrap().next().unwrap().unwrap().path();
    let archive = jaunty_core::archive::Archive::open(&archive).unwrap();
    assert!(rows > 0 && archive.rows() == rows as u64, "{rows} rows in the logbook, {} in the archive", archive.rows());
    let last = archive.page(archive.rows() - 1, 1).unwrap();
    assert_eq!(jaunty_seam::rows::cell::column_text(last.batches[0].column(0)), [rows.to_string()]);
}

#[test]
fn hostile_cells_stay_in_their_cells() {
    let (_home, screen) = ferry(
        "select char(27) || '[2J' || char(27) || ']0;owned' || char(7) || char(10) || char(9) as bad, 'after' as a\nunion all select char(0x202e) || 'right to left', 'after'\nunion all select '名前' || char(0x200b) || 'é', 'after'\nunion all select 'plain', 'after'",
    );
    screen
        .press(&["C-g"])
        .shows("rows 1–4 of 4")
        .shows("␛[2J␛]0;owned␇␊␉")
        .shows("�right to left")
        .shows("名前�é")
        .shows("4 plain");
    let text = screen.text();
    let columns: Vec<usize> = text
        .lines()
        .filter(|line| line.contains("  after"))
        .map(|line| {
            let before = &line[..line.rfind("after").unwrap()];
            jaunty_language::text::clean::width(before)
        })
        .collect();
    assert_eq!(columns.len(), 4, "{text}");
    assert!(columns.windows(2).all(|pair| pair[0] == pair[1]), "not aligned: {columns:?}\n{text}");
    assert!(text.lines().next().unwrap().contains("ferry.db · main"), "the context line stands\n{text}");
}

#[test]
fn guards_are_told_and_hold() {
    let home = Home::ferry().file("a.sql", "delete from ports where id = 1;\nselect count(*) as n from ports;\n");
    let museum = home.screen(&["a.sql", "-c", "museum"]);
    museum.shows("## READ-ONLY ##").press(&["C-g"]).shows("attempt to write a readonly database");
    let careful = home.screen(&["a.sql", "-c", "careful"]);
    careful
        .shows("?? ASKS FIRST ??")
        .shows("ferry.db")
        .press(&["C-g"])
        .shows("careful asks before anything that writes")
        .shows("1 row would change (counted now).");
    careful.press(&["n"]).loses("asks before").press(&["C-n", "C-g"]).shows("rows 1–1 of 1").shows(" 3");
    careful.press(&["C-p", "C-g"]).shows("yes, run it").press(&["y"]).shows("1 row changed");
}

#[test]
fn an_open_transaction_is_in_sight_and_leaving_says_what_happens() {
    let (_home, screen) = ferry("begin;\nrollback;\n");
    screen.press(&["C-g"]).shows("[transaction open ");
    screen.press(&["C-q"]).shows("A transaction is open on ferry; quitting rolls it back.").press(&["Escape"]);
    screen.press(&["C-n", "C-g"]).loses("[transaction open ").press(&["C-q"]).ends();
}

#[test]
fn unsaved_text_is_asked_about() {
    let (home, screen) = ferry("select 1");
    screen
        .types("-- ")
        .shows("+ unsaved")
        .press(&["C-q"])
        .shows("a.sql has unsaved text.")
        .press(&["Escape"])
        .loses("has unsaved");
    screen.press(&["C-q"]).shows("save and quit").press(&["s"]).ends();
    assert_eq!(support::read(&home, "a.sql"), "-- select 1");
    let again = home.screen(&["a.sql", "-c", "ferry"]);
    again
        .shows("-- select 1")
        .types("x")
        .shows("+ unsaved")
        .press(&["C-q"])
        .shows("drop the text")
        .press(&["d"])
        .ends();
    assert_eq!(support::read(&home, "a.sql"), "-- select 1");
    let third = home.screen(&["a.sql", "-c", "ferry"]);
    third.shows("-- select 1").shows("ferry.db");
    assert!(!third.text().contains("recovered"), "dropped text stays dropped");
}

#[test]
fn a_file_that_changed_outside_is_not_overwritten_unasked() {
    let (home, screen) = ferry("select 1");
    screen.types("-- mine ").shows("+ unsaved");
    let home = home.file("a.sql", "select 'theirs'");
    screen.press(&["C-s"]).shows("was changed by another program").press(&["b"]).shows("saved a.1.sql");
    assert_eq!(support::read(&home, "a.sql"), "select 'theirs'");
    assert_eq!(support::read(&home, "a.1.sql"), "-- mine select 1");
}

#[test]
fn every_action_is_found_by_typing() {
    let (_home, screen) = ferry("select 1");
    screen
        .press(&["C-l"])
        .shows("actions")
        .types("fools")
        .shows("Change between lamplight")
        .press(&["Enter"])
        .loses("type to search");
    screen.press(&["F2"]).shows("Run the statement at the cursor").press(&["Escape"]).loses("docs/keys.md");
    screen
        .press(&["F3"])
        .shows("4 of 4 connections")
        .types("mus")
        .shows("1 of 4 connections")
        .press(&["Enter"])
        .shows("## READ-ONLY ##");
}

#[test]
fn tables_are_found_and_looked_at() {
    let (_home, screen) = ferry("select 1\n");
    screen
        .press(&["C-o"])
        .shows("catalog of ferry")
        .shows("3 rows (estimate)")
        .shows("Emberwick")
        .types("port")
        .press(&["C-g"]);
    screen.shows("held · select * from ports").shows("rows 1–3 of 3").shows("Gullhaven").loses("ports;");
}

#[test]
fn editing_with_undo_selection_and_paste() {
    let (_home, screen) = ferry("");
    screen
        .types("select one")
        .shows("select one")
        .press(&["C-z"])
        .shows("select")
        .loses("one")
        .press(&["C-y"])
        .shows("select one");
    screen.press(&["C-a"]).pastes("values (1),\n  (2)").shows("(2)").loses("select one");
    screen.press(&["C-a", "C-x"]).loses("values").press(&["C-v", "C-v"]).shows("(2)values (1),");
    assert_eq!(screen.clipboard(), "values (1),\n  (2)");
}

#[test]
fn a_whole_value_is_copied() {
    let (_home, screen) = ferry("select 'left' as a, replace(hex(zeroblob(200)), '00', 'wave ') as b");
    screen.press(&["C-g"]).shows("rows 1–1 of 1").press(&["C-t", "Right"]).types("c").shows("copied 1,000 characters");
    assert_eq!(screen.clipboard(), "wave ".repeat(200));
}

#[test]
fn any_size_of_terminal() {
    let home = Home::ferry().file("a.sql", "select * from ports");
    let screen = Screen::start(&home, (80, 24), &["a.sql", "-c", "ferry"], &[]);
    screen.shows("ferry.db").press(&["C-g"]).shows("rows 1–3 of 3");
    let stacked = screen.text();
    assert!(stacked.lines().any(|line| line.starts_with("────────") && line.chars().all(|c| c == '─')), "{stacked}");
    screen
        .resizes(200, 60)
        .until("panes beside each other", |text| text.lines().nth(30).is_some_and(|l| l.contains('│')));
    screen.resizes(30, 8).shows("ferry").resizes(140, 42).shows("Emberwick");
    screen.press(&["C-w"]).loses("│").press(&["C-w"]).shows("│");
}

#[test]
fn a_hand_on_the_mouse() {
    let (_home, screen) = ferry("select 'first' as a;\n\nselect 'second' as b;\n");
    screen.clicks(10, 4).press(&["C-g"]).shows("second").shows(" ●▎ select 'second'");
    screen.clicks(10, 2).press(&["C-g"]).shows(" ●▎ select 'first'");
    // On a hint in the last line.
    screen.types("").clicks(3, 42).shows("1 row · ");
}

#[test]
fn without_colour_and_without_truecolour() {
    let home = Home::ferry().file("a.sql", "select * from ports");
    for environment in [&[("NO_COLOR", "1")][..], &[("TERM", "xterm")], &[("COLORTERM", "truecolor")]] {
        let screen = Screen::start(&home, (100, 30), &["a.sql", "-c", "ferry"], environment);
        screen.shows("ferry.db").press(&["C-g"]).shows("Gullhaven").shows("∅");
    }
}

#[test]
fn the_demonstration_opens_and_its_ten_statements_run() {
    let home = Home::new();
    let screen = home.screen(&["demo"]);
    screen.shows("saltmarsh.db · main").shows("A tour of Saltmarsh Line");
    screen.press(&["M-g"]).shows("3. Half a million readings");
    screen.press(&["C-End", "C-p", "C-n"]).shows("10. And without a semicolon").shows("seagull in the wheelhouse");
    let text = screen.text();
    assert!(!text.contains('✗') && !text.contains('◦'), "{text}");
    screen
        .press(&["C-Home", "C-n", "C-n"])
        .shows("rows 1–36 of 500,000")
        .press(&["C-t"])
        .types(">")
        .shows("of 500,000")
        .shows("500000");
}

#[test]
fn two_instances_on_one_buffer_lose_nothing() {
    let (home, first) = ferry("select 1;\n");
    let second = home.screen(&["a.sql", "-c", "ferry"]);
    second.shows("ferry.db · main");
    first.types("-- of the first").press(&["Enter"]).shows("+ unsaved");
    second.types("-- of the second").press(&["Enter"]).shows("+ unsaved");
    first.press(&["C-s"]).shows("saved a.sql");
    second.press(&["C-s"]).shows("was changed by another program").press(&["Escape"]).loses("was changed");
    second.kill();
    assert_eq!(support::read(&home, "a.sql"), "-- of the first\nselect 1;\n");
    let third = home.screen(&["a.sql", "-c", "ferry"]);
    third
        .shows("has unsaved text from before a crash, and was changed by another program since.")
        .shows("+ -- of the second")
        .press(&["t"])
        .shows("-- of the first")
        .loses("-- of the second");
    third.press(&["C-z"]).shows("-- of the second").press(&["C-y"]).shows("-- of the first");
}

#[test]
fn the_second_stop_key_works_where_a_person_writes() {
    let (_home, screen) = ferry(ENDLESS);
    screen.press(&["C-g"]).shows("so far").press(&["C-c"]).shows("stopped · ");
}

#[test]
fn leaving_while_something_runs_says_so_and_keeps_the_rows() {
    let (home, screen) = ferry(ENDLESS);
    screen
        .press(&["C-g"])
        .shows("rows 1–")
        .press(&["C-q"])
        .shows("A statement is running on ferry; quitting cancels it");
    screen.types("l").ends();
    let again = home.screen(&["a.sql", "-c", "ferry"]);
    again.shows("rows kept");
}

#[test]
fn long_lines_scroll_with_the_cursor() {
    let (_home, screen) = ferry(&format!("select '{}' as long, 'the end' as b", "wave ".repeat(60)));
    screen.shows("…").press(&["End"]).shows("'the end' as b").press(&["Home"]).shows("select 'wave").loses("'the end'");
}

#[test]
fn a_database_file_opens_by_its_name() {
    let home = Home::new().database(
        "chart.db",
        "create table \"Odd Name\"(\"a b\" text); insert into \"Odd Name\" values ('deep water')",
    );
    let screen = home.screen(&["chart.db"]);
    screen.shows("chart open").shows("opens the catalog").press(&["C-o"]).shows("Odd Name").press(&["C-g"]);
    screen.shows("held · select * from \"Odd Name\"").shows("deep water").shows("rows 1–1 of 1");
}

#[test]
fn mistakes_in_files_are_told_on_the_screen() {
    let home = Home::ferry().file("a.sql", "select 1");
    std::fs::create_dir_all(home.path("config/jaunty")).unwrap();
    std::fs::write(home.path("config/jaunty/settings.toml"), "theme = \"dusk\"\n").unwrap();
    home.screen(&["a.sql", "-c", "ferry"]).shows("settings.toml, line 1: unknown theme. Use lamplight or foolscap.");
    std::fs::write(home.path("config/jaunty/settings.toml"), "[keys]\nrun-statement = [\"f4\"]\n").unwrap();
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("f4 Run statement").shows("ferry.db · main").press(&["F4"]).shows("1 row · ");
}

/// What a person typed is asked about where the file is another by now, and never written over it.
#[test]
fn text_from_before_a_crash_is_asked_about_where_the_file_changed() {
    let (home, screen) = ferry("select 1");
    screen.types("-- mine ").shows("-- mine select 1").shows("+ unsaved");
    screen.until("a journal", |_| holds_text(&home.path("state/jaunty/journals"), "\"ins\":\" \""));
    screen.kill();
    std::fs::write(home.path("project/a.sql"), "-- theirs\nselect 2").unwrap();
    let again = home.screen(&["a.sql", "-c", "ferry"]);
    again.shows("has unsaved text from before a crash, and was changed by another program since.");
    again.shows("-- theirs").shows("-- mine select 1").press(&["Escape"]).loses("by another program");
    // Not decided yet: saving asks again.
    again.press(&["C-s"]).shows("was changed by another program").press(&["Escape"]);
    assert_eq!(support::read(&home, "a.sql"), "-- theirs\nselect 2");
    again.press(&["C-s"]).shows("take the file's text").press(&["t"]).shows("select 2");
    again.press(&["C-z"]).shows("-- mine select 1");
}

#[test]
fn a_state_folder_that_cannot_be_written_to_is_told_for_as_long_as_it_is_so() {
    let (home, screen) = ferry("select 1");
    let journals = home.path("state/jaunty/journals");
    std::fs::remove_dir_all(&journals).ok();
    std::fs::write(&journals, "in the way").unwrap();
    screen.types("-- a").shows("unsaved text is not protected from a crash");
    screen.types("b").shows("-- ab").shows("unsaved text is not protected from a crash");
    std::fs::remove_file(&journals).unwrap();
    screen.loses("unsaved text is not protected");
    screen.kill();
    home.screen(&["a.sql", "-c", "ferry"]).shows("recovered 5 unsaved changes").shows("-- abselect 1");
}

/// What a library writes to the standard error is in the log, and not painted over the screen; after the screen it
/// goes where it went before.
#[test]
fn the_standard_error_is_not_painted_over_the_screen() {
    let (home, screen) = ferry("select 1");
    let processes = screen.processes();
    let [process] = processes.as_slice() else { panic!("{processes:?}") };
    let mut error = std::fs::OpenOptions::new().append(true).open(format!("/proc/{process}/fd/2")).unwrap();
    std::io::Write::write_all(&mut error, b"a library complains\n").unwrap();
    screen.types("-- on ").shows("-- on select 1").loses("complains");
    let log = std::fs::read_to_string(home.path("state/jaunty/jaunty.log")).unwrap();
    assert!(log.contains("a library complains"), "{log}");
    screen.press(&["C-q"]).shows("unsaved").press(&["d"]).ends();
}

/// Whether a file of a folder holds a text.
fn holds_text(folder: &std::path::Path, text: &str) -> bool {
    let all = std::fs::read_dir(folder).into_iter().flatten().flatten();
    all.into_iter().any(|entry| std::fs::read_to_string(entry.path()).is_ok_and(|found| found.contains(text)))
}

#[test]
fn leaving_while_rows_are_exported_is_asked_about_and_leaves_no_part_of_a_file() {
    let (home, screen) = ferry(ENDLESS);
    let left = || {
        let all = std::fs::read_dir(home.path("project")).unwrap().flatten();
        let mut names: Vec<_> = all.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.retain(|name| name.contains("big.csv"));
        names
    };
    screen.press(&["C-g"]).shows("so far").press(&["C-t", "M-x"]).shows("export").press(&["BSpace"; 90]);
    screen.types("big.csv").press(&["Enter"]).shows("exporting big.csv");
    screen.press(&["C-q"]).shows("exporting big.csv is not finished; quitting cancels it, and no file is written.");
    screen.press(&["l"]).ends();
    assert_eq!(left(), Vec::<String>::new());
}

#[test]
fn what_a_killed_program_left_under_a_temporary_name_is_removed_at_the_next_start() {
    let (home, screen) = ferry("select 1");
    let parts = home.path("state/jaunty/parts");
    let part = home.path("project/.late.csv.1-0.part");
    screen.kill();
    std::fs::create_dir_all(&parts).unwrap();
    std::fs::write(&part, "half").unwrap();
    std::fs::write(parts.join("1-0"), part.to_string_lossy().as_bytes()).unwrap();
    home.screen(&["a.sql", "-c", "ferry"]).shows("ferry.db · main");
    assert!(!part.exists());
}

#[test]
fn many_statements_say_which_of_them_runs() {
    let (_home, screen) = ferry(&format!("select 1;\n\n-- The long one\n{ENDLESS};\n\nselect 3;\n"));
    screen.press(&["M-g"]).shows("running 2 of 3 · The long one · esc stops");
    screen.press(&["Escape"]).loses("running 2 of 3");
}

#[test]
fn the_statements_of_a_large_buffer_come_after_its_text() {
    let large =
        format!("-- The first\nselect 41 + 1 as n;\n{}", "insert into ports(name) values ('x');\n".repeat(90_000));
    let (_home, screen) = ferry(&large);
    screen.shows("-- The first").shows(" ◦  insert into ports");
    screen.types("-- typed ").shows("-- typed -- The first").press(&["Down", "C-g"]).shows("rows 1–1 of 1").shows("42");
}

/// What is in hand is there again next time, and says whose database it is.
#[test]
fn the_last_buffer_and_connection_are_there_again() {
    let home = Home::ferry().file("tides.sql", "-- Tides\nselect 1 as tide;\n");
    let screen = home.screen(&["tides.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main").press(&["C-q"]).ends();
    home.screen(&[]).shows("ferry.db · main").shows("tides.sql").shows("-- Tides").press(&["C-q"]).ends();
}

/// Somebody who has no connections file works with what lies near.
#[test]
fn what_lies_near_is_told_and_there_again() {
    let tides = "create table tides(at text); insert into tides values ('06:12'), ('18:40');";
    let home = Home::new().database("tides.db", tides).file("a.sql", "select at from tides;\n");
    let screen = home.screen(&["a.sql"]);
    screen.shows("1 connection found near, in tides.db").press(&["F3"]).types("tides").shows("from tides.db");
    screen.press(&["Enter"]).shows("tides.db · main").press(&["C-g"]).shows("18:40").press(&["C-q"]).ends();
    home.screen(&[]).shows("tides.db · main").shows("18:40").press(&["C-q"]).ends();
}

#[test]
fn connections_files_that_change_outside_are_noticed_and_labels_are_seen() {
    let home = Home::ferry().file("a.sql", "select 1;\n");
    let file = home.path("project/.jaunty/connections.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main");
    let more = "\n[quay]\nengine = \"sqlite\"\npath = \":memory:\"\nlabel = \"production\"\ngroup = \"saltmarsh\"\n";
    std::fs::write(&file, format!("{before}{more}\n[wrong]\nengine = \"sqlit\"\n")).unwrap();
    screen.press(&["F3"]).shows("saltmarsh · production").shows("unknown engine \"sqlit\"").types("quay");
    screen.press(&["Enter"]).shows("◆ PRODUCTION ◆").press(&["C-q"]).ends();
}

#[test]
fn a_transaction_is_begun_and_rolled_back_from_the_list_of_actions() {
    let (_, screen) = ferry("select 1;\n");
    screen.press(&["C-l"]).types("begin trans").press(&["Enter"]).shows("[transaction open ");
    screen.press(&["C-l"]).types("savepoint").press(&["Enter"]).shows("[transaction open ");
    screen.press(&["C-l"]).types("rollback").press(&["Enter"]).loses("[transaction open ");
    screen.press(&["C-l"]).types("history").shows("Logbook").press(&["Escape", "C-q"]).ends();
}

#[test]
fn a_prompt_stays_open_after_a_mistake_and_typing_replaces_what_was_offered() {
    let (home, screen) = ferry("-- Ports\nselect 1 as a;\n");
    screen.press(&["C-g"]).shows("1 row").press(&["M-x"]).shows("› ports.csv").types("x.doc");
    screen.press(&["Enter"]).shows("not a file with a known ending").shows("› x.doc").press(&["C-u"]);
    screen.types("x.csv").press(&["Enter"]).shows("1 row in ");
    assert_eq!(support::read(&home, "x.csv"), "a\n1\n");
    screen.press(&["C-q"]).ends();
}

#[test]
fn the_name_of_a_connection_opens_it() {
    let home = Home::ferry();
    let screen = home.screen(&["ferry"]);
    screen.shows("ferry.db · main").shows("statements.sql").press(&["C-q"]).ends();
    // A file of that name comes first.
    let home = Home::ferry().file("ferry", "select 'a file';\n");
    let screen = home.screen(&["ferry"]);
    screen.shows("a file").press(&["Escape", "C-q"]).ends();
}

#[test]
fn a_file_of_rows_is_offered_to_be_loaded() {
    let home = Home::ferry().file("LatePorts.csv", "code,berths\nFOG,3\nMIS,\n");
    let screen = home.screen(&["LatePorts.csv", "-c", "ferry"]);
    screen.shows("load a file").shows("late_ports").shows("2 rows looked at: all of them fit");
    screen.shows("The table is new").press(&["C-g"]).shows("2 rows loaded into late_ports").press(&["Escape"]);
    screen.press(&["C-q"]).ends();
    // One document is no table: it is a command.
    let home = Home::ferry().file("query.json", "{ count: \"ports\" }\n");
    let screen = home.screen(&["query.json", "-c", "ferry"]);
    screen.shows("{ count").press(&["Escape", "C-q"]).ends();
    // Without a connection it waits for one.
    let home = Home::ferry().file("LatePorts.csv", "code\nFOG\n");
    let screen = home.screen(&["LatePorts.csv"]);
    screen.shows("LatePorts.csv").press(&["Escape", "C-q"]).ends();
}

#[test]
fn the_connection_that_the_first_lines_name_is_taken() {
    let text = "-- connection: museum\nselect count(*) as n from ports;\n";
    let home = Home::ferry().file("a.sql", text).file("lost.sql", "-- connection: wharf\nselect 1;\n");
    let named = home.screen(&["a.sql"]);
    named.shows("## READ-ONLY ##").shows("museum");
    drop(named);
    let given = home.screen(&["a.sql", "-c", "ferry"]);
    given.shows("a.sql names the connection museum at its top; it is on ferry now").loses("READ-ONLY");
    // It is another one as often as the buffer is taken up, whatever it ran on before.
    given.press(&["C-g"]).shows("1 row ·").press(&["C-q"]);
    given.ends();
    home.screen(&["a.sql"]).shows("## READ-ONLY ##");
    // What came with a project runs no command before its connection was chosen once.
    let connections = std::fs::read_to_string(home.path("project/.jaunty/connections.toml")).unwrap();
    let mark = home.path("ran").display().to_string();
    let shy =
        format!("{connections}\n[shy]\nengine = \"redis\"\nport = 9\nsecret_command = \"touch '{mark}'; echo fog\"\n");
    std::fs::write(home.path("project/.jaunty/connections.toml"), shy).unwrap();
    std::fs::write(home.path("project/shy.sql"), "-- connection: shy\nselect 1;\n").unwrap();
    let folder = home.path("project/.jaunty/buffers/shy");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("fares.sql"), "select 1;\n").unwrap();
    for file in ["shy.sql", ".jaunty/buffers/shy/fares.sql"] {
        home.screen(&[file]).shows("belongs to the connection shy, which takes a secret by a command or");
    }
    assert!(!home.path("ran").exists());
    // Whoever names it wants it.
    home.call(&["connections", "try", "shy"]).exits(1);
    assert!(home.path("ran").exists());
    std::fs::remove_file(home.path("ran")).unwrap();
    home.screen(&["shy.sql"]).shows("could not connect to 127.0.0.1:9");
    assert!(home.path("ran").exists());
    // Until it is another one, also where it ran before.
    std::fs::write(home.path("project/last.sql"), "select 1;\n").unwrap();
    let last = home.screen(&["last.sql", "-c", "careful"]);
    last.shows("careful").press(&["C-g"]).shows("1 row ·").press(&["C-q"]).ends();
    let file = home.path("project/.jaunty/connections.toml");
    let other = std::fs::read_to_string(&file).unwrap().replace("[careful]", "[before]");
    let other = other + "\n[careful]\nengine = \"redis\"\nport = 9\nsecret_command = \"false\"\n";
    std::fs::write(&file, other).unwrap();
    home.screen(&["last.sql"]).shows("belongs to the connection careful, which");
    let lost = home.screen(&["lost.sql"]);
    lost.shows("lost.sql belongs to the connection wharf, which is not known; choose one here").shows("museum");
}

#[test]
fn a_database_that_is_not_there_is_created_where_that_is_wanted() {
    let home = Home::ferry();
    let asked = home.screen(&["fery.db"]);
    asked.shows("fery.db does not exist (there is ferry). Create an empty database there? [y/n]");
    asked.types("n").press(&["Enter"]).shows("fery.db was not created");
    assert!(!home.path("project/fery.db").exists());
    let screen = home.screen(&["tides.db"]);
    screen.shows("tides.db does not exist. Create an empty database there? [y/n]").types("y").press(&["Enter"]);
    screen.shows("tides.db · main").types("create table tides (at text);").press(&["C-g"]).shows("done");
    screen.press(&["C-q"]).shows("tides.db");
    let (out, _) = home.call(&["schema", "tides.db"]).exits(0);
    assert!(out.contains("tides"), "{out}");
    let (_, told) = home.call(&["schema", "moon.db"]).exits(2);
    assert!(told.contains("`sqlite:moon.db?create=true` creates an empty database there."), "{told}");
    home.call(&["run", "-c", "sqlite:moon.db?create=true", "-s", "create table a(b)"]).exits(0);
    assert!(home.path("project/moon.db").exists());
}
