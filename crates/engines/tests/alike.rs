//! The simulated server of document databases beside one that others wrote: the same statements, the same documents.
//!
//! Left out is where the other is not as the documentation has it: elements of lists that are changed by a path through
//! them, a path through what is null, and a list in a list.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_core::complete::Surroundings;
use jaunty_core::problems::problems;
use jaunty_engines::by_name;
use jaunty_language::dialect::DOCUMENTS;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{Attempt, CatalogPart, NoPrompt, Session, Stop};
use jaunty_seam::profile::{Profile, Setting};
use jaunty_standins::documents::{Options, Server};
use jaunty_testservers::Documents;
use support::run;

fn session(port: u16) -> Box<dyn Session> {
    let mut profile = Profile::new("pier", "mongodb").with("host", "127.0.0.1").with("database", "ferry");
    profile.settings.insert("port".into(), Setting::Number(port.into()));
    let attempt = Attempt { profile: &profile, secret: None, prompt: &NoPrompt, stop: Stop::default() };
    by_name("mongodb").unwrap().connect(&attempt).unwrap_or_else(|error| panic!("{error}"))
}

/// Documents of many shapes.
const WORLD: &str = "\
things insert
{ _id: 1, n: 5, name: 'Ebb', tags: ['a', 'b'], at: { $date: '2031-03-05T08:30:15.250Z' }, place: { x: 1, y: { z: 'deep' } }, lines: [{ k: 1, v: 'p' }, { k: 2, v: 'q' }] }
{ _id: 2, n: 7.5, name: 'flow', tags: [], at: { $date: '2031-12-31T23:59:59Z' }, place: { x: 2 }, lines: [] }
{ _id: 3, n: -3, name: 'Fog bank', tags: ['b', 'c', 'b'], at: null, place: null, lines: [{ k: 2, v: 'r' }] }
{ _id: 4, n: 0, name: '', tags: ['a'], flag: true, place: { x: 3, y: { z: 'other' } } }
{ _id: 5, name: 'quay', n: { $numberLong: '5000000000' }, flag: false, tags: [['a'], 'd'], place: { x: 1 } }
{ _id: 6, n: null, name: 'Ünder the bridge', tags: [1, 2, 3], flag: null }";

