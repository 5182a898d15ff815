//! The allocator of every binary that links this, and how soon it gives memory back.
//!
//! A schema is a great many small pieces: half the time, and less memory, than with the system's allocator. But by default
//! it keeps whole pages of freed memory for a second, each thread its own: a service under attack then holds twice what is in use.

use std::ffi::c_long;

use libmimalloc_sys::{mi_option_set, mi_option_t};
use mimalloc::MiMalloc;

#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

/// `mi_option_purge_delay` of mimalloc's `mi_option_e`, which the bindings leave out.
const PURGE_DELAY: mi_option_t = 15;
/// Milliseconds for which freed pages are kept for whoever needs some next.
const SOON: c_long = 10;

/// Has freed memory given back to the system soon. Called once, when a process begins.
#[expect(unsafe_code, reason = "the allocator's options are behind a C interface")]
pub fn give_back_soon() {
    // SAFETY: setting an option has no precondition beside its number, which the test below holds to be the right one.
    unsafe { mi_option_set(PURGE_DELAY, SOON) };
}

#[cfg(test)]
mod tests {
    use super::*;

    #[expect(unsafe_code, reason = "the allocator's options are behind a C interface")]
    fn keeps_for() -> c_long {
        // SAFETY: as above; reading has no effect.
        unsafe { libmimalloc_sys::mi_option_get(PURGE_DELAY) }
    }

    /// The default of a second is what tells this option from its neighbours.
    #[test]
    fn the_option_is_the_one_that_is_meant() {
        assert_eq!(keeps_for(), 1_000, "mimalloc's default for the option; has its number changed?");
        give_back_soon();
        assert_eq!(keeps_for(), SOON);
    }
}
