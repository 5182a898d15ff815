//! The project as somebody works on it while it is served: its folder as it was last read, the survey that runs, what was saved.

use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::{Duration, Instant};

use puente_run::{SurveyStep, SurveyWatch};

use crate::folder::ProjectFolder;
use crate::operations::check::{Checked, check_folder};
use crate::operations::survey::SurveyOutcome;

/// The project as somebody works on it.
#[derive(Debug)]
pub(crate) struct Workbench {
    /// Is it served for development, so that its file may be edited?
    pub(crate) development: bool,
    read: RwLock<Read>,
    /// What the file was before each save of this service, the last one at the end.
    saved: Mutex<Vec<Saved>>,
    surveying: Mutex<Surveying>,
    /// Held while the project file is looked at and written, so that no two saves take the same file for unchanged.
    writing: Mutex<()>,
}

/// A project as it was read, and what it comes to once somebody looks.
#[derive(Debug, Clone)]
struct Read {
    folder: Arc<ProjectFolder>,
    checked: Option<Arc<Checked>>,
}

/// A save that can be taken back.
#[derive(Debug, Clone)]
pub(crate) struct Saved {
    /// The digest of the text that it made.
    pub(crate) made: String,
    /// The text before.
    pub(crate) before: String,
    /// How many edits it was of.
    pub(crate) edits: usize,
}

#[derive(Debug, Default)]
struct Surveying {
    running: Option<Running>,
    last: Option<Arc<SurveyOutcome>>,
    failed: Option<String>,
}

#[derive(Debug, Clone)]
struct Running {
    source: Option<String>,
    since: Instant,
    watch: Arc<SurveyWatch>,
}

/// A survey that runs.
#[derive(Debug, Clone)]
pub(crate) struct RunningSurvey {
    /// The one source that is surveyed; absent, all.
    pub(crate) source: Option<String>,
    /// For how long.
    pub(crate) since: Duration,
    /// What it is doing.
    pub(crate) step: SurveyStep,
}

/// Saves that can be taken back.
const MOST_SAVED: usize = 50;

impl Workbench {
    pub(crate) fn new(folder: ProjectFolder, development: bool, surveyed: Option<SurveyOutcome>) -> Self {
        Workbench {
            development,
            read: RwLock::new(Read { folder: Arc::new(folder), checked: None }),
            saved: Mutex::default(),
            surveying: Mutex::new(Surveying { last: surveyed.map(Arc::new), ..Surveying::default() }),
            writing: Mutex::default(),
        }
    }

    /// The folder, as it was last read.
    pub(crate) fn folder(&self) -> Arc<ProjectFolder> {
        Arc::clone(&self.read.read().unwrap_or_else(PoisonError::into_inner).folder)
    }

    /// Where it is.
    pub(crate) fn path(&self) -> PathBuf {
        self.folder().path.clone()
    }

    /// It was read again.
    pub(crate) fn reload(&self, folder: ProjectFolder) {
        *self.read.write().unwrap_or_else(PoisonError::into_inner) = Read { folder: Arc::new(folder), checked: None };
    }

    /// What the project comes to. Takes its time when it is first asked for: not for an asynchronous task.
    pub(crate) fn checked(&self) -> Arc<Checked> {
        let Read { folder, checked } = self.read.read().unwrap_or_else(PoisonError::into_inner).clone();
        if let Some(checked) = checked {
            return checked;
        }
        let checked = Arc::new(check_folder(&folder));
        let mut read = self.read.write().unwrap_or_else(PoisonError::into_inner);
        if Arc::ptr_eq(&read.folder, &folder) {
            read.checked = Some(Arc::clone(&checked));
        }
        checked
    }

    /// The right to look at the project file and write it.
    pub(crate) fn write(&self) -> MutexGuard<'_, ()> {
        self.writing.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Remembers a save.
    pub(crate) fn remember(&self, saved: Saved) {
        let mut all = self.saved.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() == MOST_SAVED {
            all.remove(0);
        }
        all.push(saved);
    }

    /// The last save that can be taken back, and how many there are.
    pub(crate) fn last_saved(&self) -> (Option<Saved>, usize) {
        let all = self.saved.lock().unwrap_or_else(PoisonError::into_inner);
        (all.last().cloned(), all.len())
    }

    /// The last save was taken back.
    pub(crate) fn forget_last(&self) {
        self.saved.lock().unwrap_or_else(PoisonError::into_inner).pop();
    }

    /// Begins a survey; none where one runs.
    pub(crate) fn begin_survey(&self, source: Option<String>) -> Option<Arc<SurveyWatch>> {
        let mut surveying = self.surveying.lock().unwrap_or_else(PoisonError::into_inner);
        if surveying.running.is_some() {
            return None;
        }
        let watch = Arc::new(SurveyWatch::default());
        surveying.failed = None;
        surveying.running = Some(Running { source, since: Instant::now(), watch: Arc::clone(&watch) });
        Some(watch)
    }

    /// A survey has ended, well or not.
    pub(crate) fn end_survey(&self, outcome: Result<SurveyOutcome, String>) {
        let mut surveying = self.surveying.lock().unwrap_or_else(PoisonError::into_inner);
        surveying.running = None;
        match outcome {
            Ok(outcome) => surveying.last = Some(Arc::new(outcome)),
            Err(text) => surveying.failed = Some(text),
        }
    }

    /// Stops the survey that runs, if one does.
    pub(crate) fn stop_survey(&self) {
        let surveying = self.surveying.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(running) = &surveying.running {
            running.watch.stop();
        }
    }

    /// The survey that runs, why the last one failed if it did, and what the last one that went well found.
    pub(crate) fn survey(&self) -> (Option<RunningSurvey>, Option<String>, Option<Arc<SurveyOutcome>>) {
        let surveying = self.surveying.lock().unwrap_or_else(PoisonError::into_inner);
        let running = surveying.running.as_ref().map(|running| RunningSurvey {
            source: running.source.clone(),
            since: running.since.elapsed(),
            step: running.watch.step(),
        });
        (running, surveying.failed.clone(), surveying.last.clone())
    }
}
