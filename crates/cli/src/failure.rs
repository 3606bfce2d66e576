//! How a command ends: exit codes, and errors for people or for programs.

use std::process::ExitCode;

use api::problem::Problem;
use serde_json::json;

use crate::show::NeedsAttention;

/// Nothing answers at the service's address, or not in time.
#[derive(Debug, thiserror::Error)]
#[error("{url} does not answer: {why}")]
pub(crate) struct Unreachable {
    /// The service's address.
    pub url: String,
    /// What went wrong, in the words of the network.
    pub why: String,
}

/// There is nothing of that name.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct NotFound(pub String);

/// How a command can end (docs/client.md has the table).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Ending {
    Done,
    Refused,
    NotFound,
    NotAllowed,
    Unreachable,
}

impl Ending {
    fn of(error: &anyhow::Error) -> Self {
        if is_broken_pipe(error) {
            return Self::Done;
        }
        if error.is::<Unreachable>() {
            return Self::Unreachable;
        }
        if error.is::<NotFound>() {
            return Self::NotFound;
        }
        match error.downcast_ref::<Problem>().map(|problem| problem.status) {
            Some(404) => Self::NotFound,
            Some(401 | 403) => Self::NotAllowed,
            Some(500..=599) => Self::Unreachable,
            _ => Self::Refused,
        }
    }

    const fn code(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Refused => 1,
            Self::NotFound => 3,
            Self::NotAllowed => 4,
            Self::Unreachable => 5,
        }
    }

    const fn name(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Refused => "refused",
            Self::NotFound => "not_found",
            Self::NotAllowed => "not_allowed",
            Self::Unreachable => "unreachable",
        }
    }
}

/// The reader of the output has left, as `head` does: that is no failure of ours.
fn is_broken_pipe(error: &anyhow::Error) -> bool {
    error.downcast_ref::<std::io::Error>().is_some_and(|e| e.kind() == std::io::ErrorKind::BrokenPipe)
}

/// The error as an object for programs.
fn object(error: &anyhow::Error, ending: Ending) -> serde_json::Value {
    match error.downcast_ref::<Problem>() {
        Some(problem) => json!({ "error": ending.name(), "message": format!("{error:#}"), "problem": problem }),
        None => json!({ "error": ending.name(), "message": format!("{error:#}") }),
    }
}

/// The exit code of a command; its error is written to standard error.
pub(crate) fn end(result: anyhow::Result<()>, as_json: bool) -> ExitCode {
    let Err(error) = result else { return ExitCode::SUCCESS };
    // What needs attention has been written already.
    if error.is::<NeedsAttention>() {
        return ExitCode::from(Ending::Refused.code());
    }
    let ending = Ending::of(&error);
    if ending != Ending::Done {
        match as_json {
            true => eprintln!("{}", object(&error, ending)),
            false => eprintln!("heron: {error:#}"),
        }
    }
    ExitCode::from(ending.code())
}

#[cfg(test)]
mod tests {
    use api::problem::bad_field;

    use super::*;

    fn code(error: impl Into<anyhow::Error>) -> u8 {
        Ending::of(&error.into()).code()
    }

    #[test]
    fn each_kind_of_failure_has_its_exit_code() {
        assert_eq!(code(bad_field("name", "", "1 to 80 characters are allowed")), 1);
        assert_eq!(code(Problem::new(404, "not_found", "There is no such device")), 3);
        assert_eq!(code(NotFound("no device has the name \"x\"".into())), 3);
        assert_eq!(code(Problem::new(401, "sign_in", "Sign in first")), 4);
        assert_eq!(code(Problem::new(403, "not_allowed", "This needs a right")), 4);
        assert_eq!(code(Problem::new(503, "unavailable", "The database is not available")), 5);
        assert_eq!(code(Unreachable { url: "http://x".into(), why: "connection refused".into() }), 5);
        assert_eq!(code(std::io::Error::from(std::io::ErrorKind::BrokenPipe)), 0);
        assert_eq!(code(anyhow::anyhow!("nothing was changed")), 1);
    }

    #[test]
    fn a_problem_is_passed_on_to_programs_whole() {
        let problem = bad_field("name", "", "1 to 80 characters are allowed");
        let told = object(&problem.clone().into(), Ending::Refused);
        assert_eq!(told["problem"]["field"], "name");
        assert_eq!(told["error"], "refused");
    }
}
