//! What tests make and start is gone when they are, however they went: passed, failed, or killed.
//!
//! Every folder of a test process lies in one. A keeper holds the end of a pipe that only the process has open; once that is closed it
//! ends whatever still runs with something of that folder in its command or environment, and removes the folder.

use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;

use tempfile::TempDir;

/// What the names of server's folders begin with: their own keepers end them first, as each server wants it.
pub(crate) const SERVER: &str = "puente-server-";

/// The folder of all folders, and who removes it. Statics are never dropped: the pipe is closed by the end of the process.
struct Kept {
    folder: PathBuf,
    _keeper: Child,
}

/// The folder in which everything lies that this test process makes.
fn root() -> &'static Path {
    static KEPT: OnceLock<Kept> = OnceLock::new();
    let kept = KEPT.get_or_init(|| {
        let folder = tempfile::Builder::new().prefix("puente-tests-").tempdir().expect("a folder").keep();
        // Servers run as nobody, and have to get to theirs.
        std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o711)).expect("a folder of ours");
        let keeper = keeper(&folder);
        Kept { folder, _keeper: keeper }
    });
    &kept.folder
}

fn keeper(folder: &Path) -> Child {
    // Deaf to the signals that a terminal sends to everybody: it has to outlive what it cleans up after.
    let script = format!(
        "trap '' INT TERM HUP; cat >/dev/null; i=0; \
         while ls -d \"$0\"/{SERVER}* >/dev/null 2>&1 && [ $i -lt 100 ]; do sleep 0.1; i=$((i+1)); done; \
         for p in /proc/[0-9]*; do \
           [ \"$p\" = \"/proc/$$\" ] || {{ grep -qsaF \"$0/\" \"$p/environ\" \"$p/cmdline\" && kill -KILL \"${{p#/proc/}}\"; }}; \
         done; \
         rm -rf \"$0\"; sleep 0.2; rm -rf \"$0\""
    );
    let mut keeper = Command::new("sh");
    keeper.arg("-c").arg(script).arg(folder).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
    keeper.process_group(0).spawn().expect("a shell")
}

/// A folder for a test; removed when dropped, or at the latest with the process.
///
/// # Panics
/// Where it cannot be made.
pub fn folder() -> TempDir {
    tempfile::tempdir_in(root()).expect("a folder")
}

/// The same with a name that begins so.
pub(crate) fn folder_called(prefix: &str) -> TempDir {
    tempfile::Builder::new().prefix(prefix).tempdir_in(root()).expect("a folder")
}
