//! Bytes to and from a client: packets, with TLS around them or without.

use std::io::{self, Read, Write};
use std::net::TcpStream;
use std::sync::Arc;

use rustls::{ServerConfig, ServerConnection};

use crate::tls::{Tls, config};

/// The kinds of packets that a client sends.
pub const BATCH: u8 = 1;
pub const CALL: u8 = 3;
pub const ATTENTION: u8 = 6;
pub const ROWS: u8 = 7;
pub const LOGIN: u8 = 16;
pub const PRELOGIN: u8 = 18;

/// What a server answers with.
const ANSWER: u8 = 4;

/// The longest message that is taken.
const MOST: usize = 64 << 20;

/// The settings of a server with this certificate: for a handshake in packets, which ends with it only in TLS 1.2, and for
/// one before all else.
pub fn configs(tls: &Tls) -> Result<[Arc<ServerConfig>; 2], String> {
    let over = |versions| config(tls, versions, Some(b"tds/8.0"), None);
    Ok([over(&[&rustls::version::TLS12])?, over(rustls::DEFAULT_VERSIONS)?])
}

/// A connection with a client.
pub struct Wire {
    tcp: TcpStream,
    tls: Option<Box<ServerConnection>>,
    /// What came and was not read as packets yet.
    coming: Vec<u8>,
    /// What a packet of the answer will hold.
    going: Vec<u8>,
    /// The size of packets that we send.
    pub size: usize,
    number: u8,
    pub session: u16,
    /// Somebody wishes an end.
    pub attention: bool,
}

impl Wire {
    pub fn new(tcp: TcpStream, session: u16) -> Wire {
        Wire { tcp, tls: None, coming: Vec::new(), going: Vec::new(), size: 4096, number: 1, session, attention: false }
    }

    /// The first byte that comes, which stays to be read.
    pub fn first(&mut self) -> io::Result<u8> {
        let mut byte = [0];
        match self.tcp.peek(&mut byte)? {
            0 => Err(io::ErrorKind::UnexpectedEof.into()),
            _ => Ok(byte[0]),
        }
    }

    /// TLS before all else.
    pub fn begin_with_tls(&mut self, config: Arc<ServerConfig>) -> io::Result<()> {
        let mut tls = ServerConnection::new(config).map_err(io::Error::other)?;
        while tls.is_handshaking() {
            tls.complete_io(&mut self.tcp)?;
        }
        tls.set_buffer_limit(None);
        self.tls = Some(Box::new(tls));
        Ok(())
    }

    /// TLS whose handshake travels in packets.
    pub fn begin_tls(&mut self, config: Arc<ServerConfig>) -> io::Result<()> {
        let mut tls = ServerConnection::new(config).map_err(io::Error::other)?;
        while tls.is_handshaking() {
            let (kind, flight) = self.message()?;
            if kind != PRELOGIN {
                return Err(io::ErrorKind::InvalidData.into());
            }
            let mut rest = flight.as_slice();
            while !rest.is_empty() {
                tls.read_tls(&mut rest)?;
                tls.process_new_packets().map_err(io::Error::other)?;
            }
            let mut answer = Vec::new();
            while tls.wants_write() {
                tls.write_tls(&mut answer)?;
            }
            if !answer.is_empty() {
                self.send(PRELOGIN, &answer)?;
            }
        }
        tls.set_buffer_limit(None);
        self.tls = Some(Box::new(tls));
        Ok(())
    }

    /// From now on bytes travel as they are.
    pub fn end_tls(&mut self) {
        self.tls = None;
    }

    /// Waits for more bytes.
    fn more(&mut self) -> io::Result<()> {
        let mut part = [0; 16 << 10];
        let count = match &mut self.tls {
            None => self.tcp.read(&mut part)?,
            Some(tls) => loop {
                match tls.reader().read(&mut part) {
                    Ok(count) => break count,
                    Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                    Err(error) => return Err(error),
                }
                if tls.read_tls(&mut self.tcp)? == 0 {
                    break 0;
                }
                tls.process_new_packets().map_err(io::Error::other)?;
            },
        };
        match count {
            0 => Err(io::ErrorKind::UnexpectedEof.into()),
            count => {
                self.coming.extend(part.iter().take(count));
                Ok(())
            }
        }
    }

