//! Numbers and texts within a packet (MySQL Source Code Documentation, "Protocol Basics: Basic Data Types"). All numbers
//! are little-endian.

/// The first byte of a field that is NULL.
const NULL: u8 = 0xFB;

/// Bytes that are read from their beginning. What is not there is `None`, and then nothing more should be read.
#[derive(Debug, Clone)]
pub struct Fields<'a> {
    rest: &'a [u8],
}

impl<'a> Fields<'a> {
    /// Over a packet, or a part of one.
    #[inline]
    pub fn of(bytes: &'a [u8]) -> Fields<'a> {
        Fields { rest: bytes }
    }

    /// What has not been read.
    pub fn rest(self) -> &'a [u8] {
        self.rest
    }

    /// Whether all was read.
    #[inline]
    pub fn is_empty(&self) -> bool {
        self.rest.is_empty()
    }

    /// So many bytes.
    #[inline]
    pub fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.rest.split_at_checked(count)?;
        self.rest = rest;
        Some(taken)
    }

    fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (taken, rest) = self.rest.split_first_chunk::<N>()?;
        self.rest = rest;
        Some(*taken)
    }

    /// A byte.
    pub fn u8(&mut self) -> Option<u8> {
        self.array::<1>().map(|[byte]| byte)
    }

    /// Two bytes.
    pub fn u16(&mut self) -> Option<u16> {
        self.array().map(u16::from_le_bytes)
    }

    /// Three bytes.
    pub fn u24(&mut self) -> Option<u32> {
        self.array::<3>().map(|[a, b, c]| u32::from_le_bytes([a, b, c, 0]))
    }

    /// Four bytes.
    pub fn u32(&mut self) -> Option<u32> {
        self.array().map(u32::from_le_bytes)
    }

    /// Eight bytes.
    pub fn u64(&mut self) -> Option<u64> {
        self.array().map(u64::from_le_bytes)
    }

    /// A number that says its own length ("length-encoded integer").
    pub fn number(&mut self) -> Option<u64> {
        match self.u8()? {
            small @ ..=0xFA => Some(u64::from(small)),
            0xFC => self.u16().map(u64::from),
            0xFD => self.u24().map(u64::from),
            0xFE => self.u64(),
            _ => None,
        }
    }

    /// Bytes with their length before them.
    pub fn bytes(&mut self) -> Option<&'a [u8]> {
        let length = self.number()?;
        self.take(usize::try_from(length).ok()?)
    }

    /// Bytes up to a zero, or to the end where there is none: some servers leave the last one out.
    pub fn until_zero(&mut self) -> &'a [u8] {
        let end = self.rest.iter().position(|byte| *byte == 0).unwrap_or(self.rest.len());
        let (text, after) = self.rest.split_at(end);
        self.rest = after.get(1..).unwrap_or_default();
        text
    }

    /// A field of a row of texts: within it NULL, or the value. `None` where the row ends too early.
    #[inline]
    pub fn nullable(&mut self) -> Option<Option<&'a [u8]>> {
        match *self.rest.first()? {
            NULL => {
                self.take(1)?;
                Some(None)
            }
            // Most values are shorter than that.
            small if small < NULL => {
                let (value, rest) = self.rest.get(1..)?.split_at_checked(usize::from(small))?;
                self.rest = rest;
                Some(Some(value))
            }
            _ => self.bytes().map(Some),
        }
    }
}

/// Adds a number that says its own length.
pub fn put_number(number: u64, into: &mut Vec<u8>) {
    match number {
        ..=0xFA => into.push(number as u8),
        0xFB..=0xFFFF => {
            into.push(0xFC);
            into.extend((number as u16).to_le_bytes());
        }
        0x1_0000..=0xFF_FFFF => {
            into.push(0xFD);
            into.extend(&number.to_le_bytes()[..3]);
        }
        _ => {
            into.push(0xFE);
            into.extend(number.to_le_bytes());
        }
    }
}

/// Adds bytes with their length before them.
pub fn put_bytes(bytes: &[u8], into: &mut Vec<u8>) {
    put_number(bytes.len() as u64, into);
    into.extend(bytes);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_put_is_read(number: u64, bytes: Vec<u8>, shift in 0_u32..64) {
            let mut put = Vec::new();
            put_number(number >> shift, &mut put);
            put_bytes(&bytes, &mut put);
            put_bytes(&bytes, &mut put);
            let mut fields = Fields::of(&put);
            prop_assert_eq!(fields.number(), Some(number >> shift));
            prop_assert_eq!(fields.bytes(), Some(bytes.as_slice()));
            prop_assert_eq!(fields.nullable(), Some(Some(bytes.as_slice())));
            prop_assert!(fields.is_empty());
        }

        #[test]
        fn hostile_bytes_are_read_as_far_as_they_go(bytes: Vec<u8>) {
            let mut fields = Fields::of(&bytes);
            while fields.nullable().is_some() {}
            prop_assert!(fields.rest().len() <= bytes.len());
        }
    }

    #[test]
    fn a_length_that_is_not_there_is_none() {
        assert_eq!(Fields::of(&[0xFE, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 1]).bytes(), None);
        assert_eq!(Fields::of(&[0xFB]).nullable(), Some(None));
        assert_eq!(Fields::of(&[0xFF, 1]).nullable(), None);
        assert_eq!(Fields::of(b"ports\0rest").until_zero(), b"ports");
        assert_eq!(Fields::of(b"ports").until_zero(), b"ports");
    }
}
