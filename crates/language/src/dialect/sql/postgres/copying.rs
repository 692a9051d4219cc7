//! How a database is written as statements that make it again.

use crate::dialect::changing::Copying;

/// The beginning of the text: values are read in the way in which they are written, whatever a login has set.
const READ_SO: [&str; 7] = [
    "set check_function_bodies = off",
    "begin",
    "set local standard_conforming_strings = on",
    "set local datestyle = 'ISO, YMD'",
    "set local intervalstyle = 'postgres'",
    "set local lc_monetary = 'C'",
    "set local xmloption = content",
];

/// Extensions, and the schemas that they are in.
const EXTENSIONS: &str = "\
select format(s.text, n.nspname, e.extname) from pg_extension e join pg_namespace n on n.oid = e.extnamespace, \
(values (1, 'create schema if not exists %I'), (2, 'create extension if not exists %2$I with schema %1$I')) s(at, text) \
where e.extname <> 'plpgsql' and (s.at = 2 or n.nspname not in ('pg_catalog', 'public')) order by e.oid, s.at";

/// Kinds of objects that no statement is written for, with how many there are.
const UNWRITTEN: &str = "\
select format('%s (%s) cannot be written yet', what, many) from (\
select 'operators', count(*) from pg_operator o join pg_namespace n on n.oid = o.oprnamespace where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' \
and not exists (select from pg_depend d where d.classid = 'pg_operator'::regclass and d.objid = o.oid and d.deptype = 'e') \
union all select 'operator classes', count(*) from pg_opclass o join pg_namespace n on n.oid = o.opcnamespace where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' \
and not exists (select from pg_depend d where d.classid = 'pg_opclass'::regclass and d.objid = o.oid and d.deptype = 'e') \
union all select 'casts', count(*) from pg_cast c where c.oid >= 16384 \
and not exists (select from pg_depend d where d.classid = 'pg_cast'::regclass and d.objid = c.oid and d.deptype in ('e', 'i')) \
union all select 'range types with a canonical function', count(*) from pg_range r where r.rngcanonical <> 0 and r.rngtypid >= 16384 \
and not exists (select from pg_depend d where d.classid = 'pg_type'::regclass and d.objid = r.rngtypid and d.deptype = 'e') \
union all select 'collations', count(*) from pg_collation c join pg_namespace n on n.oid = c.collnamespace where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' \
union all select 'text search configurations', count(*) from pg_ts_config c where c.oid >= 16384 \
and not exists (select from pg_depend d where d.classid = 'pg_ts_config'::regclass and d.objid = c.oid and d.deptype = 'e') \
union all select 'foreign servers', count(*) from pg_foreign_server \
union all select 'event triggers', count(*) from pg_event_trigger t \
where not exists (select from pg_depend d where d.classid = 'pg_event_trigger'::regclass and d.objid = t.oid and d.deptype = 'e') \
union all select 'publications', count(*) from pg_publication \
union all select 'large objects', count(*) from pg_largeobject_metadata\
) found(what, many) where many > 0 order by what";

/// PostgreSQL's documentation of its catalogs and of `SET`.
pub(super) const COPYING: Copying = Copying {
    asked_first: "",
    // Where a policy hides rows from this login it refuses, and does not leave them out. Values are written with all their
    // digits, and in one way for days, spans, money and bytes, whatever a login has set.
    snapshot: &[
        "begin isolation level repeatable read read only",
        "set local row_security = off",
        "set local extra_float_digits = 3",
        "set local datestyle = 'ISO, YMD'",
        "set local intervalstyle = 'postgres'",
        "set local bytea_output = hex",
        "set local lc_monetary = 'C'",
        "set local quote_all_identifiers = off",
    ],
    afterwards: "",
    exactly: &[],
    only: "only ",
    beside: [EXTENSIONS, UNWRITTEN],
    around: [&READ_SO, &["commit"]],
    keys_after: true,
    schemas_are_databases: false,
    goes_on: [
        "select n, true from pg_sequence_last_value(pg_get_serial_sequence(TABLE_TEXT, COLUMN_TEXT)::regclass) n where n is not null",
        "select setval(pg_get_serial_sequence(TABLE_TEXT, COLUMN_TEXT), VALUE, CALLED)",
    ],
    sequence: ["select last_value, is_called from NAME", "select setval(TEXT, VALUE, CALLED)"],
    unchecked: "",
    made_with: ["", ""],
};
