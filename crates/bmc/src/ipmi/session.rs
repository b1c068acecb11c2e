//! The log-in (sections 13.17 to 13.24), and messages within a session (sections 13.27 to 13.29), without IO.
//!
//! [`LogIn::begin`] gives what is to be sent first; [`LogIn::handle`] takes each packet that arrives, and says what follows. Nothing that
//! is sent or kept here is a password in clear.

use lastmile_formats::{ipmi::Request, reader::Reader};
use zeroize::Zeroizing;

use super::{
    cipher::{Suite, decrypt, encrypt, is_same},
    packet::{Answer, Packet, kind, message, outside, within},
};
use crate::{Account, Failure};

/// The right to switch and to set the next boot (table 6-1, operator), asked for by name alone (section 13.20).
pub(super) const OPERATOR: u8 = 0x03;
const BY_NAME: u8 = 0x10;
/// Bytes of a name, and of a password, at most (section 22.30).
const MOST_NAME: usize = 16;
const MOST_PASSWORD: usize = 20;

/// What follows a packet.
#[derive(Debug)]
pub enum Step {
    /// Nothing: it was of something else, or of an earlier step.
    Nothing,
    /// This is to be sent.
    Send(Vec<u8>),
    /// The log-in is done.
    In(Session),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    Opening,
    Named,
    Proved,
}

/// A log-in on its way.
#[derive(Debug)]
pub struct LogIn {
    suite: Suite,
    account: Account,
    stage: Stage,
    /// The session, by our number and by the controller's.
    ours: u32,
    theirs: u32,
    /// What each side made up, and the controller's identity.
    our_random: [u8; 16],
    their_random: [u8; 16],
    identity: [u8; 16],
}

impl LogIn {
    /// Begins one. `ours`, not 0, and `random` are made up by the caller, and used once.
    ///
    /// # Errors
    /// [`Failure::LogIn`] for a name or password that no controller can have.
    pub fn begin(
        suite: Suite,
        account: Account,
        ours: u32,
        random: [u8; 16],
    ) -> Result<(Self, Vec<u8>), Failure> {
        for (what, bytes, most) in
            [("name", account.user.len(), MOST_NAME), ("password", account.password.len(), MOST_PASSWORD)]
        {
            if bytes > most {
                let why = format!("its {what} has {bytes} bytes, and IPMI has room for {most}");
                return Err(Failure::LogIn { user: account.user, why });
            }
        }
        // The tag of the message, the highest right that there is, and what the session is to use (section 13.17).
        let mut asks = vec![0, 0, 0, 0];
        asks.extend(ours.to_le_bytes());
        for (at, algorithm) in suite.algorithms().into_iter().enumerate() {
            asks.extend([at as u8, 0, 0, 8, algorithm, 0, 0, 0]);
        }
        let log_in = Self {
            suite,
            account,
            stage: Stage::Opening,
            ours,
            theirs: 0,
            our_random: random,
            their_random: [0; 16],
            identity: [0; 16],
        };
        Ok((log_in, outside(kind::OPEN, &asks)))
    }

    /// Takes a packet.
    ///
    /// # Errors
    /// What the controller refuses, and what it says that makes no sense.
    pub fn handle(&mut self, packet: &Packet<'_>) -> Result<Step, Failure> {
        match (self.stage, packet.kind) {
            (Stage::Opening, kind::OPENED) => self.opened(packet.payload),
            (Stage::Named, kind::LOG_IN_2) => self.named(packet.payload),
            (Stage::Proved, kind::LOG_IN_4) => self.proved(packet.payload),
            _ => Ok(Step::Nothing),
        }
    }

    fn opened(&mut self, payload: &[u8]) -> Result<Step, Failure> {
        let mut reader = Reader::new(payload);
        self.accept(&mut reader)?;
        let ours = reader.array().map(u32::from_le_bytes).ok_or_else(short)?;
        self.theirs = reader.array().map(u32::from_le_bytes).ok_or_else(short)?;
        if ours != self.ours {
            return Ok(Step::Nothing);
        }
        self.stage = Stage::Named;
        let mut says = vec![0, 0, 0, 0];
        says.extend(self.theirs.to_le_bytes());
        says.extend(self.our_random);
        says.extend([BY_NAME | OPERATOR, 0, 0]);
        says.extend(self.name());
        Ok(Step::Send(outside(kind::LOG_IN_1, &says)))
    }

