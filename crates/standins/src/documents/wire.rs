//! Messages to and from a client: OP_MSG, the old OP_QUERY of a first greeting, and both compressed ("Wire Protocol").

use std::io::{self, Read, Write};
use std::net::TcpStream;
use std::sync::Arc;

use flate2::Compression;
use rustls::{ServerConfig, ServerConnection};

use super::bson;
use super::value::{Document, Value};

const QUERY: i32 = 2004;
const REPLY: i32 = 1;
const COMPRESSED: i32 = 2012;
const MSG: i32 = 2013;

/// The longest message that is taken, and given.
pub const MOST: usize = 48_000_000;

/// How messages are made smaller; the numbers are those of OP_COMPRESSED.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compressor {
    Snappy = 1,
    Zlib = 2,
}

impl Compressor {
    pub fn named(name: &str) -> Option<Compressor> {
        match name {
            "snappy" => Some(Compressor::Snappy),
            "zlib" => Some(Compressor::Zlib),
            _ => None,
        }
    }

    pub fn name(self) -> &'static str {
        match self {
            Compressor::Snappy => "snappy",
            Compressor::Zlib => "zlib",
        }
    }
}

/// What a client asks.
pub struct Asked {
    id: i32,
    pub command: Document,
    /// The reply goes by the old way.
    old: bool,
    /// How it came, and how the reply goes.
    compressor: Option<Compressor>,
    /// No reply is wanted.
    pub silent: bool,
}

/// A connection with a client.
pub struct Wire {
    tcp: TcpStream,
    tls: Option<Box<ServerConnection>>,
    number: i32,
    /// The client has shown a certificate.
    pub certificate: bool,
    /// How many messages came compressed.
    pub compressed: u64,
}

