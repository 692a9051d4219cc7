//! Shapes: what servers read as well-known text themselves is what is shown of them, and what is written goes back to them
//! with every bit.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::sync::Arc;

use arrow_array::{Int32Array, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};
use jaunty_core::arrange::condition::{Condition, Test};
use jaunty_core::arrange::statement::{StatementError, statement};
use jaunty_core::arrange::{Order, Wanted};
use jaunty_core::connection::open;
use jaunty_core::export::file::write_batches;
use jaunty_core::export::{Format, Options};
use jaunty_engines::by_name;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting};
use jaunty_seam::engine::{Session, Stop};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use support::run;

/// Those of the standard that both servers have, as they are shown.
const SHAPES: &[&str] = &[
    "POINT (1 2)",
    "SRID=4326;POINT (-0.25 51.5)",
    "POINT (0.30000000000000004 -1e-300)",
    "LINESTRING (0 0, 1 1, 1e300 -123456.789)",
    "SRID=3857;POLYGON ((0 0, 3 0, 0 3, 0 0), (1 1, 1.5 1, 1 1.5, 1 1))",
    "MULTIPOINT ((1 2), (3 4))",
    "MULTILINESTRING ((0 0, 1 1), (2 2, 3 3, 4 5))",
    "MULTIPOLYGON (((0 0, 3 0, 0 3, 0 0)), ((5 5, 6 5, 5 6, 5 5)))",
    "GEOMETRYCOLLECTION (POINT (1 2), LINESTRING (0 0, 1 1))",
];

/// What only PostGIS has: heights, measures, curves, surfaces, and nothing at all.
const MORE: &[&str] = &[
    "SRID=4326;POINT EMPTY",
    "LINESTRING EMPTY",
    "POINT Z (1 2 3)",
    "POINT M (1 2 3)",
    "SRID=4326;LINESTRING ZM (0 0 1 2, 1 1 3 4)",
    "GEOMETRYCOLLECTION Z (POINT Z (1 2 3), LINESTRING Z (0 0 0, 1 1 1))",
    "MULTIPOINT (EMPTY, (1 2))",
    "CIRCULARSTRING (0 0, 1 1, 2 0)",
    "COMPOUNDCURVE ((0 0, 1 0), CIRCULARSTRING (1 0, 2 1, 3 0))",
    "CURVEPOLYGON (CIRCULARSTRING (0 0, 4 0, 4 4, 0 4, 0 0), (1 1, 3 3, 3 1, 1 1))",
    "MULTICURVE ((0 0, 5 5), CIRCULARSTRING (4 0, 4 4, 8 4))",
    "MULTISURFACE (CURVEPOLYGON (CIRCULARSTRING (0 0, 4 0, 4 4, 0 4, 0 0)), ((7 8, 10 10, 6 14, 7 8)))",
    "POLYHEDRALSURFACE Z (((0 0 0, 0 0 1, 0 1 1, 0 1 0, 0 0 0)), ((0 0 0, 0 1 0, 1 1 0, 1 0 0, 0 0 0)))",
    "TIN Z (((0 0 0, 0 0 1, 0 1 0, 0 0 0)), ((0 0 0, 0 1 0, 1 1 0, 0 0 0)))",
    "TRIANGLE ((0 0, 0 9, 9 0, 0 0))",
];

struct Subject {
    engine: &'static str,
    session: Box<dyn Session>,
    /// An expression for all bits of the column `g`.
    bits: &'static str,
    shapes: Vec<&'static str>,
}

impl Subject {
    fn new(engine: &'static str, port: u16, bits: &'static str, shapes: Vec<&'static str>) -> Subject {
        let mut profile =
            Profile::new("quay", engine).with("host", "127.0.0.1").with("tls", "off").with("user", "clerk");
        profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
        let profile = profile.with("database", "bookings");
        let session = open(by_name(engine).unwrap(), &profile, Some(&Secret::new(PASSWORD.into()))).unwrap();
        Subject { engine, session, bits, shapes }
    }

    fn run(&mut self, statement: &str) -> Vec<Vec<String>> {
        run(self.session.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}\n{error}")).rows()
    }

    /// The texts and the bits of a table of shapes.
    fn all(&mut self, table: &str) -> [Vec<String>; 2] {
        let bits = self.bits;
        [format!("select g from {table} order by id"), format!("select {bits} from {table} order by id")]
            .map(|query| self.run(&query).concat())
    }

    /// A table with these shapes, which the server reads from text itself.
    fn keep(&mut self, from_text: impl Fn(&str, &str) -> String) {
        for table in ["kept", "again", "loaded", "replaced"] {
            self.run(&format!("create table {table} (id int primary key, g geometry)"));
        }
        for (id, shape) in self.shapes.clone().into_iter().enumerate() {
            let (srid, text) =
                shape.strip_prefix("SRID=").and_then(|rest| rest.split_once(';')).unwrap_or(("0", shape));
            self.run(&format!("insert into kept values ({id}, {})", from_text(text, srid)));
        }
        self.run(&format!("insert into kept values ({}, null)", self.shapes.len()));
    }

