//! The real program in a pseudoterminal.

use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};

/// Builds the program as people run it, and tells where it is.
pub fn build() -> io::Result<PathBuf> {
    let cargo = std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let status =
        Command::new(cargo).args(["build", "--release", "--quiet", "-p", "jaunty"]).current_dir(&root).status()?;
    if !status.success() {
        return Err(io::Error::other("the program could not be built"));
    }
    let target = std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| root.join("target"), PathBuf::from);
    Ok(target.join("release").join("jaunty"))
}

/// The program, running.
pub struct Program {
    child: Box<dyn Child + Send + Sync>,
    writer: Box<dyn Write + Send>,
    output: Receiver<(Instant, Vec<u8>)>,
    screen: vt100::Parser,
    /// When it was started.
    pub started: Instant,
    _master: Box<dyn MasterPty + Send>,
}

impl Program {
    /// Starts it with these arguments in a terminal of 140 × 42, with all its files below `home`, so that
    /// all rows come at once.
    pub fn start(program: &Path, home: &Path, arguments: &[&str]) -> io::Result<Program> {
        Program::start_with(program, home, "[archives]\nahead_rows = 1000000000\nahead_mib = 1000000\n", arguments)
    }

    /// Starts it with these settings.
    pub fn start_with(program: &Path, home: &Path, settings: &str, arguments: &[&str]) -> io::Result<Program> {
        let size = PtySize { rows: 42, cols: 140, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).map_err(io::Error::other)?;
        let mut command = CommandBuilder::new(program);
        command.args(arguments);
        command.cwd(home);
        for (name, value) in
            [("HOME", ""), ("XDG_STATE_HOME", "state"), ("XDG_CONFIG_HOME", "config"), ("XDG_DATA_HOME", "data")]
        {
            command.env(name, home.join(value));
        }
        command.env("TERM", "xterm-256color");
        let file = home.join("config/jaunty/settings.toml");
        std::fs::create_dir_all(file.parent().unwrap_or(home))?;
        std::fs::write(file, settings)?;
        let started = Instant::now();
        let child = pair.slave.spawn_command(command).map_err(io::Error::other)?;
        drop(pair.slave);
        let mut reader = pair.master.try_clone_reader().map_err(io::Error::other)?;
        let writer = pair.master.take_writer().map_err(io::Error::other)?;
        let (post, output) = channel();
        std::thread::spawn(move || {
            let mut bytes = [0; 1 << 16];
            while let Ok(count) = reader.read(&mut bytes) {
                if count == 0 || post.send((Instant::now(), bytes[..count].to_vec())).is_err() {
                    break;
                }
            }
        });
        Ok(Program { child, writer, output, screen: vt100::Parser::new(42, 140, 0), started, _master: pair.master })
    }

    /// Types bytes; returns when.
    pub fn types(&mut self, bytes: &str) -> io::Result<Instant> {
        let now = Instant::now();
        self.writer.write_all(bytes.as_bytes())?;
        self.writer.flush()?;
        Ok(now)
    }

    /// Whether the screen shows a text now.
    pub fn is_showing(&mut self, text: &str) -> bool {
        while let Ok((_, bytes)) = self.output.try_recv() {
            self.screen.process(&bytes);
        }
        self.screen.screen().contents().contains(text)
    }

    /// Waits until the screen shows a text; returns when that came.
    pub fn shows(&mut self, text: &str) -> io::Result<Instant> {
        self.until(text, |screen| screen.contains(text))
    }

    /// Waits until the screen does not show a text any more; returns when it went.
    pub fn loses(&mut self, text: &str) -> io::Result<Instant> {
        self.until(text, |screen| !screen.contains(text))
    }

    /// Waits until the screen shows one text, or does not show the other any more; whether and when it was
    /// the first.
    pub fn shows_while(&mut self, text: &str, other: &str) -> io::Result<Option<Instant>> {
        let came = self.until(text, |screen| screen.contains(text) || !screen.contains(other))?;
        Ok(self.is_showing(text).then_some(came))
    }

    fn until(&mut self, text: &str, is: impl Fn(&str) -> bool) -> io::Result<Instant> {
        let deadline = Instant::now() + Duration::from_secs(120);
        let mut came = Instant::now();
        while !is(&self.screen.screen().contents()) {
            let left = deadline.saturating_duration_since(Instant::now());
            let received = self.output.recv_timeout(left);
            let never =
                |_| io::Error::other(format!("waited for {text:?} and saw\n{}", self.screen.screen().contents()));
            let (when, bytes) = received.map_err(never)?;
            self.screen.process(&bytes);
            came = when;
        }
        Ok(came)
    }

    /// The most memory it has had, in MB; from the kernel's `VmHWM`.
    pub fn peak_memory(&self) -> io::Result<f64> {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.id()?))?;
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kb = line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<f64>().ok());
        kb.map(|kb| kb / 1024.0).ok_or_else(|| io::Error::other("the kernel does not tell"))
    }

    /// The processor time it has had, in the kernel's ticks (a hundredth of a second).
    pub fn processor_ticks(&self) -> io::Result<u64> {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.id()?))?;
        let after_name = stat.rsplit_once(')').map_or("", |(_, rest)| rest);
        let fields: Vec<_> = after_name.split_whitespace().collect();
        Ok([11, 12].iter().filter_map(|i| fields.get(*i)?.parse::<u64>().ok()).sum())
    }

    fn id(&self) -> io::Result<u32> {
        self.child.process_id().ok_or_else(|| io::Error::other("it has ended"))
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
