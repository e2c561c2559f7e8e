//! What people and programs ask, with a token.

use crate::filters::{
    AuditFilter, DecisionFilter, JobListFilter, QueueFilter, RunnerFilter, TrendFilter,
};
use crate::{Link, Result, Route, header, segment};
use bytes::Bytes;
use pennine_core::access::Grant;
use pennine_core::lifecycle::runner::DesiredState;
use pennine_core::time::{Micros, Moment};
use pennine_wire::{
    ApprovalWithdrawal, AuditEntry, BulkAction, BulkProgress, BulkResult, CapacityDecision,
    ChangedPool, ChangedRunner, Checkup, GrantRemoval, ImportSummary, Job, JobLine, LOG_ATTEMPT,
    LOG_COMPLETE, LogLines, LongestWait, Machine, MachineConsole, MadeLink, MadeTicket,
    Maintenance, NEXT_OFFSET, NewJob, NewLink, NewMachines, NewMaintenance, NewPerson, NewPool,
    NewProject, NewSeat, NewSupplier, NewTeam, NewTicket, NewTrial, NextJob, Page, Permission,
    Person, PersonChange, Place, PlaceChange, Pool, PoolApproval, PoolChange, PoolRemoval,
    ProjectView, Queue, Relief, Retirement, Runner, RunnerChange, RunnerTime, Seat, SeatChange,
    SignedIn, Skyline, Status, StopMachine, Supplier, SupplierChange, SupplierCheck,
    SupplierChecked, TakeBack, TakeRunnerBack, TakenJob, Ticket, Trends, Trial, WaitExplanation,
    WeekPattern,
};
use reqwest::Method;
use reqwest::header::IF_MATCH;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::sync::Arc;
use std::time::Duration;

/// How long the check of a supplier may take.
const CHECK: Duration = Duration::from_secs(180);

/// How long a whole history may take, one way or the other.
const LARGE: Duration = Duration::from_secs(600);

/// A client with a token. Clones share their connections.
#[derive(Clone)]
pub struct Client {
    pub(crate) link: Arc<Link>,
    /// The version that what is changed has to have.
    expected: Option<String>,
}

/// A stretch of a log.
#[derive(Clone, Debug)]
pub struct LogPart {
    pub bytes: Bytes,
    /// The offset at which the next stretch begins.
    pub next: u64,
    /// The number of the attempt whose log it is; none while there is no attempt.
    pub attempt: Option<u32>,
    /// Whether nothing more will come.
    pub complete: bool,
}

impl Client {
    /// A client for the service at this address.
    pub fn new(url: &str, token: &str, route: &Route) -> Result<Client> {
        let link = Arc::new(Link::new(url, token, route)?);
        Ok(Client {
            link,
            expected: None,
        })
    }

    /// The service's address; the one that answered last, where several are known.
    pub fn url(&self) -> &str {
        self.link.url()
    }

    /// The same client, whose changes are refused where the settings that they change have another version by now than this
    /// one: the `settings_version` of what was read. No version, no condition.
    pub fn if_version(&self, version: Option<&str>) -> Client {
        Client {
            link: self.link.clone(),
            expected: version.map(str::to_owned),
        }
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        self.link
            .json(self.link.request(Method::GET, &format!("/api/v1{path}")))
            .await
    }

    pub(crate) async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T> {
        self.link
            .json(
                self.link
                    .request(Method::POST, &format!("/api/v1{path}"))
                    .json(body),
            )
            .await
    }

    pub(crate) async fn delete(&self, path: &str) -> Result<()> {
        let request = self.link.request(Method::DELETE, &format!("/api/v1{path}"));
        self.link.send(request).await.map(drop)
    }

    pub(crate) async fn send<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T> {
        let mut request = self.link.request(method, &format!("/api/v1{path}"));
        if let Some(version) = &self.expected {
            request = request.header(IF_MATCH, format!("\"{version}\""));
        }
        self.link.json(request.json(body)).await
    }

    /// Changes a team or project.
    pub async fn change_place(&self, path: &str, change: &PlaceChange) -> Result<Place> {
        self.send(Method::PATCH, &format!("/places/{}", segment(path)), change)
            .await
    }

