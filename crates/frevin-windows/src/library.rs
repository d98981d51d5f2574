//! Functions that are looked up when they are needed, since not every Windows has them.

use std::ffi::CStr;

use windows::Win32::System::LibraryLoader::{
    GetProcAddress, LOAD_LIBRARY_SEARCH_SYSTEM32, LoadLibraryExW,
};
use windows::core::PCSTR;

use super::wide::Wide;
use frevin_pc::windows::os_error::OsError;

/// The address of a function of one of Windows' own libraries.
///
/// The library is looked for in Windows' folder only: a library of the same name that lies beside
/// this program, or in the folder that it was started in, is never loaded. It stays loaded.
pub(crate) fn address(
    library: &str,
    name: &CStr,
    call: &'static str,
) -> Result<*const core::ffi::c_void, OsError> {
    let library = Wide::new(library);
    // SAFETY: the text lives for the call.
    let module = unsafe { LoadLibraryExW(library.as_ptr(), None, LOAD_LIBRARY_SEARCH_SYSTEM32) };
    let module = module.map_err(|_| OsError::NotOffered { call })?;
    // SAFETY: the module was loaded and is never freed; the name lives for the call.
    let found = unsafe { GetProcAddress(module, PCSTR(name.as_ptr().cast())) };
    found.map(|function| function as *const _).ok_or(OsError::NotOffered { call })
}

/// A function of a library, or [`OsError::NotOffered`]: `function!("powrprof.dll", fn Name(u32) -> u32)`.
///
/// The types are those of the documentation of the function, and are what makes calling it sound.
macro_rules! function {
    ($library:literal, fn $name:ident($($argument:ty),* $(,)?) -> $result:ty) => {{
        type Function = unsafe extern "system" fn($($argument),*) -> $result;
        const NAME: &std::ffi::CStr = match std::ffi::CStr::from_bytes_with_nul(
            concat!(stringify!($name), "\0").as_bytes(),
        ) {
            Ok(name) => name,
            Err(_) => c"",
        };
        $crate::library::address($library, NAME, stringify!($name)).map(|address| {
            // SAFETY: the address is that of the function of this name, whose documented type this is.
            unsafe { std::mem::transmute::<*const core::ffi::c_void, Function>(address) }
        })
    }};
}

pub(crate) use function;
