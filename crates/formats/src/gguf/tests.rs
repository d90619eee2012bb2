use std::io::Cursor;
use std::path::{Path, PathBuf};

use super::*;

fn golden(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden").join(name)
}

fn read(path: &Path) -> Result<Header, GgufError> {
    let bytes = std::fs::read(path).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
    Header::read(Cursor::new(&bytes), bytes.len() as u64)
}

#[test]
fn a_sound_file_gives_its_metadata_and_tensors() {
    let header = read(&golden("models/llama-q8_0.gguf")).unwrap();
    assert_eq!(header.version, 3);
    assert_eq!(header.metadata.text("general.architecture"), Ok("llama"));
    assert_eq!(header.metadata.count("llama.block_count"), Ok(3));
    let embedding = header.tensor("token_embd.weight").unwrap();
    assert_eq!(embedding.dimensions, [64, 512]);
    assert_eq!(embedding.bytes, 64 / 32 * 34 * 512);
    assert!(embedding.offset.is_multiple_of(32));
}

/// The defects from 01 to 33 are in the format itself.
#[test]
fn every_damaged_container_is_refused_with_a_reason() {
    let mut refused = 0;
    for entry in std::fs::read_dir(golden("bad")).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let Some(number) = name.get(..2).and_then(|digits| digits.parse::<u32>().ok()) else {
            continue;
        };
        if !(1..=33).contains(&number) {
            continue;
        }
        let error = read(&path).expect_err(&name).to_string();
        assert!(error.len() > 20, "{name}: {error}");
        refused += 1;
    }
    assert_eq!(refused, 33);
}

#[test]
fn messages_name_what_was_found() {
    let message = |name: &str| read(&golden(name)).unwrap_err().to_string();
    assert!(message("bad/05-wrong-magic.gguf").starts_with("not a GGUF file: it starts with"));
    assert!(message("bad/07-version-99.gguf").contains("version 99"));
    assert!(message("bad/08-big-endian.gguf").contains("big-endian"));
    assert!(message("bad/04-truncated-data.gguf").contains("truncated"));
    assert!(message("bad/17-duplicate-key.gguf").contains("`llama.block_count` appears twice"));
    assert!(message("bad/24-overlapping-tensors.gguf").contains("overlaps tensor"));
}

#[test]
fn a_file_cut_at_any_byte_is_refused_and_never_panics() {
    let bytes = std::fs::read(golden("bad/00-valid-control.gguf")).unwrap();
    for length in (0..bytes.len()).step_by(97) {
        let cut = &bytes[..length];
        assert!(Header::read(Cursor::new(cut), length as u64).is_err(), "cut at {length}");
    }
}

proptest::proptest! {
    #[test]
    fn flipped_bytes_never_panic(at in 0usize..12_000, value: u8) {
        let mut bytes = std::fs::read(golden("bad/00-valid-control.gguf")).unwrap();
        bytes[at] = value;
        let length = bytes.len() as u64;
        let _ = Header::read(Cursor::new(&bytes), length);
    }
}

/// A header with one key, and nothing else.
fn with_key(key: &str, type_id: u32, value: &[u8]) -> Vec<u8> {
    let mut bytes = b"GGUF\x03\0\0\0".to_vec();
    bytes.extend(0_u64.to_le_bytes());
    bytes.extend(1_u64.to_le_bytes());
    bytes.extend((key.len() as u64).to_le_bytes());
    bytes.extend(key.as_bytes());
    bytes.extend(type_id.to_le_bytes());
    bytes.extend(value);
    bytes
}

#[test]
fn a_header_that_would_grow_in_memory_is_refused_before_it_does() {
    let refused = |bytes: &[u8]| {
        let length = bytes.len() as u64;
        Header::read(Cursor::new(bytes), length).unwrap_err().to_string()
    };
    // An array of bytes, each of which becomes a number of eight bytes.
    let count = 40 << 20;
    let mut array = 0_u32.to_le_bytes().to_vec();
    array.extend((count as u64).to_le_bytes());
    array.resize(array.len() + count, 7);
    let error = refused(&with_key("larkfen.rows", 9, &array));
    assert!(error.contains("`larkfen.rows`") || error.contains("larkfen.rows makes"), "{error}");
    assert!(error.contains("more than 256 MiB of memory"), "{error}");
    let long = 17 << 20;
    let mut text = (long as u64).to_le_bytes().to_vec();
    text.resize(text.len() + long, b'a');
    let error = refused(&with_key("larkfen.note", 8, &text));
    assert!(error.contains("larkfen.note is 17825792 bytes long"), "{error}");
}

#[test]
fn a_model_that_tells_of_four_billion_parts_is_refused_at_once() {
    let folder = tempfile::tempdir().unwrap();
    for (count, number) in [(u32::MAX, 0), (2, u32::MAX), (1001, 0)] {
        let path = folder.path().join(format!("larkfen-00001-of-{count:05}.gguf"));
        let mut bytes = b"GGUF\x03\0\0\0".to_vec();
        bytes.extend(0_u64.to_le_bytes());
        bytes.extend(2_u64.to_le_bytes());
        for (key, value) in [("split.count", count), ("split.no", number)] {
            bytes.extend((key.len() as u64).to_le_bytes());
            bytes.extend(key.as_bytes());
            bytes.extend(4_u32.to_le_bytes());
            bytes.extend(value.to_le_bytes());
        }
        std::fs::write(&path, bytes).unwrap();
        let error = StoredModel::read(&path).unwrap_err().to_string();
        assert!(error.contains("parts"), "{error}");
    }
}
