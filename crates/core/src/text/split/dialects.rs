//! Examples of each dialect. `¦` marks where a new statement must begin.

use super::*;
use crate::text::dialect::{MYSQL, POSTGRES, REDIS, SQLITE};
use crate::text::outline::{Change, Outline};

fn check(dialect: &'static Dialect, examples: &[&str]) {
    for example in examples {
        let text = example.replace('¦', "");
        let rope = Rope::from_str(&text);
        let starts: Vec<_> = statements(&rope, dialect, 0).map(|s| s.start).collect();
        let mut at = 0;
        let marked: Vec<_> = example
            .split('¦')
            .map(|part| {
                let start = at;
                at += part.len();
                start
            })
            .collect();
        assert_eq!(starts, marked, "{}: {example}", dialect.name);
        assert!(statements(&rope, dialect, 0).all(|s| s.closed), "{example}");
    }
}

#[test]
fn postgres() {
    check(
        &POSTGRES,
        &[
            "select 1;¦select 2",
            "do $$ begin perform 1; end $$;¦select 1",
            "create function f() returns int language sql as $body$ select 1; select $$;$$::int; $body$;¦select 2",
            "select $1;¦select a$b$c, $tag$;$tag$ from t;¦select 3",
            "select e'it\\'s; -- no' as a;¦select 'c:\\';¦select 2",
            "select U&\"d\\0061t;a\", U&'x;y';¦select 1",
            "select 1 /* a /* b; */ c; */;¦select 2",
            "create function f(a int) returns int begin atomic select 1; select case when a > 1 then 2 else 3 end; end;¦select 2",
            "create or replace procedure p() begin atomic insert into t values (1); end;¦call p()",
            "copy ports (id, name) from stdin;\n1\tO'Hara's\n2\t;select\n\\.\n¦select 1",
            "copy ports to stdout;¦select 1",
            "\\d ports\n¦select 1;\n¦\\dt",
            "select a from t\n\n¦delete from t where a = 1",
            "select a\ndelete from t",
            "select a from t\n¦update t set b = 1\nwhere a = 2",
            "update t\nset a = 1;¦set search_path to east",
            "select a from t for\nupdate",
            "insert into t values (1) on conflict (a) do\nupdate set b = 1;¦select 1",
            "with a as materialized (\nselect 1)\nselect * from a\n¦with b as (select 2) select * from b",
            "explain (analyze, buffers)\nselect 1\n¦select 2",
            "select 'a'::text, b->>'c', d @> e from t where f ~* 'x'\n¦truncate table t",
            "create view v as\nselect 1\n¦select * from v",
            "alter table t alter column a\nset default 1;¦select 1",
            "begin\n;¦commit",
        ],
    );
}

/// What a server takes as one statement is one, however its lines are broken.
#[test]
fn nothing_is_cut_that_is_one() {
    for (dialect, statements) in [
        (&POSTGRES, ONE_PIECE_POSTGRES),
        (&MYSQL, ONE_PIECE_MYSQL),
        (
            &SQLITE,
            "insert into t select * from ( with a as ( select 1 ) select * from a )\nwith a as ( select 1 ) , b as ( values ( 2 ) ) insert into t select * from a",
        ),
    ] {
        for statement in statements.lines().filter(|line| !line.is_empty()) {
            for gap in ["\n", "\n\n", "\n\n-- a title\n"] {
                // Below a title a word by itself begins a statement (rule 3), and a name may be such a word.
                let text = statement.replace(' ', gap);
                let rope = Rope::from_str(&text);
                let found: Vec<_> = super::statements(&rope, dialect, 0).map(|s| s.text(&rope)).collect();
                assert_eq!(found, [text.strip_suffix(';').unwrap_or(&text)], "{}", dialect.name);
            }
        }
    }
}

const ONE_PIECE_POSTGRES: &str = "
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
create cast ( a as b ) with function f( a ) as implicit
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
";

