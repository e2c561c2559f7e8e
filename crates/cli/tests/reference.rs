//! The command reference in docs/cli.md is what the program prints, and wrong use exits with the documented status.

// A test that cannot go on fails.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

use std::process::{Command, Output};

const REFERENCE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/cli.md");

fn pennine(arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_pennine"))
        .args(arguments)
        .env_clear()
        .env("HOME", "/nonexistent")
        .env("COLUMNS", "100")
        .output()
        .expect("pennine runs")
}

/// The subcommands that a help text lists.
fn listed(help: &str) -> Vec<String> {
    let commands = help.split_once("Commands:\n").map_or("", |(_, rest)| rest);
    let lines = commands.lines().take_while(|line| line.starts_with("  "));
    let names = lines
        .filter(|line| !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next());
    names
        .filter(|name| *name != "help")
        .map(str::to_owned)
        .collect()
}

fn describe(path: &[String], out: &mut String) {
    let mut arguments: Vec<&str> = path.iter().map(String::as_str).collect();
    arguments.push("--help");
    let output = pennine(&arguments);
    assert!(output.status.success());
    let help = String::from_utf8(output.stdout).expect("help is text");
    let title = [&["pennine".to_owned()], path].concat().join(" ");
    let help_lines: Vec<&str> = help.lines().map(str::trim_end).collect();
    out.push_str(&format!(
        "## {title}\n\n```text\n{}\n```\n\n",
        help_lines.join("\n").trim_end()
    ));
    for name in listed(&help) {
        describe(&[path, &[name]].concat(), out);
    }
}

#[test]
fn the_reference_is_what_the_program_prints() {
    let mut text =
        "# pennine: the command reference\n\nMade by `UPDATE=1 cargo test -p pennine`.\n\n"
            .to_owned();
    describe(&[], &mut text);
    let text = format!("{}\n", text.trim_end());
    if std::env::var_os("UPDATE").is_some() {
        std::fs::write(REFERENCE, &text).expect("the reference can be written");
    }
    let kept = std::fs::read_to_string(REFERENCE).unwrap_or_default();
    assert!(
        text.matches("\n## ").count() > 20,
        "every command is described"
    );
    assert_eq!(
        kept, text,
        "docs/cli.md is stale: UPDATE=1 cargo test -p pennine"
    );
}

#[test]
fn every_verb_offers_json() {
    let text = std::fs::read_to_string(REFERENCE).expect("the reference");
    for part in text.split("\n## ").skip(1) {
        assert!(
            part.contains("--json"),
            "{}",
            part.lines().next().unwrap_or_default()
        );
    }
}

#[test]
fn wrong_usage_exits_with_2_and_a_missing_connection_with_4() {
    let describe = |output: &Output| String::from_utf8_lossy(&output.stderr).into_owned();
    let unconfigured = pennine(&["status"]);
    assert_eq!(unconfigured.status.code(), Some(2));
    assert!(
        describe(&unconfigured).contains("PENNINE_URL"),
        "{}",
        describe(&unconfigured)
    );
    let tokenless = pennine(&["status", "--url", "http://127.0.0.1:9"]);
    assert_eq!(tokenless.status.code(), Some(2));
    assert!(
        describe(&tokenless).contains("admin.token"),
        "{}",
        describe(&tokenless)
    );
    let wrong = pennine(&["status", "--url", "ftp://here", "--token", "x"]);
    assert_eq!(wrong.status.code(), Some(2));
    let no_guide = pennine(&["help", "requirement"]);
    assert_eq!(no_guide.status.code(), Some(2));
    assert!(
        describe(&no_guide).contains("requirements"),
        "{}",
        describe(&no_guide)
    );
    let misspelt = pennine(&["jbo", "list"]);
    assert_eq!(misspelt.status.code(), Some(2));
    assert!(
        describe(&misspelt).contains("unrecognized subcommand 'jbo'"),
        "{}",
        describe(&misspelt)
    );
    let away = pennine(&["status", "--url", "http://127.0.0.1:9", "--token", "x"]);
    assert_eq!(away.status.code(), Some(4));
    assert!(describe(&away).contains("refused"), "{}", describe(&away));
}

#[test]
fn completions_manual_pages_and_guides_need_no_service() {
    for (shell, word) in [
        ("bash", "complete -F"),
        ("zsh", "#compdef pennine"),
        ("fish", "complete -c pennine"),
    ] {
        let output = pennine(&["generate", "completions", shell]);
        let script = String::from_utf8(output.stdout).expect("a script is text");
        assert!(script.contains(word), "{shell}: {script:.200}");
        assert!(
            script.contains("take-back"),
            "{shell} knows commands below commands"
        );
    }
    let folder = std::env::temp_dir().join(format!("pennine-man-{}", std::process::id()));
    let output = pennine(&["generate", "man", folder.to_str().expect("a path")]);
    assert!(
        output.status.success(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
    let page = std::fs::read_to_string(folder.join("pennine-job-submit.1")).expect("a page");
    assert!(
        page.contains(".TH") && page.contains("fail\\-unmatched"),
        "{page}"
    );
    assert!(folder.join("pennine.1").exists());
    std::fs::remove_dir_all(&folder).expect("the folder is removed");

    let guide = pennine(&["help", "requirements"]);
    let guide = String::from_utf8(guide.stdout).expect("a guide is text");
    assert!(guide.starts_with("REQUIREMENTS\n"), "{guide:.80}");
    let command = pennine(&["help", "job", "submit"]);
    let command = String::from_utf8(command.stdout).expect("help is text");
    assert!(command.contains("Usage: pennine job submit"), "{command}");
}

#[test]
fn output_to_a_pipe_has_no_colours() {
    for arguments in [&["--help"][..], &["help"], &["help", "waiting"]] {
        let output = pennine(arguments);
        assert!(!output.stdout.contains(&0x1b), "{arguments:?}");
    }
}

#[test]
fn the_settings_file_is_read_and_a_wrong_key_in_it_is_named() {
    let home = std::env::temp_dir().join(format!("pennine-cli-{}", std::process::id()));
    let folder = home.join(".config/pennine");
    std::fs::create_dir_all(&folder).expect("a folder");
    let run = |text: &str| {
        std::fs::write(folder.join("client.toml"), text).expect("a file");
        Command::new(env!("CARGO_BIN_EXE_pennine"))
            .arg("status")
            .env_clear()
            .env("HOME", &home)
            .output()
            .expect("it runs")
    };
    let away = run("url = \"http://127.0.0.1:9\"\ntoken = \"x\"\n");
    assert_eq!(away.status.code(), Some(4));
    let wrong = run("adress = \"http://127.0.0.1:9\"\n");
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("adress"));
    std::fs::remove_dir_all(&home).expect("the folder is removed");
}
