//! `deft depot`.

use std::fmt::Write;
use std::ops::ControlFlow;
use std::path::Path;

use deft_client::Client;
use deft_protocol::manage::{
    CheckReport, DepotUsage, Finding, FoundModel, ImportRequest, NotUnderstood, PullRequest,
    RegisterRequest, Removal, ServiceStatus, Transfer, Variant, VariantUsage,
};
use deft_service::HeaderHelper;
use serde_json::json;

use super::{offers, passing, transfers};
use crate::arguments::{Common, Depot, DepotOrder};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, command: Depot) -> Result<(), Failure> {
    if let Depot::Index { folder, name } = command {
        return index(common, &folder, name);
    }
    let client = connection::connect(common).await?;
    match command {
        Depot::Search { words, source } => {
            offers::search(common, &client, &words, source.as_deref()).await?;
        }
        Depot::Preview { reference } => offers::preview(common, &client, &reference).await?,
        Depot::Pull { reference, name, limit, detach } => {
            let request = PullRequest { reference, name, limit };
            offers::pull(common, &client, &request, detach).await?;
        }
        Depot::Register { file, name } => {
            let path = whole_path(&file)?;
            let variant = client.register(&RegisterRequest { path, name, passing: false }).await?;
            if common.json {
                print::json(&variant);
            } else {
                print::line(format!("registered `{}`: {}", variant.name, in_short(&variant)));
                notes(&variant);
            }
        }
        Depot::Import { path, name, move_it, projector, template, all, defaults } => {
            let projector = projector.map(|path| whole_path(&path)).transpose()?;
            let template = template.map(|path| whole_path(&path)).transpose()?;
            let (path_text, defaults) = (whole_path(&path)?, defaults.request());
            let request =
                ImportRequest { path: path_text, name, move_it, projector, template, defaults };
            if path.is_dir() {
                import_folder(common, &client, &request, all).await?;
            } else {
                import(common, &client, &request).await?;
            }
        }
        Depot::List { words, sort } => {
            let variants = chosen(client.depot().await?, &words, sort);
            let mut aside = client.not_understood().await?;
            aside.retain(|told| words.iter().all(|word| told.name.contains(word)));
            if common.json {
                print::json(&listed(&variants, &aside));
                return Ok(());
            }
            if variants.is_empty() && aside.is_empty() {
                print::note(match words.is_empty() {
                    true => "the depot is empty; take a file in: deft depot import FILE",
                    false => "nothing in the depot has these words",
                });
            }
            if !variants.is_empty() {
                print::line(list(&variants));
            }
            for told in &aside {
                let NotUnderstood { name, place, why, bytes } = told;
                let bytes = print::bytes(*bytes);
                print::line(format!("{name}: not understood ({why}); {bytes} stay in {place}"));
            }
        }
        Depot::Path { model } => {
            let variant = client.inspect(&model).await?;
            if common.json {
                print::json(&variant.path);
            } else {
                print::line(&variant.path);
            }
        }
        Depot::Export { model, folder } => {
            let variant = client.inspect(&model).await?;
            let folder = whole_path(&folder)?;
            done(common, &client, client.export(&variant.name, &folder).await?).await?;
        }
        Depot::Index { .. } => unreachable!("it needs no service, and was done before"),
        Depot::Usage => {
            let usage = client.usage().await?;
            if common.json {
                print::json(&usage);
            } else {
                print::line(disk(&usage));
            }
        }
        Depot::Verify { models } => done(common, &client, client.verify(&models).await?).await?,
        Depot::Rename { model, name } => {
            let variant = client.inspect(&model).await?;
            let renamed = client.rename(&variant.name, &name).await?;
            if common.json {
                print::json(&renamed);
            } else {
                print::line(format!("`{}` is `{}` now", variant.name, renamed.name));
            }
        }
        Depot::Remove { model, dry_run } => {
            let variant = client.inspect(&model).await?;
            let removal = client.remove(&variant.name, dry_run).await?;
            if common.json {
                print::json(&removal);
            } else {
                print::line(removed(&removal, dry_run));
            }
        }
        Depot::Check { model } => {
            let meant = passing::model(&client, &model).await?;
            let report = client.check(&meant.name).await?;
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
            let model = passing::model(&client, &model).await?.name;
            let variant = client.inspect(&model).await?;
            if common.json {
                print::json(&variant);
            } else {
                let kernels = kernels(&client.status().await?.0, &variant.name);
                print::out(&inspection(&variant, kernels.as_deref(), template));
                notes(&variant);
            }
        }
    }
    Ok(())
}

