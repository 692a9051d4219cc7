//! The login: the answer to the greeting, and as many messages as the method takes.

use tokio::io::{AsyncRead, AsyncWrite};

use crate::client::{Client, Ended};
use crate::fields::Fields;
use crate::greeting::{Greeting, Login};
use crate::methods::{self, Method, with_zero};
use crate::packet::Packets;
use crate::{Error, ServerError, text};

/// No login takes more messages.
const MOST_MESSAGES: usize = 16;

impl Login<'_> {
    /// Logs in over a stream whose greeting was read.
    pub async fn on<S>(&self, stream: S, greeting: &Greeting) -> Result<Client<S>, Error>
    where
        S: AsyncRead + AsyncWrite + Unpin,
    {
        let mut packets = Packets::new(stream, greeting.sequence, self.largest);
        // Servers name their usual method, which need not be that of this user: they ask for another one then.
        let mut method = match Method::named(&greeting.method) {
            Some(method @ (Method::Native | Method::Sha2)) => method,
            _ => Method::Native,
        };
        let mut nonce = greeting.nonce.clone();
        let proof = method.proof(self.password, &nonce);
        packets.send(&greeting.answer(self, method.name(), &proof)).await?;
        for _ in 0..MOST_MESSAGES {
            let message = packets.message().await?;
            let Some((first, rest)) = message.split_first() else {
                return Err(Error::Broken("an empty message"));
            };
            match first {
                0x00 => {
                    let ended = Ended::read(rest).ok_or(Error::Broken("an end that ends in the middle"))?;
                    return Ok(Client::new(packets, greeting, ended));
                }
                0xFF => {
                    let error = ServerError::read(&message);
                    return Err(error.map_or(Error::Broken("an error that ends in the middle"), Error::Server));
                }
                // From before methods had names.
                0xFE if rest.is_empty() => return Err(Error::Method("mysql_old_password".into())),
                0xFE => {
                    let mut fields = Fields::of(rest);
                    let name = text(fields.until_zero());
                    method = Method::named(&name).ok_or(Error::Method(name))?;
                    if method == Method::Plain && !self.private {
                        return Err(Error::PlainPassword);
                    }
                    let data = fields.rest();
                    nonce = data.strip_suffix(&[0]).unwrap_or(data).to_vec();
                    packets.send(&method.proof(self.password, &nonce)).await?;
                }
                _ => self.go_on(method, &nonce, &message, &mut packets).await?,
            }
        }
        Err(Error::Broken("a login without an end"))
    }

    /// Answers to what belongs to a method.
    async fn go_on<S>(
        &self,
        method: Method,
        nonce: &[u8],
        message: &[u8],
        packets: &mut Packets<S>,
    ) -> Result<(), Error>
    where
        S: AsyncRead + AsyncWrite + Unpin,
    {
        match (method, message) {
            // It is known: the end follows.
            (Method::Sha2, [1, 3]) => Ok(()),
            // It is not known yet: all of it is wanted.
            (Method::Sha2, [1, 4]) if self.encrypted || self.private => packets.send(&with_zero(self.password)).await,
            (Method::Sha2, [1, 4]) => {
                packets.send(&[2]).await?;
                let key = packets.message().await?;
                let [1, key @ ..] = key.as_slice() else {
                    return Err(Error::Broken("a public key of another kind"));
                };
                packets.send(&methods::encrypted(self.password, nonce, key)?).await
            }
            // The first servers with this method left the byte before it out.
            (Method::Parsec, [1, salt @ ..] | salt) => {
                packets.send(&methods::parsec(self.password, nonce, salt)?).await
            }
            _ => Err(Error::Broken("a message that does not belong to the login")),
        }
    }
}
