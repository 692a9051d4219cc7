use super::*;
use jaunty_language::dialect::{MYSQL, POSTGRES, SQLITE, SQLSERVER};
use jaunty_seam::catalog::{Constraint, Rule};

fn kind(db_type: &str, dialect: &Dialect) -> Kind {
    Kind::of(&Column { db_type: db_type.into(), ..Column::default() }, &Catalog::default(), dialect)
}

/// What reading a text gives: the value, with what is wrong after it.
fn read(db_type: &str, text: &str) -> String {
    let (datum, mistake) = kind(db_type, &POSTGRES).read(text, &POSTGRES);
    let said = mistake.map_or_else(String::new, |mistake| format!(" ! {}", mistake.text()));
    format!("{}{said}", datum.literal(&POSTGRES))
}

#[test]
fn a_server_may_have_days_and_times_of_its_own() {
    let is_value = |db_type: &str, text: &str| kind(db_type, &MYSQL).read(text, &MYSQL).1.is_none();
    for text in ["0000-00-00", "2031-00-00", "2031-02-00", "2031-00-07", "2031-02-28"] {
        assert!(is_value("date", text), "{text}");
        assert!(is_value("datetime(3)", &format!("{text} 07:30:00.5")), "{text}");
    }
    for text in ["2031-13-00", "2031-02-30", "é-00-00", "2031-é-00", "2031-00-é", "00-00-00", "2031-00", ""] {
        assert!(!is_value("date", text), "{text}");
    }
    assert!(is_value("time(6)", "-838:59:59.999999") && !is_value("time", "1000:00:00"));
    assert!(!is_value("decimal(5,2)", "NaN"));
}

#[test]
fn a_text_is_checked_against_the_type_of_its_column() {
    for (db_type, text, expected) in [
        ("smallint", "40000", "40000 ! it has to be from -32768 to 32767"),
        ("integer", " 7 ", "7"),
        ("integer", "seven", "'seven' ! \"seven\" is not a number"),
        ("integer", "7.5", "7.5 ! it has to be a whole number"),
        ("numeric(5,2)", "123.45", "123.45"),
        ("numeric(5,2)", "1234.5", "1234.5 ! it can have at most 3 digits before the decimal point"),
        ("numeric(5,2)", "1.005", "1.005 ! it can have at most 2 digits after the decimal point"),
        ("numeric", "1e400", "1e400"),
        ("double precision", "NaN", "'NaN'"),
        ("boolean", "yes", "true"),
        ("boolean", "maybe", "'maybe' ! it has to be true or false"),
        ("date", "2031-02-30", "'2031-02-30' ! write a date as 2031-03-05"),
        ("timestamp with time zone", "2031-03-05 07:30+02", "'2031-03-05 07:30+02'"),
        ("time", "7:30", "'7:30'"),
        ("time(3)", "24:00:00", "'24:00:00'"),
        ("time", "noon", "'noon' ! write a time as 07:30 or 07:30:05"),
        ("time", "7:75", "'7:75' ! write a time as 07:30 or 07:30:05"),
        ("time without time zone", "1:2:3.25", "'1:2:3.25'"),
        ("time with time zone", "04:05:06.7+05:45", "'04:05:06.7+05:45'"),
        ("numeric(5,2)", "NaN", "'NaN'"),
        ("numeric", "-Infinity", "'-Infinity'"),
        ("date", "12031-02-03", "'12031-02-03'"),
        ("date", "12031-02-30", "'12031-02-30' ! write a date as 2031-03-05"),
        ("date", "2031-00-01", "'2031-00-01' ! write a date as 2031-03-05"),
        ("timestamp", "294276-12-31 23:59:59.9", "'294276-12-31 23:59:59.9'"),
        ("uuid", "12", "'12' ! a UUID has 32 hexadecimal digits"),
        ("jsonb", "{\"a\":", "'{\"a\":' ! it is not JSON: EOF while parsing a value at line 1 column 5"),
        ("bytea", "\\x00 FF", "'\\x00ff'"),
        ("varchar(3)", "gull", "'gull' ! 4 characters; the column takes 3"),
        ("varchar(3)", "", "''"),
        ("integer[]", "{1,2}", "'{1,2}'"),
        ("text[]", " [\"a\", null] ", "'{\"a\",NULL}'"),
        ("text[]", "[2:3]={a, b}", "'[2:3]={a, b}'"),
        ("text[]", "{a,\"b", "'{a,\"b' ! write a list as {1,2,NULL}, or as JSON: [1, 2, null]"),
        ("box[]", "{(1,1),(0,0);(2,2),(0,0)}", "'{(1,1),(0,0);(2,2),(0,0)}'"),
        ("inet", "10.0.0.1", "'10.0.0.1'"),
    ] {
        assert_eq!(read(db_type, text), expected, "{db_type} {text}");
    }
}