/// Statements whose answers are compared; each is put in an order of its own, so that none depends on chance.
const STATEMENTS: &[&str] = &[
    "{}",
    "{ n: 5 }",
    "{ n: { $gt: 0 } }",
    "{ n: { $gte: 0, $lt: 7.5 } }",
    "{ n: { $ne: 5 } }",
    "{ n: null }",
    "{ at: null }",
    "{ flag: { $exists: true } }",
    "{ flag: { $exists: false } }",
    "{ flag: { $in: [true, null] } }",
    "{ n: { $nin: [5, 0] } }",
    "{ tags: 'b' }",
    "{ tags: ['a', 'b'] }",
    "{ tags: [] }",
    "{ tags: { $size: 2 } }",
    "{ tags: { $all: ['a', 'b'] } }",
    "{ tags: ['a'] }",
    "{ 'place.x': 1 }",
    "{ 'place.y.z': 'deep' }",
    "{ place: { x: 1 } }",
    "{ 'lines.k': 2 }",
    "{ lines: { $elemMatch: { k: 2, v: 'q' } } }",
    "{ tags: { $elemMatch: { $gt: 1, $lt: 3 } } }",
    "{ 'lines.k': 2, 'lines.v': 'q' }",
    "{ name: { $regex: '^f', $options: 'i' } }",
    "{ name: { $regularExpression: { pattern: 'b$', options: '' } } }",
    "{ name: { $not: { $regex: '^E' } } }",
    "{ $or: [{ n: 5 }, { name: 'flow' }] }",
    "{ $and: [{ n: { $gt: -5 } }, { n: { $lt: 1 } }] }",
    "{ $nor: [{ n: 5 }, { flag: true }] }",
    "{ n: { $mod: [2, 1] } }",
    "{ n: { $type: 'number' } }",
    "{ n: { $type: ['null', 'long'] } }",
    "{ tags: { $type: 'array' } }",
    "{ name: { $gt: 'f' } }",
    "{ $expr: { $gt: ['$n', '$place.x'] } }",
    "{ n: { $not: { $gt: 0 } } }",
    "{ name: { $in: ['Ebb', 'quay'] } } | project { name: 1, _id: 0 }",
    "| project { n: 0, lines: 0, tags: 0 }",
    "| project { 'place.x': 1 }",
    "| project { 'lines.v': 1 }",
    "| project { twice: { $multiply: ['$n', 2] } }",
    "| match { place: { $type: 'object' } } | set { 'place.w': 9, more: { $concat: ['$name', '!'] } }",
    "| unset ['lines', 'place.y']",
    "| unwind '$tags' | project { tags: 1 }",
    "| unwind { path: '$tags', preserveNullAndEmptyArrays: true, includeArrayIndex: 'i' } | project { tags: 1, i: 1 }",
    "| unwind '$lines' | group { _id: '$lines.k', n: { $sum: 1 }, all: { $push: '$lines.v' } }",
    "| group { _id: null, n: { $sum: 1 }, most: { $max: '$n' }, least: { $min: '$n' }, mean: { $avg: '$place.x' } }",
    "| group { _id: '$flag', first: { $first: '$name' }, last: { $last: '$_id' } }",
    "| group { _id: { x: '$place.x' }, names: { $addToSet: '$name' } } | project { n: { $size: '$names' } }",
    "| sort { n: -1 } | limit 3",
    "| sort { tags: 1, _id: -1 }",
    "| sort { 'place.x': 1, _id: 1 } | skip 2",
    "| count 'all'",
    "| sortByCount '$place.x' | sort { count: -1, _id: 1 }",
    "| bucket { groupBy: '$place.x', boundaries: [0, 2, 4], default: 'other', output: { n: { $sum: 1 } } }",
    "| match { n: 5 } | replaceWith '$place'",
    "| match { n: 5 } | replaceRoot { newRoot: { $mergeObjects: ['$place', { own: '$name' }] } }",
    "| facet { few: [{ $match: { n: 5 } }, { $project: { name: 1 } }], all: [{ $count: 'n' }] }",
    "| lookup { from: 'things', localField: 'place.x', foreignField: '_id', as: 'other' } | project { 'other.name': 1 }",
    "| match { _id: { $lt: 3 } } | lookup { from: 'things', let: { own: '$n' }, pipeline: [{ $match: { $expr: { $lt: ['$n', '$$own'] } } }, { $project: { _id: 1 } }], as: 'less' } | project { less: 1 }",
    "| match { _id: 1 } | unionWith { coll: 'things', pipeline: [{ $match: { _id: 2 } }] } | project { name: 1 }",
    "| match { _id: 1 } | graphLookup { from: 'things', startWith: 1, connectFromField: 'place.x', connectToField: '_id', as: 'way' } | project { 'way._id': 1 }",
    // Expressions, each of every document.
    "| project { a: { $add: ['$n', 1] } }",
    "| project { a: { $subtract: ['$n', 2] }, b: { $abs: '$n' } }",
    "| project { a: { $divide: ['$place.x', 2] }, b: { $mod: ['$place.x', 2] } }",
    "| project { a: { $round: [2.345, 2] }, b: { $trunc: [-2.5, 0] }, c: { $ceil: 1.2 }, d: { $floor: -1.2 } }",
    "| project { a: { $pow: ['$place.x', 3] }, b: { $sqrt: '$place.x' } }",
    "| project { a: { $cond: [{ $gt: ['$n', 0] }, 'more', 'less'] } }",
    "| project { a: { $ifNull: ['$flag', 'none'] } }",
    "| project { a: { $switch: { branches: [{ case: { $eq: ['$n', 5] }, then: 'five' }], default: 'else' } } }",
    "| project { a: { $toUpper: '$name' }, b: { $strLenCP: '$name' }, c: { $substrCP: ['$name', 1, 2] } }",
    "| project { a: { $split: ['$name', ' '] }, b: { $indexOfCP: ['$name', 'o'] } }",
    "| project { a: { $trim: { input: { $concat: [' ', '$name', ' '] } } } }",
    "| project { a: { $replaceAll: { input: '$name', find: 'b', replacement: '-' } } }",
    "| project { a: { $regexMatch: { input: '$name', regex: '^F', options: 'i' } } }",
    "| project { a: { $strcasecmp: ['$name', 'EBB'] } }",
    "| project { a: { $size: { $ifNull: ['$lines', []] } }, b: { $isArray: '$tags' } }",
    "| project { a: { $arrayElemAt: ['$tags', -1] }, b: { $first: '$tags' }, c: { $last: '$tags' } }",
    "| project { a: { $slice: ['$tags', 2] }, b: { $slice: ['$tags', -1] }, c: { $reverseArray: '$tags' } }",
    "| project { a: { $filter: { input: '$tags', as: 't', cond: { $eq: ['$$t', 'b'] } } } }",
    "| project { a: { $map: { input: '$tags', as: 't', in: { $type: '$$t' } } } }",
    "| project { a: { $reduce: { input: [1, 2, 3], initialValue: 0, in: { $add: ['$$value', '$$this'] } } } }",
    "| project { a: { $concatArrays: ['$tags', [9]] }, b: { $in: ['b', '$tags'] } }",
    "| project { a: { $range: [0, 5, 2] }, b: { $setUnion: [[1, 2], [2, 3]] }, c: { $setIsSubset: [[1], [1, 2]] } }",
    "| project { a: { $year: '$at' }, b: { $month: '$at' }, c: { $dayOfMonth: '$at' }, d: { $hour: '$at' }, e: { $millisecond: '$at' } }",
    "| match { at: { $type: 'date' } } | project { a: { $dateToString: { date: '$at', format: '%Y-%m-%d %H:%M' } }, b: { $dayOfWeek: '$at' }, c: { $dayOfYear: '$at' } }",
    "| match { at: { $type: 'date' } } | project { a: { $dateTrunc: { date: '$at', unit: 'month' } }, b: { $dateAdd: { startDate: '$at', unit: 'day', amount: 3 } } }",
    "| match { at: { $type: 'date' } } | project { a: { $dateDiff: { startDate: '$at', endDate: { $date: '2032-02-01T00:00:00Z' }, unit: 'month' } } }",
    "| project { a: { $toString: '$n' }, b: { $type: '$n' } }",
    "| match { n: { $type: 'int' } } | project { a: { $toLong: '$n' }, b: { $toDouble: '$n' }, c: { $toBool: '$n' } }",
    "| project { a: { $objectToArray: { p: 1, q: 'x' } }, b: { $arrayToObject: [[['k', 1]]] } }",
    "| match { 'place.x': { $exists: true } } | project { a: { $let: { vars: { d: '$place.x' }, in: { $multiply: ['$$d', '$$d'] } } } }",
    "| project { a: { $literal: '$n' }, b: { $eq: ['$flag', null] }, c: { $not: ['$flag'] } }",
    "| project { a: { $and: ['$flag', true] }, b: { $or: [null, '$n'] }, c: { $cmp: ['$n', 5] } }",
    "| project { a: { $max: ['$n', 3] }, b: { $min: '$tags' }, c: { $sum: [1, 2.5] }, d: { $avg: [1, 2] } }",
];

