//! A server whose words are written here: logins by every method, and what comes after them.

#![allow(clippy::unwrap_used)] // A test fails by panicking.

use jaunty_mysql::client::status;
use jaunty_mysql::fields::{Fields, put_bytes, put_number};
use jaunty_mysql::handshake::capability;
use jaunty_mysql::packet::Packets;
use jaunty_mysql::{Client, Column, Error, Handshake, Login, Pace, Parameter, Token};
use proptest::prelude::*;
use tokio::io::DuplexStream;

const NONCE: &[u8; 20] = b"abcdefghijklmnopqrst";

const PASSWORD: &str = "salt and fog";

const LOGIN: Login<'_> = Login {
    user: "clerk",
    password: PASSWORD,
    database: Some("bookings"),
    program: "jaunty",
    largest: 1 << 20,
    encrypted: false,
    private: false,
};

/// The server's side of a connection.
type Peer = Packets<DuplexStream>;

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap()
}

/// What servers of today can do.
const TODAY: u32 = capability::PROTOCOL_41
    | capability::SECURE_CONNECTION
    | capability::PLUGIN_AUTH
    | capability::CONNECT_ATTRS
    | capability::DEPRECATE_EOF
    | capability::LOCAL_FILES;

fn greeting(can: u32, more: u32, method: &str) -> Vec<u8> {
    let (first, second) = NONCE.split_at(8);
    let mut said = b"\x0A11.4.2-ferry\0".to_vec();
    said.extend(77_u32.to_le_bytes());
    said.extend(first);
    said.push(0);
    said.extend((can as u16).to_le_bytes());
    said.push(45);
    said.extend(2_u16.to_le_bytes());
    said.extend(((can >> 16) as u16).to_le_bytes());
    said.push(21);
    said.extend([0; 6]);
    said.extend(more.to_le_bytes());
    said.extend(second);
    said.push(0);
    said.extend(method.as_bytes());
    said.push(0);
    said
}

/// An end with so many rows touched, and the state of the session.
fn ok(affected: u64, status: u16, warnings: u16) -> Vec<u8> {
    let mut said = vec![0];
    put_number(affected, &mut said);
    put_number(0, &mut said);
    said.extend(status.to_le_bytes());
    said.extend(warnings.to_le_bytes());
    said
}

fn eof(status: u16) -> Vec<u8> {
    let mut said = vec![0xFE, 0, 0];
    said.extend(status.to_le_bytes());
    said
}

fn error(code: u16, text: &str) -> Vec<u8> {
    let mut said = vec![0xFF];
    said.extend(code.to_le_bytes());
    said.extend(b"#28000");
    said.extend(text.as_bytes());
    said
}

fn column(name: &str, kind: u8) -> Vec<u8> {
    described(name, kind, None)
}

/// A column, with MariaDB's extended metadata between its names and its type.
fn described(name: &str, kind: u8, extended: Option<&[u8]>) -> Vec<u8> {
    let mut said = Vec::new();
    for text in ["def", "bookings", "p", "ports", name, name] {
        put_bytes(text.as_bytes(), &mut said);
    }
    if let Some(extended) = extended {
        put_bytes(extended, &mut said);
    }
    said.push(12);
    said.extend([45, 0, 40, 0, 0, 0, kind, 1, 0, 2, 0, 0]);
    said
}

fn row(values: &[Option<&str>]) -> Vec<u8> {
    let mut said = Vec::new();
    for value in values {
        match value {
            None => said.push(0xFB),
            Some(value) => put_bytes(value.as_bytes(), &mut said),
        }
    }
    said
}

/// What a client answers to a greeting: who it is, its proof, the database, the method and the program.
struct Answer {
    can: u32,
    more: u32,
    proof: Vec<u8>,
    texts: Vec<String>,
}

fn answer(said: &[u8]) -> Answer {
    let mut fields = Fields::of(said);
    let can = fields.u32().unwrap();
    fields.take(24).unwrap();
    let more = fields.u32().unwrap();
    let user = fields.until_zero();
    let length = fields.u8().unwrap();
    let proof = fields.take(usize::from(length)).unwrap().to_vec();
    let mut texts = vec![user];
    if can & capability::CONNECT_WITH_DB != 0 {
        texts.push(fields.until_zero());
    }
    texts.push(fields.until_zero());
    if can & capability::CONNECT_ATTRS != 0 {
        let mut attributes = Fields::of(fields.bytes().unwrap());
        assert_eq!(attributes.bytes(), Some(&b"program_name"[..]));
        texts.push(attributes.bytes().unwrap());
    }
    assert!(fields.is_empty());
    let texts = texts.into_iter().map(|text| String::from_utf8(text.to_vec()).unwrap()).collect();
    Answer { can, more, proof, texts }
}

