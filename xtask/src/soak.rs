//! Many streams for long, and many that wait: nothing fails, nothing stalls, nothing grows.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use anyhow::{Context, bail, ensure};
use serde_json::{Value, json};

use crate::bench::Service;
use crate::serving::post;
use crate::steps::root;

/// Models of the demo, each with two instances of sixteen lanes.
const MODELS: [&str; 2] = ["larkfen-desk", "larkfen-desk-mini"];
const STREAMS: u64 = 64;
const IDLE: usize = 1000;
/// A stream that says nothing for so long stalls.
const STALL: Duration = Duration::from_secs(2);
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// What all streams counted.
#[derive(Default)]
struct Counted {
    calls: AtomicU64,
    pieces: AtomicU64,
    errors: AtomicU64,
    stalls: AtomicU64,
    /// The longest silence in milliseconds.
    longest: AtomicU64,
    over: AtomicBool,
}

pub fn measure(minutes: u64) -> anyhow::Result<()> {
    let service = Service::start()?;
    for model in MODELS {
        let file = root().join(format!("demo/{model}/{model}-q8_0.gguf"));
        service.register(&file, &format!("{model}/q8_0"))?;
        service.deft(&["load", model, "--instances", "2", "--lanes", "16"])?;
    }
    let status: Value = serde_json::from_str(&service.deft(&["service", "status", "--json"])?)?;
    let address = status["address"].as_str().context("it has an address")?;
    let address = address.trim_start_matches("http://").trim_end_matches('/').to_owned();
    busy(&service, &address, minutes)?;
    idle(&service, &address)
}

fn busy(service: &Service, address: &str, minutes: u64) -> anyhow::Result<()> {
    let counted = Counted::default();
    let mut memory: Vec<u64> = Vec::new();
    thread::scope(|scope| {
        for stream in 0..STREAMS {
            let counted = &counted;
            scope.spawn(move || keep_asking(address, stream, counted));
        }
        let until = Instant::now() + Duration::from_secs(minutes * 60);
        let watched = (|| {
            while Instant::now() < until {
                thread::sleep(LOOK_EVERY);
                memory.push(memory_of(service)?);
            }
            anyhow::Ok(())
        })();
        counted.over.store(true, Ordering::Relaxed);
        watched
    })?;
    let of = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
    println!(
        "{STREAMS} streams over {} instances for {minutes} min: {} calls, {} pieces, {} errors, {} \
         stalls of more than {} s, the longest silence {} ms",
        2 * MODELS.len(),
        of(&counted.calls),
        of(&counted.pieces),
        of(&counted.errors),
        of(&counted.stalls),
        STALL.as_secs(),
        of(&counted.longest)
    );
    let half = &memory[memory.len() / 2..];
    let tenth = (half.len() / 5).max(1);
    let (first, last) = (mean(&half[..tenth]), mean(&half[half.len() - tenth..]));
    println!(
        "private memory of service and engines: {:.1} MiB when half was over, {:.1} MiB at the end: \
         {:+.2} % (aim 1 %)",
        first / f64::from(1 << 20),
        last / f64::from(1 << 20),
        (last / first - 1.0) * 100.0
    );
    ensure!(of(&counted.errors) == 0, "streams failed");
    Ok(())
}

#[expect(clippy::cast_precision_loss, reason = "a mean of bytes")]
fn mean(all: &[u64]) -> f64 {
    all.iter().sum::<u64>() as f64 / all.len().max(1) as f64
}

fn keep_asking(address: &str, stream: u64, counted: &Counted) {
    let mut turn = 0;
    while !counted.over.load(Ordering::Relaxed) {
        turn += 1;
        if let Err(error) = ask(address, stream, turn, counted) {
            counted.errors.fetch_add(1, Ordering::Relaxed);
            println!("stream {stream}, turn {turn}: {error:#}");
            thread::sleep(Duration::from_secs(1));
        }
        counted.calls.fetch_add(1, Ordering::Relaxed);
    }
}

