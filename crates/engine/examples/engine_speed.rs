//! The speed of an engine relative to the machine's limits: `engine_speed FILE [ROUNDS [short|step|prompt|eight|depth|drawn|embed]]`.
//!
//! It loads a model like an engine process, sends calls over a link, measures the limits between the calls, and writes medians as
//! JSON. `short` omits prompts and contexts of thousands of tokens, which take minutes. The other words measure one workload
//! only: `step` a step of one token, `prompt` prompts of 512 tokens, `eight` answers of one and of eight lanes, `depth` answers
//! after long prompts, `drawn` answers with randomly drawn tokens, `embed` embeddings of texts of 510 tokens by an encoder.
#![expect(clippy::print_stdout, clippy::cast_precision_loss, reason = "a measurement")]

use std::fs::File;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::thread::JoinHandle;
use std::time::Instant;

use deft_engine::process::{ServeError, serve};
use deft_formats::gguf::{Header, TensorInfo};
use deft_kernels::{Instructions, Team, limits};
use deft_planning::usual_chunk;
use deft_protocol::engine::{
    CallOrder, EmbedOrder, EmbedTask, EngineFigures, FromEngine, LINK_VERSION, LoadOrder, Prompt,
    ToEngine, read_frame, write_frame,
};
use serde_json::json;

/// Number of tokens of a measured answer.
const ANSWER: u32 = 48;
/// Number of lanes that answer at the same time.
const LANES: u32 = 8;
/// A larger number of lanes.
const MANY_LANES: u32 = 16;

struct Link {
    stream: UnixStream,
    engine: JoinHandle<Result<(), ServeError>>,
    ready: f64,
    calls: u64,
    vocabulary: u32,
    temperature: f32,
}

impl Link {
    fn open(file: &Path, cost: &Cost, context: u32, lanes: u32, cache: &str) -> Self {
        let began = Instant::now();
        let (stream, other) = UnixStream::pair().expect("a pair of sockets");
        let reader = other.try_clone().expect("a socket");
        let engine = std::thread::spawn(move || serve(reader, other));
        let order = LoadOrder {
            baton: None,
            version: LINK_VERSION,
            file: file.to_owned(),
            template: None,
            context,
            lanes,
            cache_tokens: None,
            chunk: if cost.is_encoder { context } else { usual_chunk(cost.width) },
            keys: cache.to_owned(),
            values: cache.to_owned(),
            places: Vec::new(),
            resident: false,
            threads: None,
            // `DEFT_KERNELS` chooses the instructions, as for the service.
            kernels: std::env::var("DEFT_KERNELS").ok(),
            fastest: None,
            processors: Vec::new(),
            processor_nodes: Vec::new(),
            nodes: Vec::new(),
            copied: false,
            parts: Vec::new(),
            memory: None,
        };
        write_frame(&stream, &ToEngine::Load(Box::new(order))).expect("the engine listens");
        let mut link = Self {
            stream,
            engine,
            ready: 0.0,
            calls: 0,
            vocabulary: cost.vocabulary,
            temperature: 0.0,
        };
        loop {
            match link.read() {
                FromEngine::Loaded { .. } => break,
                FromEngine::LoadFailed { detail, .. } => panic!("{detail}"),
                _ => {}
            }
        }
        link.ready = began.elapsed().as_secs_f64();
        link
    }

    fn read(&self) -> FromEngine {
        read_frame(&self.stream).expect("the engine answers")
    }

    /// Requests an answer to a new prompt of `tokens` tokens.
    fn ask(&mut self, tokens: u32, answer: u32) {
        let text = u32::try_from(self.calls).expect("few calls") + 2;
        self.ask_of(text, tokens, answer);
    }

    /// Requests an answer to the first tokens of a text; cached tokens are not computed again.
    fn ask_of(&mut self, text: u32, tokens: u32, answer: u32) {
        self.calls += 1;
        let token = |at: u32| 3 + (at * 7919 + text * 104_729) % (self.vocabulary - 3);
        let prompt = Prompt::Tokens((0..tokens).map(token).collect());
        let mut order = CallOrder::greedy(self.calls, prompt);
        (order.max_tokens, order.guard) = (Some(answer), false);
        order.sampling.temperature = self.temperature;
        write_frame(&self.stream, &ToEngine::Call(Box::new(order))).expect("the engine listens");
    }

    /// Receives the figures of a number of answers.
    fn figures(&self, count: u32) -> Vec<EngineFigures> {
        let mut found = Vec::new();
        while found.len() < count as usize {
            match self.read() {
                FromEngine::Done { figures, .. } => found.push(figures),
                FromEngine::Failed { detail, .. } => panic!("{detail}"),
                _ => {}
            }
        }
        found
    }

