//! A desktop and its clipboard, for programs that use one.

use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Child, Command, Stdio};

/// A desktop without a monitor.
pub struct Desktop {
    server: Child,
    /// Its name, for `DISPLAY`.
    pub display: String,
}

impl Desktop {
    pub fn start() -> Desktop {
        let mut server = Command::new("Xvfb")
            .args(["-displayfd", "1", "-nolisten", "tcp"])
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("Xvfb runs; scripts/test installs it");
        let mut number = String::new();
        BufReader::new(server.stdout.take().unwrap()).read_line(&mut number).unwrap();
        Desktop { server, display: format!(":{}", number.trim()) }
    }

    /// What another program finds in the clipboard.
    pub fn clipboard(&self) -> String {
        let mut reader = Command::new("xclip");
        reader.args(["-out", "-selection", "clipboard"]).env("DISPLAY", &self.display);
        let output = reader.output().expect("xclip runs; scripts/test installs it");
        String::from_utf8(output.stdout).unwrap()
    }

    /// Puts a text into the clipboard, as another program does; that one stays there to hand it out.
    pub fn copy(&self, text: &str) {
        let mut writer = Command::new("xclip");
        writer.args(["-in", "-selection", "clipboard"]).env("DISPLAY", &self.display);
        let mut writer = writer.stdin(Stdio::piped()).stdout(Stdio::null()).spawn().expect("xclip runs");
        writer.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
        assert!(writer.wait().unwrap().success());
    }
}

impl Drop for Desktop {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}
