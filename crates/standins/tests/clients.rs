//! The stand-ins are what they say: clients that nobody here wrote speak to them, in both ways of TLS and
//! without.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

use std::path::Path;
use std::process::Command;

use jaunty_standins::documents;
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

const ROWS_OF_BOTH: &str = r#"
import sys, datetime, decimal, uuid, pymssql, pytds, io
from pytds.tds_base import Column
from pytds.tds_types import *
plain = int(sys.argv[2])
made = """create table {} (id int not null primary key, name nvarchar(20) not null default 'quay', price decimal(8,2), at datetime2(3), day date,
    big bigint, share float, sure bit, note nvarchar(max), raw varbinary(8), old datetime, mark uniqueidentifier, check (id > 0))"""
def shown(u, table):
    u.execute(f'select id, name, price, at, day, big, share, sure, note, raw, old, mark from {table} order by id')
    for row in u.fetchall():
        print(*(len(v) if isinstance(v, str) and len(v) > 100 else v for v in row), sep=' | ')
when = datetime.datetime(2031, 3, 5, 12, 30, 0, 250000)
mark = uuid.UUID('00112233-4455-6677-8899-aabbccddeeff')
with pymssql.connect(server='127.0.0.1', port=plain, user='clerk', password='salt and fog', database='ferry', tds_version='7.4', autocommit=True) as c, c.cursor() as u:
    u.execute(made.format('by_dblib'))
    c.bulk_copy('by_dblib', [
        (1, 'Gull', decimal.Decimal('1.25'), when, when, 2**40, 0.5, True, 'x' * 9000, b'\xca\xfe', when, str(mark)),
        (2, 'Tern', decimal.Decimal('-3.50'), None, None, None, None, False, None, None, None, None)], check_constraints=True)
    shown(u, 'by_dblib')
    for wrong in ([(1, 'again') + (None,) * 10], [(-1, 'below') + (None,) * 10]):
        try:
            c.bulk_copy('by_dblib', wrong, check_constraints=True)
        except pymssql._mssql.MSSQLDatabaseException as error:
            number, text = error.args[0]
            print(number, text.split(b'DB-Lib')[0].decode())
    u.execute('select count(*) from by_dblib')
    print(u.fetchall())
with pytds.connect(dsn='localhost', port=plain, user='clerk', password='salt and fog', database='ferry', autocommit=True) as c, c.cursor() as u:
    u.execute(made.format('by_python'))
    types = dict(id=IntType(), name=NVarCharType(size=20), price=DecimalType(scale=2, precision=8), at=DateTime2Type(precision=3), day=DateType(), big=BigIntType(),
        share=FloatType(), sure=BitType(), note=NVarCharMaxType(), raw=VarBinaryType(size=8), old=DateTimeType(), mark=UniqueIdentifierType())
    u.copy_to(table_or_view='by_python', columns=[Column(name, type=t) for name, t in types.items()], check_constraints=True, data=[
        (1, 'Gull', decimal.Decimal('1.25'), when, datetime.date(2031, 3, 5), 2**40, 0.5, True, 'x' * 9000, b'\xca\xfe', when, mark),
        (2, None, decimal.Decimal('-3.50')) + (None,) * 9])
    # All as text: the server makes of it what its columns hold.
    u.copy_to(file=io.StringIO('3,Tern,2.5\n4,港,\n'), sep=',', table_or_view='by_python', columns=['id', 'name', 'price'], null_string='', keep_nulls=True)
    shown(u, 'by_python')
    for wrong in ('x,Tern,1\n', '5,' + 'n' * 21 + ',1\n', '6,Tern,one\n'):
        try:
            u.copy_to(file=io.StringIO(wrong), sep=',', table_or_view='by_python', columns=['id', 'name', 'price'])
        except pytds.Error as error:
            print(error.msg_no, error.text)
    try:
        u.copy_to(file=io.StringIO('1\n'), table_or_view='nowhere', columns=['id'])
    except pytds.Error as error:
        print(error.msg_no, error.text)
    u.execute('select count(*) from by_python')
    print(u.fetchall())
"#;

#[test]
fn rows_that_clients_send_at_once() {
    insta::assert_snapshot!(printed(ROWS_OF_BOTH));
}

