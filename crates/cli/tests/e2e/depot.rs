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
        ("golden/bad/01-empty.gguf", "truncated"),
        ("golden/bad/04-truncated-data.gguf", "truncated"),
        ("golden/bad/47-missing-tensor.gguf", "`blk.0.ffn_up.weight` is missing"),
        ("demo/larkfen-leaf/larkfen-leaf-projector-f16.gguf", "family `clip` is not supported"),
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
    assert!(said.code == 4 && said.err.contains("is not a valid name"), "{said:?}");
    let other = project("demo/larkfen-desk-mini/larkfen-desk-mini-q8_0.gguf");
    let said = world.deft(&["depot", "register", &other.to_string_lossy(), "--as", "seed-desk"]);
    assert!(
        said.code == 4 && said.err.contains("already registered, for another file"),
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

#[test]
fn a_model_is_tried_and_rated() {
    let world = World::stocked();
    let find = project("demo/larkfen-find/larkfen-find-q8_0.gguf");
    world.ok(&["depot", "register", &find.to_string_lossy()]);
    for model in ["larkfen-desk", "larkfen-desk-mini", "larkfen-find"] {
        let said = world.ok(&["depot", "check", model]);
        assert!(said.contains("passed") && !said.contains("FAILED"), "{said}");
    }
    // A model of random numbers, and one with numbers that are none.
    for (file, name) in
        [("golden/models/gemma3.gguf", "odd"), ("golden/bad/53-nan-weights.gguf", "nan")]
    {
        world.ok(&["depot", "register", &project(file).to_string_lossy(), "--as", name]);
        let said = world.deft(&["depot", "check", name]);
        assert_eq!(said.code, 1, "{said:?}");
        assert!(said.out.contains("failed: ") && said.out.contains("FAILED"), "{said:?}");
    }
    assert!(world.deft(&["depot", "check", "nan"]).out.contains("values that are not numbers"));
}

#[test]
fn a_model_in_parts_is_registered_by_its_first_and_answers() {
    let world = World::new().start();
    let part = |number: u32| project(&format!("golden/split/llama-{number:05}-of-00003.gguf"));
    let said = world.ok(&["depot", "register", &part(1).to_string_lossy()]);
    assert!(said.contains("registered `llama/f32`"), "{said}");
    let said = world.deft(&["depot", "register", &part(2).to_string_lossy()]);
    assert!(said.code == 4 && said.err.contains("name the first one"), "{said:?}");
    assert!(world.ok(&["depot", "inspect", "llama"]).contains("and 2 more parts"));
    let whole = project("golden/models/llama.gguf");
    world.ok(&["depot", "register", &whole.to_string_lossy(), "--as", "whole"]);
    let ask = |model: &str| {
        world.ok(&["ask", model, "seed", "--raw", "--temperature", "0", "--max-tokens", "9"])
    };
    assert_eq!(ask("llama"), ask("whole"));
}

#[test]
fn a_pre_tokenizer_that_is_not_known_is_shown_wherever_the_model_is() {
    let world = World::new().start();
    let mut bytes = std::fs::read(project("golden/models/llama-ropefreqs.gguf")).unwrap();
    let name = b"llama-bpe";
    let at = bytes.windows(name.len()).position(|window| window == name).unwrap();
    bytes[at..at + name.len()].copy_from_slice(b"larkf-bpe");
    let file = world.data_dir().parent().unwrap().join("odd.gguf");
    std::fs::write(&file, bytes).unwrap();
    let warning = "pre-tokenizer `larkf-bpe` is not supported";
    let said = world.deft(&["depot", "register", &file.to_string_lossy()]);
    assert!(said.code == 0 && said.err.contains(warning), "{said:?}");
    assert!(world.deft(&["depot", "inspect", "odd"]).err.contains(warning));
    let checked = world.deft(&["depot", "check", "odd"]);
    assert!(checked.code == 1 && checked.out.contains(warning), "{checked:?}");
    let loaded = world.status().instances.pop().unwrap();
    assert!(loaded.note.unwrap().contains(warning), "the check loaded it");
}
