//! Frame times out of the events that Windows traces when a program shows a picture.
//!
//! The graphics runtimes and the graphics kernel announce each picture that a program hands over. What lies
//! between two of them, of one swap chain, is a frame time. Nothing is put into the program for it.
//!
//! Event numbers and payloads are those of the providers' manifests, which every Windows shows
//! (`wevtutil get-publisher Microsoft-Windows-DXGI /getevents`); the flag of a test presentation is
//! `DXGI_PRESENT_TEST` of the Windows SDK.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use uuid::Uuid;

/// The provider `Microsoft-Windows-DXGI`: Direct3D 10 and later.
pub const DXGI: Uuid = Uuid::from_u128(0xca11c036_0102_4a2d_a6ad_f03cfed5d3c9);
/// The provider `Microsoft-Windows-D3D9`: Direct3D 9.
pub const DIRECT3D_9: Uuid = Uuid::from_u128(0x783aca0a_790e_4d7f_8451_aa850511c6b9);
/// The provider `Microsoft-Windows-DxgKrnl`: every program that shows pictures.
pub const GRAPHICS_KERNEL: Uuid = Uuid::from_u128(0x802ec45a_1e99_4b83_9920_87c98277ba9d);
/// What a session in real time says of itself: `RT_LostEvent`.
pub const LOST_EVENTS: Uuid = Uuid::from_u128(0x6a399ae0_4bc6_4de9_870b_3657f8947e7e);

/// `Present_Start` of DXGI: a pointer to the swap chain, then flags and the interval, 4 bytes each.
const DXGI_PRESENT: u16 = 42;
/// `PresentMultiplaneOverlay_Start` of DXGI, with the same beginning.
const DXGI_PRESENT_OVERLAY: u16 = 55;
/// `Present_Start` of Direct3D 9: a pointer to the swap chain, then flags of 4 bytes.
const DIRECT3D_9_PRESENT: u16 = 1;
/// `Present_Info` of the graphics kernel.
const KERNEL_PRESENT: u16 = 184;
/// A presentation that only asks whether one could be made.
const PRESENT_TEST: u32 = 1;
/// A program whose second swap chain has more than this share of the pictures of its first shows two.
const SECOND_SHARE: f64 = 0.5;

/// An event as Windows hands it over (`EVENT_RECORD`), without what is not used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EventRecord {
    /// Who wrote it.
    pub provider: Uuid,
    /// Which event of the provider it is.
    pub event: u16,
    /// The program in which it was written.
    pub process: u32,
    /// When, in ticks of the session's clock.
    pub ticks: i64,
    /// Whether pointers in the payload have 8 bytes; else they have 4.
    pub is_64_bit: bool,
    /// What the provider says with it.
    pub payload: Vec<u8>,
}

/// The clock of a session (`Wnode.ClientContext`).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TraceClock {
    /// The performance counter, with so many ticks a second.
    PerformanceCounter {
        /// Ticks in a second.
        per_second: i64,
    },
    /// The system's time in steps of 100 ns.
    SystemTime,
    /// The processor's cycles.
    ProcessorCycles {
        /// The processor's speed in MHz.
        mhz: u32,
    },
}

impl TraceClock {
    fn ms(self, ticks: i64) -> f64 {
        let per_ms = match self {
            Self::PerformanceCounter { per_second } => per_second as f64 / 1000.0,
            Self::SystemTime => 10_000.0,
            Self::ProcessorCycles { mhz } => f64::from(mhz) * 1000.0,
        };
        ticks as f64 / per_ms
    }
}

/// Who announced a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum PresentedBy {
    /// DXGI.
    Dxgi,
    /// Direct3D 9.
    Direct3d9,
    /// The graphics kernel alone, as for programs that use neither.
    Kernel,
}

/// The frames of one swap chain.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Presented {
    /// The program.
    pub process: u32,
    /// Who announced its pictures.
    pub by: PresentedBy,
    /// The swap chain's address in the program; 0 where only the kernel speaks.
    pub swap_chain: u64,
    /// What lies between two pictures, in milliseconds.
    #[serde(skip)]
    pub frame_ms: Vec<f64>,
    /// Frames left out since events were lost in them, or came with an earlier time than the one before.
    pub left_out: u64,
}

/// Why no frames can be had from events.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum PresentsError {
    /// No program that is meant showed a picture.
    #[error("it showed no pictures in that time")]
    None,
    /// There are several about as busy ones.
    #[error("pictures were shown by several: {0}")]
    Several(String),
}

