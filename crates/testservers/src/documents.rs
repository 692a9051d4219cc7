//! A document database: a server of the open wire protocol in Python, which `scripts/test` sets up in a folder of its own.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::PASSWORD;
use crate::process::{Certificates, Running, free_port, run};

/// A server, its documents in memory unless it has logins.
pub struct Documents {
    _running: Running,
    folder: tempfile::TempDir,
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// Its certificate, where it has one.
    pub certificates: Option<Certificates>,
}

fn python() -> PathBuf {
    let python = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/python/bin/python");
    assert!(python.exists(), "{} is missing: scripts/test sets it up", python.display());
    python
}

impl Documents {
    /// Starts one that lets everybody in.
    pub fn start() -> Documents {
        let folder = tempfile::tempdir().expect("a folder");
        let port = free_port();
        let running =
            begin(folder.path(), port, &["--storage-path", ":memory:", "--standalone", "--enable-test-commands"], "");
        Documents { _running: running, folder, port, certificates: None }
    }

    /// Starts one with the user `clerk`, and TLS.
    pub fn guarded() -> Documents {
        let folder = tempfile::tempdir().expect("a folder");
        let certificates = Certificates::make(folder.path(), "root");
        let storage = folder.path().join("data").display().to_string();
        let port = free_port();
        let open = begin(folder.path(), port, &["--storage-path", &storage, "--standalone"], "");
        let server = Documents { _running: open, folder, port, certificates: None };
        server.script(&format!(
            "c.admin.command('createUser', 'clerk', pwd='{PASSWORD}', roles=[{{'role': 'root', 'db': 'admin'}}])"
        ));
        let Documents { _running: open, folder, port, .. } = server;
        drop(open);
        let (cert, key) = (certificates.cert.display().to_string(), certificates.key.display().to_string());
        let arguments =
            ["--storage-path", &storage, "--standalone", "--auth", "--tls-cert-file", &cert, "--tls-key-file", &key];
        let ca = certificates.ca.display().to_string();
        let more = format!(", tls=True, tlsCAFile='{ca}', username='clerk', password='{PASSWORD}'");
        let running = begin(folder.path(), port, &arguments, &more);
        Documents { _running: running, folder, port, certificates: Some(certificates) }
    }

    /// Runs lines of Python with a client of others, `c`.
    pub fn script(&self, lines: &str) -> String {
        let file = self.folder.path().join("script.py");
        std::fs::write(&file, client(self.port, "") + lines).expect("a script");
        run(Command::new(python()).arg(&file))
    }
}

fn client(port: u16, more: &str) -> String {
    format!(
        "import pymongo, bson\nfrom bson import *\nc = pymongo.MongoClient('127.0.0.1', {port}, serverSelectionTimeoutMS=300{more})\n"
    )
}

fn begin(folder: &Path, port: u16, arguments: &[&str], more: &str) -> Running {
    // A server must not outlive the tests, however they end.
    let mut command = Command::new("setpriv");
    command
        .arg("--pdeathsig=TERM")
        .arg(python())
        .args(["-m", "secantus", "--host", "127.0.0.1", "--port", &port.to_string()])
        .args(arguments);
    let file = folder.join("ready.py");
    std::fs::write(&file, client(port, more) + "c.admin.command('ping')\n").expect("a script");
    let ready = || Command::new(python()).arg(&file).output().is_ok_and(|output| output.status.success());
    Running::start(command, folder.join("log"), "-TERM", ready)
}
