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
    entry("match", "{ $1 }", "documents that match a filter"),
    entry("group", "{ _id: ${1:null}, ${2:n}: { \\$sum: ${3:1} } }", "groups by _id, with an accumulator per field"),
    entry("project", "{ $1 }", "chosen or computed fields"),
    entry("sort", "{ ${1:_id}: ${2:1} }", "sorts: 1 ascending, -1 descending"),
    entry("limit", "${1:100}", "at most this many documents"),
    entry("skip", "${1:100}", "skips this many documents"),
    entry("unwind", "\"\\$${1:path}\"", "one document for each element of a list"),
    entry(
        "lookup",
        "{ from: \"${1:collection}\", localField: \"${2:field}\", foreignField: \"${3:_id}\", as: \"${4:found}\" }",
        "joins documents of another collection, as a list",
    ),
    entry("set", "{ $1 }", "adds or changes fields"),
    entry("unset", "\"${1:field}\"", "removes fields"),
    entry("count", "\"${1:n}\"", "the number of documents"),
    entry("sortByCount", "\"\\$${1:path}\"", "counts each value, most frequent first"),
    entry("facet", "{ ${1:name}: [{ $2 }] }", "several pipelines over the same documents"),
    entry("bucket", "{ groupBy: \"\\$${1:path}\", boundaries: [${2:0, 10}] }", "groups by ranges"),
    entry("bucketAuto", "{ groupBy: \"\\$${1:path}\", buckets: ${2:10} }", "groups of about the same size"),
    entry("sample", "{ size: ${1:20} }", "a random sample"),
    entry("addFields", "{ $1 }", "the same as set"),
    entry("replaceWith", "\"\\$${1:path}\"", "replaces each document by a part of it"),
    entry("unionWith", "\"${1:collection}\"", "adds the documents of another collection"),
    entry(
        "graphLookup",
        "{ from: \"${1:collection}\", startWith: \"\\$${2:path}\", connectFromField: \"${3:field}\", connectToField: \"${4:_id}\", as: \"${5:found}\" }",
        "documents reached by references, recursively",
    ),
    entry(
        "geoNear",
        "{ near: { type: \"Point\", coordinates: [${1:0, 0}] }, distanceField: \"${2:distance}\" }",
        "nearest first, with the distance",
    ),
    entry(
        "setWindowFields",
        "{ partitionBy: \"\\$${1:path}\", sortBy: { ${2:_id}: 1 }, output: { $3 } }",
        "window functions",
    ),
    entry(
        "densify",
        "{ field: \"${1:field}\", range: { step: ${2:1}, bounds: \"full\" } }",
        "adds documents for missing values of a range",
    ),
    entry(
        "fill",
        "{ sortBy: { ${1:_id}: 1 }, output: { ${2:field}: { method: \"locf\" } } }",
        "fills NULLs and missing fields",
    ),
    entry("replaceRoot", "{ newRoot: \"\\$${1:path}\" }", "the same as replaceWith"),
    entry(
        "redact",
        "{ \\$cond: [{ $1 }, \"\\$\\$DESCEND\", \"\\$\\$PRUNE\"] }",
        "removes parts of documents by a condition",
    ),
    entry("documents", "[{ $1 }]", "documents given in the statement"),
    entry(
        "search",
        "{ index: \"${1:default}\", text: { query: \"$2\", path: \"${3:path}\" } }",
        "full-text search, by a search index",
    ),
    entry("searchMeta", "{ index: \"${1:default}\", count: { type: \"total\" } }", "metadata of a full-text search"),
    entry(
        "vectorSearch",
        "{ index: \"${1:index}\", path: \"${2:path}\", queryVector: [$3], numCandidates: ${4:100}, limit: ${5:10} }",
        "nearest vectors, by a vector index",
    ),
    entry("changeStream", "{}", "a change stream"),
    entry("changeStreamSplitLargeEvent", "{}", "splits large change events"),
    entry("currentOp", "{ allUsers: ${1:true} }", "running operations; on the database admin"),
    entry("listSessions", "{}", "sessions of all servers"),
    entry("listLocalSessions", "{}", "sessions of this server"),
    entry("listSampledQueries", "{}", "sampled queries"),
    entry("listSearchIndexes", "{}", "search indexes"),
    entry("planCacheStats", "{}", "cached query plans"),
    entry("querySettings", "{}", "query settings"),
    entry("queryStats", "{}", "query statistics"),
    entry("shardedDataDistribution", "{}", "distribution of data over shards"),
    entry("collStats", "{ storageStats: {} }", "statistics of the collection"),
    entry("indexStats", "{}", "usage of each index"),
    entry("out", "\"${1:collection}\"", "replaces a collection with the result"),
    entry("merge", "{ into: \"${1:collection}\" }", "merges the result into a collection"),
];

