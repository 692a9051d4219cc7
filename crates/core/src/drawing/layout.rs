//! Where boxes and lines stand, in cells: a character from side to side, a line of text from top to bottom.
//!
//! Boxes stand in columns: what is referenced to the left of what references it, columns of about the same height. Lines
//! run in channels between columns and in gaps between boxes, each on a lane of its own, so that none crosses a box and no
//! two lie on each other but where they lead to the same column.

use jaunty_language::text::clean;

use super::Table;

/// A box.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Placed {
    /// Its left side.
    pub x: i32,
    /// Its upper side, with its title.
    pub y: i32,
    /// From side to side.
    pub width: i32,
    /// From top to bottom.
    pub height: i32,
    /// The column that it stands in.
    pub column: usize,
}

impl Placed {
    /// The line of a row.
    pub fn row(&self, row: usize) -> i32 {
        self.y + 1 + row as i32
    }
}

/// A line from box to box.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Road {
    /// The box that it begins at.
    pub from: usize,
    /// The box that it leads to.
    pub to: usize,
    /// Its corners, from the row that references to the one that is referenced. Each is level with or above or below the next.
    pub corners: Vec<(i32, i32)>,
    /// What stands at its beginning, and at its end.
    pub signs: (&'static str, &'static str),
}

/// A drawing.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Layout {
    /// From side to side.
    pub width: i32,
    /// From top to bottom.
    pub height: i32,
    /// The boxes, in the order of the tables.
    pub boxes: Vec<Placed>,
    /// The lines.
    pub roads: Vec<Road>,
}

/// The least between two boxes below each other, and on both sides of the lanes of a channel.
const GAP: i32 = 1;
const MARGIN: i32 = 3;

/// The widest name and type; what is longer is cut.
const WIDEST: usize = 28;

/// The width of the part with names of a box.
pub fn names_width(table: &Table) -> usize {
    table.rows.iter().map(|row| clean::width(&row.name)).max().unwrap_or(0).min(WIDEST)
}

fn size(table: &Table) -> (i32, i32) {
    let types = table.rows.iter().map(|row| clean::width(&row.type_name)).max().unwrap_or(0).min(WIDEST);
    // A border, a sign, the name, the type, a border.
    let inside = names_width(table) + types + 5;
    let width = inside.max(clean::width(&table.title).min(2 * WIDEST) + 2) + 2;
    (width as i32, table.rows.len() as i32 + 2)
}

/// How far each table is from those that reference nothing.
fn ranks(tables: &[Table]) -> Vec<usize> {
    /// Not looked at, being looked at, known.
    #[derive(Clone, Copy, PartialEq)]
    enum State {
        New,
        Open,
        Known(usize),
    }
    let mut states = vec![State::New; tables.len()];
    for start in 0..tables.len() {
        // Without recursion: schemas may be deep.
        let mut way = vec![(start, 0, 0)];
        while let Some((at, edge, most)) = way.pop() {
            if let State::Known(_) = states[at] {
                continue;
            }
            states[at] = State::Open;
            match tables[at].edges.get(edge) {
                None => states[at] = State::Known(most),
                Some(next) => match states[next.to] {
                    State::Known(rank) => way.push((at, edge + 1, most.max(rank + 1))),
                    // A circle is cut where it closes.
                    State::Open => way.push((at, edge + 1, most)),
                    State::New => {
                        way.push((at, edge, most));
                        way.push((next.to, 0, 0));
                    }
                },
            }
        }
    }
    states.into_iter().map(|state| if let State::Known(rank) = state { rank } else { 0 }).collect()
}

/// The boxes of each column, from top to bottom.
fn columns(tables: &[Table], sizes: &[(i32, i32)]) -> Vec<Vec<usize>> {
    let ranks = ranks(tables);
    let mut is_joined = vec![false; tables.len()];
    for (at, table) in tables.iter().enumerate() {
        for edge in table.edges.iter().filter(|edge| edge.to != at) {
            (is_joined[at], is_joined[edge.to]) = (true, true);
        }
    }
    let all: i32 = sizes.iter().map(|(_, height)| height + GAP).sum();
    let wide: i32 = sizes.iter().map(|(width, _)| width + 8).sum::<i32>() / (sizes.len().max(1) as i32);
    // About as wide as it is high on paper, where a line is twice as high as a character is wide, and a half more.
    let count = (1.5 * 2.1 * f64::from(all) / f64::from(wide.max(1))).sqrt().max(1.0);
    let tallest = sizes.iter().map(|(_, height)| *height).max().unwrap_or(1);
    let most = ((f64::from(all) / count * 1.1) as i32).max(tallest);
    let mut columns: Vec<Vec<usize>> = Vec::new();
    let last = ranks.iter().max().copied().unwrap_or(0);
    let fill = |members: Vec<usize>, columns: &mut Vec<Vec<usize>>| {
        let mut height = i32::MAX;
        for at in members {
            if height == i32::MAX || height + sizes[at].1 + GAP > most {
                columns.push(Vec::new());
                height = 0;
            }
            height += sizes[at].1 + GAP;
            if let Some(column) = columns.last_mut() {
                column.push(at);
            }
        }
    };
    for rank in 0..=last {
        fill((0..tables.len()).filter(|at| ranks[*at] == rank && is_joined[*at]).collect(), &mut columns);
    }
    // What is connected with nothing stands behind.
    fill((0..tables.len()).filter(|at| !is_joined[*at]).collect(), &mut columns);
    columns
}

