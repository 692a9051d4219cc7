//! Every engine is held to the contracts of the seam. What a server cannot show stands below, with the reason.

#![allow(clippy::unwrap_used)] // A test fails by panicking.

use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::{Arc, LazyLock, Mutex};

use jaunty_conformance::{Cannot, Subject, Wanted, report, scripted};
use jaunty_engines::by_name;
use jaunty_seam::engine::{Attempt, Engine, Event, Flow, NoPrompt, Request, Sink, Stop};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_standins::documents;
use jaunty_standins::tds::{Options, Server};
use jaunty_testservers::{Documents, Mariadb, PASSWORD, Postgres, Redis};

/// A profile of a server at this port.
fn at(engine: &str, port: u16) -> Profile {
    let mut profile = Profile::new("bookings", engine).with("host", "127.0.0.1");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    profile
}

/// The number in what a session is called.
fn number(session: &str) -> &str {
    session.rsplit(' ').next().unwrap_or_default()
}

fn ours(texts: &[&str]) -> Vec<String> {
    texts.iter().map(|text| (*text).to_owned()).collect()
}

/// Statements that all dialects of SQL here have in common.
fn in_sql(wanted: Wanted) -> Option<String> {
    Some(match wanted {
        Wanted::Mistake => "select nothing_there".into(),
        Wanted::MakeShelf => "create table if not exists shelf(id int)".into(),
        Wanted::Write => "insert into shelf values (1)".into(),
        Wanted::CountShelf => "select count(*) from shelf".into(),
        Wanted::Begin => "begin".into(),
        Wanted::RollBack => "rollback".into(),
        Wanted::WithValue => "select :a as a".into(),
        Wanted::GoesOn => "select 1\nlimit 2".into(),
        Wanted::TwoStatements => "select 1 as a\nselect 2".into(),
        _ => return None,
    })
}

struct Sqlite(tempfile::TempDir);

impl Subject for Sqlite {
    fn name(&self) -> &'static str {
        "sqlite"
    }
    fn engine(&self) -> &'static dyn Engine {
        by_name("sqlite").unwrap()
    }
    fn profile(&self) -> Profile {
        Profile::new("bookings", "sqlite").with("path", self.0.path().join("a.db").to_string_lossy())
    }
    fn secret(&self) -> Option<Secret> {
        None
    }
    fn at_port(&self, _: u16) -> Result<Profile, Cannot> {
        Err(Cannot("a file has no port"))
    }
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot> {
        let numbers = |rest: &str| format!("with recursive n(i) as (select 1 union all select i + 1 from n) {rest}");
        Ok(match wanted {
            Wanted::Rows(count) => numbers(&format!("select i from n limit {count}")),
            Wanted::NoRows => "select 1 as a where false".into(),
            Wanted::Endless => numbers("select i from n"),
            Wanted::Silent => numbers("select count(*) from n"),
            Wanted::EndlessEffect => format!("delete from shelf where id in ({})", numbers("select max(i) from n")),
            Wanted::TwoResults => return Err(Cannot("one statement, one result")),
            Wanted::MessageThenRow => return Err(Cannot("the library says nothing beside results")),
            Wanted::RowsThenMistake => {
                numbers("select abs(case i when 50 then -9223372036854775807 - 1 else i end) from n limit 100")
            }
            Wanted::Huge(bytes) => format!("select replace(hex(zeroblob({})), '0', 'x')", bytes / 2),
            other => in_sql(other).unwrap(),
        })
    }
    fn values(&self) -> Result<(String, Vec<String>), Cannot> {
        let query = "select 9223372036854775807, 1e300, 'é\t', x'cafe', null, 0.1 + 0.2";
        Ok((query.into(), ours(&["9223372036854775807", "1e300", "é\t", "cafe", "∅", "0.30000000000000004"])))
    }
    fn vanishes(&self) -> Result<(), Cannot> {
        Err(Cannot("there is no server"))
    }
    fn vanish(&self, _: &str) -> Result<(), Cannot> {
        self.vanishes()
    }
    fn asked(&self, _: &str) -> Result<u64, Cannot> {
        Err(Cannot("there is no server"))
    }
}

