//! `frevin demo`: the whole job done once, in plain words, by the real commands' own code.

use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::Args;
use frevin_core::ids::{NameError, SceneName, StateName};
use frevin_core::layers::Selection;
use frevin_core::preview::OnOthers;
use frevin_core::profile::Profile;
use frevin_core::setting::TakesEffect;
use frevin_core::tweak::TweakId;
use frevin_core::verdict::{Margins, PairLimit, Verdict};
use frevin_ledger::Ledger;
use frevin_pc::rehearsal::{RehearsalPc, Template, create};
use frevin_pc::{Fingerprint, Pc as _, fingerprint};
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::compare::{CompareOptions, Compared, compare_states};
use crate::measure::sources::{RehearsalScene, scenes_of};
use crate::measure::{self, DeclaredConditions, VisitPlan};
use crate::operations::apply::{self, ApplyReport, Order};
use crate::operations::inspect::inspect;
use crate::operations::profiles;
use crate::operations::restart::restart;
use crate::operations::rollback::{self, RollbackReport};
use crate::operations::target::{Named, Target, Unsaved, resolve};
use crate::outcome::{Outcome, View};
use crate::view::plan::PlanReport;
use crate::view::visits::VisitReport;
use crate::view::{Page, bad, count, dim, good, percent, strong};

/// The profile of the demo. The last tweak is the one that hurts on this PC.
const PROFILE: &str = include_str!("../../../../rehearsal/profiles/friday-evening.toml");
const PROFILE_NAME: &str = "friday-evening";
const SCENE: &str = "canyon-run";
const SUSPECT: &str = "memory/large-file-cache";
/// Runs of a visit that count, and their length: what the statistics were worked out for.
const RUNS: usize = 3;
const LENGTH: Duration = Duration::from_secs(60);

/// See the whole job done once, on a simulated PC, in a few seconds. Touches nothing of yours
#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Leave the PC and the ledger in this new folder, to play with
    #[arg(long, value_name = "FOLDER")]
    keep: Option<PathBuf>,
    /// What chance on the simulated PC comes from
    #[arg(long, default_value_t = 1)]
    seed: u64,
}

#[derive(Debug, Serialize)]
struct DemoReport {
    with_everything: Compared,
    without_the_suspect: Compared,
    suspect: TweakId,
    fingerprint_at_first: Fingerprint,
    fingerprint_at_last: Fingerprint,
    is_as_at_first: bool,
    kept_in: Option<PathBuf>,
}

pub(crate) fn run(context: &Context, args: &DemoArgs) -> Result<Outcome, Failure> {
    match &args.keep {
        Some(folder) => {
            if folder.exists() {
                let message = format!("{} is there already", folder.display());
                return Err(Failure::new(Kind::BadInput, message)
                    .hint("nothing was changed; name a folder that does not exist yet"));
            }
            fs_err::create_dir_all(folder)?;
            Demo::new(context, folder, args)?.play()
        }
        None => {
            let folder = tempfile::Builder::new().prefix("frevin-demo-").tempdir()?;
            Demo::new(context, folder.path(), args)?.play()
        }
    }
}

struct Demo {
    /// What the demo is shown in.
    outer: Context,
    /// What its commands work with.
    context: Context,
    folder: PathBuf,
    kept_in: Option<PathBuf>,
    pc: RehearsalPc,
    ledger: Ledger,
    scene: SceneName,
    suspect: TweakId,
}

impl Demo {
    fn new(context: &Context, folder: &Path, args: &DemoArgs) -> Result<Self, Failure> {
        let template = Template::named("desktop")
            .ok_or_else(|| Failure::new(Kind::Internal, "the demo's PC is not shipped"))?;
        let pc = create(&folder.join("pc"), template, "Rehearsal desktop", args.seed)?;
        let outer = context.clone();
        let context = context.elsewhere(&folder.join("home"), &folder.join("pc"));
        let internal = |error: String| Failure::new(Kind::Internal, error);
        Ok(Self {
            ledger: context.ledger()?,
            outer,
            context,
            folder: folder.to_owned(),
            kept_in: args.keep.clone(),
            pc,
            scene: SCENE.parse().map_err(|error: NameError| internal(error.to_string()))?,
            suspect: SUSPECT
                .parse()
                .map_err(|error: frevin_core::tweak::TweakIdError| internal(error.to_string()))?,
        })
    }

