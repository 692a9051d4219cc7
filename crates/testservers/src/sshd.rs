//! An SSH server, for tunnels.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::PASSWORD;
use crate::process::{Running, free_port, is_root, program, run, short_folder};

/// A server that lets its own user in with a key.
pub struct Sshd {
    _running: Running,
    folder: tempfile::TempDir,
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// Who may log in.
    pub user: String,
}

impl Sshd {
    /// Starts one.
    pub fn start() -> Sshd {
        let sshd = program(&["/usr/sbin/sshd"], "openssh-server");
        let folder = short_folder();
        let path = |name: &str| folder.path().join(name);
        for (name, passphrase) in [("hostkey", ""), ("id", ""), ("stranger", ""), ("locked", PASSWORD)] {
            run(Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", passphrase, "-f"]).arg(path(name)));
        }
        let let_in = ["id.pub", "locked.pub"].map(|name| std::fs::read_to_string(path(name)).expect("a key"));
        std::fs::write(path("authorized_keys"), let_in.concat()).expect("the keys that are let in");
        if is_root() {
            run(Command::new("install").args(["-d", "-m", "0755", "/run/sshd"]));
        }
        let port = free_port();
        let shown = |name: &str| path(name).display().to_string();
        let config = [
            format!("Port {port}"),
            "ListenAddress 127.0.0.1".into(),
            format!("HostKey {}", shown("hostkey")),
            format!("PidFile {}", shown("pid")),
            format!("AuthorizedKeysFile {}", shown("authorized_keys")),
            "StrictModes no".into(),
            format!("UsePAM {}", if is_root() { "no" } else { "yes" }),
            "PasswordAuthentication no".into(),
            "KbdInteractiveAuthentication no".into(),
            "PermitRootLogin prohibit-password".into(),
            "AllowTcpForwarding yes".into(),
            "AllowStreamLocalForwarding yes".into(),
        ];
        std::fs::write(path("config"), config.join("\n") + "\n").expect("its settings");
        let host_key = std::fs::read_to_string(path("hostkey.pub")).expect("its key");
        let key: Vec<_> = host_key.split_whitespace().take(2).collect();
        std::fs::write(path("known"), format!("[127.0.0.1]:{port} {}\n", key.join(" "))).expect("known hosts");
        std::fs::write(path("unknown"), "").expect("no known hosts");
        let other = std::fs::read_to_string(path("stranger.pub")).expect("another key");
        let other: Vec<_> = other.split_whitespace().take(2).collect();
        std::fs::write(path("changed"), format!("[127.0.0.1]:{port} {}\n", other.join(" "))).expect("known hosts");
        let mut command = Command::new("setpriv");
        command.arg("--pdeathsig=TERM").arg(sshd).args(["-D", "-e", "-f"]).arg(path("config"));
        let ready = || std::net::TcpStream::connect(("127.0.0.1", port)).is_ok();
        let running = Running::start(command, path("log"), "-TERM", ready);
        let user = run(&mut Command::new("whoami")).trim().to_owned();
        Sshd { _running: running, folder, port, user }
    }

    /// An agent that holds the key which is let in.
    pub fn agent(&self) -> Agent {
        let socket = self.file("agent");
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig=TERM", "ssh-agent", "-D", "-a"]).arg(&socket);
        let running = Running::start(command, self.file("agent.log"), "-TERM", || socket.exists());
        run(Command::new("ssh-add").arg("-q").arg(self.file("id")).env("SSH_AUTH_SOCK", &socket));
        Agent { _running: running, socket }
    }

    /// A file of its folder: `id` is the key that is let in, `locked` one with a passphrase, `stranger` one that is not; `known`
    /// lists this server's key, `changed` another one for it, `unknown` none.
    pub fn file(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// `user@host:port`.
    pub fn address(&self) -> String {
        format!("{}@127.0.0.1:{}", self.user, self.port)
    }
}

/// An agent of SSH keys.
pub struct Agent {
    _running: Running,
    socket: PathBuf,
}

impl Agent {
    /// Where it listens.
    pub fn socket(&self) -> &Path {
        &self.socket
    }
}
