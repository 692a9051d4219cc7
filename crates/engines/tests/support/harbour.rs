//! A schema of PostgreSQL with everything that one can hold, and what the server says of it.

/// What the server itself says of everything that was made, by its own functions and views.
pub const OF_POSTGRES: &[&str] = &[
    "select conrelid::regclass::text, conname, contype::text, convalidated, pg_get_constraintdef(oid) from pg_constraint where conrelid >= 16384 or contypid >= 16384 order by 1, 2",
    "select schemaname, tablename, indexname, indexdef from pg_indexes where schemaname !~ '^(pg_|information)' order by 1, 2, 3",
    "select schemaname, tablename, policyname, permissive, roles::text, cmd, qual, with_check from pg_policies order by 1, 2, 3",
    "select schemaname, tablename, rulename, definition from pg_rules where schemaname !~ '^(pg_|information)' order by 1, 2, 3",
    "select c.oid::regclass::text, c.relkind::text, c.relpersistence::text, c.relrowsecurity, c.relforcerowsecurity, c.relreplident::text, c.relispartition, \
     (select array_agg(o order by o) from unnest(c.reloptions) o)::text, t.reloptions::text, pg_get_expr(c.relpartbound, c.oid), pg_get_partkeydef(c.oid) \
     from pg_class c left join pg_class t on t.oid = c.reltoastrelid where c.oid >= 16384 and c.relkind not in ('t', 'I') and c.relname !~ '^pg_' order by 1",
    "select a.attrelid::regclass::text, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attstorage::text, a.attcompression::text, a.attstattarget, \
     a.attidentity::text, a.attgenerated::text, a.attoptions::text, a.attfdwoptions::text, a.attcollation::regcollation::text, pg_get_expr(d.adbin, d.adrelid), col_description(a.attrelid, a.attnum) \
     from pg_attribute a join pg_class c on c.oid = a.attrelid and c.relkind in ('r', 'p', 'v', 'm', 'f', 'c') left join pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum \
     where a.attrelid >= 16384 and a.attnum > 0 and not a.attisdropped and c.relname !~ '^pg_' order by 1, 2",
    "select tgrelid::regclass::text, tgname, tgenabled::text, pg_get_triggerdef(oid) from pg_trigger where not tgisinternal order by 1, 2",
    "select ev_class::regclass::text, rulename, ev_enabled::text, pg_get_ruledef(oid) from pg_rewrite where oid >= 16384 order by 1, 2",
    "select i.inhrelid::regclass::text, i.inhparent::regclass::text from pg_inherits i order by 1, 2",
    "select x.indexrelid::regclass::text, x.indisclustered, x.indisreplident, x.indisvalid from pg_index x where x.indexrelid >= 16384 and x.indexrelid::regclass::text !~ '^pg_' order by 1",
    "select sequencename, data_type::text, start_value, min_value, max_value, increment_by, cycle, cache_size, last_value from pg_sequences order by 1",
    "select d.objid::regclass::text, d.refobjid::regclass::text, d.refobjsubid, d.deptype::text from pg_depend d join pg_class s on s.oid = d.objid and s.relkind = 'S' where d.deptype in ('a', 'i') order by 1",
    "select p.oid::regprocedure::text, p.prokind::text, case when p.prokind <> 'a' then pg_get_functiondef(p.oid) end from pg_proc p join pg_namespace n on n.oid = p.pronamespace \
     where p.oid >= 16384 and not exists (select from pg_depend d where d.objid = p.oid and d.deptype = 'e') order by 1",
    "select aggfnoid::regprocedure::text, aggkind::text, aggtransfn::text, aggfinalfn::text, aggcombinefn::text, aggtranstype::regtype::text, agginitval, aggfinalmodify::text from pg_aggregate where aggfnoid >= 16384 order by 1",
    "select t.oid::regtype::text, t.typtype::text, format_type(t.typbasetype, t.typtypmod), t.typnotnull, t.typdefault, t.typcollation::regcollation::text, r.rngsubtype::regtype::text, r.rngsubdiff::text, r.rngmultitypid::regtype::text \
     from pg_type t left join pg_range r on r.rngtypid = t.oid where t.oid >= 16384 and t.typtype in ('d', 'e', 'c', 'r') and t.typname !~ '^pg_' \
     and not exists (select from pg_depend d where d.objid = t.oid and d.deptype = 'e') order by 1",
    "select pg_get_statisticsobjdef(oid) from pg_statistic_ext order by 1",
    "select i.type, i.identity, d.objsubid, d.description from pg_description d, lateral pg_identify_object(d.classoid, d.objoid, d.objsubid) i where d.objoid >= 16384 order by 1, 2, 3",
    "select extname, extversion, extnamespace::regnamespace::text from pg_extension order by 1",
];

