//! Charts of small results whose every mark is known, and of large ones whose sums are.

use std::sync::Arc;

use arrow_array::{ArrayRef, Float64Array, Int64Array, RecordBatch, StringArray};
use jaunty_picture::{Item, Look, Metrics, Scene, cells::Grid, pdf, svg};

use super::gather::Counts;
use super::plot::{Place, Plot, Texts, draw};
use super::*;

fn words(values: &[Option<&str>]) -> ArrayRef {
    Arc::new(StringArray::from(values.to_vec()))
}

fn reals(values: &[Option<f64>]) -> ArrayRef {
    Arc::new(Float64Array::from(values.to_vec()))
}

fn batch(columns: Vec<(&str, ArrayRef)>) -> RecordBatch {
    RecordBatch::try_from_iter_with_nullable(columns.into_iter().map(|(name, column)| (name, column, true))).unwrap()
}

/// Takings of three routes on six days, one of them NULL.
fn takings() -> RecordBatch {
    let mut columns: [Vec<Option<String>>; 2] = Default::default();
    let mut taken = Vec::new();
    for day in 0..6 {
        for (at, route) in ["Saltmarsh", "Gullhaven", "Emberwick"].into_iter().enumerate() {
            columns[0].push(Some(format!("2031-0{}-1{day}", 1 + day / 2)));
            columns[1].push(Some(route.to_owned()));
            taken.push((day != 3 || at != 1).then(|| f64::from(day) * 10.0 + at as f64 * 100.0 + 5.0));
        }
    }
    let text = |values: &[Option<String>]| -> ArrayRef { Arc::new(StringArray::from(values.to_vec())) };
    batch(vec![("day", text(&columns[0])), ("route", text(&columns[1])), ("taken", reals(&taken))])
}

fn spec(words: &str) -> Spec {
    let mut spec = Spec::default();
    for word in words.split_whitespace() {
        match word.split_once('=') {
            Some((key, value)) => spec.set(key, value).unwrap().unwrap(),
            None => spec.take_word(word).unwrap(),
        }
    }
    spec
}

fn gathered(batches: &[RecordBatch], spec: &Spec) -> Data {
    let mut gather = Gather::new(spec.clone(), batches[0].schema());
    batches.iter().for_each(|batch| gather.take(batch).unwrap());
    gather.finish().unwrap()
}

fn texts() -> Texts {
    Texts { title: "Takings".into(), source: "ferry · 18 rows".into() }
}

fn plotted(rows: &RecordBatch, words: &str) -> Plot {
    let spec = spec(words);
    draw(&gathered(std::slice::from_ref(rows), &spec), &spec, &texts(), (640.0, 400.0), Metrics::PAPER)
}

fn in_cells(rows: &RecordBatch, words: &str, (width, height): (u16, u16)) -> String {
    let spec = spec(words);
    let size = (f32::from(width) * 2.0, f32::from(height) * 4.0);
    let plot = draw(&gathered(std::slice::from_ref(rows), &spec), &spec, &texts(), size, Metrics::TERMINAL);
    let lines = Grid::paint(&plot.scene, false).lines();
    lines.iter().map(|line| line.trim_end()).collect::<Vec<_>>().join("\n")
}

fn shown(places: &[Place]) -> Vec<String> {
    let value =
        |(name, value): &(String, String)| if name.is_empty() { value.clone() } else { format!("{name} {value}") };
    places
        .iter()
        .map(|place| format!("{}: {}", place.name, place.values.iter().map(value).collect::<Vec<_>>().join(", ")))
        .collect()
}

#[test]
fn bars_of_words_are_sorted_and_end_where_their_values_do() {
    let plot = plotted(&takings(), "bar x=route y=taken");
    assert_eq!(shown(&plot.places), ["Emberwick: 1,380", "Gullhaven: 645", "Saltmarsh: 180"]);
    let widths: Vec<f32> = plot
        .scene
        .items
        .iter()
        .filter_map(|item| if let Item::Rect { width, .. } = item { Some(*width) } else { None })
        .collect();
    assert_eq!(widths.len(), 3);
    assert!((widths[0] / widths[1] - 1380.0 / 645.0).abs() < 0.01, "{widths:?}");
    let conditions = &plot.places[0].rows.as_ref().unwrap().conditions;
    assert_eq!(conditions, &[(1, "= \"Emberwick\"".to_owned())]);
}

