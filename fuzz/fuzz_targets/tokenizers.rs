//! Any text through every golden tokenizer: ids lie within the vocabulary, tokenizers that lose
//! nothing give the text back, and a stream says what decoding says.
#![no_main]

use std::fs::File;
use std::path::Path;
use std::sync::LazyLock;

use deft_engine::tokenizer::{Specials, StreamStart, Tokenizer};
use deft_formats::gguf::Header;
use libfuzzer_sys::fuzz_target;

static ALL: LazyLock<Vec<(bool, Tokenizer)>> = LazyLock::new(|| {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../golden/tokenizers");
    // Composing characters and lower-casing lose something; the others do not.
    [("bpe-default", true), ("bpe-gpt-2", true), ("bpe-llama-bpe", true), ("bpe-qwen2", false),
     ("spm-gemma", true), ("spm-prefix", true), ("wpm", false)]
    .map(|(name, whole)| {
        let file = File::open(folder.join(format!("{name}.gguf"))).unwrap();
        let bytes = file.metadata().unwrap().len();
        (whole, Tokenizer::new(&Header::read(file, bytes).unwrap().metadata).unwrap())
    })
    .into()
});

fuzz_target!(|text: &str| {
    for (whole, tokenizer) in ALL.iter() {
        for specials in [Specials::Recognised, Specials::PlainText] {
            let ids = tokenizer.encode(text, specials);
            assert!(ids.iter().all(|&id| (id as usize) < tokenizer.vocabulary().len()));
            let decoded = tokenizer.decode(&ids);
            if *whole && specials == Specials::PlainText && !text.contains('\u{2581}') {
                assert_eq!(decoded, text);
            }
            let mut stream = tokenizer.stream(StreamStart::Text);
            let mut streamed: String =
                ids.iter().map(|&id| stream.push(&tokenizer.bytes_of(id))).collect();
            streamed.push_str(&stream.finish());
            assert_eq!(streamed, decoded);
        }
    }
});
