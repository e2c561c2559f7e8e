//! What an administrator does at the machine: the commands of `pennined` beside `serve`. Each opens the database by itself; replicas
//! may run meanwhile.

pub mod admin_link;
pub mod migrate;
pub mod migrate_objects;
pub mod rebuild_rollups;
pub mod rotate_key;
pub mod verify_audit;
