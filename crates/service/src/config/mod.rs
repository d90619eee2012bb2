//! Settings of the service: defaults < file (TOML) < `DEFT_*` environment < flags, each value with
//! where it came from.

mod amounts;
mod layers;
mod loading;
mod places;
mod renamed;

use std::fmt;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use deft_planning::{Bytes, HOST};
use deft_protocol::manage::IdleLimit;
use figment::Figment;
use figment::providers::{Format, Serialized, Toml};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use amounts::parse_amount;
pub(crate) use amounts::{limit, parse_rate};
use layers::{FlagLayer, Variable, in_words, origins};
use loading::AUTO;
pub(crate) use loading::{Evictable, LoadingConfig, WeightsOnNodes};
use places::{default_data_dir, default_file};
use renamed::Renamed;

/// Environment variables, with their settings.
const VARIABLES: &[(&str, &str)] = &[
    ("DEFT_DATA_DIR", "data_dir"),
    ("DEFT_LISTEN", "listen"),
    ("DEFT_DATABASE_URL", "database.url"),
    ("DEFT_HOST_LIMIT", "pools.host.limit"),
    ("DEFT_ON_DEMAND", "loading.on_demand"),
    ("DEFT_EVICT", "loading.evict"),
    ("DEFT_MAX_INSTANCES", "loading.max_instances"),
    ("DEFT_WAIT_SECONDS", "loading.wait_seconds"),
    ("DEFT_KERNELS", "loading.kernels"),
    ("DEFT_SPARE_PROCESSORS", "loading.spare_processors"),
    ("DEFT_WEIGHTS_ON_NODES", "loading.weights_on_nodes"),
    ("DEFT_HEARTBEAT_SECONDS", "calls.heartbeat_seconds"),
    ("DEFT_HOLD_STATUS_SECONDS", "calls.hold_status_seconds"),
    ("DEFT_QUEUE", "calls.queue"),
    ("DEFT_MAX_RECORDS", "calls.max_records"),
    ("DEFT_HANG_SECONDS", "loading.hang_seconds"),
    ("DEFT_EVICT_BUSY_SECONDS", "loading.evict_busy_seconds"),
    ("DEFT_CA_FILE", "pull.ca_file"),
    ("DEFT_PULL_LIMIT", "pull.limit"),
    ("DEFT_STALL_SECONDS", "pull.stall_seconds"),
];

/// Settings that are numbers.
const NUMBERS: &[&str] = &[
    "loading.max_instances",
    "loading.spare_processors",
    "loading.wait_seconds",
    "calls.heartbeat_seconds",
    "calls.hold_status_seconds",
    "calls.queue",
    "calls.max_records",
    "loading.hang_seconds",
    "loading.evict_busy_seconds",
    "pull.stall_seconds",
];

/// Origin of default values.
const DEFAULT_ORIGIN: &str = "default";

/// Settings of the service.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Directory of everything that the service stores.
    pub data_dir: PathBuf,
    /// Address and port to listen on; loopback only. Port 0 means any free port.
    pub listen: SocketAddr,
    /// The records database.
    pub database: DatabaseConfig,
    /// Memory budgets.
    pub pools: PoolsConfig,
    /// Loading of models.
    pub loading: LoadingConfig,
    /// Calls of programs and people.
    pub calls: CallsConfig,
    /// Pulling from sources.
    pub pull: PullConfig,
    /// Who may do what.
    #[serde(default)]
    pub permission: PermissionConfig,
}

/// Who may do what. Managing always needs permission; the service's own user and root have it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct PermissionConfig {
    /// Users of this machine who may also manage, by name.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub operator_users: Vec<String>,
    /// Groups whose members may also manage, by name.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub operator_groups: Vec<String>,
    /// Who may use models under `/v1`: `open` for everybody who reaches it, or `operators`.
    pub answers: Access,
    /// Who may read `/metrics`: `open` or `operators`.
    pub metrics: Access,
    /// Who may read `/health`: `open` or `operators`.
    pub health: Access,
}

impl Default for PermissionConfig {
    fn default() -> Self {
        let (operator_users, operator_groups) = (Vec::new(), Vec::new());
        let open = Access::Open;
        Self { operator_users, operator_groups, answers: open, metrics: open, health: open }
    }
}

/// Who may use a part of the interface.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Access {
    /// Every caller that reaches it.
    Open,
    /// Operators only.
    Operators,
}

/// Calls of programs and people.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CallsConfig {
    /// Seconds between progress messages to a waiting caller, so that its client does not time out.
    pub heartbeat_seconds: u64,
    /// Longest time in seconds that the HTTP status of an answer that is not streamed is held back, so that a
    /// failure still gets an error status.
    pub hold_status_seconds: u64,
    /// Calls that may wait for each instance; further calls are refused with a time to retry.
    pub queue: usize,
    /// Records of calls in the database; the oldest are deleted first.
    pub max_records: u32,
}

/// Pulling from sources.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PullConfig {
    /// Certificates of authorities to trust besides the system's, in PEM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca_file: Option<PathBuf>,
    /// Most bytes a second for all pulls together, an amount; no limit where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<String>,
    /// Seconds without data after which a pull counts as stalled.
    pub stall_seconds: u64,
}

