//! The console is built into the program: build again when it is another.
fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
