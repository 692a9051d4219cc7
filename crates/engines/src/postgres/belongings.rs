//! What belongs to tables, views and sequences and is made by statements of its own: settings, parts, policies, rules and
//! more of the system catalogs, <https://www.postgresql.org/docs/current/catalogs.html>. Each query gives the schema, the
//! object, the name, the part of the object that it hangs on, the statement that makes it and the one that takes it away,
//! and the object that it ties to.

use jaunty_seam::catalog::{Belonging, BelongingKind, Catalog, Name};
use jaunty_seam::error::{EngineError, ErrorKind};

use super::catalog::{OWN, text};
use super::session::PostgresSession;

/// The beginning of a statement that changes the object `c` of the schema `n`.
const ALTER: &str = "format('alter %s %I.%I', case c.relkind when 'v' then 'view' when 'm' then 'materialized view' \
when 'f' then 'foreign table' when 'S' then 'sequence' else 'table' end, n.nspname, c.relname)";

const OF: &str = "from pg_class c join pg_namespace n on n.oid = c.relnamespace";

/// What is no setting but by default is not named.
const SETTINGS: &str = "\
select n.nspname, c.relname, 'unlogged', '', {ALTER} || ' set unlogged', {ALTER} || ' set logged', null, null \
{OF} where c.relkind in ('r', 'S') and c.relpersistence = 'u' and {OWN} \
union all select n.nspname, c.relname, o.name, '', {ALTER} || format(' set (%s = %L)', o.name, o.value), {ALTER} || format(' reset (%s)', o.name), null, null \
{OF} left join pg_class t on t.oid = c.reltoastrelid, \
lateral (select split_part(u, '=', 1), substr(u, strpos(u, '=') + 1) from unnest(c.reloptions) u \
union all select 'toast.' || split_part(u, '=', 1), substr(u, strpos(u, '=') + 1) from unnest(t.reloptions) u) o(name, value) \
where c.relkind in ('r', 'p', 'v', 'm') and {OWN} \
union all select n.nspname, c.relname, format('%s of %s', s.what, a.attname), 'column ' || a.attname, \
{ALTER} || format(' alter column %I %s', a.attname, s.makes), {ALTER} || format(' alter column %I %s', a.attname, s.unmakes), null, null \
{OF} join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped join pg_type y on y.oid = a.atttypid \
and (a.attstorage <> y.typstorage or {COMPRESSED} <> '' or a.attstattarget >= 0 or coalesce(a.attoptions, a.attfdwoptions) is not null or c.relkind = 'v' and a.atthasdef), \
lateral (select 'storage', 'set storage ' || w.word, 'set storage ' || u.word \
from (values ('p', 'plain'), ('e', 'external'), ('m', 'main'), ('x', 'extended')) w(sign, word), \
(values ('p', 'plain'), ('e', 'external'), ('m', 'main'), ('x', 'extended')) u(sign, word) \
where a.attstorage <> y.typstorage and w.sign = a.attstorage::text and u.sign = y.typstorage::text and c.relkind <> 'v' \
union all select 'compression', 'set compression ' || case {COMPRESSED} when 'l' then 'lz4' else 'pglz' end, 'set compression default' \
where {COMPRESSED} in ('p', 'l') \
union all select 'statistics', 'set statistics ' || a.attstattarget, 'set statistics -1' where a.attstattarget >= 0 \
union all select split_part(o, '=', 1), format('set (%s = %s)', split_part(o, '=', 1), substr(o, strpos(o, '=') + 1)), format('reset (%s)', split_part(o, '=', 1)) \
from unnest(a.attoptions) o \
union all select split_part(o, '=', 1), format('options (add %I %L)', split_part(o, '=', 1), substr(o, strpos(o, '=') + 1)), \
format('options (drop %I)', split_part(o, '=', 1)) from unnest(a.attfdwoptions) o \
union all select 'default', 'set default ' || pg_get_expr(d.adbin, d.adrelid), 'drop default' from pg_attrdef d \
where d.adrelid = c.oid and d.adnum = a.attnum and c.relkind = 'v') s(what, makes, unmakes) \
where c.relkind in ('r', 'p', 'v', 'm', 'f') and {OWN} order by 1, 2, 4, 3";

