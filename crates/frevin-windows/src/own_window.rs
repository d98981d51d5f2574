//! A small window of Frevin's own that shows pictures at a known pace.

use core::ffi::c_void;
use std::thread;
use std::time::{Duration, Instant};

use windows::Win32::Foundation::{HMODULE, HWND};
use windows::Win32::Graphics::Dxgi::Common::{
    DXGI_FORMAT_B8G8R8A8_UNORM, DXGI_MODE_DESC, DXGI_SAMPLE_DESC,
};
use windows::Win32::Graphics::Dxgi::{
    DXGI_PRESENT, DXGI_SWAP_CHAIN_DESC, DXGI_SWAP_EFFECT_FLIP_DISCARD,
    DXGI_USAGE_RENDER_TARGET_OUTPUT, IDXGISwapChain,
};
use windows::Win32::UI::WindowsAndMessaging::{
    CreateWindowExW, DestroyWindow, DispatchMessageW, MSG, PM_REMOVE, PeekMessageW,
    WS_EX_NOACTIVATE, WS_EX_TOOLWINDOW, WS_EX_TOPMOST, WS_POPUP, WS_VISIBLE,
};
use windows::core::{HRESULT, w};

use frevin_pc::windows::os_error::OsError;
use frevin_pc::windows::own_pictures::PicturesApi;

use super::library::function;
use super::wide::failed;

/// Windows' own drawing of pictures.
pub(crate) struct OwnWindow;

/// Pixels of the window, across and down: as small as can be seen, in the corner of the screen.
const SIDE: i32 = 64;
/// `D3D11_SDK_VERSION` of the Windows SDK.
const SDK_VERSION: u32 = 7;
/// `D3D_DRIVER_TYPE` of a graphics card, and of the drawing in software that Windows brings ("D3D_DRIVER_TYPE enumeration" in
/// the Windows documentation).
const DRIVERS: [i32; 2] = [1, 5];
/// A picture is shown as soon as it is handed over.
const NO_WAIT: u32 = 0;
/// The last part of a wait is spent looking at the clock: Windows wakes a thread only about so evenly.
const AWAKE: Duration = Duration::from_millis(2);

/// A window that is there, and goes with this. It takes neither the keyboard nor a place in the task bar.
struct Window(HWND);

impl Window {
    fn open() -> Result<Self, OsError> {
        let (styles, more_styles) =
            (WS_POPUP | WS_VISIBLE, WS_EX_NOACTIVATE | WS_EX_TOOLWINDOW | WS_EX_TOPMOST);
        // SAFETY: the texts live for ever; the class is one of Windows' own.
        let window = unsafe {
            CreateWindowExW(
                more_styles,
                w!("STATIC"),
                w!("Frevin self-test"),
                styles,
                0,
                0,
                SIDE,
                SIDE,
                None,
                None,
                None,
                None,
            )
        };
        window.map(Self).map_err(failed("CreateWindowExW"))
    }

    /// Answers what Windows asks it: one that does not is shown as hanging.
    fn answer(&self) {
        let mut message = MSG::default();
        // SAFETY: the message lives for the calls, and the window is of this thread.
        while unsafe { PeekMessageW(&raw mut message, Some(self.0), 0, 0, PM_REMOVE) }.as_bool() {
            // SAFETY: it was filled by Windows.
            unsafe { DispatchMessageW(&raw const message) };
        }
    }

    /// What hands over pictures for it. What is in them does not matter, so nothing is drawn.
    fn swap_chain(&self) -> Result<IDXGISwapChain, OsError> {
        let create = function!(
            "d3d11.dll",
            fn D3D11CreateDeviceAndSwapChain(
                *mut c_void,
                i32,
                HMODULE,
                u32,
                *const i32,
                u32,
                u32,
                *const DXGI_SWAP_CHAIN_DESC,
                *mut Option<IDXGISwapChain>,
                *mut *mut c_void,
                *mut i32,
                *mut *mut c_void,
            ) -> HRESULT
        )?;
        let side = SIDE.cast_unsigned();
        let asked = DXGI_SWAP_CHAIN_DESC {
            BufferDesc: DXGI_MODE_DESC {
                Width: side,
                Height: side,
                Format: DXGI_FORMAT_B8G8R8A8_UNORM,
                ..DXGI_MODE_DESC::default()
            },
            SampleDesc: DXGI_SAMPLE_DESC { Count: 1, Quality: 0 },
            BufferUsage: DXGI_USAGE_RENDER_TARGET_OUTPUT,
            BufferCount: 2,
            OutputWindow: self.0,
            Windowed: true.into(),
            SwapEffect: DXGI_SWAP_EFFECT_FLIP_DISCARD,
            Flags: 0,
        };
        let call = "D3D11CreateDeviceAndSwapChain";
        let mut failure = OsError::NotOffered { call };
        for driver in DRIVERS {
            let (mut chain, nothing) = (None, core::ptr::null_mut());
            // SAFETY: what is asked lives for the call, and only the swap chain is wanted of what is made; it holds the rest.
            let answer = unsafe {
                create(
                    nothing,
                    driver,
                    HMODULE::default(),
                    0,
                    core::ptr::null(),
                    0,
                    SDK_VERSION,
                    &raw const asked,
                    &raw mut chain,
                    core::ptr::null_mut(),
                    core::ptr::null_mut(),
                    core::ptr::null_mut(),
                )
            };
            match (answer.ok(), chain) {
                (Ok(()), Some(chain)) => return Ok(chain),
                (Ok(()), None) => {}
                (Err(error), _) => failure = failed(call)(error),
            }
        }
        Err(failure)
    }
}

impl Drop for Window {
    fn drop(&mut self) {
        // SAFETY: the window is of this thread, and there. One that cannot be closed goes with the program.
        let _ = unsafe { DestroyWindow(self.0) };
    }
}

impl PicturesApi for OwnWindow {
    fn show(&self, every: Duration, length: Duration) -> Result<Vec<Duration>, OsError> {
        let window = Window::open()?;
        let chain = window.swap_chain()?;
        let mut shown = Vec::new();
        let begun = Instant::now();
        let mut due = Duration::ZERO;
        while due < length {
            window.answer();
            thread::sleep(due.saturating_sub(begun.elapsed() + AWAKE));
            while begun.elapsed() < due {
                std::hint::spin_loop();
            }
            shown.push(begun.elapsed());
            // SAFETY: the swap chain and its window are there.
            let answer = unsafe { chain.Present(NO_WAIT, DXGI_PRESENT(0)) };
            answer.ok().map_err(failed("Present"))?;
            due += every;
        }
        Ok(shown)
    }
}
