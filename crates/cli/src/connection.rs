//! Where the service is and who asks: flags, environment, file.

use crate::error::Error;
use clap::Args;
use pennine_client::{Client, Route};
use serde::Deserialize;
use std::path::PathBuf;

/// The heading of these options in a command's help, below its own.
const HEADING: &str = "Options of every command";

/// What holds for every verb.
#[derive(Args, Clone)]
pub struct GlobalArguments {
    /// The service's address.
    #[arg(
        long,
        global = true,
        env = "PENNINE_URL",
        hide_env_values = true,
        value_name = "URL",
        help_heading = HEADING
    )]
    pub url: Option<String>,
    /// The token.
    #[arg(
        long,
        global = true,
        env = "PENNINE_TOKEN",
        hide_env_values = true,
        value_name = "TOKEN",
        help_heading = HEADING
    )]
    pub token: Option<String>,
    /// An additional certificate authority to trust (a PEM file).
    #[arg(long, global = true, value_name = "FILE", help_heading = HEADING)]
    pub ca: Option<PathBuf>,
    /// Print JSON instead of text.
    #[arg(long, global = true, help_heading = HEADING)]
    pub json: bool,
}

/// The file `~/.config/pennine/client.toml`.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Settings {
    url: Option<String>,
    token: Option<String>,
    ca: Option<PathBuf>,
}

fn file() -> Option<PathBuf> {
    let config = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
    let config =
        config.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".config")))?;
    Some(config.join("pennine/client.toml"))
}

fn settings() -> Result<Settings, Error> {
    let Some(path) = file() else {
        return Ok(Settings::default());
    };
    match std::fs::read_to_string(&path) {
        Ok(text) => toml::from_str(&text)
            .map_err(|e| Error::Usage(format!("{} is wrong: {e}", path.display()))),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Settings::default()),
        Err(error) => Err(Error::Usage(format!(
            "{} cannot be read: {error}",
            path.display()
        ))),
    }
}

/// A client for the service that was named.
pub fn connect(whole: &GlobalArguments) -> Result<Client, Error> {
    let settings = settings()?;
    let url = whole.url.clone().or(settings.url).ok_or_else(|| {
        Error::Usage(
            "no service address: give --url, or set PENNINE_URL, or url in client.toml".to_owned(),
        )
    })?;
    let token = whole.token.clone().or(settings.token).ok_or_else(|| {
        Error::Usage("no token: set PENNINE_TOKEN, or token in client.toml. The administrator's token is in admin.token in the service's data folder".to_owned())
    })?;
    let route = Route::with_ca(whole.ca.as_deref().or(settings.ca.as_deref()))?;
    Ok(Client::new(&url, &token, &route)?)
}
