//! Carrying statements out: from tokens to events, in the order in which they come.

use std::ops::Range;
use std::sync::Arc;
use std::time::{Duration, Instant};

use arrow_array::{ArrayRef, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};
use jaunty_language::dialect::SQLSERVER;
use jaunty_language::statement::batch;
use jaunty_language::statement::parameters::{self, Numbered, ParameterValue, Value, value_of};
use jaunty_seam::engine::{Flow, Message as Told, Request};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::BATCH_DELAY;
use jaunty_seam::rows::columns::Arrived;
use jaunty_tds::token::Row as Place;
use jaunty_tds::types::Length;
use jaunty_tds::{Client, Column, Message, Pace, Parameter, Token, value};

use super::connect::Way;
use super::session::{Row, SqlServerSession};
use super::{errors, types};
use crate::net::feed::{Feed, LONG, local};
use crate::net::work::{cancel_timeout, there};

/// Messages that a client hears anyway: another database, another language.
const HEARD: [i32; 2] = [5701, 5703];

/// The numbers of statements that change rows, as their ends tell them.
const CHANGES: [u16; 5] = [0xC3, 0xC4, 0xC5, 0x117, 0xC2];

/// Settings that hold for what is run with them.
const FOR_THIS_RUN: [&str; 2] = ["set showplan_xml", "set statistics xml"];

/// What a person has said of a request, and what is sent for it.
struct Part<'a> {
    /// What is sent.
    text: &'a str,
    /// Where that begins in what a person wrote, in bytes and in lines.
    at: usize,
    line: u32,
}

