//! `deft plan`, `deft load`, `deft unload`.

use deft_protocol::manage::{
    InstanceState, LoadRequest, ModelPlan, PlanRequest, PoolPlan, Settings,
};

use crate::arguments::{Common, Load, Plan, Unload};
use crate::connection;
use crate::failure::Failure;
use crate::print;

fn request(command: &Load) -> LoadRequest {
    LoadRequest { model: command.model.clone(), settings: command.settings.request() }
}

pub(super) async fn plan(common: &Common, command: &Plan) -> Result<(), Failure> {
    let settings = command.settings.request();
    let request = |model: &String| LoadRequest { model: model.clone(), settings: settings.clone() };
    let request = PlanRequest { models: command.models.iter().map(request).collect() };
    let report = connection::connect(common).await?.plan(&request).await?;
    if common.json {
        print::json(&report);
    } else {
        for plan in &report.plans {
            print::out(&text(plan));
            if plan.refusal.is_none() {
                print::line(format!("fits; load it: deft load {}\n", plan.name));
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
        "pool `{}`: {} planned now, {} with what fits, of {}",
        pool.name,
        print::bytes(pool.reserved),
        print::bytes(pool.after),
        print::bytes(pool.limit)
    )
}

fn text(plan: &ModelPlan) -> String {
    let settings = &plan.settings;
    let mut rows: Vec<Vec<String>> = plan
        .parts
        .iter()
        .map(|part| vec![format!("  {}", part.part), print::bytes(part.bytes)])
        .collect();
    rows.push(vec!["  together".to_owned(), print::bytes(plan.total)]);
    format!(
        "plan for `{}` in pool `{}`: {} {} of {} tokens, {} cache, chunk {}\n{}\n",
        plan.name,
        plan.pool,
        settings.lanes,
        if settings.lanes == 1 { "lane" } else { "lanes" },
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
    let report = client.plan(&PlanRequest { models: vec![request.clone()] }).await?;
    if !common.json {
        report.plans.iter().for_each(|plan| print::note(text(plan).trim_end()));
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
    let means = |model: &str, name: &str| name == model || name.split('/').next() == Some(model);
    let there = status.instances.iter().filter(|found| found.state != InstanceState::Draining);
    for model in &command.models {
        if !there.clone().any(|found| means(model, &found.name)) {
            return Err(Failure::missing(format!("`{model}` is not loaded"))
                .with_way_out("what is loaded: deft status"));
        }
    }
    let wanted = |name: &str| command.models.iter().any(|model| means(model, name));
    let targets: Vec<_> = there.filter(|found| command.all || wanted(&found.name)).collect();
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