/// What joins conditions.
pub const LOGICAL: &[Entry] = &[
    entry("$or", "[{ $1 }, { $2 }]", "any of them"),
    entry("$and", "[{ $1 }, { $2 }]", "all of them"),
    entry("$nor", "[{ $1 }]", "none of them"),
    entry("$expr", "{ $1 }", "an expression is true"),
    entry("$text", "{ \\$search: \"$1\" }", "text search, by a text index"),
    entry("$jsonSchema", "{ required: [$1], properties: { $2 } }", "matches a JSON schema"),
    entry("$comment", "\"$1\"", "a comment for the server's log and profiler"),
    entry("$sampleRate", "${1:0.1}", "a random part of the documents"),
    entry("$where", "\"$1\"", "a JavaScript function; slow"),
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
    entry("$exists", "${1:true}", "whether the field exists"),
    entry("$regex", "\"$1\"", "a regular expression"),
    entry("$eq", "", "equal"),
    entry("$not", "{ $1 }", "negation"),
    entry("$type", "\"${1:string}\"", "has this BSON type"),
    entry("$size", "", "a list of this length"),
    entry("$all", "[$1]", "a list with all of these"),
    entry("$elemMatch", "{ $1 }", "a list with an element that matches"),
    entry("$mod", "[${1:2}, ${2:0}]", "the remainder of a division"),
    entry("$options", "\"${1:i}\"", "options of a regular expression"),
    entry(
        "$near",
        "{ \\$geometry: { type: \"Point\", coordinates: [${1:0, 0}] } }",
        "nearest first, with the distance",
    ),
    entry("$geoWithin", "{ \\$geometry: { $1 } }", "inside a shape"),
    entry("$geoIntersects", "{ \\$geometry: { $1 } }", "touches a shape"),
    entry("$nearSphere", "{ \\$geometry: { type: \"Point\", coordinates: [${1:0, 0}] } }", "the same as $near"),
    entry("$bitsAllSet", "[${1:0}]", "all of these bits are 1"),
    entry("$bitsAnySet", "[${1:0}]", "one of these bits is 1"),
    entry("$bitsAllClear", "[${1:0}]", "all of these bits are 0"),
    entry("$bitsAnyClear", "[${1:0}]", "one of these bits is 0"),
];

/// Parts of conditions on places.
pub const GEO: &[Entry] = &[
    entry("type", "\"${1:Point}\"", "the type of the shape"),
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
    entry("$set", "{ $1 }", "sets fields"),
    entry("$unset", "{ ${1:field}: \"\" }", "removes fields"),
    entry("$inc", "{ $1 }", "increments a number"),
    entry("$push", "{ $1 }", "appends to a list"),
    entry("$pull", "{ $1 }", "removes from a list"),
    entry("$addToSet", "{ $1 }", "adds to a list unless it is in it"),
    entry("$pop", "{ ${1:field}: ${2:1} }", "removes the last element of a list, or with -1 the first"),
    entry("$rename", "{ ${1:field}: \"${2:name}\" }", "renames fields"),
    entry("$min", "{ $1 }", "sets the value if it is smaller"),
    entry("$max", "{ $1 }", "sets the value if it is larger"),
    entry("$mul", "{ $1 }", "multiplies a number"),
    entry("$currentDate", "{ ${1:field}: true }", "sets the current time"),
    entry("$setOnInsert", "{ $1 }", "sets fields only when an upsert inserts"),
    entry("$pullAll", "{ ${1:field}: [$2] }", "removes all of these from a list"),
    entry("$bit", "{ ${1:field}: { ${2:and}: ${3:0} } }", "changes bits of a number"),
];

