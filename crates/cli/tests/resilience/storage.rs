//! A disk that is full, a file system that may not be written, a database that somebody else holds: what cannot be kept is not
//! promised, what goes on goes on, and all of it is well again by itself.

use std::{
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::Duration,
};

use lastmile_sim::{Booted, SimError};

use crate::{
    THIS_MACHINE,
    support::{
        need,
        service::{LASTMILE, Service},
        simulated,
        site::{MAC, loopback},
        wait_for,
    },
};

/// A small file system over a folder, taken away with the value.
struct Small {
    at: PathBuf,
}

impl Small {
    fn over(at: &Path) -> Self {
        run("mount", &["-t", "tmpfs", "-o", "size=12m", "small", at.to_str().unwrap()]);
        Self { at: at.into() }
    }

    /// The file system of a disk's image, which becomes read-only by itself at the first error of the disk (ext4(5),
    /// `errors=remount-ro`).
    fn on_disk(at: &Path, image: &Path) -> Self {
        let options = ["-o", "loop,errors=remount-ro", image.to_str().unwrap(), at.to_str().unwrap()];
        run("mount", &options);
        Self { at: at.into() }
    }

    /// Makes the kernel find an error of the disk.
    fn fail(&self) {
        let source = Command::new("findmnt").args(["-no", "SOURCE"]).arg(&self.at).output().unwrap();
        let device = String::from_utf8(source.stdout).unwrap();
        let device = device.trim().trim_start_matches("/dev/");
        std::fs::write(format!("/sys/fs/ext4/{device}/trigger_fs_error"), "an error of the disk").unwrap();
    }

    fn unmount(&self) {
        run("umount", &[self.at.to_str().unwrap()]);
    }

    fn remount(&self, how: &str) {
        run("mount", &["-o", &format!("remount,{how}"), self.at.to_str().unwrap()]);
    }

    /// Takes all that is left of it.
    fn fill(&self) -> PathBuf {
        let filler = self.at.join("filler");
        let _ = Command::new("dd")
            .args(["if=/dev/zero", "bs=4k", &format!("of={}", filler.display())])
            .stderr(Stdio::null())
            .status();
        filler
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = Command::new("umount").args(["-l", self.at.to_str().unwrap()]).status();
    }
}

fn run(program: &str, words: &[&str]) {
    assert!(Command::new(program).args(words).status().unwrap().success(), "{program} {words:?}");
}

/// A service whose data are on the file system that `mount` puts over its folder, with a site in it.
fn small(first_port: u16, mount: impl FnOnce(&Path) -> Small) -> (Service<'static>, Small) {
    let mut service = loopback(first_port);
    service.signal("TERM");
    let data = service.folder.path().join("data");
    std::fs::remove_dir_all(&data).unwrap();
    std::fs::create_dir(&data).unwrap();
    let small = mount(&data);
    service.spawn();
    service.fill();
    (service, small)
}

/// Fetches the kernel slowly enough that other things happen meanwhile.
fn fetch_slowly(service: &Service<'_>, first_port: u16) -> Child {
    Command::new(need("/usr/bin/curl", "curl"))
        .args(["-s", "-f", "--limit-rate", "200k", "-o"])
        .arg(service.folder.path().join("fetched"))
        .arg(format!("http://127.0.0.1:{}/boot/{MAC}/tidewrack-12/r1/linux", first_port + 2))
        .spawn()
        .unwrap()
}

/// The slow transfer ended well, with the right bytes.
fn is_fetched(service: &Service<'_>, mut transfer: Child) {
    assert!(transfer.wait().unwrap().success(), "the transfer was broken off");
    assert_eq!(std::fs::read(service.folder.path().join("fetched")).unwrap(), vec![3; 1_000_000]);
}

async fn boot(first_port: u16, mac: &str) -> Result<Booted, SimError> {
    simulated::machine(first_port, mac, Duration::ZERO).boot(&mut |_| {}).await
}

/// The machine asks twice (RFC 2131, section 4.1: the second time after 4 s) and is given nothing.
async fn is_given_nothing(first_port: u16, mac: &str) -> bool {
    !matches!(tokio::time::timeout(Duration::from_secs(6), boot(first_port, mac)).await, Ok(Ok(_)))
}

fn trouble(service: &Service<'_>) -> Option<String> {
    service.json(&["status"])["trouble"].as_str().map(str::to_owned)
}

