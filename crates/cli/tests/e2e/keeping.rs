//! The depot's own files: import, list, export, rename, remove, verify.

use std::path::Path;

use deft_protocol::manage::{TransferState, Variant};

use crate::world::{ANSWER, QUESTION, World, desk, mini, project, until, wait};

const DESK: &str = "larkfen-desk/q8_0";

fn import(world: &World, path: &Path) -> String {
    world.ok(&["depot", "import", &path.to_string_lossy()])
}

fn variant(world: &World, name: &str) -> Option<Variant> {
    wait(world.client().depot()).unwrap().into_iter().find(|found| found.name == name)
}

#[test]
fn an_imported_model_stands_under_its_own_name_and_answers_without_its_source() {
    let world = World::new().start();
    let spare = world.spare_desk();
    let named = spare.with_file_name("larkfen-desk-q8_0.gguf");
    std::fs::rename(&spare, &named).unwrap();
    assert!(import(&world, &named).contains("stored as `larkfen-desk/q8_0`"));
    std::fs::remove_file(&named).unwrap();
    let path = world.ok(&["depot", "path", "larkfen-desk"]);
    let path = Path::new(path.trim());
    assert!(path.ends_with("models/larkfen-desk/q8_0/larkfen-desk-q8_0.gguf"), "{path:?}");
    assert_eq!(std::fs::read(path).unwrap(), std::fs::read(desk()).unwrap());
    world.desk_answers();
    let used = until("the call is counted", || {
        variant(&world, DESK).filter(|found| found.calls == 1 && found.last_used.is_some())
    });
    assert!(used.stored);
    let list = world.ok(&["depot", "list", "desk", "--sort", "used"]);
    assert!(list.contains("stored") && list.contains("last used"), "{list}");
    assert!(world.deft(&["depot", "list", "moonhook"]).err.contains("no variant in the depot"));
}

#[test]
fn a_folder_is_looked_through_and_its_models_are_offered() {
    let world = World::new().start();
    let shelf = tempfile::tempdir().unwrap();
    std::fs::create_dir(shelf.path().join("deep")).unwrap();
    std::fs::copy(desk(), shelf.path().join("larkfen-desk-q8_0.gguf")).unwrap();
    std::fs::copy(mini(), shelf.path().join("deep/larkfen-desk-mini-q8_0.gguf")).unwrap();
    let broken = project("golden/bad/04-truncated-data.gguf");
    std::fs::copy(broken, shelf.path().join("larkfen-broken.gguf")).unwrap();
    let folder = shelf.path().to_string_lossy().into_owned();
    let said = world.deft(&["depot", "import", &folder]);
    assert!(said.code == 4 && said.err.contains("without asking: --yes"), "{said:?}");
    assert!(said.err.contains("cannot be used") && said.err.contains("truncated"), "{said:?}");
    let said = world.ok(&["depot", "import", &folder, "--all", "--move"]);
    assert_eq!(said.lines().count(), 2, "{said}");
    assert!(!shelf.path().join("larkfen-desk-q8_0.gguf").exists(), "it was moved");
    assert!(shelf.path().join("larkfen-broken.gguf").exists(), "what was refused stays");
    assert!(variant(&world, "larkfen-desk-mini/q8_0").is_some_and(|found| found.stored));
    let empty = tempfile::tempdir().unwrap();
    let said = world.deft(&["depot", "import", &empty.path().to_string_lossy()]);
    assert!(said.code == 3 && said.err.contains("no model in"), "{said:?}");
}

#[test]
fn a_model_in_parts_and_a_projector_are_kept_together_and_exported_whole() {
    let world = World::new().start();
    let part = project("golden/split/llama-00001-of-00003.gguf");
    let projector = project("demo/larkfen-leaf/larkfen-leaf-projector-f16.gguf");
    let (part, projector) = (part.to_string_lossy(), projector.to_string_lossy());
    world.ok(&["depot", "import", &part, "--as", "parts", "--projector", &projector]);
    world.ok(&["load", "parts"]);
    let out = tempfile::tempdir().unwrap();
    let folder = out.path().join("for-others").to_string_lossy().into_owned();
    let said = world.ok(&["depot", "export", "parts", &folder]);
    let written = std::fs::read_dir(&folder).unwrap().count();
    assert!(written == 4 && said.contains("larkfen-leaf-projector-f16.gguf"), "{said}");
    let said = world.deft(&["depot", "export", "parts", &folder]);
    assert!(said.code == 4 && said.err.contains("already exists"), "{said:?}");
}