/// What a script prints that is given the ports of stand-ins of document databases: one that lets everybody in, one with
/// TLS and logins, and those of a replica set; and the authority's certificate.
fn of_documents(script: &str) -> (String, [documents::Server; 3]) {
    let folder = tempfile::tempdir().unwrap();
    let certificates = Certificates::make(folder.path(), "root");
    let tls = Some(Tls { cert: certificates.cert.clone(), key: certificates.key.clone() });
    let mut mechanisms = documents::Options::default().mechanisms;
    mechanisms.push("PLAIN".into());
    let login = Some(("clerk".to_owned(), "salt and fog".to_owned()));
    let client_ca = Some(certificates.ca.clone());
    let options = documents::Options { tls, login, mechanisms, client_ca, ..documents::Options::default() };
    let set = Some(("fleet".to_owned(), 3));
    let servers = [
        documents::Server::start(documents::Options::default()).unwrap(),
        documents::Server::start(options).unwrap(),
        documents::Server::start(documents::Options { replica_set: set, ..documents::Options::default() }).unwrap(),
    ];
    let file = folder.path().join("client.py");
    std::fs::write(&file, script).unwrap();
    let pem = folder.path().join("both.pem");
    let both = [&certificates.cert, &certificates.key].map(|file| std::fs::read_to_string(file).unwrap()).concat();
    std::fs::write(&pem, both).unwrap();
    let mut arguments = vec![servers[0].port().to_string(), servers[1].port().to_string()];
    arguments.push(servers[2].ports().iter().map(|port| format!("127.0.0.1:{port}")).collect::<Vec<_>>().join(","));
    arguments.extend([certificates.ca.display().to_string(), pem.display().to_string()]);
    let done = Command::new(python()).arg(&file).args(arguments).output().unwrap();
    let (out, error) = (String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    assert!(done.status.success(), "{out}\n{error}");
    (out.into_owned(), servers)
}

const WAYS_OF_DOCUMENTS: &str = r#"
import sys, datetime, threading, time, pymongo
from bson import *
from bson.decimal128 import Decimal128
open_, safe, fleet, ca, pem = int(sys.argv[1]), int(sys.argv[2]), sys.argv[3], sys.argv[4], sys.argv[5]
def connect(port, **more):
    return pymongo.MongoClient('127.0.0.1', port, serverSelectionTimeoutMS=4000, **more)
c = connect(open_)
d = c.ferry
when = datetime.datetime(2031, 3, 5, 12, 0)
d.things.insert_one({'_id': ObjectId('65f0c0ffee65f0c0ffee65f0'), 'a': 1, 'b': Int64(2), 'c': 1.5, 'd': Decimal128('12.50'), 'e': when,
    'f': b'\x00\x01', 'g': Regex('^x', 'i'), 'h': Timestamp(5, 6), 'i': None, 'j': [1, {'k': True}], 'l': MinKey(), 'm': MaxKey(), 'n': Code('x')})
print(d.things.find_one())
d.sailings.insert_many([{'_id': i, 'port': {'code': f'P{i % 3}'}, 'delay': i % 7, 'tags': ['a', 'b'][: i % 3], 'at': when + datetime.timedelta(days=i)} for i in range(300)])
s = d.sailings
print(s.count_documents({'delay': {'$gt': 3}}), len(list(s.find({'port.code': 'P1'}, batch_size=7))), s.distinct('tags'))
print(list(s.find({'tags': 'b', 'delay': {'$in': [1, 2]}}, {'delay': 1, 'port': 1}).sort([('delay', -1), ('_id', 1)]).skip(1).limit(2)))
print(list(s.aggregate([{'$match': {'delay': {'$gte': 2}}}, {'$group': {'_id': '$port.code', 'n': {'$sum': 1}, 'mean': {'$avg': '$delay'}, 'worst': {'$max': '$delay'}}}, {'$sort': {'_id': 1}}])))
print(list(s.aggregate([{'$limit': 2}, {'$project': {'month': {'$month': '$at'}, 'text': {'$concat': ['$port.code', '-', {'$toString': '$delay'}]}, 'day': {'$dateToString': {'date': '$at', 'format': '%Y-%m-%d'}}}}])))
d.ports.insert_many([{'_id': f'P{i}', 'name': f'port {i}', 'place': {'type': 'Point', 'coordinates': [i / 10, 51]}} for i in range(3)])
print(list(s.aggregate([{'$limit': 1}, {'$lookup': {'from': 'ports', 'localField': 'port.code', 'foreignField': '_id', 'as': 'port'}}, {'$unwind': '$port'}, {'$project': {'port.name': 1}}])))
print(list(s.aggregate([{'$facet': {'n': [{'$count': 'all'}], 'tags': [{'$unwind': '$tags'}, {'$sortByCount': '$tags'}]}}])))
def refused(what):
    try:
        print(what())
    except pymongo.errors.PyMongoError as error:
        print(type(error).__name__, getattr(error, 'code', None), str(getattr(error, 'details', None) and error.details.get('errmsg') or error)[:90])
near = {'place': {'$near': {'$geometry': {'type': 'Point', 'coordinates': [0.2, 51]}, '$maxDistance': 8000}}}
refused(lambda: list(d.ports.find(near)))
d.ports.create_index([('place', '2dsphere')])
print([p['_id'] for p in d.ports.find(near)], [(p['_id'], round(p['m'])) for p in d.ports.aggregate([{'$geoNear': {'near': {'type': 'Point', 'coordinates': [0, 51]}, 'distanceField': 'm'}}])])
refused(lambda: list(d.ports.find({'$text': {'$search': 'port'}})))
d.ports.create_index([('name', 'text')])
print([(p['_id'], p['s']) for p in d.ports.find({'$text': {'$search': 'port 1'}}, {'s': {'$meta': 'textScore'}}).sort([('s', {'$meta': 'textScore'})])])
s.create_index('delay')
plan = s.find({'delay': 3}).explain()
print(plan['queryPlanner']['winningPlan']['inputStage']['stage'], plan['executionStats']['totalDocsExamined'], plan['executionStats']['nReturned'])
d.ports.create_index('name', unique=True)
refused(lambda: d.ports.insert_one({'name': 'port 1'}))
refused(lambda: list(s.aggregate([{'$nonsense': {}}])))
refused(lambda: list(s.find({'a': {'$nonsense': 1}})))
print(s.update_many({'delay': 1}, {'$set': {'port.late': True}, '$inc': {'delay': 10}, '$push': {'tags': {'$each': ['x', 'y'], '$slice': -1}}}).modified_count, s.find_one({'_id': 1}))
print(s.update_one({'_id': 'new', 'a.b': 2}, {'$setOnInsert': {'made': 1}}, upsert=True).upserted_id, s.find_one({'_id': 'new'}))
print(s.find_one_and_update({'_id': 2}, [{'$set': {'twice': {'$multiply': ['$delay', 2]}}}], return_document=True)['twice'], s.delete_many({'port.code': 'P2'}).deleted_count)
refused(lambda: s.replace_one({'_id': 3}, {'_id': 4}))
list(s.aggregate([{'$group': {'_id': '$port.code', 'n': {'$sum': 1}}}, {'$merge': {'into': 'totals'}}]))
print(list(d.totals.find().sort('_id')))
d.create_collection('checked', validator={'$jsonSchema': {'required': ['n'], 'properties': {'n': {'bsonType': 'int', 'minimum': 1}}}})
refused(lambda: d.checked.insert_one({'n': 0}))
d.create_collection('late', viewOn='sailings', pipeline=[{'$match': {'delay': {'$gt': 10}}}])
print(d.late.count_documents({}), sorted((o['name'], o['type']) for o in d.list_collections()))
print(sorted(i['name'] for i in d.ports.list_indexes()), c.list_database_names())
# What is slow ends by killOp.
c.admin.command({'configureFailPoint': 'failCommand', 'mode': {'times': 1}, 'data': {'failCommands': ['find'], 'blockConnection': True, 'blockTimeMS': 60000}})
def end():
    while True:
        running = [op for op in c.admin.command('currentOp')['inprog'] if 'find' in op['command']]
        if running:
            return c.admin.command('killOp', op=running[0]['opid'])
        time.sleep(0.01)
t = threading.Thread(target=end); t.start()
refused(lambda: list(s.find())); t.join()
cursor = s.find(batch_size=2); next(cursor); c.ferry.command('killCursors', 'sailings', cursors=[cursor.cursor_id])
refused(lambda: list(cursor))
# Logins, certificates, compression.
for more in ({'authMechanism': 'SCRAM-SHA-256'}, {'authMechanism': 'SCRAM-SHA-1'}, {'authMechanism': 'PLAIN', 'authSource': '$external'}, {}):
    print(more, connect(safe, tls=True, tlsCAFile=ca, username='clerk', password='salt and fog', **more).ferry.things.count_documents({}))
print(connect(safe, tls=True, tlsCAFile=ca, tlsCertificateKeyFile=pem, authMechanism='MONGODB-X509').ferry.things.count_documents({}))
refused(lambda: connect(safe, tls=True, tlsCAFile=ca, username='clerk', password='fog').ferry.things.find_one())
refused(lambda: connect(safe, tls=True, tlsCAFile=ca).ferry.things.find_one())
print('zlib', len(list(connect(open_, compressors='zlib').ferry.sailings.find())))
# A replica set whose primary steps down.
r = pymongo.MongoClient(fleet.split(','), replicaSet='fleet', serverSelectionTimeoutMS=8000)
r.ferry.kept.insert_one({'_id': 1})
before = r.primary
r.admin.command('replSetStepDown', 60)
refused(lambda: pymongo.MongoClient(*before, directConnection=True).ferry.kept.insert_one({'_id': 2}))
r.ferry.kept.insert_one({'_id': 3})
print(r.primary != before, sorted(one['_id'] for one in r.ferry.kept.find()))
"#;

#[test]
fn a_client_of_documents() {
    let (out, servers) = of_documents(WAYS_OF_DOCUMENTS);
    assert!(servers[0].compressed() > 0, "messages came compressed");
    insta::assert_snapshot!(out);
}
