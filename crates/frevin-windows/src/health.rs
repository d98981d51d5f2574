//! Windows' security centre, devices that do not work, and the log of servicing.

use std::io::{Read as _, Seek as _, SeekFrom};

use windows::Win32::Devices::DeviceAndDriverInstallation::{
    CM_DEVNODE_STATUS_FLAGS, CM_GETIDLIST_FILTER_PRESENT, CM_Get_DevNode_Status,
    CM_Get_Device_ID_List_SizeW, CM_Get_Device_ID_ListW, CM_PROB, CM_PROB_DISABLED,
    CM_PROB_HARDWARE_DISABLED, CM_PROB_PHANTOM, CR_SUCCESS, DN_HAS_PROBLEM,
};
use windows::Win32::System::Com::{CLSCTX_INPROC_SERVER, CoCreateInstance};
use windows::Win32::System::SecurityCenter::{
    IWSCProductList, WSC_SECURITY_PROVIDER, WSC_SECURITY_PROVIDER_ANTIVIRUS,
    WSC_SECURITY_PROVIDER_FIREWALL, WSCProductList,
};
use windows::core::PCWSTR;

use super::devices::locate;
use super::wide::failed;
use super::{com, folders};
use frevin_pc::windows::health::{GuardSeen, HealthApi};
use frevin_pc::windows::os_error::OsError;

/// This PC's health, as Windows knows it.
pub(crate) struct Health;

fn listed(provider: WSC_SECURITY_PROVIDER) -> Result<Vec<GuardSeen>, OsError> {
    com::begin();
    let list = || -> windows::core::Result<Vec<GuardSeen>> {
        // SAFETY: the class is that of this interface.
        let products: IWSCProductList =
            unsafe { CoCreateInstance(&WSCProductList, None, CLSCTX_INPROC_SERVER) }?;
        // SAFETY: the list was made just now, and is asked for its own entries.
        unsafe { products.Initialize(provider) }?;
        // SAFETY: as above.
        let count = u32::try_from(unsafe { products.Count() }?).unwrap_or(0);
        let mut seen = Vec::new();
        for index in 0..count {
            // SAFETY: as above.
            let product = unsafe { products.get_Item(index) }?;
            // SAFETY: the product is one of the list.
            let (name, program) = unsafe { (product.ProductName()?, product.RemediationPath()?) };
            seen.push(GuardSeen {
                name: name.to_string(),
                is_antivirus: provider == WSC_SECURITY_PROVIDER_ANTIVIRUS,
                program: program.to_string(),
            });
        }
        Ok(seen)
    };
    list().map_err(failed("IWSCProductList"))
}

/// Of the log, so much is looked at: a check of all files writes less.
const LOG_END_BYTES: u64 = 4 << 20;

impl HealthApi for Health {
    fn guards(&self) -> Result<Vec<GuardSeen>, OsError> {
        let mut seen = listed(WSC_SECURITY_PROVIDER_ANTIVIRUS)?;
        seen.extend(listed(WSC_SECURITY_PROVIDER_FIREWALL)?);
        Ok(seen)
    }

    fn devices_with_error(&self) -> Result<Vec<(String, u32)>, OsError> {
        let mut length = 0;
        let present = CM_GETIDLIST_FILTER_PRESENT;
        // SAFETY: a number is written to a place of its own, and no filter is named.
        let answer =
            unsafe { CM_Get_Device_ID_List_SizeW(&raw mut length, PCWSTR::null(), present) };
        if answer != CR_SUCCESS {
            return Err(OsError::Said(format!("CM_Get_Device_ID_List_Size answers {}", answer.0)));
        }
        let mut names = vec![0_u16; length as usize];
        // SAFETY: the buffer is a slice.
        let answer = unsafe { CM_Get_Device_ID_ListW(PCWSTR::null(), &mut names, present) };
        if answer != CR_SUCCESS {
            return Err(OsError::Said(format!("CM_Get_Device_ID_List answers {}", answer.0)));
        }
        let ids = names.split(|unit| *unit == 0).filter(|name| !name.is_empty());
        let mut found = Vec::new();
        for id in ids.map(String::from_utf16_lossy) {
            let Ok(Some(node)) = locate(&id) else { continue };
            let (mut status, mut problem) =
                (CM_DEVNODE_STATUS_FLAGS::default(), CM_PROB::default());
            // SAFETY: two numbers are written to places of their own.
            let answer =
                unsafe { CM_Get_DevNode_Status(&raw mut status, &raw mut problem, node, 0) };
            let has_problem = answer == CR_SUCCESS && status.0 & DN_HAS_PROBLEM.0 != 0;
            // What somebody switched off, or pulled out, is no error.
            let wanted = [CM_PROB_DISABLED, CM_PROB_HARDWARE_DISABLED, CM_PROB_PHANTOM];
            if has_problem && !wanted.contains(&problem) {
                found.push((id, problem.0));
            }
        }
        Ok(found)
    }

    fn servicing_log_end(&self) -> Result<String, OsError> {
        let windows = folders::windows_folder().ok_or(OsError::NotOffered { call: "the log" })?;
        let read = || -> std::io::Result<Vec<u8>> {
            let mut log = fs_err::File::open(windows.join(r"Logs\CBS\CBS.log"))?;
            let length = log.metadata()?.len();
            log.seek(SeekFrom::Start(length.saturating_sub(LOG_END_BYTES)))?;
            let mut end = Vec::new();
            log.take(LOG_END_BYTES).read_to_end(&mut end)?;
            Ok(end)
        };
        match read() {
            Ok(end) => Ok(String::from_utf8_lossy(&end).into_owned()),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
            Err(error) => Err(OsError::Said(error.to_string())),
        }
    }
}
