//! MariaDB.

use std::path::PathBuf;
use std::process::Command;

use crate::PASSWORD;
use crate::process::{Certificates, Running, command_as, folder_of, free_port, own, program, run};

const USER: &str = "mysql";

/// A server with the user `clerk` and the database `bookings`.
pub struct Mariadb {
    running: Option<Running>,
    folder: tempfile::TempDir,
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// Its certificate.
    pub certificates: Certificates,
}

impl Mariadb {
    /// Starts one.
    pub fn start() -> Mariadb {
        let install = program(&["/usr/bin/mariadb-install-db"], "mariadb-server");
        let folder = folder_of(USER);
        let at = |host: &str| {
            format!(
                "CREATE USER IF NOT EXISTS clerk@'{host}' IDENTIFIED BY '{PASSWORD}';\nGRANT ALL ON *.* TO clerk@'{host}' WITH GRANT OPTION;\n"
            )
        };
        let init = format!("CREATE DATABASE IF NOT EXISTS bookings;\n{}{}", at("127.0.0.1"), at("localhost"));
        std::fs::write(folder.path().join("init.sql"), init).expect("init.sql");
        let certificates = Certificates::make(folder.path(), USER);
        own(USER, folder.path());
        run(command_as(USER, &install)
            .arg("--no-defaults")
            .arg(format!("--datadir={}", folder.path().join("data").display()))
            .arg(format!("--tmpdir={}", folder.path().display()))
            .args(["--auth-root-authentication-method=normal", "--skip-test-db", "--innodb-log-file-size=8M"]));
        let mut server = Mariadb { running: None, folder, port: free_port(), certificates };
        server.start_again();
        server
    }

    /// Its Unix socket.
    pub fn socket(&self) -> PathBuf {
        self.folder.path().join("s.sock")
    }

    /// Starts it after it was killed.
    pub fn start_again(&mut self) {
        let path = |name: &str| self.folder.path().join(name).display().to_string();
        let mut command = command_as(USER, &program(&["/usr/sbin/mariadbd"], "mariadb-server"));
        command
            .arg("--no-defaults")
            .arg(format!("--datadir={}", path("data")))
            .arg(format!("--tmpdir={}", self.folder.path().display()))
            .arg(format!("--port={}", self.port))
            .arg(format!("--socket={}", path("s.sock")))
            .arg(format!("--pid-file={}", path("pid")))
            .arg(format!("--init-file={}", path("init.sql")))
            .arg(format!("--ssl-cert={}", self.certificates.cert.display()))
            .arg(format!("--ssl-key={}", self.certificates.key.display()))
            .arg(format!("--ssl-ca={}", self.certificates.ca.display()))
            .args(["--bind-address=127.0.0.1", "--innodb-flush-log-at-trx-commit=0", "--innodb-flush-method=nosync"])
            .args(["--innodb-log-file-size=8M", "--innodb-buffer-pool-size=64M", "--skip-log-bin"])
            .args(["--skip-name-resolve", "--performance-schema=OFF"]);
        let socket = path("s.sock");
        let ready = || {
            let asked = Command::new("mariadb")
                .args(["--no-defaults", "-u", "clerk", &format!("-p{PASSWORD}"), "-S", &socket, "-e", "select 1"])
                .output();
            asked.is_ok_and(|output| output.status.success())
        };
        self.running = Some(Running::start(command, self.folder.path().join("log"), "-TERM", ready));
    }

    /// Ends it as a power cut would.
    pub fn kill(&mut self) {
        if let Some(mut running) = self.running.take() {
            running.kill();
        }
    }

    /// Runs statements in `bookings`, with the server's own client.
    pub fn sql(&self, sql: &str) -> String {
        run(Command::new("mariadb")
            .args(["--no-defaults", "--batch", "--skip-column-names", "--raw", "--default-character-set=utf8mb4"])
            .args(["-u", "clerk", &format!("-p{PASSWORD}"), "-D", "bookings", "-e", sql])
            .arg("-S")
            .arg(self.socket()))
    }
}
