//! Asking a person at the terminal, without a screen: for a password, or whether to do something.

use std::io::{self, Write};

use crossterm::event::{Event, KeyCode, KeyEventKind, KeyModifiers, read};
use crossterm::terminal::{disable_raw_mode, enable_raw_mode};
use jaunty_seam::profile::Secret;
use zeroize::Zeroizing;

/// Asks for a password; what is typed is not shown.
pub fn password(prompt: &str) -> io::Result<Secret> {
    // Before anybody can answer: what is typed earlier would be shown.
    enable_raw_mode()?;
    eprint!("{}", prompt.replace('\n', "\r\n"));
    let typed = io::stderr().flush().and_then(|()| type_in());
    disable_raw_mode()?;
    eprintln!();
    typed.map(|text| Secret::new(text.to_string()))
}

/// Asks whether to do something; anything but a `y` is a no.
pub fn yes(prompt: &str) -> io::Result<bool> {
    eprint!("{prompt} [y/n] ");
    io::stderr().flush()?;
    let mut answer = String::new();
    io::stdin().read_line(&mut answer)?;
    Ok(answer.trim().eq_ignore_ascii_case("y") || answer.trim().eq_ignore_ascii_case("yes"))
}

fn type_in() -> io::Result<Zeroizing<String>> {
    let mut text = Zeroizing::new(String::new());
    loop {
        let Event::Key(key) = read()? else { continue };
        if key.kind == KeyEventKind::Release {
            continue;
        }
        match key.code {
            KeyCode::Enter => return Ok(text),
            // What was typed before the prompt was there ends its line so.
            KeyCode::Char('j' | 'm') if key.modifiers.contains(KeyModifiers::CONTROL) => return Ok(text),
            KeyCode::Esc => return Err(io::Error::new(io::ErrorKind::Interrupted, "no password was given")),
            KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => {
                return Err(io::Error::new(io::ErrorKind::Interrupted, "no password was given"));
            }
            KeyCode::Backspace => drop(text.pop()),
            KeyCode::Char(c) if !key.modifiers.contains(KeyModifiers::CONTROL) => text.push(c),
            _ => {}
        }
    }
}
