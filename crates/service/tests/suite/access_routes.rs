//! Every route of the API with every role, at the root, at the place of what it touches, at another, and signed out.

use crate::capacity::{local, with_programs};
use crate::runners::{enrol, poll};
use crate::support::{Service, until};
use pennine_client::{Route, RunnerClient};
use pennine_core::access::{Action, Role};
use pennine_core::id::SessionId;
use pennine_core::measure::rank::PerMille;
use pennine_core::time::Micros;
use pennine_wire::{
    NewJob, NewMaintenance, NewPerson, NewPool, NewProject, NewRun, NewSeat, NewTarget, NewTeam,
    NewTicket, NewToken,
};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::time::Duration;
use uuid::Uuid;

const API: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");

/// What a route touches, which decides who may call it.
enum Touches {
    /// Nothing in particular: everybody who is signed in may, and each sees their own part.
    Lists,
    /// Something of shore.
    Shore(Action),
    /// Something of shore that only those who may do this know of.
    Hidden(Action),
    /// Something of the installation.
    Root(Action),
    /// Something that does not exist here.
    Nothing,
    /// The request's own session, or a one-time link.
    Session,
    /// The account of a person who is signed in; a token has none.
    Account,
}

/// What each route touches, and a valid body for it. A route that is missing here fails the test.
fn entry(operation: &str) -> (Touches, Value) {
    let found = of_teams(operation)
        .or_else(|| of_job_settings(operation))
        .or_else(|| of_installation(operation));
    found
        .unwrap_or_else(|| panic!("say in this test what {operation} touches, and who may call it"))
}

/// The routes of what a place gives its jobs, of approvals and of groups.
fn of_job_settings(operation: &str) -> Option<(Touches, Value)> {
    use Touches::Shore;
    Some(match operation {
        "approve_use" => (
            Shore(Action::ApproveUse),
            json!({"project": "shore/soundings"}),
        ),
        "withdraw_approval" => (
            Shore(Action::ApproveUse),
            json!({"project": "shore/soundings"}),
        ),
        "set_secret" => {
            let secret = json!({"place": "shore", "name": "KEY", "value": "slack water"});
            (Shore(Action::ManageSecrets), secret)
        }
        "remove_secret" => {
            let secret = json!({"place": "shore", "name": "KEY"});
            (Shore(Action::ManageSecrets), secret)
        }
        "grant_to_group" => {
            let grant = json!({"group": "sailors", "role": "viewer", "place": "shore"});
            (Shore(Action::ManageAccess), grant)
        }
        "revoke_from_group" => {
            let grant = json!({"group": "sailors", "place": "shore"});
            (Shore(Action::ManageAccess), grant)
        }
        _ => return None,
    })
}

