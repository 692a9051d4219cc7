//! What a server sends, token by token ([MS-TDS] 2.2.7).

/// A message or an error.
#[derive(Debug, Clone)]
pub struct Line {
    pub number: i32,
    pub state: u8,
    pub class: u8,
    pub text: String,
    /// In which line of the batch or the procedure.
    pub line: u32,
    /// The procedure; empty for the batch itself.
    pub procedure: String,
}

/// The name that the server gives itself.
pub const NAME: &str = "QUAY";

pub fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// A text with the count of its units in one byte.
pub fn short(text: &str) -> Vec<u8> {
    let units = utf16(text);
    let units = units.get(..510).unwrap_or(&units);
    let mut bytes = vec![(units.len() / 2) as u8];
    bytes.extend(units);
    bytes
}

/// A text with the count of its units in two bytes.
pub fn long(text: &str) -> Vec<u8> {
    let units = utf16(text);
    let mut bytes = ((units.len() / 2) as u16).to_le_bytes().to_vec();
    bytes.extend(units);
    bytes
}

/// A token with the count of its bytes behind its number.
fn counted(token: u8, inside: &[u8]) -> Vec<u8> {
    let mut bytes = vec![token];
    bytes.extend((inside.len() as u16).to_le_bytes());
    bytes.extend(inside);
    bytes
}

fn line(token: u8, line: &Line) -> Vec<u8> {
    let mut inside = line.number.to_le_bytes().to_vec();
    inside.extend([line.state, line.class]);
    inside.extend(long(&line.text.chars().take(4000).collect::<String>()));
    inside.extend(short(NAME));
    inside.extend(short(&line.procedure));
    inside.extend(line.line.to_le_bytes());
    counted(token, &inside)
}

pub fn error(of: &Line) -> Vec<u8> {
    line(0xAA, of)
}

pub fn info(of: &Line) -> Vec<u8> {
    line(0xAB, of)
}

/// An end: 0xFD of a statement, 0xFE of a procedure, 0xFF of a statement within one.
pub fn done(token: u8, status: u16, command: u16, rows: u64) -> Vec<u8> {
    let mut bytes = vec![token];
    bytes.extend(status.to_le_bytes());
    bytes.extend(command.to_le_bytes());
    bytes.extend(rows.to_le_bytes());
    bytes
}

pub fn environment(kind: u8, new: &str, old: &str) -> Vec<u8> {
    let mut inside = vec![kind];
    inside.extend(short(new));
    inside.extend(short(old));
    counted(0xE3, &inside)
}

/// A transaction began (8), was committed (9) or rolled back (10).
pub fn transaction(kind: u8, number: u64) -> Vec<u8> {
    let mut inside = vec![kind];
    let bytes = number.to_le_bytes();
    if kind == 8 {
        inside.push(8);
        inside.extend(bytes);
        inside.push(0);
    } else {
        inside.push(0);
        inside.push(8);
        inside.extend(bytes);
    }
    counted(0xE3, &inside)
}

/// The collation of texts: Latin, capitals do not count.
pub const COLLATION: [u8; 5] = [0x09, 0x04, 0xD0, 0x00, 0x34];

pub fn collation() -> Vec<u8> {
    let mut inside = vec![7, 5];
    inside.extend(COLLATION);
    inside.push(0);
    counted(0xE3, &inside)
}

pub fn route(host: &str, port: u16) -> Vec<u8> {
    let mut to = vec![0];
    to.extend(port.to_le_bytes());
    to.extend(long(host));
    let mut inside = vec![20];
    inside.extend((to.len() as u16).to_le_bytes());
    inside.extend(to);
    inside.extend([0, 0]);
    counted(0xE3, &inside)
}

pub fn logged_in() -> Vec<u8> {
    let mut inside = vec![1];
    inside.extend([0x74, 0x00, 0x00, 0x04]);
    inside.extend(short("SQL Server, a stand-in"));
    inside.extend([16, 0, 0x10, 0x04]);
    counted(0xAD, &inside)
}

pub fn status(value: i32) -> Vec<u8> {
    let mut bytes = vec![0x79];
    bytes.extend(value.to_le_bytes());
    bytes
}
