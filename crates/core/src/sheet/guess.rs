//! A first sheet, guessed from the build files of a folder.

use std::collections::BTreeSet;
use std::fmt::Write;

/// What a folder holds that tells how its project is built.
#[derive(Clone, Debug, Default)]
pub struct ProjectFiles {
    /// The names of the files in it.
    pub names: BTreeSet<String>,
    /// The text of its `Makefile`.
    pub makefile: Option<String>,
    /// The text of its `package.json`.
    pub package: Option<String>,
}

/// A guessed sheet.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct GuessedSheet {
    pub text: String,
    /// The files that it was guessed from; none where no build file was known.
    pub from: Vec<&'static str>,
}

/// A job, guessed from a file.
struct GuessedJob {
    from: &'static str,
    name: &'static str,
    requirement: &'static str,
    commands: Vec<String>,
}

/// Build files whose commands do not depend on what is in them: the file, the job, its requirement, its commands.
const FIXED: [(&str, &str, &str, &[&str]); 7] = [
    (
        "Cargo.toml",
        "cargo",
        "has cargo",
        &["cargo build --locked", "cargo test --locked"],
    ),
    (
        "CMakeLists.txt",
        "cmake",
        "has cmake",
        &[
            "cmake -S . -B build",
            "cmake --build build",
            "ctest --test-dir build --output-on-failure",
        ],
    ),
    (
        "meson.build",
        "meson",
        "has meson and has ninja",
        &[
            "meson setup build",
            "meson compile -C build",
            "meson test -C build",
        ],
    ),
    (
        "go.mod",
        "go",
        "has go",
        &["go build ./...", "go test ./..."],
    ),
    (
        "pom.xml",
        "maven",
        "has maven",
        &["mvn --batch-mode verify"],
    ),
    (
        "pyproject.toml",
        "python",
        "has python",
        &[
            "python3 -m venv .venv",
            ".venv/bin/pip install .",
            ".venv/bin/python -m unittest",
        ],
    ),
    (
        "configure",
        "configure",
        "has make and has gcc",
        &["./configure", "make", "make check"],
    ),
];

/// The targets of a Makefile.
fn targets(makefile: &str) -> BTreeSet<&str> {
    let lines = makefile.lines().filter_map(|line| {
        let (names, rest) = line.split_once(':')?;
        let is_rule = !rest.starts_with('=') && !line.starts_with(['\t', ' ', '#', '.']);
        is_rule.then_some(names)
    });
    lines.flat_map(str::split_whitespace).collect()
}

fn of_makefile(text: &str) -> GuessedJob {
    let targets = targets(text);
    let mut commands = vec!["make".to_owned()];
    let tests = ["check", "test"];
    if let Some(test) = tests.into_iter().find(|name| targets.contains(name)) {
        commands.push(format!("make {test}"));
    }
    GuessedJob {
        from: "Makefile",
        name: "make",
        requirement: "has make",
        commands,
    }
}

fn of_package(text: &str, is_locked: bool) -> GuessedJob {
    let package: serde_json::Value = serde_json::from_str(text).unwrap_or_default();
    let has = |script: &str| package.pointer(&format!("/scripts/{script}")).is_some();
    let mut commands = vec![if is_locked { "npm ci" } else { "npm install" }.to_owned()];
    if has("build") {
        commands.push("npm run build".to_owned());
    }
    if has("test") {
        commands.push("npm test".to_owned());
    }
    GuessedJob {
        from: "package.json",
        name: "npm",
        requirement: "has npm",
        commands,
    }
}

/// A first sheet for a folder: one job for each build file that is known. It can be wrong, and says so.
pub fn guess(files: &ProjectFiles) -> GuessedSheet {
    let mut jobs: Vec<GuessedJob> = Vec::new();
    jobs.extend(files.makefile.as_deref().map(of_makefile));
    let is_locked = files.names.contains("package-lock.json");
    jobs.extend((files.package.as_deref()).map(|text| of_package(text, is_locked)));
    for (from, name, requirement, commands) in FIXED {
        if files.names.contains(from) {
            jobs.push(GuessedJob {
                from,
                name,
                requirement,
                commands: commands.iter().map(|line| (*line).to_owned()).collect(),
            });
        }
    }
    let from: Vec<&'static str> = jobs.iter().map(|job| job.from).collect();
    let mut text = match from.is_empty() {
        true => "# No build file that Pennine knows was found here: replace the command.\n\n\
                 [jobs.build]\n\
                 commands = [\"echo 'replace this with the command that builds the project'\"]\n"
            .to_owned(),
        false => format!(
            "# Guessed from {}. Correct what is wrong, then run: pennine sheet check\n",
            from.join(", ")
        ),
    };
    let is_alone = jobs.len() == 1;
    for job in jobs {
        let name = if is_alone { "build" } else { job.name };
        let commands: Vec<String> = (job.commands.iter())
            .map(|line| toml::Value::from(line.as_str()).to_string())
            .collect();
        // Writing to a text does not fail.
        let _ = write!(
            text,
            "\n[jobs.{name}]\nwhere = \"linux and {}\"\ncommands = [{}]\ntime_limit = \"30m\"\n",
            job.requirement,
            commands.join(", ")
        );
    }
    GuessedSheet { text, from }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::{Sheet, Work};

    fn files(names: &[&str]) -> ProjectFiles {
        ProjectFiles {
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            ..ProjectFiles::default()
        }
    }

    /// The jobs of a guessed sheet, each as `NAME: COMMANDS`.
    fn guessed(files: &ProjectFiles) -> Vec<String> {
        let sheet = Sheet::parse(&guess(files).text).expect("a guess is a sheet without mistakes");
        let shown = sheet.jobs.iter().map(|job| match &job.work {
            Work::Commands(lines) => format!("{}: {}", job.name, lines.join("; ")),
            Work::Script(file) => format!("{}: {file}", job.name),
        });
        shown.collect()
    }

    #[test]
    fn a_makefile_is_made_and_its_test_target_too() {
        let with = |text: &str| ProjectFiles {
            makefile: Some(text.into()),
            ..ProjectFiles::default()
        };
        assert_eq!(
            guessed(&with("CC := gcc\nall: buoy\ntest check: buoy\n\t./buoy\n")),
            ["build: make; make check"]
        );
        assert_eq!(guessed(&with("all:\n\ttest: no rule\n")), ["build: make"]);
    }

    #[test]
    fn every_known_build_file_becomes_a_job() {
        let mut all = files(&FIXED.map(|(file, ..)| file));
        all.names.insert("package-lock.json".into());
        all.package = Some(r#"{"scripts": {"build": "vite build", "test": "vitest"}}"#.into());
        all.makefile = Some(String::new());
        let jobs = guessed(&all);
        assert_eq!(jobs.len(), FIXED.len() + 2);
        assert!(jobs.contains(&"npm: npm ci; npm run build; npm test".to_owned()));
        assert_eq!(guess(&all).from.len(), jobs.len());
    }

    #[test]
    fn where_nothing_is_known_there_is_a_job_to_be_replaced() {
        assert_eq!(guessed(&files(&["notes.txt"])).len(), 1);
        assert!(guess(&files(&[])).from.is_empty());
        let broken = ProjectFiles {
            package: Some("{".into()),
            ..ProjectFiles::default()
        };
        assert_eq!(guessed(&broken), ["build: npm install"]);
    }
}
