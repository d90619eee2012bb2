//! Each write of the records fails in turn, once and with all that come after it: everything is as it was before
//! the change or as it is after, and as it is after where the change had been answered.

use std::collections::BTreeMap;

use crate::database::sql;
use crate::killed::{Change, FIRST, Kept, SECOND, found, is_whole};
use crate::world::{World, mini};

/// The layer under the records: every write counts, and the one that is chosen fails, or it and all after it.
const FAULTS: &str = "
create sequence writes;
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
end $$;
do $$
declare
    name text;
begin
    foreach name in array array['nodes', 'variants', 'instances', 'sources', 'transfers', 'uses'] loop
        execute format('create trigger fails before insert or update or delete on %I for each row execute '
                       'function may_fail()', name);
    end loop;
end $$;";

/// A round of changes: each begins where the one before it ended.
fn next(now: &Kept, was_loaded: bool) -> (&'static str, Change) {
    let change = |command: &[&str], name: Option<&'static str>, is_loaded: bool| Change {
        command: command.iter().map(|part| (*part).to_owned()).collect(),
        takes: 0,
        after: Kept { name, is_loaded },
    };
    match (now.name, now.is_loaded) {
        (None, _) => {
            let file = mini();
            let import = ["depot", "import", &file.to_string_lossy(), "--as", FIRST];
            ("import", change(&import, Some(FIRST), false))
        }
        (Some(FIRST), _) => {
            ("rename", change(&["depot", "rename", FIRST, SECOND], Some(SECOND), false))
        }
        (Some(name), true) => ("unload", change(&["unload", name], Some(name), false)),
        (Some(name), false) if was_loaded => {
            ("remove", change(&["depot", "remove", name], None, false))
        }
        (Some(name), false) => ("load", change(&["load", name], Some(name), true)),
    }
}

#[test]
fn whichever_write_of_the_records_fails_nothing_is_lost_and_what_was_answered_is_made() {
    // A few in every run, and all of them where so many rounds are asked for.
    let most = std::env::var("FAULT_ROUNDS").ok().and_then(|text| text.parse().ok()).unwrap_or(3);
    let world = World::new().start();
    sql(&world, FAULTS);
    let mut failed = [0, 0];
    for (kind, is_final) in [(0, false), (1, true)] {
        // Of each kind of change, which of its writes is the next to fail; nothing where none did.
        let mut turns: BTreeMap<&str, Option<u64>> = BTreeMap::new();
        let (mut now, mut was_loaded) = (found(&world), false);
        for _ in 0..most {
            let (name, change) = next(&now, was_loaded);
            let turn = turns.entry(name).or_insert(Some(1));
            let at: u64 = sql(&world, "select last_value from writes").parse().unwrap();
            let chosen = turn.map_or(0, |turn| at + turn);
            let last = if is_final && chosen > 0 { u64::MAX >> 1 } else { chosen };
            sql(&world, &format!("update faults set first = {chosen}, last = {last}"));
            let command: Vec<&str> = change.command.iter().map(String::as_str).collect();
            let said = world.deft(&command);
            let reached: u64 = sql(&world, "select last_value from writes").parse().unwrap();
            sql(&world, "update faults set first = 0, last = 0");
            let has_failed = chosen > 0 && reached >= chosen;
            failed[kind] += u32::from(has_failed);
            *turn = turn.filter(|_| has_failed).map(|turn| turn + 1);
            world.ok(&["service", "restart"]);
            let told = format!("{name}, write {chosen} of {reached}: {said:?}");
            let then = found(&world);
            let allowed = then == change.after || (said.code != 0 && then == now);
            assert!(allowed, "{told}: {now:?}, then {then:?}\n{}", world.log());
            is_whole(&world, &then, &told);
            was_loaded = then.name.is_some() && (was_loaded || then.is_loaded);
            now = then;
            if turns.len() == 5 && turns.values().all(Option::is_none) {
                break;
            }
        }
        // From the same beginning for the other kind.
        while now.name.is_some() {
            let (_, change) = next(&now, true);
            let command: Vec<&str> = change.command.iter().map(String::as_str).collect();
            world.ok(&command);
            now = change.after;
        }
    }
    println!("{failed:?} writes of the records failed once and for good: nothing lost");
    assert!(failed.iter().all(|writes| *writes > 0), "{failed:?}");
}
