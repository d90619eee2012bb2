//! The console is built into the service: another console makes another service.
#![expect(clippy::print_stdout, reason = "how a build script speaks to Cargo")]

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