/// Changes, each of the documents as they were; afterwards all documents are compared.
const CHANGES: &[&str] = &[
    "update { _id: 1 } { $set: { n: 6, 'place.y.z': 'x', 'new.deep': 1 } }",
    "update { _id: 1 } { $unset: { place: '', 'lines': '' } }",
    "update all { n: { $type: 'number' } } { $inc: { n: 2 } }",
    "update { _id: 1 } { $mul: { n: 1.5 }, $min: { 'place.x': 0 }, $max: { 'place.w': 3 } }",
    "update { _id: 1 } { $push: { tags: 'z' } }",
    "update { _id: 1 } { $push: { tags: { $each: ['y', 'c'], $sort: 1, $slice: 3 } } }",
    "update { _id: 3 } { $addToSet: { tags: { $each: ['b', 'x'] } } }",
    "update { _id: 3 } { $pull: { tags: 'b' } }",
    "update { _id: 1 } { $pull: { lines: { k: 1 } } }",
    "update { _id: 6 } { $pull: { tags: { $gt: 1 } } }",
    "update { _id: 6 } { $pop: { tags: -1 } }",
    "update { _id: 1 } { $rename: { name: 'title' } }",
    "update { _id: 1 } { $set: { 'tags.1': 'q', 'lines.0.v': 'w' } }",
    "update { _id: 9, 'a.b': 1 } { $set: { n: 1 }, $setOnInsert: { made: true } } upsert",
    "update all {} [{ $set: { total: { $size: { $ifNull: ['$lines', []] } } } }]",
    "replace { _id: 2 } { name: 'other' }",
    "delete { tags: 'b' }",
    "delete all { n: { $gte: 0 } }",
    "update { name: 'nobody' } { $set: { n: 1 } }",
];

