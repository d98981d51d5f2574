//! A scene as its owner records it: a person or a command begins each run, and its frames come from another
//! source.

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use frevin_pc::PcLock;

use super::scene_source::SceneRecording;
use super::source::{FrameSource, SourceRun};
use crate::context::Context;
use crate::failure::{Failure, Kind};

pub(super) struct OwnersScene<'a> {
    pub(super) context: &'a Context,
    pub(super) recording: &'a SceneRecording,
    /// Where the frames come from.
    pub(super) inner: Box<dyn FrameSource + 'a>,
}

impl FrameSource for OwnersScene<'_> {
    fn prepare(&mut self) -> Result<(), Failure> {
        self.inner.prepare()
    }

    fn record(&mut self, lock: Option<&PcLock>, length: Duration) -> Result<SourceRun, Failure> {
        if self.recording.ask {
            self.context.wait_for_owner("Bring the scene to where it begins, then press Enter")?;
        }
        let mut begun = Begun::start(&self.recording.command)?;
        std::thread::sleep(Duration::from_secs(self.recording.begin_after_seconds.into()));
        let run = self.inner.record(lock, length)?;
        begun.wait(self.recording.give_up_after())?;
        Ok(run)
    }

    fn progress(&self) -> &'static str {
        self.inner.progress()
    }

    fn starts_program(&self) -> bool {
        !self.recording.command.is_empty()
    }

    /// Whatever it records runs here, and not on a rehearsal PC.
    fn is_of_host(&self) -> bool {
        true
    }
}

/// A command that was started. It does not outlive a run that failed.
struct Begun(Option<Child>);

impl Begun {
    fn start(command: &[String]) -> Result<Self, Failure> {
        let Some((program, arguments)) = command.split_first() else { return Ok(Self(None)) };
        let child = Command::new(program)
            .args(arguments)
            .stdin(Stdio::null())
            // What it says is no part of what Frevin says.
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|error| {
                let message = format!("`{program}` could not be started: {error}");
                Failure::new(Kind::NotFound, message)
                    .hint("`frevin scene list` shows how scenes are recorded")
            })?;
        Ok(Self(Some(child)))
    }

    /// Waits until it has ended by itself: the next run is not to begin beside it.
    fn wait(&mut self, at_most: Duration) -> Result<(), Failure> {
        const PAUSE: Duration = Duration::from_millis(50);
        let begun = Instant::now();
        let Some(child) = &mut self.0 else { return Ok(()) };
        loop {
            match child.try_wait()? {
                Some(status) if status.success() => break,
                Some(status) => {
                    let message = format!("the command of the scene failed: {status}");
                    return Err(Failure::new(Kind::BadInput, message));
                }
                None if begun.elapsed() > at_most => {
                    let message = "the command of the scene does not end";
                    return Err(Failure::new(Kind::TimeRanOut, message));
                }
                None => std::thread::sleep(PAUSE),
            }
        }
        self.0 = None;
        Ok(())
    }
}

impl Drop for Begun {
    fn drop(&mut self) {
        if let Some(child) = &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}
