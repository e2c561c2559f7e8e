//! Settings: a commented default, a file, the environment, in this order.

use crate::background::Task;
use figment::Figment;
use figment::providers::{Env, Serialized};
use pennine_store::connect::PoolSizes;
use pennine_suppliers::outgoing::AddressPolicy;
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::time::Duration;
use tracing_subscriber::filter::{LevelFilter, Targets};

/// The default configuration, with every key explained.
pub const DEFAULT: &str = include_str!("config.default.toml");

/// The settings of one replica.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    pub listen: SocketAddr,
    pub public_url: String,
    pub data_dir: PathBuf,
    pub database_url: String,
    pub database_url_file: PathBuf,
    pub database_owner_url: String,
    pub database_owner_url_file: PathBuf,
    pub database_connections: PoolSizes,
    pub installation: String,
    pub currency: String,
    pub trusted_proxies: Vec<IpAddr>,
    pub programs_dir: PathBuf,
    pub log: Log,
    pub limits: Limits,
    pub alerts: Alerts,
    pub keep: Retention,
    pub traces: Traces,
    pub session: Session,
    pub tokens: Tokens,
    pub secrets: OutsideSecrets,
    pub openid: OpenId,
    pub outgoing: Outgoing,
    pub tls: Tls,
    pub objects: ObjectStorage,
    /// A background task that panics: only tests set it, and no file or variable can.
    #[serde(skip)]
    pub fault: Option<Task>,
}

/// What the service writes about itself.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Log {
    pub level: String,
    pub format: LogFormat,
}

impl Log {
    /// What is written, by module.
    pub fn levels(&self) -> Result<Targets, ConfigError> {
        let wrong = |error: &dyn std::fmt::Display| ConfigError::InvalidTarget {
            key: "log.level",
            message: format!("must be a level, or levels by module (info,pennined=debug): {error}"),
        };
        // A word alone would be taken for a module, of which everything is written.
        for word in self.level.split(',').filter(|part| !part.contains('=')) {
            word.parse::<LevelFilter>().map_err(|e| wrong(&e))?;
        }
        self.level.parse().map_err(|e| wrong(&e))
    }
}

/// How it writes it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LogFormat {
    Text,
    Json,
}

/// What one request, connection or job may take.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    pub body_bytes: usize,
    pub request_seconds: u64,
    pub job_log_bytes: u64,
    pub runner_log_bytes_per_day: u64,
    pub connections: usize,
    pub connections_per_address: usize,
    pub write_seconds: u64,
    pub upload_memory_bytes: usize,
    pub unfinished_join_hours: u64,
    pub credential_days: u64,
    pub machine_days: u64,
    /// The most bytes of the files of a run, as an archive.
    pub source_bytes: u64,
    /// How many days the files of a run are kept.
    pub source_days: u64,
    pub five_minute_days: u64,
    pub hour_days: u64,
}

impl Limits {
    /// How old a runner's credential may become before it asks for another.
    pub fn credential_age(&self) -> Duration {
        Duration::from_secs(self.credential_days * 86_400)
    }
}

/// Where jobs are sent as traces.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Traces {
    pub url: String,
    pub headers_file: PathBuf,
}

/// For how many days what is kept.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Retention {
    pub logs: u64,
    pub jobs: u64,
    pub levels: u64,
    pub sums: u64,
    pub feed: u64,
    pub audit: u64,
}

/// How alerts are evaluated.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Alerts {
    pub every_seconds: u64,
    pub kept_days: u64,
}

/// Sign-ins at the console.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Session {
    pub hours: u64,
}

/// Tokens of people and programs.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tokens {
    pub longest_days: u32,
}

/// The OpenID provider with which people sign in.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OpenId {
    pub issuer: String,
    pub name: String,
    pub client_id: String,
    pub client_secret_file: PathBuf,
    pub scopes: Vec<String>,
    pub name_claim: String,
    pub groups_claim: String,
    pub adds_accounts: bool,
}

