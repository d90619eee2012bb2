//! Cutting text into words before merging. The file names the rule; the expressions are the
//! published ones of the families that use them.

use fancy_regex::Regex;

/// A named rule.
pub(super) struct PreTokenizer {
    /// Applied one after the other, each to the pieces the one before left.
    expressions: Vec<Regex>,
    takes_whole_words: bool,
}

const GPT_2: &[&str] =
    &[r"'s|'t|'re|'ve|'m|'ll|'d| ?\p{L}+| ?\p{N}+| ?[^\s\p{L}\p{N}]+|\s+(?!\S)|\s+"];
const LLAMA_BPE: &[&str] = &[
    r"(?i:'s|'t|'re|'ve|'m|'ll|'d)|[^\r\n\p{L}\p{N}]?\p{L}+|\p{N}{1,3}| ?[^\s\p{L}\p{N}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+",
];
const QWEN2: &[&str] = &[
    r"(?i:'s|'t|'re|'ve|'m|'ll|'d)|[^\r\n\p{L}\p{N}]?\p{L}+|\p{N}| ?[^\s\p{L}\p{N}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+",
];
const DEFAULT: &[&str] = &[
    r"[\p{P}\$\+<=>\^~\|]+",
    r"'s|'t|'re|'ve|'m|'ll|'d| ?\p{L}+| ?\p{N}+| ?[^\s\p{L}\p{N}]+|\s+(?!\S)",
    r"\p{N}+",
    r"[0-9][0-9][0-9]",
];

impl PreTokenizer {
    /// The rule of that name; an unknown name gets the default rule and a warning to show.
    pub(super) fn named(name: &str) -> (Self, Option<String>) {
        let (expressions, takes_whole_words, known) = match name {
            "gpt-2" => (GPT_2, false, true),
            "llama-bpe" => (LLAMA_BPE, true, true),
            "qwen2" => (QWEN2, false, true),
            "default" => (DEFAULT, false, true),
            _ => (DEFAULT, false, false),
        };
        let expressions = expressions
            .iter()
            .map(|expression| Regex::new(expression).expect("the expressions above are valid"))
            .collect();
        let warning = (!known).then(|| {
            format!(
                "pre-tokenizer `{name}` is not known here; the default rule is used, so some texts \
                 may be cut into other tokens than the model was trained with"
            )
        });
        (Self { expressions, takes_whole_words }, warning)
    }

    pub(super) fn takes_whole_words(&self) -> bool {
        self.takes_whole_words
    }

    /// The words of a text; together they are the text.
    pub(super) fn split<'t>(&self, text: &'t str) -> Vec<&'t str> {
        let mut pieces = vec![text];
        for expression in &self.expressions {
            pieces = pieces.into_iter().flat_map(|piece| cut(expression, piece)).collect();
        }
        pieces
    }
}

/// Matches and what lies between them.
fn cut<'t>(expression: &Regex, text: &'t str) -> Vec<&'t str> {
    let mut pieces = Vec::new();
    let mut from = 0;
    // An expression that gives up (backtracking limit) leaves the rest in one piece: the tokens
    // are then unusual but the text is whole.
    for found in expression.find_iter(text).map_while(Result::ok) {
        if found.start() > from {
            pieces.push(&text[from..found.start()]);
        }
        if found.end() > found.start() {
            pieces.push(found.as_str());
        }
        from = found.end();
    }
    if from < text.len() {
        pieces.push(&text[from..]);
    }
    pieces
}
