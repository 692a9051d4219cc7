-- One statement a line, each of SQLite's grammar. The test puts each to SQLite first.
select a , b from t where b in ( select d from u ) order by a limit 3 offset 1
select * from ( with a as ( select 1 ) select * from a )
select case when a then b else c end as begin from t
select a as replace , b as release from t
select count(*) filter ( where a > 1 ) over ( partition by b order by c rows between unbounded preceding and current row ) from t
select * from t natural left outer join u cross join v
select * from t indexed by i where a glob 'x*' or b match 'y' and c regexp 'z'
select ( select a from t union all select b from u ) in ( values ( 1 ) , ( 2 ) )
select a from t union select b from u except select c from v intersect values ( 1 )
select raise ( ignore )
values ( 1 , 2 ) , ( 3 , 4 ) union all select 5 , 6
with recursive c ( n ) as ( values ( 1 ) union all select n + 1 from c where n < 5 ) select n from c
with a as materialized ( select 1 ) , b as not materialized ( select 2 ) insert into t select * from a
with x as ( select 1 as n ) update t set b = ( select n from x ) where a = 1 returning *
with x as ( select 1 ) delete from t where a in x
with x as ( select 1 ) replace into t select * from x
insert into t default values
insert or replace into t ( a , b ) values ( 1 , 2 ) on conflict ( a ) where b > 1 do update set b = excluded.b where a > 2 returning a
insert or rollback into t select * from u where true on conflict do nothing
insert into t with s as ( select 1 ) select * from s
replace into t values ( 1 , x'3b' )
update or ignore t set ( a , b ) = ( select 1 , 2 ) from u where t.a = u.d
update t set a = replace ( b , ';' , '' ) where a is not distinct from 2
delete from t where a between 1 and 2
create table c ( a integer primary key autoincrement , b text collate nocase default 'x' references t ( a ) on delete set null on update cascade deferrable initially deferred , check ( a > 0 ) ) strict , without rowid
create table d ( a int generated always as ( b + 1 ) stored , b int , primary key ( b desc ) on conflict replace , unique ( a ) on conflict rollback )
create temp table if not exists e as select * from t
create unique index if not exists i on t ( a collate nocase desc ) where b is not null
create view v ( x , y ) as with a as ( select 1 , 2 ) select * from a
create trigger g after update of b on t for each row when new.a > 1 begin insert into u values ( 1 ) ; update u set d = 2 ; delete from u ; select case when 1 then raise ( abort , 'no' ) end ; end
create temp trigger if not exists h instead of insert on v begin select 1 ; end
create virtual table f using fts5 ( a , select , create b )
alter table t add column c text not null default ''
alter table t drop column b
alter table t rename column a to z
alter table t rename to s
drop table if exists nothing_there
drop view if exists v
drop index if exists main.i
drop trigger if exists g
explain query plan select 1
explain with x as ( select 1 ) select * from x
begin immediate transaction
commit transaction
end transaction
rollback transaction to savepoint s
savepoint s
release savepoint s
pragma main.foreign_keys = on
pragma table_info ( t )
attach database ':memory:' as other
detach database other
vacuum main into 'x.db'
analyze main.t
reindex main.t
