//! Plans of statements, by real servers: every step is read, and what steps take for themselves adds up to the whole.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::sync::LazyLock;

use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_language::dialect::{Dialect, MYSQL, POSTGRES, SQLITE};
use jaunty_language::plan::{Plan, Step, Unit};
use jaunty_seam::engine::Session;
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use support::run;

/// The world of these tests, in words that all three take: ports, routes between them, and sailings.
const WORLD: &str = "
    create table ports(id int primary key, name varchar(40), berths int);
    create table routes(id int primary key, from_port int, to_port int, minutes int);
    create table sailings(id int primary key, route_id int, departs int, seats int, status varchar(12));
    insert into ports select n, concat('port ', n), n % 7 from numbers where n <= 50;
    insert into routes select n, n % 50 + 1, n * 7 % 50 + 1, n % 300 from numbers where n <= 400;
    insert into sailings select n, n % 400 + 1, n * 37 % 10007, n % 120,
        case when n % 11 = 0 then 'late' when n % 97 = 0 then 'cancelled' else 'on time' end from numbers;
    create index by_route on sailings(route_id);";

/// Statements of every shape, in words that all three take.
const STATEMENTS: [&str; 20] = [
    "select * from ports where id = 7",
    "select * from sailings where seats > 100",
    "select * from sailings where route_id = 7",
    "select count(*) from sailings",
    "select status, count(*), avg(seats) from sailings group by status",
    "select * from sailings order by departs limit 10",
    "select s.id, r.minutes from sailings s join routes r on r.id = s.route_id where r.minutes > 290",
    "select p.name, count(*) from sailings s join routes r on r.id = s.route_id join ports p on p.id = r.from_port group by p.name order by 2 desc",
    "select * from ports p where exists (select 1 from routes r where r.to_port = p.id and r.minutes > 295)",
    "select * from ports p left join routes r on r.from_port = p.id and r.minutes < 3",
    "select id, (select max(seats) from sailings s where s.route_id = r.id) as most from routes r where r.id < 20",
    "with busy as (select route_id, count(*) as n from sailings group by route_id) select * from busy where n > 40 order by n",
    "select * from ports union all select * from ports where berths > 3",
    "select berths from ports union select minutes from routes where minutes < 9",
    "select id, seats, row_number() over (partition by status order by seats) as place from sailings where route_id < 9",
    "select distinct status from sailings",
    "select * from sailings where id between 100 and 200 and status = 'late'",
    "select r.id from routes r where r.from_port in (select id from ports where berths = 3)",
    "with recursive walk(n) as (select 1 union all select n + 1 from walk where n < 60) select sum(n) from walk",
    "select a.id, b.id from routes a join routes b on a.to_port = b.from_port where a.minutes = 5 and b.minutes < 60",
];

fn plan_of(session: &mut dyn Session, dialect: &Dialect, prefix: &str, statement: &str) -> Plan {
    let text = jaunty_language::plan::asked(prefix, statement);
    let rows = run(session, &text).unwrap_or_else(|error| panic!("{text}: {error}")).rows();
    (dialect.plans.unwrap().read)(&rows).unwrap_or_else(|error| panic!("{text}: {error}\n{rows:?}"))
}

/// What holds for each plan, whichever server it is of.
fn holds_together(plan: &Plan, statement: &str) {
    assert!(!plan.steps.is_empty(), "{statement}");
    assert_eq!(plan.steps[0].depth, 0);
    for pair in plan.steps.windows(2) {
        assert!(pair[1].depth <= pair[0].depth + 1, "{statement}: a step without a parent\n{}", plan.text());
    }
    if plan.unit == Unit::None {
        return;
    }
    let shares: f64 = plan.steps.iter().map(|step| step.share).sum();
    assert!((shares - 1.0).abs() < 1e-6 || plan.total == 0.0, "{statement}: {shares}\n{}", plan.text());
    let own: f64 = plan.steps.iter().filter_map(|step| step.own).sum();
    // A clock that is read inside another one may show a little more.
    assert!(own >= plan.total * 0.999 - 0.02, "{statement}: {own} of {}\n{}", plan.total, plan.text());
    assert!(own <= plan.total * 1.35 + 0.5, "{statement}: {own} of {}\n{}", plan.total, plan.text());
}

fn find(plan: &Plan, is: impl Fn(&Step) -> bool) -> &Step {
    plan.steps.iter().find(|step| is(step)).unwrap_or_else(|| panic!("no such step in\n{}", plan.text()))
}

