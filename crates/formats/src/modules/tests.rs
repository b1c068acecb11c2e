use std::{fs, path::Path, process::Command};

use object::{
    Architecture, BinaryFormat, Endianness, SectionKind,
    write::{Object, StandardSegment},
};
use proptest::prelude::*;

use super::*;

const DEPENDENCIES: &str = "\
kernel/drivers/dca/dca.ko:
kernel/drivers/i2c/algos/i2c-algo-bit.ko:
kernel/drivers/net/ethernet/marram/dune.ko: kernel/drivers/i2c/algos/i2c-algo-bit.ko kernel/drivers/dca/dca.ko
kernel/drivers/md/dm-mod.ko.xz: kernel/drivers/dax/dax.ko.xz
kernel/drivers/dax/dax.ko.xz:
kernel/crypto/crc32c_generic.ko:
kernel/fs/btrfs/btrfs.ko: kernel/lib/raid6.ko
kernel/lib/raid6.ko:
";
const ALIASES: &str = "\
# Aliases extracted from modules themselves.
alias pci:v00001A99d00002400sv*sd*bc*sc*i* dune
alias pci:v00001A99d*sv*sd*bc02sc00i* dune-old
alias usb:v1A99p240[0-3]d*dc*dsc*dp*ic*isc*ip*in* dune_usb
alias devname:mapper/control dm_mod
";

fn modules() -> Modules {
    Modules::read(
        DEPENDENCIES,
        ALIASES,
        "softdep btrfs pre: crc32c xxhash\nsoftdep dune post: x\n# a remark\n",
    )
}

#[test]
fn devices_find_their_modules() {
    let modules = modules();
    let pci = "pci:v00001A99d00002400sv00001A99sd00000001bc02sc00i00";
    assert_eq!(modules.for_device(pci), ["dune", "dune_old"]);
    assert_eq!(modules.for_device("pci:v00008086d00001533sv0sd0bc02sc00i00"), [""; 0]);
    assert_eq!(modules.for_device("usb:v1A99p2403d0100dc00dsc00dp00ic08isc06ip50in00"), ["dune_usb"]);
    assert_eq!(modules.for_device("usb:v1A99p2404d0100dc00dsc00dp00ic08isc06ip50in00"), [""; 0]);
}

#[test]
fn what_is_needed_is_loaded_first() {
    let modules = modules();
    let order = |names: &[&'static str]| {
        let order = modules.in_order(names.iter().copied());
        order.into_iter().map(|file| file.name.as_str()).collect::<Vec<_>>()
    };
    // As modprobe does: from the last of the line to the first.
    assert_eq!(order(&["dune"]), ["dca", "i2c_algo_bit", "dune"]);
    assert_eq!(
        order(&["dm-mod", "dune", "dca", "built-in"]),
        ["dax", "dm_mod", "dca", "i2c_algo_bit", "dune"]
    );
    assert_eq!(order(&["btrfs"]), ["raid6", "btrfs"]);
    assert_eq!(modules.get("dm-mod").unwrap().path, "kernel/drivers/md/dm-mod.ko.xz");
}

#[test]
fn soft_dependencies_in_a_circle_come_to_an_end() {
    let modules = Modules::read("a.ko:\nb.ko: a.ko\n", "", "softdep a pre: b\n");
    let order: Vec<_> = modules.in_order(["a"]).into_iter().map(|file| file.name.as_str()).collect();
    assert_eq!(order, ["b", "a"]);
}

/// A module's file with these texts in it.
fn module(texts: &str) -> Vec<u8> {
    let mut object = Object::new(BinaryFormat::Elf, Architecture::X86_64, Endianness::Little);
    let segment = object.segment_name(StandardSegment::Data).to_vec();
    let section = object.add_section(segment, b".modinfo".to_vec(), SectionKind::ReadOnlyData);
    object.append_section_data(section, texts.as_bytes(), 1);
    object.write().unwrap()
}

