//! What the protocol of MySQL and MariaDB carries, with a real MariaDB: ways to log in, long values, progress, files.

#![allow(clippy::unwrap_used)] // A test fails by panicking.

mod support;

use std::sync::LazyLock;

use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_language::statement::parameters::ParameterValue;
use jaunty_mysql::fields::put_bytes;
use jaunty_mysql::handshake::capability;
use jaunty_mysql::packet::Packets;
use jaunty_seam::engine::{Request, Session};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD};
use support::{Collect, comes_true, refused, run, told};

static SERVER: LazyLock<Mariadb> = LazyLock::new(|| {
    let server = Mariadb::start();
    server.sql("set global max_allowed_packet = 1024 * 1024 * 1024; install soname 'auth_ed25519'");
    server
});

fn profile(user: &str) -> Profile {
    let mut profile = Profile::new("bookings", "mysql").with("host", "127.0.0.1").with("user", user);
    profile.settings.insert("port".into(), Setting::Number(i64::from(SERVER.port)));
    profile.settings.insert("stop_seconds".into(), Setting::Number(600));
    profile.with("database", "bookings")
}

fn try_to_connect(profile: &Profile, password: &str) -> Result<Box<dyn Session>, EngineError> {
    open(by_name("mysql").unwrap(), profile, Some(&Secret::new(password.into())))
}

fn connect() -> Box<dyn Session> {
    try_to_connect(&profile("clerk"), PASSWORD).unwrap()
}

fn one(session: &mut dyn Session, statement: &str) -> String {
    run(session, statement).unwrap().rows()[0][0].clone()
}

#[test]
fn a_user_may_log_in_by_a_signature() {
    SERVER.sql(
        "create user purser@'127.0.0.1' identified via ed25519 using password('salt and fog');
         grant all on bookings.* to purser@'127.0.0.1'",
    );
    for tls in ["off", "require"] {
        let mut session = try_to_connect(&profile("purser").with("tls", tls), "salt and fog").unwrap();
        assert_eq!(one(session.as_mut(), "select current_user()"), "purser@127.0.0.1");
        let error = try_to_connect(&profile("purser").with("tls", tls), "low water").err().unwrap();
        assert_eq!((error.step, error.code.as_deref()), (Some(Step::Secret), Some("1045")));
    }
}

/// Longer than a packet may be, to the server and back.
#[test]
fn values_of_several_packets_arrive() {
    let mut session = connect();
    // The length before a value takes eight bytes of the message that has it, and four where it is shorter.
    for length in [0xFF_FFFF - 9, 0xFF_FFFF - 4, 0xFF_FFFF, 0x200_0000] {
        let found = run(session.as_mut(), &format!("select repeat('q', {length}) as v")).unwrap().rows();
        assert_eq!((found[0][0].len(), found[0][0].trim_matches('q')), (length, ""));
    }
    // With what stands before it, the last byte of the first packet and the first of the second.
    for length in 0xFF_FFFF - 24..0xFF_FFFF - 18 {
        let values = [(":v".to_owned(), ParameterValue::Bytes(vec![b'q'; length]))];
        let collect = Collect::up_to(usize::MAX);
        let request = Request::new("select length(:v) as n").with(&values);
        session.run(&request, Box::new(collect.clone())).unwrap();
        assert_eq!(collect.rows(), [[length.to_string()]]);
    }
    assert_eq!(one(session.as_mut(), "select 1"), "1");
}

/// A row that is long is a batch of its own, whichever of the two protocols it comes by.
#[test]
fn long_values_arrive_among_others() {
    let mut session = connect();
    let statement = "select seq, if(seq = 2, null, repeat('q', 2000000 + seq)) as log, unhex(repeat('fa', 1500000)) as raw, \
        seq / 2 as half from seq_1_to_3 where seq < :most";
    let values = [(":most".to_owned(), ParameterValue::Int(9))];
    let collect = Collect::up_to(usize::MAX);
    session.run(&Request::new(statement).with(&values), Box::new(collect.clone())).unwrap();
    for found in [collect, run(session.as_mut(), &statement.replace(":most", "9")).unwrap()] {
        assert_eq!(found.batches(), [1, 1, 1]);
        for (n, row) in (1..).zip(found.rows()) {
            let log = if n == 2 { "∅".to_owned() } else { "q".repeat(2_000_000 + n) };
            let half = ["0.5000", "1.0000", "1.5000"][n - 1].to_owned();
            assert!(row == [n.to_string(), log, "fa".repeat(1_500_000), half], "row {n}");
        }
    }
}