/// The frames of each swap chain of each program, the busiest first.
///
/// A program's pictures are counted where its runtime announces them; what the kernel says of the same
/// ones is left out then. Events need not come in order. Where events were lost, what lies between the pictures before and
/// after is no frame time.
pub fn presented(records: &[EventRecord], clock: TraceClock) -> Vec<Presented> {
    let mut in_order: Vec<&EventRecord> = records.iter().collect();
    in_order.sort_by_key(|record| record.ticks);
    let mut chains: BTreeMap<(u32, PresentedBy, u64), Chain> = BTreeMap::new();
    for record in in_order {
        if record.provider == LOST_EVENTS {
            chains.values_mut().for_each(Chain::break_off);
        } else if let Some((by, swap_chain)) = picture(record) {
            let chain = chains.entry((record.process, by, swap_chain)).or_default();
            chain.show(record.ticks, clock);
        }
    }
    let has_runtime: Vec<u32> =
        chains.keys().filter(|key| key.1 != PresentedBy::Kernel).map(|key| key.0).collect();
    let is_own = |(process, by, _): &(u32, PresentedBy, u64)| {
        *by != PresentedBy::Kernel || !has_runtime.contains(process)
    };
    let mut presented: Vec<Presented> = chains
        .into_iter()
        .filter(|(key, chain)| is_own(key) && !chain.frame_ms.is_empty())
        .map(|((process, by, swap_chain), chain)| {
            let Chain { frame_ms, left_out, .. } = chain;
            Presented { process, by, swap_chain, frame_ms, left_out }
        })
        .collect();
    presented.sort_by_key(|chain| std::cmp::Reverse(chain.frame_ms.len()));
    presented
}

/// The one of several that is the game: the busiest, where no other is nearly as busy.
///
/// # Errors
/// [`PresentsError`] where there is none or another is nearly as busy.
pub fn busiest(presented: &[Presented]) -> Result<&Presented, PresentsError> {
    let first = presented.first().ok_or(PresentsError::None)?;
    let busy = |chain: &&Presented| {
        chain.frame_ms.len() as f64 > SECOND_SHARE * first.frame_ms.len() as f64
    };
    let also: Vec<String> = presented
        .iter()
        .filter(busy)
        .map(|chain| {
            format!(
                "process {} on swap chain {:#x} ({} frames)",
                chain.process,
                chain.swap_chain,
                chain.frame_ms.len()
            )
        })
        .collect();
    if also.len() > 1 { Err(PresentsError::Several(also.join(", "))) } else { Ok(first) }
}

/// Whether an event says anything about frames: the others need not be kept.
pub fn is_of_use(provider: Uuid, event: u16) -> bool {
    match provider {
        DXGI => matches!(event, DXGI_PRESENT | DXGI_PRESENT_OVERLAY),
        DIRECT3D_9 => event == DIRECT3D_9_PRESENT,
        GRAPHICS_KERNEL => event == KERNEL_PRESENT,
        LOST_EVENTS => true,
        _ => false,
    }
}

/// The swap chain that an event announces a picture of, if it is such an event.
fn picture(record: &EventRecord) -> Option<(PresentedBy, u64)> {
    let by = match (record.provider, record.event) {
        (DXGI, DXGI_PRESENT | DXGI_PRESENT_OVERLAY) => PresentedBy::Dxgi,
        (DIRECT3D_9, DIRECT3D_9_PRESENT) => PresentedBy::Direct3d9,
        (GRAPHICS_KERNEL, KERNEL_PRESENT) => return Some((PresentedBy::Kernel, 0)),
        _ => return None,
    };
    let (swap_chain, rest) = if record.is_64_bit {
        let (bytes, rest) = record.payload.split_first_chunk()?;
        (u64::from_le_bytes(*bytes), rest)
    } else {
        let (bytes, rest) = record.payload.split_first_chunk()?;
        (u32::from_le_bytes(*bytes).into(), rest)
    };
    let flags = u32::from_le_bytes(*rest.first_chunk()?);
    let is_test = by == PresentedBy::Dxgi && flags & PRESENT_TEST != 0;
    (!is_test).then_some((by, swap_chain))
}

#[derive(Default)]
struct Chain {
    last_ticks: Option<i64>,
    is_broken_off: bool,
    frame_ms: Vec<f64>,
    left_out: u64,
}

impl Chain {
    fn break_off(&mut self) {
        self.is_broken_off = true;
    }

