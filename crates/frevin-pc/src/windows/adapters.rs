//! Network adapters: name servers, options of the driver, power saving.

use std::net::IpAddr;

use frevin_core::setting::{KeyPath, RegistryData, State, Value};

use super::os_error::{OsError, state_of};
use super::registry::{self, RegistryApi};
use crate::contract::{WriteError, Written};

/// Network adapters in Windows' classes of devices.
const CLASS: &str = "{4d36e972-e325-11ce-bfc1-08002be10318}";

/// What Windows offers for name servers.
pub trait NameServersApi {
    /// Sets the name servers of an interface, of one of the two kinds of address; none hands the
    /// choice back to the network.
    fn set(&self, interface: &str, servers: &[IpAddr], is_v6: bool) -> Result<(), OsError>;
}

/// A network adapter as its keys in the registry describe it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Connection {
    /// The name that the owner knows.
    pub(super) name: String,
    /// The GUID of the interface, in braces.
    pub(super) interface_id: String,
    /// The instance identifier of the device.
    pub(super) device_id: Option<String>,
}

/// The connections that have a name.
pub(super) fn connections(registry: &dyn RegistryApi) -> Result<Vec<Connection>, OsError> {
    let Some(network) = path(&format!(r"HKLM\SYSTEM\CurrentControlSet\Control\Network\{CLASS}"))
    else {
        return Ok(Vec::new());
    };
    let mut found = Vec::new();
    if !registry.has_key(&network)? {
        return Ok(found);
    }
    for interface_id in registry.key_names(&network)? {
        let Some(key) = path(&format!(r"{network}\{interface_id}\Connection")) else { continue };
        if let Some(name) = registry::text(registry, &key, "Name")? {
            let device_id = registry::text(registry, &key, "PnpInstanceID")?;
            found.push(Connection { name, interface_id, device_id });
        }
    }
    Ok(found)
}

fn path(text: &str) -> Option<KeyPath> {
    text.parse().ok()
}

fn find(registry: &dyn RegistryApi, name: &str) -> Result<Option<Connection>, OsError> {
    let found = connections(registry)?;
    Ok(found.into_iter().find(|connection| connection.name.eq_ignore_ascii_case(name)))
}

/// The instance identifier of an adapter's device, by the adapter's name.
pub(super) fn device_id(registry: &dyn RegistryApi, name: &str) -> Option<String> {
    find(registry, name).ok().flatten()?.device_id
}

/// The key that the adapter's driver reads its options from.
fn driver_key(registry: &dyn RegistryApi, name: &str) -> Result<Option<KeyPath>, OsError> {
    let Some(connection) = find(registry, name)? else { return Ok(None) };
    let Some(class) = path(&format!(r"HKLM\SYSTEM\CurrentControlSet\Control\Class\{CLASS}")) else {
        return Ok(None);
    };
    if !registry.has_key(&class)? {
        return Ok(None);
    }
    for number in registry.key_names(&class)? {
        // Beside the numbered keys of the adapters there is one that nobody may read.
        if number.len() != 4 || !number.bytes().all(|byte| byte.is_ascii_digit()) {
            continue;
        }
        let Some(key) = path(&format!(r"{class}\{number}")) else { continue };
        let interface = registry::text(registry, &key, "NetCfgInstanceId")?;
        if interface.is_some_and(|id| id.eq_ignore_ascii_case(&connection.interface_id)) {
            return Ok(Some(key));
        }
    }
    Ok(None)
}

pub(super) fn read_option(registry: &dyn RegistryApi, name: &str, option: &str) -> State {
    let read = || {
        let Some(key) = driver_key(registry, name)? else { return Ok(None) };
        let Some(data) = registry.value(&key, option)? else { return Ok(None) };
        let unusual =
            || State::Unreadable(format!("the driver keeps it in an unusual way: {data}"));
        Ok(Some(
            data.as_text()
                .filter(|_| data.type_number == 1)
                .map_or_else(unusual, |text| Value::Text(text).into()),
        ))
    };
    state_of(read())
}

/// The values that a driver says an option may hold; nothing where it does not list them.
fn offered(
    registry: &dyn RegistryApi,
    driver: &KeyPath,
    option: &str,
) -> Result<Option<Vec<String>>, OsError> {
    let Some(key) = path(&format!(r"{driver}\Ndi\params\{option}\enum")) else { return Ok(None) };
    if registry.has_key(&key)? { registry.value_names(&key).map(Some) } else { Ok(None) }
}

pub(super) fn write_option(
    registry: &dyn RegistryApi,
    name: &str,
    option: &str,
    text: &str,
) -> Result<Written, WriteError> {
    let refused = |reason: String| Err(WriteError::Refused(reason));
    match read_option(registry, name, option) {
        State::Value(Value::Text(held)) if held == text => return Ok(Written::Done),
        State::Value(_) => {}
        other => return refused(format!("{name} has no option {option}: it is {other}")),
    }
    let Some(key) = driver_key(registry, name)? else {
        return refused(format!("there is no adapter {name}"));
    };
    if let Some(offered) = offered(registry, &key, option)?
        && !offered.iter().any(|value| value == text)
    {
        return refused(format!("{name} offers {option} only {}", offered.join(", ")));
    }
    registry.set_value(&key, option, &RegistryData::string(text))?;
    Ok(Written::Done)
}