#[test]
fn sqlite() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.db");
    let db = rusqlite::Connection::open(&path).unwrap();
    let numbers = "create table numbers as with recursive n(n) as (select 1 union all select n + 1 from n where n < 20000) select n from n;";
    db.execute_batch(&format!("{numbers}{}", WORLD.replace("concat('port ', n)", "'port ' || n"))).unwrap();
    let profile = Profile::new("ferry", "sqlite").with("path", path.to_string_lossy());
    let mut session = open(by_name("sqlite").unwrap(), &profile, None).unwrap();
    let plans = SQLITE.plans.unwrap();
    assert!(plans.measured.is_none());
    let plan = |session: &mut dyn Session, statement: &str| plan_of(session, &SQLITE, plans.estimated, statement);
    for statement in STATEMENTS {
        holds_together(&plan(session.as_mut(), statement), statement);
    }
    let whole = plan(session.as_mut(), STATEMENTS[1]);
    assert!(whole.steps[0].reads_all && whole.steps[0].target == "sailings", "{}", whole.text());
    let by = plan(session.as_mut(), STATEMENTS[2]);
    assert_eq!((by.steps[0].action.as_str(), by.steps[0].index.as_deref()), ("SEARCH", Some("by_route")));
    assert!(plan(session.as_mut(), STATEMENTS[5]).steps.iter().any(|step| step.spill.is_some()));
}

static POSTGRES_SERVER: LazyLock<Postgres> = LazyLock::new(|| {
    let server = Postgres::start();
    server.sql("create table numbers as select generate_series(1, 20000) as n");
    server.sql(WORLD);
    server.sql(
        "create table parts(id int, day int) partition by range (day);
         create table parts_a partition of parts for values from (0) to (100);
         create table parts_b partition of parts for values from (100) to (200);
         insert into parts select n, n % 200 from numbers;
         create table large as select n, n % 1000 as k, repeat('x', 100) as pad from generate_series(1, 400000) n;
         create function slow() returns trigger language plpgsql as 'begin perform pg_sleep(0.002); return new; end';
         create trigger slowly before update on ports for each row execute function slow();
         analyze",
    );
    server
});

#[test]
fn postgres() {
    let mut profile = Profile::new("bookings", "postgres").with("host", "127.0.0.1").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(i64::from(POSTGRES_SERVER.port)));
    let profile = profile.with("database", "bookings");
    let mut session = open(by_name("postgres").unwrap(), &profile, Some(&Secret::new(PASSWORD.into()))).unwrap();
    let session = session.as_mut();
    let plans = POSTGRES.plans.unwrap();
    let measured = plans.measured.unwrap();
    for statement in STATEMENTS {
        let plan = plan_of(session, &POSTGRES, plans.estimated, statement);
        assert_eq!(plan.unit, Unit::Cost);
        holds_together(&plan, statement);
        let plan = plan_of(session, &POSTGRES, measured, statement);
        assert_eq!(plan.unit, Unit::Time);
        holds_together(&plan, statement);
        // The rows of the root are those of the statement.
        let rows = run(session, statement).unwrap().count() as f64;
        assert_eq!(plan.steps[0].met.map(|met| met * plan.steps[0].loops.unwrap_or(1.0)), Some(rows), "{statement}");
    }
    let parts = plan_of(session, &POSTGRES, measured, "select count(*) from parts where day < 50");
    assert!(find(&parts, |step| step.target.starts_with("parts_a")).reads_all);
    assert!(parts.steps.iter().all(|step| !step.target.starts_with("parts_b")), "{}", parts.text());
    // What is carried out once, when it is first asked for, is in the time of whoever asked.
    for statement in [
        "with recursive walk(n) as (select 1 union all select n + 1 from walk where n < 200000) select sum(n) from walk",
        "with l as materialized (select * from large where n % 3 = 0), m as materialized (select k, count(*) as c from l group by k) select * from m a join m b using (k) where a.c > (select avg(c) from l join m using (k))",
        "select count(*) from large l join ports p on p.id = l.k where l.n > (select avg(n) from large) and p.berths < (select max(k) from large)",
        "select (select count(*) from large), (select max(pad) from large)",
    ] {
        let plan = plan_of(session, &POSTGRES, measured, statement);
        holds_together(&plan, statement);
        // Who sends what others found out to other processes waits for it as well.
        if let Some(at) =
            plan.steps.iter().position(|step| step.action == "Gather" && step.depth == 1 && step.awaited_by.is_empty())
        {
            let initial: Vec<_> = plan.steps.iter().filter(|step| !step.awaited_by.is_empty()).collect();
            assert!(!initial.is_empty() && initial.iter().all(|step| step.awaited_by[0] == at), "{}", plan.text());
        }
    }
    let walk = plan_of(session, &POSTGRES, measured, STATEMENTS[18]);
    assert_eq!(find(&walk, |step| step.action == "Recursive Union").awaited_by, [4], "{}", walk.text());
    // Several processes at once: what each step takes is what the clock showed, not what all of them did.
    run(session, "set max_parallel_workers_per_gather = 2").unwrap();
    run(session, "set parallel_setup_cost = 0").unwrap();
    run(session, "set parallel_tuple_cost = 0").unwrap();
    run(session, "set min_parallel_table_scan_size = 0").unwrap();
    let parallel = plan_of(session, &POSTGRES, measured, "select k, count(*) from large group by k");
    assert!(find(&parallel, |step| step.action.starts_with("Gather")).loops == Some(1.0));
    let scan = find(&parallel, |step| step.action == "Parallel Seq Scan");
    assert!(scan.loops.unwrap() >= 1.0);
    holds_together(&parallel, "parallel");
    // A sort that memory does not hold.
    run(session, "set work_mem = '64kB'").unwrap();
    run(session, "set max_parallel_workers_per_gather = 0").unwrap();
    let sorted = plan_of(session, &POSTGRES, measured, "select * from large order by pad, n desc");
    assert!(find(&sorted, |step| step.action == "Sort").spill.is_some());
    // What triggers take is told beside the steps.
    run(session, "begin").unwrap();
    let update = plan_of(session, &POSTGRES, measured, "update ports set berths = 9 where id <= 10");
    run(session, "rollback").unwrap();
    let trigger = find(&update, |step| step.action == "Trigger");
    assert_eq!((trigger.target.as_str(), trigger.loops), ("slowly on ports", Some(10.0)));
    assert!(trigger.own.unwrap() >= 20.0, "{:?}", trigger.own);
    assert_eq!(run(session, "select count(*) from ports where berths = 9").unwrap().rows(), [["0"]]);
    // Statistics that lie.
    run(session, "create table odd as select 1 as a, n as b from numbers").unwrap();
    run(session, "analyze odd").unwrap();
    run(session, "insert into odd select 2, n from numbers").unwrap();
    let odd = plan_of(session, &POSTGRES, measured, "select * from odd where a = 2");
    assert!(find(&odd, |step| step.target == "odd").misestimate().is_some_and(|ratio| ratio > 10.0), "{}", odd.text());
    // An index that is used is named.
    let by = plan_of(session, &POSTGRES, plans.estimated, STATEMENTS[2]);
    assert!(by.steps.iter().any(|step| step.index.as_deref() == Some("by_route")), "{}", by.text());
}

