//! Which certificate a controller may show.

use std::sync::{Arc, Mutex, PoisonError};

use sha2::{Digest, Sha256};
use tokio_rustls::rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, SignatureScheme,
    client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
};

/// SHA-256 of a certificate, as it is shown (DER).
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Fingerprint(pub [u8; 32]);

impl std::fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl std::fmt::Debug for Fingerprint {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{self}")
    }
}

/// Which certificate is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trust {
    /// This one, until when and by whomever it is.
    Pinned(Fingerprint),
    /// Any: at the first meeting, after which the one that was shown is pinned.
    Any,
}

/// What a controller showed last.
pub(super) type Shown = Arc<Mutex<Option<Fingerprint>>>;

/// TLS that takes what `trust` says, and remembers what was shown.
pub(super) fn config(trust: Trust, shown: Shown) -> Result<ClientConfig, Error> {
    let provider = Arc::new(ring::default_provider());
    let verifier = Arc::new(Verifier { trust, shown, provider: Arc::clone(&provider) });
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    Ok(config.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())
}

#[derive(Debug)]
struct Verifier {
    trust: Trust,
    shown: Shown,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let shown = Fingerprint(Sha256::digest(certificate).into());
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner) = Some(shown);
        match self.trust {
            Trust::Pinned(expected) if expected != shown => {
                Err(CertificateError::ApplicationVerificationFailure.into())
            }
            Trust::Pinned(_) | Trust::Any => Ok(ServerCertVerified::assertion()),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signed, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signed, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
