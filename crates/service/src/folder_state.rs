//! Which state of a project's files was read, and when another one is to be taken over: an editor may write a file in several steps,
//! and a file that is replaced twice must not leave what it said in between in force.

use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::path::Path;
use std::time::{Duration, Instant, SystemTime};

use puente_core::project;

/// The files of a project as they were at a moment, by their names in the folder.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FolderState(BTreeMap<String, FileState>);

#[derive(Debug, Clone, PartialEq, Eq)]
struct FileState {
    stamp: Stamp,
    /// The hashes of its lines, in their order.
    lines: Vec<u64>,
}

/// What tells a file from another that took its name, and one content from most others.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Stamp {
    modified: Option<SystemTime>,
    length: u64,
    identity: u64,
}

impl Stamp {
    fn of(file: &Path) -> Option<Self> {
        let about = std::fs::metadata(file).ok()?;
        #[cfg(unix)]
        let identity = std::os::unix::fs::MetadataExt::ino(&about);
        #[cfg(not(unix))]
        let identity = 0;
        Some(Stamp { modified: about.modified().ok(), length: about.len(), identity })
    }

    /// Was the file written so shortly ago that another write may leave the same stamp?
    fn is_fresh(&self) -> bool {
        const COARSEST: Duration = Duration::from_secs(2);
        let age = self.modified.and_then(|modified| modified.elapsed().ok());
        age.is_none_or(|age| age < COARSEST)
    }
}

impl FolderState {
    /// The state now. Files that have not been touched since `known` are not read again.
    pub fn read(folder: &Path, known: &FolderState) -> Self {
        let mut files = BTreeMap::new();
        let mut add = |name: String| {
            let file = folder.join(&name);
            if let Some(state) = FileState::read(&file, known.0.get(&name)) {
                files.insert(name, state);
            }
        };
        let text = std::fs::read_to_string(folder.join(project::FILE)).unwrap_or_default();
        let (patterns, _) = project::included(&text).unwrap_or_default();
        crate::folder::files_of(folder, &patterns).into_iter().for_each(&mut add);
        let surveys = std::fs::read_dir(folder.join("survey")).into_iter().flatten().flatten();
        surveys.map(|entry| format!("survey/{}", entry.file_name().to_string_lossy())).for_each(&mut add);
        add(project::FILE.to_owned());
        add(".puente/environment".to_owned());
        FolderState(files)
    }

    /// Is it another state that only lacks lines of one or several files? A file that an editor has begun to write looks like that.
    fn only_lacks_lines_of(&self, other: &FolderState) -> bool {
        let lacks = |(name, before): (&String, &FileState)| match self.0.get(name) {
            None => true,
            Some(now) => {
                let mut before = before.lines.iter();
                now.lines.iter().all(|line| before.any(|known| known == line))
            }
        };
        self.0.keys().all(|name| other.0.contains_key(name)) && other.0.iter().all(lacks)
    }
}

impl FileState {
    fn read(file: &Path, known: Option<&FileState>) -> Option<Self> {
        let stamp = Stamp::of(file)?;
        if let Some(known) = known.filter(|known| known.stamp == stamp && !stamp.is_fresh()) {
            return Some(known.clone());
        }
        let bytes = std::fs::read(file).ok()?;
        let hash = |line: &[u8]| {
            let mut hasher = DefaultHasher::new();
            line.hash(&mut hasher);
            hasher.finish()
        };
        Some(FileState { stamp, lines: bytes.split(|byte| *byte == b'\n').map(hash).collect() })
    }
}

/// Waits until the files of a project are quiet.
#[derive(Debug, Default)]
pub struct Settling {
    /// What was seen last, and since when it has been like that.
    seen: Option<(FolderState, Instant)>,
    /// What could not be read as a project: it is not tried again.
    refused: Option<FolderState>,
}

impl Settling {
    /// For how long files have to be as they are.
    const QUIET: Duration = Duration::from_millis(200);
    /// For how long where they only lack lines.
    const QUIET_WITH_LESS: Duration = Duration::from_secs(2);

    /// Is the state `now` to be read, where `in_force` is the one that was read last?
    pub fn look(&mut self, now: FolderState, in_force: &FolderState, at: Instant) -> bool {
        if now == *in_force || self.refused.as_ref() == Some(&now) {
            self.seen = None;
            return false;
        }
        match &self.seen {
            Some((seen, since)) if *seen == now => {
                let patience = match now.only_lacks_lines_of(in_force) {
                    true => Settling::QUIET_WITH_LESS,
                    false => Settling::QUIET,
                };
                at.saturating_duration_since(*since) >= patience
            }
            _ => {
                self.seen = Some((now, at));
                false
            }
        }
    }

    /// What was seen last could not be read as a project.
    pub fn refuse(&mut self) {
        self.refused = self.seen.take().map(|(state, _)| state);
    }

    /// What was last seen.
    pub fn last_seen(&self) -> Option<&FolderState> {
        self.seen.as_ref().map(|(state, _)| state)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(folder: &Path, text: &str) -> FolderState {
        std::fs::write(folder.join(project::FILE), text).unwrap();
        FolderState::read(folder, &FolderState::default())
    }

    #[test]
    fn a_change_is_taken_over_once_it_is_quiet_and_a_loss_of_lines_later() {
        let folder = tempfile::tempdir().unwrap();
        let begin = Instant::now();
        let at = |milliseconds| begin + Duration::from_millis(milliseconds);
        let in_force = written(folder.path(), "a = 1\nb = 2\n");
        let mut settling = Settling::default();
        assert!(!settling.look(in_force.clone(), &in_force, at(0)));
        let changed = written(folder.path(), "a = 1\nb = 3\n");
        assert!(!settling.look(changed.clone(), &in_force, at(100)));
        assert!(!settling.look(changed.clone(), &in_force, at(250)));
        let again = written(folder.path(), "a = 1\nb = 4\n");
        assert!(!settling.look(again.clone(), &in_force, at(320)), "it was written again");
        assert!(settling.look(again, &in_force, at(520)));
        let cut = written(folder.path(), "a = 1\n");
        assert!(!settling.look(cut.clone(), &in_force, at(600)));
        assert!(!settling.look(cut.clone(), &in_force, at(2_500)));
        assert!(settling.look(cut, &in_force, at(2_600)));
    }

    #[test]
    fn a_file_that_says_the_same_again_is_still_another_state() {
        let folder = tempfile::tempdir().unwrap();
        let before = written(folder.path(), "a = 1\n");
        std::fs::remove_file(folder.path().join(project::FILE)).unwrap();
        std::fs::write(folder.path().join("other"), "").unwrap();
        let after = written(folder.path(), "a = 1\n");
        assert_ne!(before, after, "what was read in between may have been something else");
    }

    #[test]
    fn what_cannot_be_read_is_not_tried_again_until_it_changes() {
        let folder = tempfile::tempdir().unwrap();
        let begin = Instant::now();
        let in_force = written(folder.path(), "a = 1\n");
        let broken = written(folder.path(), "a =\n");
        let mut settling = Settling::default();
        assert!(!settling.look(broken.clone(), &in_force, begin));
        assert!(settling.look(broken.clone(), &in_force, begin + Duration::from_secs(1)));
        settling.refuse();
        assert!(!settling.look(broken.clone(), &in_force, begin + Duration::from_secs(2)));
        assert!(!settling.look(broken, &in_force, begin + Duration::from_secs(9)));
    }
}
