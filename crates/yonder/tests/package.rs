//! The Debian package: installed into a clean root, used, and removed.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::path::{Path, PathBuf};
use std::process::Command;

/// Runs a script of the packaging folder, and returns what it printed. A user other than root needs sudo for a root of
/// its own.
fn script(name: &str, arguments: &[&Path], needs_root: bool) -> String {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging").join(name);
    let mut command = if needs_root && !is_root() {
        let mut sudo = Command::new("sudo");
        sudo.arg(script);
        sudo
    } else {
        Command::new(script)
    };
    // The package is made for this test alone: it need not be small.
    let output = command.args(arguments).env("DEB_LEVEL", "0").output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{name}: {said}{}", String::from_utf8_lossy(&output.stderr));
    said
}

fn is_root() -> bool {
    std::fs::read_to_string("/proc/self/status").unwrap().lines().any(|line| line.starts_with("Uid:\t0\t"))
}

#[test]
fn package_installs_into_a_clean_root_and_keeps_its_data_on_removal() {
    let folder = tempfile::tempdir().unwrap();
    let built = script("build-deb", &[Path::new(env!("CARGO_BIN_EXE_yonder")), folder.path()], false);
    let package = PathBuf::from(built.trim());
    let field = |name: &str| {
        let shown = Command::new("dpkg-deb").arg("--field").arg(&package).arg(name).output().unwrap();
        String::from_utf8(shown.stdout).unwrap().trim().to_owned()
    };
    assert_eq!(field("Version"), env!("CARGO_PKG_VERSION"));
    let depends = field("Depends");
    assert!(depends.contains("libc6 (>=") && depends.contains("adduser"), "{depends}");
    let said = script("test-deb", &[&package], true);
    for step in ["install", "selfcheck", "a live picture", "remove", "passed"] {
        assert!(said.lines().any(|line| line == step), "{step} is not in {said}");
    }
    assert!(said.contains("The records are sound."), "{said}");
}
