//! What the leader sends to others: signed events to listeners, and traces of jobs that are done to a collector. Both follow
//! the change feed with a durable cursor of their own.

pub mod traces;
pub mod webhooks;
