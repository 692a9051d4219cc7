//! What a database holds, from the system catalogs:
//! <https://www.postgresql.org/docs/current/catalogs.html>. Objects of extensions and of the server
//! itself are left out, but for the functions and types that a statement may name: those stand beside the rest.

use std::collections::HashMap;

use jaunty_seam::catalog::{
    Belonging, BelongingKind, Catalog, Column, Constraint, DOMAIN, Index, Name, Object, ObjectKind, Rule, Trigger,
};
use jaunty_seam::error::EngineError;
use tokio_postgres::SimpleQueryRow;

use super::belongings;
use super::run::said;
use super::session::{PostgresSession, quoted};

/// The schemas that are a person's own.
pub(super) const OWN: &str = "(n.nspname !~ '^pg_(toast|temp)' or n.oid = pg_my_temp_schema()) and n.nspname not in ('pg_catalog', 'information_schema')";

/// What has rows, and sequences, with their columns: a row a column.
const RELATIONS: &str = "\
select n.nspname, c.relname, c.relkind, obj_description(c.oid, 'pg_class'), \
case when c.reltuples >= 0 then c.reltuples::bigint end, \
case when c.relkind in ('r', 'm') then c.relpages::bigint * current_setting('block_size')::bigint end, \
a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, coalesce(a.attnum = any(k.conkey), false), \
pg_get_expr(d.adbin, d.adrelid), a.attgenerated, a.attidentity, col_description(c.oid, a.attnum), \
case c.relkind when 'p' then 'partition by ' || pg_get_partkeydef(c.oid) \
when 'f' then (select 'server ' || quote_ident(s.srvname) || coalesce(' options (' || (select string_agg(format('%I %L', split_part(o, '=', 1), \
substr(o, strpos(o, '=') + 1)), ', ') from unnest(t.ftoptions) o) || ')', '') \
from pg_foreign_table t join pg_foreign_server s on s.oid = t.ftserver where t.ftrelid = c.oid) end, \
case when a.attcollation <> y.typcollation then (select format('%I.%I', cn.nspname, co.collname) from pg_collation co \
join pg_namespace cn on cn.oid = co.collnamespace where co.oid = a.attcollation) end, \
b.by, \
 case when a.attidentity <> '' then (select concat_ws(' ', case when q.seqstart <> case when q.seqincrement < 0 then q.seqmax else q.seqmin end then 'start with ' || q.seqstart end, \
case when q.seqincrement <> 1 then 'increment by ' || q.seqincrement end, \
case when q.seqmin <> case when q.seqincrement > 0 then 1 else u.low end then 'minvalue ' || q.seqmin end, \
case when q.seqmax <> case when q.seqincrement < 0 then -1 else u.high end then 'maxvalue ' || q.seqmax end, \
case when q.seqcache <> 1 then 'cache ' || q.seqcache end, case when q.seqcycle then 'cycle' end) \
from pg_depend d join pg_sequence q on q.seqrelid = d.objid join (values ('int2'::regtype::oid, -32768::bigint, 32767::bigint), \
('int4'::regtype, -2147483648, 2147483647), ('int8'::regtype, -9223372036854775808, 9223372036854775807)) u(type, low, high) on u.type = q.seqtypid \
where d.classid = 'pg_class'::regclass and d.refclassid = 'pg_class'::regclass and d.refobjid = c.oid and d.refobjsubid = a.attnum and d.deptype = 'i' \
limit 1) end \
from pg_class c join pg_namespace n on n.oid = c.relnamespace \
left join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped and c.relkind <> 'S' \
left join pg_type y on y.oid = a.atttypid left join pg_attrdef d on d.adrelid = c.oid and d.adnum = a.attnum \
left join pg_constraint k on k.conrelid = c.oid and k.contype = 'p' \
left join (select d.objid, min(coalesce('extension ' || e.extname, 'identity')) from pg_depend d \
left join pg_extension e on d.refclassid = 'pg_extension'::regclass and e.oid = d.refobjid left join pg_class o on o.oid = d.objid \
where d.classid = 'pg_class'::regclass and d.objsubid = 0 and (d.deptype = 'e' or o.relkind = 'S' and d.deptype = 'i') group by d.objid) b(objid, by) on b.objid = c.oid \
where c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and {OWN} and has_schema_privilege(n.oid, 'usage') \
order by n.nspname, c.relname, a.attnum";

