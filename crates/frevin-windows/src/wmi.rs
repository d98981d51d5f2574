//! Windows Management Instrumentation: objects with properties and methods, by name.

use windows::Win32::System::Com::{
    CLSCTX_INPROC_SERVER, CoCreateInstance, CoSetProxyBlanket, EOAC_NONE,
    RPC_C_AUTHN_LEVEL_PKT_PRIVACY, RPC_C_IMP_LEVEL_IMPERSONATE,
};
use windows::Win32::System::Rpc::{RPC_C_AUTHN_WINNT, RPC_C_AUTHZ_NONE};
use windows::Win32::System::Variant::{VARIANT, VT_BOOL, VT_EMPTY, VT_NULL};
use windows::Win32::System::Wmi::{
    IWbemClassObject, IWbemLocator, IWbemServices, WBEM_FLAG_FORWARD_ONLY,
    WBEM_FLAG_RETURN_IMMEDIATELY, WBEM_FLAG_RETURN_WBEM_COMPLETE, WbemLocator,
};
use windows::core::{BSTR, HSTRING, PCWSTR};

use super::com;
use super::wide::failed;
use frevin_pc::windows::os_error::OsError;

/// Nothing that is asked for takes as long: who does not answer within it will not.
const ANSWERED_WITHIN_MS: i32 = 30_000;

/// A connection to a namespace.
pub(crate) struct Namespace(IWbemServices);

/// An object, of a class or of a method's parameters.
pub(crate) struct Object(IWbemClassObject);

impl Namespace {
    pub(crate) fn connect(name: &str) -> Result<Self, OsError> {
        com::begin();
        // SAFETY: the class is the one that the interface is documented of.
        let locator: IWbemLocator =
            unsafe { CoCreateInstance(&WbemLocator, None, CLSCTX_INPROC_SERVER) }
                .map_err(failed("CoCreateInstance(WbemLocator)"))?;
        let none = BSTR::new();
        // SAFETY: empty texts mean this PC, this user and this language.
        let services = unsafe {
            locator.ConnectServer(&BSTR::from(name), &none, &none, &none, 0, &none, None)
        }
        .map_err(failed("IWbemLocator::ConnectServer"))?;
        // SAFETY: the proxy was given just now. Windows' providers act with this user's rights.
        unsafe {
            CoSetProxyBlanket(
                &services,
                RPC_C_AUTHN_WINNT,
                RPC_C_AUTHZ_NONE,
                PCWSTR::null(),
                RPC_C_AUTHN_LEVEL_PKT_PRIVACY,
                RPC_C_IMP_LEVEL_IMPERSONATE,
                None,
                EOAC_NONE,
            )
        }
        .map_err(failed("CoSetProxyBlanket"))?;
        Ok(Self(services))
    }

    /// The first object that a query gives.
    pub(crate) fn first(&self, query: &str) -> Result<Option<Object>, OsError> {
        let flags = WBEM_FLAG_FORWARD_ONLY | WBEM_FLAG_RETURN_IMMEDIATELY;
        // SAFETY: the connection is open, and the texts live for the call.
        let found =
            unsafe { self.0.ExecQuery(&BSTR::from("WQL"), &BSTR::from(query), flags, None) }
                .map_err(failed("IWbemServices::ExecQuery"))?;
        let mut objects = [None];
        let mut count = 0;
        // SAFETY: the list has room for the one object that is asked for.
        let answer = unsafe { found.Next(ANSWERED_WITHIN_MS, &mut objects, &raw mut count) };
        answer.ok().map_err(failed("IEnumWbemClassObject::Next"))?;
        let [object] = objects;
        Ok(object.map(Object))
    }

