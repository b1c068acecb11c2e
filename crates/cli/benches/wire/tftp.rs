//! TFTP: in lock-step, with windows, and to many clients at once.

use std::{
    net::{Ipv4Addr, SocketAddr},
    thread,
    time::{Duration, Instant},
};

use lastmile_formats::tftp::{Packet, Wishes};
use lastmile_server::Running;

use super::{FILE, MIB, PATIENCE, best, echo, mac, row, socket};

const BLKSIZE: u16 = 1468;

pub(super) fn lock_step(running: &Running) {
    let blocks = FILE / usize::from(BLKSIZE) + 1;
    let ping_pong = || {
        let server = echo(|length| if length == 1 { 0 } else { usize::from(BLKSIZE) + 4 });
        let socket = socket();
        socket.connect(server).unwrap();
        let mut buffer = [0; 2048];
        let began = Instant::now();
        for _ in 0..blocks {
            socket.send(&[0; 4]).unwrap();
            socket.recv(&mut buffer).unwrap();
        }
        let rate = FILE as f64 / 1e6 / began.elapsed().as_secs_f64();
        socket.send(&[0]).unwrap();
        rate
    };
    let (floor, service) = best(ping_pong, || read_file(running.listening().tftp[0]));
    row("TFTP, 64 MiB, blksize 1468, windowsize 1", floor, service, "MB/s", "90 %");
}

/// Windows against a sender that only sends: no file, no acknowledgements, one system call a block.
pub(super) fn windows(running: &Running) {
    let blocks = FILE / usize::from(BLKSIZE) + 1;
    let one_way = || {
        let (receiver, sender) = (socket(), socket());
        sender.connect(receiver.local_addr().unwrap()).unwrap();
        let block = [0; BLKSIZE as usize + 4];
        // Somebody takes them in, as a client would; what it misses is not counted against the floor.
        receiver.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        let taking = thread::spawn(move || {
            let mut buffer = [0; 2048];
            while receiver.recv(&mut buffer).is_ok() {}
        });
        let began = Instant::now();
        for _ in 0..blocks {
            sender.send(&block).unwrap();
        }
        let rate = FILE as f64 / 1e6 / began.elapsed().as_secs_f64();
        taking.join().unwrap();
        rate
    };
    for windowsize in [16, 64] {
        let (floor, service) = best(one_way, || read_windows(running.listening().tftp[0], windowsize));
        let work = format!("TFTP, 64 MiB, blksize 1468, windowsize {windowsize}");
        row(&work, floor, service, "MB/s", "100 %");
    }
}

/// Reads the file with a window, acknowledging its last block only; gives MB/s.
fn read_windows(server: SocketAddr, windowsize: u16) -> f64 {
    let socket = socket();
    let wishes = Wishes { blksize: Some(BLKSIZE), windowsize: Some(windowsize), tsize: true };
    let path = format!("boot/{}/tidewrack-12/r1/linux", mac(1).dashed());
    let request = Packet::Read { name: path.into(), mode: "octet".into(), options: wishes.options() };
    let mut buffer = [0; 2048];
    let began = Instant::now();
    socket.send_to(&request.emit(), server).unwrap();
    let (_, transfer) = socket.recv_from(&mut buffer).unwrap();
    socket.connect(transfer).unwrap();
    let (mut expected, mut got) = (1_u64, 0);
    socket.send(&[0, 4, 0, 0]).unwrap();
    loop {
        let length = socket.recv(&mut buffer).unwrap() - 4;
        let block = u16::from_be_bytes([buffer[2], buffer[3]]);
        assert_eq!(u64::from(block), expected & 0xffff, "a block was lost on the loopback");
        got += length;
        let last = length < usize::from(BLKSIZE);
        if last || expected % u64::from(windowsize) == 0 {
            socket.send(&[0, 4, buffer[2], buffer[3]]).unwrap();
        }
        if last {
            break;
        }
        expected += 1;
    }
    assert_eq!(got, FILE);
    FILE as f64 / 1e6 / began.elapsed().as_secs_f64()
}

