//! The values of a column: kept as long as there are few, then counted by ranges.

use super::bins::Bins;

/// As long as there are no more values than this, histograms and quartiles are of the values themselves.
const KEPT: usize = 200_000;

pub(super) fn sorted(values: &[f64]) -> Vec<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    sorted
}

/// A quantile of sorted values, between two neighbours in proportion (type 7 of Hyndman and Fan, 1996).
pub(in crate::chart) fn quantile(sorted: &[f64], share: f64) -> f64 {
    let Some(last) = sorted.len().checked_sub(1) else { return f64::NAN };
    let at = share * last as f64;
    let (low, high) = (at.floor() as usize, at.ceil() as usize);
    sorted[low] + (sorted[high.min(last)] - sorted[low]) * (at - at.floor())
}

/// Values of a column, kept or counted by ranges.
#[derive(Debug, Clone)]
pub struct Spread {
    /// How many.
    pub count: u64,
    /// The least.
    pub min: f64,
    /// The greatest.
    pub max: f64,
    values: Vec<f64>,
    bins: Option<Bins>,
}

impl Spread {
    pub(super) fn new() -> Spread {
        Spread { count: 0, min: f64::INFINITY, max: f64::NEG_INFINITY, values: Vec::new(), bins: None }
    }

    pub(super) fn add(&mut self, value: f64) {
        self.count += 1;
        self.min = self.min.min(value);
        self.max = self.max.max(value);
        match &mut self.bins {
            Some(bins) => bins.add(value, 0.0),
            None => {
                self.values.push(value);
                if self.values.len() > KEPT {
                    let mut bins = Bins::new((self.min, self.max));
                    std::mem::take(&mut self.values).into_iter().for_each(|value| bins.add(value, 0.0));
                    self.bins = Some(bins);
                }
            }
        }
    }

    /// Whether what is told of them is only exact to a part of their range.
    pub fn is_rounded(&self) -> bool {
        self.bins.is_some()
    }

    /// How many lie in each of these ranges of equal width.
    pub fn counts(&self, from: f64, width: f64, ranges: usize) -> Vec<u64> {
        let mut counts = vec![0; ranges];
        let mut add = |value: f64, count: u64| {
            let at = ((value - from) / width).floor().max(0.0) as usize;
            if let Some(range) = counts.get_mut(at.min(ranges.saturating_sub(1))) {
                *range += count;
            }
        };
        self.values.iter().for_each(|value| add(*value, 1));
        for bin in self.bins.iter().flat_map(Bins::filled) {
            add(f64::midpoint(bin.first.0, bin.last.0), bin.count);
        }
        counts
    }

    /// Quantiles.
    pub fn quantiles<const N: usize>(&self, shares: [f64; N]) -> [f64; N] {
        let Some(bins) = &self.bins else {
            let sorted = sorted(&self.values);
            return shares.map(|share| quantile(&sorted, share));
        };
        shares.map(|share| {
            let at = share * (self.count as f64 - 1.0);
            let mut before = 0.0;
            for bin in bins.filled() {
                if at < before + bin.count as f64 {
                    let within = (at - before) / bin.count as f64;
                    return bin.first.0 + (bin.last.0 - bin.first.0) * within;
                }
                before += bin.count as f64;
            }
            self.max
        })
    }
}
