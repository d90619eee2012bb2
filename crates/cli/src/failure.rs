//! Failures of commands, and their exit codes.

use std::fmt;
use std::process::ExitCode;

use deft_client::ClientError;
use deft_protocol::{Problem, ProblemKind, Way};

/// Exit codes, as in `deft --help`. 2 is also clap's own for a wrong command line.
const FAULT: u8 = 1;
const MISSING: u8 = 3;
const REFUSED: u8 = 4;
const BUSY: u8 = 5;
const NO_SERVICE: u8 = 6;

/// The table of exit codes for the help text.
pub(crate) const EXIT_CODES: &str = "\
Exit codes:
  0  success
  1  failure of the service, a model or the machine
  2  wrong command line
  3  a named model, call or other thing does not exist
  4  refused: it does not fit, is not supported, or is not allowed
  5  not possible at the moment; try again later
  6  no service answers";

/// A command that failed.
#[derive(Debug)]
pub(crate) struct Failure {
    code: u8,
    /// Code of the service's problem, which scripts can rely on.
    problem: Option<String>,
    /// What happened.
    pub(crate) what: String,
    /// What to do next.
    pub(crate) way_out: Option<String>,
    /// Commands, any of which solves it.
    ways: Vec<Way>,
}

impl Failure {
    fn new(code: u8, what: impl Into<String>) -> Self {
        Self { code, problem: None, what: what.into(), way_out: None, ways: Vec::new() }
    }

    /// A failure of the service, a model or the machine.
    pub(crate) fn fault(what: impl Into<String>) -> Self {
        Self::new(FAULT, what)
    }

    /// A wrong command line that clap cannot detect.
    pub(crate) fn usage(what: impl Into<String>) -> Self {
        Self::new(2, what)
    }

    /// No service answers.
    pub(crate) fn no_service(what: impl Into<String>) -> Self {
        Self::new(NO_SERVICE, what)
    }

    /// Understood, and refused.
    pub(crate) fn refused(what: impl Into<String>) -> Self {
        Self::new(REFUSED, what)
    }

    /// Something named does not exist.
    pub(crate) fn missing(what: impl Into<String>) -> Self {
        Self::new(MISSING, what)
    }

    /// Adds what to do next.
    pub(crate) fn with_way_out(mut self, way_out: impl Into<String>) -> Self {
        self.way_out = Some(way_out.into());
        self
    }

    /// Whether it fails because no service answers.
    pub(crate) fn is_no_service(&self) -> bool {
        self.code == NO_SERVICE
    }

    /// For `--json`: what happened, the exit code, and what to do next.
    pub(crate) fn report(&self) -> serde_json::Value {
        let ways: Vec<_> = self
            .ways
            .iter()
            .map(|way| serde_json::json!({"command": way.command, "effect": way.effect}))
            .collect();
        serde_json::json!({"error": {
            "code": self.problem, "detail": self.what, "exit_code": self.code, "way_out": self.way_out, "ways": ways,
        }})
    }

    pub(crate) fn exit_code(&self) -> ExitCode {
        ExitCode::from(self.code)
    }
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        let code = match problem.kind {
            ProblemKind::Invalid
            | ProblemKind::Refused
            | ProblemKind::Forbidden
            | ProblemKind::Unauthorized => REFUSED,
            ProblemKind::Missing => MISSING,
            ProblemKind::Overloaded | ProblemKind::Busy | ProblemKind::Down => BUSY,
            ProblemKind::Fault => FAULT,
        };
        Self {
            code,
            problem: Some(problem.code),
            what: problem.detail,
            way_out: problem.way_out,
            ways: problem.ways,
        }
    }
}

impl From<ClientError> for Failure {
    fn from(error: ClientError) -> Self {
        match error {
            ClientError::Refused(problem) => problem.into(),
            ClientError::NoService { .. } => {
                Self::no_service(error.to_string()).with_way_out("start it: deft service start")
            }
            ClientError::Address(_) => Self::usage(error.to_string()),
            ClientError::Broken(_) => {
                Self::fault(error.to_string()).with_way_out("read the log: deft service logs")
            }
            ClientError::NotUnderstood { .. } => Self::fault(error.to_string()),
        }
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        Self::fault(error.to_string())
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "deft: {}", self.what)?;
        if let Some(way_out) = &self.way_out {
            write!(f, "\n  -> {way_out}")?;
        }
        self.ways.iter().try_for_each(|way| write!(f, "\n     {}  ({})", way.command, way.effect))
    }
}
