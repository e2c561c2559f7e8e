//! The migrations are built into the program: build again when there is another.
fn main() {
    println!("cargo:rerun-if-changed=migrations");
}
