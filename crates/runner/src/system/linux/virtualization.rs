//! Whether virtual machines run on this machine. A device that can be opened is not enough: inside a container or a nested
//! machine it may be there and refuse, or never run a guest. So a machine with one page of memory is made, and executes one
//! instruction (the interface: the kernel's Documentation/virt/kvm/api.rst).
#![allow(
    unsafe_code,
    reason = "a page is mapped and given to the kernel as the guest's memory"
)]

use kvm_bindings::kvm_userspace_memory_region;
use kvm_ioctls::{Kvm, VcpuExit};
use nix::sys::mman::{MapFlags, ProtFlags, mmap_anonymous, munmap};
use std::io;
use std::num::NonZeroUsize;
use std::sync::mpsc;
use std::time::Duration;

/// How long the guest has to halt.
const LIMIT: Duration = Duration::from_secs(2);
/// The guest's only page, in bytes.
const PAGE: NonZeroUsize = NonZeroUsize::new(4096).unwrap();
/// Where the page is in the guest's memory.
const GUEST_ADDRESS: u64 = 0x1000;
/// The instruction `hlt`.
const HALT: u8 = 0xf4;

/// Returns whether a virtual machine executes an instruction here.
pub fn works() -> bool {
    let (sender, receiver) = mpsc::channel();
    // On its own thread: a guest that never halts would block the caller.
    std::thread::spawn(move || {
        let halted = guest_halts();
        if let Err(error) = &halted {
            tracing::debug!(%error, "virtual machines do not run here");
        }
        let _ = sender.send(halted.unwrap_or(false));
    });
    receiver.recv_timeout(LIMIT).unwrap_or(false)
}

fn guest_halts() -> io::Result<bool> {
    let refused = |error: kvm_ioctls::Error| io::Error::from_raw_os_error(error.errno());
    let vm = Kvm::new().map_err(refused)?.create_vm().map_err(refused)?;
    let protection = ProtFlags::PROT_READ | ProtFlags::PROT_WRITE;
    // SAFETY: a new private mapping, which nothing else refers to.
    let page = unsafe { mmap_anonymous(None, PAGE, protection, MapFlags::MAP_PRIVATE) }?;
    // SAFETY: the page is writable and at least a byte long.
    unsafe { page.cast::<u8>().write(HALT) };
    let region = kvm_userspace_memory_region {
        slot: 0,
        flags: 0,
        guest_phys_addr: GUEST_ADDRESS,
        memory_size: PAGE.get() as u64,
        userspace_addr: page.as_ptr() as u64,
    };
    let run = || {
        // SAFETY: the page stays mapped until the machine is gone.
        unsafe { vm.set_user_memory_region(region) }?;
        let mut processor = vm.create_vcpu(0)?;
        let mut segments = processor.get_sregs()?;
        segments.cs.base = 0;
        segments.cs.selector = 0;
        processor.set_sregs(&segments)?;
        let mut registers = processor.get_regs()?;
        registers.rip = GUEST_ADDRESS;
        // Bit 1 is always set.
        registers.rflags = 2;
        processor.set_regs(&registers)?;
        Ok(matches!(processor.run()?, VcpuExit::Hlt))
    };
    let halted = run().map_err(refused);
    drop(vm);
    // SAFETY: the machine that used the page is gone.
    unsafe { munmap(page, PAGE.get()) }?;
    halted
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_test_machine_gives_the_same_answer_each_time() {
        let first = works();
        assert_eq!(works(), first);
        let device = std::path::Path::new("/dev/kvm").exists();
        assert!(device || !first, "without the device no machine runs");
    }
}
