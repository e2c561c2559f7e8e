//! Announcing each of a job's commands: the script that does it, and what it starts inside the job.

use super::identity::SOCKET_VARIABLE;
use crate::error::Error;
use pennine_client::report_phase;
use pennine_wire::runner_protocol::PhaseReport;
use std::io::Write;
use std::path::Path;

/// The most characters of a command that are shown when it begins.
const MOST_SHOWN: usize = 120;

/// The shell's script of several commands: each is announced when it begins, by this program.
pub(super) fn announced(program: &str, commands: &[String]) -> String {
    let program = quoted(program);
    let count = commands.len();
    let parts = commands.iter().enumerate().map(|(i, command)| {
        let shown = quoted(&shown(command));
        let number = i + 1;
        format!("{program} command --number={number} --of={count} -- {shown} || :\n{command}")
    });
    parts.collect::<Vec<_>>().join("\n")
}

fn quoted(text: &str) -> String {
    shlex::try_quote(text).map_or_else(|_| "''".to_owned(), std::borrow::Cow::into_owned)
}

/// The first line of a command, cut.
fn shown(command: &str) -> String {
    let line = command.trim().lines().next().unwrap_or_default();
    let cut: String = line.chars().take(MOST_SHOWN).collect();
    match cut.len() == command.trim().len() {
        true => cut,
        false => format!("{cut} …"),
    }
}

/// Announces a command inside a job: in its log, and to its runner.
pub async fn announce(number: u32, of: u32, text: &str) -> Result<(), Error> {
    println!("pennine: command {number} of {of}: {text}");
    // Before the command's own output.
    let _ = std::io::stdout().flush();
    report(&PhaseReport::Command { number }).await;
    Ok(())
}

/// Reports to the runner, where the job has a socket. A report that does not arrive is missing from what is shown, and nothing else.
pub(super) async fn report(report: &PhaseReport) {
    if let Some(socket) = std::env::var_os(SOCKET_VARIABLE) {
        let _ = report_phase(Path::new(&socket), report).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_command_is_announced_and_quoted() {
        let script = announced(
            "/opt/pennine runner",
            &["make 'x'".into(), "cd /\npwd".into()],
        );
        assert_eq!(
            script,
            "'/opt/pennine runner' command --number=1 --of=2 -- \"make 'x'\" || :\nmake 'x'\n\
             '/opt/pennine runner' command --number=2 --of=2 -- 'cd / …' || :\ncd /\npwd"
        );
    }
}
