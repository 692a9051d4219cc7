//! Many rows at once: `LOAD DATA LOCAL INFILE`, whose file is what we send, or statements of many rows where the server
//! does not take that.

use arrow_array::{Array, RecordBatch};
use arrow_schema::DataType;
use jaunty_language::dialect::MYSQL;
use jaunty_mysql::{Client, Done, Error, Pace, Token};
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting, NextRows, by_statements, holds_bytes};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::moment;
use jaunty_seam::rows::shape::{digits_as_sent, is_shape};

use super::connect::Way;
use super::errors;
use super::session::{MysqlSession, field};
use crate::net::formed::{Form, as_read};
use crate::net::tabbed;

/// A row that is there already, in Skip mode: the server's number for it.
const DUPLICATE: &str = "1062";

impl MysqlSession {
    pub(super) fn load_rows(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        self.patience.follow(&load.stop);
        let mut first = next()?;
        while first.as_ref().is_some_and(|batch| batch.num_rows() == 0) {
            first = next()?;
        }
        // Points in time that say their offset come by the clocks of UTC, and a `timestamp` is read by those then.
        let is_shifted = match &first {
            Some(batch) => has_zones(batch, load) || offsets(batch, load).any(|says_one| says_one),
            None => false,
        };
        if is_shifted {
            self.ask("set @jaunty_zone = @@time_zone, time_zone = '+00:00'")?;
        }
        let read = |batch: RecordBatch| {
            // One zone holds for all of them: those of the other kind would be other moments.
            if offsets(&batch, load).any(|says_one| says_one != is_shifted) {
                let what =
                    "some timestamps have an offset from UTC and others do not: what those mean depends on the session";
                let remedy = "Give all of them an offset, or none, or load them into a datetime.";
                return Err(EngineError::new(ErrorKind::Refused, what).remedy(remedy));
            }
            as_read(batch, load, form_of)
        };
        let mut next = || first.take().map_or_else(&mut *next, |batch| Ok(Some(batch)))?.map(read).transpose();
        let outcome = self.load_read(load, &mut next);
        if is_shifted && !matches!(&outcome, Err(error) if error.kind == ErrorKind::Lost) {
            self.ask("set time_zone = @jaunty_zone")?;
        }
        outcome
    }

    fn load_read(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        // Replacing by `LOAD DATA` deletes rows first, with all that references them.
        let takes_files = load.meeting != Meeting::Replace
            && self.ask("select @@local_infile")?.first().is_some_and(|row| field(row, 0) == "1");
        if !takes_files {
            return by_statements(self, load, next);
        }
        let statement = statement(load);
        // The server asks for a file by a name, which means nothing here: it gets these rows and never a file.
        let (done, sent) = self
            .within(async |client| load_file(client, &statement, load, next).await, None)?
            .map_err(|error| errors::statement(&error, &statement))?;
        sent?;
        if done.warnings > 0 {
            self.refuse_what_was_changed(load)?;
        }
        Ok(done.affected)
    }

    /// With a file that a client sends the server warns where it would refuse: values that it changed, rows that it left
    /// out.
    fn refuse_what_was_changed(&mut self, load: &Load<'_>) -> Result<(), EngineError> {
        for row in self.ask("show warnings")? {
            let (level, code, text) = (field(&row, 0), field(&row, 1), field(&row, 2));
            if level == "Note" || load.meeting == Meeting::Skip && code == DUPLICATE {
                continue;
            }
            let remedy = errors::remedy(code.parse().unwrap_or_default(), &text);
            let error = EngineError::new(ErrorKind::Refused, text).code(code);
            return Err(if remedy.is_empty() { error } else { error.remedy(remedy) });
        }
        Ok(())
    }
}

/// Carries a `LOAD DATA LOCAL` out whose file is the rows. Where they fail, the server takes what it has so far.
async fn load_file(
    client: &mut Client<Way>,
    statement: &str,
    load: &Load<'_>,
    next: &mut NextRows<'_>,
) -> Result<(Done, Result<(), EngineError>), Error> {
    let (mut done, mut sent) = (Done::default(), Ok(()));
    client.query(statement).await?;
    loop {
        match client.token()? {
            Pace::Wait => client.fill().await?,
            Pace::Token(Token::File(_)) => {
                sent = send_rows(client, load, next).await?;
                client.end_parts().await?;
            }
            Pace::Token(Token::Done(told)) => done = told,
            // Of two errors ours is the reason.
            Pace::Token(Token::Error(error)) if sent.is_ok() => return Err(Error::Server(error)),
            Pace::Token(Token::Error(_) | Token::End) => return Ok((done, sent)),
            Pace::Token(_) => {}
        }
    }
}

