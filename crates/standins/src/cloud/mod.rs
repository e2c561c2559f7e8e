//! A cloud, small enough to be read in one go.
//!
//! | request | what it does |
//! | --- | --- |
//! | `POST /machines` | makes a machine (an [`Order`]); repeated, it is the same one |
//! | `GET /machines?installation=ID` | what there is of an installation |
//! | `DELETE /machines/ID` | removes one; well done when there is none |
//! | `GET /machines/ID/console` | what it printed |
//! | `POST /machines/ID/reclaim?notice=SECONDS` | takes it back after a notice |
//! | `GET /offer` | quota, sizes with prices, images, zones |
//! | `GET /faults`, `PATCH /faults` | what goes wrong ([`Faults`]), now and from now on |

mod faults;
mod machine;

pub use faults::Faults;

use axum::extract::{Path, Query, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::{delete, get, post};
use axum::{Json, Router};
use machine::Machine;
use pennine_core::capacity::Offer;
use pennine_core::dispatch::Price;
use pennine_core::id::MachineId;
use pennine_suppliers::{Order, PlacedOrder, SuppliedMachine};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use serde::Deserialize;
use serde_json::json;
use std::collections::{BTreeMap, VecDeque};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::net::TcpListener;
use uuid::Uuid;

/// Sizes with what an hour costs, in millionths.
const SIZES: [(&str, u64); 3] = [
    ("small", 120_000),
    ("medium", 480_000),
    ("large", 1_920_000),
];
const IMAGES: [&str; 2] = ["debian-12", "debian-12-tools"];
const ZONES: [&str; 3] = ["north", "south", "isle"];
/// How much longer a slow boot takes.
const SLOW: f64 = 10.0;

/// How it is set up.
#[derive(Clone, Debug)]
pub struct Plan {
    /// The folder of its machines.
    pub dir: PathBuf,
    /// The runner's program.
    pub runner: PathBuf,
    /// What it wants to be shown; nothing when empty.
    pub key: String,
    pub quota: u32,
    /// Seconds that a machine takes to come up: the shortest and the longest.
    pub boot_s: (f64, f64),
    /// From which all chance is drawn.
    pub seed: u64,
    pub faults: Faults,
}

impl Plan {
    /// A cloud in which everything works, and is up in a moment.
    pub fn new(dir: PathBuf, runner: PathBuf) -> Plan {
        Plan {
            dir,
            runner,
            key: String::new(),
            quota: 20,
            boot_s: (0.0, 0.0),
            seed: 1,
            faults: Faults::default(),
        }
    }
}

struct Inner {
    plan: Plan,
    chance: SmallRng,
    machines: BTreeMap<MachineId, Machine>,
    ordered: usize,
    /// When it was asked in the last second.
    asked: VecDeque<Instant>,
    /// Every machine that ever was, so that tests can count them.
    ever: Vec<MachineId>,
}

#[derive(Clone)]
struct Cloud(Arc<Mutex<Inner>>);

impl Cloud {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Something it will not do, or cannot.
fn refusal(status: StatusCode, error: &str, message: impl Into<String>) -> Response {
    let body = json!({"error": error, "message": message.into()});
    (status, Json(body)).into_response()
}

/// Runs the cloud until told to stop; its machines end with it.
pub async fn serve(
    listener: TcpListener,
    plan: Plan,
    stop: impl Future<Output = ()> + Send + 'static,
) -> anyhow::Result<()> {
    std::fs::create_dir_all(&plan.dir)?;
    tracing::info!(address = %listener.local_addr()?, "the stand-in cloud is there");
    let cloud = Cloud(Arc::new(Mutex::new(Inner {
        chance: SmallRng::seed_from_u64(plan.seed),
        plan,
        machines: BTreeMap::new(),
        ordered: 0,
        asked: VecDeque::new(),
        ever: Vec::new(),
    })));
    let guarded = Router::new()
        .route("/machines", post(order).get(list))
        .route("/machines/{machine}", delete(remove))
        .route("/machines/{machine}/console", get(console))
        .route("/offer", get(offer))
        .layer(middleware::from_fn_with_state(cloud.clone(), guard));
    let router = guarded
        .route("/machines/{machine}/reclaim", post(reclaim))
        .route("/faults", get(show_faults).patch(set_faults))
        .route("/ever", get(ever))
        .with_state(cloud.clone());
    let clock = tokio::spawn(reclaim_at_times(cloud.clone()));
    axum::serve(listener, router)
        .with_graceful_shutdown(stop)
        .await?;
    clock.abort();
    let machines = std::mem::take(&mut cloud.lock().machines);
    for (_, machine) in machines {
        machine.end().await;
    }
    Ok(())
}

/// What stands before every request of a supplier: the key, the rate, the faults.
async fn guard(State(cloud): State<Cloud>, request: Request, next: Next) -> Response {
    let (delay, refusal) = {
        let mut inner = cloud.lock();
        let shown = request
            .headers()
            .get(header::AUTHORIZATION)
            .and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "))
            .unwrap_or_default();
        let faults = inner.plan.faults.clone();
        let refusal = if !inner.plan.key.is_empty() && shown != inner.plan.key {
            Some(refusal(
                StatusCode::UNAUTHORIZED,
                "key",
                "the key is not known here",
            ))
        } else if faults.down {
            Some(refusal(
                StatusCode::SERVICE_UNAVAILABLE,
                "down",
                "the cloud is down for repairs",
            ))
        } else if inner.is_rate_limited() {
            let answer = refusal(StatusCode::TOO_MANY_REQUESTS, "rate", "too many requests");
            let mut headers = HeaderMap::new();
            headers.insert(header::RETRY_AFTER, header::HeaderValue::from_static("1"));
            Some((headers, answer).into_response())
        } else {
            None
        };
        (faults.answer_after_s, refusal)
    };
    let answer = match refusal {
        Some(refusal) => refusal,
        None => next.run(request).await,
    };
    if delay > 0.0 {
        tokio::time::sleep(Duration::from_secs_f64(delay.min(3600.0))).await;
    }
    answer
}

impl Inner {
    /// Whether it was asked more often in the last second than it likes.
    fn is_rate_limited(&mut self) -> bool {
        let Some(most) = self.plan.faults.requests_a_second else {
            return false;
        };
        let now = Instant::now();
        while self
            .asked
            .front()
            .is_some_and(|at| now.duration_since(*at) > Duration::from_secs(1))
        {
            self.asked.pop_front();
        }
        if self.asked.len() >= most as usize {
            return true;
        }
        self.asked.push_back(now);
        false
    }

    fn chance_of(&mut self, fraction: f64) -> bool {
        fraction > 0.0 && self.chance.random_bool(fraction.clamp(0.0, 1.0))
    }

    fn take(&mut self, order: &Order) -> Result<PlacedOrder, Box<Response>> {
        if let Some(known) = self.machines.get(&order.machine) {
            return Ok(known.placed());
        }
        let refused = |message: String| {
            let refusal = refusal(StatusCode::UNPROCESSABLE_ENTITY, "refused", message);
            Err(Box::new(refusal))
        };
        let size = match order.size.as_str() {
            "" => "small",
            size => size,
        };
        if !SIZES.iter().any(|(known, _)| *known == size) {
            let sizes: Vec<&str> = SIZES.iter().map(|(size, _)| *size).collect();
            return refused(format!(
                "unknown size {size:?}; known: {}",
                sizes.join(", ")
            ));
        }
        if !order.image.is_empty() && !IMAGES.contains(&order.image.as_str()) {
            let images = IMAGES.join(", ");
            return refused(format!("unknown image {:?}; known: {images}", order.image));
        }
        if self.plan.faults.out_of_stock.iter().any(|out| out == size) {
            return refused(format!("machines of the size {size} are out of stock"));
        }
        let there = u32::try_from(self.machines.len()).unwrap_or(u32::MAX);
        if there >= self.plan.quota {
            let body = json!({
                "error": "quota",
                "message": format!("the quota of {} machines is reached", self.plan.quota),
                "quota": self.plan.quota,
            });
            return Err(Box::new((StatusCode::CONFLICT, Json(body)).into_response()));
        }
        if self.chance_of(self.plan.faults.orders_fail) {
            let message = "no host had room for it";
            return Err(Box::new(refusal(
                StatusCode::SERVICE_UNAVAILABLE,
                "host",
                message,
            )));
        }
        self.ordered += 1;
        let (from, until) = self.plan.boot_s;
        let mut boot = if until > from {
            self.chance.random_range(from..until)
        } else {
            from
        };
        if self.chance_of(self.plan.faults.boots_slow) {
            boot *= SLOW;
        }
        let zone = match order.settings.get("zone") {
            Some(zone) => zone.clone(),
            None => ZONES
                .get(self.ordered % ZONES.len())
                .copied()
                .unwrap_or_default()
                .to_owned(),
        };
        let fails = self.chance_of(self.plan.faults.boots_fail);
        let machine = Machine::begin(
            order,
            format!("sc-{:05}", self.ordered),
            zone,
            Duration::from_secs_f64(boot),
            fails,
            &self.plan,
        );
        let placed = machine.placed();
        self.machines.insert(order.machine, machine);
        self.ever.push(order.machine);
        Ok(placed)
    }
}

async fn order(State(cloud): State<Cloud>, Json(order): Json<Order>) -> Response {
    let (answer, lost) = {
        let mut inner = cloud.lock();
        let answer = inner.take(&order);
        let fraction = inner.plan.faults.answers_lost;
        (answer, inner.chance_of(fraction))
    };
    if lost {
        // It was done, or not; the caller does not learn which.
        return refusal(StatusCode::BAD_GATEWAY, "gateway", "the answer was lost");
    }
    match answer {
        Ok(placed) => (StatusCode::CREATED, Json(placed)).into_response(),
        Err(refusal) => *refusal,
    }
}

#[derive(Deserialize)]
struct Whose {
    installation: Uuid,
}

async fn list(
    State(cloud): State<Cloud>,
    Query(whose): Query<Whose>,
) -> Json<Vec<SuppliedMachine>> {
    let inner = cloud.lock();
    let mine = inner
        .machines
        .iter()
        .filter(|(_, machine)| machine.installation() == whose.installation);
    Json(mine.map(|(id, machine)| machine.found(*id)).collect())
}

async fn remove(State(cloud): State<Cloud>, Path(id): Path<MachineId>) -> Json<serde_json::Value> {
    let removed = cloud.lock().machines.remove(&id);
    if let Some(machine) = removed {
        machine.end().await;
    }
    Json(json!({}))
}

async fn console(State(cloud): State<Cloud>, Path(id): Path<MachineId>) -> Response {
    let file = cloud.lock().machines.get(&id).map(Machine::console);
    let text = file.and_then(|file| std::fs::read(file).ok());
    let text = String::from_utf8_lossy(&text.unwrap_or_default()).into_owned();
    Json(json!({"text": text})).into_response()
}

async fn offer(State(cloud): State<Cloud>) -> Json<Offer> {
    let inner = cloud.lock();
    let longest = Duration::from_secs_f64(inner.plan.boot_s.1 * 2.0 + 30.0);
    Json(Offer {
        quota: Some(inner.plan.quota),
        boot_limit_us: Some(longest.into()),
        images: IMAGES.iter().map(|image| (*image).to_owned()).collect(),
        sizes: SIZES
            .iter()
            .map(|(size, price)| ((*size).to_owned(), Price(*price)))
            .collect(),
        zones: ZONES.iter().map(|zone| (*zone).to_owned()).collect(),
        message: "a stand-in: its machines are processes on the host on which it runs".to_owned(),
    })
}

#[derive(Deserialize)]
struct Notice {
    /// Seconds.
    #[serde(default)]
    notice: f64,
}

async fn reclaim(
    State(cloud): State<Cloud>,
    Path(id): Path<MachineId>,
    Query(notice): Query<Notice>,
) -> Response {
    let notice = Duration::from_secs_f64(notice.notice.clamp(0.0, 3600.0));
    if !take_back(&cloud, id, notice) {
        return refusal(StatusCode::NOT_FOUND, "unknown", "there is no such machine");
    }
    StatusCode::NO_CONTENT.into_response()
}

/// Marks a machine, and removes it after the notice.
fn take_back(cloud: &Cloud, id: MachineId, notice: Duration) -> bool {
    let marked = cloud
        .lock()
        .machines
        .get_mut(&id)
        .map(Machine::reclaim)
        .is_some();
    if marked {
        let cloud = cloud.clone();
        tokio::spawn(async move {
            tokio::time::sleep(notice).await;
            let taken = cloud.lock().machines.remove(&id);
            if let Some(machine) = taken {
                machine.end().await;
            }
        });
    }
    marked
}

/// Takes machines back now and then, as the faults say.
async fn reclaim_at_times(cloud: Cloud) {
    loop {
        tokio::time::sleep(Duration::from_secs(1)).await;
        let victim = {
            let mut inner = cloud.lock();
            let fraction = inner.plan.faults.reclaims_a_minute / 60.0;
            let running = inner.machines.len();
            if running > 0 && inner.chance_of(fraction) {
                let at = inner.chance.random_range(0..running);
                inner.machines.keys().nth(at).copied()
            } else {
                None
            }
        };
        let notice = Duration::from_secs_f64(cloud.lock().plan.faults.reclaim_notice_s.max(0.0));
        if let Some(victim) = victim {
            take_back(&cloud, victim, notice);
        }
    }
}

async fn show_faults(State(cloud): State<Cloud>) -> Json<Faults> {
    Json(cloud.lock().plan.faults.clone())
}

/// Sets some faults, and the quota; the others stay.
async fn set_faults(
    State(cloud): State<Cloud>,
    Json(change): Json<serde_json::Map<String, serde_json::Value>>,
) -> Response {
    let mut inner = cloud.lock();
    let mut all = match serde_json::to_value(&inner.plan.faults) {
        Ok(serde_json::Value::Object(all)) => all,
        _ => serde_json::Map::new(),
    };
    all.extend(change);
    let quota = all.remove("quota");
    match serde_json::from_value::<Faults>(serde_json::Value::Object(all)) {
        Ok(faults) => inner.plan.faults = faults,
        Err(error) => {
            return refusal(
                StatusCode::UNPROCESSABLE_ENTITY,
                "refused",
                error.to_string(),
            );
        }
    }
    if let Some(quota) = quota.and_then(|quota| u32::try_from(quota.as_u64()?).ok()) {
        inner.plan.quota = quota;
    }
    Json(inner.plan.faults.clone()).into_response()
}

/// Every machine that ever was.
async fn ever(State(cloud): State<Cloud>) -> Json<Vec<MachineId>> {
    Json(cloud.lock().ever.clone())
}