/// Parts of tables, tables that take their columns from others, and sequences that go with a column.
const PARENTS: &str = "\
select n.nspname, c.relname, p.relname, '', \
case when c.relispartition then format('alter table %I.%I attach partition %I.%I %s', pn.nspname, p.relname, n.nspname, c.relname, pg_get_expr(c.relpartbound, c.oid)) \
else {ALTER} || format(' inherit %I.%I', pn.nspname, p.relname) end, \
case when c.relispartition then format('alter table %I.%I detach partition %I.%I', pn.nspname, p.relname, n.nspname, c.relname) \
else {ALTER} || format(' no inherit %I.%I', pn.nspname, p.relname) end, pn.nspname, p.relname \
{OF} join pg_inherits i on i.inhrelid = c.oid join pg_class p on p.oid = i.inhparent join pg_namespace pn on pn.oid = p.relnamespace \
where c.relkind in ('r', 'p', 'f') and {OWN} \
union all select n.nspname, c.relname, format('%s.%s', p.relname, a.attname), '', {ALTER} || format(' owned by %I.%I.%I', pn.nspname, p.relname, a.attname), \
{ALTER} || ' owned by none', pn.nspname, p.relname \
{OF} join pg_depend d on d.classid = 'pg_class'::regclass and d.objid = c.oid and d.refclassid = 'pg_class'::regclass and d.deptype = 'a' \
join pg_class p on p.oid = d.refobjid join pg_namespace pn on pn.oid = p.relnamespace join pg_attribute a on a.attrelid = p.oid and a.attnum = d.refobjsubid \
where c.relkind = 'S' and {OWN} order by 1, 2, 3";

/// Which index is a part of which, orders the rows, tells them apart for subscribers.
const MARKS: &str = "\
select n.nspname, c.relname, m.name, m.of, m.makes, m.unmakes, null, null {OF}, \
lateral (select 'identity of rows', '', {ALTER} || ' replica identity ' || case c.relreplident when 'f' then 'full' else 'nothing' end, \
{ALTER} || ' replica identity default' where c.relreplident in ('f', 'n') \
union all select 'identity of rows', 'index ' || i.relname, {ALTER} || format(' replica identity using index %I', i.relname), {ALTER} || ' replica identity default' \
from pg_index x join pg_class i on i.oid = x.indexrelid where x.indrelid = c.oid and x.indisreplident and c.relreplident = 'i' \
union all select 'order of rows', 'index ' || i.relname, {ALTER} || format(' cluster on %I', i.relname), {ALTER} || ' set without cluster' \
from pg_index x join pg_class i on i.oid = x.indexrelid where x.indrelid = c.oid and x.indisclustered \
union all select 'whole of ' || i.relname, 'index ' || i.relname, \
format('alter index %I.%I attach partition %I.%I', pn.nspname, p.relname, n.nspname, i.relname), '' \
from pg_index x join pg_class i on i.oid = x.indexrelid join pg_inherits h on h.inhrelid = i.oid join pg_class p on p.oid = h.inhparent \
join pg_namespace pn on pn.oid = p.relnamespace where x.indrelid = c.oid \
and not exists (select from pg_constraint k where k.conindid = p.oid and k.contype in ('p', 'u', 'x'))) m(name, of, makes, unmakes) \
where c.relkind in ('r', 'p', 'm') and {OWN} order by 1, 2, 3";

const STATISTICS: &str = "\
select n.nspname, c.relname, s.stxname, '', pg_get_statisticsobjdef(s.oid), format('drop statistics %I.%I', sn.nspname, s.stxname), null, null \
{OF} join pg_statistic_ext s on s.stxrelid = c.oid join pg_namespace sn on sn.oid = s.stxnamespace where {OWN} order by 1, 2, 3";

