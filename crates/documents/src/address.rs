//! The DNS records behind a connection string with `+srv` ("Initial DNS Seedlist Discovery"): one question each for the
//! servers and for options (RFC 1035, RFC 2782).

use crate::Malformed;

/// What is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// Servers.
    Servers,
    /// Texts.
    Texts,
}

/// A server and its port.
pub type Server = (String, u16);

/// The question for a name, with this number.
pub fn question(number: u16, name: &str, wanted: Wanted) -> Vec<u8> {
    let mut message = number.to_be_bytes().to_vec();
    // Ask on for us; one question.
    message.extend([1, 0, 0, 1, 0, 0, 0, 0, 0, 0]);
    for label in name.split('.').filter(|label| !label.is_empty()) {
        let label = label.as_bytes().get(..label.len().min(63)).unwrap_or_default();
        message.push(label.len() as u8);
        message.extend(label);
    }
    message.extend([0, 0, if wanted == Wanted::Servers { 33 } else { 16 }, 0, 1]);
    message
}

/// The servers in an answer.
pub fn servers(answer: &[u8]) -> Result<Vec<Server>, Malformed> {
    let mut found = Vec::new();
    for (kind, at, length) in records(answer)? {
        if kind == 33 && length > 6 {
            let port = u16::from_be_bytes([byte(answer, at + 4)?, byte(answer, at + 5)?]);
            found.push((name(answer, at + 6)?.0, port));
        }
    }
    Ok(found)
}

/// The texts in an answer.
pub fn texts(answer: &[u8]) -> Result<Vec<String>, Malformed> {
    let mut found = Vec::new();
    for (kind, at, length) in records(answer)? {
        if kind != 16 {
            continue;
        }
        let (mut text, mut place) = (Vec::new(), at);
        while place < at + length {
            let count = usize::from(byte(answer, place)?);
            text.extend(answer.get(place + 1..place + 1 + count).ok_or(SHORT)?);
            place += 1 + count;
        }
        found.push(String::from_utf8_lossy(&text).into_owned());
    }
    Ok(found)
}

const SHORT: Malformed = Malformed("an answer of the name server is cut off");

fn byte(answer: &[u8], at: usize) -> Result<u8, Malformed> {
    answer.get(at).copied().ok_or(SHORT)
}

/// The records of an answer: kind, where the data begins, and its length.
fn records(answer: &[u8]) -> Result<Vec<(u16, usize, usize)>, Malformed> {
    let number = |at: usize| Ok::<_, Malformed>(u16::from_be_bytes([byte(answer, at)?, byte(answer, at + 1)?]));
    if byte(answer, 3)? & 0x0F != 0 {
        return Ok(Vec::new());
    }
    let (questions, count) = (number(4)?, number(6)?);
    let mut at = 12;
    for _ in 0..questions {
        at = name(answer, at)?.1 + 4;
    }
    let mut found = Vec::new();
    for _ in 0..count {
        at = name(answer, at)?.1;
        let (kind, length) = (number(at)?, usize::from(number(at + 8)?));
        found.push((kind, at + 10, length));
        at += 10 + length;
    }
    Ok(found)
}

/// A name, and the byte behind it. Parts of it may stand elsewhere.
fn name(answer: &[u8], mut at: usize) -> Result<(String, usize), Malformed> {
    let (mut labels, mut end, mut jumps) = (Vec::new(), None, 0);
    loop {
        let length = byte(answer, at)?;
        match length {
            0 => {
                let end = end.unwrap_or(at + 1);
                return Ok((labels.join("."), end));
            }
            192.. => {
                end = end.or(Some(at + 2));
                at = usize::from(u16::from_be_bytes([length & 0x3F, byte(answer, at + 1)?]));
                jumps += 1;
                if jumps > 32 {
                    return Err(Malformed("a name that has no end"));
                }
            }
            length => {
                let label = answer.get(at + 1..at + 1 + usize::from(length)).ok_or(SHORT)?;
                labels.push(String::from_utf8_lossy(label).into_owned());
                at += 1 + usize::from(length);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn servers_and_texts_are_found() {
        let mut answer = question(7, "_mongodb._tcp.quay.example", Wanted::Servers);
        answer[2] = 0x81;
        answer[7] = 2;
        for (host, port) in [("north", 27017_u16), ("south", 27018)] {
            // The name of the record, by a pointer to the question.
            answer.extend([0xC0, 12, 0, 33, 0, 1, 0, 0, 0, 60]);
            let mut data = vec![0, 0, 0, 0];
            data.extend(port.to_be_bytes());
            data.push(host.len() as u8);
            data.extend(host.as_bytes());
            // The rest of it, by a pointer into the question: behind the two labels.
            data.extend([0xC0, 12 + 9 + 5]);
            answer.extend((data.len() as u16).to_be_bytes());
            answer.extend(data);
        }
        assert_eq!(
            servers(&answer).unwrap(),
            [("north.quay.example".to_owned(), 27017), ("south.quay.example".to_owned(), 27018)]
        );
        let mut answer = question(7, "quay.example", Wanted::Texts);
        answer[7] = 1;
        answer.extend([0xC0, 12, 0, 16, 0, 1, 0, 0, 0, 60, 0, 8, 3, b'a', b'=', b'b', 3, b'&', b'c', b'd']);
        assert_eq!(texts(&answer).unwrap(), ["a=b&cd"]);
    }

    #[test]
    fn what_is_cut_off_or_turns_in_circles_is_refused() {
        let mut answer = question(7, "quay.example", Wanted::Servers);
        answer[7] = 1;
        for length in 0..answer.len() {
            let _ = servers(&answer[..length]);
        }
        answer.extend([0xC0, answer.len() as u8]);
        assert!(servers(&answer).is_err());
    }
}
