//! What a command works with: where things are, which PC is meant, and how to talk to its user.

use std::collections::BTreeMap;
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crossterm::event::{Event, KeyCode, KeyEventKind, poll, read};
use frevin_core::facts::{Facts, tell};
use frevin_core::ids::{PcId, SceneName};
use frevin_core::tweak::Catalogue;
use frevin_ledger::Ledger;
use frevin_pc::rehearsal::RehearsalPc;
use frevin_pc::{LockError, Pc, PcIdentity, PcKind, PcLock, Restarts};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::clock::Clock;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneRecording;
use crate::operations::play::games::Games;
use crate::options::GlobalOptions;
use crate::view::Page;
use crate::{own_home, own_tweaks, strangers_file};

const CONFIGURATION: &str = "config.toml";
/// No configuration is that long.
const LONGEST_BYTES: u64 = 1 << 20;

/// What `config.toml` in Frevin's home holds.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Configuration {
    /// The PC that is meant where none is named.
    pc: Option<PathBuf>,
    /// What the owner tells of the live PC that it does not tell itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    facts: Option<toml::Table>,
    /// What the owner tells of rehearsal PCs that their folders do not.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    rehearsal_facts: BTreeMap<PcId, toml::Table>,
    /// How scenes are recorded that no rehearsal PC plays.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    scenes: BTreeMap<SceneName, SceneRecording>,
    /// Games that something is held for whenever they run.
    #[serde(default, skip_serializing_if = "Games::is_empty")]
    games: Games,
    /// What the last self-test of each PC came to.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    self_tests: BTreeMap<PcId, SelfTested>,
}

/// What a self-test came to.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SelfTested {
    /// The build of Windows that it was made on.
    build: u32,
    has_passed: bool,
}

/// The table of the configuration that holds what the owner tells of a PC.
pub(crate) fn owners_table(identity: &PcIdentity) -> String {
    match identity.kind {
        PcKind::Live => "facts".to_owned(),
        PcKind::Rehearsal => format!("rehearsal_facts.{}", identity.id),
    }
}

/// Which PC is meant.
enum Meant {
    /// The one that Frevin runs on.
    Live,
    /// The one in a folder.
    Rehearsal(PathBuf),
}

/// What a command works with.
#[derive(Debug, Clone)]
pub(crate) struct Context {
    home: PathBuf,
    pc: Option<String>,
    pub(crate) clock: Clock,
    pub(crate) json: bool,
    pub(crate) quiet: bool,
    yes: bool,
    shows_progress: bool,
    wait: Duration,
    /// The catalogue as it was read last, with the owner's definitions that it was read from.
    catalogue: Arc<Mutex<Option<ReadCatalogue>>>,
}

#[derive(Debug)]
struct ReadCatalogue {
    own: Vec<(String, String)>,
    catalogue: Catalogue,
}

impl Context {
    /// Resolves the options that every command takes against the environment.
    pub(crate) fn new(options: &GlobalOptions) -> Result<Self, Failure> {
        // Read here and not by the parser of arguments, which would then show them as required in its messages.
        let said_outside = |name: &str| std::env::var_os(name).filter(|said| !said.is_empty());
        let home =
            match options.home.clone().or_else(|| said_outside("FREVIN_HOME").map(Into::into)) {
                Some(home) => home,
                None => directories::ProjectDirs::from("", "", "frevin")
                    .map(|folders| folders.data_local_dir().to_owned())
                    .ok_or_else(|| {
                        Failure::new(Kind::Usage, "this user has no home folder for Frevin's data")
                            .hint("name one with --home FOLDER or FREVIN_HOME")
                    })?,
            };
        own_home::check(&home)?;
        Ok(Self {
            home,
            pc: match (&options.pc, said_outside("FREVIN_PC")) {
                (Some(pc), _) => Some(pc.clone()),
                (None, Some(pc)) => Some(pc.into_string().map_err(|pc| {
                    let message = format!("FREVIN_PC is no text: {}", pc.display());
                    Failure::new(Kind::Usage, message)
                })?),
                (None, None) => None,
            },
            clock: Clock::from_environment()?,
            json: options.json,
            quiet: options.quiet,
            yes: options.yes,
            shows_progress: !options.quiet && !options.json && std::io::stderr().is_terminal(),
            wait: Duration::from_secs(options.wait.into()),
            catalogue: Arc::default(),
        })
    }

