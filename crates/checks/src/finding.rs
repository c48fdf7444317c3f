use std::net::SocketAddr;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::attempt::{Attempt, Refusal};
use super::fix::{Action, Fix, shell};
use super::hop::{Hop, Severity};
use super::kind::FindingKind;
use bentlane_model::ByName;
use bentlane_model::Name;
use bentlane_model::Target;
use bentlane_model::{ContainerPlace, LabelFault, LabelProblem, SilentEngine};

/// What a check found wrong: the hop, the severity, the reason, and the fix.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Finding {
    /// What kind of fault it is; stable, so that scripts can rely on it.
    pub slug: FindingKind,
    /// The hop at which it shows.
    pub hop: Hop,
    /// Its severity.
    pub severity: Severity,
    /// The fault in one sentence.
    pub summary: String,
    /// The evidence, line by line.
    pub evidence: Vec<String>,
    /// What fixes it.
    #[serde(alias = "remedy")]
    pub fix: Fix,
}

/// The text without control characters, by which an app could write over what a terminal shows.
pub(crate) fn printable(text: String) -> String {
    if text.contains(char::is_control) {
        return text.replace(char::is_control, "\u{fffd}");
    }
    text
}

impl Finding {
    /// The same about the app behind the folder of a route, to which another option of `route edit` leads.
    #[must_use]
    pub fn of_app_behind_folder(self) -> Self {
        let fix = match self.slug {
            FindingKind::FolderUnreadable => self.fix,
            _ => self.fix.for_app_behind_folder(),
        };
        Self { fix, ..self }
    }

    /// A finding as bad as its kind is.
    pub(crate) fn of(
        kind: FindingKind,
        summary: impl Into<String>,
        evidence: Vec<String>,
        fix: Fix,
    ) -> Self {
        Self {
            slug: kind,
            hop: kind.hop(),
            severity: kind.severity(),
            summary: printable(summary.into()),
            evidence: evidence.into_iter().map(printable).collect(),
            fix,
        }
    }

    /// Our resolver gave no usable answer for `name`.
    #[must_use]
    pub fn resolver_silent(name: &str, resolver: &str, evidence: String) -> Self {
        Self::of(
            FindingKind::ResolverSilent,
            format!("our resolver at {resolver} does not answer for {name}"),
            vec![evidence],
            Fix::command(
                "check that the service runs and listens there",
                "bentlane status",
            ),
        )
    }

    /// Our resolver answered with an error code.
    #[must_use]
    pub fn resolver_refuses(name: &str, code: &str) -> Self {
        Self::of(
            FindingKind::ResolverRefuses,
            format!("our resolver refuses {name}: no zone covers it"),
            vec![format!("response code {code}")],
            Fix::command("list the zones", "bentlane zone list"),
        )
    }

    /// The name resolves to addresses where we do not listen.
    #[must_use]
    pub fn resolves_elsewhere(name: &str, found: &[String], listening: &[String]) -> Self {
        let found = if found.is_empty() {
            "no address".to_owned()
        } else {
            found.join(", ")
        };
        Self::of(
            FindingKind::ResolvesElsewhere,
            format!("{name} leads to {found}, where Bent Lane does not listen"),
            vec![
                format!("resolved to {found}"),
                format!("listening on {}", listening.join(", ")),
            ],
            Fix::command(
                "compare the listeners with the addresses",
                "bentlane status",
            ),
        )
    }

    /// No route covers a request; `nearest` are those that come close.
    #[must_use]
    pub fn route_missing(name: &str, path: &str, nearest: &[String]) -> Self {
        let path = if path == "/" { "" } else { path };
        let near = nearest.iter().map(|address| format!("there is {address}"));
        Self::of(
            FindingKind::RouteMissing,
            format!("no route covers {name}{path}"),
            near.collect(),
            Fix::command(
                "add a route to the port on which the app listens",
                format!("{} PORT", shell(&["bentlane", "route", "add", name])),
            ),
        )
    }

