//! The statements of a slip, in the order that keys need: to be shown with literals, and sent with parameters.

use std::collections::HashMap;

use jaunty_language::dialect::{Changing, Dialect};
use jaunty_language::statement::parameters::Value;
use jaunty_seam::rows::shape::digits_as_sent;

use crate::catalog::templates::exactly;

use super::{Datum, Draft, Field, Ground, Kind, Row, Slip, What, elements};

/// What is sent for one draft.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// The draft.
    pub draft: usize,
    /// The query that reads the row again and keeps others from changing it; none for a row that is added.
    pub reads: Option<String>,
    /// The statement with parameters.
    pub text: String,
    /// Their values.
    pub values: Vec<Value>,
    /// The statement with literals, as a person reads it.
    pub shown: String,
    /// Statements that have to stand around it.
    pub around: Option<[String; 2]>,
}

/// All steps of a slip.
pub fn steps(slip: &Slip, dialect: &'static Dialect) -> Vec<Step> {
    let Some(changing) = dialect.changing else { return Vec::new() };
    in_order(slip).into_iter().map(|at| step(slip, at, changing, dialect)).collect()
}

/// A statement of those that are sent, to be shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// The draft that it is for; none for what stands around all of them.
    pub draft: Option<usize>,
    /// Whether it is the one that changes something, and not one that reads or prepares.
    pub changes: bool,
    /// It, with literals in the place of the values that are sent, and what ends it.
    pub text: String,
}

/// All statements in the order in which they are sent.
///
/// Inside a transaction that is open it begins with a savepoint, and does not commit.
pub fn listed(slip: &Slip, dialect: &'static Dialect, within: bool) -> Vec<Listed> {
    if let (Some(of), Some(place)) = (dialect.elements, &slip.ground.place) {
        return elements::listed(slip, (of, place), dialect, within);
    }
    let around = |text: &str| Listed { draft: None, changes: false, text: format!("{text};") };
    let mut all = vec![match within {
        true => around(&savepoint(dialect.transaction.savepoint)),
        false => around(dialect.changing.map_or("begin", |changing| changing.begin)),
    }];
    for step in steps(slip, dialect) {
        let [before, after] = step.around.unwrap_or_default();
        let parts = [(step.reads.unwrap_or_default(), false), (before, false), (step.shown, true), (after, false)];
        let parts = parts.into_iter().filter(|(text, _)| !text.is_empty());
        all.extend(parts.map(|(text, changes)| Listed { draft: Some(step.draft), changes, text: format!("{text};") }));
    }
    if !within {
        all.push(around(dialect.transaction.commit));
    }
    all
}

/// The same as a text that could be run: what a person says yes to.
pub fn script(slip: &Slip, dialect: &'static Dialect, within: bool) -> String {
    listed(slip, dialect, within).into_iter().map(|listed| listed.text + "\n").collect()
}

/// The statements that change something as a text of their own, in a transaction: for whoever runs it without looking at
/// rows again first.
pub fn alone(slip: &Slip, dialect: &'static Dialect) -> String {
    let Some(changing) = dialect.changing else { return String::new() };
    let mut text = format!("{};\n", changing.begin);
    for at in in_order(slip) {
        let draft = &slip.drafts[at];
        let mut writer = Writer { dialect, values: None, gives_back: false };
        let around = around(slip, draft, changing).unwrap_or_default();
        let statement = writer.statement(&slip.ground, draft, changing);
        let parts = [around[0].as_str(), statement.as_str(), around[1].as_str()];
        parts.into_iter().filter(|part| !part.is_empty()).for_each(|part| text.push_str(&format!("{part};\n")));
    }
    text + dialect.transaction.commit + ";\n"
}

