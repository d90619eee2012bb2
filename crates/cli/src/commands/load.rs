//! `deft plan`, `deft load`, `deft unload`.

use std::pin::pin;
use std::time::Duration;

use deft_client::Client;
use deft_protocol::manage::{
    InstanceReport, InstanceState, LoadRequest, ModelPlan, PlanPart, PlanRequest, PoolPlan,
    PoolShare, Settings,
};
use indicatif::{ProgressBar, ProgressStyle};

use super::passing;
use crate::arguments::{Common, Load, Plan, Unload};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn plan(common: &Common, command: &Plan) -> Result<(), Failure> {
    let settings = command.settings.request();
    let client = connection::connect(common).await?;
    let mut models = Vec::new();
    for model in &command.models {
        let name = passing::model(&client, model).await?.name;
        models.push(LoadRequest {
            copies: command.copies,
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
    // The last one is told where every command's failure is.
    let last = refusals.pop();
    refusals.iter().for_each(print::failure);
    last.map_or(Ok(()), Err)
}

fn after(pool: &PoolPlan) -> String {
    format!(
        "pool `{}`{}: {} planned now, {} with what fits, of {}",
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
    rows.push(vec!["  together".to_owned(), print::bytes(plan.total)]);
    let copies = match plan.copies {
        1 => String::new(),
        copies => format!("{copies} instances that share weights, each "),
    };
    let notes: String = plan.notes.iter().map(|note| format!("  {note}\n")).collect();
    format!(
        "plan for `{}`: {copies}{} {} of {} tokens{}, {} cache, chunk {}{}\n{}\n{notes}",
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

/// What all lanes hold together, where that is said.
fn together(settings: &Settings) -> String {
    let tokens = settings.cache_tokens.map(u64::from);
    tokens.map(|tokens| format!(", {} together", print::count(tokens))).unwrap_or_default()
}

/// Where the layers are, if not all in host memory.
fn layers(pools: &[PoolShare]) -> String {
    if pools.is_empty() {
        return String::new();
    }
    let shares: Vec<String> = pools.iter().map(ToString::to_string).collect();
    format!(", layers {}", shares.join(" "))
}

/// One precision, or that of keys and that of values.
fn cache(settings: &Settings) -> String {
    let (keys, values) = (settings.cache.name(), settings.cache_values.name());
    if keys == values { keys.to_owned() } else { format!("{keys}/{values}") }
}

pub(super) async fn load(common: &Common, command: &Load) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let meant = passing::usable(common, &client, &command.model, command.fetch).await?;
    let request = LoadRequest {
        copies: command.copies,
        ..LoadRequest::of(&meant.name, command.settings.request())
    };
    let report = client.plan(&PlanRequest { models: vec![request.clone()] }).await?;
    if !common.json {
        report.plans.iter().for_each(|plan| print::note(text(plan).trim_end()));
    }
    // Loading decides anew: what is loaded already needs nothing more.
    let instance = match common.json {
        true => client.load(&request).await?,
        false => loaded(&client, &request).await?,
    };
    if common.json {
        print::json(&instance);
        return Ok(());
    }
    let took = instance
        .load_seconds
        .map_or_else(String::new, |seconds| format!(", loaded in {}", print::seconds(seconds)));
    let what = match command.copies {
        None | Some(1) => format!("`{}` is ready", instance.name),
        Some(copies) => format!("{copies} instances of `{}` are ready", instance.name),
    };
    print::line(format!("{what}{took}; ask it: deft ask {} \"...\"", meant.name));
    if meant.passing {
        print::note("its file is not registered: it is forgotten when it is unloaded");
    }
    Ok(())
}

/// So often it is asked how far a load is.
const ASKED_EVERY: Duration = Duration::from_millis(250);

/// Loads, and shows on a terminal how much of the weights is in memory.
async fn loaded(client: &Client, request: &LoadRequest) -> Result<InstanceReport, Failure> {
    let style = ProgressStyle::with_template("loading  [{bar:40}] {percent} %")
        .unwrap_or_else(|_| ProgressStyle::default_bar());
    let bar = ProgressBar::new(1000).with_style(style.progress_chars("#."));
    let mut load = pin!(client.load(request));
    let mut ticks = tokio::time::interval(ASKED_EVERY);
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

/// Whether an instance is meant by a name: its own, its variant's or its model's.
fn means(model: &str, found: &InstanceReport) -> bool {
    let numbered = format!("{}#{}", found.name, found.copy);
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
                .with_way_out("what is loaded: deft status"));
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
        print::note("nothing is loaded");
    }
    Ok(())
}

pub(super) async fn limit(common: &Common, pool: &str, limit: &str) -> Result<(), Failure> {
    let pool = connection::connect(common).await?.limit(pool, limit).await?;
    if common.json {
        print::json(&pool);
        return Ok(());
    }
    print::line(format!("pool `{}`: at most {} now", pool.name, print::bytes(pool.limit)));
    if pool.reserved > pool.limit {
        print::note(format!(
            "{} is planned there already: nothing is unloaded for that, and nothing loaded until \
             there is room",
            print::bytes(pool.reserved)
        ));
    }
    print::note("it counts until the service stops; to keep it, write it into the settings");
    Ok(())
}
