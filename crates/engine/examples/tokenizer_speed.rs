//! The speed of the tokenizer: `cargo run --release --package deft-engine --example tokenizer_speed`.
#![expect(clippy::print_stdout, clippy::unwrap_used, reason = "a measurement that prints")]

use std::fs::File;
use std::path::Path;
use std::time::Instant;

use deft_engine::tokenizer::{Specials, Tokenizer};
use deft_formats::gguf::Header;

/// Sentences of many lengths, with numbers, other scripts and code.
const TEXT: &str = "Sow Moonhook bean 3 cm deep from May to July, 12 seeds to a row. Don't water it \
    at noon!\n\nfn rows(seeds: u32) -> u32 { seeds / 12 } // 種子を播く, Zażółć gęślą jaźń\n";

fn main() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden/tokenizers");
    let text = TEXT.repeat(3000);
    for name in
        ["bpe-llama-bpe", "bpe-qwen2", "bpe-gpt-2", "bpe-default", "spm-gemma", "spm-prefix", "wpm"]
    {
        let file = File::open(folder.join(format!("{name}.gguf"))).unwrap();
        let bytes = file.metadata().unwrap().len();
        let tokenizer = Tokenizer::new(&Header::read(file, bytes).unwrap().metadata).unwrap();
        let started = Instant::now();
        let tokens = tokenizer.encode(&text, Specials::PlainText).len();
        let seconds = started.elapsed().as_secs_f64();
        let hundred = seconds * 1e5 / tokens as f64;
        println!(
            "{name:<15}{tokens:>9} tokens in {seconds:.3} s: 100,000 tokens in {hundred:.3} s"
        );
    }
}
