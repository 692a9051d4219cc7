//! The screen, for other programs: what they ask on its socket becomes a wish of [`jaunty_tui`].

use std::io;
use std::path::{Path, PathBuf};
use std::sync::mpsc::channel;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use jaunty_language::host::{self, Code};
use jaunty_serve::panes::TEXT_WANTED;
use jaunty_serve::service::Service;
use jaunty_serve::socket::{self, Listening, Tell};
use jaunty_serve::wire::Refusal;
use jaunty_serve::{Options, socket::Answer};
use jaunty_tui::action::ACTIONS;
use jaunty_tui::app::{Message, NotDone, Place, Post, Remote, Standing, Watcher, Wish};
use serde_json::{Map, Value, json};

/// How long the screen may take: it never waits itself, but may be lent to a text editor.
const PATIENCE: Duration = Duration::from_secs(4);

/// The socket of a screen, from when it is open until it ends.
#[derive(Clone, Default)]
pub struct Listener(Arc<Mutex<Option<Listening>>>);

impl Listener {
    /// What begins to listen, as soon as the screen says where wishes go.
    pub fn begin(self, options: Options, project: PathBuf) -> Box<dyn FnOnce(Post) + Send> {
        Box::new(move |post| {
            let folder = socket::folder(&options.folders);
            let screen = move |method: &str, given: &Map<String, Value>, tell: &Tell| asked(&post, method, given, tell);
            let service = Service::new(options, Some(Box::new(screen)));
            let answer: Answer = Arc::new(move |method, params, tell| service.answer(method, params, tell));
            match socket::listen(&folder, &project, answer) {
                Ok(listening) => *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(listening),
                // The screen is one without it, too.
                Err(error) => tracing::warn!(%error, "other programs cannot reach this screen"),
            }
        })
    }

    /// Ends it, and removes the socket.
    pub fn end(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take();
    }
}

/// Puts a wish to the screen, and waits for what comes of it.
fn asked(post: &Post, method: &str, given: &Map<String, Value>, tell: &Tell) -> Result<Value, Refusal> {
    let text = |name: &str| given.get(name).and_then(Value::as_str).map(str::to_owned);
    let number = |name: &str| given.get(name).and_then(Value::as_u64).unwrap_or_default();
    // Code is read here: the screen does not wait for it.
    let code = || -> Result<Option<Code>, Refusal> {
        let Some((name, text)) = text("host").zip(text("text")) else { return Ok(None) };
        let unknown = || Refusal::params(format!("no programming language is named \"{name}\" here"));
        let named = host::by_name(&name).or((name == host::PLAIN.name).then_some(&host::PLAIN));
        Ok(Some(Code::new(&text, named.ok_or_else(unknown)?)))
    };
    let place = || -> Result<Place, Refusal> {
        Ok(Place {
            path: PathBuf::from(text("path").unwrap_or_default()),
            version: i64::try_from(number("version")).unwrap_or(i64::MAX),
            text: text("text"),
            code: code()?,
            at: usize::try_from(number("at")).unwrap_or(usize::MAX),
            connection: text("connection"),
        })
    };
    let wish = match method {
        "screen.actions" => return Ok(actions()),
        "screen.follow" => Wish::Follow(place()?),
        "screen.run" => Wish::Run(place()?),
        "screen.act" => Wish::Act(text("action").unwrap_or_default()),
        "screen.watch" => {
            let watcher = watcher(Arc::clone(tell));
            Wish::Watch(watcher.map_err(|error| Refusal::failed(format!("a thread could not be started: {error}")))?)
        }
        _ => Wish::State,
    };
    let (send, answer) = channel();
    let reply = Box::new(move |done| drop(send.send(done)));
    post(Message::Wished(Remote { wish, reply }));
    match answer.recv_timeout(PATIENCE) {
        Ok(Ok(standing)) => Ok(told(&standing)),
        Ok(Err(NotDone::TextWanted)) => Err(Refusal::failed(TEXT_WANTED)),
        Ok(Err(NotDone::Refused(why))) => Err(Refusal::failed(why)),
        Err(_) => Err(Refusal::failed("the screen does not answer; a text editor may have its terminal")),
    }
}

/// What the screen tells on its way to a program.
#[derive(Default)]
struct Latest {
    state: Mutex<(Option<Standing>, Ended)>,
    there: Condvar,
}

/// Whether nothing more comes, or nobody takes it.
#[derive(Clone, Copy, Default, PartialEq, Eq)]
enum Ended {
    #[default]
    No,
    Screen,
    Program,
}

impl Latest {
    fn lock(&self) -> MutexGuard<'_, (Option<Standing>, Ended)> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn end(&self, ended: Ended) {
        self.lock().1 = ended;
        self.there.notify_all();
    }

    /// The next state; none when no more come.
    fn wait(&self) -> Option<Standing> {
        let waits = |state: &mut (Option<Standing>, Ended)| state.0.is_none() && state.1 == Ended::No;
        self.there.wait_while(self.lock(), waits).unwrap_or_else(PoisonError::into_inner).0.take()
    }
}

/// Ends it with the screen.
struct OfScreen(Arc<Latest>);

impl Drop for OfScreen {
    fn drop(&mut self) {
        self.0.end(Ended::Screen);
    }
}

/// Tells a program what the screen tells, on a thread of its own: the screen never waits for a program that reads slowly,
/// which gets the latest state then.
fn watcher(tell: Tell) -> io::Result<Watcher> {
    let latest = Arc::new(Latest::default());
    let theirs = Arc::clone(&latest);
    let pass_on = move || {
        while let Some(standing) = theirs.wait() {
            if !tell(json!({"jsonrpc": "2.0", "method": "screen.changed", "params": told(&standing)})) {
                return theirs.end(Ended::Program);
            }
        }
    };
    std::thread::Builder::new().name("watch".into()).spawn(pass_on)?;
    let ours = OfScreen(latest);
    Ok(Box::new(move |standing| {
        let mut state = ours.0.lock();
        state.0 = Some(standing.clone());
        ours.0.there.notify_all();
        state.1 != Ended::Program
    }))
}

/// All actions of the screen.
pub fn actions() -> Value {
    let one = |action: &jaunty_tui::action::Action| {
        json!({
            "name": action.name, "title": action.title, "help": action.help, "keys": action.keys,
            "where": action.scope.word(),
        })
    };
    ACTIONS.iter().map(one).collect()
}

fn told(standing: &Standing) -> Value {
    let run = standing
        .run
        .as_ref()
        .map(|(number, rows, outcome)| json!({"run": number, "rows": rows, "outcome": outcome.word()}));
    json!({
        "guest": standing.guest, "connection": standing.connection, "database": standing.database,
        "path": standing.path, "statement": standing.statement, "run": run, "told": standing.told,
    })
}

/// The socket of a screen that runs for the project of a folder; none where no screen answers.
pub fn reach(folders: &jaunty_core::files::Folders, here: &Path) -> Option<std::os::unix::net::UnixStream> {
    let found = socket::sockets(&socket::folder(folders), &socket::project_of(here));
    found.iter().find_map(|path| socket::connect(path).ok())
}
