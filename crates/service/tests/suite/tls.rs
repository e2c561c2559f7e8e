//! HTTPS to the service, and TLS to the database.

use crate::capacity::{add_pool, local, nothing_left, supply};
use crate::joining::{is_root, programs};
use crate::support::{
    Database, Runner, Service, ServiceProcess, free_port, program, token_in, until,
};
use pennine_client::{Client, Route, RunnerFilter};
use pennine_core::lifecycle::job::Outcome;
use pennine_store::Store;
use pennine_store::connect::PoolSizes;
use pennine_testing::cluster::{Cluster, give_to_server, open_folder};
use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DnType, IsCa, KeyPair};
use std::path::{Path, PathBuf};
use std::process::Command;
use tokio::io::AsyncReadExt;
use tokio::net::TcpStream;

/// A certificate authority of a test's own, in a folder.
struct Authority {
    issuer: CertifiedIssuer<'static, KeyPair>,
    folder: tempfile::TempDir,
}

impl Authority {
    fn new() -> Authority {
        let mut params = CertificateParams::default();
        // OpenSSL tells the issuer from the certificates that it issues by its name.
        params
            .distinguished_name
            .push(DnType::CommonName, "Skerry's authority");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let issuer = CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap();
        let folder = open_folder();
        std::fs::write(folder.path().join("ca.pem"), issuer.pem()).unwrap();
        Authority { issuer, folder }
    }

    fn file(&self) -> PathBuf {
        self.folder.path().join("ca.pem")
    }

    /// Issues a certificate for a host, into the folder. Returns its file and its key's.
    fn issue(&self, host: &str) -> (PathBuf, PathBuf) {
        let key = KeyPair::generate().unwrap();
        let params = CertificateParams::new(vec![host.to_owned()]).unwrap();
        let certificate = params.signed_by(&key, &self.issuer).unwrap();
        let (file, key_file) = (
            self.folder.path().join("server.pem"),
            self.folder.path().join("server.key"),
        );
        std::fs::write(&file, certificate.pem()).unwrap();
        std::fs::write(&key_file, key.serialize_pem()).unwrap();
        (file, key_file)
    }

    fn route(&self) -> Route {
        Route::with_ca(Some(&self.file())).unwrap()
    }
}

