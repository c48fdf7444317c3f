//! Routes that containers ask for in their label `bentlane.routes`.
//!
//! A label is written by the author of the container, so it may choose less than the user: it leads to
//! its own container alone, takes no name that a person or another project has, and has no setting
//! that names a file, a certificate or an address of this machine.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::address::Address;
use crate::change::{Rejection, RouteDraft};
use crate::configuration::{Configuration, OWN_ADDRESS};
use crate::container::{ContainerSeen, Containers};
use crate::route::Route;
use crate::route_index::RouteIndex;
use crate::route_line::RouteLine;
use crate::settings::{RouteSettings, StartContainer, TargetTls};

/// The label.
pub const ROUTES_LABEL: &str = "bentlane.routes";
/// What a line of the label begins with that asks for certificates in a folder of the container.
const CERTIFICATES: &str = "certificates";
/// The longest label that is read, in bytes, and how many lines of it.
const LONGEST_LABEL: usize = 64 << 10;
const MOST_LINES: usize = 200;

/// The settings that a label can have.
const ALLOWED: [&str; 18] = [
    "strip_prefix",
    "host",
    "target_tls",
    "target_name",
    "allow_origins",
    "set_headers",
    "remove_headers",
    "plain",
    "protocol",
    "tls",
    "subdomains",
    "server_timing",
    "drop_hsts",
    "first_byte_timeout",
    "paused",
    "note",
    "start",
    "expect",
];

/// What is wrong with a label.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LabelFault {
    /// A line cannot be read, or asks for what a label cannot have.
    Invalid,
    /// A person's route, or another container's, has the address.
    Taken,
    /// The label came with the image, and counts for nothing.
    OfImage,
}

/// A line of a label that is no route.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LabelProblem {
    /// The container.
    pub container: String,
    /// The line.
    pub line: String,
    /// What kind of problem it is.
    pub fault: LabelFault,
    /// Why, in words.
    pub reason: String,
}

/// The routes of labels.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LabelRoutes {
    /// Each route, and the container or service that asks for it.
    pub routes: Vec<(Route, String)>,
    /// What is no route.
    pub problems: Vec<LabelProblem>,
    /// The containers that ask for certificates of their names, each with the folder in it.
    pub certificates: Vec<(String, String)>,
}

impl LabelRoutes {
    /// The routes that the labels of `containers` add to `configuration`. Where two ask for the same
    /// address, the container that was made first has it.
    #[must_use]
    pub fn of(configuration: &Configuration, containers: &Containers) -> Self {
        let mut labels = Self::default();
        let mut labelled: Vec<(&ContainerSeen, &str)> = Vec::new();
        for seen in &containers.seen {
            let Some(label) = seen.label.as_deref() else {
                continue;
            };
            if seen.label_of_image {
                labels.problems.push(LabelProblem {
                    container: seen.name.clone(),
                    line: label.lines().next().unwrap_or_default().to_owned(),
                    fault: LabelFault::OfImage,
                    reason:
                        "the label came with the image: give it to the container to have the route"
                            .to_owned(),
                });
                continue;
            }
            labelled.push((seen, label));
        }
        labelled.sort_by(|(a, _), (b, _)| (&a.created, &a.name).cmp(&(&b.created, &b.name)));
        let mut asked: Vec<(Route, String, &ContainerSeen, String)> = Vec::new();
        for (seen, label) in labelled {
            let lines = label.get(..LONGEST_LABEL).unwrap_or(label).lines();
            for line in lines.take(MOST_LINES) {
                match wanted(configuration, seen, line) {
                    Ok(None) => {}
                    Ok(Some(Wanted::Certificates(folder))) => {
                        labels.certificates.push((seen.name.clone(), folder));
                    }
                    Ok(Some(Wanted::Route(route))) => {
                        let is_same = |(known, owner, ..): &(Route, String, _, _)| {
                            *known == *route && *owner == seen.route_name()
                        };
                        // The replicas of a service ask for the same.
                        let is_known = asked.iter().any(is_same);
                        let waits = route.settings.start == StartContainer::Visit;
                        if !is_known && (seen.running || waits) {
                            asked.push((*route, seen.route_name(), seen, line.trim().to_owned()));
                        }
                    }
                    Err(reason) => {
                        labels
                            .problems
                            .push(problem(seen, line, LabelFault::Invalid, reason))
                    }
                }
            }
        }
        let mut index = RouteIndex::of(configuration);
        let mut owners: BTreeMap<&Address, &str> = BTreeMap::new();
        let mut accepted = Vec::new();
        for (route, owner, seen, line) in &asked {
            let taken =
                index
                    .taken_by(&route.address)
                    .map(|known| match owners.get(&known.address) {
                        Some(other) => {
                            format!("`{}` is the route of the container {other}", known.address)
                        }
                        None => format!(
                            "a route of your own has `{}` and leads to {}",
                            known.address, known.to
                        ),
                    });
            if let Some(reason) = taken {
                labels
                    .problems
                    .push(problem(seen, line, LabelFault::Taken, reason));
                continue;
            }
            match index.add(route) {
                Ok(()) => {
                    owners.insert(&route.address, owner);
                    accepted.push((route.clone(), owner.clone()));
                }
                Err(rejection) => {
                    let fault = match rejection {
                        Rejection::Taken(_) => LabelFault::Taken,
                        _ => LabelFault::Invalid,
                    };
                    let reason = rejection.to_string();
                    labels.problems.push(problem(seen, line, fault, reason));
                }
            }
        }
        labels.routes = accepted;
        labels
    }

