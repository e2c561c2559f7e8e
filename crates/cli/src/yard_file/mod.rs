//! `yard.toml`: the yard as code. [`document`] is what stands in it, [`difference`] what would have to change, and
//! [`reach`] has the service change it. What is in the file is as the file says, whole: what it leaves out of a thing is
//! as it usually is. What is not in the file stays as it is, unless told.

pub mod alerts;
pub mod difference;
pub mod document;
pub mod invalid;
pub mod kind;
pub mod place;
pub mod pool;
pub mod reach;
pub mod target;
pub mod token;
