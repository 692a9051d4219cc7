//! Charts and plans: on the screen, from the command line and by out-lines; what is written is read by programs of others.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::process::Command;

use jaunty_testservers::{PASSWORD, Postgres};
use support::{Home, read};

/// A year of crossings on three routes, four a day.
fn crossings() -> Home {
    Home::new()
        .database(
            "ferry.db",
            "create table crossings(left_at text, route text, taken real, note text);
             insert into crossings with recursive n(i) as (select 0 union all select i + 1 from n where i < 1459)
             select datetime('2031-01-01', '+' || (i * 6) || ' hours'),
                    case i % 3 when 0 then 'Saltmarsh–Gullhaven' when 1 then 'Ελαία <east>' else 'Лодка & co' end,
                    case when i % 100 = 7 then null else 50 + i % 31 end, null from n;",
        )
        .file(".jaunty/connections.toml", "[ferry]\nengine = \"sqlite\"\npath = \"../ferry.db\"\n")
}

const SELECT: &str = "select left_at, route, taken from crossings";

/// What a program prints.
fn printed(program: &str, arguments: &[&str]) -> String {
    let output = Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"));
    assert!(output.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// An SVG read by Python's own parser of XML: how many elements of each sort, its title, and its texts.
fn parsed(home: &Home, name: &str) -> String {
    const READ: &str = r"
import sys, xml.etree.ElementTree as tree, collections
root = tree.parse(sys.argv[1]).getroot()
bare = lambda e: e.tag.split('}')[1]
assert bare(root) == 'svg' and root.get('role') == 'img', root.attrib
print(root.find('{http://www.w3.org/2000/svg}title').text)
print(root.find('{http://www.w3.org/2000/svg}desc').text)
print(' '.join(f'{k}={v}' for k, v in sorted(collections.Counter(bare(e) for e in root).items()) if k in ('rect', 'path')))
print('|'.join(e.text or '' for e in root if bare(e) == 'text'))
";
    printed("python3", &["-c", READ, home.path("project").join(name).to_str().unwrap()])
}

#[test]
fn a_chart_is_written_from_the_command_line() {
    let home = crossings();
    let options = ["-O", "bar", "-O", "x=left_at", "-O", "by=route", "-O", "step=month", "-O", "stack=stacked"];
    home.call(&[&["run", "-c", "ferry", "-s", SELECT, "-o", "year.svg"], &options[..]].concat()).gives();
    let svg = parsed(&home, "year.svg");
    let lines: Vec<&str> = svg.lines().collect();
    assert_eq!(lines[0], SELECT);
    assert!(lines[1].starts_with("Bar chart of sum of taken by left_at, a series for each route; 1,460 rows, from 2031-01 to 2031-12. 2031-01: "), "{}", lines[1]);
    // The ground and three parts of twelve bars.
    assert!(lines[2].contains("rect=37"), "{}", lines[2]);
    for text in
        ["Ελαία <east>", "Лодка & co", "Saltmarsh–Gullhaven", "15 rows not drawn: NULL or not a number", "2031-05"]
    {
        assert!(lines[3].contains(text), "{text}: {}", lines[3]);
    }
    // The same rows give the same bytes.
    home.call(&[&["rows", "last", "-o", "again.svg"], &options[..]].concat()).gives();
    assert_eq!(read(&home, "again.svg"), read(&home, "year.svg"));
}

#[test]
fn a_pdf_is_read_by_another_program() {
    let home = crossings();
    let options = [
        "-O",
        "line",
        "-O",
        "y=taken",
        "-O",
        "by=route",
        "-O",
        "step=week",
        "-O",
        "size=a4",
        "-O",
        "title=Takings of a year",
    ];
    home.call(&[&["run", "-c", "ferry", "-s", SELECT, "-o", "year.pdf"], &options[..]].concat()).gives();
    let path = home.path("project").join("year.pdf");
    let path = path.to_str().unwrap();
    let info = printed("pdfinfo", &[path]);
    assert!(info.contains("Title:           Takings of a year"), "{info}");
    assert!(info.contains("Page size:       841.89 x 595.28 pts (A4)"), "{info}");
    let fonts = printed("pdffonts", &[path]);
    let font = fonts.lines().find(|line| line.contains("JQPART+DejaVuSansMono")).expect("its font");
    // It is embedded, a part, and its text can be read back.
    assert!(font.contains("CID TrueType") && font.contains("yes yes yes"), "{fonts}");
    let text = printed("pdftotext", &[path, "-"]);
    for expected in ["Takings of a year", "Ελαία <east>", "Лодка & co", "sum of taken by left_at, by route"] {
        assert!(text.contains(expected), "{expected}: {text}");
    }
    assert!(std::fs::metadata(path).unwrap().len() < 60_000);
}

#[test]
fn several_results_are_a_picture_each() {
    let home = crossings();
    let two = format!("{SELECT}; select route, count(*) as n from crossings group by route");
    home.call(&["run", "-c", "ferry", "-s", &two, "-o", "two.svg"]).gives();
    assert!(parsed(&home, "two.svg").starts_with(SELECT));
    assert!(parsed(&home, "two-2.svg").contains("sum of n by route"));
}

#[test]
fn mistakes_are_told_before_anything_runs_or_with_the_columns_that_there_are() {
    let home = crossings();
    let fails = |options: &[&str]| {
        home.call(&[&["run", "-c", "ferry", "-s", SELECT, "-o", "a.svg"], options].concat()).exits(2).1
    };
    assert!(fails(&["-O", "lines"]).contains("did you mean \"line\"?"));
    assert!(fails(&["-O", "separator=;"]).contains("unknown option \"separator\"; those of a chart are x, y, by"));
    let (_, err) = home.call(&["run", "-c", "ferry", "-s", SELECT, "-o", "a.svg", "-O", "x=leftat"]).exits(2);
    assert!(err.contains("no column \"leftat\" in this result · did you mean \"left_at\"?"), "{err}");
    assert!(!home.path("project/a.svg").exists());
}

#[test]
fn an_out_line_draws_on_every_run() {
    let home = crossings()
        .file("a.sql", &format!("-- Takings\n{SELECT};\n--> line y=taken step=month\n--> takings.svg bar x=route\n"));
    let (_, err) = home.call(&["run", "-c", "ferry", "a.sql", "-q"]).exits(2);
    assert!(err.contains("\"line\" is not a format"), "{err}");
    let home = crossings()
        .file("a.sql", &format!("-- Takings\n{SELECT};\n--> takings.svg bar x=route\n--> pdf histogram y=taken\n"));
    home.call(&["run", "-c", "ferry", "a.sql", "-q"]).gives();
    assert_eq!(parsed(&home, "takings.svg").lines().next(), Some("Takings"));
    assert!(printed("pdftotext", &[home.path("project/takings.pdf").to_str().unwrap(), "-"]).contains("rows by taken"));
}

#[test]
fn a_chart_on_the_screen_leads_to_its_rows_and_to_an_out_line() {
    let home = crossings().file("a.sql", &format!("-- Takings\n{SELECT};\n"));
    let screen = home.screen(&["-c", "ferry", "a.sql"]);
    screen.shows("-- Takings").press(&["C-g"]).shows("1,460 rows").press(&["C-t", "G"]).shows("taken by left_at");
    // Another kind, by another column, and along it.
    screen.press(&["x"]).shows("columns for x").types("route").press(&["Enter"]).shows("sum of taken by route");
    screen.shows("Saltmarsh–Gullhaven ▆▆").press(&["Right"]).shows("31,").press(&["Enter"]);
    screen.shows("of 1,460 · u undoes it").shows("route = ");
    // As it was looked at last.
    screen.press(&["u", "G"]).shows("sum of taken by route").press(&["w"]);
    screen.shows("--> takings.svg bar x=route").press(&["C-g"]).shows("takings.svg");
    screen
        .press(&["C-t", "G"])
        .shows("sum of taken by route")
        .press(&["k"])
        .shows("scatter chart needs numbers or times");
    screen.press(&["k"]).shows("histogram").press(&["Escape", "C-q"]).shows("unsaved").press(&["d"]).ends();
    assert!(parsed(&home, "takings.svg").contains("Saltmarsh–Gullhaven"));
}

/// Ports, routes between them, and sailings on those.
fn schema() -> Home {
    Home::new()
        .database(
            "ferry.db",
            "create table ports(id integer primary key, name text);
             create table routes(id integer primary key, from_port integer not null references ports, to_port integer references ports(id));
             create table sailings(id integer primary key, route_id integer not null unique references routes);
             create table notes(text text);",
        )
        .file(".jaunty/connections.toml", "[ferry]\nengine = \"sqlite\"\npath = \"../ferry.db\"\n")
        .file("a.sql", "select name from ports;\n")
}

#[test]
fn a_schema_is_drawn_walked_through_and_saved() {
    let home = schema();
    let screen = home.screen(&["-c", "ferry", "a.sql"]);
    // At no table: the whole schema.
    screen.shows("ferry open").press(&["C-o"]).shows("catalog of ferry").press(&["Escape", "M-w"]);
    screen.shows("schema main · 4 tables · 3 foreign keys").shows("┌ ports").shows("┌ notes").shows("→ route_id");
    // The port of arrival may be none, and a route has one sailing.
    screen.shows("0–1").shows("1│ → route_id");
    // From table to table: notes, and back to the left, along a key, into the catalog.
    screen.press(&["Left", "f", "-"]).shows("around ").press(&["+"]).shows("up to 2 keys away");
    screen.press(&["o"]).shows("save the drawing").types("out.svg").press(&["Enter"]).shows("tables in");
    let svg = parsed(&home, "out.svg");
    assert!(svg.contains("3 tables and 3 foreign keys: "), "{svg}");
    assert!(svg.contains("from_port") && !svg.contains("notes"), "{svg}");
    screen
        .press(&["M-w"])
        .shows("schema main")
        .press(&["Enter"])
        .shows("catalog of ferry")
        .press(&["C-y"])
        .shows("around ");
    screen.press(&["Escape", "C-q"]).ends();
}

#[test]
fn a_plan_is_a_tree_to_walk_through() {
    let home = crossings().file("a.sql", "select route, count(*) from crossings where taken > 60 group by route;\n");
    let screen = home.screen(&["-c", "ferry", "a.sql"]);
    screen.shows("ferry open").press(&["M-k"]).shows("plan · 2 steps").shows("SCAN crossings  reads every row");
    screen.shows("USE TEMP B-TREE FOR GROUP BY").press(&["m"]).shows("does not measure them");
    screen.press(&["Down", "s"]).shows("s tree").press(&["Escape"]);
    // It is a run like others: it is in the logbook, and its rows are shown as a plan again.
    screen.press(&["M-l"]).shows("explain query plan select route").press(&["Enter"]).shows("kept rows, not run again");
    screen.press(&["P"]).shows("SCAN crossings  reads every row").press(&["Escape", "C-q"]).ends();
}

#[test]
fn a_write_is_measured_and_rolled_back() {
    let server = Postgres::start();
    server.sql("create table ports as select n as id from generate_series(1, 5000) n");
    let home = Home::new().file("a.sql", "delete from ports where id > 10;\n");
    let screen = home.screen(&["-c", &format!("postgresql://clerk@127.0.0.1:{}/bookings", server.port), "a.sql"]);
    screen.shows("password for").types(PASSWORD).press(&["Enter"]).shows("clerk").loses("password for");
    screen.press(&["M-k"]).shows("plan · cost").shows("Delete ports").press(&["m"]).shows("which may write");
    // Not wanted after all: nothing is run.
    screen.press(&["Escape"]).loses("which may write").press(&["M-v"]).shows("which may write").press(&["m"]);
    screen.shows("execution time").shows("Delete ports").shows("4,990").press(&["Escape"]).loses("execution time");
    assert_eq!(server.sql("select count(*) from ports").trim(), "5000");
    screen.press(&["C-q"]).ends();
}

#[test]
fn a_plan_stands_beside_the_one_before_and_is_saved() {
    let server = Postgres::start();
    server.sql("create table ports as select n as id from generate_series(1, 5000) n");
    let home = Home::new().file("a.sql", "select * from ports where id = 77;\n");
    let screen = home.screen(&["-c", &format!("postgresql://clerk@127.0.0.1:{}/bookings", server.port), "a.sql"]);
    screen.shows("password for").types(PASSWORD).press(&["Enter"]).shows("clerk").loses("password for");
    screen.press(&["M-v"]).shows("execution time").shows("Seq Scan ports").press(&["c"]).shows("no earlier plan");
    screen.press(&["Escape"]).loses("Seq Scan ports");
    server.sql("create unique index ports_by_id on ports(id)");
    server.sql("analyze ports");
    screen.press(&["M-v"]).shows("Index Only Scan ports").press(&["c"]).shows("earlier → now").shows(" ms now, ");
    screen.shows("new").shows("gone").shows("Seq Scan ports").press(&["c"]).loses("earlier → now");
    // On paper, for those who are to build the index elsewhere.
    screen.press(&["o"]).shows("save the drawing").types("plan.pdf").press(&["Enter"]).shows("the plan in ");
    let text = printed("pdftotext", &[home.path("project/plan.pdf").to_str().unwrap(), "-"]);
    for expected in ["select * from ports where id = 77", "Index Only Scan", "by ports_by_id", "execution time"] {
        assert!(text.contains(expected), "{expected}: {text}");
    }
    screen.press(&["M-k"]).shows("plan · cost").press(&["o"]).shows("save the drawing").types("plan.svg");
    screen.press(&["Enter"]).shows("the plan in ");
    assert!(parsed(&home, "plan.svg").contains("plan on "));
    // What is there already is not replaced unasked.
    std::fs::write(home.path("project/plan.svg"), "kept").unwrap();
    screen.press(&["M-k"]).shows("plan · cost").press(&["o"]).shows("save the drawing").types("plan.svg");
    screen.press(&["Enter"]).shows("plan.svg already exists").press(&["Escape"]).loses("already exists");
    assert_eq!(std::fs::read_to_string(home.path("project/plan.svg")).unwrap(), "kept");
    screen.press(&["M-k"]).shows("plan · cost").press(&["o"]).shows("save the drawing").types("plan.svg");
    screen.press(&["Enter"]).shows("plan.svg already exists").press(&["r"]).shows("the plan in ");
    assert!(parsed(&home, "plan.svg").contains("plan on "));
    screen.press(&["C-q"]).ends();
}