    /// No zone covers `name`; `zones` are the existing ones.
    #[must_use]
    pub fn name_outside_zones(name: &Name, zones: &[String]) -> Self {
        let label_and_zone = name.as_str().split_once('.');
        let zone = label_and_zone.map_or(name.as_str(), |(_, zone)| zone);
        let zone = if zone.contains('.') {
            zone
        } else {
            name.as_str()
        };
        Self::of(
            FindingKind::NameOutsideZones,
            format!("no zone covers {name}"),
            zones
                .iter()
                .map(|zone| format!("there is {zone}"))
                .collect(),
            Fix::command(
                "use a name in an existing zone, or add the zone",
                shell(&["bentlane", "zone", "add", zone]),
            ),
        )
    }

    /// The target did not accept a connection.
    #[must_use]
    pub fn target_closed(address: &str, target: &Target, attempts: &[Attempt]) -> Self {
        let all = |wanted: &Refusal| attempts.iter().all(|attempt| attempt.refusal == *wanted);
        let evidence = attempts.iter().map(ToString::to_string).collect();
        let place = target.describe();
        let elsewhere = "--to PORT";
        if all(&Refusal::Refused) {
            return Self::of(
                FindingKind::TargetRefuses,
                format!("nothing listens on {place}"),
                evidence,
                Fix::edit(
                    format!(
                        "start the app on {place}; if it listens on another port, change the route"
                    ),
                    address,
                    elsewhere,
                ),
            );
        }
        let (kind, summary) = if attempts.iter().any(|a| a.refusal == Refusal::Silent) {
            (
                FindingKind::TargetSilent,
                format!("{place} does not respond to a connection"),
            )
        } else {
            (
                FindingKind::TargetUnreachable,
                format!("{place} cannot be reached"),
            )
        };
        let text = "check that the machine is up and no firewall blocks it; if the app runs \
                    elsewhere, change the route";
        Self::of(kind, summary, evidence, Fix::edit(text, address, elsewhere))
    }

    /// The target accepts at `elsewhere` alone: on the other family of loopback.
    #[must_use]
    pub fn target_other_family(
        address: &str,
        target: &Target,
        attempts: &[Attempt],
        elsewhere: SocketAddr,
    ) -> Self {
        let mut evidence: Vec<String> = attempts.iter().map(ToString::to_string).collect();
        evidence.push(format!("{elsewhere}: accepts"));
        Self::of(
            FindingKind::TargetOtherFamily,
            format!(
                "nothing listens on {}, but something listens on {elsewhere}",
                target.describe()
            ),
            evidence,
            Fix::lead_to(
                "use the bare port as the target, which covers both families",
                address,
                elsewhere.port(),
            ),
        )
    }

