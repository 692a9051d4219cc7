//! Names that have a meaning in documents: commands and their fields, stages, operators, as the server's documentation
//! lists them.

/// A name with what is usually written behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry {
    /// The name.
    pub name: &'static str,
    /// What stands behind it, with places in the notation of [`crate::edit::snippet`].
    pub value: &'static str,
    /// What it does.
    pub text: &'static str,
}

pub(super) const fn entry(name: &'static str, value: &'static str, text: &'static str) -> Entry {
    Entry { name, value, text }
}

pub use super::expressions::EXPRESSIONS;
pub use super::parts::{LOOKUP, parts_of};

/// Stages of a pipeline, without their `$`, the usual ones first.
pub const STAGES: &[Entry] = &[
    entry("match", "{ $1 }", "documents that a filter fits"),
    entry("group", "{ _id: ${1:null}, ${2:n}: { \\$sum: ${3:1} } }", "one document for each value of _id"),
    entry("project", "{ $1 }", "chosen fields, or new ones"),
    entry("sort", "{ ${1:_id}: ${2:1} }", "in order: 1 ascending, -1 descending"),
    entry("limit", "${1:100}", "the first so many"),
    entry("skip", "${1:100}", "without the first so many"),
    entry("unwind", "\"\\$${1:path}\"", "one document for each element of a list"),
    entry(
        "lookup",
        "{ from: \"${1:collection}\", localField: \"${2:field}\", foreignField: \"${3:_id}\", as: \"${4:found}\" }",
        "documents of another collection as a list",
    ),
    entry("set", "{ $1 }", "more fields, or other values"),
    entry("unset", "\"${1:field}\"", "without fields"),
    entry("count", "\"${1:n}\"", "how many there are"),
    entry("sortByCount", "\"\\$${1:path}\"", "how often each value is there"),
    entry("facet", "{ ${1:name}: [{ $2 }] }", "several pipelines over the same documents"),
    entry("bucket", "{ groupBy: \"\\$${1:path}\", boundaries: [${2:0, 10}] }", "groups by boundaries"),
    entry("bucketAuto", "{ groupBy: \"\\$${1:path}\", buckets: ${2:10} }", "so many groups of about the same size"),
    entry("sample", "{ size: ${1:20} }", "so many by chance"),
    entry("addFields", "{ $1 }", "as set"),
    entry("replaceWith", "\"\\$${1:path}\"", "a part of each document in its place"),
    entry("unionWith", "\"${1:collection}\"", "the documents of another collection too"),
    entry(
        "graphLookup",
        "{ from: \"${1:collection}\", startWith: \"\\$${2:path}\", connectFromField: \"${3:field}\", connectToField: \"${4:_id}\", as: \"${5:found}\" }",
        "documents that are reached step by step",
    ),
    entry(
        "geoNear",
        "{ near: { type: \"Point\", coordinates: [${1:0, 0}] }, distanceField: \"${2:distance}\" }",
        "by distance from a point",
    ),
    entry("setWindowFields", "{ partitionBy: \"\\$${1:path}\", sortBy: { ${2:_id}: 1 }, output: { $3 } }", "windows"),
    entry(
        "densify",
        "{ field: \"${1:field}\", range: { step: ${2:1}, bounds: \"full\" } }",
        "what is missing in a row of values",
    ),
    entry(
        "fill",
        "{ sortBy: { ${1:_id}: 1 }, output: { ${2:field}: { method: \"locf\" } } }",
        "values where there are none",
    ),
    entry("replaceRoot", "{ newRoot: \"\\$${1:path}\" }", "as replaceWith"),
    entry("redact", "{ \\$cond: [{ $1 }, \"\\$\\$DESCEND\", \"\\$\\$PRUNE\"] }", "without parts that may not be seen"),
    entry("documents", "[{ $1 }]", "documents that are written here"),
    entry(
        "search",
        "{ index: \"${1:default}\", text: { query: \"$2\", path: \"${3:path}\" } }",
        "words, by an index for searches",
    ),
    entry("searchMeta", "{ index: \"${1:default}\", count: { type: \"total\" } }", "figures of such a search"),
    entry(
        "vectorSearch",
        "{ index: \"${1:index}\", path: \"${2:path}\", queryVector: [$3], numCandidates: ${4:100}, limit: ${5:10} }",
        "the nearest by an index of vectors",
    ),
    entry("changeStream", "{}", "changes as they happen"),
    entry("changeStreamSplitLargeEvent", "{}", "changes that are too large, in parts"),
    entry("currentOp", "{ allUsers: ${1:true} }", "what is running; on the database admin"),
    entry("listSessions", "{}", "sessions that the servers know"),
    entry("listLocalSessions", "{}", "sessions of this server"),
    entry("listSampledQueries", "{}", "statements that were sampled"),
    entry("listSearchIndexes", "{}", "indexes for searches"),
    entry("planCacheStats", "{}", "plans that are kept"),
    entry("querySettings", "{}", "settings of statements"),
    entry("queryStats", "{}", "figures of statements"),
    entry("shardedDataDistribution", "{}", "how data lies on shards"),
    entry("collStats", "{ storageStats: {} }", "figures of the collection"),
    entry("indexStats", "{}", "how often each index was used"),
    entry("out", "\"${1:collection}\"", "writes all of it as a collection"),
    entry("merge", "{ into: \"${1:collection}\" }", "writes it into a collection"),
];

