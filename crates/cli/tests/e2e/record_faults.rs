//! Each write of the records fails in turn, once and with all that come after it: everything is as it was before
//! the change or as it is after, and as it is after where the change had been answered.

use std::collections::BTreeMap;
use std::fmt::Debug;

use deft_protocol::manage::TransferState;

use crate::database::sql;
use crate::killed::{FIRST, Kept, SECOND, found, is_whole};
use crate::sources::Shelf;
use crate::world::{World, mini, until, wait};

/// The layer under the records: every write to a table that is watched counts, and the one that is chosen fails,
/// or it and all after it.
const FAULTS: &str = "
create sequence writes;
select nextval('writes');
create table faults (first bigint not null, last bigint not null);
insert into faults values (0, 0);
create function may_fail() returns trigger language plpgsql as $$
declare
    at bigint := nextval('writes');
begin
    if exists (select from faults where at between first and last) then
        raise exception 'a fault that was asked for, at write %', at;
    end if;
    return coalesce(new, old);
end $$;";
const REFERENCE: &str = "larkfen:larkfen-desk/q8_0";
const FETCHED: &str = "larkfen-desk/q8_0";

/// A change of a round: its name, its command, and the expected state after it.
struct Change<State> {
    kind: &'static str,
    command: Vec<String>,
    after: State,
}

/// A round of changes, each of which begins where the one before it ended.
trait Story {
    type State: Clone + PartialEq + Debug;

    fn next(&mut self, now: &Self::State) -> Change<Self::State>;

    /// The state after all changes have ended; checks that nothing is incomplete.
    fn found(&self, world: &World, case: &str) -> Self::State;
}

/// Puts the layer under these tables.
fn watch(world: &World, tables: &[&str]) {
    sql(world, FAULTS);
    for table in tables {
        let each = "for each row execute function may_fail()";
        let when = "before insert or update or delete";
        sql(world, &format!("create trigger fails {when} on {table} {each}"));
    }
}

fn fail(world: &World, first: u64, last: u64) {
    sql(world, &format!("update faults set first = {first}, last = {last}"));
}

fn writes(world: &World) -> u64 {
    sql(world, "select last_value from writes").parse().unwrap()
}

fn change<State>(kind: &'static str, command: &[&str], after: State) -> Change<State> {
    Change { kind, command: command.iter().map(|part| (*part).to_owned()).collect(), after }
}

/// Lets each write of each of the story's kinds of change fail, or the first few of them in an ordinary run.
/// How many failed once and for good.
fn run_story(world: &World, kinds: usize, story: &mut impl Story) -> [u32; 2] {
    let most = std::env::var("FAULT_ROUNDS").ok().and_then(|text| text.parse().ok()).unwrap_or(3);
    let mut failed = [0, 0];
    let mut now = story.found(world, "at first");
    let first = now.clone();
    for (times, failed) in failed.iter_mut().enumerate() {
        // Of each kind of change, which of its writes is the next to fail; nothing where none did.
        let mut turns: BTreeMap<&str, Option<u64>> = BTreeMap::new();
        for _ in 0..most {
            let Change { kind, command, after } = story.next(&now);
            let turn = turns.entry(kind).or_insert(Some(1));
            let chosen = turn.map_or(0, |turn| writes(world) + turn);
            fail(world, chosen, if times == 0 || chosen == 0 { chosen } else { 1 << 60 });
            let said = world.deft(&command.iter().map(String::as_str).collect::<Vec<_>>());
            let reached = writes(world);
            fail(world, 0, 0);
            let has_failed = chosen > 0 && reached >= chosen;
            *failed += u32::from(has_failed);
            *turn = turn.filter(|_| has_failed).map(|turn| turn + 1);
            world.ok(&["service", "restart"]);
            let case = format!("{kind}, write {chosen} of {reached}: {said:?}");
            let then = story.found(world, &case);
            let allowed = then == after || (said.code != 0 && then == now);
            assert!(allowed, "{case}: {now:?}, then {then:?}\n{}", world.log());
            now = then;
            if turns.len() == kinds && turns.values().all(Option::is_none) {
                break;
            }
        }
        // From the same beginning for the other kind of fault.
        for _ in 0..kinds {
            if now != first {
                let Change { command, after, .. } = story.next(&now);
                world.ok(&command.iter().map(String::as_str).collect::<Vec<_>>());
                now = after;
            }
        }
    }
    assert!(failed.iter().all(|writes| *writes > 0), "{failed:?}");
    failed
}

/// A model is imported, renamed, loaded, unloaded and removed.
#[derive(Default)]
struct Shelved {
    has_been_loaded: bool,
}

impl Story for Shelved {
    type State = Kept;

    fn next(&mut self, now: &Kept) -> Change<Kept> {
        let kept = |name, is_loaded| Kept { name, is_loaded };
        self.has_been_loaded = now.name.is_some() && (self.has_been_loaded || now.is_loaded);
        match (now.name, now.is_loaded) {
            (None, _) => {
                let file = mini();
                let command = ["depot", "import", &file.to_string_lossy(), "--as", FIRST];
                change("import", &command, kept(Some(FIRST), false))
            }
            (Some(FIRST), _) => {
                change("rename", &["depot", "rename", FIRST, SECOND], kept(Some(SECOND), false))
            }
            (Some(name), true) => change("unload", &["unload", name], kept(Some(name), false)),
            (Some(name), false) if self.has_been_loaded => {
                change("remove", &["depot", "remove", name], kept(None, false))
            }
            (Some(name), false) => change("load", &["load", name], kept(Some(name), true)),
        }
    }

