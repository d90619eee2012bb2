//! `deft plan`, `deft load`, `deft unload`.

use deft_protocol::manage::{InstanceState, LoadRequest, PlanReport, Settings};

use crate::arguments::{Common, Load, Unload};
use crate::connection;
use crate::failure::Failure;
use crate::print;

fn request(command: &Load) -> LoadRequest {
    LoadRequest { model: command.model.clone(), settings: command.settings.request() }
}

pub(super) async fn plan(common: &Common, command: &Load) -> Result<(), Failure> {
    let plan = connection::connect(common).await?.plan(&request(command)).await?;
    if common.json {
        print::json(&plan);
    } else {
        print::out(&text(&plan));
        if plan.refusal.is_none() {
            print::line(format!("fits; load it: deft load {}", plan.name));
        }
    }
    plan.refusal.map_or(Ok(()), |problem| Err(problem.into()))
}

fn text(plan: &PlanReport) -> String {
    let settings = &plan.settings;
    let mut rows: Vec<Vec<String>> = plan
        .parts
        .iter()
        .map(|part| vec![format!("  {}", part.part), print::bytes(part.bytes)])
        .collect();
    rows.push(vec!["  together".to_owned(), print::bytes(plan.total)]);
    format!(
        "plan for `{}` in pool `{}`: {} lanes of {} tokens, {} cache, chunk {}\n{}\n",
        plan.name,
        plan.pool,
        settings.lanes,
        print::count(settings.context.into()),
        cache(settings),
        settings.chunk,
        print::table(&[], rows, &[1]),
    )
}

/// One precision, or that of keys and that of values.
fn cache(settings: &Settings) -> String {
    let (keys, values) = (settings.cache.name(), settings.cache_values.name());
    if keys == values { keys.to_owned() } else { format!("{keys}/{values}") }
}

pub(super) async fn load(common: &Common, command: &Load) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let request = request(command);
    let plan = client.plan(&request).await?;
    if !common.json {
        print::note(text(&plan).trim_end());
    }
    // Loading decides anew: what is loaded already needs nothing more.
    let instance = client.load(&request).await?;
    if common.json {
        print::json(&instance);
        return Ok(());
    }
    let took = instance
        .load_seconds
        .map_or_else(String::new, |seconds| format!(", loaded in {}", print::seconds(seconds)));
    print::line(format!(
        "`{}` is ready{took}; ask it: deft ask {} \"...\"",
        instance.name, command.model
    ));
    Ok(())
}

pub(super) async fn unload(common: &Common, command: &Unload) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let (status, _) = client.status().await?;
    let wanted = |name: &str| match &command.model {
        None => true,
        Some(model) => name == model || name.split('/').next() == Some(model.as_str()),
    };
    let targets: Vec<_> = status
        .instances
        .into_iter()
        .filter(|instance| wanted(&instance.name) && instance.state != InstanceState::Draining)
        .collect();
    if let (true, Some(model)) = (targets.is_empty(), &command.model) {
        return Err(Failure::missing(format!("`{model}` is not loaded"))
            .with_way_out("what is loaded: deft status"));
    }
    for instance in &targets {
        client.unload(instance.id, command.now).await?;
        if !common.json {
            print::line(format!("`{}` is unloaded", instance.name));
        }
    }
    if common.json {
        print::json(&targets);
    } else if targets.is_empty() {
        print::note("nothing is loaded");
    }
    Ok(())
}
