use super::*;
use proptest::prelude::*;

/// The mistakes of a sheet, each as `LINE:COLUMN MESSAGE`.
fn mistakes(text: &str) -> Vec<String> {
    let found = Sheet::parse(text).err().unwrap_or_default();
    let shown = found
        .iter()
        .map(|one| format!("{}:{} {}", one.line, one.column, one.message));
    shown.collect()
}

#[test]
fn a_sheet_is_read_whole() {
    let sheet = Sheet::parse(
        r#"
[values]
target = "x86_64"
level = 2

[jobs.build]
where = "linux and {cc} >= 12.2"
commands = ["make", "make check"]
vary = { cc = ["gcc", "clang"] }
time_limit = "1h 30m"
variables = { LEVEL = 3 }
secrets = { UPLOAD_KEY = "file" }
seats = { compiler-licence = 1 }
band = "urgent"
workspace = "kept"
on_failure = "retry"
tries = 3

[jobs.release]
script = "ci/release.sh"
after = [{ job = "build", success = false }]
applies = "branch = main"
hold = "person"
"#,
    )
    .unwrap();
    assert_eq!(sheet.values["level"], "2");
    let [gcc, clang, release] = sheet.jobs.as_slice() else {
        panic!("{:?}", sheet.jobs);
    };
    assert_eq!(
        (gcc.name.as_str(), clang.name.as_str()),
        ("build (gcc)", "build (clang)")
    );
    assert_eq!(gcc.requirement, "linux and gcc >= 12.2".parse().unwrap());
    assert_eq!(
        gcc.work,
        Work::Commands(vec!["make".into(), "make check".into()])
    );
    assert_eq!(gcc.time_limit, Some(Duration::from_secs(5400)));
    assert_eq!(
        (gcc.tries, gcc.line, gcc.variables["LEVEL"].as_str()),
        (3, 6, "3")
    );
    assert_eq!(release.work, Work::Script("ci/release.sh".into()));
    let needs = [0, 1].map(|job| Need {
        job,
        success: false,
    });
    assert_eq!(release.after, needs);
    assert!(release.is_held && release.applies.is_some());
    assert_eq!(release.requirement, Requirement::any());
    assert_eq!(sheet.steps(), [vec![0, 1], vec![2]]);
}

#[test]
fn mistakes_are_found_at_their_line_and_column_all_at_once() {
    let text = r#"[jobs.build]
where = "linux and"
commands = []
time_limit = "soon"

[jobs.test]
where = 'gcc >= {version}'
commands = ["make check"]
after = ["biuld", "biuld"]

[jobs.nothing]
"#;
    assert_eq!(
        mistakes(text),
        [
            "2:19 where: the requirement ends here; expected a label, a comparison such as mem >= 16GiB, has, not or (",
            "3:12 commands: list at least one",
            "4:14 time_limit: \"soon\" is not a length of time; use 90s, 20m, 2h or 3d",
            "7:17 where: {version} is neither among the values nor does it vary",
            "9:10 after names biuld, which is not a job of the sheet; did you mean build?",
            "9:19 after names biuld twice",
            "11:7 the job nothing does nothing: give commands or a script",
        ]
    );
}

#[test]
fn each_mistake_is_said_plainly() {
    let job = "[jobs.a]\ncommands = ['make']\n";
    for (text, expected) in [
        ("", "1:1 the sheet has no jobs: add one as [jobs.NAME]"),
        ("[jobs.a\n", "1:8 "),
        (
            "[jobs.a]\ncomands = ['make']",
            "2:1 unknown key `comands`; did you mean `commands`?",
        ),
        ("[job.a]\n", "1:2 unknown key `job`; did you mean `jobs`?"),
        (
            &format!("{job}script = 'x'"),
            "3:10 give commands or a script, not both",
        ),
        (
            "[jobs.a]\nscript = '../x'",
            "2:10 script: name a file of the project, by its path in it",
        ),
        (
            &format!("{job}after = [7]"),
            "3:9 write a job's name, or { job = NAME, success = false }",
        ),
        (
            &format!("{job}after = ['a']"),
            "1:7 these jobs wait for each other: a after a",
        ),
        (
            &format!("{job}vary = {{ cc = [] }}"),
            "3:15 vary.cc: list at least one value",
        ),
        (
            &format!("{job}vary = {{ cc = ['gcc'], without = [{{ os = 'x' }}] }}"),
            "3:34 vary.without: os does not vary",
        ),
        (
            &format!("{job}vary = {{ cc = ['gcc'], without = [{{ cc = 'x' }}] }}"),
            "3:34 vary.without: a table matches no combination",
        ),
        (
            &format!("{job}vary = {{ cc = ['gcc'], without = [{{ cc = 'gcc' }}] }}"),
            "3:10 vary: no combination is left",
        ),
        (
            &format!("{job}vary = {{ cc = ['gcc'], os = ['linux'], also = [{{ cc = 'tcc' }}] }}"),
            "3:47 vary.also: a table has no value for os",
        ),
        (
            &format!("{job}tries = 3"),
            "3:9 tries counts only with on_failure = \"retry\"",
        ),
        (
            &format!("{job}on_failure = 'retry'\ntries = 11"),
            "4:9 tries is 2 to 10",
        ),
        (&format!("{job}applies = 'branch ='"), "3:20 applies: "),
        (&format!("{job}where = '{{cc'"), "3:10 where: a { has no }"),
        (
            "[jobs.\"a b\"]\ncommands = ['make']",
            "1:7 a job's name has 1 to 100 letters, digits, -, _ and .",
        ),
        (
            &format!("{job}time_limit = '0s'"),
            "3:14 time_limit: it is more than 0",
        ),
        (
            &format!("{job}hold = 'nobody'"),
            "3:8 unknown variant `nobody`, expected `person`",
        ),
    ] {
        let found = mistakes(text);
        assert!(
            found.iter().any(|one| one.starts_with(expected)),
            "{text}\nexpected {expected}\nfound {found:?}"
        );
    }
}

