//! Passes the path of the built script of the public pages to the compiler.

use std::path::Path;

fn main() {
    let manifest = std::env::var("CARGO_MANIFEST_DIR").unwrap_or_default();
    let console = Path::new(&manifest).join("../../console/dist-watch");
    let folder = if console.join("watch.js").exists() {
        console
    } else {
        println!("cargo::warning=the console is not built; run `make console`");
        Path::new(&manifest).join("missing-watch")
    };
    println!("cargo::rustc-env=YONDER_WATCH={}", folder.display());
    println!("cargo::rerun-if-changed=../../console/dist-watch");
}