const CONSTRAINTS: &str = "\
select n.nspname, c.relname, k.conname, k.contype, \
(select json_agg(a.attname order by u.i) from unnest(k.conkey) with ordinality u(n, i) \
 join pg_attribute a on a.attrelid = k.conrelid and a.attnum = u.n), \
fn.nspname, f.relname, \
(select json_agg(a.attname order by u.i) from unnest(k.confkey) with ordinality u(n, i) \
 join pg_attribute a on a.attrelid = k.confrelid and a.attnum = u.n), \
k.confdeltype, k.confupdtype, pg_get_expr(k.conbin, k.conrelid), pg_get_constraintdef(k.oid) \
from pg_constraint k join pg_class c on c.oid = k.conrelid join pg_namespace n on n.oid = c.relnamespace \
left join pg_class f on f.oid = k.confrelid left join pg_namespace fn on fn.oid = f.relnamespace \
where k.contype in ('p', 'u', 'f', 'c', 'x') and k.conparentid = 0 and {OWN} \
order by n.nspname, c.relname, k.contype <> 'p', k.conname";

const INDEXES: &str = "\
select n.nspname, c.relname, i.relname, x.indisunique, pg_get_indexdef(x.indexrelid), \
(select json_agg(pg_get_indexdef(x.indexrelid, g, true) order by g) from generate_series(1, x.indnkeyatts) g) \
from pg_index x join pg_class c on c.oid = x.indrelid join pg_class i on i.oid = x.indexrelid \
join pg_namespace n on n.oid = c.relnamespace \
where not exists (select from pg_constraint k where k.conindid = x.indexrelid and k.contype in ('p', 'u', 'x')) and {OWN} \
order by n.nspname, c.relname, i.relname";

/// The bits of `tgtype` are from `pg_trigger.h`.
const TRIGGERS: &str = "\
select n.nspname, c.relname, t.tgname, pg_get_triggerdef(t.oid), \
case when t.tgtype & 64 > 0 then 'instead of' when t.tgtype & 2 > 0 then 'before' else 'after' end || ' ' || \
concat_ws(' or ', case when t.tgtype & 4 > 0 then 'insert' end, case when t.tgtype & 16 > 0 then 'update' end, \
case when t.tgtype & 8 > 0 then 'delete' end, case when t.tgtype & 32 > 0 then 'truncate' end) \
from pg_trigger t join pg_class c on c.oid = t.tgrelid join pg_namespace n on n.oid = c.relnamespace \
where not t.tgisinternal and coalesce((to_jsonb(t)->>'tgparentid')::bigint, 0) = 0 and {OWN} order by n.nspname, c.relname, t.tgname";

const USES: &str = "\
select distinct n.nspname, c.relname, un.nspname, u.relname \
from pg_rewrite r join pg_class c on c.oid = r.ev_class join pg_namespace n on n.oid = c.relnamespace \
join pg_depend d on d.classid = 'pg_rewrite'::regclass and d.objid = r.oid and d.refclassid = 'pg_class'::regclass \
join pg_class u on u.oid = d.refobjid and u.oid <> c.oid join pg_namespace un on un.oid = u.relnamespace \
where {OWN} and r.rulename = '_RETURN' \
union select n.nspname, c.relname, fn.nspname, p.proname \
from pg_rewrite r join pg_class c on c.oid = r.ev_class join pg_namespace n on n.oid = c.relnamespace \
join pg_depend d on d.classid = 'pg_rewrite'::regclass and d.objid = r.oid and d.refclassid = 'pg_proc'::regclass \
join pg_proc p on p.oid = d.refobjid join pg_namespace fn on fn.oid = p.pronamespace \
where {OWN} and r.rulename = '_RETURN' order by 1, 2, 3, 4";

