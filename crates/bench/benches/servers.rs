//! Speed and memory with real servers, each beside the bare driver's loop in the same run.
//!
//! `cargo bench -p jaunty-bench --bench servers` measures all; a name behind `--`, some:
//! `postgres`, `mariadb`, `sqlserver`, `documents`, `long`, `stops`. `ROWS=2000000` makes the tables smaller than 20,000,000 and 5,000,000.

#![allow(clippy::print_stdout)] // It is a report.

use std::error::Error;
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use jaunty_bench::measured::Times;
use jaunty_bench::postgres::{bare, table};
use jaunty_core::archive::Retention;
use jaunty_core::connection::open;
use jaunty_core::files::Folders;
use jaunty_core::run::connection_worker::{ConnectionWorker, Order, Report};
use jaunty_core::run::execute::{Tell, execute};
use jaunty_core::run::{Job, Keeping};
use jaunty_documents::Bson;
use jaunty_documents::message::{self, command};
use jaunty_documents::raw::Element;
use jaunty_seam::engine::{Event, Flow, Request, Sink, Stop};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_standins::tds::{Options, Server};
use jaunty_tds::login::{Login, Who};
use jaunty_tds::packet::{FIRST_SIZE, HEADER, Header, Kind, framed};
use jaunty_tds::prelogin::{Encryption, Prelogin};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres, Redis};
use mysql_async::prelude::Queryable;
use mysql_async::{Conn, OptsBuilder, Value};
use tokio::runtime::Builder;

type Outcome<T = ()> = Result<T, Box<dyn Error>>;

const ROUNDS: usize = 3;

fn main() -> Outcome {
    let wanted: Vec<String> = std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    let rows: u64 = std::env::var("ROWS").ok().and_then(|rows| rows.parse().ok()).unwrap_or(20_000_000);
    if wanted.iter().any(|name| name == STAND_IN) {
        return stand_in();
    }
    let is_wanted = |name: &str| wanted.is_empty() || wanted.iter().any(|w| w == name);
    if is_wanted("postgres") {
        postgres(rows)?;
    }
    if is_wanted("mariadb") {
        mariadb(rows.min(5_000_000))?;
    }
    if is_wanted("sqlserver") {
        sqlserver(rows.min(1_000_000))?;
    }
    if is_wanted("documents") {
        documents(rows.min(200_000))?;
    }
    if is_wanted("long") {
        long()?;
    }
    if is_wanted("stops") {
        stops()?;
    }
    Ok(())
}

/// The most memory that this process has had so far, in megabytes.
fn peak_memory() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or_default();
    line.trim().trim_end_matches(" kB").parse::<f64>().unwrap_or_default() / 1024.0
}

fn profile(engine: &str, port: u16) -> Profile {
    let mut profile =
        Profile::new("bench", engine).with("user", "clerk").with("database", "bookings").with("tls", "off");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    profile
}

/// Runs a statement as the program does, with archive and logbook; how long it took.
fn ours(profile: &Profile, statement: &str, rows: u64) -> Outcome<Duration> {
    let folder = tempfile::tempdir()?;
    let engine = jaunty_engines::by_name(&profile.engine).ok_or("no such engine")?;
    let mut session = open(engine, profile, Some(&Secret::new(PASSWORD.into())))?;
    let location = session.location();
    let keeping = Keeping::open(&Folders::below(folder.path()), Retention::default());
    let tell: Tell = Arc::new(|_| {});
    let job = Job { statement: statement.into(), ..Job::default() };
    let begun = Instant::now();
    let run = execute(session.as_mut(), (profile, &location), &job, &keeping, None, (&tell, &Stop::default()));
    let took = begun.elapsed();
    assert_eq!(run.rows(), rows, "{:?}", run.end());
    Ok(took)
}

/// Tells when so many rows have come, and wants no more.
struct FirstPage(Arc<Mutex<u64>>, Sender<Instant>);

impl Sink for FirstPage {
    fn wanted(&self) -> Flow {
        if self.0.lock().is_ok_and(|rows| *rows >= 100) { Flow::Stop } else { Flow::Continue }
    }
    fn take(&mut self, event: Event) -> Flow {
        let Event::Rows(batch) = event else { return Flow::Continue };
        let Ok(mut rows) = self.0.lock() else { return Flow::Stop };
        *rows += batch.num_rows() as u64;
        if *rows >= 100 {
            let _ = self.1.send(Instant::now());
            return Flow::Stop;
        }
        Flow::Continue
    }
}

