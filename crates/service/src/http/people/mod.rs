//! People and access: teams, projects, tokens, sign-in.

pub mod account;
pub mod audit;
pub mod group;
pub mod person;
pub mod place;
pub mod provider;
pub mod secret;
pub mod session;
pub mod token;
pub mod variable;
