//! The packages that CONTRIBUTING.md names are those that make installs.

use std::{collections::BTreeSet, path::Path, process::Command};

/// The words between back quotes of one cell of a table.
fn quoted(cell: &str) -> BTreeSet<String> {
    cell.split('`').skip(1).step_by(2).map(str::to_owned).collect()
}

#[test]
fn the_readme_names_the_packages_that_make_installs() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let readme = std::fs::read_to_string(root.join("CONTRIBUTING.md")).unwrap();
    // Within `cargo test` of `make test`: that make's own flags are not for this one.
    let listed = Command::new("make")
        .args(["--no-print-directory", "--silent", "list-packages"])
        .env_remove("MAKEFLAGS")
        .env_remove("MAKELEVEL")
        .current_dir(&root)
        .output()
        .unwrap();
    assert!(listed.status.success(), "{}", String::from_utf8_lossy(&listed.stderr));
    let listed = String::from_utf8(listed.stdout).unwrap();
    let mut compared = 0;
    for line in listed.lines() {
        let (target, packages) = line.split_once(": ").unwrap();
        let installed: BTreeSet<String> = packages.split_whitespace().map(str::to_owned).collect();
        let row =
            readme.lines().find(|row| row.starts_with('|') && row.contains(&format!("`make {target}`")));
        let row = row.unwrap_or_else(|| panic!("CONTRIBUTING.md has no row for make {target}"));
        let cell = row.split('|').nth(2).unwrap();
        // What is unpacked and not installed stands behind a semicolon; "those of `make …`" is another row.
        let (cell, unpacked) = cell.split_once("; unpacked").unwrap_or((cell, ""));
        let named: BTreeSet<String> =
            quoted(cell).into_iter().filter(|word| !word.starts_with("make ")).collect();
        assert_eq!(named, installed, "make {target}");
        if target == "test" {
            let makefile = std::fs::read_to_string(root.join("Makefile")).unwrap();
            let words = |after: &str, architecture: &str| -> Vec<String> {
                let (_, rest) = makefile.split_once(after).unwrap_or_else(|| panic!("no {after:?}"));
                let line = rest.lines().next().unwrap();
                let packages = line.split_whitespace().take_while(|word| *word != "&&");
                packages.map(|package| format!("{package}{architecture}")).collect()
            };
            let own = words("DOWNLOAD := apt-get -o APT::Sandbox::User=root download -qq ", "");
            let fetched: BTreeSet<String> =
                own.into_iter().chain(words("$(ARM64) download ", ":arm64")).collect();
            let named: BTreeSet<String> =
                quoted(unpacked).into_iter().filter(|word| !word.ends_with('/')).collect();
            assert_eq!(named, fetched, "what make test unpacks");
        }
        compared += installed.len();
    }
    assert!(compared > 40, "only {compared} packages were compared");
}
