//! Changing documents, and what keys hold, from a result: drafted, seen as it is sent, sent, and taken back.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_standins::documents::{Options, Server};
use jaunty_testservers::{PASSWORD, Redis};
use support::{Home, Screen};

const PORTS: &str = "{\"_id\": \"GUL\", \"name\": \"Gullhaven\", \"berths\": 4, \"place\": {\"code\": \"N\", \"at\": [3.2, 52.9]}}
{\"_id\": \"SMQ\", \"name\": \"Saltmarsh Quay\", \"berths\": 6, \"place\": {\"code\": \"S\", \"at\": [1, 51.4]}, \"note\": \"home port\"}
";

/// All documents, by a statement that is not the one on the screen: what it gave last would be shown there at once.
const ALL: &str = "ports | sort { _id: 1 } | limit 99";

/// A server of documents, and a folder with statements for it.
fn harbour(replica_set: bool) -> (Home, Server) {
    let home = Home::new();
    let folder = home.path("collections");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("ports.jsonl"), PORTS).unwrap();
    let replica_set = replica_set.then(|| ("pier".to_owned(), 1));
    let server = Server::start(Options { data: Some(folder), replica_set, ..Options::default() }).unwrap();
    let profile = |name: &str, more: &str| {
        let port = server.port();
        format!("[{name}]\nengine = \"mongodb\"\nhost = \"127.0.0.1\"\nport = {port}\ndatabase = \"ferry\"\n{more}\n")
    };
    let profiles = profile("log", "") + &profile("locked", "guard = \"read-only\"");
    let home = home.file(".jaunty/connections.toml", &profiles).file("ports.documents", "ports | sort { _id: 1 }\n");
    (home, server)
}

fn open(home: &Home, connection: &str) -> Screen {
    let screen = home.screen(&["ports.documents", "-c", connection]);
    screen.shows("mongodb 8.0.0").press(&["C-g"]).shows("1–2 of 2").shows("Saltmarsh Quay").press(&["C-t"]);
    screen
}

fn told(home: &Home, statement: &str) -> String {
    home.call(&["run", "--connection", "log", "--format", "jsonl", "-"]).input(statement).gives()
}

#[test]
fn fields_of_documents_are_changed_in_place_and_taken_back() {
    for replica_set in [true, false] {
        let (home, _server) = harbour(replica_set);
        let before = told(&home, ALL);
        let screen = open(&home, "log");
        // Each value by its own type: text without quotation marks, a number that is one.
        screen
            .press(&["Right", "a"])
            .shows("name · string")
            .shows("was \"Gullhaven\"")
            .types("Gull's \"Haven\"")
            .press(&["Enter"]);
        screen.shows("1 value drafted").shows("slip: 1 changed").press(&["Right", "a"]).shows("berths · int");
        screen.types("many").press(&["Enter"]).shows("\"many\" is not a whole number");
        screen.press(&["C-u"]).types("5").press(&["Enter"]).shows("1 value drafted");
        // A field that is not there, and one that is taken out.
        screen
            .press(&["Down", "Right", "Right", "a"])
            .shows("note · string")
            .press(&["C-d"])
            .shows("not there")
            .press(&["Enter"]);
        screen.shows("slip: 2 changed").press(&["M-u"]).shows("slip · ports on log · 2 changed");
        screen.shows("\\\"Haven\\\"\", berths: 5 } };").shows("{ $unset: {").shows("note: \"\" } };");
        assert_eq!(told(&home, ALL), before, "nothing is sent yet");
        screen.press(&["C-g"]).shows("sent: 2 changed in ports").loses("home port");
        let now = told(&home, ALL);
        assert!(now.contains("\"berths\":5") && now.contains("Gull's \\\"Haven\\\"") && !now.contains("note"), "{now}");
        screen
            .press(&["T"])
            .shows("take back · ports")
            .press(&["C-g"])
            .shows("taken back: 2 changed")
            .shows("home port");
        assert_eq!(told(&home, ALL), before);
        screen.press(&["M-l"]).shows("taken back: 2 changed · ports").shows("slip: 2 changed · ports");
    }
}

