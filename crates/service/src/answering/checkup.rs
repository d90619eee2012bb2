//! The check of a model: template, tokenizer, numbers and a short answer.
//!
//! A model is tested with ordinary calls. Passed and failed parts are reported together.

use deft_protocol::chat::{AnswerOptions, EndedBy, Figures};
use deft_protocol::engine::{Prompt, TokenScore};
use deft_protocol::manage::{CheckReport, Finding, ModelFacts};
use deft_protocol::{Problem, ProblemKind};
use serde_json::{Map, Value};
use uuid::Uuid;

use crate::answering::gateway::{Answers, Gateway, Question};

/// Who asks.
const CALLER: &str = "deft check";

/// Plain sentences. A model that learned to read finds them likelier than the same words in disorder.
const TEXT: &str = "Sow the beans in May, three centimetres deep, in a sunny place. Water them well. \
                    They are ready for harvest in August, and the seeds keep for four years.";
/// The same words, out of order.
const SCRAMBLED: &str = "Them seeds a deep, four place. the in harvest and well. years the ready for \
                         May, keep are Water sunny in three Sow August, for beans in centimetres They.";
/// A model that reads finds order at least so much likelier, per token, as a factor.
const ORDER_COUNTS: f64 = 1.15;
/// Tokens of the answer that is tried.
const ANSWER: u32 = 48;
/// A model whose answer has at most this perplexity is sure of it.
const SURE: f64 = 1.5;
/// Two texts of one meaning and one of another, for models that compare texts.
const ALIKE: [&str; 3] =
    ["When do I sow beans?", "When are beans sown?", "The ship left the harbour at night."];

/// Tests a model; loads it if necessary.
pub(crate) async fn of(gateway: &Gateway, model: &str) -> Result<CheckReport, Problem> {
    let registered = gateway.loads.resolve(model)?;
    let name = registered.name.to_string();
    let facts = &registered.facts;
    let mut findings = from_file(facts);
    if facts.serves.iter().any(|what| what == "completion") {
        let (answer, sureness) = answer(gateway, &name).await?;
        findings.push(reading(gateway, &name, sureness.filter(|_| answer.passed)).await?);
        findings.push(answer);
    }
    if facts.serves.iter().any(|what| what == "embeddings") {
        findings.push(embeddings(gateway, &name).await?);
    } else if facts.serves.iter().any(|what| what == "rerank") {
        findings.push(rank(gateway, &name).await?);
    }
    let unwell: Vec<&str> =
        findings.iter().filter(|found| !found.passed).map(|found| found.what.as_str()).collect();
    let verdict = match unwell.as_slice() {
        [] => "passed".to_owned(),
        some => format!("failed: {}", some.join(", ")),
    };
    Ok(CheckReport { passed: unwell.is_empty(), name, verdict, findings })
}

fn finding(what: &str, passed: bool, found: impl Into<String>) -> Finding {
    Finding { what: what.to_owned(), passed, found: found.into() }
}

/// Checks of the file alone.
fn from_file(facts: &ModelFacts) -> Vec<Finding> {
    let mut findings = Vec::new();
    if facts.serves.is_empty() {
        findings.push(finding("serving", true, facts.warnings.join("; ")));
    }
    if facts.serves.iter().any(|what| what == "completion") {
        findings.push(match (facts.has_template, facts.serves.iter().any(|what| what == "chat")) {
            (true, true) => finding("template", true, "a conversation can be rendered"),
            (true, false) => {
                let why = facts.sample.clone().unwrap_or_default();
                finding("template", false, format!("a conversation cannot be rendered: {why}"))
            }
            (false, _) => {
                let found = "none in the file; conversations are rendered in a plain form";
                finding("template", true, found)
            }
        });
        let ends = facts.special_tokens.iter().filter(|token| token.role.contains("end"));
        let ends: Vec<String> = ends.map(|token| format!("`{}`", token.text)).collect();
        findings.push(match ends.is_empty() {
            true => finding("end tokens", false, "none; answers end only at a token limit"),
            false => finding("end tokens", true, ends.join(", ")),
        });
    }
    let odd: Vec<&String> =
        facts.warnings.iter().filter(|warning| warning.contains("pre-tokenizer")).collect();
    findings.push(match odd.first() {
        None => finding("tokenizer", true, facts.tokenizer.clone()),
        Some(warning) => finding("tokenizer", false, (*warning).clone()),
    });
    findings
}

