//! The engine compared with the machine's limits, model by model: a table, a JSON file and a picture.

use std::path::Path;

use anyhow::{Context, bail};
use serde_json::Value;

use crate::bench::median;
use crate::steps::{output, root, run};
use deft_formats::quant::TensorType;

use crate::synthetic::{EXPERTS, LEAST, Stored, WORDS, measured, stored};

/// A figure of the table: its heading, the field it comes from, and its aim.
struct Column {
    heading: &'static str,
    field: &'static str,
    /// What it should be, for a model, with tiles or without.
    aim: fn(&str, bool) -> Option<f64>,
}

/// Whether a model's weights are in this type.
fn is(model: &str, kind: &str) -> bool {
    model.ends_with(&format!("-{kind}"))
}

/// Whether a model has the shape of small published ones.
fn is_narrow(model: &str) -> bool {
    model.contains("-narrow-")
}

/// Whether prompts of a model have aims; what takes minutes is only measured where they have.
fn has_prompt_aims(model: &str) -> bool {
    is(model, "q8_0") || is(model, "q4_k")
}

/// One of two aims: with tiles, and without.
fn of(tiles: bool, with: f64, without: f64) -> f64 {
    if tiles { with } else { without }
}

const COLUMNS: [Column; 8] = [
    Column {
        heading: "decode / memory read",
        field: "decode_ratio",
        aim: |model, _| {
            Some(if is_narrow(model) {
                0.85
            } else if is(model, "q8_0") {
                0.80
            } else {
                0.65
            })
        },
    },
    Column {
        heading: "prompt of 512 / int8 peak",
        field: "prompt_512_ratio",
        aim: |model, tiles| {
            let aim = if is(model, "q8_0") { of(tiles, 0.9, 0.40) } else { of(tiles, 0.8, 0.38) };
            has_prompt_aims(model).then_some(aim)
        },
    },
    Column {
        heading: "prompt of 4,096 / of 512",
        field: "prompt_4096_share",
        aim: |model, tiles| has_prompt_aims(model).then_some(of(tiles, 0.8, 0.85)),
    },
    Column {
        heading: "prompt of 8,000 / of 512",
        field: "prompt_8000_share",
        aim: |model, tiles| is_narrow(model).then_some(of(tiles, 0.6, 0.5)),
    },
    Column {
        heading: "8 lanes / one",
        field: "together_ratio",
        aim: |model, tiles| {
            Some(if is(model, "q8_0") { of(tiles, 6.0, 4.0) } else { of(tiles, 5.0, 3.5) })
        },
    },
    Column {
        heading: "16 lanes / one",
        field: "sixteen_ratio",
        aim: |model, tiles| (tiles && is(model, "q8_0")).then_some(10.0),
    },
    Column {
        heading: "decode at 8,000 / at 100",
        field: "depth_ratio",
        aim: |_, tiles| Some(of(tiles, 0.8, 0.75)),
    },
    Column { heading: "Q8_0 / F16 cache at 4,000", field: "narrow_ratio", aim: |_, _| Some(0.9) },
];

/// Measures all models, or those whose names contain a text.
pub fn measure(rounds: usize, only: &str, short: bool) -> anyhow::Result<()> {
    let example = ["--release", "--package", "deft-engine", "--example", "engine_speed"];
    run("cargo", &[&["build", "--quiet"], &example[..]].concat(), ".")?;
    let program = root().join("target/release/examples/engine_speed");
    let program = program.to_str().context("the path is text")?;
    let mut reports: Vec<Value> = Vec::new();
    for (sizes, kind) in measured() {
        let name = format!("{}-{}", sizes.name, kind.name());
        if !name.contains(only) {
            continue;
        }
        let file = stored(sizes, kind)?;
        let file = file.to_str().context("the path is text")?;
        let rounds = rounds.to_string();
        let is_long = !short && has_prompt_aims(&name);
        let arguments = [file, &rounds, "short"];
        let report = output(program, &arguments[..if is_long { 2 } else { 3 }], ".")?;
        let report = serde_json::from_slice(&report).context("it writes JSON")?;
        println!("{}", row(&report));
        reports.push(report);
    }
    let experts = if "experts".contains(only) { Some(experts(program, rounds)?) } else { None };
    if reports.is_empty() && experts.is_some() {
        return Ok(());
    }
    if reports.is_empty() {
        bail!("no model has `{only}` in its name");
    }
    println!("\n{}\n", limits(&reports));
    println!("{}", table(&reports));
    let (step, words) = smallest(program)?;
    let everything = serde_json::json!({
        "models": reports, "least": step, "words": words, "experts": experts,
    });
    let folder = root().join("target/bench");
    std::fs::create_dir_all(&folder)?;
    if !only.is_empty() {
        println!("the picture shows all models, so that it stays as it is");
        return Ok(());
    }
    std::fs::write(folder.join("engine.json"), serde_json::to_vec_pretty(&everything)?)?;
    draw()
}

