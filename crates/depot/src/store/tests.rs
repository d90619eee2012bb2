use std::collections::BTreeSet;
use std::fs::{self, File};
use std::ops::ControlFlow;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{CWD, FileType, Mode};
use tempfile::TempDir;

use super::disk::entries;
use super::*;
use crate::name::VariantName;
use crate::named::NamedFile;

mod faults;
mod not_understood;

fn quiet() -> impl FnMut(u64) -> ControlFlow<()> {
    |_| ControlFlow::Continue(())
}

fn open() -> (TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("depot")).unwrap();
    (folder, store)
}

fn named(path: &Path) -> NamedFile {
    NamedFile::open(path).unwrap()
}

fn name(text: &str) -> VariantName {
    text.parse().unwrap()
}

/// Takes a file of that content in as a variant.
fn keep(folder: &TempDir, store: &Store, variant: &str, content: &str) -> Manifest {
    let file = format!("{}.gguf", variant.replace('/', "-"));
    let source = folder.path().join(&file);
    fs::write(&source, content).unwrap();
    let taken = store.take(named(&source), Taking::Copy, &mut quiet()).unwrap();
    let (bytes, sha256) = (taken.bytes, taken.sha256);
    let files = vec![StoredFile { role: FileRole::Weights, name: file, bytes, sha256, mark: None }];
    let manifest = Manifest::new(name(variant), files);
    store.commit(&manifest).unwrap();
    manifest
}

/// All that is below a folder, as paths.
fn listing(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for path in entries(folder).unwrap() {
        if path.is_dir() {
            found.extend(listing(&path));
        } else {
            found.push(path);
        }
    }
    found.sort();
    found
}

#[test]
fn what_was_taken_in_stands_under_its_own_name_and_is_found_again() {
    let (folder, store) = open();
    let manifest = keep(&folder, &store, "larkfen-desk/q8_0", "sow in April");
    let path = store.path(&manifest.name, &manifest.files[0].name);
    assert_eq!(fs::read_to_string(&path).unwrap(), "sow in April");
    assert_eq!(path.metadata().unwrap().nlink(), 2, "a hard link to its object");
    assert_eq!(path.metadata().unwrap().mode() & 0o222, 0, "nobody is to write it");
    assert_eq!(
        manifest.files[0].sha256.to_string(),
        "21f517f05f28bddc2032af94a03698bd31a960740c0b6aa68b37f83383e4a545"
    );
    drop(store);
    let store = Store::open(&folder.path().join("depot")).unwrap();
    assert_eq!(store.variants().unwrap(), [manifest]);
}

#[test]
fn the_same_content_is_stored_once_and_freed_with_its_last_variant() {
    let (folder, store) = open();
    keep(&folder, &store, "larkfen-desk/q8_0", "the same");
    keep(&folder, &store, "larkfen-copy/q8_0", "the same");
    keep(&folder, &store, "larkfen-desk/f16", "another text");
    let usage = store.usage().unwrap();
    assert_eq!(usage.total, 8 + 12);
    assert_eq!(usage.variants[&name("larkfen-desk/q8_0")], (8, 0), "its removal frees nothing");
    assert_eq!(usage.variants[&name("larkfen-desk/f16")], (12, 12));
    assert_eq!(store.remove(&name("larkfen-desk/q8_0")).unwrap(), 0);
    assert_eq!(store.remove(&name("larkfen-copy/q8_0")).unwrap(), 8);
    assert!(matches!(store.remove(&name("larkfen-copy/q8_0")), Err(StoreError::NoVariant(_))));
    assert_eq!(listing(&folder.path().join("depot/objects")).len(), 1);
}