#[test]
fn in_a_terminal_bars_are_blocks_and_text_is_text() {
    insta::assert_snapshot!(in_cells(&takings(), "bar x=route y=taken", (40, 9)), @r"
    Takings
    sum of taken by route
    Emberwick ▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆ 1,380
    Gullhaven ▆▆▆▆▆▆▆▆▆▆ 645
    Saltmarsh ▆▆▆ 180


    1 row not drawn: NULL or not a number
    ferry · 18 rows
    ");
}

#[test]
fn steps_of_time_put_rows_together() {
    let plot = plotted(&takings(), "bar x=day y=taken step=month by=route stack=stacked");
    assert_eq!(
        shown(&plot.places),
        [
            "2031-01: Emberwick 420, Gullhaven 220, Saltmarsh 20",
            "2031-02: Emberwick 460, Gullhaven 125, Saltmarsh 60",
            "2031-03: Emberwick 500, Gullhaven 300, Saltmarsh 100",
        ]
    );
    assert_eq!(
        plot.places[1].rows.as_ref().unwrap().conditions,
        [(0, ">= \"2031-02-01\"".to_owned()), (0, "< \"2031-03-01\"".to_owned())]
    );
    // Piled up they reach as high as their sum: of three months the greatest is the last.
    let tops: Vec<f32> = plot
        .scene
        .items
        .iter()
        .filter_map(|item| if let Item::Rect { y, .. } = item { Some(*y) } else { None })
        .collect();
    assert_eq!(tops.len(), 9);
    assert!(tops[8] < tops[5] && tops[8] < tops[2], "{tops:?}");
}

#[test]
fn shares_are_parts_of_a_hundred() {
    let plot = plotted(&takings(), "area x=day y=taken step=year by=route stack=share");
    assert_eq!(shown(&plot.places), ["2031: Emberwick 62.6 %, Gullhaven 29.3 %, Saltmarsh 8.2 %"]);
}

#[test]
fn aggregates_are_what_they_are_called() {
    for (aggregate, expected) in
        [("sum", "180"), ("mean", "30"), ("count", "6"), ("min", "5"), ("max", "55"), ("median", "30")]
    {
        let all = shown(&plotted(&takings(), &format!("bar x=route y=taken aggregate={aggregate}")).places);
        assert!(all.contains(&format!("Saltmarsh: {expected}")), "{aggregate}: {all:?}");
    }
    let few = shown(&plotted(&takings(), "bar x=route y=taken top=2").places);
    assert_eq!(few, ["Emberwick: 1,380", "2 others: 825"]);
}

/// A line of a million points with one far out of the others: it is seen.
#[test]
fn nothing_is_left_out_of_a_long_line() {
    let spec = spec("line x=n y=depth");
    let mut gather: Option<Gather> = None;
    for part in 0..100_i64 {
        let from = part * 10_000;
        let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(from..from + 10_000));
        let depth = Float64Array::from_iter((from..from + 10_000).map(|n| match n {
            654_321 => Some(9_999.0),
            n if n % 1000 == 7 => None,
            n => Some((n % 100) as f64),
        }));
        let rows = batch(vec![("n", numbers), ("depth", Arc::new(depth))]);
        gather.get_or_insert_with(|| Gather::new(spec.clone(), rows.schema())).take(&rows).unwrap();
    }
    let data = gather.unwrap().finish().unwrap();
    assert_eq!(data.counts, Counts { rows: 1_000_000, without_place: 1000, elsewhere: 0 });
    let plot = draw(&data, &spec, &texts(), (640.0, 400.0), Metrics::PAPER);
    assert!(plot.places.iter().any(|place| place.values[0].1.contains("9,999")), "it is seen");
    let points: usize =
        plot.scene.items.iter().map(|item| if let Item::Line { points, .. } = item { points.len() } else { 0 }).sum();
    assert!(points < 4000, "{points}: what lies at one place is drawn once");
    let svg = svg::write(&plot.scene, Look::Light);
    assert!(svg.len() < 100_000, "{}", svg.len());
    // All of its rows are at some place.
    let rows: u64 = plot.places.iter().map(rows_of).sum();
    assert_eq!(rows, 999_000);
}

fn rows_of(place: &Place) -> u64 {
    let text = &place.values[0].1;
    match text.split_once('(') {
        Some((_, count)) => count.trim_end_matches(" rows)").replace(',', "").parse().unwrap(),
        None => 1,
    }
}

/// Rows that begin with NULL along the lower edge: the line is as fine as any.
#[test]
fn a_line_may_begin_with_nothing() {
    let spec = spec("line x=at y=depth");
    let part = |from: i64, null: bool| {
        let at = Int64Array::from_iter((from..from + 100).map(|n| (!null).then_some(1_900_000_000 + n)));
        let depth = Float64Array::from_iter_values((from..from + 100).map(|n| n as f64));
        batch(vec![("at", Arc::new(at)), ("depth", Arc::new(depth))])
    };
    for by in [false, true] {
        let mut spec = spec.clone();
        spec.by = by.then(|| "side".to_owned());
        let with = |rows: RecordBatch| match by {
            true => batch(vec![
                ("at", rows.column(0).clone()),
                ("depth", rows.column(1).clone()),
                ("side", words(&vec![Some("east"); rows.num_rows()])),
            ]),
            false => rows,
        };
        let data = gathered(&[with(part(0, true)), with(part(100, false)), with(part(200, false))], &spec);
        assert_eq!(data.counts.without_place, 100);
        let plot = draw(&data, &spec, &texts(), (640.0, 400.0), Metrics::PAPER);
        assert!(plot.places.len() > 150, "{}", plot.places.len());
    }
}