const ONE_PIECE_MYSQL: &str = "
create procedure p() begin create table t ( a int ) ; alter table t add b int ; drop table t ; end
create procedure p() begin declare exit handler for sqlexception begin rollback ; end ; start transaction ; update t set a = 1 ; commit ; end
create procedure p() begin declare continue handler for not found set @done = 1 ; while @a < 3 do set @a = @a + 1 ; end while ; end
create procedure p() begin outer_loop : loop if @a > 1 then leave outer_loop ; end if ; end loop ; repeat set @a = 1 ; until @a end repeat ; end
create procedure p() begin select case when a then case b when 1 then 2 end else 3 end from t ; case @x when 1 then drop table t ; else begin end ; end case ; end
create procedure p() drop table t
create procedure p() create table t select 1
create procedure p() explain select 1
create procedure p() while @a < 3 do set @a = @a + 1 ; end while
create procedure insert_port() insert into ports values ( 1 )
create procedure ferry.insert() select 1
create function f() returns varchar(10) character set utf8 deterministic return 'x'
create trigger g before insert on t for each row set new.a = 1
create trigger g after update on t for each row begin if new.a > 1 then delete from u ; end if ; end
create event e on schedule every 1 day starts current_timestamp do delete from t where a = 1
alter event e on schedule every 2 day rename to f do select 1
create definer = purser@quay procedure p() sql security invoker truncate table t
begin not atomic declare a int ; create table t ( a int ) ; end
for i in 1 .. 3 do insert into t values ( i ) ; end for
loop select 1 ; end loop
repeat select 1 ; until 1 end repeat
while 0 do select 1 ; end while
case 1 when 1 then select 1 ; else drop table t ; end case
if 1 then drop table t ; end if
select a , count(*) from t group by a with rollup
create table t ( a int ) select 1 as a
create table t ( a int primary key ) engine = InnoDB replace select 1 as a union select 2
create or replace table t as with x as ( select 1 ) select * from x
create table t ( a int ) with system versioning
create role x with admin clerk
create user x identified with unix_socket as 'y'
alter user x identified with unix_socket
explain format=json select 1
analyze format=json select 1
analyze update t set a = 1
analyze table t persistent for all
set statement max_statement_time = 1 for select 1
set statement max_statement_time = 1 , sql_mode = '' for delete from t where a = 1
set statement sql_log_bin = 0 for create table t ( a int )
set character set utf8
show character set where charset like 'l%'
show create table t
show create procedure p
show explain for 1
show analyze for 1
signal sqlstate '45000' set message_text = 'full'
flush tables with read lock
start transaction with consistent snapshot
alter table t alter index i ignored
alter table t alter a set default 1
alter table t drop column a , rename to u
select replace( 'a' , 'b' , 'c' ) , insert( 'a' , 1 , 1 , 'b' ) , values( a )
insert into t values ( 1 ) on duplicate key update a = values( a )
insert into t set a = 1
insert ignore into t ( a ) select 1 from u for update
replace into t select * from u
grant select , insert , update , delete , create , alter , drop , show view , lock tables on ferry.* to clerk with grant option
grant grant option on ferry.* to clerk
revoke all privileges , grant option from clerk
load data infile 'x' replace into table t set a = 1
select * from t lock in share mode
select * from t use index ( i ) where a = 1 for update
select * from t fetch first 2 rows with ties
select match ( a ) against ( 'x' with query expansion ) from t
xa prepare 'x'
create view v as select 1 with local check option
update t set a = ( select max(a) from u ) where b = 1 order by a limit 1
delete t from t join u on t.a = u.a
create table t ( a int references u ( a ) on delete cascade on update set null )
create table t ( a timestamp on update current_timestamp , b set('a') , c enum('x') )
create table t ( a int ) partition by range ( a ) ( partition p values less than ( 5 ) , partition q values less than maxvalue )
prepare s from 'select 1'
execute immediate 'select 1' using @a
handler t read first limit 2
get diagnostics condition 1 @a = message_text
/*!50001 create procedure p() */ begin select 1 ; end
";

