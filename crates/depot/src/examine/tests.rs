use super::*;
use crate::headers::InThisProcess;

fn examine(path: &Path) -> Result<Examined, DepotError> {
    super::examine(path, &InThisProcess)
}

fn shape_of(path: &Path, stamp: &FileStamp) -> Result<(ModelShape, Vec<PathBuf>), DepotError> {
    super::shape_of(path, stamp, false, &InThisProcess)
}

fn golden(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)
}

#[test]
fn facts_of_the_demo_model_are_read_from_its_file() {
    let examined = examine(&golden("demo/larkfen-desk/larkfen-desk-q8_0.gguf")).unwrap();
    insta::assert_debug_snapshot!(ModelFacts { template: None, ..examined.facts });
}

#[test]
fn files_that_are_none_or_of_no_use_are_refused_with_the_reason() {
    let message = |name: &str| examine(&golden(name)).unwrap_err().to_string();
    assert!(message("demo/nothing.gguf").contains("there is no file"));
    assert!(message("demo").contains("is not a file"));
    assert!(message("demo/README.md").contains("not a GGUF file"));
    assert!(message("golden/bad/04-truncated-data.gguf").contains("truncated"));
    let other = message("golden/bad/41-unknown-architecture.gguf");
    assert!(other.contains("is not supported; supported: llama"), "{other}");
}

#[test]
fn a_file_that_changed_or_vanished_is_noticed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("larkfen-desk.gguf");
    std::fs::copy(golden("golden/bad/00-valid-control.gguf"), &path).unwrap();
    let stamp = examine(&path).unwrap().stamp;
    shape_of(&path, &stamp).unwrap();
    let whole = std::fs::read(&path).unwrap();
    std::fs::write(&path, "other").unwrap();
    assert!(matches!(shape_of(&path, &stamp), Err(DepotError::Changed { .. })));
    std::fs::write(&path, whole).unwrap();
    assert!(matches!(shape_of(&path, &stamp), Err(DepotError::Changed { .. })), "written anew");
    std::fs::remove_file(&path).unwrap();
    assert!(matches!(shape_of(&path, &stamp), Err(DepotError::NoFile { .. })));
}

#[test]
fn a_stored_file_may_have_moved_but_not_changed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("larkfen-desk.gguf");
    std::fs::copy(golden("golden/bad/00-valid-control.gguf"), &path).unwrap();
    let stamp = examine(&path).unwrap().stamp;
    let elsewhere = FileStamp { inode: !stamp.inode, ..stamp };
    let shape =
        |stamp: &FileStamp, is_stored| super::shape_of(&path, stamp, is_stored, &InThisProcess);
    shape(&elsewhere, true).unwrap();
    assert!(matches!(shape(&elsewhere, false), Err(DepotError::Changed { .. })));
    for changed in [
        FileStamp { bytes: stamp.bytes + 1, ..elsewhere },
        FileStamp { modified_ns: stamp.modified_ns + 1, ..elsewhere },
    ] {
        assert!(matches!(shape(&changed, true), Err(DepotError::Changed { .. })), "{changed:?}");
    }
}

#[test]
fn a_model_in_parts_is_one_model_and_any_part_counts() {
    let folder = tempfile::tempdir().unwrap();
    let names = (1..4).map(|part| format!("llama-{part:05}-of-00003.gguf"));
    let paths: Vec<PathBuf> = names
        .map(|name| {
            let path = folder.path().join(&name);
            std::fs::copy(golden(&format!("golden/split/{name}")), &path).unwrap();
            path
        })
        .collect();
    let examined = examine(&paths[0]).unwrap();
    assert_eq!(examined.facts.files, 3);
    let bytes: u64 = paths.iter().map(|path| path.metadata().unwrap().len()).sum();
    assert_eq!(examined.stamp.bytes, bytes);
    assert_eq!(shape_of(&paths[0], &examined.stamp).unwrap().1, paths);
    let later = std::time::SystemTime::now() + std::time::Duration::from_secs(9);
    std::fs::File::options().write(true).open(&paths[2]).unwrap().set_modified(later).unwrap();
    assert!(matches!(shape_of(&paths[0], &examined.stamp), Err(DepotError::Changed { .. })));
}