#[test]
fn a_histogram_counts_every_value_once() {
    let values: Vec<Option<f64>> = (0..1000).map(|n| (n % 10 != 0).then(|| f64::from(n % 97))).collect();
    let rows = batch(vec![("fare", reals(&values))]);
    let plot = plotted(&rows, "histogram");
    let counted: u64 = plot.places.iter().map(|place| place.values[0].1.parse::<u64>().unwrap()).sum();
    assert_eq!(counted, 900);
    // More values than are kept are counted all the same.
    let many: Vec<Option<f64>> = (0..300_000).map(|n| Some(f64::from(n % 1000))).collect();
    let plot = plotted(&batch(vec![("fare", reals(&many))]), "histogram");
    let counted: u64 = plot.places.iter().map(|place| place.values[0].1.replace(',', "").parse::<u64>().unwrap()).sum();
    assert_eq!(counted, 300_000);
}

#[test]
fn boxes_show_quartiles() {
    let values: Vec<Option<f64>> = (1..=9).map(|n| Some(f64::from(n))).chain([Some(100.0); 1]).collect();
    let names: Vec<Option<&str>> = (0..10).map(|n| Some(if n < 9 { "even" } else { "odd" })).collect();
    let plot = plotted(&batch(vec![("kind", words(&names)), ("fare", reals(&values))]), "box");
    assert_eq!(
        shown(&plot.places),
        [
            "odd: min 100, q1 100, median 100, q3 100, max 100, rows 1",
            "even: min 1, q1 3, median 5, q3 7, max 9, rows 9"
        ]
    );
}

#[test]
fn large_spreads_have_the_quartiles_of_their_values() {
    let many: Vec<Option<f64>> = (0..400_000_i64).map(|n| Some((n * 7919 % 400_000) as f64)).collect();
    let plot = plotted(&batch(vec![("fare", reals(&many))]), "box");
    let numbers: Vec<f64> =
        plot.places[0].values.iter().map(|(_, value)| value.replace(',', "").parse().unwrap()).collect();
    for (found, expected) in numbers.iter().zip([0.0, 100_000.0, 200_000.0, 300_000.0, 399_999.0]) {
        assert!((found - expected).abs() <= 400_000.0 / 2048.0, "{numbers:?}");
    }
}

#[test]
fn small_charts_have_the_same_edges() {
    let plot = plotted(&takings(), "line x=day y=taken each=route");
    assert_eq!(plot.frames.len(), 3);
    let sizes: Vec<(f32, f32)> = plot.frames.iter().map(|[l, t, r, b]| (r - l, b - t)).collect();
    assert!(
        sizes.iter().all(|size| (size.0 - sizes[0].0).abs() < 0.01 && (size.1 - sizes[0].1).abs() < 0.01),
        "{sizes:?}"
    );
}

/// Every kind, on paper and in cells of several sizes: no label lies on another, and nothing leaves the picture.
#[test]
fn no_label_lies_on_another() {
    let takings = takings();
    let places = batch(vec![
        ("port", words(&[Some("Saltmarsh"), Some("Gullhaven"), Some("Emberwick")])),
        ("latitude", reals(&[Some(51.4), Some(54.2), Some(49.0)])),
        ("longitude", reals(&[Some(1.0), Some(4.0), Some(-3.0)])),
    ]);
    for (rows, words) in [
        (&takings, "line x=day y=taken by=route"),
        (&takings, "line x=day y=taken by=route step=month"),
        (&takings, "area x=day y=taken by=route step=day stack=stacked"),
        (&takings, "bar x=route y=taken"),
        (&takings, "bar x=day y=taken by=route step=week"),
        (&takings, "histogram y=taken"),
        (&takings, "box y=taken by=route"),
        (&takings, "heat x=day y=route of=taken step=month"),
        (&takings, "line x=day y=taken each=route"),
        (&places, "map"),
        (&places, "scatter x=longitude y=latitude"),
        (&places, "heat x=longitude y=latitude"),
    ] {
        let spec = spec(words);
        let data = gathered(std::slice::from_ref(rows), &spec);
        for (size, metrics) in [
            ((640.0, 400.0), Metrics::PAPER),
            ((842.0, 595.0), Metrics::PAPER),
            ((160.0, 80.0), Metrics::TERMINAL),
            ((400.0, 200.0), Metrics::TERMINAL),
            ((60.0, 48.0), Metrics::TERMINAL),
        ] {
            let plot = draw(&data, &spec, &texts(), size, metrics);
            let labels = plot.scene.labels(&metrics);
            for (at, (a, text)) in labels.iter().enumerate() {
                let inside = a[0] >= -0.1
                    && a[2] <= size.0 + metrics.advance
                    && a[1] >= -metrics.line
                    && a[3] <= size.1 + metrics.line;
                assert!(inside, "{words} {size:?}: \"{text}\" at {a:?}");
                for (b, other) in labels.iter().skip(at + 1) {
                    let slack = metrics.line * 0.3;
                    let apart =
                        a[2] <= b[0] + 0.1 || b[2] <= a[0] + 0.1 || a[3] <= b[1] + slack || b[3] <= a[1] + slack;
                    assert!(apart, "{words} {size:?}: \"{text}\" {a:?} lies on \"{other}\" {b:?}");
                }
            }
        }
    }
}