impl SqlServerSession {
    /// Runs a request: one batch after the other, each as often as its end says.
    pub(super) fn carry_out(&mut self, request: &Request<'_>, feed: &mut Feed) -> Result<(), EngineError> {
        if !request.values.is_empty() {
            let numbered = parameters::numbered(request.text, &SQLSERVER);
            let told = self.with_values(&numbered, request.values, feed);
            return told.map_err(|error| error.as_written(&numbered));
        }
        let parts = batch::parts(request.text, &SQLSERVER);
        let mut setting = None;
        let mut outcome = Ok(());
        'all: for (range, times) in &parts {
            let text = request.text.get(range.clone()).unwrap_or_default();
            let lower = text.trim().to_ascii_lowercase();
            setting = setting
                .or(FOR_THIS_RUN.into_iter().find(|setting| parts.len() > 1 && lower == format!("{setting} on")));
            let before = request.text.get(..range.start).unwrap_or_default();
            let part = Part { text, at: range.start, line: before.matches('\n').count() as u32 };
            for _ in 0..*times {
                outcome = self.send(feed, &part, async |client| client.batch(text).await);
                if outcome.is_err() {
                    break 'all;
                }
            }
        }
        if let Some(setting) = setting.filter(|_| !matches!(&outcome, Err(error) if error.kind == ErrorKind::Lost)) {
            self.patience.follow_none();
            let taken_back = self.ask(&format!("{setting} off"));
            outcome = outcome.and(taken_back.map(drop));
        }
        outcome
    }

    fn with_values(&mut self, numbered: &Numbered, values: &[Value], feed: &mut Feed) -> Result<(), EngineError> {
        let text = numbered.text.as_str();
        let names = parameters::names(text, &SQLSERVER);
        let given: Vec<(&str, bool, Parameter)> = numbered
            .names
            .iter()
            .zip(&names)
            .map(|(name, sent)| (sent.as_str(), gives_back(text, sent), parameter(value_of(values, name))))
            .collect();
        let part = Part { text, at: 0, line: 0 };
        self.send(feed, &part, async |client| client.with_values(text, &given).await)
    }

    /// Sends something, and hands on what comes.
    fn send(
        &mut self,
        feed: &mut Feed,
        part: &Part<'_>,
        send: impl AsyncFnOnce(&mut Client<Way>) -> Result<(), jaunty_tds::Error>,
    ) -> Result<(), EngineError> {
        let sending = self.link.runtime.block_on(async {
            let patience = &self.patience;
            let look = || if patience.is_over() { Flow::Stop } else { feed.look() };
            patient(send(&mut self.link.client), look).await
        });
        match sending {
            Some(sent) => sent.map_err(|error| errors::broken(&error))?,
            // A part of it may have been sent: nothing can be put behind that.
            None => {
                return Err(EngineError::new(ErrorKind::Lost, "the connection was closed: the server did not listen"));
            }
        }
        let mut results =
            Results { feed, part, columns: Vec::new(), open: false, ended: false, error: None, scratch: String::new() };
        let outcome = self.take(&mut results);
        let Results { feed, ended, error, .. } = results;
        let outcome = outcome.and_then(|()| match error {
            Some(message) => Err(statement_error(&message, part)),
            None => Ok(()),
        });
        if !ended && outcome.is_ok() {
            feed.ends(None);
        }
        outcome
    }

    /// Takes all of an answer.
    fn take(&mut self, results: &mut Results<'_>) -> Result<(), EngineError> {
        let mut outputs: Vec<(String, Option<String>)> = Vec::new();
        loop {
            if self.patience.is_over() || results.feed.flow() == Flow::Stop {
                results.feed.stop();
                self.end()?;
                return Err(EngineError::stopped());
            }
            let token = match self.link.client.token().map_err(|error| errors::broken(&error))? {
                Pace::Token(token) => token,
                Pace::Wait => {
                    // Also where bytes trickle, what is there is shown.
                    if results.feed.look() != Flow::Stop {
                        self.wait(|feed| feed.look(), results.feed)?;
                    }
                    continue;
                }
            };
            self.note(&token);
            match token {
                Token::Columns(columns) if !columns.is_empty() => results.begin(columns),
                Token::Row(row) if row.values.len() >= LONG => {
                    let (bytes, row) = self.link.client.detach(row);
                    results.long_row(bytes, &row)?;
                }
                Token::Row(row) => results.row(&self.link.client, &row)?,
                Token::Done(done) => results.done(&done),
                Token::Error(message) => results.error(message),
                Token::Info(message) if !HEARD.contains(&message.number) => {
                    results.feed.message(told(&message, results.part))
                }
                // That of a call of ours says nothing, and 0 that all is well.
                Token::Status(status) if status != 0 => outputs.push(("return value".into(), Some(status.to_string()))),
                Token::Output { name, info, value } => {
                    let text = value.map(|raw| value::text(&info, &raw));
                    outputs.push((name.trim_start_matches('@').to_owned(), text));
                }
                Token::End => break,
                _ => {}
            }
        }
        if !outputs.is_empty() {
            results.feed.output(output_row(&outputs)?);
        }
        Ok(())
    }

    /// Waits for more of an answer; a wish to end is seen by who calls.
    fn wait(&mut self, look: impl Fn(&mut Feed) -> Flow, feed: &mut Feed) -> Result<(), EngineError> {
        let patience = &self.patience;
        let filled = self.link.runtime.block_on(async {
            let look = || if patience.is_over() || patience.is_overdue() { Flow::Stop } else { look(feed) };
            patient(self.link.client.fill(), look).await
        });
        match filled {
            Some(filled) => filled.map_err(|error| errors::broken(&error)),
            None => Ok(()),
        }
    }

    /// Asks the server to end what it does, and passes over what is still on its way: so long as a server may take.
    pub(super) fn end(&mut self) -> Result<(), EngineError> {
        let within = self.patience.within;
        let mut seen = Vec::new();
        let ended = self.link.runtime.block_on(async {
            let client = &mut self.link.client;
            let ending = async {
                client.attention().await?;
                let mut passed = 0_u32;
                loop {
                    match client.token()? {
                        Pace::Token(Token::End) => return Ok(()),
                        Pace::Token(token @ Token::Environment(_)) => seen.push(token),
                        Pace::Token(_) => {}
                        Pace::Wait => client.fill().await?,
                    }
                    passed += 1;
                    // A server that always has something would never let the clock be looked at.
                    if passed.is_multiple_of(256) {
                        tokio::task::yield_now().await;
                    }
                }
            };
            tokio::time::timeout(within, ending).await
        });
        seen.iter().for_each(|token| self.note(token));
        match ended {
            Ok(Ok(())) => Ok(()),
            Ok(Err(error)) => Err(errors::broken(&error)),
            Err(_) => Err(cancel_timeout(within)),
        }
    }

    /// Asks the server something of our own, all of it at once, with all its messages of errors.
    pub(super) fn ask_all(
        &mut self,
        text: &str,
        limit: Option<Duration>,
    ) -> Result<(Vec<Row>, Vec<Message>), EngineError> {
        self.refuse_if_lost()?;
        let answered = self.ask_within(text, limit);
        if let Err(error) = &answered
            && error.kind == ErrorKind::Lost
        {
            self.lost = Some(error.clone());
        }
        answered
    }

    fn ask_within(&mut self, text: &str, limit: Option<Duration>) -> Result<(Vec<Row>, Vec<Message>), EngineError> {
        let link = &mut self.link;
        link.runtime.block_on(link.client.batch(text)).map_err(|error| errors::broken(&error))?;
        self.answer(limit)
    }

    /// Takes all of an answer to something of our own.
    pub(super) fn answer(&mut self, limit: Option<Duration>) -> Result<(Vec<Row>, Vec<Message>), EngineError> {
        let until = limit.map(|limit| Instant::now() + limit);
        let is_late = move || until.is_some_and(|until| Instant::now() >= until);
        let broken = |error: jaunty_tds::Error| errors::broken(&error);
        let (mut rows, mut columns, mut failed) = (Vec::new(), Vec::<Column>::new(), Vec::new());
        loop {
            if self.patience.is_over() || is_late() {
                self.end()?;
                return Err(EngineError::stopped());
            }
            if self.patience.is_overdue() {
                return Err(self.link.route.silent_after());
            }
            let token = match self.link.client.token().map_err(broken)? {
                Pace::Token(token) => token,
                Pace::Wait => {
                    let patience = &self.patience;
                    let look = || if is_late() { Flow::Stop } else { patience.look() };
                    let filled = self.link.runtime.block_on(patient(self.link.client.fill(), look));
                    filled.unwrap_or(Ok(())).map_err(broken)?;
                    continue;
                }
            };
            self.note(&token);
            match token {
                Token::Columns(all) => columns = all,
                Token::Row(row) => rows.push(texts(&columns, &self.link.client, &row)),
                Token::Error(message) => failed.push(message),
                Token::End => return Ok((rows, failed)),
                _ => {}
            }
        }
    }

    /// Asks the server something of our own that it takes.
    pub(super) fn ask(&mut self, text: &str) -> Result<Vec<Row>, EngineError> {
        let (rows, failed) = self.ask_all(text, None)?;
        match failed.first() {
            Some(message) => Err(errors::statement(message, text)),
            None => Ok(rows),
        }
    }
}

