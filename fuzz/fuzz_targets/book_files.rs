//! Files of the book: edited by hand, printed by clouds, sent by colleagues.
#![no_main]

use std::path::Path;

use lantern_book::{InventoryForm, MachineBook, TrustFile, TrustStore, read_inventory};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let path = Path::new("fuzzed");
    if let Ok(book) = MachineBook::parse(path, text) {
        let _ = book.check();
    }
    let _ = TrustFile::read(path, text);
    if let Ok(store) = TrustStore::parse(path, text) {
        let _ = store.records();
        let _ = store.machine_at("192.0.2.1:22");
    }
    for form in [InventoryForm::Csv, InventoryForm::Json, InventoryForm::Yaml, InventoryForm::Toml] {
        let _ = read_inventory(path, text, form, None);
    }
});