async fn send_rows(
    client: &mut Client<Way>,
    load: &Load<'_>,
    next: &mut NextRows<'_>,
) -> Result<Result<(), EngineError>, Error> {
    let (mut scratch, mut lines) = (String::new(), Vec::new());
    loop {
        let batch = match next() {
            Ok(Some(_)) if load.stop.is_wished() => return Ok(Err(EngineError::stopped())),
            Ok(Some(batch)) => batch,
            Ok(None) => return Ok(Ok(())),
            Err(error) => return Ok(Err(error)),
        };
        let columns = ColumnReader::all(&batch);
        lines.clear();
        (0..batch.num_rows()).for_each(|row| tabbed::put_row(&columns, row, &[], &mut scratch, &mut lines));
        client.send_part(&lines).await?;
    }
}

/// How values are put for the server, which reads no offsets of zones (MariaDB), or only some (MySQL).
fn form_of(column: &Column) -> Option<Form> {
    let lower = column.db_type.to_ascii_lowercase();
    if is_shape(&lower, &MYSQL) {
        return Some(|text| digits_as_sent(text, "geometry", &MYSQL));
    }
    (lower.starts_with("datetime") || is_stamp(&lower)).then_some(moment::utc)
}

/// Whether a column keeps points in time, whatever the clocks of a session show.
fn is_stamp(db_type: &str) -> bool {
    db_type.to_ascii_lowercase().starts_with("timestamp")
}

/// Whether a column of such points in time has a zone, also where it has no values yet.
fn has_zones(batch: &RecordBatch, load: &Load<'_>) -> bool {
    let schema = batch.schema();
    let mut columns = schema.fields().iter().zip(load.columns);
    columns.any(|(field, of)| is_stamp(&of.db_type) && matches!(field.data_type(), DataType::Timestamp(_, Some(_))))
}

/// Of each value for such columns whether it says its offset.
fn offsets<'a>(batch: &'a RecordBatch, load: &'a Load<'_>) -> impl Iterator<Item = bool> + 'a {
    let columns = batch.columns().iter().zip(batch.schema_ref().fields()).zip(load.columns);
    let stamps = columns.filter(|(_, of)| is_stamp(&of.db_type));
    stamps.flat_map(|((column, field), _)| {
        let (reader, mut text) = (ColumnReader::of(column, field), String::new());
        (0..column.len()).filter_map(move |row| {
            text.clear();
            (reader.put(row, &mut text) != CellKind::Null).then(|| moment::utc(&text).is_some())
        })
    })
}

fn statement(load: &Load<'_>) -> String {
    let written = |name: &str| load.dialect.name_as_written(name);
    let (mut columns, mut sets) = (Vec::new(), Vec::new());
    for (number, column) in load.columns.iter().enumerate() {
        let lower = column.db_type.to_ascii_lowercase();
        let name = written(&column.name);
        let by = if holds_bytes(&lower, load.dialect) {
            Some(format!("unhex(regexp_replace(@v{number}, '^(0x|.x)', ''))"))
        } else if lower.starts_with("bit") {
            // A text would be bits itself.
            Some(format!(
                "case when @v{number} in ('true', 't') then 1 when @v{number} in ('false', 'f') then 0 else cast(@v{number} as unsigned) end"
            ))
        } else if lower.starts_with("tinyint(1)") || lower.starts_with("bool") {
            // A file has words where a statement has numbers.
            Some(format!(
                "case when @v{number} in ('true', 't') then 1 when @v{number} in ('false', 'f') then 0 else @v{number} end"
            ))
        } else {
            None
        };
        match by {
            Some(by) => {
                columns.push(format!("@v{number}"));
                sets.push(format!("{name} = {by}"));
            }
            None => columns.push(name),
        }
    }
    let sets = if sets.is_empty() { String::new() } else { format!(" set {}", sets.join(", ")) };
    let skip = if load.meeting == Meeting::Skip { "ignore " } else { "" };
    format!(
        "load data local infile 'rows' {skip}into table {} character set utf8mb4 \
         fields terminated by '\\t' escaped by '\\\\' lines terminated by '\\n' ({}){sets}",
        load.table,
        columns.join(", ")
    )
}
