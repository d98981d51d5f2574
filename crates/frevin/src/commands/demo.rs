//! `frevin demo`: the whole job done once, in plain words, by the real commands' own code.

mod evening;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use clap::Args;
use frevin_core::ids::{NameError, SceneName};
use frevin_core::layers::Selection;
use frevin_core::preview::OnOthers;
use frevin_core::profile::ProfileName;
use frevin_core::setting::TakesEffect;
use frevin_core::sift::Found;
use frevin_core::trial::KeepPolicy;
use frevin_core::verdict::{Judge, Margins, PairLimit, Verdict};
use frevin_ledger::Ledger;
use frevin_pc::rehearsal::{RehearsalPc, Template, create};
use frevin_pc::{Fingerprint, Pc as _, fingerprint};
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::profile::from_evidence_document;
use crate::commands::profile::private_words;
use crate::commands::report::open_file;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneSource;
use crate::operations::apply::{self, ApplyReport, Order};
use crate::operations::inspect::inspect;
use crate::operations::profiles;
use crate::operations::report::{Subject, report as report_data};
use crate::operations::restart::restart;
use crate::operations::rollback::{self, RollbackReport};
use crate::operations::sift::{
    SiftBeginning, SiftDriver, SiftReport, SiftRequest, design as sift_design,
    report as sift_report,
};
use crate::operations::target::{Named, Target, Unsaved, resolve};
use crate::operations::trial::{Arms, Beginning, Driver, Request, TrialReport, design, report};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::plan::{PlanReport, dangers};
use crate::view::report::{Private, page};
use crate::view::sift::show_beginning as show_sift;
use crate::view::trial::show_beginning;
use crate::view::{Page, bad, count, dim, good, percent, strong};

/// The profile of the demo. The last tweak is the one that hurts on this PC.
const PROFILE: &str = include_str!("../../../../rehearsal/profiles/friday-evening.toml");
const PROFILE_NAME: &str = "friday-evening";
const SCENE: &str = "canyon-run";
/// The profile that is made of what helped.
const HELPED: &str = "what-helps";
/// Runs of a visit that count, and their length: what the statistics were worked out for.
const RUNS: usize = 3;
const RUN_SECONDS: u32 = 60;

/// See the whole job done once, on a simulated PC, in a few seconds. Touches nothing of yours
#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Play one evening instead: from the PC as it came to a proven profile, by `frevin tune`
    #[arg(long)]
    evening: bool,
    /// Leave the PC and the ledger in this new folder, to play with
    #[arg(long, value_name = "FOLDER")]
    keep: Option<PathBuf>,
    /// What chance on the simulated PC comes from
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Open the report that it ends with, where there is a browser
    #[arg(long)]
    open: bool,
}

#[derive(Debug, JsonSchema, Serialize)]
struct DemoReport {
    with_everything: TrialReport,
    sift: SiftReport,
    with_what_helped: Option<TrialReport>,
    fingerprint_at_first: Fingerprint,
    fingerprint_at_last: Fingerprint,
    is_as_at_first: bool,
    kept_in: Option<PathBuf>,
    /// The page that shows what was found.
    report: PathBuf,
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
            play(Demo::new(context, folder, args)?, args)
        }
        None => {
            let folder = tempfile::Builder::new().prefix("frevin-demo-").tempdir()?;
            play(Demo::new(context, folder.path(), args)?, args)
        }
    }
}

fn play(demo: Demo, args: &DemoArgs) -> Result<Outcome, Failure> {
    if args.evening { demo.play_evening() } else { demo.play() }
}

