//! What a project's folder says of the app in it.

use std::path::Path;

use bentlane_api_types::Routes;
use bentlane_model::{AppName, free_name};
use bentlane_system::read_file;
use serde_json::Value;

use crate::client::Client;
use crate::error::CliError;

/// Bytes of a file that is read for this.
const LARGEST: u64 = 512 * 1024;

/// An app that a folder seems to have, and why.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(in crate::cmd) struct Proposal {
    pub(in crate::cmd) name: Option<AppName>,
    pub(in crate::cmd) command: Option<String>,
    pub(in crate::cmd) port: Option<u16>,
    pub(in crate::cmd) subdomains: bool,
    /// What was found, a line each.
    pub(in crate::cmd) why: Vec<String>,
}

/// The files of a folder that a proposal is made from.
#[derive(Debug, Default)]
pub(in crate::cmd) struct Project {
    folder_name: String,
    files: Vec<(&'static str, String)>,
}

const FILES: [&str; 18] = [
    "package.json",
    "package-lock.json",
    "pnpm-lock.yaml",
    "yarn.lock",
    "bun.lock",
    "bun.lockb",
    "Cargo.toml",
    "pyproject.toml",
    "requirements.txt",
    "manage.py",
    "Gemfile",
    "bin/rails",
    "composer.json",
    "artisan",
    "public/index.php",
    "go.mod",
    "Procfile",
    ".env",
];
const COMPOSE: [&str; 4] = [
    "compose.yaml",
    "compose.yml",
    "docker-compose.yml",
    "docker-compose.yaml",
];

impl Project {
    pub(in crate::cmd) fn read(folder: &Path) -> Self {
        let name = folder.file_name().and_then(|name| name.to_str());
        let read = |name: &'static str| {
            let octets = read_file(&folder.join(name), LARGEST).ok()?;
            // Lock files are of interest because they are there.
            Some((name, String::from_utf8_lossy(&octets).into_owned()))
        };
        let there = |name: &'static str| folder.join(name).is_file().then(|| (name, String::new()));
        let is_lock = |name: &str| name.contains("lock");
        let files = FILES.iter().chain(&COMPOSE);
        let files = files.filter_map(|name| match is_lock(name) {
            true => there(name),
            false => read(name),
        });
        Self {
            folder_name: name.unwrap_or_default().to_owned(),
            files: files.collect(),
        }
    }

    fn file(&self, name: &str) -> Option<&str> {
        let found = self.files.iter().find(|(known, _)| *known == name);
        found.map(|(_, text)| text.as_str())
    }

    fn has(&self, name: &str) -> bool {
        self.file(name).is_some()
    }

    /// The app that the folder seems to have.
    pub(in crate::cmd) fn proposal(&self) -> Proposal {
        let mut proposal = Proposal {
            name: AppName::like(&self.folder_name),
            ..Proposal::default()
        };
        let kinds = [
            Self::procfile,
            Self::node,
            Self::python,
            Self::ruby,
            Self::php,
            Self::go,
            Self::rust,
        ];
        for kind in kinds {
            if proposal.command.is_none() {
                kind(self, &mut proposal);
            }
        }
        if let Some(compose) = COMPOSE.iter().find(|name| self.has(name)) {
            let why = format!("{compose} has containers: a route leads to one with container:NAME");
            proposal.why.push(why);
        }
        self.port(&mut proposal);
        self.tenants(&mut proposal);
        proposal
    }

    fn procfile(&self, proposal: &mut Proposal) {
        let Some(text) = self.file("Procfile") else {
            return;
        };
        let web = text
            .lines()
            .find_map(|line| line.trim().strip_prefix("web:"));
        if let Some(command) = web.map(str::trim).filter(|command| !command.is_empty()) {
            proposal.command = Some(command.to_owned());
            proposal.why.push("Procfile has it as `web`".to_owned());
        }
    }