fn postgres(rows: u64) -> Outcome {
    let server = table(rows);
    println!("\nPostgreSQL: first page of select * of {rows} rows ÷ the bare driver's first 100 rows");
    let profile = profile("postgres", server.port);
    let engine = jaunty_engines::by_name("postgres").ok_or("no such engine")?;
    let (mut floor, mut page) = (Times::default(), Times::default());
    for _ in 0..15 {
        floor.push(bare(server.port, "select * from t", 100)?.1);
        let mut session = open(engine, &profile, Some(&Secret::new(PASSWORD.into())))?;
        let (send, arrived) = channel();
        let begun = Instant::now();
        let _ = session.run(&Request::new("select * from t"), Box::new(FirstPage(Arc::default(), send)));
        page.push(arrived.recv()?.duration_since(begun));
    }
    let ms = |times: &Times| times.percentile(50).as_secs_f64() * 1000.0;
    let beyond = ms(&page) - ms(&floor) * 1.2;
    println!("  bare: {}", floor.summary());
    println!("  ours: {}", page.summary());
    println!("  beyond 1.2 times the bare one: {beyond:.2} ms at the median (wanted: within a frame, 16 ms)");

    let part = rows.min(5_000_000);
    println!("\nPostgreSQL: {part} rows into the archive ÷ the bare driver's loop");
    // A plain scan in the same order each time: two at once would share their way through the table.
    let statement = format!("select * from t where id <= {part}");
    ratio(1.0, || bare(server.port, &statement, u64::MAX), || ours(&profile, &statement, part))?;
    println!("  peak memory of the whole measurement: {:.1} MB", peak_memory());
    ours(&profile, "select * from t", rows)?;
    println!("  after {rows} rows as well: {:.1} MB (wanted: flat)", peak_memory());
    Ok(())
}

/// Each is measured between two floors, since a machine is not always equally fast.
fn ratio(wanted: f64, bare: impl Fn() -> Outcome<(u64, Duration)>, ours: impl Fn() -> Outcome<Duration>) -> Outcome {
    let mut ratios = Vec::new();
    let (_, mut before) = bare()?;
    for _ in 0..ROUNDS {
        let took = ours()?;
        let (_, after) = bare()?;
        ratios.push((before + after).as_secs_f64() / 2.0 / took.as_secs_f64());
        before = after;
    }
    ratios.sort_by(f64::total_cmp);
    let all: Vec<_> = ratios.iter().map(|ratio| format!("{ratio:.2}")).collect();
    println!("  {} (median {:.2}; wanted: at least {wanted:.2})", all.join(", "), ratios[ratios.len() / 2]);
    Ok(())
}

fn bare_mysql(port: u16, statement: &str) -> Outcome<(u64, Duration)> {
    let runtime = Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let options = OptsBuilder::default()
            .ip_or_hostname("127.0.0.1")
            .tcp_port(port)
            .user(Some("clerk"))
            .pass(Some(PASSWORD))
            .db_name(Some("bookings"))
            .prefer_socket(false);
        let mut connection = Conn::new(options).await?;
        let begun = Instant::now();
        let mut result = connection.query_iter(statement).await?;
        let (mut count, mut touched) = (0, 0_u64);
        while let Some(row) = result.next().await? {
            for column in 0..row.len() {
                touched = touched.wrapping_add(match row.as_ref(column) {
                    Some(Value::Bytes(raw)) => raw.len() as u64 + u64::from(raw.last().copied().unwrap_or(0)),
                    _ => 0,
                });
            }
            count += 1;
        }
        let took = begun.elapsed();
        std::hint::black_box(touched);
        Ok((count, took))
    })
}

