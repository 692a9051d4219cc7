//! The server: it takes what comes in order, from the editor and from connections, and answers it.
//!
//! One thread has all of it and never waits for a database: sessions have threads of their own, and tell.

use std::collections::{HashMap, HashSet, VecDeque};
use std::io::{self, BufRead, Write};
use std::sync::mpsc::{Receiver, RecvTimeoutError, TryRecvError, channel};
use std::thread;
use std::time::{Duration, Instant};

use jaunty_core::complete::snippets;
use serde_json::{Value, json};

use crate::answers::{ANSWERS, abilities};
use crate::client::{Abilities, Asked, Client, Weight};
use crate::link::Link;
use crate::panes::Panes;
use crate::socket;
use crate::state::{Event, Options, Server, Stage};
use crate::text::{Text, language_of};
use crate::wire::{self, Incoming, METHOD_NOT_FOUND, NOT_INITIALIZED, Refusal};

/// Requests about whole documents, which editors repeat after each change: what is asked about one place goes first.
const LATER: &[&str] = &[
    "textDocument/documentSymbol",
    "textDocument/foldingRange",
    "textDocument/semanticTokens/full",
    "textDocument/codeLens",
    "workspace/symbol",
    "textDocument/references",
];

/// How long what was stopped may take to end, once the editor is gone.
const SETTLES: Duration = Duration::from_secs(4);

/// How the server ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ended {
    /// As the protocol has it: after `shutdown`.
    WhenAsked,
    /// The editor went away without it.
    Alone,
}

/// Serves an editor until it ends: what it says is read from `input`, and what it is told goes to `output`.
pub fn serve(
    mut input: impl BufRead + Send + 'static,
    mut output: impl Write + Send + 'static,
    options: Options,
) -> io::Result<Ended> {
    let (events, inbox) = channel();
    let (send, outbox) = channel::<Value>();
    let writer = thread::Builder::new().name("to the editor".into()).spawn(move || {
        for message in outbox {
            // An editor that does not read any more has ended, which reading tells too.
            if wire::write(&mut output, &message).is_err() {
                break;
            }
        }
    })?;
    let told = events.clone();
    thread::Builder::new().name("from the editor".into()).spawn(move || {
        while let Ok(Some(incoming)) = wire::read(&mut input) {
            if told.send(Event::Incoming(incoming)).is_err() {
                return;
            }
        }
        let _ = told.send(Event::End);
    })?;
    let client = Client::new(move |message| {
        let _ = send.send(message);
    });
    let (snippets, problems) = snippets::all(&[&options.folders.snippets()]);
    problems.iter().for_each(|problem| tracing::warn!(%problem, "snippets"));
    let mut server = Server {
        client,
        texts: HashMap::new(),
        links: Vec::new(),
        options,
        snippets,
        unanswered: HashMap::new(),
        told: HashMap::new(),
        pages: HashMap::new(),
        later: VecDeque::new(),
        passing: HashSet::new(),
        panes: None,
        next: 1,
        stage: Stage::New,
        events,
    };
    let said = server.sayer();
    let say = move |sentence| said(Weight::Error, sentence);
    server.panes = Panes::start(socket::folder(&server.options.folders), say)
        .inspect_err(|error| tracing::warn!(%error, "screens beside the editor are not told"))
        .ok();
    server.sweep_documents();
    let ended = server.work(&inbox);
    server.links.iter().for_each(Link::stop);
    server.settle(&inbox);
    server.clear_documents();
    server.options.keeping.clear_unremembered();
    drop(server);
    // What was sent before the end reaches the editor.
    let _ = writer.join();
    Ok(ended)
}

impl Server {
    fn work(&mut self, inbox: &Receiver<Event>) -> Ended {
        loop {
            let event = match self.rests_for() {
                _ if !self.later.is_empty() => match inbox.try_recv() {
                    Err(TryRecvError::Empty) => {
                        if let Some((id, method, params)) = self.later.pop_front() {
                            self.respond(&id, &method, &params);
                        }
                        continue;
                    }
                    other => other.ok(),
                },
                Some(rest) => match inbox.recv_timeout(rest) {
                    Err(RecvTimeoutError::Timeout) => {
                        self.look_for_trouble();
                        continue;
                    }
                    other => other.ok(),
                },
                None => inbox.recv().ok(),
            };
            match event {
                Some(Event::Incoming(incoming)) => {
                    if let Some(ended) = self.take(incoming) {
                        return ended;
                    }
                }
                Some(Event::Report(number, report)) => self.reported(number, report),
                Some(Event::Said(weight, sentence)) => self.client.tell(weight, &sentence),
                Some(Event::End) | None => {
                    return if self.stage == Stage::ShutDown { Ended::WhenAsked } else { Ended::Alone };
                }
            }
        }
    }

    /// Waits a little until what was stopped has ended on its servers too, and is in the logbook.
    fn settle(&mut self, inbox: &Receiver<Event>) {
        let until = Instant::now() + SETTLES;
        while self.links.iter().any(|link| !link.asked.is_empty())
            && let Some(left) = until.checked_duration_since(Instant::now())
        {
            match inbox.recv_timeout(left) {
                Ok(Event::Report(number, report)) => self.reported(number, report),
                Ok(_) => {}
                Err(_) => return,
            }
        }
    }

