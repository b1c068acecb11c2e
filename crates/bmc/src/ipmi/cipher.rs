//! Cipher suites (section 22.15.2), and what they compute (sections 13.19 to 13.34).

use aes::cipher::{BlockDecryptMut, BlockEncryptMut, KeyIvInit, block_padding::NoPadding};
use hmac::{Hmac, Mac};
use sha1::Sha1;
use sha2::Sha256;
use subtle::ConstantTimeEq;

/// The bytes of a block, and of what it is begun with.
const BLOCK: usize = 16;
/// How often the byte is repeated that keys are derived of (section 13.32).
const CONSTANT: usize = 20;

/// Which codes and ciphers a session uses.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Suite {
    /// HMAC-SHA1, HMAC-SHA1-96, AES-CBC-128: what every controller has.
    Three = 3,
    /// HMAC-SHA256, HMAC-SHA256-128, AES-CBC-128.
    Seventeen = 17,
}

impl Suite {
    /// Its algorithms, as a session is opened with them: for log-in, codes, ciphers (tables 13-17, 13-18, 13-19).
    pub(super) const fn algorithms(self) -> [u8; 3] {
        match self {
            Self::Three => [1, 1, 1],
            Self::Seventeen => [3, 4, 1],
        }
    }

    /// A code over pieces of text, whole.
    pub(super) fn code(self, key: &[u8], pieces: &[&[u8]]) -> Vec<u8> {
        // A key of any length is taken.
        match self {
            Self::Three => code_by(Hmac::<Sha1>::new_from_slice(key), pieces),
            Self::Seventeen => code_by(Hmac::<Sha256>::new_from_slice(key), pieces),
        }
    }

    /// Bytes of the code behind each packet.
    pub(super) const fn code_bytes(self) -> usize {
        match self {
            Self::Three => 12,
            Self::Seventeen => 16,
        }
    }

    /// The key `number` of a session (section 13.32).
    pub(super) fn key(self, session_key: &[u8], number: u8) -> Vec<u8> {
        self.code(session_key, &[&[number; CONSTANT]])
    }
}

fn code_by<M: Mac>(mac: Result<M, hmac::digest::InvalidLength>, pieces: &[&[u8]]) -> Vec<u8> {
    let Ok(mut mac) = mac else { return Vec::new() };
    pieces.iter().for_each(|piece| mac.update(piece));
    mac.finalize().into_bytes().to_vec()
}

/// Whether two codes are the same, in a time that does not tell where they differ.
pub(super) fn is_same(one: &[u8], other: &[u8]) -> bool {
    one.ct_eq(other).into()
}

/// Encrypts with AES-CBC-128 (section 13.29): what the block is begun with, then the text, filled up with 1, 2, 3 … and their count.
pub(super) fn encrypt(key: &[u8], begin: [u8; BLOCK], text: &[u8]) -> Vec<u8> {
    let fill = (BLOCK - (text.len() + 1) % BLOCK) % BLOCK;
    let mut whole = text.to_vec();
    whole.extend((1..=fill).map(|byte| byte as u8));
    whole.push(fill as u8);
    let Ok(encryptor) = cbc::Encryptor::<aes::Aes128>::new_from_slices(&key[..BLOCK], &begin) else {
        return Vec::new();
    };
    [&begin[..], &encryptor.encrypt_padded_vec_mut::<NoPadding>(&whole)].concat()
}

/// The other way; nothing if it is not so made.
pub(super) fn decrypt(key: &[u8], sealed: &[u8]) -> Option<Vec<u8>> {
    let (begin, sealed) = sealed.split_at_checked(BLOCK)?;
    let decryptor = cbc::Decryptor::<aes::Aes128>::new_from_slices(key.get(..BLOCK)?, begin).ok()?;
    let mut whole = decryptor.decrypt_padded_vec_mut::<NoPadding>(sealed).ok()?;
    let fill = usize::from(whole.pop()?);
    let text = whole.len().checked_sub(fill)?;
    let is_filled = fill < BLOCK && whole[text..].iter().zip(1..).all(|(byte, count)| *byte == count);
    whole.truncate(text);
    is_filled.then_some(whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sealed_is_opened_and_nothing_else() {
        let key = [7; 20];
        for length in 0..40 {
            let text: Vec<u8> = (0..length).collect();
            let mut sealed = encrypt(&key, [3; BLOCK], &text);
            assert_eq!(sealed.len() % BLOCK, 0);
            assert_eq!(decrypt(&key, &sealed), Some(text.clone()), "{length}");
            let last = sealed.len() - 1;
            sealed[last] ^= 1;
            assert_ne!(decrypt(&key, &sealed), Some(text));
        }
        assert_eq!(
            (decrypt(&key, &[]), decrypt(&key, &[0; 16]), decrypt(&key, &[0; 20])),
            (None, None, None)
        );
    }

    /// RFC 2202, section 3, and RFC 4231, section 4.3.
    #[test]
    fn codes_are_those_of_the_standards() {
        let text: &[&[u8]] = &[b"what do ya want ", b"for nothing?"];
        let hex = |bytes: Vec<u8>| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
        assert_eq!(hex(Suite::Three.code(b"Jefe", text)), "effcdf6ae5eb2fa2d27416d5f184df9c259a7c79");
        let long = "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843";
        assert_eq!(hex(Suite::Seventeen.code(b"Jefe", text)), long);
        assert!(is_same(b"abc", b"abc") && !is_same(b"abc", b"abd") && !is_same(b"abc", b"ab"));
    }
}
