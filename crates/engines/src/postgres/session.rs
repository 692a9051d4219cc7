//! An open connection: where it is, what it may do, and what a statement would do.

use std::collections::HashSet;
use std::sync::atomic::AtomicU64;
use std::time::{Duration, Instant};

use crate::client_line;
use jaunty_language::dialect::{Kind, POSTGRES};
use jaunty_language::split;
use jaunty_language::statement::acts::{self, Acts};
use jaunty_language::statement::client_line::is_for_clients_alone;
use jaunty_language::statement::parameters::{self, ParameterValue, Value, with_literals};
use jaunty_language::statement::touched;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::engine::{
    Abilities, CatalogPart, Effect, Location, Message, Reading, Request, Session, Sink, Stop, Switch, SwitchKind,
    Touches, Transaction, Verdict,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile};
use tokio_postgres::{AsyncMessage, SimpleQueryMessage, SimpleQueryRow};

use super::cancel::cancel;
use super::connect::Link;
use super::origins::Origins;
use super::run::said;
use super::{catalog, errors};
use crate::net::feed::Feed;
use crate::net::servers;
use crate::net::work::{self, Patience, unless_stopped, with_cancel};

/// A session on a server.
pub struct PostgresSession {
    pub(super) link: Link,
    pub(super) patience: Patience,
    /// Where it is, but for the transaction, which is overheard.
    pub(super) location: Location,
    pub(super) origins: Origins,
    /// How many statements were prepared in SQL.
    pub(super) prepared: AtomicU64,
    /// The server was told to refuse writes.
    read_only: bool,
    /// Nobody waits for this connection any more, whatever still comes on it.
    given_up: bool,
}

/// A driver's error, as the seam has it.
pub(super) type Outcome<T> = Result<T, EngineError>;

/// Codes of messages that say no more than that they are messages: success, and warning.
const UNTOLD: &[&str] = &["00000", "01000"];

/// How long the server is given to look at a statement.
const CHECK: Duration = Duration::from_secs(2);

impl PostgresSession {
    /// Sets a new connection up.
    pub fn begin(link: Link, profile: &Profile, limit: Instant, stop: &Stop) -> Outcome<PostgresSession> {
        let mut session = PostgresSession {
            link,
            patience: Patience::of(profile, limit, stop),
            location: Location::default(),
            origins: Origins::default(),
            prepared: AtomicU64::new(0),
            read_only: profile.guard == Guard::ReadOnly,
            given_up: false,
        };
        let failed = |error: EngineError| EngineError { step: Some(Step::Session), kind: ErrorKind::Connect, ..error };
        // What is written as text is read by its ISO form.
        let mut setup = vec!["set datestyle = iso".to_owned(), "set bytea_output = hex".to_owned()];
        if let Some(schema) = profile.text("schema") {
            let path: Vec<_> = schema.split(',').map(|name| quoted(name.trim())).collect();
            setup.push(format!("set search_path to {}", path.join(", ")));
        }
        if let Some(role) = profile.text("role") {
            setup.push(format!("set role {}", quoted(role)));
        }
        setup.push("select version from pg_stat_ssl where pid = pg_backend_pid()".to_owned());
        let rows = session.ask(&setup.join("; ")).map_err(failed)?;
        let version = rows.first().and_then(|row| said(row, 0)).filter(|version| !version.is_empty());
        let way = match &session.link.route.address {
            crate::net::reach::Address::Socket(_) => "socket".to_owned(),
            _ => session.link.security.in_words(version),
        };
        session.location.transport = match &session.link.route.tunnel {
            Some(tunnel) => format!("{way}, through {}", tunnel.name()),
            None => way,
        };
        let version = session.link.version.split(' ').next().unwrap_or_default();
        // Of several servers it has to be seen which one this is.
        let at = servers::are_several(profile).then(|| format!(" at {}", session.link.route.address));
        session.location.server = format!("postgres {version}{}", at.unwrap_or_default());
        tracing::debug!(transport = session.location.transport, "connected");
        session.ask_where().map_err(failed)?;
        session.patience.is_connected();
        Ok(session)
    }

