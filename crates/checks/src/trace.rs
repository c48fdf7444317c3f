use serde::{Deserialize, Serialize};

use super::finding::Finding;
use super::judge::in_words;
use super::machine::Holder;
use super::observation::{Answer, Connect, Facts, Handshake, Resolve, Timed};
use bentlane_model::Name;
use bentlane_model::Pattern;
use bentlane_model::Route;
use bentlane_model::Target;
use bentlane_model::{HostField, Message, RouteSettings};

/// The way of one request, with the decision at each step and the time that it took.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Trace {
    /// The URL that was asked for.
    pub url: String,
    /// The steps, in the order of the way.
    pub steps: Vec<Step>,
    /// From the look-up to the last byte, in microseconds.
    pub micros: u64,
    /// Whether the app answered.
    pub arrived: bool,
    /// Why not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<Finding>,
}

/// One step of a request's way.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Step {
    /// Which: `resolve`, `listener`, `handshake`, `route`, `request`, `connect` or `answer`.
    pub step: String,
    /// When it began, in microseconds from the start; absent for a decision that takes no time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub begins: Option<u64>,
    /// How long it took, in microseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub micros: Option<u64>,
    /// What was decided, or came of it.
    pub decision: String,
    /// Why, and what else was considered.
    pub details: Vec<String>,
}

/// What was observed of one request.
#[derive(Clone, Debug)]
pub struct TraceSeen {
    /// The name asked of our resolver.
    pub resolve: Timed<Resolve>,
    /// A connection to our listener.
    pub listener: Timed<Result<(), String>>,
    /// The handshake on it.
    pub handshake: Timed<Handshake>,
    /// A connection to the target.
    pub target: Timed<Connect>,
    /// Who has the target's port.
    pub holder: Option<Holder>,
    /// The answer, and how long its last byte took.
    pub answer: Option<Timed<Answer>>,
}

/// Combines what was observed and what was decided.
#[must_use]
pub fn trace(facts: &Facts, seen: &TraceSeen) -> Trace {
    let mut line = Line::default();
    line.timed(
        "resolve",
        &seen.resolve,
        resolve_decision(facts, &seen.resolve.outcome),
    );
    line.timed(
        "listener",
        &seen.listener,
        (
            match &seen.listener.outcome {
                Ok(()) => format!("our listener at {}", facts.listener),
                Err(reason) => format!("our listener at {}: {reason}", facts.listener),
            },
            Vec::new(),
        ),
    );
    line.timed(
        "handshake",
        &seen.handshake,
        handshake_decision(facts, &seen.handshake.outcome),
    );
    line.decided("route", route_decision(facts));
    line.decided("request", request_decision(facts));
    if !matches!(seen.target.outcome, Connect::NotNeeded) {
        line.timed("connect", &seen.target, target_decision(facts, seen));
    }
    let (mut arrived, mut finding) = (false, None);
    if let Some(answer) = &seen.answer {
        line.timed("answer", answer, answer_decision(&answer.outcome));
        arrived = matches!(answer.outcome, Answer::Visit(_) | Answer::Accepted);
        if let Answer::OwnPage { finding: shown, .. } = &answer.outcome {
            finding = Some(Finding::clone(shown));
        }
    }
    Trace {
        url: facts.url.clone(),
        micros: line.now,
        steps: line.steps,
        arrived,
        finding,
    }
}

/// Steps, one after the other.
#[derive(Default)]
struct Line {
    steps: Vec<Step>,
    now: u64,
}

impl Line {
    fn timed<T>(
        &mut self,
        step: &str,
        timed: &Timed<T>,
        (decision, details): (String, Vec<String>),
    ) {
        let micros = u64::try_from(timed.took.as_micros()).unwrap_or(u64::MAX);
        self.steps.push(Step {
            step: step.to_owned(),
            begins: Some(self.now),
            micros: Some(micros),
            decision,
            details,
        });
        self.now = self.now.saturating_add(micros);
    }

    fn decided(&mut self, step: &str, (decision, details): (String, Vec<String>)) {
        self.steps.push(Step {
            step: step.to_owned(),
            begins: None,
            micros: None,
            decision,
            details,
        });
    }
}

fn resolve_decision(facts: &Facts, seen: &Resolve) -> (String, Vec<String>) {
    let name = facts.name.as_str();
    let Some(zone) = facts.snapshot.zone_of(name) else {
        return ("no zone covers the name".to_owned(), Vec::new());
    };
    let said = match seen {
        Resolve::Addresses(found) if found.is_empty() => "no address".to_owned(),
        Resolve::Addresses(found) => {
            let texts: Vec<String> = found.iter().map(ToString::to_string).collect();
            texts.join(", ")
        }
        Resolve::Code(code) => code.clone(),
        Resolve::Silent => "no answer".to_owned(),
        Resolve::Failed(reason) => reason.clone(),
    };
    let mut details = vec![format!("the zone {} covers the name", zone.name)];
    let records = facts.snapshot.records_for(name, zone);
    details.extend(
        records
            .iter()
            .map(|record| format!("the record {} {}", record.owner, record.data)),
    );
    let chosen = facts.snapshot.resolution(name);
    if let Some(address) = chosen.and_then(|chosen| chosen.address) {
        details.push(format!("the route has the address {address}"));
    }
    if let Some(alias) = chosen.and_then(|chosen| chosen.alias.as_ref()) {
        details.push(format!(
            "it stands for {alias}, to which its route redirects"
        ));
    }
    (said, details)
}

