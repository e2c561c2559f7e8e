//! A program of the user's own, which answers JSON on stdin and stdout. docs/suppliers.md defines it.

use crate::program::{self, ProgramFailure};
use crate::{CONSOLE_BYTES, Fault, Offer, Order, PlacedOrder, SuppliedMachine, Supplier, tail};
use futures::FutureExt;
use futures::future::BoxFuture;
use pennine_core::id::MachineId;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;
use uuid::Uuid;

/// The default time to answer.
const PATIENCE: Duration = Duration::from_secs(60);

/// What people can set of it. Everything else that they set reaches the program in its questions.
pub const SETTINGS: [(&str, &str); 2] = [
    ("program", "the program's absolute path"),
    ("patience", "seconds to wait for an answer [default: 60]"),
];

/// A question, one JSON object on stdin.
#[derive(Serialize)]
struct ProgramRequest<'a> {
    /// The number of this protocol.
    protocol: u32,
    /// `order`, `remove`, `list`, `console`, `offer`.
    ask: &'static str,
    installation: Uuid,
    /// What people set of the supplier, secrets too.
    settings: &'a BTreeMap<String, String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    machine: Option<MachineId>,
    #[serde(skip_serializing_if = "Option::is_none")]
    order: Option<&'a Order>,
}

/// The answer when something is wrong; the exit status is 0 then too.
#[derive(Deserialize)]
struct ProgramError {
    /// `unavailable`, `rate-limited`, `quota`, `refused`.
    fault: String,
    #[serde(default)]
    message: String,
    #[serde(default)]
    quota: Option<u32>,
    #[serde(default)]
    retry_after_s: Option<u64>,
}

/// The answer to `list`.
#[derive(Deserialize)]
pub struct Machines {
    pub machines: Vec<SuppliedMachine>,
}

#[derive(Deserialize)]
struct Console {
    #[serde(default)]
    console: String,
}

#[derive(Deserialize)]
struct Done {}

/// A program of the user's own.
pub struct Command {
    program: PathBuf,
    patience: Duration,
    installation: Uuid,
    settings: BTreeMap<String, String>,
}

impl Command {
    /// The program that the settings name.
    pub fn new(
        installation: Uuid,
        mut settings: BTreeMap<String, String>,
    ) -> Result<Command, String> {
        let program = settings.remove("program").map(PathBuf::from);
        let program = program
            .filter(|path| path.is_absolute())
            .ok_or("program must be the absolute path of a program")?;
        let patience = match settings.remove("patience") {
            None => PATIENCE,
            Some(text) => match text.parse() {
                Ok(seconds @ 1..=600) => Duration::from_secs(seconds),
                _ => return Err(format!("patience is 1 to 600 seconds, not {text:?}")),
            },
        };
        Ok(Command {
            program,
            patience,
            installation,
            settings,
        })
    }

    async fn ask<T: DeserializeOwned>(
        &self,
        ask: &'static str,
        machine: Option<MachineId>,
        order: Option<&Order>,
    ) -> Result<T, Fault> {
        let question = ProgramRequest {
            protocol: 1,
            ask,
            installation: self.installation,
            settings: &self.settings,
            machine,
            order,
        };
        let mut question = serde_json::to_vec(&question).unwrap_or_default();
        question.push(b'\n');
        let asked = program::ask(&self.program, ask, &question, self.patience).await;
        let out = asked.map_err(|failure| match failure {
            ProgramFailure::NotStarted(message) => Fault::Unavailable(message),
            ProgramFailure::Broken(message) => Fault::Unclear(message),
        })?;
        parse_answer(ask, &out)
    }
}

/// Reads what a program printed in answer to a question.
///
/// # Errors
/// The fault that the program reports, or `Unclear` where the text is not an answer.
pub fn parse_answer<T: DeserializeOwned>(ask: &str, text: &str) -> Result<T, Fault> {
    if let Ok(error) = serde_json::from_str::<ProgramError>(text) {
        return Err(error.fault());
    }
    serde_json::from_str(text).map_err(|error| {
        let start = |text: &str, most| -> String { text.chars().take(most).collect() };
        // The error may repeat a value of the answer, however long.
        let error = start(&error.to_string(), 300);
        let shown = start(text, 120);
        Fault::Unclear(format!("the answer to {ask} is invalid ({error}): {shown}"))
    })
}

impl ProgramError {
    fn fault(self) -> Fault {
        let message = if self.message.is_empty() {
            format!("it says {}", self.fault)
        } else {
            self.message
        };
        match self.fault.as_str() {
            "rate-limited" => Fault::RateLimited {
                retry_after: self.retry_after_s.map(Duration::from_secs),
            },
            "quota" => Fault::Quota {
                message,
                quota: self.quota,
            },
            "refused" => Fault::Refused(message),
            _ => Fault::Unavailable(message),
        }
    }
}

impl Supplier for Command {
    fn order<'a>(&'a self, order: &'a Order) -> BoxFuture<'a, Result<PlacedOrder, Fault>> {
        self.ask("order", Some(order.machine), Some(order)).boxed()
    }

    fn remove(&self, machine: MachineId) -> BoxFuture<'_, Result<(), Fault>> {
        async move {
            let _: Done = self.ask("remove", Some(machine), None).await?;
            Ok(())
        }
        .boxed()
    }

    fn list(&self) -> BoxFuture<'_, Result<Vec<SuppliedMachine>, Fault>> {
        async {
            let found: Machines = self.ask("list", None, None).await?;
            Ok(found.machines)
        }
        .boxed()
    }

    fn console(&self, machine: MachineId) -> BoxFuture<'_, Result<String, Fault>> {
        async move {
            let found: Console = self.ask("console", Some(machine), None).await?;
            Ok(tail(&found.console, CONSOLE_BYTES).to_owned())
        }
        .boxed()
    }

    fn offer(&self) -> BoxFuture<'_, Result<Offer, Fault>> {
        self.ask("offer", None, None).boxed()
    }
}