    /// Tells the server once more to refuse writes: something that ran has told it not to.
    fn set_guard_back(&mut self, open: bool) {
        tracing::warn!("a read-only session was told to let writes through; it is set back");
        let again = if open { "; set transaction read only" } else { "" };
        let set = self.ask(&format!("set default_transaction_read_only = on{again}"));
        self.location.guard_lifted = set.is_err();
    }

    /// The functions among these that may write, by the server's word of them and by what they consist of: those
    /// that it holds for volatile, but for its own that are known not to write, and for those in SQL and PL/pgSQL
    /// whose text has no word that writes, and that call none.
    fn writing_functions(&mut self, names: Vec<String>) -> Outcome<Vec<String>> {
        let (mut asked, mut next, mut found) = (HashSet::new(), names, Vec::new());
        loop {
            let fresh: Vec<String> = next
                .drain(..)
                .flat_map(|name| [name.to_lowercase(), name])
                .filter(|name| asked.insert(name.clone()))
                .collect();
            if fresh.is_empty() || !found.is_empty() {
                break;
            }
            let list: Vec<_> = fresh.iter().map(|name| POSTGRES.text_as_written(name)).collect();
            let rows = self.ask(&format!(
                "select p.proname, l.lanname, n.nspname, case when l.lanname in ('sql', 'plpgsql') then coalesce(nullif(p.prosrc, ''), pg_get_functiondef(p.oid)) end \
                 from pg_proc p join pg_language l on l.oid = p.prolang join pg_namespace n on n.oid = p.pronamespace \
                 where p.provolatile = 'v' and p.prokind in ('f', 'w') and p.proname in ({})",
                list.join(", ")
            ))?;
            for row in &rows {
                let field = |at| said(row, at).unwrap_or_default();
                match (field(2), field(1)) {
                    ("pg_catalog", _) if harmless(field(0)) => {}
                    ("pg_catalog", _) => found.push(field(0).to_owned()),
                    (_, "sql" | "plpgsql") if acts::holds_word(field(3), &POSTGRES, WRITE) => {
                        found.push(field(0).to_owned());
                    }
                    (_, "sql" | "plpgsql") => next.extend(acts::called(field(3), &POSTGRES)),
                    _ => found.push(field(0).to_owned()),
                }
            }
        }
        Ok(found)
    }

    /// Asks what may be refused, so that an open transaction goes on all the same.
    pub(super) fn ask_within(&mut self, question: &str) -> Outcome<Vec<SimpleQueryRow>> {
        if self.link.overheard.transaction().is_none() {
            return self.ask(question);
        }
        self.ask("savepoint jaunty_asks")?;
        let answer = self.ask(question);
        let back = if answer.is_err() { "rollback to savepoint jaunty_asks; " } else { "" };
        self.ask(&format!("{back}release savepoint jaunty_asks"))?;
        answer
    }

    /// Asks where the session is. In a transaction that failed nothing can be asked.
    fn ask_where(&mut self) -> Outcome<()> {
        if self.link.overheard.transaction() == Some(Transaction::Failed) {
            return Ok(());
        }
        let rows = self.ask(
            "select current_database(), coalesce(current_schema(), ''), current_user, pg_backend_pid(), current_setting('default_transaction_read_only'), current_setting('transaction_read_only')",
        )?;
        let row = rows.first();
        let field = |at: usize| row.and_then(|row| said(row, at)).unwrap_or_default().to_owned();
        self.location = Location {
            database: field(0),
            schema: field(1),
            user: field(2),
            session: format!("process {}", field(3)),
            uncertain: false,
            ..self.location.clone()
        };
        if self.read_only && (field(4) == "off" || field(5) == "off") {
            self.set_guard_back(self.link.overheard.transaction().is_some());
        } else {
            self.location.guard_lifted = false;
        }
        Ok(())
    }

