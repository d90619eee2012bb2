//! Tests of all golden tokenizers of the supported kinds.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use deft_formats::gguf::{Array, Header, Value as Stored, write};
use proptest::prelude::*;
use serde_json::Value;

use super::*;

const NAMES: [&str; 7] =
    ["bpe-default", "bpe-gpt-2", "bpe-llama-bpe", "bpe-qwen2", "spm-gemma", "spm-prefix", "wpm"];

fn golden(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden/tokenizers").join(name)
}

fn open(name: &str) -> (Tokenizer, Value) {
    let path = golden(&format!("{name}.gguf"));
    let file = File::open(&path).unwrap();
    let bytes = file.metadata().unwrap().len();
    let header = Header::read(file, bytes).unwrap();
    let cases = std::fs::read(golden(&format!("{name}.json"))).unwrap();
    (Tokenizer::new(&header.metadata).unwrap(), serde_json::from_slice(&cases).unwrap())
}

fn ids(value: &Value) -> Vec<u32> {
    value.as_array().unwrap().iter().map(|id| id.as_u64().unwrap() as u32).collect()
}

#[test]
fn golden_texts_encode_to_the_golden_ids() {
    for name in NAMES {
        let (tokenizer, cases) = open(name);
        assert!(tokenizer.warnings().is_empty(), "{name}: {:?}", tokenizer.warnings());
        for case in cases["encode"].as_array().unwrap() {
            let text = case["text"].as_str().unwrap();
            // If normalisation makes a difference, the published tokenizer normalises.
            let composed = &case["ids_if_nfc_normalised"];
            let wanted = |key: &str| ids(if composed.is_array() { composed } else { &case[key] });
            let found = tokenizer.encode(text, Specials::Recognised);
            assert_eq!(found, wanted("ids"), "{name}: {text:?}");
            let found = tokenizer.encode(text, Specials::PlainText);
            assert_eq!(found, wanted("ids_no_special_parsing"), "{name}, plain: {text:?}");
            // A text with its own begin token gets no second one.
            let begins = tokenizer.vocabulary().begin();
            if !composed.is_array() && ids(&case["ids"]).first() != begins.as_ref() {
                let found = tokenizer.encode_prompt(text, Specials::Recognised);
                assert_eq!(found, ids(&case["ids_with_bos_eos"]), "{name}, marked: {text:?}");
            }
        }
    }
}

#[test]
fn golden_ids_decode_and_stream_to_the_golden_texts() {
    for name in NAMES {
        let (tokenizer, cases) = open(name);
        for case in cases["decode"].as_array().unwrap() {
            let ids = ids(&case["ids"]);
            assert_eq!(tokenizer.decode(&ids), case["text"].as_str().unwrap(), "{name}: {case}");
            if case["stream"].is_null() {
                continue;
            }
            let mut stream = tokenizer.stream(StreamStart::Text);
            let mut pieces: Vec<String> =
                ids.iter().map(|&id| stream.push(&tokenizer.bytes_of(id))).collect();
            pieces.push(stream.finish());
            let expected: Vec<&str> = case["stream"]
                .as_array()
                .unwrap()
                .iter()
                .map(|piece| piece.as_str().unwrap())
                .collect();
            assert_eq!(pieces, expected, "{name}: {case}");
        }
    }
}

#[test]
fn a_visitor_cannot_write_control_tokens() {
    let (tokenizer, _) = open("bpe-qwen2");
    let text = "<|im_end|>";
    let id = tokenizer.vocabulary().id(text).unwrap();
    assert_eq!(tokenizer.encode(text, Specials::Recognised), [id]);
    assert!(!tokenizer.encode(text, Specials::PlainText).contains(&id));
}

#[test]
fn a_begin_token_is_not_added_twice() {
    let (tokenizer, _) = open("spm-prefix");
    let begin = tokenizer.vocabulary().begin().unwrap();
    for text in ["seed", "<s>seed"] {
        let ids = tokenizer.encode_prompt(text, Specials::Recognised);
        assert_eq!(ids.iter().filter(|&&id| id == begin).count(), 1, "{text}");
        assert_eq!(ids[0], begin);
    }
}

/// The tokenizers that lose nothing: no conversion to small letters, no normalisation.
static WHOLE: LazyLock<Vec<(&str, Tokenizer)>> = LazyLock::new(|| {
    let names = NAMES.iter().filter(|name| !["wpm", "bpe-qwen2"].contains(name));
    names.map(|name| (*name, open(name).0)).collect()
});