    /// Where the container that a route leads to is keeps it from being connected to.
    #[must_use]
    pub fn container(address: &str, target: &Target, place: &ContainerPlace) -> Option<Self> {
        let name = match target {
            Target::Container(container) => &container.name,
            _ => return None,
        };
        let elsewhere = "--to container:NAME";
        let (kind, summary, evidence, fix) = match place {
            ContainerPlace::At(_) | ContainerPlace::Replicas(_) => return None,
            ContainerPlace::Stopped => (
                FindingKind::ContainerStopped,
                format!("the container {name} is not running"),
                Vec::new(),
                Fix::command(
                    format!("start it; `bentlane container show {name}` shows how it is"),
                    format!("bentlane container start {name}"),
                ),
            ),
            ContainerPlace::Starting => (
                FindingKind::ContainerStarting,
                format!("the health check of the container {name} has not passed yet"),
                Vec::new(),
                Fix::command(
                    "wait until it has; requests do so, too",
                    format!("bentlane container show {name}"),
                ),
            ),
            ContainerPlace::PortUnclear(ports) => {
                let evidence = ports.iter().map(|port| format!("it has port {port}"));
                return Some(Self::port_unclear(
                    address,
                    name,
                    "PORT",
                    evidence.collect(),
                ));
            }
            ContainerPlace::Gone(others) => (
                FindingKind::ContainerGone,
                format!("there is no container {name}"),
                others
                    .iter()
                    .map(|name| format!("there is {name}"))
                    .collect(),
                Fix::edit("start it, or name another", address, elsewhere),
            ),
            ContainerPlace::Unpublished(exposed) => (
                FindingKind::ContainerUnpublished,
                format!("the container {name} publishes no port that the route can use"),
                exposed
                    .iter()
                    .map(|port| format!("it listens on {port} in the container"))
                    .collect(),
                Fix::edit(
                    "restart it with its port published (`--publish 127.0.0.1::PORT`); with \
                     several ports, name the one to use",
                    address,
                    &format!("--to container:{name}:PORT"),
                ),
            ),
            ContainerPlace::Elsewhere(networks) => (
                FindingKind::ContainerElsewhere,
                format!("the container {name} is on no network that this machine can reach"),
                vec![match networks.as_slice() {
                    [] => "it has no network".to_owned(),
                    networks => format!("its network: {}", networks.join(", ")),
                }],
                Fix::text(format!(
                    "connect {name} to a network of this machine, with its port published"
                )),
            ),
            ContainerPlace::EngineSilent(reason) => (
                FindingKind::EngineSilent,
                "no container engine answers".to_owned(),
                vec![reason.clone()],
                Fix::command(
                    "start the engine, or pass its socket to the service",
                    "bentlane serve --engine SOCKET",
                ),
            ),
        };
        Some(Self::of(kind, summary, evidence, fix))
    }

    /// The file of the project that a route came from is not there any more.
    #[must_use]
    pub fn project_file_missing(file: &Path) -> Self {
        let file = file.display().to_string();
        Self::of(
            FindingKind::ProjectFileMissing,
            format!("the project file {file} is not there any more"),
            Vec::new(),
            Fix::command(
                "take out what came from it, or load it at its new place with --take-over",
                format!("bentlane project unload {}", shell(&[&file])),
            ),
        )
    }

    /// A container was not started for a request.
    #[must_use]
    pub fn container_not_started(name: &str, reason: &str) -> Self {
        Self::of(
            FindingKind::ContainerStopped,
            format!("the container {name} is not running, and could not be started"),
            vec![reason.to_owned()],
            Fix::command(
                "start it by hand, or see how it is",
                format!("bentlane container show {name}"),
            ),
        )
    }

    /// The health check of a container that a route leads to fails.
    #[must_use]
    pub fn container_unhealthy(name: &str) -> Self {
        Self::of(
            FindingKind::ContainerUnhealthy,
            format!("the health check of the container {name} fails"),
            Vec::new(),
            Fix::command(
                "look at its output; its engine says what the check answered",
                format!("bentlane container show {name}"),
            ),
        )
    }

    /// Some of the containers that a route leads to accept no connection.
    #[must_use]
    pub fn replicas_unreachable(down: &[(String, Vec<Attempt>)], of: usize) -> Self {
        let names: Vec<&str> = down.iter().map(|(name, _)| name.as_str()).collect();
        let evidence = down.iter().flat_map(|(name, attempts)| {
            let line = move |attempt: &Attempt| format!("{name}: {attempt}");
            attempts.iter().map(line)
        });
        Self::of(
            FindingKind::ReplicaUnreachable,
            format!(
                "{} of {of} containers accept no connection: {}",
                down.len(),
                names.join(", ")
            ),
            evidence.collect(),
            Fix::command(
                "look at their output, and start them again",
                format!(
                    "bentlane container show {}",
                    names.first().unwrap_or(&"NAME")
                ),
            ),
        )
    }

    /// The same for a container of whose `ports` these `http` ones are known to speak HTTP.
    #[must_use]
    pub fn http_port_unclear(address: &str, name: &str, ports: &[u16], http: &[u16]) -> Self {
        let line = |port: &u16| match http.contains(port) {
            true => format!("port {port} speaks HTTP"),
            false => format!("port {port} does not speak HTTP"),
        };
        let port = match http {
            [only] => only.to_string(),
            _ => "PORT".to_owned(),
        };
        Self::port_unclear(address, name, &port, ports.iter().map(line).collect())
    }

