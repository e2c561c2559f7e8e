//! People and access: teams, projects, tokens, sign-in.

pub mod account;
mod grant;
pub mod group;
pub mod person;
pub mod place;
pub mod provider;
pub mod secret;
pub mod session;
mod setting_owner;
pub mod token;
pub mod variable;
