//! What a confined process cannot do any more. It cannot be undone, so it is tried in a process of its own: this
//! test starts itself again.

#![expect(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a test that panics has failed, and the process that started this one reads what it prints"
)]

use std::net::{TcpListener, TcpStream};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::process::Command;

use deft_engine::confine::{Allowed, Confined, confine};

/// Says to the process that it is the one that is confined.
const CHILD: &str = "DEFT_TEST_CONFINED";

fn own_file() -> PathBuf {
    std::path::Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../../demo/larkfen-desk/larkfen-desk-q8_0.gguf")
}

#[test]
fn a_confined_process_has_its_files_and_its_link_and_nothing_else() {
    if let Some(port) = std::env::var_os(CHILD) {
        return in_confinement(&port.to_string_lossy());
    }
    // Somebody who would answer.
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let name = "a_confined_process_has_its_files_and_its_link_and_nothing_else";
    let output = Command::new(std::env::current_exe().unwrap())
        .args(["--exact", name, "--nocapture", "--test-threads=1"])
        .env(CHILD, port.to_string())
        .output()
        .unwrap();
    let out = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{out}\n{}", String::from_utf8_lossy(&output.stderr));
    assert!(out.contains("all was tried"), "{out}");
}

fn in_confinement(port: &str) {
    let (mut ours, theirs) = UnixStream::pair().unwrap();
    let address = format!("127.0.0.1:{port}");
    drop(TcpStream::connect(&address).expect("before, it can be reached"));
    let memory = Some(4 << 30);
    let Confined { holds, missing } =
        confine(&Allowed { files: vec![own_file()], memory, seconds: None }).unwrap();
    println!("holds: {holds:?}; this kernel does not offer: {missing:?}");
    let offers = |what: &str| !missing.iter().any(|missing| missing.contains(what));
    // What it needs.
    assert!(std::fs::read(own_file()).unwrap().starts_with(b"GGUF"));
    std::io::Write::write_all(&mut ours, b"row").unwrap();
    let mut read = [0; 3];
    std::io::Read::read_exact(&mut &theirs, &mut read).unwrap();
    assert_eq!(std::thread::spawn(|| 7).join().unwrap(), 7, "threads");
    assert!(!std::fs::read("/proc/self/status").unwrap().is_empty());
    // What it does not.
    if offers("Landlock (") {
        assert!(std::fs::read("/etc/passwd").is_err(), "somebody else's file");
        let beside = own_file().with_file_name("larkfen-desk-f16.gguf");
        assert!(std::fs::File::open(beside).is_err(), "the file beside its own");
        assert!(std::fs::read_dir("/").is_err(), "a folder");
        assert!(std::fs::write("/tmp/deft-larkfen-confined", "x").is_err(), "writing anywhere");
        assert!(std::fs::File::options().write(true).open(own_file()).is_err(), "writing its own");
    }
    if offers("seccomp") {
        assert!(TcpStream::connect(&address).is_err(), "the network");
        assert!(TcpListener::bind("127.0.0.1:0").is_err(), "listening");
        assert!(UnixStream::pair().is_err(), "any socket");
        assert!(Command::new("/bin/true").status().is_err(), "another program");
        let parent = rustix::process::getppid().unwrap();
        assert!(rustix::process::test_kill_process(parent).is_err(), "a signal to its parent");
        let cannot = std::thread::spawn(move || TcpStream::connect(address).is_err());
        assert!(cannot.join().unwrap(), "its threads neither");
    }
    assert!(Vec::<u8>::new().try_reserve_exact(5 << 30).is_err(), "memory beyond its plan");
    println!("all was tried");
}
