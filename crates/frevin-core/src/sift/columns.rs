//! From the tweaks of a profile to what is sifted: which exclude each other, which need which.

use std::collections::{BTreeMap, BTreeSet};

use uuid::Uuid;

use super::design::SiftedTweak;
use crate::setting::{Address, State, Value};
use crate::tweak::{TweakId, TweakUse};

/// A tweak that could be sifted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Candidate {
    /// The tweak.
    pub tweak: SiftedTweak,
    /// Tweaks that it cannot be combined with.
    pub conflicts: Vec<TweakId>,
    /// Tweaks that it does nothing without.
    pub needs: Vec<TweakId>,
}

/// What is sifted.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Columns {
    /// A column each.
    pub tweaks: Vec<SiftedTweak>,
    /// Groups of columns of which at most one is on.
    pub exclusive: Vec<Vec<usize>>,
    /// Pairs of columns of which the first does nothing without the second.
    pub needs: Vec<(usize, usize)>,
}

/// Why a tweak is not sifted in play beside the others: there every configuration and its opposite have to be possible.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotBeside {
    /// It excludes this one, which is sifted.
    Excludes(TweakUse),
    /// It does nothing without this one.
    Needs(TweakUse),
    /// This one, which is sifted, writes the same setting.
    WritesTheSame(TweakUse, Address),
}

/// The columns that have nothing to do with each other, and those that are left out: of what excludes each other the
/// first that is `preferred` stays, else the first, and what does nothing without another does not.
pub fn independent(
    columns: Columns,
    preferred: &BTreeSet<TweakId>,
) -> (Vec<SiftedTweak>, Vec<(SiftedTweak, NotBeside)>) {
    let Columns { tweaks, exclusive, needs } = columns;
    let used = |column: usize| tweaks[column].wish.used.clone();
    let mut why: BTreeMap<usize, NotBeside> = needs
        .iter()
        .map(|(dependent, needed)| (*dependent, NotBeside::Needs(used(*needed))))
        .collect();
    for group in &exclusive {
        let left: Vec<usize> =
            group.iter().filter(|member| !why.contains_key(member)).copied().collect();
        let is_preferred = |member: &&usize| preferred.contains(&used(**member).tweak);
        let Some(stays) = left.iter().find(is_preferred).or(left.first()).copied() else {
            continue;
        };
        let others = left.into_iter().filter(|member| *member != stays);
        why.extend(others.map(|member| (member, NotBeside::Excludes(used(stays)))));
    }
    let mut written: BTreeMap<String, usize> = BTreeMap::new();
    for (column, tweak) in tweaks.iter().enumerate() {
        if why.contains_key(&column) {
            continue;
        }
        for wanted in &tweak.wish.settings {
            let first = *written.entry(wanted.address.identity()).or_insert(column);
            if first != column {
                let same = NotBeside::WritesTheSame(used(first), wanted.address.clone());
                why.entry(column).or_insert(same);
            }
        }
    }
    let (mut kept, mut left_out) = (Vec::new(), Vec::new());
    for (column, tweak) in tweaks.into_iter().enumerate() {
        match why.remove(&column) {
            None => kept.push(tweak),
            Some(why) => left_out.push((tweak, why)),
        }
    }
    (kept, left_out)
}

/// Makes columns of candidates. Two exclude each other where one says so, or where they want the same setting to hold
/// different states; of all that hang together so, at most one is on.
pub fn columns(candidates: Vec<Candidate>) -> Columns {
    let id = |candidate: &Candidate| candidate.tweak.wish.used.tweak.clone();
    let ids: Vec<TweakId> = candidates.iter().map(id).collect();
    let wanted: Vec<BTreeMap<String, &State>> = candidates
        .iter()
        .map(|candidate| {
            let settings = candidate.tweak.wish.settings.iter();
            settings.map(|wanted| (wanted.address.identity(), &wanted.state)).collect()
        })
        .collect();
    let exclude = |a: usize, b: usize| {
        candidates[a].conflicts.contains(&ids[b])
            || candidates[b].conflicts.contains(&ids[a])
            || wanted[a].iter().any(|(at, state)| wanted[b].get(at).is_some_and(|b| b != state))
    };
    // Each group is of what hangs together, through however many.
    let mut group_of: Vec<usize> = (0..candidates.len()).collect();
    for a in 0..candidates.len() {
        for b in 0..a {
            if exclude(a, b) {
                let (kept, gone) = (group_of[a].min(group_of[b]), group_of[a].max(group_of[b]));
                group_of.iter_mut().filter(|group| **group == gone).for_each(|group| *group = kept);
            }
        }
    }
    let members = |group: usize| -> Vec<usize> {
        (0..candidates.len()).filter(|column| group_of[*column] == group).collect()
    };
    let exclusive: Vec<Vec<usize>> =
        (0..candidates.len()).map(members).filter(|group| group.len() > 1).collect();
    let mut needs = Vec::new();
    for (dependent, candidate) in candidates.iter().enumerate() {
        for needed in &candidate.needs {
            let places: Vec<usize> = (0..ids.len()).filter(|at| ids[*at] == *needed).collect();
            // Of several uses of the one that is needed, any will do: then nothing is forced.
            if let [needed] = places[..]
                && group_of[needed] != group_of[dependent]
            {
                needs.push((dependent, needed));
            }
        }
    }
    for (dependent, candidate) in candidates.iter().enumerate() {
        if let Some(needed) = plan_needed(candidate, &candidates)
            && group_of[needed] != group_of[dependent]
            && !needs.contains(&(dependent, needed))
        {
            needs.push((dependent, needed));
        }
    }
    let tweaks = candidates.into_iter().map(|candidate| candidate.tweak).collect();
    Columns { tweaks, exclusive, needs }
}

