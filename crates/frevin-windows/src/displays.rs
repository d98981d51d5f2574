//! Displays.

use frevin_core::setting::{ColourRamp, DisplayMode};
use windows::Win32::Devices::Display::{
    DISPLAYCONFIG_DEVICE_INFO_GET_SOURCE_NAME, DISPLAYCONFIG_DEVICE_INFO_GET_TARGET_NAME,
    DISPLAYCONFIG_DEVICE_INFO_HEADER, DISPLAYCONFIG_DEVICE_INFO_TYPE, DISPLAYCONFIG_MODE_INFO,
    DISPLAYCONFIG_PATH_INFO, DISPLAYCONFIG_SOURCE_DEVICE_NAME, DISPLAYCONFIG_TARGET_DEVICE_NAME,
    DisplayConfigGetDeviceInfo, GetDisplayConfigBufferSizes, QDC_ONLY_ACTIVE_PATHS,
    QueryDisplayConfig,
};
use windows::Win32::Foundation::LUID;
use windows::Win32::Graphics::Gdi::{
    CDS_TEST, CDS_TYPE, CDS_UPDATEREGISTRY, ChangeDisplaySettingsExW, CreateDCW, DEVMODEW,
    DISP_CHANGE_SUCCESSFUL, DISPLAY_DEVICE_ATTACHED_TO_DESKTOP, DISPLAY_DEVICEW,
    DM_DISPLAYFREQUENCY, DM_PELSHEIGHT, DM_PELSWIDTH, DeleteDC, ENUM_CURRENT_SETTINGS,
    ENUM_DISPLAY_SETTINGS_FLAGS, ENUM_DISPLAY_SETTINGS_MODE, EnumDisplayDevicesW,
    EnumDisplaySettingsExW, HDC,
};
use windows::Win32::UI::ColorSystem::{GetDeviceGammaRamp, SetDeviceGammaRamp};
use windows::core::PCWSTR;

use super::wide::{Wide, text};
use frevin_pc::windows::displays::{DisplaySeen, DisplaysApi};
use frevin_pc::windows::os_error::OsError;

/// This PC's displays.
pub(crate) struct DisplayDevices;

/// The numbers of a ramp.
const RAMP_NUMBERS: usize = 768;

/// What is drawn on of a display.
struct DeviceContext(HDC);

impl DeviceContext {
    fn of(device: &str) -> Result<Self, OsError> {
        let device = Wide::new(device);
        // SAFETY: the name lives for the call.
        let context = unsafe { CreateDCW(device.as_ptr(), device.as_ptr(), PCWSTR::null(), None) };
        match context.is_invalid() {
            true => Err(OsError::Said("the display cannot be drawn on".to_owned())),
            false => Ok(Self(context)),
        }
    }
}

impl Drop for DeviceContext {
    fn drop(&mut self) {
        // SAFETY: it was made by this program, and is deleted once.
        let _ = unsafe { DeleteDC(self.0) };
    }
}

/// A structure of Windows' that holds its own size.
fn size<T>() -> u32 {
    u32::try_from(size_of::<T>()).unwrap_or(u32::MAX)
}

fn device(parent: Option<&Wide>, index: u32) -> Option<DISPLAY_DEVICEW> {
    let mut device = DISPLAY_DEVICEW { cb: size::<DISPLAY_DEVICEW>(), ..Default::default() };
    let parent = parent.map_or(PCWSTR::null(), Wide::as_ptr);
    // SAFETY: the name lives for the call, and the structure says its size.
    unsafe { EnumDisplayDevicesW(parent, index, &raw mut device, 0) }.as_bool().then_some(device)
}

fn mode(device: &Wide, which: ENUM_DISPLAY_SETTINGS_MODE) -> Option<DisplayMode> {
    let mut found =
        DEVMODEW { dmSize: u16::try_from(size::<DEVMODEW>()).ok()?, ..Default::default() };
    let none = ENUM_DISPLAY_SETTINGS_FLAGS(0);
    // SAFETY: the name lives for the call, and the structure says its size.
    let is_there =
        unsafe { EnumDisplaySettingsExW(device.as_ptr(), which, &raw mut found, none) }.as_bool();
    is_there.then_some(DisplayMode {
        width_px: found.dmPelsWidth,
        height_px: found.dmPelsHeight,
        refresh_hz: found.dmDisplayFrequency,
    })
}

