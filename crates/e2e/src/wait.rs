//! Waiting for something to become true, instead of sleeping and hoping.

use std::time::Duration;

use tokio::time::Instant;

/// The most that anything here takes on a busy machine; only a failing test waits this long.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// Asks again and again until there is an answer.
///
/// # Panics
/// If there is none in time; `what` says what was waited for.
pub async fn until<T>(what: &str, ask: impl AsyncFnMut() -> Option<T>) -> T {
    until_or_tell(|| what.to_owned(), ask).await
}

/// The same, for what can tell more about it in the end.
///
/// # Panics
/// If there is no answer in time.
pub async fn until_or_tell<T>(what: impl Fn() -> String, mut ask: impl AsyncFnMut() -> Option<T>) -> T {
    let end = Instant::now() + PATIENCE;
    loop {
        if let Some(answer) = ask().await {
            return answer;
        }
        assert!(Instant::now() < end, "waited in vain for: {}", what());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}