/// Logs in while the server says this first, and then what `then` says.
fn logged_in(
    login: Login<'_>,
    first: Vec<u8>,
    then: impl AsyncFnOnce(&mut Peer, Answer),
) -> Result<Client<DuplexStream>, Error> {
    runtime().block_on(async {
        let (mut here, there) = tokio::io::duplex(1 << 20);
        let mut peer = Packets::new(there, 0, 1 << 24);
        let serving = async {
            peer.send(&first).await.unwrap();
            let said = peer.message().await.unwrap();
            then(&mut peer, answer(&said)).await;
            // It stays until the other one has read.
            std::mem::forget(peer);
        };
        let client = async {
            let handshake = Handshake::receive(&mut here).await?;
            login.on(here, &handshake).await
        };
        tokio::join!(client, serving).0
    })
}

#[test]
fn who_we_are_is_told_and_what_both_can_do() {
    let client = logged_in(LOGIN, greeting(TODAY, 1, "mysql_native_password"), async |peer, answer| {
        assert_eq!(answer.texts, ["clerk", "bookings", "mysql_native_password", "jaunty"]);
        assert_eq!((answer.can, answer.more), (TODAY | capability::CONNECT_WITH_DB, 1));
        assert_eq!(answer.proof, jaunty_mysql::auth::AuthPlugin::Native.response(PASSWORD, NONCE));
        peer.send(&ok(0, status::IN_TRANSACTION, 0)).await.unwrap();
    });
    let client = client.unwrap();
    assert_eq!((client.id(), client.version(), client.status()), (77, "11.4.2-ferry", Some(1)));
    // MySQL has capabilities of its own in that place.
    let client = logged_in(
        Login { database: Some(""), ..LOGIN },
        greeting(TODAY | capability::CLIENT_MYSQL, 0xFFFF, "caching_sha2_password"),
        async |peer, answer| {
            assert_eq!(answer.texts, ["clerk", "caching_sha2_password", "jaunty"]);
            assert_eq!((answer.can, answer.more), (TODAY | capability::CLIENT_MYSQL, 0));
            peer.send(&[1, 3]).await.unwrap();
            peer.send(&ok(0, 2, 0)).await.unwrap();
        },
    );
    assert_eq!(client.unwrap().status(), Some(2));
}

#[test]
fn a_password_that_is_not_known_yet_goes_encrypted_or_in_private() {
    let first = || greeting(TODAY, 0, "caching_sha2_password");
    let plain = |login| {
        logged_in(login, first(), async |peer, _| {
            peer.send(&[1, 4]).await.unwrap();
            assert_eq!(peer.message().await.unwrap(), b"salt and fog\0");
            peer.send(&ok(0, 2, 0)).await.unwrap();
        })
    };
    plain(Login { encrypted: true, ..LOGIN }).unwrap();
    plain(Login { private: true, ..LOGIN }).unwrap();
    let key = rsa::RsaPrivateKey::new(&mut rsa::rand_core::UnwrapErr(getrandom::SysRng), 1024).unwrap();
    let pem = rsa::pkcs8::EncodePublicKey::to_public_key_pem(&key.to_public_key(), Default::default()).unwrap();
    let encrypted = logged_in(LOGIN, first(), async |peer, _| {
        peer.send(&[1, 4]).await.unwrap();
        assert_eq!(peer.message().await.unwrap(), [2]);
        peer.send(&[&[1], pem.as_bytes()].concat()).await.unwrap();
        let sent = peer.message().await.unwrap();
        let read = key.decrypt(rsa::Oaep::<sha1::Sha1>::new(), &sent).unwrap();
        let read: Vec<u8> = read.iter().zip(NONCE.iter().cycle()).map(|(byte, over)| byte ^ over).collect();
        assert_eq!(read, b"salt and fog\0");
        peer.send(&ok(0, 2, 0)).await.unwrap();
    });
    encrypted.unwrap();
}

