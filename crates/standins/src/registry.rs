//! A real registry, Debian's `docker-registry`, on a free port of loopback. It requires nothing, a password, or a token that a
//! stand-in issues.

use std::fmt::Write;
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, bail};

use crate::tokens::Issuer;

/// The user who may read a registry that requires a password or a token.
pub const READER: (&str, &str) = ("larkfen", "larkfen-secret");
/// Name and bcrypt digest of the password.
const PASSWORDS: &str = "larkfen:$2b$04$VJSlzkhrp7jN0ADoqy7t/O49vFjzQUIfxlmtv..GFKmqRWSoVZ54S\n";
/// Longest time of its start.
const PATIENCE: Duration = Duration::from_secs(20);

/// The access to a registry.
#[derive(Debug)]
pub enum Door<'a> {
    /// Everybody.
    Open,
    /// [`READER`], with name and password.
    Password,
    /// Users with a token of the issuer at this address.
    Token(&'a str, &'a Issuer),
}

/// A running registry; it ends when this is dropped.
#[derive(Debug)]
pub struct Registry {
    child: Child,
    address: SocketAddr,
}

impl Registry {
    /// Starts a registry with its data in a folder.
    ///
    /// # Errors
    /// It is not installed, or does not start in time.
    pub fn start(folder: &Path, door: &Door<'_>) -> anyhow::Result<Self> {
        std::fs::create_dir_all(folder)?;
        let address = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()?;
        let mut settings = format!(
            "version: 0.1\nlog: {{level: error}}\nstorage: {{filesystem: {{rootdirectory: {}}}}}\n\
             http: {{addr: \"{address}\"}}\n",
            folder.join("data").display()
        );
        match door {
            Door::Open => {}
            Door::Password => {
                let file = folder.join("passwords");
                std::fs::write(&file, PASSWORDS)?;
                let path = file.display();
                writeln!(settings, "auth: {{htpasswd: {{realm: larkfen, path: {path}}}}}")?;
            }
            Door::Token(realm, issuer) => {
                let file = folder.join("issuer.pem");
                std::fs::write(&file, issuer.certificate())?;
                writeln!(
                    settings,
                    "auth: {{token: {{realm: \"{realm}\", service: larkfen, issuer: larkfen, \
                     rootcertbundle: {}}}}}",
                    file.display()
                )?;
            }
        }
        let file = folder.join("registry.yml");
        std::fs::write(&file, settings)?;
        let child = Command::new("docker-registry")
            .arg("serve")
            .arg(&file)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("docker-registry is not installed (Debian package docker-registry)")?;
        let registry = Self { child, address };
        let began = Instant::now();
        while TcpStream::connect(address).is_err() {
            if began.elapsed() > PATIENCE {
                bail!("docker-registry does not listen");
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Ok(registry)
    }

    /// Its host and port.
    #[must_use]
    pub fn host(&self) -> String {
        self.address.to_string()
    }
}

impl Drop for Registry {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