    fn play(mut self) -> Result<Outcome, Failure> {
        let at_first = self.look()?;
        self.save_profile()?;
        self.preview_and_apply()?;
        let with_everything = self.measure_everything()?;
        self.take_back_the_suspect()?;
        let without_the_suspect = self.measure_the_rest()?;
        let at_last = self.take_back_everything(&at_first)?;
        let report = DemoReport {
            is_as_at_first: at_first == at_last,
            with_everything,
            without_the_suspect,
            suspect: self.suspect.clone(),
            fingerprint_at_first: at_first,
            fingerprint_at_last: at_last,
            kept_in: self.kept_in.clone(),
        };
        let is_yes = report.is_as_at_first;
        Ok(Outcome::with(&report, is_yes))
    }

    /// Says something at once, unless only JSON is wanted.
    fn say(&self, write: impl FnOnce(&mut Page)) {
        if !self.context.json && !self.context.quiet {
            let mut page = Page::default();
            write(&mut page);
            // Nobody reads any more: what is done goes on, as with every other command.
            let _ = page.print();
        }
    }

    fn step(&self, title: &str, why: &str, command: &str) {
        self.say(|page| {
            page.chapter(title);
            page.paragraph(0, why);
            page.blank();
            page.line(dim(format_args!("  $ {command}")));
        });
    }

    fn look(&self) -> Result<Fingerprint, Failure> {
        self.say(|page| {
            page.line(strong("Frevin, the whole job once"));
            page.paragraph(
                0,
                "Everything below happens on a PC that is simulated in a folder. Nothing of yours is \
                 touched. After each `$` stands the command that does the same by hand.",
            );
        });
        self.step(
            "1. Look at the PC",
            "Which tweaks make sense depends on what is there: the drive, the graphics card, what its \
             owner uses.",
            "frevin inspect",
        );
        let report = inspect(&self.context, &self.pc, &self.ledger)?;
        let fingerprint = fingerprint(&self.pc)?;
        self.say(|page| {
            report.show(page);
            page.pairs([("fingerprint", fingerprint.to_string())]);
        });
        Ok(fingerprint)
    }

    fn save_profile(&mut self) -> Result<(), Failure> {
        let file = self.folder.join(format!("{PROFILE_NAME}.toml"));
        fs_err::write(&file, PROFILE)?;
        self.step(
            "2. Write down what to try",
            "A profile is a list of tweaks in a TOML file. Saving it makes a revision that never \
             changes, so that it is always known what was applied. This one holds advice as it goes \
             round: some of it sound, some contested.",
            &format!("frevin profile save {PROFILE_NAME}.toml -m \"Advice from the forum\""),
        );
        let saved = profiles::save(&self.context, &file, "Advice from the forum")?;
        self.say(|page| saved.show(page));
        Ok(())
    }

    fn preview_and_apply(&mut self) -> Result<(), Failure> {
        self.step(
            "3. Measure as it is",
            "First a baseline: one run to warm up, then three that count. One run would not do; they \
             differ by chance.",
            &format!("frevin run record --scene {SCENE} --state before"),
        );
        restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
        let visit = self.visit("before")?;
        self.say(|page| visit.show(page));

        self.step(
            "4. See what would change",
            "Each step with its setting as it is and as it would be. What is shown is what is carried \
             out; if the PC moves in between, nothing is.",
            &format!("frevin preview {PROFILE_NAME}"),
        );
        self.say_preview()?;

        self.step(
            "5. Apply it",
            "Before the first write, the exact state of everything about to be touched is safe on the \
             disk, with undo files that work without Frevin. Every write is read back. All or nothing.",
            &format!("frevin apply {PROFILE_NAME}"),
        );
        let applied = self.put_in_force()?;
        self.say(|page| applied.show(page));

        self.step(
            "6. Restart",
            "Some settings are read only when Windows starts. To measure before that would measure \
             nothing, so Frevin refuses to.",
            "frevin rehearsal restart",
        );
        let restarted = restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
        self.say(|page| restarted.show(page));
        Ok(())
    }

    fn say_preview(&self) -> Result<(), Failure> {
        let catalogue = self.context.catalogue()?;
        let target = self.profile()?;
        let plan = apply::make_plan(&self.pc, &self.ledger, &target.wishes, None)?;
        let report = PlanReport {
            title: &target.title,
            takes_effect: plan.takes_effect(),
            waiting: &[],
            plan: &plan,
            does_not_fit: &target.left_out,
            by_hand: &target.by_hand,
            catalogue: &catalogue,
            addresses: false,
        };
        self.say(|page| report.show(page));
        Ok(())
    }

