//! Where parked requests wait to be woken: runners' polls, and people who follow a log.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::Notify;

/// Parked requests by key. A key has an entry while a request waits for it.
pub struct Waiters<K> {
    notifiers: Arc<Mutex<HashMap<K, Arc<Notify>>>>,
}

impl<K> Clone for Waiters<K> {
    fn clone(&self) -> Self {
        Waiters {
            notifiers: self.notifiers.clone(),
        }
    }
}

impl<K> Default for Waiters<K> {
    fn default() -> Self {
        Waiters {
            notifiers: Arc::default(),
        }
    }
}

/// A request's subscription to a key. Subscribe before looking whether there is something to do, so that no notification
/// is missed.
pub struct Subscription<K: Eq + Hash + Copy> {
    waiters: Waiters<K>,
    key: K,
    notifier: Arc<Notify>,
}

impl<K: Eq + Hash + Copy> Waiters<K> {
    fn notifiers(&self) -> std::sync::MutexGuard<'_, HashMap<K, Arc<Notify>>> {
        self.notifiers
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
    }

    /// Subscribes to a key until the subscription is dropped.
    pub fn subscribe(&self, key: K) -> Subscription<K> {
        let notifier = self.notifiers().entry(key).or_default().clone();
        Subscription {
            waiters: self.clone(),
            key,
            notifier,
        }
    }

    /// Wakes all subscribers that wait for the key. A subscriber that does not wait yet is woken when it does.
    pub fn notify(&self, key: K) {
        if let Some(notifier) = self.notifiers().get(&key) {
            notifier.notify_waiters();
            notifier.notify_one();
        }
    }

    /// Returns how many keys have subscribers.
    pub fn len(&self) -> usize {
        self.notifiers().len()
    }

    /// Returns whether no key has a subscriber.
    pub fn is_empty(&self) -> bool {
        self.notifiers().is_empty()
    }
}

impl<K: Eq + Hash + Copy> Subscription<K> {
    /// Waits for a notification.
    pub async fn notified(&self) {
        self.notifier.notified().await;
    }
}

impl<K: Eq + Hash + Copy> Drop for Subscription<K> {
    fn drop(&mut self) {
        let mut notifiers = self.waiters.notifiers();
        // The map's own and this one: there are no other subscriptions.
        if Arc::strong_count(&self.notifier) <= 2 {
            notifiers.remove(&self.key);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_notification_between_subscribing_and_waiting_is_not_missed() {
        let waiters: Waiters<i32> = Waiters::default();
        let subscription = waiters.subscribe(7);
        waiters.notify(7);
        tokio::time::timeout(std::time::Duration::from_secs(20), subscription.notified())
            .await
            .expect("the notification was kept");
    }

    #[test]
    fn the_last_subscription_that_is_dropped_leaves_nothing_behind() {
        let waiters: Waiters<i32> = Waiters::default();
        let (one, two) = (waiters.subscribe(1), waiters.subscribe(1));
        drop(one);
        assert_eq!(waiters.len(), 1);
        drop(two);
        assert!(waiters.is_empty());
    }
}
