//! Tells the compiler where the built console is. A program built without it says so in the browser.

use std::path::Path;

fn main() {
    let manifest = std::env::var("CARGO_MANIFEST_DIR").unwrap_or_default();
    let console = Path::new(&manifest).join("../../console/dist");
    let folder = if console.join("index.html").exists() {
        console
    } else {
        println!("cargo::warning=the console is not built; run `make console`");
        Path::new(&manifest).join("missing-console")
    };
    println!("cargo::rustc-env=YONDER_CONSOLE={}", folder.display());
    println!("cargo::rerun-if-changed=../../console/dist");
}
