//! Events for others: CDEvents (specification 0.5) in CloudEvents 1.0, as JSON.
//!
//! An alert is an incident: `dev.cdevents.incident.detected.0.3.0` when the alert is raised, and
//! `dev.cdevents.incident.resolved.0.3.0` when it is over. Its environment is this installation, and what Pennine knows
//! beyond the standard stands in `customData`.

use crate::app::App;
use pennine_core::time::Moment;
use pennine_store::change::Change;
use serde_json::{Value, json};
use uuid::Uuid;

/// The media type of an event.
pub const MEDIA_TYPE: &str = "application/cloudevents+json";

const DETECTED: &str = "dev.cdevents.incident.detected.0.3.0";
const RESOLVED: &str = "dev.cdevents.incident.resolved.0.3.0";

/// Who tells, and of which installation.
pub struct Source<'a> {
    pub public_url: &'a str,
    pub installation: Uuid,
}

impl<'a> Source<'a> {
    /// This installation.
    pub fn of(app: &'a App) -> Source<'a> {
        Source {
            public_url: &app.public_url,
            installation: app.installation.id,
        }
    }

    /// Returns the event that a change is to listeners; none where it is none. `id` is its place in the feed: the same
    /// whenever the event is sent again.
    pub fn event(&self, id: &str, at: Moment, change: &Change) -> Option<Event> {
        let (kind, alert) = match change {
            Change::AlertRaised { kind, .. } => (DETECTED, kind),
            Change::AlertEnded { kind, .. } => (RESOLVED, kind),
            _ => return None,
        };
        Some(Event {
            id: id.to_owned(),
            alert: alert.to_string(),
            body: self.body(kind, id, change.subject(), at, &change.body().ok()?),
        })
    }

    /// An event with which a listener is tried.
    pub fn trial(&self, id: Uuid, at: Moment) -> Event {
        let about = json!({"kind": "trial", "message": "This is a test event, sent on request."});
        Event {
            id: id.to_string(),
            alert: "trial".to_owned(),
            body: self.body(DETECTED, &id.to_string(), id, at, &about),
        }
    }

    fn body(&self, kind: &str, id: &str, subject: Uuid, at: Moment, about: &Value) -> String {
        let message = about.get("message").cloned().unwrap_or_default();
        let time = jiff::Timestamp::from_microsecond(at.micros())
            .map(|at| at.to_string())
            .unwrap_or_default();
        let data = json!({
            "context": {
                "specversion": "0.5.0",
                "id": id,
                "source": self.public_url,
                "type": kind,
                "timestamp": time,
            },
            "subject": {
                "id": subject,
                "source": self.public_url,
                "content": {
                    "description": message,
                    "environment": {"id": self.installation, "source": self.public_url},
                },
            },
            "customData": about,
            "customDataContentType": "application/json",
        });
        json!({
            "specversion": "1.0",
            "id": id,
            "source": self.public_url,
            "type": kind,
            "subject": subject,
            "time": time,
            "datacontenttype": "application/json",
            "data": data,
        })
        .to_string()
    }
}

/// An event to be sent.
#[derive(Clone, Debug)]
pub struct Event {
    /// The same whenever it is sent again.
    pub id: String,
    /// The kind of alert.
    pub alert: String,
    pub body: String,
}

#[cfg(test)]
mod tests {
    use super::*;
    use pennine_core::alert::AlertKind;

    #[test]
    fn an_alert_is_an_incident_as_the_standards_read_it() {
        let source = Source {
            public_url: "https://ci.skerry.example/pennine",
            installation: Uuid::from_u128(7),
        };
        let alert = Uuid::from_u128(9);
        let (kind, subject) = (AlertKind::NoMatch, "yard".to_owned());
        let (message, about) = ("1 job waits.".to_owned(), json!({"job": "j-7"}));
        let raised = Change::AlertRaised {
            alert,
            kind,
            subject: subject.clone(),
            message: message.clone(),
            about: about.clone(),
        };
        let ended = Change::AlertEnded {
            alert,
            kind,
            subject,
            message,
            about,
        };
        let at = Moment::from_micros(1_795_415_517_000_042);
        let changed = Change::AlertChanged { alert };
        assert!(source.event("812-4", at, &changed).is_none());
        for (change, predicate) in [(raised, "detected"), (ended, "resolved")] {
            let event = source.event("812-4", at, &change).unwrap();
            assert_eq!(
                (event.id.as_str(), event.alert.as_str()),
                ("812-4", "no-match")
            );
            let whole: Value = serde_json::from_str(&event.body).unwrap();
            assert_eq!(whole["time"], "2026-11-23T06:31:57.000042Z");
            let read: cdevents_sdk::CDEvent =
                serde_json::from_value(whole["data"].clone()).unwrap();
            assert_eq!(
                read.ty(),
                format!("dev.cdevents.incident.{predicate}.0.3.0")
            );
            assert_eq!(read.subject().content().predicate(), predicate);
            assert_eq!(Value::from(read.ty()), whole["type"]);
            let written = serde_json::to_value(&read).unwrap();
            assert_eq!(written["customData"]["about"]["job"], "j-7");
            assert_eq!(written["subject"], whole["data"]["subject"]);
        }
    }
}