/// The routes that touch what belongs to a team, or list it.
fn of_teams(operation: &str) -> Option<(Touches, Value)> {
    use Touches::{Hidden, Lists, Shore};
    let none = Value::Null;
    Some(match operation {
        "list_alerts" | "show_thresholds" | "list_decisions" | "list_jobs" | "list_job_actions"
        | "list_runs" | "list_listeners" | "list_machines" | "list_maintenance" | "list_pools"
        | "list_projects" | "queue" | "list_runners" | "list_seats" | "skyline" | "status"
        | "list_audit" | "list_variables" | "list_secrets" | "list_group_grants"
        | "list_people" | "list_suppliers" | "list_targets" | "list_teams" | "list_tickets"
        | "list_tokens" | "show_trends" | "list_waits" | "show_week" | "show_yard_file"
        | "stream_events" => (Lists, none),
        "try_requirement" => (Lists, json!({"where": "linux"})),
        "show_project" | "show_job" | "compare_job" | "size_job" | "show_run" | "read_log"
        | "read_log_lines" | "why_job_waits" | "show_pool" | "show_relief" | "show_runner"
        | "check_runner" | "list_next" | "show_runner_time" => (Shore(Action::View), none),
        "submit_job" => {
            let job = json!({"project": "shore/soundings", "command": ["true"]});
            (Shore(Action::SubmitJob), job)
        }
        "act_on_jobs" => (
            Shore(Action::CancelJob),
            json!({"action": "cancel", "team": "shore"}),
        ),
        "cancel_job" | "cancel_run" => (Shore(Action::CancelJob), none),
        "submit_run" => {
            let sheet = "[jobs.build]\ncommands = ['true']\n";
            let run = json!({"project": "shore/soundings", "sheet": sheet});
            (Shore(Action::SubmitJob), run)
        }
        "upload_source" => (Shore(Action::SubmitJob), none),
        "retry_run" => (Shore(Action::SubmitJob), json!({})),
        "release_job" => (Shore(Action::SubmitJob), none),
        "add_team" => (
            Shore(Action::AddPlace),
            json!({"name": "tides", "parent": "shore"}),
        ),
        "add_project" => (
            Shore(Action::AddPlace),
            json!({"name": "tides", "team": "shore"}),
        ),
        "change_place" => (Shore(Action::ChangePlace), json!({"weight": 2})),
        "remove_place" => (Shore(Action::RemovePlace), none),
        "add_pool" => (
            Shore(Action::ManagePool),
            json!({"name": "skiff", "owner": "shore"}),
        ),
        "change_pool" => (Shore(Action::ManagePool), json!({"paused": true})),
        "remove_pool" => (Shore(Action::ManagePool), json!({})),
        "start_machines" => (Shore(Action::ManageMachines), json!({})),
        "add_ticket" => (Shore(Action::ManageTickets), json!({})),
        "revoke_ticket" => (Shore(Action::ManageTickets), none),
        "change_runner" => (Shore(Action::ManageRunner), json!({"slots": 2})),
        "set_runner_desired_state" => (
            Shore(Action::ManageRunner),
            json!({"desired_state": "pause"}),
        ),
        "retire_runner" => (Shore(Action::ManageRunner), json!({})),
        "take_runner_back" => (Shore(Action::ManageRunner), json!({"reason": "needed"})),
        "add_maintenance" => {
            let window = json!({"pool": "jetty", "length_us": 1_000_000, "reason": "cleaning"});
            (Shore(Action::ManageRunner), window)
        }
        "end_maintenance" => (Shore(Action::ManageRunner), none),
        "add_target" => {
            let target = json!({"name": "next", "place": "shore", "within_us": 60_000_000,
                "share": 950, "days": 7});
            (Shore(Action::ManageTarget), target)
        }
        "change_target" => (Shore(Action::ManageTarget), json!({"days": 8})),
        "remove_target" => (Shore(Action::ManageTarget), none),
        "add_token" => {
            let token = json!({"name": "more", "role": "viewer", "place": "shore"});
            (Shore(Action::ManageAccess), token)
        }
        "add_person" => {
            let person = json!({"name": "more", "role": "viewer", "place": "shore"});
            (Shore(Action::ManageAccess), person)
        }
        "show_person" | "show_permission" => (Hidden(Action::ManageAccess), none),
        "change_person" | "add_person_link" => (Hidden(Action::ManageAccess), json!({})),
        "grant_role" => {
            let grant = json!({"role": "viewer", "place": "shore"});
            (Shore(Action::ManageAccess), grant)
        }
        "set_variable" => {
            let variable = json!({"place": "shore", "name": "CC", "value": "gcc"});
            (Shore(Action::ManageVariables), variable)
        }
        "remove_variable" => {
            let variable = json!({"place": "shore", "name": "CC"});
            (Shore(Action::ManageVariables), variable)
        }
        "revoke_role" => (Shore(Action::ManageAccess), json!({"place": "shore"})),
        "revoke_token" => (Hidden(Action::ManageAccess), none),
        "rotate_token" | "change_token" => (Hidden(Action::ManageAccess), json!({})),
        _ => return None,
    })
}

