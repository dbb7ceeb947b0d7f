//! The console's files are part of the binary: a new build of them is a new build of it.
fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
