//! Whatever is read as a requirement prints as one that is read as the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use pennine_core::requirement::Requirement;

fuzz_target!(|text: &str| {
    match text.parse::<Requirement>() {
        Ok(requirement) => {
            let printed = requirement.to_string();
            let again: Requirement = printed.parse().expect("what it prints can be read");
            assert_eq!(again, requirement, "{printed}");
        }
        Err(error) => {
            assert!(error.column >= 1 && error.column <= text.chars().count() + 1);
            assert!(!error.to_string().is_empty());
        }
    }
});