proptest! {
    /// The tokens of a tokenizer that loses nothing give the same text, at once and as a stream of valid pieces.
    #[test]
    fn texts_come_back_from_their_tokens(text in "[a-zA-Z0-9 .,!?\\n\\t<|>_\u{e9}\u{5e9}\u{64b}\u{4e2d}\u{1f331}\u{0301}]{0,80}") {
        for (name, tokenizer) in WHOLE.iter() {
            let ids = tokenizer.encode(&text, Specials::PlainText);
            prop_assert_eq!(&tokenizer.decode(&ids), &text, "{}", name);
            let mut stream = tokenizer.stream(StreamStart::Text);
            let mut streamed = String::new();
            for id in ids {
                let piece = stream.push(&tokenizer.bytes_of(id));
                prop_assert!(!piece.contains('\u{FFFD}'), "{}: {:?}", name, piece);
                streamed.push_str(&piece);
            }
            streamed.push_str(&stream.finish());
            prop_assert_eq!(&streamed, &text, "{}", name);
        }
    }
}

#[test]
fn a_capital_that_has_no_small_letter_does_not_keep_texts_from_becoming_small() {
    let ids_with = |odd: &str| {
        let texts = ["[UNK]", "\u{2581}bean", "\u{2581}sow", odd];
        let metadata = [
            ("tokenizer.ggml.model", Stored::String("bert".to_owned())),
            ("tokenizer.ggml.tokens", Stored::Array(Array::Strings(texts.into_iter().collect()))),
            ("tokenizer.ggml.token_type", Stored::Array(Array::Integers(vec![2, 1, 1, 1]))),
            ("tokenizer.ggml.unknown_token_id", Stored::Unsigned(0)),
        ];
        let mut file = Vec::new();
        write(&mut file, &metadata, &[], |_, _| Ok(())).unwrap();
        let bytes = file.len() as u64;
        let header = Header::read(std::io::Cursor::new(file), bytes).unwrap();
        Tokenizer::new(&header.metadata).unwrap().encode("Sow BEAN", Specials::PlainText)
    };
    // The sign for real numbers is a capital letter; published vocabularies without capitals contain it.
    assert_eq!(ids_with("\u{2581}\u{211D}"), [2, 1]);
    assert_eq!(ids_with("\u{2581}Pea"), [0, 0], "with capitals texts stay as they are");
}

#[test]
fn a_middle_is_asked_for_with_the_tokens_that_the_file_names() {
    let tokenizer = |roles: &[(&str, u64)]| {
        let texts = ["<unk>", "<s>", "<pre>", "<suf>", "<mid>", "a", "b"];
        let mut metadata = vec![
            ("tokenizer.ggml.model".to_owned(), Stored::String("llama".to_owned())),
            (
                "tokenizer.ggml.tokens".to_owned(),
                Stored::Array(Array::Strings(texts.into_iter().collect())),
            ),
            (
                "tokenizer.ggml.scores".to_owned(),
                Stored::Array(Array::Floats(vec![0.0; texts.len()])),
            ),
            (
                "tokenizer.ggml.token_type".to_owned(),
                Stored::Array(Array::Integers(vec![2, 3, 3, 3, 3, 1, 1])),
            ),
            ("tokenizer.ggml.bos_token_id".to_owned(), Stored::Unsigned(1)),
            ("tokenizer.ggml.unknown_token_id".to_owned(), Stored::Unsigned(0)),
            ("tokenizer.ggml.add_space_prefix".to_owned(), Stored::Bool(false)),
        ];
        for (role, id) in roles {
            metadata.push((format!("tokenizer.ggml.{role}_token_id"), Stored::Unsigned(*id)));
        }
        let metadata: Vec<_> =
            metadata.iter().map(|(key, value)| (&key[..], value.clone())).collect();
        let mut file = Vec::new();
        write(&mut file, &metadata, &[], |_, _| Ok(())).unwrap();
        let bytes = file.len() as u64;
        let header = Header::read(std::io::Cursor::new(file), bytes).unwrap();
        Tokenizer::new(&header.metadata).unwrap()
    };
    for names in [["fim_pre", "fim_suf", "fim_mid"], ["prefix", "suffix", "middle"]] {
        let with = tokenizer(&[(names[0], 2), (names[1], 3), (names[2], 4)]);
        let marks = with.vocabulary().fill_in().unwrap();
        let ids = with.encode_around(marks, ["ab", "b<mid>"], Specials::Recognised);
        assert_eq!(ids, [1, 2, 5, 6, 3, 6, 4, 4], "{names:?}");
        let plain = with.encode_around(marks, ["a", "<mid>"], Specials::PlainText);
        assert_eq!(
            plain.iter().filter(|&&id| id == 4).count(),
            1,
            "the text is no mark: {plain:?}"
        );
    }
    let without = tokenizer(&[("fim_pre", 2), ("fim_suf", 3)]);
    assert_eq!(without.vocabulary().fill_in(), None, "one of them is missing");
}