    /// The next message: what it is, and its bytes.
    pub fn message(&mut self) -> io::Result<(u8, Vec<u8>)> {
        let mut message = Vec::new();
        loop {
            while self.coming.len() < 8 {
                self.more()?;
            }
            let (kind, status) = (self.coming[0], self.coming[1]);
            let length = usize::from(u16::from_be_bytes([self.coming[2], self.coming[3]]));
            if length < 8 || message.len() + length > MOST {
                return Err(io::ErrorKind::InvalidData.into());
            }
            while self.coming.len() < length {
                self.more()?;
            }
            message.extend(self.coming.drain(..length).skip(8));
            if status & 1 != 0 {
                self.number = 1;
                return Ok((kind, message));
            }
        }
    }

    /// Whether a wish to end has come: looked for without waiting.
    pub fn is_stopped(&mut self) -> bool {
        if self.attention {
            return true;
        }
        if self.tcp.set_nonblocking(true).is_ok() {
            while self.more().is_ok() {}
            let _ = self.tcp.set_nonblocking(false);
        }
        if self.coming.first() == Some(&ATTENTION) && self.coming.len() >= 8 {
            self.coming.drain(..8);
            self.attention = true;
        }
        self.attention
    }

    /// Adds bytes to the answer; whole packets of it are sent.
    pub fn say(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.going.extend(bytes);
        let room = self.size - 8;
        if self.going.len() <= room {
            return Ok(());
        }
        // Not the last byte: the last packet says that it is one.
        let whole = (self.going.len() - 1) / room * room;
        let rest = self.going.split_off(whole);
        let going = std::mem::replace(&mut self.going, rest);
        let mut framed = Vec::with_capacity(going.len() + going.len() / room * 8);
        for part in going.chunks(room) {
            self.frame(ANSWER, 0, part, &mut framed);
        }
        self.write(&framed)
    }

    /// Sends what there is of the answer, which goes on.
    pub fn flush(&mut self) -> io::Result<()> {
        let going = std::mem::take(&mut self.going);
        if going.is_empty() {
            return Ok(());
        }
        let mut framed = Vec::new();
        self.frame(ANSWER, 0, &going, &mut framed);
        self.write(&framed)
    }

    /// Ends the answer.
    pub fn end(&mut self) -> io::Result<()> {
        let going = std::mem::take(&mut self.going);
        let mut framed = Vec::new();
        self.frame(ANSWER, 1, &going, &mut framed);
        self.number = 1;
        self.write(&framed)
    }

    fn send(&mut self, kind: u8, bytes: &[u8]) -> io::Result<()> {
        let mut framed = Vec::new();
        let mut parts = bytes.chunks(self.size - 8).peekable();
        while let Some(part) = parts.next() {
            self.frame(kind, u8::from(parts.peek().is_none()), part, &mut framed);
        }
        self.number = 1;
        self.write(&framed)
    }

    fn frame(&mut self, kind: u8, status: u8, part: &[u8], into: &mut Vec<u8>) {
        let length = (part.len() + 8) as u16;
        into.extend([kind, status]);
        into.extend(length.to_be_bytes());
        into.extend(self.session.to_be_bytes());
        into.extend([self.number, 0]);
        into.extend(part);
        self.number = self.number.wrapping_add(1);
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        match &mut self.tls {
            None => self.tcp.write_all(bytes),
            Some(tls) => {
                tls.writer().write_all(bytes)?;
                while tls.wants_write() {
                    tls.write_tls(&mut self.tcp)?;
                }
                Ok(())
            }
        }
    }
}
