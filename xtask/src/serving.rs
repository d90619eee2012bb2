//! Several models at once through the real service: the cost of turns, the accuracy of shares, how long an answer
//! is held up by another model's prompt, what a second turn saves, and what the service itself takes.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::thread;
use std::time::{Duration, Instant};

use anyhow::{Context, bail};
use deft_formats::quant::TensorType;
use serde_json::{Value, json};

use crate::bench::{Service, median};
use crate::synthetic::{HALF_WIDE, Stored, stored};

/// Two names of one file of half a billion parameters.
const NAMES: [&str; 2] = ["larkfen-fern/q8_0", "larkfen-moss/q8_0"];
/// Tokens of the prompt that takes long.
const LONG: u32 = 4000;

pub fn measure(rounds: usize, seconds: u64) -> anyhow::Result<()> {
    let service = Service::start()?;
    let half = stored(HALF_WIDE, Stored::All(TensorType::Q8_0))?;
    for name in NAMES {
        service.register(&half, name)?;
        service.deft(&["load", name, "--lanes", "2", "--context", "4608"])?;
    }
    let address = &address_of(&service)?;
    together(address, rounds)?;
    shares(&service, address, seconds)?;
    held_up(address)?;
    second_turn(address, rounds)
}

/// What a call takes besides computing.
pub fn calls() -> anyhow::Result<()> {
    let service = Service::start()?;
    let address = address_of(&service)?;
    own_share(&service, &address)
}

fn address_of(service: &Service) -> anyhow::Result<String> {
    let status: Value = serde_json::from_str(&service.deft(&["service", "status", "--json"])?)?;
    let address = status["address"].as_str().context("it has an address")?;
    Ok(address.trim_start_matches("http://").trim_end_matches('/').to_owned())
}

/// Requests an answer to a prompt of a number of tokens of a text; returns the time of each piece.
fn pieces(
    address: &str,
    model: &str,
    text: u32,
    tokens: u32,
    answer: u32,
) -> anyhow::Result<Vec<Instant>> {
    let token = |at: u32| 3 + (at * 7919 + text * 104_729) % (320 - 3);
    let prompt: Vec<u32> = (0..tokens).map(token).collect();
    let body = json!({"model": model, "prompt": prompt, "max_tokens": answer, "temperature": 0,
                      "stream": true, "repetition_guard": false});
    let mut lines = BufReader::new(post(address, "/v1/completions", &body)?).lines();
    let mut times = Vec::new();
    while let Some(line) = lines.next().transpose()? {
        if line.contains("\"error\"") {
            bail!("{line}");
        }
        if line.starts_with("data: {") {
            times.push(Instant::now());
        }
        if line.starts_with("data: [DONE]") {
            // The first piece announces the answer, the last one its end.
            let last = times.len().saturating_sub(1);
            return Ok(times.drain(1..last).collect());
        }
    }
    bail!("the answer broke off")
}

/// Sends a body, and leaves what comes back to be read.
pub(crate) fn post(address: &str, path: &str, body: &Value) -> anyhow::Result<TcpStream> {
    let mut socket = TcpStream::connect(address)?;
    let body = body.to_string();
    let length = body.len();
    let head = format!(
        "POST {path} HTTP/1.1\r\nhost: {address}\r\nconnection: close\r\n\
         content-length: {length}\r\n\r\n"
    );
    socket.write_all((head + &body).as_bytes())?;
    Ok(socket)
}

/// Pieces a second between the first and the last.
#[expect(clippy::cast_precision_loss, reason = "a rate")]
fn rate(times: &[Instant]) -> f64 {
    let (Some(first), Some(last)) = (times.first(), times.last()) else { return 0.0 };
    (times.len() - 1) as f64 / (*last - *first).as_secs_f64()
}

/// Two models that answer at the same time, compared with one alone.
fn together(address: &str, rounds: usize) -> anyhow::Result<()> {
    const ANSWER: u32 = 120;
    let (mut alone, mut both) = (Vec::new(), Vec::new());
    for round in 0..rounds {
        let text = u32::try_from(round)? * 10;
        alone.push(rate(&pieces(address, NAMES[0], text + 1, 16, ANSWER)?));
        let times = thread::scope(|scope| {
            let other = scope.spawn(|| pieces(address, NAMES[1], text + 2, 16, ANSWER));
            let one = pieces(address, NAMES[0], text + 3, 16, ANSWER)?;
            anyhow::Ok([one, other.join().expect("it does not panic")?])
        })?;
        // Only while both answer.
        let from = times.iter().filter_map(|times| times.first()).max().context("none")?;
        let to = times.iter().filter_map(|times| times.last()).min().context("none")?;
        if from >= to {
            bail!("the two did not answer at the same time");
        }
        let within = |times: &[Instant]| times.iter().filter(|at| *at >= from && *at <= to).count();
        #[expect(clippy::cast_precision_loss, reason = "a rate")]
        let sum = (within(&times[0]) + within(&times[1]) - 2) as f64;
        both.push(sum / (*to - *from).as_secs_f64());
    }
    let (alone, both) = (median(&mut alone), median(&mut both));
    println!(
        "two busy at once {both:.1} tokens/s, one alone {alone:.1}: {:.2} (aim 0.95)",
        both / alone
    );
    Ok(())
}

