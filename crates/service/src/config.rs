//! Settings of the service: defaults < file (TOML) < `DEFT_*` environment < flags, each value with
//! where it came from.

use std::fmt;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use deft_planning::Bytes;
use deft_protocol::manage::IdleLimit;
use figment::providers::{Format, Serialized, Toml};
use figment::value::{Dict, Map as ProfileMap};
use figment::{Figment, Metadata, Profile, Provider};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// Environment variables and the settings they stand for.
const VARIABLES: &[(&str, &str)] = &[
    ("DEFT_DATA_DIR", "data_dir"),
    ("DEFT_LISTEN", "listen"),
    ("DEFT_DATABASE_URL", "database.url"),
    ("DEFT_HOST_LIMIT", "pools.host.limit"),
    ("DEFT_ON_DEMAND", "loading.on_demand"),
    ("DEFT_MAKE_ROOM", "loading.make_room"),
];

/// Origin of what nobody set.
const DEFAULT_ORIGIN: &str = "default";

/// Settings of the service.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Where everything the service keeps is kept.
    pub data_dir: PathBuf,
    /// Address and port to listen on; loopback only. Port 0 takes any free one.
    pub listen: SocketAddr,
    /// The records database.
    pub database: DatabaseConfig,
    /// Memory budgets.
    pub pools: PoolsConfig,
    /// Loading of models.
    pub loading: LoadingConfig,
}

/// The records database.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DatabaseConfig {
    /// An existing PostgreSQL server; absent, the service runs a private one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
}

/// Memory budgets.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PoolsConfig {
    /// The machine's memory.
    pub host: HostPool,
}

/// The machine's memory.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HostPool {
    /// Most that instances may hold together: an amount (`48 GiB`) or a share (`80 %`).
    pub limit: String,
}

/// Loading of models.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LoadingConfig {
    /// Whether a call loads a registered model that is not loaded.
    pub on_demand: bool,
    /// Who may be unloaded to make room for such a call, pinned and busy ones never.
    pub make_room: MakeRoom,
    /// When what a call brought is unloaded for want of further calls.
    pub idle: IdleLimit,
    /// Longest time in seconds a call waits for a model to be loaded.
    pub wait_seconds: u64,
    /// Longest time in seconds that running calls get to end when the service stops.
    pub drain_seconds: u64,
}

/// Who may be unloaded to make room for a call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MakeRoom {
    /// Nobody.
    Never,
    /// What calls brought.
    OnDemand,
    /// What the operator keeps as well; it comes back when there is room.
    Kept,
}

impl Default for Config {
    fn default() -> Self {
        Self {
            data_dir: default_data_dir(),
            listen: deft_protocol::DEFAULT_LISTEN.parse().expect("the default is an address"),
            database: DatabaseConfig::default(),
            pools: PoolsConfig { host: HostPool { limit: "80 %".to_owned() } },
            loading: LoadingConfig {
                on_demand: true,
                make_room: MakeRoom::Kept,
                idle: IdleLimit::Seconds(600),
                wait_seconds: 120,
                drain_seconds: 30,
            },
        }
    }
}

/// Settings that cannot be used.
#[derive(Debug, Error)]
#[error("{0}")]
pub struct ConfigError(String);

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
}

impl Loaded {
    /// Whether nobody set this.
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
        let mut figment = Figment::from(Serialized::defaults(Self::default()));
        figment = match file {
            Some(path) if !path.is_file() => {
                let what = format!("there is no configuration file `{}`", path.display());
                return Err(ConfigError(what));
            }
            Some(path) => figment.merge(Toml::file_exact(path)),
            None if default_file().is_file() => figment.merge(Toml::file_exact(default_file())),
            None => figment,
        };
        for (name, key) in VARIABLES {
            if let Some(value) = variable(name) {
                figment = figment.merge(Variable { name, key, value });
            }
        }
        let figment = figment.merge(FlagLayer(flags));
        let config: Self = figment.extract().map_err(|error| in_words(&error))?;
        config.check()?;
        let origins = origins(&figment, &config);
        Ok(Loaded { config, origins })
    }

    fn check(&self) -> Result<(), ConfigError> {
        if !self.listen.ip().is_loopback() {
            return Err(ConfigError(format!(
                "`listen` is {}; only loopback addresses (127.0.0.1, [::1]) are possible, for there \
                 are no keys yet that would keep strangers out",
                self.listen
            )));
        }
        self.host_limit(u64::MAX).map(|_| ())
    }

    /// The host pool's limit where so many bytes of memory may be used.
    ///
    /// # Errors
    /// The setting is neither an amount nor a share, or more than there is.
    pub fn host_limit(&self, usable: u64) -> Result<Bytes, ConfigError> {
        let text = &self.pools.host.limit;
        let limit = parse_limit(text, usable).ok_or_else(|| {
            ConfigError(format!(
                "`pools.host.limit` is `{text}`; write an amount such as `48 GiB` or a share such \
                 as `80 %`"
            ))
        })?;
        if limit > Bytes(usable) {
            let usable = Bytes(usable);
            let what = format!(
                "`pools.host.limit` is `{text}`, and this service may use {usable} of memory (the \
                 machine's, or what its control group allows); write less, or a share such as `80 %`"
            );
            return Err(ConfigError(what));
        }
        Ok(limit)
    }
}

