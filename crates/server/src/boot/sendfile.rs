//! Files go from the page cache to the socket without passing through the service's memory (`sendfile(2)`), under hyper's
//! own connection handling.
//!
//! hyper writes bodies from memory. So a body hands it stand-ins: slices of one static stretch of zeros, which is never
//! read or written and takes no memory. The stream below hyper knows that stretch by its address, and where a
//! stand-in is to be written, it sends the run of the file that it stands for.

use std::{
    collections::VecDeque,
    fs::File,
    io::{self, IoSlice},
    os::fd::AsFd,
    pin::Pin,
    sync::{Arc, Mutex},
    task::{Context, Poll, ready},
    time::Duration,
};

use bytes::Bytes;
use nix::sys::sendfile::sendfile64;
use socket2::SockRef;
use tokio::{
    io::{AsyncRead, AsyncWrite, Interest, ReadBuf},
    net::TcpStream,
};

use crate::sync::lock;

/// Bytes of a file that one stand-in stands for at most: what is handed to the kernel at once.
pub(super) const MOST: usize = 1024 * 1024;

/// How long the kernel tries to end a connection whose other end says nothing any more. GRUB 2.06 uses the same ports at each boot,
/// and closes without room for an answer: what it leaves behind would for minutes keep the machine's next boot from connecting.
const PARTING: Duration = Duration::from_secs(15);

/// The stretch that stand-ins are slices of.
static STAND_IN: [u8; MOST] = [0; MOST];

fn stands_in(slice: &[u8]) -> bool {
    STAND_IN.as_ptr_range().contains(&slice.as_ptr()) && !slice.is_empty()
}

/// A run of bytes of a file that is to be sent.
#[derive(Debug)]
struct Run {
    file: Arc<File>,
    offset: u64,
    left: usize,
}

/// The runs that wait on one connection, in the order of their stand-ins.
#[derive(Debug, Clone, Default)]
pub(super) struct Runs(Arc<Mutex<VecDeque<Run>>>);

impl Runs {
    /// What stands in a body for `length` bytes of `file` from `offset`, at most [`MOST`].
    pub(super) fn stand_in(&self, file: &Arc<File>, offset: u64, length: usize) -> Bytes {
        let length = length.min(MOST);
        lock(&self.0).push_back(Run { file: file.clone(), offset, left: length });
        Bytes::from_static(&STAND_IN[..length])
    }

    /// Sends what it can of the first run, at most `length` bytes.
    fn send(&self, tcp: &TcpStream, length: usize) -> io::Result<usize> {
        let mut runs = lock(&self.0);
        let Some(run) = runs.front_mut() else {
            return Err(io::Error::other("a stand-in has no file"));
        };
        let mut offset = i64::try_from(run.offset).map_err(io::Error::other)?;
        let length = length.min(run.left);
        let sent = tcp.try_io(Interest::WRITABLE, || {
            sendfile64(tcp.as_fd(), run.file.as_fd(), Some(&mut offset), length).map_err(io::Error::from)
        })?;
        if sent == 0 {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "the file ends before it should"));
        }
        run.offset += sent as u64;
        run.left -= sent;
        if run.left == 0 {
            runs.pop_front();
        }
        Ok(sent)
    }
}

/// A connection that sends files where stand-ins are written.
#[derive(Debug)]
pub(super) struct FileStream {
    tcp: TcpStream,
    runs: Runs,
}

impl FileStream {
    pub(super) const fn new(tcp: TcpStream, runs: Runs) -> Self {
        Self { tcp, runs }
    }

    fn poll_send(&self, context: &mut Context<'_>, length: usize) -> Poll<io::Result<usize>> {
        loop {
            ready!(self.tcp.poll_write_ready(context))?;
            match self.runs.send(&self.tcp, length) {
                // The readiness was of the past.
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                sent => return Poll::Ready(sent),
            }
        }
    }
}

impl Drop for FileStream {
    fn drop(&mut self) {
        // Where the kernel cannot, it tries for longer.
        let _ = SockRef::from(&self.tcp).set_tcp_user_timeout(Some(PARTING));
    }
}

impl AsyncRead for FileStream {
    fn poll_read(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().tcp).poll_read(context, buffer)
    }
}

impl AsyncWrite for FileStream {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let this = self.get_mut();
        if stands_in(bytes) {
            return this.poll_send(context, bytes.len());
        }
        Pin::new(&mut this.tcp).poll_write(context, bytes)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        slices: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let this = self.get_mut();
        let slices = &slices[slices.iter().take_while(|slice| slice.is_empty()).count()..];
        // What comes before the first stand-in goes out as it is.
        let own = slices.iter().take_while(|slice| !stands_in(slice)).count();
        match slices.first() {
            Some(first) if own == 0 => this.poll_send(context, first.len()),
            _ => Pin::new(&mut this.tcp).poll_write_vectored(context, &slices[..own]),
        }
    }

    /// Stand-ins must come as the slices they are: hyper copies small writes together where this is not so.
    fn is_write_vectored(&self) -> bool {
        true
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().tcp).poll_flush(context)
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().tcp).poll_shutdown(context)
    }
}

#[cfg(test)]
mod tests {
    use tokio::{
        io::{AsyncReadExt, AsyncWriteExt},
        net::TcpListener,
    };

    use super::*;

    #[tokio::test]
    async fn runs_of_files_come_in_their_place_among_other_octets() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        let content: Vec<u8> = (0..3_000_000_u32).map(|n| (n % 251) as u8).collect();
        std::fs::write(&path, &content).unwrap();
        let file = Arc::new(File::open(&path).unwrap());
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let mut reader = TcpStream::connect(listener.local_addr().unwrap()).await.unwrap();
        let (tcp, _) = listener.accept().await.unwrap();
        let runs = Runs::default();
        let mut stream = FileStream::new(tcp, runs.clone());
        let writing = tokio::spawn(async move {
            stream.write_all(b"head").await.unwrap();
            let first = runs.stand_in(&file, 10, usize::MAX);
            let second = runs.stand_in(&file, 2_000_000, 100);
            stream.write_all(&first).await.unwrap();
            stream.write_all(&second).await.unwrap();
            stream.write_all(b"tail").await.unwrap();
            // A run that the file does not have: an error, not zeros.
            let beyond = runs.stand_in(&file, 2_999_990, 100);
            assert_eq!(stream.write_all(&beyond).await.unwrap_err().kind(), io::ErrorKind::UnexpectedEof);
        });
        let mut got = Vec::new();
        reader.read_to_end(&mut got).await.unwrap();
        writing.await.unwrap();
        let expected = [
            b"head",
            &content[10..10 + MOST],
            &content[2_000_000..2_000_100],
            b"tail",
            &content[2_999_990..],
        ]
        .concat();
        assert!(got == expected, "{} bytes instead of {}", got.len(), expected.len());
    }
}
