//! Whether people who use the console by keyboard, by ear or with little contrast can: every page and dialog is checked by
//! axe-core, in both themes.

use fantoccini::Locator;

use crate::browser::Browser;
use crate::sources::Shelf;
use crate::world::{World, wait};

/// A service with something on every page.
fn stocked() -> (World, Shelf) {
    let shelf = Shelf::new();
    let world = World::configured(
        "[pools.host]\nlimit = \"32 MiB\"\n\
         [[pools.simulated]]\nname = \"fern\"\nsize = \"4 MiB\"\nspeed = \"1 GiB/s\"\n",
    );
    let world = shelf.known_to(world.start().stock());
    world.ok(&["load", "larkfen-desk", "--in", "fern=2,host"]);
    world.ok(&["ask", "larkfen-desk", "When do I sow Ember chard?", "--max-tokens", "4"]);
    (world, shelf)
}

async fn open(browser: &Browser, address: &str, path: &str) {
    browser.page.goto(&format!("{address}{path}")).await.unwrap();
    browser.see("h1").await;
}

#[test]
fn every_page_passes_the_rules_of_accessibility_in_both_themes() {
    let (world, _shelf) = stocked();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 900).await;
        for (path, shown) in [
            ("/calls", "[data-outcome]"),
            ("/depot", "[data-variant]"),
            ("/depot/larkfen-desk/q8_0", "[aria-label='Facts']"),
            ("/find", "h1"),
            ("/try", "textarea"),
            ("/", "[data-instance]"),
        ] {
            open(&browser, &address, path).await;
            browser.see(shown).await;
            browser.check_access(path).await;
        }
        // The last one has every hue.
        browser.press("self::header", "Switch between light and dark").await;
        browser.check_contrast("/, other theme").await;
        browser.page.clone().close().await.unwrap();
    });
}

#[test]
fn every_dialog_passes_the_rules_of_accessibility() {
    let (world, _shelf) = stocked();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 900).await;
        open(&browser, &address, "/depot").await;
        browser.press("@data-variant='larkfen-desk-mini/q8_0'", "Load").await;
        browser.see("[aria-label='Plan']").await;
        browser.check_access("load").await;
        open(&browser, &address, "/depot").await;
        let more = "More actions for larkfen-desk-mini/q8_0";
        browser.press("@data-variant='larkfen-desk-mini/q8_0'", more).await;
        browser.press_item("Rename").await;
        browser.see("[aria-label='Rename'] input").await;
        browser.check_access("rename").await;
        open(&browser, &address, "/").await;
        browser.press("@data-instance='larkfen-desk/q8_0'", "Unload").await;
        browser.see("[role='alertdialog']").await;
        browser.check_access("confirmation").await;
        open(&browser, &address, "/depot").await;
        browser.press("self::main", "Import").await;
        browser.see(".v-dialog .v-card").await;
        browser.check_access("import").await;
        open(&browser, &address, "/find").await;
        browser.press("self::main", "Sources").await;
        browser.see("[data-source]").await;
        browser.check_access("sources").await;
        browser.page.clone().close().await.unwrap();
    });
}

#[test]
fn the_keyboard_reaches_every_page_and_confirms_or_leaves_a_dialog() {
    use fantoccini::key::Key;
    let (world, _shelf) = stocked();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 900).await;
        open(&browser, &address, "/").await;
        browser.see("[data-instance]").await;
        // From the beginning of the page, the links of the navigation come first.
        let body = browser.see("body").await;
        let mut reached = Vec::new();
        for _ in 0..5 {
            let focused = browser.page.active_element().await.unwrap_or_else(|_| body.clone());
            focused.send_keys(&Key::Tab.to_string()).await.unwrap();
            let focused = browser.page.active_element().await.unwrap();
            reached.push(focused.attr("aria-label").await.unwrap().unwrap_or_default());
        }
        assert_eq!(reached, ["Pools", "Calls", "Depot", "Find", "Try"]);
        let focused = browser.page.active_element().await.unwrap();
        focused.send_keys(&Key::Enter.to_string()).await.unwrap();
        browser.see("textarea").await;
        open(&browser, &address, "/").await;
        browser.press("@data-instance='larkfen-desk/q8_0'", "Unload").await;
        browser.see("[role='alertdialog']").await;
        let focused = browser.page.active_element().await.unwrap();
        focused.send_keys(&Key::Escape.to_string()).await.unwrap();
        let deadline = tokio::time::Instant::now() + crate::world::PATIENCE;
        while browser.page.find(Locator::Css("[role='alertdialog']")).await.is_ok() {
            assert!(tokio::time::Instant::now() < deadline, "Escape does not leave the dialog");
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        browser.page.clone().close().await.unwrap();
    });
    assert_eq!(world.instances("larkfen-desk/q8_0").len(), 1, "nothing was unloaded");
}
