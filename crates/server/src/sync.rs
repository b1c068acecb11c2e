//! Locks whose values are never left half written.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// A panic while one of these was held cannot leave it half written: each entry is put whole.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
