//! Names of types in the OpenAPI document.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

fn sources(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let of = |path: PathBuf| if path.is_dir() { sources(&path) } else { vec![path] };
    entries.flat_map(of).collect()
}

/// The names of the types in a source that have a schema.
fn names(source: &str) -> Vec<String> {
    let mut has_schema = false;
    let mut found = Vec::new();
    for line in source.lines() {
        if line.starts_with("#[derive(") {
            has_schema = line.contains("ToSchema");
        }
        let name = ["pub struct ", "pub enum "].iter().find_map(|start| line.strip_prefix(start));
        if let Some(name) = name.filter(|_| std::mem::take(&mut has_schema)) {
            found.push(name.split(|c: char| !c.is_alphanumeric()).next().unwrap_or_default().to_owned());
        }
    }
    found
}

/// Two types of one name become one schema, which is right for neither.
#[test]
fn every_type_has_a_name_of_its_own() {
    let mut places: BTreeMap<String, Vec<PathBuf>> = BTreeMap::new();
    for path in sources(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src")) {
        let source = std::fs::read_to_string(&path).unwrap();
        names(&source).into_iter().for_each(|name| places.entry(name).or_default().push(path.clone()));
    }
    assert!(places.len() > 200, "{}", places.len());
    let twice: Vec<_> = places.into_iter().filter(|(_, places)| places.len() > 1).collect();
    assert!(twice.is_empty(), "{twice:#?}");
}