#[test]
fn sqlite() {
    static SUBJECT: LazyLock<Sqlite> = LazyLock::new(|| {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("a.db"), "").unwrap();
        Sqlite(folder)
    });
    insta::assert_snapshot!(report(&*SUBJECT), @r"
    several_results_come_one_after_the_other: one statement, one result
    messages_come_where_the_server_sent_them: the library says nothing beside results
    columns_that_turn_up_late_stand_behind_the_others: this server knows all columns of a result before its first row
    what_comes_beside_rows_has_its_place: this server tells neither progress nor ids, and has no output values
    connecting_stops: a file has no port
    nobody_listens: a file has no port
    the_server_vanishes_while_connecting: a file has no port
    a_one_time_code_is_asked_for: this server wants no one-time code
    a_prompt_without_an_answer_gives_up: this server wants no one-time code
    a_connection_that_went_away_at_rest_is_found: there is no server
    it_vanishes_while_silent: there is no server
    it_vanishes_while_rows_come: there is no server
    it_vanishes_while_it_is_held: there is no server
    it_vanishes_inside_a_transaction: there is no server
    it_vanishes_before_an_effect_is_known: there is no server
    it_vanishes_before_the_catalog_is_read: there is no server
    nothing_is_sent_but_the_statement: there is no server
    what_is_there_can_be_chosen: there is nowhere else to go
    25 of 43 cases shown
    ");
}

struct OnPostgres(Postgres);

impl Subject for OnPostgres {
    fn name(&self) -> &'static str {
        "postgres"
    }
    fn engine(&self) -> &'static dyn Engine {
        by_name("postgres").unwrap()
    }
    fn profile(&self) -> Profile {
        at("postgres", self.0.port).with("user", "clerk").with("database", "bookings")
    }
    fn secret(&self) -> Option<Secret> {
        Some(Secret::new(PASSWORD.into()))
    }
    fn at_port(&self, port: u16) -> Result<Profile, Cannot> {
        Ok(at("postgres", port).with("user", "clerk"))
    }
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot> {
        Ok(match wanted {
            Wanted::Rows(count) => format!("select i from generate_series(1, {count}) i"),
            Wanted::NoRows => "select 1 as a where false".into(),
            Wanted::Endless => "select generate_series(1, 1000000000000)".into(),
            Wanted::Silent => "select pg_sleep(600)".into(),
            Wanted::TwoResults => "select 1; select 2".into(),
            Wanted::MessageThenRow => "do $$ begin raise notice 'fog'; end $$; select 1".into(),
            Wanted::RowsThenMistake => "select 1 / (10000 - i) from generate_series(1, 20000) i".into(),
            Wanted::Huge(bytes) => format!("select repeat('x', {bytes})"),
            Wanted::EndlessEffect => "delete from shelf where id in (select generate_series(1, 1000000000000))".into(),
            other => in_sql(other).unwrap(),
        })
    }
    fn values(&self) -> Result<(String, Vec<String>), Cannot> {
        let query = "select 9223372036854775807, 12345678901234567890.5::numeric, 'é\t', '\\xcafe'::bytea, null, true, \
                     timestamp '2031-03-05 12:30:00.000001', array[1,null], '{\"a\": 1}'::jsonb, interval '1 day'";
        let read = [
            "9223372036854775807",
            "12345678901234567890.5",
            "é\t",
            "\\xcafe",
            "∅",
            "true",
            "2031-03-05 12:30:00.000001",
            "{1,NULL}",
            "{\"a\": 1}",
            "1 day",
        ];
        Ok((query.into(), ours(&read)))
    }
    fn vanish(&self, session: &str) -> Result<(), Cannot> {
        self.0.sql(&format!("select pg_terminate_backend({})", number(session)));
        Ok(())
    }
    fn asked(&self, session: &str) -> Result<u64, Cannot> {
        let own = format!("session {} asks: ", number(session));
        Ok(self.0.log().lines().filter(|line| line.starts_with(&own)).count() as u64)
    }
}