#[test]
fn whatever_was_left_unfinished_is_swept_away_and_the_rest_stays() {
    let (folder, store) = open();
    let kept = keep(&folder, &store, "larkfen-desk/q8_0", "kept");
    let root = folder.path().join("depot");
    // As if the process had ended between any two steps.
    fs::write(root.join("incoming/take-1"), "half of it").unwrap();
    let source = folder.path().join("larkfen-leaf.gguf");
    fs::write(&source, "taken, and never committed").unwrap();
    let taken = store.take(named(&source), Taking::Copy, &mut quiet()).unwrap();
    let half = root.join("incoming/state-7");
    fs::create_dir_all(&half).unwrap();
    fs::hard_link(store.object(&taken.sha256), half.join("larkfen-leaf.gguf")).unwrap();
    fs::write(half.join(".deft-variant.json.unfinished"), "{").unwrap();
    drop((store, taken));
    let store = Store::open(&root).unwrap();
    assert_eq!(store.variants().unwrap(), [kept]);
    assert_eq!(listing(&root.join("objects")).len(), 1);
    assert!(
        listing(&root.join("incoming")).is_empty(),
        "what this version left is gone: {:?}",
        listing(&root.join("incoming"))
    );
    assert!(source.is_file(), "a source is never touched");
}

#[test]
fn one_process_has_the_depot_at_a_time() {
    let (folder, store) = open();
    let again = Store::open(&folder.path().join("depot"));
    assert!(matches!(again, Err(StoreError::Locked(_))));
    drop(store);
    Store::open(&folder.path().join("depot")).unwrap();
}

