//! The handles that ask suppliers. The leader tells them what to do, once it is written down, and hears what came of it.
//!
//! They may be cut off at any moment, with the leader or its lead: the next leader repeats what is recorded, and
//! repeating does no harm.

use super::open;
use crate::app::App;
use pennine_core::id::{MachineId, SupplierId};
use pennine_core::time::Moment;
use pennine_store::machine::Machine;
use pennine_store::supplier::Supplier as Row;
use pennine_suppliers::{Fault, Join, Offer, Order, PlacedOrder, SuppliedMachine, Supplier};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;
use tokio::task::JoinSet;

/// What one supplier is asked at once.
const AT_ONCE: usize = 24;
/// How long a supplier has for one answer, whatever it says of itself.
const PATIENCE: Duration = Duration::from_secs(120);
/// How long an order is repeated to a supplier that was asked too often.
const HURRIED: Duration = Duration::from_secs(60);
/// The longest pause between two tries to remove a machine.
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// How often a supplier is asked what it can do.
const OFFER_EVERY: Duration = Duration::from_secs(60);

/// What came of something that was asked.
#[derive(Debug)]
pub enum Done {
    /// An order.
    Ordered(Box<Machine>, Result<PlacedOrder, Fault>),
    /// There is nothing of a machine any more.
    Removed(MachineId),
    /// What a supplier has, as of a moment.
    Listed(SupplierId, Moment, Result<Vec<SuppliedMachine>, Fault>),
    /// What a supplier can do.
    Offered(SupplierId, Result<Offer, Fault>),
    /// The end of what a machine printed.
    Console(MachineId, String),
}

struct SupplierHandle {
    row: Row,
    supplier: Arc<dyn Supplier>,
    permits: Arc<Semaphore>,
    listing: bool,
    listed: Option<Instant>,
    offering: bool,
    offered: Option<Instant>,
}

/// See the module's head.
pub struct SupplierCalls {
    app: App,
    handles: HashMap<SupplierId, SupplierHandle>,
    /// Suppliers that cannot be called, with the reason.
    broken: BTreeMap<SupplierId, String>,
    tasks: JoinSet<Done>,
    removing: HashSet<MachineId>,
}

impl SupplierCalls {
    /// Calls to these suppliers.
    pub fn new(app: &App, rows: Vec<Row>) -> SupplierCalls {
        let mut handles = SupplierCalls {
            app: app.clone(),
            handles: HashMap::new(),
            broken: BTreeMap::new(),
            tasks: JoinSet::new(),
            removing: HashSet::new(),
        };
        handles.set(rows);
        handles
    }

    /// The suppliers are these by now.
    pub fn set(&mut self, rows: Vec<Row>) {
        let ids: HashSet<SupplierId> = rows.iter().map(|row| row.id.0).collect();
        self.handles.retain(|id, _| ids.contains(id));
        self.broken.clear();
        for row in rows {
            let id = row.id.0;
            if let Some(handle) = self.handles.get_mut(&id)
                && handle.row.settings == row.settings
                && handle.row.secrets == row.secrets
            {
                handle.row = row;
                continue;
            }
            match open(&self.app, &row) {
                Ok(supplier) => {
                    let handle = SupplierHandle {
                        row,
                        supplier,
                        permits: Arc::new(Semaphore::new(AT_ONCE)),
                        listing: false,
                        listed: None,
                        offering: false,
                        offered: None,
                    };
                    self.handles.insert(id, handle);
                }
                Err(message) => {
                    tracing::warn!(supplier = row.name, message, "a supplier cannot be used");
                    self.handles.remove(&id);
                    self.broken.insert(id, message);
                }
            }
        }
    }

    /// The supplier with this id, if it can be asked.
    pub fn supplier(&self, id: SupplierId) -> Option<Arc<dyn Supplier>> {
        self.handles.get(&id).map(|handle| handle.supplier.clone())
    }

    /// Waits for what came of something; indefinitely when nothing is under way.
    pub async fn next(&mut self) -> Done {
        loop {
            match self.tasks.join_next().await {
                Some(Ok(done)) => {
                    match &done {
                        Done::Removed(machine) => {
                            self.removing.remove(machine);
                        }
                        Done::Listed(id, _, _) => {
                            if let Some(handle) = self.handles.get_mut(id) {
                                handle.listing = false;
                            }
                        }
                        Done::Offered(id, _) => {
                            if let Some(handle) = self.handles.get_mut(id) {
                                handle.offering = false;
                            }
                        }
                        _ => {}
                    }
                    return done;
                }
                Some(Err(error)) if error.is_cancelled() => {}
                Some(Err(error)) => tracing::error!(%error, "a supplier request failed"),
                None => std::future::pending().await,
            }
        }
    }

