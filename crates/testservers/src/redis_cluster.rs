//! Redis, as several servers that hold the keys together.

use std::process::Command;
use std::time::{Duration, Instant};

use crate::PASSWORD;
use crate::process::{Running, command_as, folder_of, free_port, program, run};

const USER: &str = "redis";

/// How many servers there are.
const SERVERS: u16 = 3;

/// How long they may take to know each other on a busy machine.
const TOGETHER: Duration = Duration::from_secs(90);

/// Servers with a password, each with a third of the slots.
pub struct RedisCluster {
    /// Their ports on 127.0.0.1, by the slots that they hold.
    pub ports: Vec<u16>,
    running: Vec<Running>,
    folder: tempfile::TempDir,
}

impl RedisCluster {
    /// Starts them, and waits until each knows all.
    pub fn start() -> RedisCluster {
        let folder = folder_of(USER);
        let mut cluster = RedisCluster { ports: Vec::new(), running: Vec::new(), folder };
        let mut buses = Vec::new();
        for _ in 0..SERVERS {
            let (port, bus) = (free_port(), free_port());
            let mut command = command_as(USER, &program(&["/usr/bin/redis-server"], "redis-server"));
            command
                .args(["--port", &port.to_string(), "--bind", "127.0.0.1", "--save", "", "--appendonly", "no"])
                .args(["--daemonize", "no", "--requirepass", PASSWORD, "--masterauth", PASSWORD])
                .args(["--cluster-enabled", "yes", "--cluster-port", &bus.to_string()])
                .args(["--cluster-config-file", &format!("{port}.conf"), "--enable-debug-command", "local"])
                .arg("--dir")
                .arg(cluster.folder.path());
            let ready = || {
                let mut ping = client(port);
                ping.arg("ping").output().is_ok_and(|output| output.stdout.starts_with(b"PONG"))
            };
            let log = cluster.folder.path().join(format!("{port}.log"));
            cluster.running.push(Running::start(command, log, "-TERM", ready));
            cluster.ports.push(port);
            buses.push(bus);
        }
        let each = 16384 / SERVERS;
        for at in 0..SERVERS {
            let last = if at + 1 == SERVERS { 16383 } else { (at + 1) * each - 1 };
            cluster.command(at, &["cluster", "addslotsrange", &(at * each).to_string(), &last.to_string()]);
            cluster.command(at, &["cluster", "set-config-epoch", &(at + 1).to_string()]);
        }
        for (port, bus) in cluster.ports.iter().zip(&buses).skip(1) {
            cluster.command(0, &["cluster", "meet", "127.0.0.1", &port.to_string(), &bus.to_string()]);
        }
        let until = Instant::now() + TOGETHER;
        let knows_all = |at: u16| {
            let info = cluster.command(at, &["cluster", "info"]);
            info.contains("cluster_state:ok") && info.contains(&format!("cluster_known_nodes:{SERVERS}"))
        };
        while !(0..SERVERS).all(knows_all) {
            assert!(Instant::now() < until, "the servers do not find each other");
            std::thread::sleep(Duration::from_millis(20));
        }
        cluster
    }

    /// Runs a command on one of them, with the server's own client.
    pub fn command(&self, at: u16, words: &[&str]) -> String {
        run(client(self.ports[usize::from(at)]).args(words))
    }

    /// What a server calls itself among the others.
    pub fn id(&self, at: u16) -> String {
        self.command(at, &["cluster", "myid"]).trim().to_owned()
    }

    /// Ends one as a power cut would.
    pub fn kill(&mut self, at: u16) {
        self.running[usize::from(at)].kill();
    }
}

fn client(port: u16) -> Command {
    let mut client = Command::new("redis-cli");
    client.args(["-p", &port.to_string(), "--no-auth-warning", "-a", PASSWORD]);
    client
}
