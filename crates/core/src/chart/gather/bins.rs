//! Lines as bins along their lower edge, which grow with the range of their points.

/// Places of a line along its lower edge.
const BINS: usize = 2048;

/// Points that are looked at together.
const RUN: usize = 64;

/// Points whose places are found together.
const BLOCK: usize = 256;

/// The whole part of a number from 0 to 2,047, as the bits of a double have it that has been moved so that 32 are left
/// for the rest. Vectors of this are made for any processor, which those of a conversion are not.
#[inline]
fn whole_part(number: f64) -> u32 {
    const MOVED: f64 = (1_u64 << (f64::MANTISSA_DIGITS - 1 - 32)) as f64;
    ((number + MOVED).to_bits() >> 32) as u32 & (BINS as u32 * 2 - 1)
}

/// Part of a line: all points between two places of the lower edge. It begins where a line of the processor's cache does.
#[derive(Debug, Clone, Copy, PartialEq)]
#[repr(align(64))]
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

impl Bin {
    #[inline]
    fn add(&mut self, x: f64, y: f64) {
        self.count += 1;
        if y < self.min {
            self.min = y;
        }
        if y > self.max {
            self.max = y;
        }
        if x < self.first.0 {
            self.first = (x, y);
        }
        if x >= self.last.0 {
            self.last = (x, y);
        }
    }
}

/// The range of a run.
struct Range {
    min: f64,
    max: f64,
    has_nan: bool,
}

