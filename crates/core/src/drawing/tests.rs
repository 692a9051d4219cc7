//! Drawings of schemas that were made up: no box on another, no line through a box.

use jaunty_language::plan::{Plan, Step};
use jaunty_picture::{Item, Look, Metrics, svg};

use super::layout::{Layout, layout};
use super::paint::{Cells, scene};
use super::*;

fn table(name: &str, columns: &[&str], edges: &[(usize, usize, usize)]) -> Table {
    let row = |(at, column): (usize, &&str)| Row {
        name: (*column).to_owned(),
        type_name: if at == 0 { "integer" } else { "text" }.to_owned(),
        key: at == 0,
        references: edges.iter().any(|(from, ..)| *from == at),
    };
    let edges = edges.iter().map(|(from, to, to_row)| Edge {
        from: *from,
        to: *to,
        to_row: *to_row,
        many: true,
        optional: false,
    });
    Table {
        name: Name { schema: "main".into(), name: name.into() },
        title: name.into(),
        rows: columns.iter().enumerate().map(row).collect(),
        edges: edges.collect(),
    }
}

/// So many tables with so many keys between them, by a sequence without a pattern (xorshift).
fn random(tables: usize, keys: usize, mut seed: u64) -> Vec<Table> {
    let mut next = |below: usize| {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        (seed % below.max(1) as u64) as usize
    };
    let columns: Vec<usize> = (0..tables).map(|_| 2 + next(14)).collect();
    let mut edges: Vec<Vec<(usize, usize, usize)>> = vec![Vec::new(); tables];
    for _ in 0..keys {
        let (from, to) = (next(tables), next(tables));
        let row = next(columns[from]);
        edges[from].push((row, to, 0));
    }
    let names: Vec<String> = (0..16).map(|n| format!("column_{n}")).collect();
    (0..tables)
        .map(|at| {
            let columns: Vec<&str> = names.iter().take(columns[at]).map(String::as_str).collect();
            table(&format!("table_{at}"), &columns, &edges[at])
        })
        .collect()
}

fn holds_together(tables: &[Table], drawing: &Layout) {
    for (at, a) in drawing.boxes.iter().enumerate() {
        assert!(a.x >= 0 && a.y >= 0 && a.x + a.width <= drawing.width && a.y + a.height <= drawing.height, "{a:?}");
        for b in drawing.boxes.iter().skip(at + 1) {
            let apart = a.x + a.width <= b.x || b.x + b.width <= a.x || a.y + a.height <= b.y || b.y + b.height <= a.y;
            assert!(apart, "{a:?} lies on {b:?}");
        }
    }
    let keys: usize = tables.iter().map(|table| table.edges.len()).sum();
    assert_eq!(drawing.roads.len(), keys, "every key is drawn");
    for road in &drawing.roads {
        for pair in road.corners.windows(2) {
            let ((ax, ay), (bx, by)) = (pair[0], pair[1]);
            assert!(ax == bx || ay == by, "{road:?}");
            for placed in &drawing.boxes {
                let through = ax.min(bx) < placed.x + placed.width
                    && ax.max(bx) >= placed.x
                    && ay.min(by) < placed.y + placed.height
                    && ay.max(by) >= placed.y;
                assert!(!through, "{road:?} goes through {placed:?}");
            }
        }
    }
}

