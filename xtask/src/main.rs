//! The project's own tasks: `cargo xtask demo | test | build | package | openapi | words | reference | man | pictures | drill | bench`.
//!
//! They hold no knowledge of the product: each is a list of the commands a person would type.

mod bench;
mod building;
mod demo;
mod drill;
mod engine_speed;
mod hostile;
mod packages;
mod packaging;
mod pictures;
mod places;
mod reference;
mod serving;
mod soak;
mod steps;
mod synthetic;
mod words;

use clap::Parser;

/// Tasks of the Deft Harbor project.
#[derive(Parser)]
enum Task {
    /// Install what is missing, build, and start database, service and demo data.
    Demo {
        /// End the demo's service and database; nothing is removed.
        #[arg(long)]
        stop: bool,
    },
    /// Install what is missing and run all tests.
    Test,
    /// Build the console and the release binary.
    Build,
    /// Build the Debian package, `target/package/deft-harbor.deb`.
    Package,
    /// Bring the console's copy of the OpenAPI document, and its types, up to date.
    Openapi,
    /// Take the pictures in docs/screenshots from the demo.
    Pictures {
        /// Only those of the terminal whose names contain this.
        #[arg(long)]
        only: Option<String>,
    },
    /// List every text that a person can see on one page, `docs/reference/texts.md`.
    Words {
        /// Change nothing; fail where the page is out of date.
        #[arg(long)]
        check: bool,
    },
    /// Write the reference in `docs/reference` from the product itself.
    Reference {
        /// Change nothing; fail where a page is out of date.
        #[arg(long)]
        check: bool,
    },
    /// Write the man pages into `target/man`.
    Man,
    /// Long drills, run by hand.
    #[command(subcommand)]
    Drill(Drill),
    /// Measurements, run by hand.
    #[command(subcommand)]
    Bench(Bench),
}

#[derive(clap::Subcommand)]
enum Bench {
    /// The engine compared with the machine's limits; makes synthetic models, 7 GB in all, in `target/`. `DEFT_KERNELS` names
    /// the instructions that it computes with.
    Engine {
        /// How often each is measured.
        #[arg(long, default_value_t = 3)]
        rounds: usize,
        /// Models whose names contain this.
        #[arg(long, default_value = "")]
        only: String,
        /// Leave out prompts and contexts of thousands of tokens, which take minutes for each model.
        #[arg(long)]
        short: bool,
        /// Only draw the picture of the last measurement.
        #[arg(long)]
        draw: bool,
    },
    /// Pulls over loopback compared with standard tools, the bytes that a preview reads, and listing 1,000 models.
    Pull,
    /// Several models at once through the service: turns, shares, gaps, second turns.
    Serving {
        /// How often each is measured.
        #[arg(long, default_value_t = 3)]
        rounds: usize,
        /// How long shares are measured.
        #[arg(long, default_value_t = 60)]
        seconds: u64,
        /// Duration of the test with 64 busy streams; 0 omits it.
        #[arg(long, default_value_t = 10)]
        minutes: u64,
        /// Only the many streams.
        #[arg(long)]
        only_many: bool,
    },
    /// What a call takes besides computing, in each protocol.
    Calls,
    /// Planned and measured memory, and switching between models; makes synthetic models of up to
    /// 1.1 GB in `target/`.
    Memory,
}

#[derive(clap::Subcommand)]
enum Drill {
    /// Kill the service at random moments of fetches and of all other changes.
    Kills {
        /// How often.
        #[arg(long, default_value_t = 200)]
        points: u32,
    },
    /// Send generated requests to every route of a running service, at the same time as a well-behaved client.
    Hostile {
        /// How many.
        #[arg(long, default_value_t = 100_000)]
        requests: u64,
    },
    /// Make every change of the depot's files and every write of the records fail in turn, once and for good.
    Disk,
    /// Send generated requests to every operation of the API, and compare each response with its description.
    Schema,
    /// Install the Debian package into a fresh Debian, start the service there, and remove the package; needs root.
    Package,
    /// Fuzz the readers of what comes from outside; needs the nightly compiler and `cargo-fuzz`.
    Fuzz {
        /// Minutes for each target.
        #[arg(long, default_value_t = 10)]
        minutes: u64,
        /// One target only: `gguf`, `tokenizers` or `templates`.
        target: Option<String>,
    },
}

fn main() -> anyhow::Result<()> {
    match Task::parse() {
        Task::Demo { stop: false } => demo::start(),
        Task::Demo { stop: true } => demo::stop(),
        Task::Test => test(),
        Task::Build => steps::build_release(),
        Task::Package => packaging::make().map(drop),
        Task::Openapi => openapi(),
        Task::Reference { check } => reference::pages(check),
        Task::Man => reference::man(),
        Task::Words { check } => words::page(check),
        Task::Pictures { only } => pictures::take(only.as_deref()),
        Task::Bench(Bench::Engine { draw: true, .. }) => engine_speed::draw(),
        Task::Bench(Bench::Engine { rounds, only, short, .. }) => {
            engine_speed::measure(rounds, &only, short)
        }
        Task::Bench(Bench::Serving { rounds, seconds, minutes, only_many }) => {
            if !only_many {
                serving::measure(rounds, seconds)?;
            }
            if minutes > 0 { soak::measure(minutes) } else { Ok(()) }
        }
        Task::Bench(Bench::Calls) => serving::calls(),
        Task::Bench(Bench::Memory) => bench::memory(),
        Task::Bench(Bench::Pull) => bench::pull(),
        Task::Drill(Drill::Hostile { requests }) => hostile::measure(requests),
        Task::Drill(Drill::Package) => packaging::try_out(&packaging::make()?),
        Task::Drill(Drill::Disk) => drill::disk(),
        Task::Drill(Drill::Schema) => drill::schema(),
        Task::Drill(Drill::Kills { points }) => drill::kills(points),
        Task::Drill(Drill::Fuzz { minutes, target }) => drill::fuzz(minutes, target.as_deref()),
    }
}

fn test() -> anyhow::Result<()> {
    packages::need(&[
        packages::POSTGRESQL,
        packages::CHROMIUM,
        packages::CHROMEDRIVER,
        packages::REGISTRY,
        packages::GIT,
        packages::CURL,
        packages::PYTHON,
        packages::PYTHON_VENV,
    ])?;
    steps::build_console()?;
    steps::run("npm", &["run", "--silent", "test"], "console")?;
    // One program after the other: the end-to-end tests start real services and browsers. They wait more
    // than they compute.
    let threads = std::thread::available_parallelism().map_or(2, |found| found.get() * 2);
    let threads = std::env::var("RUST_TEST_THREADS").unwrap_or_else(|_| threads.to_string());
    let variables = [("RUST_TEST_THREADS", threads)];
    // Examples and documents have no tests.
    let mut arguments = vec!["test", "--workspace", "--tests", "--quiet"];
    if !packages::is_root() {
        println!("tests with names `as_root_...` are left out: they need root");
        arguments.extend(["--", "--skip", "as_root_"]);
    }
    steps::run_with("cargo", &arguments, ".", &variables)?;
    reference::pages(true)?;
    words::page(true)
}

fn openapi() -> anyhow::Result<()> {
    let arguments = ["run", "--quiet", "--package", "deft-service", "--example", "openapi"];
    let document = steps::output("cargo", &arguments, ".")?;
    std::fs::write(steps::root().join("console/openapi.json"), document)?;
    steps::install_console()?;
    steps::run("npm", &["run", "--silent", "types"], "console")
}
