//! What is wrong with a statement of a document database.
//!
//! These servers take almost every name: a collection that is not there is empty to them, and a path that no document has
//! fits nothing. So a slip of the hand finds nothing and says nothing, and such names are told here as doubts: see
//! [`Problem::taken`].

use std::ops::Range;

use jaunty_language::dialect::documents::operators::{self, Entry};
use jaunty_language::dialect::documents::read::Reader;
use jaunty_language::dialect::documents::statement::command;
use jaunty_seam::catalog::Object;

use super::{Problem, few_letters_off};
use crate::complete::Surroundings;
use crate::complete::documents::reading::{Place, Reading};

/// Stages after which documents have the paths that they had before.
const KEEP: [&str; 6] = ["match", "sort", "limit", "skip", "sample", "unwind"];

/// Stages in which other collections' paths stand as well.
const FOREIGN: [&str; 4] = ["lookup", "graphLookup", "unionWith", "facet"];

/// Verbs and commands that make the collection that they name.
const MAKERS: [&str; 4] = ["insert", "index", "create", "createIndexes"];

/// Those that make it where they add what they miss.
const ADDERS: [&str; 2] = ["update", "replace"];

/// Commands whose value is a collection that is there.
const WITHIN: [&str; 9] =
    ["find", "aggregate", "count", "distinct", "delete", "update", "findAndModify", "drop", "listIndexes"];

const OPERATORS: &[&[Entry]] = &[
    operators::LOGICAL,
    operators::COMPARISONS,
    operators::GEO,
    operators::CHANGES,
    operators::PUSHED,
    operators::ACCUMULATORS,
    operators::WINDOWS,
    operators::EXPRESSIONS,
];

/// What is wrong with it.
pub fn problems(text: &str, around: Surroundings<'_>) -> Vec<Problem> {
    if is_nothing(text) {
        return Vec::new();
    }
    let mut found: Vec<Problem> = written(text).into_iter().collect();
    if found.is_empty() {
        let mut judge = Judge { text, around, kept: true, stage: None, found: Vec::new(), collection: None };
        let end = Reading::walk(text, |reading, word, at| judge.look(reading, word, at));
        // A verb stands after the collection that it makes.
        let verb = end.as_ref().filter(|end| end.is_short() && end.stages() == 0).and_then(Reading::part);
        found = judge.found;
        if let (true, Some((_, named))) = (verb.is_some_and(|verb| makes(verb, text)), judge.collection) {
            found.retain(|problem| problem.range != named);
        }
    }
    found
}

/// Whether there is nothing but comments, or a word of transactions.
fn is_nothing(text: &str) -> bool {
    let mut reader = Reader::new(text);
    match reader.word() {
        Ok(Some("begin" | "commit" | "rollback")) => reader.take(';').is_ok() && reader.is_done().unwrap_or(false),
        Ok(None) => reader.is_done().unwrap_or(false),
        _ => false,
    }
}

/// Whether a collection is made by a statement of a text around.
pub fn is_made(name: &str, around: &str) -> bool {
    let name = name.trim_matches(['"', '\'']);
    let is_of_word = |c: char| c.is_alphanumeric() || matches!(c, '_' | '$' | '.' | '-');
    let words: Vec<&str> = around.split(|c| !is_of_word(c)).filter(|word| !word.is_empty()).collect();
    let makes = |word: &str| MAKERS.contains(&word) || matches!(word.trim_start_matches('$'), "out" | "merge" | "into");
    words.windows(2).any(|pair| pair.contains(&name) && pair.iter().any(|word| makes(word)))
}

/// What the text says wrongly.
fn written(text: &str) -> Option<Problem> {
    let mistake = command(text).err()?;
    let at = mistake.at.min(text.len());
    let next = text.get(at..).and_then(|rest| rest.chars().next()).map(|c| at..at + c.len_utf8());
    // At the end it is the last sign that something is missing after.
    let last = || text.trim_end().char_indices().next_back().map(|(at, c)| at..at + c.len_utf8());
    Some(Problem::new(next.or_else(last)?, mistake.message))
}

/// Whether a verb or a command makes the collection that it names, or may.
fn makes(part: &str, text: &str) -> bool {
    MAKERS.contains(&part) || (ADDERS.contains(&part) && text.contains("upsert"))
}