#[test]
fn types_that_list_their_values_are_chosen_from() {
    assert_eq!(kind("enum('due','it''s gone')", &MYSQL).choices(), ["due", "it's gone"]);
    let set = kind("set('ice','fog','tide')", &MYSQL);
    assert_eq!(set.choices(), ["ice", "fog", "tide"]);
    assert_eq!(set.toggled("tide,fog", "ice").as_deref(), Some("ice,fog,tide"));
    assert_eq!(set.toggled("fog,tide", "fog").as_deref(), Some("tide"));
    assert_eq!((set.toggled("", "fog").as_deref(), Kind::Json.toggled("", "fog")), (Some("fog"), None));
    assert_eq!(kind("int(10) unsigned", &MYSQL), Kind::Integer(0, u32::MAX.into()));
    let mut catalog = Catalog::default();
    catalog.object("public", "state", ObjectKind::Type).values = vec!["due".into(), "gone".into()];
    let column = Column { db_type: "public.state".into(), ..Column::default() };
    assert_eq!(Kind::of(&column, &catalog, &POSTGRES).choices(), ["due", "gone"]);
    // A domain has the values of the type that it is over.
    let fare = "domain over numeric(9,2) not null default 1.5 constraint c CHECK ((VALUE >= (0)::numeric))";
    catalog.object("public", "fare", ObjectKind::Type).signature = fare.into();
    catalog.object("public", "price", ObjectKind::Type).signature = "domain over public.fare".into();
    catalog.object("public", "odd", ObjectKind::Type).signature = "domain over public.odd".into();
    catalog.object("public", "names", ObjectKind::Type).signature = "domain over character varying(9)[]".into();
    let of = |name: &str| Kind::of(&Column { db_type: name.into(), ..Column::default() }, &catalog, &POSTGRES);
    assert_eq!(["fare", "public.price"].map(of), [(); 2].map(|()| Kind::Decimal(Some((9, 2)))));
    assert_eq!((of("odd"), of("names")), (Kind::Other, Kind::Array));
}