/// What a routine is made of beside its text: types that it takes or gives, rows of tables among them, and all that a body
/// of the standard's kind names; of an aggregate its functions.
const NEEDED_BY_ROUTINE: &str = "\
(select json_agg(distinct jsonb_build_array(needs.schema, needs.name)) from (\
select un.nspname, u.relname from pg_depend d join pg_class u on u.oid = d.refobjid join pg_namespace un on un.oid = u.relnamespace \
where d.classid = 'pg_proc'::regclass and d.objid = p.oid and d.refclassid = 'pg_class'::regclass \
union all select un.nspname, u.typname from pg_depend d join pg_type t on t.oid = d.refobjid \
join pg_type u on u.oid = case when t.typelem <> 0 then t.typelem else t.oid end and u.oid >= 16384 join pg_namespace un on un.oid = u.typnamespace \
where d.classid = 'pg_proc'::regclass and d.objid = p.oid and d.refclassid = 'pg_type'::regclass \
union all select un.nspname, u.proname from pg_depend d join pg_proc u on u.oid = d.refobjid join pg_namespace un on un.oid = u.pronamespace \
where d.classid = 'pg_proc'::regclass and d.objid = p.oid and d.refclassid = 'pg_proc'::regclass and u.oid <> p.oid and u.oid >= 16384) needs(schema, name))";

/// <https://www.postgresql.org/docs/current/sql-createaggregate.html>
const AGGREGATE: &str = "\
(select format('create aggregate %I.%I(%s) (%s)', n.nspname, p.proname, pg_get_function_arguments(p.oid), concat_ws(', ', \
'sfunc = ' || g.aggtransfn::regproc, 'stype = ' || format_type(g.aggtranstype, null), 'sspace = ' || nullif(g.aggtransspace, 0), \
'finalfunc = ' || nullif(g.aggfinalfn, 0)::regproc, case when g.aggfinalextra then 'finalfunc_extra' end, \
case when g.aggfinalfn <> 0 then 'finalfunc_modify = ' || case g.aggfinalmodify when 's' then 'shareable' when 'w' then 'read_write' else 'read_only' end end, \
'combinefunc = ' || nullif(g.aggcombinefn, 0)::regproc, 'serialfunc = ' || nullif(g.aggserialfn, 0)::regproc, \
'deserialfunc = ' || nullif(g.aggdeserialfn, 0)::regproc, 'initcond = ' || quote_literal(g.agginitval), \
'msfunc = ' || nullif(g.aggmtransfn, 0)::regproc, 'minvfunc = ' || nullif(g.aggminvtransfn, 0)::regproc, \
case when g.aggmtransfn <> 0 then 'mstype = ' || format_type(g.aggmtranstype, null) end, 'msspace = ' || nullif(g.aggmtransspace, 0), \
'mfinalfunc = ' || nullif(g.aggmfinalfn, 0)::regproc, case when g.aggmfinalextra then 'mfinalfunc_extra' end, \
'minitcond = ' || quote_literal(g.aggminitval), (select format('sortop = operator(%I.%s)', w.nspname, o.oprname) from pg_namespace w where w.oid = o.oprnamespace), \
case when p.proparallel <> 'u' then 'parallel = ' || case p.proparallel when 's' then 'safe' else 'restricted' end end, \
case when g.aggkind = 'h' then 'hypothetical' end)) \
from pg_aggregate g left join pg_operator o on o.oid = g.aggsortop where g.aggfnoid = p.oid)";

/// Whose a routine is, and what others may do with it: kind, name, the statement that makes it, and the one that takes it
/// away. All may run it where nothing is said.
const ACCESS_OF_ROUTINE: &str = "\
(select json_agg(json_build_array(g.kind, g.name, g.makes, g.unmakes) order by g.kind desc, g.name) from \
(select case p.prokind when 'p' then 'procedure' else 'function' end || format(' %I.%I(%s)', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid))) r(called), \
lateral (select 'Owner', '', \
format('alter %s owner to %I', case p.prokind when 'a' then replace(r.called, 'function ', 'aggregate ') else r.called end, pg_get_userbyid(p.proowner)), '' \
union all select 'Grant', w.who || case when x.is_grantable then ' (may grant it)' else '' end, \
format('grant execute on %s to %s', r.called, w.who) || case when x.is_grantable then ' with grant option' else '' end, format('revoke execute on %s from %s', r.called, w.who) \
from aclexplode(p.proacl) x, lateral (select case when x.grantee = 0 then 'public' else quote_ident(pg_get_userbyid(x.grantee)) end) w(who) \
where x.grantee <> p.proowner and (x.grantee <> 0 or x.is_grantable) \
union all select 'Grant', 'public: none', format('revoke execute on %s from public', r.called), format('grant execute on %s to public', r.called) \
where p.proacl is not null and not exists (select from aclexplode(p.proacl) x where x.grantee = 0)) g(kind, name, makes, unmakes))";

