//! Writes that are tried through each guard, on real servers: none leaves a trace.
//!
//! A list of statements that write, each in every clothing that its language has for it, and behind everything that
//! could lift the guard. On a connection that asks, what it would ask about is not run; on one that is read-only, all
//! is run but what it would ask about. Another connection compares what the database holds before and after.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_seam::engine::{Effect, Request, Session, Stop};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres, Redis};
use support::{Collect, run};

/// Statements that follow each other in one session, of which the last or one before writes.
type Attempt = Vec<String>;

fn profile(engine: &str, port: u16, guard: Guard) -> Profile {
    let mut profile = Profile::new("guarded", engine).with("host", "127.0.0.1").guarded(guard);
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    if engine != "redis" {
        profile = profile.with("user", "clerk").with("database", "bookings");
    }
    profile
}

fn connect(profile: &Profile) -> Box<dyn Session> {
    let secret = Secret::new(PASSWORD.into());
    open(by_name(&profile.engine).unwrap(), profile, Some(&secret)).unwrap()
}

/// Carries an attempt out as far as the guard lets it.
fn attempt(session: &mut dyn Session, statements: &Attempt) {
    for statement in statements {
        if !matches!(session.effect(&Request::new(statement)), Ok(Effect::Reads)) {
            break;
        }
        let _ = session.run(&Request::new(statement), Box::new(Collect::up_to(1000)));
        let _ = session.locate(&Stop::default());
    }
    let _ = run(session, "rollback");
    let _ = session.locate(&Stop::default());
}

/// Tries all of them, and returns how many there were and those that left a trace.
fn try_all(profile: &Profile, attempts: &[Attempt], holds: impl Fn() -> String) -> Vec<String> {
    let mut session = connect(profile);
    let mut before = holds();
    let mut traces = Vec::new();
    for statements in attempts {
        attempt(session.as_mut(), statements);
        let after = holds();
        if after != before {
            traces.push(format!("{}: {}", profile.guard.word(), statements.join("; ")));
            before = after;
        }
        if !session.is_alive() {
            session = connect(profile);
        }
    }
    traces
}

fn check(engine: &str, port: u16, attempts: &[Attempt], holds: impl Fn() -> String) {
    assert!(attempts.len() >= 100, "{} attempts", attempts.len());
    for guard in [Guard::Ask, Guard::ReadOnly] {
        let traces = try_all(&profile(engine, port, guard), attempts, &holds);
        assert!(traces.is_empty(), "{} of {} left a trace:\n{}", traces.len(), attempts.len(), traces.join("\n"));
    }
    // They do write where nothing guards, so that the comparison means something.
    let mut session = connect(&profile(engine, port, Guard::Open));
    let mut wrote = 0;
    for statements in attempts {
        let before = holds();
        for statement in statements {
            let _ = session.run(&Request::new(statement), Box::new(Collect::up_to(1000)));
        }
        // What is held would keep others waiting.
        for end in ["rollback", "unlock tables"] {
            let _ = run(session.as_mut(), end);
        }
        wrote += usize::from(holds() != before);
    }
    assert!(wrote * 2 > attempts.len(), "only {wrote} of {} write at all", attempts.len());
}

fn all(parts: &[&[&str]]) -> Vec<Attempt> {
    parts.iter().map(|statements| statements.iter().map(|s| (*s).to_owned()).collect()).collect()
}