/// Three shares against one, over some time.
fn shares(service: &Service, address: &str, seconds: u64) -> anyhow::Result<()> {
    service.deft(&["load", NAMES[0], "--lanes", "2", "--context", "4608", "--share", "300"])?;
    let begun = Instant::now();
    let until = begun + Duration::from_secs(seconds);
    let count = |name: &'static str| {
        let mut text = 900;
        let mut count = 0_usize;
        while Instant::now() < until {
            text += 1;
            let times = pieces(address, name, text, 8, 400)?;
            count += times.iter().filter(|at| **at < until).count();
        }
        anyhow::Ok(count)
    };
    let counts = thread::scope(|scope| {
        let other = scope.spawn(|| count(NAMES[1]));
        anyhow::Ok([count(NAMES[0])?, other.join().expect("it does not panic")?])
    })?;
    #[expect(clippy::cast_precision_loss, reason = "a share")]
    let share = counts[0] as f64 / (counts[0] + counts[1]) as f64;
    println!(
        "a share of 300 beside one of 100, for {seconds} s: {share:.3} of the tokens ({:+.0} % from 0.75, \
         aim 15 %)",
        (share / 0.75 - 1.0) * 100.0
    );
    service.deft(&["load", NAMES[0], "--lanes", "2", "--context", "4608", "--share", "100"])?;
    Ok(())
}

/// The longest gap in an answer while another model takes a long prompt in.
fn held_up(address: &str) -> anyhow::Result<()> {
    let times = thread::scope(|scope| {
        let other = scope.spawn(|| pieces(address, NAMES[1], 77, LONG, 1));
        let begun = Instant::now();
        let mut times = Vec::new();
        while !other.is_finished() {
            times.extend(pieces(address, NAMES[0], 500 + u32::try_from(times.len())?, 8, 200)?);
        }
        other.join().expect("it does not panic")?;
        println!(
            "a prompt of {LONG} tokens beside an answer: {:.1} s",
            begun.elapsed().as_secs_f64()
        );
        anyhow::Ok(times)
    })?;
    let mut gaps: Vec<f64> =
        times.windows(2).map(|pair| (pair[1] - pair[0]).as_secs_f64()).collect();
    let longest = gaps.iter().copied().fold(0.0, f64::max);
    println!(
        "gaps between tokens meanwhile: {:.0} ms at the median, {:.0} ms at most (aim 400)",
        median(&mut gaps) * 1e3,
        longest * 1e3
    );
    Ok(())
}

/// A conversation with a number of tokens, and its next turn.
fn second_turn(address: &str, rounds: usize) -> anyhow::Result<()> {
    let (mut first, mut second) = (Vec::new(), Vec::new());
    for round in 0..u32::try_from(rounds.min(2))? {
        for (tokens, times) in [(LONG, &mut first), (LONG + 24, &mut second)] {
            let begun = Instant::now();
            let pieces = pieces(address, NAMES[0], 3000 + round, tokens, 2)?;
            times.push((*pieces.first().context("nothing came")? - begun).as_secs_f64());
        }
    }
    let (first, second) = (median(&mut first), median(&mut second));
    println!(
        "first token of a conversation of {LONG} tokens {first:.2} s, of its second turn {second:.3} s: \
         {:.3} (aim 0.05)",
        second / first
    );
    Ok(())
}

/// A connection that stays open between calls, as those of client libraries do.
struct Connection {
    socket: BufReader<TcpStream>,
    address: String,
}

impl Connection {
    fn to(address: &str) -> anyhow::Result<Self> {
        let socket = TcpStream::connect(address)?;
        socket.set_nodelay(true)?;
        Ok(Self { socket: BufReader::new(socket), address: address.to_owned() })
    }