#[test]
fn the_server_may_ask_for_another_plugin() {
    let first = || greeting(TODAY, 0, "mysql_native_password");
    let switch = |method: &str, data: &[u8]| [b"\xFE", method.as_bytes(), b"\0", data, b"\0"].concat();
    // Another nonce comes with it.
    let other = b"ABCDEFGHIJKLMNOPQRST";
    let sha2 = logged_in(LOGIN, first(), async |peer, _| {
        peer.send(&switch("caching_sha2_password", other)).await.unwrap();
        let proof = peer.message().await.unwrap();
        assert_eq!(proof, jaunty_mysql::auth::AuthPlugin::Sha2.response(PASSWORD, other));
        peer.send(&[1, 3]).await.unwrap();
        peer.send(&ok(0, 2, 0)).await.unwrap();
    });
    sha2.unwrap();
    let parsec = logged_in(LOGIN, first(), async |peer, _| {
        peer.send(&switch("parsec", &[7; 32])).await.unwrap();
        assert!(peer.message().await.unwrap().is_empty());
        peer.send(&[b"\x01P\0", &[9; 18][..]].concat()).await.unwrap();
        assert_eq!(peer.message().await.unwrap().len(), 96);
        peer.send(&ok(0, 2, 0)).await.unwrap();
    });
    parsec.unwrap();
    let plain = |login| {
        logged_in(login, first(), async |peer, _| {
            peer.send(&switch("mysql_clear_password", b"")).await.unwrap();
            if login.private {
                assert_eq!(peer.message().await.unwrap(), b"salt and fog\0");
                peer.send(&ok(0, 2, 0)).await.unwrap();
            }
        })
    };
    plain(Login { private: true, ..LOGIN }).unwrap();
    // Encryption alone does not say who reads it.
    assert!(matches!(plain(Login { encrypted: true, ..LOGIN }), Err(Error::ClearPassword)));
    for (asked, name) in [(switch("dialog", b""), "dialog"), (vec![0xFE], "mysql_old_password")] {
        let refused = logged_in(LOGIN, first(), async |peer, _| peer.send(&asked).await.unwrap());
        assert!(matches!(refused, Err(Error::UnknownPlugin(method)) if method == name));
    }
    let endless = logged_in(LOGIN, first(), async |peer, _| {
        for _ in 0..20 {
            let sent = peer.send(&switch("mysql_native_password", other)).await;
            if sent.is_err() || peer.message().await.is_err() {
                break;
            }
        }
    });
    assert!(matches!(endless, Err(Error::Broken(_))));
}

#[test]
fn a_server_may_refuse_at_once_or_after_the_login() {
    let refused = logged_in(LOGIN, greeting(TODAY, 0, ""), async |peer, _| {
        peer.send(&error(1045, "Access denied")).await.unwrap();
    });
    let Err(Error::Server(told)) = refused else { panic!("{refused:?}") };
    assert_eq!((told.code, told.state.as_str(), told.message.as_str()), (1045, "28000", "Access denied"));
    // Before the login there is no state.
    let said = [b"\xFF\x10\x04Too many connections".as_slice()].concat();
    let (mut here, there) = tokio::io::duplex(1 << 10);
    let refused = runtime().block_on(async {
        Packets::new(there, 0, 100).send(&said).await.unwrap();
        Handshake::receive(&mut here).await
    });
    let Err(Error::Server(told)) = refused else { panic!("{refused:?}") };
    assert_eq!((told.code, told.state.as_str(), told.message.as_str()), (1040, "", "Too many connections"));
}

/// All tokens of an answer that a server gives by these messages, after what was asked has come.
fn tokens(can: u32, ask: impl AsyncFnOnce(&mut Client<DuplexStream>), said: Vec<Vec<u8>>) -> Vec<String> {
    tokens_of((can, capability::PROGRESS), ask, said)
}

