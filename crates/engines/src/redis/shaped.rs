//! Replies whose documentation gives them a shape of their own, as rows with the columns that it names: facts of the server,
//! clients, entries of streams, slow commands. <https://redis.io/docs/latest/commands/>

use std::collections::HashMap;

use arrow_array::RecordBatch;
use arrow_schema::ArrowError;
use chrono::DateTime;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value as Cell};
use redis::Value;

use super::reply::{cell, deep, text};

/// Entries with more different fields than this stay lists: they are no table.
const MOST_FIELDS: usize = 100;

/// Rows with columns, of a reply that stays where it is.
pub struct Table<'v> {
    columns: Vec<String>,
    /// In the order of the columns.
    rows: Vec<Vec<Part<'v>>>,
}

/// A value in a row.
enum Part<'v> {
    Null,
    Number(i64),
    Text(String),
    /// As the server sent it, whatever it is.
    Sent(&'v Value),
}

impl Part<'_> {
    fn of(text: &str) -> Self {
        // A number with a sign or zeros before it is none that is counted with.
        match text.parse::<i64>() {
            Ok(number) if number.to_string() == text => Part::Number(number),
            _ => Part::Text(text.to_owned()),
        }
    }
}

/// The rows of a reply to a command that has a shape of its own; none where the reply is another, as inside a transaction.
pub fn shaped<'v>(command: &[Vec<u8>], reply: &'v Value) -> Option<Table<'v>> {
    let word = |at: usize| command.get(at).map(|word| String::from_utf8_lossy(word).to_uppercase()).unwrap_or_default();
    let (first, second) = (word(0), word(1));
    match (first.as_str(), second.as_str()) {
        ("INFO", _) => facts(&told(reply)?, true),
        ("CLUSTER", "INFO") => facts(&told(reply)?, false),
        ("CLIENT", "LIST" | "INFO") => clients(&told(reply)?),
        ("SLOWLOG", "GET") => slow(reply),
        ("XRANGE" | "XREVRANGE" | "XCLAIM", _) => entries([(None, reply)].into_iter()),
        ("XREAD" | "XREADGROUP", _) => match reply {
            Value::Map(streams) => entries(streams.iter().map(|(stream, found)| (Some(stream), found))),
            _ => None,
        },
        _ => None,
    }
}

/// A reply that is one text.
fn told(reply: &Value) -> Option<String> {
    match reply {
        Value::BulkString(_) | Value::VerbatimString { .. } => Some(text(reply)),
        _ => None,
    }
}

/// Lines of `name:value`, below lines of `# Section`.
fn facts(text: &str, sections: bool) -> Option<Table<'static>> {
    let (mut section, mut rows) = ("", Vec::new());
    for line in text.lines().map(str::trim_end).filter(|line| !line.is_empty()) {
        if let Some(name) = line.strip_prefix('#').filter(|_| sections) {
            section = name.trim();
            continue;
        }
        let (name, value) = line.split_once(':')?;
        let fact = [Part::Text(name.to_owned()), Part::of(value)];
        rows.push(sections.then(|| Part::Text(section.to_owned())).into_iter().chain(fact).collect());
    }
    let columns = sections.then_some("section").into_iter().chain(["name", "value"]);
    Some(Table { columns: columns.map(str::to_owned).collect(), rows })
}

/// A client a line, as `id=7 addr=127.0.0.1:5000 name= age=2`.
fn clients(text: &str) -> Option<Table<'static>> {
    let mut columns: Vec<String> = Vec::new();
    let mut rows = Vec::new();
    for line in text.lines().filter(|line| !line.is_empty()) {
        let mut row = Vec::new();
        for field in line.split(' ') {
            let (name, value) = field.split_once('=')?;
            put(&mut columns, &mut row, 0, name, Part::of(value))?;
        }
        rows.push(row);
    }
    Some(Table { columns, rows })
}

/// Slow commands: a number, when, microseconds, the command, and in newer servers the client and its name.
fn slow(reply: &Value) -> Option<Table<'static>> {
    let Value::Array(entries) = reply else { return None };
    let row = |entry: &Value| {
        let Value::Array(parts) = entry else { return None };
        let [Value::Int(id), Value::Int(at), Value::Int(took), Value::Array(command), client @ ..] = parts.as_slice()
        else {
            return None;
        };
        let at = DateTime::from_timestamp(*at, 0)?.format("%Y-%m-%d %H:%M:%SZ").to_string();
        let command = command.iter().map(text).collect::<Vec<_>>().join(" ");
        let mut row = vec![Part::Number(*id), Part::Text(at), Part::Number(*took), Part::Text(command)];
        row.extend((0..2).map(|nth| client.get(nth).map_or(Part::Null, |part| Part::Text(text(part)))));
        Some(row)
    };
    let columns = ["id", "at", "microseconds", "command", "client", "client_name"].map(str::to_owned).to_vec();
    Some(Table { columns, rows: entries.iter().map(row).collect::<Option<_>>()? })
}