fn parse_limit(text: &str, machine: u64) -> Option<Bytes> {
    let text = text.trim();
    let digits = text.find(|letter: char| !letter.is_ascii_digit() && letter != '.');
    let (number, unit) = text.split_at(digits.unwrap_or(text.len()));
    let number: f64 = number.parse().ok()?;
    #[expect(clippy::cast_precision_loss, reason = "memory is far below 2^53 bytes")]
    let factor = match unit.trim() {
        "" | "B" => 1.0,
        "KiB" => 1024.0,
        "MiB" => 1024.0 * 1024.0,
        "GiB" => 1024.0 * 1024.0 * 1024.0,
        "%" if number <= 100.0 => machine as f64 / 100.0,
        _ => return None,
    };
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "parsed as positive"
    )]
    Some(Bytes((number * factor) as u64))
}

/// `/var/lib/deft-harbor` for root (a system service), else under the user's data directory.
fn default_data_dir() -> PathBuf {
    if rustix::process::geteuid().is_root() {
        return PathBuf::from("/var/lib/deft-harbor");
    }
    user_dir("XDG_DATA_HOME", ".local/share").join("deft-harbor")
}

fn default_file() -> PathBuf {
    if rustix::process::geteuid().is_root() {
        return PathBuf::from("/etc/deft-harbor/deft.toml");
    }
    user_dir("XDG_CONFIG_HOME", ".config").join("deft-harbor/deft.toml")
}

fn user_dir(variable: &str, below_home: &str) -> PathBuf {
    match std::env::var_os(variable) {
        Some(path) if !path.is_empty() => PathBuf::from(path),
        _ => PathBuf::from(std::env::var_os("HOME").unwrap_or_default()).join(below_home),
    }
}

/// One environment variable as a layer.
struct Variable<'a> {
    name: &'a str,
    key: &'a str,
    value: String,
}

impl Provider for Variable<'_> {
    fn metadata(&self) -> Metadata {
        Metadata::named(format!("environment variable {}", self.name))
    }

    fn data(&self) -> Result<ProfileMap<Profile, Dict>, figment::Error> {
        let value = match self.value.as_str() {
            "true" => true.into(),
            "false" => false.into(),
            text => figment::value::Value::from(text),
        };
        let nested = figment::util::nest(self.key, value);
        let dict = nested.into_dict().unwrap_or_default();
        Ok(ProfileMap::from([(Profile::Default, dict)]))
    }
}

struct FlagLayer<'a>(&'a Flags);

impl Provider for FlagLayer<'_> {
    fn metadata(&self) -> Metadata {
        Metadata::named("command line")
    }

    fn data(&self) -> Result<ProfileMap<Profile, Dict>, figment::Error> {
        Serialized::defaults(self.0).data()
    }
}

fn origins(figment: &Figment, config: &Config) -> Vec<(String, String, String)> {
    let keys = [
        ("data_dir", config.data_dir.display().to_string()),
        ("listen", config.listen.to_string()),
        ("database.url", config.database.url.as_ref().map_or("private", |_| "(set)").to_owned()),
        ("pools.host.limit", config.pools.host.limit.clone()),
        ("loading.on_demand", config.loading.on_demand.to_string()),
        ("loading.wait_seconds", config.loading.wait_seconds.to_string()),
        ("loading.drain_seconds", config.loading.drain_seconds.to_string()),
    ];
    keys.into_iter()
        .map(|(key, value)| {
            let origin =
                figment.find_metadata(key).map_or_else(|| DEFAULT_ORIGIN.to_owned(), origin);
            (key.to_owned(), value, origin)
        })
        .collect()
}

fn origin(metadata: &Metadata) -> String {
    match (&metadata.source, metadata.name.as_ref()) {
        (Some(figment::Source::File(path)), _) => path.display().to_string(),
        (_, name) if name.contains("Config") => DEFAULT_ORIGIN.to_owned(),
        (_, name) => name.to_owned(),
    }
}