/// The same from a server with these capabilities of MariaDB's own.
fn tokens_of(
    (can, more): (u32, u32),
    ask: impl AsyncFnOnce(&mut Client<DuplexStream>),
    said: Vec<Vec<u8>>,
) -> Vec<String> {
    runtime().block_on(async {
        let (mut here, there) = tokio::io::duplex(1 << 16);
        let mut peer = Packets::new(there, 0, 1 << 24);
        let serving = async {
            peer.send(&greeting(can, more, "mysql_native_password")).await.unwrap();
            peer.message().await.unwrap();
            peer.send(&ok(0, 2, 0)).await.unwrap();
            peer.begin();
            peer.message().await.unwrap();
            for message in said {
                // Who has seen something that the protocol does not allow reads no more.
                let _ = peer.send(&message).await;
            }
            peer
        };
        let client = async {
            let handshake = Handshake::receive(&mut here).await.unwrap();
            let mut client = LOGIN.on(here, &handshake).await.unwrap();
            ask(&mut client).await;
            let mut told = Vec::new();
            loop {
                match client.token() {
                    Ok(Pace::Wait) => client.fill().await.unwrap(),
                    Ok(Pace::Token(Token::End)) => break,
                    Ok(Pace::Token(Token::Row(row))) => {
                        let mut fields = Fields::of(client.bytes(row));
                        let mut texts = Vec::new();
                        while let Some(field) = fields.nullable() {
                            texts.push(field.map_or("∅".into(), String::from_utf8_lossy).into_owned());
                        }
                        told.push(format!("row {}", texts.join("|")));
                    }
                    Ok(Pace::Token(Token::Columns(columns))) => {
                        let name = |column: &Column| format!("{}{}", column.name, column.type_name);
                        let names: Vec<_> = columns.iter().map(name).collect();
                        told.push(format!("columns {}", names.join("|")));
                    }
                    Ok(Pace::Token(Token::Done(done))) => {
                        told.push(format!("done {} {}", done.affected, done.warnings));
                    }
                    Ok(Pace::Token(Token::Error(error))) => told.push(format!("error {}", error.code)),
                    Ok(Pace::Token(Token::Progress(progress))) => {
                        told.push(format!("{:.3} {}", progress.whole(), progress.what));
                    }
                    Ok(Pace::Token(token)) => told.push(format!("{token:?}")),
                    Err(error) => {
                        told.push(error.to_string());
                        break;
                    }
                }
            }
            told
        };
        tokio::join!(client, serving).0
    })
}

#[test]
fn results_come_one_after_the_other() {
    let long = "x".repeat(70_000);
    let said = |ends: [Vec<u8>; 2], between: &[Vec<u8>]| {
        let mut said = vec![vec![2], column("id", 3), column("name", 253)];
        said.extend_from_slice(between);
        said.extend([row(&[Some("1"), Some("Mole")]), row(&[None, Some(&long)]), ends[0].clone()]);
        said.extend([ok(3, status::MORE, 1), vec![1], column("n", 8)]);
        said.extend_from_slice(between);
        said.extend([row(&[Some("")]), ends[1].clone()]);
        said
    };
    let expected = [
        "columns id|name",
        "row 1|Mole",
        &format!("row ∅|{long}"),
        "done 0 0",
        "done 3 1",
        "columns n",
        "row ",
        "done 0 0",
    ];
    let query = async |client: &mut Client<DuplexStream>| client.query("call p()").await.unwrap();
    let end = |status| [vec![0xFE], ok(0, status, 0)[1..].to_vec()].concat();
    assert_eq!(tokens(TODAY, query, said([end(status::MORE), end(2)], &[])), expected);
    // Servers from before have a packet between columns and rows, and another one at the end.
    let before = said([eof(status::MORE), eof(2)], &[eof(2)]);
    assert_eq!(tokens(TODAY & !capability::DEPRECATE_EOF, query, before), expected);
}

#[test]
fn the_extended_metadata_names_types_without_a_number() {
    let said = |code: Option<&[u8]>, note: Option<&[u8]>, id: Option<&[u8]>| {
        let columns = [described("code", 254, code), described("note", 252, note), described("id", 3, id)];
        [vec![vec![3]], columns.to_vec(), vec![vec![0xFE, 0, 0, 2, 0, 0, 0]]].concat()
    };
    let query =
        async |client: &mut Client<DuplexStream>| client.query("select code, note, id from ports").await.unwrap();
    let more = capability::PROGRESS | capability::EXTENDED_METADATA;
    // A part of a kind that is not known is passed over.
    let told = said(Some(b"\x00\x04uuid"), Some(b"\x07\x01x\x01\x04json"), Some(b""));
    let expected = ["columns codeuuid|note|id", "done 0 0"];
    assert_eq!(tokens_of((TODAY, more), query, told), expected);
    // MySQL has none, whatever it says of capabilities beyond the first 32.
    let query =
        async |client: &mut Client<DuplexStream>| client.query("select code, note, id from ports").await.unwrap();
    let told = tokens_of((TODAY | capability::CLIENT_MYSQL, more), query, said(None, None, None));
    assert_eq!(told, ["columns code|note|id", "done 0 0"]);
    for cut in [&b"\x00"[..], b"\x00\x09uuid", b"\x01\xFB"] {
        let query = async |client: &mut Client<DuplexStream>| client.query("select 1").await.unwrap();
        let told = tokens_of((TODAY, more), query, said(Some(cut), Some(b""), Some(b"")));
        assert!(told[0].contains("does not allow"), "{told:?}");
    }
}

