//! The shells that are open on machines, between their agents and the people who use them.

use std::{
    collections::{HashMap, VecDeque},
    sync::{Arc, Mutex},
};

use bytes::Bytes;
use lastmile_core::model::agent::ScreenSize;
use tokio::sync::{broadcast, mpsc};

use crate::sync::lock;

/// What was written last is shown to whoever attaches, in bytes: some screens of it.
const SHOWN_AGAIN: usize = 64 << 10;
/// Pieces that a slow reader may fall behind before it is cut off.
const PIECES: usize = 1024;
/// Bytes that may be typed before the agent comes.
const AHEAD: usize = 64 << 10;
/// Pieces that were typed and the agent has not taken yet.
const TYPED: usize = 256;

/// All of them, by the numbers of their jobs.
#[derive(Debug, Default)]
pub(crate) struct Shells {
    all: Mutex<HashMap<i64, Arc<Shell>>>,
}

/// One, from when somebody or its agent comes to it until its job has ended.
#[derive(Debug)]
pub(crate) struct Shell {
    recent: Mutex<VecDeque<u8>>,
    /// What it writes.
    written: broadcast::Sender<Bytes>,
    /// Where what people do goes to, once its agent has come.
    to_agent: Mutex<Option<mpsc::Sender<Typed>>>,
    /// Keys that were typed before its agent came.
    ahead: Mutex<Vec<u8>>,
    /// The screen that it is shown on.
    size: Mutex<ScreenSize>,
    /// Held by the connection that carries it: the next one begins where that has ended.
    carried: tokio::sync::Mutex<()>,
}

/// What people do at a shell.
#[derive(Debug)]
pub(crate) enum Typed {
    /// Keys.
    Keys(Bytes),
    /// Their screen has another size.
    Size(ScreenSize),
}

impl Default for Shell {
    fn default() -> Self {
        Self {
            recent: Mutex::default(),
            written: broadcast::channel(PIECES).0,
            to_agent: Mutex::default(),
            ahead: Mutex::default(),
            size: Mutex::default(),
            carried: tokio::sync::Mutex::default(),
        }
    }
}

impl Shells {
    /// The shell of a job.
    pub(crate) fn of(&self, job: i64) -> Arc<Shell> {
        lock(&self.all).entry(job).or_default().clone()
    }

    /// The job has ended: whoever is attached is let go.
    pub(crate) fn forget(&self, job: i64) {
        lock(&self.all).remove(&job);
    }
}

impl Shell {
    /// Its agent is connected: gives what people do from now on, the size of their screen, and the keys that they typed before it came.
    pub(crate) fn connect(&self) -> (mpsc::Receiver<Typed>, ScreenSize, Bytes) {
        let (say, typed) = mpsc::channel(TYPED);
        let mut to_agent = lock(&self.to_agent);
        *to_agent = Some(say);
        (typed, *lock(&self.size), std::mem::take(&mut *lock(&self.ahead)).into())
    }

    /// Waits until no other connection carries it any more; [`Self::connect`] has one end.
    pub(crate) async fn carry(&self) -> tokio::sync::MutexGuard<'_, ()> {
        self.carried.lock().await
    }

    /// It has written something.
    pub(crate) fn write(&self, piece: Bytes) {
        let mut recent = lock(&self.recent);
        recent.extend(piece.iter());
        let old = recent.len().saturating_sub(SHOWN_AGAIN);
        recent.drain(..old);
        // Nobody may be attached. Under the lock: who attaches sees each piece once.
        let _ = self.written.send(piece);
    }

    /// Somebody attaches: gives what was written last, and what is written from now on.
    pub(crate) fn attach(&self) -> (Bytes, broadcast::Receiver<Bytes>) {
        let recent = lock(&self.recent);
        (recent.iter().copied().collect::<Vec<u8>>().into(), self.written.subscribe())
    }

    /// Somebody does something. Says whether the agent takes it, or will when it comes: keys that were meant for a shell which is cut
    /// off must not reach it an hour later.
    pub(crate) async fn do_there(&self, typed: Typed) -> bool {
        if let Typed::Size(size) = typed {
            *lock(&self.size) = size;
        }
        let agent = {
            let to_agent = lock(&self.to_agent);
            match (&*to_agent, &typed) {
                (Some(agent), _) => agent.clone(),
                (None, Typed::Size(_)) => return true,
                (None, Typed::Keys(keys)) => {
                    let mut ahead = lock(&self.ahead);
                    let fits = ahead.len() + keys.len() <= AHEAD;
                    if fits {
                        ahead.extend(keys.iter());
                    }
                    return fits;
                }
            }
        };
        agent.send(typed).await.is_ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn who_attaches_sees_what_was_written_last_and_each_piece_once() {
        let (shells, job) = (Shells::default(), 7);
        let shell = shells.of(job);
        assert!(shell.do_there(Typed::Keys("cd /\n".into())).await, "it is kept for the agent");
        assert!(!shell.do_there(Typed::Keys(vec![b'x'; AHEAD].into())).await, "so much is not");
        shell.do_there(Typed::Size(ScreenSize { columns: 132, rows: 50 })).await;
        let (mut typed, size, ahead) = shell.connect();
        assert_eq!((size, ahead.as_ref()), (ScreenSize { columns: 132, rows: 50 }, &b"cd /\n"[..]));
        assert!(shell.do_there(Typed::Keys("ls\n".into())).await);
        assert!(matches!(typed.recv().await, Some(Typed::Keys(keys)) if keys == "ls\n"));
        shell.write(vec![b'.'; SHOWN_AGAIN].into());
        shell.write("bin etc\n".into());
        let (recent, mut written) = shells.of(job).attach();
        assert_eq!(recent.len(), SHOWN_AGAIN);
        assert!(recent.ends_with(b".bin etc\n"));
        shell.write("# ".into());
        assert_eq!(written.recv().await.unwrap(), "# ");
        drop(typed);
        assert!(!shell.do_there(Typed::Keys("reboot\n".into())).await, "it is cut off");
        assert_eq!(shell.connect().2, "", "and does not hear of it later");
        shells.forget(job);
        drop(shell);
        assert!(written.recv().await.is_err(), "whoever is attached is let go");
    }
}