/// All errors at once, each with its place and, for unknown names, the nearest known one.
fn in_words(error: &figment::Error) -> ConfigError {
    let lines: Vec<String> = error
        .clone()
        .into_iter()
        .map(|error| {
            let place = error
                .metadata
                .as_ref()
                .map_or_else(String::new, |metadata| format!(" in {}", origin(metadata)));
            let path = error.path.join(".");
            match &error.kind {
                figment::error::Kind::UnknownField(name, known) => {
                    let nearest = known
                        .iter()
                        .max_by(|a, b| {
                            strsim::jaro_winkler(a, name).total_cmp(&strsim::jaro_winkler(b, name))
                        })
                        .map_or_else(String::new, |nearest| format!("; did you mean `{nearest}`?"));
                    let within = if path.is_empty() || path == *name {
                        String::new()
                    } else {
                        format!(" under `{path}`")
                    };
                    format!("unknown setting `{name}`{within}{place}{nearest}")
                }
                other => format!("setting `{path}`{place}: {other}"),
            }
        })
        .collect();
    ConfigError(lines.join("\n"))
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
mod tests {
    use super::*;

    fn load(toml: &str, variables: &[(&str, &str)], flags: &Flags) -> Result<Loaded, ConfigError> {
        let file = tempfile::Builder::new().prefix("deft").suffix(".toml").tempfile().unwrap();
        std::fs::write(file.path(), toml).unwrap();
        let variable = |name: &str| {
            let found = variables.iter().find(|(known, _)| *known == name);
            found.map(|(_, value)| (*value).to_owned())
        };
        Config::load(Some(file.path()), variable, flags)
    }

    #[test]
    fn later_layers_win_and_each_value_knows_its_origin() {
        let flags = Flags { listen: Some("127.0.0.1:9000".parse().unwrap()), data_dir: None };
        let toml = "listen = \"127.0.0.1:7000\"\n[pools.host]\nlimit = \"2 GiB\"\n";
        let variables = [("DEFT_LISTEN", "127.0.0.1:8000"), ("DEFT_DATA_DIR", "/srv/deft")];
        let loaded = load(toml, &variables, &flags).unwrap();
        assert_eq!(loaded.config.listen.port(), 9000);
        assert_eq!(loaded.config.data_dir, Path::new("/srv/deft"));
        assert_eq!(loaded.config.host_limit(4 << 30).unwrap(), Bytes(2 << 30));
        let origin =
            |key: &str| loaded.origins.iter().find(|(name, ..)| name == key).unwrap().2.clone();
        assert_eq!(origin("listen"), "command line");
        assert_eq!(origin("data_dir"), "environment variable DEFT_DATA_DIR");
        assert!(origin("pools.host.limit").ends_with(".toml"));
        assert_eq!(origin("loading.on_demand"), "default");
    }

    #[test]
    fn unknown_settings_are_errors_with_the_nearest_name() {
        let error = |toml: &str| match load(toml, &[], &Flags::default()) {
            Err(error) => error.to_string(),
            Ok(_) => panic!("{toml} was accepted"),
        };
        assert!(error("lisen = \"127.0.0.1:1\"").contains("did you mean `listen`?"));
        assert!(error("[pools.host]\nlimits = \"1 GiB\"").contains("did you mean `limit`?"));
        assert!(error("[pools.host]\nlimit = \"much\"").contains("`48 GiB`"));
        assert!(error("listen = \"0.0.0.0:8471\"").contains("only loopback"));
        assert!(error("[loading]\non_demand = \"perhaps\"").contains("loading.on_demand"));
    }

    #[test]
    fn a_limit_beyond_what_may_be_used_is_refused_with_both_figures() {
        let toml = "[pools.host]\nlimit = \"8 GiB\"\n";
        let loaded = load(toml, &[], &Flags::default()).unwrap();
        let error = loaded.config.host_limit(4 << 30).unwrap_err().to_string();
        assert!(error.contains("`8 GiB`") && error.contains("may use 4.00 GiB"), "{error}");
        assert_eq!(loaded.config.host_limit(8 << 30).unwrap(), Bytes(8 << 30));
    }

    #[test]
    fn limits_are_amounts_or_shares() {
        assert_eq!(parse_limit("80 %", 1000), Some(Bytes(800)));
        assert_eq!(parse_limit("1.5MiB", 0), Some(Bytes(3 << 19)));
        for wrong in ["", "150 %", "-1 GiB", "1 GB", "GiB"] {
            assert_eq!(parse_limit(wrong, 1000), None, "{wrong:?}");
        }
    }
}
