//! The schema: brought up to date by its owner, and used by a role that may be another.

use crate::connect::{Connection, Store, establish, root_cause};
use crate::error::{Error, Result};
use crate::statement::sql;
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Bool, Text};
use diesel_async::{AsyncMigrationHarness, RunQueryDsl};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

/// The migrations that this program knows.
pub const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

/// Any number; the same in every replica, so that only one migrates at a time.
const MIGRATION_LOCK: i64 = 0x70_65_6e_6e;

impl Store {
    /// Brings the schema up to what this program knows, one replica at a time. Returns how many migrations ran.
    ///
    /// # Errors
    /// [`Error::Newer`] where the schema is; [`Error::NotOwner`] where it is older and the role does not own it.
    pub async fn migrate(&self) -> Result<usize> {
        let mut connection = establish(self.address())
            .await
            .map_err(|error| Error::Unreachable(root_cause(&error)))?;
        diesel::sql_query("select pg_advisory_lock($1)")
            .bind::<BigInt, _>(MIGRATION_LOCK)
            .execute(&mut connection)
            .await?;
        let refuse = |e: Box<dyn std::error::Error + Send + Sync>| Error::Refused(e.to_string());
        let known = diesel::migration::MigrationSource::<diesel::pg::Pg>::migrations(&MIGRATIONS)
            .map_err(refuse)?
            .iter()
            .map(|m| m.name().version().to_string())
            .collect::<Vec<_>>();
        if let Some(present) = PresentSchema::read(&mut connection).await? {
            let newer = present.versions.iter().find(|one| !known.contains(one));
            if let Some(newer) = newer {
                return Err(Error::Newer(newer.clone()));
            }
            if known.iter().all(|one| present.versions.contains(one)) {
                return Ok(0);
            }
            if !present.is_own {
                return Err(Error::NotOwner);
            }
        }
        // The harness blocks on its queries, so it must not stand on a thread that others wait for.
        let done = tokio::task::spawn_blocking(move || -> Result<usize> {
            let mut harness = AsyncMigrationHarness::new(connection);
            let run = harness.run_pending_migrations(MIGRATIONS).map_err(refuse)?;
            Ok(run.len())
        });
        done.await.map_err(|e| Error::Refused(e.to_string()))?
    }

    /// Permits a role to run the service, as the owner of the schema.
    pub async fn permit_service(&self, role: &str) -> Result<()> {
        let mut connection = self.tasks().await?;
        sql!("select permit_service(:role)"; role: Text = role)
            .execute(&mut connection)
            .await?;
        Ok(())
    }
}

/// The schema that is there.
struct PresentSchema {
    /// The migrations that made it.
    versions: Vec<String>,
    /// Whether the role of the connection may change it.
    is_own: bool,
}

impl PresentSchema {
    async fn read(connection: &mut Connection) -> Result<Option<PresentSchema>> {
        #[derive(QueryableByName)]
        struct Owner {
            #[diesel(sql_type = Bool)]
            is_own: bool,
        }
        #[derive(QueryableByName)]
        struct Version {
            #[diesel(sql_type = Text)]
            version: String,
        }
        let owner: Vec<Owner> = sql!(
            "select pg_has_role(c.relowner, 'usage') as is_own from pg_class c
             where c.oid = to_regclass('__diesel_schema_migrations')"
        )
        .load(connection)
        .await?;
        let Some(owner) = owner.into_iter().next() else {
            return Ok(None);
        };
        // Not among the statements that are prepared in tests: the table is the migrations' own.
        let versions: Vec<Version> =
            diesel::sql_query("select version from __diesel_schema_migrations")
                .load(connection)
                .await?;
        Ok(Some(PresentSchema {
            versions: versions.into_iter().map(|one| one.version).collect(),
            is_own: owner.is_own,
        }))
    }
}