#[test]
fn postgres() {
    let server = Postgres::start();
    server.sql(
        "create table t(a int, b text); insert into t select i, 'x' from generate_series(1, 50) i; create sequence s;
         create table log(n int); create materialized view m as select count(*) from t; create extension if not exists lo;
         create function writes() returns int language plpgsql as $$begin insert into log values (1); return 1; end$$;
         create function calls() returns int language sql as 'select writes()';
         create function lifts() returns text language sql as $$select set_config('default_transaction_read_only', 'off', false)$$;
         create function atomic() returns void language sql begin atomic insert into log values (2); end;
         create procedure p() language sql as 'insert into log values (3)'",
    );
    let writes = [
        "insert into t values (nextval('s'), 'y')",
        "update t set b = b || 'z' where a < 3",
        "delete from t where a = (select max(a) from t)",
        "insert into log select count(*) from log",
        "delete from t where ctid = (select min(ctid) from t)",
        "merge into t using (select 1 as a) u on t.a = u.a when matched then update set b = t.b || '!'",
    ];
    let lifts = [
        "set default_transaction_read_only = off",
        "set session default_transaction_read_only to 'off'",
        "set session characteristics as transaction read write",
        "select set_config('default_transaction_read_only', 'off', false)",
        "select pg_catalog.set_config('default_' || 'transaction_read_only', 'off', false)",
        "begin read write",
        "start transaction isolation level serializable, read write",
        "set local transaction_read_only = off",
        "select lifts()",
        "select \"set_config\"('default_transaction_read_only', 'off', false)",
        "reset default_transaction_read_only",
        "do $$begin perform set_config('default_transaction_read_only', 'off', false); end$$",
        "discard all",
        "reset all",
        "/* x */ set /* y */ default_transaction_read_only = off",
        "begin; set transaction read write",
    ];
    let mut attempts = all(&[
        &["select nextval('s')"],
        &["select setval('s', 99)"],
        &["select writes()"],
        &["select calls()"],
        &["select atomic()"],
        &["with a as (select writes()) select * from a"],
        &["select * from t where a = writes()"],
        &["explain analyze select writes()"],
        &["select lo_create(0)"],
        &["select lo_from_bytea(0, 'x')"],
        &["select \"lo_create\"(0)"],
        &["call p()"],
        &["do $$begin insert into log values (9); end$$"],
        &["prepare q1 as insert into log values (4)", "execute q1"],
        &["prepare q2 as select writes()", "execute q2"],
        &["create table n1(a int)"],
        &["create temp table tt(a int)", "create table n2 as select 1 as a"],
        &["select 1 as a into n3"],
        &["with x as (select 1 as a) select a into n4 from x"],
        &["select a into unlogged n5 from t"],
        &["explain analyze create table n6 as select 1 as a"],
        &["explain analyze select 1 as a into n7"],
        &["create view v1 as select 1 as a"],
        &["create function f1() returns int language sql as 'select 1'"],
        &["create role sailor1"],
        &["create schema east1"],
        &["create sequence s1"],
        &["create index on t(b)"],
        &["alter table t add c1 int"],
        &["alter table t rename to t2", "alter table t2 rename to t"],
        &["comment on table t is 'noted'"],
        &["grant select on t to public"],
        &["truncate log"],
        &["refresh materialized view m"],
        &["create type mood1 as enum ('a')"],
        &["create domain d1 as int"],
        &["alter role clerk set work_mem = '7MB'"],
        &["alter database bookings set work_mem = '5MB'"],
        &["alter system set work_mem = '6MB'"],
        &["select pg_create_physical_replication_slot('slot1')"],
        &["copy t to '/tmp/jaunty-guard-1'"],
        &["copy (select 1) to program 'touch /tmp/jaunty-guard-2'"],
        &["copy (delete from t where a = 5 returning *) to stdout"],
        &["declare c cursor for select writes()", "fetch all from c"],
        &["begin", "declare c cursor for select writes()", "fetch all from c", "commit"],
        &["select query_to_xml('select writes()', true, true, '')"],
    ]);
    for write in writes {
        attempts.push(vec![write.to_owned()]);
        attempts.push(vec!["begin".into(), write.to_owned(), "commit".into()]);
        for prefix in [
            "explain analyze ",
            "explain analyse ",
            "explain (analyze) ",
            "explain (analyse, costs off) ",
            "explain analyze verbose ",
            "/* x */ ",
            "-- x\n",
        ] {
            attempts.push(vec![format!("{prefix}{write}")]);
        }
        if !write.starts_with("merge") {
            attempts.push(vec![format!("with w as ({write} returning 1) select * from w")]);
            attempts.push(vec![format!("with a as (select 1), w as ({write} returning 1) select * from a, w")]);
        }
    }
    for lift in lifts {
        for write in &writes[3..4] {
            attempts.push(vec![lift.to_owned(), (*write).to_owned(), "commit".into()]);
            attempts.push(vec![lift.to_owned(), "begin".into(), (*write).to_owned(), "commit".into()]);
        }
    }
    let holds = || {
        let files = ["/tmp/jaunty-guard-1", "/tmp/jaunty-guard-2"].map(|path| std::path::Path::new(path).exists());
        let found = server.sql(
            "select (select string_agg(t::text, ',' order by a, b) from t), (select array_agg(n order by n) from log), (select last_value from s),
               (select array_agg(relname || relkind::text order by oid) from pg_class where relnamespace = 'public'::regnamespace),
               (select array_agg(proname order by oid) from pg_proc where pronamespace = 'public'::regnamespace),
               (select array_agg(rolname order by oid) from pg_roles), (select count(*) from pg_namespace where nspname !~ 'pg_'),
               (select array_agg(typname order by oid) from pg_type where typnamespace = 'public'::regnamespace), (select count(*) from pg_largeobject_metadata),
               (select array_agg(setconfig::text) from pg_db_role_setting), (select array_agg(slot_name::text) from pg_replication_slots),
               (select array_agg(description) from pg_description where objoid = 't'::regclass), (select relacl::text from pg_class where relname = 't'),
               (select array_agg(attname order by attnum) from pg_attribute where attrelid = 't'::regclass), (select * from m),
               (select array_agg(name || setting order by 1) from pg_file_settings)",
        );
        format!("{found}{files:?}")
    };
    check("postgres", server.port, &attempts, holds);
    let _ = (std::fs::remove_file("/tmp/jaunty-guard-1"), std::fs::remove_file("/tmp/jaunty-guard-2"));
}