fn handshake_decision(facts: &Facts, seen: &Handshake) -> (String, Vec<String>) {
    let certificate = match &facts.pair {
        Some(pair) if pair.shown && pair.pinned => {
            format!(
                "the imported certificate {}, since the route insists on it",
                pair.name
            )
        }
        Some(pair) if pair.shown => {
            format!(
                "the imported certificate {}, since it covers the name",
                pair.name
            )
        }
        _ => format!("our certificate for {}", facts.name),
    };
    match seen {
        Handshake::Verified { version, protocol } => {
            (format!("{version}, {protocol}"), vec![certificate])
        }
        Handshake::NotNeeded => ("bytes as they are".to_owned(), Vec::new()),
        Handshake::Unreachable(reason) | Handshake::Failed(reason) => (reason.clone(), Vec::new()),
        Handshake::Untrusted { reason, .. } => (reason.clone(), vec![certificate]),
    }
}

/// The route that answers, and those that would have if it were not there.
fn route_decision(facts: &Facts) -> (String, Vec<String>) {
    let path =
        url::Url::parse(&facts.url).map_or_else(|_| "/".to_owned(), |url| url.path().to_owned());
    let own = &facts.route.address;
    let others = facts.snapshot.configuration().routes.iter();
    let others = others.filter(|route| {
        route.address != *own && route.address.port == own.port && covers(route, &facts.name)
    });
    let reason = |other: &Route| {
        let address = &other.address;
        if !address.prefix.matches(&path) {
            return format!("not {address}: {path} is not below {}", address.prefix);
        }
        match (&own.pattern, &address.pattern) {
            (one, other) if one == other => format!("not {address}: its path is shorter"),
            (Pattern::Exact(_), _) => {
                format!("not {address}: an exact name goes before a wildcard")
            }
            _ => format!("not {address}: the longer wildcard goes first"),
        }
    };
    let decision = format!("{own} leads to {}", facts.route.to);
    (decision, others.map(reason).collect())
}

fn covers(route: &Route, name: &Name) -> bool {
    match &route.address.pattern {
        Pattern::Exact(own) if route.settings.subdomains => name.is_within(own),
        Pattern::Exact(own) => own == name,
        Pattern::Wildcard(base) => name != base && name.is_within(base),
    }
}

/// What the target gets otherwise than the client sent it.
fn request_decision(facts: &Facts) -> (String, Vec<String>) {
    let RouteSettings {
        strip_prefix,
        host,
        set_headers,
        remove_headers,
        paused,
        trust_forwarded,
        ..
    } = &facts.route.settings;
    match facts.server() {
        _ if *paused => return ("the route is paused".to_owned(), Vec::new()),
        Target::Folder(_) | Target::Redirect(_) => {
            return (
                "answered by us, nothing is passed on".to_owned(),
                Vec::new(),
            );
        }
        Target::Port(_)
        | Target::Server { .. }
        | Target::Container(_)
        | Target::App(_)
        | Target::ByName(_) => {}
    }
    let own = facts.server().authority();
    let mut details = vec![format!(
        "adds Forwarded, X-Forwarded-For, -Host, -Port and -Proto, Via{}",
        if *trust_forwarded {
            ", behind what the client claims"
        } else {
            ""
        }
    )];
    if *strip_prefix {
        details.push(format!(
            "the path is sent without {}, which X-Forwarded-Prefix has",
            facts.route.address.prefix
        ));
    }
    let is_request = |message: Message| message == Message::Request;
    let set = set_headers.iter().filter(|field| is_request(field.message));
    details.extend(set.map(|field| format!("sets {}: {}", field.name, field.value)));
    let removed = remove_headers
        .iter()
        .filter(|field| is_request(field.message));
    details.extend(removed.map(|field| format!("removes {}", field.name)));
    let decision = match (host, own) {
        (HostField::Target, Some(own)) => format!("the Host becomes {own}"),
        _ => "the Host stays".to_owned(),
    };
    (decision, details)
}

fn target_decision(facts: &Facts, seen: &TraceSeen) -> (String, Vec<String>) {
    let details = seen.holder.iter().map(|holder| format!("that is {holder}"));
    match &seen.target.outcome {
        Connect::Open(at) => (at.to_string(), details.collect()),
        Connect::Closed { attempts, .. } => (
            format!("{} does not accept", facts.server().describe()),
            attempts.iter().map(ToString::to_string).collect(),
        ),
        Connect::Container(place) => {
            let finding = Finding::container(&facts.address(), facts.server(), place);
            (finding.map(|it| it.summary).unwrap_or_default(), Vec::new())
        }
        Connect::App(app) => {
            let finding = app.finding(facts.now, false);
            (finding.summary, finding.evidence)
        }
        Connect::UnknownHost { reason } => (reason.clone(), Vec::new()),
        Connect::NotNeeded => (String::new(), Vec::new()),
    }
}

fn answer_decision(seen: &Answer) -> (String, Vec<String>) {
    match seen {
        Answer::Visit(visit) => {
            let page = visit.first();
            let kind = page.value("content-type").map(|kind| format!(", {kind}"));
            let decision = format!(
                "status {}{}, {} bytes",
                page.status,
                kind.unwrap_or_default(),
                page.length
            );
            let first = in_words(visit.first_byte);
            let mut details = vec![format!("the first byte after {first}")];
            details.extend(page.location().map(|to| format!("leads on to {to}")));
            (decision, details)
        }
        Answer::Accepted => ("our listener accepts".to_owned(), Vec::new()),
        Answer::OwnPage { status, finding } => (
            format!("status {status}, a page of ours: {}", finding.summary),
            finding.evidence.clone(),
        ),
        Answer::Silent => ("no answer in time".to_owned(), Vec::new()),
        Answer::Failed(reason) => (reason.clone(), Vec::new()),
    }
}
