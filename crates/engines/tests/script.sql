-- Statements whose ends are easy to get wrong, each of them valid.
create table t (a integer, b text); create table "odd;name" (x);

create table [brackets;too] (`tick;s` text, "say ""hi"";" text)
;
create table log (what text, at text default current_timestamp);
-- a trigger holds semicolons
create trigger g after update of a on t
begin
    insert into log(what) values ('a;b');

    -- END; is only a comment here
    update t set b = case when a > 1 then 'x' else 'end;' end where a = new.a;
end;
create temporary trigger h before delete on t when old.a is not null begin select raise(ignore); end;
explain query plan
select 1;
begin;
insert into t (a)

-- the rows

values (1), (2)
;
insert into t
select 3, ';' /* ; */ -- ;
union all

-- more
select 4, "not;a;name";
savepoint s;
release
savepoint s;
end;
with x as (
    select 1 as n
), y (m) as (values (2))

-- main
insert into t
select n, m from x, y;
with x as (select 1 as n)
update t set b = 'u' where a in (select n from x);
select x'3b', ';', [;] from (select 1 as [;]);
select a begin from t;
select case when a then b

-- whichever
end from t;
create view v as

-- what it shows
with x as (select a from t)
select * from x;
alter table t add column c integer

-- with a check
check (c > 0);
alter table t
drop column c;
insert or
replace into t values (9, null);
delete from t where a = 9 returning
a;
pragma user_version = 3;
pragma
user_version;
analyze;
vacuum;
select 1 -- no line end inside the last comment; really
;
