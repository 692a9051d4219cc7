//! Numbers from repeated measurements.

use std::time::Duration;

/// Durations of the same thing, many times.
#[derive(Debug, Default)]
pub struct Times(Vec<Duration>);

impl Times {
    /// Adds one.
    pub fn push(&mut self, time: Duration) {
        self.0.push(time);
    }

    /// Adds those of another.
    pub fn extend(&mut self, other: Times) {
        self.0.extend(other.0);
    }

    /// The duration that so many percent stay within.
    pub fn percentile(&self, percent: usize) -> Duration {
        let mut sorted = self.0.clone();
        sorted.sort_unstable();
        let at = (sorted.len() * percent).div_ceil(100).max(1) - 1;
        sorted.get(at).copied().unwrap_or_default()
    }

    /// Median, 99th percentile and most, in milliseconds.
    pub fn summary(&self) -> String {
        let ms = |time: Duration| time.as_secs_f64() * 1000.0;
        let [median, p99, most] = [50, 99, 100].map(|percent| ms(self.percentile(percent)));
        format!("median {median:.3} ms, p99 {p99:.3} ms, most {most:.3} ms, of {}", self.0.len())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentiles_are_of_what_was_measured() {
        let mut times = Times::default();
        (1..=200).rev().for_each(|ms| times.push(Duration::from_millis(ms)));
        assert_eq!([50, 99, 100].map(|p| times.percentile(p).as_millis()), [100, 198, 200]);
    }
}
