//! Windows' objects: starting them, and the values they take and give.

use windows::Win32::System::Com::{COINIT_MULTITHREADED, CoInitializeEx};

/// Makes this thread one that may use Windows' objects, for as long as it lives.
pub(crate) fn begin() {
    thread_local! {
        static BEGUN: () = {
            // SAFETY: it is called once on each thread, and never ended: what was made with it may
            // live until the thread does not. An answer that it was begun otherwise is no harm.
            let _ = unsafe { CoInitializeEx(None, COINIT_MULTITHREADED) };
        };
    }
    BEGUN.with(|()| ());
}
