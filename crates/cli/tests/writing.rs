//! Writing in a real terminal: proposals, help, the catalog, problems, changes to lines, buffers.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_testservers::{PASSWORD, Postgres};
use support::{Home, Screen, read};

fn ferry(buffer: &str) -> (Home, Screen) {
    let home = Home::ferry().file("a.sql", buffer);
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main");
    (home, screen)
}

/// A join over three tables of the demonstration, with the keys it takes.
#[test]
fn a_join_over_three_tables_is_written_by_proposals() {
    let home = Home::new();
    let folder = home.path("demo").display().to_string();
    let screen = home.screen(&["demo", "--folder", &folder]);
    screen.shows("sqlite").press(&["C-End", "Enter", "Enter"]);
    let mut keys = 0;
    for (typed, proposed) in [
        ("sel", "select"),
        ("* f", "from"),
        ("sai", "sailings"),
        ("s j", "join"),
        ("", "routes r on r.id = s.route_id"),
        ("j", "join"),
        ("v", "vessels v on v.id = s.vessel_id"),
    ] {
        screen.types(typed).until(proposed, |text| text.lines().any(|line| line.contains(&format!("› {proposed}"))));
        screen.press(&["Tab"]);
        keys += typed.len() + 1;
    }
    assert!(keys < 40, "{keys} keys");
    screen.shows("join vessels v on v.id = s.vessel_id").press(&["C-g"]).shows("vessel_id").shows("of 9,000");
}

#[test]
fn a_table_made_in_the_buffer_is_proposed_without_being_asked_for() {
    let (_home, screen) = ferry("create table lighthouses(id integer primary key, height real);\n\n");
    screen.press(&["C-g"]).shows("done").press(&["C-End"]).types("select * from li").shows("› lighthouses");
    screen.press(&["Tab"]).types("where he").shows("› height").shows("REAL · lighthouses").press(&["Tab"]);
    screen.shows("from lighthouses where height");
}

#[test]
fn proposals_do_not_stand_in_the_way() {
    let (_home, screen) = ferry("");
    // Enter begins a line unless a person has moved to a proposal.
    screen
        .types("sel")
        .shows("› select")
        .press(&["Enter"])
        .types("x")
        .loses("› select")
        .press(&["C-s"])
        .shows("saved a.sql");
    screen.press(&["C-a"]).types("select na from ports").press(&["C-Left", "C-Left", "C-Left", "C-Right"]);
    screen.press(&["C-Space"]).shows("› name").press(&["Down", "Up", "Enter"]).shows("select name from ports");
    // What is running is stopped by the same key that closes proposals, once they are closed.
    screen.press(&["End"]).types(" wh").shows("› where").press(&["Escape"]).loses("› where").shows("ports wh");
    screen.types("e").shows("› where").press(&["C-g"]).shows("rows 1–3 of 3").loses("› where");
}

#[test]
fn places_are_filled_in_one_after_the_other() {
    let (_home, screen) = ferry("select 1;\n");
    screen.press(&["C-o"]).shows("catalog of ferry").types("ports").press(&["Enter"]).shows("statements to write");
    screen.types("insert").shows("insert into ports (id, name, berths)").press(&["Enter"]);
    screen
        .shows("values (‹id›, ‹name›, ‹berths›);")
        .types("9")
        .press(&["Tab"])
        .types("'Seal Bay'")
        .press(&["Tab"])
        .types("2");
    screen.shows("values (9, 'Seal Bay', 2);").press(&["C-g"]).shows("1 row changed");
}

#[test]
fn the_catalog_is_walked_along_its_references_and_back() {
    let home = Home::new().database(
        "ferry.db",
        "create table ports(id integer primary key, name text); insert into ports(name) values ('Saltmarsh');
         create table berths(port integer references ports, number integer); create view busy as select name from ports;
         insert into berths values (1, 44)",
    );
    let screen = home.screen(&["ferry.db"]);
    screen.shows("ferry open").press(&["C-o"]).types("berths").shows("port    INTEGER → ports.id").shows("44");
    // The line of the column leads to the table that it points at; what points here leads back.
    screen
        .press(&["Right", "Down", "Enter"])
        .shows("Saltmarsh")
        .shows("berths (port) by id")
        .shows("CREATE TABLE ports");
    screen.press(&["C-b"]).shows("44").press(&["C-f"]).shows("Saltmarsh").press(&["Escape"]).loses("catalog of");
    // From a name in the buffer.
    screen
        .types("select * from berths")
        .press(&["Escape"])
        .loses("› ")
        .press(&["F9"])
        .shows("catalog of ferry")
        .shows("44")
        .press(&["Escape"]);
}

