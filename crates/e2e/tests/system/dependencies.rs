//! The packages that are built with keep to `deny.toml`.

use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;

use serde::Deserialize;

/// How cargo names the one registry that is allowed: by leaving it out.
const FROM_ELSEWHERE: [&str; 3] = ["(http", "(git", "(registry"];

#[derive(Deserialize)]
struct Policy {
    licenses: Licenses,
    bans: Bans,
}

#[derive(Deserialize)]
struct Licenses {
    allow: Vec<String>,
}

#[derive(Deserialize)]
struct Bans {
    skip: Vec<Skipped>,
}

#[derive(Deserialize)]
struct Skipped {
    #[serde(rename = "crate")]
    package: String,
    reason: String,
}

struct Package {
    name: String,
    version: String,
    license: String,
    /// As cargo writes it, with its folder if it is ours.
    line: String,
}

/// All packages that are built for this machine, once each.
fn packages() -> Vec<Package> {
    let mut tree = Command::new(std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into()));
    tree.args(["tree", "--workspace", "--prefix", "none", "--locked", "--offline", "--format", "{p}|{l}"]);
    let out = tree.args(["--edges", "normal,build,dev"]).output().expect("cargo runs");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let text = String::from_utf8(out.stdout).unwrap();
    let lines: BTreeSet<&str> = text.lines().map(|line| line.trim_end_matches(" (*)")).collect();
    let package = |line: &str| {
        let (package, license) = line.split_once('|')?;
        let mut words = package.split(' ');
        let (name, version) = (words.next()?, words.next()?.trim_start_matches('v'));
        Some(Package { name: name.into(), version: version.into(), license: license.into(), line: package.into() })
    };
    lines.into_iter().filter(|line| !line.is_empty()).map(|line| package(line).expect(line)).collect()
}

fn policy() -> Policy {
    let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../deny.toml")).unwrap();
    toml::from_str(&text).unwrap()
}

#[test]
fn each_has_a_licence_that_is_allowed_and_comes_from_the_registry() {
    let allowed = policy().licenses.allow;
    let allowed: Vec<spdx::Licensee> = allowed.iter().map(|one| spdx::Licensee::parse(one).unwrap()).collect();
    let packages = packages();
    assert!(packages.len() > 300, "{}", packages.len());
    for package in packages {
        let Package { line, license, .. } = &package;
        assert!(!FROM_ELSEWHERE.iter().any(|elsewhere| line.contains(elsewhere)), "{line}");
        let expression = spdx::Expression::parse_mode(license, spdx::ParseMode::LAX)
            .unwrap_or_else(|why| panic!("{line}: {license}: {why}"));
        let fits = expression.evaluate(|wanted| allowed.iter().any(|one| one.satisfies(wanted)));
        assert!(fits, "{line} is under {license}");
    }
}

#[test]
fn what_there_is_twice_is_known_with_its_reason() {
    let mut versions: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for package in packages() {
        versions.entry(package.name).or_default().insert(package.version);
    }
    versions.retain(|_, versions| versions.len() > 1);
    for Skipped { package, reason } in policy().bans.skip {
        let (name, old) = package.split_once('@').unwrap();
        let left = versions.get_mut(name).unwrap_or_else(|| panic!("{package} is not there twice any more"));
        let before = left.len();
        left.retain(|version| version != old && !version.starts_with(&format!("{old}.")));
        assert!(left.len() < before && !reason.is_empty(), "{package} is not there any more");
    }
    versions.retain(|_, versions| versions.len() > 1);
    assert!(versions.is_empty(), "there twice, and not in deny.toml: {versions:?}");
}