/// Clients that read at once, and how much each reads.
const MANY: usize = 512;
pub(super) const SHARE: usize = 2 * MIB;

/// 512 clients against one, by their total rate; and how far apart the first and the last of them end. One thread drives
/// all clients and answers each as its blocks come, as 512 computers would: their own scheduling is not measured.
pub(super) fn many(running: &Running) {
    let server = running.listening().tftp[0];
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let rate = |clients: usize| {
        runtime.block_on(async {
            let began = Instant::now();
            let reads = (0..clients).map(|number| async move {
                read_share(server, number).await;
                began.elapsed().as_secs_f64()
            });
            let mut took = futures_util::future::join_all(reads).await;
            took.sort_by(f64::total_cmp);
            let rate = (clients * SHARE) as f64 / 1e6 / took[clients - 1];
            (rate, took[clients - 1] / took[0])
        })
    };
    let one = (0..5).map(|_| rate(1).0).fold(0.0, f64::max);
    let (many, apart) = rate(MANY);
    row("TFTP, 512 clients at once, blksize 1468", one, many, "MB/s", "100 %");
    println!(
        "TFTP, 512 clients: none failed; the slowest took {apart:.2} times as long as the fastest (aim: within 2)"
    );
}

/// Reads 2 MiB in lock-step.
async fn read_share(server: SocketAddr, number: usize) {
    let socket = tokio::net::UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
    let wishes = Wishes { blksize: Some(BLKSIZE), windowsize: None, tsize: true };
    let path = format!("boot/{}/lantern-3/r1/share", mac(number as u32).dashed());
    let request = Packet::Read { name: path.into(), mode: "octet".into(), options: wishes.options() };
    let mut buffer = [0; 2048];
    socket.send_to(&request.emit(), server).await.unwrap();
    let (_, transfer) = socket.recv_from(&mut buffer).await.unwrap();
    socket.connect(transfer).await.unwrap();
    let (mut acknowledgement, mut got, mut expected) = ([0, 4, 0, 0], 0, 1_u16);
    loop {
        socket.send(&acknowledgement).await.unwrap();
        let length = tokio::time::timeout(PATIENCE, socket.recv(&mut buffer)).await.unwrap().unwrap() - 4;
        acknowledgement[2..].copy_from_slice(&buffer[2..4]);
        // Sent again, because the acknowledgement came late: acknowledged again, and not counted.
        if u16::from_be_bytes([buffer[2], buffer[3]]) != expected {
            continue;
        }
        expected = expected.wrapping_add(1);
        got += length;
        if length < usize::from(BLKSIZE) {
            break;
        }
    }
    socket.send(&acknowledgement).await.unwrap();
    assert_eq!(got, SHARE);
}

/// Reads the file in lock-step; gives MB/s.
fn read_file(server: SocketAddr) -> f64 {
    let socket = socket();
    let wishes = Wishes { blksize: Some(BLKSIZE), windowsize: None, tsize: true };
    let path = format!("boot/{}/tidewrack-12/r1/linux", mac(1).dashed());
    let request = Packet::Read { name: path.into(), mode: "octet".into(), options: wishes.options() };
    let mut buffer = [0; 2048];
    let began = Instant::now();
    socket.send_to(&request.emit(), server).unwrap();
    let (_, transfer) = socket.recv_from(&mut buffer).unwrap();
    socket.connect(transfer).unwrap();
    let mut acknowledgement = [0, 4, 0, 0];
    let mut got = 0;
    loop {
        socket.send(&acknowledgement).unwrap();
        let length = socket.recv(&mut buffer).unwrap() - 4;
        acknowledgement[2..].copy_from_slice(&buffer[2..4]);
        got += length;
        if length < usize::from(BLKSIZE) {
            break;
        }
    }
    let rate = FILE as f64 / 1e6 / began.elapsed().as_secs_f64();
    socket.send(&acknowledgement).unwrap();
    assert_eq!(got, FILE);
    rate
}