    /// A context like this one in another home, for another PC, that never asks and shows no
    /// progress of its own: it is part of something longer.
    pub(crate) fn elsewhere(&self, home: &Path, pc: &Path) -> Self {
        Self {
            home: home.to_owned(),
            pc: Some(pc.display().to_string()),
            yes: true,
            shows_progress: false,
            ..self.clone()
        }
    }

    /// A context like this one whose owner has given their word.
    pub(crate) fn with_word_given(self) -> Self {
        Self { yes: true, ..self }
    }

    /// Says something at once to somebody who watches; nothing in a pipe.
    pub(crate) fn say_on_terminal(&self, text: impl std::fmt::Display) {
        if self.shows_progress {
            let text = crate::view::for_terminal(&format!("{text}\n"));
            // Where it cannot be shown, nobody watches.
            let _ = std::io::Write::write_all(&mut std::io::stderr(), text.as_bytes());
        }
    }

    /// Where the undo files of a PC are.
    pub(crate) fn undo_folder(&self, pc: &dyn Pc) -> PathBuf {
        self.home.join("undo").join(pc.identity().id.as_str())
    }

    /// Frevin's own folder.
    pub(crate) fn home(&self) -> &Path {
        &self.home
    }

    /// The ledger.
    pub(crate) fn ledger(&self) -> Result<Ledger, Failure> {
        own_home::make(&self.home)?;
        Ok(Ledger::open(&self.home)?)
    }

    /// The ledger, without a look at whether it is as it was written.
    pub(crate) fn ledger_unchecked(&self) -> Result<Ledger, Failure> {
        own_home::make(&self.home)?;
        Ok(Ledger::open_unchecked(&self.home)?)
    }

    /// The folder of the owner's tweaks.
    pub(crate) fn own_tweaks(&self) -> PathBuf {
        self.home.join("tweaks")
    }

    /// The catalogue: Frevin's own, and what lies in the owner's folder of tweaks.
    pub(crate) fn catalogue(&self) -> Result<Catalogue, Failure> {
        let own = own_tweaks::read(&self.own_tweaks())?;
        let mut read = self.catalogue.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(read) = read.as_ref().filter(|read| read.own == own) {
            return Ok(read.catalogue.clone());
        }
        let definitions = own.iter().map(|(name, text)| (name.as_str(), text.as_str()));
        let catalogue = Catalogue::built_in()?.with_own(definitions)?;
        *read = Some(ReadCatalogue { own, catalogue: catalogue.clone() });
        Ok(catalogue)
    }

    /// The PC that is meant.
    pub(crate) fn pc(&self) -> Result<Box<dyn Pc>, Failure> {
        Ok(self.restartable_pc()?)
    }

    /// The PC that is meant, to be restarted too.
    pub(crate) fn restartable_pc(&self) -> Result<Box<dyn Restarts>, Failure> {
        match self.meant()? {
            Meant::Live => live_pc(&self.home),
            Meant::Rehearsal(folder) => Ok(Box::new(RehearsalPc::open(&folder)?)),
        }
    }

    /// Which PC is meant: the one that is named, else the configured one, else the one that Frevin
    /// runs on, where it can change that.
    fn meant(&self) -> Result<Meant, Failure> {
        let named = self.pc.as_ref().map(PathBuf::from);
        let pc = match named {
            Some(pc) => Some(pc),
            None => self.configured_pc()?,
        };
        match pc {
            Some(pc) if pc.as_os_str() == "live" => Ok(Meant::Live),
            Some(folder) => Ok(Meant::Rehearsal(folder)),
            None if cfg!(windows) => Ok(Meant::Live),
            None => Err(no_pc()),
        }
    }