#[test]
fn what_modules_say_of_themselves_makes_tables_that_read_the_same() {
    let dune = ModuleInfo::read(&module(
        "name=dune\0depends=dca,i2c-algo-bit\0alias=pci:v00001A99d00002400sv*sd*bc*sc*i*\0softdep=pre: crc32c post: x\0\
         firmware=marram/dune-7.bin\0vermagic=6.1.0-57-amd64 SMP preempt mod_unload \0",
    ))
    .unwrap();
    let expected = ModuleInfo {
        depends: vec!["dca".into(), "i2c_algo_bit".into()],
        aliases: vec!["pci:v00001A99d00002400sv*sd*bc*sc*i*".into()],
        wishes: vec!["crc32c".into()],
        firmware: vec!["marram/dune-7.bin".into()],
        kernel: Some("6.1.0-57-amd64".into()),
    };
    assert_eq!(dune, expected);
    assert_eq!(ModuleInfo::read(b"\x7fELF and no more"), None);
    let algo = ModuleInfo { depends: vec!["dca".into()], ..ModuleInfo::default() };
    let (dca, crc) = (ModuleInfo::default(), ModuleInfo::default());
    let all = [("a/dca.ko", &dca), ("a/i2c-algo-bit.ko", &algo), ("b/dune.ko", &dune), ("c/crc32c.ko", &crc)];
    let tables = Modules::of(all).tables();
    assert_eq!(
        tables["modules.dep"].lines().find(|line| line.starts_with("b/dune.ko")),
        Some("b/dune.ko: a/i2c-algo-bit.ko a/dca.ko")
    );
    let read = Modules::read(&tables["modules.dep"], &tables["modules.alias"], &tables["modules.softdep"]);
    let order: Vec<_> = read.in_order(["dune"]).into_iter().map(|file| file.name.as_str()).collect();
    assert_eq!(order, ["crc32c", "dca", "i2c_algo_bit", "dune"]);
    assert_eq!(read.for_device("pci:v00001A99d00002400sv0sd0bc02sc00i00"), ["dune"]);
}

/// A module that says nothing but of which devices it is.
fn write_module(folder: &Path, name: &str, aliases: &[String]) {
    let texts: String = aliases.iter().map(|alias| format!("alias={alias}\0")).collect();
    fs::write(folder.join(format!("{name}.ko")), module(&format!("{texts}name={name}\0license=GPL\0")))
        .unwrap();
}

/// Texts as drivers write them: fields of digits, some left open.
fn aliases() -> impl Strategy<Value = Vec<String>> {
    prop::collection::vec(
        "pci:v0000(1A9[0-9]|\\*)d0000(240[0-3]|240\\?|\\*)bc(0[12]|\\*|0\\[13\\]|0\\[!2\\])i\\*",
        1..6,
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    #[test]
    fn modprobe_finds_the_same(of_modules in prop::collection::vec(aliases(), 1..4), devices in prop::collection::vec("pci:v00001A9[0-9]d0000240[0-4]bc0[123]i00", 1..6)) {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("lib/modules/6.1.0");
        fs::create_dir_all(folder.join("kernel")).unwrap();
        for (number, aliases) in of_modules.iter().enumerate() {
            write_module(&folder.join("kernel"), &format!("mod-{number}"), aliases);
        }
        for empty in ["modules.order", "modules.builtin"] {
            fs::write(folder.join(empty), "").unwrap();
        }
        let made = Command::new("/sbin/depmod").arg("-b").arg(root.path()).arg("6.1.0").output().expect("depmod is of kmod");
        prop_assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let table = |name: &str| fs::read_to_string(folder.join(name)).unwrap();
        let modules = Modules::read(&table("modules.dep"), &table("modules.alias"), &table("modules.softdep"));
        for device in devices {
            let found = Command::new("/sbin/modprobe").args(["-R", "-S", "6.1.0", "-d"]).arg(root.path()).arg(&device).output();
            let text = String::from_utf8(found.unwrap().stdout).unwrap();
            let theirs: BTreeSet<String> = text.lines().map(plain).collect();
            let ours: BTreeSet<String> = modules.for_device(&device).into_iter().map(str::to_owned).collect();
            prop_assert_eq!(ours, theirs, "{}\n{}", device, table("modules.alias"));
        }
    }

    #[test]
    fn a_text_without_signs_is_its_own_pattern(text in "[a-zA-Z0-9:._-]{0,40}", more in "[a-z]{1,3}") {
        prop_assert!(Pattern::new(&text).is_match(&text));
        let longer = format!("{text}{more}");
        prop_assert!(!Pattern::new(&text).is_match(&longer));
        let open = Pattern::new(&format!("{text}*"));
        prop_assert!(open.is_match(&longer));
    }

    #[test]
    fn any_text_is_a_pattern(pattern in ".{0,30}", text in ".{0,30}") {
        let _ = Pattern::new(&pattern).is_match(&text);
    }
}
