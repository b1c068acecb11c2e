//! The folders of the console and of the agent's programs must exist for the binary to be built, even before those are.

fn main() -> std::io::Result<()> {
    println!("cargo::rerun-if-changed=../../console/dist");
    println!("cargo::rerun-if-changed=../../agents");
    std::fs::create_dir_all("../../agents")?;
    std::fs::create_dir_all("../../console/dist")
}
