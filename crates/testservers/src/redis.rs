//! Redis.

use std::fs;
use std::path::PathBuf;
use std::process::Command;

use crate::PASSWORD;
use crate::process::{Certificates, Running, command_as, folder_of, free_port, own, program, run};

const USER: &str = "redis";

/// A server with a password.
pub struct Redis {
    running: Option<Running>,
    folder: tempfile::TempDir,
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// Its port on 127.0.0.1 for TLS.
    pub tls_port: u16,
    /// Its certificate.
    pub certificates: Certificates,
}

impl Redis {
    /// Starts one.
    pub fn start() -> Redis {
        let folder = folder_of(USER);
        let certificates = Certificates::make(folder.path(), USER);
        let mut server = Redis { running: None, folder, port: free_port(), tls_port: free_port(), certificates };
        server.start_again();
        server
    }

    /// Its Unix socket.
    pub fn socket(&self) -> PathBuf {
        self.folder.path().join("s.sock")
    }

    /// Starts it after it was killed.
    pub fn start_again(&mut self) {
        let mut command = command_as(USER, &program(&["/usr/bin/redis-server"], "redis-server"));
        command
            .args(["--port", &self.port.to_string(), "--bind", "127.0.0.1", "--save", "", "--appendonly", "no"])
            .args(["--daemonize", "no", "--requirepass", PASSWORD, "--tls-port", &self.tls_port.to_string()])
            .args(["--tls-auth-clients", "no"])
            // For the digest of all that it holds.
            .args(["--enable-debug-command", "local"])
            .arg("--dir")
            .arg(self.folder.path())
            .arg("--unixsocket")
            .arg(self.socket())
            .arg("--tls-cert-file")
            .arg(&self.certificates.cert)
            .arg("--tls-key-file")
            .arg(&self.certificates.key)
            .arg("--tls-ca-cert-file")
            .arg(&self.certificates.ca);
        let port = self.port.to_string();
        let ready = || {
            let asked =
                Command::new("redis-cli").args(["-p", &port, "--no-auth-warning", "-a", PASSWORD, "ping"]).output();
            asked.is_ok_and(|output| output.stdout.starts_with(b"PONG"))
        };
        self.running = Some(Running::start(command, self.folder.path().join("log"), "-TERM", ready));
    }

    /// Ends it as a power cut would.
    pub fn kill(&mut self) {
        if let Some(mut running) = self.running.take() {
            running.kill();
        }
    }

    /// Runs a command, with the server's own client.
    pub fn command(&self, words: &[&str]) -> String {
        run(Command::new("redis-cli")
            .args(["-p", &self.port.to_string(), "--no-auth-warning", "-a", PASSWORD])
            .args(words))
    }
}

/// One that watches others.
pub struct Sentinel {
    _running: Running,
    _folder: tempfile::TempDir,
    /// Its port on 127.0.0.1.
    pub port: u16,
}

impl Sentinel {
    /// Starts one that calls the server `harbour`; whether it wants the password, too.
    pub fn start(watched: &Redis, is_closed: bool) -> Sentinel {
        let (folder, port) = (folder_of(USER), free_port());
        let file = folder.path().join("sentinel.conf");
        let closed = if is_closed { format!("requirepass {PASSWORD}\n") } else { String::new() };
        let text = format!(
            "port {port}\nbind 127.0.0.1\nsentinel monitor harbour 127.0.0.1 {} 1\n\
             sentinel auth-pass harbour {PASSWORD}\n{closed}",
            watched.port
        );
        fs::write(&file, text).expect("the settings can be written");
        own(USER, folder.path());
        let mut command = command_as(USER, &program(&["/usr/bin/redis-server"], "redis-server"));
        command.arg(&file).arg("--sentinel");
        let ready = || {
            let asked = Command::new("redis-cli")
                .args(["-p", &port.to_string(), "--no-auth-warning", "-a", PASSWORD, "ping"])
                .output();
            asked.is_ok_and(|output| output.stdout.starts_with(b"PONG"))
        };
        let running = Running::start(command, folder.path().join("log"), "-TERM", ready);
        Sentinel { _running: running, _folder: folder, port }
    }
}
