use super::unread::MOST_UNREAD;
use super::*;

#[tokio::test]
async fn a_caller_who_does_not_read_is_given_up_before_it_fills_the_memory() {
    let calls = Calls::default();
    let (events, mut read) = mpsc::unbounded_channel();
    calls.lock().insert(7, Listener { events, unread: Arc::default() });
    let (report, _told) = mpsc::unbounded_channel();
    let text = || FromEngine::Text {
        call: 7,
        answer: 0,
        part: deft_protocol::engine::Part::Answer,
        text: "seed ".to_owned(),
        scores: Vec::new(),
    };
    let given_up = (0..=MOST_UNREAD).map(|_| dispatch(text(), 60, &calls, &report));
    assert_eq!(given_up.filter(Option::is_some).count(), 1);
    assert_eq!(dispatch(text(), 60, &calls, &report), None, "nothing more is kept for it");
    let mut last = None;
    while let Ok((_, event)) = read.try_recv() {
        last = Some(event);
    }
    let Some(CallEvent::Failed(problem)) = last else {
        panic!("the failure is reported: {last:?}")
    };
    assert_eq!(problem.code, "answer_unread");
    // Few pieces that are long are too much as well.
    let (events, _read) = mpsc::unbounded_channel();
    calls.lock().insert(7, Listener { events, unread: Arc::default() });
    let given_up = (0..=8).map(|_| dispatch(text(), 8 << 20, &calls, &report));
    assert_eq!(given_up.filter(Option::is_some).count(), 1);
}