/// The routes that touch what belongs to the installation, and the others.
fn of_installation(operation: &str) -> Option<(Touches, Value)> {
    use Touches::{Account, Nothing, Root, Session};
    let none = Value::Null;
    Some(match operation {
        "export_history" => (Root(Action::View), none),
        "import_history" => (Root(Action::ImportHistory), none),
        "change_thresholds" => (Root(Action::ChangeThresholds), json!({})),
        "add_listener" => {
            let listener = json!({"name": "pager", "url": "https://pager.example/hook"});
            (Root(Action::ManageSubscribers), listener)
        }
        "remove_listener" | "renew_listener" => (Root(Action::ManageSubscribers), none),
        "try_listener" => (Root(Action::ReadDeliveries), none),
        "change_listener" => (Root(Action::ManageSubscribers), json!({})),
        "add_seat" => (
            Root(Action::ManageSeats),
            json!({"name": "bench", "count": 1}),
        ),
        "change_seat" => (Root(Action::ManageSeats), json!({"count": 4})),
        "take_seat_back" => {
            let back = json!({"job": "j-1", "reason": "needed"});
            (Root(Action::ManageSeats), back)
        }
        "add_supplier" => (
            Root(Action::ManageSupplier),
            json!({"name": "quay", "kind": "local"}),
        ),
        "show_supplier" => (Root(Action::View), none),
        "change_supplier" => (Root(Action::ManageSupplier), json!({})),
        "remove_supplier" => (Root(Action::ManageSupplier), none),
        "check_supplier" => (Root(Action::CheckSupplier), json!({})),
        "note_yard_file" => {
            let applied = json!({"name": "yard.toml", "things": {}});
            (Root(Action::ApplyYardFile), applied)
        }
        "forget_yard_file" => (Root(Action::ApplyYardFile), none),
        "show_machine"
        | "show_machine_console"
        | "show_job_action"
        | "stop_job_action"
        | "acknowledge_alert" => (Nothing, none),
        "stop_machine" => (Nothing, json!({})),
        "sign_in"
        | "sign_out"
        | "show_sign_in_options"
        | "who_is_signed_in"
        | "show_link"
        | "use_link" => (Session, none),
        "show_account" | "end_session" => (Account, none),
        "change_password" => {
            let change = json!({"present": "slack water", "new": "slack water at noon"});
            (Account, change)
        }
        "begin_second_factor" | "remove_second_factor" => {
            (Account, json!({"password": "slack water"}))
        }
        "confirm_second_factor" => (Account, json!({"code": "123456"})),
        _ => return None,
    })
}

/// What exists of shore, and the names by which it would be recognised where it must not be seen.
struct Shore {
    job: String,
    run: String,
    runner: String,
    ticket: String,
    maintenance: String,
}

