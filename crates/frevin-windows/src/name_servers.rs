//! Name servers of network interfaces.

use std::net::IpAddr;

use windows::core::GUID;

use super::library::function;
use super::wide::Wide;
use frevin_pc::windows::adapters::NameServersApi;
use frevin_pc::windows::os_error::OsError;

/// What Windows offers for the name servers of an interface.
pub(crate) struct InterfaceSettings;

/// `DNS_INTERFACE_SETTINGS`, version 1 ("DNS_INTERFACE_SETTINGS structure" in the Windows
/// documentation).
#[repr(C)]
struct DnsInterfaceSettings {
    version: u32,
    flags: u64,
    domain: *const u16,
    name_server: *const u16,
    search_list: *const u16,
    registration_enabled: u32,
    register_adapter_name: u32,
    enable_llmnr: u32,
    query_adapter_name: u32,
    profile_name_server: *const u16,
}

/// `DNS_SETTING_IPV6` and `DNS_SETTING_NAMESERVER`.
const IPV6: u64 = 1;
const NAME_SERVER: u64 = 2;

impl NameServersApi for InterfaceSettings {
    fn set(&self, interface: &str, servers: &[IpAddr], is_v6: bool) -> Result<(), OsError> {
        let set = function!(
            "iphlpapi.dll",
            fn SetInterfaceDnsSettings(GUID, *const DnsInterfaceSettings) -> u32
        )?;
        let id = uuid::Uuid::parse_str(interface.trim_matches(['{', '}']))
            .map_err(|_| OsError::Said(format!("{interface} is no interface")))?;
        let list: Vec<String> = servers.iter().map(IpAddr::to_string).collect();
        let list = Wide::new(&list.join(","));
        let settings = DnsInterfaceSettings {
            version: 1,
            flags: NAME_SERVER | if is_v6 { IPV6 } else { 0 },
            domain: core::ptr::null(),
            name_server: list.as_ptr().0,
            search_list: core::ptr::null(),
            registration_enabled: 0,
            register_adapter_name: 0,
            enable_llmnr: 0,
            query_adapter_name: 0,
            profile_name_server: core::ptr::null(),
        };
        // SAFETY: the structure is of the version that it says, and its text lives for the call.
        match unsafe { set(GUID::from_u128(id.as_u128()), &raw const settings) } {
            0 => Ok(()),
            code => Err(OsError::code("SetInterfaceDnsSettings", code)),
        }
    }
}