    /// The PC that is meant, where the command makes sense on a rehearsal PC only.
    pub(crate) fn rehearsal_pc(&self) -> Result<RehearsalPc, Failure> {
        match self.meant()? {
            Meant::Rehearsal(folder) => Ok(RehearsalPc::open(&folder)?),
            Meant::Live if cfg!(windows) => Err(Failure::new(
                Kind::Usage,
                "this goes with a rehearsal PC, not with the live one",
            )
            .hint("make one with `frevin rehearsal new FOLDER`, and say --pc FOLDER")),
            Meant::Live => Err(no_live_pc()),
        }
    }

    /// The rehearsal PC that is meant, or nothing where another is, or none is named.
    pub(crate) fn rehearsal_pc_if_named(&self) -> Result<Option<RehearsalPc>, Failure> {
        if self.pc.is_none() && self.configured_pc()?.is_none() {
            return Ok(None);
        }
        match self.meant()? {
            Meant::Rehearsal(folder) => Ok(Some(RehearsalPc::open(&folder)?)),
            Meant::Live => Ok(None),
        }
    }

    /// The PC that is meant, or nothing where none is named.
    pub(crate) fn pc_if_named(&self) -> Result<Option<Box<dyn Pc>>, Failure> {
        let is_named = self.pc.is_some() || self.configured_pc()?.is_some();
        if is_named || cfg!(windows) { self.pc().map(Some) } else { Ok(None) }
    }

    fn configured_pc(&self) -> Result<Option<PathBuf>, Failure> {
        Ok(self.configuration()?.pc)
    }

    fn configuration(&self) -> Result<Configuration, Failure> {
        let path = self.home.join(CONFIGURATION);
        if !path.exists() {
            return Ok(Configuration::default());
        }
        let text = strangers_file::read_text(&path, LONGEST_BYTES, "configuration")?;
        toml::from_str(&text).map_err(|error| {
            let message = format!("{} is broken: {}", path.display(), error.message());
            Failure::new(Kind::BadInput, message).hint("mend it, or delete it")
        })
    }

    /// What is known of a PC: what it tells, and what its owner tells besides, in the configuration.
    pub(crate) fn facts(&self, pc: &dyn Pc) -> Result<Facts, Failure> {
        let facts = pc.facts()?;
        let told = self.owners_facts(pc)?;
        if told.is_empty() {
            return Ok(facts);
        }
        let bad = |message: String| {
            let path = self.home.join(CONFIGURATION);
            let table = owners_table(pc.identity());
            Failure::new(Kind::BadInput, format!("[{table}] in {}: {message}", path.display()))
                .hint("`frevin inspect --json` shows the facts and what they are called")
        };
        let told = tell(&facts, &told.into()).map_err(bad)?;
        if !told.unheard.is_empty() {
            return Err(bad(format!("this PC has no {}", told.unheard.join(", "))));
        }
        Ok(told.facts)
    }

    /// What the owner tells of a PC, in the configuration.
    pub(crate) fn owners_facts(&self, pc: &dyn Pc) -> Result<Map<String, Value>, Failure> {
        let PcIdentity { id, kind, .. } = pc.identity();
        let mut configuration = self.configuration()?;
        let told = match kind {
            PcKind::Live => configuration.facts,
            PcKind::Rehearsal => configuration.rehearsal_facts.remove(id),
        };
        let told = serde_json::to_value(told.unwrap_or_default())
            .map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
        Ok(told.as_object().cloned().unwrap_or_default())
    }

