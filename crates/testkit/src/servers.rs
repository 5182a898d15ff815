//! Private database servers: started once per process from Debian's packages, on free ports, in temporary folders, as an
//! unprivileged user; gone when the process is. Or servers of yours, by `PUENTE_TEST_POSTGRES`, `PUENTE_TEST_MARIADB` and
//! `PUENTE_TEST_MONGODB`: addresses of logins that may create databases.
//!
//! A server that cannot be started fails the test; it is never skipped.

use std::io::Write as _;
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::chown;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use tempfile::TempDir;

use crate::leftovers;

/// The user and the group that servers run as where the tests run as root, which servers refuse: nobody.
const NOBODY: u32 = 65_534;
/// The file whose presence says that a server's files are still needed after its end.
const STAYS: &str = "stays";
/// How long a server may take to start.
const PATIENCE: Duration = Duration::from_secs(60);

/// A running server.
#[derive(Debug)]
pub struct Server {
    /// Its address without a database's name, such as `postgres://puente@127.0.0.1:40123`.
    pub address: String,
    running: Option<Running>,
}

/// The processes and files of a private server.
#[derive(Debug)]
struct Running {
    keeper: Child,
    folder: TempDir,
    port: u16,
}

/// PostgreSQL, one per process.
///
/// # Panics
/// Where it is not installed or does not start.
pub fn postgres() -> &'static Server {
    static SERVER: OnceLock<Server> = OnceLock::new();
    SERVER.get_or_init(|| given("PUENTE_TEST_POSTGRES").unwrap_or_else(|| start_postgres(&[])))
}

/// MariaDB, one per process.
///
/// # Panics
/// Where it is not installed or does not start.
pub fn mariadb() -> &'static Server {
    static SERVER: OnceLock<Server> = OnceLock::new();
    SERVER.get_or_init(|| given("PUENTE_TEST_MARIADB").unwrap_or_else(start_mariadb))
}

/// A server of the MongoDB protocol, one per process: a replica set of one member, so that it has transactions.
///
/// # Panics
/// Where it is not installed or does not start.
pub fn mongodb() -> &'static Server {
    static SERVER: OnceLock<Server> = OnceLock::new();
    SERVER.get_or_init(|| given("PUENTE_TEST_MONGODB").unwrap_or_else(|| start_mongodb(&[])))
}

fn given(variable: &str) -> Option<Server> {
    let address = puente_service::environment::read(variable)?;
    Some(Server { address: address.trim_end_matches('/').to_owned(), running: None })
}

