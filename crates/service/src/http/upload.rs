//! Files that are sent in and take memory and a core for a while: archives, photos, rasters.

use axum::body::Bytes;
use axum::extract::{FromRequest, Request};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, SemaphorePermit};

use crate::http::app::App;
use crate::http::auth::context::RequestContext;
use crate::http::error::{Refusal, unread};
use crate::http::models::turns::{Purpose, TURN};

/// Bodies of such files in memory at once: one of an account.
const IN_MEMORY: usize = 16;
/// Files that are worked on at once.
const AT_ONCE: usize = 2;

/// Bodies that are read again from memory, for their Idempotency-Key.
static KEYED: Semaphore = Semaphore::const_new(4);
static BODIES: Semaphore = Semaphore::const_new(IN_MEMORY);
static WORK: Semaphore = Semaphore::const_new(AT_ONCE);

/// The bytes of a file, and the turn to work on it: the account's is there before the body is read, so that what waits takes no
/// memory.
pub(crate) struct Upload {
    pub bytes: Bytes,
    pub turn: UploadTurn,
}

/// It is the file's turn as long as this is held.
pub(crate) struct UploadTurn {
    _account: [OwnedSemaphorePermit; 2],
    _memory: SemaphorePermit<'static>,
    _work: SemaphorePermit<'static>,
}

async fn permit(of: &'static Semaphore) -> Result<SemaphorePermit<'static>, Refusal> {
    match tokio::time::timeout(TURN, of.acquire()).await {
        Ok(permit) => permit.map_err(|_| Refusal::internal()),
        Err(_) => Err(Refusal::too_often(TURN)),
    }
}

/// Room for a large body that is read before its handler.
///
/// # Errors
/// It took too long.
pub(crate) async fn memory() -> Result<SemaphorePermit<'static>, Refusal> {
    permit(&KEYED).await
}

impl FromRequest<App> for Upload {
    type Rejection = Refusal;

    async fn from_request(request: Request, app: &App) -> Result<Self, Refusal> {
        let context = request.extensions().get::<RequestContext>().cloned().ok_or_else(Refusal::internal)?;
        let account = app.turns.turn((context.who.person.id, Purpose::Files), TURN).await?;
        let memory = permit(&BODIES).await?;
        let bytes = Bytes::from_request(request, app).await.map_err(|why| unread(&why))?;
        let work = permit(&WORK).await?;
        Ok(Self { bytes, turn: UploadTurn { _account: account, _memory: memory, _work: work } })
    }
}
