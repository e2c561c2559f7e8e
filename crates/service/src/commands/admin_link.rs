//! `pennined admin-link`.

use crate::config::Config;
use crate::installation::{administrator_link, wait_for_database};
use crate::validation;
use pennine_store::Store;

/// Makes a one-time link with which an administrator signs in, where everybody is locked out, and prints it.
pub async fn run(config: Config, name: String) -> anyhow::Result<()> {
    let name = name.to_lowercase();
    validation::check_name("name", &name).map_err(|error| anyhow::anyhow!("{error}"))?;
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let now = wait_for_database(&store).await?;
    let mut connection = store.tasks().await?;
    let url = config.public_url(config.listen);
    let link = administrator_link(&mut connection, &url, &name, now).await?;
    println!(
        "Within 24 h, open this link to set the password of {name}. It works once, and removes a second factor:\n\n  {link}\n"
    );
    Ok(())
}
