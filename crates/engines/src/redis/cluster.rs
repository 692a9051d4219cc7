//! Several servers that hold the keys of one database together: which of them has a key, and what they say where it is
//! another. Of the documentation of Redis: "Redis cluster specification".

use jaunty_seam::error::EngineError;
use redis::Value;

use super::reply::text;
use crate::net::reach::Address;

/// How many slots there are: each key is in one of them, and each of them is held by one server.
const SLOTS: u16 = 16384;

/// The slot of a key: of what stands in its first braces, where something does.
pub fn slot(key: &[u8]) -> u16 {
    let open = key.iter().position(|byte| *byte == b'{');
    let tag = open.and_then(|open| {
        let tag = &key[open + 1..];
        let close = tag.iter().position(|byte| *byte == b'}')?;
        (close > 0).then(|| &tag[..close])
    });
    crc16(tag.unwrap_or(key)) % SLOTS
}

/// CRC-16 with the polynomial 0x1021, begun with 0 and not reflected.
fn crc16(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0, |crc, byte| {
        let crc = crc ^ (u16::from(*byte) << 8);
        (0..8).fold(crc, |crc, _| if crc & 0x8000 == 0 { crc << 1 } else { (crc << 1) ^ 0x1021 })
    })
}

/// Another server that is to be asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Elsewhere {
    /// The slot of the key that was asked for.
    pub slot: u16,
    /// Which one it is.
    pub address: Address,
    /// Only this time: the slot is being moved there, and is not there yet.
    pub once: bool,
}

impl Elsewhere {
    /// What an error says of where to ask instead. A server that does not know its own host name is at that of `asked`.
    pub fn of(error: &EngineError, asked: &Address) -> Option<Elsewhere> {
        let once = match error.code.as_deref() {
            Some("MOVED") => false,
            Some("ASK") => true,
            _ => return None,
        };
        let (slot, address) = error.message.split_once(' ')?;
        let (host, port) = address.rsplit_once(':')?;
        let host = host.trim_matches(['[', ']']);
        let host = if host.is_empty() || host == "?" { asked.host() } else { host };
        let slot = slot.parse().ok().filter(|slot| *slot < SLOTS)?;
        Some(Elsewhere { slot, address: Address::Host(host.to_owned(), port.parse().ok()?), once })
    }
}

/// Which servers hold the slots.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Slots {
    /// The first and the last of some, and the server that takes their writes; in order.
    held: Vec<([u16; 2], Address)>,
}

impl Slots {
    /// Reads the reply to `CLUSTER SLOTS`, given by the server at `asked`; also what the one with the number `own` calls its
    /// own address, which is not how it was reached where there is something in between.
    pub fn read(reply: &Value, asked: &Address, own: &str) -> (Slots, Option<Address>) {
        let mut known_as = None;
        let mut one = |range: &Value| {
            let Value::Array(parts) = range else { return None };
            let [Value::Int(first), Value::Int(last), Value::Array(primary), ..] = parts.as_slice() else {
                return None;
            };
            let [host, Value::Int(port), ..] = primary.as_slice() else { return None };
            let host = match host {
                Value::BulkString(bytes) if !bytes.is_empty() && bytes != b"?" => text(host),
                _ => asked.host().to_owned(),
            };
            let slots = [u16::try_from(*first).ok()?, u16::try_from(*last).ok().filter(|last| *last < SLOTS)?];
            let address = Address::Host(host, u16::try_from(*port).ok()?);
            if !own.is_empty() && primary.get(2).is_some_and(|number| text(number) == own) {
                known_as = Some(address.clone());
            }
            Some((slots, address))
        };
        let Value::Array(ranges) = reply else { return (Slots::default(), None) };
        let mut held: Vec<_> = ranges.iter().filter_map(&mut one).collect();
        held.sort_by_key(|(slots, _)| *slots);
        (Slots { held }, known_as)
    }

    /// The server that holds a slot; none if that is not known.
    pub fn holder(&self, slot: u16) -> Option<&Address> {
        self.held.iter().find(|([first, last], _)| (*first..=*last).contains(&slot)).map(|(_, address)| address)
    }