#[test]
fn postgres() {
    static SUBJECT: LazyLock<OnPostgres> =
        LazyLock::new(|| OnPostgres(Postgres::with(&["log_statement=all", "log_line_prefix=session %p asks: "])));
    insta::assert_snapshot!(report(&*SUBJECT), @r"
    columns_that_turn_up_late_stand_behind_the_others: this server knows all columns of a result before its first row
    what_comes_beside_rows_has_its_place: this server tells neither progress nor ids, and has no output values
    a_one_time_code_is_asked_for: this server wants no one-time code
    a_prompt_without_an_answer_gives_up: this server wants no one-time code
    39 of 43 cases shown
    ");
}

struct OnMariadb(Mariadb);

impl Subject for OnMariadb {
    fn name(&self) -> &'static str {
        "mariadb"
    }
    fn engine(&self) -> &'static dyn Engine {
        by_name("mysql").unwrap()
    }
    fn profile(&self) -> Profile {
        at("mysql", self.0.port).with("user", "clerk").with("database", "bookings")
    }
    fn secret(&self) -> Option<Secret> {
        Some(Secret::new(PASSWORD.into()))
    }
    fn at_port(&self, port: u16) -> Result<Profile, Cannot> {
        Ok(at("mysql", port).with("user", "clerk"))
    }
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot> {
        Ok(match wanted {
            Wanted::Rows(count) => format!("select seq from seq_1_to_{count}"),
            Wanted::NoRows => "select 1 as a from dual where false".into(),
            Wanted::Endless => "select seq from seq_1_to_1000000000000".into(),
            Wanted::Silent => {
                "select count(*) from seq_1_to_1000000000 a, seq_1_to_1000000000 b where a.seq = -b.seq".into()
            }
            Wanted::TwoResults => "call both_of_them()".into(),
            Wanted::MessageThenRow => return Err(Cannot("warnings are told after the results")),
            Wanted::RowsThenMistake => "call half()".into(),
            Wanted::Huge(bytes) => format!("select repeat('x', {bytes})"),
            Wanted::EndlessEffect => "delete from shelf where id in (select seq from seq_1_to_1000000000000)".into(),
            other => in_sql(other).unwrap(),
        })
    }
    fn values(&self) -> Result<(String, Vec<String>), Cannot> {
        let query = "select 18446744073709551615, 123456789012345678.5, 'é\t', x'cafe', null, \
                     timestamp '2031-03-05 12:30:00.000001', time '-838:59:59'";
        let read = [
            "18446744073709551615",
            "123456789012345678.5",
            "é\t",
            "cafe",
            "∅",
            "2031-03-05 12:30:00.000001",
            "-838:59:59",
        ];
        Ok((query.into(), ours(&read)))
    }
    fn vanish(&self, session: &str) -> Result<(), Cannot> {
        self.0.sql(&format!("kill {}", number(session)));
        Ok(())
    }
    fn asked(&self, session: &str) -> Result<u64, Cannot> {
        let count =
            "select count(*) from mysql.general_log where command_type in ('Query', 'Execute') and thread_id = ";
        Ok(self.0.sql(&format!("{count}{}", number(session))).trim().parse().unwrap())
    }
}