fn header<T>(
    kind: DISPLAYCONFIG_DEVICE_INFO_TYPE,
    adapter: LUID,
    id: u32,
) -> DISPLAYCONFIG_DEVICE_INFO_HEADER {
    DISPLAYCONFIG_DEVICE_INFO_HEADER { r#type: kind, size: size::<T>(), adapterId: adapter, id }
}

/// The names that owners know their displays by, with the devices that they are connected to.
fn friendly_names() -> Vec<(String, String)> {
    let (mut paths, mut modes) = (0, 0);
    let which = QDC_ONLY_ACTIVE_PATHS;
    // SAFETY: two numbers are written to places of their own.
    if unsafe { GetDisplayConfigBufferSizes(which, &raw mut paths, &raw mut modes) }.0 != 0 {
        return Vec::new();
    }
    let mut path_list = vec![DISPLAYCONFIG_PATH_INFO::default(); paths as usize];
    let mut mode_list = vec![DISPLAYCONFIG_MODE_INFO::default(); modes as usize];
    // SAFETY: the lists are as long as is said.
    let answer = unsafe {
        QueryDisplayConfig(
            which,
            &raw mut paths,
            path_list.as_mut_ptr(),
            &raw mut modes,
            mode_list.as_mut_ptr(),
            None,
        )
    };
    if answer.0 != 0 {
        return Vec::new();
    }
    path_list.truncate(paths as usize);
    let mut names = Vec::new();
    for path in path_list {
        let mut source = DISPLAYCONFIG_SOURCE_DEVICE_NAME {
            header: header::<DISPLAYCONFIG_SOURCE_DEVICE_NAME>(
                DISPLAYCONFIG_DEVICE_INFO_GET_SOURCE_NAME,
                path.sourceInfo.adapterId,
                path.sourceInfo.id,
            ),
            ..Default::default()
        };
        let mut target = DISPLAYCONFIG_TARGET_DEVICE_NAME {
            header: header::<DISPLAYCONFIG_TARGET_DEVICE_NAME>(
                DISPLAYCONFIG_DEVICE_INFO_GET_TARGET_NAME,
                path.targetInfo.adapterId,
                path.targetInfo.id,
            ),
            ..Default::default()
        };
        // SAFETY: both structures begin with a header that says what they are and how long.
        let answers = unsafe {
            [
                DisplayConfigGetDeviceInfo((&raw mut source).cast()),
                DisplayConfigGetDeviceInfo((&raw mut target).cast()),
            ]
        };
        let name = text(&target.monitorFriendlyDeviceName);
        if answers == [0, 0] && !name.trim().is_empty() {
            names.push((text(&source.viewGdiDeviceName), name.trim().to_owned()));
        }
    }
    names
}

impl DisplaysApi for DisplayDevices {
    fn displays(&self) -> Result<Vec<DisplaySeen>, OsError> {
        let friendly = friendly_names();
        let mut displays = Vec::new();
        for index in 0.. {
            let Some(found) = device(None, index) else { break };
            if !found.StateFlags.contains(DISPLAY_DEVICE_ATTACHED_TO_DESKTOP) {
                continue;
            }
            let name = text(&found.DeviceName);
            let wide = Wide::new(&name);
            let Some(current) = mode(&wide, ENUM_CURRENT_SETTINGS) else { continue };
            let mut modes = Vec::new();
            for number in 0.. {
                match mode(&wide, ENUM_DISPLAY_SETTINGS_MODE(number)) {
                    Some(mode) if !modes.contains(&mode) => modes.push(mode),
                    Some(_) => {}
                    None => break,
                }
            }
            let known = friendly.iter().find(|(device, _)| *device == name);
            let monitor = || device(Some(&wide), 0).map(|monitor| text(&monitor.DeviceString));
            displays.push(DisplaySeen {
                name: known
                    .map(|(_, friendly)| friendly.clone())
                    .or_else(monitor)
                    .filter(|name| !name.trim().is_empty())
                    .unwrap_or_else(|| name.trim_start_matches(r"\\.\").to_owned()),
                device: name,
                mode: current,
                modes,
                // Windows tells a program its own scaling, and nobody a display's.
                scaling_percent: None,
            });
        }
        Ok(displays)
    }

    fn set_mode(&self, device: &str, mode: DisplayMode) -> Result<(), OsError> {
        let device = Wide::new(device);
        let wanted = DEVMODEW {
            dmSize: u16::try_from(size::<DEVMODEW>()).unwrap_or(u16::MAX),
            dmFields: DM_PELSWIDTH | DM_PELSHEIGHT | DM_DISPLAYFREQUENCY,
            dmPelsWidth: mode.width_px,
            dmPelsHeight: mode.height_px,
            dmDisplayFrequency: mode.refresh_hz,
            ..Default::default()
        };
        let change = |how: CDS_TYPE| {
            // SAFETY: the name lives for the call, and the structure says its size and what of it
            // counts.
            let answer = unsafe {
                ChangeDisplaySettingsExW(device.as_ptr(), Some(&raw const wanted), None, how, None)
            };
            if answer == DISP_CHANGE_SUCCESSFUL {
                return Ok(());
            }
            Err(OsError::Said(format!("the display's driver answers {}", answer.0)))
        };
        change(CDS_TEST)?;
        change(CDS_UPDATEREGISTRY)
    }

    fn ramp(&self, device: &str) -> Result<ColourRamp, OsError> {
        let mut numbers = vec![0_u16; RAMP_NUMBERS];
        let context = DeviceContext::of(device)?;
        // SAFETY: the context is of a display, and the place holds as many numbers as a ramp has.
        let told = unsafe { GetDeviceGammaRamp(context.0, numbers.as_mut_ptr().cast()) };
        let ramp = told.as_bool().then_some(numbers).and_then(ColourRamp::of);
        ramp.ok_or_else(|| OsError::Said("the display's driver tells no ramp".to_owned()))
    }

    fn set_ramp(&self, device: &str, ramp: &ColourRamp) -> Result<(), OsError> {
        let context = DeviceContext::of(device)?;
        // SAFETY: the context is of a display, and a ramp has the numbers that are read.
        let done = unsafe { SetDeviceGammaRamp(context.0, ramp.numbers().as_ptr().cast()) };
        match done.as_bool() {
            true => Ok(()),
            false => Err(OsError::Said(
                "the display's driver refuses this ramp, which may be too far from a straight line"
                    .to_owned(),
            )),
        }
    }
}