fn mariadb(rows: u64) -> Outcome {
    let server = Mariadb::start();
    server.sql(&format!(
        "create table t (id int, name varchar(40), amount decimal(10,2), ts datetime, ok boolean) engine=MyISAM;
         insert into t select seq, concat('row-', lpad(seq, 16, '0')), seq % 100000000 / 100.0, '2031-01-01' + interval seq second, seq % 3 = 0 from seq_1_to_{rows}"
    ));
    println!("\nMariaDB: {rows} rows into the archive ÷ the bare driver's loop");
    let profile = profile("mysql", server.port);
    ratio(0.9, || bare_mysql(server.port, "select * from t"), || ours(&profile, "select * from t", rows))?;
    println!("  peak memory of the whole measurement: {:.1} MB", peak_memory());
    Ok(())
}

/// The least that a client can do: it reads packets to the last one, and looks at nothing in them.
fn bare_tds(port: u16, statement: &str) -> Outcome<(u64, Duration)> {
    use std::io::{Read, Write};
    let mut stream = std::net::TcpStream::connect(("127.0.0.1", port))?;
    let mut buffer = vec![0; 64 << 10];
    let mut exchange = |kind: Kind, message: &[u8]| -> Outcome<u64> {
        stream.write_all(&framed(kind, message, FIRST_SIZE))?;
        let (mut bytes, mut rest, mut last, mut head) = (0_u64, 0_usize, false, Vec::new());
        loop {
            let count = stream.read(&mut buffer)?;
            let mut read = buffer.get(..count).filter(|read| !read.is_empty()).ok_or("the server is gone")?;
            bytes += read.len() as u64;
            while !read.is_empty() {
                if rest > 0 {
                    let (part, after) = read.split_at(rest.min(read.len()));
                    rest -= part.len();
                    read = after;
                    continue;
                }
                let (part, after) = read.split_at((HEADER - head.len()).min(read.len()));
                head.extend(part);
                read = after;
                if let Ok(whole) = <[u8; HEADER]>::try_from(head.as_slice()) {
                    let header = Header::read(whole).ok_or("no packet")?;
                    (rest, last) = (header.length, header.last);
                    head.clear();
                }
            }
            if last && rest == 0 && head.is_empty() {
                return Ok(bytes);
            }
        }
    };
    exchange(Kind::Prelogin, &Prelogin { encryption: Encryption::NotSupported, instance: "", token: false }.written())?;
    let login = Login {
        who: Who::Password { user: "clerk", password: PASSWORD },
        machine: "",
        program: "bench",
        server: "",
        database: "bookings",
        packet: 16_000,
        reads: false,
        tls_first: false,
    };
    exchange(Kind::Login, &login.written())?;
    let begun = Instant::now();
    let mut batch = vec![22, 0, 0, 0, 18, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0];
    batch.extend(statement.encode_utf16().flat_map(u16::to_le_bytes));
    let bytes = exchange(Kind::Batch, &batch)?;
    Ok((bytes, begun.elapsed()))
}

fn options() -> Options {
    Options { password: PASSWORD.into(), database: "bookings".into(), ..Options::default() }
}

fn sqlserver(rows: u64) -> Outcome {
    let server = Server::start(options())?;
    println!("\nSQL Server's stand-in: {rows} rows into the archive ÷ the least loop over its packets");
    let profile = profile("sqlserver", server.port());
    let engine = jaunty_engines::by_name("sqlserver").ok_or("no such engine")?;
    let mut session = open(engine, &profile, Some(&Secret::new(PASSWORD.into())))?;
    let fill = format!(
        "create table t (id int primary key, name nvarchar(40), amount decimal(10,2), ts datetime2(0), ok bit) \
         insert into t select i, 'row-' + cast(1000000000000000 + i as nvarchar(20)), i % 100000 / 100.0, '2031-01-01 12:00:00', i % 2 \
         from (select top ({rows}) a.id + b.id * 1000 as i from (select id from n) a cross join (select id from n) b) x"
    );
    let numbers = "create table n (id int) ;with c(i) as (select 0 union all select i + 1 from c where i < 999) insert into n select i from c";
    for statement in [numbers, &fill] {
        session.run(&Request::new(statement), Box::new(FirstPage(Arc::default(), channel().0)))?;
    }
    ratio(0.8, || bare_tds(server.port(), "select * from t"), || ours(&profile, "select * from t", rows))?;
    let (send, arrived) = channel();
    let begun = Instant::now();
    let _ = session.run(&Request::new("select * from t"), Box::new(FirstPage(Arc::default(), send)));
    println!(
        "  the first 100 rows are there after {:.1} ms",
        arrived.recv()?.duration_since(begun).as_secs_f64() * 1e3
    );
    println!("  peak memory of the whole measurement, the server's among it: {:.1} MB", peak_memory());
    Ok(())
}

