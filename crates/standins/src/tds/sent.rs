//! Values as clients send them: what a type is, and its bytes ([MS-TDS] 2.2.5.4 to 2.2.5.6).

use rusqlite::types::Value;

use super::dates;

/// How values of a column or a parameter are sent.
#[derive(Debug, Clone, Copy)]
pub struct Sent {
    token: u8,
    /// The most bytes of one; where that is 65535 they come in parts.
    size: u16,
    scale: u8,
}

/// A reader over a message.
pub struct Reader<'a> {
    pub bytes: &'a [u8],
    pub at: usize,
}

impl<'a> Reader<'a> {
    pub fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let taken = self.bytes.get(self.at..self.at + count)?;
        self.at += count;
        Some(taken)
    }

    pub fn u8(&mut self) -> Option<u8> {
        self.take(1).map(|b| b[0])
    }

    pub fn u16(&mut self) -> Option<u16> {
        self.take(2).map(|b| u16::from_le_bytes([b[0], b[1]]))
    }

    pub fn u32(&mut self) -> Option<u32> {
        self.take(4).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]))
    }

    pub fn u64(&mut self) -> Option<u64> {
        self.take(8)?.try_into().ok().map(u64::from_le_bytes)
    }

    pub fn text(&mut self, units: usize) -> Option<String> {
        let units: Vec<u16> = self.take(units * 2)?.chunks_exact(2).map(|u| u16::from_le_bytes([u[0], u[1]])).collect();
        Some(String::from_utf16_lossy(&units))
    }

    /// A type, as it stands before a value or in the description of columns.
    pub fn sent(&mut self) -> Option<Sent> {
        let token = self.u8()?;
        let (mut size, mut scale) = (0, 0);
        match token {
            // Those of a fixed length say it by their number.
            0x1F => {}
            0x30 | 0x32 => size = 1,
            0x34 => size = 2,
            0x38 | 0x3A | 0x3B | 0x7A => size = 4,
            0x3C | 0x3D | 0x3E | 0x7F => size = 8,
            0x24 | 0x26 | 0x68 | 0x6D | 0x6E | 0x6F => size = self.u8()?.into(),
            0x28 => size = 3,
            0x29..=0x2B => scale = self.u8()?.min(7),
            0x6A | 0x6C => {
                size = self.u8()?.into();
                self.u8()?;
                scale = self.u8()?;
            }
            0xA5 | 0xAD => size = self.u16()?,
            0xA7 | 0xAF | 0xE7 | 0xEF => {
                size = self.u16()?;
                self.take(5)?;
            }
            _ => return None,
        }
        Some(Sent { token, size, scale })
    }

    /// The value of a parameter of a call: its type and its bytes ([MS-TDS] 2.2.6.6).
    pub fn value(&mut self) -> Option<Value> {
        let sent = self.sent()?;
        self.value_of(sent)
    }

    /// A value of a type.
    pub fn value_of(&mut self, sent: Sent) -> Option<Value> {
        let raw = match sent.token {
            0x1F => None,
            0x30 | 0x32 | 0x34 | 0x38 | 0x3A..=0x3E | 0x7A | 0x7F => Some(self.take(sent.size.into())?.to_vec()),
            0xA5 | 0xA7 | 0xAD | 0xAF | 0xE7 | 0xEF if sent.size == u16::MAX => self.parts()?,
            0xA5 | 0xA7 | 0xAD | 0xAF | 0xE7 | 0xEF => match self.u16()? {
                u16::MAX => None,
                length => Some(self.take(length.into())?.to_vec()),
            },
            _ => match self.u8()? {
                0 => None,
                length => Some(self.take(length.into())?.to_vec()),
            },
        };
        raw.map_or(Some(Value::Null), |raw| sent.read(&raw))
    }

    fn parts(&mut self) -> Option<Option<Vec<u8>>> {
        if self.u64()? == u64::MAX {
            return Some(None);
        }
        let mut all = Vec::new();
        loop {
            match self.u32()? {
                0 => return Some(Some(all)),
                count => all.extend(self.take(count as usize)?),
            }
        }
    }
}