#[test]
fn mariadb() {
    static SUBJECT: LazyLock<OnMariadb> = LazyLock::new(|| {
        let server = Mariadb::start();
        server.sql("set global log_output = 'TABLE'; set global general_log = 1");
        server.sql("set global max_allowed_packet = 1073741824");
        let made = "create procedure both_of_them() begin select 1 as a; select 2 as b; end";
        server.sql(&format!("delimiter |\n{made} |"));
        let made = "create procedure half() begin select seq from seq_1_to_5; signal sqlstate '45000'; end";
        server.sql(&format!("delimiter |\n{made} |"));
        OnMariadb(server)
    });
    insta::assert_snapshot!(report(&*SUBJECT), @r"
    messages_come_where_the_server_sent_them: warnings are told after the results
    columns_that_turn_up_late_stand_behind_the_others: this server knows all columns of a result before its first row
    what_comes_beside_rows_has_its_place: this server tells neither progress nor ids, and has no output values
    a_one_time_code_is_asked_for: this server wants no one-time code
    a_prompt_without_an_answer_gives_up: this server wants no one-time code
    38 of 43 cases shown
    ");
}

struct OnRedis(Redis);

const WHOLE: Cannot = Cannot("a reply comes whole");

impl Subject for OnRedis {
    fn name(&self) -> &'static str {
        "redis"
    }
    fn engine(&self) -> &'static dyn Engine {
        by_name("redis").unwrap()
    }
    fn profile(&self) -> Profile {
        at("redis", self.0.port)
    }
    fn secret(&self) -> Option<Secret> {
        Some(Secret::new(PASSWORD.into()))
    }
    fn at_port(&self, port: u16) -> Result<Profile, Cannot> {
        Ok(at("redis", port))
    }
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot> {
        Ok(match wanted {
            Wanted::Rows(count) => format!("lrange numbers 0 {}", count - 1),
            Wanted::NoRows => "lrange nothing 0 -1".into(),
            Wanted::Endless | Wanted::RowsThenMistake | Wanted::TwoResults => return Err(WHOLE),
            Wanted::Silent => "blpop nothing 0".into(),
            Wanted::MessageThenRow => return Err(Cannot("the server says nothing beside replies")),
            Wanted::Mistake => "get".into(),
            Wanted::Huge(bytes) => format!("eval \"return string.rep('x', {bytes})\" 0"),
            Wanted::MakeShelf => "del shelf".into(),
            Wanted::Write | Wanted::EndlessEffect => "rpush shelf 1".into(),
            Wanted::CountShelf => "llen shelf".into(),
            Wanted::Begin => "multi".into(),
            Wanted::RollBack => "discard".into(),
            Wanted::WithValue => return Err(Cannot("commands have no parameters")),
            Wanted::GoesOn | Wanted::TwoStatements => return Err(Cannot("a command ends with its line")),
        })
    }
    fn values(&self) -> Result<(String, Vec<String>), Cannot> {
        Ok(("eval \"return 7\" 0".into(), ours(&["7", "integer"])))
    }
    fn vanish(&self, session: &str) -> Result<(), Cannot> {
        self.0.command(&["client", "kill", "id", number(session)]);
        Ok(())
    }
    fn asked(&self, session: &str) -> Result<u64, Cannot> {
        let all = self.0.command(&["client", "list", "id", number(session)]);
        let own = all.split_whitespace().find_map(|part| part.strip_prefix("addr=")).unwrap().to_owned();
        Ok(self.0.command(&["slowlog", "get", "-1"]).lines().filter(|line| *line == own).count() as u64)
    }
}