#[test]
fn a_statement_that_takes_long_says_how_far_it_is() {
    let progress = |stage: u8, thousandths: u32, what: &str| {
        let mut said = vec![0xFF, 0xFF, 0xFF, 1, stage, 2];
        said.extend(&thousandths.to_le_bytes()[..3]);
        put_bytes(what.as_bytes(), &mut said);
        said
    };
    let said = vec![progress(1, 50_000, "copy to tmp table"), progress(2, 0, "enabling keys"), ok(9, 2, 0)];
    let query = async |client: &mut Client<DuplexStream>| client.query("alter table t force").await.unwrap();
    assert_eq!(tokens(TODAY, query, said), ["0.250 copy to tmp table", "0.500 enabling keys", "done 9 0"]);
}

#[test]
fn a_statement_is_prepared_and_a_file_is_asked_for() {
    let prepare = async |client: &mut Client<DuplexStream>| client.prepare("select ? + 1").await.unwrap();
    let said = |between: Vec<Vec<u8>>| {
        let mut said = vec![vec![0, 7, 0, 0, 0, 1, 0, 1, 0, 0, 0, 0], column("?", 253)];
        said.extend(between.clone());
        said.push(column("n", 8));
        said.extend(between);
        said
    };
    let expected = ["Prepared { id: 7, parameters: 1 }"];
    assert_eq!(tokens(TODAY, prepare, said(Vec::new())), expected);
    assert_eq!(tokens(TODAY & !capability::DEPRECATE_EOF, prepare, said(vec![eof(2)])), expected);
    let execute = async |client: &mut Client<DuplexStream>| {
        let values = [Parameter::Null, Parameter::Int(7), Parameter::Bytes(b"quay".to_vec()), Parameter::Double(0.5)];
        client.execute(7, &values).await.unwrap();
    };
    assert_eq!(tokens(TODAY, execute, vec![ok(1, 2, 0)]), ["done 1 0"]);
    let query = async |client: &mut Client<DuplexStream>| client.query("load data local …").await.unwrap();
    let asked = tokens(TODAY, query, vec![b"\xFB/etc/passwd".to_vec(), error(2, "no")]);
    assert_eq!(asked, ["File(\"/etc/passwd\")", "error 2"]);
}

#[test]
fn what_the_protocol_does_not_allow_is_told() {
    let query = async |client: &mut Client<DuplexStream>| client.query("select 1").await.unwrap();
    let broken = |said: Vec<Vec<u8>>| tokens(TODAY, query, said).pop().unwrap();
    for said in [
        vec![vec![]],
        vec![vec![0]],
        vec![vec![0xFC, 1]],
        vec![vec![0xFE, 1, 1, 1, 1, 1, 1, 1, 1]],
        vec![vec![1], vec![3, b'd']],
        vec![vec![1], column("n", 3), vec![0xFE, 0]],
        vec![vec![0xFF, 1]],
        vec![vec![0xFF, 0xFF, 0xFF, 1, 1]],
    ] {
        let told = broken(said.clone());
        assert!(told.contains("does not allow"), "{said:?}: {told}");
    }
    let query = async |client: &mut Client<DuplexStream>| client.query("select 1").await.unwrap();
    let told = tokens(TODAY & !capability::DEPRECATE_EOF, query, vec![vec![1], column("n", 3), row(&[Some("1")])]);
    assert!(told[0].ends_with("no end of the columns"), "{told:?}");
    let prepare = async |client: &mut Client<DuplexStream>| client.prepare("select 1").await.unwrap();
    let told = tokens(TODAY, prepare, vec![vec![1, 0, 0, 0, 0, 0, 0, 0, 0, 0]]);
    assert!(told[0].ends_with("an answer to another question"), "{told:?}");
    let large = vec![vec![1], column("n", 3), vec![b'x'; (1 << 20) + 1]];
    assert_eq!(broken(large), "the server sent a message of more than 1048576 bytes");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Whatever comes after a question ends in tokens or in a sentence.
    #[test]
    fn hostile_answers_end(
        messages in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..40), 0..12),
        no_eof: bool,
        prepares: bool,
    ) {
        let mut messages = messages;
        messages.push(error(1, "the end"));
        messages.extend(std::iter::repeat_n(vec![0xFF], 3));
        let can = if no_eof { TODAY } else { TODAY & !capability::DEPRECATE_EOF };
        let ask = async |client: &mut Client<DuplexStream>| match prepares {
            true => client.prepare("select 1").await.unwrap(),
            false => client.query("select 1").await.unwrap(),
        };
        tokens(can, ask, messages);
    }
}
