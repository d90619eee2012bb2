//! What operators and their programs see of it: figures, history, the watch, answers side by side.

use std::io::{Read, Write};
use std::process::{Command, Stdio};

use deft_protocol::manage::ServiceStatus;
use fantoccini::key::Key;
use serde_json::Value;

use crate::browser::Browser;
use crate::world::{PATIENCE, QUESTION, World, until, wait};

fn get(world: &World, path: &str) -> (String, String) {
    let url = format!("{}{path}", world.address());
    wait(async move {
        let response = reqwest::get(url).await.unwrap();
        assert_eq!(response.status(), 200);
        let kind = response.headers()["content-type"].to_str().unwrap().to_owned();
        (kind, response.text().await.unwrap())
    })
}

/// The value of a figure with these labels.
fn figure(text: &str, name: &str) -> Option<f64> {
    let line = text.lines().find(|line| line.starts_with(name))?;
    line.rsplit(' ').next()?.parse().ok()
}

#[test]
fn figures_are_reported_to_programs_that_collect_them() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--context", "256"]);
    world.desk_answers();
    let (kind, text) = until("the call is counted", || {
        let (kind, text) = get(&world, "/metrics");
        text.contains("deft_calls_total").then_some((kind, text))
    });
    assert!(kind.starts_with("application/openmetrics-text"), "{kind}");
    assert!(text.ends_with("# EOF\n"), "{text}");
    let model = "{model=\"larkfen-desk/q8_0\"}";
    for name in ["first_token_seconds", "queue_wait_seconds", "call_seconds"] {
        assert_eq!(figure(&text, &format!("deft_{name}_count{model}")), Some(1.0), "{text}");
    }
    let status = world.status();
    let pool = &status.pools[0];
    #[expect(clippy::cast_precision_loss, reason = "a few MiB")]
    let granted = pool.reserved as f64;
    assert_eq!(figure(&text, "deft_pool_reserved_bytes{pool=\"host\"}"), Some(granted));
    let instance = "{instance=\"larkfen-desk/q8_0\"}";
    assert_eq!(figure(&text, &format!("deft_pages{instance}")), Some(16.0));
    assert_eq!(figure(&text, &format!("deft_pages_used{instance}")), Some(0.0));
    assert!(figure(&text, &format!("deft_pages_cached{instance}")).unwrap() > 0.0);
    assert!(figure(&text, &format!("deft_baton_wait_seconds_total{instance}")).is_some());
    assert_eq!(figure(&text, "deft_database_up"), Some(1.0));
    let tokens = "deft_tokens_total{model=\"larkfen-desk/q8_0\",kind=\"answer\"}";
    assert!(figure(&text, tokens).unwrap() > 5.0);
}

#[test]
fn memory_and_rates_are_kept_over_time() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let series = |span: &str, name: &str| {
        let history: Value =
            serde_json::from_str(&get(&world, &format!("/manage/v1/history?span={span}")).1)
                .unwrap();
        let all = history["series"].as_array().unwrap().clone();
        all.into_iter().find(|series| series["name"] == name)
    };
    world.desk_answers();
    let rate = until("a rate was measured", || {
        let series = series("hour", "answer_rate")?;
        series["points"]
            .as_array()
            .unwrap()
            .iter()
            .find_map(|point| point["most"].as_f64().filter(|&rate| rate > 0.0))
    });
    // The fastest call, by its own figures, was not slower than the line by more than rounding and its sampling.
    let fastest = wait(world.client().calls(10))
        .unwrap()
        .iter()
        .filter_map(|call| call.answer_rate)
        .fold(0.0, f64::max);
    assert!(rate <= fastest * 1.5, "{rate} in the line, {fastest} by the calls");
    for span in ["hour", "day", "week"] {
        let granted = series(span, "pool:host:granted").unwrap();
        let last = granted["points"].as_array().unwrap().last().unwrap().clone();
        assert!(last["most"].as_f64().unwrap() > 1e6, "{granted}");
        assert!(series(span, "busy").is_some() && series(span, "queued").is_some());
    }
    let (status, problem) = wait(async {
        let url = format!("{}/manage/v1/history?span=year", world.address());
        let response = reqwest::get(url).await.unwrap();
        (response.status().as_u16(), response.text().await.unwrap())
    });
    assert!(status == 400 && problem.contains("hour"), "{problem}");
}

/// A program in a terminal of its own, with its keys.
struct Terminal {
    program: std::process::Child,
    seen: std::sync::Arc<std::sync::Mutex<String>>,
}

