//! Files that this version does not understand stay unchanged.

use std::os::unix::fs::symlink;

use super::*;

/// Changes the manifest of a variant, as another program might do.
fn spoil(root: &Path, variant: &str, change: impl Fn(&str) -> String) {
    let path = root.join("models").join(variant).join(".deft-variant.json");
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, change(&text)).unwrap();
}

fn version_2(text: &str) -> String {
    text.replace("\"version\": 1", "\"version\": 2, \"shelf\": {\"row\": 7}")
}

#[test]
fn a_manifest_that_is_not_understood_keeps_its_files_until_it_is_again() {
    type Change = fn(&str) -> String;
    let cases: [(&str, Change, &str); 5] = [
        ("version 2", version_2, "has version 2"),
        ("empty", |_| String::new(), "is not valid"),
        ("half", |text| text[..text.len() / 2].to_owned(), "is not valid"),
        ("a field of a later version", |text| text.replacen('{', "{\"row\": 7,", 1), "row"),
        ("too long", |text| format!("{text}{}", " ".repeat(2 << 20)), "longer than"),
    ];
    for (case, change, why) in cases {
        let (folder, store) = open();
        let root = folder.path().join("depot");
        let kept = keep(&folder, &store, "larkfen-desk/q8_0", "sow in April");
        let other = keep(&folder, &store, "larkfen-leaf/f16", "water in May");
        let good = fs::read_to_string(root.join("models/larkfen-desk/q8_0/.deft-variant.json"));
        spoil(&root, "larkfen-desk/q8_0", change);
        drop(store);
        let store = Store::open(&root).unwrap();
        assert_eq!(store.variants().unwrap(), std::slice::from_ref(&other), "{case}");
        let found = store.not_understood().unwrap();
        assert_eq!((found.len(), &found[0].name[..]), (1, "larkfen-desk/q8_0"), "{case}");
        assert!(found[0].why.contains(why), "{case}: {}", found[0].why);
        assert!(found[0].bytes >= 12, "{case}");
        let path = store.path(&kept.name, &kept.files[0].name);
        assert_eq!(fs::read_to_string(&path).unwrap(), "sow in April", "{case}");
        assert!(store.object(&kept.files[0].sha256).is_file(), "{case}: its content stays too");
        let taken = store.commit(&kept);
        assert!(matches!(taken, Err(StoreError::NotUnderstood { .. })), "{case}: {taken:?}");
        let renamed = store.rename(&other.name, &kept.name);
        assert!(matches!(renamed, Err(StoreError::NotUnderstood { .. })), "{case}: {renamed:?}");
        drop(store);
        // As an upgrade would understand it again.
        spoil(&root, "larkfen-desk/q8_0", |_| good.as_ref().unwrap().clone());
        let store = Store::open(&root).unwrap();
        assert_eq!(store.variants().unwrap(), [kept, other], "{case}");
    }
}

#[test]
fn content_that_is_shared_with_what_is_not_understood_is_not_removed() {
    let (folder, store) = open();
    let root = folder.path().join("depot");
    let desk = keep(&folder, &store, "larkfen-desk/q8_0", "the same");
    let copy = keep(&folder, &store, "larkfen-copy/q8_0", "the same");
    let alone = keep(&folder, &store, "larkfen-leaf/f16", "only mine");
    spoil(&root, "larkfen-desk/q8_0", version_2);
    assert_eq!(store.remove(&copy.name).unwrap(), 0, "nothing is free by that");
    let object = store.object(&desk.files[0].sha256);
    assert!(object.is_file());
    // By its digest alone, or by a symbolic link, as where no hard link can be.
    let named = store.path(&desk.name, &desk.files[0].name);
    fs::remove_file(&named).unwrap();
    drop(store);
    let store = Store::open(&root).unwrap();
    assert!(object.is_file(), "its manifest names it");
    symlink(&object, &named).unwrap();
    spoil(&root, "larkfen-desk/q8_0", |_| String::new());
    drop(store);
    let store = Store::open(&root).unwrap();
    assert!(object.is_file(), "a link leads to it");
    assert_eq!(store.remove(&alone.name).unwrap(), 9, "what nobody else holds goes as ever");
    assert!(!store.object(&alone.files[0].sha256).exists());
}

#[test]
fn a_sweep_removes_only_what_this_version_wrote_into_incoming() {
    let (folder, store) = open();
    let root = folder.path().join("depot");
    drop(store);
    let digest = "c".repeat(64);
    let foreign = [
        root.join("incoming/take-larkfen"),
        root.join("incoming/take-"),
        root.join("incoming/notes.txt"),
        root.join("incoming/larkfen.part"),
        root.join("incoming/object-12"),
        root.join("models/larkfen-desk/q8_0/larkfen-desk.gguf"),
        root.join("models/larkfen list.txt"),
        root.join("objects/sha256/cc").join(&digest[2..]),
        root.join("objects/notes.txt"),
        root.join("aside/larkfen.gguf"),
        root.join("later/larkfen.json"),
    ];
    for path in &foreign {
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, "not ours").unwrap();
    }
    let ours = ["take-12", "wrong-larkfen.gguf", &format!("{digest}.part")];
    for name in ours {
        let file = File::create(root.join("incoming").join(name)).unwrap();
        file.set_modified(std::time::UNIX_EPOCH).unwrap();
    }
    let store = Store::open(&root).unwrap();
    for path in &foreign {
        assert!(path.is_file(), "{}", path.display());
    }
    assert!(ours.iter().all(|name| !root.join("incoming").join(name).exists()));
    let found: Vec<String> =
        store.not_understood().unwrap().into_iter().map(|found| found.name).collect();
    assert_eq!(found, ["larkfen list.txt", "larkfen-desk/q8_0"]);
}

#[test]
fn a_depot_has_an_identity_and_a_later_form_is_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("depot");
    assert_eq!(identity(&root).unwrap(), None, "there is nothing yet");
    let first = Store::open(&root).unwrap().id();
    assert_eq!(identity(&root).unwrap(), Some(first));
    assert_eq!(Store::open(&root).unwrap().id(), first, "it stays");
    let marker = root.join("depot.json");
    let before = fs::read_to_string(&marker).unwrap();
    fs::write(&marker, before.replace("\"form\": 1", "\"form\": 2, \"shelves\": []")).unwrap();
    let take = root.join("incoming/take-1");
    fs::write(&take, "of a later version").unwrap();
    let refused = Store::open(&root).unwrap_err();
    assert!(matches!(refused, StoreError::OtherForm { found: 2, known: 1, .. }), "{refused}");
    assert!(take.is_file(), "nothing was swept");
    for spoilt in ["", "{}", "{\"form\": 1}", &" ".repeat(9000)] {
        fs::write(&marker, spoilt).unwrap();
        let refused = Store::open(&root).unwrap_err();
        assert!(matches!(refused, StoreError::MarkerUnusable { .. }), "{refused}");
        assert!(refused.to_string().contains("backup"), "{refused}");
    }
}
