//! Containers of an engine that speaks the Engine API on a socket (<https://docs.docker.com/reference/api/engine/>): each
//! machine is a container, made from the pool's image, in which `pennine-runner` runs.
//!
//! The container carries the installation's and the machine's id as labels, and its name holds the machine's: the engine
//! itself refuses a second one of that name, so that an order which is repeated makes none.

use crate::{
    CONSOLE_BYTES, Fault, Offer, Order, PlacedOrder, SuppliedMachine, SuppliedState, Supplier, tail,
};
use bollard::errors::Error;
use bollard::models::{
    ContainerCreateBody, ContainerSummaryStateEnum, HostConfig, ResourcesUlimits,
};
use bollard::query_parameters::{
    CreateContainerOptionsBuilder, ListContainersOptionsBuilder, LogsOptionsBuilder,
    RemoveContainerOptionsBuilder, StartContainerOptions,
};
use bollard::{API_DEFAULT_VERSION, Docker};
use futures::future::BoxFuture;
use futures::{FutureExt, TryStreamExt};
use pennine_core::id::MachineId;
use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::time::Duration;
use uuid::Uuid;

/// How long the engine may take to answer, in seconds.
const PATIENCE: u64 = 120;
/// Its machines are up in seconds.
const BOOT_LIMIT: Duration = Duration::from_secs(120);
/// How often, and after what pause, the containers are listed again where one is in a state that the list's types do not
/// have: engines pass through some of their own for a moment while they stop a container.
const LIST_RETRIES: u32 = 10;
const LIST_PAUSE: Duration = Duration::from_millis(50);
const INSTALLATION: &str = "pennine.installation";
const MACHINE: &str = "pennine.machine";
/// Where the runner's program stands in its container.
const PROGRAM: &str = "/pennine-runner";

/// What a pool may set of its own containers. The rest could give a job the engine's host, and is an administrator's.
const OF_POOLS: [&str; 2] = ["memory", "cpus"];

/// What people can set of it; a pool's own `memory` and `cpus` come before.
pub const SETTINGS: [(&str, &str); 9] = [
    (
        "socket",
        "the engine's socket, /run/podman/podman.sock for one",
    ),
    ("image", "the default image"),
    (
        "network",
        "the network of containers: bridge, host, or a name [default: the engine's]",
    ),
    ("runtime", "the OCI runtime [default: the engine's]"),
    (
        "memory",
        "memory of a container in bytes [default: no limit]",
    ),
    (
        "cpus",
        "processors of a container, such as 1.5 [default: no limit]",
    ),
    (
        "binds",
        "host folders in the container, separated by commas: /srv/cache:/cache:ro",
    ),
    (
        "nofile",
        "the most open files in a container, if the engine's default limit is not available",
    ),
    (
        "nproc",
        "the most processes in a container, if the engine's default limit is not available",
    ),
];

/// A container engine.
pub struct Engine {
    engine: Docker,
    socket: String,
    installation: Uuid,
    /// The runner's program on this host, where the container gets it from; none when its image holds it.
    program: Option<PathBuf>,
    settings: BTreeMap<String, String>,
}

impl Engine {
    /// The engine that the settings name. `program` is put into each container, unless that is elsewhere.
    pub fn new(
        installation: Uuid,
        program: Option<PathBuf>,
        settings: BTreeMap<String, String>,
    ) -> Result<Engine, String> {
        let socket = settings.get("socket").cloned().unwrap_or_default();
        if !socket.starts_with('/') {
            return Err("socket must be the path of the engine's socket".to_owned());
        }
        // Whether a server listens there is found out with the first request.
        let engine = Docker::connect_with_unix(&socket, PATIENCE, API_DEFAULT_VERSION)
            .map_err(|error| format!("{socket}: {error}"))?;
        let engine = Engine {
            engine,
            socket,
            installation,
            program,
            settings,
        };
        engine.host_config(&BTreeMap::new())?;
        Ok(engine)
    }

    fn name(machine: MachineId) -> String {
        format!("pennine-{machine}")
    }