#[test]
fn a_part_of_a_field_is_changed_where_it_is_opened() {
    let (home, _server) = harbour(true);
    let screen = open(&home, "log");
    screen.press(&["Right", "Right", "Right", "x"]).shows("place.code").press(&["a"]).shows("place.code · string");
    screen.shows("was \"N\"").types("North").press(&["Enter"]).shows("slip: 1 changed").shows("≠1").shows("North");
    screen
        .press(&["Down", "Right", "m", "Up", "a"])
        .shows("place.at · array · 2 rows")
        .types("[0, 0.5]")
        .press(&["Enter"]);
    screen.shows("slip: 2 changed").press(&["M-u"]).shows("\"North\", \"place.at\": [0, 0.5] }");
    screen.press(&["C-g"]).shows("sent: 2 changed in ports");
    let now = told(&home, ALL);
    assert_eq!(now.matches("[0, 0.5]").count(), 2, "{now}");
}

#[test]
fn a_whole_document_is_changed_as_text_added_copied_and_deleted() {
    let (home, _server) = harbour(true);
    let before = told(&home, ALL);
    let screen = open(&home, "log");
    screen.press(&["W"]).shows("(document) · object").press(&["C-u"]);
    screen
        .types("{ _id: 'GUL', name: 'Gullhaven', tags: ['a'], place: { code: 'N', at: [3.2, 52.9] } }")
        .press(&["Enter"]);
    screen
        .shows("slip: 1 changed")
        .press(&["M-u"])
        .shows("{ $set: { tags: [\"a\"] },")
        .shows("$unset: { berths: \"\" } };")
        .press(&["Escape"]);
    // Fields that the result has are drafted one by one, and stand there.
    screen.press(&["W"]).shows("(document) · object").press(&["C-u"]);
    screen.types("{ _id: 'GUL', name: 'Gulls', berths: 4, place: { code: 'N', at: [3.2, 52.9] } }").press(&["Enter"]);
    screen
        .shows("Gulls")
        .press(&["M-u"])
        .shows("name: \"Gullhaven\" → \"Gulls\"")
        .shows("{ $set: { name: \"Gulls\" }")
        .press(&["Escape", "z"]);
    screen.shows("draft dropped").press(&["W"]).shows("(document) · object").press(&["C-u"]);
    screen
        .types("{ _id: 'GUL', name: 'Gullhaven', tags: ['a'], place: { code: 'N', at: [3.2, 52.9] } }")
        .press(&["Enter"]);
    screen.shows("slip: 1 changed");
    // With what is drafted for its fields in it.
    screen.press(&["Right", "a"]).shows("name · string").types("Gullholm").press(&["Enter"]).shows("Gullholm");
    screen.press(&["W"]).shows("(document) · object").shows("Gullholm\", tags").press(&["Escape"]);
    screen
        .press(&["a"])
        .shows("name · string")
        .types("Gullhaven")
        .press(&["Enter"])
        .shows("as it was: nothing is drafted");
    // What is wrong in it is said at its place.
    screen.press(&["W"]).shows("(document)").press(&["C-u"]).types("{ _id: ").shows("(at").press(&["Escape"]);
    // One more, as text or field by field; one like another.
    screen
        .press(&["A"])
        .shows("the whole document as text")
        .press(&["End", "Enter"])
        .shows("(document) · object")
        .types("{ _id: 'TRN', name: 'Ternholm' }")
        .press(&["Enter"]);
    screen.shows("ports insert { _id: \"TRN\", name: \"Ternholm\" };").press(&["Escape", "Escape"]);
    screen
        .press(&["C"])
        // With an identifier of its own, that is in nobody's way where the others have texts.
        .shows("ports insert { _id: { $oid: \"")
        .shows("name: \"Gullhaven\", berths: 4,")
        .press(&["Home", "Enter"])
        .shows("_id · string")
        .types("EMB")
        .press(&["Enter"]);
    screen
        .shows("ports insert { _id: \"EMB\",")
        .press(&["Escape", "Escape", "Down", "DC"])
        .shows("1 changed, 2 added, 1 deleted");
    screen.press(&["M-u", "C-g"]).shows("sent: 1 changed, 2 added, 1 deleted in ports");
    let now = told(&home, "ports | sort { _id: 1 } | project { _id: 1 }");
    assert_eq!(now, "{\"_id\":\"EMB\"}\n{\"_id\":\"GUL\"}\n{\"_id\":\"TRN\"}\n");
    screen.press(&["T"]).shows("take back · ports").press(&["C-g"]).shows("taken back:");
    assert_eq!(told(&home, ALL), before);
    // The document in hand is the one that it was before. With the identifier that it is given here its copy can be taken
    // back, too.
    screen.press(&["C"]).shows("ports insert { _id: { $oid: \"").press(&["C-g"]).shows("sent: 1 added in ports");
    let now = told(&home, "ports { _id: { $type: 'objectId' } } | project { _id: 0, berths: 1 }");
    assert_eq!(now, "{\"berths\":4}\n");
    screen.press(&["T"]).shows("take back · ports").press(&["C-g"]).shows("taken back:");
    assert_eq!(told(&home, ALL), before);
}

