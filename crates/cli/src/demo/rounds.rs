//! What happens while the demo stays open: something new every half minute ([`super::Tempo`]), and not the
//! same twice in a row.

use std::collections::BTreeMap;

use lastmile_api::{ArmRequest, AskedRequest};
use lastmile_client::ClientError;
use lastmile_formats::architecture::Architecture;
use lastmile_sim::{Beat, Booted, SimError};
use tokio::sync::Notify;

use super::{
    Stage,
    scenario::{self, FLEET, KITTIWAKE, Site, Terminal},
};

/// Last bytes of the newcomers' MAC addresses: so many are switched on at most.
const NEWCOMERS: std::ops::Range<u8> = 0x60..0x80;

/// One thing that happens.
#[derive(Debug, Clone, Copy)]
enum Round {
    /// A machine is installed afresh.
    Reinstall(usize),
    /// A machine that nobody has registered is switched on.
    Newcomer,
    /// An installer finds no disk as its answers describe it.
    Fail(usize),
    /// A new revision of the installer comes in: hosts are behind.
    Revision,
    /// A machine starts its installer again and again, and is stopped.
    Stall,
    /// A machine waits on its screen until somebody answers a question.
    Question,
    /// Somebody thinks better of it.
    Cancel(usize),
}

/// All of them, in turn. Numbers are places in the fleet.
const ROUNDS: [Round; 10] = [
    Round::Reinstall(0),
    Round::Newcomer,
    Round::Fail(1),
    Round::Reinstall(2),
    Round::Stall,
    Round::Reinstall(1),
    Round::Question,
    Round::Revision,
    Round::Cancel(3),
    Round::Reinstall(5),
];

impl Stage {
    /// Goes on for ever.
    pub(super) async fn go_on(&self) {
        self.story.tell("All is installed. From now on something new happens again and again.");
        let mut ticks = tokio::time::interval(self.tempo.round);
        ticks.tick().await;
        let mut newcomers = NEWCOMERS.cycle();
        for (number, round) in (1_u64..).zip(ROUNDS.iter().cycle()) {
            ticks.tick().await;
            let ended = match *round {
                Round::Reinstall(place) => self.reinstall(&FLEET[place]).await,
                Round::Newcomer => {
                    let last = newcomers.next().unwrap_or(NEWCOMERS.start);
                    self.get_stuck("a newcomer", Site::HolmQuay, Architecture::UefiX64, last).await;
                    Ok(())
                }
                Round::Fail(place) => self.fail(&FLEET[place]).await,
                Round::Revision => self.bring_revision(number).await,
                Round::Stall => self.stall().await,
                Round::Question => self.wait_for_answer().await,
                Round::Cancel(place) => self.cancel(&FLEET[place]).await,
            };
            if let Err(error) = ended {
                self.story.tell(&format!("this was left out: {error}"));
            }
        }
    }

    async fn reinstall(&self, terminal: &Terminal) -> Result<(), Interrupted> {
        self.arm(terminal, &[]).await?;
        self.power_on(terminal).await;
        Ok(())
    }

    async fn fail(&self, terminal: &Terminal) -> Result<(), Interrupted> {
        self.arm(terminal, &[]).await?;
        let machine = self.machine(terminal)?;
        let mut watch = self.watch(terminal);
        if let Booted::Kernel { address, parameters } = machine.boot(&mut watch).await? {
            machine.fail(address, &parameters, &mut watch).await?;
        }
        Ok(())
    }

    /// The same kernel is started until the service stops it.
    async fn stall(&self) -> Result<(), Interrupted> {
        self.arm(&KITTIWAKE, &[("berth", "12")]).await?;
        let machine = self.machine(&KITTIWAKE)?;
        let mut watch = self.watch(&KITTIWAKE);
        while let Booted::Kernel { .. } = machine.boot(&mut watch).await? {}
        self.story
            .tell("kittiwake-chart: it started its installer three times without a report, and is stopped");
        Ok(())
    }

    async fn wait_for_answer(&self) -> Result<(), Interrupted> {
        let install = self.arm(&KITTIWAKE, &[]).await?;
        let (waits, mut tell) = (Notify::new(), self.watch(&KITTIWAKE));
        let watch = |beat: Beat| {
            if beat == Beat::Waits {
                waits.notify_one();
            }
            tell(beat);
        };
        let mut boot = std::pin::pin!(self.boot_and_install(&KITTIWAKE, watch));
        tokio::select! {
            ended = &mut boot => return Ok(ended?),
            () = waits.notified() => {}
        }
        tokio::time::sleep(self.tempo.thought).await;
        let answers = [("berth".to_owned(), "12".to_owned())].into();
        self.client.installs_answer(install, &AskedRequest { asked: answers }).await?;
        self.story.tell("kittiwake-chart: the berth is 12, says the harbour office");
        Ok(boot.await?)
    }

    async fn bring_revision(&self, number: u64) -> Result<(), Interrupted> {
        let image = scenario::tidewrack(&self.client, number).await?;
        self.client.images_create(&image).await?;
        self.story.tell("tidewrack-12: a new revision; who was installed before is behind");
        Ok(())
    }

    async fn cancel(&self, terminal: &Terminal) -> Result<(), Interrupted> {
        let install = self.arm(terminal, &[]).await?;
        tokio::time::sleep(self.tempo.thought).await;
        self.client.installs_cancel(install).await?;
        self.story.tell(&format!("{}: install {install} is cancelled", terminal.machine));
        Ok(())
    }

    /// Arms a machine with its image and answers; gives the install's number.
    pub(super) async fn arm(&self, terminal: &Terminal, asked: &[(&str, &str)]) -> Result<i64, ClientError> {
        let asked: BTreeMap<String, String> =
            asked.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        let request = ArmRequest {
            machine: terminal.machine.into(),
            image: terminal.image.into(),
            answers: terminal.answers.into(),
            asked,
        };
        let install = self.client.installs_arm(&request).await?;
        self.story
            .tell(&format!("{}: install {} of {} armed", terminal.machine, install.number, install.image));
        Ok(install.number)
    }
}

/// Why a round ended before its end.
#[derive(Debug, thiserror::Error)]
enum Interrupted {
    #[error(transparent)]
    Service(#[from] ClientError),
    #[error(transparent)]
    Machine(#[from] SimError),
}