/// Waits for something, and comes back now and then to look. `None` where nothing is wanted any more; nothing is lost
/// then, and it can be waited for anew.
pub(super) async fn patient<T>(work: impl Future<Output = T>, mut look: impl FnMut() -> Flow) -> Option<T> {
    let mut work = std::pin::pin!(work);
    // What is there already costs no clock.
    if let std::task::Poll::Ready(done) = there(work.as_mut()).await {
        return Some(done);
    }
    loop {
        match tokio::time::timeout(BATCH_DELAY, &mut work).await {
            Ok(done) => return Some(done),
            Err(_) if look() == Flow::Stop => return None,
            Err(_) => {}
        }
    }
}

/// Results on their way to a sink.
struct Results<'a> {
    feed: &'a mut Feed,
    part: &'a Part<'a>,
    columns: Vec<Column>,
    /// A result has begun and not ended.
    open: bool,
    /// Something ended.
    ended: bool,
    /// The last error. Those before are told as messages.
    error: Option<Message>,
    scratch: String,
}

impl Results<'_> {
    fn begin(&mut self, columns: Vec<Column>) {
        self.feed.begin(types::columns(&columns));
        self.columns = columns;
        self.open = true;
    }

    fn row(&mut self, client: &Client<Way>, row: &Place) -> Result<(), EngineError> {
        let nulls = row.nulls.clone().map(|nulls| client.bytes(nulls));
        let bytes = client.bytes(row.values.clone());
        let mut at = 0;
        for (index, column) in self.columns.iter().enumerate() {
            let raw = if is_null(nulls, index) { None } else { value::take(bytes, &mut at, column.info.length) };
            let columns = self.feed.columns();
            match raw {
                None => columns.cells(index).null(),
                Some(raw) => types::append_or_widen(&column.info, &raw, index, columns, &mut self.scratch)?,
            }
        }
        self.feed.end_row(bytes.len());
        Ok(())
    }

    /// Takes a row that is long, the only one of its batch: what is long in it is made what is kept where it lies.
    fn long_row(&mut self, mut bytes: Vec<u8>, row: &Place) -> Result<(), EngineError> {
        let nulls = row.nulls.clone().and_then(|nulls| bytes.get(nulls)).map(<[u8]>::to_vec);
        let mut at = row.values.start;
        let mut places = Vec::with_capacity(self.columns.len());
        for (index, column) in self.columns.iter().enumerate() {
            let info = &column.info;
            let raw = match info.length {
                _ if is_null(nulls.as_deref(), index) => None,
                Length::Parts => value::join(&mut bytes, &mut at),
                length => value::take(&bytes, &mut at, length).map(|raw| at - raw.len()..at),
            };
            let kept = raw.clone().filter(|raw| raw.len() >= LONG);
            let kept = kept.and_then(|raw| value::in_place(info, &mut bytes, raw));
            places.push((raw, kept));
        }
        let arrived = Arrived::of(bytes);
        let part = |at: Range<usize>| arrived.bytes().get(at).unwrap_or_default();
        let (columns, scratch) = (&self.columns, &mut self.scratch);
        self.feed.alone(|feed| {
            for (index, (column, place)) in columns.iter().zip(places).enumerate() {
                let columns = feed.columns();
                match place {
                    (None, _) => columns.cells(index).null(),
                    // What has become UTF-8 always can be.
                    (_, Some(kept)) if columns.hold(index, &arrived, part(kept.clone())) => {}
                    (Some(raw), _) => types::append_or_widen(&column.info, part(raw), index, columns, scratch)?,
                }
            }
            feed.end_row(row.values.len());
            Ok(())
        })
    }

    fn done(&mut self, done: &jaunty_tds::Done) {
        let changes = CHANGES.contains(&done.command);
        if self.open {
            self.feed.ends(done.rows.filter(|_| changes));
            (self.open, self.ended) = (false, true);
        } else if let Some(rows) = done.rows.filter(|_| !done.failed && !done.procedure) {
            self.feed.ends(Some(rows));
            self.ended = true;
        }
    }

    fn error(&mut self, message: Message) {
        if let Some(before) = self.error.replace(message) {
            self.feed.message(told(&before, self.part));
        }
    }
}

