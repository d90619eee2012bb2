//! Division of text into words before merging. The file names the rule. The regular expressions are the published ones of the
//! families that use them.

use std::borrow::Cow;

use fancy_regex::Regex;
use unicode_normalization::{IsNormalized, UnicodeNormalization, is_nfc_quick};

/// A named rule.
pub(super) struct PreTokenizer {
    /// Expressions, applied one after the other, each to the pieces of the previous one.
    expressions: Vec<Regex>,
    takes_whole_words: bool,
    /// Whether the text is normalised (NFC) first.
    composes: bool,
}

const GPT_2: &str = r"'s|'t|'re|'ve|'m|'ll|'d| ?\p{L}+| ?\p{N}+| ?[^\s\p{L}\p{N}]+|\s+(?!\S)|\s+";
const UP_TO_THREE_DIGITS: &str = r"(?i:'s|'t|'re|'ve|'m|'ll|'d)|[^\r\n\p{L}\p{N}]?\p{L}+|\p{N}{1,3}| ?[^\s\p{L}\p{N}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+";
const SINGLE_DIGITS: &str = r"(?i:'s|'t|'re|'ve|'m|'ll|'d)|[^\r\n\p{L}\p{N}]?\p{L}+|\p{N}| ?[^\s\p{L}\p{N}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+";
/// A rule that also divides words between a small letter and a capital.
const CAPITALS: &str = r"[^\r\n\p{L}\p{N}]?[\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}]*[\p{Ll}\p{Lm}\p{Lo}\p{M}]+|[^\r\n\p{L}\p{N}]?[\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}]+[\p{Ll}\p{Lm}\p{Lo}\p{M}]*|\p{N}| ?[^\s\p{L}\p{N}]+[\r\n/]*|\s*[\r\n]+|\s+(?!\S)|\s+";
const CAPITALS_WITH_CONTRACTIONS: &str = r"[^\r\n\p{L}\p{N}]?[\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}]*[\p{Ll}\p{Lm}\p{Lo}\p{M}]+(?i:'s|'t|'re|'ve|'m|'ll|'d)?|[^\r\n\p{L}\p{N}]?[\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}]+[\p{Ll}\p{Lm}\p{Lo}\p{M}]*(?i:'s|'t|'re|'ve|'m|'ll|'d)?|\p{N}{1,3}| ?[^\s\p{L}\p{N}]+[\r\n/]*|\s*[\r\n]+|\s+(?!\S)|\s+";
const SIGNS: &str = r"[\p{P}\$\+<=>\^~\|]+";
const SIGNS_AND_BACKTICK: &str = r"[\p{P}\$\+<=>\^~\|`]+";
const IDEOGRAPHS: &str = "[\u{4E00}-\u{9FA5}\u{3040}-\u{309F}\u{30A0}-\u{30FF}]+";
const SIGN_BEFORE_WORD: &str = r##"[!"#$%&'()*+,\-./:;<=>?@\[\\\]^_`{|}~][A-Za-z]+|[^\r\n\p{L}\p{P}\p{S}]?[\p{L}\p{M}]+| ?[\p{P}\p{S}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+"##;
const DEFAULT: &[&str] = &[SIGNS, GPT_2, r"\p{N}+", r"[0-9][0-9][0-9]"];

struct Rule {
    expressions: &'static [&'static str],
    takes_whole_words: bool,
    composes: bool,
}