/// What has to stand around the statement that adds a row, where the server numbers what it gives a value.
fn around(slip: &Slip, draft: &Draft, changing: &Changing) -> Option<[String; 2]> {
    let ground = &slip.ground;
    let numbered = draft.new.keys().any(|field| ground.fields[*field].column.generated.is_some());
    (draft.what == What::Add && numbered && !changing.numbering[0].is_empty())
        .then(|| [0, 1].map(|at| changing.numbering[at].replace("TABLE", &ground.written)))
}

/// A statement about a savepoint, with a name that is not one that a person uses.
pub(super) fn savepoint(words: &str) -> String {
    words.replace("here", "jaunty_slip")
}

fn step(slip: &Slip, at: usize, changing: &Changing, dialect: &'static Dialect) -> Step {
    let (ground, draft) = (&slip.ground, &slip.drafts[at]);
    let reads = (draft.what != What::Add).then(|| reading_exactly(ground, &draft.old, changing, dialect));
    let mut shown = Writer { dialect, values: None, gives_back: true };
    let mut sent = Writer { dialect, values: Some(Vec::new()), gives_back: true };
    let around = around(slip, draft, changing);
    let text = sent.statement(ground, draft, changing);
    Step {
        draft: at,
        reads,
        shown: shown.statement(ground, draft, changing),
        text,
        values: sent.values.unwrap_or_default(),
        around,
    }
}

/// The query that reads a row by what tells it apart, and locks it.
pub(super) fn reading(ground: &Ground, row: &Row, changing: &Changing, dialect: &'static Dialect) -> String {
    reading_with(ground, row, &[], changing, dialect)
}

/// The same, with what is needed to have the row back exactly: after its fields comes each of [`exact`].
pub(super) fn reading_exactly(ground: &Ground, row: &Row, changing: &Changing, dialect: &'static Dialect) -> String {
    let more: Vec<String> = exact(ground, dialect).map(|(_, expression)| expression).collect();
    reading_with(ground, row, &more, changing, dialect)
}

fn reading_with(ground: &Ground, row: &Row, more: &[String], changing: &Changing, dialect: &'static Dialect) -> String {
    let condition = Writer { dialect, values: None, gives_back: true }.condition(ground, row);
    let [before, after] = changing.lock;
    format!("{}{before} where {condition}{after}", select(ground, more, dialect))
}

/// The fields whose values their name does not read exactly, with an expression that does.
pub(super) fn exact<'a>(ground: &'a Ground, dialect: &'a Dialect) -> impl Iterator<Item = (usize, String)> + 'a {
    let fields = ground.fields.iter().enumerate();
    fields.filter_map(|(at, field)| Some((at, exactly(&field.column, dialect)?)))
}

/// The query for a row that the server has just numbered.
pub(super) fn reading_last(ground: &Ground, changing: &Changing, dialect: &Dialect) -> Option<String> {
    let numbered = |at: &&usize| ground.fields[**at].numbered;
    let [key] = ground.key.iter().filter(numbered).collect::<Vec<_>>()[..] else { return None };
    let name = dialect.name_as_written(&ground.fields[*key].column.name);
    (!changing.last_number.is_empty())
        .then(|| format!("{} where {name} = {}", select(ground, &[], dialect), changing.last_number))
}

fn select(ground: &Ground, more: &[String], dialect: &Dialect) -> String {
    let more: String = more.iter().map(|expression| format!(", {expression}")).collect();
    format!("select {}{more} from {}", names(ground, dialect), ground.written)
}

fn names(ground: &Ground, dialect: &Dialect) -> String {
    let names: Vec<_> = ground.fields.iter().map(|field| dialect.name_as_written(&field.column.name)).collect();
    names.join(", ")
}

/// Writes a statement, with literals or with parameters.
struct Writer {
    dialect: &'static Dialect,
    values: Option<Vec<Value>>,
    /// Whether a row that is added is given back.
    gives_back: bool,
}

