//! The certificate of the boot listener by HTTPS: given, or made by the service.

use std::{
    fs,
    io::{BufReader, Write},
    net::Ipv4Addr,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use tokio_rustls::{
    TlsAcceptor,
    rustls::{
        ServerConfig,
        pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
    },
};

use crate::config::Config;

/// What speaks HTTPS.
pub(crate) type Tls = TlsAcceptor;

/// Where the service keeps the certificate that it made.
fn own_paths(data_dir: &Path) -> (PathBuf, PathBuf, PathBuf) {
    let folder = data_dir.join("https");
    (folder.join("certificate.pem"), folder.join("private-key.pem"), folder.join("addresses"))
}

/// Reads the certificate that is given, or the service's own, made where there is none for these addresses.
pub(crate) fn tls(config: &Config, addresses: &[Ipv4Addr]) -> Result<Tls, String> {
    let (certificate, key) = match (&config.boot.certificate, &config.boot.private_key) {
        (Some(certificate), Some(key)) => (certificate.clone(), key.clone()),
        _ => {
            let (certificate, key, covers) = own_paths(&config.data_dir);
            let wanted = addresses.iter().map(|address| format!("{address}\n")).collect::<String>();
            if fs::read_to_string(&covers).ok().as_ref() != Some(&wanted) || !certificate.exists() {
                make(&certificate, &key, addresses)?;
                fs::write(&covers, wanted).map_err(|error| format!("{}: {error}", covers.display()))?;
                tracing::info!(certificate = %certificate.display(), "made a certificate: enrol it in the firmware");
            }
            (certificate, key)
        }
    };
    let wrong = |path: &Path, error: &dyn std::fmt::Display| format!("{}: {error}", path.display());
    let file = fs::File::open(&certificate).map_err(|error| wrong(&certificate, &error))?;
    let chain = CertificateDer::pem_reader_iter(BufReader::new(file)).collect::<Result<Vec<_>, _>>();
    let chain = chain.map_err(|error| wrong(&certificate, &error))?;
    let key_der = PrivateKeyDer::from_pem_file(&key).map_err(|error| wrong(&key, &error))?;
    let server = ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key_der);
    Ok(TlsAcceptor::from(Arc::new(server.map_err(|error| wrong(&certificate, &error))?)))
}

fn make(certificate: &Path, key: &Path, addresses: &[Ipv4Addr]) -> Result<(), String> {
    let folder = certificate.parent().unwrap_or(Path::new("."));
    fs::create_dir_all(folder).map_err(|error| format!("{}: {error}", folder.display()))?;
    let names: Vec<String> = addresses.iter().map(ToString::to_string).collect();
    let made = rcgen::generate_simple_self_signed(names).map_err(|error| error.to_string())?;
    fs::write(certificate, made.cert.pem()).map_err(|error| format!("{}: {error}", certificate.display()))?;
    let private = fs::OpenOptions::new().create(true).truncate(true).write(true).mode(0o600).open(key);
    private
        .and_then(|mut file| file.write_all(made.signing_key.serialize_pem().as_bytes()))
        .map_err(|error| format!("{}: {error}", key.display()))
}
