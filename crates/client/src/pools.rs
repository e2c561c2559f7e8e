//! Pools, and the suppliers, machines and seats that they use.

use crate::filters::DecisionFilter;
use crate::{Client, Result, segment};
use pennine_wire::{
    ApprovalWithdrawal, CapacityDecision, ChangedPool, Machine, MachineConsole, NewMachines,
    NewPool, NewSeat, NewSupplier, Page, Pool, PoolApproval, PoolChange, PoolRemoval, Relief, Seat,
    SeatChange, StopMachine, Supplier, SupplierChange, SupplierCheck, SupplierChecked, TakeBack,
};
use reqwest::Method;
use std::time::Duration;

/// How long the check of a supplier may take.
const CHECK: Duration = Duration::from_secs(180);

impl Client {
    /// Changes a pool.
    pub async fn change_pool(&self, name: &str, change: &PoolChange) -> Result<ChangedPool> {
        self.send(Method::PATCH, &format!("/pools/{}", segment(name)), change)
            .await
    }

    /// Removes a pool.
    pub async fn remove_pool(&self, name: &str, how: &PoolRemoval) -> Result<()> {
        let path = format!("/api/v1/pools/{}/remove", segment(name));
        let request = self.link.request(Method::POST, &path).json(how);
        self.link.send(request).await.map(drop)
    }

    /// The suppliers.
    pub async fn suppliers(&self) -> Result<Page<Supplier>> {
        self.get("/suppliers").await
    }

    /// A supplier.
    pub async fn supplier(&self, name: &str) -> Result<Supplier> {
        self.get(&format!("/suppliers/{}", segment(name))).await
    }

    /// Adds a supplier.
    pub async fn add_supplier(&self, new: &NewSupplier) -> Result<Supplier> {
        self.post("/suppliers", new).await
    }

    /// Changes a supplier.
    pub async fn change_supplier(&self, name: &str, change: &SupplierChange) -> Result<Supplier> {
        let path = format!("/suppliers/{}", segment(name));
        self.send(Method::PATCH, &path, change).await
    }

    /// Removes a supplier.
    pub async fn remove_supplier(&self, name: &str) -> Result<()> {
        self.delete(&format!("/suppliers/{}", segment(name))).await
    }

    /// Checks a supplier with a trial machine.
    pub async fn check_supplier(&self, name: &str, how: &SupplierCheck) -> Result<SupplierChecked> {
        let path = format!("/api/v1/suppliers/{}/check", segment(name));
        let request = self.link.request(Method::POST, &path).json(how);
        // It waits for a machine to come up.
        self.link.json(request.timeout(CHECK)).await
    }

    /// Returns the existing machines, or the ones in the given states.
    pub async fn machines(
        &self,
        pool: Option<&str>,
        states: Option<&str>,
        cursor: Option<&str>,
    ) -> Result<Page<Machine>> {
        let request = self.link.request(Method::GET, "/api/v1/machines");
        let query = [("pool", pool), ("state", states), ("cursor", cursor)];
        let query: Vec<_> = query
            .into_iter()
            .filter_map(|(name, value)| Some((name, value?)))
            .collect();
        self.link.json(request.query(&query)).await
    }

    /// A machine.
    pub async fn machine(&self, name: &str) -> Result<Machine> {
        self.get(&format!("/machines/{}", segment(name))).await
    }

    /// What a machine printed while it came up.
    pub async fn machine_console(&self, name: &str) -> Result<MachineConsole> {
        self.get(&format!("/machines/{}/console", segment(name)))
            .await
    }

    /// Starts machines by hand.
    pub async fn start_machines(&self, pool: &str, new: &NewMachines) -> Result<Page<Machine>> {
        self.post(&format!("/pools/{}/machines", segment(pool)), new)
            .await
    }

    /// Stops a machine.
    pub async fn stop_machine(&self, name: &str, how: &StopMachine) -> Result<Machine> {
        self.post(&format!("/machines/{}/stop", segment(name)), how)
            .await
    }

    /// What was decided about machines, newest first.
    pub async fn decisions(
        &self,
        filter: &DecisionFilter,
        cursor: Option<&str>,
    ) -> Result<Page<CapacityDecision>> {
        let request = self.link.request(Method::GET, "/api/v1/capacity/decisions");
        let cursor: Vec<_> = cursor
            .map(|cursor| ("cursor", cursor))
            .into_iter()
            .collect();
        self.link.json(request.query(filter).query(&cursor)).await
    }

    /// A pool's relief over the last minutes.
    pub async fn relief(&self, pool: &str, minutes: u64) -> Result<Relief> {
        self.get(&format!(
            "/pools/{}/relief?minutes={minutes}",
            segment(pool)
        ))
        .await
    }

    /// The seats.
    pub async fn seats(&self) -> Result<Page<Seat>> {
        self.get("/seats").await
    }

    /// Adds a kind of seat.
    pub async fn add_seat(&self, new: &NewSeat) -> Result<Seat> {
        self.post("/seats", new).await
    }

    /// Changes a kind of seat.
    pub async fn change_seat(&self, name: &str, change: &SeatChange) -> Result<Seat> {
        self.send(Method::PATCH, &format!("/seats/{}", segment(name)), change)
            .await
    }

    /// Takes a job's seats back.
    pub async fn take_seat_back(&self, name: &str, from: &TakeBack) -> Result<Seat> {
        self.post(&format!("/seats/{}/take-back", segment(name)), from)
            .await
    }

    /// The pools.
    pub async fn pools(&self) -> Result<Page<Pool>> {
        self.get("/pools").await
    }

    /// One pool.
    pub async fn pool(&self, name: &str) -> Result<Pool> {
        self.get(&format!("/pools/{}", segment(name))).await
    }

    /// Adds a pool.
    pub async fn add_pool(&self, new: &NewPool) -> Result<Pool> {
        self.post("/pools", new).await
    }

    /// Approves the use of a pool.
    pub async fn approve_use(&self, pool: &str, approval: &PoolApproval) -> Result<Pool> {
        let path = format!("/pools/{}/approvals", segment(pool));
        self.post(&path, approval).await
    }

    /// Withdraws the approval of a project's use of a pool.
    pub async fn withdraw_approval(
        &self,
        pool: &str,
        withdrawal: &ApprovalWithdrawal,
    ) -> Result<Pool> {
        let path = format!("/pools/{}/approvals/withdraw", segment(pool));
        self.post(&path, withdrawal).await
    }
}