#[test]
fn mariadb() {
    let server = Mariadb::start();
    server.sql(
        "create table t(a int, b varchar(99)); insert into t select seq, 'x' from seq_1_to_50; create table log(n int);
         create table aria(n int) engine = aria; create sequence s; create procedure p() insert into log values (3); set global innodb_lock_wait_timeout = 1, global lock_wait_timeout = 1",
    );
    let body = "create function writes() returns int begin insert into log values (1); return 1; end";
    run(connect(&profile("mysql", server.port, Guard::Open)).as_mut(), body).unwrap();
    let writes = [
        "insert into log select count(*) from log",
        "update t set b = concat(b, 'z') where a < 3",
        "delete from t order by a desc limit 1",
        "replace into log values (7)",
        "insert into aria values (1)",
    ];
    let lifts = [
        "set session transaction read write",
        "set transaction read write",
        "set tx_read_only = 0",
        "set @@session.tx_read_only = 0",
        "set session tx_read_only = off",
        "start transaction read write",
        "set @a = 1, tx_read_only = 0",
        "/*! set tx_read_only = 0 */",
        "set /* x */ tx_read_only = 0",
        "set statement tx_read_only = 0 for select 1",
        "execute immediate 'set tx_read_only = 0'",
        "set local transaction read write",
        "begin not atomic set tx_read_only = 0; end",
        "set @@local.tx_read_only = 0",
    ];
    let mut attempts = all(&[
        &["select writes()"],
        &["select * from t where a = writes()"],
        &["with a as (select writes()) select * from a"],
        &["do writes()"],
        &["call p()"],
        &["select nextval(s)"],
        &["select next value for s"],
        &["select setval(s, 99)"],
        &["analyze select writes()"],
        &["begin not atomic insert into log values (5); end"],
        &["if 1 then insert into log values (6); end if"],
        &["for i in 1..2 do insert into log values (i); end for"],
        &["case when 1 then insert into log values (8); end case"],
        &["execute immediate 'insert into log values (9)'"],
        &["prepare q from 'insert into log values (10)'", "execute q"],
        &["create table n1(a int)"],
        &["create table n2 select 1 as a"],
        &["create or replace table n3 as select 1 as a"],
        &["create view v1 as select 1 as a"],
        &["create function f1() returns int return 1"],
        &["create procedure p1() select 1"],
        &["create user sailor1"],
        &["create role role1"],
        &["create database east1"],
        &["create sequence s1"],
        &["create index i1 on t(b)"],
        &["alter table t add c1 int"],
        &["rename table log to log2, log2 to log", "rename table log to log3", "rename table log3 to log"],
        &["grant select on bookings.* to clerk@localhost"],
        &["truncate log"],
        &["create trigger g1 before insert on t for each row set new.a = 1"],
        &["create event e1 on schedule every 1 day do select 1"],
        &["set global max_connections = 171"],
        &["set @@global.max_connections = 172"],
        &["set password = password('tide-table-9')", "set global max_connections = 173"],
        &["select 1 into outfile '/tmp/jaunty-guard-3'"],
        &["select 1 into dumpfile '/tmp/jaunty-guard-4'"],
        &["/*! insert into log values (11) */"],
        &["/*M! insert into log values (12) */"],
        &["select * from t into outfile '/tmp/jaunty-guard-5'"],
        &["load data infile '/etc/hostname' into table log"],
        &["lock tables log write", "insert into log values (13)", "unlock tables"],
        &["xa start 'x'", "insert into log values (14)", "xa end 'x'", "xa commit 'x' one phase"],
        &["handler t open", "insert into log values (15)"],
        &["drop table if exists aria"],
        &["comment"],
    ]);
    for write in writes {
        attempts.push(vec![write.to_owned()]);
        attempts.push(vec!["begin".into(), write.to_owned(), "commit".into()]);
        for prefix in [
            "analyze ",
            "analyze format=json ",
            "set statement max_statement_time = 9 for ",
            "set statement sql_mode = '', max_statement_time = 9 for ",
            "/* x */ ",
            "# x\n",
        ] {
            attempts.push(vec![format!("{prefix}{write}")]);
        }
        attempts.push(vec![format!("set statement tx_read_only = 0 for {write}")]);
    }
    for lift in lifts {
        attempts.push(vec![lift.to_owned(), writes[0].to_owned(), "commit".into()]);
        attempts.push(vec![lift.to_owned(), "begin".into(), writes[4].to_owned(), "commit".into()]);
    }
    let holds = || {
        let files = [3, 4, 5].map(|n| std::path::Path::new(&format!("/tmp/jaunty-guard-{n}")).exists());
        let found = server.sql(
            "select (select group_concat(a, b order by a, b) from t), (select group_concat(n order by n) from log), (select next_not_cached_value from s),
               (select group_concat(table_name, table_type order by 1) from information_schema.tables where table_schema = 'bookings'),
               (select group_concat(routine_name order by 1) from information_schema.routines where routine_schema = 'bookings'),
               (select group_concat(user order by 1) from mysql.user), (select group_concat(schema_name order by 1) from information_schema.schemata),
               (select group_concat(column_name, column_key order by 1) from information_schema.columns where table_name = 't'), @@global.max_connections,
               (select group_concat(trigger_name) from information_schema.triggers where trigger_schema = 'bookings'), (select group_concat(event_name) from information_schema.events),
               (select count(*) from mysql.db)",
        );
        let aria = server.sql("select count(*) from information_schema.tables where table_name = 'aria'; select if(count(*) > 0, 'there', '') from information_schema.tables where table_name = 'aria'");
        let rows = if aria.contains("there") { server.sql("select count(*) from aria") } else { String::new() };
        format!("{found}{aria}{rows}{files:?}")
    };
    check("mysql", server.port, &attempts, holds);
    for n in [3, 4, 5] {
        let _ = std::fs::remove_file(format!("/tmp/jaunty-guard-{n}"));
    }
}