    fn named(&mut self, payload: &[u8]) -> Result<Step, Failure> {
        let mut reader = Reader::new(payload);
        self.accept(&mut reader)?;
        if reader.array() != Some(self.ours.to_le_bytes()) {
            return Ok(Step::Nothing);
        }
        self.their_random = reader.array().ok_or_else(short)?;
        self.identity = reader.array().ok_or_else(short)?;
        let (ours, theirs) = (self.ours.to_le_bytes(), self.theirs.to_le_bytes());
        let name = self.name();
        let expected = self.code(&[
            &ours,
            &theirs,
            &self.our_random,
            &self.their_random,
            &self.identity,
            &[BY_NAME | OPERATOR],
            &name,
        ]);
        if !is_same(&expected, reader.rest()) {
            return Err(self.refused("the password is not the one that the controller has"));
        }
        self.stage = Stage::Proved;
        let code = self.code(&[&self.their_random, &ours, &[BY_NAME | OPERATOR], &name]);
        Ok(Step::Send(outside(kind::LOG_IN_3, &[&[0; 4][..], &theirs, &code].concat())))
    }

    fn proved(&mut self, payload: &[u8]) -> Result<Step, Failure> {
        let mut reader = Reader::new(payload);
        self.accept(&mut reader)?;
        if reader.array() != Some(self.ours.to_le_bytes()) {
            return Ok(Step::Nothing);
        }
        let role = [BY_NAME | OPERATOR];
        let key = self.code(&[&self.our_random, &self.their_random, &role, &self.name()]);
        let theirs = self.theirs.to_le_bytes();
        let expected = self.suite.code(&key, &[&self.our_random, &theirs, &self.identity]);
        if !is_same(&expected[..self.suite.code_bytes()], reader.rest()) {
            return Err(Failure::Impostor("it does not know the password itself".into()));
        }
        Ok(Step::In(Session {
            suite: self.suite,
            ours: self.ours,
            theirs: self.theirs,
            code_key: Zeroizing::new(self.suite.key(&key, 1)),
            cipher_key: Zeroizing::new(self.suite.key(&key, 2)),
            sequence: 0,
            heard: 0,
        }))
    }

    /// The user's name behind its length.
    fn name(&self) -> Vec<u8> {
        [&[self.account.user.len() as u8], self.account.user.as_bytes()].concat()
    }

    /// A code by the user's password.
    fn code(&self, pieces: &[&[u8]]) -> Vec<u8> {
        self.suite.code(self.account.password.as_bytes(), pieces)
    }

    fn refused(&self, why: &str) -> Failure {
        Failure::LogIn { user: self.account.user.clone(), why: why.into() }
    }

    /// Reads the head of a step, and what its status means (table 13-15): what is refused may end behind that.
    fn accept(&self, reader: &mut Reader<'_>) -> Result<(), Failure> {
        let [_, status] = reader.array().ok_or_else(short)?;
        Err(match status {
            0x00 => return reader.take(2).map(drop).ok_or_else(short),
            0x01 | 0x0b => Failure::Busy("it has no room for another session".into()),
            0x02 | 0x08 => Failure::Busy("it has given up the session meanwhile".into()),
            0x04..=0x07 | 0x10 | 0x11 => Failure::Unsupported(format!("cipher suite {}", self.suite as u8)),
            0x09 | 0x0a => self.refused("it may not operate the machine over the network"),
            0x0c | 0x0d => self.refused("it has no such user"),
            0x0f => self.refused("the password is not the one that the controller has"),
            other => Failure::Refused(format!("the log-in, with status {other:#04x}")),
        })
    }
}

fn short() -> Failure {
    Failure::Garbled("a step of its log-in is cut short".into())
}

/// A session.
#[derive(Debug)]
pub struct Session {
    suite: Suite,
    ours: u32,
    theirs: u32,
    code_key: Zeroizing<Vec<u8>>,
    cipher_key: Zeroizing<Vec<u8>>,
    /// The number of the last packet that was sent, and of the last that was taken.
    sequence: u32,
    heard: u32,
}

impl Session {
    /// The controller's number of it.
    #[must_use]
    pub const fn id(&self) -> u32 {
        self.theirs
    }

