use std::path::PathBuf;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use axum::http::{HeaderMap, HeaderValue};
use axum::response::IntoResponse;
use bentlane_api_types::{AuthorityView, ImportRoot, Protect, StoreView, Stores, Unlock};
use bentlane_ca::{BUNDLE_PASSWORD, Form, Passphrase, Safe, chain_pem};
use bentlane_model::Name;
use bentlane_system::{ClientTrust, StoreKind, TrustState, read_file};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::guard::Trusted;
use super::problem::{Body, Problem, Query, run_blocking, whole_path};
use crate::listening::OWN_NAME;
use crate::pki::{AuthorityStoreError, BUNDLE, LARGEST_FILE, Pki, owner};

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ExportRoot {
    /// The form: `pem`, `der`, `pkcs12` or `apple-profile`.
    #[param(inline)]
    form: Form,
    /// The password of a PKCS#12 bundle, `changeit` when none is given.
    password: Option<String>,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(show_authority))
        .routes(routes!(export_root))
        .routes(routes!(list_stores))
        .routes(routes!(rotate))
        .routes(routes!(import_root))
        .routes(routes!(unlock))
        .routes(routes!(protect))
}

fn view(api: &Api) -> Result<AuthorityView, Problem> {
    let root = api.pki.authority.root();
    let texts = |names: &[Name]| names.iter().map(ToString::to_string).collect::<Vec<_>>();
    let served = &api.pki.served;
    let issuer = served.issuer();
    let snapshot = api.snapshot();
    let zones = snapshot.configuration().zones.iter().map(|zone| &zone.name);
    let uncovered = zones.filter(|zone| !issuer.covers(zone));
    Ok(AuthorityView {
        summary: root.summary().clone(),
        limits: root.limits().map(|limits| texts(limits.names())),
        unconstrained: !root.is_constrained(),
        keys: api.pki.keys_of_roots().into_iter().collect(),
        covers: texts(issuer.limits().names()),
        uncovered: uncovered.map(ToString::to_string).collect(),
        locked: api
            .pki
            .authority
            .is_locked()
            .map_err(AuthorityStoreError::from)?,
        issuing_until: issuer.not_after(),
        follows_another: root.cross().is_some(),
        certificate_pem: root.certificate_pem().to_owned(),
        bundle: api.info.data_dir.path(BUNDLE).display().to_string(),
        server_chain: served
            .shown(OWN_NAME)
            .map(|shown| chain_pem(&shown.chain))
            .unwrap_or_default(),
        server_name: OWN_NAME.to_owned(),
    })
}

/// Whether `passphrase` may be a new one.
pub(super) fn check_length(
    field: &'static str,
    passphrase: Option<&Passphrase>,
) -> Result<(), Problem> {
    if passphrase.is_none_or(Passphrase::is_long_enough) {
        return Ok(());
    }
    let shortest = Passphrase::SHORTEST;
    let reason = format!("a passphrase has {shortest} characters at least");
    Err(Problem::value(field, reason))
}

/// Changes the authority, one change at a time and away from the threads that serve.
async fn change(
    api: Arc<Api>,
    change: impl FnOnce(&Pki) -> Result<(), AuthorityStoreError> + Send + 'static,
) -> Result<Json<AuthorityView>, Problem> {
    let _changing = api.pki.lock().await;
    let pki = Arc::clone(&api.pki);
    run_blocking("the authority was not changed", move || change(&pki)).await??;
    view(&api).map(Json)
}

/// Show the authority. The root's key stays where it is.
#[utoipa::path(get, path = "/authority", responses((status = 200, body = AuthorityView)))]
async fn show_authority(State(api): State<Arc<Api>>) -> Result<Json<AuthorityView>, Problem> {
    view(&api).map(Json)
}

/// List who goes by which trust store of this machine, and whether they trust our root when they are
/// started now: the chain that our own server shows is verified with the store's roots.
#[utoipa::path(get, path = "/authority/stores", responses((status = 200, body = Stores)))]
async fn list_stores(State(api): State<Arc<Api>>) -> Result<Json<Stores>, Problem> {
    let ours = api.pki.ours();
    let looking = run_blocking("the trust stores cannot be looked at", move || {
        let home = std::env::var_os("HOME").unwrap_or_default();
        ours.map(|ours| ours.clients(home.as_ref()))
            .unwrap_or_default()
    });
    let stores = looking.await?.into_iter().map(|seen: ClientTrust| {
        let (word, reason) = match seen.state {
            TrustState::Trusted => ("trusted", None),
            TrustState::Former => ("former", None),
            TrustState::NotTrusted { reason } => ("not-trusted", Some(reason)),
            TrustState::Unknown { reason } => ("unknown", Some(reason)),
        };
        StoreView {
            client: seen.client,
            kind: match seen.kind {
                StoreKind::System => "system",
                StoreKind::Browser => "browser",
                StoreKind::Policy => "policy",
                StoreKind::Java => "java",
            }
            .to_owned(),
            path: seen.store.display().to_string(),
            state: word.to_owned(),
            reason,
        }
    });
    Ok(Json(Stores {
        stores: stores.collect(),
    }))
}

