//! How the machine feels: processors, memory, heat.

use std::time::Duration;

use deft_protocol::manage::MachineReport;
use sysinfo::{Components, CpuRefreshKind, MemoryRefreshKind, RefreshKind, System};
use tokio::sync::watch;

/// Time between two measurements.
const LOOK_EVERY: Duration = Duration::from_secs(2);

/// Measures now and then, on a separate thread, as long as the result has a reader.
///
/// # Errors
/// The system gives no thread.
pub(crate) fn watch_machine() -> std::io::Result<watch::Receiver<MachineReport>> {
    let (sender, receiver) = watch::channel(MachineReport::default());
    let look = move || {
        let what = RefreshKind::nothing()
            .with_cpu(CpuRefreshKind::nothing().with_usage())
            .with_memory(MemoryRefreshKind::nothing().with_ram());
        let Ok(mut system) = System::new_with_specifics(what) else { return };
        // Many machines report no sensors.
        let mut sensors = Components::new_with_refreshed_list().ok();
        while !sender.is_closed() {
            system.refresh_specifics(what);
            if let Some(sensors) = &mut sensors {
                sensors.refresh(false);
            }
            sender.send_replace(report(&system, sensors.as_ref()));
            std::thread::sleep(LOOK_EVERY);
        }
    };
    std::thread::Builder::new().name("vitals".to_owned()).spawn(look)?;
    Ok(receiver)
}

fn report(system: &System, sensors: Option<&Components>) -> MachineReport {
    let sensors = sensors.into_iter().flat_map(|sensors| sensors.iter());
    let degrees = sensors.filter_map(|sensor| sensor.temperature());
    let hottest = degrees.filter(|degrees| degrees.is_finite()).reduce(f32::max);
    MachineReport {
        processors: u32::try_from(system.cpus().len()).unwrap_or(u32::MAX),
        busy: f64::from(system.global_cpu_usage() / 100.0).clamp(0.0, 1.0),
        load: System::load_average().map_or(0.0, |load| load.one),
        temperature: hottest.map(f64::from),
        memory: system.total_memory(),
        memory_available: system.available_memory(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_machine_tells_of_itself() {
        let mut receiver = watch_machine().unwrap();
        receiver.changed().await.unwrap();
        let seen = receiver.borrow_and_update().clone();
        assert!(seen.processors > 0 && seen.memory > seen.memory_available, "{seen:?}");
        assert!((0.0..=1.0).contains(&seen.busy) && seen.load >= 0.0, "{seen:?}");
    }
}
