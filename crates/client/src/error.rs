//! Why a call to the service has no result.

use deft_protocol::Problem;
use thiserror::Error;

/// Why a call to the service has no result.
#[derive(Debug, Error)]
pub enum ClientError {
    /// Nobody listens there.
    #[error("no service answers at {address}")]
    NoService {
        /// Where it was looked for.
        address: String,
    },
    /// The address is none.
    #[error("`{0}` is not the address of a service; write for instance http://127.0.0.1:8471")]
    Address(String),
    /// The service refused, with its reason.
    #[error("{0}")]
    Refused(Problem),
    /// The connection broke in the middle.
    #[error("the connection to the service broke: {0}")]
    Broken(String),
    /// The response is not understood: perhaps it is another program.
    #[error("the response of {address} is not understood: {what}")]
    NotUnderstood {
        /// Who answered.
        address: String,
        /// What was odd.
        what: String,
    },
}
