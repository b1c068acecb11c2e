//! Machines that nobody registered and that are surveyed: crates of new ticket kiosks and servers at Tern Bay.

use lastmile_formats::{
    architecture::Architecture,
    lldp::{Known, Neighbour, Vlan},
    mac::Mac,
};
use lastmile_sim::{Beat, Booted, Card, HardDisk, Hardware, Identity, Machine, Reached, SimError, WORN};
use uuid::Uuid;

use super::{Stage, scenario::Site, story};

/// Last byte of the first card's MAC address, and whether it is a server.
const ALL: [(u8, bool); 5] = [(0xa1, false), (0xa2, false), (0xa3, false), (0xa4, true), (0xa5, true)];
/// The switch at Tern Bay: a MAC address of its own.
const SWITCH: [u8; 6] = [0x02, 0x00, 0x5e, 0x00, 0x53, 0xf0];

/// What one of them is built of.
fn hardware(last: u8, is_server: bool) -> Option<Hardware> {
    let port = Neighbour {
        system_name: Some("sw-tern-1".into()),
        untagged_vlan: Some(30),
        vlans: vec![Vlan { number: 30, name: "boot".into() }],
        ..Neighbour::new(Known::Mac(Mac::new(SWITCH).ok()?), Known::Name(format!("Ethernet1/{}", last & 0xf)))
    };
    let mut nics = vec![Card { mac: Mac::documentation(last), neighbour: Some(port) }];
    let disk = |model: &str, number: u8, size: u64| HardDisk {
        model: model.into(),
        serial: format!("TL-{last:02X}{number:02}"),
        size,
    };
    let (product, cpu, cores, memory, disks) = if is_server {
        nics.push(Card { mac: Mac::documentation(last + 0x10), neighbour: None });
        let mut disks = vec![
            disk("Tideline Fast 960", 1, 960_197_124_096),
            disk("Tideline Fast 960", 2, 960_197_124_096),
        ];
        // The burn-in of one of them finds something.
        if last == 0xa5 {
            disks[1].serial.push_str(WORN);
        }
        ("MS-40 server", "Marram Dune 16", 16, vec![16_384; 4], disks)
    } else {
        // One of the kiosks came with a module less.
        let modules = if last == 0xa3 { 1 } else { 2 };
        (
            "MK-8 kiosk",
            "Marram Shore 4",
            4,
            vec![4096; modules],
            vec![disk("Tideline 240", 1, 240_057_409_536)],
        )
    };
    Some(Hardware {
        vendor: "Marram Systems".into(),
        product: product.into(),
        serial: format!("MS-26-{last:04}"),
        uuid: Uuid::from_u128(0x6d61_7272_616d_0000_0000_0000_0000_0000 | u128::from(last)),
        cpu: cpu.into(),
        cores,
        memory,
        disks,
        nics,
    })
}

impl Stage {
    /// Switches them on; each waits in the survey until it has something to boot, and then does that.
    pub(super) fn survey_newcomers(&self) {
        for (last, is_server) in ALL {
            let stage = self.clone();
            tokio::spawn(async move {
                if let Err(error) = stage.survey(last, is_server).await {
                    stage.story.tell(&format!("a newcomer ({}): stopped: {error}", Mac::documentation(last)));
                }
            });
        }
    }

    async fn survey(&self, last: u8, is_server: bool) -> Result<(), SimError> {
        let mac = Mac::documentation(last);
        let Some(hardware) = hardware(last, is_server) else { return Ok(()) };
        let facts = tokio::task::spawn_blocking(move || hardware.facts());
        let facts = facts.await.map_err(|error| SimError::Survey(error.to_string()))??;
        let identity = Identity { mac, architecture: Architecture::UefiX64 };
        let reached = Reached { link: Site::TernBay.router(), ..self.reached };
        let machine = Machine::new(identity, reached, self.tempo.machines)?;
        loop {
            let story = self.story.clone();
            // Its way as far as the survey is that of any machine.
            let mut watch = |beat: Beat| {
                if matches!(
                    beat,
                    Beat::Surveyed { .. } | Beat::Job { .. } | Beat::Answers { .. } | Beat::Reported { .. }
                ) {
                    story.tell(&format!("a newcomer ({mac}): {}", story::beat(&beat)));
                }
            };
            let Booted::Kernel { address, parameters } = machine.boot(&mut watch).await? else {
                self.story.tell(&format!("a newcomer ({mac}): starts from its own disk"));
                return Ok(());
            };
            if parameters.iter().any(|word| word.starts_with("lastmile.token=")) {
                machine.survey(address, &parameters, &facts, &mut watch).await?;
            } else {
                let system = machine.install(address, &parameters, &mut watch).await?;
                machine.boot(&mut |_| {}).await?;
                machine.start(&system, &mut watch).await?;
                return Ok(());
            }
        }
    }
}
