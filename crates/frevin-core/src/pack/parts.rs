//! Values of a pack that hold several things at once, or that are kept of a setting of another kind.
//!
//! A registry file can only set such a value as a whole, over what else it held. Taken apart, what the file
//! is about is changed, and the rest stays.

use super::WantedStates;
use crate::setting::{
    Address, BitMask, KeyPath, Listed, RegistryData, RegistryPart, State, Value, VisualParameter,
    WinName,
};

/// How the values of a key are put together.
enum Form {
    /// `A=1;B=0;`
    Pairs,
    /// `~ A B`
    Words,
    /// A number of which one bit is a shortcut.
    Shortcut,
}

/// The keys whose values are put together, and how (documentation of graphics settings, of compatibility
/// layers, and of `STICKYKEYS` and its like).
const KEYS: [(&str, Form); 7] = [
    (r"HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences", Form::Pairs),
    (r"HKCU\SOFTWARE\Microsoft\Windows NT\CurrentVersion\AppCompatFlags\Layers", Form::Words),
    (r"HKCU\Control Panel\Accessibility\StickyKeys", Form::Shortcut),
    (r"HKCU\Control Panel\Accessibility\Keyboard Response", Form::Shortcut),
    (r"HKCU\Control Panel\Accessibility\ToggleKeys", Form::Shortcut),
    (r"HKCU\Control Panel\Accessibility\MouseKeys", Form::Shortcut),
    (r"HKCU\Control Panel\Accessibility\HighContrast", Form::Shortcut),
];

/// Where Windows keeps the pointer's acceleration and speed, and under which names.
const MOUSE: &str = r"HKCU\Control Panel\Mouse";
const ACCELERATION: [&str; 3] = ["MouseThreshold1", "MouseThreshold2", "MouseSpeed"];
const SPEED: &str = "MouseSensitivity";

/// Takes apart what is put together.
pub(super) fn take_apart(wanted: WantedStates) -> WantedStates {
    let mut apart = WantedStates::new();
    for (address, (state, line)) in wanted {
        match parts(&address, &state) {
            Some(parts) => {
                apart.extend(parts.into_iter().map(|(part, state)| (part, (state, line.clone()))));
            }
            None => drop(apart.insert(address, (state, line))),
        }
    }
    pointer(&mut apart);
    apart
}

fn parts(address: &Address, state: &State) -> Option<Vec<(Address, State)>> {
    let Address::RegistryValue(key, name) = address else { return None };
    let (_, form) = KEYS.iter().find(|(known, _)| known.parse() == Ok(key.clone()))?;
    let State::Value(Value::Registry(data)) = state else { return None };
    let text = data.as_text()?;
    let part = |part: RegistryPart| Address::RegistryPart(key.clone(), name.clone(), part);
    let listed = |text: &str| State::from(Value::Listed(Listed::new(text)));
    let parts: Vec<(Address, State)> = match form {
        Form::Pairs => text
            .split(';')
            .filter(|piece| !piece.trim().is_empty())
            .map(|piece| {
                let (name, value) = piece.split_once('=')?;
                Some((part(RegistryPart::Pair(name.trim().into())), listed(value)))
            })
            .collect::<Option<_>>()?,
        Form::Words => text
            .split(' ')
            .filter(|word| !word.is_empty())
            .map(|word| (part(RegistryPart::Word(word.into())), listed(word)))
            .collect(),
        Form::Shortcut if *name == WinName::new("Flags") => {
            let shortcut = RegistryPart::Bits(BitMask::new(4)?);
            vec![(part(shortcut.clone()), shortcut.read(state))]
        }
        Form::Shortcut => return None,
    };
    // Only what could be addressed again is taken apart.
    let is_whole = |(address, state): &(Address, State)| {
        state.is_readable() && address.to_string().parse().as_ref() == Ok(address)
    };
    (!parts.is_empty() && parts.iter().all(is_whole)).then_some(parts)
}

