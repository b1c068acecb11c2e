//! Octets as hexadecimal digits.

/// The octets that `text` writes: pairs of digits, with or without `:` or `-` between the pairs. `None` if it is
/// not that.
#[must_use]
pub fn decode(text: &str) -> Option<Vec<u8>> {
    let digits: Vec<u32> = text
        .chars()
        .filter(|character| !matches!(character, ':' | '-'))
        .map(|character| character.to_digit(16))
        .collect::<Option<_>>()?;
    let pairs = digits.chunks_exact(2);
    if !pairs.remainder().is_empty() {
        return None;
    }
    pairs.map(|pair| u8::try_from(pair[0] << 4 | pair[1]).ok()).collect()
}

/// The digits of `octets`, in lower case, without separators.
#[must_use]
pub fn encode(octets: &[u8]) -> String {
    octets.iter().map(|octet| format!("{octet:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_back() {
        assert_eq!(decode(&encode(&[0, 0x1f, 0xff])), Some(vec![0, 0x1f, 0xff]));
        assert_eq!(decode("01:02-0A"), Some(vec![1, 2, 10]));
        assert_eq!(decode("012"), None);
        assert_eq!(decode("0x"), None);
    }
}
