//! Pairs of numbers: each where it is as long as there are few, then counted by places.

/// Places of a scatter along each edge.
const FIELD: usize = 512;

/// As long as there are no more rows than this, each keeps its own place in a scatter.
const EXACT: usize = 20_000;

/// Pairs of numbers: each where it is, or counted by places.
#[derive(Debug, Clone)]
pub struct Pairs {
    /// The pairs, as long as there are few.
    pub exact: Vec<(f64, f64)>,
    /// The ranges of both.
    pub x: (f64, f64),
    /// The range of the second.
    pub y: (f64, f64),
    /// The words of the first pairs, where there are any.
    pub labels: Vec<String>,
    field: Option<Field2>,
}

#[derive(Debug, Clone)]
struct Field2 {
    from: [f64; 2],
    width: [f64; 2],
    counts: Vec<u32>,
}

impl Field2 {
    fn grow(&mut self, axis: usize, to_left: bool) {
        let mut counts = vec![0_u32; FIELD * FIELD];
        let shift = if to_left { FIELD / 2 } else { 0 };
        for (at, count) in self.counts.iter().enumerate().filter(|(_, count)| **count > 0) {
            let mut place = [at % FIELD, at / FIELD];
            place[axis] = place[axis] / 2 + shift;
            let new = &mut counts[place[1] * FIELD + place[0]];
            *new = new.saturating_add(*count);
        }
        self.counts = counts;
        if to_left {
            self.from[axis] -= self.width[axis] * FIELD as f64;
        }
        self.width[axis] *= 2.0;
    }

    pub(super) fn add(&mut self, at: [f64; 2]) {
        let mut place = [0; 2];
        for axis in 0..2 {
            loop {
                let n = (at[axis] - self.from[axis]) / self.width[axis];
                if (0.0..FIELD as f64).contains(&n) || !self.width[axis].is_finite() {
                    place[axis] = (n.max(0.0) as usize).min(FIELD - 1);
                    break;
                }
                self.grow(axis, n < 0.0);
            }
        }
        let count = &mut self.counts[place[1] * FIELD + place[0]];
        *count = count.saturating_add(1);
    }
}

impl Pairs {
    pub(super) fn new() -> Pairs {
        let none = (f64::INFINITY, f64::NEG_INFINITY);
        Pairs { exact: Vec::new(), x: none, y: none, labels: Vec::new(), field: None }
    }

    pub(super) fn add(&mut self, x: f64, y: f64) {
        self.x = (self.x.0.min(x), self.x.1.max(x));
        self.y = (self.y.0.min(y), self.y.1.max(y));
        if let Some(field) = &mut self.field {
            return field.add([x, y]);
        }
        self.exact.push((x, y));
        if self.exact.len() > EXACT {
            let width = |(low, high): (f64, f64)| if high > low { (high - low) / (FIELD as f64 - 1.0) } else { 1.0 };
            let mut field = Field2 {
                from: [self.x.0, self.y.0],
                width: [width(self.x), width(self.y)],
                counts: vec![0; FIELD * FIELD],
            };
            std::mem::take(&mut self.exact).into_iter().for_each(|(x, y)| field.add([x, y]));
            self.field = Some(field);
        }
    }

    /// Whether places were rounded.
    pub fn is_rounded(&self) -> bool {
        self.field.is_some()
    }

    /// All places, each with how many pairs it has.
    pub fn places(&self) -> Vec<(f64, f64, u32)> {
        let exact = self.exact.iter().map(|(x, y)| (*x, *y, 1));
        let counted = self.field.iter().flat_map(|field| {
            let counts = field.counts.iter().enumerate().filter(|(_, count)| **count > 0);
            counts.map(|(at, count)| {
                let middle = |axis: usize, n: usize| field.from[axis] + (n as f64 + 0.5) * field.width[axis];
                (middle(0, at % FIELD), middle(1, at / FIELD), *count)
            })
        });
        exact.chain(counted).collect()
    }
}
