//! Why a call to the service has no result.

use deft_protocol::Problem;
use thiserror::Error;

/// Why a call to the service failed.
#[derive(Debug, Error)]
pub enum ClientError {
    /// No service answers.
    #[error("no service answers at {address}")]
    NoService {
        /// The address.
        address: String,
    },
    /// The address is invalid.
    #[error("`{0}` is not the address of a service; write for instance http://127.0.0.1:8471")]
    Address(String),
    /// The service refused, with its reason.
    #[error("{0}")]
    Refused(Problem),
    /// The connection broke during the call.
    #[error("the connection to the service broke: {0}")]
    Broken(String),
    /// The response is invalid: another program may be listening there.
    #[error("the response of {address} is not understood: {what}")]
    NotUnderstood {
        /// The address.
        address: String,
        /// The defect.
        what: String,
    },
}