impl Writer {
    fn statement(&mut self, ground: &Ground, draft: &Draft, changing: &Changing) -> String {
        let table = &ground.written;
        let name = |field: usize| self.dialect.name_as_written(&ground.fields[field].column.name);
        let columns: Vec<String> = draft.new.keys().map(|field| name(*field)).collect();
        let values: Vec<String> = draft.new.iter().map(|(at, value)| self.value(&ground.fields[*at], value)).collect();
        match draft.what {
            What::Change => {
                let pairs: Vec<_> =
                    columns.iter().zip(&values).map(|(column, value)| format!("{column} = {value}")).collect();
                format!("update {table} set {} where {}", pairs.join(", "), self.condition(ground, &draft.old))
            }
            What::Delete => format!("delete from {table} where {}", self.condition(ground, &draft.old)),
            What::Add => {
                let gives_back = changing.inserted.filter(|_| self.gives_back).map(|inserted| {
                    let all = ground.fields.iter().map(|field| {
                        format!("{}{}", inserted.prefix, self.dialect.name_as_written(&field.column.name))
                    });
                    let all = format!(" {} {}", inserted.word, all.collect::<Vec<_>>().join(", "));
                    if inserted.before_values { [all, String::new()] } else { [String::new(), all] }
                });
                let [before, after] = gives_back.unwrap_or_default();
                if columns.is_empty() {
                    return format!("insert into {table}{before} {}{after}", changing.defaults_only);
                }
                let numbered = draft.new.keys().any(|field| ground.fields[*field].column.generated.is_some());
                let numbering = if numbered { changing.numbering[2] } else { "" };
                let (columns, values) = (columns.join(", "), values.join(", "));
                format!("insert into {table} ({columns}){before}{numbering} values ({values}){after}")
            }
        }
    }

    /// What finds one row again.
    fn condition(&mut self, ground: &Ground, row: &Row) -> String {
        let keyed = !ground.key.is_empty();
        let mut all = Vec::new();
        for at in ground.identity() {
            let (Some(field), Some(Some(value))) = (ground.fields.get(at), row.get(at)) else { continue };
            all.push(self.equal(field, value, keyed));
        }
        all.join(" and ")
    }

    fn equal(&mut self, field: &Field, value: &Datum, keyed: bool) -> String {
        let name = self.dialect.name_as_written(&field.column.name);
        let plain = matches!(
            field.kind,
            Kind::Integer(..)
                | Kind::Text(_)
                | Kind::Boolean
                | Kind::Uuid
                | Kind::Date
                | Kind::Choice(_)
                | Kind::Bytes
                | Kind::Shape
                | Kind::Bits(_)
                | Kind::Flag
        );
        match (value, self.dialect.comparing) {
            (Datum::Null | Datum::Default, _) => format!("{name} is null"),
            // Not every type can be compared; its text can.
            (Datum::Number(text) | Datum::Text(text), Some(comparing)) if !keyed && !plain => {
                let as_text = comparing.as_text.replace("VALUE", &name);
                format!("{as_text} = {}", self.value(field, &Datum::Text(text.clone())))
            }
            (value, _) => format!("{name} = {}", self.value(field, value)),
        }
    }

    fn value(&mut self, field: &Field, value: &Datum) -> String {
        let digits = match value {
            Datum::Text(text) => digits_as_sent(text, &field.column.db_type, self.dialect),
            _ => None,
        };
        let as_bytes = digits.map(Datum::Bytes);
        let value = as_bytes.as_ref().unwrap_or(value);
        match (&mut self.values, value.parameter()) {
            (Some(values), Some(parameter)) => {
                let name = format!(":v{}", values.len() + 1);
                values.push((name.clone(), parameter));
                name
            }
            _ => value.literal(self.dialect),
        }
    }
}

