//! What comes before the first statement: the prelogin and the login.

use std::io;
use std::sync::Arc;

use super::say::{self, Line};
use super::wire::{LOGIN, PRELOGIN, Wire};
use super::{Options, Shared};

/// Somebody who was let in.
pub struct Guest {
    pub user: String,
    pub database: String,
    /// The program and the machine, as they call themselves.
    pub program: String,
    pub machine: String,
}

/// The database that every server has.
pub const MASTER: &str = "master";

/// Lets a client in. `None` where it is not.
pub fn greet(wire: &mut Wire, shared: &Arc<Shared>) -> io::Result<Option<Guest>> {
    let tls_first = wire.first()? == 0x16;
    if tls_first {
        let [_, config] = shared.configs.clone().ok_or(io::ErrorKind::ConnectionRefused)?;
        wire.begin_with_tls(config)?;
    }
    let (kind, message) = wire.message()?;
    if kind != PRELOGIN {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let wished = option(&message, 1).and_then(|value| value.first().copied()).unwrap_or(2);
    let instance = option(&message, 2).unwrap_or_default();
    let instance = instance.split(|byte| *byte == 0).next().unwrap_or_default();
    let right = instance.is_empty() || instance.eq_ignore_ascii_case(INSTANCE.as_bytes());
    // [MS-TDS] 2.2.6.5: what the client wishes, and what holds then.
    let encryption = match (&shared.configs, wished) {
        _ if tls_first => 1,
        (None, _) => 2,
        (Some(_), 1 | 3) => 1,
        (Some(_), _) if shared.options.requires_tls => 3,
        (Some(_), 0) => 0,
        (Some(_), _) => 2,
    };
    let options: [(u8, Vec<u8>); 5] = [
        (0, vec![16, 0, 0x10, 0x04, 0, 0]),
        (1, vec![encryption]),
        (2, vec![u8::from(!right)]),
        (3, Vec::new()),
        (4, vec![0]),
    ];
    let mut answer = Vec::new();
    let mut offset = options.len() * 5 + 1;
    for (token, value) in &options {
        answer.push(*token);
        answer.extend((offset as u16).to_be_bytes());
        answer.extend((value.len() as u16).to_be_bytes());
        offset += value.len();
    }
    answer.push(0xFF);
    options.iter().for_each(|(_, value)| answer.extend(value));
    wire.say(&answer)?;
    wire.end()?;
    if matches!(encryption, 0 | 1 | 3) && !tls_first {
        let [config, _] = shared.configs.clone().ok_or(io::ErrorKind::InvalidData)?;
        wire.begin_tls(config)?;
    }
    let (kind, message) = wire.message()?;
    if kind != LOGIN {
        return Err(io::ErrorKind::InvalidData.into());
    }
    if encryption == 0 {
        // Only the login was to be hidden.
        wire.end_tls();
    }
    login(wire, &message, shared)
}

/// The name of the one instance.
pub const INSTANCE: &str = "PIER";

/// The value of an option.
fn option(message: &[u8], wanted: u8) -> Option<&[u8]> {
    message.chunks(5).take_while(|head| head.first() != Some(&0xFF)).find_map(|head| {
        let [token, o1, o2, l1, l2] = head else { return None };
        let (offset, length) =
            (usize::from(u16::from_be_bytes([*o1, *o2])), usize::from(u16::from_be_bytes([*l1, *l2])));
        (*token == wanted).then(|| message.get(offset..offset + length))?
    })
}

fn login(wire: &mut Wire, message: &[u8], shared: &Arc<Shared>) -> io::Result<Option<Guest>> {
    let number = |at: usize| {
        usize::from(u16::from_le_bytes([
            message.get(at).copied().unwrap_or_default(),
            message.get(at + 1).copied().unwrap_or_default(),
        ]))
    };
    let bytes = |at: usize| message.get(number(at)..number(at) + 2 * number(at + 2)).unwrap_or_default().to_vec();
    let text = |bytes: Vec<u8>| {
        let units: Vec<u16> = bytes.chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect();
        String::from_utf16_lossy(&units)
    };
    let user = text(bytes(40));
    let password = text(bytes(44).into_iter().map(|byte| (byte ^ 0xA5).rotate_right(4)).collect());
    let (machine, program, wanted) = (text(bytes(36)), text(bytes(48)), text(bytes(68)));
    let packet = u32::from_le_bytes(message.get(8..12).and_then(|b| b.try_into().ok()).unwrap_or_default());
    let reads = message.get(26).is_some_and(|flags| flags & 0x20 != 0);
    let Options { user: known, password: right, database, reading_port, .. } = &shared.options;
    let by_token = token_of(message);
    let is_in = match &by_token {
        Some(token) => token == right,
        None => user.eq_ignore_ascii_case(known) && password == *right,
    };
    let refused = |wire: &mut Wire, lines: &[Line]| {
        for line in lines {
            wire.say(&say::error(line))?;
        }
        wire.say(&say::done(0xFD, 2, 0, 0))?;
        wire.end().map(|()| None)
    };
    let wrong = Line {
        number: 18456,
        state: 1,
        class: 14,
        text: format!("Login failed for user '{user}'."),
        line: 1,
        procedure: String::new(),
    };
    if !is_in {
        return refused(wire, &[wrong]);
    }
    let Some(chosen) = shared.database(if wanted.is_empty() { database } else { &wanted }) else {
        let text = format!("Cannot open database \"{wanted}\" requested by the login. The login failed.");
        return refused(wire, &[Line { number: 4060, class: 11, text, ..wrong.clone() }, wrong]);
    };
    wire.size = (packet as usize).clamp(512, 32_767);
    if let (true, Some(port)) = (reads, reading_port) {
        wire.say(&say::logged_in())?;
        wire.say(&say::route("127.0.0.1", *port))?;
        wire.say(&say::done(0xFD, 0, 0, 0))?;
        wire.end()?;
        return Ok(None);
    }
    wire.say(&say::environment(1, &chosen, MASTER))?;
    let text = format!("Changed database context to '{chosen}'.");
    wire.say(&say::info(&Line { number: 5701, state: 2, class: 0, text, line: 1, procedure: String::new() }))?;
    wire.say(&say::collation())?;
    wire.say(&say::logged_in())?;
    wire.say(&say::environment(4, &wire.size.to_string(), "4096"))?;
    if by_token.is_some() || has_features(message) {
        // Acknowledged: UTF-8, and the token if there was one.
        let mut features = vec![0xAE, 0x0A, 1, 0, 0, 0, 1];
        if by_token.is_some() {
            features.extend([0x02, 0, 0, 0, 0]);
        }
        features.push(0xFF);
        wire.say(&features)?;
    }
    wire.say(&say::done(0xFD, 0, 0, 0))?;
    wire.end()?;
    let user = if by_token.is_some() { format!("{known}@quay.example") } else { user };
    Ok(Some(Guest { user, database: chosen, program, machine }))
}

/// Whether features follow: the third byte of options.
fn has_features(message: &[u8]) -> bool {
    message.get(27).is_some_and(|flags| flags & 0x10 != 0)
}

/// The access token of a login, if it has one.
fn token_of(message: &[u8]) -> Option<String> {
    if !has_features(message) {
        return None;
    }
    let pointer = usize::from(u16::from_le_bytes([*message.get(56)?, *message.get(57)?]));
    let mut at = u32::from_le_bytes(message.get(pointer..pointer + 4)?.try_into().ok()?) as usize;
    loop {
        let feature = *message.get(at)?;
        if feature == 0xFF {
            return None;
        }
        let length = u32::from_le_bytes(message.get(at + 1..at + 5)?.try_into().ok()?) as usize;
        let data = message.get(at + 5..at + 5 + length)?;
        if feature == 0x02 {
            let units: Vec<u16> = data.get(5..)?.chunks_exact(2).map(|u| u16::from_le_bytes([u[0], u[1]])).collect();
            return Some(String::from_utf16_lossy(&units));
        }
        at += 5 + length;
    }
}