impl OpenId {
    /// Whether a provider is configured.
    pub fn is_on(&self) -> bool {
        !self.issuer.is_empty()
    }

    fn check(&self) -> Result<(), ConfigError> {
        if !self.is_on() {
            return Ok(());
        }
        let local = ["http://127.0.0.1", "http://localhost", "http://[::1]"];
        let is_local = local.iter().any(|local| self.issuer.starts_with(local));
        if !is_local && !self.issuer.starts_with("https://") {
            let message = "must begin with https:// (http:// on loopback only)";
            return Err(wrong("openid.issuer", message));
        }
        if self.client_id.is_empty() {
            let message = "is the name under which the provider knows this installation";
            return Err(wrong("openid.client_id", message));
        }
        self.secret().map(drop)
    }

    /// The client's secret; none where the provider gave none.
    ///
    /// # Errors
    /// Where its file cannot be read.
    pub fn secret(&self) -> Result<Option<String>, ConfigError> {
        let path = &self.client_secret_file;
        if path.as_os_str().is_empty() {
            return Ok(None);
        }
        let text = std::fs::read_to_string(path);
        let text = text.map_err(|error| ConfigError::Unreadable(path.clone(), error))?;
        Ok(Some(text.trim().to_owned()))
    }
}

/// The outside store of secrets.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OutsideSecrets {
    pub program: PathBuf,
    pub seconds: u64,
}

impl OutsideSecrets {
    fn check(&self) -> Result<(), ConfigError> {
        if !(1..=60).contains(&self.seconds) {
            return Err(wrong("secrets.seconds", "must be 1 to 60"));
        }
        let program = &self.program;
        if !program.as_os_str().is_empty() && !program.is_absolute() {
            return Err(wrong("secrets.program", "must be an absolute path"));
        }
        Ok(())
    }
}

/// Requests to addresses that people enter: of listeners and suppliers.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Outgoing {
    pub allow: Vec<String>,
}

impl Outgoing {
    /// Where they may go.
    pub fn policy(&self) -> Result<AddressPolicy, ConfigError> {
        AddressPolicy::allowing(&self.allow).map_err(|error| ConfigError::InvalidTarget {
            key: "outgoing.allow",
            message: format!("is a list of networks: {error}"),
        })
    }
}

/// Where logs lie that are sealed.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ObjectStorage {
    pub bucket: String,
    pub prefix: String,
    pub endpoint: String,
    pub region: String,
    pub credentials_file: PathBuf,
}

/// HTTPS, served by the service itself.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tls {
    pub certificate: PathBuf,
    pub key: PathBuf,
    pub authority: PathBuf,
}

impl Tls {
    /// The contents of the authority's file, where one is named.
    pub fn authority(&self) -> Result<Option<String>, ConfigError> {
        if self.authority.as_os_str().is_empty() {
            return Ok(None);
        }
        let pem = std::fs::read_to_string(&self.authority);
        let pem = pem.map_err(|error| ConfigError::Unreadable(self.authority.clone(), error))?;
        if !pem.contains("-----BEGIN CERTIFICATE-----") {
            return Err(ConfigError::InvalidTarget {
                key: "tls.authority",
                message: format!("{} holds no certificate (PEM)", self.authority.display()),
            });
        }
        Ok(Some(pem))
    }

    /// Whether HTTPS is served.
    pub fn is_on(&self) -> bool {
        !self.certificate.as_os_str().is_empty()
    }
}

/// Why the settings cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// The file is not there.
    #[error("the file {0} cannot be read: {1}")]
    Unreadable(PathBuf, std::io::Error),
    /// The file is not TOML.
    #[error("the configuration file {0} is not TOML: {1}")]
    NoToml(PathBuf, toml::de::Error),
    /// A key or a value is wrong.
    #[error("the configuration is wrong: {0}\n  pennined config prints every key, explained")]
    Wrong(Box<figment::Error>),
    /// A value makes no sense.
    #[error("the configuration is wrong: {key} {message}")]
    InvalidTarget { key: &'static str, message: String },
}

