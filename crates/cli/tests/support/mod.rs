//! What the tests of the program share: a folder of its own for each, and two fluent helpers.
//! [`Call`] runs the program without a screen; [`Screen`] runs it in tmux, types, and looks.

#![allow(dead_code)]

pub mod desktop;

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

/// How long a screen may take to show what is waited for. Nothing is asserted about time: this only
/// keeps a failing test from hanging.
const PATIENCE: Duration = Duration::from_secs(60);

/// A folder in which the program has a home and a project.
pub struct Home {
    folder: tempfile::TempDir,
}

impl Home {
    pub fn new() -> Home {
        let home = Home { folder: tempfile::tempdir().unwrap() };
        std::fs::create_dir_all(home.path("project/.jaunty")).unwrap();
        home
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Writes a file of the project.
    pub fn file(self, name: &str, text: &str) -> Home {
        let file = self.path("project").join(name);
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        std::fs::write(file, text).unwrap();
        self
    }

    /// Makes a database in the project by these statements.
    pub fn database(self, name: &str, statements: &str) -> Home {
        let db = rusqlite::Connection::open(self.path("project").join(name)).unwrap();
        db.execute_batch(statements).unwrap();
        self
    }

    /// A project with a small database `ferry.db`, on which `ferry` is open, `careful` asks and
    /// `museum` is read-only.
    pub fn ferry() -> Home {
        Home::new()
            .database(
                "ferry.db",
                "create table ports(id integer primary key, name text, berths integer);
                 insert into ports(name, berths) values ('Saltmarsh', 6), ('Gullhaven', 4), ('Emberwick', null);
                 create view big as select * from ports where berths > 4;",
            )
            .file(
                ".jaunty/connections.toml",
                "[ferry]\nengine = \"sqlite\"\npath = \"../ferry.db\"\n
                 [careful]\nengine = \"sqlite\"\npath = \"../ferry.db\"\nguard = \"ask\"\n
                 [museum]\nengine = \"sqlite\"\npath = \"../ferry.db\"\nguard = \"read-only\"\nnote = \"look, don't touch\"\n",
            )
    }

    pub fn environment(&self) -> Vec<(String, String)> {
        let path = |name: &str| self.path(name).display().to_string();
        [
            ("HOME", path("home")),
            ("XDG_CONFIG_HOME", path("config")),
            ("XDG_DATA_HOME", path("data")),
            ("XDG_STATE_HOME", path("state")),
            // There is none: sockets lie in the state folder.
            ("XDG_RUNTIME_DIR", path("runtime")),
        ]
        .map(|(name, value)| (name.to_owned(), value))
        .to_vec()
    }

    pub fn call(&self, arguments: &[&str]) -> Call {
        let mut command = Command::new(env!("CARGO_BIN_EXE_jaunty"));
        command.args(arguments).current_dir(self.path("project")).envs(self.environment());
        Call { command, input: None }
    }

    pub fn screen(&self, arguments: &[&str]) -> Screen {
        Screen::start(self, (140, 42), arguments, &[])
    }

    /// The program where its archives stand on a disk of so many megabytes. It is a file system in
    /// memory that only the program sees; where that is not allowed, files that must not grow beyond
    /// this do nearly the same.
    pub fn on_a_small_disk(&self, megabytes: u32, arguments: &[&str]) -> Screen {
        let archives = self.path("state/jaunty/archives");
        std::fs::create_dir_all(&archives).unwrap();
        let script = self.path("small-disk");
        let mount = format!("mount -t tmpfs -o size={megabytes}m tmpfs '{}'", archives.display());
        let limit = format!("trap '' XFSZ; ulimit -f {}", megabytes * 2048);
        std::fs::write(
            &script,
            format!(
                "if [ \"$1\" = inside ]; then shift; {mount} && exec \"$@\"; fi\n\
             if unshare -rm true; then exec unshare -rm sh \"$0\" inside \"$@\"; fi\n\
             {limit}; exec \"$@\"\n"
            ),
        )
        .unwrap();
        Screen::through(self, (140, 42), &["sh", &script.display().to_string()], arguments, &[])
    }
}

/// The program without a screen.
pub struct Call {
    command: Command,
    input: Option<Vec<u8>>,
}

impl Call {
    /// Sets a variable of the environment.
    pub fn variable(mut self, name: &str, value: impl AsRef<std::ffi::OsStr>) -> Call {
        self.command.env(name, value);
        self
    }

