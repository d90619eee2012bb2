//! `deft plan`, `deft load`, `deft unload`, `deft limit`.

use std::pin::pin;
use std::time::Duration;

use deft_client::Client;
use deft_protocol::manage::{
    InstanceReport, InstanceState, LoadRequest, ModelPlan, Origin, PlanPart, PlanRequest, PoolPlan,
    PoolShare, ServiceStatus, Settings,
};
use indicatif::{ProgressBar, ProgressStyle};

use super::model;
use crate::arguments::{Common, Load, Plan, Reset, Unload};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn plan(common: &Common, command: &Plan) -> Result<(), Failure> {
    let settings = command.settings.request();
    let client = connection::connect(common).await?;
    let mut models = Vec::new();
    for name in &command.models {
        let name = model::model(&client, name).await?.name;
        models.push(LoadRequest {
            instances: command.instances.count,
            ..LoadRequest::of(name, settings.clone())
        });
    }
    let report = client.plan(&PlanRequest { models }).await?;
    if common.json {
        print::json(&report);
    } else {
        for plan in &report.plans {
            print::out(&text(plan));
            if plan.refusal.is_none() {
                print::line(format!("fits; load it: {}\n", plan.command));
            }
        }
        report.pools.iter().for_each(|pool| print::line(after(pool)));
    }
    let refusals = report.plans.into_iter().filter_map(|plan| plan.refusal);
    let mut refusals: Vec<Failure> = refusals.map(Failure::from).collect();
    // The last one is this command's failure.
    let last = refusals.pop();
    refusals.iter().for_each(|failure| print::failure_as(failure, common.json));
    last.map_or(Ok(()), Err)
}

fn after(pool: &PoolPlan) -> String {
    format!(
        "pool `{}`{}: {} reserved now, {} with the plans that fit, limit {}",
        pool.name,
        if pool.simulated { " (simulated)" } else { "" },
        print::bytes(pool.reserved),
        print::bytes(pool.after),
        print::bytes(pool.limit)
    )
}

fn text(plan: &ModelPlan) -> String {
    let settings = &plan.settings;
    let mut rows = Vec::new();
    for parts in plan.parts.chunk_by(|a, b| a.pool == b.pool) {
        rows.push(vec![format!("  in pool `{}`", parts[0].pool), String::new()]);
        let part = |part: &PlanPart| vec![format!("    {}", part.part), print::bytes(part.bytes)];
        rows.extend(parts.iter().map(part));
    }
    rows.push(vec!["  total".to_owned(), print::bytes(plan.total)]);
    let instances = match plan.instances {
        1 => String::new(),
        count => format!("{count} instances that share weights, each with "),
    };
    let notes: String = plan.notes.iter().map(|note| format!("  {note}\n")).collect();
    format!(
        "plan for `{}`: {instances}{} {} of {} tokens{}, {} cache, chunk {}{}\n{}\n{notes}",
        plan.name,
        settings.lanes,
        if settings.lanes == 1 { "lane" } else { "lanes" },
        print::count(settings.context.into()),
        together(settings),
        cache(settings),
        settings.chunk,
        layers(&settings.pools),
        print::table(&[], rows, &[1]),
    )
}

/// The size of a KV cache that lanes share.
fn together(settings: &Settings) -> String {
    let tokens = settings.cache_tokens.map(u64::from);
    tokens
        .map(|tokens| format!(", sharing {} tokens of KV cache", print::count(tokens)))
        .unwrap_or_default()
}

/// The pools of the layers, if not all are in host memory.
fn layers(pools: &[PoolShare]) -> String {
    if pools.is_empty() {
        return String::new();
    }
    let shares: Vec<String> = pools.iter().map(ToString::to_string).collect();
    format!(", layers in {}", shares.join(" "))
}

/// The precision of keys and values, or both precisions.
fn cache(settings: &Settings) -> String {
    let (keys, values) = (settings.cache.name(), settings.cache_values.name());
    if keys == values { keys.to_owned() } else { format!("{keys}/{values}") }
}

pub(super) async fn load(common: &Common, command: &Load) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let meant = model::usable(common, &client, &command.model, command.yes).await?;
    let request = LoadRequest {
        instances: command.instances.count,
        reset: Reset::names(&command.reset),
        ..LoadRequest::of(&meant.name, command.settings.request())
    };
    let before = requested(&client.status().await?.0, &meant.name);
    if common.json {
        print::json(&client.load(&request).await?);
        return Ok(());
    }
    let report = client.plan(&PlanRequest { models: vec![request.clone()] }).await?;
    report.plans.iter().for_each(|plan| print::note(text(plan).trim_end()));
    // Loading decides again: a model that is loaded already needs no more memory.
    let instance = loaded(&client, &request).await?;
    let took = instance
        .load_seconds
        .map_or_else(String::new, |seconds| format!(", loaded in {}", print::seconds(seconds)));
    let what = match command.instances.count {
        None | Some(1) => format!("`{}` is ready", instance.name),
        Some(count) => format!("{count} instances of `{}` are ready", instance.name),
    };
    print::line(format!("{what}{took}; ask it: deft ask {} \"...\"", meant.name));
    if let Some(before) = before {
        print::note(changes(&before, &instance.settings));
    }
    if meant.temporary {
        print::note("the file is registered temporarily, until the model is unloaded");
    }
    Ok(())
}

/// Settings of the first requested instance of a model, before a load.
fn requested(status: &ServiceStatus, model: &str) -> Option<Settings> {
    let is_requested =
        |found: &&InstanceReport| found.origin == Origin::Requested && means(model, found);
    status.instances.iter().find(is_requested).map(|found| found.settings.clone())
}

