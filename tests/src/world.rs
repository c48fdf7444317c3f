use std::fs;
use std::io::Write;
use std::net::SocketAddr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, OnceLock};

use hyper::body::Body;
use hyper::client::conn::http2::{self, SendRequest};
use hyper_util::rt::{TokioExecutor, TokioIo};
use rustix::process::Signal;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use serde_json::Value;
use tempfile::TempDir;
use tokio::net::TcpStream;
use tokio::task::JoinHandle;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use crate::ports::reserve_port;
use crate::postgres::SharedDatabase;
use crate::process::{Background, Run, binary, run, run_command, signal, wait_until};

/// A service with its own data folder, on free ports.
#[derive(Debug)]
pub struct World {
    folder: TempDir,
    service: Option<Background>,
    start: Start,
    /// Where its listeners listen, once that was asked.
    listeners: OnceLock<Value>,
    // After the service, which uses it.
    database: Option<SharedDatabase>,
}

/// How a world's service is started.
#[derive(Clone, Debug, Default)]
pub struct Start {
    /// More flags for `serve`.
    pub flags: Vec<String>,
    /// The command in front of `bentlane serve`, such as a program that changes the user.
    pub wrapper: Vec<String>,
    /// Whether the flags name every place to listen at.
    pub own_places: bool,
    /// Whether the folder belongs to this user and group.
    pub owner: Option<u32>,
    /// Whether the service uses a database on the server that tests share, instead of a private server.
    pub shared_database: bool,
}

impl Start {
    /// On ports that it keeps, with a private database server.
    #[must_use]
    pub fn on_kept_ports() -> Self {
        let places = ["dns", "http", "https", "console"];
        let flags = places.map(|what| format!("--{what}=127.0.0.1:{}", reserve_port()));
        Self {
            flags: flags.to_vec(),
            own_places: true,
            ..Self::default()
        }
    }
}

impl World {
    /// A world whose service is ready.
    #[must_use]
    pub fn new() -> Self {
        Self::with(Start {
            shared_database: true,
            ..Start::default()
        })
    }

    /// A world on ports that it keeps, as a restart needs.
    #[must_use]
    pub fn on_kept_ports() -> Self {
        Self::with(Start {
            shared_database: true,
            ..Start::on_kept_ports()
        })
    }

    /// A world whose service is ready, with a private database server.
    #[must_use]
    pub fn with_private_server() -> Self {
        Self::with(Start::default())
    }

    /// A world whose service is started in its own way, and is ready.
    #[must_use]
    pub fn with(start: Start) -> Self {
        let mut world = Self::asleep(start);
        world.wake();
        world
    }

