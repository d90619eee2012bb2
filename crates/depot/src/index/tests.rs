use std::ops::ControlFlow;

use deft_planning::{Demand, LoadSettings, Placement};
use serde_json::{Value, json};
use tempfile::TempDir;

use super::*;
use crate::examine::{examine, shape_of};
use crate::headers::InThisProcess;

fn project(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)
}

/// A shelf with two variants of a model, one in parts, and a file that is of no use.
fn shelf() -> TempDir {
    let shelf = tempfile::tempdir().unwrap();
    let mut files = vec![
        (
            "demo/larkfen-desk/larkfen-desk-q8_0.gguf".to_owned(),
            "desk/larkfen-desk-q8_0.gguf".to_owned(),
        ),
        (
            "demo/larkfen-desk/larkfen-desk-f16.gguf".to_owned(),
            "desk/larkfen-desk-f16.gguf".to_owned(),
        ),
        ("golden/bad/04-truncated-data.gguf".to_owned(), "broken.gguf".to_owned()),
    ];
    for part in 1..4 {
        let name = format!("llama-{part:05}-of-00003.gguf");
        files.push((format!("golden/split/{name}"), name));
    }
    for (source, target) in files {
        let target = shelf.path().join(target);
        fs::create_dir_all(target.parent().unwrap()).unwrap();
        fs::copy(project(&source), target).unwrap();
    }
    shelf
}

fn write(shelf: &TempDir) -> Written {
    write_index(shelf.path(), "Larkfen shelf", &InThisProcess, &mut |_| ControlFlow::Continue(()))
        .unwrap()
}

#[test]
fn a_shelf_is_described_and_read_again_as_it_was() {
    let shelf = shelf();
    let Written { index, refused } = write(&shelf);
    let text = fs::read(shelf.path().join(INDEX_FILE)).unwrap();
    assert_eq!(Index::read(&text).unwrap(), index);
    let names: Vec<String> = index
        .models
        .iter()
        .flat_map(|model| {
            model.variants.iter().map(|variant| format!("{}/{}", model.name, variant.name))
        })
        .collect();
    assert_eq!(names[..2], ["larkfen-desk/f16", "larkfen-desk/q8_0"]);
    let parts = &index.models[1].variants[0].files;
    assert_eq!((parts.len(), parts[2].path.as_str()), (3, "llama-00003-of-00003.gguf"));
    let desk = &index.models[0].variants[1];
    assert_eq!(desk.files[0].path, "desk/larkfen-desk-q8_0.gguf");
    assert_eq!(desk.bytes(), 1_993_568);
    assert_eq!(
        desk.files[0].sha256.to_string(),
        "17435f5f2095a16db5e3ee9e152e47e5db0a5d717e6fd7c90aae8a177311462f"
    );
    assert_eq!(refused.len(), 1);
    assert!(refused[0].1.to_string().contains("truncated"), "{}", refused[0].1);
}

#[test]
fn a_plan_from_the_index_is_the_plan_from_the_file() {
    let shelf = shelf();
    let index = write(&shelf).index;
    let path = shelf.path().join("desk/larkfen-desk-q8_0.gguf");
    let (of_file, _) =
        shape_of(&path, &examine(&path, &InThisProcess).unwrap().stamp, false, &InThisProcess)
            .unwrap();
    let of_index = index.models[0].variants[1].model_shape().unwrap();
    let settings = LoadSettings::for_model(&of_file);
    let total = |shape: &ModelShape| {
        Demand::of(shape, &settings, &Placement::in_host(shape.layers)).total()
    };
    assert_eq!(total(&of_index), total(&of_file));
    assert_eq!(LoadSettings::for_model(&of_index), settings);
    // Experts are written where there are any.
    let with = ModelShape { experts: 64, experts_used: 8, ..of_file };
    let text = serde_json::to_string(&super::IndexedShape::of(&with)).unwrap();
    assert!(text.contains("\"experts\":64,\"experts_used\":8"), "{text}");
    let mut variant = index.models[0].variants[1].clone();
    assert!(!serde_json::to_string(&variant).unwrap().contains("experts"));
    variant.shape = Some(serde_json::from_str(&text).unwrap());
    assert_eq!(total(&variant.model_shape().unwrap()), total(&with));
}

#[test]
fn what_cannot_be_relied_on_is_refused() {
    let shelf = shelf();
    let good = serde_json::to_value(write(&shelf).index).unwrap();
    let refusal = |change: &dyn Fn(&mut Value)| {
        let mut value = good.clone();
        change(&mut value);
        Index::read(&serde_json::to_vec(&value).unwrap()).unwrap_err().to_string()
    };
    let file = "/models/0/variants/0/files/0";
    for path in ["../desk.gguf", "/etc/hostname", "desk//x.gguf", "a/./b.gguf", "..\\desk.gguf"] {
        let said = refusal(&|value| value.pointer_mut(file).unwrap()["path"] = json!(path));
        assert!(said.contains("outside the folder of the index"), "{said}");
    }
    let said = refusal(&|value| value["models"][0]["name"] = json!("../desk"));
    assert!(said.contains("is not a valid name"), "{said}");
    let said = refusal(&|value| value.pointer_mut(file).unwrap()["sha256"] = json!("17"));
    assert!(said.contains("not a SHA-256 digest"), "{said}");
    let said = refusal(&|value| value["models"][0]["variants"][0]["files"] = json!([]));
    assert!(said.contains("no file with weights"), "{said}");
    let said = refusal(&|value| value["depot_index"] = json!(2));
    assert!(said.contains("versions up to 1"), "{said}");
    assert!(Index::read(b"<html>").unwrap_err().to_string().contains("not a depot index"));
    // What a later version adds is passed over.
    let mut later = good.clone();
    later["models"][0]["stars"] = json!(5);
    assert!(Index::read(&serde_json::to_vec(&later).unwrap()).is_ok());
}

#[test]
fn an_index_that_cannot_be_written_leaves_the_old_one() {
    let shelf = shelf();
    let before = write(&shelf).index;
    let cancelled =
        write_index(shelf.path(), "other", &InThisProcess, &mut |_| ControlFlow::Break(()));
    assert!(matches!(cancelled, Err(IndexError::Store(StoreError::Cancelled))));
    let text = fs::read(shelf.path().join(INDEX_FILE)).unwrap();
    assert_eq!(Index::read(&text).unwrap(), before);
    let twice = shelf.path().join("twice");
    fs::create_dir(&twice).unwrap();
    fs::copy(
        project("demo/larkfen-desk/larkfen-desk-q8_0.gguf"),
        twice.join("larkfen-desk-q8_0.gguf"),
    )
    .unwrap();
    let error = write_index(shelf.path(), "x", &InThisProcess, &mut |_| ControlFlow::Continue(()))
        .unwrap_err();
    assert!(
        error.to_string().contains("two files would both be named `larkfen-desk/q8_0`"),
        "{error}"
    );
    let empty = tempfile::tempdir().unwrap();
    let error = write_index(empty.path(), "x", &InThisProcess, &mut |_| ControlFlow::Continue(()))
        .unwrap_err();
    assert!(matches!(error, IndexError::Empty(_)));
}
