use axum::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE};
use axum::http::{Method, StatusCode, Uri};
use axum::response::{Html, IntoResponse, Response};
use rust_embed::RustEmbed;

/// The built console. Its folder may be missing while only Rust is worked on.
#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Assets;

/// Scripts, styles and fonts come from the service alone, and no page may frame the console.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
                      frame-ancestors 'none'; base-uri 'none'; form-action 'none'";

/// Serves the console's files, and its page for every other path, since the page routes by itself.
pub(crate) async fn serve(method: Method, uri: Uri) -> Response {
    if method != Method::GET && method != Method::HEAD {
        return StatusCode::METHOD_NOT_ALLOWED.into_response();
    }
    let path = uri.path().trim_start_matches('/');
    if let Some(file) = Assets::get(path) {
        let media = file.metadata.mimetype().to_owned();
        // Built files carry a digest of their content in their name; the page does not.
        let forever = path.starts_with("assets/");
        let caching = if forever {
            "public, max-age=31536000, immutable"
        } else {
            "no-cache"
        };
        return (
            [(CONTENT_TYPE, media), (CACHE_CONTROL, caching.to_owned())],
            file.data,
        )
            .into_response();
    }
    let Some(page) = Assets::get("index.html") else {
        return (StatusCode::NOT_FOUND, Html(NOT_BUILT)).into_response();
    };
    let headers = [
        (CONTENT_TYPE, "text/html; charset=utf-8"),
        (CACHE_CONTROL, "no-cache"),
        (CONTENT_SECURITY_POLICY, POLICY),
    ];
    (headers, page.data).into_response()
}

const NOT_BUILT: &str = "<!doctype html><title>Bent Lane</title><p>This binary was built without \
                         the console. Run <code>npm ci && npm run build</code> in \
                         <code>console/</code> and build it again.</p>";