/// Values that are no numbers are a finding, and so is a context too short to try; other problems
/// end the check.
fn as_finding(what: &str, problem: Problem) -> Result<Finding, Problem> {
    match problem.code.as_str() {
        "model_not_finite" => Ok(finding(what, false, problem.detail)),
        "context_exceeded" => Ok(finding(what, true, format!("skipped: {}", problem.detail))),
        _ => Err(problem),
    }
}

/// Whether order makes a text likelier. A model that was trained for something narrow may know no
/// plain sentences; `sureness` is the perplexity of its own answer, where that made sense.
async fn reading(gateway: &Gateway, name: &str, sureness: Option<f64>) -> Result<Finding, Problem> {
    const WHAT: &str = "reading";
    let mut perplexities = Vec::new();
    for text in [TEXT, SCRAMBLED] {
        match perplexity(gateway, name, text).await {
            Ok(perplexity) => perplexities.push(perplexity),
            Err(problem) => return as_finding(WHAT, problem),
        }
    }
    let (whole, scrambled) = (perplexities[0], perplexities[1]);
    let figures = format!(
        "perplexity {whole:.1} for sentences, {scrambled:.1} for the same words in random order"
    );
    Ok(if whole * ORDER_COUNTS <= scrambled {
        finding(WHAT, true, figures)
    } else if let Some(own) = sureness.filter(|&own| own <= SURE) {
        let found =
            format!("{figures}; but {own:.2} for its own answer: it was trained for a narrow task");
        finding(WHAT, true, found)
    } else {
        let found = format!(
            "{figures}: word order makes little difference, so the weights are damaged, were converted wrongly, \
             or were not trained for such text"
        );
        finding(WHAT, false, found)
    })
}

async fn begin(
    gateway: &Gateway,
    name: &str,
    question: Question,
    options: AnswerOptions,
) -> Result<Answers, Problem> {
    let call = gateway.board.arrive(Uuid::now_v7(), name, CALLER);
    let answer = gateway.answer(call, name, question, options).await;
    Answers::begin(vec![Box::pin(std::future::ready(answer))], 1).await
}

async fn perplexity(gateway: &Gateway, name: &str, text: &str) -> Result<f64, Problem> {
    let question = Question { echo: true, scores: Some(0), ..Prompt::Text(text.to_owned()).into() };
    let options = AnswerOptions { max_tokens: Some(0), ..AnswerOptions::default() };
    let mut answer = begin(gateway, name, question, options).await?;
    let (all, _) = answer.whole().await?;
    Ok(perplexity_of(all.first().map_or(&[], |whole| &whole.scores)))
}

/// `exp` of the mean negative logarithm of the tokens' probabilities, the first left out.
#[expect(clippy::cast_precision_loss, reason = "a text is short")]
fn perplexity_of(scores: &[TokenScore]) -> f64 {
    let logprobs: Vec<f64> =
        scores.iter().filter_map(|score| score.logprob.map(f64::from)).collect();
    (-logprobs.iter().sum::<f64>() / logprobs.len().max(1) as f64).exp()
}

/// Whether a short question gets an answer that is none of the usual nonsense, and how sure the model
/// is of it, as perplexity.
async fn answer(gateway: &Gateway, name: &str) -> Result<(Finding, Option<f64>), Problem> {
    const WHAT: &str = "an answer";
    let message: Map<String, Value> = [("role", "user"), ("content", "Hello! Who are you?")]
        .map(|(key, value)| (key.to_owned(), Value::from(value)))
        .into_iter()
        .collect();
    let prompt = Prompt::Chat { messages: vec![message], tools: None, arguments: Map::new() };
    let options = AnswerOptions {
        temperature: Some(0.0),
        max_tokens: Some(ANSWER),
        ..AnswerOptions::default()
    };
    let question = Question { scores: Some(0), ..prompt.into() };
    let mut answer = match begin(gateway, name, question, options).await {
        Ok(answer) => answer,
        Err(problem) if problem.code == "template_failed" => {
            return Ok((finding(WHAT, false, problem.detail), None));
        }
        Err(problem) => return Ok((as_finding(WHAT, problem)?, None)),
    };
    match answer.whole().await {
        Ok((all, _)) => {
            let whole = all.into_iter().next().unwrap_or_default();
            let finding = judged(WHAT, whole.text.trim(), whole.figures.as_ref());
            Ok((finding, Some(perplexity_of(&whole.scores))))
        }
        Err(problem) => Ok((as_finding(WHAT, problem)?, None)),
    }
}

