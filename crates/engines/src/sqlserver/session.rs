//! An open connection: where it is, what it may do, and what a statement would do.

use std::time::{Duration, Instant};

use jaunty_language::dialect::{Kind, SQLSERVER};
use jaunty_language::split;
use jaunty_language::statement::acts::{self, Acts};
use jaunty_language::statement::parameters::{self, with_literals};
use jaunty_language::statement::touched;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::engine::{
    Abilities, CatalogPart, Effect, Location, Reading, Request, Session, Sink, Stop, Switch, SwitchKind, Touches,
    Transaction, Verdict,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile};
use jaunty_tds::{Environment, Token};

use super::connect::Link;
use super::describe::{self, Described};
use super::{catalog, errors};
use crate::net::feed::Feed;
use crate::net::work::Patience;

/// How long the server is given to look at a statement.
const CHECK: Duration = Duration::from_secs(2);

/// A session on a server.
pub struct SqlServerSession {
    pub(super) link: Link,
    pub(super) patience: Patience,
    pub(super) location: Location,
    /// The connection is gone, for this reason.
    pub(super) lost: Option<EngineError>,
    /// What is not known to read is refused.
    read_only: bool,
}

/// A row of an answer as text; NULL is empty.
pub(super) type Row = Vec<String>;

/// A field of such a row.
pub(super) fn field(row: &[String], at: usize) -> &str {
    row.get(at).map_or("", String::as_str)
}

impl SqlServerSession {
    /// Sets a new connection up.
    pub fn begin(link: Link, profile: &Profile, limit: Instant, stop: &Stop) -> Result<SqlServerSession, EngineError> {
        let location = Location {
            server: format!("sqlserver {}", link.version),
            transport: link.transport.clone(),
            database: link.database.clone(),
            ..Location::default()
        };
        let mut session = SqlServerSession {
            link,
            patience: Patience::of(profile, limit, stop),
            location,
            lost: None,
            read_only: profile.guard == Guard::ReadOnly,
        };
        let failed = |error: EngineError| EngineError { step: Some(Step::Session), kind: ErrorKind::Connect, ..error };
        // Values come whole, however long they are.
        session.ask("set textsize 2147483647").map_err(failed)?;
        session.ask_where().map_err(failed)?;
        session.patience.is_connected();
        Ok(session)
    }

    /// Asks where the session is.
    fn ask_where(&mut self) -> Result<(), EngineError> {
        let rows = self.ask(
            "select @@spid as session, db_name() as name, schema_name() as place, suser_sname() as login, user_name() as role, @@trancount as open_ones, xact_state() as state",
        )?;
        let row = rows.first().cloned().unwrap_or_default();
        let (login, user) = (field(&row, 3), field(&row, 4));
        self.location.session = format!("session {}", field(&row, 0));
        self.location.database = field(&row, 1).to_owned();
        self.location.schema = field(&row, 2).to_owned();
        self.location.user = match login.eq_ignore_ascii_case(user) || user == "dbo" || user.is_empty() {
            true => login.to_owned(),
            false => format!("{login} as {user}"),
        };
        self.location.transaction = match (field(&row, 5), field(&row, 6)) {
            (_, "-1") => Some(Transaction::Failed),
            ("0" | "", _) => None,
            _ => Some(Transaction::Open),
        };
        self.location.uncertain = false;
        Ok(())
    }

    /// Takes note of what a token says of the session.
    pub(super) fn note(&mut self, token: &Token) {
        match token {
            Token::Environment(Environment::Database(name)) => self.location.database.clone_from(name),
            Token::Environment(Environment::Began(_)) => self.location.transaction = Some(Transaction::Open),
            Token::Environment(Environment::Ended(_)) => self.location.transaction = None,
            _ => {}
        }
    }

    /// Whether what is not known to read is refused.
    pub(super) fn is_read_only(&self) -> bool {
        self.read_only
    }

    /// Whoever was given up on is not asked again.
    pub(super) fn refuse_if_lost(&self) -> Result<(), EngineError> {
        self.lost.clone().map_or(Ok(()), Err)
    }

    /// What a request would do, by the server's plan of it.
    fn described(&mut self, request: &Request<'_>, limit: Option<Duration>) -> Result<Option<Described>, EngineError> {
        let text = with_literals(request.text, &SQLSERVER, request.values);
        describe::plan(self, &text, limit)
    }

    /// Refuses what is not known to read. The server has no session that refuses writes, so its plan is asked.
    fn refuse_writes(&mut self, request: &Request<'_>) -> Result<(), EngineError> {
        let refused = |what: String| {
            let remedy = "This server has no read-only sessions: only what its plan shows to read is run here. \
                          To run it, open a profile whose guard is ask or open.";
            Err(EngineError::new(ErrorKind::Refused, what).remedy(remedy))
        };
        let acts = acts::acts(request.text, &SQLSERVER);
        if acts == Acts::Writes {
            return refused("the profile's guard is read-only, and this writes".into());
        }
        // What has no plan.
        if acts == Acts::Reads && matches!(kind(request.text), Kind::Setting | Kind::Transaction) {
            return Ok(());
        }
        match self.described(request, None) {
            Ok(Some(described)) => match described.writes() {
                Some(what) => refused(format!("the profile's guard is read-only, and this is {what}")),
                None => Ok(()),
            },
            Ok(None) => refused("the profile's guard is read-only, and the server does not show what this does".into()),
            // It would fail in the same way.
            Err(error) => Err(error),
        }
    }
}

