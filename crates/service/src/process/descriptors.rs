//! The limit of open files and connections: raised as far as permitted, and named as the cause when it is reached.

use std::io;

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

/// Raises the soft limit to the hard one; returns how many may be open then.
pub(crate) fn raise_limit() -> Option<u64> {
    let Rlimit { current, maximum } = getrlimit(Resource::Nofile);
    match setrlimit(Resource::Nofile, Rlimit { current: maximum, maximum }) {
        Ok(()) => maximum,
        Err(error) => {
            tracing::warn!("the limit on open files remains {current:?}: {error}");
            current
        }
    }
}

/// Whether something failed because no more files may be open.
pub(crate) fn are_exhausted(error: &io::Error) -> bool {
    matches!(
        error.raw_os_error().map(rustix::io::Errno::from_raw_os_error),
        Some(rustix::io::Errno::MFILE | rustix::io::Errno::NFILE)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_limit_is_as_high_as_it_may_be() {
        let raised = raise_limit();
        let Rlimit { current, maximum } = getrlimit(Resource::Nofile);
        assert_eq!((current, raised), (maximum, maximum));
    }

    #[test]
    fn running_out_of_files_is_distinguished_from_other_failures() {
        assert!(are_exhausted(&io::Error::from_raw_os_error(24)));
        assert!(are_exhausted(&io::Error::from_raw_os_error(23)));
        assert!(!are_exhausted(&io::Error::from_raw_os_error(2)));
        assert!(!are_exhausted(&io::Error::other("seeds")));
    }
}