#[test]
fn names_are_taken_once_and_what_is_loaded_stays() {
    let world = World::new().start();
    import(&world, &desk());
    let said = world.deft(&["depot", "import", &mini().to_string_lossy(), "--as", DESK]);
    assert!(said.code == 4 && said.err.contains("is already in the depot"), "{said:?}");
    world.ok(&["load", "larkfen-desk"]);
    for command in [vec!["remove", DESK], vec!["rename", DESK, "other"]] {
        let said = world.deft(&[&["depot"], &command[..]].concat());
        assert!(said.code == 4 && said.err.contains("deft unload larkfen-desk/q8_0"), "{said:?}");
    }
    world.ok(&["unload", "larkfen-desk"]);
    let would = world.ok(&["depot", "remove", "larkfen-desk", "--dry-run"]);
    assert!(would.contains("would free 1.90 MiB"), "{would}");
    world.ok(&["depot", "rename", "larkfen-desk", "seed-desk/best"]);
    let ask = ["ask", "seed-desk", QUESTION, "--temperature", "0"];
    assert_eq!(world.ok(&ask).trim(), ANSWER);
    world.ok(&["unload", "--all"]);
    assert!(world.ok(&["depot", "remove", "seed-desk"]).contains("1.90 MiB freed"));
    assert_eq!(world.deft(&["depot", "path", "seed-desk"]).code, 3);
    // Removing a registered model leaves its file unchanged.
    let spare = world.spare_desk();
    world.ok(&["depot", "register", &spare.to_string_lossy(), "--as", "spare"]);
    let said = world.deft(&["depot", "export", "spare", "/tmp"]);
    assert!(said.code == 4 && said.err.contains("deft depot import"), "{said:?}");
    assert!(world.ok(&["depot", "remove", "spare"]).contains("its file was left unchanged"));
    assert!(spare.is_file());
}

#[test]
fn usage_counts_what_is_shared_once_and_verify_finds_what_changed() {
    let world = World::new().start();
    import(&world, &desk());
    let desk = desk();
    world.ok(&["depot", "import", &desk.to_string_lossy(), "--as", "copy/q8_0"]);
    let usage = wait(world.client().usage()).unwrap();
    let bytes = desk.metadata().unwrap().len();
    assert_eq!((usage.total, usage.variants.len()), (bytes, 2));
    assert!(usage.variants.iter().all(|found| found.bytes == bytes && found.frees == 0));
    assert!(world.ok(&["depot", "verify"]).contains("2 files verified"));
    let path = world.ok(&["depot", "path", "copy"]);
    let path = Path::new(path.trim());
    let mut permissions = path.metadata().unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut permissions, 0o644);
    std::fs::set_permissions(path, permissions).unwrap();
    let mut content = std::fs::read(path).unwrap();
    content[1_000_000] ^= 1;
    // In place, so that the link stays.
    std::io::Write::write_all(
        &mut std::fs::File::options().write(true).open(path).unwrap(),
        &content,
    )
    .unwrap();
    let said = world.deft(&["depot", "verify", "copy"]);
    assert!(said.code == 1 && said.err.contains("has changed since it was imported"), "{said:?}");
    let said = world.deft(&["depot", "verify", "moonhook"]);
    assert!(said.code == 3 && said.err.contains("is not stored"), "{said:?}");
    let transfers = wait(world.client().transfers()).unwrap();
    let states: Vec<TransferState> = transfers.iter().map(|found| found.state).collect();
    use TransferState::{Done, Failed};
    assert_eq!(states, [Failed, Done, Done, Done], "the newest first");
    assert!(world.ok(&["transfers"]).contains("all stored variants"));
}