#[tokio::test]
async fn a_full_disk_stops_promises_and_nothing_else() {
    let _held = THIS_MACHINE.read().await;
    let port = 26_300;
    let (mut service, small) = small(port, Small::over);
    assert_eq!(trouble(&service), None);
    // A transfer that goes on all the while.
    let slow = fetch_slowly(&service, port);
    let filler = small.fill();
    // SQLite may have some room of its own left.
    let mut refused = false;
    for number in 0..2000 {
        let name = format!("many-{number}");
        let mac = format!("02:00:00:01:{:02x}:{:02x}", number / 256, number % 256);
        let output = service.try_run(&["machine", "add", &name, "--mac", &mac]);
        if !output.status.success() {
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(said.contains("full"), "{said}");
            refused = true;
            break;
        }
    }
    assert!(refused, "a full disk took two thousand machines");
    assert!(
        is_given_nothing(port, "02:00:00:00:00:07").await,
        "a lease was acknowledged that is not on disk"
    );
    assert!(trouble(&service).unwrap().contains("full"));
    let check = service.try_run(&["check"]);
    let check = String::from_utf8_lossy(&check.stdout).into_owned();
    assert!(check.contains("nothing can be recorded"), "{check}");
    let cannot_be_written = |service: &Service<'_>| service.log().contains("traces are in memory only");
    for _ in 0..20 {
        // What was begun of the last block may yet hold a few.
        if cannot_be_written(&service) {
            break;
        }
        assert!(is_given_nothing(port, "02:00:00:00:00:07").await);
    }
    assert!(cannot_be_written(&service), "traces were written on a full disk");
    is_fetched(&service, slow);
    let events = |service: &Service<'_>| {
        service.json(&["trace", "02:00:00:00:00:07", "--all"])["lines"].as_array().unwrap().len()
    };
    let in_memory = events(&service);
    assert!(in_memory >= 2, "{in_memory} events");
    // Room again: everything is well by itself.
    std::fs::remove_file(filler).unwrap();
    service.run(&["machine", "add", "after", "--mac", "02:00:00:02:00:01"]);
    assert!(boot(port, "02:00:00:00:00:07").await.is_ok());
    assert_eq!(trouble(&service), None);
    // What was in memory only is on disk as soon as the log says so.
    wait_for("that traces are written", Duration::from_secs(30), || {
        service.log().contains("traces are written again").then_some(())
    });
    service.signal("KILL");
    service.spawn();
    let kept = events(&service);
    assert!(kept >= in_memory, "{kept} of {in_memory} events");
    // Later ones are written in the background, all of them by an orderly end.
    assert!(boot(port, "02:00:00:00:00:07").await.is_ok());
    let before = events(&service);
    service.signal("TERM");
    service.spawn();
    assert_eq!(events(&service), before);
}

#[tokio::test]
async fn a_file_system_that_may_not_be_written_keeps_the_service_from_starting_and_loses_nothing() {
    let _held = THIS_MACHINE.read().await;
    let port = 26_310;
    let (mut service, small) = small(port, Small::over);
    service.signal("TERM");
    small.remount("ro");
    let config = service.folder.path().join("lastmile.toml");
    let output =
        Command::new(LASTMILE).args(["serve", "--config", config.to_str().unwrap()]).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.contains("Read-only file system") && said.contains(small.at.to_str().unwrap()), "{said}");
    small.remount("rw");
    service.spawn();
    assert_eq!(trouble(&service), None);
    assert!(boot(port, MAC).await.is_ok());
}

#[tokio::test]
async fn a_disk_that_fails_at_work_stops_promises_and_loses_nothing_that_was_promised() {
    let _held = THIS_MACHINE.read().await;
    let port = 26_330;
    let folder = tempfile::tempdir().unwrap();
    let image = folder.path().join("disk");
    std::fs::File::create(&image).unwrap().set_len(64 << 20).unwrap();
    run(&need("/sbin/mkfs.ext4", "e2fsprogs"), &["-q", image.to_str().unwrap()]);
    let (mut service, small) = small(port, |at| Small::on_disk(at, &image));
    service.run(&["machine", "add", "before", "--mac", "02:00:00:02:00:01"]);
    let slow = fetch_slowly(&service, port);
    small.fail();
    let (code, said) = service.fail(&["machine", "add", "refused", "--mac", "02:00:00:02:00:02"]);
    assert!(code == 1 && said.contains("nothing was saved"), "{said}");
    assert!(
        is_given_nothing(port, "02:00:00:00:00:07").await,
        "a lease was acknowledged that is not on disk"
    );
    assert!(trouble(&service).is_some());
    let check = service.try_run(&["check"]);
    let check = String::from_utf8_lossy(&check.stdout).into_owned();
    assert!(check.contains("nothing can be recorded"), "{check}");
    is_fetched(&service, slow);
    // What is read is what was saved.
    let names = |service: &Service<'_>| service.run(&["machine", "list"]);
    assert!(names(&service).contains("before") && !names(&service).contains("refused"));
    // A person sees to the disk.
    service.signal("TERM");
    small.unmount();
    let _ = Command::new(need("/sbin/e2fsck", "e2fsprogs")).arg("-fy").arg(&image).output().unwrap();
    let _mounted = Small::on_disk(&small.at, &image);
    service.spawn();
    assert_eq!(trouble(&service), None);
    assert!(names(&service).contains("before") && !names(&service).contains("refused"));
    assert!(boot(port, "02:00:00:00:00:07").await.is_ok());
}

#[tokio::test]
async fn a_database_that_somebody_holds_is_waited_for_and_then_told() {
    let _held = THIS_MACHINE.read().await;
    let port = 26_320;
    let service = loopback(port);
    service.fill();
    let database = service.folder.path().join("data/lastmile.sqlite");
    let hold = "import sqlite3,sys,time\nc=sqlite3.connect(sys.argv[1],isolation_level=None)\nc.execute('BEGIN IMMEDIATE')\n\
                print('held',flush=True)\ntime.sleep(9)\nc.execute('ROLLBACK')\n";
    let mut holder = Command::new(need("/usr/bin/python3", "python3"))
        .args(["-c", hold])
        .arg(&database)
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut held = [0; 5];
    std::io::Read::read_exact(holder.stdout.as_mut().unwrap(), &mut held).unwrap();
    let (code, said) = service.fail(&["machine", "add", "refused", "--mac", "02:00:00:02:00:01"]);
    assert!(code == 1 && said.contains("locked"), "{said}");
    assert!(trouble(&service).unwrap().contains("locked"));
    assert!(holder.wait().unwrap().success());
    service.run(&["machine", "add", "taken", "--mac", "02:00:00:02:00:02"]);
    assert_eq!(trouble(&service), None);
    assert!(boot(port, MAC).await.is_ok());
}
