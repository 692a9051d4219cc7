-- One statement a line, each of MariaDB's grammar.
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
grant set user on *.* to clerk