    fn show(&mut self, ticks: i64, clock: TraceClock) {
        let Some(last) = self.last_ticks.replace(ticks) else { return };
        let frame_ms = clock.ms(ticks.saturating_sub(last));
        if self.is_broken_off || frame_ms <= 0.0 {
            self.is_broken_off = false;
            self.left_out += 1;
        } else {
            self.frame_ms.push(frame_ms);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const CLOCK: TraceClock = TraceClock::PerformanceCounter { per_second: 10_000_000 };

    fn pointer(value: u64, is_64_bit: bool) -> Vec<u8> {
        let bytes = value.to_le_bytes();
        bytes[..if is_64_bit { 8 } else { 4 }].to_vec()
    }

    fn record(
        provider: Uuid,
        event: u16,
        process: u32,
        ticks: i64,
        payload: Vec<u8>,
    ) -> EventRecord {
        EventRecord { provider, event, process, ticks, is_64_bit: true, payload }
    }

    /// `Present_Start` of DXGI: pIDXGISwapChain, Flags, SyncInterval.
    fn dxgi(process: u32, chain: u64, ticks: i64, flags: u32) -> EventRecord {
        let payload = [pointer(chain, true), flags.to_le_bytes().to_vec(), vec![0; 4]].concat();
        record(DXGI, DXGI_PRESENT, process, ticks, payload)
    }

    #[test]
    fn frames_lie_between_the_pictures_of_one_swap_chain() {
        let mut records = Vec::new();
        for i in 0..10 {
            records.push(dxgi(7, 0xa0, i * 100_000, 0));
            records.push(dxgi(7, 0xb0, i * 100_000 + 3, if i < 3 { 0 } else { PRESENT_TEST }));
            records.push(dxgi(8, 0xa0, i * 50_000, 0));
            // The kernel speaks of the same pictures, and the runtime of their end.
            records.push(record(GRAPHICS_KERNEL, KERNEL_PRESENT, 7, i * 100_000 + 40, Vec::new()));
            records.push(record(DXGI, 43, 7, i * 100_000 + 50, vec![0; 4]));
        }
        records.reverse();
        let found = presented(&records, CLOCK);
        let counts: Vec<_> =
            found.iter().map(|p| (p.process, p.swap_chain, p.frame_ms.len())).collect();
        assert_eq!(counts, [(7, 0xa0, 9), (8, 0xa0, 9), (7, 0xb0, 2)]);
        assert_eq!(found[0].frame_ms, [10.0; 9]);
        assert_eq!(found[1].frame_ms, [5.0; 9]);
        assert!(matches!(busiest(&found), Err(PresentsError::Several(_))));
        let of_seven: Vec<Presented> = found.into_iter().filter(|p| p.process == 7).collect();
        assert_eq!(busiest(&of_seven).unwrap().swap_chain, 0xa0);
        assert_eq!(busiest(&[]), Err(PresentsError::None));
    }

    #[test]
    fn older_and_other_runtimes_are_understood() {
        let old = |ticks| EventRecord {
            is_64_bit: false,
            ..record(
                DIRECT3D_9,
                1,
                3,
                ticks,
                [pointer(0xffff_0010, false), vec![1, 0, 0, 0]].concat(),
            )
        };
        let kernel = |ticks| record(GRAPHICS_KERNEL, KERNEL_PRESENT, 4, ticks, vec![9; 3]);
        let records =
            [old(0), old(160_000), old(320_000), kernel(0), kernel(70_000)].map(|record| record);
        let found = presented(&records, CLOCK);
        assert_eq!((found[0].by, found[0].swap_chain), (PresentedBy::Direct3d9, 0xffff_0010));
        assert_eq!(found[0].frame_ms, [16.0, 16.0]);
        assert_eq!((found[1].by, &found[1].frame_ms[..]), (PresentedBy::Kernel, &[7.0][..]));
    }

    #[test]
    fn what_lost_events_lie_in_is_no_frame() {
        let lost = record(LOST_EVENTS, 0, 0, 250_000, Vec::new());
        let times = [0, 100_000, 200_000, 400_000, 500_000, 500_000];
        let mut records: Vec<EventRecord> = times.iter().map(|t| dxgi(7, 1, *t, 0)).collect();
        records.push(lost);
        let found = presented(&records, CLOCK);
        assert_eq!(found[0].frame_ms, [10.0, 10.0, 10.0]);
        assert_eq!(found[0].left_out, 2, "one lost, one at the same tick");
    }

    #[test]
    fn clocks_of_every_kind_tell_the_same_time() {
        for (clock, second) in [
            (CLOCK, 10_000_000),
            (TraceClock::SystemTime, 10_000_000),
            (TraceClock::ProcessorCycles { mhz: 3500 }, 3_500_000_000),
            (TraceClock::PerformanceCounter { per_second: 3_579_545 }, 3_579_545),
        ] {
            let records = [dxgi(1, 1, second, 0), dxgi(1, 1, 2 * second, 0)];
            assert_eq!(presented(&records, clock)[0].frame_ms, [1000.0], "{clock:?}");
        }
    }

    #[test]
    fn a_payload_that_is_cut_off_is_no_picture() {
        let whole = dxgi(1, 1, 0, 0).payload;
        for length in 0..12 {
            let cut = |ticks| record(DXGI, DXGI_PRESENT, 1, ticks, whole[..length].to_vec());
            assert_eq!(presented(&[cut(0), cut(10)], CLOCK), [], "{length}");
        }
    }
}
