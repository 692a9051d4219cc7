//! How a connection is encrypted, and how sure we are of who is at the other end.
//!
//! Beyond this machine the server's certificate is verified unless the profile says otherwise; on
//! it, encryption is taken where the server offers it.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::Profile;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{WebPkiServerVerifier, verify_server_name};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::{
    AlertDescription, CertificateError, ClientConfig, DigitallySignedStruct, ProtocolVersion, RootCertStore,
    SignatureScheme,
};
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use super::reach::{Carried, Route};

/// How much is asked of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Nothing is encrypted.
    Off,
    /// Encrypted if the server can; whoever it is.
    Prefer,
    /// Encrypted, whoever it is.
    Require,
    /// Encrypted, and the server is who its certificate says, for the host that was asked for.
    VerifyFull,
}

/// What a profile says of encryption.
#[derive(Debug, Clone)]
pub struct Tls {
    /// How much is asked for.
    pub mode: Mode,
    /// Certificates to trust instead of the system's.
    pub ca: Option<PathBuf>,
    /// Our certificate and its key.
    pub identity: Option<(PathBuf, PathBuf)>,
}

impl Tls {
    /// What a profile says, or what is usual on this route.
    pub fn of(profile: &Profile, route: &Route) -> Result<Tls, EngineError> {
        let ca = profile.path("tls_ca");
        let mode = match profile.text("tls") {
            Some("off") => Mode::Off,
            Some("prefer") => Mode::Prefer,
            Some("require") => Mode::Require,
            Some(_) => Mode::VerifyFull,
            None if ca.is_some() => Mode::VerifyFull,
            None if route.is_private() => Mode::Prefer,
            None => Mode::VerifyFull,
        };
        let identity = match (profile.path("tls_cert"), profile.path("tls_key")) {
            (Some(cert), Some(key)) => Some((cert, key)),
            (None, None) => None,
            _ => {
                return Err(EngineError::connecting(Step::Profile, "tls_cert and tls_key must be set together")
                    .remedy("Set both: the certificate and its key."));
            }
        };
        Ok(Tls { mode, ca, identity })
    }

    /// The settings of a client that does so.
    pub fn client(&self) -> Result<ClientConfig, EngineError> {
        self.client_of(rustls::DEFAULT_VERSIONS)
    }