/// The least that a client can do: it reads the messages of a cursor to the last one, and looks at nothing in them but
/// the number of the cursor.
fn bare_documents(port: u16) -> Outcome<(u64, Duration)> {
    use std::io::{Read, Write};
    let mut stream = std::net::TcpStream::connect(("127.0.0.1", port))?;
    let pair = |name: &str, value: Bson| (name.to_owned(), value);
    let mut message = Vec::new();
    let mut exchange = |fields: &[(String, Bson)]| -> Outcome<(i64, u64)> {
        stream.write_all(&command(1, fields))?;
        let mut head = [0; message::HEADER];
        stream.read_exact(&mut head)?;
        let length = message::Header::read(head)?.length - message::HEADER;
        message.resize(length, 0);
        stream.read_exact(&mut message)?;
        let id = match message::reply(&message)?.get("cursor") {
            Some(Element::Document(cursor)) => cursor.get("id"),
            _ => None,
        };
        Ok((if let Some(Element::Int64(id)) = id { id } else { 0 }, length as u64))
    };
    exchange(&[pair("hello", Bson::Int32(1)), pair("$db", Bson::text("admin"))])?;
    let begun = Instant::now();
    let (mut id, mut bytes) = exchange(&[pair("find", Bson::text("t")), pair("$db", Bson::text("bookings"))])?;
    while id != 0 {
        let more = [
            pair("getMore", Bson::Int64(id)),
            pair("collection", Bson::text("t")),
            pair("$db", Bson::text("bookings")),
        ];
        let (next, part) = exchange(&more)?;
        (id, bytes) = (next, bytes + part);
    }
    Ok((bytes, begun.elapsed()))
}

fn documents(rows: u64) -> Outcome {
    let folder = tempfile::tempdir()?;
    let mut lines = String::new();
    for i in 0..rows {
        let (port, taken, late) = (i % 12, i % 100_000, i % 3 == 0);
        lines.push_str(&format!(
            "{{\"_id\": {i}, \"name\": \"row-{i:016}\", \"port\": {{\"code\": \"P{port}\", \"berths\": {port}}}, \"taken\": {{\"$numberDecimal\": \"{taken}.25\"}}, \"at\": {{\"$date\": {}}}, \"late\": {late}, \"tags\": [\"a\", {port}]}}\n",
            1_930_000_000_000 + i * 1000
        ));
    }
    std::fs::write(folder.path().join("t.jsonl"), lines)?;
    let data = Some(folder.path().to_owned());
    let server = jaunty_standins::documents::Server::start(jaunty_standins::documents::Options {
        data,
        database: "bookings".into(),
        ..jaunty_standins::documents::Options::default()
    })?;
    println!(
        "\nThe stand-in of document databases: {rows} documents into the archive ÷ the least loop over its messages"
    );
    let mut profile = Profile::new("bench", "mongodb").with("database", "bookings").with("tls", "off");
    profile.settings.insert("port".into(), Setting::Number(i64::from(server.port())));
    println!("  memory before: {:.1} MB, most of it the server's documents", peak_memory());
    ratio(0.8, || bare_documents(server.port()), || ours(&profile, "t", rows))?;
    let engine = jaunty_engines::by_name("mongodb").ok_or("no such engine")?;
    let mut session = open(engine, &profile, None)?;
    let (send, arrived) = channel();
    let begun = Instant::now();
    let _ = session.run(&Request::new("t"), Box::new(FirstPage(Arc::default(), send)));
    println!(
        "  the first 100 documents are there after {:.1} ms",
        arrived.recv()?.duration_since(begun).as_secs_f64() * 1e3
    );
    println!("  peak memory of the whole measurement: {:.1} MB", peak_memory());
    Ok(())
}

/// What this program is called with to be a server of its own.
const STAND_IN: &str = "stand-in";

/// Is a server until its standard input ends, and says its port.
fn stand_in() -> Outcome {
    let server = Server::start(options())?;
    println!("{}", server.port());
    std::io::copy(&mut std::io::stdin(), &mut std::io::sink())?;
    Ok(())
}