/// The one among `candidates` that puts the power plan in force which `candidate` writes values of, if it
/// is one: without it those values act on nothing.
fn plan_needed(candidate: &Candidate, candidates: &[Candidate]) -> Option<usize> {
    let wants = |candidate: &Candidate, plan: Uuid| {
        let in_force = State::from(Value::Plan(plan));
        let mut settings = candidate.tweak.wish.settings.iter();
        settings.any(|want| want.address == Address::ActivePlan && want.state == in_force)
    };
    let plans: BTreeSet<Uuid> = candidate
        .tweak
        .wish
        .settings
        .iter()
        .filter_map(|wanted| match wanted.address {
            Address::PowerValue { plan, .. } => Some(plan),
            _ => None,
        })
        .collect();
    let puts = |other: &Candidate| plans.iter().any(|plan| wants(other, *plan));
    let mut found = (0..candidates.len()).filter(|at| puts(&candidates[*at]));
    match (found.next(), found.next()) {
        (Some(one), None) if candidates[one] != *candidate => Some(one),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::preview::Wish;
    use crate::setting::{TakesEffect, Value};
    use crate::tweak::{Risk, TweakUse, Wanted};

    fn candidate(id: &str, ms: u32, address: &str) -> Candidate {
        let used = TweakUse::plain(id.parse().unwrap());
        let settings = vec![Wanted {
            address: address.parse().unwrap(),
            state: State::Value(Value::Milliseconds(ms)),
            takes_effect: TakesEffect::Now,
        }];
        let wish = Wish { used, settings, consented: false };
        let tweak = SiftedTweak { wish, risk: Risk::Safe };
        Candidate { tweak, conflicts: Vec::new(), needs: Vec::new() }
    }

    #[test]
    fn what_excludes_each_other_is_one_group_and_needs_point_at_columns() {
        let mut all = vec![
            candidate("a/one", 1, "visual:menu-delay"),
            candidate("a/two", 2, "visual:menu-delay"),
            candidate("a/three", 1, "visual:cursor-shadow"),
            candidate("a/four", 1, "visual:menu-delay"),
        ];
        all[2].conflicts = vec!["a/two".parse().unwrap()];
        all[3].needs = vec!["a/absent".parse().unwrap()];
        let found = columns(all.clone());
        // The fourth wants what the first wants, and not what the second does.
        assert_eq!(found.exclusive, [vec![0, 1, 2, 3]]);
        assert!(found.needs.is_empty());
        all[1] = candidate("a/two", 1, "visual:menu-delay");
        all[2].conflicts.clear();
        all[2].needs = vec!["a/one".parse().unwrap()];
        let found = columns(all);
        assert!(found.exclusive.is_empty());
        assert_eq!(found.needs, [(2, 0)]);
        assert_eq!(found.tweaks.len(), 4);
    }

    #[test]
    fn of_what_excludes_each_other_or_writes_the_same_one_is_sifted_in_play() {
        let all = vec![
            candidate("a/one", 1, "visual:menu-delay"),
            candidate("a/two", 2, "visual:menu-delay"),
            candidate("a/three", 1, "visual:cursor-shadow"),
            candidate("a/four", 1, "visual:cursor-shadow"),
        ];
        let names = |preferred: &[&str]| {
            let preferred = preferred.iter().map(|id| id.parse().unwrap()).collect();
            let (kept, left_out) = independent(columns(all.clone()), &preferred);
            let kept: Vec<String> = kept.iter().map(|one| one.wish.used.to_string()).collect();
            (kept, left_out.into_iter().map(|(_, why)| why).collect::<Vec<_>>())
        };
        let (kept, why) = names(&[]);
        assert_eq!(kept, ["a/one", "a/three"]);
        assert_eq!(why[0], NotBeside::Excludes(all[0].tweak.wish.used.clone()));
        assert!(
            matches!(&why[1], NotBeside::WritesTheSame(first, _) if *first == all[2].tweak.wish.used)
        );
        assert_eq!(names(&["a/two"]).0, ["a/two", "a/three"]);
    }

    #[test]
    fn values_of_a_plan_that_another_puts_in_force_need_that_one() {
        let mut all = vec![
            candidate("a/value", 1, "visual:menu-delay"),
            candidate("a/plan", 1, "visual:cursor-shadow"),
        ];
        let plan = crate::setting::HIGH_PERFORMANCE;
        let value = format!("power:{plan}/{0}/{0}#mains", Uuid::nil());
        let settings = |all: &mut Vec<Candidate>, at: usize, address: &str, value: Value| {
            let wanted = &mut all[at].tweak.wish.settings[0];
            (wanted.address, wanted.state) = (address.parse().unwrap(), value.into());
        };
        settings(&mut all, 0, &value, Value::PowerIndex(1));
        settings(&mut all, 1, "power:active-plan", Value::Plan(plan));
        assert_eq!(columns(all.clone()).needs, [(0, 1)]);
        let (kept, left_out) = independent(columns(all.clone()), &BTreeSet::new());
        assert_eq!(kept, [all[1].tweak.clone()]);
        let plan = all[1].tweak.wish.used.clone();
        assert_eq!(left_out, [(all[0].tweak.clone(), NotBeside::Needs(plan))]);
        settings(&mut all, 1, "power:active-plan", Value::Plan(Uuid::nil()));
        assert!(columns(all).needs.is_empty());
    }
}