/// The records database.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DatabaseConfig {
    /// Address of an existing PostgreSQL server; without it the service runs a private one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
}

/// Memory budgets.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PoolsConfig {
    /// The machine's memory.
    pub host: HostPool,
    /// Simulated accelerators: memory that is counted, on which the processor computes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub simulated: Vec<SimulatedPool>,
}

/// A simulated accelerator.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SimulatedPool {
    /// Name of the pool of a simulated accelerator.
    pub name: String,
    /// Its memory, an amount.
    pub size: String,
    /// Its read speed in a second, an amount; by default as fast as the processor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed: Option<String>,
    /// Most memory that instances can reserve: an amount, or a share of its size.
    #[serde(default = "everything")]
    pub limit: String,
    /// Memory that other programs use, an amount. Plans do not know of it, so a load that needs it fails when it is
    /// out of memory.
    #[serde(default = "nothing")]
    pub held: String,
}

fn everything() -> String {
    "100 %".to_owned()
}

fn nothing() -> String {
    "0 B".to_owned()
}

/// The machine's memory.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HostPool {
    /// Most memory that instances can reserve: an amount (`48 GiB`) or a share (`80 %`).
    pub limit: String,
}

impl Default for Config {
    fn default() -> Self {
        Self {
            data_dir: default_data_dir(),
            listen: deft_protocol::DEFAULT_LISTEN.parse().expect("the default is an address"),
            database: DatabaseConfig::default(),
            pools: PoolsConfig {
                host: HostPool { limit: "80 %".to_owned() },
                simulated: Vec::new(),
            },
            loading: LoadingConfig {
                on_demand: true,
                evict: Evictable::Any,
                idle: IdleLimit::Seconds(600),
                max_instances: None,
                wait_seconds: 120,
                drain_seconds: 30,
                evict_busy_seconds: 10,
                hang_seconds: 60,
                kernels: None,
                spare_processors: None,
                weights_on_nodes: WeightsOnNodes::Interleaved,
            },
            calls: CallsConfig {
                heartbeat_seconds: 5,
                hold_status_seconds: 30,
                queue: 256,
                max_records: 1_000_000,
            },
            pull: PullConfig { ca_file: None, limit: None, stall_seconds: 30 },
            permission: PermissionConfig::default(),
        }
    }
}

/// Settings that cannot be used.
#[derive(Debug, Error)]
#[error("{0}")]
pub struct ConfigError(String);

impl ConfigError {
    pub(crate) fn new(what: String) -> Self {
        Self(what)
    }
}

/// What the command line set.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Flags {
    /// `--data-dir`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub data_dir: Option<PathBuf>,
    /// `--listen`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub listen: Option<SocketAddr>,
}

/// Settings with where each came from.
pub struct Loaded {
    /// The settings.
    pub config: Config,
    /// Name, value and origin of each.
    pub origins: Vec<(String, String, String)>,
    /// Settings that are written as in the version before.
    pub warnings: Vec<String>,
}

impl Loaded {
    /// Whether this is the default.
    #[must_use]
    pub fn is_default(&self, key: &str) -> bool {
        self.origins.iter().any(|(name, _, origin)| name == key && origin == DEFAULT_ORIGIN)
    }
}

impl Config {
    /// Reads the settings. `file` must exist where it was named; otherwise the usual place is
    /// looked at. `variable` reads the environment.
    ///
    /// # Errors
    /// Names every setting that is unknown or wrong, with its place.
    pub fn load(
        file: Option<&Path>,
        variable: impl Fn(&str) -> Option<String>,
        flags: &Flags,
    ) -> Result<Loaded, ConfigError> {
        let mut warnings = Vec::new();
        let mut figment = Figment::from(Serialized::defaults(Self::default()));
        figment = match file {
            Some(path) if !path.is_file() => {
                let what = format!("no configuration file `{}`", path.display());
                return Err(ConfigError(what));
            }
            Some(path) => figment.merge(Renamed::of(&Toml::file_exact(path), &mut warnings)),
            None if default_file().is_file() => {
                figment.merge(Renamed::of(&Toml::file_exact(default_file()), &mut warnings))
            }
            None => figment,
        };
        for (name, key) in VARIABLES {
            if let Some((name, value)) = value_of(name, &variable, &mut warnings) {
                figment = figment.merge(Renamed::of(&Variable { name, key, value }, &mut warnings));
            }
        }
        let figment = figment.merge(FlagLayer(flags));
        let config: Self = figment.extract().map_err(|error| in_words(&error))?;
        config.check()?;
        let origins = origins(&figment, &config);
        Ok(Loaded { config, origins, warnings })
    }