/// Everything that a schema can hold, in ways that a definition from a list of columns and keys would lose.
pub const HARBOUR: &str = "create extension btree_gist; create schema tools; create extension hstore schema tools; create schema ops;
 create type level as enum ('low', 'high'); create type aa_outer as (inner_one level, note text collate \"C\"); create type zz_inner as (a int);
 create type ab_outer as (z zz_inner[], b int); comment on type zz_inner is 'in another'; comment on column zz_inner.a is 'a number';
 create domain code as text collate \"C\" not null default 'none' constraint short check (length(value) < 20) constraint plain check (value !~ ' ');
 comment on domain code is 'of a port; it''s short';
 create function span_apart(a date, b date) returns float8 language sql immutable as 'select (a - b)::float8';
 create type season as range (subtype = date, subtype_diff = span_apart, multirange_type_name = seasons);
 create sequence tickets as int increment by -3 maxvalue 100 minvalue -1000 start with 90 cache 5 cycle; comment on sequence tickets is 'down';
 create table ports(id int generated by default as identity (start with 100 increment by 10 maxvalue 5000 cache 2), name text collate \"C\" not null, code code, level level default 'low',
   tags tools.hstore, at tstzrange, berths int, constraint ports_key primary key (id) include (name), constraint ports_name unique (name) deferrable initially deferred,
   constraint apart exclude using gist (berths with =, at with &&) where (berths > 0) deferrable, constraint some_berths check (berths > -5) no inherit);
 create unique index ports_once on ports(code) nulls not distinct with (fillfactor = 80); create index ports_tags on ports using gist (tags tools.gist_hstore_ops(siglen=32));
 comment on constraint apart on ports is 'one at a time'; comment on index ports_once is 'found by code'; cluster ports using ports_key; create unique index ports_ident on ports(id, name); alter table ports replica identity using index ports_ident;
 alter table ports set (fillfactor = 70, autovacuum_enabled = false, toast.autovacuum_enabled = false);
 alter table ports alter name set storage external, alter name set statistics 500, alter id set (n_distinct = -0.5), alter name set compression pglz;
 create table aliases(code code references ports(code));
 create statistics ports_both (dependencies, mcv) on name, berths from ports; comment on statistics ports_both is 'they go together';
 create unlogged table scratch(a serial, b int references ports deferrable initially deferred, c int, d int, constraint both_of foreign key (c) references ports match full on delete set null (c));
 alter table scratch replica identity full; comment on constraint both_of on scratch is 'in full';
 create table boats(id bigserial primary key, name text, check (id > 0)); create table ferries(decks int default 2) inherits (boats); create table tugs(pull numeric, name text default 'tug') inherits (boats);
 create table log(at date not null, port int references ports, what text default 'calm', primary key (at, port)) partition by range (at);
 create table log_31(what text default 'of its own', port int not null, at date not null check (at > '2000-01-01')) partition by list (port); alter table log attach partition log_31 for values from ('2031-01-01') to ('2032-01-01');
 create table ops.log_31_a partition of log_31 for values in (100, 110); create table log_31_rest partition of log_31 default; create table log_rest partition of log default;
 create index log_what on log(what) include (port); create index odd_one on ops.log_31_a(port);
 create table duty(id int primary key, who name default current_user, port int); alter table duty enable row level security; alter table duty force row level security;
 create policy own on duty for select to clerk, pg_monitor using (who = current_user); create policy never on duty as restrictive for delete using (false); create policy keeps on duty for insert with check (port is not null);
 comment on policy own on duty is 'only one''s own';
 create table trail(id int, at timestamptz); create rule noted as on insert to ports where new.berths > 10 do also (insert into trail values (new.id, now()); insert into trail values (-new.id, null));
 create rule kept as on delete to trail do instead nothing; alter table trail disable rule kept; comment on rule kept on trail is 'never';
 create function note() returns trigger language plpgsql as $$ begin return new; end; $$;
 create trigger a_note before update of name on ports for each row when (old.name is distinct from new.name) execute function note();
 create constraint trigger late after insert on ports deferrable initially deferred for each row execute function note(); create trigger of_log after insert on log for each row execute function note();
 create trigger with_tables after insert on boats referencing new table as fresh for each statement execute function note();
 alter table ports disable trigger a_note; alter table ports enable always trigger late; comment on trigger late on ports is 'at the end';
 create view named as select id, name, level from ports where level = 'low' with local check option; alter view named set (security_barrier = true); alter view named alter column level set default 'low';
 comment on view named is 'by name'; comment on column named.id is 'of the port';
 create view through with (security_invoker = true) as select * from named; create rule through_rule as on update to named do instead update ports set name = new.name where id = old.id;
 create function whole(p ports) returns text language sql stable as 'select p.name'; create function many() returns setof ports language sql as 'select * from ports';
 create function body(n int) returns int language sql begin atomic select id + n from ports order by id limit 1; end; create view of_body as select body(1) as one, whole(p) from ports p;
 create function add_up(a int, b int default 1, variadic c int[] default '{}') returns int language sql immutable as 'select coalesce(a, 0) + coalesce(b, 0)'; create function add_up(a text) returns text language sql as 'select a';
 create function final(a int) returns text language sql immutable as 'select a::text'; comment on function add_up(text) is 'of a text';
 create function add_two(a int, b int) returns int language sql immutable as 'select coalesce(a, 0) + coalesce(b, 0)';
 create aggregate a_total(int) (sfunc = add_two, stype = int, initcond = '0', finalfunc = final, finalfunc_modify = shareable, combinefunc = add_two, parallel = safe); comment on aggregate a_total(int) is 'all of it';
 create procedure sweep(inout n int, in t text default 'x, y = z') language sql as 'select n'; comment on procedure sweep(int, text) is 'clean';
 create materialized view totals with (fillfactor = 60) as select a_total(berths) as berths, count(*) from ports; create unique index totals_once on totals(berths); comment on materialized view totals is 'now and then';
 insert into ports(id, name, code) values (999, 'Rest', 'RST'); insert into ports(name, code, tags, berths, at) values ('Saltmarsh', 'SMQ', 'a=>1', 3, '[2031-01-01,2031-02-01)'), ('old', 'OLD', null, null, null);
 insert into boats(name) values ('Heron'); insert into ferries(name, decks) values ('Tern', 3); insert into tugs(pull) values (12.5); insert into log values ('2031-05-05', 100, 'rough'), ('2031-05-06', 999, 'x'), ('2033-01-01', 110, 'y');
 insert into duty(id, port) values (1, 100), (2, null); insert into scratch(b, c) values (100, 110); refresh materialized view totals";
