//! The programs under test, built from the present sources.

use std::path::PathBuf;
use std::process::Command;
use std::sync::OnceLock;

/// Set when the programs are built already. Building them alone would compile many dependencies again, with fewer features.
const BUILT: &str = "HERON_PROGRAMS_BUILT";

/// Path of `herond` or `heron`. Cargo builds only the test's own package before it runs a test, so
/// the programs are built here, once a run; when they are current this takes a second.
///
/// # Panics
/// If they do not build.
pub fn program(name: &str) -> PathBuf {
    static FOLDER: OnceLock<PathBuf> = OnceLock::new();
    let folder = FOLDER.get_or_init(|| {
        let test = std::env::current_exe().expect("a path");
        // target/debug/deps/whole-… is two levels below the programs, target/debug/faults one.
        let beside = test.parent().expect("a folder");
        let folder = if beside.ends_with("deps") { beside.parent().expect("a folder") } else { beside }.to_path_buf();
        if std::env::var_os(BUILT).is_some() {
            return folder;
        }
        let profile = if folder.ends_with("release") { &["--release"][..] } else { &[] };
        let cargo = std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
        let built = Command::new(cargo)
            .args(["build", "--quiet", "-p", "service", "-p", "cli"])
            .args(profile)
            .current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
            .status();
        assert!(built.is_ok_and(|status| status.success()), "herond and heron do not build");
        folder
    });
    folder.join(name)
}