    fn port_unclear(address: &str, name: &str, port: &str, evidence: Vec<String>) -> Self {
        Self::of(
            FindingKind::ContainerPortUnclear,
            format!("the container {name} has several ports, and none of them was chosen"),
            evidence,
            Fix::edit(
                "say which one the route means",
                address,
                &format!("--to container:{name}:{port}"),
            ),
        )
    }

    /// Some of the containers that a route leads to answer otherwise than they should; `None` when
    /// none does.
    #[must_use]
    pub fn replicas_failing(faults: &[(&str, String)], of: usize) -> Option<Self> {
        let names: Vec<&str> = faults.iter().map(|(name, _)| *name).collect();
        let line = |(name, fault): &(&str, String)| format!("{name}: {fault}");
        Some(Self::of(
            FindingKind::ReplicaFailing,
            format!(
                "{} of {of} containers answer otherwise than they should: {}",
                names.len(),
                names.join(", ")
            ),
            faults.iter().map(line).collect(),
            Fix::command(
                "look at their output, and start them again",
                format!("bentlane container show {}", names.first()?),
            ),
        ))
    }

    /// The engine of the containers that a route leads to does not answer, while they do.
    #[must_use]
    pub fn engine_lost(silent: &SilentEngine) -> Self {
        Self {
            severity: Severity::Warning,
            ..Self::of(
                FindingKind::EngineSilent,
                format!("the engine at {} does not answer", silent.socket),
                vec![
                    silent.reason.clone(),
                    "requests go to where the container was last".to_owned(),
                ],
                Fix::command("start the engine again", "bentlane status"),
            )
        }
    }

    /// A line of a container's label that is no route.
    #[must_use]
    pub fn label(problem: &LabelProblem) -> Self {
        let LabelProblem {
            container,
            line,
            fault,
            reason,
        } = problem;
        let kind = match fault {
            LabelFault::Taken => FindingKind::LabelNameTaken,
            LabelFault::Invalid | LabelFault::OfImage => FindingKind::LabelInvalid,
        };
        let summary = match fault {
            LabelFault::Taken => "asks for an address that is taken",
            LabelFault::Invalid => "has a line that is no route",
            LabelFault::OfImage => "came with its image, and counts for nothing",
        };
        let fix = match fault {
            LabelFault::Taken => {
                "name another address in the label, or remove the route that has it"
            }
            LabelFault::Invalid => "correct the label, and recreate the container",
            LabelFault::OfImage => "give the label to the container, or add a route by hand",
        };
        Self::of(
            kind,
            format!("the label of the container {container} {summary}"),
            vec![
                printable(format!("the line: {line}")),
                printable(reason.clone()),
            ],
            Fix::text(fix),
        )
    }

    /// A name that stands for nothing that its route leads to.
    #[must_use]
    pub fn name_leads_nowhere(name: &str, by: ByName, reason: &str) -> Self {
        let (text, command) = match by {
            ByName::Port => ("see which ports there are", "bentlane port list"),
            ByName::App => ("see which apps there are", "bentlane app list"),
            ByName::Container => (
                "name a container that runs and publishes one port",
                "bentlane container list",
            ),
        };
        Self::of(
            FindingKind::NameLeadsNowhere,
            format!("{name} leads nowhere: {reason}"),
            Vec::new(),
            Fix::command(text, command),
        )
    }

    /// The route is paused.
    #[must_use]
    pub fn route_paused(address: &str, note: Option<&str>) -> Self {
        Self::of(
            FindingKind::RoutePaused,
            format!("the route {address} is paused"),
            note.map(str::to_owned).into_iter().collect(),
            Fix::edit("resume it when you are done", address, "--paused=false"),
        )
    }

    /// We serve as many connections as we may.
    #[must_use]
    pub fn too_many_connections(limit: usize) -> Self {
        Self::of(
            FindingKind::TooManyConnections,
            format!("the limit of {limit} open connections is reached"),
            Vec::new(),
            Fix::command(
                "find out which program opens so many; new connections work again when some are closed",
                "bentlane status",
            ),
        )
    }