/// Comments on parts of tables and views; those on the objects and their columns are read with these.
const COMMENTS: &str = "\
select n.nspname, c.relname, f.part, f.part, format('comment on %s is %L', f.called, t.description), format('comment on %s is null', f.called), null, null \
{OF}, lateral (\
select 'pg_constraint'::regclass, k.oid, 'constraint ' || k.conname, format('constraint %I on %I.%I', k.conname, n.nspname, c.relname) from pg_constraint k where k.conrelid = c.oid \
union all select 'pg_class'::regclass, i.oid, 'index ' || i.relname, format('index %I.%I', n.nspname, i.relname) from pg_index x join pg_class i on i.oid = x.indexrelid where x.indrelid = c.oid \
union all select 'pg_trigger'::regclass, g.oid, 'trigger ' || g.tgname, format('trigger %I on %I.%I', g.tgname, n.nspname, c.relname) from pg_trigger g where g.tgrelid = c.oid \
union all select 'pg_policy'::regclass, p.oid, 'policy ' || p.polname, format('policy %I on %I.%I', p.polname, n.nspname, c.relname) from pg_policy p where p.polrelid = c.oid \
union all select 'pg_rewrite'::regclass, r.oid, 'rule ' || r.rulename, format('rule %I on %I.%I', r.rulename, n.nspname, c.relname) from pg_rewrite r where r.ev_class = c.oid \
union all select 'pg_statistic_ext'::regclass, s.oid, 'statistics ' || s.stxname, format('statistics %I.%I', sn.nspname, s.stxname) \
from pg_statistic_ext s join pg_namespace sn on sn.oid = s.stxnamespace where s.stxrelid = c.oid) f(class, oid, part, called) \
join pg_description t on t.classoid = f.class and t.objoid = f.oid and t.objsubid = 0 where {OWN} order by 1, 2, 3";

const SECURITY: &str = "\
select n.nspname, c.relname, s.name, '', {ALTER} || s.makes, {ALTER} || s.unmakes, null, null \
{OF}, (values ('on', ' enable row level security', ' disable row level security'), \
('for the owner', ' force row level security', ' no force row level security')) s(name, makes, unmakes) \
where case s.name when 'on' then c.relrowsecurity else c.relforcerowsecurity end and {OWN} order by 1, 2, 3 desc";

const POLICIES: &str = "\
select n.nspname, c.relname, p.polname, '', format('create policy %I on %I.%I%s for %s to %s', p.polname, n.nspname, c.relname, \
case when p.polpermissive then '' else ' as restrictive' end, \
case p.polcmd when 'r' then 'select' when 'a' then 'insert' when 'w' then 'update' when 'd' then 'delete' else 'all' end, \
case when 0 = any(p.polroles) then 'public' else (select string_agg(quote_ident(r.rolname), ', ' order by r.rolname) from pg_roles r where r.oid = any(p.polroles)) end) \
|| coalesce(' using (' || pg_get_expr(p.polqual, p.polrelid) || ')', '') || coalesce(' with check (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')', ''), \
format('drop policy %I on %I.%I', p.polname, n.nspname, c.relname), null, null \
{OF} join pg_policy p on p.polrelid = c.oid where {OWN} order by 1, 2, 3";

const RULES: &str = "\
select n.nspname, c.relname, r.rulename, '', rtrim(pg_get_ruledef(r.oid), ';'), format('drop rule %I on %I.%I', r.rulename, n.nspname, c.relname), null, null \
{OF} join pg_rewrite r on r.ev_class = c.oid where r.rulename <> '_RETURN' and {OWN} order by 1, 2, 3";

const STATES: &str = "\
select n.nspname, c.relname, s.part, s.part, format('alter table %I.%I %s %s %I', n.nspname, c.relname, w.word, s.kind, s.name), \
format('alter table %I.%I enable %s %I', n.nspname, c.relname, s.kind, s.name), null, null \
{OF}, lateral (select 'trigger', t.tgname, 'trigger ' || t.tgname, t.tgenabled from pg_trigger t where t.tgrelid = c.oid and not t.tgisinternal \
union all select 'rule', r.rulename, 'rule ' || r.rulename, r.ev_enabled from pg_rewrite r where r.ev_class = c.oid) s(kind, name, part, sign) \
join (values ('D', 'disable'), ('R', 'enable replica'), ('A', 'enable always')) w(sign, word) on w.sign = s.sign::text \
where {OWN} order by 1, 2, 3";

