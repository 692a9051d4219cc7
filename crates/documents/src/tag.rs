//! The bytes that tell the type of an element (BSON 1.1).

pub const DOUBLE: u8 = 0x01;
pub const TEXT: u8 = 0x02;
pub const DOCUMENT: u8 = 0x03;
pub const ARRAY: u8 = 0x04;
pub const BINARY: u8 = 0x05;
pub const UNDEFINED: u8 = 0x06;
pub const OBJECT_ID: u8 = 0x07;
pub const BOOL: u8 = 0x08;
pub const DATE_TIME: u8 = 0x09;
pub const NULL: u8 = 0x0A;
pub const REGEX: u8 = 0x0B;
pub const POINTER: u8 = 0x0C;
pub const CODE: u8 = 0x0D;
pub const SYMBOL: u8 = 0x0E;
pub const CODE_WITH_SCOPE: u8 = 0x0F;
pub const INT32: u8 = 0x10;
pub const TIMESTAMP: u8 = 0x11;
pub const INT64: u8 = 0x12;
pub const DECIMAL: u8 = 0x13;
pub const MIN_KEY: u8 = 0xFF;
pub const MAX_KEY: u8 = 0x7F;
