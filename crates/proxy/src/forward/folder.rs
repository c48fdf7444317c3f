//! Requests that a folder answers, or the app behind it.

use std::sync::Arc;

use bentlane_model::{Folder, without_prefix};
use http::Response;

use super::Client;
use crate::error_page::ErrorPage;
use crate::failure::file_failure;
use crate::files::{self, FolderRules};
use crate::outgoing::OutgoingRequest;
use crate::pool::Pool;
use crate::response_body::ResponseBody;
use crate::routing_table::Found;

/// What answers a request.
pub(super) enum Answered<'a> {
    /// We do, with this.
    Here(Box<Response<ResponseBody>>),
    /// A target.
    By(&'a Arc<Pool>),
}

impl Client {
    /// Answers with a file of `folder`, or leaves it to the app behind the folder.
    pub(super) async fn answer_with_file<'a>(
        &self,
        ask: &OutgoingRequest,
        name: &str,
        folder: &Folder,
        found: Found<'a>,
    ) -> Result<Answered<'a>, Box<ErrorPage>> {
        let (rules, parts) = (found.rules, &ask.parts);
        let app = rules.and_then(|rules| rules.behind_folder.as_ref());
        if let Some(app) = app
            && ask.upgrade.is_some()
        {
            return Ok(Answered::By(app));
        }
        let stripped = rules.and_then(|rules| rules.stripped.as_deref());
        let path = without_prefix(parts.uri.path(), stripped.unwrap_or_default());
        let how = FolderRules {
            fallback: rules.and_then(|rules| rules.fallback.as_deref()),
            sources: rules.is_some_and(|rules| rules.sources),
            has_app: app.is_some(),
        };
        match (files::answer(folder, how, &path, parts).await, app) {
            (Ok(response), _) => Ok(Answered::Here(Box::new(response))),
            (Err(error), Some(app)) if error.is_for_app() => Ok(Answered::By(app)),
            (Err(error), _) => Err(file_failure(
                name,
                found.routed.route,
                parts.uri.path(),
                &error,
            )),
        }
    }
}
