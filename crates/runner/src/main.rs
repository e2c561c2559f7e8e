//! `pennine-runner`: the program on the machine.

fn main() -> std::process::ExitCode {
    pennine_runner::program::run()
}