    /// Tokens per second of an answer after the first tokens of a text.
    fn answer_rate(&mut self, tokens: u32) -> f64 {
        self.ask_of(1, tokens, ANSWER);
        let figures = self.figures(1).remove(0);
        f64::from(figures.answer_tokens.max(2) - 1) / figures.answer_seconds
    }

    /// Tokens per second of several simultaneous answers.
    fn rate_together(&mut self, lanes: u32) -> f64 {
        (0..lanes).for_each(|_| self.ask(16, ANSWER));
        let figures = self.figures(lanes);
        let seconds = figures.iter().map(|found| found.answer_seconds).fold(0.0, f64::max);
        figures.iter().map(|found| f64::from(found.answer_tokens - 1)).sum::<f64>() / seconds
    }

    /// Seconds of a prompt.
    fn prompt_seconds(&mut self, tokens: u32) -> f64 {
        self.ask(tokens, 1);
        self.figures(1)[0].prompt_seconds
    }

    /// Seconds of the embeddings of several texts.
    fn embed_seconds(&mut self, texts: u32, tokens: u32) -> f64 {
        self.calls += 1;
        let token = |at: u32| 3 + at * 7919 % (self.vocabulary - 3);
        let input = Prompt::Tokens((0..tokens).map(token).collect());
        let inputs = vec![input; texts as usize];
        let task = EmbedTask::Embed { dimensions: None };
        let order = EmbedOrder { call: self.calls, inputs, task };
        let began = Instant::now();
        write_frame(&self.stream, &ToEngine::Embed(order)).expect("the engine listens");
        loop {
            match self.read() {
                FromEngine::Embedded { .. } => return began.elapsed().as_secs_f64(),
                FromEngine::Failed { detail, .. } => panic!("{detail}"),
                _ => {}
            }
        }
    }

    fn end(self) {
        write_frame(&self.stream, &ToEngine::Drain).expect("the engine listens");
        self.engine.join().expect("it does not panic").expect("it ends as asked");
    }
}

/// The computing cost of a model.
struct Cost {
    /// Bytes of weights that each token reads.
    bytes: f64,
    /// Number of values of the layers' matrices.
    values: f64,
    /// Number of values of the output matrix.
    output: f64,
    layers: f64,
    width: u32,
    vocabulary: u32,
    is_encoder: bool,
}

impl Cost {
    fn of(path: &Path) -> Self {
        let file = File::open(path).expect("the file is there");
        let length = file.metadata().expect("it has a length").len();
        let header = Header::read(file, length).expect("it is a model");
        let matrices = || header.tensors.iter().filter(|tensor| tensor.dimensions.len() > 1);
        let count = |name: &str| header.metadata.count(name).unwrap_or_default();
        let has_output = matrices().any(|tensor| tensor.name == "output.weight");
        let output = if has_output { "output.weight" } else { "token_embd.weight" };
        let used = matrices().filter(|tensor| !has_output || tensor.name != "token_embd.weight");
        let family = header.metadata.text("general.architecture").unwrap_or_default();
        let of = |name: &str| f64::from(count(&format!("{family}.{name}")));
        // A token uses some of the experts of a layer.
        let share = |tensor: &TensorInfo| match tensor.dimensions.len() {
            2 => 1.0,
            _ => of("expert_used_count") / of("expert_count"),
        };
        let size =
            |tensor: &TensorInfo| tensor.dimensions.iter().product::<u64>() as f64 * share(tensor);
        let embedding = matrices().find(|tensor| tensor.name == "token_embd.weight");
        let vocabulary = embedding.map_or(0, |tensor| tensor.dimensions[1]);
        Self {
            bytes: used.map(|tensor| tensor.bytes as f64 * share(tensor)).sum(),
            values: matrices().filter(|tensor| tensor.name.starts_with("blk.")).map(size).sum(),
            output: matrices().filter(|tensor| tensor.name == output).map(size).sum(),
            layers: f64::from(count(&format!("{family}.block_count"))),
            width: count(&format!("{family}.embedding_length")),
            is_encoder: family == "bert",
            vocabulary: u32::try_from(vocabulary).expect("ids have 32 bits"),
        }
    }

    /// Multiplications and additions of an encoder's text, in which all tokens attend to each other.
    fn of_encoder(&self, tokens: u32) -> f64 {
        let tokens = f64::from(tokens);
        2.0 * self.values * tokens + 4.0 * self.layers * f64::from(self.width) * tokens * tokens
    }

