//! Spans of time that are kept as text.

use super::*;

fn archive_of(folder: &Path, spans: &[Option<&str>]) -> Arc<Archive> {
    let told = HashMap::from([(TEXT_FORM.to_owned(), "span".to_owned())]);
    let schema = Arc::new(Schema::new(vec![Field::new("waits", DataType::Utf8, true).with_metadata(told)]));
    let column: ArrayRef = Arc::new(spans.iter().copied().collect::<StringArray>());
    let mut writer = Writer::create(&folder.join("a.arrow"), &schema).unwrap();
    writer.write(&RecordBatch::try_new(schema, vec![column]).unwrap()).unwrap();
    let archive = Arc::clone(writer.archive());
    writer.finish().unwrap();
    archive
}

const SPANS: [Option<&str>; 8] = [
    Some("10:00:00"),
    Some("2 days"),
    None,
    Some("-1 days +01:00:00"),
    Some("P1Y"),
    Some("1 mon"),
    Some("9:00:00"),
    Some("30 days"),
];

#[test]
fn they_are_sorted_by_their_length() {
    let folder = tempfile::tempdir().unwrap();
    let archive = archive_of(folder.path(), &SPANS);
    let sorted = |descending: bool| arranged(&archive, &Wanted { order: vec![by(0, descending)], ..Wanted::default() });
    // A month is thirty days; what cannot be read is behind all that can, and NULL is the last.
    assert_eq!(sorted(false), [3, 6, 0, 1, 5, 7, 4, 2]);
    assert_eq!(sorted(true), [4, 5, 7, 1, 0, 6, 3, 2]);
}

#[test]
fn they_are_compared_in_peoples_words() {
    let folder = tempfile::tempdir().unwrap();
    let archive = archive_of(folder.path(), &SPANS);
    let field = archive.schema().field(0).clone();
    let fit = |text: &str| {
        let condition = Condition { column: 0, test: Test::read(text, &field).unwrap() };
        arranged(&archive, &Wanted { conditions: vec![condition], ..Wanted::default() })
    };
    assert_eq!(fit("< 0 s"), [3]);
    assert_eq!(fit("540 min"), [6]);
    assert_eq!(fit("= 4 weeks 2 days"), [5, 7]);
    assert_eq!(fit("between 9h and 1 week"), [0, 1, 6]);
    assert_eq!(fit("has mon"), [5]);
    let error = Test::read("> soon", &field).unwrap_err();
    assert!(matches!(&error, ConditionError::NotOfType { value, .. } if value == "soon"), "{error}");
}

#[test]
fn what_a_column_of_them_holds() {
    let folder = tempfile::tempdir().unwrap();
    let spans = [Some("00:00:00"), Some("12:00:00"), None, Some("1 day"), Some("24:00:00")];
    let archive = archive_of(folder.path(), &spans);
    let facts = facts(&archive, None, 0, &Progress::default()).unwrap();
    assert_eq!((facts.nulls, facts.distinct), (1, 3), "a day is 24 hours");
    assert_eq!(facts.ends.as_ref().map(|(least, _)| least.as_str()), Some("00:00:00"));
    let spread = facts.spread.unwrap();
    assert_eq!((spread[0], spread[12], spread[23]), (1, 1, 2));
    let numbers = facts.numbers.unwrap();
    assert_eq!((numbers.count, numbers.sum.as_str(), numbers.mean().as_str()), (4, "60:00:00", "15:00:00"));
    let sums = sums(&Part::whole(archive), &Progress::default()).unwrap();
    assert_eq!((sums.cells, sums.nulls, sums.numbers), (5, 1, Some(numbers)));
}