    /// Keeps what the owner tells of a PC, instead of what was kept of it.
    pub(crate) fn configure_facts(
        &self,
        pc: &dyn Pc,
        told: &Map<String, Value>,
    ) -> Result<(), Failure> {
        let PcIdentity { id, kind, .. } = pc.identity();
        let told = toml::Table::try_from(told)
            .map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
        let mut configuration = self.configuration()?;
        match kind {
            PcKind::Live => configuration.facts = Some(told),
            PcKind::Rehearsal => drop(configuration.rehearsal_facts.insert(id.clone(), told)),
        }
        self.configure(&configuration)
    }

    /// Whether `--yes` gave the owner's word.
    pub(crate) fn has_word(&self) -> bool {
        self.yes
    }

    /// Whether somebody is there who can be asked.
    pub(crate) fn can_ask(&self) -> bool {
        !self.json && std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
    }

    /// Asks for a line of text; nothing where the line is empty. `fault` says what is wrong with one,
    /// and then it is asked for again.
    pub(crate) fn ask_for(
        &self,
        question: &str,
        fault: impl Fn(&str) -> Option<String>,
    ) -> Result<Option<String>, Failure> {
        let line: String = dialoguer::Input::new()
            .with_prompt(question)
            .allow_empty(true)
            .validate_with(|line: &String| match fault(line) {
                Some(fault) if !line.trim().is_empty() => Err(fault),
                _ => Ok(()),
            })
            .interact_text()
            .map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
        let line = line.trim().to_owned();
        Ok(if line.is_empty() { None } else { Some(line) })
    }

    /// How the owner records a scene, where they have said it.
    pub(crate) fn scene_recording(
        &self,
        scene: &SceneName,
    ) -> Result<Option<SceneRecording>, Failure> {
        let Some(recording) = self.configuration()?.scenes.remove(scene) else { return Ok(None) };
        match recording.fault() {
            None => Ok(Some(recording)),
            Some(fault) => {
                let path = self.home.join(CONFIGURATION);
                let message = format!("[scenes.{scene}] in {}: {fault}", path.display());
                Err(Failure::new(Kind::BadInput, message))
            }
        }
    }

    /// Keeps how the owner records a scene; with nothing, that they do not any more.
    pub(crate) fn configure_scene(
        &self,
        scene: &SceneName,
        recording: Option<SceneRecording>,
    ) -> Result<(), Failure> {
        let mut configuration = self.configuration()?;
        match recording {
            Some(recording) => drop(configuration.scenes.insert(scene.clone(), recording)),
            None => drop(configuration.scenes.remove(scene)),
        }
        self.configure(&configuration)
    }

    /// The games that something is held for whenever they run.
    pub(crate) fn games(&self) -> Result<Games, Failure> {
        Ok(self.configuration()?.games)
    }

    /// Keeps them.
    pub(crate) fn configure_games(&self, games: &Games) -> Result<(), Failure> {
        self.configure(&Configuration { games: games.clone(), ..self.configuration()? })
    }

    /// Keeps what a self-test came to.
    pub(crate) fn configure_self_test(
        &self,
        pc: &dyn Pc,
        build: u32,
        has_passed: bool,
    ) -> Result<(), Failure> {
        let mut configuration = self.configuration()?;
        let tested = SelfTested { build, has_passed };
        configuration.self_tests.insert(pc.identity().id.clone(), tested);
        self.configure(&configuration)
    }

    /// Whether anything is kept of a self-test of this build of Windows on a PC.
    pub(crate) fn has_self_test(&self, pc: &dyn Pc, build: u32) -> Result<bool, Failure> {
        let configuration = self.configuration()?;
        let kept = configuration.self_tests.get(&pc.identity().id);
        Ok(kept.is_some_and(|tested| tested.build == build))
    }