/// A PostgreSQL server of one's own, with settings such as `ssl=on`; it can be stopped and started again.
///
/// # Panics
/// Where it is not installed or does not start.
pub fn start_postgres(settings: &[&str]) -> Server {
    let binaries = postgres_binaries();
    let folder = folder();
    let data = folder.path().join("data");
    let mut init = Command::new(binaries.join("initdb"));
    init.args(["--username=puente", "--auth=trust", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync", "--pgdata"]);
    run(unprivileged(init.arg(&data)));
    let port = free_port();
    let mut command = vec![
        binaries.join("postgres").display().to_string(),
        "-D".to_owned(),
        data.display().to_string(),
        "-p".to_owned(),
        port.to_string(),
        "-k".to_owned(),
        folder.path().display().to_string(),
    ];
    let fixed = ["listen_addresses=127.0.0.1", "fsync=off", "full_page_writes=off", "max_connections=200"];
    for setting in fixed.iter().chain(settings) {
        command.extend(["-c".to_owned(), (*setting).to_owned()]);
    }
    let keeper = keep(&command, folder.path());
    let server = Server {
        address: format!("postgres://puente@127.0.0.1:{port}"),
        running: Some(Running { keeper, folder, port }),
    };
    server.wait();
    server
}

fn postgres_binaries() -> PathBuf {
    let versions = std::fs::read_dir("/usr/lib/postgresql").map(|folder| folder.flatten().collect::<Vec<_>>());
    let mut found: Vec<PathBuf> = versions.unwrap_or_default().iter().map(|entry| entry.path().join("bin")).collect();
    found.retain(|folder| folder.join("initdb").exists());
    found.sort();
    found.pop().expect("PostgreSQL is installed: `scripts/install-packages test`, or give PUENTE_TEST_POSTGRES")
}

/// Starts a MariaDB server of one's own.
///
/// # Panics
/// Where it is not installed, or does not start.
pub fn start_mariadb() -> Server {
    let daemon = ["/usr/sbin/mariadbd", "/usr/bin/mariadbd"].into_iter().find(|file| Path::new(file).exists());
    let daemon = daemon.expect("MariaDB is installed: `scripts/install-packages test`, or give PUENTE_TEST_MARIADB");
    let folder = folder();
    let data = folder.path().join("data");
    let mut init = Command::new("mariadb-install-db");
    init.args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db"]);
    run(unprivileged(init.arg(format!("--datadir={}", data.display()))));
    // A login over the network, from this machine only.
    let first = folder.path().join("first.sql");
    std::fs::write(
        &first,
        "create user if not exists puente@'127.0.0.1';\ngrant all on *.* to puente@'127.0.0.1' with grant option;\n\
         create user if not exists puente@localhost;\ngrant all on *.* to puente@localhost with grant option;\n",
    )
    .expect("a file");
    let port = free_port();
    let command = [
        daemon.to_owned(),
        "--no-defaults".to_owned(),
        format!("--datadir={}", data.display()),
        format!("--socket={}", folder.path().join("socket").display()),
        format!("--port={port}"),
        format!("--init-file={}", first.display()),
        "--bind-address=127.0.0.1".to_owned(),
        "--innodb-flush-log-at-trx-commit=2".to_owned(),
        "--character-set-server=utf8mb4".to_owned(),
        "--max-connections=200".to_owned(),
    ];
    let keeper = keep(&command, folder.path());
    let server = Server {
        address: format!("mariadb://puente@127.0.0.1:{port}"),
        running: Some(Running { keeper, folder, port }),
    };
    server.wait();
    server
}

/// Starts a server of the MongoDB protocol of one's own, with options such as `--standalone`.
///
/// # Panics
/// Where it is not installed, or does not start.
pub fn start_mongodb(options: &[&str]) -> Server {
    let environment = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/document-server/bin");
    let program = environment.join("secantusd-py");
    assert!(program.exists(), "install it by `scripts/install-document-server`, or give PUENTE_TEST_MONGODB");
    let folder = folder();
    let port = free_port();
    let mut command = vec![program.display().to_string(), "--port".to_owned(), port.to_string()];
    command.extend(["--storage-path", ":memory:", "--log-level", "WARNING"].map(str::to_owned));
    command.extend(options.iter().map(|option| (*option).to_owned()));
    let keeper = keep(&command, folder.path());
    let server =
        Server { address: format!("mongodb://127.0.0.1:{port}"), running: Some(Running { keeper, folder, port }) };
    server.wait();
    server
}

impl Server {
    /// Waits until it answers.
    fn wait(&self) {
        let Some(running) = &self.running else { return };
        let deadline = Instant::now() + PATIENCE;
        loop {
            let ready = TcpStream::connect(("127.0.0.1", running.port)).is_ok() && crate::database::answers(self);
            if ready {
                return;
            }
            if Instant::now() > deadline {
                let log = std::fs::read_to_string(running.folder.path().join("log")).unwrap_or_default();
                panic!("the server at {} does not answer; its log:\n{log}", self.address);
            }
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    /// Ends it at once, as a crash would. Its files stay, for [`Server::start_again`].
    ///
    /// # Panics
    /// Where it is none of ours.
    pub fn kill(&mut self) {
        let running = self.running.as_mut().expect("a private server");
        std::fs::write(running.folder.path().join(STAYS), "").expect("a file");
        drop(running.keeper.stdin.take());
        running.keeper.wait().expect("it ends");
    }

    /// Where its files are.
    ///
    /// # Panics
    /// Where it is none of ours.
    pub fn folder(&self) -> &Path {
        self.running.as_ref().expect("a private server").folder.path()
    }

    /// Starts it again after [`Server::kill`], on the same port.
    ///
    /// # Panics
    /// Where it does not start.
    pub fn start_again(&mut self) {
        let running = self.running.as_mut().expect("a private server");
        let text = std::fs::read_to_string(running.folder.path().join("command")).expect("the command");
        let command: Vec<String> = text.lines().map(str::to_owned).collect();
        std::fs::remove_file(running.folder.path().join(STAYS)).expect("it was killed");
        running.keeper = keep(&command, running.folder.path());
        self.wait();
    }
}

fn folder() -> TempDir {
    let folder = leftovers::folder_called(leftovers::SERVER);
    if is_root() {
        chown(folder.path(), Some(NOBODY), Some(NOBODY)).expect("root may give a folder away");
    }
    folder
}

fn is_root() -> bool {
    // The owner of the process's own entry is who it runs as.
    use std::os::unix::fs::MetadataExt as _;
    std::fs::metadata("/proc/self").is_ok_and(|entry| entry.uid() == 0)
}

fn unprivileged(command: &mut Command) -> &mut Command {
    if is_root() { command.uid(NOBODY).gid(NOBODY).current_dir("/") } else { command }
}

fn run(command: &mut Command) {
    let output = command.output().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    let told = || String::from_utf8_lossy(&output.stderr).into_owned() + &String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{command:?} failed:\n{}", told());
}

/// Starts a server under a keeper that ends it and removes its files when this process is gone, however it went: the
/// keeper reads from a pipe that only we hold open. Servers are statics, which nothing drops.
fn keep(command: &[String], folder: &Path) -> Child {
    let file = folder.join("command");
    std::fs::File::create(&file)
        .and_then(|mut file| file.write_all(command.join("\n").as_bytes()))
        .expect("the command is kept");
    // QUIT makes PostgreSQL drop everything at once, its own children included; MariaDB is a single process.
    let signal = if command[0].ends_with("postgres") { "QUIT" } else { "KILL" };
    let script = format!(
        "trap '' INT TERM HUP; exec 2>>\"$0/log\"; \"$@\" >>\"$0/log\" </dev/null & server=$!; cat >/dev/null; \
         kill -{signal} $server; wait $server; [ -e \"$0/{STAYS}\" ] || rm -rf \"$0\""
    );
    let mut keeper = Command::new("sh");
    keeper.arg("-c").arg(script).arg(folder).args(command).stdin(Stdio::piped()).stdout(Stdio::null());
    // The document server is no program of the system's: nobody else may be able to read it.
    let is_ours = command[0].contains("document-server");
    let keeper = if is_ours { &mut keeper } else { unprivileged(&mut keeper) };
    keeper.process_group(0).spawn().expect("a shell")
}

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr()).expect("a free port").port()
}
