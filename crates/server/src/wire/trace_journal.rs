//! Traces on disk, so that a restart keeps them: that is when people want them.
//!
//! Events are appended to a journal by a thread of their own, never on a machine's way. When the journal has grown, everything
//! that is still in memory is written as a new base beside it, and the journal begins anew: what is on disk has the bounds of
//! what is in memory. What a crash cut off at the end is left out at the next start.

use std::{
    collections::HashSet,
    fs::{self, File},
    io::{self, BufReader, BufWriter, Read, Write},
    path::{Path, PathBuf},
    sync::{Arc, Weak},
    time::Duration,
};

use lastmile_core::report::trace::{TraceBook, TraceEvent};
use lastmile_formats::mac::Mac;
use serde::{Deserialize, Serialize};
use tokio::sync::mpsc;

use crate::wire::Wire;

/// Events that may wait for the disk; beyond it they are in memory only.
const QUEUE: usize = 16_384;
/// Bytes of the journal from which it is begun anew.
const LARGEST: u64 = 32 << 20;
/// How long events are gathered before they are written.
const GATHERED: Duration = Duration::from_millis(200);
/// After how long it is tried again to write what could not be written.
const TRIED_AGAIN: Duration = Duration::from_secs(10);
/// Longest record that is read back: longer ones are not of this program.
const LONGEST_RECORD: u32 = 1 << 20;
/// The form of the records. Files of another form are left out: traces are of use for days, not for years.
const FORM: &[u8; 8] = b"lmtrace1";

/// One event, with whose it is.
#[derive(Debug, Serialize, Deserialize)]
struct Record<'a> {
    mac: Mac,
    #[serde(borrow)]
    event: std::borrow::Cow<'a, TraceEvent>,
}

/// Where events go to be kept.
pub(crate) type Sender = mpsc::Sender<(Mac, Arc<TraceEvent>)>;

/// The folder of traces.
#[derive(Debug)]
pub(crate) struct Journal {
    folder: PathBuf,
    waiting: mpsc::Receiver<(Mac, Arc<TraceEvent>)>,
}

impl Journal {
    /// Opens the journal in the data folder and reads what it kept into `book`; `is_known` says which machines are registered.
    ///
    /// # Errors
    /// That the folder cannot be made or read.
    pub(crate) fn open(
        data_dir: &Path,
        book: &mut TraceBook,
        is_known: impl Fn(Mac) -> bool,
    ) -> io::Result<(Self, Sender)> {
        let folder = data_dir.join("traces");
        fs::create_dir_all(&folder)?;
        // The journal may begin with what the base has.
        let mut there = HashSet::new();
        for name in ["base", "journal"] {
            for (mac, event) in read(&folder.join(name))? {
                if there.insert(event.number) {
                    book.add(mac, is_known(mac), event.at, event.seen);
                }
            }
        }
        let (sender, waiting) = mpsc::channel(QUEUE);
        Ok((Self { folder, waiting }, sender))
    }

    /// Writes what comes until the service ends. For a thread of its own. What could not be written is in memory, and is
    /// written from there once it can be.
    pub(crate) fn keep(mut self, wire: &Weak<Wire>) {
        let mut is_told = false;
        while let Err(error) = self.write(wire, &mut is_told) {
            if !std::mem::replace(&mut is_told, true) {
                tracing::warn!("traces are in memory only until they can be written: {error}");
            }
            std::thread::sleep(TRIED_AGAIN);
            if wire.strong_count() == 0 {
                return;
            }
        }
    }

    fn write(&mut self, wire: &Weak<Wire>, is_told: &mut bool) -> io::Result<()> {
        self.begin_anew(wire)?;
        if std::mem::take(is_told) {
            tracing::info!("traces are written again");
        }
        let mut journal = self.append()?;
        let mut written = 0;
        let mut batch = Vec::new();
        while self.waiting.blocking_recv_many(&mut batch, QUEUE) > 0 {
            for (mac, event) in batch.drain(..) {
                written += put(&mut journal, mac, &event)?;
            }
            journal.flush()?;
            if written > LARGEST {
                drop(journal);
                self.begin_anew(wire)?;
                journal = self.append()?;
                written = 0;
            }
            std::thread::sleep(GATHERED);
        }
        Ok(())
    }

    fn append(&self) -> io::Result<BufWriter<File>> {
        Ok(BufWriter::new(File::options().create(true).append(true).open(self.folder.join("journal"))?))
    }