#[test]
fn mysql() {
    check(
        &MYSQL,
        &[
            "select 1;¦select 'it\\'s; # no', \"a;b\", `c;d`;¦select 2 # a; comment\n;¦select 5--1;¦select 3 -- x;y\n",
            "/*!40101 set names utf8mb4 */;¦select 1",
            "select 1 /* plain; */;¦select 2",
            "create procedure p() begin declare a int; if a > 1 then select 1; else select 2; end if; end;¦call p()",
            "create definer = `purser`@`quay` function f() returns int deterministic begin return case 1 when 1 then 2 end; end;¦select 1",
            "create trigger g before insert on t for each row begin set new.a = 1; while 1 do set @x = 2; end while; end;¦select 1",
            "create procedure p() deep: begin outer_loop: loop leave outer_loop; end loop; repeat set @a = 1; until 1 end repeat; end deep;¦select 1",
            "create procedure p() select 1;¦select 2",
            "begin not atomic select 1; select 2; end;¦select 3",
            "create table t (event int, kind int);¦select if(1, 2, 3)",
            "update t\nset a = 1;¦set names utf8mb4\n¦show tables",
            "insert into t set\na = 1\n¦replace into t values (1)",
            "insert into t values (1) on duplicate key\nupdate a = 2\n¦use ferry",
            "select a from t\n¦delete from t\n¦call p()",
            "alter table t\ndrop column a,\nadd b int;¦drop table t",
            "start transaction;¦commit",
        ],
    );
}

#[test]
fn another_delimiter_ends_statements_until_it_is_changed_back() {
    let text = "select 1;\nDELIMITER //\ncreate procedure p()\nbegin\n  select 1;\n  select 2;\nend//\n\nselect 3//\ndelimiter $$\nselect 4; end$$\nDELIMITER ;\nselect 5;\nselect 6";
    let rope = Rope::from_str(text);
    let found: Vec<_> = statements(&rope, &MYSQL, 0).map(|s| s.text(&rope)).collect();
    assert_eq!(
        found,
        [
            "select 1",
            "create procedure p()\nbegin\n  select 1;\n  select 2;\nend",
            "select 3",
            "select 4; end",
            "select 5",
            "select 6"
        ]
    );
}

#[test]
fn an_outline_follows_a_change_of_the_delimiter() {
    let before = "select 0;\nselect 1;\nselect 2;\nDELIMITER //\nselect 3; select 4//\nselect 5//\nselect 6//\n";
    let at = before.find("//").unwrap();
    let mut outline = Outline::new(&Rope::from_str(before), &MYSQL);
    let after = Rope::from_str(&before.replacen("//", ";", 1));
    outline.update(&after, Change { at, removed: 2, inserted: 1 });
    assert_eq!(outline.statements(), Outline::new(&after, &MYSQL).statements());
    assert_ne!(outline.statements().len(), Outline::new(&Rope::from_str(before), &MYSQL).statements().len());
}

#[test]
fn rows_of_a_copy_belong_to_it() {
    let text = "copy ports from stdin with (format csv);\n1,Saltmarsh\n\\.\nselect 1";
    let rope = Rope::from_str(text);
    let found: Vec<_> = statements(&rope, &POSTGRES, 0).map(|s| s.text(&rope)).collect();
    assert_eq!(found, ["copy ports from stdin with (format csv);\n1,Saltmarsh\n\\.", "select 1"]);
}

#[test]
fn redis() {
    check(
        &REDIS,
        &[
            "get port:1\n¦set port:2 \"two\\nlines; and ' quotes\"",
            "set a 'first\nsecond'\n¦hset b field#1 x;y",
            "eval \"return redis.call('get', KEYS[1])\" 1 a\n¦ping",
        ],
    );
    let text = "# The port\nget port:1\n\n# Another # one\n   lrange stops 0 -1   \n";
    let rope = Rope::from_str(text);
    let titles: Vec<_> = statements(&rope, &REDIS, 0).map(|s| (s.title_text(&rope, &REDIS), s.text(&rope))).collect();
    let title = |text: &str| Some(text.to_owned());
    assert_eq!(
        titles,
        [(title("The port"), "get port:1".to_owned()), (title("Another # one"), "lrange stops 0 -1".to_owned())]
    );
}

#[test]
fn what_sqlite_has_not_stays_as_it_was() {
    check(&SQLITE, &["select '$$;$$';¦select 1", "select 1;¦select \"a;b\";¦select [c;d]"]);
}
