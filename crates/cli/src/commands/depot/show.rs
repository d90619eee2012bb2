//! What `deft depot` shows, as text.

use std::fmt::Write;

use deft_protocol::manage::{
    CheckReport, DepotUsage, Finding, MixShare, ModelFacts, NotUnderstood, Removal, ServiceStatus,
    Variant, VariantUsage,
};
use serde_json::json;

use crate::arguments::DepotOrder;
use crate::print;

/// The variants that contain all the words, in this order.
pub(super) fn chosen(
    mut variants: Vec<Variant>,
    words: &[String],
    order: DepotOrder,
) -> Vec<Variant> {
    variants.retain(|variant| {
        let about = [Some(&variant.name), Some(&variant.facts.family)];
        let about = about.into_iter().chain([variant.facts.description.as_ref()]).flatten();
        let text: String = about.map(|text| text.to_lowercase() + " ").collect();
        words.iter().all(|word| text.contains(&word.to_lowercase()))
    });
    match order {
        DepotOrder::Age => {}
        DepotOrder::Name => variants.sort_by(|a, b| a.name.cmp(&b.name)),
        DepotOrder::Size => variants.sort_by_key(|found| std::cmp::Reverse(found.file_bytes)),
        DepotOrder::Used => variants.sort_by_key(|found| std::cmp::Reverse(found.last_used)),
    }
    variants
}

pub(super) fn disk(usage: &DepotUsage) -> String {
    let row = |found: &VariantUsage| {
        vec![
            found.name.clone(),
            print::bytes(found.bytes),
            if found.stored { print::bytes(found.frees) } else { String::new() },
            if found.stored { "" } else { "registered, stored elsewhere" }.to_owned(),
        ]
    };
    let headers = ["model", "size", "removal frees", ""];
    let table = print::table(&headers, usage.variants.iter().map(row).collect(), &[1, 2]);
    format!(
        "{table}\n\n{} stored (files that variants share count once); {} free on the disk of {}",
        print::bytes(usage.total),
        print::bytes(usage.free),
        usage.folder
    )
}

pub(super) fn removed(removal: &Removal, dry_run: bool) -> String {
    let Removal { name, stored, frees } = removal;
    match (dry_run, stored) {
        (true, true) => format!("removing `{name}` would free {}", print::bytes(*frees)),
        (true, false) => format!("removing `{name}` would end its registration and leave its file"),
        (false, true) => format!("removed `{name}`; {} freed", print::bytes(*frees)),
        (false, false) => {
            format!("removed the registration of `{name}`; its file was left unchanged")
        }
    }
}

pub(super) fn in_short(variant: &Variant) -> String {
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

pub(super) fn notes(variant: &Variant) {
    for warning in &variant.facts.warnings {
        print::note(format!("note: {warning}"));
    }
}

/// Variants, followed by folders that cannot be read.
pub(super) fn listed(variants: &[Variant], aside: &[NotUnderstood]) -> Vec<serde_json::Value> {
    let variants = variants.iter().map(|variant| json!(variant));
    let aside = aside.iter().map(|model| {
        json!({
            "name": model.name, "not_understood": model.why, "path": model.place,
            "file_bytes": model.bytes,
        })
    });
    variants.chain(aside).collect()
}

/// A folder of the depot that cannot be read.
pub(super) fn unreadable(found: &NotUnderstood) -> String {
    let NotUnderstood { name, place, why, bytes } = found;
    format!("{name}: cannot be read ({why}); {} left unchanged in {place}", print::bytes(*bytes))
}

pub(super) fn list(variants: &[Variant]) -> String {
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
                if variant.stored { "stored" } else { "registered" }.to_owned(),
                variant.calls.to_string(),
                variant.last_used.map_or_else(String::new, print::time),
                if variant.loaded { "loaded" } else { "" }.to_owned(),
            ]
        })
        .collect();
    let headers =
        ["model", "family", "parameters", "type", "context", "file", "", "calls", "last used", ""];
    print::table(&headers, rows, &[2, 4, 5, 7])
}

pub(super) fn findings(report: &CheckReport) -> String {
    let mut text = format!("{}: {}\n", report.name, report.verdict);
    for Finding { what, passed, found } in &report.findings {
        let mark = if *passed { "passed" } else { "FAILED" };
        let _ = writeln!(text, "  {what:<18}{mark:<10}{found}");
    }
    text
}

