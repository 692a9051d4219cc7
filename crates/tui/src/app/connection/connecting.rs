//! Connecting: making a connection, taking one in hand, a second session beside it, and letting go.

use std::sync::Arc;

use jaunty_core::connection::consent;
use jaunty_core::run::{ConnectionWorker, Order};
use jaunty_language::text::clean;
use jaunty_seam::engine::{Engine, Location, Question};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::{Profile, Secret};

use super::{Connection, Link};
use crate::app::overlay::prompt::Asked;
use crate::app::{App, Message, Overlay, Prompt};

impl App {
    /// Runs the buffer in hand on this connection from now on. One that is open already is taken
    /// up again; the one in hand stays open.
    pub fn connect(&mut self, profile: Profile) {
        let name = profile.name.clone();
        self.connect_with(profile, None);
        if let Some(written) = self.buffer.connection_line().filter(|written| *written != name) {
            let (file, written, name) = (self.buffer.name(), clean::clean(&written), clean::clean(&name));
            self.tell(format!("{file} names the connection {written} at its top; it is on {name} now"));
        }
    }

    /// The same for one that a person chose.
    pub(in crate::app) fn connect_as_chosen(&mut self, profile: Profile) {
        if let Err(error) = consent::give(&self.folders, &profile) {
            tracing::warn!(%error, "consent could not be noted");
        }
        self.connect(profile);
    }

    /// [`App::connect`], with a secret that a person gave.
    pub(in crate::app) fn connect_with(&mut self, profile: Profile, secret: Option<Secret>) {
        let Some(engine) = self.engines.iter().copied().find(|engine| engine.name() == profile.engine) else {
            return self.tell_wrong(format!("unknown engine {}", profile.engine));
        };
        self.buffer.connection = Some(profile.name.clone());
        self.buffer.document.set_dialect(engine.dialect());
        let same = |connection: &Connection| connection.profile.as_ref().is_some_and(|other| other.leads_as(&profile));
        if same(&self.connection) && !matches!(self.connection.link, Link::Failed(_)) {
            return;
        }
        let open = self.background.iter().position(same).filter(|_| secret.is_none());
        let next = match open {
            Some(at) => self.background.remove(at),
            None => match self.open_session(engine, profile, secret) {
                Some(connection) => connection,
                None => return,
            },
        };
        self.exchange(next);
        let warning = self.connection.profile.as_ref().and_then(Profile::plain_password_warning);
        if let Some(warning) = warning.filter(|warning| self.warned.insert(warning.clone())) {
            self.tell_wrong(warning);
        }
        if let Some(report) = self.connection.unanswered.take() {
            self.report(self.connection.number, report);
        }
    }

    /// Begins to connect. Nothing if this machine gives no thread for it, which is told then.
    fn open_session(
        &mut self,
        engine: &'static dyn Engine,
        profile: Profile,
        secret: Option<Secret>,
    ) -> Option<Connection> {
        self.connections += 1;
        let (number, post) = (self.connections, Arc::clone(&self.post));
        let tell = move |report| post(Message::Report(number, report));
        match ConnectionWorker::open(engine, profile.clone(), secret.clone(), self.keeping.clone(), tell) {
            Ok(worker) => Some(Connection {
                profile: Some(profile),
                link: Link::Opening,
                worker: Some(worker),
                number,
                secret,
                ..Connection::none()
            }),
            Err(error) => {
                self.tell_wrong(format!("the connection could not be started: {error}"));
                None
            }
        }
    }

    /// Takes a second session of the profile in hand, or goes back to the first one. Each has transactions,
    /// settings and temporary tables of its own; what ran on either is in sight from both. What waits behind another
    /// statement comes along, unless a transaction is open on either, or the other is busy too.
    pub fn other_session(&mut self) {
        let engine = |profile: &Profile| self.engines.iter().copied().find(|engine| engine.name() == profile.engine);
        let Some((profile, engine)) = self.connection.profile.clone().and_then(|p| engine(&p).map(|e| (p, e))) else {
            return self.list_connections();
        };
        let twin = self.background.iter().position(|other| other.profile.as_ref() == Some(&profile));
        let next = match twin {
            Some(at) => self.background.remove(at),
            None if !matches!(self.connection.link, Link::Open | Link::Gone(_)) => {
                return self.tell_wrong("a second session opens once this one is connected");
            }
            None => {
                let secret = self.connection.secret.clone();
                let Some(next) = self.open_session(engine, profile, secret) else { return };
                let session = if self.connection.session == 1 { 2 } else { 1 };
                Connection { session, catalog: self.connection.catalog.clone(), ..next }
            }
        };
        // Not behind something else, and not into a transaction that was begun for something else.
        let free = !next.busy && !next.location.as_ref().is_some_and(Location::in_transaction);
        let along = if free { self.connection.take_waiting() } else { Vec::new() };
        self.exchange(next);
        if let Some(before) = self.background.last().filter(|before| before.profile == self.connection.profile) {
            self.connection.know_runs_of(before);
        }
        self.tell(format!(
            "session {}: its transactions, settings and temporary tables are its own",
            self.connection.session
        ));
        along.into_iter().for_each(|jobs| self.connection.begin(jobs));
        if let Some(report) = self.connection.unanswered.take() {
            self.report(self.connection.number, report);
        }
    }