    /// The databases that one may connect to.
    pub(super) fn databases(&mut self) -> Outcome<Vec<String>> {
        self.first_column(
            "select datname from pg_database where datallowconn and not datistemplate and has_database_privilege(oid, 'connect') order by 1",
        )
    }

    fn first_column(&mut self, question: &str) -> Outcome<Vec<String>> {
        Ok(self.ask(question)?.iter().filter_map(|row| said(row, 0)).map(str::to_owned).collect())
    }

    /// Waits for the end of an answer that was an error: only then the state of the transaction is known.
    fn settle(&self) {
        let link = &self.link;
        link.runtime.block_on(async {
            let settled = async {
                while !link.overheard.is_settled() && !link.client.is_closed() {
                    tokio::time::sleep(Duration::from_millis(1)).await;
                }
            };
            let _ = tokio::time::timeout(work::PATIENCE, settled).await;
        });
    }

    /// Whoever was given up on is not asked again: what it was asked last may keep it busy without an end.
    pub(super) fn refuse_if_given_up(&self) -> Outcome<()> {
        if self.given_up { Err(work::given_up()) } else { Ok(()) }
    }

    /// What came of something; where that is a lost connection it is given up.
    pub(super) fn unless_lost<T>(&mut self, outcome: Outcome<T>) -> Outcome<T> {
        self.given_up |= matches!(&outcome, Err(error) if error.kind == ErrorKind::Lost);
        outcome
    }

    /// Asks the server something of our own, all of it at once, as text.
    pub(super) fn ask(&mut self, statement: &str) -> Outcome<Vec<SimpleQueryRow>> {
        self.refuse_if_given_up()?;
        let (link, patience) = (&self.link, &self.patience);
        let query = link.client.simple_query(statement);
        let work = async { with_cancel(query, || patience.look(), cancel(link), patience.within).await };
        let asked = self.unless_lost(link.runtime.block_on(work));
        let (link, patience) = (&self.link, &self.patience);
        let messages =
            match asked.map_err(|error| if patience.is_overdue() { link.route.silent_after() } else { error })? {
                Ok(messages) => messages,
                Err(error) => {
                    self.settle();
                    return Err(errors::statement(&error, statement));
                }
            };
        Ok(messages
            .into_iter()
            .filter_map(|message| if let SimpleQueryMessage::Row(row) = message { Some(row) } else { None })
            .collect())
    }
}

pub(super) fn tell_notices(link: &Link, feed: &mut Feed) {
    for message in link.said.waiting() {
        match message {
            AsyncMessage::Notice(notice) => {
                let detail = notice.detail().map_or(String::new(), |detail| format!(" ({detail})"));
                let code = Some(notice.code().code().to_owned()).filter(|code| !UNTOLD.contains(&code.as_str()));
                let text = format!("{}{detail}", notice.message());
                feed.message(Message { code, ..Message::new(notice.severity().to_lowercase(), text) });
            }
            AsyncMessage::Notification(heard) => {
                feed.message(Message::new("notification", format!("{}: {}", heard.channel(), heard.payload())));
            }
            _ => {}
        }
    }
    match link.said.left_out() {
        0 => {}
        left_out => {
            let text = format!("{left_out} messages came faster than they could be kept, and were left out");
            feed.message(Message::new("note", text));
        }
    }
}

/// What a statement is, by its first word.
pub(super) fn kind(statement: &str) -> Kind {
    split::kind(statement, &POSTGRES).unwrap_or(Kind::Other)
}

/// A name in quotes.
pub(super) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

