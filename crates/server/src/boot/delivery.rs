//! A file on its way to a machine by HTTP, and what is recorded of it.

use std::{collections::VecDeque, io};

use axum::body::Bytes;
use lastmile_core::report::trace::{FileRequest, Seen, TransferEnd};

use super::{Served, http::Asked, sendfile::Runs};
use crate::{
    boot::Parts,
    library::{BlockingReader, Content, ContentReader, OnFile},
};

/// What is recorded once the last byte was sent, or once it is certain that it will not be.
pub(super) struct Delivery {
    parts: Parts,
    served: Option<Served>,
    asked: Asked,
    size: u64,
    sent: u64,
}

impl Delivery {
    /// Of `size` bytes of what is served.
    pub(super) const fn new(parts: Parts, served: Served, asked: Asked, size: u64) -> Self {
        Self { parts, served: Some(served), asked, size, sent: 0 }
    }

    /// The last byte is about to leave. `whole` says whether it was the whole file.
    async fn complete(mut self, whole: bool) {
        let follows = self.served.as_mut().and_then(|served| served.follows.take());
        self.trace(TransferEnd::Done);
        if let Some(follows) = follows.filter(|_| whole) {
            self.parts.follow(follows).await;
        }
    }

    /// The file could not be read on: it was changed or taken away underneath.
    async fn unreadable(mut self, error: &io::Error) {
        tracing::error!(path = self.asked.path(), "cannot be read: {error}");
        let revision = self.served.as_ref().and_then(|served| served.revision);
        self.trace(TransferEnd::Unreadable(error.to_string()));
        if let Some(revision) = revision {
            self.parts.records.mark_suspect(&self.parts.library, revision).await;
        }
    }

    /// Only the head was asked for.
    pub(super) fn probed(mut self) {
        self.trace(TransferEnd::Probed);
    }

    fn trace(&mut self, end: TransferEnd) {
        let Some(served) = self.served.take() else { return };
        let (Some(mac), also) = (served.mac, served.also) else { return };
        let file = FileRequest {
            decision: served.decision,
            size: self.size,
            delivered: if end == TransferEnd::Done { self.size } else { self.sent },
            ..self.asked.request(served.role, served.what, end)
        };
        for mac in [Some(mac), also].into_iter().flatten() {
            self.parts.records.trace(mac, self.asked.at(), Seen::File(Box::new(file.clone())));
        }
    }
}

impl Drop for Delivery {
    /// The connection ended before the file did.
    fn drop(&mut self) {
        self.trace(TransferEnd::BrokenOff("the machine closed the connection".into()));
    }
}

/// Where the bytes of a body come from.
pub(super) enum Source {
    /// Through the service's memory.
    Memory(ContentReader),
    /// From their file, by the connection itself.
    File { reader: BlockingReader, runs: Runs, ahead: VecDeque<OnFile> },
}

impl Source {
    /// Opens content; `runs` are there where the connection sends files by itself.
    pub(super) async fn open(content: &Content, runs: Option<Runs>) -> io::Result<Self> {
        if let Some(runs) = runs
            && let Some(reader) = content.open_file().await?
        {
            return Ok(Self::File { reader, runs, ahead: VecDeque::new() });
        }
        Ok(Self::Memory(content.open().await?))
    }

    /// What comes next from `at`, up to `end`.
    async fn read_on(&mut self, at: u64, end: u64) -> io::Result<Bytes> {
        match self {
            Self::Memory(reader) => reader.read_on(at, end).await,
            Self::File { reader, runs, ahead } => {
                if ahead.is_empty() {
                    ahead.extend(reader.runs(at, end));
                }
                let (Some(run), Some(file)) = (ahead.front_mut(), reader.file()) else {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                };
                let length = usize::try_from(run.length).unwrap_or(usize::MAX);
                // Once its stand-in is sent, an error could only break the connection.
                if file.metadata()?.len() < run.offset + run.length {
                    return Err(io::Error::other("the file became shorter while it was sent"));
                }
                let piece = runs.stand_in(file, run.offset, length);
                run.offset += piece.len() as u64;
                run.length -= piece.len() as u64;
                if run.length == 0 {
                    ahead.pop_front();
                }
                Ok(piece)
            }
        }
    }
}

/// The bytes from `start` to `end`, with what is recorded of them.
pub(super) fn stream(
    mut source: Source,
    (start, end): (u64, u64),
    size: u64,
    delivery: Delivery,
) -> impl futures_util::Stream<Item = io::Result<Bytes>> {
    async_stream::try_stream! {
        let mut at = start;
        let mut delivery = Some(delivery);
        if at == end && let Some(delivery) = delivery.take() {
            // Of an empty file there is no last byte to wait for.
            delivery.complete(true).await;
        }
        while at < end {
            let piece = match source.read_on(at, end).await {
                Ok(piece) => piece,
                Err(error) => {
                    if let Some(delivery) = delivery.take() {
                        delivery.unreadable(&error).await;
                    }
                    Err(error)?
                }
            };
            at += piece.len() as u64;
            if let Some(delivery) = &mut delivery {
                delivery.sent = at - start;
            }
            // On record before the machine can act on the last byte. After it would be too late: a body of
            // known length is not asked for more.
            if at == end && let Some(delivery) = delivery.take() {
                delivery.complete(start == 0 && end == size).await;
            }
            yield piece;
        }
    }
}
