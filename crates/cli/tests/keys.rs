//! Rows that become keys of Redis, and keys that are kept as commands, from the command line and on the screen.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_testservers::{PASSWORD, Redis};
use support::{Home, read};

const PORTS: &str = "code,name,berths,opened\nSMQ,Saltmarsh Quay,6,05.03.2031\nGUL,\"Gull \"\"Rock\"\"\",,31.12.2030\nFOG,Fogwick,2,01.02.2031\n";

fn home(server: &Redis) -> Home {
    let profile = |name: &str, database: u8, guard: &str| {
        let at = format!("url = \"redis://127.0.0.1:{}/{database}\"", server.port);
        format!("[{name}]\n{at}\nsecret_command = \"echo {PASSWORD}\"\nguard = \"{guard}\"\n\n")
    };
    let profiles = profile("cache", 0, "open") + &profile("other", 1, "open") + &profile("locked", 0, "read-only");
    Home::new().file(".jaunty/connections.toml", &profiles).file("ports.csv", PORTS)
}

/// Loads the ports into a connection with more arguments, and gives what it says.
fn load(home: &Home, code: i32, arguments: &[&str]) -> String {
    let (out, told) = home.call(&[&["load", "ports.csv", "-c", "cache"], arguments].concat()).exits(code);
    format!("{out}{told}")
}

#[test]
fn each_row_becomes_what_a_command_puts_there() {
    let server = Redis::start();
    let home = home(&server);
    // What is missing is told with what to write.
    let told = load(&home, 2, &["-i", "port"]);
    assert!(told.contains("its key goes in the place of a star, such as port:*"), "{told}");
    let told = load(&home, 2, &["-i", "port:*"]);
    assert!(told.contains("Every value of code is different: --key code makes it the key"), "{told}");
    let told = load(&home, 2, &["-i", "set name:*", "--key", "code"]);
    assert!(told.contains("a text is one value, and there are name, berths, opened; --column name=value"), "{told}");
    let told = load(&home, 2, &["-i", "zadd berths", "--column", "name=value"]);
    assert!(told.contains("a member with a score needs a column \"score\""), "{told}");
    let told = load(&home, 2, &["-i", "hgetall port:*"]);
    assert!(told.contains("hgetall is not a command that rows are put by; hset, set, rpush"), "{told}");
    let told = load(&home, 2, &["-i", "rpush names", "--column", "name=value", "--on-conflict", "skip"]);
    assert!(told.contains("each element is new: there is none that could be skipped or replaced"), "{told}");
    // Nothing is loaded by looking.
    let hash = ["-i", "port:* ex 600", "--key", "code"];
    let told = load(&home, 0, &[&hash[..], &["--preview"]].concat());
    let first = "the first row: hset port:SMQ name \"Saltmarsh Quay\" berths 6 opened 2031-03-05; expire port:SMQ 600";
    assert!(told.contains(first), "{told}");
    assert_eq!(server.command(&["dbsize"]).trim(), "0");
    assert!(load(&home, 0, &hash).starts_with("3 rows loaded into port:* ex 600"));
    assert_eq!(server.command(&["hget", "port:GUL", "name"]).trim(), "Gull \"Rock\"");
    assert_eq!(server.command(&["hexists", "port:GUL", "berths"]).trim(), "0", "what is NULL is left out");
    let told = load(&home, 1, &hash);
    assert!(told.contains("port:SMQ is there already; nothing was loaded"), "{told}");
    server.command(&["del", "port:FOG"]);
    let told = load(&home, 0, &[&hash[..], &["--on-conflict", "skip"]].concat());
    assert!(told.starts_with("1 row loaded") && told.contains("2 were there already and stay as they are"), "{told}");
    // Rows that do not fit have their line, and go into a file.
    let scored = ["-i", "zadd berths", "--column", "berths=score", "--column", "name=value"];
    let told = load(&home, 2, &scored);
    assert!(told.contains("line 3: score: no value"), "{told}");
    let told = load(&home, 0, &[&scored[..], &["--refused", "bad.csv"]].concat());
    assert!(told.starts_with("2 rows loaded") && told.contains("not loaded: code (not the value), opened"), "{told}");
    assert!(read(&home, "bad.csv").contains("3,\"score: no value"));
    // From one connection to another, and the guard counts.
    let from = ["load", "--from", "cache", "-s", "zrange berths 0 -1 withscores", "-i", "sadd names", "-c"];
    let (_, told) =
        home.call(&[&from[..], &["other", "--column", "key=value", "--column", "value="]].concat()).exits(0);
    assert!(told.starts_with("2 rows loaded into sadd names"), "{told}");
    let (_, told) = home.call(&[&from[..], &["locked"]].concat()).exits(2);
    assert!(told.contains("locked is read-only"), "{told}");
    // The load is a run of the log.
    assert!(home.call(&["log"]).gives().contains("load ports.csv into port:* ex 600"));
}

