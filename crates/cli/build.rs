//! The demo's configuration is part of the binary: a change to it is a new build.
fn main() {
    println!("cargo:rerun-if-changed=../../demo/config");
}
