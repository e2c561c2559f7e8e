//! Where parked requests wait to be woken: runners' polls, and people who follow a log.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::Notify;

/// Bells by key. A bell exists while somebody waits for it, or was rung and not heard yet.
pub struct Desk<K> {
    bells: Arc<Mutex<HashMap<K, Arc<Notify>>>>,
}

impl<K> Clone for Desk<K> {
    fn clone(&self) -> Self {
        Desk {
            bells: self.bells.clone(),
        }
    }
}

impl<K> Default for Desk<K> {
    fn default() -> Self {
        Desk {
            bells: Arc::default(),
        }
    }
}

/// A place at the desk. Take it before looking whether there is something to do, so that no ring is missed.
pub struct Seat<K: Eq + Hash + Copy> {
    desk: Desk<K>,
    key: K,
    bell: Arc<Notify>,
}

impl<K: Eq + Hash + Copy> Desk<K> {
    fn bells(&self) -> std::sync::MutexGuard<'_, HashMap<K, Arc<Notify>>> {
        self.bells.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sits down to wait for a key's bell.
    pub fn sit(&self, key: K) -> Seat<K> {
        let bell = self.bells().entry(key).or_default().clone();
        Seat {
            desk: self.clone(),
            key,
            bell,
        }
    }

    /// Rings for everybody who sits there; whoever has a seat and is not listening yet will hear it.
    pub fn ring(&self, key: K) {
        if let Some(bell) = self.bells().get(&key) {
            bell.notify_waiters();
            bell.notify_one();
        }
    }

    /// How many keys somebody waits for.
    pub fn waiting(&self) -> usize {
        self.bells().len()
    }
}

impl<K: Eq + Hash + Copy> Seat<K> {
    /// Waits for the bell.
    pub async fn wait(&self) {
        self.bell.notified().await;
    }
}

impl<K: Eq + Hash + Copy> Drop for Seat<K> {
    fn drop(&mut self) {
        let mut bells = self.desk.bells();
        // The map's own, and this one: nobody else sits here.
        if Arc::strong_count(&self.bell) <= 2 {
            bells.remove(&self.key);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_ring_between_sitting_down_and_listening_is_heard() {
        let desk: Desk<i32> = Desk::default();
        let seat = desk.sit(7);
        desk.ring(7);
        tokio::time::timeout(std::time::Duration::from_secs(20), seat.wait())
            .await
            .expect("the ring was kept");
    }

    #[test]
    fn a_seat_that_is_left_leaves_nothing_behind() {
        let desk: Desk<i32> = Desk::default();
        let (one, two) = (desk.sit(1), desk.sit(1));
        drop(one);
        assert_eq!(desk.waiting(), 1);
        drop(two);
        assert_eq!(desk.waiting(), 0);
    }
}