/// Describes a folder's models, here and without the service.
fn index(common: &Common, folder: &Path, name: Option<String>) -> Result<(), Failure> {
    let own = || {
        let whole = std::fs::canonicalize(folder).unwrap_or_default();
        whole.file_name().unwrap_or_default().to_string_lossy().into_owned()
    };
    let bar = transfers::spinner("reading");
    let mut advance = |bytes| {
        bar.inc(bytes);
        ControlFlow::Continue(())
    };
    let written =
        deft_depot::write_index(folder, &name.unwrap_or_else(own), &HeaderHelper, &mut advance);
    bar.finish_and_clear();
    let written = written.map_err(|error| Failure::refused(error.to_string()))?;
    for (path, why) in &written.refused {
        print::note(format!("left out: {} ({why})", path.display()));
    }
    if common.json {
        print::json(&written.index);
        return Ok(());
    }
    let variants: usize = written.index.models.iter().map(|model| model.variants.len()).sum();
    let path = folder.join(deft_depot::INDEX_FILE);
    print::line(format!(
        "{} of {} described in {}",
        counted(variants, "variant"),
        counted(written.index.models.len(), "model"),
        path.display()
    ));
    Ok(())
}

/// A path as the service can use it.
pub(super) fn whole_path(path: &Path) -> Result<String, Failure> {
    let path = std::path::absolute(path)?;
    let path = std::fs::canonicalize(&path).unwrap_or(path);
    path.into_os_string()
        .into_string()
        .map_err(|path| Failure::usage(format!("the path {} is not UTF-8", path.display())))
}

/// Follows a transfer and tells what came of it.
pub(super) async fn done(common: &Common, client: &Client, begun: Transfer) -> Result<(), Failure> {
    let transfer = transfers::follow(client, begun).await?;
    if common.json {
        print::json(&transfer);
    } else {
        print::line(transfer.outcome.unwrap_or_default());
    }
    Ok(())
}

async fn import(common: &Common, client: &Client, request: &ImportRequest) -> Result<(), Failure> {
    done(common, client, client.import(request).await?).await
}

/// Finds the models of a folder, and takes in those that are not known. A name, a projector or a template is for
/// a folder of one.
async fn import_folder(
    common: &Common,
    client: &Client,
    request: &ImportRequest,
    all: bool,
) -> Result<(), Failure> {
    let ImportRequest { name, projector, template, .. } = request;
    let found = client.scan(&request.path).await?;
    if found.is_empty() {
        return Err(Failure::missing(format!("there is no model in `{}`", request.path)));
    }
    if name.is_some() || projector.is_some() || template.is_some() {
        return import_the_one(common, client, request, &found).await;
    }
    if !common.json {
        print::note(offer(&found));
    }
    let wanted: Vec<&FoundModel> =
        found.iter().filter(|found| found.known_as.is_none() && found.refused.is_none()).collect();
    if wanted.is_empty() {
        print::note("there is nothing new to take in");
        return Ok(());
    }
    let question = format!("take {} in?", counted(wanted.len(), "model"));
    if !all && !print::ask_yes(&question) {
        return Err(Failure::refused("nothing was taken in").with_way_out("without asking: --all"));
    }
    for model in wanted {
        import(common, client, &request_for(model, request)).await?;
    }
    Ok(())
}

/// Takes in the only model of a folder, with what is given for it.
async fn import_the_one(
    common: &Common,
    client: &Client,
    request: &ImportRequest,
    found: &[FoundModel],
) -> Result<(), Failure> {
    let [one] = found else {
        let what = format!(
            "a name, a projector or a template is for one model, and `{}` has {}",
            request.path,
            found.len()
        );
        return Err(Failure::usage(what).with_way_out("name the file of the one that is meant"));
    };
    import(common, client, &request_for(one, request)).await
}

