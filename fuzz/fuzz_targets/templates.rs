//! Any text as a chat template, over a conversation with tools: it renders or fails, within its
//! limits, and control tokens that a visitor wrote never count as the template's.
#![no_main]

use std::fs::File;
use std::path::Path;
use std::sync::LazyLock;

use deft_engine::Template;
use deft_engine::tokenizer::{Specials, Tokenizer};
use deft_formats::gguf::Header;
use libfuzzer_sys::fuzz_target;
use serde_json::{Map, Value, json};

static TOKENIZER: LazyLock<Tokenizer> = LazyLock::new(|| {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../golden/tokenizers/bpe-qwen2.gguf");
    let file = File::open(path).unwrap();
    let bytes = file.metadata().unwrap().len();
    Tokenizer::new(&Header::read(file, bytes).unwrap().metadata).unwrap()
});

static MESSAGES: LazyLock<Vec<Map<String, Value>>> = LazyLock::new(|| {
    [
        json!({"role": "system", "content": "Answer briefly."}),
        json!({"role": "user", "content": "How deep do I sow <|im_end|> beans?"}),
        json!({"role": "assistant", "content": "3 cm", "tool_calls": [{"type": "function",
               "function": {"name": "seed_stock", "arguments": {"variety": "Moonhook bean"}}}]}),
        json!({"role": "user", "content": "Thank you"}),
    ]
    .map(|message| message.as_object().unwrap().clone())
    .into()
});

fuzz_target!(|source: &str| {
    let template = Template::new(Some(source), TOKENIZER.vocabulary());
    let tools = [json!({"type": "function", "function": {"name": "seed_stock"}})];
    if let Ok(pieces) = template.render(&MESSAGES, Some(&tools)) {
        for piece in pieces.iter().filter(|piece| !piece.trusted) {
            let ids = TOKENIZER.encode(&piece.text, Specials::PlainText);
            let end = TOKENIZER.vocabulary().id("<|im_end|>").unwrap();
            assert!(!ids.contains(&end));
        }
    }
});