    /// Plain HTTP is refused for `name`.
    #[must_use]
    pub fn plain_refused(address: &str, url: &str) -> Self {
        Self::of(
            FindingKind::PlainRefused,
            format!("plain HTTP is refused here: use {url}"),
            Vec::new(),
            Fix::edit(
                "use HTTPS, or redirect plain HTTP to it",
                address,
                "--plain redirect",
            ),
        )
    }

    /// The target speaks TLS, and the route says otherwise.
    #[must_use]
    pub fn target_speaks_tls(address: &str, target: &Target) -> Self {
        let place = target.describe();
        let there = match target {
            Target::Port(port) => format!("127.0.0.1:{port}"),
            other => other.authority().unwrap_or_default(),
        };
        Self::of(
            FindingKind::TargetSpeaksTls,
            format!("{place} expects TLS, and the route uses plain HTTP"),
            vec!["it accepts TLS and does not answer plain HTTP".to_owned()],
            Fix::action(
                "use https:// for the target; `--target-tls none` skips certificate verification",
                Action::edit(
                    address,
                    [
                        ("to", format!("https://{there}").into()),
                        ("target_tls", "none".into()),
                    ],
                ),
            ),
        )
    }

    /// The target does not use TLS, and the route does.
    #[must_use]
    pub fn target_speaks_plain(address: &str, target: &Target) -> Self {
        let there = target.authority().unwrap_or_default();
        Self::of(
            FindingKind::TargetSpeaksPlain,
            format!(
                "{} uses plain HTTP, and the route uses TLS",
                target.describe()
            ),
            vec!["it does not answer a TLS ClientHello with TLS".to_owned()],
            Fix::lead_to(
                "use http:// for the target",
                address,
                format!("http://{there}"),
            ),
        )
    }

    /// The target's certificate is not accepted.
    #[must_use]
    pub fn target_untrusted(address: &str, target: &Target, reason: &str) -> Self {
        Self::of(
            FindingKind::TargetUntrusted,
            format!("the certificate of {} is not trusted", target.describe()),
            vec![reason.to_owned()],
            Fix::edit(
                "accept this certificate by its file, or skip verification with `none`",
                address,
                "--target-tls FILE",
            ),
        )
    }

    /// The TLS handshake with the target failed.
    #[must_use]
    pub fn target_tls_failed(target: &Target, reason: &str) -> Self {
        Self::of(
            FindingKind::TargetTlsFailed,
            format!("the TLS handshake with {} failed", target.describe()),
            vec![reason.to_owned()],
            Fix::text("read the app's output, and check which TLS versions it supports"),
        )
    }

    /// The route loops back to us; `circle` are the routes that the request has passed.
    #[must_use]
    pub fn route_loop(address: &str, circle: &[String]) -> Self {
        Self::of(
            FindingKind::RouteLoop,
            format!("the route {address} loops back to itself"),
            vec![circle.join(" → ")],
            Fix::edit(
                if circle.len() > 2 {
                    "point one of them at the app itself"
                } else {
                    "point it at the app itself"
                },
                address,
                "--to PORT",
            ),
        )
    }

    /// The target's answer has more header fields than we take.
    #[must_use]
    pub fn answer_oversized(target: &Target, reason: &str) -> Self {
        Self::of(
            FindingKind::AnswerOversized,
            format!(
                "the response headers of {} are too large",
                target.describe()
            ),
            vec![reason.to_owned()],
            Fix::text("check the headers that the app sends; the usual cause is a large cookie"),
        )
    }

    /// The app sends interim responses and no final one.
    #[must_use]
    pub fn answer_interim(target: &Target) -> Self {
        Self::of(
            FindingKind::AnswerOversized,
            format!("{} sends interim responses without end", target.describe()),
            vec!["status 1xx again and again, and no final response".to_owned()],
            Fix::text(
                "look in the app for what sends 100, 102 or 103 repeatedly, and have it send the final response",
            ),
        )
    }

