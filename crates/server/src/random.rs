//! Randomness for tokens and salts.

/// Bytes from the kernel's generator.
pub(crate) fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    // Fails only where the kernel has no generator at all, and then nothing secret may be made.
    if let Err(error) = getrandom::fill(&mut bytes) {
        tracing::error!("the kernel gives no randomness: {error}");
        std::process::abort();
    }
    bytes
}