    fn node(&self, proposal: &mut Proposal) {
        let Some(package) = self.file("package.json") else {
            return;
        };
        let Ok(package) = serde_json::from_str::<Value>(package) else {
            proposal
                .why
                .push("package.json is there, and is no JSON".to_owned());
            return;
        };
        let name = package["name"].as_str();
        let name = name.map(|name| name.rsplit('/').next().unwrap_or(name));
        if let Some(name) = name.and_then(AppName::like) {
            proposal.name = Some(name);
            proposal.why.push("package.json has the name".to_owned());
        }
        let script = |name: &str| package["scripts"][name].as_str();
        let Some(name) = ["dev", "start", "serve"]
            .into_iter()
            .find(|name| script(name).is_some())
        else {
            return;
        };
        let runs = script(name).unwrap_or_default();
        let locks = [
            ("pnpm-lock.yaml", "pnpm"),
            ("yarn.lock", "yarn"),
            ("bun.lock", "bun"),
            ("bun.lockb", "bun"),
            ("package-lock.json", "npm"),
        ];
        let lock = locks.into_iter().find(|(file, _)| self.has(file));
        let manager = lock.map_or("npm", |(_, manager)| manager);
        let mut command = format!("{manager} run {name}");
        proposal.why.push(match lock {
            Some((file, _)) => {
                format!("package.json has the script `{name}` (`{runs}`), and there is {file}")
            }
            None => format!("package.json has the script `{name}` (`{runs}`)"),
        });
        if let Some((tool, flags)) = port_flags(runs) {
            let dashes = if manager == "npm" { " --" } else { "" };
            command = format!("{command}{dashes} {flags}");
            proposal
                .why
                .push(format!("{tool} does not read PORT, and takes {flags}"));
        }
        proposal.command = Some(command);
    }

    fn python(&self, proposal: &mut Proposal) {
        let needs = |package: &str| {
            let files = ["pyproject.toml", "requirements.txt"];
            let mut texts = files.into_iter().filter_map(|name| self.file(name));
            texts.any(|text| text.to_ascii_lowercase().contains(package))
        };
        if self.has("manage.py") {
            proposal.command = Some("python3 manage.py runserver 127.0.0.1:$PORT".to_owned());
            proposal.why.push("manage.py is Django's".to_owned());
        } else if needs("fastapi") {
            proposal.command = Some("uvicorn main:app --reload --port $PORT".to_owned());
            proposal
                .why
                .push("it needs FastAPI; main:app may be called otherwise".to_owned());
        } else if needs("flask") {
            proposal.command = Some("flask run --debug --port $PORT".to_owned());
            proposal.why.push("it needs Flask".to_owned());
        }
    }

    fn ruby(&self, proposal: &mut Proposal) {
        if self.has("bin/rails") {
            proposal.command = Some("bin/rails server -p $PORT".to_owned());
            proposal.why.push("bin/rails is there".to_owned());
        } else if self.has("Gemfile") {
            proposal.command = Some("bundle exec rackup -p $PORT".to_owned());
            proposal.why.push("there is a Gemfile".to_owned());
        }
    }

    fn php(&self, proposal: &mut Proposal) {
        if self.has("artisan") {
            proposal.command = Some("php artisan serve --port $PORT".to_owned());
            proposal.why.push("artisan is Laravel's".to_owned());
        } else if self.has("public/index.php") {
            proposal.command = Some("php -S 127.0.0.1:$PORT -t public".to_owned());
            proposal.why.push("there is public/index.php".to_owned());
        }
    }

    fn go(&self, proposal: &mut Proposal) {
        if self.has("go.mod") {
            proposal.command = Some("go run .".to_owned());
            proposal
                .why
                .push("there is go.mod; the program has to listen on $PORT".to_owned());
        }
    }

    fn rust(&self, proposal: &mut Proposal) {
        if self.has("Cargo.toml") {
            proposal.command = Some("cargo run".to_owned());
            proposal
                .why
                .push("there is Cargo.toml; the program has to listen on $PORT".to_owned());
        }
    }

    /// A port that the project has chosen itself.
    fn port(&self, proposal: &mut Proposal) {
        let lines = self.file(".env").unwrap_or_default().lines();
        let port = lines.filter_map(|line| line.trim().strip_prefix("PORT="));
        let port = port
            .filter_map(|value| value.trim_matches(['"', '\'']).parse().ok())
            .next();
        if let Some(port) = port {
            proposal.port = Some(port);
            proposal.why.push(format!(".env has PORT={port}"));
        }
    }

    /// Whether each tenant has a name of its own.
    fn tenants(&self, proposal: &mut Proposal) {
        const MARKS: [&str; 5] = [
            "django-tenants",
            "acts_as_tenant",
            "stancl/tenancy",
            "ros-apartment",
            "vhost",
        ];
        let files = [
            "package.json",
            "pyproject.toml",
            "requirements.txt",
            "Gemfile",
            "composer.json",
        ];
        for (file, text) in files
            .iter()
            .filter_map(|name| Some((name, self.file(name)?)))
        {
            if let Some(mark) = MARKS.iter().find(|mark| text.contains(**mark)) {
                proposal.subdomains = true;
                proposal.why.push(format!(
                    "{file} has {mark}, which has a name for each tenant"
                ));
                return;
            }
        }
    }
}

