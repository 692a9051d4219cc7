//! How well a name fits what was typed.

/// How good a fit is; more is better. `None` where it does not fit: the letters of `typed` stand in
/// `name` in this order, the first of them at the beginning of a part of the name.
pub fn fit(typed: &str, name: &str) -> Option<i32> {
    if typed.is_empty() {
        return Some(0);
    }
    let (t, n) = (typed.as_bytes(), name.as_bytes());
    let longer = |by: usize| i32::try_from(n.len().saturating_sub(by)).unwrap_or(i32::MAX).min(60);
    let begins = |at: usize| n.get(at..at + t.len()).is_some_and(|part| part.eq_ignore_ascii_case(t));
    if begins(0) {
        return Some(if n.len() == t.len() { 1000 } else { 900 - longer(t.len()) });
    }
    let starts = |at: usize| at == 0 || is_start(n, at);
    if let Some(at) = (1..n.len()).find(|at| starts(*at) && begins(*at)) {
        return Some(700 - longer(t.len()) - i32::try_from(at).unwrap_or(0).min(40));
    }
    // The first letters of its parts, each going on as far as it likes: `bkid` for `booking_id`.
    let mut at = 0;
    let (mut gaps, mut last) = (0, None);
    for (position, byte) in t.iter().enumerate() {
        let found = (at..n.len())
            .find(|i| n.get(*i).is_some_and(|b| b.eq_ignore_ascii_case(byte)) && (position > 0 || starts(*i)))?;
        if last.is_some_and(|last| found != last + 1) {
            gaps += if starts(found) { 1 } else { 4 };
        }
        last = Some(found);
        at = found + 1;
    }
    Some((500 - gaps * 20 - longer(t.len())).max(1))
}

/// Whether a part of a name begins there: behind a sign, or at a capital behind a small letter.
fn is_start(name: &[u8], at: usize) -> bool {
    let (Some(before), Some(here)) = (name.get(at - 1), name.get(at)) else { return false };
    matches!(before, b'_' | b'.' | b' ' | b'-' | b':') || (before.is_ascii_lowercase() && here.is_ascii_uppercase())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_better_fit_comes_first() {
        for (typed, order) in [
            ("na", &["na", "name", "natural_key", "port_name", "nearby_area"][..]),
            ("pid", &["pid", "pid_old", "port_id", "passenger_ideas"]),
            ("bk", &["bk", "bk_number", "old_bk", "bookings"]),
            ("id", &["id", "idle", "port_id"]),
        ] {
            let fits: Vec<_> = order.iter().map(|name| fit(typed, name).unwrap()).collect();
            assert!(fits.is_sorted_by(|a, b| a > b), "{typed}: {fits:?}");
        }
        assert_eq!(fit("rt", "port"), None, "the first letter has to begin something");
        assert_eq!(fit("x", "port"), None);
        assert_eq!(fit("PORT", "port"), Some(1000));
        assert_eq!(fit("é", "café"), None);
    }
}