#[test]
fn what_stands_at_the_cursor_is_explained() {
    let (_home, screen) = ferry("select p.name, round(berths, 1)\nfrom ports p\nwhere berths is not null;\n");
    screen.press(&["C-k"]).shows("Reads rows.").press(&["Escape"]).loses("Reads rows.");
    screen
        .press(&["C-Right", "Right", "Right"])
        .press(&["C-k"])
        .shows("p is an alias of table ports")
        .press(&["Escape"]);
    screen.press(&["C-Right", "C-k"]).shows("column of table ports").press(&["Escape"]);
    // Within a call the last line tells which argument is being written.
    screen.press(&["End", "Left"]).shows("round(number, digits?) -> number");
    // That a parenthesis is missing is told elsewhere: what comes next is asked for here.
    screen.press(&["End", "BSpace"]).press(&["M-p"]).shows("this parenthesis never closes");
    screen.press(&["Escape"]).loses("1 of 1").shows("round(number, digits?) -> number");
    screen.press(&["Home"]).shows("this parenthesis never closes").loses("round(number");
}

/// A long buffer is looked through beside the screen.
#[test]
fn problems_of_a_long_buffer_are_listed() {
    let mut text = "select name from ports where berths > 1;\n".repeat(700);
    text.push_str("select nmae from ports;\n");
    let home = Home::ferry().file("long.sql", &text);
    let screen = home.screen(&["long.sql", "-c", "ferry"]);
    screen
        .shows("ferry.db")
        .press(&["M-p"])
        .shows("1 of 1 problem")
        .shows("line 701")
        .press(&["Escape"])
        .loses("line 701");
    screen.press(&["M-n"]).shows("701:8").shows("nmae");
    screen.press(&["C-q"]).ends();
}

#[test]
fn problems_are_marked_and_walked_through() {
    let (_home, screen) = ferry("select nmae from ports;\nselect 1;\nselect * from port;\n");
    screen
        .press(&["Right"])
        .press(&["M-n"])
        .shows("no column nmae in the tables of this statement · did you mean \"name\"?");
    screen.press(&["M-n"]).shows("no table or view named \"port\" · did you mean \"ports\"?");
    screen.press(&["M-p"]).shows("2 of 2 problems").types("nmae").shows("1 of 2").press(&["Enter"]).shows("1:8");
    // What the server takes is not marked, whatever the catalog says.
    screen.press(&["C-a"]).types("create temp table fog(x);").press(&["C-g"]).shows("done");
    screen.press(&["C-a"]).types("select x from fog;").press(&["Home", "C-Right", "C-Right"]).loses("no column");
    screen.press(&["M-n"]).shows("no problems");
}

#[test]
fn lines_are_changed_found_and_replaced() {
    let (home, screen) = ferry("select one;\nselect two;\n");
    screen.press(&["M-c"]).shows("-- select one;").press(&["M-c"]).loses("-- select one;").press(&["M-t"]);
    screen.press(&["M-Down"]).press(&["C-s"]).shows("saved a.sql");
    assert_eq!(read(&home, "a.sql"), "select one;\nselect two;\nselect one;\n");
    screen.press(&["C-Home", "C-f"]).shows("regular expression").types("o[n]e").press(&["Enter"]).shows("1 of 2");
    screen.press(&["M-f"]).shows("2 of 2").press(&["M-f"]).shows("from the top").press(&["Escape"]);
    screen.press(&["M-r"]).types("(one|two)/'$1'/").press(&["Enter"]).shows("3 places replaced").press(&["C-s"]);
    screen
        .shows("saved a.sql")
        .press(&["C-z"])
        .shows("select two;")
        .press(&["M-r"])
        .types("(")
        .press(&["Enter"])
        .shows("write it as")
        .press(&["Escape"]);
    assert_eq!(read(&home, "a.sql"), "select 'one';\nselect 'two';\nselect 'one';\n");
    // A selection between signs, and a statement a clause a line.
    screen.press(&["C-a"]).types("name").press(&["S-Left", "S-Left"]).types("(").shows("na(me)");
    screen.press(&["C-a"]).types("select name,berths from ports where id=1 and berths>2").press(&["M-q"]);
    screen
        .shows("from ports")
        .until("two lines", |text| text.contains("select name, berths") && text.contains("    and berths>2"));
}

