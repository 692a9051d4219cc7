//! TLS of a simulated server.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use rustls::{RootCertStore, ServerConfig, SupportedProtocolVersion};

/// A certificate and its key, PEM files.
#[derive(Debug, Clone)]
pub struct Tls {
    /// The certificate.
    pub cert: PathBuf,
    /// Its key.
    pub key: PathBuf,
}

/// Why a server could not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The port cannot be had.
    #[error("the port cannot be listened on: {0}")]
    Port(#[from] std::io::Error),
    /// The certificate cannot be used.
    #[error("the certificate cannot be used: {0}")]
    Certificate(String),
    /// The data cannot be read.
    #[error("the data cannot be read: {0}")]
    Data(String),
}

fn certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let all = CertificateDer::pem_file_iter(file).and_then(Iterator::collect::<Result<Vec<_>, _>>);
    all.map_err(|error| format!("{}: {error}", file.display()))
}

/// The settings of a server with this certificate; clients may show one that `client_ca` has signed.
pub fn config(
    tls: &Tls,
    versions: &[&'static SupportedProtocolVersion],
    protocol: Option<&[u8]>,
    client_ca: Option<&Path>,
) -> Result<Arc<ServerConfig>, String> {
    let chain = certificates(&tls.cert)?;
    let key = PrivateKeyDer::from_pem_file(&tls.key).map_err(|error| format!("{}: {error}", tls.key.display()))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ServerConfig::builder_with_provider(Arc::clone(&provider)).with_protocol_versions(versions);
    let builder = builder.map_err(|error| error.to_string())?;
    let builder = match client_ca {
        None => builder.with_no_client_auth(),
        Some(file) => {
            let mut roots = RootCertStore::empty();
            roots.add_parsable_certificates(certificates(file)?);
            let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider);
            let verifier = verifier.allow_unauthenticated().build().map_err(|error| error.to_string())?;
            builder.with_client_cert_verifier(verifier)
        }
    };
    let mut config = builder.with_single_cert(chain, key).map_err(|error| error.to_string())?;
    config.alpn_protocols = protocol.map(<[u8]>::to_vec).into_iter().collect();
    Ok(Arc::new(config))
}