/// What joins conditions.
pub const LOGICAL: &[Entry] = &[
    entry("$or", "[{ $1 }, { $2 }]", "any of them"),
    entry("$and", "[{ $1 }, { $2 }]", "all of them"),
    entry("$nor", "[{ $1 }]", "none of them"),
    entry("$expr", "{ $1 }", "an expression is true"),
    entry("$text", "{ \\$search: \"$1\" }", "words, by an index of text"),
    entry("$jsonSchema", "{ required: [$1], properties: { $2 } }", "is as a schema wants it"),
    entry("$comment", "\"$1\"", "for the server's log"),
    entry("$sampleRate", "${1:0.1}", "that part of them, by chance"),
    entry("$where", "\"$1\"", "a function in JavaScript, slow"),
];

/// What a path is compared with.
pub const COMPARISONS: &[Entry] = &[
    entry("$gt", "", "greater"),
    entry("$gte", "", "greater or equal"),
    entry("$lt", "", "less"),
    entry("$lte", "", "less or equal"),
    entry("$ne", "", "not equal"),
    entry("$in", "[$1]", "one of these"),
    entry("$nin", "[$1]", "none of these"),
    entry("$exists", "${1:true}", "whether it is there"),
    entry("$regex", "\"$1\"", "a regular expression"),
    entry("$eq", "", "equal"),
    entry("$not", "{ $1 }", "the opposite"),
    entry("$type", "\"${1:string}\"", "is of a type"),
    entry("$size", "", "a list of so many"),
    entry("$all", "[$1]", "a list with all of these"),
    entry("$elemMatch", "{ $1 }", "a list with an element that fits"),
    entry("$mod", "[${1:2}, ${2:0}]", "what is left of a division"),
    entry("$options", "\"${1:i}\"", "of a regular expression"),
    entry("$near", "{ \\$geometry: { type: \"Point\", coordinates: [${1:0, 0}] } }", "by distance from a point"),
    entry("$geoWithin", "{ \\$geometry: { $1 } }", "inside a shape"),
    entry("$geoIntersects", "{ \\$geometry: { $1 } }", "touches a shape"),
    entry("$nearSphere", "{ \\$geometry: { type: \"Point\", coordinates: [${1:0, 0}] } }", "as near"),
    entry("$bitsAllSet", "[${1:0}]", "all of these bits are 1"),
    entry("$bitsAnySet", "[${1:0}]", "one of these bits is 1"),
    entry("$bitsAllClear", "[${1:0}]", "all of these bits are 0"),
    entry("$bitsAnyClear", "[${1:0}]", "one of these bits is 0"),
];

