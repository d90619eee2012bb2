use super::*;

async fn ended(transfers: &Transfers, id: Uuid) -> Transfer {
    let mut changes = transfers.changes();
    loop {
        let found = transfers.get(id).unwrap();
        if found.state.has_ended() {
            return found;
        }
        changes.changed().await.unwrap();
    }
}

#[tokio::test]
async fn progress_is_reported_while_it_runs_and_the_outcome_afterwards() {
    let transfers = Transfers::new(None, tokio::runtime::Handle::current());
    let (seen, wait) = std::sync::mpsc::channel::<()>();
    let begun = transfers.begin_on_disk(
        Beginning::now(TransferKind::Import, "larkfen-desk/q8_0", 100),
        move |handle| {
            handle.begin_file("larkfen-desk.gguf");
            assert!(handle.advance(40).is_continue());
            wait.recv().unwrap();
            Ok(7)
        },
        |made| async move { Ok(format!("{made} is there")) },
    );
    let running = loop {
        let found = transfers.get(begun.id).unwrap();
        if found.done_bytes > 0 {
            break found;
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    };
    assert_eq!((running.state, running.done_bytes), (TransferState::Running, 40));
    assert!(running.rate.unwrap() > 0.0 && running.seconds_left.unwrap() > 0.0);
    seen.send(()).unwrap();
    let done = ended(&transfers, begun.id).await;
    assert_eq!(done.outcome.as_deref(), Some("7 is there"));
    assert_eq!((done.state, done.rate), (TransferState::Done, None));
}

#[tokio::test]
async fn one_after_the_other_and_a_waiting_one_can_be_cancelled() {
    let transfers = Transfers::new(None, tokio::runtime::Handle::current());
    let (go, wait) = std::sync::mpsc::channel::<()>();
    let nothing = |()| async { Ok(String::new()) };
    let first = transfers.begin_on_disk(
        Beginning::now(TransferKind::Verify, "all", 1),
        move |_| wait.recv().map_err(|_| cancelled()),
        nothing,
    );
    let second = transfers.begin_on_disk(
        Beginning::now(TransferKind::Verify, "all", 1),
        |_| panic!("it ran"),
        nothing,
    );
    transfers.cancel(second.id).await.unwrap();
    assert_eq!(ended(&transfers, second.id).await.state, TransferState::Cancelled, "at once");
    go.send(()).unwrap();
    assert_eq!(ended(&transfers, first.id).await.state, TransferState::Done);
    assert!(transfers.get(Uuid::nil()).is_err());
}

#[tokio::test]
async fn a_transfer_that_panics_has_failed() {
    let transfers = Transfers::new(None, tokio::runtime::Handle::current());
    let begun = transfers.begin(Beginning::now(TransferKind::Verify, "all", 1), |_| async {
        panic!("the shelf is not there")
    });
    let failed = ended(&transfers, begun.id).await;
    assert_eq!(failed.state, TransferState::Failed);
    assert_eq!(failed.problem.unwrap().kind, ProblemKind::Fault);
}
