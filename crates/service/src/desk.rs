//! Where parked requests wait to be woken: runners' polls, and people who follow a log. Whoever rings may leave a
//! note with what the woken one would otherwise have to look up; a note that nobody reads is no loss.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::Notify;

/// Bells by key. A bell exists while somebody waits for it, or was rung and not heard yet.
pub struct Desk<K, N = ()> {
    bells: Arc<Mutex<HashMap<K, Arc<Bell<N>>>>>,
}

struct Bell<N> {
    notify: Notify,
    notes: Mutex<Vec<N>>,
}

impl<K, N> Clone for Desk<K, N> {
    fn clone(&self) -> Self {
        Desk {
            bells: self.bells.clone(),
        }
    }
}

impl<K, N> Default for Desk<K, N> {
    fn default() -> Self {
        Desk {
            bells: Arc::default(),
        }
    }
}

/// A place at the desk. Take it before looking whether there is something to do, so that no ring is missed.
pub struct Seat<K: Eq + Hash + Copy, N = ()> {
    desk: Desk<K, N>,
    key: K,
    bell: Arc<Bell<N>>,
}

impl<K: Eq + Hash + Copy, N> Desk<K, N> {
    fn bells(&self) -> std::sync::MutexGuard<'_, HashMap<K, Arc<Bell<N>>>> {
        self.bells.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sits down to wait for a key's bell.
    pub fn sit(&self, key: K) -> Seat<K, N> {
        let fresh = || {
            Arc::new(Bell {
                notify: Notify::new(),
                notes: Mutex::default(),
            })
        };
        let bell = self.bells().entry(key).or_insert_with(fresh).clone();
        Seat {
            desk: self.clone(),
            key,
            bell,
        }
    }

    /// Rings for everybody who sits there; whoever has a seat and is not listening yet will hear it.
    pub fn ring(&self, key: K) {
        if let Some(bell) = self.bells().get(&key) {
            bell.ring();
        }
    }

    /// Rings, and leaves a note for whoever comes to look first.
    pub fn leave(&self, key: K, note: N) {
        if let Some(bell) = self.bells().get(&key) {
            bell.notes
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .push(note);
            bell.ring();
        }
    }

    /// How many keys somebody waits for.
    pub fn waiting(&self) -> usize {
        self.bells().len()
    }
}

impl<N> Bell<N> {
    fn ring(&self) {
        self.notify.notify_waiters();
        self.notify.notify_one();
    }
}

impl<K: Eq + Hash + Copy, N> Seat<K, N> {
    /// Waits for the bell.
    pub async fn wait(&self) {
        self.bell.notify.notified().await;
    }

    /// Takes the notes that were left.
    pub fn notes(&self) -> Vec<N> {
        std::mem::take(
            &mut *self
                .bell
                .notes
                .lock()
                .unwrap_or_else(PoisonError::into_inner),
        )
    }
}

impl<K: Eq + Hash + Copy, N> Drop for Seat<K, N> {
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

    #[tokio::test]
    async fn a_note_is_read_once_and_goes_with_the_last_who_sat_there() {
        let desk: Desk<i32, &str> = Desk::default();
        desk.leave(7, "nobody sits here");
        let seat = desk.sit(7);
        assert!(seat.notes().is_empty());
        desk.leave(7, "for you");
        seat.wait().await;
        assert_eq!(seat.notes(), ["for you"]);
        assert!(seat.notes().is_empty());
    }
}