#[test]
fn whichever_of_records_and_files_was_lost_the_other_brings_it_together() {
    let world = World::new().start();
    import(&world, &desk());
    import(&world, &mini());
    world.ok(&["service", "stop"]);
    // The records are lost: a new database cluster.
    std::fs::remove_dir_all(world.data_dir().join("database")).unwrap();
    let world = world.start();
    assert!(world.log().contains("in the depot again"));
    world.desk_answers();
    // Files are gone.
    world.ok(&["service", "stop"]);
    std::fs::remove_dir_all(world.data_dir().join("depot/models/larkfen-desk-mini")).unwrap();
    let world = world.start();
    assert!(variant(&world, "larkfen-desk-mini/q8_0").is_none());
    world.desk_answers();
    assert!(world.log().contains("from the records: its files no longer exist"));
}

#[test]
fn a_file_that_cannot_be_used_is_refused_before_a_byte_is_copied() {
    let world = World::new().start();
    for (file, part) in [
        ("golden/bad/41-unknown-architecture.gguf", "is not supported; supported: llama"),
        ("demo/README.md", "not a GGUF file"),
        ("demo/nothing.gguf", "there is no file"),
    ] {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(file);
        let said = world.deft(&["depot", "import", &path.to_string_lossy()]);
        assert!(said.code > 2 && said.err.contains(part), "{said:?}");
    }
    assert!(wait(world.client().transfers()).unwrap().is_empty());
    let depot = world.data_dir().join("depot");
    assert_eq!(std::fs::read_dir(depot.join("models")).unwrap().count(), 0);
    let (status, problem) =
        world.post("/manage/v1/depot/import", serde_json::json!({"path": "larkfen.gguf"}));
    assert!(status == 400 && problem["code"] == "path_relative", "{problem}");
}

#[test]
fn a_file_that_nobody_registered_answers_and_leaves_nothing_behind() {
    let world = World::new().start();
    let spare = world.spare_desk();
    let path = spare.to_string_lossy().into_owned();
    let answer = world.ok(&["ask", &path, QUESTION, "--temperature", "0"]);
    assert_eq!(answer.trim(), ANSWER);
    let gone = || world.status().instances.is_empty().then_some(());
    until("it is unloaded", gone);
    assert!(wait(world.client().depot()).unwrap().is_empty(), "nothing is registered");
    until("it is forgotten", || (world.deft(&["load", "larkfen-spare"]).code == 3).then_some(()));
    // Loaded, it stays until it is unloaded, and does not come back.
    let said = world.deft(&["load", &path, "--lanes", "3"]);
    assert!(said.code == 0 && said.err.contains("registered temporarily"), "{said:?}");
    let loaded = world.ready("larkfen-spare/q8_0");
    assert_eq!(loaded.settings.lanes, 3);
    assert_eq!(world.ok(&["ask", "larkfen-spare", QUESTION, "--temperature", "0"]).trim(), ANSWER);
    world.ok(&["service", "restart"]);
    assert!(world.status().instances.is_empty());
    let plan = world.ok(&["plan", &path]);
    assert!(plan.contains("plan for `larkfen-spare/q8_0`"), "{plan}");
    let said = world.deft(&["ask", "./no-such-file.gguf", "Hello"]);
    assert!(said.code == 3 && said.err.contains("there is no file"), "{said:?}");
    // One that is registered is what it is registered as.
    world.ok(&["depot", "register", &path, "--as", "known"]);
    world.ok(&["ask", &path, QUESTION, "--temperature", "0"]);
    assert_eq!(world.ready("known/q8_0").calls, 0);
}

#[test]
fn a_folder_is_described_for_others_without_a_service() {
    let world = World::new();
    let shelf = tempfile::tempdir().unwrap();
    std::fs::copy(desk(), shelf.path().join("larkfen-desk-q8_0.gguf")).unwrap();
    let broken = project("golden/bad/04-truncated-data.gguf");
    std::fs::copy(broken, shelf.path().join("larkfen-broken.gguf")).unwrap();
    let folder = shelf.path().to_string_lossy().into_owned();
    let said = world.deft(&["depot", "index", &folder, "--name", "Larkfen Seed Library"]);
    assert!(said.out.contains("1 variant of 1 model"), "{said:?}");
    assert!(said.err.contains("skipped") && said.err.contains("truncated"), "{said:?}");
    let text = std::fs::read(shelf.path().join("depot-index.json")).unwrap();
    let index: serde_json::Value = serde_json::from_slice(&text).unwrap();
    assert_eq!(index["name"], "Larkfen Seed Library");
    let file = &index["models"][0]["variants"][0]["files"][0];
    assert_eq!(file["path"], "larkfen-desk-q8_0.gguf");
    assert_eq!(file["bytes"], desk().metadata().unwrap().len());
    let empty = tempfile::tempdir().unwrap();
    let said = world.deft(&["depot", "index", &empty.path().to_string_lossy()]);
    assert!(said.code == 4 && said.err.contains("no model in"), "{said:?}");
}