impl Session for PostgresSession {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, transactions: true, read_only: true, effect: true, several_results: true }
    }

    fn location(&self) -> Location {
        Location { transaction: self.link.overheard.transaction(), ..self.location.clone() }
    }

    fn locate(&mut self, stop: &Stop) -> Outcome<Location> {
        self.patience.follow(stop);
        self.ask_where()?;
        Ok(self.location())
    }

    fn effect(&mut self, request: &Request<'_>) -> Outcome<Effect> {
        let (statement, values) = (request.text, request.values);
        self.patience.follow(&request.stop);
        if is_for_clients_alone(statement) {
            return Ok(Effect::Reads);
        }
        client_line::refuse(statement, &POSTGRES)?;
        let touches =
            |rows| Touches { rows, counted: false, everything: touched::touches_everything(statement, &POSTGRES) };
        match acts::acts(statement, &POSTGRES) {
            Acts::Hidden | Acts::Outside(_) => return Ok(Effect::Unknown),
            Acts::Reads => {
                let functions = acts::called(statement, &POSTGRES);
                if !functions.is_empty() && !self.writing_functions(functions)?.is_empty() {
                    return Ok(Effect::Unknown);
                }
                // What has no plan reads as its words say.
                if kind(statement) != Kind::Query {
                    return Ok(Effect::Reads);
                }
            }
            Acts::Writes => {}
        }
        match kind(statement) {
            // It cannot be explained, and asking would break an open transaction.
            Kind::Change if touched::is_truncate(statement) => Ok(Effect::Writes(touches(None))),
            kind @ (Kind::Query | Kind::Change) => {
                // As they are sent: the server reads each as the type that it wants.
                let text = |value: &ParameterValue| value.text().map_or(ParameterValue::Null, ParameterValue::Text);
                let values: Vec<Value> = values.iter().map(|(name, value)| (name.clone(), text(value))).collect();
                let whole = with_literals(statement, &POSTGRES, &values);
                let explained = self.ask_within(&format!("explain (format json) {whole}"))?;
                let text: String = explained.iter().filter_map(|row| said(row, 0)).collect();
                let into = kind == Kind::Query && acts::acts(statement, &POSTGRES) == Acts::Writes;
                match rows_modified(&text) {
                    Some(rows) => Ok(Effect::Writes(touches(rows))),
                    None if kind == Kind::Change || into => Ok(Effect::Writes(touches(None))),
                    None => Ok(Effect::Reads),
                }
            }
            // An explanation that analyses carries the statement out.
            Kind::Plan => Ok(Effect::Unknown),
            _ => Ok(Effect::Writes(touches(None))),
        }
    }

    fn check(&mut self, request: &Request<'_>) -> Outcome<Verdict> {
        let statement = request.text;
        if client_line::refuse(statement, &POSTGRES).is_err() || !matches!(kind(statement), Kind::Query | Kind::Change)
        {
            return Ok(Verdict::Unknown);
        }
        let link = &self.link;
        let numbered = parameters::numbered(statement, &POSTGRES);
        let asking = async { Ok(tokio::time::timeout(CHECK, link.client.prepare(&numbered.text)).await) };
        match link.runtime.block_on(unless_stopped(&request.stop, asking))? {
            Ok(Err(error)) => Err(errors::statement(&error, &numbered.text).as_written(&numbered)),
            Ok(Ok(_)) => Ok(Verdict::Accepted),
            // A server that takes long is busy with something else.
            Err(_) => Ok(Verdict::Unknown),
        }
    }

    fn load(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Outcome<u64> {
        self.refuse_if_given_up()?;
        let loaded = self.load_rows(load, next);
        self.unless_lost(loaded)
    }

    fn reading(&mut self, request: &Request<'_>, next: usize) -> Reading {
        let text = request.text;
        self.patience.follow(&request.stop);
        let open = match self.link.overheard.transaction() {
            Some(Transaction::Open) => true,
            // All but its end is refused, whatever it is.
            Some(Transaction::Failed) => return Reading::Shorter,
            None => false,
        };
        // A mistake would end an open transaction.
        if open && self.ask("savepoint jaunty_reading").is_err() {
            return Reading::Unknown;
        }
        let numbered = parameters::numbered(text, &POSTGRES);
        let link = &self.link;
        let asking = async { Ok(tokio::time::timeout(CHECK, link.client.prepare(&numbered.text)).await) };
        let Ok(prepared) = link.runtime.block_on(unless_stopped(&request.stop, asking)) else {
            return Reading::Unknown;
        };
        let reading = match prepared {
            Ok(Ok(_)) => Reading::One,
            Ok(Err(error)) if error.as_db_error().is_none() => Reading::Unknown,
            Ok(Err(error)) => {
                let error = errors::statement(&error, &numbered.text).as_written(&numbered);
                match error.code.as_deref() {
                    Some("42601") => Reading::stopped_at(error.at, next),
                    // All of it was read, and something it names is not there.
                    _ => Reading::One,
                }
            }
            Err(_) => Reading::Unknown,
        };
        if open && self.ask("rollback to savepoint jaunty_reading; release savepoint jaunty_reading").is_err() {
            return Reading::Unknown;
        }
        reading
    }

    fn run(&mut self, request: &Request<'_>, sink: Box<dyn Sink>) -> Outcome<()> {
        let statement = request.text;
        if is_for_clients_alone(statement) {
            let mut feed = Feed::new(sink);
            feed.ends(None);
            return feed.end(Ok(()));
        }
        client_line::refuse(statement, &POSTGRES)?;
        self.patience.follow(&request.stop);
        if kind(statement) == Kind::Definition {
            self.origins.forget();
        }
        self.refuse_if_given_up()?;
        let mut feed = Feed::new(sink);
        let outcome = self.carry_out(request, &mut feed);
        let outcome = self.unless_lost(outcome);
        // Notices of the end are there when the end is.
        self.link.runtime.block_on(tokio::task::yield_now());
        tell_notices(&self.link, &mut feed);
        // A connection that ended with a message that was too long says so.
        let outcome = match self.link.limit.exceeded().filter(|_| self.given_up) {
            Some(long) => Err(long),
            None => outcome,
        };
        let outcome = feed.end(outcome);
        if outcome.is_err() && !self.given_up {
            self.settle();
        }
        self.location.uncertain |= may_move(statement);
        if self.read_only && !self.given_up {
            // The one thing that is asked after a statement: whether writes are still refused.
            self.patience.follow_none();
            if let Err(error) = self.ask_where() {
                tracing::warn!(%error, "whether the session still refuses writes");
            }
        }
        outcome
    }

    fn is_alive(&mut self) -> bool {
        if self.given_up {
            return false;
        }
        // What the server sent at rest, its end among it, is taken in now.
        self.link.runtime.block_on(async {
            for _ in 0..3 {
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
        });
        !self.link.client.is_closed()
    }

    fn switches(&self) -> &'static [SwitchKind] {
        &[SwitchKind::DATABASE, SwitchKind::SCHEMA, SwitchKind::ROLE]
    }

    fn switch(&mut self, to: &Switch, stop: &Stop) -> Outcome<bool> {
        self.patience.follow(stop);
        let statement = match to.kind {
            SwitchKind::SCHEMA => format!("set search_path to {}", quoted(&to.to)),
            SwitchKind::ROLE => format!("set role {}", quoted(&to.to)),
            _ => return Ok(false),
        };
        // A schema that is not there would be taken in silence.
        if to.kind == SwitchKind::SCHEMA && !self.choices(SwitchKind::SCHEMA, stop)?.contains(&to.to) {
            let what = format!("no schema \"{}\" that you may use", to.to);
            return Err(EngineError::new(ErrorKind::Refused, what));
        }
        self.ask(&statement)?;
        self.ask_where()?;
        Ok(true)
    }

    fn choices(&mut self, of: SwitchKind, stop: &Stop) -> Outcome<Vec<String>> {
        self.patience.follow(stop);
        match of {
            SwitchKind::DATABASE => self.databases(),
            SwitchKind::SCHEMA => self.first_column(
                "select nspname from pg_namespace where nspname !~ '^pg_(toast|temp)' and has_schema_privilege(oid, 'usage') order by nspname ~ '^pg_' or nspname = 'information_schema', 1",
            ),
            _ => self.first_column("select rolname from pg_roles where pg_has_role(session_user, oid, 'member') order by 1"),
        }
    }

    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Outcome<bool> {
        self.patience.follow(&part.stop);
        catalog::read(self, part.number, catalog)
    }

    fn definition(&mut self, of: &Object, stop: &Stop) -> Outcome<Option<String>> {
        self.patience.follow(stop);
        catalog::definition(self, of)
    }
}

