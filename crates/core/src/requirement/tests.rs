use super::*;
use crate::fact::{FactValue, Facts};
use proptest::prelude::*;

fn requirement(text: &str) -> Requirement {
    text.parse().unwrap_or_else(|e| panic!("{text}: {e}"))
}

fn runner(labels: &[&str], facts: &[(&str, &str)]) -> Subject {
    let facts: Facts = facts
        .iter()
        .map(|(name, value)| {
            let value = value
                .parse()
                .map(FactValue::Count)
                .unwrap_or_else(|_| FactValue::Text((*value).to_owned()));
            ((*name).to_owned(), value)
        })
        .collect();
    Subject::new("fell-03", "staithe", labels.iter().copied(), &facts)
}

fn fell() -> Subject {
    runner(
        &["bench", "Shared"],
        &[
            ("os", "linux"),
            ("arch", "arm64"),
            ("cores", "8"),
            ("mem", "24GiB"),
            ("gcc", "12.2.0"),
            ("python", "3.11.7"),
        ],
    )
}

#[test]
fn the_examples_of_the_guide_hold_on_a_runner_that_fits() {
    for text in [
        "",
        "linux and arm64",
        "os = linux and not gpu",
        "mem >= 16GiB and cores >= 8",
        "gcc >= 12.2 and (gpu or bench)",
        "runner = \"fell-03\"",
        "pool = staithe",
        "has python",
        "LINUX AND Shared",
        "gcc = 12",
        "gcc <= 12",
        "not gcc > 12.2",
        "mem < 25 or gpu or mem < 25GB and bench",
    ] {
        if text.contains("mem < 25 ") {
            assert!(
                text.parse::<Requirement>().is_err(),
                "a size without a unit is refused"
            );
            continue;
        }
        assert!(requirement(text).satisfied_by(&fell()), "{text}");
    }
    for text in [
        "gpu",
        "os = linux and shared and gpu",
        "mem > 24GiB",
        "cores < 8",
        "gcc >= 12.3",
        "has perl",
    ] {
        assert!(!requirement(text).satisfied_by(&fell()), "{text}");
    }
}

#[test]
fn a_comparison_with_a_missing_fact_is_false_either_way() {
    assert!(!requirement("perl != 5").satisfied_by(&fell()));
    assert!(!requirement("perl = 5").satisfied_by(&fell()));
    assert!(requirement("not (perl = 5)").satisfied_by(&fell()));
}

#[test]
fn and_binds_tighter_than_or() {
    assert!(requirement("bench or gpu and nothing").satisfied_by(&fell()));
    assert!(!requirement("(bench or gpu) and nothing").satisfied_by(&fell()));
}

#[test]
fn a_wrong_requirement_is_refused_at_its_column_with_what_was_expected() {
    for (text, column, part) in [
        ("linux and", 10, "ends here"),
        ("linux arm64", 7, "expected and or or"),
        ("(linux or arm64", 16, "column 1 is not closed"),
        ("linux)", 6, "closes nothing"),
        ("mem >= 16", 8, "unit"),
        ("cores >= many", 10, "whole number"),
        ("os < linux", 4, "no order"),
        ("gcc == 12", 5, "one ="),
        ("= 12", 1, "left side"),
        ("gcc >=", 7, "value"),
        ("linux && arm64", 7, "write and"),
        ("has and", 5, "name of a fact"),
        ("\"linux\"", 1, "without quotation"),
        ("gcc = \"12", 7, "no end"),
        ("lin;ux", 4, "no meaning"),
        ("größe and or", 11, "found or"),
    ] {
        let error = text.parse::<Requirement>().expect_err(text);
        assert_eq!(error.column, column, "{text}: {error}");
        assert!(error.message.contains(part), "{text}: {error}");
    }
}

#[test]
fn nesting_and_length_are_bounded() {
    assert!("not ".repeat(20).parse::<Requirement>().is_err());
    assert!(
        format!("{}a{}", "(".repeat(400), ")".repeat(400))
            .parse::<Requirement>()
            .is_err()
    );
    assert!("a and ".repeat(400).parse::<Requirement>().is_err());
}

#[test]
fn requirements_that_differ_only_in_order_case_and_brackets_are_the_same() {
    let one = requirement("linux and (gpu or Bench) and linux");
    let two = requirement("((bench or GPU)) and linux");
    assert_eq!(one, two);
    assert_eq!(one.to_string(), "linux and (bench or gpu)");
}

