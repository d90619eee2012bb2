//! Web pages of others.

use crate::world::{World, wait};

#[test]
fn a_foreign_page_or_name_reaches_nothing() {
    let world = World::new().start();
    let address = world.address();
    let port = address.rsplit(':').next().unwrap().to_owned();
    let ask = |headers: Vec<(&'static str, String)>| {
        let url = format!("{address}/manage/v1/depot/register");
        wait(async move {
            let mut request = reqwest::Client::new().post(url).body("{\"path\": \"/etc/passwd\"}");
            for (name, value) in headers {
                request = request.header(name, value);
            }
            let response = request.send().await.unwrap();
            assert!(response.headers().get("access-control-allow-origin").is_none());
            (response.status().as_u16(), response.text().await.unwrap())
        })
    };
    let (status, text) = ask(vec![("origin", "http://seeds.example".to_owned())]);
    assert!(status == 403 && text.contains("origin_refused"), "{status} {text}");
    let (status, text) = ask(vec![("host", format!("seeds.example:{port}"))]);
    assert!(status == 403 && text.contains("host_refused"), "{status} {text}");
    let (status, _) = ask(vec![("origin", "null".to_owned())]);
    assert_eq!(status, 403);
    // The console's own origin passes the guard and meets the depot's refusal.
    let (status, text) = ask(vec![("origin", format!("http://127.0.0.1:{port}"))]);
    assert!(status == 409 && text.contains("not a GGUF file"), "{status} {text}");
}

#[test]
fn only_loopback_is_listened_on() {
    let world = World::new();
    let said = world.deft(&["service", "start", "--listen", "0.0.0.0:0"]);
    assert!(said.code == 2 && said.err.contains("only loopback"), "{said:?}");
}
