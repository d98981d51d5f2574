//! Devices.

use windows::Win32::Devices::DeviceAndDriverInstallation::{
    CM_DEVNODE_STATUS_FLAGS, CM_Get_DevNode_Status, CM_LOCATE_DEVNODE_NORMAL, CM_Locate_DevNodeW,
    CM_PROB, CM_PROB_DISABLED, CM_PROB_HARDWARE_DISABLED, CONFIGRET, CR_NO_SUCH_DEVNODE,
    CR_SUCCESS, DN_HAS_PROBLEM,
};

use super::library::function;
use super::wide::Wide;
use frevin_pc::windows::devices::DevicesApi;
use frevin_pc::windows::os_error::OsError;

/// This PC's devices.
pub(crate) struct DeviceManager;

/// `CM_DISABLE_PERSIST`: it stays off after a restart.
const FOR_GOOD: u32 = 8;
/// `CM_DISABLE_POLITE`: whoever uses it is asked, and may refuse.
const POLITELY: u32 = 0;
/// `CR_ACCESS_DENIED`, and `ERROR_ACCESS_DENIED` for it.
const DENIED: (u32, u32) = (0x33, 5);

fn checked(call: &'static str, answer: CONFIGRET) -> Result<(), OsError> {
    match answer.0 {
        0 => Ok(()),
        code if code == DENIED.0 => Err(OsError::code(call, DENIED.1)),
        code => Err(OsError::Said(format!("{call} answers {code}"))),
    }
}

pub(crate) fn locate(id: &str) -> Result<Option<u32>, OsError> {
    let id = Wide::new(id);
    let mut node = 0;
    // SAFETY: the identifier lives for the call, and a number is written to a place of its own.
    let answer =
        unsafe { CM_Locate_DevNodeW(&raw mut node, id.as_ptr(), CM_LOCATE_DEVNODE_NORMAL) };
    if answer == CR_NO_SUCH_DEVNODE {
        return Ok(None);
    }
    checked("CM_Locate_DevNodeW", answer).map(|()| Some(node))
}

impl DevicesApi for DeviceManager {
    fn is_enabled(&self, id: &str) -> Result<Option<bool>, OsError> {
        let Some(node) = locate(id)? else { return Ok(None) };
        let mut status = CM_DEVNODE_STATUS_FLAGS::default();
        let mut problem = CM_PROB::default();
        // SAFETY: two numbers are written to places of their own.
        let answer = unsafe { CM_Get_DevNode_Status(&raw mut status, &raw mut problem, node, 0) };
        if answer != CR_SUCCESS {
            checked("CM_Get_DevNode_Status", answer)?;
        }
        let is_off = [CM_PROB_DISABLED, CM_PROB_HARDWARE_DISABLED].contains(&problem);
        Ok(Some(status & DN_HAS_PROBLEM == CM_DEVNODE_STATUS_FLAGS(0) || !is_off))
    }

    fn set_enabled(&self, id: &str, enabled: bool) -> Result<(), OsError> {
        let node = locate(id)?.ok_or_else(|| OsError::Said(format!("there is no device {id}")))?;
        if enabled {
            let enable = function!("cfgmgr32.dll", fn CM_Enable_DevNode(u32, u32) -> CONFIGRET)?;
            // SAFETY: the device was found just now.
            checked("CM_Enable_DevNode", unsafe { enable(node, 0) })
        } else {
            let disable = function!("cfgmgr32.dll", fn CM_Disable_DevNode(u32, u32) -> CONFIGRET)?;
            // SAFETY: as above.
            checked("CM_Disable_DevNode", unsafe { disable(node, FOR_GOOD) })
        }
    }

    fn restart(&self, id: &str) -> Result<(), OsError> {
        let node = locate(id)?.ok_or_else(|| OsError::Said(format!("there is no device {id}")))?;
        let enable = function!("cfgmgr32.dll", fn CM_Enable_DevNode(u32, u32) -> CONFIGRET)?;
        let disable = function!("cfgmgr32.dll", fn CM_Disable_DevNode(u32, u32) -> CONFIGRET)?;
        // SAFETY: the device was found just now. Not for good: it is on again after the next start.
        checked("CM_Disable_DevNode", unsafe { disable(node, POLITELY) })?;
        // SAFETY: as above.
        checked("CM_Enable_DevNode", unsafe { enable(node, 0) })
    }
}
