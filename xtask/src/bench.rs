//! Measurements, run by hand; figures go to docs/PERFORMANCE.md.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use anyhow::{Context, bail};
use serde_json::Value;

use crate::packages;
use crate::places;
use crate::steps::{build_release, root};
use crate::synthetic::{self, SIZES};

/// A service of its own, ended when dropped.
pub(crate) struct Service {
    folder: PathBuf,
}

impl Service {
    pub(crate) fn start() -> anyhow::Result<Self> {
        packages::need(&[packages::POSTGRESQL])?;
        build_release()?;
        // Where root runs this, the database's user must be able to reach the folder.
        let folder = PathBuf::from(format!("/var/tmp/deft-bench-{}", std::process::id()));
        let service = Self { folder };
        service.deft(&["service", "start", "--listen", "127.0.0.1:0"])?;
        Ok(service)
    }

    pub(crate) fn deft(&self, arguments: &[&str]) -> anyhow::Result<String> {
        let output = Command::new(root().join("target/release/deft"))
            .arg("--data-dir")
            .arg(&self.folder)
            .args(arguments)
            .env_remove("DEFT_SERVICE")
            .output()
            .context("the release binary cannot be started")?;
        if !output.status.success() {
            bail!("deft {}\n{}", arguments.join(" "), String::from_utf8_lossy(&output.stderr));
        }
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    }

    /// The first offer of its sources.
    fn offered(&self) -> anyhow::Result<String> {
        let found: Value = serde_json::from_str(&self.deft(&["depot", "search", "--json"])?)?;
        let reference = found["offers"][0]["reference"].as_str();
        Ok(reference.context("nothing is offered")?.to_owned())
    }

    pub(crate) fn register(&self, file: &Path, name: &str) -> anyhow::Result<()> {
        self.deft(&["depot", "register", &file.to_string_lossy(), "--as", name]).map(drop)
    }

