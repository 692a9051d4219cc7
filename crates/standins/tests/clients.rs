//! The stand-in of SQL Server is what it says: two clients that nobody here wrote speak to it, in both ways of TLS and
//! without.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

use std::path::Path;
use std::process::Command;

use jaunty_standins::tds::{Options, Server, Tls};
use jaunty_testservers::Certificates;

/// The Python that `scripts/test` sets up, with the clients in it.
fn python() -> std::path::PathBuf {
    let python = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/python/bin/python");
    assert!(python.exists(), "{} is missing: scripts/test sets it up", python.display());
    python
}

/// What a script prints that is given the port and the authority's certificate.
fn printed(script: &str) -> String {
    let folder = tempfile::tempdir().unwrap();
    let certificates = Certificates::make(folder.path(), "root");
    let tls = Some(Tls { cert: certificates.cert, key: certificates.key });
    let server = Server::start(Options { tls, ..Options::default() }).unwrap();
    let plain = Server::start(Options::default()).unwrap();
    let file = folder.path().join("client.py");
    std::fs::write(&file, script).unwrap();
    let arguments = [server.port().to_string(), plain.port().to_string(), certificates.ca.display().to_string()];
    let done = Command::new(python()).arg(&file).args(arguments).output().unwrap();
    let (out, error) = (String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    assert!(done.status.success(), "{out}\n{error}");
    out.into_owned()
}

const WAYS_OF_DBLIB: &str = r#"
import sys, pymssql
safe, plain = int(sys.argv[1]), int(sys.argv[2])
def connect(port, **more):
    return pymssql.connect(server='127.0.0.1', port=port, user='clerk', password='salt and fog', database='ferry', tds_version='7.4', **more)
for name, port, more in (('safe', safe, {}), ('plain', plain, {}), ('all encrypted', safe, {'encryption': 'require'}), ('off', plain, {'encryption': 'off'})):
    with connect(port, **more) as c, c.cursor() as u:
        u.execute('select db_name(), @@spid - @@spid, @@trancount')
        print(name, u.fetchall())
with connect(safe) as c, c.cursor() as u:
    u.execute("create table #t (id int, name nvarchar(20), price decimal(8,2)); insert into #t values (1, N'Gull', 1.5), (2, N'港', null)")
    u.execute('select id, name, price from #t where id < %d and name <> %s order by id', (5, 'x'))
    print(u.fetchall(), [d[0] for d in u.description])
    u.execute("print 'ebb' select 1 as a select 2 as b")
    print(u.fetchall(), u.nextset(), u.fetchall())
    u.execute("select cast('12345678901234567890.12' as decimal(22,2)), cast('2031-03-05' as date), cast('2031-03-05 12:30:00.1234567' as datetime2), cast('-1.5' as money), cast(0xcafe as varbinary(4)), cast('00112233-4455-6677-8899-aabbccddeeff' as uniqueidentifier), cast(1 as bit), cast(replicate('ab', 20000) as varchar(max))")
    row = u.fetchone()
    print(row[:7], len(row[7]))
    for wrong in ('select nope from #t', 'selec 1', "raiserror('fog', 16, 1)", 'exec nobody'):
        try:
            u.execute(wrong)
        except pymssql.Error as error:
            print(error.args[0], error.args[1].split(b'DB-Lib')[0].decode())
    u.execute("create or alter procedure doubled @n int as select @n * 2 as twice")
    u.callproc('doubled', (21,))
    print(u.fetchall())
    c.rollback()
"#;

#[test]
fn a_client_of_dblib() {
    insta::assert_snapshot!(printed(WAYS_OF_DBLIB), @r"
    safe [('ferry', 0, 1)]
    plain [('ferry', 0, 1)]
    all encrypted [('ferry', 0, 1)]
    off [('ferry', 0, 1)]
    [(1, 'Gull', Decimal('1.50')), (2, '港', None)] ['id', 'name', 'price']
    [(1,)] 1 [(2,)]
    (Decimal('12345678901234567890.12'), datetime.date(2031, 3, 5), datetime.datetime(2031, 3, 5, 12, 30, 0, 123456), Decimal('-1.5000'), b'\xca\xfe', UUID('00112233-4455-6677-8899-aabbccddeeff'), True) 40000
    207 Invalid column name 'nope'.
    2812 Could not find stored procedure 'selec'.
    50000 fog
    2812 Could not find stored procedure 'nobody'.
    [(42,)]
    ");
}

const WAYS_OF_PYTDS: &str = r#"
import sys, pytds
safe, plain, ca = int(sys.argv[1]), int(sys.argv[2]), sys.argv[3]
def connect(port, **more):
    return pytds.connect(dsn='localhost', port=port, user='clerk', password='salt and fog', database='ferry', **more)
for name, port, more in (('safe', safe, {'cafile': ca, 'validate_host': True}), ('plain', plain, {})):
    with connect(port, **more) as c, c.cursor() as u:
        u.execute('select 1 as a union all select 2')
        print(name, u.fetchall(), c.tds_version)
with connect(plain) as c, c.cursor() as u:
    u.execute('select %s, %s, %s, %s', (7, 'é', None, 1.5))
    print(u.fetchall())
    u.execute("select cast('12:30:00.5' as time(1)), cast('2031-03-05 12:30:00 +01:30' as datetimeoffset(0)), cast(N'<quay/>' as xml), cast('x' as sql_variant), cast(5 as sql_variant), cast('old' as ntext)")
    row = u.fetchone()
    print(row[0], row[1].utcoffset(), row[2:])
    u.execute('create table kept (id int)')
    c.commit()
    u.execute('insert into kept values (1)')
    c.rollback()
    u.execute('select count(*) from kept')
    print(u.fetchall())
    for wrong in ({'password': 'no'}, {'database': 'nowhere'}):
        try:
            pytds.connect(dsn='localhost', port=plain, **{**dict(user='clerk', password='salt and fog', database='ferry'), **wrong})
        except pytds.Error as error:
            print(type(error).__name__, error)
"#;

#[test]
fn a_client_in_python_alone() {
    insta::assert_snapshot!(printed(WAYS_OF_PYTDS), @r#"
    safe [(1,), (2,)] 1946157060
    plain [(1,), (2,)] 1946157060
    [(7, 'é', None, 1.5)]
    12:30:00.500000 1:30:00 ('<quay/>', 'x', 5, 'old')
    [(0,)]
    OperationalError ("Login failed for user 'clerk'.", None)
    OperationalError ('Cannot open database "nowhere" requested by the login. The login failed. Login failed for user \'clerk\'.', None)
    "#);
}