/// A value makes no sense.
fn wrong(key: &'static str, message: &str) -> ConfigError {
    ConfigError::InvalidTarget {
        key,
        message: message.to_owned(),
    }
}

impl Config {
    /// The settings from the default, the file and the environment.
    pub fn load(file: Option<&Path>) -> Result<Config, ConfigError> {
        let read = |text: &str| toml::from_str::<toml::Table>(text).map(Serialized::defaults);
        let mut from = Figment::new()
            .merge(read(DEFAULT).map_err(|e| ConfigError::NoToml(PathBuf::from("default"), e))?);
        if let Some(file) = file {
            let text = std::fs::read_to_string(file)
                .map_err(|e| ConfigError::Unreadable(file.to_owned(), e))?;
            from = from.merge(read(&text).map_err(|e| ConfigError::NoToml(file.to_owned(), e))?);
        }
        let mut config: Config = from
            .merge(Env::prefixed("PENNINED_").split("__"))
            .extract()
            .map_err(|e| ConfigError::Wrong(Box::new(e)))?;
        for (file, url) in [
            (&config.database_url_file, &mut config.database_url),
            (
                &config.database_owner_url_file,
                &mut config.database_owner_url,
            ),
        ] {
            if !file.as_os_str().is_empty() {
                let text = std::fs::read_to_string(file)
                    .map_err(|e| ConfigError::Unreadable(file.clone(), e))?;
                text.trim().clone_into(url);
            }
        }
        config.check()?;
        Ok(config)
    }

    fn check(&self) -> Result<(), ConfigError> {
        let wrong = |key, message: &str| Err(wrong(key, message));
        if !(self.public_url.is_empty()
            || self.public_url.starts_with("http://")
            || self.public_url.starts_with("https://"))
        {
            return wrong("public_url", "must begin with http:// or https://");
        }
        let is_code =
            self.currency.len() == 3 && self.currency.bytes().all(|b| b.is_ascii_uppercase());
        if !(self.currency.is_empty() || is_code) {
            return wrong(
                "currency",
                "must be a code of three capital letters, such as EUR",
            );
        }
        let endpoint = &self.objects.endpoint;
        if !(endpoint.is_empty()
            || endpoint.starts_with("http://")
            || endpoint.starts_with("https://"))
        {
            return wrong("objects.endpoint", "must begin with http:// or https://");
        }
        if self.tls.certificate.as_os_str().is_empty() != self.tls.key.as_os_str().is_empty() {
            return wrong("tls", "needs both, certificate and key, or neither");
        }
        self.log.levels()?;
        self.outgoing.policy()?;
        let sizes = &self.database_connections;
        if [sizes.people, sizes.analysis, sizes.runners, sizes.tasks].contains(&0) {
            return wrong("database_connections", "must be at least 1 each");
        }
        if self.limits.job_log_bytes < 1 << 20 {
            return wrong("limits.job_log_bytes", "must be at least 1048576");
        }
        if !(1..=8760).contains(&self.limits.unfinished_join_hours) {
            return wrong("limits.unfinished_join_hours", "must be 1 to 8760");
        }
        if !(1..=3650).contains(&self.limits.credential_days) {
            return wrong("limits.credential_days", "must be 1 to 3650");
        }
        if !(1..=3650).contains(&self.limits.machine_days) {
            return wrong("limits.machine_days", "must be 1 to 3650");
        }
        if !(1..=3650).contains(&self.limits.source_days) {
            return wrong("limits.source_days", "must be 1 to 3650");
        }
        if !(1..=366).contains(&self.limits.five_minute_days) {
            return wrong("limits.five_minute_days", "must be 1 to 366");
        }
        self.openid.check()?;
        self.secrets.check()?;
        if !(1..=3600).contains(&self.alerts.every_seconds) {
            return wrong("alerts.every_seconds", "must be 1 to 3600");
        }
        if !(1..=3660).contains(&self.alerts.kept_days) {
            return wrong("alerts.kept_days", "must be 1 to 3660");
        }
        let traces = &self.traces.url;
        if !(traces.is_empty() || traces.starts_with("http://") || traces.starts_with("https://")) {
            return wrong("traces.url", "must begin with http:// or https://");
        }
        for (key, days) in [
            ("keep.logs", self.keep.logs),
            ("keep.jobs", self.keep.jobs),
            ("keep.levels", self.keep.levels),
            ("keep.sums", self.keep.sums),
            ("keep.feed", self.keep.feed),
            ("keep.audit", self.keep.audit),
        ] {
            if !(1..=36_600).contains(&days) {
                return wrong(key, "must be 1 to 36600 days");
            }
        }
        if self.keep.logs > self.keep.jobs {
            return wrong(
                "keep.logs",
                "must not be longer than keep.jobs: a log is a job's",
            );
        }
        if self.keep.feed < 7 {
            return wrong(
                "keep.feed",
                "must be at least 7 days, so that readers can resume after an outage",
            );
        }
        if !(16..=3660).contains(&self.limits.hour_days) {
            return wrong("limits.hour_days", "must be 16 to 3660");
        }
        Ok(())
    }