impl Terminal {
    fn run(world: &World, arguments: &str) -> Self {
        let deft = world.command(&[]);
        let mut command = Command::new("script");
        let line =
            format!("stty rows 30 cols 130; {} {arguments}", deft.get_program().to_string_lossy());
        command.args(["--quiet", "--return", "--flush", "--command", &line, "/dev/null"]);
        for (name, value) in deft.get_envs() {
            match value {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
        command.env("TERM", "xterm-256color").stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut program = command.spawn().unwrap();
        let mut output = program.stdout.take().unwrap();
        let seen = std::sync::Arc::<std::sync::Mutex<String>>::default();
        let all = std::sync::Arc::clone(&seen);
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(count @ 1..) = output.read(&mut bytes) {
                all.lock().unwrap().push_str(&String::from_utf8_lossy(&bytes[..count]));
            }
        });
        Self { program, seen }
    }

    fn press(&mut self, keys: &str) {
        let stdin = self.program.stdin.as_mut().unwrap();
        stdin.write_all(keys.as_bytes()).unwrap();
        stdin.flush().unwrap();
    }

    fn sees(&self, text: &str) {
        self.sees_often(text, 1);
    }

    fn sees_often(&self, text: &str, times: usize) {
        until(&format!("the terminal shows `{text}`"), || {
            (self.seen.lock().unwrap().matches(text).count() >= times).then_some(())
        });
    }

    fn ends(mut self) -> i32 {
        until("the program ends", || self.program.try_wait().unwrap()).code().unwrap()
    }
}

#[test]
fn the_watch_shows_it_all_and_its_keys_do_what_they_say() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    world.ok(&["load", "larkfen-desk-mini"]);
    let mut watch = Terminal::run(&world, "watch");
    watch.sees("larkfen-desk/q8_0");
    watch.sees("pages in use, cached");
    let names: Vec<String> = world.status().instances.into_iter().map(|found| found.name).collect();
    watch.press("p");
    until("it is pinned", || world.ready(&names[0]).settings.pinned.then_some(()));
    // The key changes the line of the instance, and the result is shown.
    watch.sees_often("pinned", 2);
    watch.press("p");
    until("it is not", || (!world.ready(&names[0]).settings.pinned).then_some(()));
    // The second line, and a change of mind before it.
    watch.press("u");
    watch.sees("(y/n)");
    watch.press("n\u{1b}[B");
    watch.press("uy");
    until("the other one is unloaded", || world.instance(&names[1]).is_none().then_some(()));
    assert!(world.instance(&names[0]).is_some());
    watch.press("q");
    assert_eq!(watch.ends(), 0);
    let said = world.deft(&["watch"]);
    assert!(said.code == 2 && said.err.contains("deft watch --json"), "{said:?}");
}

#[test]
fn a_line_of_json_tells_of_each_change() {
    let world = World::stocked();
    let mut command = world.command(&["watch", "--json"]);
    let mut watch = command.stdout(Stdio::piped()).spawn().unwrap();
    let output = std::io::BufReader::new(watch.stdout.take().unwrap());
    let mut lines = std::io::BufRead::lines(output);
    let first: ServiceStatus = serde_json::from_str(&lines.next().unwrap().unwrap()).unwrap();
    assert!(first.instances.is_empty());
    world.ok(&["load", "larkfen-desk"]);
    let is_there = lines.any(|line| {
        let status: ServiceStatus = serde_json::from_str(&line.unwrap()).unwrap();
        !status.instances.is_empty()
    });
    assert!(is_there);
    watch.kill().unwrap();
    watch.wait().unwrap();
}

#[test]
fn one_question_is_answered_side_by_side_and_kept() {
    let world = World::stocked();
    let models = "larkfen-desk,larkfen-desk-mini,larkfen-desk";
    let said = world.ok(&["ask", "--with", models, QUESTION, "--temperature", "0"]);
    let head = said.lines().next().unwrap();
    assert!(head.contains("larkfen-desk (1)") && head.contains("larkfen-desk-mini"), "{said}");
    assert_eq!(said.matches("Sow Moonhook bean 3 cm").count(), 3, "{said}");
    for figure in ["memory", "load", "first token", "tokens/s"] {
        assert!(said.contains(figure), "{said}");
    }
    let folder = world.data_dir();
    let file = folder.join("beside.md");
    let path = file.to_string_lossy();
    let said =
        world.deft(&["ask", "--with", models, QUESTION, "--unload-after", "--output", &path]);
    assert!(said.code == 0 && said.err.contains("written to"), "{said:?}");
    let kept = std::fs::read_to_string(&file).unwrap();
    assert!(kept.starts_with("# Side by side") && kept.contains("## larkfen-desk-mini"), "{kept}");
    until("each was unloaded after its answer", || {
        world.status().instances.is_empty().then_some(())
    });
    let json: Value = serde_json::from_str(&world.ok(&[
        "ask",
        "--with",
        "larkfen-desk",
        QUESTION,
        "--sequential",
        "--temperature",
        "0",
        "--json",
    ]))
    .unwrap();
    assert_eq!(json["answers"][0]["model"], "larkfen-desk");
    assert!(json["answers"][0]["memory_bytes"].as_u64().unwrap() > 1 << 20);
    // One that fails takes the others not with it.
    let said = world.deft(&["ask", "--with", "larkfen-desk,larkfen-gone", QUESTION]);
    assert!(said.code == 3 && said.out.contains("larkfen-gone"), "{said:?}");
    assert!(said.out.contains("Moonhook"), "{said:?}");
}