/// Puts boxes next to those that they are connected with, as far as their columns allow.
fn order(columns: &mut [Vec<usize>], tables: &[Table], sizes: &[(i32, i32)]) {
    let mut neighbours: Vec<Vec<usize>> = vec![Vec::new(); tables.len()];
    for (at, table) in tables.iter().enumerate() {
        for edge in &table.edges {
            neighbours[at].push(edge.to);
            neighbours[edge.to].push(at);
        }
    }
    let middles = |columns: &[Vec<usize>]| {
        let mut middles = vec![0.0; tables.len()];
        for column in columns {
            let mut y = 0;
            for at in column {
                middles[*at] = f64::from(y) + f64::from(sizes[*at].1) / 2.0;
                y += sizes[*at].1 + GAP;
            }
        }
        middles
    };
    for sweep in 0..12 {
        let count = columns.len();
        for step in 0..count {
            let column = if sweep % 2 == 0 { step } else { count - 1 - step };
            let middles = middles(columns);
            let own = columns[column].clone();
            let mut weights: Vec<(f64, usize)> = own
                .iter()
                .map(|at| {
                    let others =
                        neighbours[*at].iter().filter(|other| !own.contains(other)).map(|other| middles[*other]);
                    let (sum, count) = others.fold((0.0, 0), |(sum, count), y| (sum + y, count + 1));
                    (if count == 0 { middles[*at] } else { sum / f64::from(count) }, *at)
                })
                .collect();
            weights.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
            columns[column] = weights.into_iter().map(|(_, at)| at).collect();
        }
    }
}

/// A line before it has lanes: the levels that it runs on, one after the other, and the channel between each two.
struct Course {
    from: usize,
    to: usize,
    signs: (&'static str, &'static str),
    start: (i32, i32),
    end: (i32, i32),
    /// Gaps that it goes through, with its lane in each: a column, the gap in it, the lane.
    gaps: Vec<(usize, usize, usize)>,
    channels: Vec<usize>,
}

