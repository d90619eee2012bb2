//! Taking files in.

use crate::world::{World, desk, project};

#[test]
fn a_file_is_registered_listed_and_looked_into() {
    let world = World::new().start();
    assert!(world.deft(&["depot", "list"]).err.contains("the depot is empty"));
    let said = world.ok(&["depot", "register", &desk().to_string_lossy()]);
    assert!(said.contains("registered `larkfen-desk/q8_0`"), "{said}");
    let list = world.ok(&["depot", "list"]);
    insta::assert_snapshot!("depot_list", list);
    let inspection = world.ok(&["depot", "inspect", "larkfen-desk"]);
    for fact in
        ["llama", "1,808,448", "Q8_0", "1,024 tokens", "CC0-1.0", "in the file", "2,048 tokens"]
    {
        assert!(inspection.contains(fact), "{fact} is missing in\n{inspection}");
    }
    // Once more changes nothing; the file is not copied.
    world.ok(&["depot", "register", &desk().to_string_lossy()]);
    assert_eq!(world.ok(&["depot", "list"]), list);
    assert!(!world.data_dir().join("models").exists());
}

#[test]
fn what_is_no_use_is_refused_with_the_reason_and_nothing_is_recorded() {
    let world = World::new().start();
    for (file, reason) in [
        ("demo/README.md", "not a GGUF file"),
        ("golden/bad/01-empty.gguf", "cut short"),
        ("golden/bad/04-truncated-data.gguf", "cut short"),
        ("golden/bad/47-missing-tensor.gguf", "`blk.0.ffn_up.weight` is missing"),
        ("demo/larkfen-find/larkfen-find-q8_0.gguf", "family `bert` is not supported"),
    ] {
        let said = world.deft(&["depot", "register", &project(file).to_string_lossy()]);
        assert_eq!(said.code, 4, "{file}: {said:?}");
        assert!(said.err.contains(reason), "{file}: {said:?}");
    }
    let said = world.deft(&["depot", "register", "/nowhere/larkfen.gguf"]);
    assert!(said.code == 3 && said.err.contains("there is no file"), "{said:?}");
    assert_eq!(world.ok(&["depot", "list", "--json"]).trim(), "[]");
}

#[test]
fn names_are_given_kept_and_suggested() {
    let world = World::new().start();
    let file = desk();
    let file = file.to_string_lossy();
    assert!(
        world.ok(&["depot", "register", &file, "--as", "seed-desk"]).contains("`seed-desk/q8_0`")
    );
    let said = world.deft(&["depot", "register", &file, "--as", "../desk"]);
    assert!(said.code == 4 && said.err.contains("cannot be a name"), "{said:?}");
    let other = project("demo/larkfen-desk-mini/larkfen-desk-mini-q8_0.gguf");
    let said = world.deft(&["depot", "register", &other.to_string_lossy(), "--as", "seed-desk"]);
    assert!(
        said.code == 4 && said.err.contains("registered already, for another file"),
        "{said:?}"
    );
    let said = world.deft(&["ask", "seed-dsk", "Hello"]);
    assert!(said.code == 3 && said.err.contains("did you mean `seed-desk`?"), "{said:?}");
}

#[test]
fn a_file_that_changed_since_is_not_loaded() {
    let world = World::new().start();
    let copy = world.data_dir().join("larkfen-desk.gguf");
    std::fs::copy(desk(), &copy).unwrap();
    world.ok(&["depot", "register", &copy.to_string_lossy()]);
    let bytes = std::fs::read(&copy).unwrap();
    std::fs::write(&copy, &bytes[..bytes.len() / 2]).unwrap();
    let said = world.deft(&["load", "larkfen-desk"]);
    assert!(said.code == 4 && said.err.contains("changed after it was registered"), "{said:?}");
    std::fs::remove_file(&copy).unwrap();
    let said = world.deft(&["load", "larkfen-desk"]);
    assert!(said.code == 3 && said.err.contains("there is no file"), "{said:?}");
    assert!(world.status().instances.is_empty());
}