/// What takes long with the smallest models: a step, and a large vocabulary.
fn smallest(program: &str) -> anyhow::Result<(Value, Value)> {
    let small = |sizes| {
        let file = stored(sizes, Stored::All(TensorType::Q8_0))?;
        let arguments = [file.to_str().context("the path is text")?, "50", "step"];
        anyhow::Ok(serde_json::from_slice::<Value>(&output(program, &arguments, ".")?)?)
    };
    let step = small(LEAST)?;
    let words = small(WORDS)?;
    println!(
        "a model with {} entries in its vocabulary is ready after {:.2} s (aim 0.3)",
        WORDS.vocabulary,
        number(&words, "ready_seconds")
    );
    println!(
        "\na step of a model with {} layers of width {}, its token sent over the link: {:.0} microseconds \
         (aim 60)",
        LEAST.layers,
        LEAST.width,
        number(&step, "step_seconds") * 1e6
    );
    Ok((step, words))
}

/// A model with experts compared with a model without experts and with the same work per token, in alternation: how much
/// slower its prompts and its answers are.
fn experts(program: &str, rounds: usize) -> anyhow::Result<Value> {
    let files = EXPERTS.map(|sizes| stored(sizes, Stored::All(TensorType::Q8_0)));
    let mut ratios = [const { Vec::new() }; 3];
    let mut rates = [const { Vec::new() }; 2];
    for _ in 0..rounds.max(5) {
        let mut found = Vec::new();
        for file in &files {
            let file = file.as_ref().map_err(|error| anyhow::anyhow!("{error:#}"))?;
            let file = file.to_str().context("the path is text")?;
            let ask = |mode: &str| -> anyhow::Result<Value> {
                Ok(serde_json::from_slice(&output(program, &[file, "2", mode], ".")?)?)
            };
            let (prompt, lanes) = (ask("prompt")?, ask("eight")?);
            found.push([
                number(&prompt, "prompt_512"),
                number(&lanes, "one"),
                number(&lanes, "eight"),
            ]);
        }
        for (at, ratios) in ratios.iter_mut().enumerate() {
            ratios.push(found[0][at] / found[1][at]);
        }
        for (rates, found) in rates.iter_mut().zip(&found) {
            rates.push(found[0]);
        }
    }
    let [herd, one] = rates.map(|mut rates| median(&mut rates));
    let spread = |ratios: &mut Vec<f64>| {
        let middle = median(ratios);
        format!("{middle:.2} ({:.2} to {:.2})", ratios[0], ratios[ratios.len() - 1])
    };
    println!(
        "8 of 64 experts beside a model without, as much to compute: prompt of 512 {} (aim 0.60; {herd:.0} and {one:.0} \
         tokens/s), one lane {}, eight lanes {}",
        spread(&mut ratios[0]),
        spread(&mut ratios[1]),
        spread(&mut ratios[2]),
    );
    let [prompt, one_lane, eight] = ratios.map(|mut ratios| median(&mut ratios));
    Ok(serde_json::json!({ "prompt_512": prompt, "one": one_lane, "eight": eight }))
}

/// Draws the last measurement.
pub fn draw() -> anyhow::Result<()> {
    let folder = root().join("target/bench");
    let measured = std::fs::read(folder.join("engine.json")).context("nothing was measured yet")?;
    let measured: Value = serde_json::from_slice(&measured)?;
    let reports = measured["models"].as_array().context("it lists models")?;
    let page = folder.join("engine.html");
    std::fs::write(&page, picture(reports))?;
    crate::pictures::of_page(&page, Path::new("docs/screenshots/bench-engine.png"))
}

fn number(report: &Value, field: &str) -> f64 {
    report[field].as_f64().unwrap_or(f64::NAN)
}

/// Whether it was measured with tiles.
fn has_tiles(report: &Value) -> bool {
    report["kernels"].as_str().is_some_and(|name| name.starts_with("AMX"))
}

fn name(report: &Value) -> &str {
    report["model"].as_str().unwrap_or_default()
}