#[test]
fn a_cancelled_intake_leaves_nothing() {
    let (folder, store) = open();
    let source = folder.path().join("larkfen-desk.gguf");
    fs::write(&source, vec![7; 3 << 20]).unwrap();
    let mut pieces = 0;
    let result = store.take(named(&source), Taking::Copy, &mut |_| {
        pieces += 1;
        if pieces == 2 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    assert!(matches!(result, Err(StoreError::Cancelled)));
    assert!(listing(&folder.path().join("depot/incoming")).is_empty());
    assert!(listing(&folder.path().join("depot/objects")).is_empty());
}

#[test]
fn a_moved_file_is_linked_and_its_source_is_removed_by_the_caller_last() {
    let (folder, store) = open();
    let source = folder.path().join("larkfen-desk.gguf");
    fs::write(&source, "moved").unwrap();
    let taken = store.take(named(&source), Taking::Move, &mut quiet()).unwrap();
    let moved = taken.source_to_remove.as_ref().unwrap();
    assert_eq!(moved.path(), source);
    let same = store.object(&taken.sha256).metadata().unwrap().ino();
    assert_eq!(source.metadata().unwrap().ino(), same, "no byte was copied");
    fs::remove_file(&source).unwrap();
    fs::write(&source, "another file by now").unwrap();
    assert!(moved.remove().is_err() && source.is_file(), "only what was taken in is removed");
}

#[test]
fn a_link_is_not_taken_in_and_what_it_leads_to_keeps_its_mode() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("larkfen-accounts");
    fs::write(&target, "nobody named this").unwrap();
    fs::set_permissions(&target, fs::Permissions::from_mode(0o600)).unwrap();
    let link = folder.path().join("larkfen-desk.gguf");
    std::os::unix::fs::symlink(&target, &link).unwrap();
    let refused = NamedFile::open(&link).unwrap_err().to_string();
    assert!(refused.contains("is a symbolic link to") && refused.contains("accounts"), "{refused}");
    assert_eq!(target.metadata().unwrap().mode() & 0o777, 0o600);
    let refused = NamedFile::open(folder.path()).unwrap_err().to_string();
    assert!(refused.contains("is not a file"), "{refused}");
    let refused = NamedFile::open(Path::new("/dev/zero")).unwrap_err().to_string();
    assert!(refused.contains("is not a file"), "{refused}");
}

#[test]
fn folders_are_the_owners_and_content_is_nobodys_to_write_whatever_the_umask() {
    let (folder, store) = open();
    let manifest = keep(&folder, &store, "larkfen-desk/q8_0", "sow in April");
    let mode = |path: &Path| path.metadata().unwrap().mode() & 0o777;
    let root = folder.path().join("depot");
    for folder in [root.clone(), root.join("models"), root.join("incoming")] {
        assert_eq!(mode(&folder), 0o700, "{}", folder.display());
    }
    assert_eq!(mode(&store.object(&manifest.files[0].sha256)), 0o440);
    assert_eq!(mode(&store.path(&manifest.name, ".deft-variant.json")), 0o640);
}

#[test]
fn a_removal_spares_what_is_being_taken_in() {
    let (folder, store) = open();
    keep(&folder, &store, "larkfen-desk/q8_0", "the same");
    let source = folder.path().join("larkfen-copy.gguf");
    fs::write(&source, "the same").unwrap();
    let first = store.take(named(&source), Taking::Copy, &mut quiet()).unwrap();
    // Another intake is in the middle, and the only variant that has the content goes.
    fs::write(store.incoming().join("take-other"), "half of it").unwrap();
    store.remove(&name("larkfen-desk/q8_0")).unwrap();
    assert!(store.incoming().join("take-other").exists(), "it goes on");
    let (bytes, sha256) = (first.bytes, first.sha256);
    let files = vec![StoredFile {
        role: FileRole::Weights,
        name: "c.gguf".into(),
        bytes,
        sha256,
        mark: None,
    }];
    store.commit(&Manifest::new(name("larkfen-copy/q8_0"), files.clone())).unwrap();
    drop(first);
    assert_eq!(store.verify(&files[0], &mut quiet()).unwrap(), Health::Well);
}

#[test]
fn what_is_given_back_is_gone_and_its_source_is_as_it_was() {
    let (folder, store) = open();
    let source = folder.path().join("larkfen-desk.gguf");
    fs::write(&source, "not kept").unwrap();
    let before = source.metadata().unwrap().mode();
    let taken = store.take(named(&source), Taking::Move, &mut quiet()).unwrap();
    let second = store.take(named(&source), Taking::Copy, &mut quiet()).unwrap();
    store.give_back(vec![taken]).unwrap();
    assert_eq!(listing(&folder.path().join("depot/objects")).len(), 1, "another has a claim");
    store.give_back(vec![second]).unwrap();
    assert!(listing(&folder.path().join("depot/objects")).is_empty());
    assert_eq!(fs::read_to_string(&source).unwrap(), "not kept");
    assert_eq!(source.metadata().unwrap().mode(), before, "nobody made it read-only");
}

#[test]
fn names_are_taken_once_and_can_be_changed() {
    let (folder, store) = open();
    let manifest = keep(&folder, &store, "larkfen-desk/q8_0", "one");
    keep(&folder, &store, "larkfen-leaf/f16", "two");
    assert!(matches!(store.commit(&manifest), Err(StoreError::Taken(_))));
    let taken = store.rename(&name("larkfen-desk/q8_0"), &name("larkfen-leaf/f16"));
    assert!(matches!(taken, Err(StoreError::Taken(_))));
    store.rename(&name("larkfen-desk/q8_0"), &name("seed-desk/best")).unwrap();
    let names: Vec<String> =
        store.variants().unwrap().iter().map(|found| found.name.to_string()).collect();
    assert_eq!(names, ["larkfen-leaf/f16", "seed-desk/best"]);
    assert!(store.path(&name("seed-desk/best"), "larkfen-desk-q8_0.gguf").is_file());
}

#[test]
fn content_that_changed_or_vanished_is_found_out() {
    let (folder, store) = open();
    let manifest = keep(&folder, &store, "larkfen-desk/q8_0", "one");
    let file = &manifest.files[0];
    assert_eq!(store.verify(file, &mut quiet()).unwrap(), Health::Well);
    let object = store.object(&file.sha256);
    fs::remove_file(&object).unwrap();
    assert_eq!(store.verify(file, &mut quiet()).unwrap(), Health::Missing);
    fs::write(&object, "two").unwrap();
    assert!(matches!(store.verify(file, &mut quiet()).unwrap(), Health::Changed { .. }));
}

#[test]
fn an_export_writes_all_files_or_none() {
    let (folder, store) = open();
    let manifest = keep(&folder, &store, "larkfen-desk/q8_0", "one");
    let target = folder.path().join("elsewhere");
    let written = store.export(&manifest.name, &target, &mut quiet()).unwrap();
    assert_eq!(fs::read_to_string(&written[0]).unwrap(), "one");
    let again = store.export(&manifest.name, &target, &mut quiet());
    assert!(matches!(again, Err(StoreError::FileThere(_))), "nothing is overwritten");
    let link = folder.path().join("link");
    std::os::unix::fs::symlink(folder.path().join("anywhere"), target.join("x")).unwrap();
    std::os::unix::fs::symlink(&target, &link).unwrap();
    let followed = store.export(&manifest.name, &link, &mut quiet());
    assert!(matches!(followed, Err(StoreError::Named(_))), "no link is followed: {followed:?}");
    let dangling = folder.path().join("dangling");
    fs::create_dir(&dangling).unwrap();
    let secret = folder.path().join("nobody-named-this");
    std::os::unix::fs::symlink(&secret, dangling.join(&manifest.files[0].name)).unwrap();
    let followed = store.export(&manifest.name, &dangling, &mut quiet());
    assert!(matches!(followed, Err(StoreError::FileThere(_))) && !secret.exists());
    let other = folder.path().join("third");
    let cancelled = store.export(&manifest.name, &other, &mut |_| ControlFlow::Break(()));
    assert!(matches!(cancelled, Err(StoreError::Cancelled)) && listing(&other).is_empty());
}

#[test]
fn a_full_disk_is_reported_with_what_is_missing() {
    let (_folder, store) = open();
    let error = need_space(&store.root, u64::MAX).unwrap_err().to_string();
    assert!(error.contains("free; ") && error.contains("deft depot usage"), "{error}");
}

#[test]
fn another_state_takes_the_place_of_the_old_one_and_frees_what_only_that_had() {
    let (folder, store) = open();
    let old = keep(&folder, &store, "desk/q8_0", "the old content");
    let source = folder.path().join("new.gguf");
    fs::write(&source, "the new content").unwrap();
    let taken = store.take(named(&source), Taking::Copy, &mut quiet()).unwrap();
    let (bytes, sha256) = (taken.bytes, taken.sha256);
    let file =
        StoredFile { role: FileRole::Weights, name: "new.gguf".into(), bytes, sha256, mark: None };
    let origin = Origin { reference: "larkfen:desk/q8_0".into(), revision: Some("2".into()) };
    let new = Manifest::new(name("desk/q8_0"), vec![file]).fetched_from(origin);
    store.replace(&new).unwrap();
    let here = Manifest { id: old.id, ..new.clone() };
    assert_eq!(store.variant(&new.name), Some(here), "it stays the same variant");
    assert_eq!(fs::read_to_string(store.path(&new.name, "new.gguf")).unwrap(), "the new content");
    assert!(!store.path(&new.name, &old.files[0].name).exists());
    assert!(store.hold(&old.files[0].sha256).is_none(), "nobody names it any more");
    let other = Manifest::new(name("desk/none"), new.files.clone());
    assert!(matches!(store.replace(&other), Err(StoreError::NoVariant(_))));
    assert_eq!(fs::read_dir(store.incoming()).unwrap().count(), 0);
}

#[test]
fn a_digest_is_64_hexadecimal_digits_and_nothing_else() {
    let text = "17435f5f2095a16db5e3ee9e152e47e5db0a5d717e6fd7c90aae8a177311462f";
    assert_eq!(text.parse::<Digest>().unwrap().to_string(), text);
    for wrong in ["", &text[1..], &format!("{text}0"), &"+f".repeat(32), &"é".repeat(32)] {
        assert!(wrong.parse::<Digest>().unwrap_err().contains("is not a SHA-256"), "{wrong}");
    }
}

#[test]
fn a_lost_link_is_made_again_and_a_foreign_file_is_left_as_it_is() {
    let (folder, store) = open();
    let manifest = keep(&folder, &store, "desk/one", "sow in April");
    let file = &manifest.files[0];
    let path = store.path(&manifest.name, &file.name);
    let links = || path.metadata().unwrap().nlink();
    let relink = || store.relink(&manifest.name, file, &mut quiet()).unwrap();
    assert!(relink() == Relinked::Same && links() == 2);
    // A restored copy of the same content is a file of its own.
    fs::remove_file(&path).unwrap();
    fs::write(&path, "sow in April").unwrap();
    assert!(links() == 1 && relink() == Relinked::Same && links() == 2);
    fs::remove_file(&path).unwrap();
    assert!(relink() == Relinked::Same && links() == 2, "a missing file comes back");
    fs::remove_file(&path).unwrap();
    fs::write(&path, "sow in May").unwrap();
    assert!(relink() == Relinked::Other && links() == 1);
    assert_eq!(fs::read_to_string(&path).unwrap(), "sow in May");
    fs::remove_file(&path).unwrap();
    // A pipe in place of a file must not block.
    rustix::fs::mknodat(CWD, &path, FileType::Fifo, Mode::RUSR | Mode::WUSR, 0).unwrap();
    assert_eq!(relink(), Relinked::Other, "a pipe");
    fs::remove_file(&path).unwrap();
    fs::create_dir(&path).unwrap();
    assert_eq!(relink(), Relinked::Other, "a folder");
    fs::remove_dir(&path).unwrap();
    std::os::unix::fs::symlink(folder.path().join("nowhere"), &path).unwrap();
    assert!(relink() == Relinked::Same && links() == 2, "a link that leads nowhere");
    store.remove(&manifest.name).unwrap();
    assert_eq!(relink(), Relinked::Same, "it was removed meanwhile");
    assert!(!path.exists(), "and stays removed");
}

#[test]
fn content_that_was_spoilt_is_given_up_and_its_names_lead_to_good_content_again() {
    let (folder, store) = open();
    let one = keep(&folder, &store, "desk/one", "good content");
    keep(&folder, &store, "desk/two", "good content");
    let digest = one.files[0].sha256;
    store.give_up(&digest).unwrap();
    assert!(matches!(store.verify(&one.files[0], &mut quiet()), Ok(Health::Missing)));
    let source = folder.path().join("again.gguf");
    fs::write(&source, "good content").unwrap();
    let taken = store.take(named(&source), Taking::Copy, &mut quiet()).unwrap();
    assert_eq!(taken.sha256, digest);
    // A file of another origin in place of one of them stays.
    let foreign = keep(&folder, &store, "desk/three", "good content");
    let theirs = store.path(&foreign.name, &foreign.files[0].name);
    fs::remove_file(&theirs).unwrap();
    fs::write(&theirs, "theirs").unwrap();
    let healed: Vec<String> =
        store.heal(&digest).unwrap().iter().map(ToString::to_string).collect();
    assert_eq!(healed, ["desk/one", "desk/two"]);
    assert_eq!(fs::read_to_string(&theirs).unwrap(), "theirs");
    let inode = |path: PathBuf| path.metadata().unwrap().ino();
    let object = inode(store.object(&digest));
    assert_eq!(inode(store.path(&one.name, &one.files[0].name)), object);
}

#[test]
fn what_was_fetched_in_part_is_kept_for_a_week_whatever_the_clock_does() {
    let (folder, store) = open();
    let root = folder.path().join("depot");
    drop(store);
    let place = |name: &str, written: std::time::SystemTime| {
        let path = root.join("incoming").join(name);
        let file = File::create(&path).unwrap();
        file.set_modified(written).unwrap();
        path
    };
    let now = std::time::SystemTime::now();
    let day = std::time::Duration::from_secs(24 * 3600);
    let key = |letter: &str| letter.repeat(64);
    let (a, b, c) = (key("a"), key("b"), key("c"));
    let recent = [place(&format!("{a}.part"), now), place(&format!("{a}.segments"), now - day * 6)];
    // The clock was set back since.
    let ahead = place(&format!("{b}.part"), now + day * 400);
    let old = [place(&format!("{c}.part"), now - day * 8), place("take-1", now)];
    drop(Store::open(&root).unwrap());
    assert!(recent.iter().all(|path| path.exists()) && ahead.exists());
    assert!(old.iter().all(|path| !path.exists()));
}

#[test]
fn where_no_hard_link_can_be_a_symbolic_one_leads_to_the_content() {
    let elsewhere = tempfile::tempdir_in("/dev/shm").unwrap();
    let here = tempfile::tempdir_in("/var/tmp").unwrap();
    let object = elsewhere.path().join("object");
    fs::write(&object, "content").unwrap();
    let path = here.path().join("larkfen.gguf");
    let (_folder, store) = open();
    store.link(&object, &path).unwrap();
    assert!(path.is_symlink(), "the two are on different file systems");
    assert_eq!(fs::read_to_string(&path).unwrap(), "content");
}
