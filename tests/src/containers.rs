use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::process::{Background, Run, run_command, wait_until};
use crate::world::World;

/// A container engine of a test's own, with an image `hut`: a web server and a folder `/tls`.
#[derive(Debug)]
pub struct Containers {
    folder: PathBuf,
    service: Option<Background>,
    /// One engine at a time: they allocate addresses of the same network.
    _alone: MutexGuard<'static, ()>,
}

static ALONE: Mutex<()> = Mutex::new(());

impl Containers {
    /// Starts the engine, with all its files in the world's folder.
    #[must_use]
    pub fn start(world: &World) -> Self {
        let alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
        let folder = world.path("containers");
        fs::create_dir_all(folder.join("image/bin")).unwrap();
        fs::create_dir_all(folder.join("image/www")).unwrap();
        fs::create_dir_all(folder.join("image/tls")).unwrap();
        fs::copy("/bin/busybox", folder.join("image/bin/busybox")).unwrap();
        std::os::unix::fs::symlink("busybox", folder.join("image/bin/sh")).unwrap();
        fs::write(folder.join("image/www/index.html"), "<title>Tiles</title>").unwrap();
        let settings = "[containers]\ndefault_ulimits = [\"nofile=1024:1024\",\"nproc=4096:4096\"]\n[engine]\nruntime = \"runc\"\nlock_type = \"file\"\n";
        fs::write(folder.join("containers.conf"), settings).unwrap();
        let mut engine = Self {
            folder,
            service: None,
            _alone: alone,
        };
        let image = engine.folder.join("image.tar").display().to_string();
        let source = engine.folder.join("image").display().to_string();
        let packed = run_command(Command::new("tar").args(["-C", &source, "-cf", &image, "."]));
        assert_eq!(packed.code, 0, "{packed:?}");
        engine.ok(&["import", "--quiet", &image, "hut"]);
        engine.serve();
        engine
    }

    /// Has the engine answer at its socket.
    pub fn serve(&mut self) {
        let socket = self.socket();
        let mut command = self.command();
        let url = format!("unix://{}", socket.display());
        command.args(["system", "service", "--time", "0", &url]);
        self.service = Some(Background::start(
            &mut command,
            self.folder.join("engine.log"),
        ));
        wait_until("the engine to answer", || {
            std::os::unix::net::UnixStream::connect(&socket).ok()
        });
    }

    /// No longer has it answer.
    pub fn silence(&mut self) {
        self.service = None;
        let _ = fs::remove_file(self.socket());
    }

    /// Its socket.
    #[must_use]
    pub fn socket(&self) -> PathBuf {
        self.folder.join("engine.sock")
    }

    fn command(&self) -> Command {
        let mut command = Command::new("podman");
        let own = |name: &str| self.folder.join(name).display().to_string();
        command
            .env("CONTAINERS_CONF", own("containers.conf"))
            .args(["--root", &own("root"), "--runroot", &own("run")])
            .args(["--storage-driver", "vfs"]);
        command
    }

    /// Runs podman-compose on the compose file in `folder`.
    #[track_caller]
    pub fn compose(&self, folder: &Path, args: &[&str]) -> Run {
        let client = self.folder.join("podman");
        let url = format!("unix://{}", self.socket().display());
        let script = format!("#!/bin/sh\nexec /usr/bin/podman --remote --url {url} \"$@\"\n");
        fs::write(&client, script).unwrap();
        fs::set_permissions(&client, fs::Permissions::from_mode(0o755)).unwrap();
        let mut command = Command::new("podman-compose");
        command.current_dir(folder);
        run_command(command.arg("--podman-path").arg(client).args(args))
    }

    /// Runs the engine's own client.
    pub fn run(&self, args: &[&str]) -> Run {
        run_command(self.command().args(args))
    }

    /// The same, when it has to succeed; gives its output.
    #[track_caller]
    pub fn ok(&self, args: &[&str]) -> String {
        self.run(args).ok()
    }

    /// Runs the image under this name.
    #[track_caller]
    pub fn start_hut(&self, name: &str, settings: &[&str]) {
        let server = [
            "hut",
            "/bin/busybox",
            "httpd",
            "-f",
            "-p",
            "80",
            "-h",
            "/www",
        ];
        let args = [&["run", "--detach", "--name", name], settings, &server].concat();
        self.ok(&args);
    }
}

impl Drop for Containers {
    fn drop(&mut self) {
        // Whatever failed, nothing stays behind.
        let _ = self.run(&["rm", "--all", "--force", "--time", "0"]);
        self.service = None;
        let _ = self.run(&["system", "reset", "--force"]);
    }
}
