//! Hostile requests to every route of the OpenAPI document, at the same time as a well-behaved client: no process ends, no answer
//! has a status 5xx, memory does not grow, and the client is not disturbed.

use std::io::{ErrorKind, Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use anyhow::{Context, bail, ensure};
use serde_json::{Value, json};

use crate::bench::Service;
use crate::soak::{answered, memory_of_each};
use crate::steps::root;

/// Connections that send at the same time.
const SENDERS: u64 = 12;
/// A request that is not answered for so long hangs.
const PATIENCE: Duration = Duration::from_secs(60);
/// Idle threads of disk operations end after ten seconds.
const SETTLED: Duration = Duration::from_secs(20);
/// Memory may grow by so much.
const GROWTH: f64 = 0.01;
/// A loaded model, and one that does not exist.
const MODEL: &str = "larkfen-desk";
const STRANGER: &str = "larkfen-nowhere";

/// What came back.
#[derive(Default)]
struct Counted {
    sent: AtomicU64,
    answered: AtomicU64,
    busy: AtomicU64,
    faults: AtomicU64,
    hung: AtomicU64,
    over: AtomicBool,
    well: AtomicU64,
    noticed: AtomicU64,
}

/// The same numbers each time.
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: u64) -> u64 {
        let (factor, step) = (6_364_136_223_846_793_005, 1_442_695_040_888_963_407);
        self.0 = self.0.wrapping_mul(factor).wrapping_add(step);
        (self.0 >> 33) % most.max(1)
    }

    fn of<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[usize::try_from(self.below(all.len() as u64)).unwrap_or(0)]
    }
}

/// A route of the document.
struct Route {
    method: String,
    path: String,
}

/// Sends a number of requests twice. Memory is measured after the first half, when buffers and measurements have reached their
/// size.
pub fn measure(requests: u64) -> anyhow::Result<()> {
    let service = Service::start()?;
    let file = root().join(format!("demo/{MODEL}/{MODEL}-q8_0.gguf"));
    service.register(&file, &format!("{MODEL}/q8_0"))?;
    service.deft(&["load", MODEL, "--lanes", "4"])?;
    let before: Value = serde_json::from_str(&service.deft(&["status", "--json"])?)?;
    let address = before["address"].as_str().context("it has an address")?;
    let address = address.trim_start_matches("http://").trim_end_matches('/').to_owned();
    let routes = routes()?;
    let counted = Counted::default();
    let began = Instant::now();
    let ([first, last], parts) = thread::scope(|scope| {
        scope.spawn(|| behave(&address, &counted));
        let memory = send_all(&address, &routes, &counted, requests, 1)
            .and_then(|()| settled(&service))
            .and_then(|first| {
                send_all(&address, &routes, &counted, requests, 1000)?;
                let last = settled(&service)?;
                let sum = |parts: &[u64]| parts.iter().sum::<u64>();
                Ok(([sum(&first), sum(&last)], [first, last]))
            });
        counted.over.store(true, Ordering::Relaxed);
        memory
    })?;
    let after: Value = serde_json::from_str(&service.deft(&["status", "--json"])?)?;
    let of = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
    #[expect(clippy::cast_precision_loss, reason = "a share")]
    let growth = last as f64 / first as f64 - 1.0;
    println!(
        "{} hostile requests over {} routes in {:.0} s: {} answered, {} of them 503, {} faults (other \
         5xx), {} hung",
        of(&counted.sent),
        routes.len(),
        began.elapsed().as_secs_f64(),
        of(&counted.answered),
        of(&counted.busy),
        of(&counted.faults),
        of(&counted.hung)
    );
    println!(
        "private memory of service and engine: {:.1} MiB after half of them, {:.1} MiB at the end: \
         {:+.2} % (at most {:.0} %); of each process in bytes: {parts:?}",
        first as f64 / f64::from(1 << 20),
        last as f64 / f64::from(1 << 20),
        growth * 100.0,
        GROWTH * 100.0
    );
    println!(
        "the client beside them: {} questions answered, {} not",
        of(&counted.well),
        of(&counted.noticed)
    );
    let pids = |status: &Value| (status["pid"].clone(), status["instances"][0]["pid"].clone());
    ensure!(pids(&before) == pids(&after), "a process ended: {before} {after}");
    ensure!(of(&counted.faults) == 0, "the service answered with a status 5xx");
    ensure!(of(&counted.hung) == 0, "requests hung");
    ensure!(of(&counted.noticed) == 0 && of(&counted.well) > 0, "the client noticed");
    ensure!(growth <= GROWTH, "memory grew");
    Ok(())
}