#[test]
fn keys_are_kept_and_brought_back() {
    let server = Redis::start();
    let home = home(&server);
    load(&home, 0, &["-i", "port:*", "--key", "code"]);
    server.command(&["rpush", "waiting room", "a", "two\nlines", ""]);
    let (_, told) = home.call(&["dump", "-c", "cache", "-o", "keys.redis"]).exits(0);
    assert_eq!(told.trim(), "4 keys in keys.redis");
    let before = server.command(&["debug", "digest"]);
    // What is there of the same name is replaced, and what is not there comes back.
    server.command(&["hset", "port:SMQ", "name", "x", "more", "y"]);
    server.command(&["del", "waiting room"]);
    home.call(&["run", "-c", "cache", "keys.redis"]).exits(0);
    assert_eq!(server.command(&["debug", "digest"]), before);
    let (out, told) = home.call(&["dump", "-c", "locked", "waiting room", "port:S*", "nothing"]).exits(0);
    let wanted = "unlink \"waiting room\"\nrpush \"waiting room\" a \"two\\nlines\" \"\"\nunlink port:SMQ\nhset port:SMQ name \"Saltmarsh Quay\" berths 6 opened 2031-03-05\n";
    assert!(out.ends_with(wanted), "{out}");
    assert!(told.contains("left out: nothing: there is no such key"), "{told}");
    let (_, told) = home.call(&["dump", "-c", "cache", "--only-structure"]).exits(2);
    assert!(told.contains("keys have no definitions"), "{told}");
    // A script of more than can be read at once.
    let words = "salt ".repeat(2000);
    let script: String = (0..900).map(|n| format!("set big:{n} \"{words}\"\n")).collect();
    let home = home.file("big.redis", &script);
    let (_, told) = home.call(&["run", "-c", "other", "big.redis", "-q", "-o", "said.csv"]).exits(0);
    assert_eq!(told.trim(), "");
    let (_, told) = home.call(&["run", "-c", "other", "big.redis", "-o", "said.csv"]).exits(0);
    assert!(told.contains("900 statements run"), "{told}");
    assert_eq!(server.command(&["-n", "1", "dbsize"]).trim(), "900");
}

#[test]
fn rows_become_keys_on_the_screen() {
    let server = Redis::start();
    let home = home(&server).file("a.redis", "dbsize\n");
    let screen = home.screen(&["a.redis", "-c", "cache"]);
    screen.shows("redis 7").press(&["M-i"]).shows("load a file · cache").types("ports.csv");
    screen.shows("name the keys").press(&["Enter"]).shows("rpush waiting").types("port:*");
    screen
        .shows("Every value of code is different")
        .press(&["Down"; 10])
        .shows("the columns that go in the places of the *");
    screen.types("code").shows("The first row: hset port:SMQ name \"Saltmarsh Quay\" berths 6 opened 2031-03-05");
    screen.press(&["C-g"]).shows("3 rows loaded into port:*").press(&["Escape"]).loses("load a file");
    assert_eq!(server.command(&["hget", "port:FOG", "name"]).trim(), "Fogwick");
    screen.press(&["C-l"]).types("copy database").shows("Copy database").press(&["Enter"]);
    screen.shows("3 keys kept in ");
}
