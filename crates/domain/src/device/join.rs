//! The engine's join checks, as they go over the wire.

use api::device::join::{JoinCheck, Verdict};

/// What the engine found at one step of a join-request, as it is shown.
pub fn join_check(check: engine::JoinCheck) -> JoinCheck {
    let verdict = match check.verdict {
        engine::Verdict::Passed => Verdict::Passed,
        engine::Verdict::Doubtful => Verdict::Doubtful,
        engine::Verdict::Failed => Verdict::Failed,
        engine::Verdict::NotReached => Verdict::NotReached,
    };
    JoinCheck { what: check.what.into(), verdict, found: check.found }
}