/// Whether the bits of a row say that a column is NULL.
#[inline]
fn is_null(nulls: Option<&[u8]>, column: usize) -> bool {
    nulls.is_some_and(|nulls| nulls.get(column / 8).is_some_and(|byte| byte >> (column % 8) & 1 != 0))
}

/// A message, as a sink takes it. Its line is that of what a person wrote.
fn told(message: &Message, part: &Part<'_>) -> Told {
    let inside = message.procedure.is_empty() && message.line > 0;
    let from = if message.procedure.is_empty() { String::new() } else { format!("{}: ", message.procedure) };
    Told {
        severity: if message.class > 10 { "error" } else { "message" }.to_owned(),
        code: (message.number != 0).then(|| message.number.to_string()),
        line: inside.then(|| message.line + part.line),
        text: format!("{from}{}", message.text),
    }
}

fn statement_error(message: &Message, part: &Part<'_>) -> EngineError {
    let error = errors::statement(message, part.text);
    let at = error.at.map(|at| part.at + at);
    error.at(at)
}

fn texts(columns: &[Column], client: &Client<Way>, row: &Place) -> Row {
    let nulls = row.nulls.clone().map(|nulls| client.bytes(nulls));
    let bytes = client.bytes(row.values.clone());
    let mut at = 0;
    let each = columns.iter().enumerate().map(|(index, column)| {
        let raw = if is_null(nulls, index) { None } else { value::take(bytes, &mut at, column.info.length) };
        raw.map(|raw| value::text(&column.info, &raw)).unwrap_or_default()
    });
    each.collect()
}

/// Values that a call gives back, as a row of text.
fn output_row(values: &[(String, Option<String>)]) -> Result<RecordBatch, EngineError> {
    let fields: Vec<Field> = values.iter().map(|(name, _)| Field::new(name, DataType::Utf8, true)).collect();
    let columns = values.iter().map(|(_, value)| Arc::new(StringArray::from(vec![value.as_deref()])) as ArrayRef);
    RecordBatch::try_new(Arc::new(Schema::new(fields)), columns.collect()).map_err(|error| local(&error))
}

/// Whether a parameter takes a value back: `@name output`.
fn gives_back(text: &str, name: &str) -> bool {
    let lower = text.to_ascii_lowercase();
    let name = name.to_ascii_lowercase();
    let mut behind = lower.split(&name).skip(1);
    let word = |rest: &str| {
        let rest = rest.trim_start();
        let word: String = rest.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
        word == "output" || word == "out"
    };
    behind.any(word)
}

/// A value as it is sent.
fn parameter(given: ParameterValue) -> Parameter {
    match given {
        ParameterValue::Null => Parameter::Null,
        ParameterValue::Bool(value) => Parameter::Bit(value),
        ParameterValue::Int(value) => Parameter::Int(value),
        // Its digits count: as text the server reads them as what they stand beside.
        ParameterValue::Number(text) | ParameterValue::Text(text) => Parameter::Text(text),
        ParameterValue::Bytes(bytes) => Parameter::Bytes(bytes),
    }
}
