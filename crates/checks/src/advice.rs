use serde::{Deserialize, Serialize};

use bentlane_model::Pattern;
use bentlane_model::{Name, is_at_or_below};

/// Top-level domains below which the common browsers speak HTTPS only, as their preload list has
/// it. Those that only one company can use are left out.
const FORCED_HTTPS: [&str; 24] = [
    "app",
    "bank",
    "boo",
    "channel",
    "dad",
    "day",
    "dev",
    "esq",
    "fly",
    "foo",
    "gle",
    "ing",
    "insurance",
    "meme",
    "mov",
    "new",
    "nexus",
    "page",
    "phd",
    "play",
    "prof",
    "rsvp",
    "search",
    "zip",
];
/// Suffixes that never become a public domain (RFC 6761, RFC 8375; `internal` by ICANN's
/// resolution of 29 July 2024).
const PRIVATE: [&str; 4] = ["test", "localhost", "home.arpa", "internal"];

/// What is questionable about a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AdviceKind {
    /// The name belongs to multicast DNS.
    MulticastDns,
    /// The zone is a suffix below which others register domains.
    PublicSuffix,
    /// The zone is, or lies in, a domain that can be registered.
    RealDomain,
    /// Browsers speak HTTPS only there.
    ForcedHttps,
    /// The suffix is not reserved, and may be delegated one day.
    Unreserved,
    /// Names right under a single label share no cookies and no wildcard certificate.
    SingleLabel,
}

/// Advice about a name: why, and what would be better.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Advice {
    /// What it is about.
    pub slug: AdviceKind,
    /// The reason, in a sentence.
    pub reason: String,
    /// A name without this trouble.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub better: Option<String>,
    /// Whether the name is taken only when it is asked for in so many words.
    pub needs_consent: bool,
}

impl Advice {
    /// The reason and the better name, in one line.
    #[must_use]
    pub fn in_words(&self) -> String {
        match &self.better {
            Some(better) => format!("{}; `{better}` would be better", self.reason),
            None => self.reason.clone(),
        }
    }
}

/// What is questionable about `zone` as a zone, what matters most first.
#[must_use]
pub fn advice_for_zone(zone: &Name) -> Vec<Advice> {
    let name = zone.as_str();
    let top = name.rsplit('.').next().unwrap_or_default();
    let first = name.split('.').next().unwrap_or_default();
    let better = |own: &str| Some(format!("{own}.test"));
    let advice = |slug, reason: String, better| Advice {
        slug,
        reason,
        better,
        needs_consent: matches!(slug, AdviceKind::PublicSuffix | AdviceKind::RealDomain),
    };
    let private = PRIVATE.iter().any(|suffix| is_at_or_below(name, suffix));
    let mut all = Vec::new();
    if top == "local" {
        let reason = "`.local` belongs to multicast DNS (RFC 6762): some systems never ask a \
                      resolver for it, and others wait for seconds first";
        let own = name.strip_suffix(".local").unwrap_or("site");
        all.push(advice(
            AdviceKind::MulticastDns,
            reason.to_owned(),
            better(own),
        ));
    } else if let (false, Some(public)) = (private, public_suffix(name)) {
        all.push(if public == name {
            let reason = format!(
                "`{name}` is a public suffix: every real site below it would be out of reach for \
                 this machine"
            );
            advice(AdviceKind::PublicSuffix, reason, better(first))
        } else {
            let reason = format!(
                "`{name}` can be somebody's real domain: what is really there would be out of \
                 reach for this machine"
            );
            let own = name
                .strip_suffix(public)
                .unwrap_or(first)
                .trim_end_matches('.');
            advice(AdviceKind::RealDomain, reason, better(own))
        });
        if FORCED_HTTPS.contains(&top) {
            let reason =
                format!("browsers speak HTTPS only below `.{top}`: plain HTTP is not tried");
            all.push(advice(AdviceKind::ForcedHttps, reason, None));
        }
    } else if !private && name.contains('.') {
        let reason = format!("`.{top}` is not reserved for private use: a real one may come");
        let own = name
            .strip_suffix(top)
            .unwrap_or(first)
            .trim_end_matches('.');
        all.push(advice(AdviceKind::Unreserved, reason, better(own)));
    }
    if !name.contains('.') && name != "localhost" {
        let own = if private { "site" } else { name };
        all.push(advice(
            AdviceKind::SingleLabel,
            single_label(name),
            better(own),
        ));
    }
    all
}