/// Instructions that instances of a variant compute with.
pub(super) fn kernels(status: &ServiceStatus, name: &str) -> Option<String> {
    let mut instances = status.instances.iter().filter(|instance| instance.name == name);
    instances.find_map(|instance| instance.kernels.clone())
}

fn mix(facts: &ModelFacts) -> String {
    let share = |share: &MixShare| {
        let bytes = print::bytes(share.bytes);
        format!("{} {bytes} in {} tensors", share.tensor_type, share.tensors)
    };
    facts.mix.iter().map(share).collect::<Vec<_>>().join(", ")
}

fn heads(facts: &ModelFacts) -> String {
    let lengths = if facts.key_length == facts.value_length {
        facts.key_length.to_string()
    } else {
        format!("{} and {}", facts.key_length, facts.value_length)
    };
    format!("{} ({} for keys and values), of {lengths}", facts.heads, facts.kv_heads)
}

fn state(variant: &Variant, kernels: Option<&str>) -> String {
    match (variant.loaded, kernels) {
        (true, Some(kernels)) => format!("loaded, computes with {kernels}"),
        (true, None) => "loaded".to_owned(),
        (false, _) => "not loaded".to_owned(),
    }
}

fn rows(variant: &Variant, kernels: Option<&str>) -> Vec<(&'static str, String)> {
    let facts = &variant.facts;
    let own = |value: &Option<String>| value.clone().unwrap_or_else(|| "not stated".to_owned());
    let window = facts.window.map_or("none".to_owned(), |window| {
        format!("{} of {} layers see {} tokens", window.layers, facts.layers, window.tokens)
    });
    let specials = facts
        .special_tokens
        .iter()
        .map(|token| format!("{} `{}` ({})", token.role, token.text.escape_debug(), token.id));
    let file = match facts.files {
        0 | 1 => variant.path.clone(),
        parts => format!("{} and {} more parts", variant.path, parts - 1),
    };
    let mut rows = vec![
        ("file", file),
        ("size", print::bytes(variant.file_bytes)),
        ("name in file", own(&facts.name)),
        ("description", own(&facts.description)),
        ("licence", own(&facts.licence)),
        (
            "serves",
            if facts.serves.is_empty() { "nothing".to_owned() } else { facts.serves.join(", ") },
        ),
        ("family", facts.family.clone()),
        ("parameters", print::count(facts.parameters)),
        ("types", mix(facts)),
        ("context", format!("{} tokens", print::count(facts.context_length.into()))),
        ("window", window),
        ("layers", format!("{}, width {}", facts.layers, facts.width)),
        ("heads", heads(facts)),
        ("vocabulary", format!("{} tokens", print::count(facts.vocabulary.into()))),
        ("tokenizer", facts.tokenizer.clone()),
        ("special tokens", specials.collect::<Vec<_>>().join(", ")),
        ("template", if facts.has_template { "in the file" } else { "none" }.to_owned()),
        ("registered", print::time(variant.registered_at)),
        ("state", state(variant, kernels)),
    ];
    if let Some(pooling) = &facts.pooling {
        rows.insert(12, ("pooling", pooling.clone()));
    }
    if let Some(markers) = &facts.reasoning {
        rows.insert(6, ("reasoning", format!("{} ... {}", markers.opening, markers.closing)));
    }
    if let Some(calls) = &facts.tool_calls {
        let example = calls.example.replace('\n', "\\n");
        rows.insert(6, ("tool calls", format!("{example} ({})", calls.form)));
    }
    rows
}

pub(super) fn inspection(variant: &Variant, kernels: Option<&str>, with_template: bool) -> String {
    let facts = &variant.facts;
    let mut text = format!("{}\n", variant.name);
    for (name, value) in rows(variant, kernels) {
        // Writing to a `String` cannot fail.
        let _ = writeln!(text, "  {name:<16}{value}");
    }
    if let Some(sample) = &facts.sample {
        let _ = writeln!(text, "\n  example of a rendered conversation:");
        for line in sample.lines() {
            let _ = writeln!(text, "    {line}");
        }
    }
    if let (true, Some(template)) = (with_template, &facts.template) {
        let _ = writeln!(text, "\n{template}");
    }
    text
}