/// Both bits set: Windows may neither switch the adapter off to save power nor let it wake the PC
/// ("PnPCapabilities", article "Power management setting on a network adapter" of Windows' support).
const NO_POWER_SAVING: u32 = 0x18;
const PNP_CAPABILITIES: &str = "PnPCapabilities";

pub(super) fn read_power_saving(registry: &dyn RegistryApi, name: &str) -> State {
    let read = || {
        let Some(key) = driver_key(registry, name)? else { return Ok(None) };
        let Some(data) = registry.value(&key, PNP_CAPABILITIES)? else { return Ok(None) };
        let bits = data.as_number().filter(|_| data.type_number == 4);
        Ok(Some(match bits.map(|bits| bits & u64::from(NO_POWER_SAVING)) {
            Some(0) => Value::Flag(true).into(),
            Some(bits) if bits == u64::from(NO_POWER_SAVING) => Value::Flag(false).into(),
            _ => State::Unreadable(format!("the driver was told something unusual: {data}")),
        }))
    };
    state_of(read())
}

pub(super) fn write_power_saving(
    registry: &dyn RegistryApi,
    name: &str,
    state: &State,
) -> Result<Written, WriteError> {
    let Some(key) = driver_key(registry, name)? else {
        return Err(WriteError::Refused(format!("there is no adapter {name}")));
    };
    let held = registry::number(registry, &key, PNP_CAPABILITIES)?.unwrap_or(0);
    let held = u32::try_from(held).unwrap_or(0);
    let state = match (read_power_saving(registry, name), state) {
        (State::Unreadable(reason), _) => return Err(WriteError::Refused(reason)),
        (_, State::Absent) => State::Absent,
        (_, State::Value(Value::Flag(saves))) => {
            let bits = if *saves { held & !NO_POWER_SAVING } else { held | NO_POWER_SAVING };
            Value::Registry(RegistryData::dword(bits)).into()
        }
        (_, other) => return Err(WriteError::Refused(format!("it cannot hold {other}"))),
    };
    registry::write_value(registry, &key, &PNP_CAPABILITIES.into(), &state)
}

/// Where Windows keeps the name servers that somebody chose, for each kind of address.
fn name_server_keys(interface: &str) -> Option<[(KeyPath, bool); 2]> {
    let key = |service: &str| {
        let services = r"HKLM\SYSTEM\CurrentControlSet\Services";
        path(&format!(r"{services}\{service}\Parameters\Interfaces\{interface}"))
    };
    Some([(key("Tcpip")?, false), (key("Tcpip6")?, true)])
}

pub(super) fn read_name_servers(registry: &dyn RegistryApi, name: &str) -> State {
    let read = || {
        let Some(connection) = find(registry, name)? else { return Ok(None) };
        let mut servers = Vec::new();
        for (key, _) in name_server_keys(&connection.interface_id).into_iter().flatten() {
            // What is there and is no text is not "none": a rollback would write "none".
            let listed = match registry.value(&key, "NameServer")? {
                None => String::new(),
                Some(data) => data.as_text().ok_or_else(|| {
                    OsError::Said(format!("{key}: NameServer holds something that is no text"))
                })?,
            };
            let listed = listed.split([',', ' ']).filter(|server| !server.is_empty());
            servers.extend(listed.map(str::to_owned));
        }
        Ok(Some(Value::Texts(servers).into()))
    };
    state_of(read())
}

/// Sets the name servers. Those of one kind of address come before those of the other: in another
/// order they could not be read back as they were written.
pub(super) fn write_name_servers(
    registry: &dyn RegistryApi,
    api: &dyn NameServersApi,
    name: &str,
    servers: &[String],
) -> Result<Written, WriteError> {
    let refused = |reason: String| Err(WriteError::Refused(reason));
    if read_name_servers(registry, name) == Value::Texts(servers.to_vec()).into() {
        return Ok(Written::Done);
    }
    let Some(connection) = find(registry, name)? else {
        return refused(format!("there is no adapter {name}"));
    };
    let parsed: Result<Vec<IpAddr>, _> = servers.iter().map(|server| server.parse()).collect();
    let Ok(parsed) = parsed else { return refused("name servers are IP addresses".to_owned()) };
    if !parsed.is_sorted_by_key(IpAddr::is_ipv6) {
        return refused("IPv4 name servers come before IPv6 ones".to_owned());
    }
    for is_v6 in [false, true] {
        let of_kind: Vec<IpAddr> =
            parsed.iter().filter(|server| server.is_ipv6() == is_v6).copied().collect();
        api.set(&connection.interface_id, &of_kind, is_v6)?;
    }
    Ok(Written::Done)
}
