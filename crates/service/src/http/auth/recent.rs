//! Recent callers. While the database is away they may still ask for health, watch and metrics.
//!
//! Nothing else is answered by it. Whatever changes rights empties it.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use store::PersonId;

use crate::http::auth::access::{Access, Who};

/// How long a caller is remembered.
const KEPT: Duration = Duration::from_secs(600);
/// How many callers are remembered.
const MOST: usize = 1000;
/// A database that takes longer than this to identify a caller counts as away.
pub(crate) const PATIENCE: Duration = Duration::from_secs(3);

#[derive(Default)]
struct Inner {
    callers: HashMap<[u8; 32], (Instant, Who)>,
    access: HashMap<(PersonId, String), (Instant, Access)>,
}

/// Recent callers.
#[derive(Default)]
pub struct Recent(Mutex<Inner>);

fn fresh<T: Clone>(found: Option<&(Instant, T)>) -> Option<T> {
    found.filter(|(at, _)| at.elapsed() < KEPT).map(|(_, known)| known.clone())
}

impl Recent {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Remembers the caller whose token has this hash.
    pub fn remember(&self, token: [u8; 32], who: &Who) {
        let mut inner = self.lock();
        if inner.callers.len() >= MOST {
            inner.callers.retain(|_, (at, _)| at.elapsed() < KEPT);
        }
        if inner.callers.len() < MOST {
            inner.callers.insert(token, (Instant::now(), who.clone()));
        }
    }

    /// The caller with this token.
    pub fn who(&self, token: [u8; 32]) -> Option<Who> {
        fresh(self.lock().callers.get(&token)).filter(|who| who.until.is_none_or(|until| until > crate::clock::utc()))
    }

    /// Remembers what a caller may do in an estate.
    pub fn remember_access(&self, person: PersonId, slug: &str, access: &Access) {
        let mut inner = self.lock();
        if inner.access.len() >= MOST {
            inner.access.retain(|_, (at, _)| at.elapsed() < KEPT);
        }
        if inner.access.len() < MOST {
            inner.access.insert((person, slug.to_owned()), (Instant::now(), access.clone()));
        }
    }

    /// What a caller was allowed in an estate.
    pub fn access(&self, person: PersonId, slug: &str) -> Option<Access> {
        fresh(self.lock().access.get(&(person, slug.to_owned())))
    }

    /// Forgets everybody.
    pub fn forget(&self) {
        *self.lock() = Inner::default();
    }
}