const ROUTINES: &str = "\
select n.nspname, p.proname, p.prokind, pg_get_function_arguments(p.oid), pg_get_function_result(p.oid), \
obj_description(p.oid, 'pg_proc'), {NEEDED}, {AGGREGATE}, {ACCESS} \
from pg_proc p join pg_namespace n on n.oid = p.pronamespace \
where {OWN} and not exists (select from pg_depend d where d.classid = 'pg_proc'::regclass and d.objid = p.oid and d.deptype in ('e', 'i')) \
order by n.nspname, p.proname, 4";

const TYPES: &str = "\
select n.nspname, t.typname, t.typtype, obj_description(t.oid, 'pg_type'), \
(select json_agg(e.enumlabel order by e.enumsortorder) from pg_enum e where e.enumtypid = t.oid), \
concat_ws(' ', format_type(t.typbasetype, t.typtypmod), \
case when t.typcollation <> b.typcollation then (select format('collate %I.%I', cn.nspname, co.collname) from pg_collation co \
 join pg_namespace cn on cn.oid = co.collnamespace where co.oid = t.typcollation) end, \
case when t.typnotnull then 'not null' end, 'default ' || t.typdefault, \
 (select string_agg(format('constraint %I %s', k.conname, pg_get_constraintdef(k.oid)), ' ' order by k.conname) from pg_constraint k \
 where k.contypid = t.oid and k.contype = 'c')), \
(select json_agg(json_build_array(a.attname, format_type(a.atttypid, a.atttypmod), \
 (select format('%I.%I', cn.nspname, co.collname) from pg_collation co join pg_namespace cn on cn.oid = co.collnamespace \
 where co.oid = a.attcollation and a.attcollation <> (select y.typcollation from pg_type y where y.oid = a.atttypid)), \
 col_description(a.attrelid, a.attnum)) order by a.attnum) \
 from pg_attribute a where a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped), \
(select format('create type %I.%I as range (%s)', n.nspname, t.typname, concat_ws(', ', 'subtype = ' || format_type(g.rngsubtype, null), \
 (select format('subtype_opclass = %I.%I', pn.nspname, p.opcname) from pg_opclass p join pg_namespace pn on pn.oid = p.opcnamespace \
 where p.oid = g.rngsubopc and not p.opcdefault), \
 case when g.rngcollation <> s.typcollation then (select format('collation = %I.%I', cn.nspname, co.collname) from pg_collation co \
 join pg_namespace cn on cn.oid = co.collnamespace where co.oid = g.rngcollation) end, \
 'subtype_diff = ' || nullif(g.rngsubdiff, 0)::regproc, \
 (select format('multirange_type_name = %I.%I', n.nspname, m.typname) from pg_type m where m.oid = (to_jsonb(g)->>'rngmultitypid')::oid))) \
 from pg_range g join pg_type s on s.oid = g.rngsubtype where g.rngtypid = t.oid), \
(select json_agg(distinct jsonb_build_array(needs.schema, needs.name)) from (\
select un.nspname, u.typname from pg_depend d join pg_type o on o.oid = d.refobjid \
 join pg_type u on u.oid = case when o.typelem <> 0 then o.typelem else o.oid end join pg_namespace un on un.oid = u.typnamespace \
 where d.refclassid = 'pg_type'::regclass and u.oid <> t.oid and u.oid >= 16384 and (d.classid = 'pg_type'::regclass and d.objid = t.oid \
 or d.classid = 'pg_class'::regclass and d.objid = t.typrelid) \
union all select un.nspname, u.proname from pg_depend d join pg_proc u on u.oid = d.refobjid join pg_namespace un on un.oid = u.pronamespace \
 left join pg_constraint k on k.contypid = t.oid where d.refclassid = 'pg_proc'::regclass and u.oid >= 16384 \
 and (d.classid = 'pg_type'::regclass and d.objid = t.oid or d.classid = 'pg_constraint'::regclass and d.objid = k.oid)) needs(schema, name)) \
from pg_type t join pg_namespace n on n.oid = t.typnamespace left join pg_type b on b.oid = t.typbasetype left join pg_class c on c.oid = t.typrelid \
where t.typtype in ('e', 'd', 'c', 'r') and (c.oid is null or c.relkind = 'c') and {OWN} \
and not exists (select from pg_depend d where d.classid = 'pg_type'::regclass and d.objid = t.oid and d.deptype = 'e') \
order by n.nspname, t.typname";