#[test]
fn what_would_be_too_much_is_refused_with_its_number() {
    let large = format!("[jobs.a]\ncommands = ['{}']", "x".repeat(10 << 20));
    assert!(mistakes(&large)[0].contains("at most 1 MiB"));
    let list = |count: usize| format!("{:?}", (0..count).collect::<Vec<_>>());
    let text = format!(
        "[jobs.a]\ncommands = ['x']\nvary = {{ a = {}, b = {} }}",
        list(1000),
        list(100)
    );
    let found = mistakes(&text);
    assert_eq!(found.len(), 1, "{found:?}");
    assert!(
        found[0].contains("100000 or more jobs") && found[0].contains("2000"),
        "{found:?}"
    );
    let most = format!(
        "[jobs.a]\ncommands = ['x']\nvary = {{ a = {}, b = {} }}",
        list(200),
        list(10)
    );
    assert_eq!(Sheet::parse(&most).unwrap().jobs.len(), MOST_JOBS);
    let more = format!("{most}\n[jobs.b]\ncommands = ['x']");
    assert!(mistakes(&more)[0].contains("more than 2000 jobs"));
}

#[test]
fn a_cycle_of_500_is_named_from_one_job_back_to_it() {
    let job = |number: usize| {
        format!(
            "[jobs.j{number}]\ncommands = ['x']\nafter = ['j{}']\n",
            (number + 1) % 500
        )
    };
    let text: String = (0..500).map(job).collect();
    let found = mistakes(&text);
    assert_eq!(found.len(), 1);
    assert!(
        found[0].starts_with("1:7 these jobs wait for each other: j0 after j1 after j2 after ")
    );
    assert!(found[0].ends_with("after j499 after j0"), "{}", found[0]);
}

proptest! {
    /// The model: a job's step is one more than that of the last job that it waits for.
    #[test]
    fn no_job_is_in_a_step_before_what_it_waits_for(
        edges in prop::collection::vec((0usize..12, 0usize..12), 0..30),
    ) {
        // Only from later jobs to earlier ones, so that there is no cycle; named so that the order of names is another.
        let name = |number: usize| format!("j{}", (number * 7) % 12);
        let mut text = String::new();
        for number in 0..12 {
            let needs: std::collections::BTreeSet<String> = edges.iter()
                .filter(|(from, to)| *from == number && to < from)
                .map(|(_, to)| format!("'{}'", name(*to)))
                .collect();
            let needs: Vec<String> = needs.into_iter().collect();
            text += &format!("[jobs.{}]\ncommands = ['x']\nafter = [{}]\n", name(number), needs.join(", "));
        }
        let sheet = Sheet::parse(&text).unwrap();
        let steps = sheet.steps();
        let step_of = |job: usize| steps.iter().position(|step| step.contains(&job)).unwrap();
        for (position, job) in sheet.jobs.iter().enumerate() {
            let expected = job.after.iter().map(|need| step_of(need.job) + 1).max().unwrap_or(0);
            prop_assert_eq!(step_of(position), expected);
        }
        prop_assert_eq!(steps.iter().map(Vec::len).sum::<usize>(), 12);
    }

    #[test]
    fn no_text_ends_the_reader_in_any_other_way_than_with_mistakes(text in "(\\[jobs\\.[a-c]\\]\n|[a-z_]{1,6} = |['\"{}\\[\\],=. \n]|[0-9]{1,3}|after|commands|vary|where|é){0,40}") {
        let _ = Sheet::parse(&text);
    }
}
