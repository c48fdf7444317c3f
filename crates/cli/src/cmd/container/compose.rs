//! Lines for a compose file.

use std::fmt::Write as _;
use std::path::Path;

use bentlane_api_types::{ContainerView, RouteView, Routes, Status};
use bentlane_checks::shell;
use serde_json::json;

use super::super::settings;
use super::super::trust::variables;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// Where root and bundle are mounted.
const ROOT: &str = "/etc/bentlane/root.pem";
const BUNDLE: &str = "/etc/bentlane/bundle.pem";

/// Prints what to add to the service of a container in a compose file: its routes as a label, and what it
/// needs to call the names of routes.
pub(super) async fn print(
    client: &Client,
    output: &Output,
    container: &ContainerView,
) -> Result<Answer, CliError> {
    let routes: Routes = client.get("/routes").await?;
    let status: Status = client.get("/status").await?;
    let own = routes.routes.iter().filter(|route| {
        let mut own = container.routes.iter();
        own.any(|it| it.address == route.address)
    });
    let own: Vec<String> = own.map(|route| line_of(container, route)).collect();
    let text = lines(container, &own, Path::new(&status.data_dir));
    output.data(&json!({ "compose": text }), |_| text.trim_end().to_owned())?;
    Ok(Answer::Yes)
}

/// A route as a line of the label.
fn line_of(container: &ContainerView, route: &RouteView) -> String {
    let inside = route
        .to
        .strip_prefix("container:")
        .and_then(|to| to.split_once(':'));
    let of_port = || {
        let port: u16 = route.to.parse().ok()?;
        let mut published = container.seen.published.iter();
        published
            .find(|(_, at)| at.port() == port)
            .map(|(inside, _)| inside.to_string())
    };
    let port = inside.map(|(_, port)| port.to_owned()).or_else(of_port);
    let mut words = vec![route.address.clone()];
    words.extend(port);
    for (key, value) in settings::in_words(&route.settings) {
        // A name gets a loopback address again.
        if key != "address" {
            words.push(format!("--{}={value}", key.replace(['.', '_'], "-")));
        }
    }
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    shell(&words)
}

fn lines(container: &ContainerView, routes: &[String], data_dir: &Path) -> String {
    let seen = &container.seen;
    let service = seen.service.as_ref().unwrap_or(&seen.name);
    let example = format!("{service}.ZONE 8080");
    let routes = match routes {
        [] => std::slice::from_ref(&example),
        routes => routes,
    };
    let mut text = format!("services:\n  {service}:\n    labels:\n      bentlane.routes: |\n");
    for route in routes {
        // Writing to a string cannot fail.
        let _ = writeln!(text, "        {route}");
    }
    text.push_str(
        "    # To call the names of routes from inside, once the network is open: bentlane container open\n\
         \x20   extra_hosts:\n",
    );
    for route in routes {
        let name = route.split(['/', ' ', ':']).next().unwrap_or_default();
        let name = name.trim_start_matches("*.");
        let _ = writeln!(text, "      - \"{name}:host-gateway\"");
    }
    text.push_str("    volumes:\n");
    for (file, inside) in [("root.pem", ROOT), ("bundle.pem", BUNDLE)] {
        let file = data_dir.join(file);
        let _ = writeln!(
            text,
            "      - {}",
            json!(format!("{}:{inside}:ro", file.display()))
        );
    }
    text.push_str("    environment:\n");
    for (name, value) in variables(Path::new(ROOT), Path::new(BUNDLE)) {
        let _ = writeln!(text, "      {name}: {value}");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_lines_have_label_names_roots_and_variables() {
        let seen = bentlane_model::ContainerSeen {
            name: "huts-tiles-1".to_owned(),
            service: Some("tiles".to_owned()),
            ..Default::default()
        };
        let container = ContainerView {
            seen,
            at: Vec::new(),
            routes: Vec::new(),
            route_command: None,
            findings: Vec::new(),
        };
        let routes = ["tiles.moor.test 80 --expect-title=Tiles".to_owned()];
        let text = lines(&container, &routes, Path::new("/srv/bentlane"));
        for part in [
            "services:\n  tiles:\n    labels:\n      bentlane.routes: |\n        tiles.moor.test 80",
            "- \"tiles.moor.test:host-gateway\"",
            "- \"/srv/bentlane/root.pem:/etc/bentlane/root.pem:ro\"",
            "NODE_EXTRA_CA_CERTS: /etc/bentlane/root.pem",
        ] {
            assert!(text.contains(part), "{part} in\n{text}");
        }
    }
}