static MARIADB_SERVER: LazyLock<Mariadb> = LazyLock::new(|| {
    let server = Mariadb::start();
    server.sql("use bookings; create table numbers as select seq as n from seq_1_to_20000");
    server.sql(&format!("use bookings; {WORLD} analyze table ports, routes, sailings"));
    server
});

#[test]
fn mariadb() {
    let mut profile = Profile::new("bookings", "mysql").with("host", "127.0.0.1").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(i64::from(MARIADB_SERVER.port)));
    let profile = profile.with("database", "bookings");
    let mut session = open(by_name("mysql").unwrap(), &profile, Some(&Secret::new(PASSWORD.into()))).unwrap();
    let session = session.as_mut();
    let plans = MYSQL.plans.unwrap();
    let measured = plans.measured.unwrap();
    for statement in STATEMENTS {
        holds_together(&plan_of(session, &MYSQL, plans.estimated, statement), statement);
        let plan = plan_of(session, &MYSQL, measured, statement);
        assert_eq!(plan.unit, Unit::Time, "{statement}");
        holds_together(&plan, statement);
    }
    let all = plan_of(session, &MYSQL, measured, STATEMENTS[1]);
    let scan = find(&all, |step| step.target == "sailings");
    assert!(scan.reads_all && scan.action == "full scan", "{}", all.text());
    let by = plan_of(session, &MYSQL, measured, STATEMENTS[2]);
    assert_eq!(find(&by, |step| step.target == "sailings").index.as_deref(), Some("by_route"));
    assert_eq!(find(&by, |step| step.target == "sailings").met, Some(50.0));
    // Every table of a statement is a step.
    let join = plan_of(session, &MYSQL, measured, STATEMENTS[7]);
    let mut tables: Vec<&str> =
        join.steps.iter().map(|step| step.target.as_str()).filter(|name| !name.is_empty()).collect();
    tables.sort_unstable();
    assert_eq!(tables, ["p", "r", "s"]);
}

/// What is no plan is said to be none; what is hostile does no harm.
#[test]
fn what_is_no_plan_is_refused() {
    let one = |text: &str| vec![vec![text.to_owned()]];
    for dialect in [&POSTGRES, &MYSQL] {
        let read = dialect.plans.unwrap().read;
        for text in ["", "{", "[]", "[{}]", "7", "null", "{\"a\": 1}", "[{\"Plan\": 7}]"] {
            // A plan of PostgreSQL without anything in it is a step without a name.
            let _ = read(&one(text));
        }
        assert!(read(&[]).is_err() && read(&one("{")).is_err() && read(&one("7")).is_err());
    }
    assert!((SQLITE.plans.unwrap().read)(&one("x")).is_err());
    let deep = format!("[{{\"Plan\": {}{}}}]", "{\"Node Type\": \"A\", \"Plans\": [".repeat(60), "]}".repeat(60));
    assert_eq!((POSTGRES.plans.unwrap().read)(&one(&deep)).map(|plan| plan.steps.len()), Ok(60));
}
