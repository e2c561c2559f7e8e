//! A program that a job did not find, by what shells and `make` write about it.

/// Programs whose facts have other names.
const FACTS: [(&str, &str); 4] = [
    ("python3", "python"),
    ("g++", "gxx"),
    ("mvn", "maven"),
    ("rustc", "rust"),
];

/// How many of the last lines are read: what is missing ends a job soon.
const LINES: usize = 20;

/// The program that was not found, by the end of a job's log.
///
/// ```
/// use pennine_core::missing_program::missing_program;
///
/// let log = "configuring\nsh: 3: cmake: not found\nexit code 127 after 12 ms\n";
/// assert_eq!(missing_program(log).as_deref(), Some("cmake"));
/// ```
pub fn missing_program(log: &str) -> Option<String> {
    log.lines().rev().take(LINES).find_map(of_line)
}

fn of_line(line: &str) -> Option<String> {
    let mut parts = line.trim_end().rsplit(": ");
    let says = parts.next()?;
    let program = parts.next()?.trim_matches(['\'', '"', '‘', '’', '`']);
    let before: Vec<&str> = parts.collect();
    let (by, place) = (before.last()?, before.first()?);
    let by = by.rsplit('/').next().unwrap_or_default();
    let is_shell = ["sh", "bash", "dash"].contains(&by) || by.ends_with(".sh");
    let is_line = |text: &str| {
        let number = text.strip_prefix("line ").unwrap_or(text);
        !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit())
    };
    let is_missing = match says {
        // The last is said of a program that is nowhere, where a folder of PATH may not be searched.
        "not found" | "command not found" | "Permission denied" => {
            is_shell && (before.len() == 1 || is_line(place))
        }
        "No such file or directory" => {
            before.len() == 1 && (by == "env" || by == "make" || by.starts_with("make["))
        }
        _ => false,
    };
    let is_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '+');
    let is_program = !program.is_empty() && program.len() <= 64 && program.chars().all(is_name);
    (is_missing && is_program).then(|| program.to_owned())
}

/// The fact that says whether a machine has a program.
pub fn fact_of(program: &str) -> &str {
    let known = FACTS.iter().find(|(name, _)| *name == program);
    known.map_or(program, |(_, fact)| fact)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_shells_and_make_write_is_understood() {
        for (line, program) in [
            ("sh: 1: protoc: not found", Some("protoc")),
            ("/bin/sh: 1: g++: not found", Some("g++")),
            ("sh: cmake: not found", Some("cmake")),
            ("sh: 1: cmake: Permission denied", Some("cmake")),
            ("sh: 1: ./configure: Permission denied", None),
            ("bash: line 3: cmake: command not found", Some("cmake")),
            (
                "ci/build.sh: line 12: node: command not found",
                Some("node"),
            ),
            ("make: gcc: No such file or directory", Some("gcc")),
            ("make[2]: gcc: No such file or directory", Some("gcc")),
            (
                "/usr/bin/env: ‘python3’: No such file or directory",
                Some("python3"),
            ),
            ("sh: 1: ./configure: not found", None),
            ("error 404: page: not found", None),
            ("cc1: error: buoy.h: not found", None),
            ("sh: 2: cannot open x: No such file or directory", None),
            (": not found", None),
            ("", None),
        ] {
            assert_eq!(of_line(line).as_deref(), program, "{line}");
        }
    }

    #[test]
    fn the_last_lines_are_read_and_facts_have_their_names() {
        let far = format!("sh: 1: gcc: not found\n{}", "more\n".repeat(LINES));
        assert_eq!(missing_program(&far), None);
        assert_eq!((fact_of("python3"), fact_of("cmake")), ("python", "cmake"));
    }
}
