//! What is not as it should be on this machine or on the way to the service, and what to do about it.
//!
//! `pennine-runner doctor` looks at everything, step by step outward; the working runner looks at the machine itself
//! hourly and tells the service what is not good.

use crate::abilities::{self, Abilities};
use crate::error::{Error, check_protocol, describe};
use crate::home::{Home, Identity};
use crate::machine_settings::MachineSettings;
use crate::relay::host_and_port;
use crate::system::hardware;
use crate::systemd_unit as unit;
use pennine_client::{Route, RunnerClient};
use pennine_core::finding::{Finding, Verdict, findings_text, worst};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::size::ByteSize;
use pennine_core::time::{Moment, spoken};
use pennine_wire::runner_protocol::ServiceInfo;
use std::io::ErrorKind;
use std::net::SocketAddr;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use tokio::net::TcpStream;
use tokio::time::error::Elapsed;

/// With less free than this, logs and workspaces will not fit.
const ROOM: ByteSize = ByteSize(1 << 30);
/// With less free than this, little is missing.
const NARROW: ByteSize = ByteSize(5 << 30);
/// How far the machine's clock may be from the service's before there is a warning, and before joining is refused:
/// certificates and tokens that jobs use would fail in ways that are hard to find.
const CLOCK: Duration = Duration::from_secs(30);
pub const CLOCK_WRONG: Duration = Duration::from_secs(300);
/// How long a connection may take.
const CONNECT: Duration = Duration::from_secs(5);

/// How far this machine's clock is from the service's, and whether it is ahead.
pub fn clock_gap(hello: &ServiceInfo) -> (Duration, bool) {
    let since_epoch = SystemTime::now().duration_since(UNIX_EPOCH);
    let here = Moment::default() + since_epoch.unwrap_or_default();
    if here > hello.now {
        (here.since(hello.now), true)
    } else {
        (hello.now.since(here), false)
    }
}

fn clock(hello: &ServiceInfo) -> Finding {
    let (gap, ahead) = clock_gap(hello);
    let side = if ahead { "ahead of" } else { "behind" };
    let text = format!(
        "this machine's clock is {} {side} the service's",
        spoken(gap)
    );
    let remedy = "timedatectl set-ntp true, or set it by hand. Recorded times are the service's and stay correct; certificates and tokens may fail in jobs";
    match gap {
        gap if gap > CLOCK_WRONG => Finding::failed("clock", text).remedy(remedy),
        gap if gap > CLOCK => Finding::warning("clock", text).remedy(remedy),
        gap => Finding::passed("clock", format!("within {} of the service's", spoken(gap))),
    }
}

/// The clock, when the service is there to compare with.
pub async fn of_clock(client: &RunnerClient) -> Option<Finding> {
    client.hello().await.ok().map(|hello| clock(&hello))
}

/// The checks that need no connection.
pub fn of_machine(home: &Home, abilities: &Abilities) -> Vec<Finding> {
    let folder = home.path().display();
    let written = match home.try_writing() {
        Ok(()) => Finding::passed("folder", format!("{folder} is writable")),
        Err(error) => {
            let text = format!("{folder} is not writable: {error}");
            Finding::failed("folder", text).remedy(
                "change its owner to the user that runs pennine-runner, and check that its file system is not read-only or full",
            )
        }
    };
    let disk = match hardware::disk_of(home.path()) {
        None => Finding::warning("disk", format!("the disk of {folder} cannot be measured")),
        Some(disk) => {
            let text = format!("{} of {} are free below {folder}", disk.free, disk.size);
            let remedy = "free some space: jobs need it for their workspaces and logs";
            match disk.free {
                free if free < ROOM => Finding::failed("disk", text).remedy(remedy),
                free if free < NARROW => Finding::warning("disk", text).remedy(remedy),
                _ => Finding::passed("disk", text),
            }
        }
    };
    let mut findings = vec![written, disk];
    findings.extend(abilities.findings());
    findings
}

