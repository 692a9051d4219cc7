//! Lines as bins along their lower edge, which grow with the range of their points.

/// Places of a line along its lower edge.
const BINS: usize = 2048;

/// Part of a line: all points between two places of the lower edge.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bin {
    /// How many points.
    pub count: u64,
    /// The least value.
    pub min: f64,
    /// The greatest.
    pub max: f64,
    /// The first point.
    pub first: (f64, f64),
    /// The last point.
    pub last: (f64, f64),
}

const NO_POINT: Bin = Bin {
    count: 0,
    min: f64::INFINITY,
    max: f64::NEG_INFINITY,
    first: (f64::INFINITY, 0.0),
    last: (f64::NEG_INFINITY, 0.0),
};

/// A line as bins that grow with the range of its points: they double, and two become one.
#[derive(Debug, Clone)]
pub struct Bins {
    from: f64,
    width: f64,
    bins: Vec<Bin>,
}

impl Bins {
    /// For points in this range; of none at all the first one says where it is.
    pub(super) fn new((low, high): (f64, f64)) -> Bins {
        if low > high {
            return Bins { from: f64::NAN, width: 0.0, bins: vec![NO_POINT; BINS] };
        }
        let range = if high > low { high - low } else { 1.0 };
        Bins { from: low, width: range / (BINS as f64 - 1.0), bins: vec![NO_POINT; BINS] }
    }

    fn merged(a: Bin, b: Bin) -> Bin {
        let first = if a.first.0 <= b.first.0 { a.first } else { b.first };
        let last = if b.last.0 >= a.last.0 { b.last } else { a.last };
        Bin { count: a.count + b.count, min: a.min.min(b.min), max: a.max.max(b.max), first, last }
    }

    /// Makes room for a place beyond the ends.
    #[cold]
    fn grow(&mut self, to: f64) {
        if self.from.is_nan() {
            (self.from, self.width) = (to, to.abs().max(1.0) * 1e-12);
        }
        while to < self.from || to >= self.from + self.width * BINS as f64 {
            let to_left = to < self.from;
            let half: Vec<Bin> = self.bins.chunks_exact(2).map(|pair| Bins::merged(pair[0], pair[1])).collect();
            let free = vec![NO_POINT; BINS / 2];
            if to_left {
                self.from -= self.width * BINS as f64;
                self.bins = [free, half].concat();
            } else {
                self.bins = [half, free].concat();
            }
            self.width *= 2.0;
            if !self.width.is_finite() {
                return;
            }
        }
    }

    #[inline]
    pub(super) fn add(&mut self, x: f64, y: f64) {
        let mut at = ((x - self.from) / self.width) as usize;
        if self.from.is_nan() || x < self.from || at >= BINS {
            self.grow(x);
            at = (((x - self.from) / self.width) as usize).min(BINS - 1);
        }
        let Some(bin) = self.bins.get_mut(at) else { return };
        bin.count += 1;
        bin.min = bin.min.min(y);
        bin.max = bin.max.max(y);
        if x < bin.first.0 {
            bin.first = (x, y);
        }
        if x >= bin.last.0 {
            bin.last = (x, y);
        }
    }

    /// Adds points, and says how many of them have no place.
    pub(super) fn add_all(&mut self, xs: &[f64], ys: &[f64]) -> u64 {
        let mut without_place = 0;
        let (mut from, mut each) = (self.from, 1.0 / self.width);
        for (x, y) in xs.iter().copied().zip(ys.iter().copied()) {
            if x.is_nan() || y.is_nan() {
                without_place += 1;
                continue;
            }
            let at = (x - from) * each;
            // What is beyond the ends, or at the end of the last bin, takes the long way.
            if at >= 0.0
                && let Some(bin) = self.bins.get_mut(at as usize)
            {
                bin.count += 1;
                if y < bin.min {
                    bin.min = y;
                }
                if y > bin.max {
                    bin.max = y;
                }
                if x < bin.first.0 {
                    bin.first = (x, y);
                }
                if x >= bin.last.0 {
                    bin.last = (x, y);
                }
            } else {
                self.add(x, y);
                (from, each) = (self.from, 1.0 / self.width);
            }
        }
        without_place
    }

    /// Those that have points, in order.
    pub fn filled(&self) -> impl Iterator<Item = &Bin> {
        self.bins.iter().filter(|bin| bin.count > 0)
    }
}