/// The kinds and their structure: as many elements of each sort as there are marks, and the same bytes every time.
#[test]
fn pictures_are_the_same_every_time() {
    for words in [
        "line x=day y=taken by=route",
        "bar x=route y=taken",
        "heat x=day y=route of=taken step=month",
        "box y=taken by=route",
    ] {
        let scene = || plotted(&takings(), words).scene;
        assert_eq!(svg::write(&scene(), Look::Light), svg::write(&scene(), Look::Light));
        assert_eq!(pdf::write(&[scene()], Look::Dark), pdf::write(&[scene()], Look::Dark));
    }
    let count = |scene: &Scene, tag: &str| svg::write(scene, Look::Light).matches(tag).count();
    let lines = plotted(&takings(), "line x=day y=taken by=route").scene;
    // Three lines, three sets of marks, three in the legend, and the edges.
    assert_eq!(count(&lines, "stroke-width=\"1.4\" stroke-linejoin"), 3);
    let heat = plotted(&takings(), "heat x=day y=route of=taken step=month").scene;
    assert_eq!(count(&heat, "<rect"), 1 + 9 + 16, "the ground, the cells, the scale");
}

#[test]
fn what_cannot_be_drawn_says_why() {
    let refused = |rows: &RecordBatch, words: &str| {
        let mut gather = Gather::new(spec(words), rows.schema());
        match gather.take(rows) {
            Ok(()) => gather.finish().map(|_| ()).unwrap_err().to_string(),
            Err(error) => error.to_string(),
        }
    };
    let empty = takings().slice(0, 0);
    assert_eq!(refused(&empty, "bar"), "no rows to draw");
    assert_eq!(
        refused(&empty, "bar x=dya"),
        "no column \"dya\" in this result · did you mean \"day\"? The columns are day, route, taken"
    );
    let nulls = batch(vec![("day", words(&[None, None])), ("taken", reals(&[None, None]))]);
    assert_eq!(refused(&nulls, "histogram y=taken"), "no rows to draw");
}

/// Hostile names and values: text stays text, and what is endless has no place.
#[test]
fn hostile_values_do_no_harm() {
    let names: Vec<Option<&str>> =
        vec![Some("\u{1b}[2J"), Some(""), None, Some("名\u{202e}"), Some("</svg>"), Some("a\nb"), Some("x\0")];
    let values =
        [Some(f64::INFINITY), Some(f64::NAN), Some(-1e300), Some(1e300), Some(0.0), None, Some(f64::MIN_POSITIVE)];
    let rows =
        batch(vec![("\u{1b}[31mname", words(&names)), ("valu\u{7}e", reals(&values)), ("other", reals(&values))]);
    for kind in Kind::ALL {
        for size in [(640.0, 400.0), (2.0, 4.0), (0.0, 0.0), (30_000.0, 4.0)] {
            for metrics in [Metrics::PAPER, Metrics::TERMINAL] {
                for log in [false, true] {
                    let spec = Spec { kind: Some(*kind), log, ..Spec::default() };
                    let mut gather = Gather::new(spec.clone(), rows.schema());
                    if gather.take(&rows).is_err() {
                        continue;
                    }
                    let Ok(data) = gather.finish() else { continue };
                    let plot = draw(&data, &spec, &texts(), size, metrics);
                    let svg = svg::write(&plot.scene, Look::Light);
                    assert!(!svg.contains('\u{1b}') && !svg.contains("NaN") && !svg.contains("inf"), "{kind:?}");
                    if metrics.cells && size.0 < 10_000.0 {
                        let lines = Grid::paint(&plot.scene, true).lines().join("\n");
                        assert!(!lines.contains('\u{1b}'), "{kind:?}");
                    }
                }
            }
        }
    }
}