#[test]
fn both_answer_the_same() {
    let (theirs, ours) = (Documents::start(), Server::start(Options::default()).unwrap());
    let mut sessions = [session(theirs.port), session(ours.port())];
    let mut different = Vec::new();
    let mut compare = |sessions: &mut [Box<dyn Session>; 2], statement: &str, what: &str| {
        let [theirs, ours] = sessions.each_mut().map(|session| {
            let found = run(session.as_mut(), statement);
            found
                .map(|found| found.rows())
                .map_err(|error| error.code.unwrap_or_default().split(' ').next().unwrap_or_default().to_owned())
        });
        if theirs != ours {
            different.push(format!("{what}\n  theirs {theirs:?}\n  ours   {ours:?}"));
        }
    };
    for session in &mut sessions {
        run(session.as_mut(), WORLD).unwrap();
    }
    for statement in STATEMENTS {
        let ordered = statement.contains("sort") || statement.contains("count") || statement.contains("facet");
        let order = if ordered { "" } else { "\n| sort { _id: 1 }" };
        compare(&mut sessions, &format!("things {statement}{order}"), statement);
    }
    for change in CHANGES {
        for session in &mut sessions {
            run(session.as_mut(), "things delete all {}").unwrap();
            run(session.as_mut(), WORLD).unwrap();
        }
        for session in &mut sessions {
            run(session.as_mut(), &format!("things {change}")).unwrap_or_else(|error| panic!("{change}: {error}"));
        }
        compare(&mut sessions, "things\n| sort { _id: 1 }", change);
    }
    assert!(
        different.is_empty(),
        "{} of {} differ:\n{}",
        different.len(),
        STATEMENTS.len() + CHANGES.len(),
        different.join("\n")
    );
}

/// Names that are marked although a server takes them are those of slips alone.
#[test]
fn what_is_right_is_not_marked() {
    let server = Server::start(Options::default()).unwrap();
    let mut session = session(server.port());
    run(session.as_mut(), WORLD).unwrap();
    let (mut catalog, mut part) = (Catalog::default(), 0);
    while session.catalog(&CatalogPart::number(part), &mut catalog).unwrap() {
        part += 1;
    }
    catalog.complete();
    let around = Surroundings { catalog: &catalog, dialect: &DOCUMENTS, snippets: &[], nearby: "" };
    let told = |text: &str| -> Vec<String> {
        problems(text, around, &Default::default())
            .iter()
            .map(|problem| format!("{text}: {}", problem.sentence()))
            .collect()
    };
    let all = STATEMENTS.iter().chain(CHANGES).flat_map(|statement| told(&format!("things {statement}")));
    assert_eq!(all.collect::<Vec<_>>(), Vec::<String>::new());
    // A name of three letters is too short for a guess.
    for (text, wanted) in [("thing { n: 1 }", "things"), ("things { nme: 'x' }", ""), ("things { plac: 1 }", "place")] {
        assert_eq!(told(text).iter().any(|told| told.contains("did you mean")), !wanted.is_empty(), "{text}");
    }
}
