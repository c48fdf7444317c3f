//! The console's files are compiled in, so a new build of the console is a new build of this crate.

fn main() {
    println!("cargo::rerun-if-changed=../../console/dist");
}
