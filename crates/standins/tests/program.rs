//! Tests of the stand-ins as a program, as the demo runs it.

use std::net::TcpListener;
use std::process::Command;

#[test]
fn a_registry_that_does_not_answer_is_an_error_not_a_panic() {
    let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("larkfen-desk.gguf");
    std::fs::write(&file, "content").unwrap();
    let image = format!("{closed}/larkfen/larkfen-desk:q8_0");
    let mut program = Command::new(env!("CARGO_BIN_EXE_deft-standins"));
    let said = program.arg("push").arg(&image).arg(&file).output().unwrap();
    let errors = String::from_utf8_lossy(&said.stderr);
    assert_eq!(said.status.code(), Some(1), "{errors}");
    assert!(errors.contains(&closed.to_string()) && !errors.contains("panicked"), "{errors}");
}