impl Shore {
    /// Makes it, beside the firmware team's own things.
    async fn furnish(service: &Service) -> Shore {
        service.furnish().await;
        let people = &service.client;
        let (name, parent) = ("shore".into(), None);
        people.add_team(&NewTeam { name, parent }).await.unwrap();
        let (name, team) = ("soundings".into(), "shore".into());
        people
            .add_project(&NewProject { name, team })
            .await
            .unwrap();
        let jetty = NewPool {
            name: "jetty".into(),
            owner: Some("shore".into()),
            ..NewPool::default()
        };
        people.add_pool(&jetty).await.unwrap();
        let ticket = people.add_ticket("jetty", &NewTicket::default()).await;
        let ticket = ticket.unwrap();
        let unknown = RunnerClient::new(&service.url, "", &Route::default()).unwrap();
        let joined = unknown
            .enrol(&enrol(&ticket.secret, "reef-01"))
            .await
            .unwrap();
        let runner = RunnerClient::new(&service.url, &joined.credential, &Route::default());
        let session = SessionId(Uuid::now_v7());
        runner.unwrap().poll(&poll(session, 1)).await.unwrap();
        let job = NewJob {
            project: "shore/soundings".into(),
            command: vec!["true".into()],
            requirement: "sonar-array".into(),
            ..NewJob::default()
        };
        let job = people.submit(&job, None).await.unwrap().job.name;
        let run = NewRun {
            project: "shore/soundings".into(),
            sheet: "[jobs.survey]\nwhere = 'sonar-array'\ncommands = ['true']\n".into(),
            ..NewRun::default()
        };
        let run = people.submit_run(&run).await.unwrap().run.line.name;
        let hand = NewPerson {
            name: "shore-hand".into(),
            full_name: String::new(),
            role: Role::Viewer,
            place: "shore".into(),
        };
        people.add_person(&hand).await.unwrap();
        let target = NewTarget {
            name: "shore-prompt".into(),
            place: Some("shore".into()),
            share: PerMille(950),
            within_us: Micros::from(Duration::from_secs(60)),
            days: 7,
            ..NewTarget::default()
        };
        people.add_target(&target).await.unwrap();
        let window = NewMaintenance {
            pool: Some("jetty".into()),
            runner: None,
            from: None,
            length_us: Micros::from(Duration::from_secs(3600)),
            reason: "dredging".into(),
        };
        let maintenance = people.add_maintenance(&window).await.unwrap();
        let seat = NewSeat {
            name: "compiler".into(),
            count: 3,
            description: String::new(),
        };
        people.add_seat(&seat).await.unwrap();
        people.add_supplier(&local(1)).await.unwrap();
        let spare = NewToken {
            name: "shore-spare".into(),
            role: Role::Viewer,
            place: "shore".into(),
            purpose: None,
            lifetime_us: None,
            is_own: false,
        };
        people.add_token(&spare).await.unwrap();
        Shore {
            job,
            run,
            runner: "reef-01".into(),
            ticket: ticket.ticket.name,
            maintenance: maintenance.name,
        }
    }

    /// A route's path with the names of these things.
    fn path(&self, path: &str) -> String {
        let names = [
            ("{job}", self.job.as_str()),
            ("{run}", &self.run),
            ("{runner}", &self.runner),
            ("{ticket}", &self.ticket),
            ("{maintenance}", &self.maintenance),
            ("{pool}", "jetty"),
            ("{project}", "shore%2Fsoundings"),
            ("{path}", "shore%2Fsoundings"),
            ("{target}", "shore-prompt"),
            ("{token}", "shore-spare"),
            ("{person}", "shore-hand"),
            ("{session}", "01900000-0000-7000-8000-000000000000"),
            ("{seat}", "compiler"),
            ("{supplier}", "here"),
            ("{listener}", "pager"),
            ("{machine}", "m-77"),
            ("{alert}", "al-77"),
            ("{action}", "b-77"),
        ];
        let named = names.iter().fold(path.to_owned(), |path, (place, name)| {
            path.replace(place, name)
        });
        assert!(
            !named.contains('{'),
            "{path} has a part without a name in this test"
        );
        match path.rsplit('/').next() {
            Some("runner-time") => format!("{named}?runners={}", self.runner),
            Some("permission") => format!("{named}?action=view"),
            Some("sources") => format!("{named}?project=shore%2Fsoundings"),
            _ => named,
        }
    }

    /// By what these things would be recognised.
    fn words(&self) -> [&str; 9] {
        [
            "soundings",
            "jetty",
            "reef-01",
            "shore-prompt",
            "sonar-array",
            "dredging",
            "shore-spare",
            "shore-hand",
            "pen-token-",
        ]
    }
}

struct Caller {
    role: Role,
    place: &'static str,
    secret: String,
}

impl Caller {
    fn sees_shore(&self) -> bool {
        matches!(self.place, "" | "shore")
    }