/// Parts of conditions on places.
pub const GEO: &[Entry] = &[
    entry("type", "\"${1:Point}\"", "of the shape"),
    entry("coordinates", "[${1:0, 0}]", "longitude, latitude"),
    entry("$geometry", "{ $1 }", "a shape"),
    entry("$maxDistance", "", "in metres"),
    entry("$minDistance", "", "in metres"),
    entry("$centerSphere", "[[${1:0, 0}], ${2:0.01}]", "a circle, its radius in radians"),
    entry("$center", "[[${1:0, 0}], ${2:1}]", "a circle on a plane"),
    entry("$box", "[[${1:0, 0}], [${2:1, 1}]]", "a rectangle on a plane"),
    entry("$polygon", "[[${1:0, 0}], [${2:1, 0}], [${3:1, 1}]]", "a polygon on a plane"),
];

/// Operators of a change.
pub const CHANGES: &[Entry] = &[
    entry("$set", "{ $1 }", "gives fields a value"),
    entry("$unset", "{ ${1:field}: \"\" }", "removes fields"),
    entry("$inc", "{ $1 }", "adds to a number"),
    entry("$push", "{ $1 }", "adds to a list"),
    entry("$pull", "{ $1 }", "removes from a list"),
    entry("$addToSet", "{ $1 }", "adds to a list what is not in it"),
    entry("$pop", "{ ${1:field}: ${2:1} }", "removes the last of a list, or with -1 the first"),
    entry("$rename", "{ ${1:field}: \"${2:name}\" }", "another name"),
    entry("$min", "{ $1 }", "the smaller value"),
    entry("$max", "{ $1 }", "the larger value"),
    entry("$mul", "{ $1 }", "multiplies a number"),
    entry("$currentDate", "{ ${1:field}: true }", "the time of the server"),
    entry("$setOnInsert", "{ $1 }", "only where a document is made"),
    entry("$pullAll", "{ ${1:field}: [$2] }", "removes all of these from a list"),
    entry("$bit", "{ ${1:field}: { ${2:and}: ${3:0} } }", "changes bits of a number"),
];

/// What stands beside the values that a change puts into a list.
pub const PUSHED: &[Entry] = &[
    entry("$each", "[$1]", "several values"),
    entry("$slice", "${1:-10}", "so many stay; below zero the last"),
    entry("$sort", "${1:1}", "in order"),
    entry("$position", "${1:0}", "where they go"),
];

/// What a group has.
pub const GROUP: &[Entry] = &[entry("_id", "\"\\$${1:path}\"", "what is one group; null is all")];

/// What is told of a group.
pub const ACCUMULATORS: &[Entry] = &[
    entry("$sum", "${1:1}", "the sum; of 1, how many"),
    entry("$avg", "\"\\$${1:path}\"", "the mean"),
    entry("$min", "\"\\$${1:path}\"", "the smallest"),
    entry("$max", "\"\\$${1:path}\"", "the largest"),
    entry("$first", "\"\\$${1:path}\"", "of the first document"),
    entry("$last", "\"\\$${1:path}\"", "of the last document"),
    entry("$push", "\"\\$${1:path}\"", "all, as a list"),
    entry("$addToSet", "\"\\$${1:path}\"", "the different ones, as a list"),
    entry("$count", "{}", "how many"),
    entry("$stdDevSamp", "\"\\$${1:path}\"", "the deviation of a sample"),
    entry(
        "$topN",
        "{ n: ${1:3}, sortBy: { ${2:_id}: 1 }, output: \"\\$${3:path}\" }",
        "of the first so many in an order",
    ),
    entry("$top", "{ sortBy: { ${1:_id}: 1 }, output: \"\\$${2:path}\" }", "of the first in an order"),
    entry("$bottom", "{ sortBy: { ${1:_id}: 1 }, output: \"\\$${2:path}\" }", "of the last in an order"),
    entry(
        "$bottomN",
        "{ n: ${1:3}, sortBy: { ${2:_id}: 1 }, output: \"\\$${3:path}\" }",
        "of the last so many in an order",
    ),
    entry("$firstN", "{ n: ${1:3}, input: \"\\$${2:path}\" }", "of the first so many documents"),
    entry("$lastN", "{ n: ${1:3}, input: \"\\$${2:path}\" }", "of the last so many documents"),
    entry("$minN", "{ n: ${1:3}, input: \"\\$${2:path}\" }", "the so many smallest"),
    entry("$maxN", "{ n: ${1:3}, input: \"\\$${2:path}\" }", "the so many largest"),
    entry("$median", "{ input: \"\\$${1:path}\", method: \"approximate\" }", "the middle value"),
    entry(
        "$percentile",
        "{ input: \"\\$${1:path}\", p: [${2:0.5, 0.9}], method: \"approximate\" }",
        "values that so many lie below",
    ),
    entry("$stdDevPop", "\"\\$${1:path}\"", "the deviation of all"),
    entry("$mergeObjects", "\"\\$${1:path}\"", "documents put together"),
    entry("$concatArrays", "\"\\$${1:path}\"", "lists put together"),
    entry("$setUnion", "\"\\$${1:path}\"", "the different elements of lists"),
    entry(
        "$accumulator",
        "{ init: \"$1\", accumulate: \"$2\", accumulateArgs: [], merge: \"$3\", lang: \"js\" }",
        "functions in JavaScript",
    ),
];

