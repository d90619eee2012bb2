//! Lanes that share fewer pages than they could fill.

use super::*;

#[test]
fn where_pages_run_out_the_youngest_is_paused_and_goes_on_with_the_same_tokens() {
    let room = |cache_tokens| LoadSettings { cache_tokens, ..settings(256, 4, 64, CacheType::F16) };
    let ask = |lanes: &mut Lanes| {
        for call in 0..4 {
            let names = ["Moonhook bean", "Ember chard", "Quillfen pea", "Larkspur kale"];
            let text = format!("Tell all about {}. ", names[call as usize]).repeat(6);
            let talking = Sampling { temperature: 5.0, seed: call, ..Sampling::GREEDY };
            let order = CallOrder { sampling: talking, ..order(call, Prompt::Text(text)) };
            lanes.call(CallOrder { max_tokens: Some(150), scores: None, guard: false, ..order });
        }
    };
    let mut wide = open(DESK, room(None));
    ask(&mut wide);
    let expected = run(&mut wide);
    let mut narrow = open(DESK, room(Some(416)));
    ask(&mut narrow);
    let (mut out, mut paused) = (Vec::new(), Vec::new());
    let mut answers: BTreeMap<u64, String> = BTreeMap::new();
    let mut steps = 0;
    while !narrow.is_idle() {
        narrow.admit(&mut out);
        narrow.step(&mut out);
        let pages = narrow.standing();
        assert!(pages.pages == 13 && pages.pages_used <= 13, "{pages:?}");
        let oldest = narrow.lanes.first().map(|lane| lane.began);
        assert!(oldest <= narrow.paused.first().map(|lane| lane.began).or(oldest));
        steps += 1;
        assert!(steps < 2_000, "everything ends");
        for message in out.drain(..) {
            match message {
                FromEngine::Paused { call } => paused.push(call),
                FromEngine::Text { call, text, .. } => *answers.entry(call).or_default() += &text,
                FromEngine::Failed { detail, .. } => panic!("{detail}"),
                _ => {}
            }
        }
    }
    assert!(!paused.is_empty() && !paused.contains(&0), "{paused:?}: never the oldest");
    for (call, text) in answers {
        assert_eq!(text, expected[&(call, 0)].text, "call {call}");
    }
    assert_eq!(narrow.standing().pages_used, 0);
}

#[test]
fn a_call_waits_for_pages_for_its_prompt_and_nobody_overtakes_it() {
    let mut lanes = open(
        DESK,
        LoadSettings { cache_tokens: Some(256), ..settings(256, 3, 64, CacheType::F16) },
    );
    let long = "Moonhook bean and Ember chard stand in row 3. ".repeat(13);
    let call =
        |call, text: &str| CallOrder { scores: None, ..order(call, Prompt::Text(text.into())) };
    let mut out = Vec::new();
    for order in [call(1, &long), call(2, &long.replace("row 3", "row 4")), call(3, "Ember")] {
        lanes.call(order);
    }
    lanes.admit(&mut out);
    let at_work: Vec<u64> = lanes.lanes.iter().map(|lane| lane.call).collect();
    assert_eq!(at_work, [1], "the second has no room, and the third is not before it");
    // A caller that leaves while it waits for pages is gone at once, and its place with it.
    lanes.cancel(2);
    lanes.admit(&mut out);
    assert_eq!(lanes.lanes.iter().map(|lane| lane.call).collect::<Vec<_>>(), [1, 3]);
    assert_eq!(run(&mut lanes).len(), 2);
}

#[test]
fn who_found_no_pages_is_not_tried_again_before_there_are_more() {
    let settings = settings(256, 2, 64, CacheType::F16);
    let mut lanes = open(DESK, LoadSettings { cache_tokens: Some(256), ..settings });
    let long = "Moonhook bean and Ember chard stand in row 3. ".repeat(13);
    let call =
        |call, text: &str| CallOrder { scores: None, ..order(call, Prompt::Text(text.to_owned())) };
    let mut out = Vec::new();
    lanes.call(call(1, &long));
    lanes.call(call(2, &long.replace("row 3", "row 4")));
    lanes.admit(&mut out);
    assert!(lanes.full_at.is_some() && lanes.lanes.len() == 1);
    let allocated = allocation_counter::measure(|| lanes.admit(&mut out));
    assert_eq!(allocated.count_total, 0, "a look at two numbers is all it takes");
    assert_eq!(run(&mut lanes).len(), 2, "it is tried when pages come free");
}