/// Name resolution and TCP, for one address of the service.
async fn of_route(url: &str) -> Vec<Finding> {
    let Some((host, port)) = host_and_port(url) else {
        return vec![Finding::failed(
            "address",
            format!("{url:?} is not an address"),
        )];
    };
    let bare = host.trim_matches(['[', ']']);
    let found = match tokio::net::lookup_host((bare, port)).await {
        Ok(found) => found.collect::<Vec<SocketAddr>>(),
        Err(error) => {
            let text = format!("{host} cannot be resolved: {error}");
            let remedy = "check the name, /etc/resolv.conf and that the name server answers; \
                        or put the name into /etc/hosts";
            return vec![Finding::failed("name", text).remedy(remedy)];
        }
    };
    let addresses: Vec<String> = found.iter().map(|one| one.ip().to_string()).collect();
    let mut findings = vec![Finding::passed(
        "name",
        format!("{host} is {}", addresses.join(", ")),
    )];
    for address in found {
        let begun = Instant::now();
        let connected = tokio::time::timeout(CONNECT, TcpStream::connect(address)).await;
        findings.push(of_connection(address, connected, begun.elapsed()));
    }
    findings
}

/// What became of a try to connect.
fn of_connection(
    address: SocketAddr,
    connected: Result<std::io::Result<TcpStream>, Elapsed>,
    took: Duration,
) -> Finding {
    let check = "connection";
    let outward = "this machine only needs an outbound connection to this port";
    match connected {
        Ok(Ok(_)) => Finding::passed(
            check,
            format!("{address} accepts connections within {}", spoken(took)),
        ),
        Ok(Err(error)) if error.kind() == ErrorKind::ConnectionRefused => {
            let text = "refuses: the machine is up, but nothing listens on the port";
            Finding::failed(check, format!("{address} {text}")).remedy(
                "check that pennined runs there and listens on this port, not only on loopback",
            )
        }
        Ok(Err(error)) => Finding::failed(check, format!("{address}: {error}")).remedy(format!(
            "check the route and the firewalls between; {outward}"
        )),
        Err(_) => {
            let text = format!("{address} did not answer within {}", spoken(CONNECT));
            Finding::failed(check, text).remedy(format!(
                "packets are dropped on the way, probably by a firewall; {outward}"
            ))
        }
    }
}

/// Who answers there.
async fn of_service(server: &str, route: &Route) -> (Vec<Finding>, Option<ServiceInfo>) {
    let hello = match RunnerClient::new(server, "", route) {
        Ok(client) => client.hello().await,
        Err(error) => Err(error),
    };
    let hello = match hello {
        Ok(hello) => hello,
        Err(error) => {
            let what = if server.contains("https://") {
                "tls and service"
            } else {
                "service"
            };
            let text = describe(&error);
            let (text, remedy) = text.split_once("\n  ").unwrap_or((&text, ""));
            let finding = Finding::failed(what, text);
            let remedy = (!remedy.is_empty()).then(|| remedy.to_owned());
            return (vec![Finding { remedy, ..finding }], None);
        }
    };
    let mut findings = Vec::new();
    if server.contains("https://") {
        findings.push(Finding::passed("tls", "its certificate is trusted here"));
    }
    let here = env!("CARGO_PKG_VERSION");
    findings.push(match check_protocol(&hello) {
        Err(error) => Finding::failed("version", error.to_string()),
        Ok(()) if hello.version != here => Finding::warning(
            "version",
            format!(
                "this is pennine-runner {here}, the service is {}",
                hello.version
            ),
        )
        .remedy("they are compatible; update one of them when convenient"),
        Ok(()) => Finding::passed("version", format!("both are {here}")),
    });
    findings.push(clock(&hello));
    (findings, Some(hello))
}

/// What the service says of this runner.
async fn of_credential(identity: &Identity, route: &Route) -> Finding {
    let me = match RunnerClient::new(&identity.server, &identity.credential, route) {
        Ok(client) => client.me().await,
        Err(error) => Err(error),
    };
    match me {
        Ok(runner) => {
            let mut text = format!(
                "{} ({}) in the pool {} is {}",
                runner.name, runner.short, runner.pool, runner.state
            );
            // One that works needs no reason.
            if !matches!(runner.state, RunnerState::Available | RunnerState::Busy) {
                text += &format!(": {}", runner.reason);
            }
            let call = |verb: &str| format!("pennine-runner {verb}");
            match runner.state {
                RunnerState::Offline => Finding::failed("runner", text).remedy(
                    "its program is not connected: pennine-runner work, or pennine-runner service status",
                ),
                RunnerState::Paused | RunnerState::Draining => {
                    Finding::warning("runner", text).remedy(call("resume"))
                }
                _ => Finding::passed("runner", text),
            }
        }
        Err(error) => {
            let text = describe(&error);
            let (text, remedy) = text.split_once("\n  ").unwrap_or((&text, ""));
            let finding = Finding::failed("credential", text);
            if remedy.is_empty() {
                finding
            } else {
                finding.remedy(remedy)
            }
        }
    }
}

