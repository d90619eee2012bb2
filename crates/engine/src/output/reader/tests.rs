use proptest::prelude::*;

use super::*;
use crate::output::{CallKind, of_kind};

fn markers() -> ReasoningMarkers {
    ReasoningMarkers {
        opening: "<think>".to_owned(),
        closing: "</think>".to_owned(),
        closing_text: "\n</think>\n\n".to_owned(),
        begins_open: false,
    }
}

/// Reads an output in pieces; neighbouring events of the same kind are joined.
fn read(kind: Option<CallKind>, is_open: bool, pieces: &[String]) -> Vec<Event> {
    let form = kind.map(|kind| Arc::new(of_kind(kind)));
    let mut reader = Reader::new(Some(markers()), form, Arc::from(["f".to_owned()]), is_open);
    let mut events = Vec::new();
    for piece in pieces {
        reader.push(piece, &mut events);
    }
    reader.finish(&mut events);
    events
}

fn pieces(text: &str, cut: usize) -> Vec<String> {
    let characters: Vec<char> = text.chars().collect();
    characters.chunks(cut).map(|piece| piece.iter().collect()).collect()
}

fn text(text: &str) -> Event {
    Event::Text(text.to_owned())
}

fn thought(text: &str) -> Event {
    Event::Reasoning(text.to_owned())
}

#[test]
fn reasoning_is_separated_from_the_answer() {
    let output = "<think>\nBeans like it warm.\n</think>\n\nIn May.";
    for cut in 1..12 {
        let events = read(None, false, &pieces(output, cut));
        assert_eq!(events, [thought("Beans like it warm."), text("In May.")], "{cut}");
    }
    let open = read(None, true, &pieces("Warm.</think>In May.", 3));
    assert_eq!(open, [thought("Warm."), text("In May.")]);
    let unfinished = read(None, true, &pieces("Warm and", 3));
    assert_eq!(unfinished, [thought("Warm and")]);
}

#[test]
fn markers_in_the_middle_of_an_answer_are_text() {
    let output = "The tag <think> begins a thought.";
    assert_eq!(read(None, false, &pieces(output, 5)), [text(output)]);
    assert_eq!(read(None, false, &pieces(" <thin", 2)), [text(" <thin")]);
}

#[test]
fn a_call_may_follow_the_reasoning() {
    let output = "<think>I look.</think>\n<call>\n{\"name\": \"f\", \"arguments\": {}}\n</call>";
    for cut in [1, 4, 100] {
        let events = read(Some(CallKind::JsonBetweenMarkers), false, &pieces(output, cut));
        let call = Event::Call { index: 0, name: "f".to_owned() };
        let arguments = Event::Arguments { index: 0, text: "{}".to_owned() };
        assert_eq!(events, [thought("I look."), call, arguments], "{cut}");
    }
}

#[test]
fn what_is_no_call_stays_text() {
    for output in [
        "<call>never mind</call>",
        "<call>{\"name\": \"unknown\", \"arguments\": {}}</call>",
        "Prices: <cal",
        "<call>{\"name\": 5}",
    ] {
        for cut in 1..10 {
            let events = read(Some(CallKind::JsonBetweenMarkers), false, &pieces(output, cut));
            assert_eq!(events, [text(output)], "{cut}");
        }
    }
}

#[test]
fn the_place_where_a_call_failed_is_known() {
    let form = Arc::new(of_kind(CallKind::JsonBetweenMarkers));
    let mut reader = Reader::new(None, Some(form), Arc::from(["f".to_owned()]), false);
    let mut events = Vec::new();
    reader.push("<call>{\"name\": \"f\", \"arguments\": @oops", &mut events);
    assert_eq!(reader.failed(), Some("<call>{\"name\": \"f\", \"arguments\": "));
    assert_eq!(events.last(), Some(&text("@oops")));
}

#[test]
fn a_call_that_is_cut_keeps_its_name_and_the_arguments_so_far() {
    let output = "<call>{\"name\": \"f\", \"arguments\": {\"a\": [1,";
    let events = read(Some(CallKind::JsonBetweenMarkers), false, &pieces(output, 7));
    let call = Event::Call { index: 0, name: "f".to_owned() };
    assert_eq!(events, [call, Event::Arguments { index: 0, text: "{\"a\": [1,".to_owned() }]);
}

proptest! {
    /// However an output is cut, the events are the same; and without a call, all text is passed on.
    #[test]
    fn events_do_not_depend_on_the_pieces(
        parts in prop::collection::vec(prop::sample::select(vec![
            "<think>", "</think>", "<call>", "</call>", "{\"name\": \"f\"", ", \"arguments\": {\"a\": 1}}",
            "}", "\n", " ", "In May.", "<", "é", "[", "f(x=1)", "]", ", ", "<tool=f>{}", "</tool>",
        ]), 0..14),
        kind in prop::sample::select(CallKind::ALL.to_vec()),
        is_open in any::<bool>(),
        cut in 1usize..9,
    ) {
        let output = parts.concat();
        let whole = read(Some(kind), is_open, std::slice::from_ref(&output));
        let in_pieces = read(Some(kind), is_open, &pieces(&output, cut));
        prop_assert_eq!(&whole, &in_pieces);
        if whole.iter().all(|event| matches!(event, Event::Text(_))) {
            let text: String = whole.iter().map(|event| match event {
                Event::Text(text) => text.as_str(),
                _ => "",
            }).collect();
            prop_assert!(output.ends_with(text.trim_start()) || output.trim_end() == text.trim_end(), "{output:?} {text:?}");
        }
    }
}
