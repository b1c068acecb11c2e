//! LLDP as another program speaks it: Debian's `lldpd` on one end of a cable, and what the agent hears, and what our stand-in for a
//! switch says, on the other.

use std::{
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::Arc,
    time::Duration,
};

use lastmile_agent::network::{Neighbours, neighbours};
use lastmile_formats::{
    lldp::{Known, Neighbour, Vlan},
    mac::Mac,
};
use lastmile_sim::SwitchPort;
use serde_json::Value;

use crate::support::{background::Background, need, netns::Netns, unpacked, unpacked_libraries, wait_for};

/// What it is told to say; the TLVs are those of IEEE 802.1Q for the VLAN of untagged frames (D.2.1) and for a VLAN's name (D.2.3), as
/// it makes them itself only of VLAN devices, which not every kernel has.
const CONFIGURATION: &str = "configure system hostname sw-holm-1\n\
    configure lldp tx-interval 1\n\
    configure ports va lldp portidsubtype local Ethernet1/7\n\
    configure lldp custom-tlv add oui 00,80,c2 subtype 1 oui-info 00,1e\n\
    configure lldp custom-tlv add oui 00,80,c2 subtype 3 oui-info 00,1e,04,62,6f,6f,74\n";

/// `lldpd` on the interface `va` of a namespace, ended with the value.
struct Speaker {
    child: Child,
    socket: PathBuf,
}

impl Speaker {
    fn start(namespace: &Netns, folder: &Path) -> Self {
        let programs = unpacked().join("usr/sbin");
        need(programs.join("lldpd").to_str().unwrap(), "lldpd, which is unpacked");
        let socket = folder.join("socket");
        let write = |name: &str, text: &str| std::fs::write(folder.join(name), text).unwrap();
        write("configuration", CONFIGURATION);
        // It wants a user and a folder of its own: here they are, seen by nobody else.
        write("passwd", "root:x:0:0::/root:/bin/sh\n_lldpd:x:65530:65530::/run/lldpd:/usr/sbin/nologin\n");
        write("group", "root:x:0:\n_lldpd:x:65530:\n");
        let script = "mount -t tmpfs none /run && mkdir /run/lldpd && mount --bind $1/passwd /etc/passwd && \
            mount --bind $1/group /etc/group && LD_LIBRARY_PATH=$2 exec $3/lldpd -d -L $3/lldpcli -u $1/socket -O $1/configuration -I va";
        let child = namespace
            .command("unshare")
            .args(["--mount", "sh", "-c", script, "sh"])
            .args([folder.as_os_str(), unpacked_libraries().as_ref(), programs.as_os_str()])
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let speaker = Self { child, socket };
        wait_for("lldpd", Duration::from_secs(20), || speaker.socket.exists().then_some(()));
        speaker
    }

    /// What it has heard.
    fn heard(&self) -> Value {
        let output = Command::new(unpacked().join("usr/sbin/lldpcli"))
            .env("LD_LIBRARY_PATH", unpacked_libraries())
            .args(["-u", self.socket.to_str().unwrap(), "-f", "json0", "show", "neighbors", "details"])
            .output()
            .unwrap();
        serde_json::from_slice(&output.stdout).unwrap_or_default()
    }
}

impl Drop for Speaker {
    fn drop(&mut self) {
        // It has a second process, which ends with it, and says good-bye on the wire.
        let _ = nix::sys::signal::kill(
            nix::unistd::Pid::from_raw(self.child.id().cast_signed()),
            nix::sys::signal::Signal::SIGTERM,
        );
        let _ = self.child.wait();
    }
}

/// A cable between `va` and `vb`.
fn cable(what: &str) -> Netns {
    let namespace = Netns::new(what);
    namespace.run("ip link add va type veth peer name vb");
    namespace.run("ip link set va address 02:00:5e:00:53:0a");
    for end in ["va", "vb"] {
        namespace.run(&format!("ip link set {end} up"));
    }
    namespace
}

#[test]
fn the_agent_hears_what_another_program_says_and_that_hears_our_switch() {
    let (namespace, folder) = (cable("lldp"), tempfile::tempdir().unwrap());
    let speaker = Speaker::start(&namespace, folder.path());
    let (hears, index) = namespace.inside(|| {
        let hears: Arc<Neighbours> = neighbours();
        hears.listen().unwrap();
        (hears, nix::net::if_::if_nametoindex("vb").unwrap())
    });
    let heard = wait_for("a neighbour", Duration::from_secs(30), || hears.on(index));
    let chassis = Known::Mac("02:00:5e:00:53:0a".parse::<Mac>().unwrap());
    assert_eq!((&heard.chassis, &heard.port), (&chassis, &Known::Name("Ethernet1/7".into())), "{heard:?}");
    assert_eq!(heard.system_name.as_deref(), Some("sw-holm-1"));
    assert_eq!(heard.port_description.as_deref(), Some("va"));
    assert_eq!(heard.untagged_vlan, Some(30));
    assert_eq!(heard.vlans, [Vlan { number: 30, name: "boot".into() }]);
    assert!(heard.system_description.unwrap().contains("Linux"));
    assert!(heard.management.is_some_and(|address| address.is_ipv6()));

    // The other way: ours speaks into the other end.
    let says = Neighbour {
        system_name: Some("sw-terne-4".into()),
        port_description: Some("rack r04, unit 7".into()),
        management: Some("192.0.2.9".parse().unwrap()),
        untagged_vlan: Some(31),
        vlans: vec![Vlan { number: 31, name: "boot".into() }, Vlan { number: 40, name: "bmc".into() }],
        ..Neighbour::new(
            Known::Mac("02:00:5e:00:53:f4".parse::<Mac>().unwrap()),
            Known::Name("Ethernet2/3".into()),
        )
    };
    let port = namespace.inside(move || SwitchPort::open("vb", &says).unwrap());
    let _switch = Background::run(move |stop| port.run(stop));
    let found = wait_for("that lldpd hears it", Duration::from_secs(30), || {
        Some(speaker.heard()["lldp"][0]["interface"][0].clone()).filter(Value::is_object)
    });
    let value = |path: &str| found.pointer(path).unwrap_or_else(|| panic!("no {path} in {found:#}")).clone();
    assert_eq!(value("/chassis/0/id/0/value"), "02:00:5e:00:53:f4");
    assert_eq!(value("/chassis/0/name/0/value"), "sw-terne-4");
    assert_eq!(value("/chassis/0/mgmt-ip/0/value"), "192.0.2.9");
    assert_eq!(value("/port/0/id/0/value"), "Ethernet2/3");
    assert_eq!(value("/port/0/descr/0/value"), "rack r04, unit 7");
    let vlan = |at: usize, key: &str| value(&format!("/vlan/{at}/{key}"));
    assert_eq!(
        (vlan(0, "vlan-id"), vlan(0, "pvid"), vlan(0, "value")),
        ("31".into(), true.into(), "boot".into())
    );
    assert_eq!(
        (vlan(1, "vlan-id"), vlan(1, "pvid"), vlan(1, "value")),
        ("40".into(), false.into(), "bmc".into())
    );
}