#[test]
fn the_same_name_of_a_type_means_what_its_server_means() {
    let read = |db_type: &str, text: &str, dialect: &'static Dialect| {
        let (datum, mistake) = kind(db_type, dialect).read(text, dialect);
        mistake.map_or_else(|| datum.literal(dialect), |mistake| format!("! {}", mistake.text()))
    };
    for (db_type, dialect, text, expected) in [
        ("point", &MYSQL, " POINT (1 2) ", "'POINT (1 2)'"),
        ("geometry", &MYSQL, "srid=4326;linestring(0 0,1 1)", "'srid=4326;linestring(0 0,1 1)'"),
        ("point", &MYSQL, "00000000010700000000000000", "x'00000000010700000000000000'"),
        ("point", &MYSQL, "1, 2", "! write a shape as POINT (1 2), or SRID=4326;POINT (1 2)"),
        (
            "geometry(Point,4326)",
            &POSTGRES,
            "CIRCULARSTRING Z (0 0 1, 1 1 1, 2 0 1)",
            "'CIRCULARSTRING Z (0 0 1, 1 1 1, 2 0 1)'",
        ),
        ("bit(5)", &MYSQL, "21", "21"),
        ("bit(5)", &MYSQL, "b'10101'", "21"),
        ("bit(5)", &MYSQL, "32", "! it has to be from 0 to 31, or bits as b'101'"),
        ("bit(1)", &MYSQL, "true", "1"),
        ("bit(64)", &MYSQL, "18446744073709551615", "18446744073709551615"),
        ("bit", &MYSQL, "2", "! it has to be 0 or 1"),
        ("bit(5)", &POSTGRES, "10101", "'10101'"),
        ("bit", &SQLSERVER, "True", "1"),
        ("bit", &SQLSERVER, "2", "! it has to be 0 or 1"),
        ("tinyint", &SQLSERVER, "255", "255"),
        ("tinyint", &SQLSERVER, "-1", "! it has to be from 0 to 255"),
        ("tinyint(4)", &MYSQL, "200", "! it has to be from -128 to 127"),
        ("tinyint unsigned", &MYSQL, "200", "200"),
        ("tinyint(1)", &MYSQL, "true", "1"),
        ("tinyint(1)", &MYSQL, "-2", "-2"),
        ("tinyint(1)", &MYSQL, "maybe", "! \"maybe\" is not a number"),
        ("set('ice','fog')", &MYSQL, "fog,ICE", "'fog,ICE'"),
        ("set('ice','fog')", &MYSQL, "", "''"),
        ("set('ice','fog')", &MYSQL, "fog,hail", "! \"hail\" is not one of: ice, fog; commas between several"),
        ("enum('due','gone')", &MYSQL, "DUE", "'DUE'"),
        ("enum('due','gone')", &POSTGRES, "DUE", "! it has to be one of: due, gone"),
        ("time", &MYSQL, "-838:59:59", "'-838:59:59'"),
        ("time", &MYSQL, "900:00", "! write a time as 07:30 or 07:30:05"),
        ("time", &MYSQL, "12:60:00", "! write a time as 07:30 or 07:30:05"),
        ("time", &POSTGRES, "-7:30", "! write a time as 07:30 or 07:30:05"),
        ("timestamp", &MYSQL, "2031-03-05T07:30:00Z", "'2031-03-05T07:30:00Z'"),
        ("year", &MYSQL, "3000", "! it has to be from 0 to 2155"),
    ] {
        assert_eq!(read(db_type, text, dialect), expected, "{db_type} of {}: {text}", dialect.name);
    }
}

#[test]
fn a_check_of_the_table_says_what_its_texts_are() {
    let of = |check: &str, db_type: &str| {
        let mut table = Catalog::default().object("", "gates", ObjectKind::Table).clone();
        table.constraints.push(Constraint::new("", Vec::new(), Rule::Check(check.to_owned())));
        let column = Column { name: "kind".into(), db_type: db_type.into(), ..Column::default() };
        Kind::in_table(&column, &table, &Catalog::default(), &MYSQL)
    };
    assert_eq!(of("json_valid(`kind`)", "longtext"), Kind::Json);
    assert_eq!(of("`kind` in ('a',N'it''s')", "varchar(9)").choices(), ["a", "it's"]);
    assert_eq!(of("`kind` in ('1','2')", "int(11)"), Kind::Integer(i32::MIN.into(), i32::MAX.into()));
    assert_eq!(of("`kind` > 'a'", "text"), Kind::Text(None));
}

#[test]
fn where_columns_take_anything_it_is_only_said() {
    let (datum, mistake) = kind("date", &SQLITE).read("soon", &SQLITE);
    assert_eq!(datum, Datum::Text("soon".into()));
    assert_eq!(mistake, Some(Mistake::Unusual("write a date as 2031-03-05".into())));
    assert_eq!(kind("", &SQLITE).read("7", &SQLITE).0, Datum::Number("7".into()));
    assert_eq!(kind("", &SQLITE).read("7 ", &SQLITE).0, Datum::Text("7 ".into()));
    assert_eq!(kind("integer", &SQLITE).read("9000000000", &SQLITE).1, None);
}