    /// Writes everything that is in memory as the base, and begins the journal anew.
    fn begin_anew(&self, wire: &Weak<Wire>) -> io::Result<()> {
        let Some(wire) = wire.upgrade() else { return Ok(()) };
        let new = self.folder.join("base.new");
        let begun = write_base(&wire, &new).and_then(|()| fs::rename(&new, self.folder.join("base")));
        if begun.is_err() {
            // A half of it would only take the room that the records need.
            let _ = fs::remove_file(&new);
        }
        begun?;
        let mut journal = File::create(self.folder.join("journal"))?;
        journal.write_all(FORM)
    }
}

fn write_base(wire: &Wire, path: &Path) -> io::Result<()> {
    let mut base = BufWriter::new(File::create(path)?);
    base.write_all(FORM)?;
    // One machine at a time: the book is wanted by those that boot.
    let all = wire.traces().all();
    for mac in all {
        let events = wire.traces().of(&[mac]);
        for event in events {
            put(&mut base, mac, &event)?;
        }
    }
    base.into_inner().map_err(|error| error.into_error())?.sync_all()
}

/// Appends one record: its length, its checksum, itself. Gives the bytes it takes.
fn put(to: &mut impl Write, mac: Mac, event: &TraceEvent) -> io::Result<u64> {
    let record = Record { mac, event: std::borrow::Cow::Borrowed(event) };
    let bytes = postcard::to_stdvec(&record).map_err(io::Error::other)?;
    let length = u32::try_from(bytes.len()).map_err(io::Error::other)?;
    to.write_all(&length.to_le_bytes())?;
    to.write_all(&crc32fast::hash(&bytes).to_le_bytes())?;
    to.write_all(&bytes)?;
    Ok(u64::from(length) + 8)
}

/// Every whole record of a file; none if it is not there or of another form.
fn read(path: &Path) -> io::Result<Vec<(Mac, TraceEvent)>> {
    let file = match File::open(path) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let mut file = BufReader::new(file);
    let mut form = [0; FORM.len()];
    if file.read_exact(&mut form).is_err() || form != *FORM {
        return Ok(Vec::new());
    }
    let mut all = Vec::new();
    let mut head = [0; 8];
    while file.read_exact(&mut head).is_ok() {
        let [a, b, c, d, e, f, g, h] = head;
        let (length, checksum) = (u32::from_le_bytes([a, b, c, d]), u32::from_le_bytes([e, f, g, h]));
        if length > LONGEST_RECORD {
            break;
        }
        let mut bytes = vec![0; length as usize];
        if file.read_exact(&mut bytes).is_err() || crc32fast::hash(&bytes) != checksum {
            break;
        }
        let Ok(record) = postcard::from_bytes::<Record<'_>>(&bytes) else { break };
        all.push((record.mac, record.event.into_owned()));
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use std::net::SocketAddrV4;

    use lastmile_core::{
        model::install::ReportStage,
        report::trace::{Report, Seen},
    };

    use super::*;

    fn event(number: u64) -> TraceEvent {
        let end = |port| SocketAddrV4::new([192, 0, 2, 50].into(), port);
        let text = Some(format!("report {number}"));
        let report = Report { from: end(1024), to: end(80), stage: ReportStage::Started, text, install: 1 };
        TraceEvent { number, at: crate::clock::now(), seen: Seen::Report(Box::new(report)) }
    }

    #[test]
    fn what_was_cut_off_is_left_out_and_what_is_of_another_form_as_well() {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir_all(folder.path().join("traces")).unwrap();
        let journal = folder.path().join("traces/journal");
        let mut file = File::create(&journal).unwrap();
        file.write_all(FORM).unwrap();
        let mac = Mac::documentation(1);
        let mut ends = Vec::new();
        for number in 1..=3 {
            let taken = put(&mut file, mac, &event(number)).unwrap();
            ends.push(ends.last().copied().unwrap_or(FORM.len() as u64) + taken);
        }
        drop(file);
        let whole = fs::read(&journal).unwrap();
        for length in 0..=whole.len() {
            fs::write(&journal, &whole[..length]).unwrap();
            let mut book = TraceBook::default();
            drop(Journal::open(folder.path(), &mut book, |_| true).unwrap());
            let expected = ends.iter().filter(|end| **end <= length as u64).count();
            assert_eq!(book.of(&[mac]).len(), expected, "{length} bytes");
        }
        let mut other = whole;
        other[7] = b'9';
        fs::write(&journal, other).unwrap();
        let mut book = TraceBook::default();
        drop(Journal::open(folder.path(), &mut book, |_| true).unwrap());
        assert!(book.of(&[mac]).is_empty());
    }
}