    /// All objects that a query gives.
    pub(crate) fn all(&self, query: &str) -> Result<Vec<Object>, OsError> {
        /// More are none that anybody means.
        const MOST: usize = 20_000;
        let flags = WBEM_FLAG_FORWARD_ONLY | WBEM_FLAG_RETURN_IMMEDIATELY;
        // SAFETY: the connection is open, and the texts live for the call.
        let found =
            unsafe { self.0.ExecQuery(&BSTR::from("WQL"), &BSTR::from(query), flags, None) }
                .map_err(failed("IWbemServices::ExecQuery"))?;
        let mut all = Vec::new();
        while all.len() < MOST {
            let mut objects = [None];
            let mut count = 0;
            // SAFETY: the list has room for the one object that is asked for.
            let answer = unsafe { found.Next(ANSWERED_WITHIN_MS, &mut objects, &raw mut count) };
            answer.ok().map_err(failed("IEnumWbemClassObject::Next"))?;
            let [Some(object)] = objects else { break };
            all.push(Object(object));
        }
        Ok(all)
    }

    /// Calls a method of an object, or of a class, with parameters, and gives what it answers.
    pub(crate) fn call(
        &self,
        class: &str,
        object: &str,
        method: &str,
        parameters: &[(&str, VARIANT)],
    ) -> Result<Object, OsError> {
        let mut definition = None;
        let complete = WBEM_FLAG_RETURN_WBEM_COMPLETE;
        // SAFETY: the connection is open, and the class is given to a place of its own.
        unsafe {
            self.0.GetObject(&BSTR::from(class), complete, None, Some(&raw mut definition), None)
        }
        .map_err(failed("IWbemServices::GetObject"))?;
        let definition =
            definition.ok_or(OsError::NotOffered { call: "IWbemServices::GetObject" })?;
        let (mut takes, mut gives) = (None, None);
        let name = HSTRING::from(method);
        // SAFETY: both signatures are given to places of their own.
        unsafe { definition.GetMethod(&name, 0, &raw mut takes, &raw mut gives) }
            .map_err(failed("IWbemClassObject::GetMethod"))?;
        let given = match takes {
            None => None,
            Some(signature) => {
                // SAFETY: the signature was given just now.
                let given = unsafe { signature.SpawnInstance(0) }
                    .map_err(failed("IWbemClassObject::SpawnInstance"))?;
                for (name, value) in parameters {
                    let name = HSTRING::from(*name);
                    // SAFETY: name and value live for the call; Windows copies them.
                    unsafe { given.Put(&name, 0, value, 0) }
                        .map_err(failed("IWbemClassObject::Put"))?;
                }
                Some(given)
            }
        };
        let mut answer = None;
        // SAFETY: as above.
        unsafe {
            self.0.ExecMethod(
                &BSTR::from(object),
                &BSTR::from(method),
                complete,
                None,
                given.as_ref(),
                Some(&raw mut answer),
                None,
            )
        }
        .map_err(failed("IWbemServices::ExecMethod"))?;
        answer.map(Object).ok_or(OsError::NotOffered { call: "IWbemServices::ExecMethod" })
    }
}

impl Object {
    pub(crate) fn of(object: IWbemClassObject) -> Self {
        Self(object)
    }

    /// A property; nothing where it is empty.
    pub(crate) fn get(&self, name: &str) -> Result<Option<VARIANT>, OsError> {
        let mut value = VARIANT::default();
        let name = HSTRING::from(name);
        // SAFETY: the name lives for the call, and the value is given to a place of its own.
        unsafe { self.0.Get(&name, 0, &raw mut value, None, None) }
            .map_err(failed("IWbemClassObject::Get"))?;
        Ok(if [VT_EMPTY, VT_NULL].contains(&value.vt()) { None } else { Some(value) })
    }

    /// A property that is a number or a flag.
    pub(crate) fn number(&self, name: &str) -> Result<Option<u32>, OsError> {
        let Some(value) = self.get(name)? else { return Ok(None) };
        let number = match value.vt() {
            VT_BOOL => bool::try_from(&value).map(u32::from),
            _ => u32::try_from(&value),
        };
        number.map(Some).map_err(failed("VariantToUInt32"))
    }

    /// A property that is a text.
    pub(crate) fn text(&self, name: &str) -> Result<Option<String>, OsError> {
        let Some(value) = self.get(name)? else { return Ok(None) };
        let text = BSTR::try_from(&value).map_err(failed("VariantToBSTR"))?;
        Ok(Some(text.to_string()))
    }
}