/// A sequence that goes with a column is whose the table is.
const OWNERS: &str = "\
select n.nspname, c.relname, '', '', {ALTER} || ' owner to ' || quote_ident(pg_get_userbyid(c.relowner)), '', null, null \
{OF} where c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and {OWN} and not (c.relkind = 'S' and exists (\
select from pg_depend d where d.classid = 'pg_class'::regclass and d.objid = c.oid and d.deptype in ('a', 'i'))) order by 1, 2";

/// What others than the owner may do, with the object or with a column of it:
/// <https://www.postgresql.org/docs/current/ddl-priv.html>.
const GRANTS: &str = "\
select schema, name, who || case when of_column <> '' then ' of ' || of_column else '' end || case when may_grant then ' (may grant it)' else '' end, '', \
format('grant %s on %s %I.%I to %s', what, word, schema, name, who) || case when may_grant then ' with grant option' else '' end, \
format('revoke %s on %s %I.%I from %s', what, word, schema, name, who), null, null from (\
select n.nspname, c.relname, case c.relkind when 'S' then 'sequence' else 'table' end, x.grantee, '', x.is_grantable, \
string_agg(lower(x.privilege_type), ', ' order by x.privilege_type) {OF}, aclexplode(c.relacl) x \
where c.relacl is not null and x.grantee <> c.relowner and c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and {OWN} group by 1, 2, 3, 4, 6 \
union all select n.nspname, c.relname, 'table', x.grantee, a.attname, x.is_grantable, \
string_agg(format('%s (%I)', lower(x.privilege_type), a.attname), ', ' order by x.privilege_type) \
{OF} join pg_attribute a on a.attrelid = c.oid and a.attacl is not null and not a.attisdropped, aclexplode(a.attacl) x \
where x.grantee <> c.relowner and {OWN} group by 1, 2, 4, 5, 6) g(schema, name, word, grantee, of_column, may_grant, what), \
lateral (select case when grantee = 0 then 'public' else quote_ident(pg_get_userbyid(grantee)) end) w(who) order by 1, 2, 3";

/// Reads all of them.
pub(super) fn read(session: &mut PostgresSession, catalog: &mut Catalog) -> Result<(), EngineError> {
    let kinds = [
        (BelongingKind::Setting, SETTINGS),
        (BelongingKind::Parent, PARENTS),
        (BelongingKind::Mark, MARKS),
        (BelongingKind::Statistics, STATISTICS),
        (BelongingKind::Comment, COMMENTS),
        (BelongingKind::Security, SECURITY),
        (BelongingKind::Policy, POLICIES),
        (BelongingKind::Rule, RULES),
        (BelongingKind::State, STATES),
        (BelongingKind::Owner, OWNERS),
        (BelongingKind::Grant, GRANTS),
    ];
    for (kind, select) in kinds {
        let select = select.replace("{ALTER}", ALTER).replace("{OF}", OF).replace("{OWN}", OWN);
        // The column is there from version 14 on.
        let compressed = |by: &str| select.replace("{COMPRESSED}", by);
        let mut answer = session.ask_within(&compressed("a.attcompression"));
        if select.contains("{COMPRESSED}") && matches!(&answer, Err(error) if error.kind == ErrorKind::Refused) {
            answer = session.ask_within(&compressed("''"));
        }
        let rows = match answer {
            // A server that only speaks the protocol may not have these catalogs, nor anything that they would list.
            Err(error) if error.kind == ErrorKind::Refused => {
                tracing::debug!(%error, "{} are not read", kind.word());
                continue;
            }
            rows => rows?,
        };
        for row in rows {
            let Some(object) = catalog.holder_mut(&text(&row, 0), &text(&row, 1)) else { continue };
            let [name, of, makes, unmakes, schema, to] = [2, 3, 4, 5, 6, 7].map(|at| text(&row, at));
            let to = (!to.is_empty()).then_some(Name { schema, name: to });
            object.belongings.push(Belonging { kind, name, of, to, makes, unmakes });
        }
    }
    Ok(())
}