    /// Removes an empty team or project.
    pub async fn remove_place(&self, path: &str) -> Result<()> {
        self.delete(&format!("/places/{}", segment(path))).await
    }

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

    /// Figures of a window.
    pub async fn trends(&self, of: &TrendFilter) -> Result<Trends> {
        let request = self.link.request(Method::GET, "/api/v1/trends");
        self.link.json(request.query(of)).await
    }

    /// The hours of the week over a window.
    pub async fn week(&self, of: &TrendFilter) -> Result<WeekPattern> {
        let request = self.link.request(Method::GET, "/api/v1/trends/week");
        self.link.json(request.query(of)).await
    }

    /// The longest waits of a window.
    pub async fn waits(&self, of: &TrendFilter) -> Result<Page<LongestWait>> {
        let request = self.link.request(Method::GET, "/api/v1/trends/waits");
        self.link.json(request.query(of)).await
    }

    /// Jobs that are over, as CSV, piece by piece.
    pub async fn export_history(&self, from: Moment, until: Moment) -> Result<reqwest::Response> {
        let request = self.link.request(Method::GET, "/api/v1/history");
        let query = [("from", from), ("until", until)];
        self.link.send(request.query(&query).timeout(LARGE)).await
    }

    /// Imports jobs that are over, from CSV: all of them, or none.
    pub async fn import_history(&self, csv: Vec<u8>) -> Result<ImportSummary> {
        let request = self.link.request(Method::POST, "/api/v1/history");
        let request = request.header("content-type", "text/csv").body(csv);
        self.link.json(request.timeout(LARGE)).await
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

    /// Says what a runner is wanted to do.
    pub async fn set_desired_state(
        &self,
        name: &str,
        desired_state: DesiredState,
    ) -> Result<Runner> {
        let body = serde_json::json!({"desired_state": desired_state});
        self.send(
            Method::PUT,
            &format!("/runners/{}/desired-state", segment(name)),
            &body,
        )
        .await
    }

    /// Changes a runner.
    pub async fn change_runner(&self, name: &str, change: &RunnerChange) -> Result<ChangedRunner> {
        let path = format!("/runners/{}", segment(name));
        self.send(Method::PATCH, &path, change).await
    }

    /// Retires a runner.
    pub async fn retire_runner(&self, name: &str, how: &Retirement) -> Result<ChangedRunner> {
        let path = format!("/runners/{}/retire", segment(name));
        self.send(Method::POST, &path, how).await
    }

    /// Tries a requirement against the yard.
    pub async fn try_requirement(&self, new: &NewTrial) -> Result<Trial> {
        self.post("/where", new).await
    }

    /// Does something to many jobs.
    pub async fn act_on_jobs(&self, action: &BulkAction) -> Result<BulkResult> {
        self.post("/jobs/actions", action).await
    }

    /// The latest actions on many jobs that were carried out in the background.
    pub async fn job_actions(&self) -> Result<Page<BulkProgress>> {
        self.get("/jobs/actions").await
    }

    /// How far an action on many jobs is.
    pub async fn job_action(&self, name: &str) -> Result<BulkProgress> {
        self.get(&format!("/jobs/actions/{}", segment(name))).await
    }

    /// Stops an action on many jobs.
    pub async fn stop_job_action(&self, name: &str) -> Result<BulkProgress> {
        let path = format!("/jobs/actions/{}/stop", segment(name));
        self.post(&path, &serde_json::json!({})).await
    }

    /// Who the token is.
    pub async fn who(&self) -> Result<SignedIn> {
        self.get("/session").await
    }

    /// How things stand.
    pub async fn status(&self) -> Result<Status> {
        self.get("/status").await
    }

    /// The last hour.
    pub async fn skyline(&self) -> Result<Skyline> {
        self.get("/skyline").await
    }

    /// The waiting jobs by reason.
    pub async fn queue(&self, filter: &QueueFilter) -> Result<Queue> {
        let request = self.link.request(Method::GET, "/api/v1/queue");
        self.link.json(request.query(filter)).await
    }

    /// The teams.
    pub async fn teams(&self) -> Result<Page<Place>> {
        self.get("/teams").await
    }

    /// Adds a team.
    pub async fn add_team(&self, new: &NewTeam) -> Result<Place> {
        self.post("/teams", new).await
    }

    /// The projects.
    pub async fn projects(&self) -> Result<Page<Place>> {
        self.get("/projects").await
    }

    /// Adds a project.
    pub async fn add_project(&self, new: &NewProject) -> Result<Place> {
        self.post("/projects", new).await
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

    /// A project with its pools.
    pub async fn project(&self, name: &str) -> Result<ProjectView> {
        let path = format!("/api/v1/projects/{}", segment(name));
        self.link.json(self.link.request(Method::GET, &path)).await
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

    /// Makes a ticket for a pool.
    pub async fn add_ticket(&self, pool: &str, new: &NewTicket) -> Result<MadeTicket> {
        self.post(&format!("/pools/{}/tickets", segment(pool)), new)
            .await
    }

    /// Makes a ticket worth nothing.
    pub async fn revoke_ticket(&self, name: &str) -> Result<Ticket> {
        let path = format!("/tickets/{}/revoke", segment(name));
        self.post(&path, &serde_json::json!({})).await
    }

    /// A page of the audit log, the latest first.
    pub async fn audit(&self, filter: &AuditFilter) -> Result<Page<AuditEntry>> {
        let request = self.link.request(Method::GET, "/api/v1/audit");
        self.link.json(request.query(filter)).await
    }

    /// The people who may be seen.
    pub async fn people(&self) -> Result<Page<Person>> {
        self.get("/people").await
    }

    /// One person.
    pub async fn person(&self, name: &str) -> Result<Person> {
        self.get(&format!("/people/{}", segment(name))).await
    }

    /// Adds a person with a first role.
    pub async fn add_person(&self, new: &NewPerson) -> Result<MadeLink> {
        self.post("/people", new).await
    }

    /// Changes a person's name for others, disables the account or enables it.
    pub async fn change_person(&self, name: &str, change: &PersonChange) -> Result<Person> {
        let path = format!("/api/v1/people/{}", segment(name));
        let request = self.link.request(Method::PATCH, &path);
        self.link.json(request.json(change)).await
    }

    /// Makes a link with which a person sets another password.
    pub async fn add_person_link(&self, name: &str, asked: &NewLink) -> Result<MadeLink> {
        self.post(&format!("/people/{}/link", segment(name)), asked)
            .await
    }

    /// Gives a person a role at a place.
    pub async fn grant_role(&self, name: &str, grant: &Grant) -> Result<Person> {
        self.post(&format!("/people/{}/grants", segment(name)), grant)
            .await
    }

    /// Takes the role of a person at a place away.
    pub async fn revoke_role(&self, name: &str, removal: &GrantRemoval) -> Result<Person> {
        let path = format!("/people/{}/grants/revoke", segment(name));
        self.post(&path, removal).await
    }

    /// Whether a person may do something at a place, and by which grant.
    pub async fn permission(&self, name: &str, action: &str, place: &str) -> Result<Permission> {
        let path = format!("/api/v1/people/{}/permission", segment(name));
        let request = self.link.request(Method::GET, &path);
        let asked = [("action", action), ("place", place)];
        self.link.json(request.query(&asked)).await
    }

    /// The tickets.
    pub async fn tickets(&self) -> Result<Page<Ticket>> {
        self.get("/tickets").await
    }

    /// The runners.
    pub async fn runners(&self, filter: &RunnerFilter) -> Result<Page<Runner>> {
        let request = self.link.request(Method::GET, "/api/v1/runners");
        self.link.json(request.query(filter)).await
    }

    /// What the service can tell of a runner that does not do what it should.
    pub async fn check_runner(&self, name: &str) -> Result<Checkup> {
        self.get(&format!("/runners/{}/doctor", segment(name)))
            .await
    }

    /// The jobs that would be next on a runner.
    pub async fn next_on(&self, name: &str) -> Result<Page<NextJob>> {
        self.get(&format!("/runners/{}/next", segment(name))).await
    }

    /// Recent activity of some runners.
    pub async fn runner_time(&self, names: &[&str], hours: u32) -> Result<Page<RunnerTime>> {
        let request = self.link.request(Method::GET, "/api/v1/runner-time");
        let query = [("runners", names.join(",")), ("hours", hours.to_string())];
        self.link.json(request.query(&query)).await
    }

    /// Takes a runner back from the jobs that have it.
    pub async fn take_runner_back(
        &self,
        name: &str,
        back: &TakeRunnerBack,
    ) -> Result<ChangedRunner> {
        self.post(&format!("/runners/{}/take-back", segment(name)), back)
            .await
    }

    /// Maintenance that is on or to come.
    pub async fn maintenance(&self) -> Result<Page<Maintenance>> {
        self.get("/maintenance").await
    }

    /// Plans maintenance.
    pub async fn add_maintenance(&self, new: &NewMaintenance) -> Result<Maintenance> {
        self.post("/maintenance", new).await
    }

    /// Ends or cancels maintenance.
    pub async fn end_maintenance(&self, name: &str) -> Result<()> {
        let path = format!("/api/v1/maintenance/{}/end", segment(name));
        self.link
            .send(self.link.request(Method::POST, &path))
            .await?;
        Ok(())
    }

    /// One runner.
    pub async fn runner(&self, name: &str) -> Result<Runner> {
        self.get(&format!("/runners/{}", segment(name))).await
    }

    /// Submits a job. With a key, sending it again makes no second one.
    pub async fn submit(&self, new: &NewJob, key: Option<&str>) -> Result<TakenJob> {
        let mut request = self.link.request(Method::POST, "/api/v1/jobs").json(new);
        if let Some(key) = key {
            request = request.header("idempotency-key", format!("\"{key}\""));
        }
        self.link.json(request).await
    }

    /// Jobs, newest first.
    pub async fn jobs(
        &self,
        filter: &JobListFilter,
        after: Option<&str>,
        limit: u32,
    ) -> Result<Page<JobLine>> {
        let limit = limit.to_string();
        let mut query = vec![("limit", limit.as_str())];
        query.extend(after.map(|after| ("after", after)));
        let request = self.link.request(Method::GET, "/api/v1/jobs");
        self.link.json(request.query(filter).query(&query)).await
    }

    /// One job.
    pub async fn job(&self, name: &str) -> Result<Job> {
        self.get(&format!("/jobs/{}", segment(name))).await
    }

    /// Cancels a job.
    pub async fn cancel(&self, name: &str) -> Result<Job> {
        self.post(&format!("/jobs/{}/cancel", segment(name)), &())
            .await
    }

    /// Why a job waits.
    pub async fn why(&self, name: &str) -> Result<WaitExplanation> {
        self.get(&format!("/jobs/{}/why", segment(name))).await
    }

    /// A job's log from an offset on; waits that long for something new.
    pub async fn log(
        &self,
        name: &str,
        attempt: Option<u32>,
        from: u64,
        wait: Micros,
    ) -> Result<LogPart> {
        let mut query = vec![("from", from.to_string()), ("wait_us", wait.0.to_string())];
        query.extend(attempt.map(|attempt| ("attempt", attempt.to_string())));
        let path = format!("/api/v1/jobs/{}/log", segment(name));
        let response = self
            .link
            .send(self.link.request(Method::GET, &path).query(&query))
            .await?;
        let next = header(&response, NEXT_OFFSET).and_then(|next| next.parse().ok());
        let next = next.ok_or_else(|| {
            self.link
                .strange(format!("the header {NEXT_OFFSET} is missing"))
        })?;
        let attempt = header(&response, LOG_ATTEMPT).and_then(|attempt| attempt.parse().ok());
        let complete = header(&response, LOG_COMPLETE) == Some("true");
        let bytes = response
            .bytes()
            .await
            .map_err(|e| self.link.no_connection(&e))?;
        Ok(LogPart {
            bytes,
            next,
            attempt,
            complete,
        })
    }

    /// A job's log by lines.
    pub async fn log_lines(&self, name: &str, from: u64, count: u32) -> Result<LogLines> {
        let path = format!("/api/v1/jobs/{}/log/lines", segment(name));
        let query = [("from", from.to_string()), ("count", count.to_string())];
        self.link
            .json(self.link.request(Method::GET, &path).query(&query))
            .await
    }
}