/// A process of this program that is a server; it ends with this.
struct Process(Child);

impl Process {
    fn start() -> Outcome<(Process, u16)> {
        let mut child = Command::new(std::env::current_exe()?)
            .arg(STAND_IN)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let mut line = String::new();
        BufReader::new(child.stdout.take().ok_or("no output")?).read_line(&mut line)?;
        Ok((Process(child), line.trim().parse()?))
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        drop(self.0.stdin.take());
        let _ = self.0.wait();
    }
}

/// One long value into the archive: the most memory that the program has for it. The servers are other processes.
fn long() -> Outcome {
    let mib = 200_u64;
    let length = mib << 20;
    println!(
        "\nOne value of {mib} MiB into the archive: the most memory ÷ the value as it is sent (wanted: at most 1.2)"
    );
    let postgres = Postgres::start();
    let mariadb = Mariadb::start();
    mariadb.sql(&format!("set global max_allowed_packet = {}", length + (1 << 20)));
    let (_tds, port) = Process::start()?;
    for (name, profile, what, statement, sent) in [
        ("PostgreSQL", profile("postgres", postgres.port), "text", format!("select repeat('q', {length})"), length),
        (
            "PostgreSQL",
            profile("postgres", postgres.port),
            "bytes",
            format!("select decode(repeat('fa', {length}), 'hex')"),
            length,
        ),
        ("MariaDB", profile("mysql", mariadb.port), "text", format!("select repeat('q', {length})"), length),
        ("SQL Server", profile("sqlserver", port), "text", format!("select replicate(N'q', {length})"), 2 * length),
    ] {
        // The kernel forgets the most that there was.
        std::fs::write("/proc/self/clear_refs", "5")?;
        let before = peak_memory();
        let took = ours(&profile, &statement, 1)?;
        let ratio = (peak_memory() - before) * f64::from(1 << 20) / sent as f64;
        println!("  {name}, {what}: {ratio:.2} ({:.1} s)", took.as_secs_f64());
    }
    Ok(())
}

/// From the wish to stop to a session that takes the next statement, on every engine: while rows
/// come as fast as they can, and while the server is silent.
fn stops() -> Outcome {
    println!("\nFrom the wish to stop until the session is free again (wanted: less than a second)");
    let (postgres, mariadb, redis) = (Postgres::start(), Mariadb::start(), Redis::start());
    let file = tempfile::NamedTempFile::new()?;
    let numbers = "with recursive n(i) as (select 1 union all select i + 1 from n) select";
    let rows = format!("{numbers} i from n");
    let silent = format!("{numbers} max(i) from n");
    for (profile, statements) in [
        (Profile::new("bench", "sqlite").with("path", file.path().to_string_lossy()), [&*rows, &*silent]),
        (profile("postgres", postgres.port), ["select generate_series(1, 1000000000)", "select pg_sleep(60)"]),
        (profile("mysql", mariadb.port), ["select seq from seq_1_to_1000000000", "select sleep(60)"]),
        (profile("redis", redis.port).with("database", "0").with("user", "default"), ["monitor", "blpop nothing 60"]),
    ] {
        let engine = jaunty_engines::by_name(&profile.engine).ok_or("no such engine")?;
        let session = open(engine, &profile, Some(&Secret::new(PASSWORD.into())))?;
        let location = session.location();
        drop(session);
        for statement in statements {
            let folder = tempfile::tempdir()?;
            let keeping = Keeping::open(&Folders::below(folder.path()), Retention::default());
            let (send, reports) = channel();
            let desk = ConnectionWorker::open(
                engine,
                profile.clone(),
                Some(Secret::new(PASSWORD.into())),
                keeping,
                move |report| {
                    let _ = send.send(report);
                },
            )?;
            let mut times = Times::default();
            for _ in 0..5 {
                desk.ask(Order::Run(vec![Job { statement: statement.to_owned(), ..Job::default() }]));
                while !matches!(reports.recv()?, Report::Run(_)) {}
                std::thread::sleep(Duration::from_millis(500));
                let begun = Instant::now();
                desk.stop();
                while !matches!(reports.recv()?, Report::Idle { .. }) {}
                times.push(begun.elapsed());
            }
            println!("  {}, {statement}: {}", location.server, times.summary());
        }
    }
    Ok(())
}