fn invalid(what: &'static str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

fn int(bytes: &[u8], at: usize) -> io::Result<i32> {
    let four = bytes.get(at..at + 4).and_then(|four| four.try_into().ok());
    four.map(i32::from_le_bytes).ok_or_else(|| invalid("a message ends early"))
}

impl Wire {
    pub fn new(mut tcp: TcpStream, config: Option<Arc<ServerConfig>>) -> io::Result<Wire> {
        let mut tls = None;
        let mut certificate = false;
        if let Some(config) = config {
            let mut connection = ServerConnection::new(config).map_err(io::Error::other)?;
            while connection.is_handshaking() {
                connection.complete_io(&mut tcp)?;
            }
            certificate = connection.peer_certificates().is_some_and(|all| !all.is_empty());
            connection.set_buffer_limit(None);
            tls = Some(Box::new(connection));
        }
        Ok(Wire { tcp, tls, number: 0, certificate, compressed: 0 })
    }

    fn read(&mut self, into: &mut [u8]) -> io::Result<()> {
        match &mut self.tls {
            None => self.tcp.read_exact(into),
            Some(tls) => rustls::Stream::new(&mut **tls, &mut self.tcp).read_exact(into),
        }
    }

    /// The next message.
    pub fn message(&mut self) -> io::Result<Asked> {
        let mut head = [0; 16];
        self.read(&mut head)?;
        let length = usize::try_from(int(&head, 0)?).unwrap_or(0);
        if !(16..=MOST).contains(&length) {
            return Err(invalid("a message has an impossible length"));
        }
        let mut body = vec![0; length - 16];
        self.read(&mut body)?;
        let id = int(&head, 4)?;
        match int(&head, 12)? {
            COMPRESSED => {
                let (kind, size) = (int(&body, 0)?, usize::try_from(int(&body, 4)?).unwrap_or(0));
                let packed = body.get(9..).unwrap_or_default();
                let (compressor, opened) = match body.get(8) {
                    Some(1) => (
                        Compressor::Snappy,
                        snap::raw::Decoder::new().decompress_vec(packed).map_err(io::Error::other)?,
                    ),
                    Some(2) => {
                        let mut opened = Vec::new();
                        flate2::read::ZlibDecoder::new(packed).take(MOST as u64).read_to_end(&mut opened)?;
                        (Compressor::Zlib, opened)
                    }
                    _ => return Err(invalid("a compressor that was not offered")),
                };
                if opened.len() != size {
                    return Err(invalid("a compressed message has another length"));
                }
                self.compressed += 1;
                asked(id, kind, &opened, Some(compressor))
            }
            kind => asked(id, kind, &body, None),
        }
    }

    /// Answers a message.
    pub fn answer(&mut self, asked: &Asked, reply: &[(String, Value)]) -> io::Result<()> {
        let mut body = Vec::new();
        if asked.old {
            body.extend([0; 16]);
            body.extend(1_i32.to_le_bytes());
        } else {
            body.extend([0; 5]);
        }
        bson::write(reply, &mut body);
        self.send(asked, body)
    }

    fn send(&mut self, asked: &Asked, body: Vec<u8>) -> io::Result<()> {
        let kind = if asked.old { REPLY } else { MSG };
        let (kind, body) = match asked.compressor {
            None => (kind, body),
            Some(compressor) => {
                let mut packed = Vec::new();
                packed.extend(kind.to_le_bytes());
                packed.extend((body.len() as i32).to_le_bytes());
                packed.push(compressor as u8);
                match compressor {
                    Compressor::Snappy => {
                        packed.extend(snap::raw::Encoder::new().compress_vec(&body).map_err(io::Error::other)?)
                    }
                    Compressor::Zlib => {
                        let mut encoder = flate2::write::ZlibEncoder::new(&mut packed, Compression::fast());
                        encoder.write_all(&body)?;
                        encoder.finish()?;
                    }
                }
                (COMPRESSED, packed)
            }
        };
        self.number = self.number.wrapping_add(1);
        let mut message = Vec::with_capacity(body.len() + 16);
        for part in [body.len() as i32 + 16, self.number, asked.id, kind] {
            message.extend(part.to_le_bytes());
        }
        message.extend(body);
        match &mut self.tls {
            None => self.tcp.write_all(&message),
            Some(tls) => {
                let mut stream = rustls::Stream::new(&mut **tls, &mut self.tcp);
                stream.write_all(&message)?;
                stream.flush()
            }
        }
    }
}

fn asked(id: i32, kind: i32, body: &[u8], compressor: Option<Compressor>) -> io::Result<Asked> {
    let broken = |_| invalid("a message does not hold BSON");
    match kind {
        QUERY => {
            let name = body.get(4..).unwrap_or_default();
            let end = name.iter().position(|byte| *byte == 0).ok_or_else(|| invalid("a name without an end"))?;
            let database = String::from_utf8_lossy(&name[..end]).split('.').next().unwrap_or_default().to_owned();
            let (mut command, _) = bson::read(name.get(end + 9..).unwrap_or_default()).map_err(broken)?;
            command.push(("$db".to_owned(), Value::Text(database)));
            Ok(Asked { id, command, old: true, compressor, silent: false })
        }
        MSG => {
            let flags = int(body, 0)?;
            let end = if flags & 1 == 0 { body.len() } else { body.len().saturating_sub(4) };
            let mut rest = body.get(4..end).unwrap_or_default();
            let (mut command, mut lists) = (Document::new(), Document::new());
            while let Some((kind, after)) = rest.split_first() {
                match kind {
                    0 => (command, rest) = bson::read(after).map_err(broken)?,
                    1 => {
                        let size = usize::try_from(int(after, 0)?).unwrap_or(0);
                        let section = after.get(4..size).ok_or_else(|| invalid("a section ends early"))?;
                        let end = section
                            .iter()
                            .position(|byte| *byte == 0)
                            .ok_or_else(|| invalid("a name without an end"))?;
                        let name = String::from_utf8_lossy(&section[..end]).into_owned();
                        let (mut documents, mut inside) = (Vec::new(), &section[end + 1..]);
                        while !inside.is_empty() {
                            let (one, after) = bson::read(inside).map_err(broken)?;
                            documents.push(Value::Document(one));
                            inside = after;
                        }
                        lists.push((name, Value::Array(documents)));
                        rest = after.get(size..).unwrap_or_default();
                    }
                    _ => return Err(invalid("a section of an unknown kind")),
                }
            }
            command.extend(lists);
            Ok(Asked { id, command, old: false, compressor, silent: flags & 2 != 0 })
        }
        _ => Err(invalid("a message of an unknown kind")),
    }
}
