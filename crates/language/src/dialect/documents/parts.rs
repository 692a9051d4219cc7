//! What stages of a pipeline take, as the server's documentation lists it.

use super::operators::{Entry, entry};

/// What a stage takes, by names.
pub fn parts_of(stage: &str) -> &'static [Entry] {
    const UNWIND: &[Entry] = &[
        entry("path", "\"\\$${1:path}\"", "the list"),
        entry("preserveNullAndEmptyArrays", "${1:true}", "keeps documents whose list is empty or missing"),
        entry("includeArrayIndex", "\"${1:number}\"", "the field for the index"),
    ];
    const BUCKET: &[Entry] = &[
        entry("groupBy", "\"\\$${1:path}\"", "the expression to group by"),
        entry("boundaries", "[${1:0, 10}]", "the boundaries of the groups"),
        entry("default", "\"${1:other}\"", "the group for other values"),
        entry("output", "{ ${1:n}: { \\$sum: ${2:1} } }", "the fields of each group"),
    ];
    const BUCKET_AUTO: &[Entry] = &[
        entry("groupBy", "\"\\$${1:path}\"", "the expression to group by"),
        entry("buckets", "${1:10}", "how many groups"),
        entry("output", "{ ${1:n}: { \\$sum: ${2:1} } }", "the fields of each group"),
        entry("granularity", "\"${1:R5}\"", "boundaries by preferred numbers"),
    ];
    const GEO_NEAR: &[Entry] = &[
        entry("near", "{ type: \"Point\", coordinates: [${1:0, 0}] }", "the point"),
        entry("distanceField", "\"${1:distance}\"", "the field for the distance"),
        entry("maxDistance", "${1:1000}", "the maximum distance, in metres"),
        entry("minDistance", "${1:0}", "the minimum distance, in metres"),
        entry("key", "\"${1:path}\"", "the indexed field, if there are several"),
        entry("query", "{ $1 }", "only documents that match"),
        entry("distanceMultiplier", "${1:0.001}", "a factor for distances"),
        entry("spherical", "${1:true}", "on a sphere"),
    ];
    const GRAPH: &[Entry] = &[
        entry("from", "\"${1:collection}\"", "the collection"),
        entry("startWith", "\"\\$${1:path}\"", "the value to start with"),
        entry("connectFromField", "\"${1:field}\"", "the field with the reference"),
        entry("connectToField", "\"${1:_id}\"", "the field that is referenced"),
        entry("as", "\"${1:found}\"", "the field for the list"),
        entry("maxDepth", "${1:3}", "the maximum depth"),
        entry("depthField", "\"${1:steps}\"", "the field for the depth"),
        entry("restrictSearchWithMatch", "{ $1 }", "only documents that match"),
    ];
    const MERGE: &[Entry] = &[
        entry("into", "\"${1:collection}\"", "the collection"),
        entry("on", "\"${1:_id}\"", "the fields that identify a document"),
        entry("whenMatched", "\"${1:merge}\"", "merge, replace, keepExisting, fail, or stages"),
        entry("whenNotMatched", "\"${1:insert}\"", "insert, discard or fail"),
        entry("let", "{ $1 }", "names for the stages"),
    ];
    const WINDOW: &[Entry] = &[
        entry("partitionBy", "\"\\$${1:path}\"", "one partition per value"),
        entry("sortBy", "{ ${1:_id}: 1 }", "in which order"),
        entry(
            "output",
            "{ ${1:n}: { \\$sum: ${2:1}, window: { documents: [\"unbounded\", \"current\"] } } }",
            "the fields to add",
        ),
    ];
    const DENSIFY: &[Entry] = &[
        entry("field", "\"${1:path}\"", "the field with gaps"),
        entry("range", "{ step: ${1:1}, unit: \"${2:day}\", bounds: \"full\" }", "the step and the bounds"),
        entry("partitionByFields", "[\"${1:path}\"]", "one partition per value"),
    ];
    const FILL: &[Entry] = &[
        entry("output", "{ ${1:field}: { method: \"${2:linear}\" } }", "what is filled, and how"),
        entry("sortBy", "{ ${1:_id}: 1 }", "in which order"),
        entry("partitionBy", "\"\\$${1:path}\"", "one partition per value"),
    ];
    const UNION: &[Entry] =
        &[entry("coll", "\"${1:collection}\"", "the collection"), entry("pipeline", "[{ $1 }]", "stages on it")];
    const OUT: &[Entry] =
        &[entry("db", "\"${1:database}\"", "the database"), entry("coll", "\"${1:collection}\"", "the collection")];
    const SAMPLE: &[Entry] = &[entry("size", "${1:20}", "the count")];
    const ROOT: &[Entry] = &[entry("newRoot", "\"\\$${1:path}\"", "the part that takes its place")];
    const STATS: &[Entry] = &[
        entry("storageStats", "{}", "sizes and indexes"),
        entry("count", "{}", "how many documents"),
        entry("latencyStats", "{ histograms: ${1:true} }", "how long things took"),
        entry("queryExecStats", "{}", "how often all was read"),
    ];
    match stage {
        "unwind" => UNWIND,
        "bucket" => BUCKET,
        "bucketAuto" => BUCKET_AUTO,
        "geoNear" => GEO_NEAR,
        "graphLookup" => GRAPH,
        "merge" => MERGE,
        "setWindowFields" => WINDOW,
        "densify" => DENSIFY,
        "fill" => FILL,
        "unionWith" => UNION,
        "out" => OUT,
        "sample" => SAMPLE,
        "replaceRoot" => ROOT,
        "collStats" => STATS,
        _ => &[],
    }
}

/// What a lookup takes.
pub const LOOKUP: &[Entry] = &[
    entry("from", "\"${1:collection}\"", "the other collection"),
    entry("localField", "\"${1:field}\"", "the path here"),
    entry("foreignField", "\"${1:_id}\"", "the path there"),
    entry("as", "\"${1:found}\"", "the field for the list"),
    entry("let", "{ $1 }", "names for the pipeline"),
    entry("pipeline", "[{ $1 }]", "stages on the other collection"),
];
