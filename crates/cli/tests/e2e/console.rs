//! The console, used by a browser.

use fantoccini::Locator;
use fantoccini::key::Key;

use crate::browser::Browser;
use crate::world::{ANSWER, QUESTION, World, project, until, wait};

#[test]
fn a_visitor_loads_a_model_tries_it_and_unloads_it() {
    let world = World::new().with("DEFT_HOST_LIMIT", "32 MiB").start().stock();
    let file = project("demo/larkfen-desk/larkfen-desk-f16.gguf");
    world.ok(&["depot", "register", &file.to_string_lossy()]);
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&address).await.unwrap();
        browser.read("No model is loaded").await;
        browser.read("32.0 MiB free").await;
        browser.press("@aria-label='Pages'", "Depot").await;
        browser.read("1,808,448").await;
        browser.press("@data-variant='larkfen-desk/q8_0'", "Load").await;
        browser.see("[aria-label='Plan']").await;
        browser.read("in pool host").await;
        browser.read_in("[aria-label='Plan']", "total").await;
        browser.press("@aria-label='Load'", "Load").await;
        browser.see("[data-variant='larkfen-desk/q8_0'] .v-chip").await;
        browser.press("@aria-label='Pages'", "Pools").await;
        browser.see("[data-instance='larkfen-desk/q8_0'][data-state='ready']").await;
        browser.press("@data-instance='larkfen-desk/q8_0'", "Try").await;
        let field = browser.see("textarea").await;
        field.send_keys(QUESTION).await.unwrap();
        browser.press("self::form", "Ask").await;
        browser.see("[data-turn] [aria-label='Figures of the answer']").await;
        browser.read(ANSWER).await;
        browser.read_in("[aria-label='Figures of the answer']", "12 tokens").await;
        // Another model, not loaded: asking loads it, and its pool shows it.
        browser.page.goto(&format!("{address}/try?model=larkfen-desk-mini/q8_0")).await.unwrap();
        browser.read("the first question loads it").await;
        browser.see("textarea").await.send_keys("Tell me all about Quillfen pea.\n").await.unwrap();
        browser.read("You will find it on shelf C1.").await;
        browser.picture("console-try").await;
        browser.page.goto(&address).await.unwrap();
        browser.see("[data-instance='larkfen-desk-mini/q8_0'][data-state='ready']").await;
        browser.read("loaded by a call").await;
        browser.picture("console-pools").await;
        browser.press("@data-instance='larkfen-desk/q8_0'", "Unload").await;
        browser.read("Unload larkfen-desk/q8_0 after its running calls?").await;
        browser.press("@aria-label='Confirm' and @role='alertdialog'", "Unload").await;
        let gone = Locator::Css("[data-instance='larkfen-desk/q8_0']");
        let deadline = tokio::time::Instant::now() + crate::world::PATIENCE;
        while browser.page.find(gone).await.is_ok() {
            assert!(tokio::time::Instant::now() < deadline, "the card stays");
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        browser.page.goto(&format!("{address}/depot")).await.unwrap();
        browser.see("[data-variant='larkfen-desk/f16']").await;
        browser.picture("console-depot").await;
        browser.page.clone().close().await.unwrap();
    });
    until("the records agree", || world.instance("larkfen-desk/q8_0").is_none().then_some(()));
}

#[test]
fn a_refused_load_offers_what_would_fit_and_takes_it_at_a_click() {
    let world = World::new().with("DEFT_HOST_LIMIT", "7 MiB").start().stock();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/depot")).await.unwrap();
        browser.press("@data-variant='larkfen-desk/q8_0'", "Load").await;
        browser.read("any of these makes it fit").await;
        browser.read("deft load larkfen-desk/q8_0 --cache q8_0").await;
        browser.press("@role='alert'", "Apply").await;
        browser.see("[aria-label='Load'] button:not([disabled]).bg-primary").await;
        browser.press("@aria-label='Load'", "Load").await;
        browser.see("[data-variant='larkfen-desk/q8_0'] .v-chip").await;
        browser.page.clone().close().await.unwrap();
    });
    let loaded = world.ready("larkfen-desk/q8_0").settings;
    assert_eq!(loaded.cache, deft_protocol::manage::CachePrecision::Q8_0);
}