impl Range {
    /// In lanes, of which the compiler makes vectors.
    fn of(values: &[f64; RUN]) -> Range {
        const LANES: usize = 8;
        let (mut mins, mut maxs) = ([f64::INFINITY; LANES], [f64::NEG_INFINITY; LANES]);
        let mut has_nan = false;
        for values in values.chunks_exact(LANES) {
            for lane in 0..LANES {
                let value = values[lane];
                mins[lane] = if value < mins[lane] { value } else { mins[lane] };
                maxs[lane] = if value > maxs[lane] { value } else { maxs[lane] };
                has_nan |= value.is_nan();
            }
        }
        let min = mins.into_iter().fold(f64::INFINITY, f64::min);
        Range { min, max: maxs.into_iter().fold(f64::NEG_INFINITY, f64::max), has_nan }
    }
}

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
        if let Some(bin) = self.bins.get_mut(at) {
            bin.add(x, y);
        }
    }

    /// Adds points, and says how many of them have no place: what is NaN or endless has none.
    pub(super) fn add_all(&mut self, xs: &[f64], ys: &[f64]) -> u64 {
        let (mut xs_left, mut ys_left) = (xs, ys);
        let mut without_place = 0;
        // Rows mostly come in the order of time: then whole runs of points have one place, and are looked at together.
        while let Some((xs, xs_after)) = xs_left.split_first_chunk::<RUN>()
            && let Some((ys, ys_after)) = ys_left.split_first_chunk::<RUN>()
        {
            (xs_left, ys_left) = (xs_after, ys_after);
            if !self.add_run(xs, ys) {
                without_place += self.add_each(xs, ys);
            }
        }
        without_place + self.add_each(xs_left, ys_left)
    }

    /// The bin of a place, if there is one.
    fn at(&self, x: f64) -> Option<usize> {
        let at = (x - self.from) * (1.0 / self.width);
        (at >= 0.0 && at < BINS as f64).then(|| (whole_part(at) as usize).min(BINS - 1))
    }

    /// Adds a run of points that all lie in one bin; otherwise it adds none and says so.
    fn add_run(&mut self, xs: &[f64; RUN], ys: &[f64; RUN]) -> bool {
        let Some(at) = self.at(xs[0]) else { return false };
        if self.at(xs[RUN / 2]) != Some(at) || self.at(xs[RUN - 1]) != Some(at) {
            return false;
        }
        let (x, y) = (Range::of(xs), Range::of(ys));
        if x.has_nan || y.has_nan || self.at(x.min) != Some(at) || self.at(x.max) != Some(at) {
            return false;
        }
        if y.min.is_infinite() || y.max.is_infinite() {
            return false;
        }
        let Some(bin) = self.bins.get_mut(at) else { return false };
        bin.count += RUN as u64;
        bin.min = bin.min.min(y.min);
        bin.max = bin.max.max(y.max);
        if x.min < bin.first.0
            && let Some(first) = xs.iter().position(|one| *one == x.min)
        {
            bin.first = (x.min, ys[first]);
        }
        if x.max >= bin.last.0
            && let Some(last) = xs.iter().rposition(|one| *one == x.max)
        {
            bin.last = (x.max, ys[last]);
        }
        true
    }

    fn add_each(&mut self, mut xs: &[f64], mut ys: &[f64]) -> u64 {
        let mut without_place = 0;
        while !xs.is_empty() {
            let done = self.add_block(xs, ys, &mut without_place);
            (xs, ys) = (xs.get(done..).unwrap_or_default(), ys.get(done..).unwrap_or_default());
        }
        without_place
    }

    /// Adds the first points, and says how many. First all places are found, which the compiler makes vectors of: bins
    /// all over the memory are then waited for together.
    fn add_block(&mut self, xs: &[f64], ys: &[f64], without_place: &mut u64) -> usize {
        let mut places = [u32::MAX; BLOCK];
        let (from, each) = (self.from, 1.0 / self.width);
        for ((place, x), y) in places.iter_mut().zip(xs).zip(ys) {
            let at = (x - from) * each;
            let is_there = (at >= 0.0) & (at < BINS as f64) & y.is_finite();
            *place = if is_there { whole_part(at) } else { u32::MAX };
        }
        for (nth, ((place, x), y)) in places.iter().zip(xs).zip(ys).enumerate() {
            if let Some(bin) = self.bins.get_mut(*place as usize) {
                bin.add(*x, *y);
            } else if !x.is_finite() || !y.is_finite() {
                *without_place += 1;
            } else {
                // What is beyond the ends takes the long way, and all others have other places after it.
                self.add(*x, *y);
                return nth + 1;
            }
        }
        xs.len().min(BLOCK)
    }

    /// The line of these points and of those, whose rows come after these. Both began with the same range, so that
    /// the bins of one lie whole in those of the other.
    pub(super) fn and(self, after: Bins) -> Bins {
        let (mut wide, fine, fine_is_after) =
            if after.width > self.width { (after, self, false) } else { (self, after, true) };
        for bin in fine.filled() {
            wide.put(*bin, fine_is_after);
        }
        wide
    }

    /// Adds the points of a bin that is not wider than these, of rows that come after these or before them.
    fn put(&mut self, bin: Bin, is_after: bool) {
        // The middle of its points: an end may lie on the border of two places by a rounding.
        let middle = bin.first.0 + (bin.last.0 - bin.first.0) / 2.0;
        if self.at(bin.first.0).is_none() || self.at(bin.last.0).is_none() {
            self.grow(bin.first.0);
            self.grow(bin.last.0);
        }
        let at = self.at(middle).unwrap_or(BINS - 1);
        if let Some(here) = self.bins.get_mut(at) {
            *here = if is_after { Bins::merged(*here, bin) } else { Bins::merged(bin, *here) };
        }
    }

    /// Those that have points, in order.
    pub fn filled(&self) -> impl Iterator<Item = &Bin> {
        self.bins.iter().filter(|bin| bin.count > 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_in_pieces_are_the_same_as_the_whole() {
        let many = 40_000;
        let wave = |n: usize| ((n * 7919) % 1009) as f64 - 500.0;
        let orders: [(&str, Point); 4] = [
            ("in order", Box::new(move |n| (n as f64, wave(n)))),
            ("backwards", Box::new(move |n| ((many - n) as f64, wave(n)))),
            ("in no order", Box::new(move |n| (((n * 104_729) % many) as f64, wave(n)))),
            ("each twice", Box::new(move |n| ((n / 2) as f64, wave(n)))),
        ];
        for (name, point) in &orders {
            let points: Vec<(f64, f64)> = (0..many).map(point).collect();
            let (xs, ys): (Vec<f64>, Vec<f64>) = points.iter().copied().unzip();
            let range = super::super::range_of(&xs[..1000]);
            let mut whole = Bins::new(range);
            whole.add_all(&xs, &ys);
            let pieces = xs.chunks(many / 4).zip(ys.chunks(many / 4)).map(|(xs, ys)| {
                let mut bins = Bins::new(range);
                bins.add_all(xs, ys);
                bins
            });
            let put_together = pieces.reduce(Bins::and).unwrap();
            let facts = |bins: &Bins| {
                let points: u64 = bins.filled().map(|bin| bin.count).sum();
                let low = bins.filled().map(|bin| bin.min).fold(f64::INFINITY, f64::min);
                let high = bins.filled().map(|bin| bin.max).fold(f64::NEG_INFINITY, f64::max);
                let ends = (bins.filled().next().unwrap().first, bins.filled().last().unwrap().last);
                (points, low, high, ends)
            };
            assert_eq!(facts(&put_together), facts(&whole), "{name}");
            // Every point lies between the ends of its place, and the places are in order.
            let ends: Vec<f64> = put_together.filled().flat_map(|bin| [bin.first.0, bin.last.0]).collect();
            assert!(ends.is_sorted(), "{name}");
        }
    }

    type Point = Box<dyn Fn(usize) -> (f64, f64)>;

    /// The same points, one by one, in bins of the same places.
    fn one_by_one(range: (f64, f64), points: &[(f64, f64)]) -> (Vec<Bin>, u64) {
        let mut bins = Bins::new(range);
        let mut without_place = 0;
        for (x, y) in points {
            let (xs, ys) = ([*x], [*y]);
            without_place += bins.add_each(&xs, &ys);
        }
        (bins.bins, without_place)
    }

    #[test]
    fn runs_of_points_are_the_same_as_each_of_them() {
        let many = 300_000;
        let wave = |n: usize| ((n * 7919) % 1009) as f64 - 500.0;
        let orders: [(&str, Point); 8] = [
            ("in order", Box::new(move |n| (n as f64, wave(n)))),
            ("backwards", Box::new(move |n| ((many - n) as f64, wave(n)))),
            ("in no order", Box::new(move |n| (((n * 104_729) % many) as f64, wave(n)))),
            ("each twice", Box::new(move |n| ((n / 2) as f64, wave(n)))),
            ("with gaps", Box::new(move |n| (n as f64, if n % 977 == 0 { f64::NAN } else { wave(n) }))),
            ("endless values", Box::new(move |n| (n as f64, if n % 977 == 0 { f64::INFINITY } else { wave(n) }))),
            ("endless places", Box::new(move |n| (if n % 977 == 0 { f64::NEG_INFINITY } else { n as f64 }, wave(n)))),
            ("without places", Box::new(move |n| (if n % 3001 == 0 { f64::NAN } else { n as f64 }, wave(n)))),
        ];
        for (name, point) in &orders {
            let points: Vec<(f64, f64)> = (0..many).map(point).collect();
            let (xs, ys): (Vec<f64>, Vec<f64>) = points.iter().copied().unzip();
            // All of them known at once, and a range that grows.
            for known in [many, 1000] {
                let range = (0..known).map(|n| n as f64).fold((f64::MAX, f64::MIN), |r, x| (r.0.min(x), r.1.max(x)));
                let mut bins = Bins::new(range);
                let without = bins.add_all(&xs, &ys);
                let (expected, without_expected) = one_by_one(range, &points);
                assert_eq!(without, without_expected, "{name}");
                assert!(bins.bins == expected, "{name}, {known} known");
                assert_eq!(bins.filled().map(|bin| bin.count).sum::<u64>() + without, many as u64, "{name}");
            }
        }
    }
}
