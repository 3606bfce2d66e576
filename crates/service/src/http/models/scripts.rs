//! Work that takes the processor, away from the threads that serve.

use api::problem::Problem;

use crate::http::app::App;
use crate::http::error::Refusal;
use crate::http::extract::WholeEstate;
use crate::http::models::turns::{Purpose, TURN};

impl App {
    /// Runs scripts for the caller, away from the threads that serve.
    ///
    /// # Errors
    /// If too many of the caller's requests wait already.
    pub async fn run_scripts<T: Send + 'static>(
        &self,
        estate: &WholeEstate,
        purpose: Purpose,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Refusal> {
        let turn = self.turns.turn((estate.context.who.person.id, purpose), TURN).await?;
        // The turn lasts as long as the work, also if the caller does not wait for it.
        let (done, _turn) = blocking(move || (work(), turn)).await?;
        Ok(done)
    }
}

/// Work that takes the processor, away from the threads that serve.
pub(crate) async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, Refusal> {
    tokio::task::spawn_blocking(work).await.map_err(|why| {
        Refusal(Problem::new(500, "internal", "Something went wrong in the service").detail(why.to_string()))
    })
}
