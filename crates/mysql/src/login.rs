//! The login: the handshake response, and as many messages as the authentication plugin takes.

use tokio::io::{AsyncRead, AsyncWrite};

use crate::auth::{self, AuthPlugin, with_zero};
use crate::client::{Client, OkPacket};
use crate::fields::Fields;
use crate::handshake::{Handshake, Login};
use crate::packet::Packets;
use crate::{Error, ServerError, text};

/// No login takes more messages.
const MOST_MESSAGES: usize = 16;

impl Login<'_> {
    /// Logs in over a stream whose handshake packet was read.
    pub async fn on<S>(&self, stream: S, handshake: &Handshake) -> Result<Client<S>, Error>
    where
        S: AsyncRead + AsyncWrite + Unpin,
    {
        let mut packets = Packets::new(stream, handshake.sequence, self.largest);
        // Servers name their default plugin, which need not be that of this user: they ask for another one then.
        let mut plugin = match AuthPlugin::named(&handshake.plugin) {
            Some(plugin @ (AuthPlugin::Native | AuthPlugin::Sha2)) => plugin,
            _ => AuthPlugin::Native,
        };
        let mut nonce = handshake.nonce.clone();
        let response = plugin.response(self.password, &nonce);
        packets.send(&handshake.answer(self, plugin.name(), &response)).await?;
        for _ in 0..MOST_MESSAGES {
            let message = packets.message().await?;
            let Some((first, rest)) = message.split_first() else {
                return Err(Error::Broken("an empty message"));
            };
            match first {
                0x00 => {
                    let ok = OkPacket::read(rest).ok_or(Error::Broken("an OK packet that ends in the middle"))?;
                    return Ok(Client::new(packets, handshake, ok));
                }
                0xFF => {
                    let error = ServerError::read(&message);
                    return Err(error.map_or(Error::Broken("an error that ends in the middle"), Error::Server));
                }
                // From before plugins had names.
                0xFE if rest.is_empty() => return Err(Error::UnknownPlugin("mysql_old_password".into())),
                0xFE => {
                    let mut fields = Fields::of(rest);
                    let name = text(fields.until_zero());
                    plugin = AuthPlugin::named(&name).ok_or(Error::UnknownPlugin(name))?;
                    if plugin == AuthPlugin::Clear && !self.private {
                        return Err(Error::ClearPassword);
                    }
                    let data = fields.rest();
                    nonce = data.strip_suffix(&[0]).unwrap_or(data).to_vec();
                    packets.send(&plugin.response(self.password, &nonce)).await?;
                }
                _ => self.go_on(plugin, &nonce, &message, &mut packets).await?,
            }
        }
        Err(Error::Broken("a login without an end"))
    }

    /// Answers a message of an authentication plugin.
    async fn go_on<S>(
        &self,
        plugin: AuthPlugin,
        nonce: &[u8],
        message: &[u8],
        packets: &mut Packets<S>,
    ) -> Result<(), Error>
    where
        S: AsyncRead + AsyncWrite + Unpin,
    {
        match (plugin, message) {
            // It is known: the end follows.
            (AuthPlugin::Sha2, [1, 3]) => Ok(()),
            // It is not known yet: all of it is wanted.
            (AuthPlugin::Sha2, [1, 4]) if self.encrypted || self.private => {
                packets.send(&with_zero(self.password)).await
            }
            (AuthPlugin::Sha2, [1, 4]) => {
                packets.send(&[2]).await?;
                let key = packets.message().await?;
                let [1, key @ ..] = key.as_slice() else {
                    return Err(Error::Broken("a public key of another kind"));
                };
                packets.send(&auth::encrypted(self.password, nonce, key)?).await
            }
            // The first servers with it left the byte before it out.
            (AuthPlugin::Parsec, [1, salt @ ..] | salt) => {
                packets.send(&auth::parsec(self.password, nonce, salt)?).await
            }
            _ => Err(Error::Broken("a message that does not belong to the login")),
        }
    }
}
