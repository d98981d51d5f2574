//! The boot store, through Windows' own provider for it ("BCD WMI provider classes" in the Windows
//! documentation).

use windows::Win32::System::Variant::VARIANT;
use windows::Win32::System::Wmi::IWbemClassObject;
use windows::core::{BSTR, IUnknown, Interface as _};

use super::wide::failed;
use super::wmi::{Namespace, Object};
use frevin_pc::windows::boot::{BootApi, Element};
use frevin_pc::windows::os_error::OsError;

/// This PC's boot store.
pub(crate) struct BootStore;

const NAMESPACE: &str = r"ROOT\WMI";
const CLASS: &str = "BcdObject";
/// `BCD_E_NOT_FOUND`-like answers of the provider: the element is not there.
const NO_ELEMENT: [u32; 2] = [0xC000_0225, 0x8004_1002];

/// The path of an entry in the system's own store, which goes by an empty name.
fn entry_path(entry: &str) -> String {
    format!(r#"BcdObject.Id="{entry}",StoreFilePath="""#)
}

fn call(
    entry: &str,
    method: &'static str,
    parameters: &[(&str, VARIANT)],
) -> Result<Object, OsError> {
    let namespace = Namespace::connect(NAMESPACE)?;
    namespace.call(CLASS, &entry_path(entry), method, parameters)
}

fn done(answer: &Object) -> Result<(), OsError> {
    match answer.number("ReturnValue")? {
        Some(1) => Ok(()),
        _ => Err(OsError::Said("the boot store does not take it".to_owned())),
    }
}

fn number(number: u32) -> VARIANT {
    VARIANT::from(number.cast_signed())
}

impl BootApi for BootStore {
    fn element(&self, entry: &str, element: u32) -> Result<Option<Element>, OsError> {
        let answer = match call(entry, "GetElement", &[("Type", number(element))]) {
            Err(OsError::Code { code, .. }) if NO_ELEMENT.contains(&code) => return Ok(None),
            answer => answer?,
        };
        let Some(found) = answer.get("Element")? else { return Ok(None) };
        let object = IUnknown::try_from(&found).map_err(failed("VARIANT"))?;
        let object: IWbemClassObject = object.cast().map_err(failed("QueryInterface"))?;
        let object = Object::of(object);
        Ok(match element >> 24 {
            0x26 | 0x16 => object.number("Boolean")?.map(|flag| Element::Boolean(flag != 0)),
            0x25 | 0x15 => {
                let text = object.text("Integer")?;
                text.and_then(|text| text.parse().ok()).map(Element::Integer)
            }
            _ => object.text("String")?.map(Element::Text),
        })
    }

    fn set_element(&self, entry: &str, number_of: u32, element: &Element) -> Result<(), OsError> {
        let kind = ("Type", number(number_of));
        let answer = match element {
            Element::Boolean(flag) => {
                call(entry, "SetBooleanElement", &[kind, ("Boolean", VARIANT::from(*flag))])
            }
            // Numbers of 64 bits are texts to the provider.
            Element::Integer(value) => {
                let value = VARIANT::from(BSTR::from(value.to_string()));
                call(entry, "SetIntegerElement", &[kind, ("Integer", value)])
            }
            Element::Text(text) => {
                let text = VARIANT::from(BSTR::from(text));
                call(entry, "SetStringElement", &[kind, ("String", text)])
            }
        }?;
        done(&answer)
    }

    fn remove_element(&self, entry: &str, element: u32) -> Result<(), OsError> {
        done(&call(entry, "DeleteElement", &[("Type", number(element))])?)
    }
}