    /// How a container stands on its host.
    fn host_config(&self, own: &BTreeMap<String, String>) -> Result<HostConfig, String> {
        let set = |name: &str| {
            let own = own.get(name).filter(|_| OF_POOLS.contains(&name));
            own.or_else(|| self.settings.get(name)).cloned()
        };
        let number = |name: &str| -> Result<Option<i64>, String> {
            let Some(text) = set(name) else {
                return Ok(None);
            };
            let wrong = || format!("{name} is a number, not {text:?}");
            text.parse().map(Some).map_err(|_| wrong())
        };
        let cpus = match set("cpus") {
            None => None,
            Some(text) => match text.parse::<f64>() {
                Ok(cpus) if cpus > 0.0 && cpus < 1e4 => Some((cpus * 1e9) as i64),
                _ => return Err(format!("cpus is a number of processors, not {text:?}")),
            },
        };
        let mut binds: Vec<String> = set("binds")
            .unwrap_or_default()
            .split(',')
            .map(str::trim)
            .filter(|bind| !bind.is_empty())
            .map(str::to_owned)
            .collect();
        if let Some(program) = &self.program {
            binds.push(format!("{}:{PROGRAM}:ro", program.display()));
        }
        let mut ulimits = Vec::new();
        for name in ["nofile", "nproc"] {
            if let Some(most) = number(name)? {
                ulimits.push(ResourcesUlimits {
                    name: Some(name.to_owned()),
                    soft: Some(most),
                    hard: Some(most),
                });
            }
        }
        Ok(HostConfig {
            binds: Some(binds),
            network_mode: set("network"),
            runtime: set("runtime"),
            memory: number("memory")?,
            nano_cpus: cpus,
            ulimits: (!ulimits.is_empty()).then_some(ulimits),
            ..HostConfig::default()
        })
    }

    async fn make(&self, order: &Order) -> Result<PlacedOrder, Fault> {
        let name = Self::name(order.machine);
        let image = match order.image.as_str() {
            "" => self.settings.get("image").cloned().unwrap_or_default(),
            image => image.to_owned(),
        };
        if image.is_empty() {
            return Err(Fault::Refused(
                "no image is set in the pool or the supplier".to_owned(),
            ));
        }
        let host_config = self.host_config(&order.settings).map_err(Fault::Refused)?;
        let environment = order
            .environment()
            .iter()
            .map(|(name, value)| format!("{name}={value}"))
            .collect();
        let mut command = vec![if self.program.is_some() {
            PROGRAM.to_owned()
        } else {
            "pennine-runner".to_owned()
        }];
        command.extend(order.arguments());
        command.extend(["--dir".to_owned(), "/var/lib/pennine-runner".to_owned()]);
        let labels = HashMap::from([
            (INSTALLATION.to_owned(), self.installation.to_string()),
            (MACHINE.to_owned(), order.machine.to_string()),
        ]);
        let body = ContainerCreateBody {
            image: Some(image.clone()),
            entrypoint: Some(command),
            env: Some(environment),
            labels: Some(labels),
            host_config: Some(host_config),
            ..ContainerCreateBody::default()
        };
        let options = CreateContainerOptionsBuilder::default().name(&name).build();
        match self.engine.create_container(Some(options), body).await {
            Ok(_) => {}
            // The order is repeated: it is there.
            Err(Error::DockerResponseServerError {
                status_code: 409, ..
            }) => {}
            // Some engines answer otherwise to a name that is taken.
            Err(Error::DockerResponseServerError { message, .. })
                if message.contains("already in use") => {}
            Err(Error::DockerResponseServerError {
                status_code: 404, ..
            }) => {
                return Err(Fault::Refused(format!("unknown image {image:?}")));
            }
            Err(error) => return Err(self.fault(error)),
        }
        let started = self
            .engine
            .start_container(&name, None::<StartContainerOptions>)
            .await;
        match started {
            Ok(()) => {}
            // It runs already.
            Err(Error::DockerResponseServerError {
                status_code: 304, ..
            }) => {}
            Err(Error::DockerResponseServerError {
                status_code,
                message,
            }) if status_code < 600 => {
                // What cannot be started is not left lying.
                self.take_away(order.machine).await?;
                return Err(Fault::Refused(format!(
                    "the container does not start: {message}"
                )));
            }
            Err(error) => return Err(self.fault(error)),
        }
        Ok(PlacedOrder {
            reference: name,
            zone: String::new(),
        })
    }