/// What stands beside the values that a change puts into a list.
pub const PUSHED: &[Entry] = &[
    entry("$each", "[$1]", "several values"),
    entry("$slice", "${1:-10}", "keeps this many elements; negative: the last"),
    entry("$sort", "${1:1}", "in order"),
    entry("$position", "${1:0}", "the position to insert at"),
];

/// What a group has.
pub const GROUP: &[Entry] = &[entry("_id", "\"\\$${1:path}\"", "the group key; null: all documents")];

/// What is told of a group.
pub const ACCUMULATORS: &[Entry] = &[
    entry("$sum", "${1:1}", "the sum; with 1, the count"),
    entry("$avg", "\"\\$${1:path}\"", "the mean"),
    entry("$min", "\"\\$${1:path}\"", "the smallest"),
    entry("$max", "\"\\$${1:path}\"", "the largest"),
    entry("$first", "\"\\$${1:path}\"", "of the first document"),
    entry("$last", "\"\\$${1:path}\"", "of the last document"),
    entry("$push", "\"\\$${1:path}\"", "all, as a list"),
    entry("$addToSet", "\"\\$${1:path}\"", "the distinct values, as a list"),
    entry("$count", "{}", "the count"),
    entry("$stdDevSamp", "\"\\$${1:path}\"", "the sample standard deviation"),
    entry("$topN", "{ n: ${1:3}, sortBy: { ${2:_id}: 1 }, output: \"\\$${3:path}\" }", "the first n in an order"),
    entry("$top", "{ sortBy: { ${1:_id}: 1 }, output: \"\\$${2:path}\" }", "the first in an order"),
    entry("$bottom", "{ sortBy: { ${1:_id}: 1 }, output: \"\\$${2:path}\" }", "the last in an order"),
    entry("$bottomN", "{ n: ${1:3}, sortBy: { ${2:_id}: 1 }, output: \"\\$${3:path}\" }", "the last n in an order"),
    entry("$firstN", "{ n: ${1:3}, input: \"\\$${2:path}\" }", "the values of the first n documents"),
    entry("$lastN", "{ n: ${1:3}, input: \"\\$${2:path}\" }", "the values of the last n documents"),
    entry("$minN", "{ n: ${1:3}, input: \"\\$${2:path}\" }", "the n smallest values"),
    entry("$maxN", "{ n: ${1:3}, input: \"\\$${2:path}\" }", "the n largest values"),
    entry("$median", "{ input: \"\\$${1:path}\", method: \"approximate\" }", "the median"),
    entry("$percentile", "{ input: \"\\$${1:path}\", p: [${2:0.5, 0.9}], method: \"approximate\" }", "percentiles"),
    entry("$stdDevPop", "\"\\$${1:path}\"", "the population standard deviation"),
    entry("$mergeObjects", "\"\\$${1:path}\"", "merges documents"),
    entry("$concatArrays", "\"\\$${1:path}\"", "concatenates lists"),
    entry("$setUnion", "\"\\$${1:path}\"", "the union of lists, without duplicates"),
    entry(
        "$accumulator",
        "{ init: \"$1\", accumulate: \"$2\", accumulateArgs: [], merge: \"$3\", lang: \"js\" }",
        "JavaScript functions",
    ),
];

