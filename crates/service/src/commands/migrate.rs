//! `pennined migrate`.

use crate::config::Config;
use crate::installation::wait_for_database;
use anyhow::Context;
use pennine_store::Store;
use pennine_store::address::Address;
use pennine_store::connect::PoolSizes;

/// Brings the schema up to date as its owner, and permits the service's role to use it.
///
/// # Errors
/// Where the database does not permit it.
pub async fn run(config: Config) -> anyhow::Result<()> {
    let url = match config.database_owner_url.as_str() {
        "" => &config.database_url,
        url => url,
    };
    let one = PoolSizes {
        people: 1,
        analysis: 1,
        runners: 1,
        tasks: 1,
    };
    let owner = Store::open(url, &one)?;
    wait_for_database(&owner).await?;
    println!("The schema is up to date.");
    let service = Address::parse(&config.database_url)?;
    let role = service.role().context("database_url names no role")?;
    if owner.address().role() == Some(role) {
        println!(
            "The role {role} owns it. To keep the audit log from being changed by the service, give the owner's address in \
             database_owner_url, and another role in database_url."
        );
        return Ok(());
    }
    owner
        .permit_service(role)
        .await
        .with_context(|| format!("the role {role} cannot be permitted to use the schema"))?;
    println!("The role {role} may use it, and may add to the audit log but not change it.");
    Ok(())
}
