//! Secrets that are kept in an outside store: an operator's program fetches one when an attempt starts. docs/access.md defines
//! the program's question and answer.

use crate::config::OutsideSecrets;
use pennine_core::secret::SecretText;
use pennine_suppliers::program;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;

/// How many programs run at once; further attempts wait.
const AT_ONCE: usize = 8;

/// Fetches secrets from the outside store.
#[derive(Clone)]
pub struct OutsideStore {
    settings: OutsideSecrets,
    places: Arc<Semaphore>,
}

/// The question, one JSON object on the program's standard input.
#[derive(Serialize)]
pub struct SecretQuestion<'a> {
    /// The number of this protocol.
    protocol: u32,
    /// What the outside store calls the secret.
    pub reference: &'a str,
    /// The secret's name.
    pub name: &'a str,
    /// The path of the place at which it was set, whose administrators chose the reference; empty for the root.
    pub place: &'a str,
    /// The pool that it was set for, where it is a pool's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of_pool: Option<&'a str>,
    /// The job that receives it, with its project, and the pool and the runner on which it starts.
    pub job: &'a str,
    pub project: &'a str,
    pub pool: &'a str,
    pub runner: &'a str,
}

impl<'a> SecretQuestion<'a> {
    /// A question about a secret; what concerns its job is still to be filled in.
    pub fn about(reference: &'a str, name: &'a str, place: &'a str) -> SecretQuestion<'a> {
        SecretQuestion {
            protocol: 1,
            reference,
            name,
            place,
            of_pool: None,
            job: "",
            project: "",
            pool: "",
            runner: "",
        }
    }
}

/// The answer: the value, or why there is none.
#[derive(Deserialize)]
#[serde(untagged)]
enum Answer {
    Value { value: SecretText },
    Refusal { error: String },
}

impl OutsideStore {
    /// The store that the settings name, if they name one.
    pub fn new(settings: OutsideSecrets) -> OutsideStore {
        OutsideStore {
            settings,
            places: Arc::new(Semaphore::new(AT_ONCE)),
        }
    }

    /// Whether the settings name a program.
    pub fn is_configured(&self) -> bool {
        !self.settings.program.as_os_str().is_empty()
    }

    /// Asks for a secret.
    ///
    /// # Errors
    /// Why it cannot be had, for people. What the program printed is not repeated: it may hold a secret.
    pub async fn fetch(&self, question: &SecretQuestion<'_>) -> Result<SecretText, String> {
        if !self.is_configured() {
            return Err(
                "no program for an outside store is configured (secrets.program)".to_owned(),
            );
        }
        let patience = Duration::from_secs(self.settings.seconds);
        let place = tokio::time::timeout(patience, self.places.acquire()).await;
        let Ok(Ok(_place)) = place else {
            return Err("too many secrets are being fetched at once".to_owned());
        };
        let mut text = serde_json::to_vec(question).unwrap_or_default();
        text.push(b'\n');
        let asked = program::ask(&self.settings.program, "the question", &text, patience).await;
        let printed = asked.map_err(|failure| failure.to_string())?;
        match serde_json::from_str(&printed) {
            Ok(Answer::Value { value }) => Ok(value),
            Ok(Answer::Refusal { error }) => Err(error.chars().take(300).collect()),
            Err(_) => Err(
                "its program printed no answer: {\"value\": TEXT} or {\"error\": TEXT} is expected"
                    .to_owned(),
            ),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;
    use std::os::unix::fs::PermissionsExt;

    fn store(script: &str, folder: &std::path::Path) -> OutsideStore {
        let program = folder.join("fetch");
        let mut file = std::fs::File::create(&program).unwrap();
        write!(file, "#!/bin/sh\n{script}\n").unwrap();
        drop(file);
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
        OutsideStore::new(OutsideSecrets {
            program,
            seconds: 20,
        })
    }

    #[tokio::test]
    async fn a_program_answers_with_a_value_or_with_an_error() {
        let folder = tempfile::tempdir().unwrap();
        let question = SecretQuestion::about("kv/tide", "TIDE", "firmware");
        let echo = store(
            r#"grep -q '"reference":"kv/tide"' && echo '{"value": "open sesame"}'"#,
            folder.path(),
        );
        let fetched = echo.fetch(&question).await;
        assert_eq!(fetched, Ok(SecretText("open sesame".to_owned())));
        let refusing = store(r#"echo '{"error": "no such entry"}'"#, folder.path());
        assert_eq!(
            refusing.fetch(&question).await,
            Err("no such entry".to_owned())
        );
    }

    #[tokio::test]
    async fn an_answer_that_is_no_answer_is_not_repeated_in_the_message() {
        let folder = tempfile::tempdir().unwrap();
        let question = SecretQuestion::about("kv/tide", "TIDE", "firmware");
        let wrong = store("echo open sesame", folder.path());
        let message = wrong.fetch(&question).await.unwrap_err();
        assert!(
            !message.contains("sesame") && message.contains("value"),
            "{message}"
        );
        let failing = store("exit 3", folder.path());
        let message = failing.fetch(&question).await.unwrap_err();
        assert!(message.contains("exit status: 3"), "{message}");
        let none = OutsideStore::new(OutsideSecrets::default());
        let message = none.fetch(&question).await.unwrap_err();
        assert!(message.contains("secrets.program"), "{message}");
    }
}
