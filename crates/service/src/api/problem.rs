use std::path::Path;

use axum::extract::rejection::{JsonRejection, QueryRejection};
use axum::http::header::CONTENT_TYPE;
use axum::http::{HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use bentlane_api_types::{self as types, FieldError};
use bentlane_ca::AuthorityError;
use bentlane_model::{Invalid, Rejection, chain};
use bentlane_store::{DataDirError, StoreError};
use tokio::task::spawn_blocking;
use tracing::error;
use utoipa::openapi::{RefOr, Schema};
use utoipa::{PartialSchema, ToSchema};

use crate::configuration::ChangeError;
use crate::pki::AuthorityStoreError;
use crate::storage::CallError;

/// An error as it is answered with.
#[derive(Clone, Debug)]
pub(crate) struct Problem(pub(crate) types::Problem);

/// In the document it is what is in it.
impl PartialSchema for Problem {
    fn schema() -> RefOr<Schema> {
        types::Problem::schema()
    }
}

impl ToSchema for Problem {
    fn schemas(schemas: &mut Vec<(String, RefOr<Schema>)>) {
        types::Problem::schemas(schemas);
    }
}

impl Problem {
    pub(crate) fn new(status: StatusCode, detail: impl Into<String>) -> Self {
        Self(types::Problem {
            title: status.canonical_reason().unwrap_or_default().to_owned(),
            status: status.as_u16(),
            detail: detail.into(),
            errors: Vec::new(),
        })
    }

    pub(crate) fn invalid(status: StatusCode, errors: &[Invalid]) -> Self {
        let detail: Vec<String> = errors.iter().map(ToString::to_string).collect();
        let errors = errors
            .iter()
            .map(|e| FieldError {
                field: e.field.to_owned(),
                reason: e.reason.clone(),
            })
            .collect();
        let mut problem = Self::new(status, detail.join("; "));
        problem.0.errors = errors;
        problem
    }

    /// The same, of one thing among many.
    pub(crate) fn of(mut self, name: &str) -> Self {
        self.0.detail = format!("{name}: {}", self.0.detail);
        self
    }

    /// A value in a path or query that does not parse.
    pub(crate) fn value(field: &'static str, error: impl ToString) -> Self {
        Self::invalid(
            StatusCode::UNPROCESSABLE_ENTITY,
            &[Invalid::new(field, error)],
        )
    }
}

/// Runs work that takes long away from the threads that serve. `failed` is the error when it panics.
pub(crate) async fn run_blocking<T: Send + 'static>(
    failed: &'static str,
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, Problem> {
    spawn_blocking(work).await.map_err(|cause| {
        error!(%cause, failed);
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, failed)
    })
}

/// A path has to be absolute: the service has another working folder.
pub(crate) fn whole_path(field: &'static str, path: &Path) -> Result<(), Problem> {
    if path.is_absolute() {
        return Ok(());
    }
    Err(Problem::value(
        field,
        "the service needs the whole path of the file",
    ))
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status =
            StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, axum::Json(self.0)).into_response();
        let media = HeaderValue::from_static("application/problem+json");
        response.headers_mut().insert(CONTENT_TYPE, media);
        response
    }
}

impl From<Vec<Invalid>> for Problem {
    fn from(errors: Vec<Invalid>) -> Self {
        Self::invalid(StatusCode::UNPROCESSABLE_ENTITY, &errors)
    }
}

impl From<Rejection> for Problem {
    fn from(rejection: Rejection) -> Self {
        match rejection {
            Rejection::Invalid(invalid) => {
                Self::invalid(StatusCode::UNPROCESSABLE_ENTITY, &[invalid])
            }
            Rejection::Several(invalid) => invalid.into(),
            Rejection::Taken(invalid) => Self::invalid(StatusCode::CONFLICT, &[invalid]),
            conflict @ (Rejection::Conflicts(_) | Rejection::Held { .. }) => {
                Self::new(StatusCode::CONFLICT, conflict.to_string())
            }
            missing @ Rejection::Missing { .. } => {
                Self::new(StatusCode::NOT_FOUND, missing.to_string())
            }
        }
    }
}

