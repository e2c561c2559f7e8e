//! People and access: teams, projects, tokens, sign-in.

pub mod place;
pub mod session;
pub mod token;
