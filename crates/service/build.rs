//! The console is part of the binary: it has to be built first.

fn main() {
    let page = std::path::Path::new("../../console/dist/index.html");
    println!("cargo::rerun-if-changed=../../console/dist");
    assert!(page.exists(), "the console is not built yet: run `make console` (or `make build`, which does both)");
}