/// What is asked for, of a model that was found; its own projector comes along unless another one is given.
fn request_for(model: &FoundModel, request: &ImportRequest) -> ImportRequest {
    let projector = request.projector.clone().or_else(|| model.projector.clone());
    ImportRequest { path: model.path.clone(), projector, ..request.clone() }
}

fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}

fn offer(found: &[FoundModel]) -> String {
    let row = |found: &FoundModel| {
        let state = match (&found.known_as, &found.refused) {
            (Some(name), _) => format!("known as {name}"),
            (None, Some(why)) => format!("cannot be used: {why}"),
            (None, None) if found.projector.is_some() => "with its image projector".to_owned(),
            (None, None) => String::new(),
        };
        let name = found.name.clone().unwrap_or_default();
        vec![name, print::bytes(found.file_bytes), found.path.clone(), state]
    };
    print::table(&["model", "size", "file", ""], found.iter().map(row).collect(), &[1])
}

/// The variants that have all the words, in that order.
fn chosen(mut variants: Vec<Variant>, words: &[String], order: DepotOrder) -> Vec<Variant> {
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

fn disk(usage: &DepotUsage) -> String {
    let row = |found: &VariantUsage| {
        vec![
            found.name.clone(),
            print::bytes(found.bytes),
            if found.kept { print::bytes(found.frees) } else { String::new() },
            if found.kept { "" } else { "registered: its file is elsewhere" }.to_owned(),
        ]
    };
    let headers = ["model", "size", "removal frees", ""];
    let table = print::table(&headers, usage.variants.iter().map(row).collect(), &[1, 2]);
    format!(
        "{table}\n\nthe depot keeps {}, what is shared counted once; {} is free in {}",
        print::bytes(usage.total),
        print::bytes(usage.free),
        usage.folder
    )
}

fn removed(removal: &Removal, dry_run: bool) -> String {
    let Removal { name, kept, frees } = removal;
    match (dry_run, kept) {
        (true, true) => format!("removing `{name}` would free {}", print::bytes(*frees)),
        (true, false) => format!("`{name}` would be forgotten; its file would stay where it is"),
        (false, true) => format!("`{name}` is removed; {} is free again", print::bytes(*frees)),
        (false, false) => format!("`{name}` is forgotten; its file stays where it is"),
    }
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

/// Variants, and after them what is not understood.
fn listed(variants: &[Variant], aside: &[NotUnderstood]) -> Vec<serde_json::Value> {
    let variants = variants.iter().map(|variant| json!(variant));
    let aside = aside.iter().map(|told| {
        json!({
            "name": told.name, "not_understood": told.why, "path": told.place,
            "file_bytes": told.bytes,
        })
    });
    variants.chain(aside).collect()
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
                if variant.kept { "kept" } else { "registered" }.to_owned(),
                variant.calls.to_string(),
                variant.last_used.map_or_else(String::new, |at| at.format("%F %R").to_string()),
                if variant.loaded { "loaded" } else { "" }.to_owned(),
            ]
        })
        .collect();
    let headers =
        ["model", "family", "parameters", "type", "context", "file", "", "calls", "last used", ""];
    print::table(&headers, rows, &[2, 4, 5, 7])
}

fn findings(report: &CheckReport) -> String {
    let mut text = format!("{}: {}\n", report.name, report.verdict);
    for Finding { what, well, found } in &report.findings {
        let mark = if *well { "well" } else { "NOT WELL" };
        let _ = writeln!(text, "  {what:<18}{mark:<10}{found}");
    }
    text
}

/// The instructions that instances of a variant compute with.
fn kernels(status: &ServiceStatus, name: &str) -> Option<String> {
    let mut instances = status.instances.iter().filter(|instance| instance.name == name);
    instances.find_map(|instance| instance.kernels.clone())
}

fn inspection(variant: &Variant, kernels: Option<&str>, with_template: bool) -> String {
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
        (
            "state",
            match (variant.loaded, kernels) {
                (true, Some(kernels)) => format!("loaded, computes with {kernels}"),
                (true, None) => "loaded".to_owned(),
                (false, _) => "not loaded".to_owned(),
            },
        ),
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