#[test]
fn what_is_referenced_stands_to_the_left() {
    let tables = [
        table("ports", &["id", "name"], &[]),
        table("routes", &["id", "from_port", "to_port"], &[(1, 0, 0), (2, 0, 0)]),
        table("sailings", &["id", "route_id"], &[(1, 1, 0)]),
    ];
    let drawing = layout(&tables);
    holds_together(&tables, &drawing);
    insta::assert_snapshot!(Cells::paint(&tables, &drawing).lines().join("\n"), @r"
    ┌ ports ─────────┐          ┌ routes ─────────────┐        ┌ sailings ──────────┐
    │ ● id   integer │1──┬─┐    │ ● id        integer │1──┐    │ ● id       integer │
    │   name text    │   └─┼───n│ → from_port text    │   └───n│ → route_id text    │
    └────────────────┘     └───n│ → to_port   text    │        └────────────────────┘
                                └─────────────────────┘
    ");
}

#[test]
fn nothing_lies_on_anything_else() {
    for (count, keys, seed) in
        [(1, 0, 7), (1, 2, 7), (2, 3, 9), (5, 9, 3), (12, 20, 5), (30, 60, 77), (70, 120, 4_171), (70, 300, 99)]
    {
        let tables = random(count, keys, seed);
        let drawing = layout(&tables);
        holds_together(&tables, &drawing);
        // No label lies on another, on paper: those at lines stand beside boxes.
        let scene = scene(&tables, &drawing, "ferry");
        let labels = scene.labels(&Metrics::PAPER);
        let of_boxes: Vec<_> = labels.iter().filter(|(_, text)| !["n", "1", "0–1"].contains(text)).collect();
        for (at, (a, text)) in of_boxes.iter().enumerate() {
            for (b, other) in of_boxes.iter().skip(at + 1) {
                let apart = a[2] <= b[0] + 0.1 || b[2] <= a[0] + 0.1 || a[3] <= b[1] + 4.0 || b[3] <= a[1] + 4.0;
                assert!(apart, "{text} lies on {other}");
            }
        }
        assert_eq!(svg::write(&scene, Look::Light), svg::write(&scene, Look::Light));
        assert_eq!(layout(&tables), drawing, "the same every time");
    }
}

#[test]
fn circles_and_none_at_all_are_drawn() {
    let circle = [table("a", &["id", "b"], &[(1, 1, 0)]), table("b", &["id", "a"], &[(1, 0, 0)])];
    holds_together(&circle, &layout(&circle));
    assert_eq!(layout(&[]), Layout::default());
}

/// A plan with so many steps, as deep as chance will have it.
fn random_plan(steps: usize, mut seed: u64) -> Plan {
    let mut next = |below: usize| {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        (seed % below.max(1) as u64) as usize
    };
    let mut depth = 0;
    let steps = (0..steps).map(|at| {
        depth = if at == 0 { 0 } else { depth + 1 - if next(20) == 0 { next(depth + 1) } else { 0 } };
        Step {
            depth,
            action: ["Nested Loop", "Scan", "Seek", "Sort by a long list of columns, each of which is named"][next(4)]
                .into(),
            target: if next(2) == 0 { String::new() } else { format!("bookings_{}", next(1000)) },
            index: (next(3) == 0).then(|| format!("bookings_by_{}", next(1000))),
            time: Some(next(1_000_000) as f64 / 7.0),
            own: Some(next(100_000) as f64 / 7.0),
            estimated: Some(next(1_000_000) as f64),
            met: (next(4) > 0).then(|| next(100_000_000) as f64),
            loops: Some(next(5000) as f64),
            reads_all: next(3) == 0,
            spill: (next(5) == 0).then(|| "sort: 120 MB on disk".to_owned()),
            ..Step::default()
        }
    });
    Plan::of(steps.collect(), vec![("planning".into(), "0.4 ms".into())])
}

#[test]
fn two_hundred_steps_lie_beside_each_other() {
    let statement = "select *\n\tfrom bookings\nwhere paid is null";
    for seed in [1, 7, 1931, 40_961] {
        let plan = random_plan(200, seed);
        assert!(plan.steps.iter().any(|step| step.depth > plan::DEEPEST), "it is deep");
        let scene = plan::scene(&plan, statement, "saltmarsh");
        let labels = scene.labels(&Metrics::PAPER);
        assert!(labels.len() > 600, "each step tells its own time, its rows and what it does");
        // The height of the letters, which is less than that of a line.
        let meet = |a: &[f32; 4], b: &[f32; 4]| {
            a[0] < b[2] - 0.1 && b[0] < a[2] - 0.1 && a[1] + 1.0 < b[3] - 1.0 && b[1] + 1.0 < a[3] - 1.0
        };
        for (at, (one, text)) in labels.iter().enumerate() {
            assert!(one[0] >= 0.0 && one[1] >= 0.0 && one[2] <= scene.width && one[3] <= scene.height, "{text}");
            if let Some((_, other)) = labels[at + 1..].iter().find(|(other, _)| meet(one, other)) {
                panic!("{text:?} lies on {other:?} (seed {seed})");
            }
        }
        let bars = scene.items.iter().filter_map(|item| match item {
            Item::Rect { x, y, width, height, .. } => Some([*x, *y, x + width, y + height]),
            _ => None,
        });
        for bar in bars {
            let hit = labels.iter().find(|(label, _)| meet(&bar, label));
            assert!(hit.is_none(), "a bar lies under {:?}", hit.map(|(_, text)| text));
        }
        let svg = svg::write(&scene, Look::Light);
        assert_eq!(
            svg,
            svg::write(&plan::scene(&plan, statement, "saltmarsh"), Look::Light),
            "the same bytes each time"
        );
        assert!(svg.contains("bookings_by_") && svg.contains("more rows than estimated"));
    }
}

#[test]
fn a_plan_without_numbers_is_a_tree() {
    let step = |depth, action: &str| Step { depth, action: action.into(), ..Step::default() };
    let plan = Plan::of(vec![step(0, "query"), step(1, "SCAN\u{1b}[31m"), step(1, "SEARCH")], Vec::new());
    let scene = plan::scene(&plan, "", "saltmarsh");
    let texts: Vec<&str> = scene.labels(&Metrics::PAPER).into_iter().map(|(_, text)| text).collect();
    assert_eq!(
        texts,
        ["plan on saltmarsh · 3 steps", "query", "SCAN␛[31m", "SEARCH"],
        "nothing acts, and no heading is empty"
    );
    assert!(!scene.items.iter().any(|item| matches!(item, Item::Rect { .. })));
}
