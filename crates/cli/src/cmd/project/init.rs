//! A first project file, from what runs here now.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use bentlane_api_types::{ContainerList, PortProtocol, Ports, ProjectExport, ProjectText, Zones};
use bentlane_model::{AppSettings, Name, Route, free_name, label_from};
use bentlane_project::{FILE_NAME, LONGEST_FILE, Written, add_routes, write};
use clap::Args;
use serde_json::json;

use super::super::app::propose;
use super::{refused, write_file};
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::input::whole_path;
use crate::output::Output;
use crate::text_file::TextFile;

/// `bentlane project init`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane project init
  bentlane project init ~/huts --yes")]
pub(crate) struct Init {
    /// The project's folder [default: this one]
    folder: Option<PathBuf>,
    /// Do not ask before the file is written
    #[arg(long)]
    yes: bool,
}

impl Init {
    pub(super) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let folder = whole_path(self.folder.as_deref().unwrap_or(Path::new(".")))?;
        let folder = folder.canonicalize().map_err(|source| CliError::Io {
            verb: format!("find {}", folder.display()),
            source,
        })?;
        let file = folder.join(FILE_NAME);
        if file.exists() {
            return Err(refused(format!(
                "{} is there already: `bentlane project export --write` brings it up to date",
                file.display()
            )));
        }
        let export = ProjectExport {
            file: file.clone(),
            text: None,
        };
        let existing: ProjectText = client.post("/projects/text", &export).await?;
        let read = bentlane_project::read(&existing.text).map_err(|faults| {
            let faults: Vec<String> = faults.iter().map(ToString::to_string).collect();
            refused(faults.join("; "))
        })?;
        let is_new = read.routes.is_empty() && read.apps.is_empty();
        let mut what = match is_new {
            true => self.proposed(client, output, &folder).await?,
            false => Written {
                zone: read.zone.clone(),
                ..Written::default()
            },
        };
        what.routes
            .extend(running_here(client, &folder, what.zone.as_ref()).await?);
        let text = match is_new {
            true => write(None, &folder, &what),
            false => add_routes(&existing.text, what.routes),
        };
        let text = text.map_err(|fault| refused(fault.to_string()))?;
        let answer = write_file(
            output,
            &TextFile::open(&file, LONGEST_FILE as u64)?,
            &text,
            self.yes,
        )?;
        if matches!(answer, Answer::Yes) {
            output.say("Next: bentlane project load");
        }
        Ok(answer)
    }

    /// A file with what the folder itself says: an app, and a route to it.
    async fn proposed(
        &self,
        client: &Client,
        output: &Output,
        folder: &Path,
    ) -> Result<Written, CliError> {
        let zones: Zones = client.get("/zones").await?;
        let zone = zones.zones.first();
        let zone = zone.map_or("moor.test", |zone| zone.name.as_str());
        let proposal = propose::Project::read(folder).proposal();
        for why in &proposal.why {
            output.say(why);
        }
        let mut what = Written {
            zone: zone.parse().ok(),
            ..Written::default()
        };
        if let (Some(command), Some(name)) = (&proposal.command, &proposal.name) {
            let mut settings =
                json!({ "command": command, "folder": folder.display().to_string() });
            if let Some(port) = proposal.port {
                settings["port"] = json!(port);
            }
            let patch = settings.as_object().cloned().unwrap_or_default();
            let settings = AppSettings::default().merged(&patch).map_err(|errors| {
                let errors: Vec<String> = errors.iter().map(ToString::to_string).collect();
                refused(errors.join("; "))
            })?;
            let why = proposal.why.join("\n");
            let address = format!("{name}.{zone}");
            if let (Ok(address), Ok(to)) = (address.parse(), format!("app:{name}").parse()) {
                let mut route = Route::new(address, to);
                route.settings.subdomains = proposal.subdomains;
                what.routes
                    .push((route, Some("the first visit starts the app".to_owned())));
            }
            what.apps.push((name.to_string(), settings, Some(why)));
        }
        Ok(what)
    }
}

/// Routes to what runs in a folder and has none yet: servers that were started there, and containers of
/// the compose project that is called as the folder is.
async fn running_here(
    client: &Client,
    folder: &Path,
    zone: Option<&Name>,
) -> Result<Vec<(Route, Option<String>)>, CliError> {
    let Some(zone) = zone else {
        return Ok(Vec::new());
    };
    let own = folder
        .file_name()
        .and_then(OsStr::to_str)
        .unwrap_or_default()
        .to_lowercase();
    let ports: Ports = client.get("/ports").await?;
    let servers = ports.ports.into_iter().filter_map(|port| {
        let process = port.process.as_ref()?;
        let at = Path::new(process.folder.as_deref()?);
        let is_candidate = port.protocol == Some(PortProtocol::Http)
            && !port.own
            && port.app.is_none()
            && port.container.is_none()
            && port.routes.is_empty()
            && at.starts_with(folder);
        let name = at.file_name().and_then(OsStr::to_str).unwrap_or_default();
        let why = match &port.title {
            Some(title) => format!("{}, “{title}”", process.command),
            None => process.command.clone(),
        };
        is_candidate.then(|| (name.to_owned(), port.port.to_string(), why))
    });
    let containers: ContainerList = client.get("/containers").await?;
    let containers = containers.containers.into_iter().filter_map(|container| {
        let (project, service) = (
            container.seen.project.as_ref()?,
            container.seen.service.clone()?,
        );
        let is_candidate =
            *project == own && container.routes.is_empty() && !container.at.is_empty();
        let to = format!("container:{}", container.seen.route_name());
        let why = format!("the container {}", container.seen.name);
        is_candidate.then_some((service, to, why))
    });
    let mut taken = BTreeSet::new();
    let mut routes = Vec::new();
    for (name, to, why) in servers.chain(containers) {
        let address = free_name(&label_from(&name), zone.as_str(), |name| {
            taken.contains(name)
        });
        if let (Ok(address), Ok(to)) = (address.parse(), to.parse()) {
            routes.push((Route::new(address, to), Some(why)));
        }
        taken.insert(address);
    }
    Ok(routes)
}
