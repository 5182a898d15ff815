//! The Debian package and the container image as an operator has them: on a fresh Debian 12, and without an engine for containers.
//! Needs root, Debian's mirror, and what `make package` built; `make test-package` calls it.

#[expect(dead_code, reason = "other tests call the binary itself")]
mod process;
#[path = "process/service.rs"]
mod service;

use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use process::told;
use service::{OWNER_KEY, Service};

const SECRET: &str = "thirty-two bytes that nobody guesses";
const PROJECT: &str = "var/lib/puente";

fn workspace() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

/// Runs a program to its end: what it said. It must end well.
fn done(command: &mut Command) -> String {
    let (code, said, complained) = told(&command.output().unwrap_or_else(|error| panic!("{command:?}: {error}")));
    assert_eq!(code, 0, "{command:?}\n{said}\n{complained}");
    said
}

/// Builds a package of some version, and its image.
fn built(version: &str) -> (PathBuf, PathBuf) {
    done(Command::new(workspace().join("package/build")).arg(version));
    let architecture = done(Command::new("dpkg").arg("--print-architecture"));
    let file = |end| workspace().join(format!("target/package/puente_{version}_{}.{end}", architecture.trim()));
    (file("deb"), file("oci.tar"))
}

/// A file system with a system in it, which goes with the test.
struct Root(PathBuf);

impl Drop for Root {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

impl Root {
    fn empty(name: &str) -> Root {
        let root = Root(workspace().join(format!("target/package/{name}-{}", std::process::id())));
        std::fs::create_dir_all(&root.0).unwrap();
        root
    }

    /// A fresh Debian 12, with the machine's way to the mirror.
    fn debian() -> Root {
        let root = Root::empty("debian");
        done(Command::new("debootstrap").args(["--variant=minbase", "bookworm"]).arg(&root.0));
        let configuration = std::fs::read_dir("/etc/apt/apt.conf.d").unwrap().flatten().map(|entry| entry.path());
        for file in configuration.chain(["/etc/resolv.conf".into(), "/etc/hosts".into()]) {
            let there = root.path(file.to_str().unwrap().trim_start_matches('/'));
            std::fs::copy(&file, there).unwrap();
        }
        root.run("apt-get update -qq");
        root
    }

    fn path(&self, inside: &str) -> PathBuf {
        self.0.join(inside)
    }

    fn command(&self, user: &str, script: &str) -> Command {
        let mut command = Command::new("chroot");
        command.arg(format!("--userspec={user}")).arg(&self.0).args(["/bin/sh", "-ec", script]).stdin(Stdio::null());
        command.env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("DEBIAN_FRONTEND", "noninteractive");
        command
    }

    fn run(&self, script: &str) -> String {
        done(&mut self.command("root", script))
    }

    fn run_as_service(&self, script: &str) -> String {
        done(&mut self.command("puente", script))
    }

    fn install(&self, package: &Path) {
        std::fs::copy(package, self.path("tmp/puente.deb")).unwrap();
        self.run("apt-get install -y -qq --no-install-recommends -o Dpkg::Options::=--force-confdef /tmp/puente.deb");
    }

    /// What the unit starts, as its user and with its environment.
    fn serve(&self) -> Service {
        let unit = std::fs::read_to_string(self.path("lib/systemd/system/puente.service")).unwrap();
        let said = |name: &str| {
            let lines = unit.lines().filter_map(|line| line.strip_prefix(name));
            lines.map(str::to_owned).next().unwrap_or_else(|| panic!("{name}: {unit}"))
        };
        let environment = said("EnvironmentFile=-");
        let script = format!("set -a; . {environment}; cd {}; exec {}", said("WorkingDirectory="), said("ExecStart="));
        Service::start(self.command(&said("User="), &script))
    }
}

fn asked(service: &Service, query: &str) -> String {
    let body = serde_json::json!({ "query": query }).to_string();
    let key = format!("Authorization: Bearer {OWNER_KEY}");
    let url = format!("http://127.0.0.1:{}/graphql", service.port());
    done(Command::new("curl").args([
        "-sS",
        "--fail",
        "-H",
        &key,
        "-H",
        "Content-Type: application/json",
        "-d",
        &body,
        &url,
    ]))
}

const COUNT: &str = "{ huts { totalCount } }";
const COUNTED: &str = "{\"data\":{\"huts\":{\"totalCount\":60}}}";

/// The demo's project and databases in the service's folder, with a secret from the environment.
fn put_demo_into(root: &Root) {
    let huts = puente_testkit::project::TestProject::demo();
    for entry in std::fs::read_dir(huts.path()).unwrap().flatten().filter(|entry| entry.file_name() != ".puente") {
        done(Command::new("cp").arg("-r").arg(entry.path()).arg(root.path(PROJECT)));
    }
    let file = root.path(PROJECT).join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{text}\n[service]\nsecret = \"${{PUENTE_SECRET}}\"\n")).unwrap();
}