#[test]
fn an_explanation_counts_failing_runners_by_clause_and_names_the_nearest() {
    let other = runner(&["gpu"], &[("os", "linux"), ("arch", "x86-64")]);
    let yard =
        [("fell-03", &fell()), ("fell-04", &other)].map(|(name, subject)| (name, subject.clone()));
    let yard: Vec<_> = yard
        .iter()
        .map(|(name, subject)| (*name, subject))
        .collect();
    let found = explain(
        &requirement("linux and gpu and amr64"),
        yard.iter().copied(),
    );
    assert_eq!((found.runners, found.satisfying), (2, 0));
    let counts: Vec<_> = found
        .clauses
        .iter()
        .map(|c| (c.clause.as_str(), c.failing))
        .collect();
    assert_eq!(counts, [("amr64", 2), ("gpu", 1), ("linux", 0)]);
    assert_eq!(
        found.nearest,
        Some(NearMiss {
            runner: "fell-04".into(),
            fails: vec!["amr64".into()]
        })
    );
    assert_eq!(
        found.hints[0].describe(),
        "no runner has \"amr64\"; did you mean \"arm64\"?"
    );
}

fn text() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        prop::sample::select(vec!["linux", "arm64", "bench", "gpu", "shared"])
            .prop_map(str::to_owned),
        prop::sample::select(vec!["has gcc", "has perl", "has mem"]).prop_map(str::to_owned),
        (
            prop::sample::select(vec!["gcc", "python", "perl"]),
            prop::sample::select(vec!["=", "!=", "<", "<=", ">", ">="]),
            prop::sample::select(vec!["12", "12.2", "12.10", "3.11.7"]),
        )
            .prop_map(|(fact, op, value)| format!("{fact} {op} {value}")),
    ];
    leaf.prop_recursive(4, 24, 3, |inner| {
        prop_oneof![
            inner.clone().prop_map(|a| format!("not ({a})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) and ({b})")),
            (inner.clone(), inner).prop_map(|(a, b)| format!("({a}) or ({b})")),
        ]
    })
}

proptest! {
    #[test]
    fn any_text_is_read_or_refused_without_a_panic(text in "\\PC{0,60}") {
        if let Err(error) = text.parse::<Requirement>() {
            prop_assert!(error.column >= 1 && error.column <= text.chars().count() + 1, "{}", error);
        }
    }

    #[test]
    fn the_normal_form_reads_back_as_itself(text in text()) {
        let once = requirement(&text);
        prop_assert_eq!(&requirement(&once.to_string()), &once);
    }

    #[test]
    fn negation_turns_the_answer_round_and_order_does_not_matter(a in text(), b in text()) {
        let holds = |text: String| requirement(&text).satisfied_by(&fell());
        let (one, two) = (holds(a.clone()), holds(b.clone()));
        prop_assert_eq!(holds(format!("not ({a})")), !one);
        prop_assert_eq!(holds(format!("({a}) and ({b})")), one && two);
        prop_assert_eq!(holds(format!("({b}) or ({a})")), one || two);
    }

    #[test]
    fn a_runner_satisfies_exactly_when_no_clause_fails_on_it(text in text()) {
        let wanted = requirement(&text);
        let fell = fell();
        let found = explain(&wanted, [("fell-03", &fell)]);
        let failing: u64 = found.clauses.iter().map(|clause| clause.failing).sum();
        prop_assert_eq!(wanted.satisfied_by(&fell), failing == 0);
        prop_assert_eq!(found.nearest.is_some(), failing > 0);
    }
}

#[test]
fn a_size_with_blanks_is_the_size_without_and_a_word_keeps_its_blanks() {
    let parsed = |text: &str| text.parse::<Requirement>().unwrap();
    assert_eq!(
        parsed("scratch >= \"\n 11\u{c}kib\""),
        parsed("scratch >= 11KiB")
    );
    assert_eq!(
        parsed("scratch >= \"11 KIB \"").to_string(),
        "scratch >= 11KiB"
    );
    assert_ne!(parsed("runner = \"11 kib\""), parsed("runner = 11kib"));
    assert_eq!(
        parsed("runner = \"11 kib\"").to_string(),
        "runner = \"11 kib\""
    );
}