/// All routes of the document.
fn routes() -> anyhow::Result<Vec<Route>> {
    let text = std::fs::read(root().join("console/openapi.json"))?;
    let document: Value = serde_json::from_slice(&text)?;
    let paths = document["paths"].as_object().context("it has paths")?;
    let all = paths.iter().flat_map(|(path, methods)| {
        let methods = methods.as_object().into_iter().flat_map(|methods| methods.keys());
        methods.map(move |method| Route { method: method.to_uppercase(), path: path.clone() })
    });
    Ok(all.collect())
}

/// Private memory after all requests have ended.
fn settled(service: &Service) -> anyhow::Result<Vec<u64>> {
    thread::sleep(SETTLED);
    memory_of_each(service)
}

fn send_all(
    address: &str,
    routes: &[Route],
    counted: &Counted,
    requests: u64,
    seed: u64,
) -> anyhow::Result<()> {
    thread::scope(|scope| {
        let senders: Vec<_> = (0..SENDERS)
            .map(|sender| {
                scope.spawn(move || {
                    let mut chance = Chance(seed + sender);
                    for _ in 0..requests.div_ceil(SENDERS) {
                        let route = chance.of(routes);
                        send(address, route, &mut chance, counted);
                    }
                })
            })
            .collect();
        senders.into_iter().all(|sender| sender.join().is_ok())
    })
    .then_some(())
    .context("a sender broke")
}

/// One hostile request, and what comes of it.
fn send(address: &str, route: &Route, chance: &mut Chance, counted: &Counted) {
    counted.sent.fetch_add(1, Ordering::Relaxed);
    let bytes = request(address, route, chance);
    let Ok(mut socket) = TcpStream::connect(address) else {
        counted.hung.fetch_add(1, Ordering::Relaxed);
        return;
    };
    let _ = socket.set_read_timeout(Some(PATIENCE));
    let _ = socket.set_write_timeout(Some(PATIENCE));
    // A service that refuses early closes while it is still being sent to.
    let _ = match chance.below(40) {
        0 => slowly(&mut socket, &bytes),
        1 => socket.write_all(&bytes[..bytes.len() / 2]),
        2 => socket.write_all(&[&bytes[..], &bytes, &bytes].concat()),
        _ => socket.write_all(&bytes),
    };
    let _ = socket.shutdown(std::net::Shutdown::Write);
    let mut head = [0; 12];
    match socket.read_exact(&mut head) {
        Ok(()) => {
            counted.answered.fetch_add(1, Ordering::Relaxed);
            let status: u16 = String::from_utf8_lossy(&head[9..]).parse().unwrap_or(0);
            if status == 503 {
                counted.busy.fetch_add(1, Ordering::Relaxed);
            } else if status >= 500 {
                counted.faults.fetch_add(1, Ordering::Relaxed);
                let mut rest = [0; 600];
                let count = socket.read(&mut rest).unwrap_or(0);
                let rest = String::from_utf8_lossy(&rest[..count]).into_owned();
                println!("{} {}: {status}\n{rest}", route.method, route.path);
            }
        }
        Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {
            counted.hung.fetch_add(1, Ordering::Relaxed);
            println!("{} {} hangs", route.method, route.path);
        }
        // Refused by closing.
        Err(_) => {}
    }
}

/// A byte now and then, and never the whole.
fn slowly(socket: &mut TcpStream, bytes: &[u8]) -> std::io::Result<()> {
    for byte in bytes.iter().take(20) {
        socket.write_all(&[*byte])?;
        thread::sleep(Duration::from_millis(20));
    }
    Ok(())
}

fn request(address: &str, route: &Route, chance: &mut Chance) -> Vec<u8> {
    let path = path(route, chance);
    let body = if route.method == "GET" { Vec::new() } else { body(route, chance) };
    let length = match chance.below(30) {
        0 => body.len() as u64 + 1 + chance.below(1 << 20),
        1 => chance.below(body.len() as u64 + 1),
        2 => u64::MAX,
        _ => body.len() as u64,
    };
    let extra = match chance.below(25) {
        0 => format!(
            "x-row: {}\r\n",
            "a".repeat(usize::try_from(chance.below(100_000)).unwrap_or(0))
        ),
        1 => "transfer-encoding: chunked\r\n".to_owned(),
        2 => "content-length: 7\r\n".to_owned(),
        3 => "authorization: Bearer deft-operator-none\r\n".to_owned(),
        4 => "cookie: deft_session=none; deft_session=none\r\n".to_owned(),
        5 => "origin: http://seeds.example\r\n".to_owned(),
        _ => String::new(),
    };
    let method = match chance.below(50) {
        0 => "PATCH",
        1 => "HEAD",
        2 => "OPTIONS",
        3 => "SOW",
        _ => &route.method,
    };
    let head = format!(
        "{method} {path} HTTP/1.1\r\nhost: {address}\r\nconnection: close\r\n\
         content-type: application/json\r\n{extra}content-length: {length}\r\n\r\n"
    );
    [head.as_bytes(), &body].concat()
}

