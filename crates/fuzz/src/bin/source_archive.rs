#![no_main]

libfuzzer_sys::fuzz_target!(|input: &[u8]| pennine_fuzz::source_archive(input));