    fn take(&mut self, incoming: Incoming) -> Option<Ended> {
        match incoming {
            Incoming::Request { id, method, params } => match LATER.contains(&method.as_str()) {
                true => self.later.push_back((id, method, params)),
                false => self.respond(&id, &method, &params),
            },
            Incoming::Notification { method, params } => {
                if method == "exit" {
                    return Some(if self.stage == Stage::ShutDown { Ended::WhenAsked } else { Ended::Alone });
                }
                if self.stage == Stage::Open {
                    self.told(&method, &params);
                }
            }
            Incoming::Response { id, result } => self.answered(&id, result.ok()),
            Incoming::Garbled(answer) => self.client.send(answer),
        }
        None
    }

    fn respond(&mut self, id: &Value, method: &str, params: &Value) {
        let answer = match self.answer(method, params) {
            Ok(result) => json!({"jsonrpc": "2.0", "id": id, "result": result}),
            Err(refusal) => refusal.to(id),
        };
        self.client.send(answer);
    }

    /// Answers no more what an editor does not want any more, as far as it waits.
    fn give_up(&mut self, id: &Value) {
        if let Some(at) = self.later.iter().position(|(waiting, ..)| waiting == id) {
            self.later.remove(at);
            let refusal = Refusal { code: wire::REQUEST_CANCELLED, message: "cancelled".to_owned() };
            self.client.send(refusal.to(id));
        }
    }

    fn answer(&mut self, method: &str, params: &Value) -> Result<Value, Refusal> {
        match (method, self.stage) {
            ("initialize", Stage::New) => {
                self.client.can = Abilities::of(params);
                self.stage = Stage::Open;
                let mut abilities = abilities();
                abilities["positionEncoding"] = json!(self.client.can.encoding.word());
                let version = env!("CARGO_PKG_VERSION");
                return Ok(json!({"capabilities": abilities, "serverInfo": {"name": "jaunty", "version": version}}));
            }
            ("initialize", _) => {
                return Err(Refusal { code: wire::INVALID_REQUEST, message: "initialized already".into() });
            }
            (_, Stage::New) => {
                return Err(Refusal { code: NOT_INITIALIZED, message: "initialize comes first".into() });
            }
            (_, Stage::ShutDown) => {
                return Err(Refusal {
                    code: wire::INVALID_REQUEST,
                    message: "nothing comes after shutdown but exit".into(),
                });
            }
            ("shutdown", Stage::Open) => {
                self.stage = Stage::ShutDown;
                self.links.iter().for_each(Link::stop);
                return Ok(Value::Null);
            }
            _ => {}
        }
        let Some((_, answer)) = ANSWERS.iter().find(|(name, _)| *name == method) else {
            return Err(Refusal { code: METHOD_NOT_FOUND, message: format!("the method {method} is not known") });
        };
        let answered = answer(self, params)?;
        // Editors ask this at each rest of the cursor. (Help is asked for wherever a mouse rests.)
        if method == "textDocument/documentHighlight"
            && let Ok((text, at)) = self.place(params)
        {
            self.tell_panes(text, at, false);
        }
        Ok(answered)
    }

    fn told(&mut self, method: &str, params: &Value) {
        let document = &params["textDocument"];
        let uri = document["uri"].as_str().unwrap_or_default();
        match method {
            "textDocument/didOpen" => {
                let text = document["text"].as_str().unwrap_or_default();
                let language = language_of(uri, document["languageId"].as_str().unwrap_or_default());
                let version = document["version"].as_i64().unwrap_or_default();
                let text = Text::new(uri, version, text, language, self.client.can.encoding);
                self.texts.insert(uri.to_owned(), text);
                self.connect(uri);
            }
            "textDocument/didChange" => {
                let encoding = self.client.can.encoding;
                let Some(text) = self.texts.get_mut(uri) else { return };
                let before = text.connection_line();
                for change in params["contentChanges"].as_array().into_iter().flatten() {
                    text.change(change, encoding);
                }
                text.version = document["version"].as_i64().unwrap_or(text.version + 1);
                if text.connection_line() != before {
                    self.connect(uri);
                }
            }
            "textDocument/didClose" => {
                self.texts.remove(uri);
                self.told.remove(uri);
                self.client.notify("textDocument/publishDiagnostics", json!({"uri": uri, "diagnostics": []}));
            }
            // A file of connections may have been changed meanwhile.
            "textDocument/didSave" => self.connect(uri),
            "workspace/didChangeWatchedFiles" => {
                let all: Vec<String> = self.texts.keys().cloned().collect();
                all.iter().for_each(|uri| self.connect(uri));
            }
            "$/cancelRequest" => self.give_up(&params["id"]),
            "window/workDoneProgress/cancel" => {
                let token = params["token"].as_str().unwrap_or_default();
                let of = |link: &&Link| link.asked.iter().any(|asked| asked.token == token);
                self.links.iter().filter(of).for_each(Link::stop);
            }
            _ => {}
        }
    }

    fn answered(&mut self, id: &Value, result: Option<Value>) {
        match self.client.answered(id) {
            Some(Asked::MayRun(number)) => self.may_run(number, result.as_ref()),
            Some(Asked::Shown(instead)) => {
                let shown = result.is_some_and(|result| result["success"] == true);
                if !shown {
                    self.client.tell(Weight::Info, &instead);
                }
            }
            Some(Asked::Nothing) | None => {}
        }
    }

    fn rests_for(&self) -> Option<Duration> {
        self.texts.values().filter_map(|text| text.troubles.rests_for()).min()
    }
}