    async fn take_away(&self, machine: MachineId) -> Result<(), Fault> {
        let options = RemoveContainerOptionsBuilder::default()
            .force(true)
            .v(true)
            .build();
        match self
            .engine
            .remove_container(&Self::name(machine), Some(options))
            .await
        {
            Ok(())
            | Err(Error::DockerResponseServerError {
                status_code: 404, ..
            }) => Ok(()),
            Err(error) => Err(self.fault(error)),
        }
    }

    async fn all(&self) -> Result<Vec<SuppliedMachine>, Fault> {
        let label = format!("{INSTALLATION}={}", self.installation);
        let filters = HashMap::from([("label", vec![label.as_str()])]);
        let options = ListContainersOptionsBuilder::default()
            .all(true)
            .filters(&filters)
            .build();
        let mut listed = self.engine.list_containers(Some(options.clone())).await;
        for _ in 0..LIST_RETRIES {
            if !matches!(listed, Err(Error::JsonDataError { .. })) {
                break;
            }
            tokio::time::sleep(LIST_PAUSE).await;
            listed = self.engine.list_containers(Some(options.clone())).await;
        }
        let listed = listed.map_err(|error| self.fault(error))?;
        let found = listed.into_iter().filter_map(|one| {
            let labels = one.labels?;
            let machine: MachineId = labels.get(MACHINE)?.parse().ok()?;
            use ContainerSummaryStateEnum as State;
            let stage = match one.state {
                Some(State::CREATED | State::RESTARTING) => SuppliedState::Starting,
                Some(State::EXITED | State::DEAD | State::REMOVING | State::STOPPING) => {
                    SuppliedState::Stopped
                }
                _ => SuppliedState::Running,
            };
            Some(SuppliedMachine {
                machine,
                reference: Self::name(machine),
                zone: String::new(),
                stage,
                reclaimed: false,
                message: one.status.unwrap_or_default(),
            })
        });
        Ok(found.collect())
    }

    async fn printed(&self, machine: MachineId) -> Result<String, Fault> {
        let options = LogsOptionsBuilder::default()
            .stdout(true)
            .stderr(true)
            .tail("200")
            .build();
        let lines = self.engine.logs(&Self::name(machine), Some(options));
        let lines: Result<Vec<String>, Error> = lines
            .map_ok(|line| String::from_utf8_lossy(&line.into_bytes()).into_owned())
            .try_collect()
            .await;
        match lines {
            Ok(lines) => Ok(tail(&lines.concat(), CONSOLE_BYTES).to_owned()),
            Err(Error::DockerResponseServerError {
                status_code: 404, ..
            }) => Ok(String::new()),
            Err(error) => Err(self.fault(error)),
        }
    }

    async fn able(&self) -> Result<Offer, Fault> {
        let info = self
            .engine
            .info()
            .await
            .map_err(|error| self.fault(error))?;
        let message = format!(
            "{} {}: {} processors",
            info.operating_system.unwrap_or_default(),
            info.server_version.unwrap_or_default(),
            info.ncpu.unwrap_or_default()
        );
        Ok(Offer {
            boot_limit_us: Some(BOOT_LIMIT.into()),
            message,
            ..Offer::default()
        })
    }

    fn fault(&self, error: Error) -> Fault {
        match error {
            Error::DockerResponseServerError {
                status_code,
                message,
            } if (400..500).contains(&status_code) => Fault::Refused(message),
            Error::DockerResponseServerError { message, .. } => Fault::Unclear(message),
            Error::SocketNotFoundError(_) | Error::HyperLegacyError { .. } => {
                Fault::Unavailable(format!("nothing listens at {}", self.socket))
            }
            other => Fault::Unclear(other.to_string()),
        }
    }
}

impl Supplier for Engine {
    fn order<'a>(&'a self, order: &'a Order) -> BoxFuture<'a, Result<PlacedOrder, Fault>> {
        self.make(order).boxed()
    }

    fn remove(&self, machine: MachineId) -> BoxFuture<'_, Result<(), Fault>> {
        self.take_away(machine).boxed()
    }

    fn list(&self) -> BoxFuture<'_, Result<Vec<SuppliedMachine>, Fault>> {
        self.all().boxed()
    }

    fn console(&self, machine: MachineId) -> BoxFuture<'_, Result<String, Fault>> {
        self.printed(machine).boxed()
    }

    fn offer(&self) -> BoxFuture<'_, Result<Offer, Fault>> {
        self.able().boxed()
    }

    fn list_every(&self) -> Duration {
        Duration::from_secs(5)
    }
}