#[test]
fn a_document_that_somebody_else_changed_is_shown_beside_ours() {
    let (home, _server) = harbour(false);
    let screen = open(&home, "log");
    screen.press(&["Right", "Right", "a"]).shows("berths · int").types("5").press(&["Enter"]).shows("1 value drafted");
    told(&home, "ports update { _id: 'GUL' } { $set: { berths: 7, name: 'Gulls' } }");
    screen
        .press(&["M-u", "C-g"])
        .shows("a row was changed by somebody else")
        .shows("theirs")
        .shows("Gulls")
        .loses("(document)");
    screen.press(&["3"]).shows("settled").press(&["C-g"]).shows("sent: 1 changed in ports");
    let now = told(&home, "ports { _id: 'GUL' }");
    assert!(now.contains("\"berths\":5") && now.contains("\"Gulls\""), "{now}");
    // Where nothing can be changed it says why.
    drop(screen);
    let screen = open(&home, "locked");
    screen.press(&["a"]).shows("locked is read-only");
    let home = home.file("grouped.documents", "ports | group { _id: '$place.code' }\n");
    let screen = home.screen(&["grouped.documents", "-c", "log"]);
    screen
        .shows("mongodb")
        .press(&["C-g"])
        .shows("of 2")
        .press(&["C-t", "a"])
        .shows("these rows are not documents of a collection");
}

/// A cache with a little of everything.
fn cache() -> (Home, Redis) {
    let server = Redis::start();
    let words = |line: &str| server.command(&line.split(' ').collect::<Vec<_>>());
    for line in [
        "hset berth:7 vessel Gull length 40",
        "rpush tides low high slack",
        "zadd late 12 Gull 45.5 Tern",
        "set fare:adult 12.50 ex 4000",
    ] {
        words(line);
    }
    let profile = format!(
        "[cache]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = {}\nsecret_command = \"echo {PASSWORD}\"\n",
        server.port
    );
    let home = Home::new().file(".jaunty/connections.toml", &profile).file(
        "day.redis",
        "hgetall berth:7\nlrange tides 0 -1\nzrange late 0 -1 withscores\nget fare:adult\nttl fare:adult\nkeys *\n",
    );
    (home, server)
}