    /// The other session of the profile in hand, if there is one.
    pub fn twin(&self) -> Option<&Connection> {
        let profile = self.connection.profile.as_ref()?;
        self.background.iter().find(|other| other.profile.as_ref() == Some(profile))
    }

    /// Takes another connection in hand, or none; the one before goes on beside it.
    fn exchange(&mut self, next: Connection) {
        let before = std::mem::replace(&mut self.connection, next);
        if before.busy || matches!(before.link, Link::Open | Link::Gone(_)) {
            self.background.push(before);
        }
        self.rows.forget();
    }

    /// Goes on without a connection in hand. One that is being made may be taken up again in a moment.
    pub(in crate::app) fn leave_connection(&mut self) {
        let before = std::mem::replace(&mut self.connection, Connection::none());
        if before.has_worker() && !matches!(before.link, Link::Failed(_)) {
            self.background.push(before);
        }
        self.rows.forget();
    }

    /// Waits no longer for a connection that is being made.
    pub(in crate::app) fn give_connecting_up(&mut self) {
        self.connection.worker = None;
        self.connection.busy = false;
        self.connection.number = 0;
        self.connection.link = Link::None;
        self.tell("connection attempt cancelled; choose the connection to try again");
    }

    /// Ends the connection in hand.
    pub fn let_go(&mut self) {
        if self.connection.location.as_ref().is_some_and(|location| location.in_transaction()) {
            return self.tell_wrong("a transaction is open; commit it or roll it back first");
        }
        if self.connection.worker.is_none() {
            return self.tell("not connected");
        }
        let name = self.connection.name().to_owned();
        self.connection.stop();
        self.connection = Connection::none();
        self.buffer.connection = None;
        self.rows.forget();
        self.tell(format!("{name} is closed"));
    }

    pub(in crate::app) fn ask_for_secret(&mut self, error: &EngineError) {
        let title = format!("{} · password for {}", clean::clean(&error.message), self.connection.name());
        self.overlay = Some(Overlay::Prompt(Prompt::hidden(title, Asked::Secret)));
    }

    /// Asks what an engine wants to know before there is a connection.
    pub(in crate::app) fn ask_while_connecting(&mut self, question: &Question) {
        let page = question.page.as_deref().map(|page| format!(" · open {}", clean::clean(page))).unwrap_or_default();
        let title = format!("{}{page}", clean::clean(&question.text));
        let prompt = match question.visible {
            true => Prompt::new(title, Asked::Answer),
            false => Prompt::hidden(title, Asked::Answer),
        };
        self.overlay = Some(Overlay::Prompt(prompt));
    }

    /// Answers it; without an answer the connection is given up.
    pub(in crate::app) fn answer_while_connecting(&mut self, answer: Option<String>) {
        if let Some(worker) = &self.connection.worker {
            worker.answer(answer.map(Secret::new));
        }
    }

    pub(in crate::app) fn give_secret(&mut self, text: String) {
        self.connection.link = Link::Opening;
        let secret = Secret::new(text);
        self.connection.secret = Some(secret.clone());
        self.connection.ask(Order::Secret(secret));
    }

    /// The secret that a person gave for a profile, where a connection of it is open.
    pub(in crate::app) fn secret_of(&self, profile: &Profile) -> Option<Secret> {
        let mut all = [&self.connection].into_iter().chain(&self.background);
        let same = |other: &&Connection| other.profile.as_ref().is_some_and(|own| own.leads_as(profile));
        all.find(same).and_then(|connection| connection.secret.clone())
    }
}
