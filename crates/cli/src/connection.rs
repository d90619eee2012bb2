//! Finding the service, and noticing a different version of it.

use deft_client::Client;
use deft_protocol::VERSION;
use deft_service::presence::{self, Presence};
use deft_service::{Config, Flags, Loaded};

use crate::arguments::Common;
use crate::failure::Failure;
use crate::print;

/// The settings of this command line.
pub(crate) fn settings(common: &Common, flags: Flags) -> Result<Loaded, Failure> {
    let flags = Flags { data_dir: absolute(common.data_dir.clone())?, ..flags };
    let variable = |name: &str| std::env::var(name).ok();
    Config::load(common.config.as_deref(), variable, &flags)
        .map_err(|error| Failure::usage(error.to_string()))
}

fn absolute(path: Option<std::path::PathBuf>) -> Result<Option<std::path::PathBuf>, Failure> {
    path.map(std::path::absolute).transpose().map_err(Failure::from)
}

/// The running service of this data directory.
pub(crate) fn local(common: &Common) -> Result<Option<Presence>, Failure> {
    let loaded = settings(common, Flags::default())?;
    Ok(presence::find(&loaded.config.data_dir))
}

/// Address of the service: of `--service`, else of the service running in the data directory, else the default.
pub(crate) fn address(common: &Common) -> Result<String, Failure> {
    if let Some(address) = &common.service {
        return Ok(address.clone());
    }
    let loaded = settings(common, Flags::default())?;
    let data_dir = &loaded.config.data_dir;
    if let Some(found) = presence::find(data_dir) {
        return found.address.ok_or_else(|| {
            Failure::no_service(format!("the service (process {}) is still starting", found.pid))
                .with_way_out("wait for it: deft service wait")
        });
    }
    // The data directory of another user's service cannot be read. A directory that was named means its own
    // service and no other.
    if loaded.is_default("data_dir") {
        return Ok(format!("http://{}", loaded.config.listen));
    }
    Err(Failure::no_service(format!("no service is running in `{}`", data_dir.display()))
        .with_way_out("start it: deft service start"))
}

/// The operator's key: as named, else from the data directory of a running service, if it can be read. It is not sent to an
/// address that another program may listen on.
fn key(common: &Common) -> Result<Option<String>, Failure> {
    if let Some(file) = &common.key_file {
        let key = deft_service::read_key(file);
        return key.map(Some).map_err(|error| Failure::usage(error.to_string()));
    }
    if let Some(key) = std::env::var("DEFT_KEY").ok().filter(|key| !key.is_empty()) {
        return Ok(Some(key));
    }
    if common.service.is_some() {
        return Ok(None);
    }
    let data_dir = settings(common, Flags::default())?.config.data_dir;
    let runs = presence::find(&data_dir).is_some();
    Ok(runs.then(|| deft_service::read_key(&deft_service::key_file(&data_dir)).ok()).flatten())
}

/// A client for the service.
pub(crate) fn client(common: &Common) -> Result<Client, Failure> {
    Ok(Client::new(&address(common)?)?.with_key(key(common)?))
}

/// A client for a service that answers; notes a different version.
pub(crate) async fn connect(common: &Common) -> Result<Client, Failure> {
    let client = client(common)?;
    note_other_version(client.greet().await?.as_deref());
    Ok(client)
}

pub(crate) fn note_other_version(version: Option<&str>) {
    match version {
        Some(VERSION) => {}
        Some(other) => print::note(format!(
            "note: this is deft {VERSION}, and the service runs {other}; restart it: deft service restart"
        )),
        None => {
            print::note("note: the server at this address does not identify itself as Deft Harbor")
        }
    }
}
