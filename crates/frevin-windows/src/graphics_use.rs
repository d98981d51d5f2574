//! Graphics cards as the graphics kernel lists them, and the counters of their engines.

use core::ffi::c_void;

use super::library::function;
use super::wide::text;
use super::wmi::Namespace;
use frevin_pc::windows::graphics_use::{CardId, GraphicsUseApi, NamedCard};
use frevin_pc::windows::os_error::OsError;

/// This PC's graphics cards in use.
pub(crate) struct GraphicsUse;

/// `D3DKMT_ADAPTERINFO`.
#[repr(C)]
struct AdapterInfo {
    handle: u32,
    /// The low part first, as in `LUID`.
    luid: [u32; 2],
    sources: u32,
    is_present_moving: i32,
}

/// `D3DKMT_ENUMADAPTERS2`.
#[repr(C)]
struct EnumAdapters {
    count: u32,
    adapters: *mut AdapterInfo,
}

/// `D3DKMT_QUERYADAPTERINFO`.
#[repr(C)]
struct QueryAdapterInfo {
    handle: u32,
    kind: u32,
    data: *mut c_void,
    size: u32,
}

/// A graphics card that is open.
pub(crate) struct Card {
    handle: u32,
    /// Its locally unique identifier, the high part first.
    pub(crate) luid: CardId,
}

impl Card {
    /// The graphics cards that the kernel knows.
    pub(crate) fn all() -> Result<Vec<Self>, OsError> {
        let list = function!("gdi32.dll", fn D3DKMTEnumAdapters2(*mut EnumAdapters) -> i32)?;
        let mut asked = EnumAdapters { count: 0, adapters: core::ptr::null_mut() };
        let failed = |status: i32| OsError::code("D3DKMTEnumAdapters2", status.cast_unsigned());
        // SAFETY: without a list only the number of adapters is told.
        let status = unsafe { list(&raw mut asked) };
        if status != 0 || asked.count == 0 || asked.count > 64 {
            return Err(failed(status));
        }
        let mut adapters: Vec<AdapterInfo> = (0..asked.count)
            .map(|_| AdapterInfo { handle: 0, luid: [0; 2], sources: 0, is_present_moving: 0 })
            .collect();
        asked.adapters = adapters.as_mut_ptr();
        // SAFETY: the list has room for as many adapters as it says.
        let status = unsafe { list(&raw mut asked) };
        if status != 0 {
            return Err(failed(status));
        }
        adapters.truncate(asked.count as usize);
        let card = |adapter: AdapterInfo| Self {
            handle: adapter.handle,
            luid: (adapter.luid[1], adapter.luid[0]),
        };
        Ok(adapters.into_iter().map(card).collect())
    }

    /// The answer to a question about it, of a kind whose answer is a `T`; nothing where it gives none.
    ///
    /// # Safety
    /// `T` is the structure of this question, and any bytes are one.
    pub(crate) unsafe fn ask<T>(&self, kind: u32, mut answer: T) -> Option<T> {
        let query =
            function!("gdi32.dll", fn D3DKMTQueryAdapterInfo(*mut QueryAdapterInfo) -> i32).ok()?;
        let mut question = QueryAdapterInfo {
            handle: self.handle,
            kind,
            data: (&raw mut answer).cast(),
            size: u32::try_from(size_of::<T>()).ok()?,
        };
        // SAFETY: the card is open, and the answer is as long as is said.
        (unsafe { query(&raw mut question) } == 0).then_some(answer)
    }

    /// Its name.
    fn name(&self) -> Option<String> {
        /// `KMTQAITYPE_ADAPTERREGISTRYINFO`: four texts of this many characters, the name first.
        const REGISTRY: u32 = 8;
        const CHARACTERS: usize = 260;
        // SAFETY: the structure is four such texts.
        let texts = unsafe { self.ask(REGISTRY, [[0_u16; CHARACTERS]; 4]) }?;
        Some(text(&texts[0])).filter(|name| !name.is_empty())
    }
}

impl Drop for Card {
    fn drop(&mut self) {
        if let Ok(close) = function!("gdi32.dll", fn D3DKMTCloseAdapter(*const u32) -> i32) {
            // SAFETY: the card was opened by listing it and is closed once.
            let _ = unsafe { close(&raw const self.handle) };
        }
    }
}

impl GraphicsUseApi for GraphicsUse {
    fn engines(&self) -> Result<Vec<(String, f64)>, OsError> {
        let counters = Namespace::connect(r"ROOT\CIMV2")?.all(
            "SELECT Name, UtilizationPercentage FROM Win32_PerfFormattedData_GPUPerformanceCounters_GPUEngine",
        )?;
        let mut engines = Vec::new();
        for counter in counters {
            // A percentage of 64 bits is handed over as a text.
            let percent = counter.text("UtilizationPercentage")?.and_then(|text| text.parse().ok());
            if let (Some(name), Some(percent)) = (counter.text("Name")?, percent) {
                engines.push((name, percent));
            }
        }
        Ok(engines)
    }

    fn cards(&self) -> Result<Vec<NamedCard>, OsError> {
        let cards = Card::all()?;
        Ok(cards.iter().filter_map(|card| Some((card.luid, card.name()?))).collect())
    }
}
