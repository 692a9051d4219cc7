//! A working day with documents in the terminal, every key counted: from the shape of a collection to a changed document.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_standins::documents::{Options, Server};
use support::{Home, Screen};

/// The screen, and how many keys were pressed.
struct Day<'a> {
    screen: &'a Screen,
    keys: usize,
}

impl Day<'_> {
    fn types(&mut self, text: &str) -> &mut Self {
        self.screen.types(text);
        self.keys += text.chars().count();
        self
    }

    fn press(&mut self, keys: &[&str]) -> &mut Self {
        self.screen.press(keys);
        self.keys += keys.len();
        self
    }

    fn shows(&mut self, text: &str) -> &mut Self {
        self.screen.shows(text);
        self
    }
}

/// Sailings and ports of the ferry company, as the demonstration has them, but fewer.
fn company(home: &Home) -> Server {
    let folder = home.path("collections");
    std::fs::create_dir_all(&folder).unwrap();
    let codes = ["SMQ", "GUL", "EMB", "SHI"];
    let sailings: String = (0..400)
        .map(|i| {
            let (from, to, delay) = (codes[i % 4], codes[(i + 1) % 4], if i % 7 == 0 { 60 + i % 50 } else { i % 9 });
            format!(
                "{{\"_id\": {i}, \"route\": {{\"from\": \"{from}\", \"to\": \"{to}\"}}, \"vessel\": \"Vessel {}\", \"delay_min\": {delay}, \"departs_at\": {{\"$date\": \"2031-03-{:02}T08:00:00Z\"}}}}\n",
                i % 5,
                1 + i % 28
            )
        })
        .collect();
    std::fs::write(folder.join("sailings.jsonl"), sailings).unwrap();
    let ports: String = codes
        .iter()
        .enumerate()
        .map(|(i, code)| {
            format!("{{\"_id\": \"{code}\", \"berths\": {}, \"place\": {{\"type\": \"Point\", \"coordinates\": [{i}, 51]}}}}\n", i + 2)
        })
        .collect();
    std::fs::write(folder.join("ports.jsonl"), ports).unwrap();
    Server::start(Options { data: Some(folder), ..Options::default() }).unwrap()
}

/// With a connection to the server.
fn connected(home: Home, server: &Server) -> Home {
    let connections =
        format!("[log]\nengine = \"mongodb\"\nhost = \"127.0.0.1\"\nport = {}\ndatabase = \"ferry\"\n", server.port());
    home.file(".jaunty/connections.toml", &connections)
}

