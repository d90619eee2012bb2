//! Any bytes as a model file: header, family, tokenizer, template and all facts. Nothing may panic,
//! hang, or take more memory than a small multiple of the file.
#![no_main]

use std::io::Cursor;

use deft_engine::facts;
use deft_engine::tokenizer::{Specials, Tokenizer};
use deft_formats::gguf::{Header, StoredModel};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(header) = Header::read(Cursor::new(bytes), bytes.len() as u64) else {
        return;
    };
    for tensor in &header.tensors {
        assert!(tensor.offset + tensor.bytes <= bytes.len() as u64);
    }
    if let Ok(tokenizer) = Tokenizer::new(&header.metadata) {
        let ids = tokenizer.encode_prompt("Sow 3 cm\n deep: <s>é😀", Specials::Recognised);
        assert!(ids.iter().all(|&id| (id as usize) < tokenizer.vocabulary().len()));
        let _ = tokenizer.decode(&ids);
    }
    let _ = facts::read(&StoredModel { header, parts: Vec::new() });
});
