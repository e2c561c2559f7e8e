//! The findings of checks of a machine or of the connection to it, by the runner or by the service.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How something was found.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// As it should be.
    Passed,
    /// It works with a warning, or could not be checked.
    Warning,
    /// Jobs fail, or will, because of it.
    Failed,
}

impl std::fmt::Display for Verdict {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Verdict::Passed => "passed",
            Verdict::Warning => "warning",
            Verdict::Failed => "failed",
        })
    }
}

/// One thing that was looked at.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What was looked at: `disk`, `clock`.
    pub check: String,
    pub verdict: Verdict,
    /// What was found, in words.
    pub message: String,
    /// What to do about it, where something is to be done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
}

impl Finding {
    /// Something that was found.
    pub fn new(check: &str, verdict: Verdict, message: impl Into<String>) -> Finding {
        Finding {
            check: check.to_owned(),
            verdict,
            message: message.into(),
            remedy: None,
        }
    }

    /// It is as it should be.
    pub fn passed(check: &str, message: impl Into<String>) -> Finding {
        Finding::new(check, Verdict::Passed, message)
    }

    /// A warning.
    pub fn warning(check: &str, message: impl Into<String>) -> Finding {
        Finding::new(check, Verdict::Warning, message)
    }

    /// It has to be fixed.
    pub fn failed(check: &str, message: impl Into<String>) -> Finding {
        Finding::new(check, Verdict::Failed, message)
    }

    /// With what to do.
    pub fn remedy(self, remedy: impl Into<String>) -> Finding {
        Finding {
            remedy: Some(remedy.into()),
            ..self
        }
    }
}

/// Findings as a terminal shows them: a line each, and under each that did not pass, what to do.
pub fn findings_text(findings: &[Finding]) -> String {
    let lines = findings.iter().map(|finding| {
        let Finding {
            check,
            verdict,
            message,
            remedy,
        } = finding;
        let remedy = remedy.iter().filter(|_| *verdict > Verdict::Passed);
        let remedy = remedy.map(|remedy| format!("{:23}-> {remedy}\n", ""));
        format!("{verdict:8}  {check:11}  {message}\n") + &remedy.collect::<String>()
    });
    lines.collect()
}

/// The worst verdict among findings.
pub fn worst<'a>(findings: impl IntoIterator<Item = &'a Finding>) -> Verdict {
    let verdicts = findings.into_iter().map(|finding| finding.verdict);
    verdicts.max().unwrap_or(Verdict::Passed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn checks_that_did_not_pass_come_with_a_remedy() {
        let findings = [
            Finding::passed("clock", "within 1 ms of the service's").remedy("nothing"),
            Finding::failed("disk", "nothing is free").remedy("make room"),
        ];
        assert_eq!(worst(&findings), Verdict::Failed);
        let told = findings_text(&findings);
        let lines: Vec<&str> = told.lines().collect();
        assert_eq!(
            lines,
            [
                "passed    clock        within 1 ms of the service's",
                "failed    disk         nothing is free",
                "                       -> make room",
            ]
        );
    }
}