    /// Whether a self-test of this build of Windows has passed on a PC.
    pub(crate) fn has_passed_self_test(&self, pc: &dyn Pc, build: u32) -> Result<bool, Failure> {
        let configuration = self.configuration()?;
        let kept = configuration.self_tests.get(&pc.identity().id);
        Ok(kept.is_some_and(|tested| tested.build == build && tested.has_passed))
    }

    /// When the configuration was written last.
    pub(crate) fn configuration_changed_at(&self) -> Option<std::time::SystemTime> {
        std::fs::metadata(self.home.join(CONFIGURATION)).ok()?.modified().ok()
    }

    /// Makes `pc` the one that is meant where none is named.
    pub(crate) fn configure_pc(&self, pc: &Path) -> Result<(), Failure> {
        let pc = fs_err::canonicalize(pc)?;
        self.configure(&Configuration { pc: Some(pc), ..self.configuration()? })
    }

    fn configure(&self, configuration: &Configuration) -> Result<(), Failure> {
        let text = toml::to_string(configuration)
            .map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
        own_home::make(&self.home)?;
        let mut file = tempfile::NamedTempFile::new_in(&self.home)?;
        std::io::Write::write_all(&mut file, text.as_bytes())?;
        file.as_file().sync_all()?;
        file.persist(self.home.join(CONFIGURATION)).map_err(|error| error.error)?;
        Ok(())
    }

    /// The PC as it was named, where it was; its folder from the root, for a process that begins elsewhere.
    pub(crate) fn pc_as_named(&self) -> Option<String> {
        let named = self.pc.clone()?;
        let whole = std::path::absolute(&named).ok().filter(|path| path.exists());
        Some(whole.map_or(named, |path| path.display().to_string()))
    }

    /// Takes the right to change a PC, and waits for it as long as was asked.
    pub(crate) fn lock(&self, pc: &mut (impl Pc + ?Sized)) -> Result<PcLock, Failure> {
        const PAUSE: Duration = Duration::from_millis(50);
        let begun = Instant::now();
        loop {
            match pc.lock() {
                Err(LockError::Held(_)) if begun.elapsed() < self.wait => std::thread::sleep(PAUSE),
                taken => return Ok(taken?),
            }
        }
    }

    /// Asks for the owner's word before something is changed, unless `--yes` gave it. `shown` is
    /// what the question is about.
    ///
    /// Where there is no terminal to ask at, nothing is asked and nothing is done.
    pub(crate) fn confirm(&self, shown: &Page, question: &str) -> Result<(), Failure> {
        if self.yes {
            return Ok(());
        }
        if !self.can_ask() {
            return Err(Failure::new(Kind::Usage, "nothing was changed: this has to be confirmed")
                .hint("say --yes, or run it in a terminal to be asked"));
        }
        shown.print()?;
        let agreed = dialoguer::Confirm::new()
            .with_prompt(question)
            .default(false)
            .interact()
            .map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
        if agreed {
            Ok(())
        } else {
            Err(Failure::new(Kind::Usage, "nothing was changed, as you wished"))
        }
    }

    /// Asks the owner a question of its own, which a word for everything does not answer; no where nobody can be
    /// asked.
    pub(crate) fn asks_owner(&self, question: &str) -> Result<bool, Failure> {
        if self.yes || !self.can_ask() {
            return Ok(false);
        }
        dialoguer::Confirm::new()
            .with_prompt(question)
            .default(false)
            .interact()
            .map_err(|error| Failure::new(Kind::Internal, error.to_string()))
    }

    /// Waits until the owner has done something and says so.
    ///
    /// Where there is no terminal to ask at, nobody is there who could.
    pub(crate) fn wait_for_owner(&self, what: &str) -> Result<(), Failure> {
        if !self.can_ask() {
            return Err(Failure::new(Kind::Usage, "this needs somebody at the PC")
                .hint("run it in a terminal, or let a command begin the runs of the scene"));
        }
        let mut error = std::io::stderr();
        std::io::Write::write_all(&mut error, format!("{what}: ").as_bytes())?;
        let mut line = String::new();
        std::io::stdin().read_line(&mut line)?;
        Ok(())
    }