/// The machine's limits: medians of the measurements of each model, and the range.
fn limits(reports: &[Value]) -> String {
    let of = |field: &str, unit: f64| {
        let mut found: Vec<f64> =
            reports.iter().map(|report| number(report, field) / unit).collect();
        let middle = median(&mut found);
        format!("{middle:.0} ({:.0} to {:.0})", found[0], found[found.len() - 1])
    };
    let report = &reports[0];
    format!(
        "{} threads, {}: memory read {} GB/s; {} {} G operations/s; f32 {} G operations/s",
        report["threads"],
        report["kernels"].as_str().unwrap_or_default(),
        of("memory_read", 1e9),
        report["integer_instruction"].as_str().unwrap_or_default(),
        of("integer_peak", 1e9),
        of("float_peak", 1e9),
    )
}

fn row(report: &Value) -> String {
    let figures = COLUMNS.iter().map(|column| cell(report, column));
    let rates = ["decode", "decode_together", "prompt_512", "prompt_4096"];
    let rate = |field| match number(report, field) {
        rate if rate.is_nan() => "-".to_owned(),
        rate => format!("{rate:.1}"),
    };
    let rates = rates.map(rate);
    let ready = format!("{:.2} s", number(report, "ready_seconds"));
    let cells: Vec<String> = std::iter::once(name(report).to_owned())
        .chain(figures)
        .chain(rates)
        .chain([ready])
        .collect();
    format!("| {} |", cells.join(" | "))
}

/// A figure, with its aim where it was missed.
fn cell(report: &Value, column: &Column) -> String {
    let found = number(report, column.field);
    match (column.aim)(name(report), has_tiles(report)) {
        _ if found.is_nan() => "not measured".to_owned(),
        Some(aim) if found < aim => format!("{found:.2} (aim {aim:.2})"),
        _ => format!("{found:.2}"),
    }
}

fn table(reports: &[Value]) -> String {
    let headings = COLUMNS.iter().map(|column| column.heading);
    let rates = ["decode, tokens/s", "8 lanes", "prompt of 512", "prompt of 4,096", "ready"];
    let headings: Vec<&str> = std::iter::once("model").chain(headings).chain(rates).collect();
    let lines = reports.iter().map(row).collect::<Vec<_>>().join("\n");
    format!("| {} |\n|{}\n{lines}", headings.join(" | "), "---|".repeat(headings.len()))
}

/// A page with bars: measured shares of the limits, and the aims.
fn picture(reports: &[Value]) -> String {
    const WIDTH: f64 = 360.0;
    let mut bars = String::new();
    let is_measured =
        |column: &&Column| reports.iter().any(|report| !number(report, column.field).is_nan());
    for column in COLUMNS[..5].iter().filter(is_measured) {
        bars.push_str(&format!("<section><h2>{}</h2>", column.heading));
        // Where a ratio is no share of a limit, eight fill the bar.
        let scale = if column.field == "together_ratio" { 0.125 } else { 1.0 };
        let is_measured = |report: &&Value| !number(report, column.field).is_nan();
        for report in reports.iter().filter(is_measured) {
            let found = number(report, column.field);
            let aim = (column.aim)(name(report), has_tiles(report))
                .map_or_else(String::new, |aim| {
                    format!("<i style='left:{:.0}px'></i>", aim * scale * WIDTH)
                });
            bars.push_str(&format!(
                "<p><span>{}</span><b><u style='width:{:.0}px'></u>{aim}</b><em>{found:.2}</em></p>",
                name(report),
                (found * scale).min(1.0) * WIDTH
            ));
        }
        bars.push_str("</section>");
    }
    format!(
        "<!doctype html><meta charset=utf-8><title>Deft Harbor: engine</title><style>\
         body{{font:14px sans-serif;margin:24px;color:#1d2b2a}}h1{{font-size:20px;margin:0}}\
         h2{{font-size:15px;margin:14px 0 4px}}p{{display:flex;margin:2px 0;align-items:center}}\
         span{{width:170px;flex:none}}section:first-child h2{{margin-top:0}}b{{position:relative;flex:none;width:{WIDTH}px;height:11px;background:#e6ecea}}\
         u{{position:absolute;left:0;top:0;height:11px;background:#2f7d6b}}\
         i{{position:absolute;top:-2px;height:15px;border-left:2px solid #b4542a}}\
         em{{font-style:normal;margin-left:10px}}main{{margin-top:12px;column-count:2;column-gap:32px}}\
         section{{break-inside:avoid}}\
         </style><h1>Deft Harbor: the engine beside the machine's limits</h1><div>{}. Lines are aims.\
         </div><main>{bars}</main>",
        limits(reports)
    )
}