    /// A world whose service is not started yet.
    #[must_use]
    pub fn asleep(start: Start) -> Self {
        let folder = tempfile::Builder::new()
            .prefix("bentlane-e2e-")
            .tempdir_in("/tmp")
            .unwrap();
        // The database's own account passes through when the tests run as root.
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o711)).unwrap();
        if let Some(owner) = start.owner {
            std::os::unix::fs::chown(folder.path(), Some(owner), Some(owner)).unwrap();
        }
        Self {
            folder,
            service: None,
            listeners: OnceLock::new(),
            database: start.shared_database.then(SharedDatabase::new),
            start,
        }
    }

    /// Has the service started in another way from now on.
    pub fn start_as(&mut self, start: Start) {
        self.start = start;
    }

    /// A world with the zone `moor.test` and these routes.
    #[must_use]
    pub fn with_routes(routes: &[(&str, &str)]) -> Self {
        Self::new().add_routes(routes)
    }

    /// This world with the zone `moor.test` and these routes.
    #[must_use]
    pub fn add_routes(self, routes: &[(&str, &str)]) -> Self {
        self.ok(&["zone", "add", "moor.test"]);
        for (address, target) in routes {
            self.ok(&["route", "add", address, target]);
        }
        self
    }

    /// What the service's database answers to a statement.
    #[must_use]
    pub fn query(&self, statement: &str) -> String {
        let url = self.database.as_ref().map(SharedDatabase::url);
        let url = url.unwrap_or_else(|| {
            let folder = self.database_folder().display().to_string();
            format!("postgres://service@{}/bentlane", folder.replace('/', "%2F"))
        });
        run("psql", &["-X", "-At", "-c", statement, &url]).ok()
    }

    /// The folder of everything in this world.
    #[must_use]
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// The service's data folder.
    #[must_use]
    pub fn data_dir(&self) -> PathBuf {
        self.path("data")
    }

    /// The command that starts the service.
    #[must_use]
    pub fn serve_command(&self) -> Command {
        let binary = binary();
        let mut command = match self.start.wrapper.split_first() {
            Some((program, args)) => {
                let mut command = Command::new(program);
                command.args(args).arg(binary);
                command
            }
            None => Command::new(binary),
        };
        command.arg("serve").arg("--data-dir").arg(self.data_dir());
        command
            .env("XDG_CONFIG_HOME", self.path("config"))
            .env_remove("BENTLANE_DATA_DIR");
        if !self.start.own_places {
            for flag in ["--dns", "--http", "--https", "--console"] {
                command.args([flag, "127.0.0.1:0"]);
            }
        }
        if !self.start.flags.iter().any(|flag| flag == "--upstream") {
            command.args(["--upstream", "none"]);
        }
        if let Some(database) = &self.database {
            command.args(["--database-url", &database.url()]);
        }
        command.args(&self.start.flags);
        command
    }

    /// Starts the service and waits until it is ready.
    pub fn wake(&mut self) {
        let mut service = Background::start(&mut self.serve_command(), self.path("service.log"));
        let known = service.output().matches("is ready").count();
        wait_until("the service to be ready", || {
            assert_eq!(service.ended(), None, "{}", service.output());
            (service.output().matches("is ready").count() > known).then_some(())
        });
        self.service = Some(service);
        self.listeners = OnceLock::new();
    }

    /// The running service.
    #[must_use]
    pub fn service(&self) -> &Background {
        self.service.as_ref().unwrap()
    }

    /// The running service, to see it end.
    pub fn service_mut(&mut self) -> &mut Background {
        self.service.as_mut().unwrap()
    }

    /// Ends the service with a signal; gives its exit code.
    pub fn end(&mut self, which: Signal) -> i32 {
        self.service.take().unwrap().end(which)
    }

    /// The folder of the private database: beside the data folder where root runs the service.
    #[must_use]
    pub fn database_folder(&self) -> PathBuf {
        let beside = self.path("data.postgres");
        if beside.exists() {
            return beside;
        }
        self.data_dir().join("postgres")
    }

    /// The process of the private database server, while it runs.
    #[must_use]
    pub fn database_pid(&self) -> Option<u32> {
        let file = fs::read_to_string(self.database_folder().join("postmaster.pid")).ok()?;
        let pid: u32 = file.lines().next()?.trim().parse().ok()?;
        // A process that has ended works nowhere, and one that has its number now works elsewhere.
        let works_in = fs::read_link(format!("/proc/{pid}/cwd")).ok()?;
        (works_in == self.database_folder()).then_some(pid)
    }

    /// Runs a client command in this world.
    #[must_use]
    pub fn run(&self, args: &[&str]) -> Run {
        run_command(&mut self.command(args))
    }

    /// The command that [`World::run`] runs.
    #[must_use]
    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(binary());
        command
            .args(args)
            .env("BENTLANE_DATA_DIR", self.data_dir())
            .env("XDG_CONFIG_HOME", self.path("config"))
            .env_remove("DISPLAY");
        command
    }

    /// Runs a client command that has to succeed; gives its output.
    #[track_caller]
    pub fn ok(&self, args: &[&str]) -> String {
        self.run(args).ok()
    }

    /// Runs a client command and reads its output as JSON.
    #[must_use]
    pub fn json(&self, args: &[&str]) -> Value {
        self.run(&[args, &["--format", "json"]].concat()).json()
    }

    /// Where a listener listens: `dns`, `http`, `https` or `console`.
    #[must_use]
    pub fn address(&self, listener: &str) -> SocketAddr {
        let listeners = self
            .listeners
            .get_or_init(|| self.get("/status")["listeners"].clone());
        listeners[listener][0].as_str().unwrap().parse().unwrap()
    }

    /// The root certificate as a file.
    #[must_use]
    pub fn root(&self) -> PathBuf {
        self.data_dir().join("root.pem")
    }

    /// The Unix socket of the API.
    #[must_use]
    pub fn socket(&self) -> PathBuf {
        self.data_dir().join("api.sock")
    }

    /// Calls the API over its socket with curl, at this path below `/api/v1`.
    #[must_use]
    pub fn call(&self, path: &str, args: &[&str]) -> Run {
        let socket = self.socket().display().to_string();
        let url = format!("http://localhost/api/v1{path}");
        let usual = ["-sS", "--unix-socket", &socket, &url];
        run("curl", &[&usual, args].concat())
    }

    /// The link that signs a browser in to the console.
    #[must_use]
    pub fn sign_in_link(&self) -> String {
        let request = r#"{"asks":false,"trusted":false}"#;
        let link = self.post("/sign-in-links", request);
        link["url"].as_str().unwrap().to_owned()
    }

    /// Asks for an `https://` URL of this world with curl: the root is trusted, and every name
    /// leads to our listener. Gives curl's output with `-s`.
    #[must_use]
    pub fn curl(&self, args: &[&str]) -> Run {
        run_command(&mut self.curl_command(args))
    }

    /// The command that [`World::curl`] runs.
    #[must_use]
    pub fn curl_command(&self, args: &[&str]) -> Command {
        let https = self.address("https");
        let mut command = Command::new("curl");
        command
            .args(["-sS", "--max-time", "20", "--cacert"])
            .arg(self.root())
            .arg("--connect-to")
            .arg(format!("::127.0.0.1:{}", https.port()))
            .args(args);
        command
    }

    /// A TLS connection to our listener, with this server name and protocol, that trusts the root
    /// alone.
    pub async fn tls(&self, name: &'static str, protocol: &str) -> TlsStream<TcpStream> {
        self.tls_at(self.address("https"), name, protocol).await
    }

    /// The same to a listener at another place.
    pub async fn tls_at(
        &self,
        at: SocketAddr,
        name: &'static str,
        protocol: &str,
    ) -> TlsStream<TcpStream> {
        let mut roots = RootCertStore::empty();
        roots
            .add(CertificateDer::from_pem_file(self.root()).unwrap())
            .unwrap();
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let mut config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_root_certificates(roots)
            .with_no_client_auth();
        config.alpn_protocols = vec![protocol.into()];
        let stream = TcpStream::connect(at).await.unwrap();
        TlsConnector::from(Arc::new(config))
            .connect(ServerName::try_from(name).unwrap(), stream)
            .await
            .unwrap()
    }
}

