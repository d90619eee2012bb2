//! The service deletes nothing that it does not understand, and touches only files that were named.

use std::os::unix::fs::{MetadataExt, symlink};

use serde_json::json;

use crate::world::{QUESTION, World, desk, mini, until};

const DESK: &str = "larkfen-desk/q8_0";

fn import(world: &World, file: &std::path::Path) {
    world.ok(&["depot", "import", &file.to_string_lossy()]);
}

#[test]
fn a_manifest_of_version_2_is_reported_and_kept_and_used_again_after_an_upgrade() {
    let world = World::new().start();
    import(&world, &desk());
    import(&world, &mini());
    world.ok(&["load", "larkfen-desk"]);
    let manifest = world.data_dir().join("depot/models/larkfen-desk/q8_0/.deft-variant.json");
    let good = std::fs::read_to_string(&manifest).unwrap();
    for (spoilt, why) in [
        (good.replace("\"version\": 1", "\"version\": 2"), "version 2"),
        (String::new(), "is not valid"),
        (good.replacen('{', "{\"shelf_row\": 7,", 1), "shelf_row"),
    ] {
        std::fs::write(&manifest, spoilt).unwrap();
        world.ok(&["service", "restart"]);
        let listed = world.ok(&["depot", "list"]);
        assert!(listed.contains("cannot be read") && listed.contains(why), "{listed}");
        let json: Vec<serde_json::Value> =
            serde_json::from_str(&world.ok(&["depot", "list", "--json"])).unwrap();
        assert!(json.iter().any(|answer| answer["not_understood"].is_string()), "{json:?}");
        let path = world.data_dir().join("depot/models/larkfen-desk/q8_0/larkfen-desk-q8_0.gguf");
        assert_eq!(std::fs::read(path).unwrap(), std::fs::read(desk()).unwrap());
        world.ok(&["ask", "larkfen-desk-mini", QUESTION, "--max-tokens", "2"]);
    }
    std::fs::write(&manifest, good).unwrap();
    world.ok(&["service", "restart"]);
    world.ready(DESK);
    world.desk_answers();
}

#[test]
fn a_depot_that_is_not_mounted_stops_a_start_and_nothing_is_forgotten() {
    let world = World::new().start();
    import(&world, &desk());
    world.ok(&["load", "larkfen-desk"]);
    world.ok(&["service", "stop"]);
    let (depot, elsewhere) = (world.data_dir().join("depot"), world.data_dir().join("unmounted"));
    std::fs::rename(&depot, &elsewhere).unwrap();
    std::fs::create_dir(&depot).unwrap();
    let start = ["service", "start", "--listen", "127.0.0.1:0"];
    let said = world.deft(&start);
    assert!(said.code == 1 && said.err.contains("list 1 models"), "{said:?}");
    assert!(said.err.contains("--accept-depot"), "{said:?}");
    assert_eq!(std::fs::read_dir(&depot).unwrap().count(), 0, "nothing was made there");
    // Another depot, with an identity of its own, is not this one either.
    let other = World::new().start_as_it_is();
    other.ok(&["service", "stop"]);
    std::fs::remove_dir(&depot).unwrap();
    std::fs::rename(other.data_dir().join("depot"), &depot).unwrap();
    let said = world.deft(&start);
    assert!(said.code == 1 && said.err.contains("Mount the right depot"), "{said:?}");
    std::fs::remove_dir_all(&depot).unwrap();
    std::fs::rename(&elsewhere, &depot).unwrap();
    let world = world.start();
    world.ready(DESK);
    world.desk_answers();
    world.ok(&["service", "stop"]);
    std::fs::rename(&depot, &elsewhere).unwrap();
    world.ok(&[&start[..], &["--accept-depot"]].concat());
    assert!(world.deft(&["depot", "list"]).err.contains("the depot is empty"));
}

#[test]
fn a_node_id_of_zero_bytes_stops_a_start_and_one_that_is_gone_is_found_again() {
    let world = World::stocked();
    world.ok(&["service", "stop"]);
    let file = world.data_dir().join("node-id");
    let id = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, "").unwrap();
    let said = world.deft(&["service", "start", "--listen", "127.0.0.1:0"]);
    assert!(said.code == 1 && said.err.contains("it is empty"), "{said:?}");
    assert!(said.err.contains(id.trim()), "the records know it: {said:?}");
    std::fs::remove_file(&file).unwrap();
    let world = world.start();
    assert_eq!(std::fs::read_to_string(&file).unwrap(), id);
    assert!(world.ok(&["depot", "list"]).contains("larkfen-desk-mini/q8_0"));
}

#[test]
fn a_database_that_is_torn_or_without_its_key_stops_a_start_and_stays() {
    let world = World::new().start();
    world.ok(&["service", "stop"]);
    let start = ["service", "start", "--listen", "127.0.0.1:0"];
    let database = world.data_dir().join("database");
    let (key, away) = (database.join("access.json"), database.join("away"));
    std::fs::rename(&key, &away).unwrap();
    let said = world.deft(&start);
    assert!(said.code == 1 && said.err.contains("holds the password of the records"), "{said:?}");
    std::fs::rename(&away, &key).unwrap();
    let control = database.join("cluster/global/pg_control");
    std::fs::rename(&control, &away).unwrap();
    let said = world.deft(&start);
    assert!(said.code == 1 && said.err.contains("is incomplete"), "{said:?}");
    assert!(database.join("cluster/PG_VERSION").is_file(), "nothing was removed");
    std::fs::rename(&away, &control).unwrap();
    // An interrupted creation is repeated.
    std::fs::create_dir(database.join("cluster.unfinished")).unwrap();
    assert!(world.start().status().database.up);
}