/// The rule with a name, if it is known.
fn rule(name: &str) -> Option<Rule> {
    let plain = |expressions| Rule { expressions, takes_whole_words: false, composes: false };
    Some(match name {
        "default" => plain(DEFAULT),
        "gpt-2" => plain(&[GPT_2]),
        "llama-bpe" => Rule { takes_whole_words: true, ..plain(&[UP_TO_THREE_DIGITS]) },
        "smaug-bpe" | "dbrx" => plain(&[UP_TO_THREE_DIGITS]),
        // The published tokenizers of this family normalise the text; the file does not contain that.
        "qwen2" | "deepseek-r1-qwen" => Rule { composes: true, ..plain(&[SINGLE_DIGITS]) },
        "stablelm2" => plain(&[SINGLE_DIGITS]),
        "starcoder" | "refact" | "command-r" | "codeshell" => plain(&[r"\p{N}", GPT_2]),
        "falcon" => plain(&[SIGNS_AND_BACKTICK, GPT_2, r"[0-9][0-9][0-9]"]),
        "tekken" => Rule { takes_whole_words: true, ..plain(&[CAPITALS]) },
        "gpt-4o" => plain(&[CAPITALS_WITH_CONTRACTIONS]),
        "deepseek-v3" => plain(&[r"\p{N}{1,3}", IDEOGRAPHS, SIGN_BEFORE_WORD]),
        _ => return None,
    })
}

impl PreTokenizer {
    /// The rule with a name. An unknown name gets the default rule, with a warning.
    pub(super) fn named(name: &str) -> (Self, Option<String>) {
        let found = rule(name);
        let warning = found.is_none().then(|| {
            format!(
                "pre-tokenizer `{name}` is not supported; the default is used, so some texts may be split into \
                 other tokens than in training"
            )
        });
        let rule = found.unwrap_or(Rule {
            expressions: DEFAULT,
            takes_whole_words: false,
            composes: false,
        });
        let expressions = rule
            .expressions
            .iter()
            .map(|expression| Regex::new(expression).expect("the expressions above are valid"))
            .collect();
        let Rule { takes_whole_words, composes, .. } = rule;
        (Self { expressions, takes_whole_words, composes }, warning)
    }

    /// The text, normalised if the rule requires it.
    pub(super) fn normalised<'t>(&self, text: &'t str) -> Cow<'t, str> {
        if self.composes && is_nfc_quick(text.chars()) != IsNormalized::Yes {
            Cow::Owned(text.nfc().collect())
        } else {
            Cow::Borrowed(text)
        }
    }

    pub(super) fn takes_whole_words(&self) -> bool {
        self.takes_whole_words
    }

    /// The words of a text; joined, they are the text.
    pub(super) fn split<'t>(&self, text: &'t str) -> Vec<&'t str> {
        let mut pieces = vec![text];
        for expression in &self.expressions {
            pieces = pieces.into_iter().flat_map(|piece| cut(expression, piece)).collect();
        }
        pieces
    }
}

/// The matches and the pieces between them.
fn cut<'t>(expression: &Regex, text: &'t str) -> Vec<&'t str> {
    let mut pieces = Vec::new();
    let mut from = 0;
    // If an expression reaches its limit of backtracking, the rest stays one piece: its tokens are unusual, but no text is
    // lost.
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

#[cfg(test)]
mod tests {
    use super::*;

    /// All names that are known.
    const KNOWN: &[&str] = &[
        "default",
        "gpt-2",
        "llama-bpe",
        "smaug-bpe",
        "dbrx",
        "qwen2",
        "deepseek-r1-qwen",
        "stablelm2",
        "starcoder",
        "refact",
        "command-r",
        "codeshell",
        "falcon",
        "tekken",
        "gpt-4o",
        "deepseek-v3",
    ];

    /// One line for each known name, to be read against the published expressions.
    #[test]
    fn every_known_rule_cuts_its_own_way() {
        let text = "It's 12345 kg of seedCatalogue (x != y)…  \n\n種子を播く e\u{301}t";
        let cut = |name: &&str| {
            let (rule, warning) = PreTokenizer::named(name);
            assert!(warning.is_none(), "{name}");
            let text = rule.normalised(text);
            let words = rule.split(&text);
            assert_eq!(words.concat(), text, "{name} loses something");
            format!("{name}: {}", words.join("|").replace('\n', "\\n"))
        };
        let lines: Vec<String> = KNOWN.iter().map(cut).collect();
        insta::assert_snapshot!(lines.join("\n"));
    }

    #[test]
    fn an_unknown_name_is_reported() {
        let (_, warning) = PreTokenizer::named("larkfen-words");
        assert!(warning.unwrap().contains("`larkfen-words` is not supported"));
    }
}