#[test]
fn a_statement_is_found_among_a_thousand() {
    let text: String = (1..=1000).map(|n| format!("-- Berth {n}\nselect {n};\n\n")).collect();
    let (_home, screen) = ferry(&text);
    screen
        .press(&["M-o"])
        .shows("1000 of 1000 statements")
        .types("berth 77")
        .shows("Berth 770")
        .types("7")
        .press(&["Enter"]);
    screen.shows("select 777;").press(&["C-g"]).shows("rows 1–1 of 1");
}

#[test]
fn buffers_are_made_named_searched_and_removed_and_nothing_is_lost() {
    let (home, screen) = ferry("select 'the first';\n");
    let action = |screen: &Screen, name: &str| {
        screen.press(&["C-l"]).shows("actions").types(name).press(&["Enter"]);
    };
    action(&screen, "new buffer");
    screen
        .shows("new buffer, in")
        .types("a/b")
        .press(&["Enter"])
        .shows("a name cannot contain a slash")
        .press(&["Escape"]);
    action(&screen, "new buffer");
    screen
        .types("fares")
        .press(&["Enter"])
        .shows("fares.sql")
        .types("select 'the second'")
        .press(&["C-s"])
        .shows("saved fares.sql");
    action(&screen, "rename buffer");
    screen.press(&["C-h"; 9]).types("a.sql").press(&["Enter"]).shows("already exists").press(&["Escape"]);
    action(&screen, "rename buffer");
    screen.press(&["C-h"; 9]).types("prices").press(&["Enter"]).shows("renamed to prices.sql");
    assert!(!home.path("project/fares.sql").exists() && read(&home, "prices.sql").contains("the second"));
    screen
        .press(&["M-b"])
        .types("the (first|second)")
        .press(&["Enter"])
        .shows("2 of 2 lines")
        .types("first")
        .press(&["Enter"])
        .shows("a.sql");
    action(&screen, "remove buffer");
    screen.shows("its file goes to the trash").press(&["r"]).shows("moved to").shows("prices.sql");
    assert!(!home.path("project/a.sql").exists());
    let trash: Vec<_> = std::fs::read_dir(home.path("state/jaunty/trash")).unwrap().flatten().collect();
    let texts: Vec<_> = trash.iter().map(|entry| std::fs::read_to_string(entry.path()).unwrap()).collect();
    assert!(texts.iter().any(|text| text.contains("the first")), "{texts:?}");
}

#[test]
fn a_row_is_followed_along_its_keys_and_back() {
    let home = Home::new().database(
        "ferry.db",
        "create table ports(id integer primary key, name text); insert into ports(name) values ('Saltmarsh'), ('Gullhaven');
         create table berths(port integer references ports, number integer); insert into berths values (2, 44), (2, 45)",
    );
    let screen = home.screen(&["ferry.db"]);
    screen.shows("ferry open").types("select port, number from berths").press(&["C-g"]).shows("44");
    screen
        .press(&["C-t"])
        .types("f")
        .shows("held · select * from ports where id = 2")
        .shows("Gullhaven")
        .shows("rows 1–1 of 1");
    screen.types("f").shows("held · select * from berths where port = 2").shows("rows 1–2 of 2");
    screen.press(&["Right"]).types("f").shows("no key to follow");
    screen.types("r").shows("Gullhaven").types("r").shows("rows 1–2 of 2").loses("held");
    screen.types("r").shows("nothing to go back to");
    screen.press(&["F9"]).shows("berths").shows("ports.id").press(&["Escape"]);
    // The buffer has what was written there and nothing else, until somebody asks for it.
    screen.loses("where id = 2").types("f").shows("held · select * from ports where id = 2");
    screen.types("g").shows("from berths;").shows("select * from ports where id = 2;");
}

#[test]
fn a_snippet_is_made_and_proposed() {
    let (home, screen) = ferry("select name from ports where berths > ${1:4};\n");
    screen.press(&["C-l"]).types("create snippet").press(&["Enter"]).shows("name of the snippet").types("roomy");
    screen
        .press(&["Enter"])
        .shows("type roomy at the start of a statement")
        .press(&["C-a"])
        .types("roo")
        .shows("› roomy");
    screen.press(&["Tab"]).shows("where berths > 4").types("1").press(&["C-g"]).shows("Gullhaven");
    let kept = std::fs::read_to_string(home.path("config/jaunty/snippets.toml")).unwrap();
    assert!(kept.contains("[roomy]") && kept.contains("dialect = \"sqlite\""), "{kept}");
}