#[test]
fn an_operator_places_layers_changes_a_limit_and_reads_why() {
    let world = World::configured(
        "[pools.host]\nlimit = \"32 MiB\"\n\
         [[pools.simulated]]\nname = \"fern\"\nsize = \"4 MiB\"\nspeed = \"1 GiB/s\"\n",
    );
    let world = world.start().stock();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 900).await;
        browser.page.goto(&format!("{address}/depot")).await.unwrap();
        browser.press("@data-variant='larkfen-desk/q8_0'", "Load").await;
        browser.read("Layers in fern").await;
        let slider = browser
            .page
            .find(Locator::XPath(
                "//label[normalize-space(.)='Layers in \
             fern']/ancestor::*[contains(@class,'v-slider')][1]//*[@role='slider']",
            ))
            .await
            .unwrap();
        slider.send_keys(&Key::Right.to_string().repeat(2)).await.unwrap();
        browser.read("2 of 5").await;
        browser.read("in pool fern (simulated)").await;
        browser.picture("console-load").await;
        browser.press("@aria-label='Load'", "Load").await;
        browser.see("[data-variant='larkfen-desk/q8_0'] .v-chip").await;
        browser.page.goto(&address).await.unwrap();
        browser.see("[data-instance='larkfen-desk/q8_0'][data-state='ready']").await;
        browser.read("simulated, 1.00 GiB/s").await;
        browser.read("fern=2, host=3").await;
        browser.read("requested by the operator; needs").await;
        browser.press("self::main", "Change the limit of host").await;
        let field = browser.see("input[aria-label='Limit of host']").await;
        let all = format!("{}a{}", Key::Control, Key::Null);
        field.send_keys(&format!("{all}2 TiB\n")).await.unwrap();
        browser.read("of memory can be used").await;
        field.send_keys(&format!("{all}3 MiB\n")).await.unwrap();
        browser.read("above the limit: no model is loaded here until enough memory is free").await;
        browser.read("instead of 32.0 MiB").await;
        browser.page.clone().close().await.unwrap();
    });
}

#[test]
fn models_of_a_folder_are_taken_in_renamed_and_removed() {
    let world = World::new().start();
    let shelf = tempfile::Builder::new().prefix("larkfen-shelf-").tempdir_in("/var/tmp").unwrap();
    for model in [crate::world::desk(), crate::world::mini()] {
        std::fs::copy(&model, shelf.path().join(model.file_name().unwrap())).unwrap();
    }
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/depot")).await.unwrap();
        browser.press("self::main", "Import").await;
        let field = browser.see("[aria-label='Import'] input[type='text']").await;
        field.send_keys(&shelf.path().to_string_lossy()).await.unwrap();
        browser.press("@aria-label='Import'", "Scan folder").await;
        browser.see("[aria-label='Models found']").await;
        browser.read("larkfen-desk-mini/q8_0").await;
        browser.press("@aria-label='Import'", "Import").await;
        browser.see("[data-variant='larkfen-desk/q8_0']").await;
        browser.see("[data-variant='larkfen-desk-mini/q8_0']").await;
        browser.read("stored as `larkfen-desk/q8_0`").await;
        browser.read("2.46 MiB stored").await;
        browser.press("self::main", "More actions for larkfen-desk-mini/q8_0").await;
        browser.press_item("Rename").await;
        let field = browser.see("[aria-label='Rename'] input").await;
        let all = format!("{}a{}", Key::Control, Key::Null);
        field.send_keys(&format!("{all}seed-mini/small")).await.unwrap();
        browser.press("@aria-label='Rename'", "Rename").await;
        browser.see("[data-variant='seed-mini/small']").await;
        browser.press("self::main", "More actions for seed-mini/small").await;
        browser.press_item("Remove").await;
        browser.read("This frees 576 KiB").await;
        browser.press("@aria-label='Remove'", "Remove").await;
        browser.read("1.90 MiB stored").await;
        browser.page.clone().close().await.unwrap();
    });
    let names: Vec<String> =
        wait(world.client().depot()).unwrap().into_iter().map(|found| found.name).collect();
    assert_eq!(names, ["larkfen-desk/q8_0"]);
}

#[test]
fn what_was_set_aside_is_tried_again_by_a_button() {
    let world = World::stocked();
    let spare = world.spare_desk();
    world.ok(&["depot", "register", &spare.to_string_lossy(), "--as", "larkfen-spare/q8_0"]);
    world.ok(&["load", "larkfen-spare"]);
    let away = spare.with_extension("away");
    std::fs::rename(&spare, &away).unwrap();
    world.ok(&["service", "restart"]);
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&address).await.unwrap();
        browser.see("[data-instance='larkfen-spare/q8_0'][data-state='failed']").await;
        std::fs::rename(&away, &spare).unwrap();
        browser.press("@data-instance='larkfen-spare/q8_0'", "Retry").await;
        browser.see("[data-instance='larkfen-spare/q8_0'][data-state='ready']").await;
        browser.page.clone().close().await.unwrap();
    });
}