    /// Everything that writes them.
    fn written_back(&mut self) {
        let [texts, bits] = self.all("kept");
        let mut wanted: Vec<String> = self.shapes.iter().map(|shape| (*shape).to_owned()).collect();
        wanted.push("∅".to_owned());
        assert_eq!(texts, wanted, "{}", self.engine);
        // As statements.
        let dialect = by_name(self.engine).unwrap().dialect();
        let found = run(self.session.as_mut(), "select id, g from kept order by id").unwrap();
        let batches = found.seen.lock().unwrap().batches.clone();
        let options = Options { dialect, table: Some("again".into()), ..Options::default() };
        let mut script = Vec::new();
        write_batches(&batches[0].schema(), &batches, (Format::Insert, &options), &mut script).unwrap();
        self.run(String::from_utf8(script).unwrap().trim_end().trim_end_matches(';'));
        assert_eq!(self.all("again")[1], bits, "{}: by statements", self.engine);
        // By the bulk way, and by statements where rows are replaced.
        let column = |name: &str, db_type: &str| Column {
            name: name.into(),
            db_type: db_type.into(),
            nullable: true,
            ..Column::default()
        };
        let (columns, key) = ([column("id", "int"), column("g", "geometry")], ["id".to_owned()]);
        let ids = Int32Array::from_iter_values(0..texts.len() as i32);
        let shapes = StringArray::from_iter(texts.iter().map(|text| Some(text).filter(|text| *text != "∅")));
        let fields = vec![Field::new("id", DataType::Int32, false), Field::new("g", DataType::Utf8, true)];
        let batch = RecordBatch::try_new(Arc::new(Schema::new(fields)), vec![Arc::new(ids), Arc::new(shapes)]).unwrap();
        for (table, meeting) in [("loaded", Meeting::Refuse), ("replaced", Meeting::Replace)] {
            let load = Load { table, columns: &columns, key: &key, meeting, dialect, stop: Stop::default() };
            let mut once = Some(batch.clone());
            self.session.load(&load, &mut || Ok(once.take())).unwrap();
            assert_eq!(self.all(table)[1], bits, "{}: {table}", self.engine);
        }
        // What the server is asked for is what is shown.
        let schema = batches[0].schema();
        for (id, shape) in self.shapes.clone().into_iter().enumerate().filter(|(_, shape)| !shape.ends_with("EMPTY")) {
            let test = Test::read(&format!("= \"{shape}\""), schema.field(1)).unwrap();
            let wanted = Wanted { conditions: vec![Condition { column: 1, test }], ..Wanted::default() };
            let query = statement(&wanted, "select id, g from kept", &schema, dialect).unwrap();
            let found = self.run(&query).into_iter().map(|row| row[0].clone()).collect::<Vec<_>>();
            assert_eq!(found, [id.to_string()], "{}: {query}", self.engine);
        }
        let sorted = Wanted { order: vec![Order { column: 1, descending: false }], ..Wanted::default() };
        let searched = Wanted { search: "poi".into(), ..Wanted::default() };
        for wanted in [sorted, searched] {
            let refused = statement(&wanted, "select id, g from kept", &schema, dialect).unwrap_err();
            assert_eq!(refused, StatementError::Shape("g".into()), "{}", self.engine);
        }
    }
}

#[test]
fn shapes_of_mariadb() {
    let server = Mariadb::start();
    let mut of = Subject::new("mysql", server.port, "hex(g)", SHAPES.to_vec());
    // It reads several points in the older way of writing them alone.
    of.keep(|text, srid| format!("st_geomfromtext('{}', {srid})", text.replace("((1 2), (3 4))", "(1 2, 3 4)")));
    of.written_back();
    of.run("insert into kept values (100, st_geomfromtext('GEOMETRYCOLLECTION EMPTY'))");
    assert_eq!(of.run("select g from kept where id = 100"), [["GEOMETRYCOLLECTION EMPTY"]]);
}

#[test]
fn shapes_of_postgis() {
    let server = Postgres::start();
    server.sql("create extension postgis");
    let all = [SHAPES, MORE].concat();
    let mut of = Subject::new("postgres", server.port, "encode(st_asewkb(g), 'hex')", all.clone());
    of.keep(|text, srid| format!("st_geomfromtext('{text}', {srid})"));
    of.written_back();
    // What has no text that the server reads stays digits, and goes back as such.
    of.run("create table endless as select 1 as id, st_makepoint('inf', 1) as g");
    let [texts, _] = of.all("endless");
    of.run(&format!("insert into endless values (2, '{}')", texts[0]));
    let [texts, bits] = of.all("endless");
    assert_eq!((&texts[0], &bits[0]), (&texts[1], &bits[1]));
    assert_eq!(texts[0], "0101000000000000000000F07F000000000000F03F");
    // As the type for places on the earth, as a type that somebody made of it, and in a list, which is the server's to write.
    of.run("create domain berth as geometry(Point, 4326)");
    let beside = "select 'POINT(-0.25 51.5)'::geography, 'SRID=4326;POINT(1 2)'::berth, array['POINT(1 2)'::geometry]";
    let [geography, berth, list] = &of.run(beside)[0][..] else { panic!("three columns") };
    assert_eq!((geography.as_str(), berth.as_str()), ("SRID=4326;POINT (-0.25 51.5)", "SRID=4326;POINT (1 2)"));
    assert_eq!(list, "{0101000000000000000000F03F0000000000000040}");
}