    /// What this caller is answered, as far as it follows from their role and place: none where the request may go through.
    fn refusal(&self, touches: &Touches) -> Option<Vec<StatusCode>> {
        let has = |action: Action| self.role >= action.role();
        let refused = |status: &[StatusCode]| Some(status.to_vec());
        match touches {
            Touches::Lists | Touches::Session => None,
            Touches::Shore(_) | Touches::Hidden(_) if !self.sees_shore() => {
                refused(&[StatusCode::NOT_FOUND])
            }
            Touches::Shore(action) if !has(*action) => refused(&[StatusCode::FORBIDDEN]),
            Touches::Hidden(action) if !has(*action) => refused(&[StatusCode::NOT_FOUND]),
            Touches::Root(action) if !self.place.is_empty() || !has(*action) => {
                refused(&[StatusCode::FORBIDDEN, StatusCode::NOT_FOUND])
            }
            Touches::Account => refused(&[StatusCode::FORBIDDEN]),
            Touches::Nothing => refused(&[StatusCode::NOT_FOUND]),
            Touches::Shore(_) | Touches::Hidden(_) | Touches::Root(_) => None,
        }
    }
}

/// The routes of the committed description: method, path, operation.
fn routes() -> Vec<(Method, String, String)> {
    let api: Value = serde_json::from_str(&std::fs::read_to_string(API).unwrap()).unwrap();
    let paths = api["paths"].as_object().unwrap().iter();
    let mut routes = Vec::new();
    for (path, methods) in paths {
        for (method, operation) in methods.as_object().unwrap() {
            let Some(name) = operation["operationId"].as_str() else {
                continue;
            };
            let method: Method = method.to_uppercase().parse().unwrap();
            routes.push((method, path.clone(), name.to_owned()));
        }
    }
    assert!(routes.len() > 60, "{} routes were found", routes.len());
    routes
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_route_refuses_each_role_what_it_may_not_do_and_hides_what_it_may_not_see() {
    let service = with_programs().await;
    let shore = Shore::furnish(&service).await;
    let mut callers = Vec::new();
    for role in Role::ALL.iter().copied() {
        for (place, at) in [("", "root"), ("shore", "shore"), ("firmware", "firmware")] {
            let new = NewToken {
                name: format!("{at}-{role}"),
                role,
                place: place.into(),
                purpose: None,
                lifetime_us: None,
                is_own: false,
            };
            let secret = service.client.add_token(&new).await.unwrap().secret;
            callers.push(Caller {
                role,
                place,
                secret,
            });
        }
    }
    service.queue_when(|queue| queue.waiting == 2).await;
    until("the runner is shown", async || {
        service.client.runner("reef-01").await.ok()
    })
    .await;
    let http = reqwest::Client::new();
    let mut wrong = Vec::new();
    for (method, path, operation) in routes() {
        let (touches, body) = entry(&operation);
        let url = format!("{}{}", service.url, shore.path(&path));
        let request = |secret: Option<&str>| {
            let mut request = http.request(method.clone(), &url);
            if let Some(secret) = secret {
                request = request.bearer_auth(secret);
            }
            match operation.as_str() {
                "import_history" => request.header("content-type", "text/csv").body("id\n"),
                _ if body.is_null() => request,
                _ => request.json(&body),
            }
        };
        if !matches!(touches, Touches::Session) {
            let signed_out = request(None).send().await.unwrap().status();
            assert_eq!(signed_out, 401, "{method} {path}, signed out");
        }
        for caller in &callers {
            let who = format!("{method} {path} by a {} at {:?}", caller.role, caller.place);
            let expected = caller.refusal(&touches);
            let may_change = method != Method::GET && !matches!(touches, Touches::Lists);
            if expected.is_none() && may_change {
                // It would change what the next caller needs.
                continue;
            }
            let answer = request(Some(&caller.secret)).send().await.unwrap();
            let status = answer.status();
            let is_as_expected = match &expected {
                Some(expected) => expected.contains(&status),
                // The job that is compared is not done.
                None if operation == "compare_job" => status == StatusCode::CONFLICT,
                None => status.is_success(),
            };
            if operation == "stream_events" && status.is_success() {
                continue;
            }
            let text = answer.text().await.unwrap();
            if !is_as_expected {
                wrong.push(format!("{who}: {status}, not {expected:?}: {text}"));
            }
            if status.is_success() && !caller.sees_shore() {
                let shown = shore.words().into_iter().find(|word| text.contains(word));
                wrong.extend(shown.map(|word| format!("{who} shows {word}: {text}")));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