impl World {
    /// A connection of HTTP/2 to our listener for `name`: what sends requests over it, and the task
    /// that ends with it.
    pub async fn http2<B>(&self, name: &'static str) -> (SendRequest<B>, JoinHandle<()>)
    where
        B: Body + Unpin + Send + 'static,
        B::Data: Send,
        B::Error: std::error::Error + Send + Sync + 'static,
    {
        let io = TokioIo::new(self.tls(name, "h2").await);
        let handshake = http2::handshake(TokioExecutor::new(), io).await;
        let (sender, connection) = handshake.unwrap();
        // How it ends is seen at what is sent over it.
        let driving = tokio::spawn(async move { drop(connection.await) });
        (sender, driving)
    }

    /// What the API answers at this path below `/api/v1`.
    #[must_use]
    pub fn get(&self, path: &str) -> Value {
        self.call(path, &[]).json()
    }

    /// What the API answers to this body at this path below `/api/v1`.
    #[must_use]
    pub fn post(&self, path: &str, body: &str) -> Value {
        self.send("POST", path, body)
    }

    /// What the API answers to this change at this path below `/api/v1`.
    #[allow(clippy::must_use_candidate, reason = "the change is an effect, too")]
    pub fn patch(&self, path: &str, body: &str) -> Value {
        self.send("PATCH", path, body)
    }

    fn send(&self, method: &str, path: &str, body: &str) -> Value {
        let json = ["-H", "content-type: application/json", "-d", body];
        self.call(path, &[&["-X", method][..], &json].concat())
            .json()
    }

    /// A request for the first page of `name` by a client that trusts `root` alone.
    #[must_use]
    pub fn fetch(&self, root: &Path, name: &str) -> Run {
        let port = self.address("https").port();
        let resolve = format!("{name}:{port}:127.0.0.1");
        let url = format!("https://{name}:{port}/");
        let root = root.to_str().unwrap();
        let quiet = ["-sS", "-o", "/dev/null"];
        let how = ["--cacert", root, "--resolve", &resolve, &url];
        run("curl", &[&quiet[..], &how].concat())
    }

    /// What `dig` says when it asks this world's resolver once.
    #[allow(clippy::must_use_candidate, reason = "asking is an effect, too")]
    pub fn dig(&self, args: &[&str]) -> String {
        let at = self.address("dns");
        let (server, port) = (format!("@{}", at.ip()), at.port().to_string());
        let common = [&*server, "-p", &port, "+tries=1", "+time=8"];
        run("dig", &[&common, args].concat()).ok()
    }
}

impl Default for World {
    fn default() -> Self {
        Self::new()
    }
}

impl Drop for World {
    fn drop(&mut self) {
        if let Some(mut service) = self.service.take() {
            if std::thread::panicking() {
                let _ = writeln!(std::io::stderr(), "the service said:\n{}", service.output());
            }
            if service.ended().is_none() {
                service.end(Signal::TERM);
            }
        }
        if let Some(pid) = self.database_pid() {
            signal(pid, Signal::QUIT);
            while self.database_pid() == Some(pid) {
                std::thread::yield_now();
            }
        }
    }
}