/// What is told of the windows of a stage setWindowFields, beside what is told of groups.
pub const WINDOWS: &[Entry] = &[
    entry("$rank", "{}", "the rank, with gaps after ties"),
    entry("$denseRank", "{}", "the rank, without gaps"),
    entry("$documentNumber", "{}", "the row number"),
    entry("$shift", "{ output: \"\\$${1:path}\", by: ${2:-1} }", "the value of a document before or after"),
    entry("$derivative", "{ input: \"\\$${1:path}\", unit: \"${2:hour}\" }", "the rate of change"),
    entry("$integral", "{ input: \"\\$${1:path}\", unit: \"${2:hour}\" }", "the area under the curve"),
    entry("$expMovingAvg", "{ input: \"\\$${1:path}\", N: ${2:5} }", "an exponential moving average"),
    entry("$covariancePop", "[\"\\$${1:path}\", \"\\$${2:path}\"]", "the population covariance"),
    entry("$covarianceSamp", "[\"\\$${1:path}\", \"\\$${2:path}\"]", "the sample covariance"),
    entry("$linearFill", "\"\\$${1:path}\"", "fills gaps by linear interpolation"),
    entry("$locf", "\"\\$${1:path}\"", "fills gaps with the last value"),
    entry("$minMaxScaler", "{ input: \"\\$${1:path}\" }", "scales values to 0 to 1"),
];

/// What an index has.
pub const INDEX: &[Entry] = &[
    entry("unique", "${1:true}", "refuses duplicates"),
    entry("name", "\"${1:name}\"", "its name"),
    entry("sparse", "${1:true}", "only documents that have the field"),
    entry("expireAfterSeconds", "${1:3600}", "removes documents of that age, in seconds"),
    entry("partialFilterExpression", "{ $1 }", "only documents that match"),
    entry("key", "{ $1 }", "its fields"),
];

/// What one change of a command `update` has.
pub const UPDATES: &[Entry] = &[
    entry("q", "{ $1 }", "the filter"),
    entry("u", "{ $1 }", "the change"),
    entry("multi", "${1:true}", "all that match"),
    entry("upsert", "${1:true}", "inserts one if none matches"),
];

/// What one removal of a command `delete` has.
pub const DELETES: &[Entry] =
    &[entry("q", "{ $1 }", "the filter"), entry("limit", "${1:1}", "1: the first, 0: all that match")];

/// Fields of commands that a short form may be given.
pub const OPTIONS: &[Entry] = &[
    entry("allowDiskUse", "${1:true}", "lets sorts and groups use the disk"),
    entry("hint", "\"${1:index}\"", "the index to use"),
    entry("maxTimeMS", "${1:1000}", "time-out in milliseconds"),
    entry("collation", "{ locale: \"${1:en}\" }", "the collation"),
    entry("sort", "{ ${1:_id}: 1 }", "the order of a find"),
    entry("limit", "${1:100}", "the limit of a find"),
    entry("skip", "${1:100}", "the skip of a find"),
    entry("projection", "{ $1 }", "the projection of a find"),
    entry("batchSize", "${1:100}", "documents per batch"),
    entry("comment", "\"$1\"", "a comment for the server's log and profiler"),
    entry("let", "{ $1 }", "variables"),
    entry("readConcern", "{ level: \"${1:majority}\" }", "the read concern"),
    entry("writeConcern", "{ w: \"${1:majority}\" }", "the write concern"),
];