    /// Multiplications and additions of a prompt, including attention.
    fn operations(&self, tokens: u32) -> f64 {
        let tokens = f64::from(tokens);
        let seen = tokens * (tokens + 1.0) / 2.0;
        2.0 * (self.values * tokens + self.output)
            + 4.0 * self.layers * f64::from(self.width) * seen
    }
}

fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Measures a limit and a workload in alternation.
fn beside(rounds: usize, limit: impl Fn() -> f64, mut work: impl FnMut() -> f64) -> (f64, f64) {
    let (mut limits, mut works) = (vec![limit()], Vec::new());
    for _ in 0..rounds {
        works.push(work());
        limits.push(limit());
    }
    (median(&mut limits), median(&mut works))
}

fn main() {
    let mut arguments = std::env::args().skip(1);
    let file = PathBuf::from(arguments.next().expect("the model's file"));
    let rounds: usize = arguments.next().and_then(|text| text.parse().ok()).unwrap_or(3);
    let cost = Cost::of(&file);
    let how_much = arguments.next();
    if how_much.as_deref() == Some("step") {
        let mut link = Link::open(&file, &cost, 1024, 1, "f16");
        let mut rates: Vec<f64> = (0..rounds).map(|_| link.answer_rate(16)).collect();
        let ready = link.ready;
        link.end();
        let step = 1.0 / median(&mut rates);
        println!("{}", json!({ "ready_seconds": ready, "step_seconds": step }));
        return;
    }
    let named = std::env::var("DEFT_KERNELS").ok().and_then(|name| Instructions::named(&name));
    let instructions = named.unwrap_or_else(Instructions::best);
    if let Some(mode @ ("prompt" | "eight" | "depth" | "drawn" | "embed")) = how_much.as_deref() {
        println!("{}", only(mode, &file, &cost, rounds));
        return;
    }
    let is_short = how_much.as_deref() == Some("short");
    println!("{}", everything(&file, &cost, rounds, instructions, is_short));
}

/// Measures all workloads, or the short ones.
fn everything(
    file: &Path,
    cost: &Cost,
    rounds: usize,
    instructions: Instructions,
    is_short: bool,
) -> serde_json::Value {
    let buffer = vec![1_u8; 256 << 20];
    let read = || limits::with_all(|team| limits::memory_read(team, &buffer));
    let integers = || limits::with_all(|team| limits::integer_peak(instructions, team));

    let mut link = Link::open(file, cost, 1024, LANES, "f16");
    let ready = link.ready;
    let (read_speed, one) = beside(rounds * 3, read, || link.answer_rate(16));
    let (_, eight) = beside(rounds, read, || link.rate_together(LANES));
    let (_, one_again) = beside(rounds, read, || link.answer_rate(16));
    let (peak, prompt) =
        beside(rounds, integers, || cost.operations(512) / link.prompt_seconds(512));
    link.end();
    let mut many = Link::open(file, cost, 1024, MANY_LANES, "f16");
    many.answer_rate(16);
    let (_, one_of_many) = beside(rounds, read, || many.answer_rate(16));
    let (_, sixteen) = beside(rounds, read, || many.rate_together(MANY_LANES));
    many.end();
    let long = if is_short { json!({}) } else { long(file, cost, rounds, &integers) };
    let floats = limits::with_all(|team| limits::float_peak(instructions, team));
    let mut report = json!({
        "model": file.file_stem().map(|stem| stem.to_string_lossy()),
        "kernels": instructions.to_string(),
        "integer_instruction": limits::integer_instruction(instructions),
        "threads": limits::with_all(Team::threads),
        "ready_seconds": ready,
        "memory_read": read_speed,
        "integer_peak": peak,
        "float_peak": floats,
        "weights": cost.bytes,
        "decode": one,
        "decode_ratio": one * cost.bytes / read_speed,
        "decode_together": eight,
        "together_ratio": eight / median(&mut [one, one_again]),
        "sixteen_ratio": sixteen / one_of_many,
        "prompt_512": 512.0 * prompt / cost.operations(512),
        "prompt_512_ratio": prompt / peak,
    });
    if let (Some(report), Some(long)) = (report.as_object_mut(), long.as_object()) {
        report.extend(long.clone());
        add_shares(report);
    }
    report
}

