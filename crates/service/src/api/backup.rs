use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::{DefaultBodyLimit, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use bentlane_api_types::{BACKUP_FORM, Backup, BackupInput, RestoreFrom, RestoreInput, Restored};
use bentlane_ca::{AuthorityError, Passphrase, seal, unseal};
use bentlane_store::Contents;
use time::OffsetDateTime;
use tokio::sync::oneshot;
use tokio::time::timeout;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::authority::check_length;
use super::guard::{Caller, Trusted};
use super::problem::{Body, Problem, run_blocking};
use crate::configuration::ChangedBy;
use crate::pki::AuthorityStoreError;
use crate::storage::{PendingRestore, Restore};

/// How long a database may take to be connected to and restored.
const RESTORE_LIMIT: Duration = Duration::from_secs(30);
/// How long everything may take to be read.
const COPY_LIMIT: Duration = Duration::from_secs(60);
/// Bytes of a backup: a hundred thousand routes, each changed several times.
const LARGEST: usize = 256 * 1024 * 1024;

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    let restoring = OpenApiRouter::new().routes(routes!(restore));
    OpenApiRouter::new()
        .routes(routes!(back_up))
        .merge(restoring.layer(DefaultBodyLimit::max(LARGEST)))
}

/// Make a copy of the configuration and the journal, and of the keys under a passphrase.
#[utoipa::path(
    post, path = "/backup", request_body = BackupInput,
    responses(
        (status = 200, body = Backup), (status = 403, body = Problem), (status = 422, body = Problem),
        (status = 503, body = Problem),
    ),
)]
async fn back_up(
    State(api): State<Arc<Api>>,
    _: Trusted,
    Body(BackupInput { passphrase }): Body<BackupInput>,
) -> Result<Json<Backup>, Problem> {
    check_length("passphrase", passphrase.as_ref())?;
    let copying = api
        .storage
        .call_within(COPY_LIMIT, async |store| store.contents().await);
    let Contents {
        configuration,
        journal,
    } = copying.await?;
    let keys = match passphrase {
        None => None,
        Some(passphrase) => {
            let _changing = api.pki.lock().await;
            let files = api.pki.key_files().map_err(AuthorityStoreError::from)?;
            let sealing = run_blocking("the keys were not copied", move || {
                let text = serde_json::to_vec(&files).map_err(|_| AuthorityError::Key)?;
                seal(&text, &passphrase)
            });
            Some(sealing.await?.map_err(AuthorityStoreError::from)?)
        }
    };
    Ok(Json(Backup {
        bentlane_backup: BACKUP_FORM,
        version: env!("CARGO_PKG_VERSION").to_owned(),
        made_at: OffsetDateTime::now_utc(),
        configuration,
        journal,
        keys,
    }))
}

/// Restore a backup, or decide what to go by when the database is not the one that was in use.
#[utoipa::path(
    post, path = "/restore", request_body = RestoreInput,
    responses(
        (status = 200, body = Restored), (status = 403, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem), (status = 503, body = Problem),
    ),
)]
async fn restore(
    State(api): State<Arc<Api>>,
    _: Trusted,
    Extension(Caller { by, .. }): Extension<Caller>,
    Body(input): Body<RestoreInput>,
) -> Result<Json<Restored>, Problem> {
    let RestoreInput {
        from,
        backup,
        passphrase,
    } = input;
    let known = api.storage.fault().is_none();
    let (what, keys) = match (from, backup) {
        (RestoreFrom::Backup, Some(backup)) => {
            let (contents, keys) = read(backup, passphrase).await?;
            (Restore::Backup(Arc::new(contents)), keys)
        }
        (RestoreFrom::Backup, None) => {
            return Err(Problem::value("backup", "it is missing"));
        }
        _ if known => {
            let detail =
                "the database is in use, and is the known one: there is nothing to restore";
            return Err(Problem::new(StatusCode::CONFLICT, detail));
        }
        (RestoreFrom::LastKnownGood, _) => (Restore::LastKnownGood, None),
        (RestoreFrom::Database, _) => (Restore::Database, None),
    };
    let journal = match (&what, known) {
        (Restore::Backup(backup), true) => {
            api.configuration.restore(&by, Arc::clone(backup)).await?
        }
        _ => restore_at_connecting(&api, by, what).await?,
    };
    let restored_keys = keys.is_some();
    if let Some(files) = keys {
        let _changing = api.pki.lock().await;
        let pki = Arc::clone(&api.pki);
        run_blocking("the keys were not restored", move || {
            pki.restore_keys(&files)
        })
        .await??;
    }
    let snapshot = api.snapshot();
    let configuration = snapshot.configuration();
    Ok(Json(Restored {
        revision: configuration.revision,
        zones: configuration.zones.len(),
        routes: configuration.routes.len(),
        apps: configuration.apps.len(),
        journal,
        keys: restored_keys,
    }))
}

/// Checks everything in `backup`, so that nothing is changed by one that cannot be restored whole.
async fn read(
    backup: Backup,
    passphrase: Option<Passphrase>,
) -> Result<(Contents, Option<BTreeMap<String, String>>), Problem> {
    if backup.bentlane_backup != BACKUP_FORM {
        let reason = format!(
            "it has the form {}, written by version {}: use that version, or a later one",
            backup.bentlane_backup, backup.version
        );
        return Err(Problem::value("backup", reason));
    }
    let keys = match (backup.keys, passphrase) {
        (Some(sealed), Some(passphrase)) => {
            let opening = run_blocking("the keys were not read", move || {
                let text = unseal(&sealed, &passphrase)?;
                serde_json::from_slice(&text).map_err(|_| AuthorityError::Key)
            });
            Some(opening.await?.map_err(|cause| match cause {
                AuthorityError::WrongPassphrase => {
                    Problem::value("passphrase", "it is not the one of the backup's keys")
                }
                _ => Problem::value("backup", "its keys are damaged"),
            })?)
        }
        (None, Some(_)) => return Err(Problem::value("backup", "it has no keys")),
        (_, None) => None,
    };
    backup.configuration.check_all()?;
    let contents = Contents {
        configuration: backup.configuration,
        journal: backup.journal,
    };
    Ok((contents, keys))
}

/// Has the task of the database restore `what` once it has connected, and waits for that.
async fn restore_at_connecting(api: &Api, by: ChangedBy, what: Restore) -> Result<bool, Problem> {
    let (done, restored) = oneshot::channel();
    api.storage.set_restore(PendingRestore { what, by, done });
    let outcome = timeout(RESTORE_LIMIT, restored).await;
    if let Ok(Ok(with_journal)) = outcome {
        api.configuration.finish_change().await;
        return Ok(with_journal);
    }
    drop(api.storage.take_restore());
    let cause = api.storage.fault();
    let cause = cause.unwrap_or_else(|| "the connection was lost meanwhile".to_owned());
    let detail = format!("nothing was restored: {cause}");
    Err(Problem::new(StatusCode::SERVICE_UNAVAILABLE, detail))
}
