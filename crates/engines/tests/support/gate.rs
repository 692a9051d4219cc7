//! An SSH server that lets in by password, which the system's own only does for accounts that have
//! one. It carries on to any port of this machine.

use std::net::SocketAddr;
use std::process::Command;
use std::sync::Arc;

use jaunty_testservers::PASSWORD;
use russh::keys::load_secret_key;
use russh::server::{self, Auth, ChannelOpenHandle, Config, Msg, Response, Session};
use russh::{Channel, MethodKind, MethodSet};
use tokio::net::{TcpListener, TcpStream};

/// How it wants the password.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wants {
    /// ParameterValue at once.
    Password,
    /// As the answer to a question.
    Answer,
}

/// The server; it ends with the test's process.
pub struct Gate {
    pub address: SocketAddr,
    /// A file of known hosts that lists it.
    pub known: tempfile::NamedTempFile,
}

impl Gate {
    pub fn start(wants: Wants) -> Gate {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("hostkey");
        let made = Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&file).status();
        assert!(made.unwrap().success());
        let key = load_secret_key(&file, None).unwrap();
        let public = key.public_key().to_openssh().unwrap();
        let methods = match wants {
            Wants::Password => MethodKind::Password,
            Wants::Answer => MethodKind::KeyboardInteractive,
        };
        let config = Config {
            keys: vec![key],
            methods: MethodSet::from(&[methods][..]),
            auth_rejection_time: std::time::Duration::ZERO,
            ..Config::default()
        };
        let (send, receive) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(async {
                let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
                send.send(listener.local_addr().unwrap()).unwrap();
                let config = Arc::new(config);
                while let Ok((stream, _)) = listener.accept().await {
                    let config = Arc::clone(&config);
                    tokio::spawn(async move { server::run_stream(config, stream, Guest).await?.await });
                }
            });
        });
        let address: SocketAddr = receive.recv().unwrap();
        let known = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(known.path(), format!("[127.0.0.1]:{} {public}\n", address.port())).unwrap();
        Gate { address, known }
    }
}

struct Guest;

fn judged(user: &str, password: &str) -> Auth {
    if (user, password) == ("clerk", PASSWORD) { Auth::Accept } else { Auth::reject() }
}

impl server::Handler for Guest {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        Ok(judged(user, password))
    }

    async fn auth_keyboard_interactive<'a>(
        &'a mut self,
        user: &str,
        _: &str,
        response: Option<Response<'a>>,
    ) -> Result<Auth, russh::Error> {
        let Some(mut response) = response else {
            let prompts = vec![("Password: ".into(), false)];
            return Ok(Auth::Partial { name: "".into(), instructions: "".into(), prompts: prompts.into() });
        };
        let answer = response.next().unwrap_or_default();
        Ok(judged(user, &String::from_utf8_lossy(&answer)))
    }

    async fn channel_open_direct_tcpip(
        &mut self,
        channel: Channel<Msg>,
        host: &str,
        port: u32,
        _: &str,
        _: u32,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), russh::Error> {
        let Ok(mut there) = TcpStream::connect((host, u16::try_from(port).unwrap())).await else { return Ok(()) };
        reply.accept().await;
        tokio::spawn(async move { tokio::io::copy_bidirectional(&mut channel.into_stream(), &mut there).await });
        Ok(())
    }
}