/// The functions and types that a statement may name and that the server and its extensions bring, each with who does. What
/// is only there for operators, casts, indexes, aggregates and types to be made of is left out.
const BROUGHT: &str = "\
select case when n.nspname = 'pg_catalog' then '' else n.nspname end, p.proname, p.prokind, \
case when p.proargmodes is null then pg_get_function_arguments(p.oid) else \
(select string_agg(concat_ws(' ', case u.mode when 'v' then 'VARIADIC' end, nullif(u.name, ''), format_type(u.type, null)), ', ' order by u.i) \
from unnest(p.proargmodes, p.proallargtypes, p.proargnames) with ordinality u(mode, type, name, i) where u.mode in ('i', 'b', 'v')) end, \
pg_get_function_result(p.oid), c.description, coalesce('extension ' || e.extname, 'the server') \
from pg_proc p join pg_namespace n on n.oid = p.pronamespace join pg_type g on g.oid = p.prorettype \
left join pg_depend d on d.classid = 'pg_proc'::regclass and d.objid = p.oid and d.deptype = 'e' left join pg_extension e on e.oid = d.refobjid \
left join pg_description c on c.classoid = 'pg_proc'::regclass and c.objoid = p.oid and c.objsubid = 0 \
where (e.oid is not null or n.nspname = 'pg_catalog') and p.proname !~ '^(_|binary_upgrade_|pg_stat_get_|RI_)' \
and not p.proargtypes::oid[] && '{internal,cstring,oidvector,int2vector}'::regtype[]::oid[] \
and g.typname !~ '^(internal|cstring|trigger|event_trigger|.*_handler)$' \
and p.oid not in (select unnest(array[oprcode, oprrest, oprjoin])::oid from pg_operator \
union all select castfunc from pg_cast union all select amproc from pg_amproc \
union all select unnest(array[aggtransfn, aggfinalfn, aggcombinefn, aggserialfn, aggdeserialfn, aggmtransfn, aggminvtransfn, aggmfinalfn]) from pg_aggregate \
union all select unnest(array[typinput, typoutput, typreceive, typsend, typmodin, typmodout, typanalyze]) from pg_type \
union all select unnest(array[rngcanonical, rngsubdiff]) from pg_range) and has_function_privilege(p.oid, 'execute') and has_schema_privilege(n.oid, 'usage') \
union all \
select n.nspname, t.typname, 't', '', null, obj_description(t.oid, 'pg_type'), 'extension ' || e.extname \
from pg_type t join pg_namespace n on n.oid = t.typnamespace \
join pg_depend d on d.classid = 'pg_type'::regclass and d.objid = t.oid and d.deptype = 'e' join pg_extension e on e.oid = d.refobjid \
where t.typtype in ('b', 'd', 'e', 'r') and t.typcategory <> 'A' and t.oid not in (select opckeytype from pg_opclass) \
order by 1, 2, 4";