fn ask(address: &str, stream: u64, turn: u64, counted: &Counted) -> anyhow::Result<()> {
    let model = MODELS[usize::try_from(stream % 2)?];
    let question = format!("What is known of row {} on shelf {turn}?", stream * 7 + turn % 13);
    let body = json!({
        "model": model, "messages": [{"role": "user", "content": question}], "stream": true,
        "temperature": 1.2, "seed": stream * 1000 + turn, "max_tokens": 20 + (stream * turn) % 150,
    });
    let mut silent_since = Instant::now();
    for line in BufReader::new(post(address, "/v1/chat/completions", &body)?).lines() {
        let line = line?;
        if line.starts_with("data: {") {
            let silence = silent_since.elapsed();
            silent_since = Instant::now();
            let millis = u64::try_from(silence.as_millis())?;
            counted.longest.fetch_max(millis, Ordering::Relaxed);
            counted.stalls.fetch_add(u64::from(silence > STALL), Ordering::Relaxed);
            counted.pieces.fetch_add(1, Ordering::Relaxed);
        }
        if line.starts_with("data: {\"error\"") {
            bail!("{line}");
        }
        if line == "data: [DONE]" {
            return Ok(());
        }
    }
    bail!("the answer broke off")
}

/// One question to a model, answered whole.
pub(crate) fn answered(address: &str, model: &str, turn: u64) -> anyhow::Result<()> {
    let question = format!("What is known of shelf {turn}?");
    let body = json!({
        "model": model, "messages": [{"role": "user", "content": question}], "max_tokens": 8,
    });
    let mut text = String::new();
    post(address, "/v1/chat/completions", &body)?.read_to_string(&mut text)?;
    let is_answered = text.contains("\"choices\"") && !text.contains("\"error\"");
    ensure!(is_answered, "{text}");
    Ok(())
}

/// Private bytes of the service and of its engine processes.
fn memory_of(service: &Service) -> anyhow::Result<u64> {
    Ok(memory_of_each(service)?.into_iter().sum())
}

/// Private bytes of the engine processes, and at last of the service.
pub(crate) fn memory_of_each(service: &Service) -> anyhow::Result<Vec<u64>> {
    let status: Value = serde_json::from_str(&service.deft(&["status", "--json"])?)?;
    let instances = status["instances"].as_array().context("it has instances")?;
    let pids = instances.iter().map(|instance| &instance["pid"]).chain([&status["pid"]]);
    pids.map(|pid| private_bytes(pid.as_u64().context("it has a process")?)).collect()
}

fn private_bytes(pid: u64) -> anyhow::Result<u64> {
    let text = std::fs::read_to_string(format!("/proc/{pid}/smaps_rollup"))?;
    let of = |line: &str| line.split_whitespace().nth(1)?.parse::<u64>().ok();
    let private = text.lines().filter(|line| line.starts_with("Private_"));
    Ok(private.filter_map(of).sum::<u64>() << 10)
}

/// Idle streams, at the same time as one that is answered.
fn idle(service: &Service, address: &str) -> anyhow::Result<()> {
    let before = memory_of(service)?;
    let mut held = Vec::with_capacity(IDLE);
    for _ in 0..IDLE {
        let mut socket = TcpStream::connect(address)?;
        let head = format!("GET /manage/v1/events HTTP/1.1\r\nhost: {address}\r\n\r\n");
        socket.write_all(head.as_bytes())?;
        let mut first = [0; 12];
        socket.read_exact(&mut first)?;
        ensure!(first.starts_with(b"HTTP/1.1 200"), "it is refused: {first:?}");
        held.push(socket);
    }
    let during = memory_of(service)?;
    let begun = Instant::now();
    let counted = Counted::default();
    ask(address, 1, 1, &counted)?;
    let took = begun.elapsed();
    thread::sleep(Duration::from_secs(10));
    for socket in &held {
        socket.set_nonblocking(true)?;
        let mut socket = socket;
        let mut rest = [0; 1 << 16];
        // Nothing, or what changed: only an end would be wrong.
        if let Ok(0) = socket.read(&mut rest) {
            bail!("a stream was ended");
        }
    }
    println!(
        "{IDLE} idle streams held, {:.0} KiB each; a call beside them took {:.2} s",
        during.saturating_sub(before) as f64 / 1024.0 / IDLE as f64,
        took.as_secs_f64()
    );
    Ok(())
}
