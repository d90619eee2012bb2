//! `deft depot`.

use std::fmt::Write;

use deft_protocol::manage::{CheckReport, Finding, RegisterRequest, Variant};

use crate::arguments::{Common, Depot};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, command: Depot) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    match command {
        Depot::Register { file, name } => {
            let path = std::path::absolute(&file)?;
            let path = std::fs::canonicalize(&path).unwrap_or(path);
            let path = path.into_os_string().into_string().map_err(|path| {
                Failure::usage(format!("the path {} is not UTF-8", path.display()))
            })?;
            let variant = client.register(&RegisterRequest { path, name }).await?;
            if common.json {
                print::json(&variant);
            } else {
                print::line(format!("registered `{}`: {}", variant.name, in_short(&variant)));
                notes(&variant);
            }
        }
        Depot::List => {
            let variants = client.depot().await?;
            if common.json {
                print::json(&variants);
            } else if variants.is_empty() {
                print::note("the depot is empty; take a file in: deft depot register FILE");
            } else {
                print::line(list(&variants));
            }
        }
        Depot::Check { model } => {
            let report = client.check(&model).await?;
            if common.json {
                print::json(&report);
            } else {
                print::out(&findings(&report));
            }
            if !report.well {
                return Err(Failure::fault(format!("`{}` is not well", report.name)));
            }
        }
        Depot::Inspect { model, template } => {
            let variant = client.inspect(&model).await?;
            if common.json {
                print::json(&variant);
            } else {
                print::out(&inspection(&variant, template));
                notes(&variant);
            }
        }
    }
    Ok(())
}

fn in_short(variant: &Variant) -> String {
    let facts = &variant.facts;
    format!(
        "{} family, {} parameters, {}, context {}, {}",
        facts.family,
        print::count(facts.parameters),
        facts.quantisation,
        print::count(facts.context_length.into()),
        print::bytes(variant.file_bytes),
    )
}

fn notes(variant: &Variant) {
    for warning in &variant.facts.warnings {
        print::note(format!("note: {warning}"));
    }
}

fn list(variants: &[Variant]) -> String {
    let rows = variants
        .iter()
        .map(|variant| {
            let facts = &variant.facts;
            vec![
                variant.name.clone(),
                facts.family.clone(),
                print::count(facts.parameters),
                facts.quantisation.clone(),
                print::count(facts.context_length.into()),
                print::bytes(variant.file_bytes),
                if variant.loaded { "loaded" } else { "" }.to_owned(),
            ]
        })
        .collect();
    let headers = ["model", "family", "parameters", "type", "context", "file", ""];
    print::table(&headers, rows, &[2, 4, 5])
}

fn findings(report: &CheckReport) -> String {
    let mut text = format!("{}: {}\n", report.name, report.verdict);
    for Finding { what, well, found } in &report.findings {
        let mark = if *well { "well" } else { "NOT WELL" };
        let _ = writeln!(text, "  {what:<18}{mark:<10}{found}");
    }
    text
}

fn inspection(variant: &Variant, with_template: bool) -> String {
    let facts = &variant.facts;
    let mix: Vec<String> = facts
        .mix
        .iter()
        .map(|share| {
            format!(
                "{} {} in {} tensors",
                share.tensor_type,
                print::bytes(share.bytes),
                share.tensors
            )
        })
        .collect();
    let own = |value: &Option<String>| value.clone().unwrap_or_else(|| "not said".to_owned());
    let lengths = if facts.key_length == facts.value_length {
        facts.key_length.to_string()
    } else {
        format!("{} and {}", facts.key_length, facts.value_length)
    };
    let window = facts.window.map_or("none: every layer sees all".to_owned(), |window| {
        format!("{} of {} layers see {} tokens", window.layers, facts.layers, window.tokens)
    });
    let specials = facts
        .special_tokens
        .iter()
        .map(|token| format!("{} `{}` ({})", token.role, token.text.escape_debug(), token.id));
    let file = match facts.files {
        0 | 1 => variant.path.clone(),
        parts => format!("{} and {} further parts", variant.path, parts - 1),
    };
    let mut rows = vec![
        ("file", file),
        ("size", print::bytes(variant.file_bytes)),
        ("name in file", own(&facts.name)),
        ("description", own(&facts.description)),
        ("licence", own(&facts.licence)),
        ("serves", facts.serves.join(", ")),
        ("family", facts.family.clone()),
        ("parameters", print::count(facts.parameters)),
        ("types", mix.join(", ")),
        ("context", format!("{} tokens", print::count(facts.context_length.into()))),
        ("window", window),
        ("layers", format!("{}, width {}", facts.layers, facts.width)),
        (
            "heads",
            format!("{} ({} for keys and values), of {lengths}", facts.heads, facts.kv_heads),
        ),
        ("vocabulary", format!("{} tokens", print::count(facts.vocabulary.into()))),
        ("tokenizer", facts.tokenizer.clone()),
        ("special", specials.collect::<Vec<_>>().join(", ")),
        ("template", if facts.has_template { "in the file" } else { "none" }.to_owned()),
        ("registered", variant.registered_at.format("%F %T UTC").to_string()),
        ("state", if variant.loaded { "loaded" } else { "not loaded" }.to_owned()),
    ];
    if let Some(pooling) = &facts.pooling {
        rows.insert(12, ("pooling", pooling.clone()));
    }
    let mut text = format!("{}\n", variant.name);
    for (name, value) in rows {
        // Writing to a String does not fail.
        let _ = writeln!(text, "  {name:<14}{value}");
    }
    if let Some(sample) = &facts.sample {
        let _ = writeln!(text, "\n  a conversation as the template writes it:");
        for line in sample.lines() {
            let _ = writeln!(text, "    {line}");
        }
    }
    if let (true, Some(template)) = (with_template, &facts.template) {
        let _ = writeln!(text, "\n{template}");
    }
    text
}
