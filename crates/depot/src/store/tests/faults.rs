//! Every change of the file system fails in turn: once, and as where the process was killed there.

use super::*;

/// What a story does to the depot; errors end it.
fn story(folder: &TempDir, store: &Store) -> Result<(), StoreError> {
    let take = |file: &str| {
        let source = NamedFile::open(&folder.path().join(file)).unwrap();
        store.take(source, Taking::Copy, &mut quiet())
    };
    let file = |name: &str, taken: &Taken| StoredFile {
        role: FileRole::Weights,
        name: name.to_owned(),
        bytes: taken.bytes,
        sha256: taken.sha256,
        mark: None,
    };
    let mini = take("mini.gguf")?;
    store.commit(&Manifest::new(name("mini/q8_0"), vec![file("mini.gguf", &mini)]))?;
    store.rename(&name("mini/q8_0"), &name("mini/best"))?;
    let newer = take("newer.gguf")?;
    store.replace(&Manifest::new(name("mini/best"), vec![file("newer.gguf", &newer)]))?;
    drop((mini, newer));
    store.rename(&name("desk/q8_0"), &name("desk/first"))?;
    let given_back = take("leaf.gguf")?;
    store.give_back(vec![given_back])?;
    store.remove(&name("mini/best"))?;
    Ok(())
}

/// The depot before the story.
fn before() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    for (file, content) in [("mini.gguf", "mini"), ("newer.gguf", "newer"), ("leaf.gguf", "leaf")] {
        fs::write(folder.path().join(file), content).unwrap();
    }
    let store = Store::open(&folder.path().join("depot")).unwrap();
    keep(&folder, &store, "desk/q8_0", "sow in April");
    folder
}

/// Checks the promises that hold after any fault: all listed files are complete, the desk has one name, and no unused content
/// stays.
fn check(folder: &TempDir, at: u32) {
    let root = folder.path().join("depot");
    let store = Store::open(&root).unwrap_or_else(|error| panic!("change {at}: {error}"));
    assert_eq!(store.not_understood().unwrap(), [], "change {at}: nothing is half there");
    let variants = store.variants().unwrap();
    let mut named = BTreeSet::new();
    for manifest in &variants {
        for file in &manifest.files {
            let health = store.verify(file, &mut quiet()).unwrap();
            assert_eq!(health, Health::Well, "change {at}: {}", manifest.name);
            let path = store.path(&manifest.name, &file.name);
            assert!(path.is_file(), "change {at}: {}", path.display());
            named.insert(store.object(&file.sha256));
        }
        let written = fs::read_to_string(store.path(&manifest.name, ".deft-variant.json")).unwrap();
        assert!(written.contains(&manifest.name.to_string()), "change {at}: {written}");
    }
    let desks = variants.iter().filter(|found| found.name.model == "desk").count();
    assert_eq!(desks, 1, "change {at}: it is there once");
    assert!(variants.iter().filter(|found| found.name.model == "mini").count() <= 1);
    let objects: BTreeSet<PathBuf> = listing(&root.join("objects")).into_iter().collect();
    assert_eq!(objects, named, "change {at}: content without a name, or a name without content");
    let folders = fs::read_dir(root.join("models")).unwrap().count();
    let models: BTreeSet<&str> = variants.iter().map(|found| &found.name.model[..]).collect();
    assert_eq!(folders, models.len(), "change {at}: a folder of a model without variants");
    let left = listing(&root.join("incoming"));
    assert!(left.is_empty(), "change {at}: {left:?}");
}

#[test]
fn whichever_change_fails_nothing_is_lost_and_nothing_is_half_listed() {
    let mut reached = [0, 0];
    for is_final in [false, true] {
        for at in 0.. {
            let folder = before();
            let faults = Faults::after(at, is_final);
            let root = folder.path().join("depot");
            let opened = Store::open_with_faults(&root, Arc::clone(&faults));
            let result = opened.and_then(|store| story(&folder, &store));
            if !faults.has_failed() {
                result.unwrap();
                reached[usize::from(is_final)] = at;
                break;
            }
            check(&folder, at);
        }
    }
    println!("{reached:?} changes failed once and for good: nothing lost, nothing half listed");
    assert!(reached.iter().all(|changes| *changes > 60), "the story makes changes: {reached:?}");
}

#[test]
fn content_that_is_being_healed_is_not_lost_whichever_change_fails() {
    let heal = |folder: &TempDir, store: &Store| -> Result<(), StoreError> {
        let manifest = store.variant(&name("desk/q8_0")).unwrap();
        let digest = manifest.files[0].sha256;
        store.give_up(&digest)?;
        let good = folder.path().join("desk-q8_0.gguf");
        let taken = store.take(NamedFile::open(&good).unwrap(), Taking::Copy, &mut quiet())?;
        store.heal(&digest)?;
        drop(taken);
        Ok(())
    };
    for is_final in [false, true] {
        for at in 0.. {
            let folder = before();
            let root = folder.path().join("depot");
            let faults = Faults::after(at, is_final);
            let opened = Store::open_with_faults(&root, Arc::clone(&faults));
            let result = opened.and_then(|store| heal(&folder, &store));
            if !faults.has_failed() {
                result.unwrap();
                break;
            }
            check(&folder, at);
        }
    }
}
