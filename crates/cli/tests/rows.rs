//! Results in the hand, in a real terminal.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use support::desktop::Desktop;
use support::{Home, Screen, read};

const COUNTED: &str = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 5000)";

fn ferry(buffer: &str, settings: &str) -> (Home, Screen) {
    let home = Home::ferry().file("a.sql", buffer);
    let folder = home.path("config/jaunty");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("settings.toml"), settings).unwrap();
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main");
    (home, screen)
}

#[test]
fn results_are_chosen_from_a_strip_and_placed_side_by_side() {
    let text = format!(
        "-- Ports\nselect name, berths from ports;\n\n-- Counted\n{COUNTED} select i, i * 3 as thrice from n;\n"
    );
    let (_home, screen) = ferry(&text, "");
    screen.press(&["M-g"]).shows(" Ports · 3 ").shows(" Counted · 5,000");
    // With the mouse, and with keys.
    let line = screen.text().lines().nth(1).unwrap().to_owned();
    let column = |title: &str| line.split_once(title).unwrap().0.chars().count() as u16 + 2;
    screen.clicks(column(" Ports · 3"), 2).shows("Emberwick").shows("› Ports");
    screen.types(".").shows("› Counted").shows("rows 1–36 of 5,000");
    // The same statement before and after: one stays, the other one follows the cursor.
    screen.types("t").shows("║").shows("held · Counted");
    let both = |text: &str, what: &str| text.matches(what).count() == 2;
    screen.types(">").until("both at the end", |text| both(text, " 15000"));
    screen.types("l").shows("each result scrolls on its own").loses("║");
    screen.types("<").until("one at the end", |text| text.matches(" 15000").count() == 1);
    screen.press(&["C-t", "C-p"]).shows("Emberwick").shows("held · Counted · 5,000");
    screen.press(&["C-t"]).types("t").loses("Emberwick").shows("held · Counted");
    screen.press(&["Escape"]).shows("Emberwick").types(",").shows("held · Counted");
    screen.press(&["M-h"]).shows("the result follows the cursor").loses("held");
    screen.press(&["C-q"]).ends();
}

#[test]
fn a_line_is_mended_where_it_is_wrong() {
    let (_home, screen) = ferry("select name, berths from ports order by id", "");
    screen.press(&["C-g"]).shows("Emberwick").press(&["C-t"]).types("n").shows("only rows whose name is");
    // The keys of a real terminal: to the beginning, over a character, by word, and away with one.
    screen.types("begins Gxllhaven").press(&["C-Left", "Right", "DC"]).types("u").shows("› begins Gullhaven");
    screen.press(&["Enter"]).shows("1 row of 3").loses("Emberwick");
    screen.types("o").shows("Emberwick").types("/").types("Salt berths").press(&["M-BSpace", "BSpace", "Enter"]);
    screen.shows("Saltmarsh").loses("Emberwick");
    // A line that is longer than the screen shows where it is written.
    let long = "harbour ".repeat(30);
    screen.types("/").types(&long).types("end").shows("harbour end").press(&["Home"]).types("first ").shows("› first ");
    screen.press(&["Escape", "C-q"]).ends();
}

#[test]
fn cells_are_marked_added_up_and_copied() {
    let (_home, screen) = ferry(&format!("{COUNTED} select i, i * 3 as thrice from n"), "");
    screen.press(&["C-g"]).shows("of 5,000").press(&["C-t", "Right"]).types("m").press(&["Down", "Down"]);
    screen.shows("3 cells · sum 18 · mean 6").types("c").shows("copied 3 rows");
    assert_eq!(screen.clipboard(), "3\n6\n9\n");
    screen.types("y").shows("formats to copy in").types("jsonl").press(&["Enter"]).shows("copied 3 rows as jsonl");
    screen.until("its text", |_| screen.clipboard() == "{\"thrice\":3}\n{\"thrice\":6}\n{\"thrice\":9}\n");
    screen.press(&["Escape"]).loses("sum 18").press(&["C-q"]).ends();
}