/// Commands, those of every day first.
pub const COMMANDS: &[Entry] = &[
    entry("find", "\"${1:collection}\", filter: { $2 }", "documents that match a filter"),
    entry("aggregate", "\"${1:collection}\", pipeline: [{ $2 }], cursor: {}", "a pipeline of stages"),
    entry("count", "\"${1:collection}\", query: { $2 }", "how many documents match"),
    entry("distinct", "\"${1:collection}\", key: \"${2:path}\"", "the distinct values of a path"),
    entry("insert", "\"${1:collection}\", documents: [{ $2 }]", "adds documents"),
    entry("update", "\"${1:collection}\", updates: [{ q: { $2 }, u: { $3 } }]", "changes documents"),
    entry("delete", "\"${1:collection}\", deletes: [{ q: { $2 }, limit: ${3:1} }]", "removes documents"),
    entry("findAndModify", "\"${1:collection}\", query: { $2 }, update: { $3 }", "changes one document and returns it"),
    entry("listCollections", "1", "the collections"),
    entry("listDatabases", "1", "the databases"),
    entry("listIndexes", "\"${1:collection}\"", "the indexes of a collection"),
    entry(
        "createIndexes",
        "\"${1:collection}\", indexes: [{ key: { ${2:field}: 1 }, name: \"${3:name}\" }]",
        "creates indexes",
    ),
    entry("dropIndexes", "\"${1:collection}\", index: \"${2:name}\"", "drops an index"),
    entry("create", "\"${1:collection}\"", "creates a collection"),
    entry("drop", "\"${1:collection}\"", "drops a collection"),
    entry("collMod", "\"${1:collection}\"", "changes options of a collection"),
    entry("renameCollection", "\"${1:database.collection}\", to: \"${2:database.collection}\"", "renames a collection"),
    entry("explain", "{ $1 }", "the plan of a command"),
    entry("collStats", "\"${1:collection}\"", "statistics of a collection"),
    entry("dbStats", "1", "statistics of the database"),
    entry("currentOp", "1", "running operations"),
    entry("killOp", "1, op: ${1:0}", "ends a running operation"),
    entry("serverStatus", "1", "statistics of the server"),
    entry("hello", "1", "the role and version of the server"),
    entry("ping", "1", "checks that the server answers"),
    entry("buildInfo", "1", "its version"),
    entry("connectionStatus", "1", "the logged-in user"),
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
        entry("skip", "${1:100}", "skips this many documents"),
        entry("hint", "\"${1:index}\"", "the index to use"),
        entry("collation", "{ locale: \"${1:en}\" }", "the collation"),
        entry("batchSize", "${1:100}", "documents per batch"),
        entry("allowDiskUse", "${1:true}", "lets sorts use the disk"),
        entry("maxTimeMS", "${1:1000}", "time-out in milliseconds"),
        entry("let", "{ $1 }", "variables"),
    ];
    const AGGREGATE: &[Entry] = &[
        entry("pipeline", "[{ $1 }]", "the stages"),
        entry("cursor", "{}", "required"),
        entry("allowDiskUse", "${1:true}", "lets sorts and groups use the disk"),
        entry("hint", "\"${1:index}\"", "the index to use"),
        entry("collation", "{ locale: \"${1:en}\" }", "the collation"),
        entry("maxTimeMS", "${1:1000}", "time-out in milliseconds"),
        entry("let", "{ $1 }", "variables"),
    ];
    const COUNT: &[Entry] = &[
        entry("query", "{ $1 }", "which documents"),
        entry("limit", "${1:100}", "how many at most"),
        entry("skip", "${1:100}", "skips this many documents"),
        entry("hint", "\"${1:index}\"", "the index to use"),
    ];
    const DISTINCT: &[Entry] =
        &[entry("key", "\"${1:path}\"", "the path"), entry("query", "{ $1 }", "which documents")];
    const INSERT: &[Entry] = &[
        entry("documents", "[{ $1 }]", "the documents"),
        entry("ordered", "${1:false}", "whether the first error stops it"),
    ];
    const UPDATE: &[Entry] = &[
        entry("updates", "[{ q: { $1 }, u: { $2 } }]", "the changes"),
        entry("ordered", "${1:false}", "whether the first error stops it"),
    ];
    const DELETE: &[Entry] = &[
        entry("deletes", "[{ q: { $1 }, limit: ${2:1} }]", "the removals"),
        entry("ordered", "${1:false}", "whether the first error stops it"),
    ];
    const CREATE: &[Entry] = &[
        entry("capped", "${1:true}", "of a fixed size"),
        entry("size", "${1:1048576}", "its bytes, if it is capped"),
        entry("max", "${1:1000}", "its documents, if it is capped"),
        entry("validator", "{ $1 }", "the rule for documents"),
        entry("timeseries", "{ timeField: \"${1:at}\" }", "a time series"),
        entry("viewOn", "\"${1:collection}\"", "a view on a collection"),
        entry("pipeline", "[{ $1 }]", "the stages of a view"),
        entry("collation", "{ locale: \"${1:en}\" }", "the collation"),
        entry("expireAfterSeconds", "${1:3600}", "removes documents of that age, in seconds"),
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
