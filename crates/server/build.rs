//! The console's folder must exist for the binary to be built, even before the console is.

fn main() -> std::io::Result<()> {
    println!("cargo::rerun-if-changed=../../console/dist");
    std::fs::create_dir_all("../../console/dist")
}
