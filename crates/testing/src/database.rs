//! A database for each test, made from a template that has the schema already.

use pennine_store::Store;
use pennine_store::connect::PoolSizes;
use std::sync::atomic::{AtomicU32, Ordering};
use tokio::sync::OnceCell;
use tokio_postgres::NoTls;

static TEMPLATE: OnceCell<()> = OnceCell::const_new();
static NUMBER: AtomicU32 = AtomicU32::new(0);

/// The role of services: it owns nothing, as where an installation keeps its audit log from being changed.
const SERVICE: &str = "pennine_test_service";

/// A database that is dropped with the value.
pub struct Database {
    name: String,
    /// Its address, as the owner of its tables.
    pub url: String,
    /// Its address, as the service's role.
    pub service_url: String,
}

/// The cluster's address. `./check` starts it; by hand: scripts/cluster up target/test-postgres.
fn cluster() -> String {
    if let Ok(url) = std::env::var("PENNINE_TEST_POSTGRES") {
        return url;
    }
    let file = concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../target/test-postgres/url"
    );
    std::fs::read_to_string(file)
        .expect("no test cluster: run scripts/cluster up target/test-postgres fsync=off")
        .trim()
        .to_owned()
}

fn named(name: &str) -> String {
    let cluster = cluster();
    let (server, _) = cluster
        .rsplit_once('/')
        .expect("an address with a database");
    format!("{server}/{name}")
}

async fn run(statements: &[&str]) {
    let (client, connection) = tokio_postgres::connect(&cluster(), NoTls)
        .await
        .expect("the test cluster answers");
    let driver = tokio::spawn(connection);
    for statement in statements {
        client
            .execute(*statement, &[])
            .await
            .unwrap_or_else(|e| panic!("{statement}: {e:?}"));
    }
    drop(client);
    let _ = driver.await;
}

/// The address of a database, as the service's role.
fn as_service(url: &str) -> String {
    let (_, server) = url.rsplit_once('@').expect("an address with a role");
    format!("postgres://{SERVICE}:{SERVICE}@{server}")
}

async fn template() {
    // Several test programs may be the first at once.
    let add_role = format!(
        "do $$ begin
           perform pg_advisory_xact_lock(7117);
           if not exists (select from pg_roles where rolname = '{SERVICE}') then
             create role {SERVICE} login password '{SERVICE}';
           end if;
         end $$"
    );
    run(&[&add_role]).await;
    let name = format!("template_{}", std::process::id());
    run(&[
        &format!("drop database if exists {name}"),
        &format!("create database {name}"),
    ])
    .await;
    let store = Store::open(&named(&name), &PoolSizes::default()).expect("a store");
    store.migrate().await.expect("the migrations run");
    store
        .permit_service(SERVICE)
        .await
        .expect("the role is there");
    drop(store);
    // The pool's connections close in the background; a template must have none.
    run(&[
        &format!("alter database {name} allow_connections false"),
        &format!("select pg_terminate_backend(pid) from pg_stat_activity where datname = '{name}'"),
    ])
    .await;
}

impl Database {
    /// A fresh database with the schema in it.
    pub async fn fresh() -> Database {
        TEMPLATE.get_or_init(template).await;
        let process = std::process::id();
        let name = format!("test_{process}_{}", NUMBER.fetch_add(1, Ordering::Relaxed));
        // One at a time: two copies of one template at once are refused.
        static COPY: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());
        let _one = COPY.lock().await;
        run(&[&format!(
            "create database {name} template template_{process}"
        )])
        .await;
        let url = named(&name);
        Database {
            service_url: as_service(&url),
            url,
            name,
        }
    }

    /// A connection of the test's own.
    pub async fn connect(&self) -> tokio_postgres::Client {
        let (client, connection) = tokio_postgres::connect(&self.url, NoTls)
            .await
            .expect("the database answers");
        tokio::spawn(connection);
        client
    }

    /// The first column of what a query finds, texts.
    pub async fn texts(&self, query: &str) -> Vec<String> {
        let rows = self.connect().await.query(query, &[]).await;
        let rows = rows.expect("the query runs");
        rows.iter().map(|row| row.get(0)).collect()
    }

    /// Refuses new connections and ends open ones, as if the database were gone.
    pub async fn take_away(&self) {
        let name = &self.name;
        run(&[
            &format!("alter database {name} allow_connections false"),
            &format!(
                "select pg_terminate_backend(pid) from pg_stat_activity where datname = '{name}'"
            ),
        ])
        .await;
    }

    /// Takes connections again.
    pub async fn give_back(&self) {
        run(&[&format!(
            "alter database {} allow_connections true",
            self.name
        )])
        .await;
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        let drop = format!("drop database if exists {} with (force)", self.name);
        // Its own thread and runtime: the test's may be on its way out.
        let _ = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread()
                .enable_all()
                .build();
            if let Ok(runtime) = runtime {
                runtime.block_on(async {
                    if let Ok((client, connection)) =
                        tokio_postgres::connect(&cluster(), NoTls).await
                    {
                        let driver = tokio::spawn(connection);
                        let _ = client.execute(&drop, &[]).await;
                        std::mem::drop(client);
                        let _ = driver.await;
                    }
                });
            }
        })
        .join();
    }
}