struct Judge<'a> {
    text: &'a str,
    around: Surroundings<'a>,
    /// The documents have the paths of the collection still.
    kept: bool,
    /// The stage that was read last.
    stage: Option<String>,
    found: Vec<Problem>,
    /// The collection that the statement is about, and where it is named.
    collection: Option<(String, Range<usize>)>,
}

impl Judge<'_> {
    fn look(&mut self, reading: &Reading, word: &str, at: Range<usize>) {
        let part = reading.part().unwrap_or_default();
        match reading.place() {
            Place::Start if matches!(word, "explain" | "measured") => {}
            Place::Start => {
                self.collection = Some((word.to_owned(), at.clone()));
                self.name(word, at);
            }
            Place::Collection if !reading.is_short() && self.collection.is_none() => {
                self.collection = Some((word.to_owned(), at.clone()));
                let within = |command: &&str| WITHIN.contains(command) && !makes(command, self.text);
                // `aggregate: 1` is about the database.
                let is_text = self.text.get(at.clone()).is_some_and(|value| value.starts_with(['"', '\'']));
                if is_text && reading.command().as_ref().is_some_and(within) {
                    self.name(word, at);
                }
            }
            // What is written into is made.
            Place::Collection if !matches!(part, "out" | "merge") => self.name(word, at),
            Place::Stage { dollar } => {
                let stage = word.trim_start_matches('$');
                if !dollar {
                    self.kept &= self.stage.as_deref().is_none_or(|before| KEEP.contains(&before));
                    self.stage = Some(stage.to_owned());
                }
                if stage != "option" {
                    self.known(stage, &[operators::STAGES], "stage", at);
                }
            }
            Place::Filter { .. } | Place::Change | Place::Entries(_) if word.starts_with('$') => {
                self.known(word, OPERATORS, "operator", at);
            }
            _ if !reading.is_of_collection() || !self.kept || FOREIGN.contains(&part) || part == "aggregate" => {}
            Place::Filter { whole: true } | Place::Path => self.path(word, at),
            // A path that is changed and not there would be made: that of a slip as well.
            Place::Fields if matches!(part, "sort" | "update" | "index") => self.path(word, at),
            Place::Fields if part == "project" && self.is_chosen(&at) => self.path(word, at),
            Place::Reference if !word.starts_with("$$") => {
                if let Some(path) = word.strip_prefix('$') {
                    self.path(path, at);
                }
            }
            _ => {}
        }
    }

    /// Whether a field of a projection is one that is there, and not one that is computed.
    fn is_chosen(&self, at: &Range<usize>) -> bool {
        let rest = self.text.get(at.end..).unwrap_or_default().trim_start();
        let value = rest.strip_prefix(':').unwrap_or_default().trim_start();
        ["0", "1", "true", "false"].iter().any(|chosen| value.starts_with(chosen))
    }

    /// A collection.
    fn name(&mut self, name: &str, at: Range<usize>) {
        let catalog = self.around.catalog;
        let all = catalog.objects().iter().filter(|object| object.kind.has_rows()).map(|object| object.name.as_str());
        let unknown = catalog.objects().is_empty() || catalog.missing.is_some();
        if unknown || name.starts_with("system.") || name.contains('$') || all.clone().any(|known| known == name) {
            return;
        }
        let near = few_letters_off(name, all);
        let message = format!("no collection named \"{name}\": nothing is found in it");
        self.found.push(Problem { near, taken: true, ..Problem::new(at, message) });
    }

    /// A name from a table, which the server may know better: only what is near to one is told.
    fn known(&mut self, name: &str, tables: &[&[Entry]], what: &str, at: Range<usize>) {
        let all = || tables.iter().flat_map(|entries| entries.iter()).map(|entry| entry.name);
        if all().any(|known| known == name) || operators::VALUES.iter().any(|(_, written, _)| *written == name) {
            return;
        }
        let near = few_letters_off(name, all());
        if !near.is_empty() {
            self.found.push(Problem { near, ..Problem::new(at, format!("no {what} named {name}")) });
        }
    }

    /// A path that no document of the sample has, and that is near to one that some have. A sample is not all.
    fn path(&mut self, path: &str, at: Range<usize>) {
        let objects = self.around.catalog.objects();
        let named = |object: &&Object| self.collection.as_ref().is_some_and(|(name, _)| object.name == *name);
        let Some(object) = objects.iter().filter(|object| object.kind.has_rows()).find(named) else { return };
        // Places in a list are no names.
        let names = path.split('.').filter(|part| part.parse::<u32>().is_err());
        let plain = names.collect::<Vec<_>>().join(".");
        let below = format!("{plain}.");
        let all = object.columns.iter().map(|column| column.name.as_str());
        if plain.starts_with('$') || all.clone().any(|known| known == plain || known.starts_with(&below)) {
            return;
        }
        let near = few_letters_off(&plain, all);
        if !near.is_empty() {
            let message = format!("no document of the sample has {path}");
            self.found.push(Problem { near, taken: true, ..Problem::new(at, message) });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::DOCUMENTS;
    use jaunty_seam::catalog::{Catalog, Column, ObjectKind};

    fn catalog() -> Catalog {
        let mut catalog = Catalog::default();
        for (name, paths) in [
            (
                "sailings",
                &["_id", "route", "route.from", "delay_min", "incidents", "incidents.severity", "berth_1"][..],
            ),
            ("ports", &["_id", "name"]),
        ] {
            let columns = paths.iter().map(|path| Column { name: (*path).to_owned(), ..Column::default() });
            catalog.object("ferry", name, ObjectKind::Table).columns = columns.collect();
        }
        catalog
    }

    /// What is told of a statement, with the text that is marked.
    fn told(text: &str) -> Vec<String> {
        let catalog = catalog();
        let around = Surroundings { catalog: &catalog, dialect: &DOCUMENTS, snippets: &[], nearby: "" };
        problems(text, around)
            .iter()
            .map(|problem| format!("{}: {}", text.get(problem.range.clone()).unwrap(), problem.sentence()))
            .collect()
    }

    #[test]
    fn what_is_right_is_not_marked() {
        for text in [
            "sailings",
            "sailings { delay_min: { $gt: 60 }, 'route.from': 'SMQ', \"incidents.0.severity\": 'high' } | sort { delay_min: -1 }",
            "sailings { route: { from: 'SMQ' }, departs_at: { $gte: { $date: '2031-03-05T12:00:00Z' } } }",
            "sailings { $or: [{ delay_min: :least }, { _id: 1 }] }",
            // Another one of a row, and what is not near to anything.
            "sailings { berth_2: 1, weather: 'fog' }",
            "sailings | group { _id: '$route.from', delay_mins: { $sum: 1 } } | sort { delay_mins: -1 } | match { delay_mina: 1 }",
            "sailings | set { delay_mina: 1 } | match { delay_mina: 1 }",
            "sailings | lookup { from: 'ports', let: { a: '$nama' }, pipeline: [{ $match: { nama: 1 } }], as: 'x' }",
            "sailings aggregate [{ $set: { delay_mina: 1 } }, { $sort: { delay_mina: 1 } }]",
            "sailings | project { delay_mins: '$delay_min', 'delays': { $sum: 1 }, vessel: 1, delay_min: 1 }",
            "sailings update { _id: 1 } { $set: { weather: 'fog' }, $push: { incidents: { severity: 'low' } } }",
            "sailings insert { delay_mins: 5 }",
            "sailings | out 'sailingz'",
            "sailingz insert { delay_mina: 1 }",
            "sailingz index { name: 1 }",
            "sailingz update { _id: 1 } { $set: { n: 1 } } upsert",
            "system.profile | limit 1",
            "{ insert: 'sailingz', documents: [{ a: 1 }] }",
            "{ find: 'sailings', filter: { delay_min: 1 }, limit: 1 }",
            "{ ping: 1 }",
            "{ getLog: 'global' }",
            "{ aggregate: 1, pipeline: [{ $currentOp: {} }], cursor: {} }",
            "explain measured sailings { delay_min: 1 }",
            "// nothing yet",
            "begin",
            "commit; // all of it",
        ] {
            assert!(told(text).is_empty(), "{text}: {:?}", told(text));
        }
        assert!(
            is_made("'sailingz'", "sailings | out \"sailingz\"") && is_made("sailingz", "sailingz insert { a: 1 }")
        );
        assert!(!is_made("sailingz", "sailings | match { sailingz: 1 }"));
        let empty = Catalog::default();
        let around = Surroundings { catalog: &empty, dialect: &DOCUMENTS, snippets: &[], nearby: "" };
        assert!(problems("sailing { delay_mins: 5 }", around).is_empty(), "nothing is known yet");
    }

    #[test]
    fn slips_are_marked_with_what_was_meant() {
        insta::assert_snapshot!(
            [
                "sailing { delay_min: 5 }",
                "Sailings count",
                "explain sailing | limit 1",
                "{ find: 'sailing' }",
                "sailing update { _id: 1 } { $set: { a: 1 } }",
                "sailings delete all { delay_mins: { $gt: 60 } }",
                "sailings { severity: 'high' } | sort { Delay_min: -1 }",
                "sailings distinct delay_mn",
                "sailings | group { _id: '$route.form' }",
                "sailings | unwind '$incident'",
                "sailings | lmit 3",
                "sailings { delay_min: { $exsts: true } }",
                "sailings update { _id: 1 } { $sett: { a: 1 } }",
                "sailings update { _id: 1 } { $set: { delay_mins: 5 }, $unset: { incident: '' } }",
                "sailings | project { delay_mins: 1 }",
                "sailings index { 'route.form': 1 } { name: 'x' }",
                "{ find: 'sailings', filter: { delay_mins: 1 }, sort: { delay_mins: 1 } }",
                "sailings | lookup { from: 'port', localField: 'x', foreignField: 'y', as: 'z' }",
                "sailings { delay_min > 60 }",
                "sailings find(",
                "sailings { a: ",
                "sailings where x",
            ]
            .iter()
            .map(|text| format!("{text}\n    {}", told(text).join("\n    ")))
            .collect::<Vec<_>>()
            .join("\n"),
            @r#"
            sailing { delay_min: 5 }
                sailing: no collection named "sailing": nothing is found in it · did you mean "sailings"?
            Sailings count
                Sailings: no collection named "Sailings": nothing is found in it · did you mean "sailings"?
            explain sailing | limit 1
                sailing: no collection named "sailing": nothing is found in it · did you mean "sailings"?
            { find: 'sailing' }
                'sailing': no collection named "sailing": nothing is found in it · did you mean "sailings"?
            sailing update { _id: 1 } { $set: { a: 1 } }
                sailing: no collection named "sailing": nothing is found in it · did you mean "sailings"?
            sailings delete all { delay_mins: { $gt: 60 } }
                delay_mins: no document of the sample has delay_mins · did you mean "delay_min"?
            sailings { severity: 'high' } | sort { Delay_min: -1 }
                severity: no document of the sample has severity · did you mean "incidents.severity"?
                Delay_min: no document of the sample has Delay_min · did you mean "delay_min"?
            sailings distinct delay_mn
                delay_mn: no document of the sample has delay_mn · did you mean "delay_min"?
            sailings | group { _id: '$route.form' }
                '$route.form': no document of the sample has route.form · did you mean "route.from"?
            sailings | unwind '$incident'
                '$incident': no document of the sample has incident · did you mean "incidents"?
            sailings | lmit 3
                lmit: no stage named lmit · did you mean "limit"?
            sailings { delay_min: { $exsts: true } }
                $exsts: no operator named $exsts · did you mean "$exists"?
            sailings update { _id: 1 } { $sett: { a: 1 } }
                $sett: no operator named $sett · did you mean "$set"?
            sailings update { _id: 1 } { $set: { delay_mins: 5 }, $unset: { incident: '' } }
                delay_mins: no document of the sample has delay_mins · did you mean "delay_min"?
                incident: no document of the sample has incident · did you mean "incidents"?
            sailings | project { delay_mins: 1 }
                delay_mins: no document of the sample has delay_mins · did you mean "delay_min"?
            sailings index { 'route.form': 1 } { name: 'x' }
                'route.form': no document of the sample has route.form · did you mean "route.from"?
            { find: 'sailings', filter: { delay_mins: 1 }, sort: { delay_mins: 1 } }
                delay_mins: no document of the sample has delay_mins · did you mean "delay_min"?
            sailings | lookup { from: 'port', localField: 'x', foreignField: 'y', as: 'z' }
                'port': no collection named "port": nothing is found in it · did you mean "ports"?
            sailings { delay_min > 60 }
                >: a colon is expected here, and not >
            sailings find(
                (: calls have no parentheses: it is collection verb { … }
            sailings { a: 
                :: a value is missing at the end
            sailings where x
                w: where is not a verb; the verbs are find, count, distinct, aggregate, indexes, insert, update, replace, delete, index, drop, create
            "#
        );
    }
}
