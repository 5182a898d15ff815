//! Arrows point down only: between the modules of this crate, and between the crates of the product.

use std::path::{Path, PathBuf};

/// The modules, lowest first. Each may use those before it.
const MODULES: &[&str] = &[
    "visible", "error", "suggest", "value", "rows", "catalog", "project", "model", "access", "plan", "schema", "answer",
];
/// The crates, lowest first.
const CRATES: &[&str] = &["allocator", "core", "sql", "run", "sources", "service", "cli"];

fn sources_below(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources_below(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
}

/// The modules of its crate that a text of Rust names.
fn named(text: &str) -> impl Iterator<Item = &str> {
    let code = text.lines().filter(|line| !line.trim_start().starts_with("//"));
    code.flat_map(|line| line.split("crate::").skip(1)).map(|rest| {
        let end = rest.find(|character: char| !character.is_ascii_alphanumeric() && character != '_');
        &rest[..end.unwrap_or(rest.len())]
    })
}

#[test]
fn modules_use_those_below_them_only() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut files = Vec::new();
    sources_below(&root, &mut files);
    let mut wrong = Vec::new();
    for file in files {
        let place = file.strip_prefix(&root).unwrap();
        let module = place.iter().next().unwrap().to_str().unwrap().trim_end_matches(".rs");
        if module == "lib" {
            continue;
        }
        let own = MODULES.iter().position(|known| *known == module);
        let own = own.unwrap_or_else(|| panic!("{module} has no place among the modules"));
        let text = std::fs::read_to_string(&file).unwrap();
        // A list of modules in one `use` would not be seen.
        assert!(!text.contains("use crate::{"), "{}: one `use` per module", place.display());
        let above =
            named(&text).filter(|name| MODULES.iter().position(|known| known == name).is_some_and(|at| at > own));
        wrong.extend(above.map(|name| format!("{} uses {name}", place.display())));
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn crates_use_those_below_them_only() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    for (own, name) in CRATES.iter().enumerate() {
        let manifest = std::fs::read_to_string(crates.join(name).join("Cargo.toml")).unwrap();
        let product = manifest.split("[dev-dependencies]").next().unwrap();
        for above in &CRATES[own + 1..] {
            assert!(!product.contains(&format!("puente-{above}")), "{name} uses {above}");
        }
    }
}