/// What is told of the windows of a stage setWindowFields, beside what is told of groups.
pub const WINDOWS: &[Entry] = &[
    entry("$rank", "{}", "the place, with gaps after equal ones"),
    entry("$denseRank", "{}", "the place, without gaps"),
    entry("$documentNumber", "{}", "the number in the order"),
    entry("$shift", "{ output: \"\\$${1:path}\", by: ${2:-1} }", "of a document so many before or after"),
    entry("$derivative", "{ input: \"\\$${1:path}\", unit: \"${2:hour}\" }", "how fast it changes"),
    entry("$integral", "{ input: \"\\$${1:path}\", unit: \"${2:hour}\" }", "what it adds up to over time"),
    entry("$expMovingAvg", "{ input: \"\\$${1:path}\", N: ${2:5} }", "a mean that forgets slowly"),
    entry("$covariancePop", "[\"\\$${1:path}\", \"\\$${2:path}\"]", "how two vary together, of all"),
    entry("$covarianceSamp", "[\"\\$${1:path}\", \"\\$${2:path}\"]", "how two vary together, of a sample"),
    entry("$linearFill", "\"\\$${1:path}\"", "what is missing, along a line"),
    entry("$locf", "\"\\$${1:path}\"", "what is missing, as it was last"),
    entry("$minMaxScaler", "{ input: \"\\$${1:path}\" }", "between the smallest and the largest"),
];

/// What an index has.
pub const INDEX: &[Entry] = &[
    entry("unique", "${1:true}", "no two the same"),
    entry("name", "\"${1:name}\"", "its name"),
    entry("sparse", "${1:true}", "without documents that lack the field"),
    entry("expireAfterSeconds", "${1:3600}", "removes documents of that age"),
    entry("partialFilterExpression", "{ $1 }", "only documents that fit"),
    entry("key", "{ $1 }", "its fields"),
];

/// What one change of a command `update` has.
pub const UPDATES: &[Entry] = &[
    entry("q", "{ $1 }", "the filter"),
    entry("u", "{ $1 }", "the change"),
    entry("multi", "${1:true}", "all that fit"),
    entry("upsert", "${1:true}", "makes one where none fits"),
];

/// What one removal of a command `delete` has.
pub const DELETES: &[Entry] =
    &[entry("q", "{ $1 }", "the filter"), entry("limit", "${1:1}", "1 is the first, 0 is all that fit")];