/// Entries of streams: the stream where there may be several, the entry's id, and a column for each of their fields.
fn entries<'v>(streams: impl Iterator<Item = (Option<&'v Value>, &'v Value)>) -> Option<Table<'v>> {
    let (mut columns, mut rows) = (Vec::new(), Vec::new());
    for (stream, found) in streams {
        let fixed = if stream.is_some() { &["stream", "id"][..] } else { &["id"] };
        if columns.is_empty() {
            columns.extend(fixed.iter().map(|name| (*name).to_owned()));
        }
        let Value::Array(found) = found else { return None };
        for entry in found {
            let Value::Array(parts) = entry else { return None };
            let [id @ Value::BulkString(_), fields] = parts.as_slice() else { return None };
            let mut row: Vec<Part<'v>> = stream.into_iter().chain([id]).map(Part::Sent).collect();
            match fields {
                Value::Array(fields) if fields.len().is_multiple_of(2) => {
                    for pair in fields.chunks(2) {
                        let [name, value] = pair else { return None };
                        put(&mut columns, &mut row, fixed.len(), &text(name), Part::Sent(value))?;
                    }
                }
                // It was removed since it was delivered.
                Value::Nil => {}
                _ => return None,
            }
            rows.push(row);
        }
    }
    // Without any entry its columns are not known, but that of its id.
    Some(Table { columns, rows }).filter(|table| !table.columns.is_empty())
}

/// Puts a field into its column, which is a new one where none of this name comes after the first `fixed`. A field that is
/// there twice, or one more than are shown, makes no row of this shape.
fn put<'v>(columns: &mut Vec<String>, row: &mut Vec<Part<'v>>, fixed: usize, name: &str, part: Part<'v>) -> Option<()> {
    let known = columns.iter().skip(fixed).position(|known| known == name).map(|at| at + fixed);
    let at = known.unwrap_or(columns.len());
    if known.is_none() {
        if columns.len() >= MOST_FIELDS + fixed {
            return None;
        }
        columns.push(name.to_owned());
    }
    row.resize_with(row.len().max(at + 1), || Part::Null);
    let place = row.get_mut(at).filter(|place| matches!(place, Part::Null))?;
    *place = part;
    Some(())
}