    /// A datagram with a question, whose answer will have `number`. `begin` is made up by the caller, and used once.
    #[must_use]
    pub fn seal(&mut self, request: &Request, number: u8, begin: [u8; 16]) -> Vec<u8> {
        self.sequence += 1;
        let sealed = encrypt(&self.cipher_key, begin, &message(request, number));
        let code = |covered: &[u8]| {
            let mut code = self.suite.code(&self.code_key, &[covered]);
            code.truncate(self.suite.code_bytes());
            code
        };
        within(self.theirs, self.sequence, &sealed, code)
    }

    /// The answer in a packet; nothing if it is of another session, not whole, or was taken before.
    #[must_use]
    pub fn open(&mut self, packet: &Packet<'_>) -> Option<Answer> {
        let is_of_this = packet.kind == kind::MESSAGE
            && packet.session == self.ours
            && packet.is_authenticated
            && packet.is_encrypted
            && packet.sequence > self.heard;
        let (covered, code) =
            packet.covered.split_at_checked(packet.covered.len().checked_sub(self.suite.code_bytes())?)?;
        let expected = self.suite.code(&self.code_key, &[covered]);
        if !is_of_this || !is_same(&expected[..self.suite.code_bytes()], code) {
            return None;
        }
        let answer = Answer::parse(&decrypt(&self.cipher_key, packet.payload)?).ok()?;
        self.heard = packet.sequence;
        Some(answer)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn log_in() -> LogIn {
        let account = Account { user: "purser".into(), password: "terns".to_owned().into() };
        LogIn::begin(Suite::Three, account, 7, [1; 16]).unwrap().0
    }

    fn told(kind: u8, payload: &[u8], log_in: &mut LogIn) -> Result<Step, Failure> {
        log_in.handle(&Packet::parse(&outside(kind, payload)).unwrap())
    }

    #[test]
    fn what_a_controller_refuses_is_said_in_words() {
        for (status, part) in [
            (0x01, "no room for another session"),
            (0x09, "may not operate"),
            (0x0d, "no such user"),
            (0x0f, "the password is not the one"),
            (0x11, "cipher suite 3"),
            (0x55, "status 0x55"),
        ] {
            let failure = told(kind::OPENED, &[0, status], &mut log_in()).unwrap_err();
            assert!(failure.to_string().contains(part), "{status:#x}: {failure}");
            assert!(!failure.next_step().is_empty());
        }
        let failure = told(kind::OPENED, &[0], &mut log_in()).unwrap_err();
        assert!(matches!(failure, Failure::Garbled(_)), "{failure:?}");
    }

    #[test]
    fn steps_of_others_and_out_of_turn_are_passed_over() {
        let mut log_in = log_in();
        assert!(matches!(told(kind::LOG_IN_2, &[0; 60], &mut log_in), Ok(Step::Nothing)));
        // Of a session with another number.
        let other = [&[0, 0, 4, 0][..], &[9, 0, 0, 0], &[1, 2, 3, 4]].concat();
        assert!(matches!(told(kind::OPENED, &other, &mut log_in), Ok(Step::Nothing)));
        let own = [&[0, 0, 4, 0][..], &[7, 0, 0, 0], &[1, 2, 3, 4]].concat();
        assert!(matches!(told(kind::OPENED, &own, &mut log_in), Ok(Step::Send(_))));
        // A controller that has another password makes another code; one that has none at all, too.
        for code in [&[0; 20][..], &[]] {
            let says = [&[0, 0, 0, 0][..], &[7, 0, 0, 0], &[3; 32], code].concat();
            let refused = told(kind::LOG_IN_2, &says, &mut log_in).unwrap_err();
            assert!(matches!(refused, Failure::LogIn { .. }), "{refused:?}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_taken_without_harm(bytes: Vec<u8>, kind in 0x10_u8..0x16) {
            let mut log_in = log_in();
            let own = [&[0, 0, 4, 0][..], &[7, 0, 0, 0], &[1, 2, 3, 4]].concat();
            let _ = told(kind::OPENED, &own, &mut log_in);
            let _ = told(kind, &bytes, &mut log_in);
            let _ = Packet::parse(&bytes).map(|packet| log_in.handle(&packet).is_ok());
            let _ = Answer::parse(&bytes);
        }
    }
}
