//! Screens that stand beside the editor: they are told what its cursor is on, and run what they are asked to.
//!
//! A thread of its own does this, so that nothing of the editor waits for a screen.

use std::collections::HashMap;
use std::io::{BufReader, ErrorKind};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;
use std::time::Duration;

use ropey::Rope;
use serde_json::{Value, json};

use crate::socket::{ask, connect, project_of, sockets};

/// How long a screen may take to answer before it is left alone.
const PATIENCE: Duration = Duration::from_secs(5);

/// What screens are told.
#[derive(Debug, Clone)]
pub struct Place {
    /// The file.
    pub path: PathBuf,
    /// Its version in the editor.
    pub version: i64,
    /// The programming language that it is in; none for statements.
    pub host: Option<&'static str>,
    /// Its text.
    /// A rope shares its parts: it is only written out for a screen that has not got it.
    pub text: Rope,
    /// The byte of the cursor.
    pub at: usize,
    /// The name of its connection.
    pub connection: Option<String>,
    /// Whether the statement is to be run.
    pub runs: bool,
}

/// The way to the screens of a person.
#[derive(Debug)]
pub struct Panes {
    places: Sender<Place>,
    there: Arc<AtomicUsize>,
}

impl Panes {
    /// Looks for screens in this folder of sockets. `say` gets what they refuse.
    pub fn start(folder: PathBuf, say: impl Fn(String) + Send + 'static) -> std::io::Result<Panes> {
        let (places, inbox) = channel();
        let there = Arc::new(AtomicUsize::new(0));
        let count = Arc::clone(&there);
        thread::Builder::new().name("panes".into()).spawn(move || tell_all(&folder, &inbox, &count, &say))?;
        Ok(Panes { places, there })
    }

    /// Tells all screens of the file's project.
    pub fn tell(&self, place: Place) {
        let _ = self.places.send(place);
    }

    /// How many screens answered last.
    pub fn there(&self) -> usize {
        self.there.load(Ordering::Relaxed)
    }
}

fn tell_all(folder: &std::path::Path, inbox: &Receiver<Place>, there: &AtomicUsize, say: &dyn Fn(String)) {
    let mut open: HashMap<PathBuf, Stream> = HashMap::new();
    while let Ok(mut place) = inbox.recv() {
        // Of places that were only passed the last counts.
        while !place.runs
            && let Ok(next) = inbox.try_recv()
        {
            place = next;
        }
        let project = project_of(place.path.parent().unwrap_or(&place.path));
        let found = sockets(folder, &project);
        open.retain(|path, _| found.contains(path));
        let mut answered = 0;
        for path in found {
            let reached = match open.remove(&path) {
                // One that has ended since is connected to again, which finds nobody and removes its socket.
                Some(stream) => told_over(stream, &place).or_else(|error| match error.kind() {
                    // It may be about to run it: that is not asked for twice.
                    ErrorKind::WouldBlock | ErrorKind::TimedOut if place.runs => Err(error),
                    _ => told_over(reach(&path)?, &place),
                }),
                None => reach(&path).and_then(|stream| told_over(stream, &place)),
            };
            match reached {
                Ok((stream, outcome)) => {
                    answered += 1;
                    open.insert(path, stream);
                    if let Err(why) = outcome.map(drop)
                        && place.runs
                    {
                        say(why);
                    }
                }
                Err(error) => tracing::warn!(%error, "a screen does not answer"),
            }
            // What is run is run once, in the screen that began last.
            if place.runs && answered > 0 {
                break;
            }
        }
        there.store(answered, Ordering::Relaxed);
        if place.runs && answered == 0 {
            say("no pane is running for this project; start one in another terminal: jaunty --pane".to_owned());
        }
    }
}

type Stream = BufReader<UnixStream>;

fn reach(path: &std::path::Path) -> std::io::Result<Stream> {
    let stream = connect(path)?;
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    Ok(BufReader::new(stream))
}

fn told_over(mut stream: Stream, place: &Place) -> std::io::Result<(Stream, Result<Value, String>)> {
    let outcome = told(&mut stream, place)?;
    Ok((stream, outcome))
}

fn told(stream: &mut Stream, place: &Place) -> std::io::Result<Result<Value, String>> {
    let method = if place.runs { "screen.run" } else { "screen.follow" };
    let mut params = json!({"path": place.path, "version": place.version, "at": place.at});
    if let Some(host) = place.host {
        params["host"] = json!(host);
    }
    if let Some(connection) = &place.connection {
        params["connection"] = json!(connection);
    }
    let first = ask(stream, method, &params, |_| {})?;
    if first.as_ref().is_err_and(|why| why == TEXT_WANTED) {
        params["text"] = json!(place.text.to_string());
        return ask(stream, method, &params, |_| {});
    }
    Ok(first)
}

/// What a screen says that has not got the text.
pub const TEXT_WANTED: &str = "the text of this version is wanted";
