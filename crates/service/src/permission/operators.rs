//! Who may manage without a key: the service's own user, root, and whom the settings name.

use std::collections::BTreeSet;
use std::ffi::CString;

use nix::unistd::{Gid, Group, Uid, User, getgrouplist};

use super::peers::Peer;
use crate::config::{ConfigError, PermissionConfig};

/// The users and groups that may manage.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Operators {
    users: BTreeSet<u32>,
    groups: BTreeSet<u32>,
}

impl Operators {
    /// Those that the settings name, with the service's own user and root.
    ///
    /// # Errors
    /// A user or group is not known on this machine.
    pub(crate) fn new(config: &PermissionConfig) -> Result<Self, ConfigError> {
        let mut users = BTreeSet::from([0, rustix::process::geteuid().as_raw()]);
        for name in &config.operator_users {
            let found = User::from_name(name).ok().flatten();
            users
                .insert(found.ok_or_else(|| unknown("operator_users", "user", name))?.uid.as_raw());
        }
        let mut groups = BTreeSet::new();
        for name in &config.operator_groups {
            let found = Group::from_name(name).ok().flatten();
            groups.insert(
                found.ok_or_else(|| unknown("operator_groups", "group", name))?.gid.as_raw(),
            );
        }
        Ok(Self { users, groups })
    }

    /// Whether a peer may manage.
    pub(crate) fn admit(&self, peer: Peer) -> bool {
        match peer {
            Peer::Unknown => false,
            Peer::User(user) => self.users.contains(&user) || self.has_group(user),
        }
    }

    fn has_group(&self, user: u32) -> bool {
        if self.groups.is_empty() {
            return false;
        }
        let found = User::from_uid(Uid::from_raw(user)).ok().flatten();
        let groups = found.and_then(|user| {
            let name = CString::new(user.name).ok()?;
            getgrouplist(&name, user.gid).ok()
        });
        groups
            .is_some_and(|all: Vec<Gid>| all.iter().any(|gid| self.groups.contains(&gid.as_raw())))
    }
}

fn unknown(setting: &str, what: &str, name: &str) -> ConfigError {
    ConfigError::new(format!(
        "`permission.{setting}` names `{name}`, but this {what} does not exist"
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn config(users: &[&str], groups: &[&str]) -> PermissionConfig {
        let own = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
        PermissionConfig {
            operator_users: own(users),
            operator_groups: own(groups),
            ..PermissionConfig::default()
        }
    }

    /// Users that every Debian has, with groups of their own.
    const DAEMON: Peer = Peer::User(1);
    const NOBODY: Peer = Peer::User(65534);

    #[test]
    fn the_own_user_and_root_may_manage_and_others_only_where_they_are_named() {
        let me = Peer::User(rustix::process::geteuid().as_raw());
        let usual = Operators::new(&config(&[], &[])).unwrap();
        assert!(usual.admit(me) && usual.admit(Peer::User(0)));
        assert!(!usual.admit(DAEMON) && !usual.admit(NOBODY) && !usual.admit(Peer::Unknown));
        let named = Operators::new(&config(&["nobody"], &[])).unwrap();
        assert!(named.admit(NOBODY) && !named.admit(DAEMON) && !named.admit(Peer::Unknown));
        let grouped = Operators::new(&config(&[], &["daemon"])).unwrap();
        assert!(grouped.admit(DAEMON) && !grouped.admit(NOBODY));
    }

    #[test]
    fn names_that_are_not_known_here_are_reported() {
        let error = Operators::new(&config(&["larkfen-nobody"], &[])).unwrap_err().to_string();
        assert!(error.contains("`larkfen-nobody`, but this user does not exist"), "{error}");
        let error = Operators::new(&config(&[], &["larkfen-none"])).unwrap_err().to_string();
        assert!(error.contains("this group does not exist"), "{error}");
    }
}
