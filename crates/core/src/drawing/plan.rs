//! The plan of a statement: what is said of its steps wherever it is drawn, and its tree as a scene for paper.

use jaunty_language::plan::{Plan, Plans, Step, Unit};
use jaunty_language::text::clean;
use jaunty_picture::{Anchor, Item, Metrics, Paint, Scene};

use crate::archive::Archive;
use crate::chart::scale::{number, short};
use jaunty_seam::rows::cell::ColumnReader;

/// The deepest that a step is moved in; those below it stand there too.
pub const DEEPEST: usize = 40;

/// The most lines of the statement that stand above the tree.
const MOST_LINES: usize = 12;

/// The widest that a text is, in characters.
const WIDEST: usize = 100;

/// Where the columns of a drawing begin, in characters: the bars, what a step takes for itself, its rows, and the tree.
const BAR: f32 = 8.0;
const OWN: f32 = 20.0;
const ROWS: f32 = 22.0;
const TREE: f32 = 48.0;

/// The most rows that a plan has.
const MOST_ROWS: usize = 10_000;

/// The statement after the words that ask for its plan, if a text begins with them.
pub fn asked_about<'a>(text: &'a str, plans: &Plans) -> Option<&'a str> {
    let with = |prefix: &str| {
        let head = text.get(..prefix.len())?;
        let rest = text.get(prefix.len()..)?;
        (head.eq_ignore_ascii_case(prefix) && rest.starts_with(char::is_whitespace)).then(|| rest.trim_start())
    };
    with(plans.estimated).or_else(|| plans.measured.and_then(with))
}

/// The plan that stands in the rows of an archive. This reads the disk.
pub fn of_rows(archive: &Archive, plans: &Plans) -> Result<Plan, String> {
    let page = archive.page(0, MOST_ROWS).map_err(|error| error.to_string())?;
    let mut rows = Vec::new();
    for batch in &page.batches {
        let columns = ColumnReader::all(batch);
        let texts = |row| columns.iter().map(|column| column.get(row).text.into_owned()).collect::<Vec<_>>();
        rows.extend((0..batch.num_rows()).map(texts));
    }
    (plans.read)(&rows)
}

/// A plan in lines of text: what each step takes for itself, its rows, and the tree with what is said of it.
pub fn text(plan: &Plan) -> String {
    let steps: Vec<(String, String, &Step)> =
        plan.steps.iter().map(|step| (own(plan, step), rows(step), step)).collect();
    let (owns, met) = headings(plan);
    let widest = |texts: &dyn Fn(&(String, String, &Step)) -> usize, heading: &str| {
        steps.iter().map(texts).chain([clean::width(heading)]).max().unwrap_or(0)
    };
    let (first, second) = (widest(&|one| clean::width(&one.0), owns), widest(&|one| clean::width(&one.1), met));
    let padded = |text: &str, width: usize| " ".repeat(width.saturating_sub(clean::width(text)));
    let mut out = format!("{}\n\n", whole(plan));
    if plan.unit != Unit::None {
        out.push_str(&format!("{}{owns}  {met}\n", padded(owns, first)));
    }
    for (owned, met, step) in &steps {
        if plan.unit != Unit::None {
            out.push_str(&format!("{}{owned}  {met}{}  ", padded(owned, first), padded(met, second)));
        }
        let target = if step.target.is_empty() { String::new() } else { format!(" {}", clean::clean(&step.target)) };
        let said: String = remarks(step).into_iter().map(|(_, text)| format!(" · {text}")).collect();
        out.push_str(&format!(
            "{}{}{target}{said}\n",
            "  ".repeat(step.depth.min(DEEPEST)),
            clean::clean(&step.action)
        ));
    }
    out
}

/// What a remark about a step is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum About {
    /// How it finds its rows.
    Way,
    /// What may be worth a look.
    Caution,
    /// What was far from what the server thought.
    Misestimate,
}

/// What is said of a step beside its action and its target.
pub fn remarks(step: &Step) -> Vec<(About, String)> {
    let mut said = Vec::new();
    said.extend(step.index.as_ref().map(|index| (About::Way, format!("by {index}"))));
    if step.reads_all {
        said.push((About::Caution, "reads every row".to_owned()));
    }
    said.extend(step.misestimate().map(|ratio| {
        let text = match ratio >= 1.0 {
            true => format!("{} times more rows than estimated", short(ratio.round())),
            false => format!("{} times fewer rows than estimated", short((1.0 / ratio).round())),
        };
        (About::Misestimate, text)
    }));
    said.extend(step.spill.as_ref().map(|spill| (About::Caution, spill.clone())));
    for (_, text) in &mut said {
        *text = clean::clean(text).into_owned();
    }
    said
}

/// What a step takes for itself; nothing where the server does not tell.
pub fn own(plan: &Plan, step: &Step) -> String {
    match (plan.unit, step.own) {
        (Unit::Time, Some(own)) => format!("{} ms", short(own)),
        (Unit::Cost, Some(own)) => short(own),
        _ => String::new(),
    }
}

/// The rows of a step: as they were thought, and as they were.
pub fn rows(step: &Step) -> String {
    let mut text = match (step.estimated, step.met) {
        (estimated, Some(met)) => format!("{} → {}", estimated.map_or_else(|| "?".to_owned(), short), short(met)),
        (estimated, None) => estimated.map_or(String::new(), short),
    };
    if let Some(loops) = step.loops.filter(|loops| *loops != 1.0) {
        text.push_str(&format!(" × {}", number(loops, 0)));
    }
    text
}

