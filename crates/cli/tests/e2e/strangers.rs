//! Other users of this machine. Only root can act as them: tests that need one have names that begin with `as_root_`.

use std::io::Write;
use std::process::{Command, Stdio};

use crate::world::World;

/// Debian's user `nobody`, and an unused user id.
pub(crate) const NOBODY: u32 = 65534;
pub(crate) const NEMO: u32 = 64_999;

/// A command of another user.
pub(crate) fn command(user: u32, program: &str) -> Command {
    let mut command = Command::new("setpriv");
    command.args([&format!("--reuid={user}"), &format!("--regid={user}"), "--clear-groups", "--"]);
    command.arg(program).current_dir("/");
    command
}

/// What came back of a request, as its status, its head and its body.
#[derive(Debug)]
pub(crate) struct Reply {
    pub(crate) status: u16,
    pub(crate) head: String,
    pub(crate) body: String,
}

impl Reply {
    /// The value of a header.
    pub(crate) fn header(&self, name: &str) -> Option<&str> {
        let lines = self.head.lines().filter_map(|line| line.split_once(": "));
        lines.filter(|(found, _)| found.eq_ignore_ascii_case(name)).map(|(_, value)| value).next()
    }
}

/// Sends a request as another user, by the shell's own sockets.
pub(crate) fn ask(world: &World, user: u32, method: &str, path: &str, headers: &[&str]) -> Reply {
    ask_with(world, user, method, path, headers, "{}")
}

pub(crate) fn ask_with(
    world: &World,
    user: u32,
    method: &str,
    path: &str,
    headers: &[&str],
    body: &str,
) -> Reply {
    let address = world.listens();
    let (host, port) = address.rsplit_once(':').unwrap();
    let mut request = format!(
        "{method} {path} HTTP/1.1\r\nhost: {address}\r\nconnection: close\r\n\
         content-type: application/json\r\ncontent-length: {}\r\n",
        body.len()
    );
    headers.iter().for_each(|header| request.push_str(&format!("{header}\r\n")));
    request.push_str(&format!("\r\n{body}"));
    let script = format!("exec 3<>/dev/tcp/{host}/{port}; cat >&3; cat <&3");
    let mut shell = command(user, "bash");
    shell.args(["-c", &script]).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut shell = shell.spawn().unwrap();
    shell.stdin.take().unwrap().write_all(request.as_bytes()).unwrap();
    let output = shell.wait_with_output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let (head, body) = text.split_once("\r\n\r\n").unwrap_or((&text, ""));
    let status = head.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0);
    Reply { status, head: head.to_owned(), body: body.to_owned() }
}