    /// The same with these versions of the protocol.
    pub fn client_of(
        &self,
        versions: &[&'static rustls::SupportedProtocolVersion],
    ) -> Result<ClientConfig, EngineError> {
        super::prepare();
        let builder = ClientConfig::builder_with_protocol_versions(versions);
        let builder = if self.mode == Mode::VerifyFull {
            let pinned = self.ca.as_deref().map_or(Ok(Vec::new()), certificates)?;
            let usual = WebPkiServerVerifier::builder_with_provider(Arc::new(self.roots()?), provider()).build();
            let usual = usual.map_err(|error| EngineError::connecting(Step::Tls, error.to_string()))?;
            builder.dangerous().with_custom_certificate_verifier(Arc::new(Known { usual, pinned }))
        } else {
            builder.dangerous().with_custom_certificate_verifier(Arc::new(Anybody(provider())))
        };
        match &self.identity {
            None => Ok(builder.with_no_client_auth()),
            Some((cert, key)) => {
                let chain = certificates(cert)?;
                let key = PrivateKeyDer::from_pem_file(key).map_err(|error| unusable(key, &error.to_string()))?;
                builder.with_client_auth_cert(chain, key).map_err(|error| unusable(cert, &error.to_string()))
            }
        }
    }

    fn roots(&self) -> Result<RootCertStore, EngineError> {
        let mut roots = RootCertStore::empty();
        match &self.ca {
            Some(file) => {
                for certificate in certificates(file)? {
                    roots.add(certificate).map_err(|error| unusable(file, &error.to_string()))?;
                }
            }
            None => {
                let system = rustls_native_certs::load_native_certs();
                roots.add_parsable_certificates(system.certs);
                if roots.is_empty() {
                    return Err(EngineError::connecting(Step::Tls, "this machine has no trusted CA certificates")
                        .remedy("Install the package of CA certificates, or name a file under tls_ca."));
                }
            }
        }
        Ok(roots)
    }

    /// How the connection is encrypted, in words; `version` is what was agreed on, if anything.
    pub fn in_words(&self, version: Option<&str>) -> String {
        match (version, self.mode) {
            (None, _) => "not encrypted".to_owned(),
            (Some(version), Mode::VerifyFull) => format!("{version}, verified"),
            (Some(version), _) => format!("{version}, not verified"),
        }
    }
}

/// Encrypts a stream to this host. `otherwise` is the error of a server that does not answer with TLS.
pub async fn shake_hands<S: Carried>(
    stream: S,
    config: ClientConfig,
    host: &str,
    otherwise: impl FnOnce() -> EngineError,
) -> Result<TlsStream<S>, EngineError> {
    let name = ServerName::try_from(host.to_owned())
        .map_err(|error| EngineError::connecting(Step::Tls, format!("{host} is not a valid name for TLS: {error}")))?;
    let encrypted = TlsConnector::from(Arc::new(config)).connect(name, stream).await;
    encrypted.map_err(|error| failure(&error, host).unwrap_or_else(otherwise))
}

/// The version of TLS that was agreed on, in its own words.
pub fn version<S>(stream: &TlsStream<S>) -> Option<String> {
    Some(match stream.get_ref().1.protocol_version()? {
        ProtocolVersion::TLSv1_2 => "TLSv1.2".to_owned(),
        ProtocolVersion::TLSv1_3 => "TLSv1.3".to_owned(),
        other => format!("{other:?}"),
    })
}

fn certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>, EngineError> {
    let read = CertificateDer::pem_file_iter(file).and_then(Iterator::collect::<Result<Vec<_>, _>>);
    let found = read.map_err(|error| unusable(file, &error.to_string()))?;
    if found.is_empty() { Err(unusable(file, "it holds no certificate")) } else { Ok(found) }
}

fn unusable(file: &Path, why: &str) -> EngineError {
    EngineError::connecting(Step::Tls, format!("{} cannot be used: {why}", file.display()))
        .remedy("It has to be a PEM file that you can read.")
}

fn provider() -> Arc<CryptoProvider> {
    CryptoProvider::get_default().cloned().unwrap_or_else(|| Arc::new(rustls::crypto::ring::default_provider()))
}

/// The error of a server that lets in only those who show a certificate.
pub fn wants_certificate(host: &str) -> EngineError {
    EngineError::connecting(Step::Tls, format!("{host} requires a client certificate"))
        .remedy("Set tls_cert and tls_key in the profile.")
}

/// The error of a handshake that failed, as a sentence. `None` if it had nothing to do with TLS.
pub fn failure(error: &(dyn std::error::Error + 'static), host: &str) -> Option<EngineError> {
    let tls = innermost(error)?;
    let what = match tls {
        rustls::Error::InvalidCertificate(error) => {
            format!("the certificate of {host} is not trusted: {}", reason(error))
        }
        rustls::Error::AlertReceived(AlertDescription::CertificateRequired) => {
            return Some(wants_certificate(host));
        }
        rustls::Error::AlertReceived(alert) => format!("{host} ended the TLS handshake: {alert:?}"),
        other => format!("TLS with {host} failed: {other}"),
    };
    let remedy = match tls {
        rustls::Error::InvalidCertificate(_) => {
            "Name the certificate of its CA under tls_ca, or connect by the name that the certificate is for. With tls = \"require\" the server's identity is not checked."
        }
        _ => "Check the keys that begin with tls_.",
    };
    Some(EngineError::connecting(Step::Tls, what).remedy(remedy))
}

/// The error of rustls within others.
fn innermost<'e>(error: &'e (dyn std::error::Error + 'static)) -> Option<&'e rustls::Error> {
    let mut at = Some(error);
    while let Some(error) = at {
        if let Some(tls) = error.downcast_ref::<rustls::Error>() {
            return Some(tls);
        }
        // An error of the operating system may carry one without calling it its source.
        if let Some(inner) = error.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref)
            && let Some(tls) = innermost(inner)
        {
            return Some(tls);
        }
        at = error.source();
    }
    None
}

/// Takes certificates that the trusted ones vouch for, and the trusted ones themselves: a server
/// whose own certificate is named under `tls_ca` is known, even if that is no one else's authority.
/// Of such a certificate the host is checked, and not the date.
#[derive(Debug)]
struct Known {
    usual: Arc<WebPkiServerVerifier>,
    pinned: Vec<CertificateDer<'static>>,
}

impl ServerCertVerifier for Known {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        if self.pinned.iter().any(|pinned| pinned.as_ref() == certificate.as_ref()) {
            verify_server_name(&ParsedCertificate::try_from(certificate)?, name)?;
            return Ok(ServerCertVerified::assertion());
        }
        self.usual.verify_server_cert(certificate, between, name, ocsp, now)
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.usual.verify_tls12_signature(message, certificate, signature)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.usual.verify_tls13_signature(message, certificate, signature)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.usual.supported_verify_schemes()
    }
}

/// Why a certificate is not trusted, in words.
fn reason(error: &CertificateError) -> String {
    match error {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => "it has expired".into(),
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => "it is not valid yet".into(),
        CertificateError::UnknownIssuer => "its issuer is not trusted".into(),
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            "it is for another name".into()
        }
        CertificateError::BadSignature => "it was signed by another CA of that name".into(),
        CertificateError::Revoked => "it was revoked".into(),
        CertificateError::Other(other) if other.to_string().contains("CaUsedAsEndEntity") => {
            "it is self-signed, and not listed under tls_ca".into()
        }
        other => other.to_string(),
    }
}

/// Takes any certificate. The handshake is still checked to be made with its key.
#[derive(Debug)]
struct Anybody(Arc<CryptoProvider>);

impl ServerCertVerifier for Anybody {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.0.signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, certificate, signature, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.0.signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, certificate, signature, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