/// The settings that a load changed.
fn changes(before: &Settings, after: &Settings) -> String {
    let fields = |settings: &Settings| match serde_json::to_value(settings) {
        Ok(serde_json::Value::Object(fields)) => fields,
        _ => serde_json::Map::new(),
    };
    let (before, after) = (fields(before), fields(after));
    let mut names: Vec<&String> = before.keys().chain(after.keys()).collect();
    names.sort_unstable();
    names.dedup();
    let word = |value: Option<&serde_json::Value>| match value {
        None | Some(serde_json::Value::Null) => "default".to_owned(),
        Some(serde_json::Value::String(text)) => text.clone(),
        Some(serde_json::Value::Array(entries)) if entries.is_empty() => "default".to_owned(),
        Some(serde_json::Value::Array(entries)) => {
            entries.iter().filter_map(serde_json::Value::as_str).collect::<Vec<_>>().join(",")
        }
        Some(other) => other.to_string(),
    };
    let changed: Vec<String> = names
        .into_iter()
        .filter(|name| before.get(*name) != after.get(*name))
        .map(|name| {
            let (before, after) = (word(before.get(name)), word(after.get(name)));
            format!("{} {before} -> {after}", name.replace('_', "-"))
        })
        .collect();
    if changed.is_empty() {
        return "no setting changed".to_owned();
    }
    format!("changed: {}", changed.join(", "))
}

/// Pause between two questions about the progress of a load.
const ASK_EVERY: Duration = Duration::from_millis(250);

/// Loads, and shows progress on a terminal.
async fn loaded(client: &Client, request: &LoadRequest) -> Result<InstanceReport, Failure> {
    let style = ProgressStyle::with_template("loading  [{bar:40}] {percent} %")
        .unwrap_or_else(|_| ProgressStyle::default_bar());
    let bar = ProgressBar::new(1000).with_style(style.progress_chars("#."));
    let mut load = pin!(client.load(request));
    let mut ticks = tokio::time::interval(ASK_EVERY);
    loop {
        tokio::select! {
            instance = &mut load => {
                bar.finish_and_clear();
                return Ok(instance?);
            }
            _ = ticks.tick() => {
                let Ok((status, _)) = client.status().await else { continue };
                let mine = status.instances.iter().filter(|found| means(&request.model, found));
                let share = mine.filter_map(|found| found.load_share).next();
                #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share")]
                if let Some(share) = share {
                    bar.set_position((share * 1000.0) as u64);
                }
            }
        }
    }
}

/// Whether a name means an instance: its title, its variant or its model.
fn means(model: &str, found: &InstanceReport) -> bool {
    let numbered = format!("{}#{}", found.name, found.number);
    let names = [numbered, found.name.clone()];
    names.iter().any(|name| name == model) || found.name.split('/').next() == Some(model)
}

pub(super) async fn unload(common: &Common, command: &Unload) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let (status, _) = client.status().await?;
    let there = status.instances.iter().filter(|found| found.state != InstanceState::Draining);
    for model in &command.models {
        if !there.clone().any(|found| means(model, found)) {
            return Err(Failure::missing(format!("`{model}` is not loaded"))
                .with_way_out("show loaded models: deft status"));
        }
    }
    let wanted = |found: &InstanceReport| command.models.iter().any(|model| means(model, found));
    let targets: Vec<_> = there.filter(|found| command.all || wanted(found)).collect();
    for instance in &targets {
        client.unload(instance.id, command.now).await?;
        if !common.json {
            print::line(format!("`{}` is unloaded", instance.title()));
        }
    }
    if common.json {
        print::json(&targets);
    } else if targets.is_empty() {
        print::note("no model is loaded");
    }
    Ok(())
}

pub(super) async fn limit(common: &Common, pool: &str, limit: &str) -> Result<(), Failure> {
    let pool = connection::connect(common).await?.limit(pool, limit).await?;
    if common.json {
        print::json(&pool);
        return Ok(());
    }
    print::line(format!("limit of pool `{}`: {}", pool.name, print::bytes(pool.limit)));
    if pool.reserved > pool.limit {
        print::note(format!(
            "{} are reserved already: no model is unloaded for that, and none is loaded until enough \
             memory is free",
            print::bytes(pool.reserved)
        ));
    }
    print::note("it applies until the service stops; to keep it, write it into the settings file");
    Ok(())
}

#[cfg(test)]
mod tests {
    use deft_protocol::manage::{CachePrecision, IdleLimit, WeightsHeld};

    use super::*;

    #[test]
    fn a_second_load_tells_what_it_changed() {
        let before = Settings {
            context: 1024,
            lanes: 2,
            cache_tokens: None,
            chunk: 128,
            cache: CachePrecision::F16,
            cache_values: CachePrecision::F16,
            pinned: false,
            importance: 0,
            share: 100,
            idle: IdleLimit::Never,
            pools: Vec::new(),
            weights: WeightsHeld::Mapped,
            threads: None,
        };
        assert_eq!(changes(&before, &before), "no setting changed");
        let after = Settings {
            lanes: 3,
            pinned: true,
            threads: Some(2),
            pools: vec!["fern=2".parse().unwrap()],
            ..before.clone()
        };
        assert_eq!(
            changes(&before, &after),
            "changed: lanes 2 -> 3, pinned false -> true, pools default -> fern=2, threads default -> 2"
        );
    }
}