/// Fields of commands that a short form may be given.
pub const OPTIONS: &[Entry] = &[
    entry("allowDiskUse", "${1:true}", "sorts and groups on disk"),
    entry("hint", "\"${1:index}\"", "the index to be used"),
    entry("maxTimeMS", "${1:1000}", "ends after so long"),
    entry("collation", "{ locale: \"${1:en}\" }", "how text is compared"),
    entry("sort", "{ ${1:_id}: 1 }", "the order of a search"),
    entry("limit", "${1:100}", "the first so many of a search"),
    entry("skip", "${1:100}", "without the first so many of a search"),
    entry("projection", "{ $1 }", "fields of a search"),
    entry("batchSize", "${1:100}", "how many come at once"),
    entry("comment", "\"$1\"", "for the server's log"),
    entry("let", "{ $1 }", "names for expressions"),
    entry("readConcern", "{ level: \"${1:majority}\" }", "what may be read"),
    entry("writeConcern", "{ w: \"${1:majority}\" }", "who has to have it"),
];

/// Commands, those of every day first.
pub const COMMANDS: &[Entry] = &[
    entry("find", "\"${1:collection}\", filter: { $2 }", "documents that a filter fits"),
    entry("aggregate", "\"${1:collection}\", pipeline: [{ $2 }], cursor: {}", "a pipeline of stages"),
    entry("count", "\"${1:collection}\", query: { $2 }", "how many documents fit"),
    entry("distinct", "\"${1:collection}\", key: \"${2:path}\"", "the different values at a path"),
    entry("insert", "\"${1:collection}\", documents: [{ $2 }]", "adds documents"),
    entry("update", "\"${1:collection}\", updates: [{ q: { $2 }, u: { $3 } }]", "changes documents"),
    entry("delete", "\"${1:collection}\", deletes: [{ q: { $2 }, limit: ${3:1} }]", "removes documents"),
    entry("findAndModify", "\"${1:collection}\", query: { $2 }, update: { $3 }", "changes one and gives it"),
    entry("listCollections", "1", "the collections"),
    entry("listDatabases", "1", "the databases"),
    entry("listIndexes", "\"${1:collection}\"", "the indexes of a collection"),
    entry(
        "createIndexes",
        "\"${1:collection}\", indexes: [{ key: { ${2:field}: 1 }, name: \"${3:name}\" }]",
        "makes indexes",
    ),
    entry("dropIndexes", "\"${1:collection}\", index: \"${2:name}\"", "removes an index"),
    entry("create", "\"${1:collection}\"", "makes a collection"),
    entry("drop", "\"${1:collection}\"", "removes a collection"),
    entry("collMod", "\"${1:collection}\"", "changes how a collection is kept"),
    entry("renameCollection", "\"${1:database.collection}\", to: \"${2:database.collection}\"", "another name"),
    entry("explain", "{ $1 }", "the plan of a command"),
    entry("collStats", "\"${1:collection}\"", "figures of a collection"),
    entry("dbStats", "1", "figures of the database"),
    entry("currentOp", "1", "what is running"),
    entry("killOp", "1, op: ${1:0}", "ends what is running"),
    entry("serverStatus", "1", "figures of the server"),
    entry("hello", "1", "what the server is"),
    entry("ping", "1", "whether it answers"),
    entry("buildInfo", "1", "its version"),
    entry("connectionStatus", "1", "who is logged in"),
    entry("usersInfo", "1", "users"),
    entry("rolesInfo", "1", "roles"),
    entry("validate", "\"${1:collection}\"", "checks a collection"),
];

