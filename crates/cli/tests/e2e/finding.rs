//! The console's page for what sources offer, in a real browser.

use deft_standins::Behaviour;
use fantoccini::Locator;

use crate::browser::Browser;
use crate::sources::Shelf;
use crate::world::{World, desk, wait};

async fn write(browser: &Browser, label: &str, text: &str) {
    let path = format!("//label[normalize-space(.)=\"{label}\"]/following::input[1]");
    let field = browser.page.find(Locator::XPath(&path)).await;
    field.unwrap_or_else(|error| panic!("no `{label}`: {error}")).send_keys(text).await.unwrap();
}

#[test]
fn an_operator_adds_a_source_searches_it_judges_an_offer_and_fetches_it() {
    let shelf = Shelf::new();
    let world = World::new().start();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/find")).await.unwrap();
        browser.read("No sources.").await;
        browser.press("self::main", "Sources").await;
        browser.see("[aria-label='Sources']").await;
        write(&browser, "Name", "larkfen").await;
        let field = "Address, or folder on the service's machine";
        write(&browser, field, &shelf.url("index")).await;
        browser.press("@aria-label='Sources'", "Add").await;
        browser.see("[data-source='larkfen']").await;
        browser.press("@data-source='larkfen'", "Check").await;
        browser.read("offers 4 variants").await;
        browser.press("@aria-label='Sources'", "Close").await;
        browser.see("[data-offer='larkfen:larkfen-find/q8_0']").await;
        write(&browser, "Search terms", "desk chat").await;
        browser.press("self::main", "Search").await;
        browser.see("[data-offer='larkfen:larkfen-desk/q8_0']").await;
        browser.picture("console-find").await;
        browser.press("@data-offer='larkfen:larkfen-desk/q8_0'", "Preview").await;
        browser.see("[aria-label='Plans']").await;
        for part in ["Estimated speed", "free afterwards", "in the file", "larkfen-desk-q8_0.gguf"]
        {
            browser.read(part).await;
        }
        browser.picture("console-preview").await;
        // It takes minutes until it was seen to happen.
        let rate = Some(desk().metadata().unwrap().len() / 600);
        shelf.hub.behave(Behaviour { rate, ..Behaviour::default() });
        browser.press("@aria-label='Preview'", "Pull").await;
        browser.see("[data-transfer='running']").await;
        browser.page.goto(&format!("{address}/depot")).await.unwrap();
        browser.see("[data-transfer='running']").await;
        shelf.hub.behave(Behaviour::default());
        browser.see("[data-variant='larkfen-desk/q8_0']").await;
        browser.read("stored as `larkfen-desk/q8_0`").await;
        browser.page.goto(&format!("{address}/find")).await.unwrap();
        browser.read("in the depot as larkfen-desk/q8_0").await;
        browser.page.clone().close().await.unwrap();
    });
    world.desk_answers();
}

#[test]
fn what_a_source_refuses_is_reported_on_the_page() {
    let shelf = Shelf::new();
    let world = shelf.world();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/find")).await.unwrap();
        browser.see("[data-offer='larkfen:larkfen-desk/q8_0']").await;
        let status = Some(401);
        shelf.hub.behave(Behaviour { status, ..Behaviour::default() });
        browser.press("self::main", "Search").await;
        browser.read("needs a token").await;
        browser.press("self::main", "By reference").await;
        write(&browser, "Reference or address", "larkfen:larkfen-desk/q8_0").await;
        browser.press("@aria-label='Preview'", "Show").await;
        browser.see("[aria-label='Preview'] [role='alert']").await;
        shelf.hub.behave(Behaviour::default());
        browser.press("@aria-label='Preview'", "Show").await;
        browser.see("[aria-label='Plans']").await;
        browser.page.clone().close().await.unwrap();
    });
}
