//! The service's life.

use std::net::TcpListener;
use std::os::unix::net::UnixDatagram;

use deft_protocol::VERSION;

use crate::processes;
use crate::world::{World, until};

#[test]
fn start_returns_when_the_service_answers_and_leaves_the_terminal() {
    let world = World::new().start();
    // No wait in between: ready means ready.
    let status = world.status();
    assert_eq!(status.version, VERSION);
    assert!(status.database.up);
    let own = processes::session(std::process::id());
    assert_ne!(processes::session(status.pid), own, "it belongs to our session still");
    let second = world.deft(&["service", "start"]);
    assert_eq!(second.code, 0);
    assert!(second.out.contains("already running at"), "{second:?}");
    assert!(second.out.contains(&status.address) && second.out.contains(&status.pid.to_string()));
    world.ok(&["service", "stop"]);
    let left = processes::of_folder(&world.data_dir());
    assert!(left.is_empty(), "children are left: {left:?}");
    let stopped = world.deft(&["service", "stop"]);
    assert!(stopped.code == 0 && stopped.err.contains("no service is running"), "{stopped:?}");
}

#[test]
fn restart_brings_the_kept_models_back_where_they_were() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--lanes", "3"]);
    world.ok(&["ask", "larkfen-desk-mini", "Hello"]);
    let before = world.status();
    assert_eq!(before.instances.len(), 2);
    world.ok(&["service", "restart"]);
    let after = world.status();
    assert_eq!(after.address, before.address);
    assert_ne!(after.pid, before.pid);
    let kept = world.ready("larkfen-desk/q8_0");
    assert_eq!(kept.settings.lanes, 3);
    let names: Vec<String> = world.status().instances.into_iter().map(|found| found.name).collect();
    assert_eq!(names, ["larkfen-desk/q8_0"], "an instance loaded by a call is not a requested one");
    world.desk_answers();
}

#[test]
fn a_taken_port_is_named() {
    let world = World::new();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let said = world.deft(&["service", "start", "--listen", &address]);
    assert_eq!(said.code, 1);
    assert!(said.err.contains(&format!("{address} is used by another program")), "{said:?}");
    assert!(world.log().contains("is used by another program"), "the log has the reason too");
    assert!(processes::of_folder(&world.data_dir()).is_empty());
}

#[test]
fn a_command_without_a_service_says_how_to_start_it() {
    let world = World::new();
    let nobody = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let address = format!("http://{nobody}");
    for command in [vec!["status"], vec!["depot", "list"], vec!["ask", "larkfen-desk", "Hello"]] {
        let mut arguments = vec!["--service", address.as_str()];
        arguments.extend(command);
        let said = world.deft(&arguments);
        assert_eq!(said.code, 6, "{said:?}");
        assert!(said.err.contains(&address) && said.err.contains("deft service start"), "{said:?}");
    }
}

#[test]
fn the_command_line_works_against_another_address() {
    let world = World::new().start();
    let elsewhere = World::new();
    let address = world.address();
    let said = elsewhere.deft(&["--service", &address, "service", "status"]);
    assert!(said.code == 0 && said.out.contains(&address), "{said:?}");
    let elsewhere = elsewhere.with("DEFT_SERVICE", &address);
    assert!(elsewhere.ok(&["service", "status"]).contains(&address));
    let said = elsewhere.deft(&["--service", "larkfen", "status"]);
    assert!(said.code == 2 && said.err.contains("http://127.0.0.1:8471"), "{said:?}");
}

#[test]
fn wait_is_for_those_who_come_first() {
    let world = World::new();
    let mut waiting = world.command(&["service", "wait", "--timeout", "50"]).spawn().unwrap();
    let world = world.start().stock();
    assert!(waiting.wait().unwrap().success());
    let said = world.deft(&["service", "wait", "--for", "larkfen-desk", "--timeout", "0"]);
    assert_eq!(said.code, 5, "it is not loaded: {said:?}");
    let mut waiting = world.command(&["service", "wait", "--for", "larkfen-desk"]).spawn().unwrap();
    world.ok(&["load", "larkfen-desk"]);
    assert!(waiting.wait().unwrap().success());
}

#[test]
fn in_the_foreground_it_tells_its_supervisor() {
    let world = World::new();
    // Beside the data directory: a folder with other files that others may enter is not taken for one.
    let socket = world.data_dir().parent().unwrap().join("notify");
    let supervisor = UnixDatagram::bind(&socket).unwrap();
    supervisor.set_read_timeout(Some(crate::world::PATIENCE)).unwrap();
    let mut service = world
        .command(&["service", "start", "--foreground", "--listen", "127.0.0.1:0"])
        .env("NOTIFY_SOCKET", &socket)
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let mut buffer = [0; 256];
    let length = supervisor.recv(&mut buffer).unwrap();
    assert_eq!(buffer[..length].trim_ascii(), b"READY=1");
    assert_eq!(world.status().pid, service.id());
    processes::signal(service.id(), rustix::process::Signal::TERM);
    assert!(service.wait().unwrap().success());
    let length = supervisor.recv(&mut buffer).unwrap();
    assert_eq!(buffer[..length].trim_ascii(), b"STOPPING=1");
}

