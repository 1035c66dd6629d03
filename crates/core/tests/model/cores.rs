//! A loop of a test on all cores, where a single test takes longer than all others together.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::{available_parallelism, scope};

/// Calls `each` with every item, in no certain order. If it panics for one, so does this, once the others are through.
pub(crate) fn on_all_cores<T: Sync>(items: &[T], each: impl Fn(&T) + Sync) {
    let next = AtomicUsize::new(0);
    let cores = available_parallelism().map_or(1, usize::from);
    scope(|threads| {
        for _ in 0..cores {
            threads.spawn(|| {
                while let Some(item) = items.get(next.fetch_add(1, Ordering::Relaxed)) {
                    each(item);
                }
            });
        }
    });
}