    /// The address under which others reach the service, without a slash at its end.
    pub fn public_url(&self, listening: SocketAddr) -> String {
        match self.public_url.trim_end_matches('/') {
            "" if self.tls.is_on() => format!("https://{listening}"),
            "" => format!("http://{listening}"),
            url => url.to_owned(),
        }
    }

    /// The path below which the service is served: empty, or `/ci`.
    pub fn base_path(&self) -> String {
        let after_scheme = self
            .public_url
            .split_once("://")
            .map_or("", |(_, rest)| rest);
        let path = after_scheme
            .split_once('/')
            .map_or("", |(_, path)| path)
            .trim_end_matches('/');
        if path.is_empty() {
            String::new()
        } else {
            format!("/{path}")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    fn load(text: &str) -> Result<Config, ConfigError> {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(text.as_bytes()).unwrap();
        Config::load(Some(file.path()))
    }

    #[test]
    fn the_printed_default_is_a_whole_configuration() {
        let config = load("").unwrap();
        assert_eq!(config.listen.port(), 7117);
        assert_eq!(config.base_path(), "");
    }

    #[test]
    fn a_misspelt_key_is_an_error_that_names_it() {
        let error = load("lissten = \"127.0.0.1:1\"").unwrap_err().to_string();
        assert!(
            error.contains("lissten") && error.contains("listen"),
            "{error}"
        );
        let error = load("[limits]\nbody_byte = 3").unwrap_err().to_string();
        assert!(error.contains("body_byte"), "{error}");
    }

    #[test]
    fn errors_in_the_file_name_their_line() {
        let error = load("listen = \"127.0.0.1:1\"\n[limits")
            .unwrap_err()
            .to_string();
        assert!(error.contains("line 2"), "{error}");
        for wrong in ["loud", "info,loud", "info,pennined=loud"] {
            let error = load(&format!("[log]\nlevel = \"{wrong}\""))
                .unwrap_err()
                .to_string();
            assert!(error.contains("log.level must be a level"), "{error}");
        }
        assert!(load("[log]\nlevel = \"info,pennined::leader=debug\"").is_ok());
    }

    #[test]
    fn a_public_address_may_have_a_path() {
        let config = load("public_url = \"https://ci.skerry.example/pennine/\"").unwrap();
        assert_eq!(config.base_path(), "/pennine");
        assert_eq!(
            config.public_url("127.0.0.1:1".parse().unwrap()),
            "https://ci.skerry.example/pennine"
        );
    }
}
