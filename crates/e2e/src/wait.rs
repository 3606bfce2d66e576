//! Waiting for something to become true, instead of sleeping and hoping.

use std::time::Duration;

use tokio::time::Instant;

/// The most that anything here takes on a busy machine; only a failing test waits this long.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// Asks again and again until there is an answer.
///
/// # Panics
/// If there is none in time; `what` says what was waited for.
pub async fn until<T>(what: &str, mut ask: impl AsyncFnMut() -> Option<T>) -> T {
    let end = Instant::now() + PATIENCE;
    loop {
        if let Some(answer) = ask().await {
            return answer;
        }
        assert!(Instant::now() < end, "waited in vain for: {what}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}