#[test]
fn answers_grow_side_by_side_in_a_terminal() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let ask = Terminal::run(
        &world,
        "ask --with larkfen-desk,larkfen-desk-mini 'How deep do I sow Moonhook bean?' --temperature 0",
    );
    ask.sees("Sow Moonhook bean");
    ask.sees("first token");
    assert_eq!(ask.ends(), 0);
}

#[test]
fn the_console_draws_what_was_and_lists_calls_that_ended() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    world.desk_answers();
    if std::env::var_os("DEFT_PICTURES").is_some() {
        // So that there is something to draw.
        world.ok(&["load", "larkfen-desk-mini"]);
        for turn in 0..90 {
            let question = format!("Tell me all about row {turn}.");
            for model in &["larkfen-desk", "larkfen-desk-mini"][..1 + turn % 2] {
                world.ok(&["ask", model, &question, "--temperature", "1.5", "--max-tokens", "90"]);
            }
            std::thread::sleep(std::time::Duration::from_millis(10 * (turn as u64 % 30)));
        }
    }
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{}/calls", world.address())).await.unwrap();
        browser.see("[data-outcome='stop']").await;
        browser.read_in("main .v-container", "deft at 127.0.0.1").await;
        browser.press("@aria-label='Pages'", "Pools").await;
        browser.see("[aria-label='History'] [data-span='hour'] canvas").await;
        browser.press("@aria-label='History'", "last day").await;
        let panel = browser.see("[aria-label='History'] [data-span='day']").await;
        for title in ["Memory", "Speed", "Load"] {
            assert!(panel.text().await.unwrap().contains(title));
        }
        browser.press("@aria-label='History'", "last hour").await;
        browser.see("[aria-label='History'] [data-span='hour']").await;
        let scroll = "document.querySelector('[aria-label=History]').scrollIntoView()";
        browser.page.execute(scroll, Vec::new()).await.unwrap();
        browser.picture("console-history").await;
    });
}

#[test]
fn the_console_asks_side_by_side_and_keeps_what_came() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{}/try?way=several", world.address())).await.unwrap();
        browser.see(".v-select .v-field").await.click().await.unwrap();
        browser.press_item("larkfen-desk/q8_0").await;
        browser.press_item("larkfen-desk-mini/q8_0").await;
        close_menu(&browser).await;
        let field = browser.see("textarea").await;
        field.send_keys(QUESTION).await.unwrap();
        browser.press("self::form", "Ask all").await;
        for model in ["larkfen-desk/q8_0", "larkfen-desk-mini/q8_0"] {
            let column = browser.see(&format!("[data-column='{model}']")).await;
            until_reported(&column, &["3 cm", "first token", "MiB", "/s"]).await;
        }
        browser.press("self::main", "Save").await;
        browser.see("[aria-label='Saved comparisons']").await;
        browser.picture("console-side-by-side").await;
        browser.page.refresh().await.unwrap();
        browser.press("@aria-label='Saved comparisons'", "Show").await;
        browser.see("[data-column='larkfen-desk/q8_0']").await;
        // One after the other, each unloaded after its answer.
        browser.see(".v-select .v-field").await.click().await.unwrap();
        browser.press_item("larkfen-desk-mini/q8_0").await;
        close_menu(&browser).await;
        let field = browser.see("textarea").await;
        browser
            .see("[aria-label='One after the other, unloading each']")
            .await
            .click()
            .await
            .unwrap();
        field.send_keys(QUESTION).await.unwrap();
        browser.press("self::form", "Ask all").await;
        let column = browser.see("[data-column='larkfen-desk-mini/q8_0']").await;
        until_reported(&column, &["3 cm", "first token"]).await;
    });
    until("it was unloaded", || world.instance("larkfen-desk-mini/q8_0").is_none().then_some(()));
    assert!(world.instance("larkfen-desk/q8_0").is_some());
}

async fn close_menu(browser: &Browser) {
    let focused = browser.page.active_element().await.unwrap();
    focused.send_keys(&Key::Escape.to_string()).await.unwrap();
    let deadline = tokio::time::Instant::now() + PATIENCE;
    while browser.page.find(fantoccini::Locator::Css(".v-overlay--active")).await.is_ok() {
        assert!(tokio::time::Instant::now() < deadline, "the menu stays open");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}

async fn until_reported(column: &fantoccini::elements::Element, words: &[&str]) {
    let deadline = tokio::time::Instant::now() + PATIENCE;
    loop {
        let text = column.text().await.unwrap();
        if words.iter().all(|word| text.contains(word)) {
            return;
        }
        assert!(tokio::time::Instant::now() < deadline, "{words:?} are not all in:\n{text}");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}