#[test]
fn a_working_day_with_documents() {
    let home = Home::new();
    let server = company(&home);
    let home = connected(home, &server).file("day.documents", "");
    let screen = home.screen(&["day.documents", "--connection", "log"]);
    screen.shows("log open").shows("mongodb 8.0.0");
    let mut day = Day { screen: &screen, keys: 0 };

    // The shape of a collection.
    day.press(&["C-o"])
        .shows("catalog of log")
        .types("sai")
        .shows("shape of a sample of 200 documents")
        .shows("route.from");
    day.shows("\"EMB\"").shows("not used yet").press(&["Escape"]);
    let shape = day.keys;

    // Found by a nested field: the collection, the path and the value are completed.
    day.types("sai").shows("400 documents").press(&["Tab"]);
    day.types(" { fro").shows("route.from     string").press(&["Tab"]);
    day.types("SM").shows("in the sample").press(&["Tab"]).types(" }").shows("{ \"route.from\": \"SMQ\" }");
    day.press(&["C-g"]).shows("of 100");
    let found = day.keys - shape;

    // A pipeline, stage by stage, with a look at the rows after each.
    day.press(&["Enter"]).types("| mat").shows("› match").press(&["Tab"]).shows("| match {");
    day.types("del").shows("› delay_min").press(&["Tab"]).types("{ $gt: 60 }").press(&["C-g"]).shows("of 14");
    day.press(&["End", "Enter"]).types("| gro").shows("› group").press(&["Tab"]).shows("_id: null");
    day.types("\"$ves").shows("› $vessel").press(&["Tab", "C-g"]).shows("rows 1–5 of 5");
    let built = day.keys - found - shape;

    // What lies near a point: the index is lacking, the server says so before it runs, and how to make it.
    day.press(&["C-End", "Enter", "Enter"])
        .types("ports { pla")
        .shows("› place")
        .press(&["Tab"])
        .types("{ $nea")
        .shows("› $near")
        .press(&["Tab"]);
    day.types("1, 51")
        .shows("coordinates: [1, 51]")
        .press(&["End"])
        .types(" } }")
        .shows("index { path: \"2dsphere\" }");
    day.press(&["C-End", "Enter", "Enter"])
        .types("ports index { pla")
        .shows("› place")
        .press(&["Tab"])
        .types("'2dsphere' }")
        .press(&["C-g"])
        .shows("numIndexesAfter");
    day.press(&["C-p", "C-g"]).shows("rows 1–4 of 4");
    let near = day.keys - built - found - shape;

    // Exported.
    day.press(&["C-t", "M-x"]).types("near.json").press(&["Enter"]);
    let file = home.path("project/near.json");
    screen.until("the file", |_| std::fs::read_to_string(&file).is_ok_and(|text| text.ends_with("]\n")));
    let exported = day.keys - near - built - found - shape;
    let text = std::fs::read_to_string(&file).unwrap();
    assert!(text.contains("{\"_id\":\"GUL\",\"berths\":3,\"place\":{\"type\": \"Point\""), "{text}");

    // One document changed: what was read is its condition.
    day.press(&["E"]).shows("$set").press(&["Down", "Down", "Down", "Down", "Down", "Down", "End", "Left", "BSpace"]);
    day.types("9").shows("berths: 9").press(&["C-g"]).shows("1 row changed");
    let changed = day.keys - exported - near - built - found - shape;
    let told =
        home.call(&["run", "--connection", "log", "--format", "jsonl", "-"]).input("ports { _id: 'GUL' }").gives();
    assert!(told.contains("\"berths\":9"), "{told}");
    // Once more it fits nothing: somebody has changed it.
    day.press(&["C-g"]).shows("0 rows changed");
    let counted = format!(
        "shape {shape}, found {found}, built {built}, near {near}, exported {exported}, changed {changed}: {} keys",
        shape + found + built + near + exported + changed
    );
    insta::assert_snapshot!(counted);
}