/// What the columns of a plan are called: what steps take for themselves, and their rows. Empty where there are none.
pub fn headings(plan: &Plan) -> (&'static str, &'static str) {
    match plan.unit {
        Unit::Time => ("own time", "rows: estimate → met"),
        Unit::Cost => ("own cost", "rows (estimate)"),
        Unit::None => ("", ""),
    }
}

/// What the whole takes, in the plan's unit.
pub fn total(plan: &Plan) -> String {
    match plan.unit {
        Unit::Time => format!("{} ms", short(plan.total)),
        Unit::Cost => format!("cost {}", short(plan.total)),
        Unit::None if plan.steps.len() == 1 => "1 step".to_owned(),
        Unit::None => format!("{} steps", plan.steps.len()),
    }
}

/// What the whole takes, and what is told of it.
pub fn whole(plan: &Plan) -> String {
    let notes = plan.notes.iter().map(|(name, value)| clean::clean(&format!("{name} {value}")).into_owned());
    std::iter::once(total(plan)).chain(notes).collect::<Vec<_>>().join(" · ")
}

/// A plan on paper: its title, the statement, and the tree with a line for each step. The dear path has lines of its own colour.
pub fn scene(plan: &Plan, statement: &str, title: &str) -> Scene {
    let Metrics { advance, line, .. } = Metrics::PAPER;
    let left = 2.0 * advance;
    let column = |at: f32| left + at * advance;
    let tree = if plan.unit == Unit::None { 0.0 } else { TREE };
    let mut scene = Scene::new(0.0, 0.0);
    let mut y = line;
    let heading = format!("plan on {title} · {}", whole(plan));
    scene.items.push(strong(left, y, clean::fit(&heading, 2 * WIDEST).text));
    y += 0.5 * line;
    let text = clean::clean_lines(statement).replace('\t', "    ");
    let count = text.lines().count();
    for text in text.lines().take(MOST_LINES) {
        y += line;
        scene.text(left, y, Anchor::Start, Paint::Faint, clean::fit(text, 2 * WIDEST).text);
    }
    if count > MOST_LINES {
        y += line;
        let more = count - MOST_LINES;
        let lines = if more == 1 { "line" } else { "lines" };
        scene.text(left, y, Anchor::Start, Paint::Faint, format!("… {more} more {lines}"));
    }
    y += 1.5 * line;
    let (owns, met) = headings(plan);
    scene.text(column(OWN), y, Anchor::End, Paint::Faint, owns);
    scene.text(column(ROWS), y, Anchor::Start, Paint::Faint, met);
    y += 0.3 * line;
    let top = y;
    let middle = |at: usize| top + (at as f32 + 1.0) * line;
    let indent = |step: &Step| column(tree + 2.0 * step.depth.min(DEEPEST) as f32);
    draw_links(&mut scene, plan, &indent, &middle);
    for (at, step) in plan.steps.iter().enumerate() {
        let y = middle(at);
        if plan.unit != Unit::None {
            let paint = if step.is_dear { Paint::Series(1) } else { Paint::Series(0) };
            scene.rect(left, y - 0.3 * line, BAR * advance * step.share as f32, 0.6 * line, paint);
            scene.text(column(OWN), y, Anchor::End, Paint::Ink, own(plan, step));
            let paint = if step.misestimate().is_some() { Paint::Alarm } else { Paint::Ink };
            let room = (TREE - ROWS) as usize - 1;
            scene.text(column(ROWS), y, Anchor::Start, paint, clean::fit(&rows(step), room).text);
        }
        let mut x = indent(step) + 1.5 * advance;
        let mut put = |text: &str, paint: Paint| {
            let text = clean::fit(text, WIDEST).text;
            let width = Metrics::PAPER.width(&text);
            scene.text(x, y, Anchor::Start, paint, text);
            // Blanks at the start of a text are left out by readers of SVG.
            x += width + advance;
        };
        put(&step.action, Paint::Ink);
        if !step.target.is_empty() {
            put(&step.target, Paint::Series(0));
        }
        for (about, text) in remarks(step) {
            let paint = if about == About::Way { Paint::Faint } else { Paint::Alarm };
            put(&text, paint);
        }
    }
    scene.items.retain(|item| !matches!(item, Item::Text { text, .. } if text.is_empty()));
    let right = scene.labels(&Metrics::PAPER).iter().map(|(at, _)| at[2]).fold(0.0, f32::max);
    scene.width = right + left;
    scene.height = middle(plan.steps.len()) + 0.5 * line;
    scene.title = format!("plan on {title}, {}", total(plan));
    scene.about = plan.text();
    scene
}

fn strong(x: f32, y: f32, text: String) -> Item {
    Item::Text { x, y, text, anchor: Anchor::Start, paint: Paint::Ink, strong: true }
}

/// A line from each step to the one that it belongs to.
fn draw_links(scene: &mut Scene, plan: &Plan, x: &dyn Fn(&Step) -> f32, y: &dyn Fn(usize) -> f32) {
    let Metrics { advance, line, .. } = Metrics::PAPER;
    // The steps that the next one may belong to, the deepest last.
    let mut above: Vec<usize> = Vec::new();
    for (at, step) in plan.steps.iter().enumerate() {
        while above.last().is_some_and(|parent| plan.steps[*parent].depth >= step.depth) {
            above.pop();
        }
        if let Some(parent) = above.last().copied() {
            let (from, to) = (x(&plan.steps[parent]) + 2.0 * advance, x(step) + advance);
            let paint = if step.is_dear { Paint::Series(1) } else { Paint::Rule };
            // Where steps are too deep to be moved in, there is no room for a line.
            if to > from - advance {
                let corner = from - 0.5 * advance;
                scene.line(vec![(corner, y(parent) + 0.5 * line), (corner, y(at)), (to, y(at))], paint, 1.0);
            }
        }
        above.push(at);
    }
}