impl Table<'_> {
    /// Its rows, in batches. The first tells the columns even if there are no rows.
    pub fn rows(&self, mut push: impl FnMut(RecordBatch) -> bool) -> Result<(), ArrowError> {
        let announced = self.columns.iter().map(|name| Announced { name: name.clone(), ..Announced::default() });
        let mut assembler = Assembler::new(announced.collect());
        let mut deep_ones: HashMap<usize, String> = HashMap::new();
        for row in &self.rows {
            deep_ones.clear();
            for (column, part) in row.iter().enumerate() {
                if let Part::Sent(value) = part {
                    deep_ones.extend(deep(value).map(|text| (column, text)));
                }
            }
            let full = assembler.push_row(|column| match row.get(column) {
                None | Some(Part::Null) => Cell::Null,
                Some(Part::Number(number)) => Cell::Int(*number),
                Some(Part::Text(text)) => Cell::Text(text),
                Some(Part::Sent(value)) => deep_ones.get(&column).map_or_else(|| cell(value), |text| Cell::Text(text)),
            })?;
            if full && !push(assembler.take()?) {
                return Ok(());
            }
        }
        push(assembler.take()?);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use jaunty_seam::rows::cell::ColumnReader;

    use super::*;

    fn shown(command: &str, reply: &Value) -> Option<Vec<String>> {
        let words: Vec<Vec<u8>> = command.split(' ').map(|word| word.as_bytes().to_vec()).collect();
        let mut lines = Vec::new();
        let table = shaped(&words, reply)?;
        table
            .rows(|batch| {
                let names: Vec<String> = batch.schema().fields().iter().map(|field| field.name().clone()).collect();
                lines.push(names.join(" | "));
                let readers = ColumnReader::all(&batch);
                let line = |row| readers.iter().map(|r| r.get(row).text.into_owned()).collect::<Vec<_>>().join(" | ");
                lines.extend((0..batch.num_rows()).map(line));
                true
            })
            .unwrap();
        Some(lines)
    }

    fn bulk(text: &str) -> Value {
        Value::BulkString(text.as_bytes().to_vec())
    }

    fn list(values: Vec<Value>) -> Value {
        Value::Array(values)
    }

    #[test]
    fn facts_and_clients_are_rows() {
        let info =
            bulk("# Server\r\nredis_version:7.0.15\r\n\r\n# Memory\r\nused_memory:1211968\r\ndb0:keys=7,avg_ttl=0\r\n");
        let facts = [
            "section | name | value",
            "Server | redis_version | 7.0.15",
            "Memory | used_memory | 1211968",
            "Memory | db0 | keys=7,avg_ttl=0",
        ];
        assert_eq!(shown("info", &info).unwrap(), facts);
        assert_eq!(
            shown("CLUSTER info", &bulk("cluster_state:ok\r\n")).unwrap(),
            ["name | value", "cluster_state | ok"]
        );
        let clients = bulk("id=7 addr=127.0.0.1:5000 name= age=2\nid=8 addr=[::1]:1 name=quay age=030 lib=x\n");
        assert_eq!(
            shown("client LIST", &clients).unwrap(),
            ["id | addr | name | age | lib", "7 | 127.0.0.1:5000 |  | 2 | ∅", "8 | [::1]:1 | quay | 030 | x"]
        );
        // What is not as it is documented stays as it is; so does what waits for the end of a transaction.
        for (command, reply) in [
            ("info", bulk("no colon")),
            ("client list", bulk("id 7")),
            ("client list", bulk("id=7 id=8")),
            ("info", Value::SimpleString("QUEUED".into())),
            ("client id", Value::Int(7)),
            ("get info", bulk("a:b")),
        ] {
            assert!(shown(command, &reply).is_none(), "{command}");
        }
    }

    #[test]
    fn entries_of_streams_have_their_fields_as_columns() {
        let entry =
            |id: &str, fields: &[&str]| list(vec![bulk(id), list(fields.iter().map(|field| bulk(field)).collect())]);
        let two = list(vec![entry("1-0", &["port", "SMQ", "berth", "3"]), entry("2-0", &["port", "GUL", "id", "x"])]);
        assert_eq!(
            shown("xrange s - +", &two).unwrap(),
            ["id | port | berth | id", "1-0 | SMQ | 3 | ∅", "2-0 | GUL | ∅ | x"]
        );
        let read =
            Value::Map(vec![(bulk("s"), two.clone()), (bulk("t"), list(vec![list(vec![bulk("3-0"), Value::Nil])]))]);
        let rows = shown("xreadgroup group g c streams s t > >", &read).unwrap();
        assert_eq!((rows[0].as_str(), rows[3].as_str()), ("stream | id | port | berth | id", "t | 3-0 | ∅ | ∅ | ∅"));
        assert_eq!(shown("xrange s - +", &list(vec![])).unwrap(), ["id"]);
        let wide: Vec<String> = (0..=MOST_FIELDS).flat_map(|n| [format!("f{n}"), "1".into()]).collect();
        let wide = entry("1-0", &wide.iter().map(String::as_str).collect::<Vec<_>>());
        for odd in [
            list(vec![wide]),
            list(vec![entry("1-0", &["a"])]),
            list(vec![entry("1-0", &["a", "1", "a", "2"])]),
            list(vec![bulk("1-0")]),
            Value::Nil,
        ] {
            assert!(shown("xrange s - +", &odd).is_none());
        }
    }

    #[test]
    fn slow_commands_say_when_and_how_long() {
        let entry = list(vec![
            Value::Int(4),
            Value::Int(1_930_000_000),
            Value::Int(12_345),
            list(vec![bulk("keys"), bulk("*")]),
            bulk("127.0.0.1:5000"),
            bulk(""),
        ]);
        let rows = shown("slowlog get 9", &list(vec![entry])).unwrap();
        assert_eq!(rows[0], "id | at | microseconds | command | client | client_name");
        assert_eq!(rows[1], "4 | 2031-02-27 23:06:40Z | 12345 | keys * | 127.0.0.1:5000 | ");
        assert!(shown("slowlog len", &Value::Int(1)).is_none());
    }
}
