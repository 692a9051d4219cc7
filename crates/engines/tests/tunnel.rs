//! Through an SSH server of its own to real servers.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_seam::engine::{Request, Session};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_standins::{documents, tds};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres, Sshd};
use support::gate::{Gate, Wants};
use support::{Collect, run, told};

fn connect(profile: &Profile) -> Result<Box<dyn Session>, EngineError> {
    open(by_name(&profile.engine).unwrap(), profile, Some(&Secret::new(PASSWORD.into())))
}

fn through(gate: &Sshd, engine: &str, port: u16) -> Profile {
    let mut profile = Profile::new("bookings", engine).with("user", "clerk").with("database", "bookings");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    // However busy this machine is, a stop is what is waited for.
    profile.settings.insert("stop_seconds".into(), Setting::Number(600));
    let file = |name: &str| gate.file(name).to_string_lossy().into_owned();
    profile.with("ssh", gate.address()).with("ssh_key", file("id")).with("ssh_known_hosts", file("known"))
}

#[test]
fn statements_run_and_stop_through_a_tunnel() {
    let (gate, server) = (Sshd::start(), Postgres::start());
    let ca = server.certificates.ca.to_string_lossy().into_owned();
    let profile = through(&gate, "postgres", server.port).with("tls_ca", ca);
    let mut session = connect(&profile).unwrap_or_else(|error| panic!("{}", told(&error, &[])));
    assert_eq!(session.location().transport, "TLSv1.3, verified, through 127.0.0.1");
    assert_eq!(run(session.as_mut(), "select 1").unwrap().rows(), [["1"]]);
    let collect = Collect::up_to(500);
    let error = session.run(&Request::new("select generate_series(1, 100000000)"), Box::new(collect)).unwrap_err();
    assert_eq!(error.kind, ErrorKind::Stopped);
    assert_eq!(run(session.as_mut(), "select 2").unwrap().rows(), [["2"]]);
    // The socket on the other side, and a server before the server.
    let by_socket = profile.clone().with("host", server.socket().to_string_lossy()).with("ssh_jump", gate.address());
    let by_socket = by_socket.with("host", server.socket().join(format!(".s.PGSQL.{}", server.port)).to_string_lossy());
    let mut session = connect(&by_socket).unwrap_or_else(|error| panic!("{}", told(&error, &[])));
    assert!(
        session.location().transport.ends_with("through 127.0.0.1 and 127.0.0.1"),
        "{}",
        session.location().transport
    );
    assert_eq!(run(session.as_mut(), "select 3").unwrap().rows(), [["3"]]);
}

/// Runs and stops a statement, and ends the session, each through the tunnel.
fn goes_through(profile: &Profile, secret: &str, (transport, endless, short): (&str, &str, &str)) {
    let secret = Secret::new(secret.into());
    let session = open(by_name(&profile.engine).unwrap(), profile, Some(&secret));
    let mut session = session.unwrap_or_else(|error| panic!("{}", told(&error, &[])));
    assert_eq!(session.location().transport, transport);
    let error = session.run(&Request::new(endless), Box::new(Collect::up_to(500))).unwrap_err();
    assert_eq!(error.kind, ErrorKind::Stopped, "{error}");
    run(session.as_mut(), short).unwrap_or_else(|error| panic!("{}: {error}", profile.engine));
    drop(session);
}

#[test]
fn each_engine_goes_through() {
    let gate = Sshd::start();
    let server = Mariadb::start();
    let ca = server.certificates.ca.to_string_lossy().into_owned();
    let profile = through(&gate, "mysql", server.port).with("tls_ca", ca);
    let transport = "TLSv1.3, verified, through 127.0.0.1";
    goes_through(&profile, PASSWORD, (transport, "select seq from seq_1_to_100000000", "select 1"));

    let server = tds::Server::start(tds::Options::default()).unwrap();
    let profile = through(&gate, "sqlserver", server.port()).with("database", "ferry").with("tls", "off");
    let endless = "with n (i) as (select 1 union all select i + 1 from n where i < 100000000) select i from n option (maxrecursion 0)";
    let password = tds::Options::default().password;
    goes_through(&profile, &password, ("not encrypted, through 127.0.0.1", endless, "select 1"));

    let options = documents::Options {
        login: Some(("clerk".into(), PASSWORD.into())),
        endless: Some("tides".into()),
        ..documents::Options::default()
    };
    let server = documents::Server::start(options).unwrap();
    let profile = through(&gate, "mongodb", server.port()).with("tls", "off");
    goes_through(&profile, PASSWORD, ("not encrypted, through 127.0.0.1", "tides", "{ ping: 1 }"));
}

