use std::path::PathBuf;

use bentlane_api_types::{AppInput, AppView, Ports, RouteInput, Zones};
use bentlane_model::AppSettings;
use clap::Args;
use serde_json::{Map, Value, json};

use super::super::settings::{Flags, value_in_words};
use super::super::{confirm, route};
use super::propose::{Project, Proposal, free_address};
use super::{describe, whole_paths};
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::output::{Output, Style};

/// `bentlane app add`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane app add                             in a project's folder: proposes everything, and asks
  bentlane app add booking --command 'npm run dev -- --port $PORT' --route booking.moor.test
  bentlane app add huts --command 'python3 app.py' --ready /health --route '*.hut.moor.test'
  bentlane app add shop --command ./run --ports web,api --route shop.moor.test
  bentlane app add mail --command ./mail --start service --stop-when-idle never")]
pub(crate) struct Add {
    /// Its name [default: what the folder says]
    name: Option<String>,
    /// The address of a route that leads to it; may be repeated [default: NAME in the first zone, when
    /// nothing else is said]
    #[arg(long, value_name = "ADDRESS")]
    route: Vec<String>,
    /// Let the route cover every name below its own, too
    #[arg(long)]
    subdomains: bool,
    /// Do not ask before what was found is added
    #[arg(long)]
    yes: bool,
    /// Only show what would be added
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    settings: Flags<AppSettings>,
}

impl Add {
    pub(super) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let mut settings = self.settings.patch()?;
        settings.entry("folder").or_insert_with(|| json!("."));
        let mut settings = whole_paths(settings)?;
        let folder = settings.get("folder").and_then(Value::as_str);
        let folder = PathBuf::from(folder.unwrap_or_default());
        let is_proposed = !settings.contains_key("command");
        let proposal = match is_proposed {
            true => Project::read(&folder).proposal(),
            false => Proposal::default(),
        };
        let command = proposal.command.clone().filter(|_| is_proposed);
        if let Some(command) = command {
            settings.insert("command".to_owned(), json!(command));
            if let Some(port) = proposal.port {
                settings.entry("port").or_insert_with(|| json!(port));
            }
        }
        if !settings.contains_key("command") {
            let found = proposal.why.iter().map(|why| format!("\n  {why}"));
            let reason = format!(
                "nothing in {} says what to run: say it with --command{}",
                folder.display(),
                found.collect::<String>()
            );
            return Err(CliError::Value {
                field: "app add",
                reason,
            });
        }
        let of_folder = || {
            Project::read(&folder)
                .proposal()
                .name
                .map(|name| name.to_string())
        };
        let name = self
            .name
            .or_else(of_folder)
            .ok_or_else(|| CliError::Value {
                field: "app add",
                reason: "say a name for it: `bentlane app add NAME`".to_owned(),
            })?;
        let mut routes: Vec<RouteInput> = Vec::new();
        for address in &self.route {
            routes.push(route::input(address, String::new()));
        }
        if routes.is_empty() && is_proposed {
            let zones: Zones = client.get("/zones").await?;
            if let Some(zone) = zones.zones.first() {
                let address = free_address(client, &name, &zone.name).await?;
                routes.push(route::input(&address, String::new()));
            }
        }
        if self.subdomains || proposal.subdomains {
            for route in &mut routes {
                route.settings.insert("subdomains".to_owned(), json!(true));
            }
        }
        let input = AppInput {
            name,
            settings,
            routes,
        };
        if is_proposed || self.dry_run {
            say(output, &input, &proposal.why);
            let app: AppView = client.post("/apps?dry_run=true", &input).await?;
            for note in &app.port_notes {
                output.say(note);
            }
            if self.dry_run {
                return Ok(Answer::Yes);
            }
            if !self.yes && !confirm::agreed(output)? {
                output.say("nothing was added");
                return Ok(Answer::No);
            }
        }
        let app: AppView = client.post("/apps", &input).await?;
        for note in &app.port_notes {
            output.say(note);
        }
        offer_to_stop(client, output, &app).await?;
        output.data(&app, |app| describe(output, app))?;
        let next = match app.routes.first() {
            Some(route) => format!("Next: visit {}, which starts it", route.url),
            None => format!("Next: bentlane route add NAME app:{}", app.name),
        };
        output.say(&next);
        Ok(Answer::Yes)
    }
}

/// Offers to stop another app that has the port which was chosen for this one.
async fn offer_to_stop(client: &Client, output: &Output, app: &AppView) -> Result<(), CliError> {
    let Some(port) = app.settings.port else {
        return Ok(());
    };
    let Ports { ports } = client.get("/ports").await?;
    let held = ports.into_iter().find(|held| held.port == port.get());
    let Some(other) = held.and_then(|held| held.app).filter(|it| *it != app.name) else {
        return Ok(());
    };
    if !confirm::is_asked() {
        output.say(&format!(
            "the app cannot start until that one has stopped: bentlane app stop {other}"
        ));
        return Ok(());
    }
    output.say(&format!(
        "Stop the app {other}, so that {} can start?",
        app.name
    ));
    if confirm::agreed(output)? {
        let path = format!("/apps/{}/stop?wait=true", segment(&other));
        let _: AppView = client.post(&path, &()).await?;
    }
    Ok(())
}

/// What would be added, and why.
fn say(output: &Output, input: &AppInput, why: &[String]) {
    let mut lines = vec![format!(
        "The app {}",
        output.paint(Style::Strong, &input.name)
    )];
    let row = |key: &str, value: &str| {
        format!(
            "  {key:<10} {}",
            value.replace(char::is_control, "\u{fffd}")
        )
    };
    let known: &Map<String, Value> = &input.settings;
    for key in ["command", "folder", "port"] {
        if let Some(value) = known.get(key) {
            lines.push(row(key, &value_in_words(value)));
        }
    }
    for route in &input.routes {
        let prefix = route.prefix.as_deref().unwrap_or_default();
        let below = match route.settings.contains_key("subdomains") {
            true => ", and every name below it",
            false => "",
        };
        lines.push(row("route", &format!("{}{prefix}{below}", route.name)));
    }
    lines.extend(why.iter().map(|why| row("because", why)));
    output.say(&lines.join("\n"));
}