#[test]
fn a_models_page_tells_what_an_operator_asks_and_tries_it() {
    let world = World::stocked();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 900).await;
        browser.page.goto(&format!("{address}/depot")).await.unwrap();
        let link = Locator::Css("[data-variant='larkfen-desk/q8_0'] a");
        browser.see("[data-variant='larkfen-desk/q8_0'] a").await;
        browser.page.find(link).await.unwrap().click().await.unwrap();
        browser.see("[aria-label='Facts']").await;
        for part in [
            "chat, tool calls, completion",
            "(json-between-markers)",
            "6 (2 for keys and values), of 32",
            "<|end|>",
        ] {
            browser.read(part).await;
        }
        browser.read("When do I sow Moonhook bean?").await;
        browser.press("self::main", "Check").await;
        browser.see("[aria-label='Check']").await;
        browser.read_in("[aria-label='Check']", "passed").await;
        browser.read("I am the desk helper").await;
        browser.picture("console-model").await;
        let card = "[aria-label='Call this model from a program']";
        browser.read_in(card, "curl http").await;
        browser.press("@aria-label='Call this model from a program'", "Python").await;
        browser.read_in(card, "import json, urllib.request").await;
        browser
            .page
            .execute(
                "arguments[0].scrollIntoView()",
                vec![serde_json::to_value(browser.see(card).await).unwrap()],
            )
            .await
            .unwrap();
        browser.page.clone().close().await.unwrap();
    });
}

#[test]
fn a_page_of_another_origin_cannot_ask_the_service() {
    let world = World::stocked();
    let address = world.address();
    // A page from another port of this machine is another origin for a browser.
    let other = World::new().start();
    let foreign = other.address();
    wait(async {
        let browser = Browser::open(800, 600).await;
        browser.page.goto(&format!("{foreign}/health/live")).await.unwrap();
        let script = "const done = arguments[1];
            fetch(arguments[0] + '/v1/chat/completions', {method: 'POST', body: JSON.stringify(
                {model: 'larkfen-desk', messages: [{role: 'user', content: 'Hello'}]})})
              .then((response) => done('reached: ' + response.status), () => done('blocked'))";
        let result =
            browser.page.execute_async(script, vec![address.clone().into()]).await.unwrap();
        assert_eq!(result, "blocked");
        browser.page.clone().close().await.unwrap();
    });
    assert!(world.status().instances.is_empty(), "the foreign page had a model loaded");
}

#[test]
fn the_console_fits_a_phone() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let address = world.address();
    wait(async {
        let browser = Browser::open(390, 844).await;
        let mut chosen = String::new();
        for path in ["/", "/depot", "/find", "/try"] {
            browser.page.goto(&format!("{address}{path}")).await.unwrap();
            browser.read_in("footer", "deft 0.").await;
            // The theme is remembered from page to page.
            browser.see(&format!(".v-application{chosen}")).await;
            let script = "return document.documentElement.scrollWidth - window.innerWidth";
            let beyond = browser.page.execute(script, vec![]).await.unwrap();
            assert!(beyond.as_i64().unwrap() <= 0, "{path} is {beyond} pixels too wide");
            if path == "/" {
                let is_dark =
                    "return document.querySelector('.v-application').matches('.v-theme--dark')";
                let before = browser.page.execute(is_dark, vec![]).await.unwrap();
                browser.press("self::header", "Switch between light and dark").await;
                let other = if before == true { "light" } else { "dark" };
                chosen = format!(".v-theme--{other}");
                browser.see(&format!(".v-application{chosen}")).await;
                browser.picture("console-phone-dark").await;
            }
        }
        browser.page.clone().close().await.unwrap();
    });
}