/// Whether a statement may lead the session to another schema or role, which the server does not report. What was set
/// inside a transaction may go with it, and is asked about at its end.
fn may_move(statement: &str) -> bool {
    match kind(statement) {
        Kind::Query | Kind::Change | Kind::Plan => {
            acts::called(statement, &POSTGRES).iter().any(|name| name.eq_ignore_ascii_case("set_config"))
        }
        Kind::Transaction => false,
        Kind::Definition | Kind::Setting | Kind::Other => true,
    }
}

/// Words of functions that write.
const WRITE: &[&str] = &[
    "INSERT", "UPDATE", "DELETE", "MERGE", "TRUNCATE", "CREATE", "ALTER", "DROP", "GRANT", "REVOKE", "COPY", "EXECUTE",
    "CALL", "REFRESH", "COMMENT", "NOTIFY", "LOCK", "VACUUM", "ANALYZE", "REINDEX", "CLUSTER", "COMMIT", "SET",
];

/// Functions of the server itself that it holds for volatile although they write nothing.
const HARMLESS: &[&str] = &[
    "random",
    "random_normal",
    "setseed",
    "clock_timestamp",
    "timeofday",
    "gen_random_uuid",
    "uuidv4",
    "uuidv7",
    "currval",
    "lastval",
    "pg_sleep",
    "pg_sleep_for",
    "pg_sleep_until",
    "pg_is_in_recovery",
    "pg_cursor",
    "pg_prepared_statement",
    "pg_show_all_settings",
    "pg_stat_file",
    "pg_read_file",
    "pg_read_binary_file",
    "pg_lock_status",
    "pg_blocking_pids",
    "pg_safe_snapshot_blocking_pids",
    "pg_notification_queue_usage",
    "pg_listening_channels",
];

