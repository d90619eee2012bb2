//! Calls give the same answers in any company.

use deft_kernels::Class;
use proptest::prelude::*;

use super::*;

/// A path of each class: the best, and whichever computes in tiles.
fn path_of_any_class() -> impl Strategy<Value = Instructions> {
    let mut tiles = Instructions::available().filter(|path| path.class() == Class::Bf16);
    prop::sample::select(vec![Instructions::best(), tiles.next().unwrap()])
}

#[derive(Debug, Clone)]
struct Wanted {
    /// How much of a common beginning it has, and how much of its own.
    shared: usize,
    own: Vec<u32>,
    temperature: f32,
    echo: bool,
    answers: u32,
}

fn wanted() -> impl Strategy<Value = Wanted> {
    let own = prop::collection::vec(3u32..300, 1..30);
    (0usize..80, own, prop::sample::select(vec![0.0f32, 1.0]), any::<bool>(), 1u32..4).prop_map(
        |(shared, own, temperature, echo, answers)| Wanted {
            shared,
            own,
            temperature,
            echo,
            answers,
        },
    )
}

impl Wanted {
    fn order(&self, call: u64) -> CallOrder {
        let shared = (0..80).map(|at| 3 + at * 7 % 290).take(self.shared);
        let tokens = shared.chain(self.own.iter().copied()).collect();
        let sampling = Sampling { temperature: self.temperature, seed: 11, ..Sampling::GREEDY };
        let order = order(call, Prompt::Tokens(tokens));
        CallOrder { sampling, echo: self.echo, answers: self.answers, ..order }
    }
}

fn without_times(mut answer: Answer) -> Answer {
    if let Some(figures) = &mut answer.figures {
        (figures.prepare_seconds, figures.cached_tokens) = (0.0, 0);
        (figures.prompt_seconds, figures.answer_seconds) = (0.0, 0.0);
    }
    answer
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    #[test]
    fn company_chunks_and_cached_prefixes_change_neither_tokens_nor_scores(
        calls in prop::collection::vec(wanted(), 1..7),
        lanes in 1u32..5,
        chunk in 1u32..70,
        cache in prop::sample::select(vec![CacheType::F16, CacheType::Q8_0]),
        model in prop::sample::select(vec!["qwen2-q8_0", "gemma3", "llama-moe", "qwen3"]),
        path in path_of_any_class(),
        left in 0u64..7,
        // Pages for so many lanes in a hundred: with few, lanes are paused and go on.
        room in 0u32..110,
        longest in prop::sample::select(vec![12, 12, 100]),
    ) {
        let file = format!("golden/models/{model}.gguf");
        let shape = Model::open(
            &Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(&file), 128,
        ).unwrap().shape().clone();
        let all = 128 * lanes;
        let cache_tokens = (room < 100).then(|| (all * room / 100).clamp(128, all));
        let chosen = LoadSettings { cache_tokens, ..settings(128, lanes, chunk, cache) };
        prop_assume!(chosen.check(&shape).is_ok());
        let mut together = open_on(path, &file, chosen);
        for (call, wanted) in (0..).zip(&calls) {
            together.call(CallOrder { max_tokens: Some(longest), ..wanted.order(call) });
        }
        // Somebody comes after a few steps and leaves again.
        let mut out = Vec::new();
        together.call(Wanted { shared: 70, own: vec![5], temperature: 0.0, echo: false, answers: 2 }.order(99));
        for _ in 0..left {
            together.admit(&mut out);
            together.step(&mut out);
        }
        together.cancel(99);
        let early: Vec<FromEngine> = std::mem::take(&mut out);
        let mut found = run(&mut together);
        for message in early.into_iter().rev() {
            if let FromEngine::Text { call, answer, text, scores, .. } = message {
                let found = found.entry((call, answer)).or_default();
                found.text.insert_str(0, &text);
                found.scores.splice(0..0, scores);
            } else if let FromEngine::Done { call, answer, figures } = message {
                found.entry((call, answer)).or_default().figures = Some(figures);
            }
        }
        found.retain(|(call, _), _| *call != 99);
        for (call, wanted) in (0..).zip(&calls) {
            let mut alone = open_on(path, &file, settings(128, 1, 32, cache));
            alone.call(CallOrder { max_tokens: Some(longest), ..wanted.order(call) });
            for ((_, answer), expected) in run(&mut alone) {
                let found = found.remove(&(call, answer)).map(without_times);
                prop_assert_eq!(found, Some(without_times(expected)), "call {}", call);
            }
        }
        prop_assert!(found.is_empty());
    }
}
