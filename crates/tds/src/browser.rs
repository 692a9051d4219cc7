//! Asking a machine for its instances ([MC-SQLR]): one datagram each way, on port 1434.

/// The port of the browser service.
pub const PORT: u16 = 1434;

/// The question for one instance.
pub fn question(instance: &str) -> Vec<u8> {
    let mut message = vec![0x04];
    message.extend(instance.as_bytes());
    message.push(0);
    message
}

/// The TCP port of the instance in the answer; `None` where it listens on none, or the answer is none.
pub fn port(answer: &[u8], instance: &str) -> Option<u16> {
    let [0x05, low, high, rest @ ..] = answer else { return None };
    let text = rest.get(..usize::from(u16::from_le_bytes([*low, *high]))).unwrap_or(rest);
    let text = String::from_utf8_lossy(text).into_owned();
    // Names and values, one behind the other; two semicolons end what is said of an instance.
    text.split(";;").find_map(|told| {
        let parts: Vec<&str> = told.split(';').collect();
        let value = |name: &str| {
            parts.chunks(2).find(|pair| pair.first().is_some_and(|key| key.eq_ignore_ascii_case(name)))?.get(1).copied()
        };
        let right = value("InstanceName").is_some_and(|name| name.eq_ignore_ascii_case(instance));
        right.then(|| value("tcp")?.parse().ok())?
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_port_of_an_instance_is_found() {
        let text =
            "ServerName;QUAY;InstanceName;NORTH;IsClustered;No;Version;16.0.1000.6;tcp;50123;np;\\\\QUAY\\pipe;;";
        let mut answer = vec![5];
        answer.extend((text.len() as u16).to_le_bytes());
        answer.extend(text.as_bytes());
        assert_eq!(port(&answer, "north"), Some(50123));
        assert_eq!(port(&answer, "south"), None);
        assert_eq!(question("north"), b"\x04north\0");
        for wrong in [&b""[..], b"\x05", b"\x05\xff\xff", b"\x05\x02\x00a", b"\x04\x00\x00tcp;1"] {
            assert_eq!(port(wrong, "north"), None);
        }
    }
}