#[test]
fn a_row_longer_than_the_profile_takes_ends_the_connection() {
    let mut profile = profile("clerk");
    profile.settings.insert("largest_mib".into(), Setting::Number(1));
    let mut session = try_to_connect(&profile, PASSWORD).unwrap();
    assert_eq!(one(session.as_mut(), "select length(repeat('x', 2000000))"), "2000000");
    let error = refused(session.as_mut(), "select repeat('x', 2000000)");
    assert_eq!(error.kind, ErrorKind::Lost);
    insta::assert_snapshot!(told(&error, &[]), @r"
    [none] the server sent a row of more than 1 MiB, the limit of this profile
    Ask for a part of the value, or allow more with largest_mib in the profile. The next run connects again.
    ");
    assert!(!session.is_alive());
}

/// The server tells how far it is once a second: the table grows until a change of it takes that long.
#[test]
fn a_long_change_tells_how_far_it_is() {
    let mut session = connect();
    run(session.as_mut(), "create table log (n int, text varchar(60)) engine = MyISAM").unwrap();
    run(session.as_mut(), "insert into log select seq, repeat('x', 60) from seq_1_to_500000").unwrap();
    let mut seen = Vec::new();
    for _ in 0..9 {
        let collect = run(session.as_mut(), "alter table log force, algorithm = copy").unwrap();
        seen = std::mem::take(&mut collect.seen.lock().unwrap().progress);
        if !seen.is_empty() {
            break;
        }
        run(session.as_mut(), "insert into log select * from log").unwrap();
    }
    assert!(!seen.is_empty() && seen.is_sorted() && seen.iter().all(|done| (0.0..=1.0).contains(done)), "{seen:?}");
    run(session.as_mut(), "drop table log").unwrap();
}

/// A server may ask for any file of this machine: it gets none.
#[test]
fn no_file_is_sent_to_a_server() {
    let mut session = connect();
    run(session.as_mut(), "create temporary table notes (text text)").unwrap();
    let error = refused(session.as_mut(), "load data local infile '/etc/hostname' into table notes");
    insta::assert_snapshot!(told(&error, &[]), @r#"
    [none] the server asks for the file /etc/hostname of this machine, and none is sent to a server unasked
    Nothing of it was loaded. Load it with the action "Load a file", or with jaunty load.
    "#);
    assert_eq!(one(session.as_mut(), "select count(*) from notes"), "0");
}

/// Rows that are not taken any more do not meet what is asked next.
#[test]
fn a_result_that_ends_early_leaves_nothing_behind() {
    let mut session = connect();
    run(session.as_mut(), "create temporary table mixed (n int, t text character set latin1)").unwrap();
    for _ in 0..3 {
        let collect = Collect::up_to(10);
        let statement = "select seq, repeat('x', 100) from seq_1_to_100000";
        let stopped = session.run(&Request::new(statement), Box::new(collect.clone())).unwrap_err();
        assert_eq!(stopped.kind, ErrorKind::Stopped);
        assert_eq!(one(session.as_mut(), "select 'next'"), "next");
    }
    run(session.as_mut(), "set names latin1").unwrap();
    let error = refused(session.as_mut(), "select seq, 'ü' from seq_1_to_100000");
    assert!(error.message.contains("not UTF-8"), "{error}");
    run(session.as_mut(), "set names utf8mb4").unwrap();
    assert_eq!(one(session.as_mut(), "select 'ü'"), "ü");
}

/// Servers count connections that end without a word, and write them into their logs.
#[test]
fn the_server_is_told_of_the_end() {
    let count =
        || SERVER.sql("show global status like 'Aborted_clients'").split('\t').nth(1).unwrap().trim().to_owned();
    let before = count();
    let mut session = connect();
    let id = one(session.as_mut(), "select connection_id()");
    drop(session);
    let gone = format!("select count(*) from information_schema.processlist where id = {id}");
    assert!(comes_true(|| SERVER.sql(&gone).trim() == "0"));
    assert_eq!(count(), before);
}

/// A server from before there were roles, and from before ends of columns were left out: what it says to each question.
/// It asks nothing of a login.
fn old_server() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    listener.set_nonblocking(true).unwrap();
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let listener = tokio::net::TcpListener::from_std(listener).unwrap();
            while let Ok((stream, _)) = listener.accept().await {
                // Until the client leaves.
                let _ = answers(Packets::new(stream, 0, 1 << 20)).await;
            }
        });
    });
    port
}

