//! The runner as a service of systemd.
