//! `deft depot search`, `preview` and `pull`: offers of sources.

use std::fmt::Write;

use deft_client::Client;
use deft_protocol::manage::{
    Fit, Fitting, OfferReport, Preview, PreviewPlan, PullRequest, SearchReport,
};

use super::depot::done;
use crate::arguments::Common;
use crate::failure::Failure;
use crate::print;

pub(super) async fn search(
    common: &Common,
    client: &Client,
    words: &[String],
    source: Option<&str>,
) -> Result<(), Failure> {
    let report = client.search(words, source).await?;
    if common.json {
        print::json(&report);
    } else {
        if report.offers.is_empty() {
            print::note(nothing(&report, words, client.sources().await?.is_empty()));
        } else {
            print::line(found(&report.offers));
        }
        for found in &report.problems {
            print::note(format!("source `{}` was skipped: {}", found.source, found.problem.detail));
        }
    }
    // Nothing was found because a source could not be reached.
    let unreached = report.problems.into_iter().next().filter(|_| report.offers.is_empty());
    unreached.map_or(Ok(()), |found| Err(found.problem.into()))
}

fn nothing(report: &SearchReport, words: &[String], no_sources: bool) -> &'static str {
    if no_sources {
        "no sources; add one: deft source add NAME ADDRESS"
    } else if !report.problems.is_empty() {
        "nothing found"
    } else if words.is_empty() {
        "the sources have no offers"
    } else {
        "no offer contains these words"
    }
}

fn found(offers: &[OfferReport]) -> String {
    let row = |offer: &OfferReport| {
        let state = match (&offer.known_as, &offer.fit) {
            (Some(name), _) => format!("in the depot as {name}"),
            (None, Some(fit)) => fits(fit),
            (None, None) => String::new(),
        };
        vec![
            offer.reference.clone(),
            offer.quantisation.clone().unwrap_or_default(),
            offer.bytes.map_or_else(String::new, print::bytes),
            state,
            offer.serves.join(", "),
            offer.licence.clone().unwrap_or_default(),
            offer.description.clone().unwrap_or_default(),
        ]
    };
    let headers = ["offer", "type", "size", "fits", "serves", "licence", "description"];
    print::table(&headers, offers.iter().map(row).collect(), &[2])
}

fn fits(fit: &Fit) -> String {
    let word = match fit.fits {
        Fitting::Now => "now",
        Fitting::AfterUnloading => "after unloading",
        Fitting::OtherSettings => "with other settings",
        Fitting::Never => "never",
    };
    format!("{word}{}", if fit.by_size_alone { " (estimated from its size)" } else { "" })
}

pub(super) async fn preview(
    common: &Common,
    client: &Client,
    reference: &str,
) -> Result<(), Failure> {
    let preview = client.preview(reference).await?;
    if common.json {
        print::json(&preview);
    } else {
        print::out(&text(&preview));
    }
    preview.refused.map_or(Ok(()), |problem| Err(problem.into()))
}

/// A preview for people.
pub(super) fn text(preview: &Preview) -> String {
    let offer = &preview.offer;
    let mut rows = vec![
        ("name", preview.name.clone()),
        ("description", offer.description.clone().unwrap_or_default()),
        ("licence", offer.licence.clone().unwrap_or_else(|| "not stated".to_owned())),
        ("serves", offer.serves.join(", ")),
        ("family", offer.family.clone().unwrap_or_default()),
        ("parameters", offer.parameters.map_or_else(String::new, print::count)),
        ("types", offer.quantisation.clone().unwrap_or_default()),
    ];
    if let Some(facts) = &preview.facts {
        rows.push(("context", format!("{} tokens", print::count(facts.context_length.into()))));
        let template = if facts.has_template { "in the file" } else { "none" };
        rows.push(("template", template.to_owned()));
    }
    for file in &preview.files {
        let here = if file.here { ", already in the depot" } else { "" };
        let size = file.bytes.map_or_else(|| "size unknown".to_owned(), print::bytes);
        rows.push(("file", format!("{} ({}, {size}{here})", file.name, file.role)));
    }
    rows.push(("disk", disk(preview)));
    if let Some(known) = &offer.known_as {
        rows.push(("in the depot", format!("as {known}")));
    }
    let mut text = format!("{}\n", offer.reference);
    for (name, value) in rows.into_iter().filter(|(_, value)| !value.is_empty()) {
        let _ = writeln!(text, "  {name:<14}{value}");
    }
    for note in &preview.notes {
        let _ = writeln!(text, "  note: {note}");
    }
    if !preview.plans.is_empty() {
        let row = |plan: &PreviewPlan| {
            let (cache, context) =
                (plan.cache.name().to_owned(), print::count(plan.context.into()));
            vec![format!("  {context}"), cache, print::bytes(plan.fit.memory), fits(&plan.fit)]
        };
        let headers = ["  context", "cache", "memory", "fits"];
        let table = print::table(&headers, preview.plans.iter().map(row).collect(), &[0, 2]);
        let _ = writeln!(text, "\n{table}");
    }
    if let Some(speed) = &preview.speed {
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a rate")]
        let memory = print::bytes(speed.memory_bytes_per_second as u64);
        let _ = writeln!(
            text,
            "\n  estimated speed: up to {:.0} tokens/s, from its size and {memory}/s of memory bandwidth measured on this \
             machine",
            speed.tokens_per_second
        );
    }
    text
}

fn disk(preview: &Preview) -> String {
    let disk = &preview.disk;
    let free = print::bytes(disk.free);
    match disk.after {
        Some(after) => {
            let (pull, after) = (print::bytes(disk.pull), print::bytes(after));
            format!("{free} free, {pull} to pull, {after} free afterwards")
        }
        None => {
            let missing = print::bytes(disk.pull - disk.free);
            format!("{free} free, {} to pull: {missing} too little", print::bytes(disk.pull))
        }
    }
}

pub(super) async fn pull(
    common: &Common,
    client: &Client,
    request: &PullRequest,
    detach: bool,
) -> Result<(), Failure> {
    let begun = client.pull(request).await?;
    if !detach {
        return done(common, client, begun).await;
    }
    if common.json {
        print::json(&begun);
    } else {
        print::line("pulling in the background; follow it: deft transfers --follow");
    }
    Ok(())
}
