//! A management controller as another program has it: OpenIPMI's `ipmi_sim`, which an emulated computer may have inside.

use std::{
    path::{Path, PathBuf},
    process::{Child, Stdio},
};

use super::{need, netns::Netns, program, unpacked, unpacked_libraries};

/// What it says of its place on the network, by the names under which the simulator asks for it.
const LAN: &str = "ip_addr_src:static\nip_addr:192.0.2.200\nsubnet_mask:255.255.255.0\n\
    mac_addr:02:00:5e:00:53:b0\ndefault_gw_ip_addr:192.0.2.1\ndefault_gw_mac_addr:02:00:5e:00:53:b1\n";

/// A controller of firmware 9.8 without sensors (ipmi_sim_cmd(5)).
const CONTROLLER: &str = "mc_setbmc 0x20\n\
    mc_add 0x20 0 no-device-sdrs 0x23 9 8 0x9f 0x1291 0xf02 persist_sdr\nsel_enable 0x20 1000 0x0a\nmc_enable 0x20\n";

/// How it has the machine's power and its next boot: as files, which a test reads and writes.
const CHASSIS: &str = "cd $1; shift; echo \"$*\" >>asked; case \"$1 $2\" in \
    \"get power\") echo power:$(cat power);; \"get boot\") echo boot:$(cat boot);; \
    \"set reset\") echo 1 >power;; \"set shutdown\") echo 0 >power;; \
    \"set power\") echo $3 >power;; \"set boot\") echo $3 >boot;; esac";

/// A simulated controller, ended with the value.
pub struct Bmc {
    child: Child,
    folder: PathBuf,
}

impl Bmc {
    /// The port of the namespace's loopback at which a computer finds it that has it inside.
    pub const INSIDE: u16 = 9002;

    /// Where it is found over the network, in the namespace; who may do what; and how it is told so.
    pub const OUTSIDE: &str = "127.0.0.1:9623";
    pub const USER: &str = "purser";
    pub const PASSWORD: &str = "terns-at-dusk";

    /// Starts one in a namespace, of a machine that is off.
    pub fn start(namespace: &Netns, folder: &Path) -> Self {
        let simulator = unpacked().join("usr/bin/ipmi_sim");
        let simulator = need(simulator.to_str().unwrap(), "openipmi, which `make packages-test` unpacks");
        let folder = folder.join("bmc");
        std::fs::create_dir_all(folder.join("state")).unwrap();
        let path = |name: &str| -> PathBuf { folder.join(name) };
        // It is asked for one name after another: `1 get ip_addr`.
        std::fs::write(path("lan"), LAN).unwrap();
        program(
            &path("says"),
            &format!("#!/bin/sh\n[ $2 = get ] && grep \"^$3:\" {}\nexit 0\n", path("lan").display()),
        );
        std::fs::write(path("power"), "0").unwrap();
        std::fs::write(path("boot"), "none").unwrap();
        program(&path("chassis"), &format!("#!/bin/sh\n{CHASSIS}\n"));
        let configuration = format!(
            "name \"quay\"\nset_working_mc 0x20\nchassis_control \"{} {}\"\nstartlan 1\naddr 127.0.0.1 9623\npriv_limit admin\n\
             allowed_auths_admin md5\nguid a123456789abcdefa123456789abcdef\nlan_config_program \"{} 1\"\nendlan\n\
             serial 15 127.0.0.1 {} codec VM\nuser 2 true \"{}\" \"{}\" admin 10 md5\n",
            path("chassis").display(),
            folder.display(),
            path("says").display(),
            Self::INSIDE,
            Self::USER,
            Self::PASSWORD,
        );
        std::fs::write(path("lan.conf"), configuration).unwrap();
        std::fs::write(path("controller"), CONTROLLER).unwrap();
        let mut command = namespace.command(&simulator);
        command
            .env("LD_LIBRARY_PATH", unpacked_libraries())
            .args(["-c".as_ref(), path("lan.conf").as_os_str()])
            .args(["-f".as_ref(), path("controller").as_os_str()])
            .args(["-s".as_ref(), path("state").as_os_str()])
            .arg("-n")
            .stdin(Stdio::null());
        let child = command.spawn().unwrap();
        Self { child, folder }
    }

    /// Whether the machine is on.
    pub fn is_on(&self) -> bool {
        self.read("power") == "1"
    }

    /// What it boots next, in the simulator's words.
    pub fn boots(&self) -> String {
        self.read("boot")
    }

    /// What it was asked of the machine so far.
    pub fn asked(&self) -> String {
        self.read("asked")
    }

    fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.folder.join(name)).unwrap().trim().into()
    }
}

impl Drop for Bmc {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