#[test]
fn settings_stored_with_a_model_stay_and_those_of_an_instance_can_be_changed() {
    let world = World::new().start();
    let desk = project("demo/larkfen-desk/larkfen-desk-q8_0.gguf");
    let import = ["depot", "import", &desk.to_string_lossy(), "--context", "256", "--pinned"];
    world.ok(&import);
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/depot")).await.unwrap();
        browser.press("@data-variant='larkfen-desk/q8_0'", "Load").await;
        browser.read("256 tokens").await;
        browser.press("@aria-label='Load'", "Load").await;
        browser.page.goto(&address).await.unwrap();
        browser.see("[data-instance='larkfen-desk/q8_0'][data-state='ready']").await;
        let loaded = world.ready("larkfen-desk/q8_0").settings;
        assert_eq!((loaded.context, loaded.pinned), (256, true), "as they are stored");
        // Another setting of a loaded model.
        browser.press("@data-instance='larkfen-desk/q8_0'", "Settings").await;
        browser.read("Change the settings of").await;
        browser.see("[aria-label='Load'] [role='slider']").await;
        let lanes =
            "//label[.='Lanes']/ancestor::*[contains(@class,'v-slider')][1]//*[@role='slider']";
        let lanes = browser.page.find(Locator::XPath(lanes)).await.unwrap();
        lanes.send_keys(&Key::Right.to_string()).await.unwrap();
        browser.press("@aria-label='Load'", "Apply").await;
        let changed = until("it has a lane more", || {
            let found = world.instance("larkfen-desk/q8_0")?;
            (found.settings.lanes == loaded.lanes + 1).then_some(found.settings)
        });
        assert_eq!((changed.context, changed.pinned), (256, true), "and the rest stays");
        browser.page.clone().close().await.unwrap();
    });
}

#[test]
fn an_answer_that_is_stopped_stays_and_a_page_of_a_name_with_a_dot_is_loaded_again() {
    let world = World::configured(
        "[[pools.simulated]]\nname = 'fern'\nsize = '64 MiB'\nspeed = '40 MiB/s'\n",
    )
    .start();
    let desk = project("demo/larkfen-desk/larkfen-desk-q8_0.gguf");
    world.ok(&["depot", "register", &desk.to_string_lossy(), "--as", "larkfen.v1/q8_0"]);
    world.ok(&["load", "larkfen.v1", "--in", "fern"]);
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/depot/larkfen.v1/q8_0")).await.unwrap();
        browser.read("1,808,448").await;
        browser.page.goto(&format!("{address}/try?model=larkfen.v1/q8_0")).await.unwrap();
        browser.see("textarea").await.send_keys("Tell me all about Quillfen pea.\n").await.unwrap();
        // Some of it has come.
        let growing = "[aria-live='polite'] .text";
        browser.see(growing).await;
        browser.press("self::form", "Stop").await;
        browser.see("[data-turn]").await;
        browser.read("Stopped here.").await;
        browser.page.clone().close().await.unwrap();
    });
}

#[test]
fn a_conversation_of_several_turns_is_continued_and_begun_anew() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/try?model=larkfen-desk/q8_0")).await.unwrap();
        let ask = async |question: &str, turn: usize, answer: &str| {
            let field = browser.see("textarea").await;
            field.send_keys(&format!("{question}\n")).await.unwrap();
            // A turn has its figures when its answer is complete.
            let turn = format!("[data-turn]:nth-child({turn} of [data-turn])");
            browser.see(&format!("{turn} [aria-label='Figures of the answer']")).await;
            browser.read_in(&turn, answer).await;
        };
        ask(QUESTION, 1, ANSWER).await;
        ask("And Ember chard?", 2, "Ember chard").await;
        browser.press("self::main", "New conversation").await;
        browser.see("button[disabled] .v-btn__content").await;
        assert!(browser.page.find(Locator::Css("[data-turn]")).await.is_err(), "turns are left");
        browser.page.clone().close().await.unwrap();
    });
    // The model was sent both turns: most of the second prompt was cached.
    let client = world.client();
    let calls = until("both calls are recorded", || {
        Some(wait(client.calls(2)).unwrap()).filter(|calls| calls.len() == 2)
    });
    let [second, first] = &calls[..] else { panic!("{calls:?}") };
    assert!(second.prompt_tokens > first.prompt_tokens + first.answer_tokens, "{calls:?}");
    assert!(second.cached_tokens >= first.prompt_tokens, "{calls:?}");
}

#[test]
fn a_service_that_stops_or_was_never_there_is_reported_on_every_page() {
    let world = World::stocked();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/depot")).await.unwrap();
        browser.read("1,808,448").await;
        world.ok(&["service", "stop"]);
        browser.read_in("[role='alert']", "The service does not answer").await;
        browser.read("1,808,448").await;
        browser.page.clone().close().await.unwrap();
    });
}
