//! People and access: teams, projects, tokens, sign-in.

pub mod audit;
pub mod group;
pub mod person;
pub mod place;
pub mod project;
pub mod secret;
pub mod token;
pub mod variable;
