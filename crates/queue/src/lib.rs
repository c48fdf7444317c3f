//! A bounded queue between parts that serve and a part that keeps what they report.
//!
//! Adding to it takes no lock and never waits: what does not fit is dropped and counted. Start from
//! [`BoundedQueue`]. What is queued, and what happens to it, is decided by its users.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use crossbeam_queue::ArrayQueue;
use tokio::sync::Notify;

/// A queue with room for a fixed number of items, many producers, and one consumer that can wait for
/// an item.
#[derive(Debug)]
pub struct BoundedQueue<T> {
    items: ArrayQueue<T>,
    dropped: AtomicU64,
    /// Whether the consumer waits for an item.
    awaited: AtomicBool,
    added: Notify,
}

impl<T> BoundedQueue<T> {
    /// An empty queue for at most `capacity` items.
    ///
    /// # Panics
    /// When `capacity` is 0.
    #[must_use]
    pub fn new(capacity: usize) -> Self {
        Self {
            items: ArrayQueue::new(capacity),
            dropped: AtomicU64::new(0),
            awaited: AtomicBool::new(false),
            added: Notify::new(),
        }
    }

    /// Adds an item, or counts it as dropped when the queue is full.
    pub fn push(&self, item: T) {
        if self.items.push(item).is_err() {
            self.count_dropped();
        }
        // The consumer pauses after each item that it waited for, so that many cost one wake-up.
        if self.awaited.load(Ordering::SeqCst) && self.awaited.swap(false, Ordering::SeqCst) {
            self.added.notify_one();
        }
    }

    /// Counts an item that was not queued.
    pub fn count_dropped(&self) {
        self.dropped.fetch_add(1, Ordering::Relaxed);
    }

    /// Removes the oldest item.
    pub fn pop(&self) -> Option<T> {
        self.items.pop()
    }

    /// Whether there is no item.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.items.is_empty()
    }

    /// How many items were dropped since the start.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped.load(Ordering::Relaxed)
    }

    /// Waits until there is an item.
    ///
    /// # Cancel safety
    /// It can be dropped at any time; no item is lost.
    pub async fn ready(&self) {
        self.awaited.store(true, Ordering::SeqCst);
        if self.items.is_empty() {
            self.added.notified().await;
        }
        self.awaited.store(false, Ordering::SeqCst);
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    #[test]
    fn items_keep_their_order_and_lost_ones_are_counted() {
        let queue = BoundedQueue::new(2);
        (1..=4).for_each(|item| queue.push(item));
        queue.count_dropped();
        assert_eq!(
            (queue.pop(), queue.pop(), queue.pop()),
            (Some(1), Some(2), None)
        );
        assert_eq!((queue.dropped(), queue.is_empty()), (3, true));
    }

    #[tokio::test]
    async fn a_consumer_wakes_up_for_an_item() {
        let queue = Arc::new(BoundedQueue::new(1));
        let consumer = Arc::clone(&queue);
        let waiting = tokio::spawn(async move {
            consumer.ready().await;
            consumer.pop()
        });
        tokio::task::yield_now().await;
        queue.push(7);
        assert_eq!(waiting.await.unwrap(), Some(7));
        queue.push(8);
        queue.ready().await; // returns at once
    }
}
