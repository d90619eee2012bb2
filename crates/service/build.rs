//! The console is built into the service: another console makes another service.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