#[test]
fn what_keys_hold_is_changed_by_its_type() {
    let (home, server) = cache();
    let words = |line: &str| server.command(&line.split(' ').collect::<Vec<_>>()).trim_end().to_owned();
    let screen = home.screen(&["day.redis", "-c", "cache"]);
    screen.shows("db0").press(&["C-g"]).shows("1–2 of 2").press(&["C-t"]);
    // A hash: a value, the name of a field, a field more.
    screen.press(&["Right", "a"]).shows("was Gull").types("Tern").press(&["Enter"]).shows("slip: 1 changed");
    screen.press(&["Down", "Left", "a"]).shows("was length").types("width").press(&["Enter"]).shows("slip: 2 changed");
    screen
        .press(&["A"])
        .shows("the field is missing")
        .press(&["Enter"])
        .shows(" field  ")
        .types("mast top")
        .press(&["Enter", "Enter"])
        .types("31")
        .press(&["Enter"]);
    screen.shows("hset berth:7 \"mast top\" 31").shows("watch berth:7").shows("hdel berth:7 length").press(&["C-g"]);
    screen.shows("sent: 2 changed, 1 added in berth:7");
    assert_eq!(words("hgetall berth:7"), "vessel\nTern\nwidth\n40\nmast top\n31");
    screen.press(&["T"]).shows("take back · berth:7").press(&["C-g"]).shows("taken back:");
    assert_eq!(words("hgetall berth:7"), "vessel\nGull\nlength\n40");
    // A list: an element in its place, one that goes, and comes back there.
    screen.press(&["C-t", "C-n", "C-g"]).shows("1–3 of 3").press(&["C-t", "Down", "DC"]).shows("1 row marked");
    screen
        .press(&["Down", "a"])
        .shows("was slack")
        .types("slack water")
        .press(&["Enter", "M-u"])
        .shows("lset tides 2 \"slack water\"")
        .press(&["C-g"]);
    screen.shows("sent: 1 changed, 1 deleted in tides");
    assert_eq!(words("lrange tides 0 -1"), "low\nslack water");
    screen.press(&["T"]).shows("linsert tides before").press(&["C-g"]).shows("taken back:");
    assert_eq!(words("lrange tides 0 -1"), "low\nhigh\nslack");
    // A score is a number.
    screen
        .press(&["C-t", "C-n", "C-g"])
        .shows("zrange late")
        .shows("45.5")
        .press(&["C-t", "Right", "a"])
        .shows("score")
        .types("late")
        .press(&["Enter"]);
    screen
        .shows("\"late\" is not a number")
        .press(&["C-u"])
        .types("13.5")
        .press(&["Enter", "M-u", "C-g"])
        .shows("sent: 1 changed in late");
    assert_eq!(words("zscore late Gull"), "13.5");
    // How long a key lives, for ever too.
    screen
        .press(&["C-t", "C-n", "C-n", "C-g"])
        .shows("1–1 of 1")
        .press(&["C-t", "Home", "a"])
        .shows("seconds left")
        .press(&["C-n"])
        .shows("NULL")
        .press(&["Enter", "M-u"]);
    screen.shows("persist fare:adult").press(&["C-g"]).shows("sent: 1 changed in fare:adult");
    assert_eq!(words("ttl fare:adult"), "-1");
    screen.press(&["C-t", "C-n", "C-g"]).shows("of 4").press(&["C-t", "a"]).shows("these are key names");
}