/// Places tables and the keys between them.
pub fn layout(tables: &[Table]) -> Layout {
    let sizes: Vec<(i32, i32)> = tables.iter().map(size).collect();
    let mut columns = columns(tables, &sizes);
    order(&mut columns, tables, &sizes);
    let mut column_of = vec![0; tables.len()];
    let mut place_in = vec![0; tables.len()];
    for (column, boxes) in columns.iter().enumerate() {
        for (place, at) in boxes.iter().enumerate() {
            (column_of[*at], place_in[*at]) = (column, place);
        }
    }
    // Where boxes would be if nothing ran between them: enough to choose gaps by.
    let mut middle = vec![0; tables.len()];
    for boxes in &columns {
        let mut y = 0;
        for at in boxes {
            middle[*at] = y + sizes[*at].1 / 2;
            y += sizes[*at].1 + GAP;
        }
    }
    let mut lanes: Vec<Vec<usize>> = columns.iter().map(|boxes| vec![0; boxes.len() + 1]).collect();
    let mut courses: Vec<Course> = Vec::new();
    for (from, table) in tables.iter().enumerate() {
        for edge in &table.edges {
            let (here, there) = (column_of[from], column_of[edge.to]);
            let passed: Vec<usize> = match here.cmp(&there) {
                std::cmp::Ordering::Greater => (there + 1..here).rev().collect(),
                _ => (here + 1..there.max(here + 1)).filter(|_| there > here).collect(),
            };
            let mut gaps = Vec::new();
            for (step, column) in passed.iter().enumerate() {
                // On the straight way from one to the other.
                let share = (step + 1) as f64 / (passed.len() + 1) as f64;
                let wanted = f64::from(middle[from]) + f64::from(middle[edge.to] - middle[from]) * share;
                let boxes = &columns[*column];
                let gap_at = |gap: usize| match gap.checked_sub(1).and_then(|before| boxes.get(before)) {
                    Some(before) => f64::from(middle[*before] + sizes[*before].1 / 2),
                    None => -1.0,
                };
                let gap = (0..=boxes.len())
                    .min_by(|a, b| (gap_at(*a) - wanted).abs().total_cmp(&(gap_at(*b) - wanted).abs()))
                    .unwrap_or(0);
                gaps.push((*column, gap, lanes[*column][gap]));
                lanes[*column][gap] += 1;
            }
            // The channel left of a column has its number.
            let channels: Vec<usize> = match here.cmp(&there) {
                std::cmp::Ordering::Greater => (there + 1..=here).rev().collect(),
                std::cmp::Ordering::Equal => vec![here],
                std::cmp::Ordering::Less => (here + 1..=there).collect(),
            };
            let signs = (if edge.many { "n" } else { "1" }, if edge.optional { "0–1" } else { "1" });
            courses.push(Course {
                from,
                to: edge.to,
                signs,
                start: (0, edge.from as i32),
                end: (0, edge.to_row as i32),
                gaps,
                channels,
            });
        }
    }
    // Now gaps are as high as what runs in them.
    let mut boxes = vec![Placed { x: 0, y: 0, width: 0, height: 0, column: 0 }; tables.len()];
    let mut gap_tops: Vec<Vec<i32>> = Vec::new();
    for (column, members) in columns.iter().enumerate() {
        let mut y = 0;
        let mut tops = Vec::new();
        for (place, at) in members.iter().enumerate() {
            tops.push(y);
            y += lanes[column][place] as i32 + if place == 0 && lanes[column][0] == 0 { 0 } else { GAP };
            boxes[*at] = Placed { x: 0, y, width: sizes[*at].0, height: sizes[*at].1, column };
            y += sizes[*at].1;
        }
        tops.push(y + GAP - 1);
        gap_tops.push(tops);
    }
    // The levels of each line, and the lanes of each channel.
    let levels: Vec<Vec<i32>> = courses
        .iter()
        .map(|course| {
            let start = boxes[course.from].row(course.start.1 as usize);
            let end = boxes[course.to].row(course.end.1 as usize);
            let gaps = course
                .gaps
                .iter()
                .map(|(column, gap, lane)| gap_tops[*column][*gap] + *lane as i32 + i32::from(*gap > 0));
            std::iter::once(start).chain(gaps).chain([end]).collect()
        })
        .collect();
    let mut channels: Vec<Vec<(i32, i32, usize, usize)>> = vec![Vec::new(); columns.len() + 1];
    for (number, course) in courses.iter().enumerate() {
        for (step, channel) in course.channels.iter().enumerate() {
            let (a, b) = (levels[number][step], levels[number][step + 1]);
            channels[*channel].push((a.min(b), a.max(b), number, step));
        }
    }
    let mut lane_of: Vec<Vec<usize>> = courses.iter().map(|course| vec![0; course.channels.len()]).collect();
    let mut counts = vec![0; channels.len()];
    for (channel, parts) in channels.iter_mut().enumerate() {
        parts.sort_unstable();
        // The last level that each lane is taken to.
        let mut taken: Vec<i32> = Vec::new();
        for (low, high, number, step) in parts.iter() {
            let free = taken.iter().position(|until| until < low);
            let lane = free.unwrap_or_else(|| {
                taken.push(0);
                taken.len() - 1
            });
            taken[lane] = *high;
            lane_of[*number][*step] = lane;
        }
        counts[channel] = taken.len();
    }
    // Columns as wide as their boxes, channels as wide as their lanes.
    let mut x = 0;
    let mut channel_left = Vec::new();
    for (column, members) in columns.iter().enumerate() {
        channel_left.push(x);
        x += if column == 0 && counts[0] == 0 { 0 } else { 2 * MARGIN + 2 * counts[column] as i32 };
        let wide = members.iter().map(|at| sizes[*at].0).max().unwrap_or(0);
        for at in members {
            boxes[*at].x = x;
            // Boxes of a column are of one width, so that lines end at all of them.
            boxes[*at].width = wide;
        }
        x += wide;
    }
    channel_left.push(x);
    if let Some(last) = counts.last().filter(|count| **count > 0) {
        x += 2 * MARGIN + 2 * *last as i32;
    }
    let lane_x = |channel: usize, lane: usize| channel_left[channel] + MARGIN + 2 * lane as i32;
    let roads = courses.iter().enumerate().map(|(number, course)| {
        let (from, to) = (&boxes[course.from], &boxes[course.to]);
        let leaves_left = course.channels.first() == Some(&from.column);
        let enters_left = course.channels.last() == Some(&to.column);
        let start = if leaves_left { from.x - 1 } else { from.x + from.width };
        let end = if enters_left { to.x - 1 } else { to.x + to.width };
        let mut corners = vec![(start, levels[number][0])];
        for (step, channel) in course.channels.iter().enumerate() {
            let x = lane_x(*channel, lane_of[number][step]);
            corners.push((x, levels[number][step]));
            corners.push((x, levels[number][step + 1]));
        }
        corners.push((end, levels[number].last().copied().unwrap_or(0)));
        corners.dedup();
        Road { from: course.from, to: course.to, corners, signs: course.signs }
    });
    let roads: Vec<Road> = roads.collect();
    let lowest = boxes
        .iter()
        .map(|placed| placed.y + placed.height)
        .chain(roads.iter().flat_map(|road| road.corners.iter().map(|(_, y)| y + 1)));
    Layout { width: x, height: lowest.max().unwrap_or(0), boxes, roads }
}