    /// Planned and measured bytes of the one instance, once it was measured.
    fn memory(&self) -> anyhow::Result<(u64, u64)> {
        let deadline = Instant::now() + Duration::from_secs(20);
        // The service measures every second; the first figure may be from before the first answer.
        std::thread::sleep(Duration::from_millis(1500));
        while Instant::now() < deadline {
            let status: Value = serde_json::from_str(&self.deft(&["status", "--json"])?)?;
            let instance = &status["instances"][0];
            if let (Some(planned), Some(measured)) =
                (instance["reserved_bytes"].as_u64(), instance["measured_bytes"].as_u64())
            {
                return Ok((planned, measured));
            }
            std::thread::sleep(Duration::from_millis(200));
        }
        bail!("the instance was not measured")
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.deft(&["service", "stop", "--now"]);
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

/// Pulling a file of 503 MiB over loopback compared with `curl` and `sha256sum`; the bytes that a preview reads; listing
/// 1,000 models.
pub fn pull() -> anyhow::Result<()> {
    const ROUNDS: usize = 5;
    let service = Service::start()?;
    let folder = root().join("target/bench-places");
    let _ = std::fs::remove_dir_all(&folder);
    let big = synthetic::model(SIZES[2])?;
    std::fs::create_dir_all(folder.join("index"))?;
    let name = big.file_name().context("it has a name")?.to_string_lossy().into_owned();
    std::fs::hard_link(&big, folder.join("index").join(&name))?;
    let places = places::serve(&folder)?;
    service.deft(&["depot", "index", &folder.join("index").to_string_lossy()])?;
    service.deft(&["source", "add", "larkfen", &format!("{places}/index")])?;
    let reference = service.offered()?;
    let (url, copy) = (format!("{places}/index/{name}"), folder.join("copy"));
    let (mut tools, mut own) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let _ = std::fs::remove_file(&copy);
        tools.push(timed(|| {
            run("curl", &["--silent", "--output", &copy.to_string_lossy(), &url])?;
            run("sha256sum", &[&copy.to_string_lossy()])
        })?);
        own.push(timed(|| service.deft(&["depot", "pull", &reference, "--as", "big/q8_0"]))?);
        service.deft(&["depot", "remove", "big"])?;
    }
    let seconds =
        |times: &[f64]| times.iter().map(|time| format!("{time:.2}")).collect::<Vec<_>>().join(" ");
    println!("curl, then sha256sum: {} s; deft depot pull: {} s", seconds(&tools), seconds(&own));
    println!("ratio of the medians: {:.2} (aim 0.9)", median(&mut tools) / median(&mut own));
    let preview: Value =
        serde_json::from_str(&service.deft(&["depot", "preview", &reference, "--json"])?)?;
    println!(
        "a preview of {} bytes read {} bytes",
        preview["offer"]["bytes"], preview["header_bytes"]
    );
    places::stop(&folder);
    list(&service, &folder)
}

/// Registers 1,000 models, and lists them.
fn list(service: &Service, folder: &Path) -> anyhow::Result<()> {
    const MODELS: usize = 1_000;
    let small = root().join("demo/larkfen-desk-mini/larkfen-desk-mini-q8_0.gguf");
    let shelf = folder.join("shelf");
    std::fs::create_dir_all(&shelf)?;
    for number in 0..MODELS {
        let file = shelf.join(format!("larkfen-{number:04}-q8_0.gguf"));
        std::fs::hard_link(&small, &file).or_else(|_| std::fs::copy(&small, &file).map(drop))?;
        service.deft(&["depot", "register", &file.to_string_lossy()])?;
    }
    let mut times = Vec::new();
    for _ in 0..9 {
        times.push(timed(|| service.deft(&["depot", "list"]))?);
    }
    println!("deft depot list of {MODELS} models: {:.0} ms (aim 100)", median(&mut times) * 1e3);
    Ok(())
}

fn run(program: &str, arguments: &[&str]) -> anyhow::Result<()> {
    let output = Command::new(program).args(arguments).output();
    let output = output.with_context(|| format!("`{program}` cannot be started"))?;
    if output.status.success() { Ok(()) } else { bail!("{program} failed") }
}

fn timed<T>(work: impl FnOnce() -> anyhow::Result<T>) -> anyhow::Result<f64> {
    let began = Instant::now();
    work()?;
    Ok(began.elapsed().as_secs_f64())
}

pub(crate) fn median(times: &mut [f64]) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// Planned and measured memory, and switching between two models.
pub fn memory() -> anyhow::Result<()> {
    let service = Service::start()?;
    let mib = |bytes: u64| bytes as f64 / f64::from(1 << 20);
    println!("| model | lanes | cache | planned MiB | measured MiB | apart | within 3 % + 4 MiB |");
    println!("|---|---|---|---|---|---|---|");
    for sizes in SIZES {
        service.register(&synthetic::model(sizes)?, sizes.name)?;
        for (lanes, cache) in [("1", "f16"), ("4", "q8_0"), ("16", "f16")] {
            let settings = ["--context", "1024", "--lanes", lanes, "--cache", cache];
            service.deft(&[&["load", sizes.name][..], &settings].concat())?;
            service.deft(&["ask", sizes.name, "seed7 seed9", "--raw", "--max-tokens", "4"])?;
            let (planned, measured) = service.memory()?;
            let apart = measured as f64 - planned as f64;
            let allowed = 0.03 * planned as f64 + f64::from(4 << 20);
            println!(
                "| {} | {lanes} | {cache} | {:.1} | {:.1} | {:+.1} MiB ({:+.1} %) | {} |",
                sizes.name,
                mib(planned),
                mib(measured),
                apart / f64::from(1 << 20),
                100.0 * apart / planned as f64,
                if apart.abs() <= allowed { "yes" } else { "NO" },
            );
            service.deft(&["unload", sizes.name])?;
        }
    }
    copies(&service)?;
    switching(&service)
}

/// Instances of one model share its weights.
fn copies(service: &Service) -> anyhow::Result<()> {
    const COPIES: u64 = 10;
    let sizes = SIZES[2];
    let count = COPIES.to_string();
    service.deft(&[
        "load",
        sizes.name,
        "--context",
        "1024",
        "--lanes",
        "1",
        "--instances",
        &count,
    ])?;
    // All of them are measured within a second.
    std::thread::sleep(Duration::from_secs(3));
    let status: Value = serde_json::from_str(&service.deft(&["status", "--json"])?)?;
    let pool = &status["pools"][0];
    let measured = pool["measured"].as_u64().context("no measure of the pool")?;
    let weights = status["instances"][0]["planned"][0]["bytes"].as_u64().context("no weights")?;
    let planned = status["instances"][0]["reserved_bytes"].as_u64().context("no plan")?;
    let private = planned - weights;
    let allowed = 1.02 * weights as f64 + (COPIES * private) as f64;
    let mib = |bytes: f64| bytes / f64::from(1 << 20);
    println!(
        "\n{COPIES} instances of {}: {:.1} MiB measured in host memory; 1.02 x {:.1} MiB of weights + \
         {COPIES} x {:.1} MiB planned for each are {:.1} MiB: {}",
        sizes.name,
        mib(measured as f64),
        mib(weights as f64),
        mib(private as f64),
        mib(allowed),
        if measured as f64 <= allowed { "kept" } else { "MISSED" },
    );
    service.deft(&["unload", "--all"]).map(drop)
}

/// Unload one, load the other, first token: from the page cache.
fn switching(service: &Service) -> anyhow::Result<()> {
    let half = synthetic::model(SIZES[2])?;
    service.register(&half, "larkfen-half/one")?;
    let other = half.with_file_name("larkfen-half-two-q8_0.gguf");
    std::fs::copy(&half, &other)?;
    service.register(&other, "larkfen-half/two")?;
    let load = |name: &str| service.deft(&["load", name, "--context", "1024", "--lanes", "1"]);
    let ask = |name: &str| service.deft(&["ask", name, "seed7", "--raw", "--max-tokens", "1"]);
    for name in ["larkfen-half/two", "larkfen-half/one"] {
        load(name)?;
        ask(name)?;
        service.deft(&["unload", name])?;
    }
    let mut seconds = Vec::new();
    load("larkfen-half/one")?;
    for pair in [["larkfen-half/one", "larkfen-half/two"], ["larkfen-half/two", "larkfen-half/one"]]
        .iter()
        .cycle()
        .take(4)
    {
        let started = Instant::now();
        service.deft(&["unload", pair[0]])?;
        load(pair[1])?;
        ask(pair[1])?;
        seconds.push(started.elapsed().as_secs_f64());
    }
    seconds.sort_by(f64::total_cmp);
    println!(
        "\nswitching between two models of {:.0} MiB (unload, load, first token, from the page cache; \
         four times, three commands each): {:.2} to {:.2} s",
        std::fs::metadata(&half)?.len() as f64 / f64::from(1 << 20),
        seconds[0],
        seconds[seconds.len() - 1]
    );
    std::fs::remove_file(other)?;
    Ok(())
}