#[test]
#[ignore = "needs root and Debian's mirror; `make test-package` runs it"]
fn a_package_is_installed_serves_is_upgraded_and_removed() {
    let version = env!("CARGO_PKG_VERSION");
    let (older, _) = built("0.0.9");
    let (package, _) = built(version);
    let root = Root::debian();

    root.install(&older);
    assert!(root.run("puente --version").starts_with("puente "));
    assert!(root.run("dpkg -s puente").contains("Version: 0.0.9"));
    assert_eq!(root.run("stat -c '%U %a' /var/lib/puente /etc/default/puente").trim(), "puente 750\nroot 640");
    assert_eq!(
        root.run("readlink /etc/systemd/system/multi-user.target.wants/puente.service").trim(),
        "/lib/systemd/system/puente.service"
    );
    for file in [
        "usr/share/man/man1/puente.1.gz",
        "usr/share/man/man1/puente-ask.1.gz",
        "usr/share/bash-completion/completions/puente",
        "usr/share/zsh/vendor-completions/_puente",
        "usr/share/fish/vendor_completions.d/puente.fish",
        "usr/share/doc/puente/copyright",
        "usr/share/doc/puente/licences.txt",
        "usr/share/doc/puente/console-licences.md",
        "usr/share/doc/puente/serving.md",
    ] {
        let size = std::fs::metadata(root.path(file)).unwrap_or_else(|error| panic!("{file}: {error}")).len();
        assert!(size > 100, "{file}");
    }
    let licences = std::fs::read_to_string(root.path("usr/share/doc/puente/licences.txt")).unwrap();
    assert!(licences.contains("tokio-postgres") && licences.contains("Permission is hereby granted"));
    assert!(!std::fs::read(root.path("usr/bin/puente")).unwrap().windows(12).any(|part| part == b".debug_info\0"));
    root.run("apt-get install -y -qq --no-install-recommends systemd");
    root.run("systemd-analyze verify --man=no /lib/systemd/system/puente.service");

    put_demo_into(&root);
    root.run("chown -R puente: /var/lib/puente");
    let environment = format!("PUENTE_LISTEN=127.0.0.1:0\nPUENTE_SECRET='{SECRET}'\nPUENTE_OWNER_KEY={OWNER_KEY}\n");
    std::fs::write(root.path("etc/default/puente"), environment).unwrap();
    let mut service = root.serve();
    let process = service.child.id().to_string();
    let user = std::fs::metadata(format!("/proc/{process}")).unwrap().uid();
    assert_eq!(user.to_string(), root.run("id -u puente").trim());
    assert_eq!(asked(&service, COUNT), COUNTED);
    let made =
        root.run_as_service("cd /var/lib/puente; set -a; . /etc/default/puente; puente key create app --as visitor");
    assert!(made.contains("puente_"), "{made}");
    done(Command::new("kill").arg(&process));
    assert_eq!(service.child.wait().unwrap().code(), Some(0));

    // Another version finds what was there: the project, its records, and what was configured.
    root.install(&package);
    assert!(root.run("dpkg -s puente").contains(&format!("Version: {version}")));
    assert!(std::fs::read_to_string(root.path("etc/default/puente")).unwrap().contains(OWNER_KEY));
    assert_eq!(asked(&root.serve(), COUNT), COUNTED);
    assert!(root.run_as_service("cd /var/lib/puente; puente key list").contains("app"));

    // A configuration file that was taken away is no reason not to be installed.
    root.run("mv /etc/default/puente /root/; dpkg -i /tmp/puente.deb; test ! -e /etc/default/puente; mv /root/puente /etc/default/");

    root.run("apt-get remove -y -qq puente");
    assert!(!root.path("usr/bin/puente").exists() && !root.path("lib/systemd/system/puente.service").exists());
    assert!(root.path("var/lib/puente/.puente/records.db").exists() && root.path("etc/default/puente").exists());
    root.run("apt-get purge -y -qq puente");
    assert!(!root.path("var/lib/puente/.puente").exists() && !root.path("etc/default/puente").exists());
    assert!(root.path("var/lib/puente/puente.toml").exists(), "the project is its owner's");
    assert!(!root.path("etc/systemd/system/multi-user.target.wants/puente.service").exists());
}

#[test]
#[ignore = "needs root and Debian's mirror; `make test-package` runs it"]
fn an_image_serves_as_its_own_user() {
    let (_, image) = built(env!("CARGO_PKG_VERSION"));
    let layout = Root::empty("layout");
    let bundle = Root::empty("bundle");
    done(Command::new("tar").arg("-xf").arg(&image).arg("-C").arg(&layout.0));
    let name = format!("{}:puente", layout.0.display());
    done(Command::new("umoci").args(["unpack", "--image", &name]).arg(&bundle.0));
    let configuration = std::fs::read_to_string(bundle.path("config.json")).unwrap();
    let configuration: serde_json::Value = serde_json::from_str(&configuration).unwrap();
    let process = &configuration["process"];
    assert_eq!(process["args"], serde_json::json!(["/usr/bin/puente", "serve"]));
    assert_eq!((&process["user"]["uid"], &process["cwd"]), (&10001.into(), &"/var/lib/puente".into()));
    let root = Root(bundle.path("rootfs"));
    put_demo_into(&root);
    done(Command::new("chown").args(["-R", "10001:10001"]).arg(root.path(PROJECT)));
    let mut command = Command::new("chroot");
    command.arg("--userspec=10001:10001").arg(&root.0).args(["/usr/bin/puente", "serve"]).env_clear();
    for variable in process["env"].as_array().unwrap() {
        let (name, value) = variable.as_str().unwrap().split_once('=').unwrap();
        command.env(name, value);
    }
    // Whoever starts it says what it listens on, and its secrets.
    command.env("PUENTE_LISTEN", "127.0.0.1:0").env("PUENTE_SECRET", SECRET);
    assert_eq!(asked(&Service::start(command), COUNT), COUNTED);
    assert!(!root.path("bin/sh").exists(), "there is nothing else in it");
    drop(layout);
}
