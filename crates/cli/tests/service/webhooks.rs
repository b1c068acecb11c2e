//! What is told to others when installs end: signed, kept until it is taken, also over TLS.

use std::{
    io::{BufRead, BufReader, Write},
    process::{Child, Command, Stdio},
    time::Duration,
};

use lastmile_sim::{Delivery, Receiver};
use serde_json::{Value, json};

use crate::support::{
    need,
    service::Service,
    simulated::install,
    site::{MAC, MACHINE, loopback},
    wait_for,
};

/// Base64 of what `openssl dgst` makes of a text: another reader of the signature.
fn openssl(options: &[&str], text: &str) -> String {
    let mut child = Command::new(need("/usr/bin/openssl", "openssl"))
        .args(["dgst", "-sha256", "-binary"])
        .args(options)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let digest = child.wait_with_output().unwrap().stdout;
    base64::Engine::encode(&base64::engine::general_purpose::STANDARD, digest)
}

fn field(delivery: &Delivery, name: &str) -> String {
    delivery.field(name).unwrap_or_else(|| panic!("no {name} in {}", delivery.head)).into()
}

/// Holds a delivery's signature against RFC 9421, section 3.2, as its receiver would.
fn check_signature(delivery: &Delivery, url: &str, key: &str) {
    let field = |name: &str| field(delivery, name);
    let body = &delivery.body;
    let digest = field("content-digest");
    assert_eq!(digest, format!("sha-256=:{}:", openssl(&[], body)));
    let input = field("signature-input");
    let parameters = input.strip_prefix("lastmile=").unwrap();
    let covered = parameters.split(')').next().unwrap().trim_start_matches('(');
    let mut base = String::new();
    for name in covered.split(' ') {
        let value = match name.trim_matches('"') {
            "@method" => "POST".to_owned(),
            "@target-uri" => url.to_owned(),
            other => field(other),
        };
        base.push_str(&format!("{name}: {value}\n"));
    }
    base.push_str(&format!("\"@signature-params\": {parameters}"));
    let code = openssl(&["-mac", "HMAC", "-macopt", &format!("key:{key}")], &base);
    assert_eq!(field("signature"), format!("lastmile=:{code}:"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_end_is_handed_over_signed_until_it_is_taken() {
    let mut service = loopback(27_000);
    service.fill();
    let receiver = Receiver::start(&["503 Service Unavailable", "200 OK"]).await.unwrap();
    let url = format!("http://{}/ends?site=quay", receiver.address());
    let (_, said) = service.fail(&["webhook", "add", "records", "ftp://x"]);
    assert!(said.contains("url") && said.contains("https://records.gannet.example"), "{said}");
    let saved = service.json(&["webhook", "add", "records", &url]);
    let key = saved["key"].as_str().unwrap().to_owned();
    assert_eq!(service.json(&["webhook", "list"])[0]["key"], Value::Null, "shown once");
    // The other side is away while the install ends, and the service is killed meanwhile.
    install(27_000, MAC, Duration::ZERO).await;
    wait_for("the first attempt", Duration::from_secs(10), || {
        (!receiver.received().is_empty()).then_some(())
    });
    let waiting = wait_for("its record", Duration::from_secs(10), || {
        let list = service.json(&["webhook", "deliveries", "records", "--waiting"]);
        (list[0]["attempts"] == 1).then_some(list)
    });
    assert_eq!(waiting[0]["last_answer"], "503 Service Unavailable: busy");
    let trouble = service.run(&["webhook", "list"]);
    assert!(trouble.contains("503 Service Unavailable"), "{trouble}");
    service.signal("KILL");
    service.spawn();
    wait_for("the second attempt", Duration::from_secs(20), || {
        (receiver.received().len() == 2).then_some(())
    });
    let all = receiver.received();
    all.iter().for_each(|one| check_signature(one, &url, &key));
    assert_eq!(all[0].body, all[1].body, "the same is told again");
    assert_eq!(field(&all[0], "lastmile-delivery"), field(&all[1], "lastmile-delivery"));
    let body: Value = serde_json::from_str(&all[1].body).unwrap();
    assert_eq!((&body["event"], &body["machine"]), (&json!("installed"), &json!(MACHINE)));
    assert_eq!((&body["install"]["image"], &body["macs"][0]), (&json!("tidewrack-12"), &json!(MAC)));
    wait_for("its record", Duration::from_secs(10), || {
        let list = service.json(&["webhook", "deliveries", "--install", "1"]);
        list[0]["delivered"].is_string().then_some(())
    });
    // Changed, it keeps its key; tried, it tells of nothing; sent again, it has the same number.
    service.run(&["webhook", "change", "records", "--drop", "events", "--append", "events=failed"]);
    assert_eq!(service.json(&["webhook", "show", "records"])["key"], Value::Null);
    service.run(&["webhook", "try", "records"]);
    wait_for("the trial", Duration::from_secs(10), || (receiver.received().len() == 3).then_some(()));
    let before = service.json(&["webhook", "deliveries"]);
    let tried = service.run(&["webhook", "send", "1", "--dry-run"]);
    assert!(tried.contains("Dry run: nothing was changed."), "{tried}");
    assert_eq!(service.json(&["webhook", "deliveries"]), before);
    service.run(&["webhook", "send", "1"]);
    wait_for("once more", Duration::from_secs(10), || (receiver.received().len() == 4).then_some(()));
    let all = receiver.received();
    all.iter().for_each(|one| check_signature(one, &url, &key));
    assert!(all[2].body.contains("\"event\":\"trial\""), "{}", all[2].body);
    assert_eq!(field(&all[3], "lastmile-delivery"), "1");
    // Only what is asked for is told: this one is cancelled, and nobody hears of it.
    service.run(&["install", "retry", "1", "--yes"]);
    service.run(&["install", "cancel", "2", "--yes"]);
    assert_eq!(service.json(&["webhook", "deliveries", "--install", "2"]), json!([]));
    let key_file = service.write("key", "a-key-of-ours-that-is-long-enough-for-it\n");
    service.run(&["webhook", "set-key", "records", "--from", &key_file]);
    service.run(&["webhook", "try", "records"]);
    wait_for("the trial", Duration::from_secs(10), || (receiver.received().len() == 5).then_some(()));
    check_signature(&receiver.received()[4], &url, "a-key-of-ours-that-is-long-enough-for-it");
    let database = std::fs::read(service.folder.path().join("data/lastmile.sqlite")).unwrap();
    for secret in [key.as_str(), "a-key-of-ours"] {
        assert!(!database.windows(secret.len()).any(|part| part == secret.as_bytes()), "in clear: {secret}");
    }
    // A receiver that is gone for good is abandoned by a person.
    let gone = Receiver::start(&["500 No"; 1000]).await.unwrap();
    service.run(&["webhook", "add", "lost", &format!("http://{}/", gone.address())]);
    service.run(&["webhook", "try", "lost"]);
    let number = service.json(&["webhook", "deliveries", "lost"])[0]["number"].to_string();
    let tried = service.run(&["webhook", "abandon", &number, "--dry-run"]);
    assert!(tried.contains("abandoned") && tried.contains("Dry run: nothing was changed."), "{tried}");
    assert_ne!(service.json(&["webhook", "deliveries", "lost"])[0]["due"], Value::Null);
    let abandoned = service.run(&["webhook", "abandon", &number, "--yes"]);
    assert!(abandoned.contains("abandoned"), "{abandoned}");
    service.run(&["webhook", "remove", "lost", "--yes"]);
    let (_, said) = service.fail(&["webhook", "send", &number]);
    assert!(said.contains("webhook 'lost' is gone"), "{said}");
}

/// Takes TLS connections with a certificate and passes what is in them to a port, until the value is dropped.
struct TlsFront {
    child: Child,
    port: u16,
}

impl TlsFront {
    /// In front of `behind`; certificate and key are files' paths.
    fn start(certificate: &str, key: &str, behind: u16) -> Self {
        let program = "
import shutil, socket, ssl, sys, threading
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(sys.argv[1], sys.argv[2])
listener = socket.create_server(('127.0.0.1', 0))
print(listener.getsockname()[1], flush=True)
def serve(raw):
    try:
        near = context.wrap_socket(raw, server_side=True)
    except OSError:
        return
    far = socket.create_connection(('127.0.0.1', int(sys.argv[3])))
    threading.Thread(target=shutil.copyfileobj, args=(near.makefile('rb', 0), far.makefile('wb', 0)), daemon=True).start()
    near.sendall(far.makefile('rb').read())
    near.unwrap()
while True:
    threading.Thread(target=serve, args=(listener.accept()[0],), daemon=True).start()
";
        let mut child = Command::new(need("/usr/bin/python3", "python3"))
            .args(["-c", program, certificate, key, &behind.to_string()])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        Self { child, port: line.trim().parse().unwrap() }
    }
}

impl Drop for TlsFront {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A certificate authority of the site's own and what it signed for a receiver on the loopback: the paths of the
/// authority's certificate, and of the receiver's with its key.
fn authority(service: &Service<'_>) -> (String, String, String) {
    let path = |name: &str| service.write(name, "");
    let [authority, authority_key, request, certificate, key] =
        ["authority.pem", "authority.key", "receiver.csr", "receiver.pem", "receiver.key"].map(path);
    let extensions = service.write("extensions", "subjectAltName=IP:127.0.0.1\nbasicConstraints=CA:FALSE\n");
    let openssl = |arguments: &[&str]| {
        let output = Command::new(need("/usr/bin/openssl", "openssl")).args(arguments).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    };
    let new_key = ["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout"];
    let subject = ["-subj", "/CN=Gannet Sound Ferries test authority"];
    openssl(
        &[&["req", "-x509", "-days", "2", "-out", &authority], &new_key[..], &[&authority_key], &subject]
            .concat(),
    );
    openssl(&[&["req", "-out", &request], &new_key[..], &[&key, "-subj", "/CN=records"]].concat());
    let signed_by = ["-CA", &authority, "-CAkey", &authority_key, "-CAcreateserial"];
    let signing =
        ["x509", "-req", "-days", "2", "-in", &request, "-out", &certificate, "-extfile", &extensions];
    openssl(&[&signing[..], &signed_by].concat());
    (authority, certificate, key)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_receiver_over_tls_must_be_vouched_for_by_an_authority_that_the_host_trusts() {
    let mut service = loopback(27_010);
    service.fill();
    let (authority, certificate, certificate_key) = authority(&service);
    let receiver = Receiver::start(&[]).await.unwrap();
    let front = TlsFront::start(&certificate, &certificate_key, receiver.address().port());
    let url = format!("https://127.0.0.1:{}/ends", front.port);
    let key = service.json(&["webhook", "add", "records", &url])["key"].as_str().unwrap().to_owned();
    install(27_010, MAC, Duration::ZERO).await;
    let refused = wait_for("the first attempt", Duration::from_secs(10), || {
        let list = service.json(&["webhook", "deliveries", "records"]);
        list[0]["last_answer"].as_str().map(str::to_owned)
    });
    assert!(refused.contains("authority") && refused.contains("restart"), "{refused}");
    assert_eq!(receiver.received().len(), 0, "nothing is told to somebody unknown");
    // The site's authority is made known, and the service started anew: what was kept goes out.
    service.signal("TERM");
    service.environment.push(("SSL_CERT_FILE".into(), authority));
    service.spawn();
    wait_for("the delivery", Duration::from_secs(20), || (!receiver.received().is_empty()).then_some(()));
    let first = receiver.received().remove(0);
    check_signature(&first, &url, &key);
    let body: Value = serde_json::from_str(&first.body).unwrap();
    assert_eq!((&body["event"], &body["machine"]), (&json!("installed"), &json!(MACHINE)));
}
