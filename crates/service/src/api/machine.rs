use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bentlane_api_types::{Guide as GuideView, MachinePlan, PlannedStep};
use bentlane_checks::{MachineVerdict, ToReach};
use bentlane_model::{Pattern, Snapshot};
use bentlane_system::{Facts, Guide, OtherSystem, Part, ProgramStep, System};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::problem::{Problem, run_blocking};

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(show_machine))
        .routes(routes!(list_names_to_reach))
        .routes(routes!(show_plan))
        .routes(routes!(show_guide))
}

/// Show whether programs on this machine reach what routes serve, as the user of the service. What
/// was seen holds for five seconds.
#[utoipa::path(
    get, path = "/machine",
    responses((status = 200, body = MachineVerdict), (status = 500, body = Problem)),
)]
async fn show_machine(State(api): State<Arc<Api>>) -> Result<Json<MachineVerdict>, Problem> {
    let verdict = api.checks.machine.verdict().await;
    verdict.map(Json).ok_or_else(|| {
        let code = StatusCode::INTERNAL_SERVER_ERROR;
        Problem::new(code, "cannot observe the machine: see the service's log")
    })
}

/// List the names that a client looks up to see whether its machine reaches what routes serve.
#[utoipa::path(get, path = "/machine/names", responses((status = 200, body = ToReach)))]
async fn list_names_to_reach(State(api): State<Arc<Api>>) -> Json<ToReach> {
    Json(api.checks.machine.names_to_reach())
}

/// Show what `system attach` would change for the user of the service.
#[utoipa::path(
    get, path = "/machine/plan",
    responses((status = 200, body = MachinePlan), (status = 500, body = Problem)),
)]
async fn show_plan(State(api): State<Arc<Api>>) -> Result<Json<MachinePlan>, Problem> {
    let planning = run_blocking("the plan cannot be made", move || plan(&api));
    planning.await.map(Json)
}

fn plan(api: &Api) -> MachinePlan {
    let mut planned = MachinePlan {
        command: "sudo bentlane system attach".to_owned(),
        ..MachinePlan::default()
    };
    let facts = facts(api, &api.snapshot());
    let (facts, left_out) = facts.limited_to(&facts.zones);
    planned.left_out = left_out;
    match System::default().plan_attach(&[Part::Resolver], &facts) {
        Ok(plan) => {
            if let Some(ProgramStep::Install { to, .. }) = &plan.program {
                planned.steps.push(PlannedStep {
                    path: to.display().to_string(),
                    what: "a copy of this program that only root can change".to_owned(),
                    lines: Vec::new(),
                });
            }
            planned.steps.extend(plan.steps.iter().map(|step| {
                let (gone, new) = step.difference();
                let gone = gone.iter().map(|line| format!("-{line}"));
                PlannedStep {
                    path: step.path.display().to_string(),
                    what: step.in_words().to_owned(),
                    lines: gone
                        .chain(new.iter().map(|line| format!("+{line}")))
                        .collect(),
                }
            }));
        }
        Err(cause) => planned.left_out.push(cause.to_string()),
    }
    // A root of another kind is in no store by us.
    if let Some(ours) = api.pki.ours() {
        match ours.refusal() {
            Some(refused) => planned.left_out.push(refused.to_owned()),
            None => {
                let home = std::env::var_os("HOME").unwrap_or_default();
                let steps = ours.plan_attach(&[home.into()]);
                planned.steps.extend(steps.iter().map(|step| {
                    PlannedStep {
                        path: step.store.path.display().to_string(),
                        what: step.in_words(true),
                        lines: step
                            .roots
                            .iter()
                            .map(|root| format!("+{}", root.name))
                            .collect(),
                    }
                }));
            }
        }
    }
    planned
}

/// What the system has to know of this service.
fn facts(api: &Api, snapshot: &Snapshot) -> Facts {
    let listening = api.info.listening.https_ips();
    let configuration = snapshot.configuration();
    let names = configuration.routes.iter().filter_map(|route| {
        // A wildcard is no name.
        let Pattern::Exact(name) = &route.address.pattern else {
            return None;
        };
        Some((
            name.clone(),
            snapshot.addresses_of(name.as_str(), &listening),
        ))
    });
    Facts {
        owner: api.info.data_dir.root().to_owned(),
        program: "/proc/self/exe".into(),
        zones: configuration
            .zones
            .iter()
            .map(|zone| zone.name.clone())
            .collect(),
        dns: api.info.listening.dns.clone(),
        names: names.collect(),
    }
}

/// Show how a system that Bent Lane does not run on finds the names and trusts the root.
#[utoipa::path(
    get, path = "/machine/guides/{system}",
    params(("system" = String, Path, description = "`macos`, `windows`, `wsl` or `phone`")),
    responses((status = 200, body = GuideView), (status = 404, body = Problem)),
)]
async fn show_guide(
    State(api): State<Arc<Api>>,
    Path(system): Path<String>,
) -> Result<Json<GuideView>, Problem> {
    let mut known = OtherSystem::ALL.into_iter();
    let Some(system) = known.find(|it| it.as_str() == system) else {
        let detail = format!(
            "there is no guide for `{system}`: there are those for macos, windows, wsl and phone"
        );
        return Err(Problem::new(StatusCode::NOT_FOUND, detail));
    };
    let root = api.pki.authority.root();
    let facts = facts(&api, &api.snapshot());
    let guide = Guide::new(&facts, root.certificate_pem(), &root.summary().subject);
    Ok(Json(GuideView {
        text: guide.words(system),
        script: guide.script(system),
        file_name: system.file_name().to_owned(),
    }))
}
