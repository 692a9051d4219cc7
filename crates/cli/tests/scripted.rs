//! What no server here does yet, on the screen: one-time codes, progress, ids, nested values, more to switch.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use support::{Home, Screen};

/// The screen on the scripted engine, with this buffer.
fn screen(home: &Home) -> Screen {
    Screen::of_example("scripted", home, &["a.documents"])
}

#[test]
fn a_one_time_code_is_asked_for_while_connecting() {
    let home = Home::new().file("a.documents", "rows 3;\n");
    let screen = screen(&home);
    screen.shows("one-time code of the quay").types("tide-416").press(&["Enter"]);
    screen.shows("the one-time code is wrong or missing").press(&["C-g"]).shows("one-time code of the quay");
    screen.types("tide-417").press(&["Enter"]).shows("harbour").shows("tide 3");
    screen.press(&["C-q"]).ends();
}

#[test]
fn whoever_does_not_answer_has_no_connection() {
    let home = Home::new().file("a.documents", "rows 3;\n");
    let screen = screen(&home);
    screen.shows("one-time code of the quay").press(&["Escape"]).shows("the one-time code is wrong or missing");
    screen.press(&["C-q"]).ends();
}

#[test]
fn what_comes_beside_rows_is_seen() {
    let statements = "progress 40, rows 2, wait;\n\nkinds;\n\nmessage fog, result quay, rows 3, output left;\n";
    let home = Home::new().file("a.documents", statements);
    let screen = screen(&home);
    screen.shows("one-time code").types("tide-417").press(&["Enter"]).shows("purser");
    screen.press(&["C-g"]).shows("40 %").shows("tide 2").press(&["Escape"]).shows("stopped · 2 rows kept");
    // Values of any depth, exact to the last digit.
    screen.press(&["C-n", "C-g"]).shows("decimal256(76, 2)").press(&["C-t", "Enter"]);
    screen.shows("123456789012345678901234567890123456789012345678.90").press(&["Escape", "C-t"]);
    screen.press(&["C-n", "C-g"]).shows("warning: line 1: fog [W-12]").shows("result 2 of 2 · output values");
    screen.press(&["C-q"]).ends();
}

#[test]
fn columns_that_turn_up_late_join_the_others() {
    let home = Home::new().file("a.documents", "rows 2, late ebb, rows 2, late fog, rows 1;\n");
    let screen = screen(&home);
    screen.shows("one-time code").types("tide-417").press(&["Enter"]).shows("purser");
    screen.press(&["C-g"]).shows("fog 5").shows("ebb 3");
    // Above them there is nothing, and what is sorted by them is all there.
    screen.press(&["C-t"]).shows("∅").press(&["Right", "Right", "s", "s"]).shows("by ebb down  rows 1–5 of 5");
    screen.press(&["C-q"]).ends();
}

#[test]
fn more_than_databases_can_be_switched() {
    let home = Home::new().file("a.documents", "rows 3;\n");
    let screen = screen(&home);
    screen.shows("one-time code").types("tide-417").press(&["Enter"]).shows("purser");
    screen.press(&["C-l"]).types("switch …").shows("Choose what to switch").press(&["Enter"]);
    screen.shows("warehouse").press(&["Down", "Down", "Enter"]).shows("large").press(&["Down", "Enter"]);
    screen.shows("purser in large").press(&["C-q"]).ends();
}
