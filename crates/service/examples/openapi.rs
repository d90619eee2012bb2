//! Prints the OpenAPI document; `cargo xtask openapi` keeps the console's copy fresh with it.
#![expect(clippy::print_stdout, reason = "its whole purpose")]

fn main() {
    print!("{}", deft_service::openapi_document());
}
