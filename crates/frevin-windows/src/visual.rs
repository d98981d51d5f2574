//! System parameters.

use frevin_core::setting::VisualParameter;
use windows::Win32::UI::WindowsAndMessaging as ui;
use windows::Win32::UI::WindowsAndMessaging::{
    SPIF_SENDCHANGE, SPIF_UPDATEINIFILE, SYSTEM_PARAMETERS_INFO_ACTION,
    SYSTEM_PARAMETERS_INFO_UPDATE_FLAGS, SystemParametersInfoW,
};

use super::wide::failed;
use frevin_pc::windows::os_error::OsError;
use frevin_pc::windows::visual::VisualApi;

/// This user's system parameters.
pub(crate) struct SystemParameters;

/// Where a parameter's new value goes: the two ways that `SystemParametersInfoW` has.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Given {
    /// As `uiParam`.
    First,
    /// As `pvParam` itself, which is no pointer then.
    Second,
}

/// The actions that read and write a parameter (documentation of `SystemParametersInfoW`).
fn actions(
    parameter: VisualParameter,
) -> (SYSTEM_PARAMETERS_INFO_ACTION, SYSTEM_PARAMETERS_INFO_ACTION, Given) {
    use Given::{First, Second};
    match parameter {
        VisualParameter::ClientAreaAnimation => {
            (ui::SPI_GETCLIENTAREAANIMATION, ui::SPI_SETCLIENTAREAANIMATION, Second)
        }
        VisualParameter::ComboBoxAnimation => {
            (ui::SPI_GETCOMBOBOXANIMATION, ui::SPI_SETCOMBOBOXANIMATION, Second)
        }
        VisualParameter::CursorShadow => (ui::SPI_GETCURSORSHADOW, ui::SPI_SETCURSORSHADOW, Second),
        VisualParameter::DragFullWindows => {
            (ui::SPI_GETDRAGFULLWINDOWS, ui::SPI_SETDRAGFULLWINDOWS, First)
        }
        VisualParameter::DropShadow => (ui::SPI_GETDROPSHADOW, ui::SPI_SETDROPSHADOW, Second),
        VisualParameter::FontSmoothing => {
            (ui::SPI_GETFONTSMOOTHING, ui::SPI_SETFONTSMOOTHING, First)
        }
        VisualParameter::ListBoxSmoothScrolling => {
            (ui::SPI_GETLISTBOXSMOOTHSCROLLING, ui::SPI_SETLISTBOXSMOOTHSCROLLING, Second)
        }
        VisualParameter::MenuAnimation => {
            (ui::SPI_GETMENUANIMATION, ui::SPI_SETMENUANIMATION, Second)
        }
        VisualParameter::MenuDelay => (ui::SPI_GETMENUSHOWDELAY, ui::SPI_SETMENUSHOWDELAY, First),
        // Read and written by itself below: three numbers, through a pointer.
        VisualParameter::PointerAcceleration => (ui::SPI_GETMOUSE, ui::SPI_SETMOUSE, First),
        VisualParameter::PointerSpeed => (ui::SPI_GETMOUSESPEED, ui::SPI_SETMOUSESPEED, Second),
        VisualParameter::SelectionFade => {
            (ui::SPI_GETSELECTIONFADE, ui::SPI_SETSELECTIONFADE, Second)
        }
        VisualParameter::ToolTipAnimation => {
            (ui::SPI_GETTOOLTIPANIMATION, ui::SPI_SETTOOLTIPANIMATION, Second)
        }
        VisualParameter::UiEffects => (ui::SPI_GETUIEFFECTS, ui::SPI_SETUIEFFECTS, Second),
    }
}

impl VisualApi for SystemParameters {
    fn get(&self, parameter: VisualParameter) -> Result<u32, OsError> {
        let (get, ..) = actions(parameter);
        let mut value = 0_u32;
        let none = SYSTEM_PARAMETERS_INFO_UPDATE_FLAGS(0);
        // SAFETY: each of these actions writes a number of four bytes to `pvParam`.
        unsafe { SystemParametersInfoW(get, 0, Some((&raw mut value).cast()), none) }
            .map_err(failed("SystemParametersInfoW"))?;
        Ok(value)
    }

    fn set(&self, parameter: VisualParameter, value: u32) -> Result<(), OsError> {
        let (_, set, given) = actions(parameter);
        let (first, second) = match given {
            Given::First => (value, None),
            Given::Second => (0, Some(value as usize as *mut core::ffi::c_void)),
        };
        let for_good = SPIF_UPDATEINIFILE | SPIF_SENDCHANGE;
        // SAFETY: none of these actions reads through `pvParam`: it is the value, or not looked at.
        unsafe { SystemParametersInfoW(set, first, second, for_good) }
            .map_err(failed("SystemParametersInfoW"))
    }

    fn pointer_acceleration(&self) -> Result<[u32; 3], OsError> {
        let mut values = [0_u32; 3];
        let none = SYSTEM_PARAMETERS_INFO_UPDATE_FLAGS(0);
        // SAFETY: the action writes three numbers of four bytes to `pvParam`.
        unsafe {
            SystemParametersInfoW(ui::SPI_GETMOUSE, 0, Some(values.as_mut_ptr().cast()), none)
        }
        .map_err(failed("SystemParametersInfoW"))?;
        Ok(values)
    }

    fn set_pointer_acceleration(&self, mut values: [u32; 3]) -> Result<(), OsError> {
        let for_good = SPIF_UPDATEINIFILE | SPIF_SENDCHANGE;
        let values = Some(values.as_mut_ptr().cast());
        // SAFETY: the action reads three numbers of four bytes through `pvParam`, and keeps no pointer.
        unsafe { SystemParametersInfoW(ui::SPI_SETMOUSE, 0, values, for_good) }
            .map_err(failed("SystemParametersInfoW"))
    }
}