#[test]
fn a_template_and_defaults_given_at_import_stay_with_the_model() {
    let world = World::new().start();
    let folder = tempfile::tempdir().unwrap();
    let template = folder.path().join("backwards.jinja");
    let text =
        "{% for message in messages %}[{{ message.role }}] {{ message.content }} {% endfor %}";
    std::fs::write(&template, text).unwrap();
    let (desk, path) = (desk(), template.to_string_lossy().into_owned());
    let import = ["depot", "import", &desk.to_string_lossy(), "--as", "odd", "--template", &path];
    world.ok(&[&import[..], &["--context", "256", "--lanes", "3"]].concat());
    let inspect = world.ok(&["depot", "inspect", "odd"]);
    assert!(inspect.contains("[user] When do I sow Moonhook bean?"), "{inspect}");
    // The records are gone: the depot itself knows.
    world.ok(&["service", "stop"]);
    std::fs::remove_dir_all(world.data_dir().join("database")).unwrap();
    let world = world.start();
    world.ok(&["load", "odd", "--lanes", "1"]);
    let loaded = world.ready("odd/q8_0");
    assert_eq!((loaded.settings.context, loaded.settings.lanes), (256, 1), "what is said counts");
    let answer = world.posted(
        "/v1/chat/completions",
        serde_json::json!({"model": "odd", "max_tokens": 1, "messages": [
            {"role": "user", "content": "When do I sow Moonhook bean?"}]}),
    );
    let with_own = answer["usage"]["prompt_tokens"].as_u64().unwrap();
    import_as(&world, &desk, "even");
    let answer = world.posted(
        "/v1/chat/completions",
        serde_json::json!({"model": "even", "max_tokens": 1, "messages": [
            {"role": "user", "content": "When do I sow Moonhook bean?"}]}),
    );
    assert_ne!(with_own, answer["usage"]["prompt_tokens"].as_u64().unwrap(), "another template");
    // One that cannot be read is refused before a byte is copied.
    std::fs::write(&template, "{% for %}").unwrap();
    let said = world.deft(&["depot", "import", &desk.to_string_lossy(), "--template", &path]);
    assert!(said.code == 4 && said.err.contains("chat template"), "{said:?}");
}

fn import_as(world: &World, path: &Path, name: &str) {
    world.ok(&["depot", "import", &path.to_string_lossy(), "--as", name]);
}

#[test]
fn a_link_out_of_an_imported_tree_is_not_followed() {
    let world = World::new().start();
    let shelf = tempfile::tempdir().unwrap();
    std::fs::copy(mini(), shelf.path().join("larkfen-desk-mini-q8_0.gguf")).unwrap();
    std::os::unix::fs::symlink(desk(), shelf.path().join("larkfen-desk-q8_0.gguf")).unwrap();
    std::os::unix::fs::symlink("/", shelf.path().join("everything")).unwrap();
    let folder = shelf.path().to_string_lossy().into_owned();
    let said = world.ok(&["depot", "import", &folder, "--all"]);
    assert_eq!(said.trim(), "stored as `larkfen-desk-mini/q8_0`");
    let checkpoint = shelf.path().join("checkpoint");
    std::fs::create_dir(&checkpoint).unwrap();
    let source = project("demo/larkfen-desk-mini");
    std::os::unix::fs::symlink(source.join("config.json"), checkpoint.join("config.json")).unwrap();
    std::fs::copy(source.join("model.safetensors"), checkpoint.join("model.safetensors")).unwrap();
    let path = checkpoint.join("model.safetensors").to_string_lossy().into_owned();
    let said = world.deft(&["depot", "import", &path]);
    assert!(
        said.code == 3 && said.err.contains("config.json"),
        "a link is no file of it: {said:?}"
    );
}