#[test]
fn an_out_line_writes_its_file_on_every_run() {
    let (home, screen) = ferry("select name, berths from ports order by name\n--> ports.csv\n", "");
    screen.press(&["C-g"]).shows("3 rows in ");
    let first = read(&home, "ports.csv");
    assert!(first.starts_with("name,berths\r\nEmberwick,") || first.starts_with("name,berths\nEmberwick,"), "{first}");
    std::fs::remove_file(home.path("project/ports.csv")).unwrap();
    screen.press(&["C-g"]).until("it once more", |_| home.path("project/ports.csv").is_file());
    assert_eq!(read(&home, "ports.csv"), first);
    screen.press(&["C-q"]).ends();
}

#[test]
fn a_run_waits_until_its_rows_are_wanted() {
    let (_home, screen) = ferry(&format!("{COUNTED} select i from n"), "[archives]\nahead_rows = 1000\n");
    screen.press(&["C-g"]).shows("held").shows("the server's cursor is open");
    screen.press(&["C-t"]).types(">").shows("4,964–5,000 of 5,000").loses("held");
    screen.press(&["C-t", "C-g"]).shows("held").press(&["Escape"]).shows("stopped");
    screen.press(&["C-q"]).ends();
}

#[test]
fn what_is_copied_is_in_the_clipboard_of_the_desktop() {
    let desktop = Desktop::start();
    let home = Home::ferry().file("a.sql", "select 'Saltmarsh ⚓ ' || char(10) || 'Quay' as name");
    let screen = Screen::start(&home, (100, 30), &["a.sql", "-c", "ferry"], &[("DISPLAY", &desktop.display)]);
    screen.shows("ferry.db").press(&["C-g"]).shows("1 row").press(&["C-t"]).types("c").shows("copied");
    screen.until("the desktop", |_| desktop.clipboard() == "Saltmarsh ⚓ \nQuay");
    assert_eq!(screen.clipboard(), "Saltmarsh ⚓ \nQuay", "and in that of the terminal");
    screen.press(&["C-q"]).ends();
}

#[test]
fn values_are_asked_for_sent_beside_the_text_and_remembered() {
    let (home, screen) = ferry("select :name || ' has ' || :berths as told, typeof(:berths) as kind\n", "");
    screen.press(&["C-g"]).shows("value of :name").types("it's; drop table ports").press(&["Enter"]);
    screen
        .shows("value of :berths")
        .types("7")
        .press(&["Enter"])
        .shows("it's; drop table ports has 7")
        .shows("integer");
    // What was given last stands there again: in this session, and in the next.
    screen.press(&["C-g"]).shows("› it's; drop table ports").press(&["Enter"]).shows("› 7").press(&["BSpace"]);
    screen.types("'8'").press(&["Enter"]).shows("ports has 8").shows("text").press(&["C-q"]).ends();
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen
        .shows("ferry.db · main")
        .shows("has 8")
        .press(&["C-g"])
        .shows("› it's; drop")
        .press(&["Enter"])
        .shows("› '8'");
    // Nothing runs where nobody says what with.
    screen.press(&["Escape"]).loses("value of").press(&["M-l"]).shows("2 of 2 runs").shows(":berths = '8'");
    screen.press(&["Escape", "C-q"]).ends();
}

#[test]
fn an_export_asks_before_it_replaces_and_takes_what_is_marked() {
    let (home, screen) = ferry("-- Ports\nselect name, berths from ports order by id", "");
    screen.press(&["C-g"]).shows("3 rows").press(&["M-x"]).shows("export 3 rows to a file").shows("› ports.csv");
    screen.press(&["Enter"]).shows("3 rows in ");
    assert_eq!(read(&home, "ports.csv"), "name,berths\nSaltmarsh,6\nGullhaven,4\nEmberwick,\n");
    std::fs::write(home.path("project/ports.csv"), "mine").unwrap();
    screen.press(&["M-x", "Enter"]).shows("already exists").press(&["Escape"]);
    assert_eq!(read(&home, "ports.csv"), "mine");
    // The marked cells alone, as another format writes them, with its options.
    screen.press(&["C-t", "Right"]).types("m").press(&["Down"]).shows("2 cells · sum 10");
    screen.press(&["M-x"]).shows("export the marked cells").press(&["C-u"]);
    screen.types("berths.sql table=east.berths dialect=postgres").press(&["Enter"]).shows("2 rows in ");
    assert_eq!(read(&home, "berths.sql"), "insert into east.berths (berths) values\n  (6),\n  (4);\n");
    // A mistake keeps what was written, to be mended.
    screen
        .press(&["M-x"])
        .shows("export the marked cells")
        .press(&["End"])
        .types(" colour=red")
        .press(&["Enter"])
        .shows("unknown option");
    screen.shows("ports.csv colour=red").press(&["Escape", "C-q"]).ends();
}