    fn check(&self) -> Result<(), ConfigError> {
        if !self.listen.ip().is_loopback() {
            return Err(ConfigError(format!(
                "`listen` is {}; only loopback addresses (127.0.0.1, [::1]) are possible, because callers have \
                 no keys yet",
                self.listen
            )));
        }
        if self.loading.max_instances == Some(0) {
            let what = "`loading.max_instances` is 0; write 1 or more, or leave it out";
            return Err(ConfigError(what.to_owned()));
        }
        if self.calls.heartbeat_seconds == 0 {
            let what = "`calls.heartbeat_seconds` is 0; write 1 or more";
            return Err(ConfigError(what.to_owned()));
        }
        if self.loading.hang_seconds == 0 {
            let what = "`loading.hang_seconds` is 0; write 1 or more";
            return Err(ConfigError(what.to_owned()));
        }
        if self.pull.stall_seconds == 0 {
            let what = "`pull.stall_seconds` is 0; write 1 or more";
            return Err(ConfigError(what.to_owned()));
        }
        self.kernels()?;
        self.pull_limit()?;
        self.host_limit(u64::MAX)?;
        self.accelerators().map(|_| ())
    }

    /// The name of the instructions that engines compute with.
    fn kernels(&self) -> Result<(), ConfigError> {
        let Some(name) = self.loading.forced_kernels() else {
            return Ok(());
        };
        if deft_kernels::Instructions::named(name)
            .is_some_and(deft_kernels::Instructions::runs_here)
        {
            return Ok(());
        }
        let here: Vec<&str> =
            deft_kernels::Instructions::available().map(|path| path.name()).collect();
        Err(ConfigError(format!(
            "`loading.kernels` is `{name}`; this processor has {}; write one of them, or `{AUTO}`",
            here.join(", ")
        )))
    }

    /// Bytes a second that everything together may be fetched at.
    ///
    /// # Errors
    /// The setting is no amount.
    pub fn pull_limit(&self) -> Result<Option<Bytes>, ConfigError> {
        let Some(text) = &self.pull.limit else {
            return Ok(None);
        };
        parse_rate(text).map(Some).ok_or_else(|| {
            ConfigError(format!(
                "`pull.limit` is `{text}`; write an amount such as `20 MiB/s`, or leave it out"
            ))
        })
    }

    /// The simulated accelerators.
    ///
    /// # Errors
    /// Two have one name, a name or an amount is none, or a limit is more than there is.
    pub fn accelerators(&self) -> Result<Vec<Accelerator>, ConfigError> {
        let mut found: Vec<Accelerator> = Vec::new();
        for pool in &self.pools.simulated {
            let name = &pool.name;
            let plain = |letter: char| letter.is_ascii_alphanumeric() || letter == '-';
            if name.is_empty() || !name.chars().all(plain) || name == HOST {
                return Err(ConfigError(format!(
                    "`pools.simulated` has a pool named `{name}`; a name is letters, digits and dashes, \
                     and not `{HOST}`"
                )));
            }
            if found.iter().any(|known| known.name == *name) {
                return Err(ConfigError(format!("`pools.simulated` has two pools named `{name}`")));
            }
            let amount = |setting: &str, text: &str| {
                parse_amount(text).ok_or_else(|| {
                    ConfigError(format!(
                        "`{setting}` of the simulated pool `{name}` is `{text}`; write an amount such as \
                         `8 GiB`"
                    ))
                })
            };
            let size = amount("size", &pool.size)?;
            let speed = pool
                .speed
                .as_deref()
                .map(|text| amount("speed", text.trim().strip_suffix("/s").unwrap_or(text)));
            found.push(Accelerator {
                name: name.clone(),
                size,
                speed: speed.transpose()?,
                held: amount("held", &pool.held)?,
                limit: limit(
                    &format!("`limit` of the simulated pool `{name}`"),
                    &pool.limit,
                    size,
                )?,
            });
        }
        Ok(found)
    }

    /// The host pool's limit if `usable` bytes of memory may be used.
    ///
    /// # Errors
    /// The setting is neither an amount nor a share, or more than there is.
    pub fn host_limit(&self, usable: u64) -> Result<Bytes, ConfigError> {
        limit("`pools.host.limit`", &self.pools.host.limit, Bytes(usable))
    }
}

/// The value of an environment variable, which may have its former name.
fn value_of(
    name: &'static str,
    variable: impl Fn(&str) -> Option<String>,
    warnings: &mut Vec<String>,
) -> Option<(&'static str, String)> {
    if let Some(value) = variable(name) {
        return Some((name, value));
    }
    let (former, _) = renamed::VARIABLES.iter().find(|(_, now)| *now == name)?;
    let value = variable(former)?;
    warnings.push(format!(
        "the environment variable `{former}` is now called `{name}`; the next version no longer reads the old name"
    ));
    Some((former, value))
}

/// A simulated accelerator, understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Accelerator {
    /// Name of its pool.
    pub name: String,
    /// Memory it has.
    pub size: Bytes,
    /// Bytes per second that it reads, if it is slower than the processor.
    pub speed: Option<Bytes>,
    /// What other programs hold of it.
    pub held: Bytes,
    /// Most that instances may hold together.
    pub limit: Bytes,
}

impl fmt::Display for Loaded {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (name, value, origin) in &self.origins {
            writeln!(f, "{name:<24} {value:<32} {origin}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests;