    /// The latest revision of the demo's profile, fitted to its PC.
    fn profile(&self) -> Result<Target, Failure> {
        let named = Named::Profile(PROFILE_NAME.to_owned());
        let facts = self.pc.facts()?;
        resolve(&named, &[], &self.context.catalogue()?, &self.ledger, &facts, Unsaved::Refused)
    }

    /// The profile is in force and its first visit is due; the baseline has its first already.
    fn measure_everything(&mut self) -> Result<Compared, Failure> {
        self.step(
            "7. Measure again, in turns",
            "A PC drifts: it warms up, it fills up, every start is a little different. So the two \
             states are visited in turns, each with a restart and a warm-up, until the difference is \
             clear of chance. By hand that takes an evening; `before` is rolled back to, and the \
             profile applied again, each time.",
            &format!("frevin compare before {PROFILE_NAME}-1"),
        );
        self.visit("friday-evening-1")?;
        let compared = self.in_turns("before", "friday-evening-1")?;
        self.say(|page| compared.show(page));
        self.say(|page| {
            page.blank();
            page.paragraph(
                0,
                match compared.comparison.verdict {
                    Verdict::Worse => {
                        "All that advice together made it worse. Most people would now reinstall \
                         Windows, or believe that it feels smoother."
                    }
                    Verdict::Better => {
                        "Chance was kind on this PC: even with all of it, it is better."
                    }
                    _ => "On this PC, with this seed, that is not to be told apart from chance.",
                },
            );
        });
        Ok(compared)
    }

    fn take_back_the_suspect(&mut self) -> Result<(), Failure> {
        // The turns may have ended with nothing in force.
        if !self.is_in_force()? {
            self.put_in_force()?;
        }
        self.step(
            "8. Take back the one under suspicion",
            "The catalogue calls it contested, with the words: \"a game is a program whose memory is \
             taken for it\". Taking back one tweak leaves the others standing.",
            &format!("frevin rollback --tweak {SUSPECT}"),
        );
        let selection = Selection::Tweak(self.suspect.clone());
        let report = self.roll_back(&selection)?;
        self.say(|page| report.show(page));

        let file = self.folder.join(format!("{PROFILE_NAME}.toml"));
        fs_err::write(&file, self.without_the_suspect_in_force()?)?;
        let saved = profiles::save(&self.context, &file, "Without the large file cache")?;
        self.say(|page| {
            page.blank();
            page.line(dim(format_args!(
                "  $ frevin profile save {PROFILE_NAME}.toml -m \"Without the large file cache\""
            )));
            saved.show(page);
        });
        Ok(())
    }

    fn measure_the_rest(&mut self) -> Result<Compared, Failure> {
        self.step(
            "9. Measure what is left",
            "The same again: the second revision against the PC without any of it.",
            &format!("frevin compare before-again {PROFILE_NAME}-2"),
        );
        restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
        self.visit("friday-evening-2")?;
        self.roll_back(&Selection::All)?;
        restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
        self.visit("before-again")?;
        let compared = self.in_turns("before-again", "friday-evening-2")?;
        self.say(|page| compared.show(page));
        Ok(compared)
    }

    fn take_back_everything(&mut self, at_first: &Fingerprint) -> Result<Fingerprint, Failure> {
        // The turns may have ended with nothing in force.
        if !self.is_in_force()? {
            self.put_in_force()?;
        }
        self.step(
            "10. Take back everything",
            "You would keep what helped. The demo takes it all back, to show that it can: every \
             setting goes to what it was, what was absent is absent again, keys that were made are gone.",
            "frevin rollback --all",
        );
        let report = self.roll_back(&Selection::All)?;
        self.say(|page| report.show(page));
        restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
        let at_last = fingerprint(&self.pc)?;
        self.say(|page| {
            page.blank();
            page.pairs([
                ("fingerprint at first", at_first.to_string()),
                ("fingerprint now", at_last.to_string()),
            ]);
            if *at_first == at_last {
                page.line(good("The PC is what it was at first, bit for bit."));
            } else {
                page.line(bad("The PC is NOT what it was at first."));
            }
        });
        Ok(at_last)
    }

