//! A password or token, which is wiped from memory after use and never printed.

use std::fmt;

use zeroize::Zeroizing;

/// Something that only its owner may know.
#[derive(Clone)]
pub struct Secret(Zeroizing<String>);

impl Secret {
    /// Takes the text over.
    pub fn new(text: String) -> Self {
        Secret(Zeroizing::new(text))
    }

    /// The text, for the one place that sends it.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(secret)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_never_printed() {
        let secret = Secret::new("tide-table-9".into());
        assert_eq!(format!("{:?}", secret.clone()), "(secret)");
        assert_eq!(secret.reveal(), "tide-table-9");
    }
}