fn harmless(name: &str) -> bool {
    let families = ["pg_stat_get_", "pg_ls_", "pg_last_", "pg_current_", "pg_get_", "pg_control_", "pg_show_"];
    HARMLESS.contains(&name) || families.iter().any(|family| name.starts_with(family)) || name.ends_with("_size")
}

/// How many rows the server thinks a plan would change: `None` if it changes none at all.
#[allow(clippy::option_option)] // Outside: whether it writes. Inside: whether the server says how much.
fn rows_modified(plan: &str) -> Option<Option<u64>> {
    let plan: serde_json::Value = serde_json::from_str(plan).ok()?;
    let mut nodes = vec![&plan[0]["Plan"]];
    while let Some(node) = nodes.pop() {
        let below = node["Plans"].as_array();
        if node["Node Type"] == "ModifyTable" {
            let rows = below.into_iter().flatten().filter_map(|node| node["Plan Rows"].as_f64()).sum::<f64>();
            return Some(Some(rows as u64));
        }
        nodes.extend(below.into_iter().flatten());
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_tells_whether_it_writes() {
        let plan = |node: &str| {
            format!(
                "[{{\"Plan\": {{\"Node Type\": \"{node}\", \"Plans\": [{{\"Node Type\": \"Seq Scan\", \"Plan Rows\": 12}}]}}}}]"
            )
        };
        assert_eq!(rows_modified(&plan("ModifyTable")), Some(Some(12)));
        assert_eq!(rows_modified(&plan("Sort")), None);
    }

    #[test]
    fn kinds_are_told_by_the_first_word() {
        assert_eq!(kind("with a as (select 1) delete from t"), Kind::Change);
        assert_eq!(kind("explain (analyze) delete from t"), Kind::Plan);
        assert_eq!(kind("show search_path"), Kind::Setting);
    }
}
