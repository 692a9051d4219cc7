//! Starting, waiting for and stopping a server.

use std::fs::{self, File};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// How long a server may take to start on a busy machine.
const START: Duration = Duration::from_secs(90);

/// Whether this process may act as other users.
pub fn is_root() -> bool {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("Uid:")).unwrap_or_default();
    line.split_whitespace().nth(2) == Some("0")
}

/// A command that runs as this user where we may choose; servers refuse to run as root.
pub fn command_as(user: &str, program: &str) -> Command {
    // A server must not outlive the tests, however they end.
    let mut command = Command::new("setpriv");
    command.arg("--pdeathsig=TERM");
    if is_root() {
        command.args([&format!("--reuid={user}"), &format!("--regid={user}"), "--init-groups"]);
    }
    command.arg(program);
    command
}

/// The first of these programs that is there.
pub fn program(candidates: &[&str], package: &str) -> String {
    let found = candidates.iter().find(|candidate| Path::new(candidate).exists());
    found.map_or_else(
        || panic!("none of {candidates:?} is here: install the package {package} (scripts/test does)"),
        |p| (*p).to_owned(),
    )
}

/// A folder that this user owns.
pub fn folder_of(user: &str) -> tempfile::TempDir {
    let folder = short_folder();
    own(user, folder.path());
    folder
}

/// A folder with a short path: those of sockets have less than 108 bytes. Its name tells which
/// process it belongs to, and folders of processes that are gone are removed: a server that lives as
/// long as its tests has nobody to do that.
pub fn short_folder() -> tempfile::TempDir {
    for entry in fs::read_dir("/tmp").into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let owner = name.strip_prefix("jqt-").and_then(|rest| rest.split('-').next()?.parse::<u32>().ok());
        if owner.is_some_and(|pid| !Path::new(&format!("/proc/{pid}")).exists()) {
            let _ = fs::remove_dir_all(entry.path());
        }
    }
    let prefix = format!("jqt-{}-", std::process::id());
    tempfile::Builder::new().prefix(&prefix).rand_bytes(4).tempdir_in("/tmp").expect("a folder in /tmp")
}

/// Gives a folder and what is in it to this user.
pub fn own(user: &str, path: &Path) {
    if is_root() {
        run(Command::new("chown").arg("-R").arg(format!("{user}:")).arg(path));
    }
}

/// A port that nobody listens at.
pub fn free_port() -> u16 {
    let listener = TcpListener::bind(("127.0.0.1", 0)).expect("a free port");
    listener.local_addr().expect("its number").port()
}

/// Runs a command to its end, which must be a good one.
pub fn run(command: &mut Command) -> String {
    let output = command.stdin(Stdio::null()).output().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{command:?} ended with {}: {said}", output.status);
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// A server's process. It is a child of ours: waiting for it is what ends it for good.
pub struct Running {
    child: Child,
    log: PathBuf,
    signal: &'static str,
}

impl Running {
    /// Starts it and waits until `ready` says so. `signal` ends it in order.
    pub fn start(mut command: Command, log: PathBuf, signal: &'static str, mut ready: impl FnMut() -> bool) -> Running {
        let out = File::options().create(true).append(true).open(&log).expect("the server's log");
        let err = out.try_clone().expect("the server's log");
        command.stdin(Stdio::null()).stdout(out).stderr(err);
        // The server ends with the thread that started it, so that is one which lasts.
        let (send, receive) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let child = command.spawn().unwrap_or_else(|error| panic!("{command:?}: {error}"));
            send.send(child).expect("the test waits for it");
            loop {
                std::thread::park();
            }
        });
        let child = receive.recv().expect("the server can be started");
        let mut running = Running { child, log, signal };
        let since = Instant::now();
        while !ready() {
            let ended = running.child.try_wait().expect("the server's state");
            let tail = || fs::read_to_string(&running.log).unwrap_or_default();
            assert!(ended.is_none(), "the server ended: {}", tail());
            assert!(since.elapsed() < START, "the server does not answer: {}", tail());
            std::thread::sleep(Duration::from_millis(30));
        }
        running
    }

    /// Ends it at once, with no farewell to its clients, and waits until it is gone.
    pub fn kill(&mut self) {
        let children: Vec<_> = children_of(self.child.id());
        let _ = self.child.kill();
        for pid in children {
            let _ = Command::new("kill").args(["-KILL", &pid.to_string()]).status();
        }
        let _ = self.child.wait();
    }
}

