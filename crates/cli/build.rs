//! Has the linker lay the functions that a request runs through beside each other, in a binary that is
//! built for speed: among all the others they are spread over many more pages, and each request goes
//! over all of these. The list is made by `scripts/count --layout`; what is in it and not in the binary
//! is passed over.

use std::env;
use std::path::Path;

const LIST: &str = "serving.ld";

fn main() {
    println!("cargo::rerun-if-changed={LIST}");
    let is = |key: &str, value: &str| env::var(key).is_ok_and(|it| it == value);
    let linker_knows_lists =
        is("CARGO_CFG_TARGET_OS", "linux") && is("CARGO_CFG_TARGET_ENV", "gnu");
    if linker_knows_lists && is("PROFILE", "release") {
        let list = Path::new(env!("CARGO_MANIFEST_DIR")).join(LIST);
        println!("cargo::rustc-link-arg-bins=-Wl,--script={}", list.display());
    }
}
