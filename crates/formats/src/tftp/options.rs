//! Option negotiation (RFC 2347, 2348, 2349, 7440).

use std::{borrow::Cow, time::Duration};

use serde::{Deserialize, Serialize};

use super::packet::RawOptions;

/// Block size without negotiation (RFC 1350).
const DEFAULT_BLKSIZE: u16 = 512;
/// RFC 2348: 8 to 65,464 bytes.
const MIN_BLKSIZE: u16 = 8;
/// RFC 2349: 1 to 255 s.
const MAX_TIMEOUT_SECS: u64 = 255;
/// Time before a block is sent again, where the client did not say: short enough for a lost packet on a
/// local wire, long enough for firmware that writes each block to flash.
const DEFAULT_TIMEOUT: Duration = Duration::from_millis(1000);

/// What the server will agree to at most.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Largest block in bytes: the path's MTU less IPv4, UDP and TFTP headers (32 bytes).
    pub blksize: u16,
    /// Most blocks in flight.
    pub windowsize: u16,
}

impl Limits {
    /// What fits a path of `mtu` bytes, with up to 64 blocks in flight.
    #[must_use]
    pub const fn for_mtu(mtu: u16) -> Self {
        let room = mtu.saturating_sub(32);
        Self { blksize: if room < MIN_BLKSIZE { MIN_BLKSIZE } else { room }, windowsize: 64 }
    }
}

/// What both ends agreed on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Terms {
    /// Bytes a block.
    pub blksize: u16,
    /// Blocks in flight.
    pub windowsize: u16,
    /// Time before a block is sent again.
    pub timeout: Duration,
    /// Size of the whole file in bytes, where told.
    pub tsize: Option<u64>,
}

impl Default for Terms {
    fn default() -> Self {
        Self { blksize: DEFAULT_BLKSIZE, windowsize: 1, timeout: DEFAULT_TIMEOUT, tsize: None }
    }
}

impl Terms {
    /// Answers the options of a read request for a file of `size` bytes.
    ///
    /// Gives the terms, and the options to acknowledge; none means that the first block is the answer.
    /// Options not known, or whose value is out of its range, are left out (RFC 2347), never an error.
    #[must_use]
    pub fn negotiate(asked: &RawOptions<'_>, size: u64, limits: Limits) -> (Self, RawOptions<'static>) {
        let mut terms = Self::default();
        let mut agreed: RawOptions<'static> = Vec::new();
        for (name, value) in asked {
            let Ok(number) = value.trim().parse::<u64>() else { continue };
            let name = name.to_ascii_lowercase();
            if agreed.iter().any(|(known, _)| *known == name) {
                continue;
            }
            let answer = match name.as_str() {
                "blksize" if number >= u64::from(MIN_BLKSIZE) => {
                    terms.blksize = capped(number, limits.blksize);
                    u64::from(terms.blksize)
                }
                "windowsize" if number >= 1 => {
                    terms.windowsize = capped(number, limits.windowsize);
                    u64::from(terms.windowsize)
                }
                "timeout" if (1..=MAX_TIMEOUT_SECS).contains(&number) => {
                    terms.timeout = Duration::from_secs(number);
                    number
                }
                "tsize" => {
                    terms.tsize = Some(size);
                    size
                }
                _ => continue,
            };
            agreed.push((Cow::Owned(name), Cow::Owned(answer.to_string())));
        }
        (terms, agreed)
    }

    /// Reads the acknowledgement of what was asked for; `None` if it grants what was not asked, or too much.
    #[must_use]
    pub fn accept(asked: &Wishes, acknowledged: &RawOptions<'_>) -> Option<Self> {
        let mut terms = Self::default();
        for (name, value) in acknowledged {
            let number = value.trim().parse::<u64>().ok()?;
            match name.to_ascii_lowercase().as_str() {
                "blksize" => {
                    let wish = asked.blksize?;
                    terms.blksize =
                        u16::try_from(number).ok().filter(|n| (MIN_BLKSIZE..=wish).contains(n))?;
                }
                "windowsize" => {
                    let wish = asked.windowsize?;
                    terms.windowsize = u16::try_from(number).ok().filter(|n| (1..=wish).contains(n))?;
                }
                "tsize" if asked.tsize => terms.tsize = Some(number),
                _ => return None,
            }
        }
        Some(terms)
    }
}

fn capped(number: u64, limit: u16) -> u16 {
    u16::try_from(number).unwrap_or(u16::MAX).min(limit)
}

/// What a client asks for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Wishes {
    /// Block size in bytes.
    pub blksize: Option<u16>,
    /// Blocks in flight.
    pub windowsize: Option<u16>,
    /// The file's size.
    pub tsize: bool,
}

impl Wishes {
    /// The options of the read request.
    #[must_use]
    pub fn options(&self) -> RawOptions<'static> {
        let mut options: RawOptions<'static> = Vec::new();
        if self.tsize {
            options.push(("tsize".into(), "0".into()));
        }
        if let Some(blksize) = self.blksize {
            options.push(("blksize".into(), blksize.to_string().into()));
        }
        if let Some(windowsize) = self.windowsize {
            options.push(("windowsize".into(), windowsize.to_string().into()));
        }
        options
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn negotiate(asked: &[(&'static str, &'static str)]) -> (Terms, Vec<(String, String)>) {
        let asked = asked.iter().map(|(n, v)| ((*n).into(), (*v).into())).collect();
        let (terms, agreed) = Terms::negotiate(&asked, 5000, Limits::for_mtu(1500));
        (terms, agreed.into_iter().map(|(n, v)| (n.into_owned(), v.into_owned())).collect())
    }

    #[test]
    fn options_are_granted_up_to_the_limits() {
        let (terms, agreed) =
            negotiate(&[("tsize", "0"), ("BLKSIZE", "65464"), ("windowsize", "4"), ("timeout", "3")]);
        assert_eq!(
            terms,
            Terms { blksize: 1468, windowsize: 4, timeout: Duration::from_secs(3), tsize: Some(5000) }
        );
        let agreed: Vec<_> = agreed.iter().map(|(n, v)| format!("{n}={v}")).collect();
        assert_eq!(agreed, ["tsize=5000", "blksize=1468", "windowsize=4", "timeout=3"]);
    }

    #[test]
    fn what_is_out_of_range_or_unknown_is_left_out() {
        let (terms, agreed) = negotiate(&[
            ("blksize", "7"),
            ("windowsize", "0"),
            ("timeout", "256"),
            ("multicast", ""),
            ("blksize", "many"),
        ]);
        assert_eq!((terms, agreed), (Terms::default(), vec![]));
    }

    #[test]
    fn a_client_takes_only_what_it_asked_for() {
        let asked = Wishes { blksize: Some(1468), windowsize: None, tsize: true };
        let good = vec![("blksize".into(), "1024".into()), ("tsize".into(), "9".into())];
        let terms = Terms::accept(&asked, &good).unwrap();
        assert_eq!((terms.blksize, terms.windowsize, terms.tsize), (1024, 1, Some(9)));
        assert_eq!(Terms::accept(&asked, &vec![("blksize".into(), "2000".into())]), None);
        assert_eq!(Terms::accept(&asked, &vec![("windowsize".into(), "2".into())]), None);
    }
}
