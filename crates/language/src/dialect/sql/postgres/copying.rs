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

/// Whose schemas and types are, what others may do with them, and what they get of what is made later
/// (<https://www.postgresql.org/docs/current/ddl-priv.html>). The schema that everybody has is as the server makes it, if
/// nobody changed that.
const ACCESS: &str = "\
with ours as (select n.*, n.nspacl is not null and (select string_agg(x.privilege_type, ' ' order by x.privilege_type) from aclexplode(n.nspacl) x where x.grantee = 0) is distinct from case when current_setting('server_version_num')::int >= 150000 then 'USAGE' else 'CREATE USAGE' end as changed \
from (select oid, nspname, nspowner, nspacl from pg_namespace where nspname !~ '^pg_' and nspname <> 'information_schema') n \
where not exists (select from pg_depend d where d.classid = 'pg_namespace'::regclass and d.objid = n.oid and d.deptype = 'e')), \
types as (select t.* from pg_type t where (t.typtype in ('d', 'e', 'r') or t.typtype = 'c' and exists (select from pg_class c where c.oid = t.typrelid and c.relkind = 'c')) \
and not exists (select from pg_depend d where d.classid = 'pg_type'::regclass and d.objid = t.oid and d.deptype = 'e')), \
defaults as (select d.*, pg_get_userbyid(d.defaclrole) as whose, case when d.defaclnamespace = 0 then '' else (select format(' in schema %I', nspname) from pg_namespace where oid = d.defaclnamespace) end as place from pg_default_acl d), \
whom(oid, who) as (select 0::oid, 'public' union all select oid, quote_ident(rolname) from pg_roles), options(is_grantable, option) as (values (true, ' with grant option'), (false, '')), \
kinds(sign, word, usual) as (values ('r', 'tables', null), ('S', 'sequences', null), ('f', 'functions', 'execute'), ('T', 'types', 'usage'), ('n', 'schemas', null)) \
select schema, statement from ( \
select n.nspname, 1, n.nspname, format('alter schema %I owner to %I', n.nspname, pg_get_userbyid(n.nspowner)) from ours n \
where not (n.nspname = 'public' and (n.nspowner = 10 or pg_get_userbyid(n.nspowner) = 'pg_database_owner')) \
union all select n.nspname, 2, n.nspname, 'revoke all on schema public from public' from ours n where n.nspname = 'public' and n.changed \
union all select n.nspname, 3, who, format('grant %s on schema %I to %s%s', string_agg(lower(x.privilege_type), ', ' order by x.privilege_type), n.nspname, who, option) \
from ours n, aclexplode(n.nspacl) x join whom on whom.oid = x.grantee join options using (is_grantable) \
where x.grantee <> n.nspowner and (n.nspname <> 'public' or x.grantee <> 0 or n.changed) group by n.nspname, who, option \
union all select n.nspname, 4, t.typname, format('alter type %I.%I owner to %I', n.nspname, t.typname, pg_get_userbyid(t.typowner)) from types t join ours n on n.oid = t.typnamespace \
union all select n.nspname, 5, t.typname, format('revoke usage on type %I.%I from public', n.nspname, t.typname) from types t join ours n on n.oid = t.typnamespace \
where t.typacl is not null and not exists (select from aclexplode(t.typacl) x where x.grantee = 0) \
union all select n.nspname, 6, t.typname || ' ' || who, format('grant usage on type %I.%I to %s%s', n.nspname, t.typname, who, option) \
from types t join ours n on n.oid = t.typnamespace, aclexplode(t.typacl) x join whom on whom.oid = x.grantee join options using (is_grantable) \
where x.grantee not in (0, t.typowner) \
union all select coalesce(n.nspname, ''), 7, d.whose || k.word || who, format('alter default privileges for role %I%s grant %s on %s to %s%s', d.whose, d.place, string_agg(lower(x.privilege_type), ', ' order by x.privilege_type), k.word, who, option) \
from defaults d left join ours n on n.oid = d.defaclnamespace join kinds k on k.sign = d.defaclobjtype, aclexplode(d.defaclacl) x join whom on whom.oid = x.grantee join options using (is_grantable) \
where x.grantee <> d.defaclrole and (x.grantee <> 0 or k.usual is null or d.defaclnamespace <> 0) group by n.nspname, d.whose, d.place, k.word, who, option \
union all select '', 8, d.whose || k.word, format('alter default privileges for role %I revoke %s on %s from public', d.whose, k.usual, k.word) \
from defaults d join kinds k on k.sign = d.defaclobjtype where d.defaclnamespace = 0 and k.usual is not null and not exists (select from aclexplode(d.defaclacl) x where x.grantee = 0) \
) found(schema, at, name, statement) order by schema, at, name, statement";

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
    access: ACCESS,
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