fn path(route: &Route, chance: &mut Chance) -> String {
    let odd = ["..", "%2e%2e", "%00", "%ff", "a%2Fb", "*", "-1", "%F0%9F%8C%B1"];
    // Existing models are only read, because the other client needs them.
    let harmless = route.method == "GET";
    let mut path = String::new();
    for part in route.path.split('/').skip(1) {
        path.push('/');
        path.push_str(&match (part.starts_with('{'), chance.below(6)) {
            (false, _) => part.to_owned(),
            (true, 0 | 1) => (*chance.of(&odd)).to_owned(),
            (true, 2) => "x".repeat(usize::try_from(chance.below(4000)).unwrap_or(0) + 1),
            (true, 3) if harmless => MODEL.to_owned(),
            (true, _) => STRANGER.to_owned(),
        });
    }
    match chance.below(8) {
        0 => path.push_str("?count=-1&seconds=0&span=never&dry_run=perhaps&model=x"),
        1 => path.push_str("?seconds=0&model=larkfen-nowhere&code=none&words=%00"),
        2 => path.push_str(&format!("?{}", "a=b&".repeat(500))),
        _ => {}
    }
    path
}

fn body(route: &Route, chance: &mut Chance) -> Vec<u8> {
    let size = |chance: &mut Chance, most: u64| usize::try_from(chance.below(most)).unwrap_or(0);
    match chance.below(12) {
        0 => {
            let levels = size(chance, 6000);
            format!("{{\"messages\": {}1{}}}", "[".repeat(levels), "]".repeat(levels)).into_bytes()
        }
        1 => (0..size(chance, 4000)).map(|_| chance.below(256).to_le_bytes()[0]).collect(),
        2 => format!("\"{}\"", "sow ".repeat(size(chance, 60_000))).into_bytes(),
        3 if chance.below(60) == 0 => vec![b' '; 9 << 20],
        4 => {
            let count = size(chance, 30_000);
            let model = named(route);
            format!("{{\"tools\": [[{}1]], \"model\": \"{model}\"}}", "1e15,".repeat(count)).into_bytes()
        }
        5 => b"{\"model\": \"larkfen-nowhere\"".to_vec(),
        6 => json!({"model": STRANGER, "path": "/dev/zero", "folder": "/proc/self", "name": "../x",
                    "template": "/dev/zero", "limit": "a lot", "words": 7})
        .to_string()
        .into_bytes(),
        7 => json!({"path": "/etc/passwd", "name": null, "model": [named(route)], "settings": {"lanes": -1}})
            .to_string()
            .into_bytes(),
        8 if route.path.starts_with("/v1/") => json!({
            "model": MODEL, "prompt": "Moonhook", "input": ["bean"], "max_tokens": 2,
            "messages": [{"role": *chance.of(&["user", "\u{0}", "tool"]), "content": "row",
                          "rest": [[[[{}]]]]}],
            "temperature": *chance.of(&[0.0, 1e30, -1.0]), "n": chance.below(40),
            "logit_bias": {"99999999": 100}, "stop": vec!["x"; size(chance, 40)],
            "stream": chance.below(2) == 0, "logprobs": chance.below(2) == 0,
        })
        .to_string()
        .into_bytes(),
        9 => b"{} {}".to_vec(),
        10 => b"null".to_vec(),
        _ => json!({"model": 7, "messages": "none", "models": [[]], "path": {}, "reference": [],
                    "limit": 1e300, "name": true, "input": [[[]]], "prompt": -1})
        .to_string()
        .into_bytes(),
    }
}

/// The model of a body. The existing model is only used for answers, because these requests may also manage models.
fn named(route: &Route) -> &'static str {
    if route.path.starts_with("/v1/") { MODEL } else { STRANGER }
}

/// Asks for status and answers all the time, as any program does, and counts whatever is not as it should be.
fn behave(address: &str, counted: &Counted) {
    let mut turn = 0;
    while !counted.over.load(Ordering::Relaxed) {
        turn += 1;
        let asked = answered(address, MODEL, turn).and_then(|()| looked(address));
        match asked {
            Ok(()) => counted.well.fetch_add(1, Ordering::Relaxed),
            Err(error) => {
                println!("the client beside them noticed: {error:#}");
                counted.noticed.fetch_add(1, Ordering::Relaxed)
            }
        };
    }
}

fn looked(address: &str) -> anyhow::Result<()> {
    let mut socket = TcpStream::connect(address)?;
    socket.set_read_timeout(Some(PATIENCE))?;
    let head =
        format!("GET /manage/v1/status HTTP/1.1\r\nhost: {address}\r\nconnection: close\r\n\r\n");
    socket.write_all(head.as_bytes())?;
    let mut text = String::new();
    socket.read_to_string(&mut text)?;
    if !text.starts_with("HTTP/1.1 200") {
        bail!("{}", text.lines().next().unwrap_or_default());
    }
    Ok(())
}