/// Export the root certificate in a form that a trust store takes.
#[utoipa::path(
    get, path = "/authority/root", params(ExportRoot),
    responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream"), (status = 400, body = Problem)),
)]
async fn export_root(
    State(api): State<Arc<Api>>,
    Query(ExportRoot { form, password }): Query<ExportRoot>,
) -> Result<impl IntoResponse, Problem> {
    api.pki
        .authority
        .hand_out()
        .map_err(AuthorityStoreError::from)?;
    let root = api.pki.authority.root();
    let password = password.unwrap_or_else(|| BUNDLE_PASSWORD.to_owned());
    // A bundle's key is derived from its password, which takes a while by design.
    let making = run_blocking("the root was not exported", move || {
        form.of(&root, &password)
    });
    let octets = making.await?;
    let octets = octets.map_err(AuthorityStoreError::from)?;
    let mut headers = HeaderMap::new();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(form.media_type()));
    let name = format!("attachment; filename=\"{}\"", form.file_name());
    if let Ok(name) = name.parse() {
        headers.insert(CONTENT_DISPOSITION, name);
    }
    Ok((headers, octets))
}

/// Make the next root, certified by this one, with limits that hold every zone. It is in force when
/// this returns; stores that trust this one keep working until it expires.
#[utoipa::path(
    post, path = "/authority/rotate", request_body = Unlock,
    responses(
        (status = 200, body = AuthorityView), (status = 403, body = Problem),
        (status = 409, body = Problem), (status = 429, body = Problem),
    ),
)]
async fn rotate(
    State(api): State<Arc<Api>>,
    _: Trusted,
    Body(Unlock { passphrase }): Body<Unlock>,
) -> Result<Json<AuthorityView>, Problem> {
    let snapshot = api.snapshot();
    change(api, move |pki| {
        let zones = snapshot.configuration().zones.iter();
        let zones = zones.map(|zone| zone.name.clone());
        pki.authority.rotate(passphrase.as_ref(), &owner(), zones)?;
        pki.use_new_root()
    })
    .await
}

/// Replace the root by one from another machine or system; the former is kept beside it. The new root is
/// in force when this returns, and has to be trusted where it is not yet.
#[utoipa::path(
    post, path = "/authority/import", request_body = ImportRoot,
    responses(
        (status = 200, body = AuthorityView), (status = 403, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem), (status = 429, body = Problem),
    ),
)]
async fn import_root(
    State(api): State<Arc<Api>>,
    _: Trusted,
    Body(request): Body<ImportRoot>,
) -> Result<Json<AuthorityView>, Problem> {
    let read = |field, path: &PathBuf| {
        whole_path(field, path)?;
        let text = read_file(path, LARGEST_FILE).map_err(|error| Problem::value(field, error))?;
        String::from_utf8(text)
            .map_err(|_| Problem::value(field, format!("{} is no text", path.display())))
    };
    let certificate = read("certificate", &request.certificate)?;
    let safe = Safe::of_files(&certificate, &read("key", &request.key)?);
    let safe = safe.map_err(|error| Problem::value("key", error))?;
    change(api, move |pki| {
        let (passphrase, unconstrained) = (request.passphrase.as_ref(), request.unconstrained);
        pki.authority.import(&safe, passphrase, unconstrained)?;
        pki.use_new_root()
    })
    .await
}

/// Use the root's key once, to make the issuing certificate again for the present zones.
#[utoipa::path(
    post, path = "/authority/unlock", request_body = Unlock,
    responses((status = 200, body = AuthorityView), (status = 403, body = Problem), (status = 429, body = Problem)),
)]
async fn unlock(
    State(api): State<Arc<Api>>,
    Body(Unlock { passphrase }): Body<Unlock>,
) -> Result<Json<AuthorityView>, Problem> {
    change(api, move |pki| pki.unlock(passphrase.as_ref())).await
}

/// Keep the root's key under a passphrase from now on, or under none.
#[utoipa::path(
    post, path = "/authority/protect", request_body = Protect,
    responses(
        (status = 200, body = AuthorityView), (status = 403, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem), (status = 429, body = Problem),
    ),
)]
async fn protect(
    State(api): State<Arc<Api>>,
    _: Trusted,
    Body(Protect { passphrase, next }): Body<Protect>,
) -> Result<Json<AuthorityView>, Problem> {
    check_length("next", next.as_ref())?;
    change(api, move |pki| {
        pki.authority.protect(passphrase.as_ref(), next.as_ref())
    })
    .await
}