/// The three values of the pointer's acceleration, and its speed, are system parameters that act at once.
fn pointer(wanted: &mut WantedStates) {
    let Ok(mouse) = MOUSE.parse::<KeyPath>() else { return };
    let at = |name: &str| Address::RegistryValue(mouse.clone(), name.into());
    let number = |wanted: &WantedStates, name: &str| -> Option<u32> {
        let (State::Value(Value::Registry(data)), _) = wanted.get(&at(name))? else { return None };
        data.as_text()?.parse().ok()
    };
    let three: Option<Vec<u32>> = ACCELERATION.iter().map(|name| number(wanted, name)).collect();
    if let Some(three) = three {
        let text = three.iter().map(u32::to_string).collect::<Vec<_>>().join(" ");
        let mut lines: Vec<String> = ACCELERATION
            .iter()
            .filter_map(|name| wanted.remove(&at(name)))
            .map(|(_, line)| line)
            .collect();
        lines.sort();
        let acceleration = Address::Visual(VisualParameter::PointerAcceleration);
        wanted.insert(acceleration, (Value::Text(text).into(), lines.join(", ")));
    }
    if let Some(speed) = number(wanted, SPEED)
        && let Some((_, line)) = wanted.remove(&at(SPEED))
    {
        let parameter = Address::Visual(VisualParameter::PointerSpeed);
        wanted.insert(parameter, (Value::Number(speed).into(), line));
    }
}

/// The registry values that Windows keeps a setting of another kind in, as text that a registry file can
/// hold; `None` where it is kept in none that are known.
pub fn kept_in_registry(address: &Address, state: &State) -> Option<Vec<(Address, State)>> {
    let mouse = MOUSE.parse::<KeyPath>().ok()?;
    let (names, texts): (&[&str], Vec<String>) = match (address, state) {
        (
            Address::Visual(VisualParameter::PointerAcceleration),
            State::Value(Value::Text(three)),
        ) => (&ACCELERATION, three.split(' ').map(str::to_owned).collect()),
        (Address::Visual(VisualParameter::PointerSpeed), State::Value(Value::Number(speed))) => {
            (&[SPEED], vec![speed.to_string()])
        }
        _ => return None,
    };
    let value = |(name, text): (&&str, String)| {
        let data = RegistryData::string(&text);
        (Address::RegistryValue(mouse.clone(), (*name).into()), Value::Registry(data).into())
    };
    Some(names.iter().zip(texts).map(value).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_put_together_is_taken_apart() {
        let text = |text: &str| State::from(Value::Registry(RegistryData::string(text)));
        let wanted: WantedStates = [
            (r"HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences#C:\x.exe", "GpuPreference=2;"),
            (
                r"HKCU\SOFTWARE\Microsoft\Windows NT\CurrentVersion\AppCompatFlags\Layers#C:\x.exe",
                "~ HIGHDPIAWARE",
            ),
            (r"HKCU\Control Panel\Accessibility\StickyKeys#Flags", "506"),
            (r"HKCU\Control Panel\Mouse#MouseSpeed", "0"),
            (r"HKCU\Control Panel\Mouse#MouseThreshold1", "0"),
            (r"HKCU\Control Panel\Mouse#MouseThreshold2", "0"),
            (r"HKCU\Control Panel\Mouse#MouseSensitivity", "10"),
            (r"HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences#odd", "no pair"),
        ]
        .into_iter()
        .map(|(at, value)| {
            (format!("registry:{at}").parse().unwrap(), (text(value), "a.reg:1".to_owned()))
        })
        .collect();
        let mouse = take_apart(wanted.clone());
        let visual = mouse.iter().filter(|(address, _)| address.kind() == "visual");
        for (address, (state, _)) in visual {
            for (kept, state) in kept_in_registry(address, state).unwrap() {
                assert_eq!(wanted[&kept].0, state, "{kept}");
            }
        }
        let apart: Vec<String> = take_apart(wanted)
            .into_iter()
            .map(|(address, (state, _))| format!("{address} = {state}"))
            .collect();
        insta::assert_snapshot!(apart.join("\n"), @r#"
        registry:HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences#odd = "no pair"
        registry-part:HKCU\Control Panel\Accessibility\StickyKeys#Flags#bits:0x4 = 0
        registry-part:HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences#C:\x.exe#pair:GpuPreference = 2
        registry-part:HKCU\SOFTWARE\Microsoft\Windows NT\CurrentVersion\AppCompatFlags\Layers#C:\x.exe#word:HIGHDPIAWARE = HIGHDPIAWARE
        registry-part:HKCU\SOFTWARE\Microsoft\Windows NT\CurrentVersion\AppCompatFlags\Layers#C:\x.exe#word:~ = ~
        visual:pointer-acceleration = "0 0 0"
        visual:pointer-speed = 10
        "#);
    }
}