    /// The app answers with `status` instead of changing its protocol.
    #[must_use]
    pub fn upgrade_refused(target: &Target, status: u16) -> Self {
        Self::of(
            FindingKind::UpgradeRefused,
            format!(
                "the app on {} does not accept WebSocket here",
                target.describe()
            ),
            vec![format!("status {status}, expected 101")],
            Fix::text(
                "check the path of the app's WebSocket, and whether the app allows this origin",
            ),
        )
    }

    /// The target's host has no address.
    #[must_use]
    pub fn target_unknown(address: &str, target: &Target, reason: &str) -> Self {
        Self::of(
            FindingKind::TargetUnknown,
            format!("the host of {target} does not resolve"),
            vec![reason.to_owned()],
            Fix::edit(
                "correct the host name, or use its address",
                address,
                "--to http://HOST:PORT",
            ),
        )
    }

    /// Our own TLS listener did not accept.
    #[must_use]
    pub fn listener_unreachable(listener: &str, reason: &str) -> Self {
        Self::of(
            FindingKind::ListenerUnreachable,
            format!("our own HTTPS listener at {listener} cannot be reached"),
            vec![reason.to_owned()],
            Fix::command("show where the service listens", "bentlane status"),
        )
    }

    /// The certificate did not verify.
    #[must_use]
    pub fn certificate_refused(name: &str, reason: &str) -> Self {
        Self::of(
            FindingKind::CertificateRefused,
            format!("the certificate for {name} does not verify against our own root"),
            vec![reason.to_owned()],
            Fix::command(
                "check the root that the service uses, and the machine's clock",
                "bentlane authority show",
            ),
        )
    }

    /// The root cannot vouch for the name.
    #[must_use]
    pub fn beyond_the_root(name: &str) -> Self {
        Self::of(
            FindingKind::BeyondTheRoot,
            format!(
                "there is no certificate for {name} yet: the authority's constraints exclude it"
            ),
            vec!["the name is outside the constraints of the issuing certificate".to_owned()],
            Fix::command(
                "show what is missing, and how to fix it",
                "bentlane authority show",
            ),
        )
    }

    /// The handshake broke off.
    #[must_use]
    pub fn handshake_failed(listener: &str, reason: &str) -> Self {
        Self::of(
            FindingKind::HandshakeFailed,
            format!("the TLS handshake with {listener} failed"),
            vec![reason.to_owned()],
            Fix::command("check that Bent Lane listens there", "bentlane status"),
        )
    }

    /// The target closed without an answer.
    #[must_use]
    pub fn answer_missing(target: &Target, reason: &str) -> Self {
        Self::of(
            FindingKind::AnswerMissing,
            format!(
                "{} accepts connections and closes them without a response",
                target.describe()
            ),
            vec![reason.to_owned()],
            Fix::text(
                "read the app's output: it may have crashed on the request, or it does not speak HTTP",
            ),
        )
    }

    /// The target's answer is not HTTP.
    #[must_use]
    pub fn answer_malformed(target: &Target, reason: &str) -> Self {
        Self::of(
            FindingKind::AnswerMalformed,
            format!("the response of {} is not plain HTTP", target.describe()),
            vec![reason.to_owned()],
            Fix::text("check which program listens there, and whether it expects TLS"),
        )
    }

    /// No answer within the limit.
    #[must_use]
    pub fn answer_late(target: &Target, limit: &str) -> Self {
        Self::of(
            FindingKind::AnswerLate,
            format!(
                "{} accepted the request but did not respond within {limit}",
                target.describe()
            ),
            Vec::new(),
            Fix::text("check what the app is doing: it may still compile, or wait for a database"),
        )
    }

    /// The app answered with a server error.
    #[must_use]
    pub fn app_fails(target: &Target, status: u16) -> Self {
        Self::of(
            FindingKind::AppFails,
            format!(
                "the app on {} responds with a server error ({status})",
                target.describe()
            ),
            vec![format!("status {status}")],
            Fix::text("read the app's output: the request reached it"),
        )
    }
}
