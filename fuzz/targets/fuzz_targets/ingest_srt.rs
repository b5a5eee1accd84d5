#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| (yonder_fuzz::ENTRIES[14].run)(data));
