//! Data directories that were copied back from a backup, or moved.

use std::path::Path;
use std::process::Command;

use deft_protocol::manage::InstanceState;

use crate::world::{World, desk, wait};

const DESK: &str = "larkfen-desk/q8_0";

/// A service that was stopped with a stored model that is requested.
fn backed_up() -> World {
    let world = World::new().start();
    world.ok(&["depot", "import", &desk().to_string_lossy()]);
    world.ok(&["load", "larkfen-desk", "--lanes", "3"]);
    world.ok(&["service", "stop"]);
    world
}

/// Takes the copy in place of the data directory.
fn restore(world: &World, preserved: &str) {
    let (data, backup) = (world.data_dir(), world.data_dir().with_extension("backup"));
    let mut copy = Command::new("cp");
    copy.args(["--recursive", "--no-dereference", &format!("--preserve={preserved}")]);
    assert!(copy.args([&data, &backup]).status().unwrap().success());
    std::fs::rename(&data, data.with_extension("lost")).unwrap();
    std::fs::rename(&backup, &data).unwrap();
}

fn links(world: &World) -> u64 {
    let path = world.ok(&["depot", "path", "larkfen-desk"]);
    std::os::unix::fs::MetadataExt::nlink(&Path::new(path.trim()).metadata().unwrap())
}

#[test]
fn a_faithful_copy_serves_as_before() {
    let world = backed_up();
    restore(&world, "mode,ownership,timestamps,links");
    let world = world.start_as_it_is();
    assert_eq!(world.ready(DESK).settings.lanes, 3);
    world.desk_answers();
    assert_eq!(links(&world), 2);
}

#[test]
fn a_copy_that_lost_times_and_links_serves_after_its_files_are_verified() {
    let world = backed_up();
    restore(&world, "mode,ownership");
    let world = world.start_as_it_is();
    let failed = world.instance(DESK).unwrap();
    assert_eq!(failed.state, InstanceState::Failed);
    let problem = failed.problem.unwrap();
    assert_eq!(problem.code, "file_changed");
    let way_out = problem.way_out.unwrap();
    assert!(way_out.ends_with("deft depot verify larkfen-desk/q8_0"), "{way_out}");
    assert_eq!(links(&world), 1, "two files now");
    assert!(world.ok(&["depot", "verify", DESK]).contains("1 file verified"));
    assert_eq!(links(&world), 2, "one file again");
    assert_eq!(wait(world.client().retry(failed.id)).unwrap().state, InstanceState::Ready);
    world.desk_answers();
}

#[test]
fn a_file_with_other_content_is_named_and_left_as_it_is() {
    let world = backed_up();
    restore(&world, "mode,ownership");
    let world = world.start_as_it_is();
    let path = world.ok(&["depot", "path", "larkfen-desk"]);
    let mut other = std::fs::read(path.trim()).unwrap();
    *other.last_mut().unwrap() ^= 1;
    std::fs::write(path.trim(), &other).unwrap();
    let said = world.deft(&["depot", "verify"]);
    assert!(
        said.code != 0
            && said.err.contains("has other content than")
            && said.err.contains("move the other file away"),
        "{said:?}"
    );
    assert_eq!(std::fs::read(path.trim()).unwrap(), other, "it was overwritten");
    assert_eq!(links(&world), 1);
    let load = world.deft(&["load", "larkfen-desk"]);
    assert!(load.code != 0 && load.err.contains("changed"), "it is not used either: {load:?}");
    // The way out that was named.
    std::fs::rename(path.trim(), world.data_dir().join("moved-away.gguf")).unwrap();
    world.ok(&["depot", "verify", "larkfen-desk"]);
    assert_eq!(links(&world), 2);
    world.desk_answers();
}

#[test]
fn a_data_directory_may_move() {
    let world = backed_up();
    let moved = world.data_dir().with_extension("moved");
    std::fs::rename(world.data_dir(), &moved).unwrap();
    let world = world.with("DEFT_DATA_DIR", &moved.to_string_lossy()).start_as_it_is();
    world.ready(DESK);
    world.desk_answers();
    assert!(world.ok(&["depot", "path", "larkfen-desk"]).starts_with(&*moved.to_string_lossy()));
}