    /// Keeps in mind which server holds a slot, as one has said.
    pub fn is_held(&mut self, slot: u16, by: &Address) {
        self.held.retain(|(slots, _)| *slots != [slot, slot]);
        self.held.insert(0, ([slot, slot], by.clone()));
    }

    /// The servers that hold some, each once.
    pub fn holders(&self) -> Vec<&Address> {
        let mut all: Vec<&Address> = Vec::new();
        for (_, address) in &self.held {
            if !all.contains(&address) {
                all.push(address);
            }
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use jaunty_seam::error::ErrorKind;

    use super::*;

    fn host(name: &str, port: u16) -> Address {
        Address::Host(name.to_owned(), port)
    }

    #[test]
    fn keys_are_in_the_slots_of_the_specification() {
        // The check value of the specification, and of keys with braces what counts in them.
        assert_eq!(crc16(b"123456789"), 0x31C3);
        let same = |one: &str, other: &str| assert_eq!(slot(one.as_bytes()), slot(other.as_bytes()), "{one}, {other}");
        same("{port:7}.name", "{port:7}.berths");
        same("port:7", "tide{port:7}");
        same("a{b}c{d}", "b");
        same("a{{b}c", "{b");
        // Nothing between the first braces, or no second one: the whole key counts.
        assert_ne!(slot(b"a{}b"), slot(b""));
        assert_ne!(slot(b"a{}{b}"), slot(b"b"));
        assert_ne!(slot(b"a{b"), slot(b"b"));
    }

    #[test]
    fn a_server_says_where_a_key_is() {
        let asked = host("quay", 7001);
        let told =
            |code: &str, text: &str| Elsewhere::of(&EngineError::new(ErrorKind::Refused, text).code(code), &asked);
        let moved = told("MOVED", "3999 mole.example:6381").unwrap();
        assert_eq!((moved.slot, &moved.address, moved.once), (3999, &host("mole.example", 6381), false));
        assert!(told("ASK", "3999 10.0.0.7:6381").unwrap().once);
        assert_eq!(told("MOVED", "1 ::1:6381").unwrap().address, host("::1", 6381));
        for unknown in ["3999 :6381", "3999 ?:6381"] {
            assert_eq!(told("MOVED", unknown).unwrap().address, host("quay", 6381));
        }
        for wrong in ["", "3999", "3999 mole", "3999 mole:x", "99999 mole:1", "x mole:1", "3999 mole:99999"] {
            assert_eq!(told("MOVED", wrong), None, "{wrong}");
        }
        assert_eq!(told("ERR", "3999 mole:6381"), None);
    }

    #[test]
    fn what_the_servers_hold_is_read_as_it_is_told() {
        let node = |host: Value, port: i64| {
            let number = Value::BulkString(format!("id{port}").into_bytes());
            Value::Array(vec![host, Value::Int(port), number])
        };
        let range = |slots: [i64; 2], node: Value| Value::Array(vec![Value::Int(slots[0]), Value::Int(slots[1]), node]);
        let named = |name: &str| Value::BulkString(name.as_bytes().to_vec());
        let reply = Value::Array(vec![
            range([8000, 16383], node(Value::Nil, 7002)),
            range([0, 7000], node(named("mole"), 7001)),
            range([7001, 7999], node(named("quay"), 7002)),
            range([0, 99999], node(named("none"), 7003)),
            Value::Int(3),
        ]);
        let (slots, known_as) = Slots::read(&reply, &host("quay", 7002), "id7001");
        assert_eq!(known_as, Some(host("mole", 7001)));
        assert_eq!(Slots::read(&reply, &host("quay", 7002), "").1, None);
        assert_eq!(slots.holder(0), Some(&host("mole", 7001)));
        assert_eq!(slots.holder(7000), Some(&host("mole", 7001)));
        assert_eq!(slots.holder(16383), Some(&host("quay", 7002)));
        assert_eq!(slots.holders(), [&host("mole", 7001), &host("quay", 7002)]);
        let mut slots = slots;
        for port in [7003, 7004] {
            slots.is_held(12, &host("mole", port));
        }
        assert_eq!(slots.holder(12), Some(&host("mole", 7004)));
        assert_eq!(slots.holder(13), Some(&host("mole", 7001)));
        assert_eq!(Slots::read(&Value::Nil, &host("quay", 7002), "id1"), (Slots::default(), None));
    }
}