    /// Goes on with pairs of visits until it is decided. One pair is there already. The state
    /// that a pair ends in is the one that the next begins with: A B, B A, A B, … From one state to the
    /// other the PC goes in one step, which leaves alone what else its owner changed.
    fn in_turns(&mut self, a: &str, b: &str) -> Result<Compared, Failure> {
        let options = CompareOptions {
            scene: Some(self.scene.clone()),
            margins: Margins::default(),
            limit: PairLimit::default(),
        };
        let progress = self.outer.progress(options.limit.pairs() as u64, "pairs of visits");
        loop {
            let compared = compare_states(&self.ledger, &name(a)?, &name(b)?, &options)?;
            progress.set_position(compared.comparison.pairs as u64);
            if compared.comparison.is_finished {
                progress.finish_and_clear();
                return Ok(compared);
            }
            for is_second in [false, true] {
                if is_second && self.is_in_force()? {
                    self.roll_back(&Selection::All)?;
                } else if is_second {
                    self.put_in_force()?;
                }
                restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
                self.visit(if self.is_in_force()? { b } else { a })?;
            }
        }
    }

    fn is_in_force(&self) -> Result<bool, Failure> {
        Ok(!self.ledger.layers(&self.pc.identity().id)?.is_empty())
    }

    fn put_in_force(&mut self) -> Result<ApplyReport, Failure> {
        let order = Order::new(&self.pc, &self.ledger, self.profile()?, None, false)?;
        apply::apply(&self.context, &mut self.pc, &mut self.ledger, order)
    }

    fn visit(&mut self, state: &str) -> Result<VisitReport, Failure> {
        let scenes = scenes_of(&self.pc)?;
        if let Some(scene) = scenes.iter().find(|scene| scene.name == self.scene) {
            self.ledger.add_scene(scene)?;
        }
        let plan = VisitPlan {
            scene: &self.scene,
            state_name: &name(state)?,
            runs: RUNS,
            warm_up: None,
            length: LENGTH,
            despite_waiting: false,
            declared: &DeclaredConditions::default(),
            ping: None,
            of_trial: None,
        };
        let mut source = RehearsalScene::new(&self.pc, &self.scene);
        let pc: &mut dyn frevin_pc::Pc = &mut self.pc;
        let id = measure::visit(&self.context, &mut self.ledger, Some(pc), &mut source, &plan)?;
        Ok(VisitReport { visit: self.ledger.visit(id)? })
    }

    fn roll_back(&mut self, selection: &Selection) -> Result<RollbackReport, Failure> {
        let on_others = OnOthers::Stop;
        let way_back = rollback::make_way_back(&self.pc, &self.ledger, selection, on_others)?;
        let (context, pc, ledger) = (&self.context, &mut self.pc, &mut self.ledger);
        rollback::roll_back(context, pc, ledger, selection, on_others, way_back)
    }

    /// The profile's document without the suspect.
    fn without_the_suspect_in_force(&self) -> Result<String, Failure> {
        let mut profile = Profile::parse(PROFILE_NAME, PROFILE, &self.context.catalogue()?)?;
        profile.entries.retain(|entry| entry.tweak != self.suspect);
        Ok(profile.to_document())
    }
}

fn name(text: &str) -> Result<StateName, Failure> {
    text.parse().map_err(|error: NameError| Failure::new(Kind::Internal, error.to_string()))
}

impl View for DemoReport {
    fn show(&self, page: &mut Page) {
        let estimate = |compared: &Compared| {
            let difference = compared.comparison.findings.first().and_then(|f| f.difference);
            difference.map_or_else(String::new, |difference| percent(difference.estimate))
        };
        page.chapter("In short");
        page.pairs([
            ("all of the profile", format!("{} average FPS", estimate(&self.with_everything))),
            (
                "without the one that hurt",
                format!("{} average FPS", estimate(&self.without_the_suspect)),
            ),
            (
                "measured in",
                format!(
                    "{} and {} of visits",
                    self.with_everything.comparison.pairs,
                    count(self.without_the_suspect.comparison.pairs, "pair"),
                ),
            ),
        ]);
        match &self.kept_in {
            Some(folder) => {
                let folder = folder.display();
                page.heading("Go on from here");
                page.line(format_args!("  export FREVIN_HOME={folder}/home FREVIN_PC={folder}/pc"));
                page.line("  frevin run list");
                page.line(format_args!("  frevin apply {PROFILE_NAME}"));
            }
            None => {
                page.heading("Now you");
                page.line(
                    "  frevin demo --keep my-demo     leaves all of this in a folder to play with",
                );
                page.line("  frevin tweak list              shows what there is to try");
            }
        }
    }
}