    pub fn input(mut self, text: &str) -> Call {
        self.input = Some(text.as_bytes().to_vec());
        self
    }

    /// Begins, and does not wait for the end.
    pub fn begins(mut self) -> Going {
        use std::io::Write;
        let mut child =
            self.command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let mut stdin = child.stdin.take().unwrap();
        // One that does not read its input may be gone already.
        let _ = stdin.write_all(&self.input.unwrap_or_default());
        Going(child)
    }

    pub fn output(self) -> Output {
        self.begins().0.wait_with_output().unwrap()
    }

    /// Expects the exit code; returns standard output and standard error.
    pub fn exits(self, code: i32) -> (String, String) {
        self.begins().exits(code)
    }

    /// Expects success; returns standard output.
    pub fn gives(self) -> String {
        self.exits(0).0
    }
}

/// The program without a screen, at work.
pub struct Going(std::process::Child);

impl Going {
    /// Waits until something is so.
    pub fn until(mut self, what: &str, is: impl Fn() -> bool) -> Going {
        let deadline = Instant::now() + PATIENCE;
        while !is() {
            assert!(self.0.try_wait().unwrap().is_none(), "it ended before {what}");
            assert!(Instant::now() < deadline, "waited for {what}");
            std::thread::sleep(Duration::from_millis(20));
        }
        self
    }

    /// Waits for the first of its standard output. It comes no further than a pipe holds.
    pub fn until_it_writes(mut self) -> Going {
        use std::io::Read;
        self.0.stdout.as_mut().unwrap().read_exact(&mut [0]).unwrap();
        self
    }

    /// Sends what a terminal sends at `ctrl-c`.
    pub fn interrupted(self) -> Going {
        let sent = Command::new("kill").args(["-INT", &self.0.id().to_string()]).status().unwrap();
        assert!(sent.success());
        self
    }

    /// Expects the exit code; returns standard output and standard error.
    pub fn exits(self, code: i32) -> (String, String) {
        let output = self.0.wait_with_output().unwrap();
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
        let (out, err) = (text(output.stdout), text(output.stderr));
        assert_eq!(output.status.code(), Some(code), "standard output: {out}\nstandard error: {err}");
        (out, err)
    }
}

/// The program in a terminal.
pub struct Screen {
    socket: tempfile::TempDir,
}

impl Screen {
    pub fn start(home: &Home, size: (u16, u16), arguments: &[&str], environment: &[(&str, &str)]) -> Screen {
        Screen::through(home, size, &[], arguments, environment)
    }

    /// An example of the package instead of the program.
    pub fn of_example(name: &str, home: &Home, arguments: &[&str]) -> Screen {
        let program = Path::new(env!("CARGO_BIN_EXE_jaunty")).with_file_name("examples").join(name);
        // Cargo builds them with all tests, and not with those of one file.
        assert!(program.exists(), "there is no example yet; run: cargo build -p jaunty --examples");
        Screen::of(&program.display().to_string(), home, (140, 42), &[], arguments, &[])
    }

    /// Another program instead, as a text editor.
    pub fn of_program(program: &str, home: &Home, arguments: &[&str], environment: &[(&str, &str)]) -> Screen {
        Screen::of(program, home, (100, 30), &[], arguments, environment)
    }

    /// Starts it by way of another program.
    fn through(
        home: &Home,
        size: (u16, u16),
        through: &[&str],
        arguments: &[&str],
        environment: &[(&str, &str)],
    ) -> Screen {
        Screen::of(env!("CARGO_BIN_EXE_jaunty"), home, size, through, arguments, environment)
    }

