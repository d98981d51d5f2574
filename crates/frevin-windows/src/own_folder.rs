//! Whether a folder of Frevin's own can be trusted.
//!
//! An administrator's program must not read what somebody without such rights could have planted:
//! a ledger that says what to put back, a tweak, a settings file of Frevin's.

use std::path::Path;

use windows::Win32::Foundation::{HLOCAL, LocalFree};
use windows::Win32::Security::Authorization::{
    ConvertStringSecurityDescriptorToSecurityDescriptorW, GetNamedSecurityInfoW, SDDL_REVISION_1,
    SE_FILE_OBJECT,
};
use windows::Win32::Security::{
    ACCESS_ALLOWED_ACE, ACE_HEADER, ACL, DACL_SECURITY_INFORMATION, GetAce, INHERIT_ONLY_ACE,
    OWNER_SECURITY_INFORMATION, PSECURITY_DESCRIPTOR, PSID, SECURITY_ATTRIBUTES,
};
use windows::Win32::Storage::FileSystem::CreateDirectoryW;
use windows::core::HSTRING;

use super::system::{sid_text, user_sid};

/// Who may own and change such a folder beside the user who runs Frevin: administrators, Windows
/// itself, its installer, and whoever made a file in it ("Well-known SIDs" in the Windows
/// documentation).
const TRUSTED: [&str; 5] = [
    "S-1-5-32-544",
    "S-1-5-18",
    "S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464",
    "S-1-3-0",
    "S-1-3-4",
];
/// Rights that let somebody change what is in a folder or a file: write, append, extended
/// attributes, delete a child, attributes, delete, change the rights, take ownership, all, write.
const CHANGES: u32 =
    0x2 | 0x4 | 0x10 | 0x40 | 0x100 | 0x1_0000 | 0x4_0000 | 0x8_0000 | 0x1000_0000 | 0x4000_0000;
/// The kinds of entry that allow: always, and where a condition holds (`ACCESS_ALLOWED_ACE_TYPE`,
/// `ACCESS_ALLOWED_CALLBACK_ACE_TYPE`). Both begin alike.
const ALLOWS: [u8; 2] = [0, 9];

/// Makes a folder that only this user, administrators and Windows may change, and nobody else read.
///
/// # Errors
/// Where it cannot be made, or is there already.
pub fn create(folder: &Path) -> std::io::Result<()> {
    let user = user_sid().ok_or_else(|| std::io::Error::other("this user has no identifier"))?;
    // Protected: nothing is inherited. Each entry holds for what is in the folder too.
    let rights = format!("D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;FA;;;{user})");
    let (name, rights) = (HSTRING::from(folder.as_os_str()), HSTRING::from(rights));
    let mut descriptor = PSECURITY_DESCRIPTOR::default();
    // SAFETY: the text lives for the call; the descriptor is freed below.
    unsafe {
        ConvertStringSecurityDescriptorToSecurityDescriptorW(
            &rights,
            SDDL_REVISION_1,
            &raw mut descriptor,
            None,
        )
    }?;
    let attributes = SECURITY_ATTRIBUTES {
        nLength: u32::try_from(size_of::<SECURITY_ATTRIBUTES>()).unwrap_or(u32::MAX),
        lpSecurityDescriptor: descriptor.0,
        bInheritHandle: false.into(),
    };
    // SAFETY: name, attributes and descriptor live for the call.
    let made = unsafe { CreateDirectoryW(&name, Some(&raw const attributes)) };
    // SAFETY: Windows made the descriptor, and nothing of it is used after this.
    unsafe { LocalFree(Some(HLOCAL(descriptor.0))) };
    made.map_err(std::io::Error::from)
}

/// Why a folder or a file is not to be trusted; nothing where it can be, or is not there.
pub fn distrust(path: &Path) -> Option<String> {
    let metadata = match std::fs::symlink_metadata(path) {
        Ok(metadata) => metadata,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return None,
        Err(error) => return Some(format!("{} cannot be looked at: {error}", path.display())),
    };
    if frevin_pc::is_link(&metadata) {
        return Some(format!("{} is a link, and leads elsewhere", path.display()));
    }
    let name = HSTRING::from(path.as_os_str());
    let (mut owner, mut list) = (PSID::default(), core::ptr::null_mut::<ACL>());
    let mut descriptor = PSECURITY_DESCRIPTOR::default();
    // SAFETY: the name lives for the call; owner and list point into the descriptor, freed below.
    let answer = unsafe {
        GetNamedSecurityInfoW(
            &name,
            SE_FILE_OBJECT,
            OWNER_SECURITY_INFORMATION | DACL_SECURITY_INFORMATION,
            Some(&raw mut owner),
            None,
            Some(&raw mut list),
            None,
            &raw mut descriptor,
        )
    };
    if answer.0 != 0 {
        return Some(format!("the owner of {} cannot be told: error {}", path.display(), answer.0));
    }
    let found = judge(path, owner, list);
    // SAFETY: Windows made the descriptor, and nothing of it is used after this.
    unsafe { LocalFree(Some(HLOCAL(descriptor.0))) };
    found
}

fn judge(path: &Path, owner: PSID, list: *const ACL) -> Option<String> {
    let user = user_sid();
    let is_trusted = |sid: &str| TRUSTED.contains(&sid) || user.as_deref() == Some(sid);
    let shown = path.display();
    let Some(owner) = sid_text(owner) else {
        return Some(format!("the owner of {shown} cannot be told"));
    };
    if !is_trusted(&owner) {
        return Some(format!("{shown} belongs to somebody else ({owner})"));
    }
    if list.is_null() {
        return Some(format!("everybody may change {shown}"));
    }
    // SAFETY: the list lives in a descriptor that the caller holds.
    let count = unsafe { (*list).AceCount };
    for index in 0..u32::from(count) {
        let mut entry = core::ptr::null_mut();
        // SAFETY: the index is below the number of entries.
        if unsafe { GetAce(list, index, &raw mut entry) }.is_err() {
            return Some(format!("the rights to {shown} cannot be read"));
        }
        // SAFETY: every entry begins with this header.
        let header = unsafe { &*entry.cast::<ACE_HEADER>() };
        let is_for_others = u32::from(header.AceFlags) & INHERIT_ONLY_ACE.0 != 0;
        if !ALLOWS.contains(&header.AceType) || is_for_others {
            continue;
        }
        let allowed = entry.cast::<ACCESS_ALLOWED_ACE>();
        // SAFETY: an entry that allows has this layout; its identifier begins at `SidStart` and goes on
        // behind the structure, which the entry's own pointer may reach.
        let (mask, sid) = unsafe {
            let sid = entry.cast::<u8>().add(core::mem::offset_of!(ACCESS_ALLOWED_ACE, SidStart));
            ((&raw const (*allowed).Mask).read(), PSID(sid.cast()))
        };
        let who = sid_text(sid).unwrap_or_else(|| "somebody without a name".to_owned());
        if mask & CHANGES != 0 && !is_trusted(&who) {
            return Some(format!("others may change {shown} ({who})"));
        }
    }
    None
}
