//! `deft watch`: a live view of the service.

mod draw;
#[cfg(test)]
mod tests;
mod view;

use std::io::IsTerminal;
use std::time::Duration;

use deft_client::Client;
use deft_protocol::manage::{LoadRequest, SettingsRequest};
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use tokio::sync::mpsc;

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;
use view::{Act, Key, View};

/// Longest pause between two drawings, so that times advance.
const DRAW_EVERY: Duration = Duration::from_millis(500);

pub(super) async fn run(common: &Common) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    if common.json {
        let mut statuses = client.events().await?;
        loop {
            let status = statuses.next().await?;
            print::json_line(&status);
        }
    }
    if !std::io::stdout().is_terminal() {
        return Err(Failure::usage("`deft watch` needs a terminal").with_way_out(
            "show the present state: deft status; print a line of JSON for every change: deft watch --json",
        ));
    }
    let mut terminal = ratatui::try_init()?;
    let watched = watch(&client, &mut terminal).await;
    ratatui::restore();
    watched
}

async fn watch(client: &Client, terminal: &mut ratatui::DefaultTerminal) -> Result<(), Failure> {
    let mut statuses = client.events().await?;
    let mut keys = keys();
    let (done, mut outcomes) = mpsc::unbounded_channel();
    let mut view = View::default();
    let mut clock = tokio::time::interval(DRAW_EVERY);
    loop {
        terminal.draw(|frame| draw::draw(frame, &view))?;
        tokio::select! {
            status = statuses.next() => view.take(status?, std::time::Instant::now()),
            key = keys.recv() => match key.map(|key| view.press(key)) {
                None | Some(Some(Act::Leave)) => return Ok(()),
                Some(Some(act)) => {
                    let (client, done) = (client.clone(), done.clone());
                    tokio::spawn(async move {
                        // The view may have ended.
                        let _ = done.send(carry_out(&client, act).await);
                    });
                }
                Some(None) => {}
            },
            Some(outcome) = outcomes.recv() => view.say(outcome),
            _ = clock.tick() => {}
        }
    }
}

/// Carries out the action of a key, and returns a message about it.
async fn carry_out(client: &Client, act: Act) -> String {
    let (result, said) = match act {
        Act::Leave => return String::new(),
        Act::Unload(instance) => {
            let said = format!("`{}` is unloaded", instance.title());
            (client.unload(instance.id, false).await, said)
        }
        Act::Pin(instance) => {
            let pinned = !instance.settings.pinned;
            let settings = SettingsRequest {
                pinned: Some(pinned),
                ..SettingsRequest::from(&instance.settings)
            };
            let request = LoadRequest::of(instance.name.clone(), settings);
            let now = if pinned { "pinned" } else { "no longer pinned" };
            let said = format!("`{}` is {now}", instance.name);
            (client.load(&request).await.map(|_| ()), said)
        }
        Act::Cancel(call) => {
            let said = format!("cancelled the call of `{}`", call.name);
            (client.cancel_call(call.id).await, said)
        }
    };
    match result {
        Ok(()) => said,
        Err(error) => Failure::from(error).to_string(),
    }
}

/// Pressed keys, read by a thread that ends with the program.
fn keys() -> mpsc::UnboundedReceiver<Key> {
    let (send, keys) = mpsc::unbounded_channel();
    std::thread::spawn(move || {
        while let Ok(event) = event::read() {
            if let Event::Key(key) = event
                && key.kind != KeyEventKind::Release
                && let Some(key) = meaning(key)
                && send.send(key).is_err()
            {
                return;
            }
        }
    });
    keys
}

fn meaning(key: KeyEvent) -> Option<Key> {
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    Some(match key.code {
        KeyCode::Char('c') if control => Key::Leave,
        KeyCode::Char('q') | KeyCode::Esc => Key::Leave,
        KeyCode::Up => Key::Up,
        KeyCode::Down => Key::Down,
        KeyCode::Char('u') => Key::Unload,
        KeyCode::Char('p') => Key::Pin,
        KeyCode::Char('c') => Key::Cancel,
        KeyCode::Char('y') => Key::Yes,
        KeyCode::Char('n') => Key::No,
        _ => return None,
    })
}
