//! One long-lived thread that starts all child processes. The kernel ties a child's parent-death
//! signal to the *thread* that made it: were that a worker that ends early, the child would be
//! killed with it.

use std::io;
use std::path::PathBuf;
use std::process::{Child, Command};
use std::sync::OnceLock;
use std::sync::mpsc::{Sender, channel};

/// The running program. Its own path where that is still the same file, so that process lists show a
/// name; else what the kernel keeps of it, for a newer build may stand there by now.
#[must_use]
pub fn own_program() -> PathBuf {
    match std::env::current_exe() {
        Ok(path) if path.exists() => path,
        _ => PathBuf::from("/proc/self/exe"),
    }
}

type Order = (Command, Sender<io::Result<Child>>);

static SPAWNER: OnceLock<Sender<Order>> = OnceLock::new();

/// Starts a child from the long-lived thread. Blocks until it is started.
///
/// # Errors
/// The operating system refused.
pub(crate) fn spawn(command: Command) -> io::Result<Child> {
    let orders = SPAWNER.get_or_init(|| {
        let (sender, orders) = channel::<Order>();
        std::thread::Builder::new()
            .name("spawner".to_owned())
            .spawn(move || {
                for (mut command, answer) in orders {
                    // If the requester has gone, the child ends because its link is closed.
                    let _ = answer.send(command.spawn());
                }
            })
            .expect("a thread can be started when the service starts");
        sender
    });
    let (answer, child) = channel();
    let gone = || io::Error::other("the thread that starts processes has ended");
    orders.send((command, answer)).map_err(|_| gone())?;
    child.recv().map_err(|_| gone())?
}