/// The speed of long prompts, relative to short ones.
fn add_shares(report: &mut serde_json::Map<String, serde_json::Value>) {
    for length in ["4096", "8000"] {
        let rate = |length: &str| report.get(&format!("prompt_{length}"))?.as_f64();
        if let (Some(long), Some(short)) = (rate(length), rate("512")) {
            report.insert(format!("prompt_{length}_share"), json!(long / short));
        }
    }
}

/// Measures one workload.
fn only(mode: &str, file: &Path, cost: &Cost, rounds: usize) -> serde_json::Value {
    if mode == "depth" {
        return depth(file, cost, rounds, Link::open(file, cost, 8192, 1, "f16"));
    }
    if mode == "embed" {
        return embed(file, cost, rounds);
    }
    let mut link = Link::open(file, cost, 1024, LANES, "f16");
    link.prompt_seconds(16);
    let found = if mode == "prompt" {
        let peak = || limits::with_all(|team| limits::integer_peak(Instructions::best(), team));
        let (peak, prompt) =
            beside(rounds, peak, || cost.operations(512) / link.prompt_seconds(512));
        json!({ "prompt_512": 512.0 * prompt / cost.operations(512), "ratio": prompt / peak })
    } else if mode == "drawn" {
        let mut rates = [const { Vec::new() }; 2];
        for _ in 0..rounds {
            for (rates, temperature) in rates.iter_mut().zip([0.0, 1.0]) {
                link.temperature = temperature;
                rates.push(link.answer_rate(16));
            }
        }
        let [likeliest, drawn] = rates.map(|mut rates| median(&mut rates));
        json!({ "likeliest": likeliest, "drawn": drawn, "ratio": drawn / likeliest })
    } else {
        let (mut one, mut eight): (Vec<f64>, Vec<f64>) =
            (0..rounds).map(|_| (link.answer_rate(16), link.rate_together(LANES))).unzip();
        let (one, eight) = (median(&mut one), median(&mut eight));
        json!({ "one": one, "eight": eight, "ratio": eight / one })
    };
    link.end();
    found
}

/// The speed of an encoder.
fn embed(file: &Path, cost: &Cost, rounds: usize) -> serde_json::Value {
    let (texts, length) = (8, 510);
    let mut link = Link::open(file, cost, 512, 1, "f32");
    link.embed_seconds(1, length);
    let peak = || limits::with_all(|team| limits::integer_peak(Instructions::best(), team));
    let operations = f64::from(texts) * cost.of_encoder(length);
    let (peak, speed) = beside(rounds, peak, || operations / link.embed_seconds(texts, length));
    link.end();
    let tokens = f64::from(texts * length) * speed / operations;
    json!({ "tokens_a_second": tokens, "ratio": speed / peak })
}

/// The workloads with long prompts: their speed, and that of answers after them.
fn long(file: &Path, cost: &Cost, rounds: usize, peak: &impl Fn() -> f64) -> serde_json::Value {
    let mut link = Link::open(file, cost, 8192, 1, "f16");
    let (peak, prompt) =
        beside(rounds.min(2), peak, || cost.operations(4096) / link.prompt_seconds(4096));
    let deep = link.prompt_seconds(8000);
    let mut report = depth(file, cost, rounds, link);
    if let Some(report) = report.as_object_mut() {
        report.insert("prompt_8000".into(), json!(8000.0 / deep));
        report.insert("prompt_4096".into(), json!(4096.0 * prompt / cost.operations(4096)));
        report.insert("prompt_4096_ratio".into(), json!(prompt / peak));
    }
    report
}

/// The speed of answers after long prompts, measured in alternation.
fn depth(file: &Path, cost: &Cost, rounds: usize, mut link: Link) -> serde_json::Value {
    let mut narrow = Link::open(file, cost, 8192, 1, "q8_0");
    // The longest prompt is first; the others are its beginning, which is cached then.
    narrow.answer_rate(4000);
    link.answer_rate(8000);
    let mut rates = [const { Vec::new() }; 4];
    for _ in 0..rounds {
        rates[0].push(link.answer_rate(100));
        rates[1].push(link.answer_rate(4000));
        rates[2].push(narrow.answer_rate(4000));
        rates[3].push(link.answer_rate(8000));
    }
    link.end();
    narrow.end();
    let [near, at_4000, narrow_at_4000, at_8000] = rates.map(|mut rates| median(&mut rates));
    json!({
        "decode_at_100": near,
        "decode_at_4000": at_4000,
        "decode_at_8000": at_8000,
        "depth_ratio": at_8000 / near,
        "narrow_at_4000": narrow_at_4000,
        "narrow_ratio": narrow_at_4000 / at_4000,
    })
}