/// What is questionable about a route's names beyond its zone.
#[must_use]
pub fn advice_for_route(pattern: &Pattern) -> Vec<Advice> {
    let base = pattern.base().as_str();
    let under = match pattern {
        Pattern::Exact(_) => base.split_once('.').map(|(_, parent)| parent),
        Pattern::Wildcard(_) => Some(base),
    };
    match under {
        Some(label) if !label.contains('.') && label != "localhost" => vec![Advice {
            slug: AdviceKind::SingleLabel,
            reason: single_label(label),
            better: None,
            needs_consent: false,
        }],
        _ => Vec::new(),
    }
}

fn single_label(label: &str) -> String {
    format!(
        "right under the single label `{label}` names share no cookies, and many clients refuse a \
         wildcard certificate"
    )
}

/// Whether browsers share no cookies between the names below `name`: it is a public suffix, or a
/// single label.
pub(crate) fn is_public_suffix(name: &str) -> bool {
    psl::suffix(name.as_bytes()).is_some_and(|suffix| suffix.as_bytes() == name.as_bytes())
}

/// The suffix of `name` under which others register, when it is a real one.
fn public_suffix(name: &str) -> Option<&str> {
    let suffix = psl::suffix(name.as_bytes()).filter(psl::Suffix::is_known)?;
    std::str::from_utf8(suffix.as_bytes()).ok()
}

#[cfg(test)]
mod tests {
    use AdviceKind::{
        ForcedHttps, MulticastDns, PublicSuffix, RealDomain, SingleLabel, Unreserved,
    };
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("moor.test", &[])]
    #[case("app.localhost", &[])]
    #[case("localhost", &[])]
    #[case("moor.home.arpa", &[])]
    #[case("moor.internal", &[])]
    #[case("moor.local", &[(MulticastDns, "moor.test")])]
    #[case("local", &[(MulticastDns, "site.test"), (SingleLabel, "local.test")])]
    #[case("test", &[(SingleLabel, "site.test")])]
    #[case("moor", &[(SingleLabel, "moor.test")])]
    #[case("moor.lan", &[(Unreserved, "moor.test")])]
    #[case("co.uk", &[(PublicSuffix, "co.test")])]
    #[case("dev", &[(PublicSuffix, "dev.test"), (ForcedHttps, ""), (SingleLabel, "dev.test")])]
    #[case("moor.dev", &[(RealDomain, "moor.test"), (ForcedHttps, "")])]
    #[case("a.moor.co.uk", &[(RealDomain, "a.moor.test")])]
    #[case("moor.example", &[(Unreserved, "moor.test")])]
    fn zones(#[case] zone: &str, #[case] wanted: &[(AdviceKind, &str)]) {
        let all = advice_for_zone(&zone.parse().unwrap());
        let found: Vec<_> = all
            .iter()
            .map(|advice| (advice.slug, advice.better.as_deref().unwrap_or_default()))
            .collect();
        assert_eq!(found, wanted);
        for advice in all {
            let real = matches!(advice.slug, PublicSuffix | RealDomain);
            assert_eq!(advice.needs_consent, real, "{advice:?}");
            if let Some(better) = &advice.better {
                assert!(
                    advice_for_zone(&better.parse().unwrap()).is_empty(),
                    "{better}"
                );
            }
        }
    }

    #[rstest]
    #[case("booking.moor.test", false)]
    #[case("*.moor.test", false)]
    #[case("moor.test", true)]
    #[case("*.test", true)]
    #[case("*.localhost", false)]
    #[case("test", false)]
    fn routes(#[case] pattern: &str, #[case] single: bool) {
        let advice = advice_for_route(&pattern.parse().unwrap());
        assert_eq!(!advice.is_empty(), single, "{advice:?}");
    }
}