#[test]
fn redis() {
    static SUBJECT: LazyLock<OnRedis> = LazyLock::new(|| {
        let server = Redis::start();
        server.command(&["config", "set", "slowlog-log-slower-than", "0", "slowlog-max-len", "100000"]);
        server.command(&["eval", "for i = 1, 20000 do redis.call('rpush', 'numbers', i) end", "0"]);
        OnRedis(server)
    });
    insta::assert_snapshot!(report(&*SUBJECT), @r"
    several_results_come_one_after_the_other: a reply comes whole
    messages_come_where_the_server_sent_them: the server says nothing beside replies
    rows_before_a_mistake_stay: a reply comes whole
    columns_that_turn_up_late_stand_behind_the_others: this server knows all columns of a result before its first row
    what_comes_beside_rows_has_its_place: this server tells neither progress nor ids, and has no output values
    a_wish_that_is_there_already_stops_at_once: a reply comes whole
    a_flood_of_rows_stops: a reply comes whole
    it_stops_when_the_sink_wants_no_more: a reply comes whole
    it_stops_while_it_is_held: a reply comes whole
    a_one_time_code_is_asked_for: this server wants no one-time code
    a_prompt_without_an_answer_gives_up: this server wants no one-time code
    it_vanishes_while_rows_come: a reply comes whole
    it_vanishes_while_it_is_held: a reply comes whole
    a_check_runs_nothing: the server is not asked about statements
    values_go_beside_the_statement: commands have no parameters
    a_value_that_is_missing_is_refused: commands have no parameters
    what_goes_on_is_one_statement: a command ends with its line
    26 of 43 cases shown
    ");
}

struct OnSqlServer(Server);

impl Subject for OnSqlServer {
    fn name(&self) -> &'static str {
        "sqlserver"
    }
    fn engine(&self) -> &'static dyn Engine {
        by_name("sqlserver").unwrap()
    }
    fn profile(&self) -> Profile {
        at("sqlserver", self.0.port()).with("user", "clerk").with("database", "ferry")
    }
    fn secret(&self) -> Option<Secret> {
        Some(Secret::new(Options::default().password))
    }
    fn at_port(&self, port: u16) -> Result<Profile, Cannot> {
        Ok(at("sqlserver", port).with("user", "clerk"))
    }
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot> {
        let numbers = |rest: &str| {
            format!("with n(i) as (select 1 union all select i + 1 from n) {rest} option (maxrecursion 0)")
        };
        Ok(match wanted {
            Wanted::Rows(count) => numbers(&format!("select top ({count}) i from n")),
            Wanted::NoRows => "select 1 as a where 1 = 0".into(),
            Wanted::Endless => numbers("select i from n"),
            Wanted::Silent => "waitfor delay '00:10:00'".into(),
            Wanted::TwoResults => "select 1 select 2".into(),
            Wanted::MessageThenRow => "print 'fog' select 1".into(),
            Wanted::RowsThenMistake => {
                numbers("select top (20000) abs(case i when 5000 then -9223372036854775807 - 1 else i end) from n")
            }
            Wanted::Huge(bytes) => format!("select replicate(cast('x' as varchar(max)), {bytes})"),
            Wanted::EndlessEffect => "delete from shelf where id in (1, 2)".into(),
            Wanted::MakeShelf => "drop table if exists shelf; create table shelf (id int)".into(),
            Wanted::Begin => "begin transaction".into(),
            Wanted::RollBack => "rollback".into(),
            Wanted::GoesOn => "select 1 as a\norder by a".into(),
            other => in_sql(other).unwrap(),
        })
    }
    fn values(&self) -> Result<(String, Vec<String>), Cannot> {
        let query = "select 9223372036854775807, cast('12345678901234567890.5' as decimal(30, 1)), N'é\t', 0xcafe, null, \
                     cast(1 as bit), cast('2031-03-05 12:30:00.0000001' as datetime2), cast('0001-01-01' as datetime2), \
                     cast('2031-03-05 12:30:00 +01:30' as datetimeoffset(0)), cast('-1.5' as money), \
                     cast('00112233-4455-6677-8899-aabbccddeeff' as uniqueidentifier), cast('12:30:00.5' as time(1)), \
                     cast(N'quay' as sql_variant)";
        let read = [
            "9223372036854775807",
            "12345678901234567890.5",
            "é\t",
            "cafe",
            "∅",
            "1",
            "2031-03-05 12:30:00.0000001",
            "0001-01-01 00:00:00.0000000",
            "2031-03-05 12:30:00 +01:30",
            "-1.5000",
            "00112233-4455-6677-8899-AABBCCDDEEFF",
            "12:30:00.5",
            "quay",
        ];
        Ok((query.into(), ours(&read)))
    }
    fn vanish(&self, session: &str) -> Result<(), Cannot> {
        self.0.end_session(number(session).parse().unwrap());
        Ok(())
    }
    fn asked(&self, session: &str) -> Result<u64, Cannot> {
        Ok(self.0.asked(number(session).parse().unwrap()))
    }
}