#[test]
fn an_export_that_is_stopped_leaves_nothing() {
    let many = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 300000) select i, 'a remark on ' || i as remark from n";
    let (home, screen) = ferry(many, "");
    screen.press(&["C-g"]).shows("of 300,000").loses("so far").press(&["C-t", "M-x"]).shows("export 300,000 rows");
    screen.press(&["End"]).press(&["BSpace"; 4]);
    screen.types(".xlsx").press(&["Enter"]).shows("exporting").press(&["Escape"]).shows("nothing was written");
    let files: Vec<_> = std::fs::read_dir(home.path("project")).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert!(files.iter().all(|file| !file.to_string_lossy().contains("xlsx")), "{files:?}");
    screen.press(&["C-q"]).ends();
}

#[test]
fn rows_go_into_the_buffer_in_a_format() {
    let (_home, screen) = ferry("select name, berths from ports order by id", "");
    screen.press(&["C-g", "C-t"]).shows("› select").types("p").shows("formats to put into the buffer").types("insert");
    screen.press(&["Enter"]).shows("insert into ports (name, berths) values").shows("('Saltmarsh', 6);");
    screen.press(&["C-q"]).shows("drop the text").types("d").ends();
}

#[test]
fn a_row_is_looked_at_with_its_names_down_the_side() {
    let row = "select 'Saltmarsh' as port, '' as bare, '  ' as blanks, null as unknown, x'00ff41' as chart, '{\"deck\": {\"cars\": [1, 2]}, \"open\": true}' as notes, 'the harbour master ' || printf('%.200c', 'x') as remark";
    let (_home, screen) = ferry(row, "");
    screen.press(&["C-g"]).shows("rows 1–1 of 1").press(&["C-t", "Enter"]);
    screen.shows("row 1 of 1").shows("(no characters)").shows("(2 blanks)").shows("∅");
    screen.shows("3 bytes").shows("00 ff 41").shows("\"cars\": [").shows("the harbour master");
    // A word that is wider than the screen goes on below.
    screen.until("all of the remark", |text| text.matches('x').count() >= 200);
    // Folded away, found, and unfolded by that.
    screen.press(&["Down"; 6]).press(&["Enter"]).shows("… 7 lines").loses("\"cars\"");
    screen.types("/").types("cars").press(&["Enter"]).shows("\"cars\": [").shows("1 place ·");
    screen.press(&["Escape"]).loses("row 1 of 1").types("i").shows("distinct").shows("NULL");
    screen.press(&["Escape"]).loses("distinct").press(&["C-q"]).ends();
}

#[test]
fn rows_of_a_buffer_of_the_programs_own_go_where_it_was_started() {
    let home = Home::ferry();
    // The project of the other tests would have buffers of its own.
    std::fs::remove_dir_all(home.path("project/.jaunty")).ok();
    let connections = home.path("config/jaunty");
    std::fs::create_dir_all(&connections).unwrap();
    let ferry = format!("[ferry]\nengine = \"sqlite\"\npath = \"{}\"\n", home.path("project/ferry.db").display());
    std::fs::write(connections.join("connections.toml"), ferry).unwrap();
    let screen = home.screen(&["-c", "ferry"]);
    screen
        .shows("ferry.db · main")
        .types("-- Ports")
        .press(&["Enter"])
        .types("select name from ports")
        .press(&["C-g"])
        .shows("Emberwick");
    let project = home.path("project").canonicalize().unwrap();
    screen.press(&["M-x"]).shows(&format!("in {}", project.display())).press(&["Enter"]).shows("3 rows in");
    assert_eq!(read(&home, "ports.csv"), "name\nSaltmarsh\nGullhaven\nEmberwick\n");
    screen.press(&["C-q"]);
}
