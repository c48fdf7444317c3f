//! What a route declares of its answers, so that a check knows the right app from just an app.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::by_text::serde_by_text;
use crate::invalid::Invalid;
use crate::setting::settings;

settings! {
    /// What the response at a route's own path has to be like.
    pub struct Expectation {
        /// The status, after redirects
        status: Option<u16> as u32, "STATUS", "any below 500";
        /// A text in the body
        text: Option<String> as String, "TEXT", "any";
        /// The title of the page
        title: Option<String> as String, "TITLE", "any";
        /// Headers that it has: `NAME: VALUE`, or `NAME` for any value
        header: Vec<ExpectedField> as Vec<String>, "HEADER", "any", rare;
        /// Values in its JSON, such as `/status=ok`: a JSON Pointer (RFC 6901), `=`, and the value
        json: Vec<ExpectedValue> as Vec<String>, "POINTER=VALUE", "any", rare;
        /// A path at which the app speaks WebSocket
        websocket: Option<String> as String, "PATH", "none", rare;
        /// A path at which the app sends server-sent events
        events: Option<String> as String, "PATH", "none", rare;
    }
}

impl Expectation {
    /// Whether nothing is declared.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Whether it identifies an app by its answer.
    #[must_use]
    pub fn knows_the_app(&self) -> bool {
        let Self {
            text,
            title,
            header,
            json,
            ..
        } = self;
        text.is_some() || title.is_some() || !header.is_empty() || !json.is_empty()
    }

    /// Every part that no answer can meet.
    #[must_use]
    pub fn problems(&self) -> Vec<Invalid> {
        let status = self.status.filter(|it| !(200..600).contains(it));
        let status = status.map(|it| {
            let reason = format!("{it} is no status of a response: it has to be 200 to 599");
            Invalid::new("expect.status", reason)
        });
        let paths = [
            ("expect.websocket", &self.websocket),
            ("expect.events", &self.events),
        ];
        let paths = paths.into_iter().filter_map(|(field, path)| {
            let path = path.as_ref().filter(|path| !path.starts_with('/'))?;
            let reason = format!("`{path}` is no path: it has to start with `/`");
            Some(Invalid::new(field, reason))
        });
        let texts = [("expect.text", &self.text), ("expect.title", &self.title)];
        let texts = texts.into_iter().filter_map(|(field, text)| {
            text.as_ref().filter(|text| text.trim().is_empty())?;
            Some(Invalid::new(field, "it must not be empty".to_owned()))
        });
        status.into_iter().chain(texts).chain(paths).collect()
    }
}

/// A field that an answer has to have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpectedField {
    /// Its name, in lower case.
    pub name: String,
    /// Its value; `None` for any.
    pub value: Option<String>,
}

impl fmt::Display for ExpectedField {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.value {
            Some(value) => write!(f, "{}: {value}", self.name),
            None => f.write_str(&self.name),
        }
    }
}

impl FromStr for ExpectedField {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let (name, value) = match text.split_once(':') {
            Some((name, value)) => (name, Some(value.trim().to_owned())),
            None => (text, None),
        };
        let name = http::HeaderName::from_str(name.trim()).map_err(|_| {
            let reason = format!("`{text}` is no field such as `content-type: text/html`");
            Invalid::new("expect_header", reason)
        })?;
        Ok(Self {
            name: name.as_str().to_owned(),
            value,
        })
    }
}

/// A value that an answer's JSON has to have somewhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpectedValue {
    /// Where (RFC 6901); empty for all of it.
    pub pointer: String,
    /// The value.
    pub value: Value,
}

impl fmt::Display for ExpectedValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}={}", self.pointer, self.value)
    }
}

impl FromStr for ExpectedValue {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let parts = text.split_once('=');
        let parts = parts.filter(|(pointer, _)| pointer.is_empty() || pointer.starts_with('/'));
        let (pointer, value) = parts.ok_or_else(|| {
            let reason = format!(
                "`{text}` is no pointer with a value, such as `/status=\"ok\"` or `/huts/0/id=7`"
            );
            Invalid::new("expect_json", reason)
        })?;
        Ok(Self {
            pointer: pointer.to_owned(),
            // A word that is no JSON is meant as a text.
            value: serde_json::from_str(value).unwrap_or_else(|_| value.into()),
        })
    }
}

serde_by_text!(ExpectedField, ExpectedValue);

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("Content-Type: text/html", Some("content-type: text/html"))]
    #[case("x-app", Some("x-app"))]
    #[case("a b: c", None)]
    #[case("", None)]
    fn fields(#[case] text: &str, #[case] written: Option<&str>) {
        let parsed = text.parse::<ExpectedField>().ok().map(|it| it.to_string());
        assert_eq!(parsed.as_deref(), written);
    }

    #[rstest]
    #[case("/a/0=7", Some("/a/0=7"))]
    #[case("/status=ok", Some("/status=\"ok\""))]
    #[case("/status=\"ok\"", Some("/status=\"ok\""))]
    #[case("={}", Some("={}"))]
    #[case("status=ok", None)]
    #[case("/status", None)]
    fn values(#[case] text: &str, #[case] written: Option<&str>) {
        let parsed = text.parse::<ExpectedValue>().ok().map(|it| it.to_string());
        assert_eq!(parsed.as_deref(), written);
    }

    #[test]
    fn impossible_expectations_are_refused() {
        let expect = Expectation {
            status: Some(101),
            text: Some(" ".to_owned()),
            websocket: Some("live".to_owned()),
            ..Expectation::default()
        };
        let problems = expect.problems();
        let fields: Vec<&str> = problems.iter().map(|problem| problem.field).collect();
        assert_eq!(fields, ["expect.status", "expect.text", "expect.websocket"]);
    }
}