struct Demo {
    /// What the demo is shown in.
    outer: Context,
    /// What its commands work with.
    context: Context,
    folder: PathBuf,
    kept_in: Option<PathBuf>,
    opens: bool,
    pc: RehearsalPc,
    ledger: Ledger,
    scene: SceneName,
    seed: u64,
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
            opens: args.open,
            pc,
            seed: args.seed,
            scene: SCENE.parse().map_err(|error: NameError| internal(error.to_string()))?,
        })
    }

    fn play(mut self) -> Result<Outcome, Failure> {
        let at_first = self.look()?;
        self.save_profile()?;
        self.preview()?;
        let with_everything = self.try_everything()?;
        let (sift, with_what_helped) = self.sift()?;
        self.keep_as_profile(&sift)?;
        let at_last = self.take_back_everything(&at_first)?;
        let report = DemoReport {
            is_as_at_first: at_first == at_last,
            with_everything,
            sift,
            with_what_helped,
            fingerprint_at_first: at_first,
            fingerprint_at_last: at_last,
            kept_in: self.kept_in.clone(),
            report: self.write_report(Subject::Sift(None))?,
        };
        if self.opens {
            open_file(&report.report);
        }
        let is_yes = report.is_as_at_first;
        Ok(Outcome::with(&report, is_yes))
    }

    /// Writes the page of what was found: into the folder that is kept, else among the files that the operating
    /// system throws away in time.
    fn write_report(&self, subject: Subject) -> Result<PathBuf, Failure> {
        use std::io::Write as _;
        let data = report_data(&self.context, &self.pc, &self.ledger, subject)?;
        let words = private_words(&self.context)?;
        let text = page(&data, &Private { words: &words, is_shown: false });
        if let Some(folder) = &self.kept_in {
            let file = std::path::absolute(folder.join("report.html"))?;
            fs_err::write(&file, text)?;
            return Ok(file);
        }
        let mut file =
            tempfile::Builder::new().prefix("frevin-demo-").suffix(".html").tempfile()?;
        file.write_all(text.as_bytes())?;
        let (_, path) = file.keep().map_err(|error| error.error)?;
        Ok(path)
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
            page.blank();
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

    fn preview(&mut self) -> Result<(), Failure> {
        self.step(
            "3. See what would change",
            "Each step with its setting as it is and as it would be. What is shown is what is carried \
             out; if the PC moves in between, nothing is.",
            &format!("frevin preview {PROFILE_NAME}"),
        );
        self.say_preview()
    }

    fn say_preview(&self) -> Result<(), Failure> {
        let catalogue = self.context.catalogue()?;
        let target = self.profile()?;
        let plan = apply::make_plan(&self.pc, &self.ledger, &target.wishes, None)?;
        let report = PlanReport {
            dangers: dangers(&plan, &target.by_hand, &catalogue),
            measured_worse: Vec::new(),
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

    fn try_everything(&mut self) -> Result<TrialReport, Failure> {
        self.step(
            "4. Find out whether it helps",
            "A trial visits the PC with and without the profile in turns, each time after a restart and a \
             warm-up, until the difference is clear of chance: a PC drifts, and no two starts are alike. \
             Before each change the exact state is safe on the disk, every write is read back, and what is \
             worse is rolled back at once.",
            &format!("frevin trial start {PROFILE_NAME}"),
        );
        let report = self.try_profile()?;
        self.say(|page| {
            page.blank();
            page.paragraph(
                0,
                match report.comparison.verdict {
                    Verdict::Worse => {
                        "All that advice together made it worse. Most people would now reinstall \
                         Windows, or believe that it feels smoother. Here it is gone again already."
                    }
                    Verdict::Better => {
                        "Chance was kind on this PC: even with all of it, it is better."
                    }
                    Verdict::Same | Verdict::Undecided => {
                        "On this PC, with this seed, that is not to be told apart from chance."
                    }
                },
            );
        });
        Ok(report)
    }

    /// Sifts the profile, and tries what helps.
    fn sift(&mut self) -> Result<(SiftReport, Option<TrialReport>), Failure> {
        // The whole profile may have been kept, and a sift begins with none of it.
        if self.is_in_force()? {
            self.roll_back(&Selection::All)?;
            restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
        }
        self.step(
            "5. Find out which of it matters",
            "Seven pieces of advice, of which some help, some do nothing, and at least one hurts. A sift switches \
             about half of them on at a time, each time after a restart, and works out what each one does from \
             all of these configurations at once. What helps is then tried against the PC as it was.",
            &format!("frevin sift start {PROFILE_NAME}"),
        );
        let request = SiftRequest {
            profile: PROFILE_NAME.to_owned(),
            scene: Some(self.scene.clone()),
            runs: 1,
            run_seconds: RUN_SECONDS,
            seed: self.seed,
            budget: None,
            only: None,
            may_be_few: false,
            after_taking_back: None,
            keep: KeepPolicy::Better,
            experts: BTreeSet::new(),
            as_administrator: true,
            restarts_by_itself: false,
            runs_start_program: true,
            judge: Judge::FrameRate,
            ping: None,
            in_play: None,
        };
        let sifted = sift_design(&self.context, &self.pc, &self.ledger, &request)?;
        self.say(|page| {
            let begin = SiftBeginning {
                sifted: &sifted,
                recording: None,
                is_simulated: true,
                undo_folder: self.context.undo_folder(&self.pc),
            };
            show_sift(&begin, page);
        });
        let progress = self.outer.progress(1, "a sift");
        let source = SceneSource::find(&self.context, &self.pc, &mut self.ledger, &self.scene)?;
        let mut driver =
            SiftDriver::begin(&self.context, &mut self.pc, &mut self.ledger, sifted.design)?;
        driver.drive(Some(&source))?;
        let (ledger, pc, record) = driver.done()?;
        let sift = sift_report(ledger, &record, false)?;
        let trial = match sift.trial {
            Some(trial) => Some(report(ledger, Some(pc), &ledger.trial(trial)?)?),
            None => None,
        };
        progress.finish_and_clear();
        self.say(|page| {
            page.blank();
            sift.show(page);
        });
        Ok((sift, trial))
    }

    /// Writes down what helped as a profile, by the evidence.
    fn keep_as_profile(&mut self, sift: &SiftReport) -> Result<(), Failure> {
        if sift.helped.is_empty() {
            return Ok(());
        }
        self.step(
            "6. Keep what helped",
            "What was found is evidence of this PC, with its date and its circumstances. A profile can be made of \
             it: each tweak with its arguments, and the reason in a line.",
            &format!("frevin profile new {HELPED} --from-evidence"),
        );
        let name: ProfileName = HELPED
            .parse()
            .map_err(|error: NameError| Failure::new(Kind::Internal, error.to_string()))?;
        let document = from_evidence_document(&self.context, &name, "What helps on this PC", None)?;
        let file = self.folder.join(format!("{HELPED}.toml"));
        fs_err::write(&file, &document)?;
        let saved = profiles::save(&self.context, &file, "By the sift")?;
        self.say(|page| {
            page.verbatim(&document);
            saved.show(page);
        });
        Ok(())
    }

    /// A trial of the latest revision of the profile.
    fn try_profile(&mut self) -> Result<TrialReport, Failure> {
        let request = Request {
            arms: Arms::Apply(Named::Profile(PROFILE_NAME.to_owned())),
            consents: Vec::new(),
            scenes: vec![self.scene.clone()],
            runs: RUNS,
            run_seconds: RUN_SECONDS,
            seed: self.seed,
            margins: Margins::default(),
            limit: PairLimit::default(),
            budget: None,
            keep: KeepPolicy::Better,
            judge: Judge::FrameRate,
            ping: None,
            restarts_by_itself: false,
            as_administrator: true,
            ping_pause_ms: 50,
            runs_start_program: true,
            in_play: None,
        };
        let designed = design(&self.context, &self.pc, &self.ledger, &request)?;
        self.say(|page| {
            let begin =
                Beginning { designed: &designed, recording: Vec::new(), is_simulated: true };
            show_beginning(&begin, page);
        });
        let progress = self.outer.progress(designed.design.limit.pairs() as u64, "pairs of visits");
        let source = SceneSource::find(&self.context, &self.pc, &mut self.ledger, &self.scene)?;
        let mut driver =
            Driver::begin(&self.context, &mut self.pc, &mut self.ledger, designed.design)?;
        driver.drive(&mut |_| source.make(&self.context))?;
        let (ledger, pc, record) = driver.done()?;
        let report = report(ledger, Some(pc), &record)?;
        progress.finish_and_clear();
        self.say(|page| {
            page.blank();
            report.show(page);
        });
        Ok(report)
    }

    fn take_back_everything(&mut self, at_first: &Fingerprint) -> Result<Fingerprint, Failure> {
        // The trial may have ended with nothing in force.
        if !self.is_in_force()? {
            self.put_in_force()?;
        }
        self.step(
            "7. Take back everything",
            "You would keep what helped. The demo takes it all back, to show that it can: every \
             setting goes to what it was, what was absent is absent again, keys that were made are gone.",
            "frevin rollback --all",
        );
        let report = self.roll_back(&Selection::All)?;
        self.say(|page| report.show(page));
        restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
        let at_last = fingerprint(&self.pc)?;
        self.say_fingerprints(at_first, &at_last);
        Ok(at_last)
    }

    fn say_fingerprints(&self, at_first: &Fingerprint, at_last: &Fingerprint) {
        self.say(|page| {
            page.blank();
            page.pairs([
                ("fingerprint at first", at_first.to_string()),
                ("fingerprint now", at_last.to_string()),
            ]);
            if at_first == at_last {
                page.line(good("The PC is what it was at first, bit for bit."));
            } else {
                page.line(bad("The PC is NOT what it was at first."));
            }
        });
    }

    fn is_in_force(&self) -> Result<bool, Failure> {
        Ok(!self.ledger.layers(&self.pc.identity().id)?.is_empty())
    }

    fn put_in_force(&mut self) -> Result<ApplyReport, Failure> {
        let order = Order::new(&self.pc, &self.ledger, self.profile()?, None, false)?;
        apply::apply(&self.context, &mut self.pc, &mut self.ledger, order)
    }

    fn roll_back(&mut self, selection: &Selection) -> Result<RollbackReport, Failure> {
        let on_others = OnOthers::Stop;
        let way_back = rollback::make_way_back(&self.pc, &self.ledger, selection, on_others)?;
        let (context, pc, ledger) = (&self.context, &mut self.pc, &mut self.ledger);
        rollback::roll_back(context, pc, ledger, selection, on_others, way_back)
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<DemoReport>("demo");
    schemas.prints::<evening::EveningDemo>("demo");
}

/// How to go on in the folder that a demo was left in.
fn show_kept_folder(folder: &Path, page: &mut Page) {
    let folder = folder.display();
    page.heading("Go on from here");
    page.line(format_args!("  export FREVIN_HOME={folder}/home FREVIN_PC={folder}/pc"));
}

impl View for DemoReport {
    fn show(&self, page: &mut Page) {
        let estimate = |compared: &TrialReport| {
            let difference = compared.comparison.findings.first().and_then(|f| f.difference);
            difference.map_or_else(String::new, |difference| percent(difference.estimate))
        };
        page.chapter("In short");
        let hurt: Vec<String> = self
            .sift
            .tweaks
            .iter()
            .filter(|tweak| tweak.found == Found::Hurts)
            .map(|tweak| tweak.used.to_string())
            .collect();
        let mut short = vec![(
            "all of the profile",
            format!("{} average FPS", estimate(&self.with_everything)),
        )];
        if !hurt.is_empty() {
            short.push(("what hurts in it", hurt.join(", ")));
        }
        if let Some(trial) = &self.with_what_helped {
            let what = format!("{} average FPS", estimate(trial));
            short.push(("what helps of it", what));
        }
        short.push((
            "found with",
            format!(
                "{} of visits and {}",
                count(self.with_everything.comparison.pairs, "pair"),
                count(self.sift.configurations, "configuration"),
            ),
        ));
        short.push(("as a page", self.report.display().to_string()));
        page.pairs(short);
        match &self.kept_in {
            Some(folder) => {
                show_kept_folder(folder, page);
                page.line("  frevin log");
                page.line("  frevin trial show");
                page.line("  frevin sift show");
                page.line("  frevin evidence list");
                page.line(format_args!("  frevin apply {HELPED}"));
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