#[test]
fn rows_of_files_become_documents() {
    let (home, _server) = harbour(false);
    let csv = "code,berths,fee,open,since,place.x,place.y,note\nEMB,2,12.50,true,2031-03-05,1.5,51,\nLNT,3,7.25,false,2030-01-02,2,52.5,\"two\nlines\"\n";
    let home = home.file("berths.csv", csv);
    let load = |arguments: &[&str]| home.call(&[&["load"], arguments, &["-c", "log"]].concat());
    let refused = load(&["berths.csv", "-i", "berths"]).exits(2).1;
    assert!(refused.contains("there is no collection berths; --create makes it"), "{refused}");
    let seen = load(&["berths.csv", "-i", "berths", "--create", "--column", "code=_id", "--preview"]).gives();
    assert!(seen.contains("→ _id string") && seen.contains("→ fee double") && seen.contains("→ since date"), "{seen}");
    load(&["berths.csv", "-i", "berths", "--create", "--column", "code=_id"]).gives();
    let all = told(&home, "berths | sort { _id: 1 }");
    let expected = "{\"_id\":\"EMB\",\"berths\":2,\"fee\":12.5,\"open\":true,\"since\":{\"$date\":\"2031-03-05T00:00:00Z\"},\"place\":{\"x\": 1.5, \"y\": 51.0}}";
    assert_eq!(all.lines().next(), Some(expected), "{all}");
    assert!(all.contains("two\\nlines"), "{all}");
    // What is there already: refused as a whole, left as it is, replaced.
    let home = home.file("more.csv", "_id,berths\nTRN,5\nEMB,9\n");
    let load = |arguments: &[&str]| home.call(&[&["load"], arguments, &["-c", "log"]].concat());
    let failed = load(&["more.csv", "-i", "berths"]).exits(1).1;
    assert!(failed.contains("duplicate") && failed.contains("nothing was loaded"), "{failed}");
    assert!(!told(&home, "berths").contains("TRN"), "what was added before the error is removed again");
    load(&["more.csv", "-i", "berths", "--on-conflict", "skip"]).gives();
    let all = told(&home, "berths | sort { _id: 1 }");
    assert!(all.contains("\"TRN\",\"berths\":5") && all.contains("\"EMB\",\"berths\":2"), "{all}");
    load(&["more.csv", "-i", "berths", "--on-conflict", "replace"]).gives();
    assert!(told(&home, "berths { _id: 'EMB' }").contains("{\"_id\":\"EMB\",\"berths\":9}"));
    // A row that the server refuses goes to a file, and the others are loaded.
    told(&home, "berths index { berths: 1 } { unique: true }");
    let home = home.file("third.csv", "_id,berths\nA,20\nB,9\nC,21\nD,9\n");
    let load = |arguments: &[&str]| home.call(&[&["load"], arguments, &["-c", "log"]].concat());
    load(&["third.csv", "-i", "berths", "--refused", "bad.csv"]).gives();
    let bad = std::fs::read_to_string(home.path("project/bad.csv")).unwrap();
    assert!(bad.contains("B,9") && bad.contains("D,9") && !bad.contains("A,20"), "{bad}");
    assert_eq!(told(&home, "berths count { berths: { $gte: 20 } }").trim(), "{\"n\":2}");
    // JSON keeps what lies in it, and a document without a key gets one.
    let home = home
        .file("log.jsonl", "{\"at\": {\"x\": [1, {\"y\": null}]}, \"n\": 9000000000}\n{\"n\": 1, \"tags\": [\"a\"]}\n");
    home.call(&["load", "log.jsonl", "-c", "log", "-i", "log", "--create"]).gives();
    let all = told(&home, "log | sort { n: 1 } | project { _id: 0 }");
    assert!(all.contains("\"tags\":[\"a\"]") && all.contains("\"at\":{\"x\": [1, {\"y\": null}]}"), "{all}");
    // From one collection to another every value stays what it was.
    let odd = "odd insert { _id: { $oid: '65f0c0ffee65f0c0ffee65f0' }, a: 7, b: { $numberLong: '7' }, c: 7.0, d: { $numberDecimal: '7.10' }, e: true, f: { $date: '2031-03-05T12:00:00Z' }, g: [1, { h: 2.0 }], i: 'x', j: { $binary: { base64: 'AAEC', subType: '00' } } } { _id: 2, a: 'seven', b: 1, i: 5 }";
    told(&home, odd);
    let first = told(&home, "odd").lines().next().unwrap().to_owned();
    assert!(first.contains("\"b\":{\"$numberLong\":\"7\"}"), "also where others of the field are of 32 bits: {first}");
    home.call(&["load", "--from", "log", "-s", "odd", "-c", "log", "-i", "even", "--create"]).gives();
    assert_eq!(told(&home, "even | sort { i: 1 }"), told(&home, "odd | sort { i: 1 }"));
    // Numbers of a column of decimals are decimals, and what a point in time loses is told.
    let home = home.database("exact.db", "create table levels (id integer, at timestamp); insert into levels values (1, '2031-03-05 12:00:00.123456'), (2, '2031-03-05 12:00:00.500000')");
    let from = ["load", "--from", "exact.db", "-s", "select * from levels", "-c", "log", "-i", "levels", "--create"];
    let (_, said) = home.call(&from).exits(0);
    assert!(said.contains("\nat: milliseconds are kept, and some values have more digits"), "{said}");
    let from =
        ["load", "--from", "exact.db", "-s", "select * from levels where id = 2", "-c", "log", "-i", "few", "--create"];
    let (_, said) = home.call(&from).exits(0);
    assert!(!said.contains("milliseconds"), "{said}");
    // On the screen too.
    let home = home.file("screen.csv", "_id,berths\nS1,31\nS2,32\n");
    let screen = home.screen(&["ports.documents", "-c", "log"]);
    screen.shows("mongodb 8.0.0").press(&["M-i"]).shows("file").types("screen.csv").press(&["Enter"]).types("berths");
    screen.shows("S1").press(&["C-g"]).shows("2 rows loaded");
    assert_eq!(told(&home, "berths count { berths: { $gte: 31 } }").trim(), "{\"n\":2}");
}

#[test]
fn a_part_of_a_value_is_enough_where_only_one_has_it() {
    let (home, _server) = harbour(false);
    told(&home, "lights insert { _id: 1, lit: true }");
    let home = home.file("ports.documents", "lights | sort { _id: 1 }\n");
    let screen = home.screen(&["ports.documents", "-c", "log"]);
    screen.shows("mongodb 8.0.0").press(&["C-g"]).shows("of 1").press(&["C-t", "Right", "a"]).shows("lit · bool");
    screen.types("e").press(&["Enter"]).shows("it has to be true or false");
    screen.press(&["C-u"]).types("fa").press(&["Enter"]).shows("1 value drafted");
    screen.press(&["M-u"]).shows("lit: true → false");
}