/// What this machine can give its jobs, tried out with keepers of this program.
pub async fn abilities_of(home: &Home) -> Result<Abilities, Error> {
    let settings = MachineSettings::of(home.path())?;
    // Beside the folders of a runner that may be at work.
    let folder = home.path().join("doctor");
    let tried = abilities::keepers("/proc/self/exe".into(), &folder, &settings, None).await;
    let _ = std::fs::remove_dir_all(&folder);
    tried.map(|(_, abilities)| abilities)
}

/// Looks at everything, from the machine outward.
pub async fn examine(home: &Home, route: &Route, server: Option<&str>) -> Vec<Finding> {
    let mut findings = match abilities_of(home).await {
        Ok(abilities) => of_machine(home, &abilities),
        Err(error) => vec![Finding::failed("settings", error.to_string())],
    };
    let identity = match home.identity() {
        Ok(identity) => identity,
        Err(error) => {
            findings.push(Finding::failed("identity", error.to_string()));
            None
        }
    };
    findings.extend(unit::finding(home.path()));
    let known = identity.as_ref().map(|identity| identity.server.as_str());
    let Some(server) = server.or(known) else {
        findings.push(
            Finding::failed("identity", "this machine has not joined any service").remedy(
                "get the command with pennine ticket add --pool POOL, or test the connection with: pennine-runner doctor --server URL",
            ),
        );
        return findings;
    };
    // Through a socket, the way to the service is another machine's.
    if route.socket.is_none() {
        for url in server.split(',').map(str::trim) {
            findings.extend(of_route(url).await);
        }
    }
    let (found, hello) = of_service(server, route).await;
    findings.extend(found);
    if let (Some(identity), Some(_)) = (identity.as_ref().filter(|one| one.server == server), hello)
    {
        findings.push(of_credential(identity, route).await);
    }
    findings
}

/// Prints findings for people: the verdict first, and under each that did not pass, what to do.
pub fn print_findings(findings: &[Finding]) {
    print!("{}", findings_text(findings));
    let count = |verdict| findings.iter().filter(|one| one.verdict == verdict).count();
    let (failures, warnings) = (count(Verdict::Failed), count(Verdict::Warning));
    println!(
        "{}",
        match worst(findings) {
            Verdict::Passed => "All checks passed.".to_owned(),
            Verdict::Warning if warnings == 1 => "No failures, 1 warning.".to_owned(),
            Verdict::Warning => format!("No failures, {warnings} warnings."),
            Verdict::Failed if failures == 1 => "1 check failed.".to_owned(),
            Verdict::Failed => format!(
                "{failures} checks failed. Begin with the first: later ones may follow from it."
            ),
        }
    );
}

/// Examines this machine and its way to the service, and tells what was found.
pub async fn doctor(
    home: &Home,
    route: &Route,
    server: Option<&str>,
    json: bool,
) -> Result<(), Error> {
    let findings = examine(home, route, server).await;
    if json {
        let text = serde_json::to_string_pretty(&findings);
        println!("{}", text.map_err(|e| Error::Machine(e.to_string()))?);
    } else {
        print_findings(&findings);
    }
    match worst(&findings) {
        Verdict::Failed => Err(Error::Unwell),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_large_clock_difference_fails_the_check_and_a_small_one_does_not() {
        let hello = |offset: Duration| {
            let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap();
            ServiceInfo {
                service: "pennine".into(),
                version: String::new(),
                protocol: 1,
                oldest_protocol: 1,
                now: Moment::default() + now + offset,
            }
        };
        assert_eq!(clock(&hello(Duration::ZERO)).verdict, Verdict::Passed);
        let hour = clock(&hello(Duration::from_secs(3600)));
        assert_eq!(hour.verdict, Verdict::Failed);
        assert!(hour.message.contains("behind"), "{}", hour.message);
        assert_eq!(
            clock(&hello(Duration::from_secs(100))).verdict,
            Verdict::Warning
        );
    }
}