#[test]
fn sqlserver() {
    static SUBJECT: LazyLock<OnSqlServer> = LazyLock::new(|| OnSqlServer(Server::start(Options::default()).unwrap()));
    insta::assert_snapshot!(report(&*SUBJECT), @r"
    columns_that_turn_up_late_stand_behind_the_others: this server knows all columns of a result before its first row
    what_comes_beside_rows_has_its_place: this server tells neither progress nor ids, and has no output values
    a_one_time_code_is_asked_for: this server wants no one-time code
    a_prompt_without_an_answer_gives_up: this server wants no one-time code
    39 of 43 cases shown
    ");
}

/// A way to a server that can be cut.
struct Way {
    port: u16,
    open: Arc<Mutex<Vec<TcpStream>>>,
}

impl Way {
    fn to(port: u16) -> Way {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let way = Way { port: listener.local_addr().unwrap().port(), open: Arc::default() };
        let open = Arc::clone(&way.open);
        std::thread::spawn(move || {
            for from in listener.incoming().flatten() {
                let to = TcpStream::connect(("127.0.0.1", port)).unwrap();
                for (from, to) in [(&from, &to), (&to, &from)] {
                    let (mut from, mut to) = (from.try_clone().unwrap(), to.try_clone().unwrap());
                    std::thread::spawn(move || {
                        let _ = std::io::copy(&mut from, &mut to);
                        let _ = to.shutdown(Shutdown::Both);
                    });
                }
                open.lock().unwrap().extend([from, to]);
            }
        });
        way
    }

    fn cut(&self) {
        for stream in self.open.lock().unwrap().drain(..) {
            let _ = stream.shutdown(Shutdown::Both);
        }
    }
}

/// The server, which runs as long as this is there, and the way to it that can be cut.
struct OnDocuments(#[allow(dead_code, reason = "held")] Documents, Way);

const ALONE: Cannot = Cannot("a command gives one reply");

/// What both servers of documents understand.
fn of_documents(wanted: Wanted) -> Result<String, Cannot> {
    Ok(match wanted {
        Wanted::Rows(count) => format!("numbers | sort {{ _id: 1 }} | limit {count}"),
        Wanted::NoRows => "numbers { _id: -1 }".into(),
        Wanted::Endless => return Err(Cannot("no collection is without an end")),
        Wanted::Silent => return Err(Cannot("this server does not end what it is told to end")),
        Wanted::TwoResults | Wanted::MessageThenRow | Wanted::RowsThenMistake => return Err(ALONE),
        Wanted::Mistake => "{ fnd: 'numbers' }".into(),
        Wanted::Huge(_) => "numbers { _id: 1 } | project { _id: 0, a: { $reduce: { input: { $range: [0, 16384] }, initialValue: '', in: { $concat: ['$$value', '$long'] } } } }".into(),
        Wanted::MakeShelf => "shelf delete all {}".into(),
        Wanted::Write => "shelf insert { a: 1 }".into(),
        Wanted::EndlessEffect => "shelf delete all { a: 1 }".into(),
        Wanted::CountShelf => "shelf count".into(),
        Wanted::Begin | Wanted::RollBack => return Err(Cannot("this server is not a member of a replica set")),
        Wanted::WithValue => "numbers { _id: 1 } | project { _id: 0, a: { $literal: :a } }".into(),
        Wanted::GoesOn | Wanted::TwoStatements => return Err(Cannot("a blank line ends a statement")),
    })
}

impl Subject for OnDocuments {
    fn name(&self) -> &'static str {
        "mongodb"
    }
    fn engine(&self) -> &'static dyn Engine {
        by_name("mongodb").unwrap()
    }
    fn profile(&self) -> Profile {
        at("mongodb", self.1.port).with("database", "ferry")
    }
    fn secret(&self) -> Option<Secret> {
        None
    }
    fn at_port(&self, port: u16) -> Result<Profile, Cannot> {
        Ok(at("mongodb", port))
    }
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot> {
        of_documents(wanted)
    }
    fn values(&self) -> Result<(String, Vec<String>), Cannot> {
        let read = [
            "1",
            "9223372036854775807",
            "1.5",
            "é",
            "true",
            "∅",
            "cafe",
            "2031-03-05T12:30:00.001Z",
            "12345678901234567890.50",
            "0123456789abcdef01234567",
            "{\"a\": [1, {\"$minKey\": 1}]}",
            "{\"$regularExpression\": {\"pattern\": \"^q\", \"options\": \"i\"}}",
        ];
        Ok(("kinds".into(), ours(&read)))
    }
    fn vanish(&self, _: &str) -> Result<(), Cannot> {
        self.1.cut();
        Ok(())
    }
    fn asked(&self, _: &str) -> Result<u64, Cannot> {
        Err(Cannot("this server does not tell what it was asked"))
    }
    fn late_columns(&self) -> Result<String, Cannot> {
        Err(Cannot("documents of one batch have their columns together"))
    }
}