#[test]
fn sqlite() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ferry.db");
    let made = "create table t(a integer primary key, b text); insert into t(b) values ('x'), ('y'), ('z'); create table log(n); create view v as select 1 as a";
    rusqlite::Connection::open(&path).unwrap().execute_batch(made).unwrap();
    let writes = [
        "insert into log values (1)",
        "update t set b = b || 'z'",
        "delete from t where a = 3",
        "replace into t values (9, 'x')",
        "insert into t(b) select b from t returning a",
        "with a as (select 1) insert into log select * from a",
        "with a as (select 1) delete from log where n in a",
        "with a as (select 1) update t set b = 'w' where a in a",
        "insert or ignore into log values (2)",
        "insert into log values (3) on conflict do nothing",
        "create table n(a)",
        "create table n2 as select 1 as a",
        "create index i on t(b)",
        "create view v2 as select 1",
        "create trigger g after insert on t begin delete from log; end",
        "alter table t add c",
        "alter table t rename column b to d",
        "drop view v",
        "drop table log",
        "pragma user_version = 7",
        "pragma application_id = 5",
        "pragma auto_vacuum = full",
        "reindex",
        "analyze",
    ];
    let mut attempts = Vec::new();
    for write in writes {
        for prefix in ["", "/* x */ ", "-- x\n"] {
            attempts.push(vec![format!("{prefix}{write}")]);
        }
        attempts.push(vec!["begin immediate".into(), write.to_owned(), "commit".into()]);
        attempts.push(vec!["pragma query_only = off".into(), write.to_owned()]);
    }
    let beside = folder.path().join("beside.db").display().to_string();
    attempts.extend([
        vec![format!("vacuum into '{beside}'")],
        vec![format!("attach '{beside}' as beside"), "create table beside.x(a)".into()],
        vec!["vacuum".into()],
    ]);
    let holds = || {
        let files = std::fs::read_dir(folder.path())
            .unwrap()
            .flatten()
            .map(|e| e.file_name())
            .filter(|n| !n.to_string_lossy().contains("journal"));
        let mut files: Vec<_> = files.collect();
        files.sort();
        format!("{files:?} {:?}", std::fs::read(&path).unwrap())
    };
    assert!(attempts.len() >= 100, "{}", attempts.len());
    for guard in [Guard::Ask, Guard::ReadOnly] {
        let profile = Profile::new("guarded", "sqlite").with("path", path.to_string_lossy()).guarded(guard);
        let traces = try_all(&profile, &attempts, holds);
        assert!(traces.is_empty(), "{} left a trace:\n{}", traces.len(), traces.join("\n"));
    }
}