#[test]
fn records_that_are_not_understood_are_reported_and_stay() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk-mini"]);
    let sql = |statement: &str| crate::database::sql(&world, statement);
    sql("update variants set facts = '{\"shape_of_tomorrow\": 7}' where model = 'larkfen-desk'");
    sql(
        "insert into transfers select gen_random_uuid(), id, now(), false, '{}', '{\"row\": 7}' from nodes",
    );
    sql("update instances set settings = settings || '{\"context\": \"wide\"}'");
    world.ok(&["service", "restart"]);
    let listed = world.ok(&["depot", "list"]);
    assert!(listed.contains("larkfen-desk/q8_0: cannot be read (its record"), "{listed}");
    let said = world.deft(&["depot", "register", &desk().to_string_lossy()]);
    assert!(said.code == 4 && said.err.contains("exists and cannot be read"), "{said:?}");
    assert!(world.log().contains("the record of the requested"), "{}", world.log());
    assert_eq!(sql("select count(*) from variants where facts ? 'shape_of_tomorrow'"), "1");
    assert_eq!(sql("select count(*) from instances"), "1", "the requested instance stays too");
    world.ok(&["ask", "larkfen-desk-mini", QUESTION, "--max-tokens", "2"]);
}

#[test]
fn a_request_names_files_and_reaches_no_others() {
    let world = World::new().start();
    let folder = tempfile::tempdir().unwrap();
    let secret = folder.path().join("accounts");
    std::fs::write(&secret, "nobody named this").unwrap();
    let ask = |body: serde_json::Value| world.post("/manage/v1/depot/import", body);
    // A projector must be one; a template must be a short text.
    for projector in [secret.as_path(), desk().as_path(), std::path::Path::new("/dev/zero")] {
        let (status, answer) = ask(json!({"path": desk(), "projector": projector}));
        assert!((400..500).contains(&status), "{}: {answer}", projector.display());
    }
    let latin = folder.path().join("latin.jinja");
    std::fs::write(&latin, b"{{ 'S\xe4en' }}").unwrap();
    let long = folder.path().join("long.jinja");
    std::fs::write(&long, vec![b' '; (1 << 20) + 1]).unwrap();
    for (template, why) in [
        (std::path::Path::new("/dev/zero"), "is not a file"),
        (folder.path(), "is not a file"),
        (&latin, "is not UTF-8"),
        (&long, "longer than 1048576 bytes"),
    ] {
        let (status, answer) = ask(json!({"path": desk(), "template": template}));
        let detail = answer["detail"].as_str().unwrap();
        assert!((400..500).contains(&status) && detail.contains(why), "{detail}");
    }
    // A link in the last place is none of the files that were named.
    let link = folder.path().join("larkfen-linked-q8_0.gguf");
    symlink(desk(), &link).unwrap();
    for body in [json!({"path": link}), json!({"path": link, "move_it": true})] {
        let (status, answer) = ask(body);
        assert!(status == 409 && answer["code"] == "link_refused", "{answer}");
    }
    let (status, answer) = world.post("/manage/v1/depot/register", json!({"path": link}));
    assert!(status == 409 && answer["code"] == "link_refused", "{answer}");
}

#[test]
fn an_export_overwrites_nothing_and_follows_no_link() {
    let world = World::new().start();
    let folder = tempfile::tempdir().unwrap();
    let secret = folder.path().join("accounts");
    std::fs::write(&secret, "nobody named this").unwrap();
    let mode = secret.metadata().unwrap().mode();
    import(&world, &desk());
    let target = folder.path().join("target");
    std::fs::create_dir(&target).unwrap();
    let led = folder.path().join("led");
    symlink(&target, &led).unwrap();
    let export = |folder: &std::path::Path| {
        world.deft(&["depot", "export", "larkfen-desk", &folder.to_string_lossy()])
    };
    let (_, answer) =
        world.post("/manage/v1/depot/larkfen-desk/q8_0/export", json!({"folder": led}));
    let id = answer["id"].as_str().unwrap().to_owned();
    let failed = until("it is refused", || {
        let answer: serde_json::Value =
            serde_json::from_str(&world.ok(&["transfers", "--json"])).unwrap();
        let all = answer.as_array().unwrap().clone();
        all.into_iter().find(|it| it["id"] == *id && it["state"] == "failed")
    });
    assert_eq!(failed["problem"]["code"], "link_refused");
    symlink(&secret, target.join("larkfen-desk-q8_0.gguf")).unwrap();
    let said = export(&target);
    assert!(said.code == 4 && said.err.contains("already exists"), "{said:?}");
    assert_eq!(std::fs::read_to_string(&secret).unwrap(), "nobody named this");
    assert_eq!(secret.metadata().unwrap().mode(), mode);
    let other = folder.path().join("other");
    let said = export(&other);
    assert!(said.code == 0 && said.out.contains("larkfen-desk-q8_0.gguf"), "{said:?}");
}