    fn of(
        program: &str,
        home: &Home,
        (columns, rows): (u16, u16),
        through: &[&str],
        arguments: &[&str],
        environment: &[(&str, &str)],
    ) -> Screen {
        let screen = Screen { socket: tempfile::tempdir().unwrap() };
        std::fs::write(screen.socket.path().join("conf"), "set -g status off\nset -g default-terminal tmux-256color\nset -s escape-time 0\nset -s set-clipboard on\nset -g remain-on-exit on\n").unwrap();
        let quoted = |text: &str| format!("'{}'", text.replace('\'', r"'\''"));
        // What is copied in a test goes to no desktop of who runs it.
        let mut line = String::from("env -u DISPLAY -u WAYLAND_DISPLAY");
        let own = environment.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned()));
        for (name, value) in home.environment().into_iter().chain(own) {
            line.push_str(&format!(" {name}={}", quoted(&value)));
        }
        for word in through.iter().chain(&[program]).chain(arguments) {
            line.push_str(&format!(" {}", quoted(word)));
        }
        // The shell stays until the screen has been read. A program that was killed has not given the
        // terminal back.
        line.push_str("; code=$?; stty sane; printf '\\033[?1049l\\r\\nended with %s.\\r\\n' \"$code\"; cat");
        let (columns, rows) = (columns.to_string(), rows.to_string());
        let folder = home.path("project").display().to_string();
        screen.tmux(&["new-session", "-d", "-s", "main", "-x", &columns, "-y", &rows, "-c", &folder, &line]);
        screen
    }

    fn tmux(&self, arguments: &[&str]) -> String {
        let mut command = Command::new("tmux");
        command
            .arg("-f")
            .arg(self.socket.path().join("conf"))
            .arg("-S")
            .arg(self.socket.path().join("s"))
            .args(arguments);
        let output = command.env_remove("TMUX").output().expect("tmux runs; scripts/test installs it");
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Presses keys, by tmux's names for them.
    pub fn press(&self, keys: &[&str]) -> &Screen {
        for key in keys {
            self.tmux(&["send-keys", "-t", "main", key]);
            if *key == "Escape" {
                // What follows at once makes another key of it: a terminal tells the key by the pause.
                std::thread::sleep(Duration::from_millis(60));
            }
        }
        self
    }

    /// Types text.
    pub fn types(&self, text: &str) -> &Screen {
        // To tmux a semicolon at the end would end its own command.
        let escaped = text.strip_suffix(';').map(|rest| format!("{rest}\\;"));
        self.tmux(&["send-keys", "-t", "main", "-l", "--", escaped.as_deref().unwrap_or(text)]);
        self
    }

    /// Pastes text as a terminal does, between the marks of a bracketed paste.
    pub fn pastes(&self, text: &str) -> &Screen {
        self.tmux(&["set-buffer", "-b", "hand", text]);
        self.tmux(&["paste-buffer", "-p", "-r", "-b", "hand", "-t", "main"]);
        self
    }

    /// Clicks at a column and a line, both from 1.
    pub fn clicks(&self, column: u16, line: u16) -> &Screen {
        self.types(&format!("\x1b[<0;{column};{line}M\x1b[<0;{column};{line}m"))
    }

    pub fn resizes(&self, columns: u16, rows: u16) -> &Screen {
        self.tmux(&["resize-window", "-t", "main", "-x", &columns.to_string(), "-y", &rows.to_string()]);
        self
    }

    pub fn text(&self) -> String {
        self.tmux(&["capture-pane", "-p", "-t", "main"])
    }

    /// What the program has put into the clipboard.
    pub fn clipboard(&self) -> String {
        self.tmux(&["show-buffer"])
    }

    /// Waits until the screen is as wanted.
    pub fn until(&self, wanted: &str, is: impl Fn(&str) -> bool) -> &Screen {
        let deadline = Instant::now() + PATIENCE;
        loop {
            let text = self.text();
            if is(&text) {
                return self;
            }
            assert!(Instant::now() < deadline, "waited for {wanted} and saw\n{text}");
        }
    }

    /// Waits until the screen shows a text.
    pub fn shows(&self, text: &str) -> &Screen {
        self.until(&format!("{text:?}"), |screen| screen.contains(text))
    }

    /// Waits until the screen does not show a text any more.
    pub fn loses(&self, text: &str) -> &Screen {
        self.until(&format!("{text:?} to go"), |screen| !screen.contains(text))
    }

    /// The program's processes.
    pub fn processes(&self) -> Vec<String> {
        let shell = self.tmux(&["display-message", "-p", "-t", "main", "#{pane_pid}"]).trim().to_owned();
        let children = std::fs::read_to_string(format!("/proc/{shell}/task/{shell}/children")).unwrap();
        children.split_whitespace().map(str::to_owned).collect()
    }

    /// Kills the program as a crash does.
    pub fn kill(&self) {
        let killed = Command::new("kill").arg("-9").args(self.processes()).status().unwrap();
        assert!(killed.success());
        self.shows("ended with 137.");
    }

    /// Waits until the program has ended well.
    pub fn ends(&self) {
        self.shows("ended with 0.");
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

/// The text of a file of the project.
pub fn read(home: &Home, name: &str) -> String {
    std::fs::read_to_string(home.path("project").join(name)).unwrap()
}

/// Whether a folder is there and has something in it.
pub fn holds_something(folder: &Path) -> bool {
    std::fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some())
}