#[test]
fn redis() {
    let server = Redis::start();
    let plain = profile("redis", server.port, Guard::Open);
    let mut session = connect(&plain);
    for command in
        ["set s 1", "hset h a 1", "rpush l 1 2 3", "sadd set a b", "zadd z 1 a 2 b", "xadd x * a 1", "set n 5"]
    {
        run(session.as_mut(), command).unwrap();
    }
    let commands = [
        "set s 2",
        "append s x",
        "incr n",
        "decr n",
        "incrby n 5",
        "incrbyfloat n 1.5",
        "setrange s 0 y",
        "getset s z",
        "getdel s",
        "getex s ex 10",
        "setex s2 100 x",
        "setnx s3 x",
        "mset a 1 b 2",
        "msetnx c 1 d 2",
        "del n",
        "unlink n",
        "rename n n2",
        "renamenx n n3",
        "copy s s4",
        "expire s 100",
        "expireat s 99999999999",
        "pexpire s 100000",
        "persist s",
        "move s 1",
        "restore r 0 x",
        "sort l store l2",
        "hset h b 2",
        "hsetnx h c 3",
        "hdel h a",
        "hincrby h a 1",
        "hincrbyfloat h a 1.5",
        "lpush l 0",
        "rpush l 4",
        "lpushx l 9",
        "lpop l",
        "rpop l",
        "lset l 0 x",
        "linsert l before 2 y",
        "lrem l 0 2",
        "ltrim l 0 1",
        "lmove l l3 left right",
        "rpoplpush l l4",
        "blpop l 1",
        "lmpop 1 l left",
        "sadd set c",
        "srem set a",
        "spop set",
        "smove set set2 b",
        "sinterstore s5 set",
        "sunionstore s6 set",
        "sdiffstore s7 set",
        "zadd z 3 c",
        "zrem z a",
        "zincrby z 1 a",
        "zpopmin z",
        "zpopmax z",
        "zremrangebyrank z 0 0",
        "zrangestore z2 z 0 -1",
        "zunionstore z3 1 z",
        "zinterstore z4 1 z",
        "xadd x * b 2",
        "xdel x 0-1",
        "xtrim x maxlen 0",
        "xgroup create x g 0",
        "xsetid x 9999999999999-0",
        "setbit s 0 1",
        "bitop not s8 s",
        "bitfield s set u8 0 1",
        "pfadd hll a",
        "pfmerge hll2 hll",
        "geoadd g 1 1 a",
        "geosearchstore g2 g frommember a byradius 1 km",
        "flushdb",
        "flushall",
        "swapdb 0 1",
        "eval \"return redis.call('set','e','1')\" 0",
        "script flush",
        "function load \"#!lua name=l\\nredis.register_function('f', function() return redis.call('set','f','1') end)\"",
        "function flush",
        "config set maxmemory-samples 7",
        "config resetstat",
        "acl setuser sailor on",
        "save",
        "bgrewriteaof",
        "replicaof 127.0.0.1 1",
        "debug jmap",
        "shutdown nosave",
        "client reply off",
        "client kill type pubsub",
        "publish a b",
    ];
    let mut attempts: Vec<Attempt> = commands.iter().map(|command| vec![(*command).to_owned()]).collect();
    attempts.extend(commands.iter().take(20).map(|command| vec!["multi".into(), (*command).to_owned(), "exec".into()]));
    let holds = || {
        let mut session = connect(&plain);
        let dump = "eval \"local all = redis.call('keys', '*') table.sort(all) local out = {} for _, k in ipairs(all) do out[#out + 1] = k .. redis.sha1hex(redis.call('dump', k)) .. tostring(redis.call('ttl', k) > 0) end return table.concat(out, ' ')\" 0";
        let mut found = String::new();
        for command in [dump, "config get maxmemory-samples", "acl list", "function list", "role"] {
            found.push_str(&format!("{:?}", run(session.as_mut(), command).unwrap().rows()));
        }
        found
    };
    assert!(attempts.len() >= 100, "{}", attempts.len());
    for guard in [Guard::Ask, Guard::ReadOnly] {
        let traces = try_all(&profile("redis", server.port, guard), &attempts, holds);
        assert!(traces.is_empty(), "{} left a trace:\n{}", traces.len(), traces.join("\n"));
    }
}
