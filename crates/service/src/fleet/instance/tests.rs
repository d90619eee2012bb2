use deft_depot::VariantName;
use deft_planning::{LoadSettings, ModelShape};
use deft_protocol::manage::IdleLimit;

use super::*;
use crate::fleet::Policy;

fn instance(policy: Policy) -> Instance {
    let shape = ModelShape { context_length: 64, ..ModelShape::default() };
    let settings = LoadSettings::for_model(&shape);
    let target = Target {
        template: None,
        variant: Uuid::nil(),
        number: 1,
        places: Vec::new(),
        name: VariantName { model: "larkfen-desk".into(), variant: "q8_0".into() },
        files: vec!["/depot/larkfen-desk.gguf".into()],
        policy,
        settings,
        shape,
    };
    let grant = target.in_host();
    let (leaving, _) = mpsc::unbounded_channel();
    Instance::new(Uuid::nil(), target, Origin::Requested, grant, leaving)
}

fn ready(policy: Policy) -> Instance {
    let mut instance = instance(policy);
    instance.become_ready("scalar".to_owned(), 0.2, &[]);
    instance
}

fn idle(idle: IdleLimit) -> Policy {
    Policy { idle, ..Policy::default() }
}

/// As if a call had ended so long ago.
fn answered(instance: &Instance, ago: Duration) {
    *instance.use_made.ended.lock() = Instant::now().checked_sub(ago);
}

#[test]
fn pauses_double_until_it_is_set_aside() {
    let mut instance = ready(Policy::default());
    for times in 0..GIVE_UP_AFTER - 1 {
        match instance.crashed("killed") {
            AfterCrash::RestartAfter(pause) => assert_eq!(pause, FIRST_PAUSE * (1 << times)),
            AfterCrash::GiveUp => panic!("set aside after {times} crashes"),
        }
        assert_eq!(instance.state, InstanceState::Restarting);
    }
    assert!(matches!(instance.crashed("killed"), AfterCrash::GiveUp));
    assert_eq!(instance.report(0).crashes, GIVE_UP_AFTER);
}

#[test]
fn an_idle_limit_counts_from_the_last_call() {
    let minute = Duration::from_secs(60);
    let instance = ready(idle(IdleLimit::Seconds(90)));
    assert_eq!(instance.is_due(), None, "it has just become ready");
    answered(&instance, minute);
    assert_eq!(instance.is_due(), None);
    // Ready later than the call of a process before: the later one counts.
    let mut instance = ready(idle(IdleLimit::Seconds(90)));
    answered(&instance, 2 * minute);
    assert_eq!(instance.is_due(), None);
    instance.ready_since = Instant::now().checked_sub(3 * minute);
    assert_eq!(instance.is_due().as_deref(), Some("idle for 90s"));
}

#[test]
fn answered_means_after_the_first_answer_and_never_means_never() {
    let instance = ready(idle(IdleLimit::Answered));
    assert_eq!(instance.is_due(), None, "nobody asked yet");
    answered(&instance, Duration::ZERO);
    assert!(instance.is_due().is_some());
    let instance = ready(idle(IdleLimit::Never));
    answered(&instance, Duration::from_secs(3600));
    assert_eq!(instance.is_due(), None);
}

#[test]
fn a_busy_one_is_never_due_and_release_spares_what_is_pinned() {
    let instance = ready(idle(IdleLimit::Answered));
    answered(&instance, Duration::ZERO);
    instance.use_made.calls.store(1, Ordering::Relaxed);
    assert_eq!(instance.is_due(), None);
    instance.use_made.calls.store(0, Ordering::Relaxed);
    for pinned in [false, true] {
        let instance = ready(Policy { pinned, ..Policy::default() });
        instance.use_made.release.store(true, Ordering::Relaxed);
        assert_eq!(instance.is_due().is_some(), !pinned);
    }
}

#[test]
fn what_is_evicted_shows_why_and_forgets_its_figures() {
    let mut instance = ready(Policy::default());
    assert!(!instance.become_evicted(), "it was to be gone");
    instance.leaving = Leaving::Evicted { why: "it made room".to_owned(), comes_back: true };
    assert!(instance.become_evicted() && instance.comes_back());
    let report = instance.report(0);
    assert_eq!(
        (report.state, report.note.as_deref()),
        (InstanceState::Evicted, Some("it made room"))
    );
    assert!(report.measured_bytes.is_none() && report.pid.is_none());
    let grant = instance.grant.clone();
    instance.return_with(grant);
    assert_eq!((instance.state, instance.note.as_deref()), (InstanceState::Loading, None));
    assert!(!instance.comes_back());
}

#[test]
fn what_finds_no_room_at_a_start_waits_for_it_with_the_way_out() {
    let mut instance = instance(Policy::default());
    let refused =
        Problem::new(deft_protocol::ProblemKind::Refused, "does_not_fit", "it needs more");
    instance.wait_for_room(&refused);
    let report = instance.report(0);
    assert!(instance.comes_back() && report.state == InstanceState::Evicted);
    assert_eq!(report.problem.unwrap().detail, "it needs more");
    let grant = instance.grant.clone();
    instance.return_with(grant);
    assert!(instance.report(0).problem.is_none());
}

#[tokio::test]
async fn waiting_callers_are_informed_when_it_fails() {
    let mut instance = instance(Policy::default());
    let (answer, waits) = oneshot::channel();
    instance.waiting.push(answer);
    instance.fail(&Problem::new(deft_protocol::ProblemKind::Refused, "load_failed", "cut short"));
    let Ok(Err(problem)) = waits.await else { panic!("it got a seat") };
    assert_eq!(problem.detail, "cut short");
    assert_eq!(instance.state, InstanceState::Failed);
}

#[test]
fn calls_after_a_failure_get_its_reason() {
    let mut instance = instance(Policy::default());
    let (answer, mut before) = oneshot::channel();
    instance.tell_when_ready(answer, false);
    assert!(before.try_recv().is_err(), "it is still being loaded");
    instance.fail(&refusals::crashes("killed", "deft load larkfen-desk"));
    let (answer, mut after) = oneshot::channel();
    instance.tell_when_ready(answer, false);
    for answer in [before.try_recv(), after.try_recv()] {
        assert_eq!(answer.unwrap().unwrap_err().code, "engine_crashes");
    }
}