async fn answers(mut packets: Packets<tokio::net::TcpStream>) -> Result<(), jaunty_mysql::Error> {
    let can = capability::CLIENT_MYSQL
        | capability::PROTOCOL_41
        | capability::SECURE_CONNECTION
        | capability::TRANSACTIONS
        | capability::PLUGIN_AUTH
        | capability::MULTI_RESULTS;
    let [a, b, c, d] = can.to_le_bytes();
    let greeting = [
        b"\x0A5.7.44-ferry\0\x07\0\0\0abcdefgh\0",
        &[a, b, 45, 2, 0, c, d, 21][..],
        &[0; 10],
        b"ijklmnopqrst\0mysql_native_password\0",
    ];
    packets.send(&greeting.concat()).await?;
    packets.message().await?;
    let (ok, eof) = ([0, 0, 0, 2, 0, 0, 0], [0xFE, 0, 0, 2, 0]);
    packets.send(&ok).await?;
    loop {
        packets.begin();
        let asked = packets.message().await?;
        let asked = String::from_utf8_lossy(asked.get(1..).unwrap_or_default()).into_owned();
        let row: &[&str] = match asked.as_str() {
            "select version()" => &["5.7.44-ferry"],
            "select database(), current_user(), ''" => &["bookings", "clerk@%", ""],
            "select name from ports" => &["Mole"],
            "select @@session.tx_read_only" => &["1"],
            asked if asked.starts_with("set ") => {
                packets.send(&ok).await?;
                continue;
            }
            asked if asked.contains("current_role()") || asked.contains("transaction_read_only") => {
                packets.send(b"\xFF\x19\x05#42000it does not exist").await?;
                continue;
            }
            _ => return Ok(()),
        };
        packets.send(&[row.len() as u8]).await?;
        for _ in row {
            let mut column = Vec::new();
            ["def", "", "", "", "c", ""].iter().for_each(|text| put_bytes(text.as_bytes(), &mut column));
            column.extend([12, 45, 0, 40, 0, 0, 0, 253, 0, 0, 0, 0, 0]);
            packets.send(&column).await?;
        }
        packets.send(&eof).await?;
        let mut values = Vec::new();
        row.iter().for_each(|value| put_bytes(value.as_bytes(), &mut values));
        packets.send(&values).await?;
        packets.send(&eof).await?;
    }
}

#[test]
fn servers_from_before_there_were_roles_are_taken() {
    let mut profile = profile("clerk").with("tls", "off");
    profile.settings.insert("port".into(), Setting::Number(i64::from(old_server())));
    let mut session = try_to_connect(&profile, PASSWORD).unwrap_or_else(|error| panic!("{}", told(&error, &[])));
    let location = session.location();
    assert_eq!(
        (location.server.as_str(), location.database.as_str(), location.user.as_str(), location.session.as_str()),
        ("mysql 5.7.44", "bookings", "clerk@%", "connection 7")
    );
    assert_eq!(one(session.as_mut(), "select name from ports"), "Mole");
    // It takes one client after the other.
    drop(session);
    let guarded = Profile { guard: Guard::ReadOnly, ..profile };
    let mut session = try_to_connect(&guarded, PASSWORD).unwrap();
    assert_eq!(one(session.as_mut(), "select name from ports"), "Mole");
    assert!(!session.location().guard_lifted);
}