    /// Orders a machine that is written down.
    pub fn order(&mut self, machine: Machine, order: Order) {
        let Some(handle) = self.handles.get(&machine.supplier_id.0) else {
            let message = self
                .broken
                .get(&machine.supplier_id.0)
                .cloned()
                .unwrap_or_else(|| "unknown supplier".to_owned());
            self.tasks.spawn(async move {
                Done::Ordered(Box::new(machine), Err(Fault::Unavailable(message)))
            });
            return;
        };
        let (supplier, permits) = (handle.supplier.clone(), handle.permits.clone());
        self.tasks.spawn(async move {
            let begun = Instant::now();
            let result = loop {
                let permit = permits.acquire().await;
                let asked = tokio::time::timeout(PATIENCE, supplier.order(&order)).await;
                drop(permit);
                match asked {
                    Ok(Err(Fault::RateLimited { retry_after })) if begun.elapsed() < HURRIED => {
                        tokio::time::sleep(retry_after.unwrap_or(Duration::from_secs(1))).await;
                    }
                    Ok(result) => break result,
                    Err(_) => {
                        let message = format!("no answer within {} s", PATIENCE.as_secs());
                        break Err(Fault::Unclear(message));
                    }
                }
            };
            Done::Ordered(Box::new(machine), result)
        });
    }

    /// Has a machine removed, however often it takes. `keep_console` asks first what it printed.
    pub fn remove(&mut self, supplier: SupplierId, machine: MachineId, keep_console: bool) {
        let Some(handle) = self.handles.get(&supplier) else {
            return;
        };
        if !self.removing.insert(machine) {
            return;
        }
        let (supplier, permits) = (handle.supplier.clone(), handle.permits.clone());
        if keep_console {
            // In the same task as the removal it could not be told before it.
            let asked = supplier.clone();
            let (told, removal) = tokio::sync::oneshot::channel();
            self.tasks.spawn(async move {
                let text = super::console(asked.as_ref(), machine).await;
                let _ = told.send(());
                Done::Console(machine, text)
            });
            self.tasks.spawn(async move {
                let _ = removal.await;
                remove_until_gone(supplier, permits, machine).await
            });
        } else {
            self.tasks
                .spawn(remove_until_gone(supplier, permits, machine));
        }
    }

    /// Asks the suppliers that are due what they have and what they can do.
    pub fn poll_suppliers(&mut self, now: Moment) {
        for (id, handle) in &mut self.handles {
            let (id, supplier) = (*id, handle.supplier.clone());
            let due = handle
                .listed
                .is_none_or(|at| at.elapsed() >= supplier.list_every());
            if due && !handle.listing {
                handle.listing = true;
                handle.listed = Some(Instant::now());
                let supplier = supplier.clone();
                self.tasks.spawn(async move {
                    let asked = tokio::time::timeout(PATIENCE, supplier.list()).await;
                    let result = asked.unwrap_or_else(|_| {
                        let message = format!("no list within {} s", PATIENCE.as_secs());
                        Err(Fault::Unclear(message))
                    });
                    Done::Listed(id, now, result)
                });
            }
            let due = handle.offered.is_none_or(|at| at.elapsed() >= OFFER_EVERY);
            if due && !handle.offering {
                handle.offering = true;
                handle.offered = Some(Instant::now());
                self.tasks.spawn(async move {
                    let asked = tokio::time::timeout(PATIENCE, supplier.offer()).await;
                    let result = asked.unwrap_or_else(|_| {
                        let message = format!("no offer within {} s", PATIENCE.as_secs());
                        Err(Fault::Unclear(message))
                    });
                    Done::Offered(id, result)
                });
            }
        }
    }
}

async fn remove_until_gone(
    supplier: Arc<dyn Supplier>,
    permits: Arc<Semaphore>,
    machine: MachineId,
) -> Done {
    let mut pause = Duration::from_millis(500);
    loop {
        let permit = permits.acquire().await;
        let asked = tokio::time::timeout(PATIENCE, supplier.remove(machine)).await;
        drop(permit);
        let fault = match asked {
            Ok(Ok(())) => return Done::Removed(machine),
            Ok(Err(fault)) => fault.to_string(),
            Err(_) => "no answer".to_owned(),
        };
        tracing::warn!(%machine, fault, "a machine could not be removed yet");
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(LONGEST_PAUSE);
    }
}

/// The order for a machine that is written down.
pub fn order_of(app: &App, machine: &Machine, supply: &pennine_core::capacity::Supply) -> Order {
    Order {
        installation: app.installation.id,
        machine: machine.id.0,
        name: machine.name.clone(),
        pool: machine.pool.clone(),
        image: supply.image.clone(),
        size: supply.size.clone(),
        settings: supply.settings.clone(),
        join: Join {
            server: app.public_url.clone(),
            ticket: app.encryption.ticket(machine.id.0),
            authority: app.authority.clone(),
            slots: supply.machine_slots(),
        },
    }
}