fn judged(what: &str, text: &str, figures: Option<&Figures>) -> Finding {
    let words: Vec<&str> = text.split_whitespace().collect();
    let mut different = words.clone();
    different.sort_unstable();
    different.dedup();
    let shown = format!("\"{}\"", text.escape_debug());
    if text.is_empty() {
        return finding(what, false, "empty");
    }
    if text.contains('\u{FFFD}') {
        return finding(what, false, format!("{shown}: broken characters"));
    }
    let repeats = figures.is_some_and(|figures| figures.ended_by == EndedBy::Repetition);
    if repeats || words.len() >= 12 && different.len() * 4 <= words.len() {
        return finding(what, false, format!("{shown}: repetition"));
    }
    finding(what, true, shown)
}

/// Whether texts of one meaning are nearer to each other than to another.
async fn embeddings(gateway: &Gateway, name: &str) -> Result<Finding, Problem> {
    const WHAT: &str = "embeddings";
    let inputs = ALIKE.iter().map(|text| Prompt::Text((*text).to_owned())).collect();
    let embedded = match gateway
        .embed(gateway.board.arrive(Uuid::now_v7(), name, CALLER), name, inputs, (None, None), None)
        .await
    {
        Ok(embedded) => embedded,
        Err(problem) => return as_finding(WHAT, problem),
    };
    let [first, alike, other] = embedded.values.as_slice() else {
        let detail = "the engine returned a different number of embeddings than requested";
        return Err(Problem::new(ProblemKind::Fault, "engine_odd", detail));
    };
    let cosine = |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f32>();
    let (near, far) = (cosine(first, alike), cosine(first, other));
    let figures = format!(
        "similarity {near:.2} of two questions with the same meaning, {far:.2} of unrelated texts"
    );
    Ok(finding(WHAT, near > far, figures))
}

/// Whether a text of the same meaning is more relevant than another.
async fn rank(gateway: &Gateway, name: &str) -> Result<Finding, Problem> {
    const WHAT: &str = "rerank";
    let [query, documents @ ..] = ALIKE.map(str::to_owned);
    let call = gateway.board.arrive(Uuid::now_v7(), name, CALLER);
    let ranked = match gateway.rank(call, name, query, documents.to_vec(), None).await {
        Ok(ranked) => ranked,
        Err(problem) => return as_finding(WHAT, problem),
    };
    let [near, far] = ranked.values[..] else {
        let detail = "the engine returned a different number of scores than requested";
        return Err(Problem::new(ProblemKind::Fault, "engine_odd", detail));
    };
    let figures = format!(
        "relevance {near:.2} of a question with the same meaning, {far:.2} of an unrelated text"
    );
    Ok(finding(WHAT, near > far, figures))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_scrambled_text_has_the_same_words() {
        let words = |text: &str| {
            let mut words: Vec<String> = text
                .split_whitespace()
                .map(|word| word.trim_matches(['.', ',']).to_lowercase())
                .collect();
            words.sort_unstable();
            words
        };
        assert_eq!(words(TEXT), words(SCRAMBLED));
        assert_ne!(TEXT, SCRAMBLED);
    }

    #[test]
    fn nonsense_is_distinguished_from_sense() {
        let well = |text: &str| judged("an answer", text, None).passed;
        assert!(well("I answer questions about our seeds."));
        assert!(!well(""));
        assert!(!well("seed \u{FFFD}\u{FFFD}"));
        assert!(!well(&"the seed ".repeat(10)));
    }
}
