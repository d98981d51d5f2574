//! `powercfg`.

use uuid::{Uuid, uuid};

use super::{Commands, Meaning, NOT_UNDERSTOOD, Understood, decimal, one};

/// `powercfg /aliases`.
const PLANS: [(&str, Uuid); 3] = [
    ("scheme_min", uuid!("8c5e7fda-e8bf-4a96-9a85-a6e23a8c635c")),
    ("scheme_max", uuid!("a1841308-3541-4fab-bc81-f71556f20b4a")),
    ("scheme_balanced", uuid!("381b4222-f694-41f0-9685-ff5bb260df2e")),
];
const POWER_NAMES: [(&str, Uuid); 24] = [
    ("sub_processor", uuid!("54533251-82be-4824-96c1-47b60b740d00")),
    ("sub_pciexpress", uuid!("501a4d13-42af-4429-9fd1-a8218c268e20")),
    ("sub_video", uuid!("7516b95f-f776-4464-8c53-06167f40cc99")),
    ("sub_sleep", uuid!("238c9fa8-0aad-41ed-83f4-97be242c8f20")),
    ("sub_disk", uuid!("0012ee47-9041-4b5d-9b77-535fba8b1442")),
    ("sub_buttons", uuid!("4f971e89-eebd-4455-a8de-9e59040e7347")),
    ("procthrottlemin", uuid!("893dee8e-2bef-41e0-89c6-b55d0929964c")),
    ("procthrottlemax", uuid!("bc5038f7-23e0-4960-96da-33abaf5935ec")),
    ("perfboostmode", uuid!("be337238-0d82-4146-a960-4f3749d470c7")),
    ("perfepp", uuid!("36687f9e-e3a5-4dbf-b1dc-15eb381c6863")),
    ("cpmincores", uuid!("0cc5b647-c1df-4637-891a-dec35c318583")),
    ("procfreqmax", uuid!("75b0ae3f-bce0-45a7-8c89-c9611c25e100")),
    ("idledisable", uuid!("5d76a2ca-e8c0-402f-a133-2158492d58ad")),
    ("syscoolpol", uuid!("94d3a615-a899-4ac5-ae2b-e4d8f634367f")),
    ("aspm", uuid!("ee12f906-d277-404b-b6da-e5fa1a576df5")),
    ("videoidle", uuid!("3c0bc021-c8a8-4e07-a973-6b14cbcb2b7e")),
    ("standbyidle", uuid!("29f6c1db-86da-48c5-9fdb-f2b67b1f44da")),
    ("hibernateidle", uuid!("9d7815a6-7ee4-497e-8888-515a05f02364")),
    ("diskidle", uuid!("6738e2c4-e8a5-4a42-b16a-e040e769756e")),
    ("hybridsleep", uuid!("94ac6d29-73ce-41a6-809f-6363ba21b47e")),
    ("rtcwake", uuid!("bd3b718a-0680-4d9d-8ab2-e1d2b4ac806d")),
    ("lidaction", uuid!("5ca83367-6e45-459f-a27b-476b1d01c936")),
    ("pbuttonaction", uuid!("7648efa3-dd9c-4e3e-b566-50f929386280")),
    ("dim", uuid!("17aaa29b-8b43-4b94-aafe-35f64daaf1ee")),
];

impl Commands {
    pub(super) fn power(&mut self, words: &[&str]) -> Understood {
        let Some((verb, rest)) = words.split_first() else { return Ok(Meaning::Nothing) };
        let verb = verb.trim_start_matches(['/', '-']).to_lowercase();
        match (verb.as_str(), rest) {
            ("setactive" | "s", [plan]) => {
                let plan = self.plan(plan)?;
                self.plan_in_force = Some(plan);
                one("power:active-plan", &plan.to_string())
            }
            ("setacvalueindex" | "setdcvalueindex", [plan, subgroup, setting, value]) => {
                let plan = self.plan(plan)?;
                let (subgroup, setting) = (power_name(subgroup)?, power_name(setting)?);
                let source = if verb == "setacvalueindex" { "mains" } else { "battery" };
                one(
                    &format!("power:{plan}/{subgroup}/{setting}#{source}"),
                    &decimal(value)?.to_string(),
                )
            }
            ("attributes", [subgroup, setting, attribute]) => {
                let (subgroup, setting) = (power_name(subgroup)?, power_name(setting)?);
                let is_hidden = match attribute.to_lowercase().as_str() {
                    "-attrib_hide" => "false",
                    "+attrib_hide" => "true",
                    _ => return Err(NOT_UNDERSTOOD.to_owned()),
                };
                one(&format!("power:{subgroup}/{setting}#hidden"), is_hidden)
            }
            ("change" | "x", [what, minutes]) => {
                let what = what.trim_start_matches(['/', '-']).to_lowercase();
                let (what, source) = match what.strip_suffix("-ac") {
                    Some(what) => (what, "mains"),
                    None => (what.strip_suffix("-dc").ok_or(NOT_UNDERSTOOD)?, "battery"),
                };
                let (subgroup, setting) = match what {
                    "monitor-timeout" => ("sub_video", "videoidle"),
                    "disk-timeout" => ("sub_disk", "diskidle"),
                    "standby-timeout" => ("sub_sleep", "standbyidle"),
                    "hibernate-timeout" => ("sub_sleep", "hibernateidle"),
                    _ => return Err(NOT_UNDERSTOOD.to_owned()),
                };
                let plan = self.plan("scheme_current")?;
                let (subgroup, setting) = (power_name(subgroup)?, power_name(setting)?);
                let seconds = decimal(minutes)?.saturating_mul(60);
                one(&format!("power:{plan}/{subgroup}/{setting}#{source}"), &seconds.to_string())
            }
            ("h" | "hibernate", _) => {
                Err("Windows sets it up with more than a value: the tweaks on hibernation do it"
                    .to_owned())
            }
            ("l" | "list" | "q" | "query" | "a" | "availablesleepstates" | "aliases", _) => {
                Ok(Meaning::Nothing)
            }
            _ => Err(NOT_UNDERSTOOD.to_owned()),
        }
    }

    fn plan(&self, written: &str) -> Result<Uuid, String> {
        let name = written.to_lowercase();
        if name == "scheme_current" {
            return self.plan_in_force.ok_or("which plan is in force is not known here".to_owned());
        }
        let known = PLANS.iter().find(|(known, _)| *known == name).map(|(_, plan)| *plan);
        known
            .or_else(|| name.parse().ok())
            .ok_or_else(|| format!("there is no power plan {written}"))
    }
}

fn power_name(written: &str) -> Result<Uuid, String> {
    let name = written.to_lowercase();
    let known = POWER_NAMES.iter().find(|(known, _)| *known == name).map(|(_, id)| *id);
    known
        .or_else(|| name.parse().ok())
        .ok_or_else(|| format!("{written} is no power setting that is known"))
}
