//! Signatures of deliveries: HTTP Message Signatures (RFC 9421) by HMAC with SHA-256, over the digest of the content
//! (RFC 9530).

use base64::{Engine, engine::general_purpose::STANDARD};
use hmac::{Hmac, Mac};
use jiff::Timestamp;
use sha2::{Digest, Sha256};

/// The header fields that make a delivery a signed one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signed {
    /// `Content-Digest` (RFC 9530, section 2).
    pub content_digest: String,
    /// `Signature-Input` (RFC 9421, section 4.1).
    pub signature_input: String,
    /// `Signature` (RFC 9421, section 4.2).
    pub signature: String,
}

/// The media type of deliveries.
pub(crate) const MEDIA: &str = "application/json";

/// Signs a POST of `body` to `url` under the number of its delivery. `name` tells the receiver which key to check it
/// with. What is covered: method, URL, media type, digest of the content, delivery number, time of signing.
#[must_use]
pub fn sign(key: &str, name: &str, url: &str, delivery: i64, body: &[u8], now: Timestamp) -> Signed {
    let content_digest = format!("sha-256=:{}:", STANDARD.encode(Sha256::digest(body)));
    let parameters = format!(
        "(\"@method\" \"@target-uri\" \"content-type\" \"content-digest\" \"lastmile-delivery\")\
         ;created={};keyid=\"{name}\";alg=\"hmac-sha256\"",
        now.as_second()
    );
    // The signature base (RFC 9421, section 2.5).
    let base = format!(
        "\"@method\": POST\n\"@target-uri\": {url}\n\"content-type\": {MEDIA}\n\"content-digest\": {content_digest}\n\
         \"lastmile-delivery\": {delivery}\n\"@signature-params\": {parameters}"
    );
    // HMAC takes keys of any length.
    let code = Hmac::<Sha256>::new_from_slice(key.as_bytes()).map(|mut hmac| {
        hmac.update(base.as_bytes());
        hmac.finalize().into_bytes()
    });
    let code = STANDARD.encode(code.unwrap_or_default());
    Signed {
        content_digest,
        signature_input: format!("lastmile={parameters}"),
        signature: format!("lastmile=:{code}:"),
    }
}