#[test]
fn mongodb() {
    static SUBJECT: LazyLock<OnDocuments> = LazyLock::new(|| {
        let server = Documents::start();
        server.script(
            "d = c.ferry\nd.numbers.insert_many([{'_id': i} for i in range(1, 20001)])\n\
             d.numbers.update_one({'_id': 1}, {'$set': {'long': 'x' * 512}})\n\
             d.kinds.insert_one({'_id': 1, 'l': Int64(9223372036854775807), 'd': 1.5, 't': 'é', 'b': True, 'n': None, 'x': bytes([0xca, 0xfe]), \
             'at': bson.datetime_ms.DatetimeMS(1930480200001), 'dec': Decimal128('12345678901234567890.50'), 'o': ObjectId('0123456789abcdef01234567'), \
             's': {'a': [1, MinKey()]}, 'r': bson.regex.Regex('^q', 'i')})",
        );
        let way = Way::to(server.port);
        OnDocuments(server, way)
    });
    insta::assert_snapshot!(report(&*SUBJECT), @r"
    several_results_come_one_after_the_other: a command gives one reply
    messages_come_where_the_server_sent_them: a command gives one reply
    rows_before_a_mistake_stay: a command gives one reply
    columns_that_turn_up_late_stand_behind_the_others: documents of one batch have their columns together
    what_comes_beside_rows_has_its_place: this server tells neither progress nor ids, and has no output values
    a_wish_that_is_there_already_stops_at_once: no collection is without an end
    a_silent_statement_stops: this server does not end what it is told to end
    a_flood_of_rows_stops: no collection is without an end
    it_stops_when_the_sink_wants_no_more: no collection is without an end
    it_stops_while_it_is_held: no collection is without an end
    a_one_time_code_is_asked_for: this server wants no one-time code
    a_prompt_without_an_answer_gives_up: this server wants no one-time code
    it_vanishes_while_silent: this server does not end what it is told to end
    it_vanishes_while_rows_come: no collection is without an end
    it_vanishes_while_it_is_held: no collection is without an end
    it_vanishes_inside_a_transaction: this server is not a member of a replica set
    transactions_are_known_without_asking: this server is not a member of a replica set
    nothing_is_sent_but_the_statement: this server does not tell what it was asked
    a_check_runs_nothing: the server is not asked about statements
    what_goes_on_is_one_statement: a blank line ends a statement
    23 of 43 cases shown
    ");
}

/// The same on a server that ends what it is told to end.
struct OnSimulatedDocuments(documents::Server);

impl Subject for OnSimulatedDocuments {
    fn name(&self) -> &'static str {
        "mongodb, simulated"
    }
    fn engine(&self) -> &'static dyn Engine {
        by_name("mongodb").unwrap()
    }
    fn profile(&self) -> Profile {
        at("mongodb", self.0.port()).with("database", "ferry")
    }
    fn secret(&self) -> Option<Secret> {
        None
    }
    fn at_port(&self, port: u16) -> Result<Profile, Cannot> {
        Ok(at("mongodb", port))
    }
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot> {
        match wanted {
            Wanted::Endless => Ok("endless".into()),
            Wanted::Silent => Ok("numbers distinct nothing".into()),
            Wanted::Begin => Ok("begin".into()),
            Wanted::RollBack => Ok("rollback".into()),
            other => of_documents(other),
        }
    }
    fn values(&self) -> Result<(String, Vec<String>), Cannot> {
        Err(Cannot("as on the other server"))
    }
    fn late_columns(&self) -> Result<String, Cannot> {
        Err(Cannot("documents of one batch have their columns together"))
    }
    fn vanish(&self, session: &str) -> Result<(), Cannot> {
        self.0.end_connection(number(session).parse().unwrap());
        Ok(())
    }
    fn asked(&self, session: &str) -> Result<u64, Cannot> {
        Ok(self.0.asked(number(session).parse().unwrap()))
    }
}