/// What a statement does, by its words.
pub(super) fn kind(statement: &str) -> Kind {
    split::kind(statement, &SQLSERVER).unwrap_or(Kind::Other)
}

impl Session for SqlServerSession {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, transactions: true, read_only: false, effect: true, several_results: true }
    }

    fn location(&self) -> Location {
        self.location.clone()
    }

    fn locate(&mut self, stop: &Stop) -> Result<Location, EngineError> {
        self.patience.follow(stop);
        self.ask_where()?;
        Ok(self.location())
    }

    fn effect(&mut self, request: &Request<'_>) -> Result<Effect, EngineError> {
        self.patience.follow(&request.stop);
        self.refuse_if_lost()?;
        let everything = touched::touches_everything(request.text, &SQLSERVER);
        let acts = acts::acts(request.text, &SQLSERVER);
        if matches!(acts, Acts::Outside(_)) {
            return Ok(Effect::Unknown);
        }
        if acts == Acts::Reads && matches!(kind(request.text), Kind::Setting | Kind::Transaction) {
            return Ok(Effect::Reads);
        }
        let described = self.described(request, None)?;
        Ok(match (acts, described) {
            (Acts::Writes, described) => {
                let rows = described.and_then(|described| described.rows);
                Effect::Writes(Touches { rows, counted: false, everything })
            }
            (_, Some(described)) if described.writes().is_none() => Effect::Reads,
            (_, Some(described)) if described.changes_rows() => {
                Effect::Writes(Touches { rows: described.rows, counted: false, everything })
            }
            _ => Effect::Unknown,
        })
    }

    fn check(&mut self, request: &Request<'_>) -> Result<Verdict, EngineError> {
        if !matches!(kind(request.text), Kind::Query | Kind::Change) || self.lost.is_some() {
            return Ok(Verdict::Unknown);
        }
        self.patience.follow(&request.stop);
        let numbered = parameters::numbered(request.text, &SQLSERVER);
        describe::check(self, &numbered, CHECK)
    }

    fn reading(&mut self, request: &Request<'_>, next: usize) -> Reading {
        self.patience.follow(&request.stop);
        // Several statements without a semicolon between them are a batch like any other: how many there are is in the
        // plan, and where one is alone all of the text is that.
        match self.described(request, Some(CHECK)) {
            Ok(Some(described)) if described.statements == 1 => Reading::One,
            Ok(Some(_)) => Reading::Shorter,
            Ok(None) => Reading::Shorter,
            Err(error) if error.kind == ErrorKind::Refused => match error.code.as_deref() {
                // Mistakes of syntax.
                Some("102" | "156" | "319" | "170") => Reading::stopped_at(error.at, next),
                _ => Reading::Shorter,
            },
            Err(_) => Reading::Unknown,
        }
    }

    fn run(&mut self, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.refuse_if_lost()?;
        self.patience.follow(&request.stop);
        if self.read_only {
            self.refuse_writes(request)?;
        }
        let mut feed = Feed::new(sink);
        let outcome = self.carry_out(request, &mut feed);
        let outcome = feed.end(outcome);
        if let Err(error) = &outcome
            && error.kind == ErrorKind::Lost
        {
            self.lost = Some(EngineError::new(ErrorKind::Lost, error.message.clone()));
        }
        // A user or a schema may be another one now: no token tells of that.
        let moves = |word: &str| request.text.get(..word.len()).is_some_and(|head| head.eq_ignore_ascii_case(word));
        self.location.uncertain |= ["exec", "revert", "setuser", "alter user"].into_iter().any(moves);
        outcome
    }

    fn load(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        self.load_rows(load, next)
    }

    fn is_alive(&mut self) -> bool {
        if self.lost.is_some() {
            return false;
        }
        let Link { runtime, client, .. } = &mut self.link;
        let closed = runtime.block_on(client.is_closed());
        if closed {
            self.lost = Some(errors::broken(&jaunty_tds::Error::Closed));
        }
        !closed
    }

    fn switches(&self) -> &'static [SwitchKind] {
        &[SwitchKind::DATABASE]
    }

    fn switch(&mut self, to: &Switch, stop: &Stop) -> Result<bool, EngineError> {
        self.patience.follow(stop);
        self.ask(&format!("use {}", SQLSERVER.quoted_name(&to.to)))?;
        self.ask_where()?;
        Ok(true)
    }

    fn choices(&mut self, _: SwitchKind, stop: &Stop) -> Result<Vec<String>, EngineError> {
        self.patience.follow(stop);
        let rows = self.ask("select name from sys.databases where state = 0 order by name")?;
        Ok(rows.iter().map(|row| field(row, 0).to_owned()).collect())
    }

    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError> {
        self.refuse_if_lost()?;
        self.patience.follow(&part.stop);
        match part.database {
            Some(database) => catalog::read_another(self, database, part.number, catalog),
            None => catalog::read(self, part.number, catalog),
        }
    }

    fn definition(&mut self, of: &Object, stop: &Stop) -> Result<Option<String>, EngineError> {
        self.patience.follow(stop);
        catalog::definition(self, of)
    }
}
