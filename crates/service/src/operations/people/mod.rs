//! People and access: teams, projects, sign-in.

pub mod place;
pub mod session;
