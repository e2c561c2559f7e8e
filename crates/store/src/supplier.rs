//! Suppliers: what makes machines, as people set it.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::statement;
use crate::types::{Db, Json};
use diesel::sql_types::{BigInt, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::id::SupplierId;
use pennine_core::time::{Micros, Moment};
use std::collections::BTreeMap;

/// A supplier.
#[derive(Clone, Debug, QueryableByName)]
pub struct Supplier {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<SupplierId>,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub kind: String,
    #[diesel(sql_type = Jsonb)]
    pub settings: Json<BTreeMap<String, String>>,
    /// Locked.
    #[diesel(sql_type = Jsonb)]
    pub secrets: Json<BTreeMap<String, String>>,
    #[diesel(sql_type = Nullable<Integer>)]
    pub quota: Option<i32>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub boot_limit_us: Option<Db<Micros>>,
    /// What it said that it can do.
    #[diesel(sql_type = Nullable<Jsonb>)]
    pub offer: Option<serde_json::Value>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub offered_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub trouble: Option<String>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub trouble_since: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub retry_at: Option<Db<Moment>>,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
}

/// Every supplier, by name.
pub async fn list(connection: &mut Connection) -> Result<Vec<Supplier>> {
    Ok(statement("select * from supplier order by name")
        .load(connection)
        .await?)
}

/// The supplier with this name.
pub async fn find(connection: &mut Connection, name: &str) -> Result<Option<Supplier>> {
    Ok(statement("select * from supplier where name = $1")
        .bind::<Text, _>(name)
        .get_result(connection)
        .await
        .optional()?)
}

/// Adds a supplier, or changes the one with this id.
pub async fn write(connection: &mut Connection, one: &Supplier, at: Moment) -> Result<()> {
    statement(
        "with s as (
           insert into supplier (id, name, kind, settings, secrets, quota, boot_limit_us, created_at, created_by)
           values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
           on conflict (id) do update set settings = excluded.settings, secrets = excluded.secrets,
             quota = excluded.quota, boot_limit_us = excluded.boot_limit_us
           returning id)
         insert into outbox (at, kind, subject, body) select $10, 'supplier.changed', id, '{}' from s",
    )
    .bind::<SqlUuid, _>(one.id)
    .bind::<Text, _>(&one.name)
    .bind::<Text, _>(&one.kind)
    .bind::<Jsonb, _>(one.settings.clone())
    .bind::<Jsonb, _>(one.secrets.clone())
    .bind::<Nullable<Integer>, _>(one.quota)
    .bind::<Nullable<BigInt>, _>(one.boot_limit_us)
    .bind::<Timestamptz, _>(one.created_at)
    .bind::<Text, _>(&one.created_by)
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    Ok(())
}

/// Removes a supplier. False when machines of it are on record still: their history names it.
pub async fn remove(connection: &mut Connection, id: SupplierId, at: Moment) -> Result<bool> {
    let removed = statement(
        "with t as (delete from trial where supplier_id = $1),
         s as (delete from supplier where id = $2 and not exists (select from machine where supplier_id = $3) returning id)
         insert into outbox (at, kind, subject, body) select $4, 'supplier.changed', id, '{}' from s",
    )
    .bind::<SqlUuid, _>(Db(id))
    .bind::<SqlUuid, _>(Db(id))
    .bind::<SqlUuid, _>(Db(id))
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    Ok(removed == 1)
}

/// Records what a supplier says that it can do.
pub async fn set_offer(
    connection: &mut Connection,
    id: SupplierId,
    offer: &serde_json::Value,
    at: Moment,
) -> Result<()> {
    statement(
        "with s as (
           update supplier set offer = $1, offered_at = $2 where id = $3 returning id)
         insert into outbox (at, kind, subject, body) select $4, 'supplier.changed', id, '{}' from s",
    )
    .bind::<Jsonb, _>(offer)
    .bind::<Timestamptz, _>(Db(at))
    .bind::<SqlUuid, _>(Db(id))
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    Ok(())
}

/// What is wrong with a supplier: what, since when, and when it is tried again.
pub type Trouble = (String, Moment, Moment);

/// Records what is wrong with a supplier, or that nothing is any more.
pub async fn set_trouble(
    connection: &mut Connection,
    id: SupplierId,
    trouble: Option<&Trouble>,
    at: Moment,
) -> Result<()> {
    statement(
        "with s as (
           update supplier set trouble = $1, trouble_since = $2, retry_at = $3 where id = $4 returning id)
         insert into outbox (at, kind, subject, body) select $5, 'supplier.trouble', id, '{}' from s",
    )
    .bind::<Nullable<Text>, _>(trouble.map(|(said, _, _)| said.clone()))
    .bind::<Nullable<Timestamptz>, _>(trouble.map(|(_, since, _)| Db(*since)))
    .bind::<Nullable<Timestamptz>, _>(trouble.map(|(_, _, until)| Db(*until)))
    .bind::<SqlUuid, _>(Db(id))
    .bind::<Timestamptz, _>(Db(at))
    .execute(connection)
    .await?;
    Ok(())
}