    /// Asks whether the owner can still read the screen, and takes no answer within so long for a
    /// no. Where there is no terminal to ask at, or `--yes` said not to, the answer is yes.
    pub(crate) fn is_readable(&self, question: &str, within: Duration) -> bool {
        if self.yes || !self.can_ask() {
            return true;
        }
        let seconds = within.as_secs();
        let say = |text: String| {
            // Where it cannot be shown, nobody answers, and it goes back.
            let _ = std::io::Write::write_all(&mut std::io::stderr(), text.as_bytes());
        };
        say(format!("{question} (press y within {seconds} s, or it goes back) "));
        let is_yes = yes_within(within).unwrap_or(false);
        say(if is_yes { "yes\n".to_owned() } else { "no\n".to_owned() });
        is_yes
    }

    /// Asks which of several ways to take; leaving the question takes the first. Where there is no
    /// terminal to ask at, or `--yes` said not to, nothing is asked and nothing chosen.
    pub(crate) fn choose(
        &self,
        shown: &Page,
        question: &str,
        ways: &[&str],
    ) -> Result<Option<usize>, Failure> {
        if self.yes || !self.can_ask() {
            return Ok(None);
        }
        shown.print()?;
        let menu = dialoguer::Select::new().with_prompt(question).items(ways).default(0);
        let chosen = menu.interact_opt();
        let chosen = chosen.map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
        Ok(Some(chosen.unwrap_or(0)))
    }

    /// A progress bar for work of so many steps: on a terminal, and not where only JSON is wanted.
    pub(crate) fn progress(&self, steps: u64, what: &'static str) -> indicatif::ProgressBar {
        if !self.shows_progress {
            return indicatif::ProgressBar::hidden();
        }
        let style = indicatif::ProgressStyle::with_template("{msg} {bar:30} {pos}/{len}")
            .unwrap_or_else(|_| indicatif::ProgressStyle::default_bar());
        let progress = indicatif::ProgressBar::new(steps).with_style(style).with_message(what);
        // Something is to be seen before the first step is done, which may take minutes.
        progress.enable_steady_tick(Duration::from_millis(200));
        progress
    }
}

/// Whether `y` is the key that is pressed within so long. No reader of the terminal is left behind,
/// which would take the answer to a later question.
fn yes_within(within: Duration) -> std::io::Result<bool> {
    crossterm::terminal::enable_raw_mode()?;
    let pressed = is_y_pressed(within);
    crossterm::terminal::disable_raw_mode()?;
    pressed
}

fn is_y_pressed(within: Duration) -> std::io::Result<bool> {
    let until = Instant::now() + within;
    while poll(until.saturating_duration_since(Instant::now()))? {
        if let Event::Key(key) = read()?
            && key.kind == KeyEventKind::Press
        {
            return Ok(matches!(key.code, KeyCode::Char('y' | 'Y')));
        }
    }
    Ok(false)
}

#[cfg(windows)]
fn live_pc(home: &Path) -> Result<Box<dyn Restarts>, Failure> {
    Ok(Box::new(frevin_windows::live_pc(home)?))
}

#[cfg(not(windows))]
fn live_pc(_home: &Path) -> Result<Box<dyn Restarts>, Failure> {
    Err(no_live_pc())
}

fn no_live_pc() -> Failure {
    let message = "there is no live PC here, since this is not Windows: make a rehearsal PC with \
                   `frevin rehearsal new FOLDER`, and say --pc FOLDER";
    Failure::new(Kind::Usage, message)
}

fn no_pc() -> Failure {
    Failure::new(Kind::Usage, "no PC is named")
        .hint("say --pc FOLDER, or set FREVIN_PC")
        .hint("`frevin rehearsal new FOLDER --make-default` makes a PC to practise on")
}