async fn https(authority: &Authority) -> Service {
    let (certificate, key) = authority.issue("127.0.0.1");
    Service::reached_by(&authority.route(), Database::fresh().await, |config| {
        config.tls.certificate = certificate;
        config.tls.key = key;
    })
    .await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn people_runners_and_their_logs_go_over_https() {
    let authority = Authority::new();
    let service = https(&authority).await;
    assert!(service.url.starts_with("https://"), "{}", service.url);
    service.furnish().await;
    let ca = authority.file().display().to_string();
    let ticket = service.ticket("staithe").await;
    let mut runner = Runner::joined(&[
        "--server",
        &service.url,
        "--ticket",
        &ticket,
        "--name",
        "fell-01",
        "--ca",
        &ca,
    ]);
    // It has kept the authority.
    runner.work();
    let name = service.submit("", "echo over TLS").await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success), "{job:?}");
    let log = String::from_utf8(service.log(&name).await).unwrap();
    assert!(log.contains("\nover TLS\n"), "{log}");
    let http = reqwest::Client::builder()
        .tls_danger_accept_invalid_certs(true)
        .build()
        .unwrap();
    let answer = http.get(&service.url).send().await.unwrap();
    assert!(answer.headers().contains_key("strict-transport-security"));
    // Without the authority nothing is sent.
    let stranger = Client::new(&service.url, &service.token, &Route::default()).unwrap();
    let refused = stranger.status().await.unwrap_err().to_string();
    assert!(refused.contains("no connection"), "{refused}");
    let output = Command::new(program("pennine"))
        .args(["status", "--ca", &ca])
        .env("PENNINE_URL", &service.url)
        .env("PENNINE_TOKEN", &service.token)
        .output()
        .unwrap();
    assert!(output.status.success(), "{output:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn machines_of_suppliers_are_given_the_authority() {
    let authority = Authority::new();
    let (certificate, key) = authority.issue("127.0.0.1");
    let programs = program("pennine-runner").parent().unwrap().to_owned();
    let service = Service::reached_by(&authority.route(), Database::fresh().await, |config| {
        config.programs_dir = programs;
        config.tls.certificate = certificate;
        config.tls.key = key;
        config.tls.authority = authority.file();
    })
    .await;
    service.furnish().await;
    service.client.add_supplier(&local(8)).await.unwrap();
    add_pool(&service, "slipway", supply("here", 1)).await;
    let name = service.submit("slipway", "true").await;
    let job = service.done(&name).await;
    assert_eq!(job.line.result, Some(Outcome::Success), "{job:?}");
    nothing_left(&service).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_machine_that_does_not_trust_the_authority_yet_joins_with_the_printed_command() {
    let authority = Authority::new();
    let (certificate, key) = authority.issue("127.0.0.1");
    let held = programs();
    let folder = held.path().to_owned();
    let service = Service::reached_by(&authority.route(), Database::fresh().await, |config| {
        config.programs_dir = folder;
        config.tls.certificate = certificate;
        config.tls.key = key;
        config.tls.authority = authority.file();
    })
    .await;
    service.furnish().await;
    let made = service
        .client
        .add_ticket("staithe", &Default::default())
        .await
        .unwrap();
    let home = tempfile::tempdir().unwrap();
    let run = |command: &str| {
        let folder = home.path().display();
        let user = if is_root() { " --user=root" } else { "" };
        Command::new("sh")
            .args([
                "-c",
                &format!(
                    "{command} --name fell-01 --into={folder}/bin --dir={folder}/runner{user}"
                ),
            ])
            .current_dir(home.path())
            .env_clear()
            .env("PATH", std::env::var("PATH").unwrap())
            .env("HOME", home.path())
            .output()
            .unwrap()
    };
    // A script that is not the service's is not run.
    let forged = made
        .install
        .replace(" && echo", " && echo 'touch forged' >> join.sh && echo");
    assert_ne!(forged, made.install);
    let refused = run(&forged);
    assert!(!refused.status.success(), "{refused:?}");
    assert!(!home.path().join("forged").exists());
    let joined = run(&made.install);
    assert!(joined.status.success(), "{joined:?}");
    let kept = std::fs::read_to_string(home.path().join("runner/ca.pem")).unwrap();
    assert_eq!(
        kept.trim(),
        std::fs::read_to_string(authority.file()).unwrap().trim()
    );
    assert_eq!(
        service
            .client
            .runners(&RunnerFilter::default())
            .await
            .unwrap()
            .items
            .len(),
        1
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_changed_certificate_is_served_without_a_restart_and_a_broken_one_is_not() {
    let authority = Authority::new();
    let service = https(&authority).await;
    let file = authority.folder.path().join("server.pem");
    let good = std::fs::read(&file).unwrap();
    std::fs::write(&file, "no certificate").unwrap();
    // Another authority's: the client that trusts the first one stops trusting the service when it is served.
    let other = Authority::new();
    let fresh = async |route: Route| {
        let client = Client::new(&service.url, &service.token, &route).unwrap();
        client.status().await.is_ok()
    };
    let begun = std::time::Instant::now();
    while begun.elapsed() < std::time::Duration::from_secs(7) {
        assert!(
            fresh(authority.route()).await,
            "what worked is still served"
        );
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    }
    let (certificate, key) = other.issue("127.0.0.1");
    std::fs::copy(key, authority.folder.path().join("server.key")).unwrap();
    std::fs::copy(certificate, &file).unwrap();
    until("the new certificate is served", || async {
        fresh(other.route()).await.then_some(())
    })
    .await;
    assert!(!fresh(authority.route()).await);
    assert_ne!(std::fs::read(&file).unwrap(), good);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_client_that_does_not_speak_tls_is_closed_and_harms_nobody() {
    let authority = Authority::new();
    let service = https(&authority).await;
    let mut plain = TcpStream::connect(service.address()).await.unwrap();
    tokio::io::AsyncWriteExt::write_all(&mut plain, b"GET / HTTP/1.1\r\nhost: localhost\r\n\r\n")
        .await
        .unwrap();
    let mut answer = Vec::new();
    let _ = plain.read_to_end(&mut answer).await;
    let answer = String::from_utf8_lossy(&answer);
    assert!(!answer.contains("HTTP/1.1"), "{answer}");
    service.client.status().await.unwrap();
}

fn serve(change: &[(&str, &str)]) -> String {
    let folder = tempfile::tempdir().unwrap();
    let output = Command::new(program("pennined"))
        .arg("serve")
        .env_clear()
        .env("PENNINED_DATA_DIR", folder.path())
        .envs(change.iter().copied())
        .output()
        .unwrap();
    assert!(!output.status.success());
    let said = [output.stdout, output.stderr].concat();
    String::from_utf8_lossy(&said).into_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_wrong_with_the_files_is_said_at_the_start() {
    let database = Database::fresh().await;
    let authority = Authority::new();
    let (certificate, key) = authority.issue("127.0.0.1");
    let text = |path: &Path| path.display().to_string();
    let (certificate, key) = (text(&certificate), text(&key));
    let ca = text(&authority.file());
    let start = |certificate: &str, key: &str| {
        serve(&[
            ("PENNINED_DATABASE_URL", &database.url),
            ("PENNINED_LISTEN", "127.0.0.1:0"),
            ("PENNINED_TLS__CERTIFICATE", certificate),
            ("PENNINED_TLS__KEY", key),
        ])
    };
    let said = start("", &key);
    assert!(said.contains("needs both"), "{said}");
    let said = start("/nowhere.pem", &key);
    assert!(
        said.contains("tls.certificate = /nowhere.pem: it cannot be read"),
        "{said}"
    );
    let said = start(&certificate, &certificate);
    assert!(
        said.contains("tls.key") && said.contains("no private key"),
        "{said}"
    );
    let said = start(&ca, &key);
    assert!(said.contains("is not the key of the certificate"), "{said}");
    let said = serve(&[(
        "PENNINED_DATABASE_URL",
        "postgres://one/p?sslmode=require&sslrootcert=/nowhere.pem",
    )]);
    assert!(
        said.contains("sslrootcert=/nowhere.pem cannot be read"),
        "{said}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_database_is_reached_over_tls_under_the_authority_that_is_given() {
    let authority = Authority::new();
    let (certificate, key) = authority.issue("127.0.0.1");
    give_to_server(&key, 0o600);
    let (certificate, key) = (certificate.display(), key.display());
    let cluster = Cluster::start(&[
        ("ssl", "on"),
        ("ssl_cert_file", &certificate.to_string()),
        ("ssl_key_file", &key.to_string()),
    ]);
    let ca = authority.file();
    let url = format!(
        "{}?sslmode=verify-full&sslrootcert={}",
        cluster.url,
        ca.display()
    );
    let data = tempfile::tempdir().unwrap();
    let service = ServiceProcess::start(&url, data.path(), free_port()).await;
    let token = token_in(data.path());
    let client = Client::new(&service.url, &token, &Route::default()).unwrap();
    client.status().await.unwrap();
    let by_tls = "select ssl::text from pg_stat_ssl join pg_stat_activity using (pid)
                  where datname = 'postgres' and backend_type = 'client backend' and pid <> pg_backend_pid()";
    let by_tls = cluster.texts(by_tls).await;
    assert!(
        by_tls.len() > 1 && by_tls.iter().all(|one| one == "true"),
        "{by_tls:?}"
    );
    // Under another authority nothing is sent.
    let other = Authority::new();
    let url = format!(
        "{}?sslmode=require&sslrootcert={}",
        cluster.url,
        other.file().display()
    );
    let store = Store::open(&url, &PoolSizes::default()).unwrap();
    let refused = store
        .people()
        .await
        .err()
        .expect("no connection")
        .to_string();
    assert!(refused.contains("certificate"), "{refused}");
}