#[test]
fn a_password_opens_a_tunnel_however_the_server_wants_it() {
    let server = Postgres::start();
    for wants in [Wants::Password, Wants::Answer] {
        let gate = Gate::start(wants);
        let mut profile = Profile::new("bookings", "postgres").with("user", "clerk").with("database", "bookings");
        profile.settings.insert("port".into(), Setting::Number(i64::from(server.port)));
        let known = gate.known.path().to_string_lossy().into_owned();
        let profile = profile.with("ssh", format!("clerk@{}", gate.address)).with("ssh_known_hosts", known);
        let given = profile.clone().with("ssh_secret_command", format!("echo {PASSWORD}"));
        let mut session = connect(&given).unwrap_or_else(|error| panic!("{wants:?}: {}", told(&error, &[])));
        assert_eq!(session.location().transport, "TLSv1.3, not verified, through 127.0.0.1");
        assert_eq!(run(session.as_mut(), "select 1").unwrap().rows(), [["1"]]);
        let wrong = connect(&profile.with("ssh_secret_command", "echo low-water")).err().unwrap();
        assert_eq!(wrong.step, Some(Step::Tunnel));
        assert!(wrong.message.ends_with("nor the password") && !wrong.message.contains("low-water"), "{wrong}");
    }
}

#[test]
fn a_key_with_a_passphrase_opens_a_tunnel() {
    let (gate, server) = (Sshd::start(), Postgres::start());
    let profile = through(&gate, "postgres", server.port);
    let locked = profile.with("ssh_key", gate.file("locked").to_string_lossy());
    let given = locked.clone().with("ssh_secret_command", format!("echo {PASSWORD}"));
    let mut session = connect(&given).unwrap_or_else(|error| panic!("{}", told(&error, &[])));
    assert_eq!(run(session.as_mut(), "select 1").unwrap().rows(), [["1"]]);
    let told_of = |profile: &Profile| {
        let folder = gate.file("").to_string_lossy().into_owned();
        told(&connect(profile).err().unwrap(), &[(&folder, "FOLDER/")])
    };
    let wrong = locked.clone().with("ssh_secret_command", "echo low-water");
    insta::assert_snapshot!(format!("{}\n\n{}", told_of(&locked), told_of(&wrong)));
}

#[test]
fn each_way_to_be_refused_has_its_own_error() {
    let gate = Sshd::start();
    let nobody = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let file = |name: &str| gate.file(name).to_string_lossy().into_owned();
    let profile = through(&gate, "postgres", nobody);
    let mut all = String::new();
    for (name, profile) in [
        ("no server", profile.clone().with("ssh", format!("clerk@127.0.0.1:{nobody}"))),
        ("not written so", profile.clone().with("ssh", "clerk@quay:ferry")),
        ("unknown", profile.clone().with("ssh_known_hosts", file("unknown"))),
        ("another key", profile.clone().with("ssh_known_hosts", file("changed"))),
        ("not let in", profile.clone().with("ssh_key", file("stranger"))),
        ("no key", profile.clone().with("ssh_key", "/nowhere/id")),
        ("nobody behind it", profile.clone()),
    ] {
        let Err(error) = connect(&profile) else { panic!("{name}: connected") };
        assert!(matches!(error.step, Some(Step::Tunnel | Step::Profile)), "{name}: {error:?}");
        let folder = gate.file("").to_string_lossy().into_owned();
        let (port, nobody) = (gate.port.to_string(), nobody.to_string());
        let mut text = told(&error, &[(&folder, "FOLDER/"), (&port, "PORT"), (&nobody, "FREE"), (&gate.user, "USER")]);
        // Fingerprints differ from run to run.
        if let Some(at) = text.find("SHA256:") {
            let end = text[at..].find(char::is_whitespace).map_or(text.len(), |end| at + end);
            text.replace_range(at..end, "FINGERPRINT");
        }
        all.push_str(&format!("{name}: {text}\n\n"));
    }
    insta::assert_snapshot!(all);
}