#[test]
fn a_database_of_documents_is_written_and_made_again() {
    let home = Home::new();
    let server = company(&home);
    let home = connected(home, &server);
    let other = format!("mongodb://127.0.0.1:{}/copy", server.port());
    let run = |connection: &str, statement: &str| {
        home.call(&["run", "-c", connection, "-s", statement, "-f", "jsonl"]).gives()
    };
    run("log", "sailings index { \"route.from\": 1, delay_min: -1 } { sparse: true }");
    run("log", "late create { viewOn: \"sailings\", pipeline: [ { $match: { delay_min: { $gt: 60 } } } ] }");
    run("log", "ring create { capped: true, size: 4096 }");
    // Every type, the order of fields, NULL beside what is not there, and names that look like something else.
    run(
        "log",
        "odd insert { _id: { $oid: '65f0c0ffee65f0c0ffee65f0' }, z: null, b: { $numberLong: '7' }, a: 7.0, d: { $numberDecimal: '7.10' }, f: { $date: '2031-03-05T12:00:00Z' }, g: [ 1, { h: 2.0, i: { $numberLong: '5' } }, null ], j: { $binary: { base64: 'AAEC', subType: '00' } }, k: { $timestamp: { t: 5, i: 1 } }, l: { $regularExpression: { pattern: 'a//b;', options: 'i' } }, m: { $minKey: 1 }, o: -0.0, p: { $numberDouble: 'NaN' }, 'a b': 'it\\'s // no comment', '$x': 2, 'dotted.x': \"\\n\\n\" }",
    );
    // Names that need quotes, that are a verb, and that have dots.
    run("log", "\"my coll\" insert { _id: 1 }");
    run("log", "\"my coll\" index { a: 1 }");
    run("log", "insert insert { _id: 1 }");
    run("log", "quay.log insert { _id: 1, a: 1 }");
    let (_, said) = home.call(&["dump", "-c", "log", "-o", "all.documents"]).exits(0);
    assert_eq!(said, "8 objects and 408 rows in all.documents\n");
    home.call(&["run", "-c", &other, "all.documents"]).exits(0);
    for name in ["sailings", "ports", "odd", "ring", "late", "\"my coll\"", "insert", "quay.log"] {
        let whole = format!("{name} | sort {{ _id: 1 }} | replaceRoot {{ newRoot: {{ document: \"$$ROOT\" }} }}");
        assert_eq!(run("log", &whole), run(&other, &whole), "{name}");
    }
    let listed = |connection: &str| home.call(&["schema", "-c", connection]).gives();
    assert_eq!(listed("log"), listed(&other));
    assert_eq!(run("log", "sailings indexes"), run(&other, "sailings indexes"));
    // One that is called so is found by its name, dots and all.
    let (alike, _) =
        home.call(&["compare", "rows", "--left", "log", "--right", &other, "--table", "quay.log"]).exits(0);
    assert!(alike.contains("1 row the same") && alike.contains("compared by _id"), "{alike}");
    let (dotted, _) = home.call(&["dump", "-c", "log", "quay.log", "my coll"]).exits(0);
    assert!(dotted.contains("quay.log create;") && dotted.contains("\"my coll\" index {"), "{dotted}");
    // A part of it, and nothing but how it is made.
    let (made, _) = home.call(&["dump", "-c", "log", "late", "sailings", "--only-structure"]).exits(0);
    insta::assert_snapshot!(made, @r#"
    sailings create;
    sailings index {"route.from": 1, "delay_min": -1} {"name": "route.from_1_delay_min_-1", "sparse": true};
    late create {"viewOn": "sailings", "pipeline": [{"$match": {"delay_min": {"$gt": 60}}}]};
    "#);
    let (rows, _) = home.call(&["dump", "-c", "log", "ports", "--only-rows"]).exits(0);
    assert!(rows.starts_with("ports insert [\n{") && rows.ends_with("}\n];\n"), "{rows}");
    // Who asks for an object gets the statements of this language.
    let told = home.call(&["call", "catalog.object", "{\"connection\": \"log\", \"name\": \"sailings\"}"]).gives();
    assert!(told.contains("\"definition\":\"sailings create"), "{told}");
}

/// The server takes these names, finds nothing, and says nothing.
#[test]
fn slips_of_the_hand_are_marked() {
    let home = Home::new();
    let server = company(&home);
    let text = "sailing { delay_min: 5 }\n\nsailings { delay_mins: { $gt: 60 } }\n\nsailings | lmit 3\n\nsailings { a > 60 }\n";
    let home = connected(home, &server).file("day.documents", text);
    let screen = home.screen(&["day.documents", "--connection", "log"]);
    screen.shows("log open").press(&["C-o"]).shows("400").press(&["Escape"]);
    // It runs, and is marked all the same.
    screen.press(&["C-g"]).shows("0 rows").press(&["End", "M-n"]).shows("no document of the sample has delay_mins");
    screen.shows("did you mean \"delay_min\"?").press(&["M-n"]).shows("no stage named lmit · did you mean \"limit\"?");
    screen.press(&["M-n"]).shows("a colon is expected here, and not >");
    screen
        .press(&["M-n"])
        .shows("no collection named \"sailing\": nothing is found in it · did you mean \"sailings\"?");
    let (out, err) = home.call(&["run", "-c", "log", "-s", "sailing { delay_min: 5 }"]).exits(0);
    assert!(err.contains("note: ") && err.contains("did you mean \"sailings\"?"), "{err}");
    assert_eq!(out, "");
}
