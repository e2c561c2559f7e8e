//! People and access: teams, projects, tokens, sign-in.

pub mod place;
pub mod token;