impl Sent {
    /// What bytes mean.
    fn read(self, raw: &[u8]) -> Option<Value> {
        let number = |raw: &[u8]| raw.iter().rev().fold(0_i64, |n, b| n << 8 | i64::from(*b));
        let clock = |raw: &[u8]| number(raw) * 10_i64.pow(7 - u32::from(self.scale));
        Some(match (self.token, raw) {
            (0x30 | 0x32 | 0x68, [byte, ..]) => Value::Integer((*byte).into()),
            (0x26 | 0x34 | 0x38 | 0x7F, raw) => Value::Integer(match raw.len() {
                1 => raw[0].into(),
                2 => i16::from_le_bytes(raw.try_into().ok()?).into(),
                4 => i32::from_le_bytes(raw.try_into().ok()?).into(),
                _ => i64::from_le_bytes(raw.try_into().ok()?),
            }),
            (0x3B | 0x3E | 0x6D, raw) => Value::Real(match raw.len() {
                4 => f32::from_le_bytes(raw.try_into().ok()?).into(),
                _ => f64::from_le_bytes(raw.try_into().ok()?),
            }),
            (0x3A | 0x3D | 0x6F, raw) if raw.len() == 8 => {
                let days = i32::from_le_bytes(raw.get(..4)?.try_into().ok()?);
                let parts = u32::from_le_bytes(raw.get(4..)?.try_into().ok()?);
                Value::Text(dates::written(i64::from(days) + 693_595, i64::from(parts) * 10_000_000 / 300, 3))
            }
            (0x3A | 0x6F, [a, b, c, d]) => {
                let (days, minutes) = (u16::from_le_bytes([*a, *b]), u16::from_le_bytes([*c, *d]));
                Value::Text(dates::written(i64::from(days) + 693_595, i64::from(minutes) * 600_000_000, 0))
            }
            // In units of a ten thousandth; of eight bytes the upper half comes first.
            (0x3C | 0x6E | 0x7A, raw) => {
                let units = match raw.len() {
                    4 => i32::from_le_bytes(raw.try_into().ok()?).into(),
                    _ => {
                        let (upper, lower) = raw.split_first_chunk::<4>()?;
                        let lower = u32::from_le_bytes(lower.try_into().ok()?);
                        i64::from(i32::from_le_bytes(*upper)) << 32 | i64::from(lower)
                    }
                };
                let sign = if units < 0 { "-" } else { "" };
                Value::Text(format!("{sign}{}.{:04}", units.unsigned_abs() / 10_000, units.unsigned_abs() % 10_000))
            }
            // A GUID: its first three numbers have the low byte first.
            (0x24, raw) if raw.len() == 16 => {
                let order = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];
                let digits: Vec<String> = order.iter().map(|at| format!("{:02X}", raw[*at])).collect();
                let groups = [0..4, 4..6, 6..8, 8..10, 10..16].map(|range| digits[range].concat());
                Value::Text(groups.join("-"))
            }
            (0x28, raw) => Value::Text(dates::written(number(raw), 0, 0).get(..10)?.to_owned()),
            (0x29, raw) => Value::Text(dates::written(0, clock(raw), self.scale.into()).get(11..)?.to_owned()),
            (0x2A, raw) => {
                let (time, day) = raw.split_at_checked(raw.len().checked_sub(3)?)?;
                Value::Text(dates::written(number(day), clock(time), self.scale.into()))
            }
            // In UTC, with the minutes of its offset behind.
            (0x2B, raw) => {
                let (time, rest) = raw.split_at_checked(raw.len().checked_sub(5)?)?;
                let (day, offset) = rest.split_at_checked(3)?;
                let offset = i16::from_le_bytes(offset.try_into().ok()?);
                let ticks = clock(time) + i64::from(offset) * 600_000_000;
                let of_a_day = 864_000_000_000;
                let (days, ticks) = (number(day) + ticks.div_euclid(of_a_day), ticks.rem_euclid(of_a_day));
                let sign = if offset < 0 { '-' } else { '+' };
                let written = dates::written(days, ticks, self.scale.into());
                let offset = offset.unsigned_abs();
                Value::Text(format!("{written} {sign}{:02}:{:02}", offset / 60, offset % 60))
            }
            (0x6A | 0x6C, [sign, raw @ ..]) => {
                let number = raw.iter().rev().fold(0_u128, |n, b| n << 8 | u128::from(*b));
                let scale = usize::from(self.scale);
                let digits = format!("{number:0width$}", width = scale + 1);
                let (whole, fraction) = digits.split_at(digits.len() - scale);
                let text = format!("{}{whole}.{fraction}", if *sign == 0 { "-" } else { "" });
                Value::Text(text.trim_end_matches('.').to_owned())
            }
            (0xE7 | 0xEF, raw) => {
                let units: Vec<u16> = raw.chunks_exact(2).map(|u| u16::from_le_bytes([u[0], u[1]])).collect();
                Value::Text(String::from_utf16_lossy(&units))
            }
            (0xA7 | 0xAF, raw) => Value::Text(raw.iter().map(|byte| char::from(*byte)).collect()),
            (0xA5 | 0xAD, raw) => Value::Blob(raw.to_vec()),
            _ => return None,
        })
    }
}
