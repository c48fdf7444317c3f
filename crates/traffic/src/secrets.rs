use std::borrow::Cow;

/// What replaces a secret value.
const HIDDEN: &str = "***";
/// Parts of a key, in lower case and without `-`, `_`, `.` and brackets, that indicate a secret.
const PARTS: [&str; 14] = [
    "token",
    "secret",
    "passw",
    "passphrase",
    "apikey",
    "accesskey",
    "privatekey",
    "auth",
    "session",
    "signature",
    "credential",
    "assertion",
    "jwt",
    "csrf",
];
/// Whole keys that do.
const WHOLE: [&str; 11] = [
    "key", "code", "state", "nonce", "sid", "sig", "pwd", "pin", "otp", "hmac", "ticket",
];
/// A value of so many bytes, all of them from the alphabets of base64 and hexadecimal, digits and
/// letters both, was hardly thought up by a person.
const RANDOM: usize = 32;

/// Path and query without the values of the query that may be secrets: by their key, such as
/// `access_token`, or since they look like one, such as a JSON Web Token (RFC 7519). Each becomes
/// `***`.
#[must_use]
pub fn without_secrets(path: &str) -> Cow<'_, str> {
    let Some((front, query)) = path.split_once('?') else {
        return Cow::Borrowed(path);
    };
    let hidden = |pair: &str| match pair.split_once('=') {
        Some((key, value)) => !value.is_empty() && (is_secret_key(key) || looks_random(value)),
        None => looks_random(pair),
    };
    if !query.split('&').any(hidden) {
        return Cow::Borrowed(path);
    }
    let pairs = query.split('&').map(|pair| match pair.split_once('=') {
        _ if !hidden(pair) => Cow::Borrowed(pair),
        Some((key, _)) => Cow::Owned(format!("{key}={HIDDEN}")),
        None => Cow::Borrowed(HIDDEN),
    });
    let pairs: Vec<Cow<'_, str>> = pairs.collect();
    Cow::Owned(format!("{front}?{}", pairs.join("&")))
}

/// A URL without what may be secret in it, its fragment and its user information among that.
pub(super) fn url_without_secrets(url: &str) -> String {
    let url = url.split('#').next().unwrap_or_default();
    let url = without_secrets(url);
    let Some((scheme, rest)) = url.split_once("://") else {
        return url.into_owned();
    };
    let end = rest.find(['/', '?']).unwrap_or(rest.len());
    let (authority, path) = rest.split_at(end);
    let host = authority
        .rsplit_once('@')
        .map_or(authority, |(_, host)| host);
    format!("{scheme}://{host}{path}")
}

/// Whether the value of a parameter, an option or a variable with this name may be secret.
#[must_use]
pub fn is_secret_key(key: &str) -> bool {
    let is_plain = |octet: u8| octet.is_ascii_lowercase() || octet.is_ascii_digit();
    let plain = if key.bytes().all(is_plain) {
        Cow::Borrowed(key)
    } else {
        let key = percent_decoded(key);
        let letters = key.chars().filter(char::is_ascii_alphanumeric);
        Cow::Owned(letters.map(|letter| letter.to_ascii_lowercase()).collect())
    };
    WHOLE.contains(&&*plain) || PARTS.iter().any(|part| plain.contains(part))
}

fn percent_decoded(text: &str) -> String {
    let pair = format!("{text}=");
    let mut pairs = url::form_urlencoded::parse(pair.as_bytes());
    pairs
        .next()
        .map_or_else(String::new, |(key, _)| key.into_owned())
}

fn looks_random(value: &str) -> bool {
    let alphabet = |octet: u8| octet.is_ascii_alphanumeric() || b"-_+/=.%".contains(&octet);
    value.len() >= RANDOM
        && value.bytes().all(alphabet)
        && value.bytes().any(|octet| octet.is_ascii_digit())
        && value.bytes().any(|octet| octet.is_ascii_alphabetic())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/", "/")]
    #[case("/huts?night=12&page=2", "/huts?night=12&page=2")]
    #[case("/a?token=abc&night=12", "/a?token=***&night=12")]
    #[case("/a?night=12&Access_Token=abc", "/a?night=12&Access_Token=***")]
    #[case("/a?api-key=abc", "/a?api-key=***")]
    #[case("/a?user%5Bpassword%5D=abc", "/a?user%5Bpassword%5D=***")]
    #[case("/a?%74oken=abc", "/a?%74oken=***")]
    #[case(
        "/cb?code=abc&state=xyz&scope=huts",
        "/cb?code=***&state=***&scope=huts"
    )]
    #[case(
        "/a?X-Amz-Signature=abc&X-Amz-Date=2",
        "/a?X-Amz-Signature=***&X-Amz-Date=2"
    )]
    #[case(
        "/a?key=abc&keyword=tarn&zipcode=12",
        "/a?key=***&keyword=tarn&zipcode=12"
    )]
    #[case("/a?token=&b", "/a?token=&b")]
    #[case("/a?d=eyJhbGciOiJIUzI1NiJ9.eyJzdWIiOiIxIn0.c2lnbmVk", "/a?d=***")]
    #[case("/a?eyJhbGciOiJIUzI1NiJ9.eyJzdWIiOiIxIn0.c2lnbmVk", "/a?***")]
    #[case("/a?h=9f86d081884c7d659a2feaa0c55ad015", "/a?h=***")]
    #[case(
        "/a?q=a-long-sentence-about-huts-in-the-moor",
        "/a?q=a-long-sentence-about-huts-in-the-moor"
    )]
    #[case("/a?token=a?b=c", "/a?token=***")]
    fn secrets_are_hidden(#[case] path: &str, #[case] shown: &str) {
        assert_eq!(without_secrets(path), shown);
    }

    #[rstest]
    #[case(
        "https://rowan:pw@moor.test/a?token=b#c",
        "https://moor.test/a?token=***"
    )]
    #[case("https://moor.test?code=b", "https://moor.test?code=***")]
    #[case("/a?b", "/a?b")]
    fn urls_lose_what_is_secret(#[case] url: &str, #[case] shown: &str) {
        assert_eq!(url_without_secrets(url), shown);
    }
}