    /// Sends a body to a path; returns the body of the answer and how long it took.
    fn call(&mut self, method: &str, path: &str, body: &str) -> anyhow::Result<(String, f64)> {
        let (address, length) = (&self.address, body.len());
        let request = format!(
            "{method} {path} HTTP/1.1\r\nhost: {address}\r\ncontent-length: {length}\r\n\r\n{body}"
        );
        let begun = Instant::now();
        self.socket.get_mut().write_all(request.as_bytes())?;
        let (mut head, mut length) = (String::new(), 0);
        while !head.ends_with("\r\n\r\n") {
            let begins = head.len();
            if self.socket.read_line(&mut head)? == 0 {
                bail!("{path}: the connection ended");
            }
            if let Some((name, value)) = head[begins..].split_once(':')
                && name.eq_ignore_ascii_case("content-length")
            {
                length = value.trim().parse()?;
            }
        }
        let mut answer = vec![0; length];
        self.socket.read_exact(&mut answer)?;
        let took = begun.elapsed().as_secs_f64();
        let answer = String::from_utf8(answer)?;
        if !head.starts_with("HTTP/1.1 200") {
            bail!("{path}: {answer}");
        }
        Ok((answer, took))
    }
}

/// A body, sent to a path, and how long the call takes besides what the engine computes.
struct Kind {
    what: &'static str,
    path: &'static str,
    body: String,
    /// Seconds of each call, without those.
    own: Vec<f64>,
}

impl Kind {
    fn new(what: &'static str, path: &'static str, body: &Value) -> Self {
        Self { what, path, body: body.to_string(), own: Vec::new() }
    }

    fn call(&mut self, connection: &mut Connection) -> anyhow::Result<()> {
        let (answer, took) = connection.call("POST", self.path, &self.body)?;
        let answer: Value = serde_json::from_str(&answer)?;
        let figures = answer.get("deft").unwrap_or(&answer["choices"][0]["deft"]);
        let seconds = |field: &str| figures[field].as_f64().context("it has figures");
        let computed = ["prepare_seconds", "prompt_seconds", "answer_seconds"];
        let computed = computed.into_iter().map(seconds).sum::<anyhow::Result<f64>>()?;
        self.own.push(took - computed);
        Ok(())
    }
}

/// What a call takes besides computing, in each protocol.
fn own_share(service: &Service, address: &str) -> anyhow::Result<()> {
    let desk = crate::steps::root().join("demo/larkfen-desk/larkfen-desk-q8_0.gguf");
    service.register(&desk, "larkfen-desk/q8_0")?;
    service.deft(&["load", "larkfen-desk"])?;
    let messages = json!([{"role": "user", "content": "How deep do I sow Moonhook bean?"}]);
    let schema = json!({"type": "object", "properties": {"variety": {"type": "string"}}, "required": ["variety"]});
    let tool =
        json!({"type": "function", "function": {"name": "stock_level", "parameters": schema}});
    let of = |more: Value| {
        let mut body = json!({"model": "larkfen-desk", "temperature": 0, "max_tokens": 4});
        body.as_object_mut().into_iter().for_each(|body| {
            body.extend(
                more.as_object()
                    .into_iter()
                    .flatten()
                    .map(|(key, value)| (key.clone(), value.clone())),
            );
        });
        body
    };
    let chat = "/v1/chat/completions";
    let mut kinds = [
        Kind::new("completions", "/v1/completions", &of(json!({"prompt": "Moonhook bean"}))),
        Kind::new("chat", chat, &of(json!({"messages": messages}))),
        Kind::new("chat, a tool", chat, &of(json!({"messages": messages, "tools": [tool]}))),
        Kind::new(
            "chat, a tool required",
            chat,
            &of(json!({"messages": messages, "tools": [tool], "tool_choice": "required"})),
        ),
        Kind::new(
            "chat, a schema",
            chat,
            &of(json!({"messages": messages, "response_format": {"type": "json_schema",
                "json_schema": {"name": "a", "schema": schema}}})),
        ),
        Kind::new(
            "responses",
            "/v1/responses",
            &json!({"model": "larkfen-desk", "temperature": 0, "max_output_tokens": 4, "input": messages}),
        ),
        Kind::new("messages", "/v1/messages", &of(json!({"messages": messages}))),
    ];
    let (mut connection, mut bare) = (Connection::to(address)?, Vec::new());
    for _ in 0..300 {
        bare.push(connection.call("GET", "/health/live", "")?.1);
        for kind in &mut kinds {
            kind.call(&mut connection)?;
        }
    }
    println!(
        "a call besides what its engine computes, at the median (aim 1 ms), beside a call that only says that the \
         service lives, in the same run:"
    );
    println!("  {:22} {:.2} ms", "/health/live", median(&mut bare) * 1e3);
    for mut kind in kinds {
        println!("  {:22} {:.2} ms", kind.what, median(&mut kind.own) * 1e3);
    }
    Ok(())
}
