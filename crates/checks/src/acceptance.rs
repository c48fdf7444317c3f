use serde::Serialize;

use crate::advice::{AdviceKind, advice_for_zone};
use bentlane_model::Pattern;
use bentlane_model::{Name, is_at_or_below};

/// Whether others take a name of ours, for one purpose.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Acceptance {
    /// What they are to take it for.
    pub purpose: &'static str,
    /// Whether they usually do.
    pub accepted: Accepted,
    /// What to give them.
    pub value: String,
    /// Why, with the standard that says so.
    pub reason: String,
}

/// How likely others take a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Accepted {
    /// The standards allow it.
    Yes,
    /// The standards allow it, and many providers want more than they say.
    Often,
    /// It cannot work.
    No,
}

impl Accepted {
    /// In a word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Yes => "yes",
            Self::Often => "not by all",
            Self::No => "no",
        }
    }
}

/// What kind of name it is, to a service that only knows public names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    /// `localhost`, or below it.
    Loopback,
    /// In a domain that can be registered.
    Public,
    /// Under a suffix that is reserved or does not exist.
    Private,
}

/// Whether third parties take the names of `pattern` in `zone`, served on `port`, for single sign-on
/// and what goes with it.
#[must_use]
pub fn acceptance(pattern: &Pattern, zone: &Name, port: u16) -> Vec<Acceptance> {
    let name = pattern.to_string();
    let kind = kind_of(zone);
    let at = if port == 443 {
        String::new()
    } else {
        format!(":{port}")
    };
    let url = format!("https://{name}{at}/callback");
    let wildcard = matches!(pattern, Pattern::Wildcard(_));
    let with_port = if port == 443 {
        ""
    } else {
        "; the port is a part of it"
    };
    vec![
        redirect("OAuth 2.0 redirect", url.clone(), kind, wildcard, with_port),
        openid(url, kind, wildcard, with_port),
        Acceptance {
            purpose: "SAML assertion consumer",
            accepted: if wildcard {
                Accepted::No
            } else {
                Accepted::Yes
            },
            value: format!("https://{name}{at}/saml/acs"),
            reason: match wildcard {
                true => {
                    "the response names one URL, so each name is registered by itself (SAML 2.0 \
                         Core §3.2.2)"
                        .to_owned()
                }
                false => {
                    "the browser carries the assertion, so the provider never looks the name up \
                          (SAML 2.0 Bindings §3.5)"
                        .to_owned()
                }
            },
        },
        Acceptance {
            purpose: "webhooks",
            accepted: Accepted::No,
            value: String::new(),
            reason: match kind {
                Kind::Public => {
                    "the sender looks the name up by itself, and finds what is really there"
                }
                _ => "the sender looks the name up by itself, and does not find it",
            }
            .to_owned(),
        },
        cookies(zone),
        passkeys(pattern, zone),
    ]
}

fn kind_of(zone: &Name) -> Kind {
    if is_at_or_below(zone.as_str(), "localhost") {
        return Kind::Loopback;
    }
    let public =
        |slug: AdviceKind| matches!(slug, AdviceKind::RealDomain | AdviceKind::PublicSuffix);
    match advice_for_zone(zone).iter().any(|it| public(it.slug)) {
        true => Kind::Public,
        false => Kind::Private,
    }
}

fn redirect(
    purpose: &'static str,
    value: String,
    kind: Kind,
    wildcard: bool,
    with_port: &str,
) -> Acceptance {
    let (accepted, reason) = match kind {
        _ if wildcard => (
            Accepted::No,
            "no wildcards: each redirect URL is compared as a string (RFC 9700 §2.1), so each name is \
             registered by itself"
                .to_owned(),
        ),
        Kind::Public => (
            Accepted::Yes,
            format!("HTTPS under a public suffix, compared as a string (RFC 9700 §2.1){with_port}"),
        ),
        Kind::Loopback => (
            Accepted::Often,
            format!(
                "compared as a string (RFC 9700 §2.1){with_port}; where HTTPS is refused for it, \
                 http://127.0.0.1 with any port is what loopback is excepted for (RFC 8252 §7.3)"
            ),
        ),
        Kind::Private => (
            Accepted::Often,
            format!(
                "compared as a string (RFC 9700 §2.1){with_port}; many public providers want a public \
                 suffix: there, take a domain of your own as a zone, or http://127.0.0.1 (RFC 8252 \
                 §7.3). A provider that you run takes it"
            ),
        ),
    };
    Acceptance {
        purpose,
        accepted,
        value,
        reason,
    }
}