#[test]
fn mongodb_simulated() {
    static SUBJECT: LazyLock<OnSimulatedDocuments> = LazyLock::new(|| {
        let options = documents::Options {
            endless: Some("endless".into()),
            replica_set: Some(("fleet".into(), 1)),
            ..documents::Options::default()
        };
        let subject = OnSimulatedDocuments(documents::Server::start(options).unwrap());
        let attempt = Attempt { profile: &subject.profile(), secret: None, prompt: &NoPrompt, stop: Stop::default() };
        let mut session = subject.engine().connect(&attempt).unwrap();
        let numbers: Vec<String> = (2..=20_000).map(|i| format!("{{ _id: {i} }}")).collect();
        for statement in [
            format!("numbers insert {{ _id: 1, long: '{}' }} {}", "x".repeat(512), numbers.join(" ")),
            "{ configureFailPoint: 'failCommand', mode: 'alwaysOn', data: { failCommands: ['distinct'], blockConnection: true, blockTimeMS: 600000 }, $db: 'admin' }".into(),
        ] {
            session.run(&Request::new(&statement), Box::new(Unseen)).unwrap();
        }
        subject
    });
    insta::assert_snapshot!(report(&*SUBJECT), @r"
    several_results_come_one_after_the_other: a command gives one reply
    messages_come_where_the_server_sent_them: a command gives one reply
    rows_before_a_mistake_stay: a command gives one reply
    values_of_every_kind_are_exact: as on the other server
    columns_that_turn_up_late_stand_behind_the_others: documents of one batch have their columns together
    what_comes_beside_rows_has_its_place: this server tells neither progress nor ids, and has no output values
    a_one_time_code_is_asked_for: this server wants no one-time code
    a_prompt_without_an_answer_gives_up: this server wants no one-time code
    a_check_runs_nothing: the server is not asked about statements
    what_goes_on_is_one_statement: a blank line ends a statement
    33 of 43 cases shown
    ");
}

/// Looks at nothing.
struct Unseen;

impl Sink for Unseen {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }
    fn take(&mut self, _: Event) -> Flow {
        Flow::Continue
    }
}

struct Script;

impl Subject for Script {
    fn name(&self) -> &'static str {
        "scripted"
    }
    fn engine(&self) -> &'static dyn Engine {
        &scripted::Scripted
    }
    fn profile(&self) -> Profile {
        Profile::new("harbour", "scripted")
    }
    fn secret(&self) -> Option<Secret> {
        None
    }
    fn at_port(&self, port: u16) -> Result<Profile, Cannot> {
        Ok(at("scripted", port))
    }
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot> {
        Ok(match wanted {
            Wanted::Rows(count) => format!("rows {count}"),
            Wanted::NoRows => "result".into(),
            Wanted::Endless => "forever".into(),
            Wanted::Silent => "wait".into(),
            Wanted::TwoResults => "one 1, one 2".into(),
            Wanted::MessageThenRow => "message fog, one 1".into(),
            Wanted::Mistake => "fail there is no such quay".into(),
            Wanted::RowsThenMistake => "rows 5, fail there is no such quay".into(),
            Wanted::Huge(bytes) => format!("huge {bytes}"),
            Wanted::MakeShelf => "make".into(),
            Wanted::Write => "put".into(),
            Wanted::CountShelf => "count".into(),
            Wanted::EndlessEffect => "ponder, put".into(),
            Wanted::Begin => "begin".into(),
            Wanted::RollBack => "rollback".into(),
            Wanted::WithValue => "echo".into(),
            Wanted::GoesOn => "one 1,\none 2".into(),
            Wanted::TwoStatements => "one 1\none 2".into(),
        })
    }
    fn values(&self) -> Result<(String, Vec<String>), Cannot> {
        let read = [
            "123456789012345678901234567890123456789012345678.90",
            "2031-02-27 23:06:40.123456789",
            "high",
            "[\"a\", null]",
            "{\"key\": \"value\"}",
            "{\"at\": 1.5}",
            "cafe",
            "true",
        ];
        Ok(("kinds".into(), ours(&read)))
    }
    fn vanish(&self, session: &str) -> Result<(), Cannot> {
        scripted::vanish(session);
        Ok(())
    }
    fn asked(&self, session: &str) -> Result<u64, Cannot> {
        Ok(scripted::asked(session))
    }
    fn one_time_code(&self) -> Result<(Profile, &'static str), Cannot> {
        let mut profile = self.profile();
        profile.settings.insert("code".into(), Setting::Flag(true));
        Ok((profile, scripted::CODE))
    }
    fn late_columns(&self) -> Result<String, Cannot> {
        Ok("rows 2, late ebb, rows 2, late fog, rows 1".to_owned())
    }

    fn everything_beside_rows(&self) -> Result<String, Cannot> {
        Ok("id Q-7, progress 10, result quay, rows 3, progress 50, rows 2, end 5, output left, message fog".into())
    }
}

#[test]
fn the_scripted_engine() {
    insta::assert_snapshot!(report(&Script), @"43 of 43 cases shown");
}
