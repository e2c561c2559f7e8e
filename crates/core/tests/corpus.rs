//! The fuzz target's corpus, under the target's own rules.

// A test that cannot go on fails.
#![allow(clippy::unwrap_used)]

use pennine_core::requirement::Requirement;

/// The corpus of the fuzz target (`crates/core/fuzz`), under the same rules.
#[test]
fn what_the_fuzzer_was_fed_is_read_and_printed_the_same_or_refused_at_a_column() {
    let corpus = concat!(env!("CARGO_MANIFEST_DIR"), "/fuzz/corpus/requirement");
    let mut read = 0;
    for entry in std::fs::read_dir(corpus).unwrap() {
        let bytes = std::fs::read(entry.unwrap().path()).unwrap();
        let Ok(text) = String::from_utf8(bytes) else {
            continue;
        };
        read += 1;
        match text.parse::<Requirement>() {
            Ok(requirement) => {
                let printed = requirement.to_string();
                assert_eq!(printed.parse().as_ref(), Ok(&requirement), "{printed}");
            }
            Err(error) => {
                let columns = 1..=text.chars().count() + 1;
                assert!(columns.contains(&error.column), "{text:?}: {error:?}");
            }
        }
    }
    assert!(read > 20, "the corpus is there");
}