fn openid(value: String, kind: Kind, wildcard: bool, with_port: &str) -> Acceptance {
    let purpose = "OpenID Connect redirect";
    if kind == Kind::Loopback && !wildcard {
        return Acceptance {
            purpose,
            accepted: Accepted::No,
            value,
            reason:
                "a web client's redirect must not be on localhost; a native client's may, over \
                     HTTP (OpenID Connect Registration §2)"
                    .to_owned(),
        };
    }
    redirect(purpose, value, kind, wildcard, with_port)
}

fn cookies(zone: &Name) -> Acceptance {
    let is_suffix = !zone.as_str().contains('.')
        || advice_for_zone(zone)
            .iter()
            .any(|it| it.slug == AdviceKind::PublicSuffix);
    Acceptance {
        purpose: "cookies for every name",
        accepted: if is_suffix {
            Accepted::No
        } else {
            Accepted::Yes
        },
        value: format!("Domain={zone}"),
        reason: match is_suffix {
            true => format!(
                "browsers drop a cookie for a public suffix or a single label, as {zone} is (RFC 6265 \
                 §5.3)"
            ),
            false => "names below the zone share it, whatever the port (RFC 6265 §5.3 and §8.5)"
                .to_owned(),
        },
    }
}

fn passkeys(pattern: &Pattern, zone: &Name) -> Acceptance {
    let shared = zone.as_str().contains('.') || zone.as_str() == "localhost";
    let value = match shared {
        true => zone.to_string(),
        false => pattern.base().to_string(),
    };
    Acceptance {
        purpose: "passkeys",
        accepted: Accepted::Yes,
        value: format!("rp.id={value}"),
        reason:
            "the relying party's id is the name or a parent of it that is no public suffix, over \
                 HTTPS; the port does not count (Web Authentication Level 2 §5.1.2)"
                .to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        "booking.moor.test",
        "moor.test",
        17443,
        "not by all, not by all, yes, no, yes, yes"
    )]
    #[case(
        "booking.example.com",
        "example.com",
        443,
        "yes, yes, yes, no, yes, yes"
    )]
    #[case("app.localhost", "localhost", 443, "not by all, no, yes, no, no, yes")]
    #[case("*.hut.moor.test", "moor.test", 443, "no, no, no, no, yes, yes")]
    #[case("a.test", "test", 443, "not by all, not by all, yes, no, no, yes")]
    #[case("a.co.uk", "co.uk", 443, "yes, yes, yes, no, no, yes")]
    fn who_takes_which_name(
        #[case] pattern: &str,
        #[case] zone: &str,
        #[case] port: u16,
        #[case] wanted: &str,
    ) {
        let all = acceptance(&pattern.parse().unwrap(), &zone.parse().unwrap(), port);
        let accepted: Vec<&str> = all.iter().map(|it| it.accepted.as_str()).collect();
        assert_eq!(accepted.join(", "), wanted);
    }

    #[test]
    fn registered_redirect_urls_have_their_port() {
        let pattern = "booking.moor.test".parse().unwrap();
        let all = acceptance(&pattern, &"moor.test".parse().unwrap(), 17443);
        let values: Vec<&str> = all.iter().map(|it| it.value.as_str()).collect();
        assert_eq!(values[0], "https://booking.moor.test:17443/callback");
        assert_eq!(values[4..], ["Domain=moor.test", "rp.id=moor.test"]);
        assert!(all[0].reason.contains("the port is a part of it"));
    }
}