/// Reads a part of it.
pub fn read(session: &mut PostgresSession, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError> {
    let database = session.location.database.clone();
    let mut ask = |select: &str| {
        let select = select
            .replace("{NEEDED}", NEEDED_BY_ROUTINE)
            .replace("{AGGREGATE}", AGGREGATE)
            .replace("{ACCESS}", ACCESS_OF_ROUTINE);
        session.ask(&select.replace("{OWN}", OWN))
    };
    match part {
        0 => {
            let path = ask("select unnest(array_remove(current_schemas(true), 'pg_catalog'))")?;
            catalog.database = database;
            catalog.path = path.iter().map(|row| text(row, 0)).collect();
            ask(RELATIONS)?.iter().for_each(|row| column(catalog, row));
        }
        1 => ask(CONSTRAINTS)?.iter().for_each(|row| constraint(catalog, row)),
        2 => {
            for row in ask(INDEXES)? {
                let Some(table) = catalog.relation_mut(&text(&row, 0), &text(&row, 1)) else { continue };
                let (unique, over) = (text(&row, 3) == "t", list(&row, 5));
                table.indexes.push(Index {
                    name: text(&row, 2),
                    over,
                    unique,
                    definition: text(&row, 4),
                    note: String::new(),
                });
            }
        }
        3 => {
            for row in ask(TRIGGERS)? {
                let Some(table) = catalog.relation_mut(&text(&row, 0), &text(&row, 1)) else { continue };
                table.triggers.push(Trigger {
                    name: text(&row, 2),
                    definition: text(&row, 3),
                    when: text(&row, 4),
                    ..Trigger::default()
                });
            }
            for row in ask(USES)? {
                let Some(view) = catalog.relation_mut(&text(&row, 0), &text(&row, 1)) else { continue };
                view.uses.push(Name { schema: text(&row, 2), name: text(&row, 3) });
            }
        }
        4 => {
            belongings::read(session, catalog)?;
            add_up_parts(catalog);
        }
        5 => {
            ask(ROUTINES)?.iter().for_each(|row| routine(catalog, row));
            ask(TYPES)?.iter().for_each(|row| named_type(catalog, row));
            catalog.brought = ask(BROUGHT)?.iter().map(brought).collect();
        }
        _ => {
            catalog.databases = session.databases()?;
            return Ok(false);
        }
    }
    Ok(true)
}

/// Gives partitioned tables the sizes of their parts, as far as the server does not say: they hold nothing themselves.
fn add_up_parts(catalog: &mut Catalog) {
    let partitions = catalog.objects().iter().filter(|object| object.is_partition());
    let parents: HashMap<Name, Name> =
        partitions.filter_map(|part| Some((part.to_name(), part.parents().next()?.clone()))).collect();
    let mut sums: HashMap<&Name, (Option<u64>, u64)> = HashMap::new();
    for object in catalog.objects().iter().filter(|object| object.bytes.is_some()) {
        let mut at = parents.get(&object.to_name());
        for _ in 0..DEEPEST {
            let Some(parent) = at else { break };
            let (rows, bytes) = sums.entry(parent).or_insert((Some(0), 0));
            *rows = rows.zip(object.rows).map(|(sum, rows)| sum.saturating_add(rows));
            *bytes = bytes.saturating_add(object.bytes.unwrap_or_default());
            at = parents.get(parent);
        }
    }
    for (name, (rows, bytes)) in sums {
        if let Some(table) = catalog.relation_mut(&name.schema, &name.name) {
            table.bytes = table.bytes.or(Some(bytes));
            table.rows = table.rows.or(rows);
        }
    }
}

/// Partitions of partitions are followed so far.
const DEEPEST: usize = 16;

pub(super) fn text(row: &SimpleQueryRow, at: usize) -> String {
    said(row, at).unwrap_or_default().to_owned()
}

/// A field that is a JSON list of texts.
fn list(row: &SimpleQueryRow, at: usize) -> Vec<String> {
    said(row, at).and_then(|json| serde_json::from_str(json).ok()).unwrap_or_default()
}

fn column(catalog: &mut Catalog, row: &SimpleQueryRow) {
    let kind = match said(row, 2) {
        Some("v") => ObjectKind::View,
        Some("m") => ObjectKind::MaterialisedView,
        Some("S") => ObjectKind::Sequence,
        Some("f") => ObjectKind::ForeignTable,
        _ => ObjectKind::Table,
    };
    let object = catalog.object(said(row, 0).unwrap_or_default(), said(row, 1).unwrap_or_default(), kind);
    let number = |at: usize| said(row, at).and_then(|number| number.parse().ok());
    if object.columns.is_empty() {
        (object.comment, object.rows, object.bytes) = (text(row, 3), number(4), number(5));
        if kind == ObjectKind::Sequence {
            object.rows = None;
        }
        (object.clauses, object.brought_by) = (text(row, 14), text(row, 16));
    }
    let Some(name) = said(row, 6) else { return };
    let expression = said(row, 10).map(str::to_owned);
    let identity = match said(row, 12) {
        Some("a") => Some("always as identity"),
        Some("d") => Some("by default as identity"),
        _ => None,
    };
    let computed = said(row, 11) == Some("s") || said(row, 11) == Some("v");
    object.columns.push(Column {
        name: name.to_owned(),
        db_type: text(row, 7),
        collation: text(row, 15),
        nullable: said(row, 8) != Some("t"),
        key: said(row, 9) == Some("t"),
        default: expression.clone().filter(|_| !computed),
        generated: identity.map(str::to_owned).or(expression.filter(|_| computed)),
        numbering: text(row, 17),
        comment: text(row, 13),
        ..Column::default()
    });
}

fn constraint(catalog: &mut Catalog, row: &SimpleQueryRow) {
    let rule = match said(row, 3) {
        Some("p") => Rule::Primary,
        Some("u") => Rule::Unique,
        Some("f") => {
            let mut actions = Vec::new();
            for (event, at) in [("delete", 8), ("update", 9)] {
                let action = match said(row, at) {
                    Some("r") => "restrict",
                    Some("c") => "cascade",
                    Some("n") => "set null",
                    Some("d") => "set default",
                    _ => continue,
                };
                actions.push(format!("on {event} {action}"));
            }
            let to = Name { schema: text(row, 5), name: text(row, 6) };
            Rule::Foreign { to, columns: list(row, 7), actions: actions.join(" ") }
        }
        Some("x") => Rule::Exclude(text(row, 11).trim_start_matches("EXCLUDE ").to_owned()),
        _ => Rule::Check(text(row, 10)),
    };
    let Some(table) = catalog.relation_mut(&text(row, 0), &text(row, 1)) else { return };
    let definition = text(row, 11);
    table.constraints.push(Constraint { definition, ..Constraint::new(text(row, 2), list(row, 4), rule) });
}

fn routine(catalog: &mut Catalog, row: &SimpleQueryRow) {
    let procedure = said(row, 2) == Some("p");
    catalog.push(Object {
        schema: text(row, 0),
        name: text(row, 1),
        kind: if procedure { ObjectKind::Procedure } else { ObjectKind::Function },
        signature: signature(&text(row, 3), said(row, 4).filter(|_| !procedure)),
        comment: text(row, 5),
        uses: names(row, 6),
        definition: text(row, 7),
        belongings: access(row, 8),
        ..Object::default()
    });
}

/// What the server or an extension brings.
fn brought(row: &SimpleQueryRow) -> Object {
    let kind = match said(row, 2) {
        Some("p") => ObjectKind::Procedure,
        Some("t") => ObjectKind::Type,
        _ => ObjectKind::Function,
    };
    let signature = match kind {
        ObjectKind::Type => text(row, 6),
        _ => signature(&text(row, 3), said(row, 4).filter(|_| kind == ObjectKind::Function)),
    };
    Object {
        schema: text(row, 0),
        name: text(row, 1),
        kind,
        signature,
        comment: text(row, 5),
        brought_by: text(row, 6),
        ..Object::default()
    }
}

/// What a routine takes and gives.
fn signature(takes: &str, gives: Option<&str>) -> String {
    format!("({takes}){}", gives.map(|gives| format!(" returns {gives}")).unwrap_or_default())
}

/// A field that is a JSON list of what belongs to a routine.
fn access(row: &SimpleQueryRow, at: usize) -> Vec<Belonging> {
    type Told = (BelongingKind, String, String, String);
    let told: Vec<Told> = said(row, at).and_then(|json| serde_json::from_str(json).ok()).unwrap_or_default();
    let belonging =
        |(kind, name, makes, unmakes)| Belonging { kind, name, of: String::new(), to: None, makes, unmakes };
    told.into_iter().map(belonging).collect()
}

/// A field that is a JSON list of names, each with its schema.
fn names(row: &SimpleQueryRow, at: usize) -> Vec<Name> {
    let names: Vec<(String, String)> =
        said(row, at).and_then(|json| serde_json::from_str(json).ok()).unwrap_or_default();
    names.into_iter().map(|(schema, name)| Name { schema, name }).collect()
}

fn named_type(catalog: &mut Catalog, row: &SimpleQueryRow) {
    type Field = (String, String, Option<String>, Option<String>);
    let fields: Vec<Field> = said(row, 6).and_then(|json| serde_json::from_str(json).ok()).unwrap_or_default();
    let field = |(name, db_type, collation, comment): Field| Column {
        name,
        db_type,
        nullable: true,
        collation: collation.unwrap_or_default(),
        comment: comment.unwrap_or_default(),
        ..Column::default()
    };
    let signature = match said(row, 2) {
        Some("e") => "enum".to_owned(),
        Some("d") => format!("{DOMAIN}{}", text(row, 5)),
        Some("r") => "range".to_owned(),
        _ => "composite".to_owned(),
    };
    catalog.push(Object {
        schema: text(row, 0),
        name: text(row, 1),
        kind: ObjectKind::Type,
        comment: text(row, 3),
        values: list(row, 4),
        columns: fields.into_iter().map(field).collect(),
        signature,
        definition: text(row, 7),
        uses: names(row, 8),
        ..Object::default()
    });
}

/// The statement that makes an object, where the server writes it.
pub fn definition(session: &mut PostgresSession, of: &Object) -> Result<Option<String>, EngineError> {
    let name = format!("{}.{}", quoted(&of.schema), quoted(&of.name));
    let literal = format!("'{}'", name.replace('\'', "''"));
    let (select, before) = match of.kind {
        ObjectKind::View => (
            format!("select pg_get_viewdef({literal}::regclass, true)"),
            format!("create or replace view {} as\n", shown(of)),
        ),
        ObjectKind::MaterialisedView => (
            format!("select pg_get_viewdef({literal}::regclass, true)"),
            format!("create materialized view {} as\n", shown(of)),
        ),
        ObjectKind::Function | ObjectKind::Procedure => {
            let (schema, name) = (of.schema.replace('\'', "''"), of.name.replace('\'', "''"));
            // Those of one name differ in what they take.
            let arguments = of.signature.trim_start_matches('(').rsplit_once(')').map_or("", |(inside, _)| inside);
            let select = format!(
                "select pg_get_functiondef(p.oid) from pg_proc p join pg_namespace n on n.oid = p.pronamespace \
                 where n.nspname = '{schema}' and p.proname = '{name}' and p.prokind <> 'a' \
                 order by position('{}' in pg_get_function_arguments(p.oid)) = 1 desc limit 1",
                arguments.replace('\'', "''")
            );
            (select, String::new())
        }
        ObjectKind::Sequence => (
            format!(
                "select format(' as %s increment by %s minvalue %s maxvalue %s start with %s cache %s', s.data_type, \
                 s.increment_by, s.min_value, s.max_value, s.start_value, s.cache_size) || case when s.cycle then ' cycle' else '' end \
                 from pg_sequences s where format('%I.%I', s.schemaname, s.sequencename)::regclass = {literal}::regclass"
            ),
            format!("create sequence {}", shown(of)),
        ),
        _ => return Ok(None),
    };
    let rows = session.ask_within(&select)?;
    let text = rows.first().and_then(|row| said(row, 0)).map(|text| format!("{before}{}", text.trim_end()));
    Ok(text)
}

fn shown(of: &Object) -> String {
    let name = |name: &str| jaunty_language::dialect::POSTGRES.name_as_written(name);
    format!("{}.{}", name(&of.schema), name(&of.name))
}
