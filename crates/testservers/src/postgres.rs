//! PostgreSQL.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::PASSWORD;
use crate::process::{Certificates, Running, command_as, folder_of, free_port, program, run};

const USER: &str = "postgres";

/// A server with the user `clerk`, who is its superuser, and the database `bookings`.
pub struct Postgres {
    running: Option<Running>,
    folder: tempfile::TempDir,
    bin: PathBuf,
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// Its certificate.
    pub certificates: Certificates,
    options: Vec<String>,
}

impl Postgres {
    /// Starts one.
    pub fn start() -> Postgres {
        Postgres::with(&[])
    }

    /// Starts one with these settings, `name=value`.
    pub fn with(settings: &[&str]) -> Postgres {
        let initdb = program(
            &[
                "/usr/lib/postgresql/17/bin/initdb",
                "/usr/lib/postgresql/16/bin/initdb",
                "/usr/lib/postgresql/15/bin/initdb",
            ],
            "postgresql",
        );
        let bin = Path::new(&initdb).parent().expect("a folder").to_owned();
        let folder = folder_of(USER);
        let password = folder.path().join("pw");
        std::fs::write(&password, PASSWORD).expect("the password's file");
        crate::process::own(USER, &password);
        let data = folder.path().join("data");
        run(command_as(USER, &initdb)
            .arg("-D")
            .arg(&data)
            .args(["-U", "clerk", "--auth-local=trust", "--auth-host=scram-sha-256", "--encoding=UTF8"])
            .args(["--locale=C.UTF-8", "--no-sync", "--no-instructions"])
            .arg(format!("--pwfile={}", password.display())));
        let certificates = Certificates::make(folder.path(), USER);
        let options = settings.iter().map(|setting| (*setting).to_owned()).collect();
        let mut server = Postgres { running: None, folder, bin, port: free_port(), certificates, options };
        server.start_again();
        server.sql_in("postgres", "create database bookings");
        server
    }

    /// Starts a second one, which takes over what this one writes and takes no changes itself.
    pub fn standby(&self) -> Postgres {
        let folder = folder_of(USER);
        run(command_as(USER, &self.bin.join("pg_basebackup").to_string_lossy())
            .arg("-D")
            .arg(folder.path().join("data"))
            .args(["-R", "-c", "fast", "--no-sync", "-U", "clerk", "-p", &self.port.to_string(), "-h"])
            .arg(self.socket()));
        let certificates = Certificates::make(folder.path(), USER);
        let (bin, options) = (self.bin.clone(), self.options.clone());
        let mut server = Postgres { running: None, folder, bin, port: free_port(), certificates, options };
        server.start_again();
        server
    }

    /// The folder of its Unix socket.
    pub fn socket(&self) -> &Path {
        self.folder.path()
    }

    /// Starts it after it was killed.
    pub fn start_again(&mut self) {
        let mut command = command_as(USER, &self.bin.join("postgres").to_string_lossy());
        let socket = self.folder.path().display().to_string();
        command.arg("-D").arg(self.folder.path().join("data")).args(["-p", &self.port.to_string()]);
        let tls = ["ssl=on".to_owned(), format!("ssl_cert_file={}", self.certificates.cert.display())];
        let key = format!("ssl_key_file={}", self.certificates.key.display());
        let ca = format!("ssl_ca_file={}", self.certificates.ca.display());
        let usual = ["listen_addresses=127.0.0.1", "fsync=off", "synchronous_commit=off", "full_page_writes=off"];
        let sockets = format!("unix_socket_directories={socket}");
        let settings =
            usual.iter().map(|s| (*s).to_owned()).chain(tls).chain([key, ca, sockets]).chain(self.options.clone());
        settings.for_each(|setting| {
            command.args(["-c", &setting]);
        });
        let (bin, port) = (self.bin.clone(), self.port);
        let ready = || {
            let asked =
                Command::new(bin.join("pg_isready")).args(["-q", "-h", &socket, "-p", &port.to_string()]).status();
            asked.is_ok_and(|status| status.success())
        };
        self.running = Some(Running::start(command, self.folder.path().join("log"), "-INT", ready));
    }

    /// Ends it as a power cut would.
    pub fn kill(&mut self) {
        if let Some(mut running) = self.running.take() {
            // Its children notice that it is gone and end too.
            running.kill();
            let pid = self.folder.path().join("data/postmaster.pid");
            let _ = std::fs::remove_file(pid);
        }
    }

    /// Ends it in order: its clients are told.
    pub fn stop(&mut self) {
        self.running = None;
    }

    /// What it has written to its log.
    pub fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).expect("the log")
    }

    /// Runs statements in a database, with the server's own client.
    pub fn sql_in(&self, database: &str, sql: &str) -> String {
        run(Command::new(self.bin.join("psql"))
            .args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-U", "clerk", "-d", database])
            .args(["-p", &self.port.to_string(), "-c", sql])
            .arg("-h")
            .arg(self.socket()))
    }

    /// Runs statements in `bookings`.
    pub fn sql(&self, sql: &str) -> String {
        self.sql_in("bookings", sql)
    }

    /// Changes who is let in how, and makes the server read it.
    pub fn let_in(&self, lines: &str) {
        let file = self.folder.path().join("data/pg_hba.conf");
        std::fs::write(&file, lines).expect("pg_hba.conf");
        self.sql_in("postgres", "select pg_reload_conf()");
        // The postmaster takes it up on a signal: the change is there when a new connection sees it.
        self.sql_in("postgres", "select pg_sleep(0.2)");
    }
}