/// The drafts in an order in which no key stands in the way: what frees a key comes before what takes it, a row that
/// is referenced before the one that references it, and the other way round where rows go. A circle is left to the
/// server.
fn in_order(slip: &Slip) -> Vec<usize> {
    let rank = |at: &usize| match slip.drafts[*at].what {
        What::Delete => 0,
        What::Change => 1,
        What::Add => 2,
    };
    let mut left: Vec<usize> = (0..slip.drafts.len()).collect();
    left.sort_by_key(rank);
    let followers = followers(slip);
    let mut awaited = vec![0_usize; slip.drafts.len()];
    followers.iter().flatten().for_each(|then| awaited[*then] += 1);
    let (mut ordered, mut is_done) = (Vec::with_capacity(left.len()), vec![false; slip.drafts.len()]);
    // Those that wait for nothing, each followed by what waited for it alone.
    let mut ready: std::collections::VecDeque<usize> = left.iter().copied().filter(|at| awaited[*at] == 0).collect();
    while ordered.len() < left.len() {
        let next = ready.pop_front().or_else(|| left.iter().copied().find(|at| !is_done[*at]));
        let Some(next) = next.filter(|at| !is_done[*at]) else { continue };
        is_done[next] = true;
        ordered.push(next);
        for then in &followers[next] {
            awaited[*then] = awaited[*then].saturating_sub(1);
            if awaited[*then] == 0 && !is_done[*then] {
                ready.push_back(*then);
            }
        }
    }
    ordered
}

/// Which drafts each one has to be sent before.
fn followers(slip: &Slip) -> Vec<Vec<usize>> {
    let ground = &slip.ground;
    let mut followers = vec![Vec::new(); slip.drafts.len()];
    let mut then = |first: usize, then: usize| {
        if first != then {
            followers[first].push(then);
        }
    };
    let leaves = |draft: &Draft, field: usize| match draft.what {
        What::Delete => true,
        What::Change => draft.new.contains_key(&field),
        What::Add => false,
    };
    let takes = |draft: &Draft, field: usize| draft.what != What::Delete && draft.new.contains_key(&field);
    let known = |value: Option<&Datum>| value.filter(|value| !value.is_word()).cloned();
    let drafts = || slip.drafts.iter().enumerate();
    for key in &ground.unique {
        let touched = |draft: &Draft, by: &dyn Fn(&Draft, usize) -> bool| key.iter().any(|field| by(draft, *field));
        let was = |draft: &Draft| key.iter().map(|field| known(draft.was(*field))).collect::<Option<Vec<_>>>();
        let is = |draft: &Draft| key.iter().map(|field| known(draft.value(*field))).collect::<Option<Vec<_>>>();
        let leaving = drafts().filter(|(_, draft)| touched(draft, &leaves));
        let freed: HashMap<_, _> = leaving.filter_map(|(at, draft)| Some((was(draft)?, at))).collect();
        for (at, draft) in drafts().filter(|(_, draft)| touched(draft, &takes)) {
            if let Some(first) = is(draft).and_then(|key| freed.get(&key)) {
                then(*first, at);
            }
        }
    }
    // References of the table to itself.
    for (field, of) in ground.fields.iter().enumerate() {
        let Some((_, column)) = of.references.as_ref().filter(|(table, _)| *table == ground.table) else { continue };
        let Some(key) = ground.fields.iter().position(|field| field.column.name == *column) else { continue };
        let making = drafts().filter(|(_, draft)| takes(draft, key));
        let made: HashMap<_, _> = making.filter_map(|(at, draft)| Some((known(draft.new.get(&key))?, at))).collect();
        let going = drafts().filter(|(_, draft)| leaves(draft, key));
        let gone: HashMap<_, _> = going.filter_map(|(at, draft)| Some((known(draft.was(key))?, at))).collect();
        for (at, draft) in drafts() {
            let wanted = known(draft.new.get(&field)).filter(|_| takes(draft, field));
            if let Some(first) = wanted.and_then(|value| made.get(&value)) {
                then(*first, at);
            }
            let let_go = known(draft.was(field)).filter(|_| leaves(draft, field));
            if let Some(last) = let_go.and_then(|value| gone.get(&value)) {
                then(at, *last);
            }
        }
    }
    followers
}
