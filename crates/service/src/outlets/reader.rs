//! Reads on in the order of commits: from memory while it keeps up, from the database when it is behind.

use std::sync::Arc;

use store::{EstateId, Store, StoreError, WrittenMessage};

use crate::pipeline::recent::{Follower, Recent, Told};

/// Messages that are read from the database at a time.
const PAGE: usize = 1_000;

/// A place in the order of commits, from which an estate's messages are read.
pub(crate) struct Reader {
    store: Store,
    recent: Arc<Recent>,
    follower: Follower,
    estate_id: EstateId,
    position: u64,
}

impl Reader {
    /// Begins after a number.
    pub(crate) fn after(store: Store, recent: Arc<Recent>, estate_id: EstateId, position: u64) -> Self {
        let follower = recent.follow();
        Self { store, recent, follower, estate_id, position }
    }

    /// All messages up to this number were read.
    pub(crate) fn position(&self) -> u64 {
        self.position
    }

    /// Whether there is more to read.
    pub(crate) fn is_behind(&self) -> bool {
        self.position < *self.follower.until.borrow()
    }

    /// Waits until there is more to read. It may be dropped at any time.
    pub(crate) async fn more(&mut self) {
        while !self.is_behind() {
            if self.follower.until.changed().await.is_err() {
                // The service is at its end.
                return std::future::pending().await;
            }
        }
    }

    /// Reads on, and gives the messages that `wanted` takes, at most `limit`. There may be none, and still more to read.
    ///
    /// # Errors
    /// If the database does not answer; then it is where it was.
    pub(crate) async fn read(
        &mut self,
        limit: usize,
        wanted: impl Fn(&WrittenMessage) -> bool,
    ) -> Result<Vec<Told>, StoreError> {
        match self.read_recent(limit, &wanted) {
            Some(found) => Ok(found),
            None => self.read_stored(limit, wanted).await,
        }
    }

    /// Reads on in memory; `None` if it is too far behind for that.
    pub(crate) fn read_recent(&mut self, limit: usize, wanted: impl Fn(&WrittenMessage) -> bool) -> Option<Vec<Told>> {
        self.follower.until.borrow_and_update();
        let wanted = |written: &WrittenMessage| written.estate_id == self.estate_id && wanted(written);
        let (found, read_until) = self.recent.after(self.position, limit, wanted)?;
        self.position = read_until;
        Some(found)
    }

    /// Reads on in the database.
    ///
    /// # Errors
    /// If it does not answer; then the reader is where it was.
    pub(crate) async fn read_stored(
        &mut self,
        limit: usize,
        wanted: impl Fn(&WrittenMessage) -> bool,
    ) -> Result<Vec<Told>, StoreError> {
        let until = *self.follower.until.borrow_and_update();
        let most = limit.min(PAGE);
        let page = self.store.told(self.estate_id, (self.position, until), most as u32).await?;
        self.position = match page.last() {
            Some(last) if page.len() == most => last.told,
            _ => until,
        };
        let found = page.into_iter().filter(|message| wanted(&message.written));
        Ok(found.map(|message| (message.told, Arc::new(message.written))).collect())
    }
}
