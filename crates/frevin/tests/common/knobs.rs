//! Tweaks of one value each, whose truth a rehearsal PC's model knows.

use super::Place;

/// What one tweak does.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Knob {
    /// Frame times are multiplied by this.
    pub(crate) frame_time: f64,
    /// Latency is, beside what frame times do to it.
    pub(crate) latency: f64,
    /// Stutters are so many times as frequent.
    pub(crate) stutters: f64,
    /// Whether it acts at once; else after a restart.
    pub(crate) acts_at_once: bool,
    pub(crate) standing: &'static str,
}

impl Default for Knob {
    fn default() -> Self {
        Self {
            frame_time: 1.0,
            latency: 1.0,
            stutters: 1.0,
            acts_at_once: false,
            standing: "plausible",
        }
    }
}

/// Where the value of a knob is.
fn address(at: usize, knob: &Knob) -> String {
    let key = match knob.acts_at_once {
        true => r"HKCU\Software\Own",
        false => r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management",
    };
    format!(r"registry:{key}#Knob{at}")
}

/// A rehearsal PC with these knobs, as tweaks of the owner's and in the profile `knobs`; its model knows nothing else.
pub(crate) fn pc_with(knobs: &[Knob]) -> Place {
    let place = Place::new();
    let folder = place.path().join("home/tweaks/knobs");
    fs_err::create_dir_all(&folder).unwrap();
    let mut profile =
        "format = 1\nname = \"knobs\"\npurpose = \"To be asked about\"\nscene = \"canyon-run\"\n"
            .to_owned();
    let model = place.pc().join("model.toml");
    let whole = fs_err::read_to_string(&model).unwrap();
    let mut effects = whole.split("[[effects]]").next().unwrap().to_owned();
    for (at, knob) in knobs.iter().enumerate() {
        let Knob { standing, acts_at_once, frame_time, latency, stutters } = knob;
        let (address, felt) = (address(at, knob), if *acts_at_once { "now" } else { "restart" });
        let within = if *acts_at_once { "felt_within_seconds = 0.5\n" } else { "" };
        let text = format!(
            "id = \"knobs/knob-{at}\"\ntitle = \"Turn knob {at}\"\nwhat = \"Turns it.\"\nwhy = \"Its effect is known.\"\n\
             may_break = \"Nothing.\"\nstanding = \"{standing}\"\nstanding_reason = \"To be found out.\"\nrisk = \"safe\"\n\
             takes_effect = \"{felt}\"\n{within}[[settings]]\naddress = '{address}'\ntype = \"dword\"\nvalue = 1\n\
             [[sources]]\ntitle = \"None\"\nstates = \"None.\"\n"
        );
        fs_err::write(folder.join(format!("knob-{at}.toml")), text).unwrap();
        profile.push_str(&format!("\n[[tweaks]]\nuse = \"knobs/knob-{at}\"\n"));
        effects.push_str(&format!(
            "\n[[effects]]\nname = \"Knob {at}\"\nreads = {{ knob = '{address}' }}\nwhen = \"knob == 1\"\n\
             frame_time = {frame_time:?}\nlatency = {latency:?}\nstutters = {stutters:?}\n"
        ));
    }
    fs_err::write(&model, effects).unwrap();
    place.write("knobs.toml", profile);
    place.run(&["profile", "save", "knobs.toml"]).ok();
    place
}
