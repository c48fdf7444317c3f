use cookie::{Cookie, SameSite};

use crate::advice::is_public_suffix;
use bentlane_model::is_at_or_below;

/// Bytes of name and value that browsers keep at most (RFC 6265bis §5.6).
const LARGEST: usize = 4096;

/// A cookie that a browser does not keep.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Dropped {
    /// Its name.
    pub(crate) name: String,
    /// Why.
    pub(crate) reason: String,
    /// Whether it names a domain that is not the name's, as of an app that knows another host.
    pub(crate) foreign: bool,
}

/// Whether a browser drops the cookie of a `Set-Cookie` field that came from `host` over TLS (RFC
/// 6265bis §5.7), and why.
pub(crate) fn dropped(field: &str, host: &str) -> Option<Dropped> {
    let cookie = Cookie::parse(field.to_owned()).ok()?;
    let domain = cookie.domain().map(|domain| domain.to_ascii_lowercase());
    let secure = cookie.secure() == Some(true);
    let foreign = domain
        .as_deref()
        .is_some_and(|domain| !is_at_or_below(host, domain));
    let shared = |domain: &&String| **domain != *host && is_public_suffix(domain);
    let reason = if let (true, Some(domain)) = (foreign, &domain) {
        format!("`Domain={domain}` is not a domain of {host}")
    } else if let Some(domain) = domain.as_ref().filter(shared) {
        format!("`Domain={domain}` is a public suffix or a single label: no cookie is shared there")
    } else if cookie.same_site() == Some(SameSite::None) && !secure {
        "`SameSite=None` needs `Secure`".to_owned()
    } else if cookie.name().starts_with("__Secure-") && !secure {
        "a name that begins with `__Secure-` needs `Secure`".to_owned()
    } else if cookie.name().starts_with("__Host-")
        && (!secure || domain.is_some() || cookie.path() != Some("/"))
    {
        "a name that begins with `__Host-` needs `Secure`, `Path=/` and no `Domain`".to_owned()
    } else if cookie.name().len() + cookie.value().len() > LARGEST {
        format!("name and value are longer than {LARGEST} bytes")
    } else {
        return None;
    };
    Some(Dropped {
        name: cookie.name().to_owned(),
        reason,
        foreign,
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("a=1", None)]
    #[case("a=1; Domain=moor.test; Secure; HttpOnly; Path=/x; SameSite=Lax", None)]
    #[case("a=1; Domain=.booking.moor.test", None)]
    #[case("a=1; Domain=localhost", Some("not a domain of"))]
    #[case("a=1; Domain=other.moor.test", Some("not a domain of"))]
    #[case("a=1; Domain=test", Some("single label"))]
    #[case("a=1; SameSite=None", Some("needs `Secure`"))]
    #[case("a=1; SameSite=None; Secure", None)]
    #[case("__Secure-a=1", Some("needs `Secure`"))]
    #[case("__Host-a=1; Secure; Path=/", None)]
    #[case(
        "__Host-a=1; Secure; Path=/; Domain=booking.moor.test",
        Some("`__Host-`")
    )]
    #[case("__Host-a=1; Secure", Some("`Path=/`"))]
    fn cookies(#[case] field: &str, #[case] reason: Option<&str>) {
        let found = dropped(field, "booking.moor.test");
        match (&found, reason) {
            (None, None) => {}
            (Some(found), Some(reason)) => assert!(found.reason.contains(reason), "{found:?}"),
            _ => panic!("{found:?}"),
        }
    }

    #[test]
    fn large_cookies_go() {
        let field = format!("a={}", "x".repeat(LARGEST));
        assert!(dropped(&field, "moor.test").is_some());
    }
}