impl From<DataDirError> for Problem {
    fn from(failure: DataDirError) -> Self {
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, chain(&failure))
    }
}

impl From<StoreError> for Problem {
    fn from(failure: StoreError) -> Self {
        match failure {
            StoreError::Rejected(rejection) => rejection.into(),
            StoreError::NothingToUndo | StoreError::NoSuchChange { .. } => {
                Self::new(StatusCode::NOT_FOUND, failure.to_string())
            }
            StoreError::Moved { .. } => Self::new(
                StatusCode::PRECONDITION_FAILED,
                format!("{failure}; read it again, and repeat the change"),
            ),
            StoreError::Unreachable(_) => Self::new(
                StatusCode::SERVICE_UNAVAILABLE,
                format!(
                    "{}; nothing was changed, and routes work as before: try again",
                    chain(&failure)
                ),
            ),
            StoreError::Later { .. }
            | StoreError::Unreadable { .. }
            | StoreError::Url { .. }
            | StoreError::Database(_) => {
                error!(cause = chain(&failure), "the database failed");
                Self::new(StatusCode::INTERNAL_SERVER_ERROR, chain(&failure))
            }
        }
    }
}

impl From<CallError> for Problem {
    fn from(failure: CallError) -> Self {
        match failure {
            CallError::Unavailable(unavailable) => Self::new(
                StatusCode::SERVICE_UNAVAILABLE,
                format!("{unavailable}; nothing was changed, and routes work as before"),
            ),
            CallError::Store(failure) => failure.into(),
        }
    }
}

impl From<ChangeError> for Problem {
    fn from(failure: ChangeError) -> Self {
        match failure {
            ChangeError::Database(failure) => failure.into(),
            // Only this is answered with 504: clients ask again by it.
            ChangeError::Unknown { ref key, .. } => Self::new(
                StatusCode::GATEWAY_TIMEOUT,
                format!(
                    "{}; whether it was made is not known yet: repeat the call with \
                     `Idempotency-Key: {key}`, which makes it once",
                    chain(&failure)
                ),
            ),
            ChangeError::Authority(failure) => failure.into(),
            ChangeError::Thread(_) => {
                error!(cause = chain(&failure), "a change failed");
                Self::new(StatusCode::INTERNAL_SERVER_ERROR, chain(&failure))
            }
        }
    }
}

impl From<AuthorityStoreError> for Problem {
    fn from(failure: AuthorityStoreError) -> Self {
        let status = match &failure {
            AuthorityStoreError::Authority(AuthorityError::Locked) => StatusCode::CONFLICT,
            AuthorityStoreError::Authority(AuthorityError::WrongPassphrase) => {
                StatusCode::FORBIDDEN
            }
            AuthorityStoreError::TooManyTries => StatusCode::TOO_MANY_REQUESTS,
            AuthorityStoreError::Authority(
                AuthorityError::Certificate
                | AuthorityError::Key
                | AuthorityError::NotAnAuthority
                | AuthorityError::CannotLock
                | AuthorityError::Unconstrained
                | AuthorityError::KeyMismatch
                | AuthorityError::NotValid { .. },
            ) => StatusCode::UNPROCESSABLE_ENTITY,
            AuthorityStoreError::Authority(_) | AuthorityStoreError::DataDir(_) => {
                error!(cause = chain(&failure), "the authority failed");
                StatusCode::INTERNAL_SERVER_ERROR
            }
        };
        Self::new(status, chain(&failure))
    }
}

impl From<JsonRejection> for Problem {
    fn from(rejection: JsonRejection) -> Self {
        Self::new(rejection.status(), rejection.body_text())
    }
}

impl From<QueryRejection> for Problem {
    fn from(rejection: QueryRejection) -> Self {
        Self::new(rejection.status(), rejection.body_text())
    }
}

/// A JSON body; one that does not parse is a [`Problem`] too.
#[derive(axum::extract::FromRequest)]
#[from_request(via(axum::Json), rejection(Problem))]
pub(crate) struct Body<T>(pub(crate) T);

/// A query; one that does not parse is a [`Problem`] too.
#[derive(axum::extract::FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(Problem))]
pub(crate) struct Query<T>(pub(crate) T);
