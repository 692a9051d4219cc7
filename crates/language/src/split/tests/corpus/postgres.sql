-- One statement a line, each of PostgreSQL's grammar. The test puts each to a server first.
with t as ( insert into y select * from x returning * ) select * from t
with t as ( insert into y values ( 1 ) returning a ) delete from u where a in ( select a from t )
merge into t using s on t.a = s.a when matched then update set b = 1 when not matched then insert ( a ) values ( 1 )
declare c cursor for select * from t
declare c scroll cursor with hold for with a as ( select 1 ) select * from a
create rule r as on insert to t do instead ( insert into u values ( 1 ) ; delete from v where a = 1 )
create rule r as on select to t do instead select * from u
create rule r as on update to t do also insert into log select new.*
create rule r as on delete to t do also notify gone
create function f() returns void language sql begin atomic end
create function f() returns int begin atomic select 1 ; select case when true then 2 end ; end
prepare p as insert into t values ( $1 )
prepare p ( int ) as update t set a = $1
prepare p as with a as ( select 1 ) select * from a
copy ( select * from t ) to stdout with csv
copy t to stdout with delimiter as ';' null as ''
create policy p on t for select using ( true )
create policy p on t as restrictive for insert to clerk with check ( a > 0 )
create policy p on t for update using ( true ) with check ( true )
create schema s create table t ( a int ) create view v as select a from t grant select on t to clerk
grant select , insert on t to clerk with grant option
grant create , usage on schema s to clerk
revoke select on t from clerk
revoke grant option for select on t from clerk
create table p1 partition of p for values from ( 1 ) to ( 2 )
create table p2 partition of p for values in ( 'a' )
create table p3 partition of p for values with ( modulus 2 , remainder 0 )
alter table p attach partition p1 for values from ( 1 ) to ( 2 )
vacuum analyze t
vacuum full verbose analyze t
alter function f() reset all
alter function f() set search_path to s
alter role clerk reset search_path
alter default privileges in schema s grant select on tables to clerk
alter default privileges for role clerk revoke insert on tables from public
select timestamp with time zone '2026-01-01 00:00:00+00'
select cast ( a as time with time zone ) from t
create role x with login password 'x' in role clerk
create user x with password 'x'
create view v as select * from t with local check option
create view v as select * from t with check option
create materialized view m as select 1 as a with no data
create table t as select 1 as a with data
select * from f() with ordinality as t ( a , n )
select * from t order by a fetch first 3 rows with ties
explain ( analyze , verbose , format json ) select 1
explain analyze verbose delete from t
explain ( costs off ) declare c cursor for select 1
lock table t in share update exclusive mode
lock table t in share row exclusive mode nowait
insert into t default values returning a
insert into t ( a ) overriding user value select 1
insert into t values ( 1 ) on conflict ( a ) do update set b = excluded.b where t.b > 1
insert into t with s as ( select 1 ) select * from s
create trigger g before insert or update of a or delete on t for each row execute function f()
create constraint trigger g after update on t deferrable initially deferred for each row when ( true ) execute function f()
create database d with owner clerk template template0
create cast ( a as b ) with function f(a) as implicit
create sequence s start with 5 increment by 2
create table t ( a int generated always as identity ( start with 3 ) , b int references u on delete set null on update cascade )
create publication p for table t with ( publish = 'insert, update' )
select * from t for update of t nowait
select * from t for no key update skip locked
comment on table t is 'x'
begin isolation level read committed read write
values ( 1 ) union all select 2 except values ( 3 )
select a from t union all select b from u intersect select c from v
alter table t alter column a set default 1 , drop column b , add column c int
create index concurrently i on t using btree ( a ) include ( b ) with ( fillfactor = 70 ) where a > 1
alter table only t alter column a type timestamp with time zone
call p( 1 , ( select 2 ) )
do language plpgsql $$begin null; end$$
set session characteristics as transaction read only
create foreign table t ( a int ) server s options ( x 'y' )
create user mapping for clerk server s options ( user 'x' )
import foreign schema s limit to ( t ) from server s into public
security label on table t is 'x'
create aggregate a ( int ) ( sfunc = f , stype = int )
create operator class c for type int using btree as operator 1 < , function 1 f( int , int )
select rank() over ( partition by a order by b rows between unbounded preceding and current row ) from t
select * from json_to_recordset ( '[]' ) as x ( a int , b text )
select grouping ( a ) from t group by grouping sets ( ( a ) , rollup ( b ) , cube ( c ) )
