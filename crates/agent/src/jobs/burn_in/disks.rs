//! Every disk, read from end to end.

use std::{
    sync::{Mutex, PoisonError},
    time::Instant,
};

use lastmile_survey::{facts::Disk, job::DiskFound};

use super::{super::ReadAt, Until};

/// Bytes that are read one by one, and counted, where more at once cannot be read.
const SMALL: usize = 1 << 20;
/// What a buffer begins at for reading past the kernel's cache: no disk has larger blocks.
const ALIGNED: usize = 4096;
/// Pieces that cannot be read, after which a disk is given up: each may take half a minute.
const MOST_ERRORS: u64 = 50;

/// Reads a disk from end to end, `piece` bytes at once; what was found is in `found` all the time.
pub(super) fn read(
    disk: &mut dyn ReadAt,
    facts: &Disk,
    piece: usize,
    until: &Until,
    found: &Mutex<DiskFound>,
) {
    let begun = Instant::now();
    let mut buffer = vec![0; piece + ALIGNED];
    let from = buffer.as_ptr().align_offset(ALIGNED).min(ALIGNED);
    let buffer = &mut buffer[from..from + piece];
    let (mut at, mut careful_until) = (0, 0);
    while at < facts.size && !until.is_cut_off() {
        let most = if at < careful_until { SMALL } else { piece };
        let length = usize::try_from(facts.size - at).map_or(most, |left| left.min(most));
        let took = disk.read_at(&mut buffer[..length], at);
        let mut found = found.lock().unwrap_or_else(PoisonError::into_inner);
        match took {
            Ok(0) => {
                // It is smaller than it says.
                found.first_error.get_or_insert_with(|| format!("it ends at byte {at}"));
                found.errors += 1;
                return;
            }
            Ok(read) => at += read as u64,
            // Where in it the error is, is found out.
            Err(_) if length > SMALL => careful_until = at + length as u64,
            Err(error) => {
                found.errors += 1;
                found.first_error.get_or_insert_with(|| format!("at byte {at}: {error}"));
                at += length as u64;
            }
        }
        found.read = at;
        found.took_ms = u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX);
        if found.errors >= MOST_ERRORS {
            return;
        }
    }
}

/// What is wrong with a disk, in words.
pub(super) fn fault(found: &DiskFound, limit_minutes: u32) -> Option<String> {
    let serial = found.serial.as_ref().map(|serial| format!(", serial {serial}")).unwrap_or_default();
    let name = format!("disk {}{serial}", found.name);
    let first = found.first_error.as_deref().unwrap_or_default();
    match found.errors {
        0 if found.is_whole() => None,
        0 => {
            let share = found.read.saturating_mul(100) / found.size.max(1);
            Some(format!("{name}: only {share} % of it was read within {limit_minutes} min"))
        }
        1 => Some(format!("{name}: a piece of 1 MiB cannot be read, {first}")),
        errors => Some(format!("{name}: {errors} pieces of 1 MiB cannot be read, the first {first}")),
    }
}

#[cfg(test)]
mod tests {
    use std::{io, time::Duration};

    use super::*;

    /// A disk of which one piece cannot be read, and that may be shorter than it says.
    struct Worn {
        bad: u64,
        ends: u64,
    }

    impl ReadAt for Worn {
        fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
            assert_eq!(buffer.as_ptr() as usize % ALIGNED, 0, "a disk is not read past the cache otherwise");
            if (offset..offset + buffer.len() as u64).contains(&self.bad) {
                return Err(io::Error::other("Input/output error"));
            }
            Ok(buffer.len().min(usize::try_from(self.ends.saturating_sub(offset)).unwrap()))
        }
    }

    fn found(worn: Worn) -> DiskFound {
        let facts = Disk { name: "sda".into(), size: (10 << 20) + 512, ..Disk::default() };
        let found = Mutex::new(DiskFound {
            name: "sda".into(),
            serial: Some("GANNET-1".into()),
            size: facts.size,
            ..DiskFound::default()
        });
        let mut worn = worn;
        let until = Until::after(Duration::ZERO, Duration::from_secs(60));
        read(&mut worn, &facts, 4 << 20, &until, &found);
        found.into_inner().unwrap()
    }

    #[test]
    fn what_cannot_be_read_is_skipped_counted_and_said() {
        let whole = found(Worn { bad: u64::MAX, ends: u64::MAX });
        assert!(whole.is_whole() && fault(&whole, 5).is_none(), "{whole:?}");
        let worn = found(Worn { bad: 5 << 20, ends: u64::MAX });
        assert!(worn.is_whole());
        assert_eq!(
            fault(&worn, 5).unwrap(),
            "disk sda, serial GANNET-1: a piece of 1 MiB cannot be read, at byte 5242880: Input/output error"
        );
        let short = found(Worn { bad: u64::MAX, ends: 3 << 20 });
        assert!(fault(&short, 5).unwrap().ends_with("it ends at byte 3145728"), "{short:?}");
        let slow = DiskFound { size: 100, read: 34, errors: 0, first_error: None, ..short };
        assert!(fault(&slow, 5).unwrap().contains("only 34 % of it was read within 5 min"));
    }
}