/// The flags by which a tool that does not read PORT takes its port.
fn port_flags(script: &str) -> Option<(&'static str, &'static str)> {
    const TOOLS: [(&str, &str); 6] = [
        ("vite", "--port $PORT --strictPort"),
        ("astro", "--port $PORT"),
        ("webpack", "--port $PORT"),
        ("parcel", "--port $PORT"),
        ("ng", "--port $PORT"),
        ("vue-cli-service", "--port $PORT"),
    ];
    let words = || script.split([' ', '&', ';']);
    if script.contains("$PORT") || words().any(|word| word == "build" || word == "vitest") {
        return None;
    }
    let tool = TOOLS
        .into_iter()
        .find(|(tool, _)| words().any(|word| word == *tool));
    tool.filter(|_| !words().any(|word| word == "--port"))
}

/// An address for `label` in `zone` that no route has yet.
pub(super) async fn free_address(
    client: &Client,
    label: &str,
    zone: &str,
) -> Result<String, CliError> {
    let routes: Routes = client.get("/routes").await?;
    let taken = |name: &str| routes.routes.iter().any(|route| route.name == name);
    Ok(free_name(label, zone, taken))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(&[("package.json", r#"{"name":"@moor/booking","scripts":{"dev":"vite"}}"#), ("pnpm-lock.yaml", "")],
           "booking", "pnpm run dev --port $PORT --strictPort")]
    #[case(&[("package.json", r#"{"scripts":{"dev":"vite --host"}}"#)],
           "huts", "npm run dev -- --port $PORT --strictPort")]
    #[case(&[("package.json", r#"{"scripts":{"start":"node server.js"}}"#), ("yarn.lock", "")],
           "huts", "yarn run start")]
    #[case(&[("package.json", r#"{"scripts":{"dev":"vite --port 4310"}}"#)], "huts", "npm run dev")]
    #[case(&[("package.json", r#"{"scripts":{"dev":"next dev"}}"#)], "huts", "npm run dev")]
    #[case(&[("manage.py", "")], "huts", "python3 manage.py runserver 127.0.0.1:$PORT")]
    #[case(&[("pyproject.toml", "dependencies = [\"FastAPI\"]")], "huts",
           "uvicorn main:app --reload --port $PORT")]
    #[case(&[("requirements.txt", "flask==3.0")], "huts", "flask run --debug --port $PORT")]
    #[case(&[("Gemfile", ""), ("bin/rails", "")], "huts", "bin/rails server -p $PORT")]
    #[case(&[("composer.json", "{}"), ("public/index.php", "")], "huts",
           "php -S 127.0.0.1:$PORT -t public")]
    #[case(&[("go.mod", "")], "huts", "go run .")]
    #[case(&[("Cargo.toml", "")], "huts", "cargo run")]
    #[case(&[("Procfile", "worker: a\nweb: gunicorn app -b :$PORT\n"), ("manage.py", "")], "huts",
           "gunicorn app -b :$PORT")]
    fn a_folder_says_what_runs_in_it(
        #[case] files: &[(&'static str, &str)],
        #[case] name: &str,
        #[case] command: &str,
    ) {
        let proposal = project(files).proposal();
        assert_eq!(proposal.name.as_ref().map(AppName::as_str), Some(name));
        assert_eq!(proposal.command.as_deref(), Some(command));
        assert!(!proposal.why.is_empty(), "it says why");
    }

    fn project(files: &[(&'static str, &str)]) -> Project {
        let files = files.iter().map(|(name, text)| (*name, (*text).to_owned()));
        Project {
            folder_name: "huts".to_owned(),
            files: files.collect(),
        }
    }

    #[test]
    fn the_port_and_the_tenants_of_a_project_are_found() {
        let files = [
            (".env", "A=1\nPORT=4310\n"),
            ("Gemfile", "gem \"acts_as_tenant\""),
        ];
        let proposal = project(&files).proposal();
        assert_eq!(proposal.port, Some(4310));
        assert!(proposal.subdomains);
        let nothing = project(&[("package.json", "{"), ("compose.yaml", "")]).proposal();
        assert_eq!(nothing.command, None);
        assert_eq!(nothing.why.len(), 2, "{:?}", nothing.why);
    }
}