    fn found(&self, world: &World, case: &str) -> Kept {
        let kept = found(world);
        is_whole(world, &kept, case);
        kept
    }
}

/// A source is added, a model fetched from it and removed, and the source removed.
struct Fetched {
    address: String,
    has_fetched: bool,
}

impl Story for Fetched {
    /// Whether the source is known, and whether the model is here.
    type State = (bool, bool);

    fn next(&mut self, now: &(bool, bool)) -> Change<(bool, bool)> {
        self.has_fetched = now.0 && (self.has_fetched || now.1);
        match now {
            (false, _) => {
                change("source add", &["source", "add", "larkfen", &self.address], (true, false))
            }
            (true, true) => change("remove", &["depot", "remove", FETCHED], (true, false)),
            (true, false) if self.has_fetched => {
                change("source remove", &["source", "remove", "larkfen"], (false, false))
            }
            (true, false) => change("pull", &["depot", "pull", REFERENCE], (true, true)),
        }
    }

    fn found(&self, world: &World, case: &str) -> (bool, bool) {
        let fetches = until("every fetch has ended", || {
            let all = wait(world.client().transfers()).unwrap();
            all.iter().all(|transfer| transfer.state.has_ended()).then_some(all)
        });
        let sources = wait(world.client().sources()).unwrap();
        let variants = wait(world.client().depot()).unwrap();
        let names: Vec<&str> = variants.iter().map(|variant| &variant.name[..]).collect();
        assert!(names.is_empty() || names == [FETCHED], "{names:?}\n{case}");
        let verified = world.ok(&["depot", "verify"]);
        assert!(names.is_empty() || verified.contains("1 file verified"), "{verified}\n{case}");
        let folder = world.data_dir().join("depot");
        let count = |name: &str| std::fs::read_dir(folder.join(name)).map_or(0, Iterator::count);
        assert_eq!(count("models"), names.len(), "{case}");
        // The data of a failed pull stays, because it can be continued.
        let may_go_on = fetches.iter().any(|fetch| fetch.state == TransferState::Failed);
        assert!(count("incoming") == 0 || may_go_on, "{fetches:?}\n{case}");
        (!sources.is_empty(), !names.is_empty())
    }
}

#[test]
fn whichever_write_of_the_records_fails_nothing_is_lost_and_what_was_answered_is_made() {
    let world = World::new().start();
    watch(&world, &["nodes", "variants", "instances", "sources", "transfers", "uses"]);
    let failed = run_story(&world, 5, &mut Shelved::default());
    println!("{failed:?} writes of the records failed once and for good: nothing lost");
}

#[test]
fn whichever_write_of_a_source_or_a_fetch_fails_nothing_is_lost_and_what_was_answered_is_made() {
    let shelf = Shelf::new();
    let world = World::new().start();
    watch(&world, &["nodes", "variants", "instances", "sources", "transfers", "uses"]);
    let failed =
        run_story(&world, 4, &mut Fetched { address: shelf.url("index"), has_fetched: false });
    println!("{failed:?} writes of sources and fetches failed once and for good: nothing lost");
}

#[test]
fn a_call_whose_record_cannot_be_written_is_answered_and_recorded_later_once() {
    let world = World::stocked();
    world.ok(&["load", FETCHED]);
    watch(&world, &["calls", "uses"]);
    let count = |what: &str| -> u64 { sql(&world, what).parse().unwrap() };
    let [calls, uses] = ["select count(*) from calls", "select coalesce(sum(calls), 0) from uses"];
    let waited = || world.log().matches("the record of a call is written later").count();
    // Each write of one call fails once, and then all of them; the last of these is no write any more.
    for (number, (offset, length)) in [(1, 0), (2, 0), (3, 0), (1, 1 << 30)].into_iter().enumerate()
    {
        let (first, before) = (writes(&world) + offset, waited());
        fail(&world, first, first + length);
        world.desk_answers();
        let number = number as u64;
        if length == 0 {
            until("it is recorded", || (count(calls) == number + 1).then_some(()));
        } else {
            until("it has failed", || (waited() > before + 1).then_some(()));
            assert_eq!(count(calls), number, "it cannot be written");
            fail(&world, 0, 0);
            // What waits is written before the service has ended.
            world.ok(&["service", "restart"]);
            assert_eq!(count(calls), number + 1);
        }
        assert!(offset > 2 || waited() > before, "no write failed");
        assert_eq!(count(uses), number + 1);
    }
}

#[test]
fn a_sample_that_cannot_be_written_is_kept_later_and_never_by_halves() {
    let world = World::new().start();
    watch(&world, &["history"]);
    let count = |what: &str| -> u64 { sql(&world, what).parse().unwrap() };
    let kept = "select coalesce(sum(samples), 0) from history where series = 'busy'";
    // In the middle of a sample: some of its rows are written by then.
    let first = writes(&world) + 5;
    let before = count(kept);
    fail(&world, first, 1 << 60);
    until("it has failed", || (writes(&world) >= first).then_some(()));
    assert_eq!(count(kept), before, "all of it or nothing");
    fail(&world, 0, 0);
    // Each is in three steps: the one that failed, and the one after it.
    until("it is kept as well", || (count(kept) >= before + 6).then_some(()));
    let uneven = "select count(*) from (select series from (select series, step_seconds, sum(samples) as samples \
                  from history group by series, step_seconds) as steps group by series \
                  having min(samples) <> max(samples) or count(*) <> 3) as uneven";
    assert_eq!(count(uneven), 0, "a sample is kept by halves");
}
