use axum::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE};
use axum::http::{Method, StatusCode, Uri};
use axum::response::{Html, IntoResponse, Response};
use data_encoding::BASE64URL_NOPAD;
use rust_embed::RustEmbed;

/// The built console. Its folder may be missing while only Rust is worked on.
#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Assets;

/// Scripts, styles and fonts come from the service alone, and no page may frame the console.
/// Styles that scripts add carry a nonce, new with each page (CSP 3 §6.7.2.2).
fn policy(nonce: &str) -> String {
    format!(
        "default-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self' data:; \
         frame-ancestors 'none'; base-uri 'none'; form-action 'none'"
    )
}

/// Where the page has the nonce.
const NONCE_PLACE: &str = "%STYLE_NONCE%";
/// Bytes of a nonce.
const NONCE_BYTES: usize = 16;

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
    let nonce = BASE64URL_NOPAD.encode(&rand::random::<[u8; NONCE_BYTES]>());
    let headers = [
        (CONTENT_TYPE, "text/html; charset=utf-8".to_owned()),
        (CACHE_CONTROL, "no-store".to_owned()),
        (CONTENT_SECURITY_POLICY, policy(&nonce)),
    ];
    let page = String::from_utf8_lossy(&page.data).replace(NONCE_PLACE, &nonce);
    (headers, page).into_response()
}

const NOT_BUILT: &str = "<!doctype html><title>Bent Lane</title><p>This binary was built without \
                         the console. Run <code>npm ci && npm run build</code> in \
                         <code>console/</code> and build it again.</p>";