/// The fields of a command, but for the first.
pub fn fields_of(command: &str) -> &'static [Entry] {
    const FIND: &[Entry] = &[
        entry("filter", "{ $1 }", "which documents"),
        entry("sort", "{ ${1:_id}: 1 }", "in which order"),
        entry("projection", "{ $1 }", "which fields"),
        entry("limit", "${1:100}", "how many at most"),
        entry("skip", "${1:100}", "without the first so many"),
        entry("hint", "\"${1:index}\"", "the index to be used"),
        entry("collation", "{ locale: \"${1:en}\" }", "how text is compared"),
        entry("batchSize", "${1:100}", "how many come at once"),
        entry("allowDiskUse", "${1:true}", "sorts on disk"),
        entry("maxTimeMS", "${1:1000}", "ends after so long"),
        entry("let", "{ $1 }", "names for expressions"),
    ];
    const AGGREGATE: &[Entry] = &[
        entry("pipeline", "[{ $1 }]", "the stages"),
        entry("cursor", "{}", "has to be there"),
        entry("allowDiskUse", "${1:true}", "sorts and groups on disk"),
        entry("hint", "\"${1:index}\"", "the index to be used"),
        entry("collation", "{ locale: \"${1:en}\" }", "how text is compared"),
        entry("maxTimeMS", "${1:1000}", "ends after so long"),
        entry("let", "{ $1 }", "names for expressions"),
    ];
    const COUNT: &[Entry] = &[
        entry("query", "{ $1 }", "which documents"),
        entry("limit", "${1:100}", "how many at most"),
        entry("skip", "${1:100}", "without the first so many"),
        entry("hint", "\"${1:index}\"", "the index to be used"),
    ];
    const DISTINCT: &[Entry] =
        &[entry("key", "\"${1:path}\"", "the path"), entry("query", "{ $1 }", "which documents")];
    const INSERT: &[Entry] = &[
        entry("documents", "[{ $1 }]", "the documents"),
        entry("ordered", "${1:false}", "whether the first failure ends it"),
    ];
    const UPDATE: &[Entry] = &[
        entry("updates", "[{ q: { $1 }, u: { $2 } }]", "the changes"),
        entry("ordered", "${1:false}", "whether the first failure ends it"),
    ];
    const DELETE: &[Entry] = &[
        entry("deletes", "[{ q: { $1 }, limit: ${2:1} }]", "the removals"),
        entry("ordered", "${1:false}", "whether the first failure ends it"),
    ];
    const CREATE: &[Entry] = &[
        entry("capped", "${1:true}", "of a fixed size"),
        entry("size", "${1:1048576}", "its bytes, if it is capped"),
        entry("max", "${1:1000}", "its documents, if it is capped"),
        entry("validator", "{ $1 }", "what each document has to fit"),
        entry("timeseries", "{ timeField: \"${1:at}\" }", "measurements by time"),
        entry("viewOn", "\"${1:collection}\"", "a view on a collection"),
        entry("pipeline", "[{ $1 }]", "the stages of a view"),
        entry("collation", "{ locale: \"${1:en}\" }", "how text is compared"),
        entry("expireAfterSeconds", "${1:3600}", "removes documents of that age"),
    ];
    const LIST: &[Entry] =
        &[entry("nameOnly", "${1:true}", "nothing but names"), entry("filter", "{ $1 }", "which of them")];
    const EXPLAIN: &[Entry] = &[entry("verbosity", "\"${1:executionStats}\"", "how much is told")];
    const INDEXES: &[Entry] = &[entry("indexes", "[{ key: { ${1:field}: 1 }, name: \"${2:name}\" }]", "the indexes")];
    const DROP_INDEXES: &[Entry] = &[entry("index", "\"${1:name}\"", "its name")];
    match command {
        "find" => FIND,
        "aggregate" => AGGREGATE,
        "count" => COUNT,
        "distinct" => DISTINCT,
        "insert" => INSERT,
        "update" => UPDATE,
        "delete" => DELETE,
        "create" => CREATE,
        "listCollections" | "listDatabases" => LIST,
        "explain" => EXPLAIN,
        "createIndexes" => INDEXES,
        "dropIndexes" => DROP_INDEXES,
        _ => &[],
    }
}

/// Values by their type: what is shown, and what is written.
pub const VALUES: &[(&str, &str, &str)] = &[
    ("date", "$date", "{ \\$date: \"${1:2031-03-05T12:00:00Z}\" }"),
    ("objectId", "$oid", "{ \\$oid: \"$1\" }"),
    ("decimal", "$numberDecimal", "{ \\$numberDecimal: \"$1\" }"),
    ("long", "$numberLong", "{ \\$numberLong: \"$1\" }"),
    ("bool", "true", "true"),
    ("bool", "false", "false"),
    ("null", "null", "null"),
];
