//! Dependencies obey the rules in `deny.toml`: licenses, versions and sources.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde::Deserialize;
use spdx::{Expression, LicenseReq, ParseMode};

#[derive(Deserialize)]
struct Rules {
    licenses: Licenses,
    bans: Bans,
}

#[derive(Deserialize)]
struct Licenses {
    allow: Vec<String>,
}

#[derive(Deserialize)]
struct Bans {
    skip: Vec<Skip>,
}

#[derive(Deserialize)]
struct Skip {
    #[serde(rename = "crate")]
    name_and_version: String,
}

#[derive(Deserialize)]
struct Metadata {
    packages: Vec<Package>,
}

#[derive(Deserialize)]
struct Package {
    name: String,
    version: String,
    license: Option<String>,
    source: Option<String>,
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn rules() -> Rules {
    toml::from_str(&fs::read_to_string(root().join("deny.toml")).unwrap()).unwrap()
}

fn packages() -> Vec<Package> {
    let output = Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--locked", "--offline"])
        .current_dir(root())
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let metadata: Metadata = serde_json::from_slice(&output.stdout).unwrap();
    assert!(metadata.packages.len() > 100, "{} packages", metadata.packages.len());
    metadata.packages
}

#[test]
fn every_license_is_allowed() {
    let allowed = rules().licenses.allow;
    let is_allowed = |license: &LicenseReq| {
        allowed.iter().any(|name| license.license.id().is_some_and(|id| id.name == name))
    };
    for package in packages() {
        let license = package.license.unwrap_or_default();
        let expression = Expression::parse_mode(&license, ParseMode::LAX).unwrap();
        assert!(expression.evaluate(is_allowed), "{} {}: {license:?}", package.name, package.version);
    }
}

#[test]
fn only_listed_packages_have_two_versions() {
    let mut versions: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for package in packages() {
        versions.entry(package.name).or_default().insert(package.version);
    }
    let skips: BTreeSet<String> = rules().bans.skip.into_iter().map(|skip| skip.name_and_version).collect();
    for (name, versions) in &versions {
        let unlisted =
            versions.iter().filter(|version| !skips.contains(&format!("{name}@{version}"))).count();
        assert!(
            unlisted <= 1,
            "{name} has the versions {versions:?}; upgrade, or list the older ones in deny.toml"
        );
    }
    for skip in skips {
        let (name, version) = skip.split_once('@').unwrap();
        let is_needed = versions.get(name).is_some_and(|all| all.len() > 1 && all.contains(version));
        assert!(is_needed, "{skip} is listed in deny.toml but not needed any more");
    }
}

#[test]
fn packages_come_from_the_registry() {
    for package in packages() {
        let is_local = package.source.is_none() && package.name.starts_with("yonder");
        let is_registry = package.source.as_ref().is_some_and(|source| source.starts_with("registry+"));
        assert!(is_local || is_registry, "{}: {:?}", package.name, package.source);
    }
}