#[test]
fn the_log_can_be_read_and_the_unit_names_the_program() {
    let world = World::new().start();
    let log = world.ok(&["service", "logs", "--lines", "200"]);
    assert!(log.contains("ready at http://127.0.0.1:"), "{log}");
    let unit = world.ok(&["service", "unit"]);
    assert!(unit.contains(&format!("ExecStart={}", env!("CARGO_BIN_EXE_deft"))), "{unit}");
    assert!(unit.contains("Type=notify"));
}

/// A service of another version, as far as this matters: its status and its header.
#[test]
fn another_version_of_the_service_is_reported() {
    let world = World::new().start();
    let mut status = world.status();
    status.version = "0.0.9".to_owned();
    let body = serde_json::to_string(&status).unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let server = std::thread::spawn(move || {
        use std::io::{BufRead, BufReader, Write};
        let (mut stream, _) = listener.accept().unwrap();
        let mut lines = BufReader::new(stream.try_clone().unwrap()).lines();
        while lines.next().is_some_and(|line| !line.unwrap().is_empty()) {}
        let head = format!(
            "HTTP/1.1 200 OK\r\ndeft-version: 0.0.9\r\ncontent-type: application/json\r\n\
             connection: close\r\ncontent-length: {}\r\n\r\n",
            body.len()
        );
        stream.write_all((head + &body).as_bytes()).unwrap();
    });
    let said = world.deft(&["--service", &address, "status"]);
    server.join().unwrap();
    assert_eq!(said.code, 0);
    assert!(
        said.err.contains(&format!("this is deft {VERSION}, and the service runs 0.0.9")),
        "{said:?}"
    );
}

#[test]
fn settings_show_where_they_come_from_and_unknown_ones_are_errors() {
    let world = World::new().with("DEFT_HOST_LIMIT", "64 MiB");
    let shown = world.ok(&["config"]);
    assert!(shown.contains("environment variable DEFT_HOST_LIMIT"), "{shown}");
    std::fs::create_dir_all(world.data_dir()).unwrap();
    let file = world.data_dir().join("wrong.toml");
    std::fs::write(&file, "listn = \"127.0.0.1:1\"\n").unwrap();
    let said = world.deft(&["--config", &file.to_string_lossy(), "service", "start"]);
    assert_eq!(said.code, 2);
    assert!(said.err.contains("did you mean `listen`?"), "{said:?}");
}

#[test]
fn stopping_answers_running_calls_first() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let client = world.client();
    let (running, runs) = std::sync::mpsc::channel();
    let asking = std::thread::spawn(move || {
        crate::world::wait(async move {
            let mut stream = client.chat_stream(&crate::world::endless("larkfen-desk")).await?;
            let mut ended = false;
            while let Some(piece) = stream.next().await? {
                let _ = running.send(());
                ended |= matches!(piece, deft_client::StreamedPiece::Ended(_));
            }
            Ok::<bool, deft_client::ClientError>(ended)
        })
    });
    runs.recv_timeout(crate::world::PATIENCE).unwrap();
    world.ok(&["service", "stop"]);
    assert!(asking.join().unwrap().unwrap(), "the answer was not complete");
}

#[test]
fn a_start_that_is_broken_off_does_not_take_the_service_with_it() {
    let world = World::new();
    let mut starting =
        world.command(&["service", "start", "--listen", "127.0.0.1:0"]).spawn().unwrap();
    until("it holds the lock", || world.data_dir().join("service.json").exists().then_some(()));
    starting.kill().unwrap();
    starting.wait().unwrap();
    world.ok(&["service", "wait"]);
    assert!(world.status().database.up);
}

#[test]
fn a_restart_keeps_the_settings_that_the_service_runs_with() {
    let world = World::new();
    let file = world.data_dir().parent().unwrap().join("shelf.toml");
    std::fs::write(&file, "[pools.host]\nlimit = '48 MiB'\n").unwrap();
    let start = ["service", "start", "--listen", "127.0.0.1:0", "--config"];
    let mut first = world.command(&[&start[..], &[&file.to_string_lossy()]].concat());
    let started = first.env("DEFT_QUEUE", "7").output().unwrap();
    assert!(started.status.success(), "{started:?}");
    let before = (world.address(), world.status().pools[0].limit);
    let said = world.deft(&["service", "restart"]);
    assert_eq!(said.code, 0, "{said:?}");
    assert!(said.err.contains("shelf.toml") && said.err.contains("DEFT_QUEUE"), "{said:?}");
    assert_eq!((world.address(), world.status().pools[0].limit), before);
    assert_eq!(before.1, 48 << 20);
    let environment = std::fs::read(format!("/proc/{}/environ", world.status().pid)).unwrap();
    assert!(String::from_utf8_lossy(&environment).contains("DEFT_QUEUE=7"));
}
