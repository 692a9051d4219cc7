//! SQL Server's own ways in the terminal, on the simulated server.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_standins::tds::{Options, Server};
use support::Home;

/// A server with two databases that have a table of the same name, and a home that knows it.
fn office() -> (Server, Home) {
    let server = Server::start(Options::default()).unwrap();
    let connection = format!(
        "[office]\nengine = \"sqlserver\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"clerk\"\ndatabase = \"ferry\"\nsecret_command = \"echo {}\"\n",
        server.port(),
        Options::default().password
    );
    let home = Home::new().file(".jaunty/connections.toml", &connection).file("a.sql", "").file(
        "begin.sql",
        "create database archive;\n\
         create table takings (id int primary key, route nvarchar(40));\n\
         insert into takings values (1, N'here');\n\
         create table archive.dbo.takings (id int primary key, route nvarchar(40), taken decimal(8,2));\n\
         insert into archive..takings values (1, N'there', 2.5);\nGO\n\
         create procedure sweep @before date, @gone int output as select @gone = count(*) from takings;\nGO\n",
    );
    home.call(&["run", "begin.sql", "-c", "office"]).gives();
    (server, home)
}

#[test]
fn names_of_other_databases_are_completed_and_never_taken_for_those_at_hand() {
    let (_server, home) = office();
    let screen = home.screen(&["a.sql", "-c", "office"]);
    screen.shows("ferry · dbo").types("select * from arch").shows("database").press(&["Tab"]).shows("from archive.");
    // What it holds is read only now, and offered when it is there.
    screen.shows("schema").press(&["Tab"]).shows("table").press(&["Tab"]).shows("archive.dbo.takings");
    screen.press(&["Left", "C-k"]).shows("in the database archive").shows("taken  decimal(8,2)").press(&["Escape"]);
    screen.press(&["F9"]).shows("this is in the database archive");
    screen
        .types(" t where t.ta")
        .shows("decimal(8,2)")
        .press(&["Tab"])
        .types(" > 1;")
        .press(&["C-g"])
        .shows("there")
        .shows("1 row ·");
    // Its rows are none of the table of the same name here.
    screen.press(&["C-t", "a"]).shows("takings is in the database archive: go there");
    screen.press(&["C-q"]).shows("unsaved").press(&["d"]).ends();
}

#[test]
fn a_procedure_comes_with_places_for_what_it_takes() {
    let (_server, home) = office();
    let screen = home.screen(&["a.sql", "-c", "office"]);
    screen.shows("ferry · dbo").types("exec sw").shows("(@before date, @gone int output)").press(&["Tab"]);
    screen.shows("exec sweep ‹@before date›, ‹@gone int output›");
    // What is not filled in does not run.
    screen.press(&["Escape", "C-g"]).shows("fill in");
    screen.press(&["C-q"]).shows("unsaved").press(&["d"]).ends();
}

/// `?` is a parameter, also of a call.
#[test]
fn places_of_drivers_are_parameters() {
    let (_server, home) = office();
    let run = |statement: &str, values: &[&str]| {
        let values: Vec<&str> = values.iter().flat_map(|value| ["-p", value]).collect();
        home.call(&[&["run", "-c", "office", "-f", "csv", "-s", statement], &values[..]].concat())
    };
    let query = "select top (?) route from takings where id = ? and route like ?";
    assert_eq!(run(query, &["?1=5", "?2=1", "?3=h%"]).gives(), "route\nhere\n");
    let call = "declare @n int; exec sweep ?, @n output; select @n as n";
    assert_eq!(run(call, &["1=2031-03-05"]).gives(), "n\n1\n");
    run("exec sweep ?, ?", &["?1=2031-03-05", "?2=0"]).exits(0);
}

/// The sign that begins a variable brings those of the batch up, before a letter is typed.
#[test]
fn the_sign_of_a_variable_proposes_those_of_the_batch() {
    let (_server, home) = office();
    let screen = home.screen(&["b.sql", "-c", "office"]);
    screen.shows("ferry · dbo").types("declare @harbour int = 1;").press(&["Enter"]);
    screen.types("select @").shows("› @harbour").press(&["Tab"]).shows("select @harbour");
    screen.types(", 'a@").loses("› @harbour");
}