#[test]
fn ones_own_editor_has_the_terminal_and_gives_it_back() {
    let home = Home::ferry().file("a.sql", "select 1;\n");
    let script = home.path("editor");
    std::fs::write(
        &script,
        "#!/bin/sh\necho editing \"${1##*/}\"; read answer; echo \"select '$answer';\" >> \"$1\"\n",
    )
    .unwrap();
    std::fs::set_permissions(&script, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let editor = script.display().to_string();
    let screen = Screen::start(&home, (140, 42), &["a.sql", "-c", "ferry"], &[("EDITOR", &editor)]);
    screen
        .shows("ferry.db · main")
        .types("-- x")
        .press(&["Enter", "M-e"])
        .shows("editing a.sql")
        .types("deep")
        .press(&["Enter"]);
    screen.shows("select 'deep';").press(&["C-End"]).types("-- on").shows("-- on").shows("-- x");
}

#[test]
fn a_folder_that_cannot_be_written_loses_nothing() {
    let home = Home::ferry().file("locked/.keep", "").file("locked/a.sql", "select 1;\n");
    let locked = home.path("project/locked");
    let set = |mode| std::fs::set_permissions(&locked, std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap();
    // Root may write everywhere: a file in the place of the folder is what stops it too.
    let screen = home.screen(&["locked/a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main").types("-- not lost ").press(&["Escape"]).shows("unsaved");
    set(0o500);
    std::fs::rename(&locked, home.path("project/away")).unwrap();
    std::fs::write(&locked, "no folder any more").unwrap();
    screen
        .press(&["C-s"])
        .shows("since it was read here")
        .press(&["o"])
        .shows("cannot be saved")
        .shows("stays in a journal");
    screen.kill();
    std::fs::remove_file(&locked).unwrap();
    std::fs::rename(home.path("project/away"), &locked).unwrap();
    set(0o700);
    let again = home.screen(&["locked/a.sql", "-c", "ferry"]);
    again.shows("recovered").shows("-- not lost select 1;");
}

#[test]
fn a_file_is_saved_in_the_encoding_that_it_was_read_in() {
    let home = Home::ferry();
    let wide = |text: &str| -> Vec<u8> {
        [0xFF, 0xFE].into_iter().chain(text.encode_utf16().flat_map(u16::to_le_bytes)).collect()
    };
    std::fs::write(home.path("project/a.sql"), wide("-- Süd\r\nselect name from ports;\r\n")).unwrap();
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("-- Süd").shows("UTF-16LE  1:1").shows("ferry.db · main");
    screen.press(&["Down", "C-g"]).shows("Gullhaven").press(&["Up"]).types("-- Порт 🛳 ").shows("+ unsaved");
    // What a crash left is saved so, too.
    screen.kill();
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("recovered").shows("UTF-16LE").press(&["C-s"]).shows("saved a.sql").press(&["C-q"]).ends();
    let saved = std::fs::read(home.path("project/a.sql")).unwrap();
    assert_eq!(saved, wide("-- Порт 🛳 -- Süd\r\nselect name from ports;\r\n"));

    std::fs::write(home.path("project/b.sql"), b"-- S\xfcd \x80\n").unwrap();
    let screen = home.screen(&["b.sql", "-c", "ferry"]);
    screen.shows("-- Süd €").shows("read as windows-1252 and saved so").shows("ferry.db · main");
    screen.types("é").press(&["C-s"]).shows("saved b.sql");
    assert_eq!(std::fs::read(home.path("project/b.sql")).unwrap(), b"\xe9-- S\xfcd \x80\n");
    screen.types("Г").press(&["C-s"]).shows("windows-1252 has no 'Г', which stands in line 1");
    assert_eq!(std::fs::read(home.path("project/b.sql")).unwrap(), b"\xe9-- S\xfcd \x80\n");
    screen.press(&["u"]).shows("saved b.sql").loses("windows-1252");
    assert_eq!(read(&home, "b.sql"), "éГ-- Süd €\n");
    screen.press(&["C-q"]).ends();

    // One that looks like another is told.
    std::fs::write(home.path("project/c.sql"), b"-- \xcf\xee\xf0\xf2\n").unwrap();
    let screen = home.screen(&["c.sql", "-c", "ferry"]);
    screen.shows("-- Ïîðò").shows("ferry.db · main").press(&["C-l"]).types("encoding").press(&["Enter"]);
    screen.shows("which is in windows-1252").types("cyrilic").press(&["Enter"]).shows("\"cyrilic\" is not an encoding");
    screen.press(&["C-u"]).types("windows-1251").press(&["Enter"]).shows("read the file again").press(&["r"]);
    screen.shows("-- Порт").types("и").press(&["C-s"]).shows("saved c.sql");
    assert_eq!(std::fs::read(home.path("project/c.sql")).unwrap(), b"\xe8-- \xcf\xee\xf0\xf2\n");
    // And a text goes into another one, if that has all of it.
    screen.press(&["C-l"]).types("encoding").press(&["Enter"]).types("latin1").press(&["Enter"]).press(&["s"]);
    screen.shows("it stays in windows-1251").types("й").press(&["C-s"]).shows("saved c.sql");
    screen.press(&["C-l"]).types("encoding").press(&["Enter"]).types("utf-8").press(&["Enter"]).press(&["s"]);
    screen.shows("saved c.sql").loses("windows-1251").press(&["C-q"]).ends();
    assert_eq!(read(&home, "c.sql"), "ий-- Порт\n");

    std::fs::write(home.path("project/d.sql"), b"\x89PNG\r\n\0\0").unwrap();
    home.screen(&["d.sql", "-c", "ferry"]).shows("a buffer must be");
}

#[test]
fn files_that_change_or_vanish_under_the_hand() {
    let (home, screen) = ferry("select 1;\n");
    // Changed outside while nothing is unsaved: read anew by the next look.
    std::fs::write(home.path("project/a.sql"), "select 'from outside';\n").unwrap();
    screen.shows("from outside").shows("was changed by another program");
    // Changed on both sides: a person decides, and undo has the other text.
    screen.press(&["C-End"]).types("select 'ours';").shows("'ours'").shows("unsaved");
    std::fs::write(home.path("project/a.sql"), "select 'theirs';\n").unwrap();
    screen
        .press(&["C-s"])
        .shows("since it was read here")
        .shows("- select 'theirs';")
        .shows("+ select 'ours';")
        .press(&["t"])
        .shows("theirs")
        .loses("'ours'");
    screen.press(&["C-z"]).shows("'ours'").press(&["C-s"]).shows("saved a.sql");
    assert!(read(&home, "a.sql").contains("'ours'"));
    // Gone: the text stays and is written again.
    std::fs::remove_file(home.path("project/a.sql")).unwrap();
    screen
        .types("-- still here")
        .press(&["C-s"])
        .shows("since it was read here")
        .press(&["o"])
        .loses("since it was read here")
        .shows("saved a.sql");
    assert!(read(&home, "a.sql").contains("still here"));
}

#[test]
fn the_catalog_of_a_real_server_is_proposed_and_its_word_wins() {
    let server = Postgres::start();
    server.sql(
        "create type mood as enum ('calm', 'rough'); create table ports(id int primary key, name text, state mood);
         create schema ops; create table ops.crew(id int, port int references ports); insert into ports values (1, 'Saltmarsh', 'calm')",
    );
    let home = Home::new().file("a.sql", "").file(
        ".jaunty/connections.toml",
        &format!("[bookings]\nengine = \"postgres\"\nurl = \"postgresql://clerk@127.0.0.1:{}/bookings\"\nsecret_command = \"echo {PASSWORD}\"\n", server.port),
    );
    let screen = home.screen(&["a.sql", "-c", "bookings"]);
    screen
        .shows("postgres 15")
        .types("select * from ops.crew c join ")
        .shows("› ports p on p.id = c.port")
        .press(&["Tab"]);
    screen
        .types("where p.state = ")
        .shows("'calm'")
        .shows("'rough'")
        .press(&["Down", "Enter"])
        .shows("p.state = 'rough'");
    screen
        .press(&["C-o"])
        .shows("catalog of bookings")
        .types("ports")
        .shows("Saltmarsh")
        .shows("referenced by")
        .press(&["Escape"]);
    // The server is asked about what only it can know.
    screen
        .press(&["C-a"])
        .types("select name + 1 from ports")
        .press(&["Escape"])
        .shows("operator does not exist: text + integer");
}