    /// Whether there is nothing to add.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.routes.is_empty()
    }
}

fn problem(seen: &ContainerSeen, line: &str, fault: LabelFault, reason: String) -> LabelProblem {
    LabelProblem {
        container: seen.name.clone(),
        line: line.trim().to_owned(),
        fault,
        reason,
    }
}

/// What a line asks for.
enum Wanted {
    Route(Box<Route>),
    Certificates(String),
}

fn wanted(
    configuration: &Configuration,
    seen: &ContainerSeen,
    line: &str,
) -> Result<Option<Wanted>, String> {
    let Some(RouteLine { words, settings }) = RouteLine::read(line, RouteSettings::SETTINGS)?
    else {
        return Ok(None);
    };
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let name = seen.route_name();
    let (address, target) = match words.as_slice() {
        [CERTIFICATES, folder] if folder.starts_with('/') => {
            return Ok(Some(Wanted::Certificates((*folder).to_owned())));
        }
        [CERTIFICATES, ..] => {
            return Err(format!(
                "write `{CERTIFICATES} FOLDER`, with the whole path of the folder"
            ));
        }
        [address] => (*address, format!("container:{name}")),
        [address, port] => {
            let port: u16 = port.parse().ok().filter(|port| *port != 0).ok_or_else(|| {
                format!("`{port}` is no port inside the container: write ADDRESS PORT")
            })?;
            (*address, format!("container:{name}:{port}"))
        }
        _ => return Err("write ADDRESS PORT, and settings as flags".to_owned()),
    };
    let (route_name, prefix) = match address.find('/') {
        Some(slash) => (&address[..slash], Some(&address[slash..])),
        None => (address, None),
    };
    let draft = RouteDraft {
        name: route_name,
        prefix,
        to: &target,
    };
    let in_one_line = |all: Vec<crate::invalid::Invalid>| {
        let all: Vec<String> = all.iter().map(ToString::to_string).collect();
        all.join("; ")
    };
    let mut route = draft.parse().map_err(in_one_line)?;
    let mut settings: Map<String, Value> = settings;
    if let Some(key) = settings.keys().find(|key| !ALLOWED.contains(&key.as_str())) {
        return Err(format!(
            "a label cannot set `{key}`: add a route by hand that has it"
        ));
    }
    if route.address.port.is_some() {
        settings.insert("address".to_owned(), OWN_ADDRESS.into());
    }
    let after = configuration.settings_after(&route.address, &route.settings, &settings);
    route.settings = after.map_err(|rejection| rejection.to_string())?;
    if !matches!(
        route.settings.target_tls,
        TargetTls::Verify | TargetTls::Unverified
    ) {
        return Err("a label cannot name a file in `target_tls`".to_owned());
    }
    Ok(Some(Wanted::Route(Box::new(route))))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::zone::Zone;

    fn labelled(name: &str, label: &str) -> ContainerSeen {
        ContainerSeen {
            name: name.to_owned(),
            running: true,
            label: Some(label.to_owned()),
            ..ContainerSeen::default()
        }
    }

    fn routes_of(seen: Vec<ContainerSeen>) -> LabelRoutes {
        let configuration = Configuration {
            zones: vec![Zone::new("moor.test".parse().unwrap())],
            routes: vec![Route::new(
                "own.moor.test".parse().unwrap(),
                "1".parse().unwrap(),
            )],
            ..Configuration::default()
        };
        LabelRoutes::of(
            &configuration,
            &Containers {
                seen,
                silent: Vec::new(),
            },
        )
    }

    #[rstest]
    #[case("tiles.moor.test 8080", "tiles.moor.test container:tiles:8080")]
    #[case("tiles.moor.test", "tiles.moor.test container:tiles")]
    #[case(
        "a.moor.test/api 1 --strip-prefix\n\n# more\n*.b.moor.test 2",
        "a.moor.test/api container:tiles:1, *.b.moor.test container:tiles:2"
    )]
    #[case("db.moor.test:5432 5432", "db.moor.test:5432 container:tiles:5432")]
    fn labels_are_routes(#[case] label: &str, #[case] wanted: &str) {
        let found = routes_of(vec![labelled("tiles", label)]);
        assert_eq!(found.problems, []);
        let routes = found
            .routes
            .iter()
            .map(|(route, _)| format!("{} {}", route.address, route.to));
        assert_eq!(routes.collect::<Vec<_>>().join(", "), wanted);
    }

    #[rstest]
    #[case("own.moor.test 1", LabelFault::Taken, "a route of your own has")]
    #[case(
        "first.moor.test 1",
        LabelFault::Taken,
        "is the route of the container first"
    )]
    #[case("a.fell.test 1", LabelFault::Invalid, "in no zone")]
    #[case(
        "a.moor.test http://198.51.100.1",
        LabelFault::Invalid,
        "no port inside"
    )]
    #[case(
        "a.moor.test 1 --access-log /root/x",
        LabelFault::Invalid,
        "cannot set `access_log`"
    )]
    #[case(
        "a.moor.test 1 --target-tls /etc/shadow",
        LabelFault::Invalid,
        "`target_tls`"
    )]
    #[case(
        "a.moor.test 1 --address 198.51.100.1",
        LabelFault::Invalid,
        "cannot set `address`"
    )]
    #[case("certificates tls", LabelFault::Invalid, "whole path")]
    #[case("a b c d", LabelFault::Invalid, "write ADDRESS PORT")]
    #[case("\u{0}\u{1b}[2J 1", LabelFault::Invalid, "")]
    fn labels_take_nothing_from_others(
        #[case] label: &str,
        #[case] fault: LabelFault,
        #[case] reason: &str,
    ) {
        let found = routes_of(vec![
            labelled("first", "first.moor.test 1"),
            labelled("second", label),
        ]);
        assert_eq!(found.routes.len(), 1);
        let [problem] = found.problems.as_slice() else {
            panic!("{found:?}");
        };
        assert_eq!(problem.container, "second");
        assert_eq!(problem.fault, fault, "{problem:?}");
        assert!(problem.reason.contains(reason), "{problem:?}");
    }

    #[test]
    fn replicas_share_a_route_and_the_first_container_keeps_its_name() {
        let replica = |number: u16, project: &str, created: &str| ContainerSeen {
            project: Some(project.to_owned()),
            service: Some("web".to_owned()),
            created: created.to_owned(),
            ..labelled(&format!("{project}-web-{number}"), "web.moor.test 80")
        };
        let found = routes_of(vec![
            replica(1, "fell", "2026-12-01T10:00:02Z"),
            replica(1, "huts", "2026-12-01T10:00:01Z"),
            replica(2, "huts", "2026-12-01T10:00:03Z"),
        ]);
        let owners: Vec<&str> = found.routes.iter().map(|(_, owner)| &**owner).collect();
        assert_eq!(owners, ["huts-web"]);
        assert_eq!(found.problems.len(), 1);
        assert_eq!(found.problems[0].container, "fell-web-1");
    }

    #[test]
    fn a_stopped_container_has_a_route_only_when_a_visit_starts_it() {
        let stopped = |label: &str| ContainerSeen {
            running: false,
            ..labelled("tiles", label)
        };
        assert!(routes_of(vec![stopped("tiles.moor.test 80")]).is_empty());
        assert!(!routes_of(vec![stopped("tiles.moor.test 80 --start visit")]).is_empty());
    }

    #[test]
    fn the_label_of_an_image_counts_for_nothing() {
        let found = routes_of(vec![ContainerSeen {
            label_of_image: true,
            ..labelled("tiles", "tiles.moor.test 80")
        }]);
        assert!(found.is_empty());
        assert_eq!(found.problems[0].fault, LabelFault::OfImage);
    }
}
