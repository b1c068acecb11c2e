//! Firmware that boots by HTTP or HTTPS: what it is offered by DHCP, and what it then fetches.

use std::path::Path;

use super::networks::{MAC, firmware_offers, quay, start};
use crate::support::{need, service::Service, site::disc};

#[test]
fn firmware_that_boots_by_https_is_told_an_address_whose_certificate_holds() {
    let (server, client) = quay("https");
    let service = Service::start(Some(&server), "interfaces = ['quay0']\nhttps_port = 443", 8480);
    let base = ["subnet", "add", "quay-lab", "192.0.2.0/24", "--interface", "quay0"];
    let pool = ["--pool", "192.0.2.100-192.0.2.110", "--newcomers", "menu", "--http-boot", "https"];
    service.run(&[&base[..], &pool[..]].concat());
    service.add_loader();
    let offers = firmware_offers(&client, "HTTPClient:Arch:00016:UNDI:003001", 0x99);
    let [offer] = offers.as_slice() else { panic!("{offers:?}") };
    let url = offer.options.text(67).unwrap();
    assert_eq!(url, format!("https://192.0.2.2/loader/{}/signed-x64/shimx64.efi", MAC.replace(':', "-")));
    assert_eq!(offer.options.get(60), Some(b"HTTPClient".as_slice()));
    client.run("ip address add 192.0.2.100/24 dev eth0");
    let certificate = service.folder.path().join("data/https/certificate.pem");
    let file = service.folder.path().join("fetched.efi");
    client.run(&format!("curl -sf -m 10 --cacert {} -o {} {url}", certificate.display(), file.display()));
    assert_eq!(std::fs::read(&file).unwrap(), [1; 3000]);
    let other = client.command("curl").args(["-sf", "-m", "10", "-o", "/dev/null", &url]).status().unwrap();
    assert!(!other.success(), "a client that does not hold the certificate went on");
    let key = service.folder.path().join("data/https/private-key.pem");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(key).unwrap().permissions());
    assert_eq!(mode & 0o077, 0, "the key is open to others");
    let trace = service.run(&["trace", MAC, "--all"]);
    assert!(trace.contains("by HTTPS"), "{trace}");
}

#[test]
fn a_disc_is_given_whole_to_firmware_that_boots_by_http() {
    let (server, client) = quay("disc");
    let service = start(&server, &["--pool", "192.0.2.100-192.0.2.110"]);
    service.add_loader();
    let program = need("/usr/lib/ipxe/snponly.efi", "ipxe");
    let disc = disc(service.folder.path(), "lantern", Path::new(&program));
    let said = service.run(&["image", "add", disc.to_str().unwrap(), "--name", "lantern", "--kind", "live"]);
    assert!(said.contains("el-torito/EFI/BOOT/BOOTX64.EFI"), "{said}");
    service.run(&["machine", "add", "auklet-deck", "--mac", MAC, "--default-boot", "live:lantern"]);
    let url = |class: &'static str, ending: u32| {
        let offers = firmware_offers(&client, class, ending);
        let [offer] = offers.as_slice() else { panic!("{offers:?}") };
        offer.options.text(67).unwrap()
    };
    // The one that fetches by TFTP takes no disc.
    assert!(url("PXEClient:Arch:00007:UNDI:003001", 0x91).ends_with("/signed-x64/shimx64.efi"));
    let url = url("HTTPClient:Arch:00016:UNDI:003001", 0x92);
    assert_eq!(url, format!("http://192.0.2.2/boot/{}/lantern/r1/lantern.iso", MAC.replace(':', "-")));
    client.run("ip address add 192.0.2.100/24 dev eth0");
    let head = client.run(&format!("curl -sfI -m 10 {url}"));
    assert!(head.to_ascii_lowercase().contains("content-type: application/vnd.efi-iso"), "{head}");
    let file = service.folder.path().join("fetched.iso");
    client.run(&format!("curl -sf -m 20 -o {} {url}", file.display()));
    assert!(std::fs::read(&file).unwrap() == std::fs::read(&disc).unwrap(), "the disc came otherwise");
    // Its program is served from where it lies within the boot image.
    let program_url = url.replace("lantern.iso", "el-torito/EFI/BOOT/BOOTX64.EFI");
    client.run(&format!("curl -sf -m 20 -o {} {program_url}", file.display()));
    assert!(std::fs::read(&file).unwrap() == std::fs::read(&program).unwrap(), "the program came otherwise");
}
