//! Links the static library of the Debian package `libvo-aacenc-dev`, so that the program needs no library for it at run time.

fn main() {
    let Ok(folder) = pkg_config::get_variable("vo-aacenc", "libdir") else {
        panic!("the AAC encoder is missing; install the packages pkg-config and libvo-aacenc-dev");
    };
    println!("cargo::rerun-if-changed=build.rs");
    println!("cargo::rustc-link-search=native={folder}");
    println!("cargo::rustc-link-lib=static=vo-aacenc");
}