/// The processes that this one started.
fn children_of(pid: u32) -> Vec<u32> {
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let numbered = processes.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    let parent = |pid: u32| {
        let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
        // The name in parentheses may hold anything; behind it come the state and the parent.
        stat.rsplit_once(')')?.1.split_whitespace().nth(1)?.parse::<u32>().ok()
    };
    numbered.filter(|other| parent(*other) == Some(pid)).collect()
}

impl Drop for Running {
    fn drop(&mut self) {
        if matches!(self.child.try_wait(), Ok(None)) {
            let _ = Command::new("kill").args([self.signal, &self.child.id().to_string()]).status();
            let since = Instant::now();
            while matches!(self.child.try_wait(), Ok(None)) {
                if since.elapsed() > Duration::from_secs(10) {
                    let _ = self.child.kill();
                    let _ = self.child.wait();
                    return;
                }
                std::thread::sleep(Duration::from_millis(10));
            }
        }
    }
}

/// A certificate of a server for `localhost` and 127.0.0.1, one of a client, and the authority that
/// issued both.
#[derive(Debug, Clone)]
pub struct Certificates {
    /// The authority's certificate, to be trusted by clients.
    pub ca: PathBuf,
    /// The server's certificate.
    pub cert: PathBuf,
    /// Its key.
    pub key: PathBuf,
    /// The certificate of a client, for `clerk`.
    pub client: PathBuf,
    /// Its key.
    pub client_key: PathBuf,
}

impl Certificates {
    /// Makes them in a folder.
    pub fn make(folder: &Path, user: &str) -> Certificates {
        let file = |name: &str| folder.join(name);
        let made = Certificates {
            ca: file("ca.crt"),
            cert: file("server.crt"),
            key: file("server.key"),
            client: file("client.crt"),
            client_key: file("client.key"),
        };
        let (ca_key, request, names) = (folder.join("ca.key"), folder.join("server.csr"), folder.join("names"));
        let openssl = |words: &[&str], files: &[(&str, &Path)]| {
            let mut command = Command::new("openssl");
            command.args(words);
            for (name, file) in files {
                command.arg(name).arg(file);
            }
            run(&mut command);
        };
        let new = ["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes"];
        openssl(
            &[&["req", "-x509", "-days", "30", "-subj", "/CN=Saltmarsh Line"], &new[..]].concat(),
            &[("-keyout", &ca_key), ("-out", &made.ca)],
        );
        fs::write(&names, "subjectAltName=DNS:localhost,IP:127.0.0.1\nbasicConstraints=CA:FALSE\n").expect("the names");
        // The server's own, and one for a client that is let in as `clerk`.
        for (subject, key, cert) in
            [("/CN=localhost", &made.key, &made.cert), ("/CN=clerk", &made.client_key, &made.client)]
        {
            openssl(&[&["req", "-subj", subject], &new[..]].concat(), &[("-keyout", key), ("-out", &request)]);
            let files: [(&str, &Path); 5] =
                [("-in", &request), ("-CA", &made.ca), ("-CAkey", &ca_key), ("-extfile", &names), ("-out", cert)];
            openssl(&["x509", "-req", "-days", "30", "-CAcreateserial"], &files);
        }
        for file in [&made.key, &made.cert, &made.ca] {
            own(user, file);
        }
        made
    }
}
