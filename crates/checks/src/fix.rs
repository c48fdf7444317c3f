//! What resolves a finding, as data: words for people, and what Bent Lane can do itself.

use std::collections::BTreeMap;
use std::fmt::Display;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// What resolves a finding: words, and the command where there is one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Fix {
    /// What to do, in a sentence.
    pub text: String,
    /// The command that does it, safe to paste into a shell; words in capitals are to be replaced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
    /// What `bentlane check --fix` offers to do: the same as the command.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
}

/// What Bent Lane can do itself to resolve a finding.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum Action {
    /// Change a route.
    EditRoute {
        /// Its address.
        address: String,
        /// A JSON merge patch (RFC 7396), as `PATCH` of the route takes it.
        #[schema(value_type = BTreeMap<String, Value>)]
        patch: Map<String, Value>,
        /// Entries to add to settings that are lists, which a merge patch would replace.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        add: BTreeMap<String, Vec<String>>,
    },
    /// Add a route.
    AddRoute {
        /// Its address.
        address: String,
        /// Where it leads.
        to: String,
    },
    /// Remove an imported certificate.
    RemoveCert {
        /// Its first name.
        name: String,
    },
    /// Start an app.
    StartApp {
        /// Its name.
        name: String,
        /// Whether it is stopped first, if it runs.
        again: bool,
    },
    /// Make a new root.
    RotateAuthority,
    /// Attach this machine, which needs root.
    SystemAttach {
        /// This part alone.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        only: Option<Part>,
    },
}

/// A part of this machine that can be attached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// Its lookups.
    Lookups,
    /// Its hosts file.
    Hosts,
    /// Its trust stores.
    Trust,
}

impl Fix {
    /// Words alone.
    #[must_use]
    pub fn text(text: impl Into<String>) -> Self {
        Self {
            text: text.into(),
            command: None,
            action: None,
        }
    }

    /// A command that shows more, that has words to replace, or that is another program's.
    #[must_use]
    pub fn command(text: impl Into<String>, command: impl Into<String>) -> Self {
        Self {
            command: Some(command.into()),
            ..Self::text(text)
        }
    }

    /// What Bent Lane can do itself.
    #[must_use]
    pub fn action(text: impl Into<String>, action: Action) -> Self {
        Self {
            command: Some(action.command()),
            action: Some(action),
            ..Self::text(text)
        }
    }

    /// Another target for a route.
    pub(crate) fn lead_to(text: impl Into<String>, address: &str, to: impl Display) -> Self {
        let patch = [("to", Value::String(to.to_string()))];
        Self::action(text, Action::edit(address, patch))
    }

    /// Another value for a setting of a route; `null` unsets it.
    pub(crate) fn set(
        text: impl Into<String>,
        address: &str,
        key: &str,
        value: impl Into<Value>,
    ) -> Self {
        Self::action(text, Action::edit(address, [(key, value.into())]))
    }

    /// One more entry for a setting of a route that is a list.
    pub(crate) fn add(
        text: impl Into<String>,
        address: &str,
        key: &str,
        entry: impl Into<String>,
    ) -> Self {
        Self::action(text, Action::add(address, key, [entry.into()]))
    }

    /// Attaching this machine, or a part of it.
    #[must_use]
    pub fn attach(text: impl Into<String>, only: impl Into<Option<Part>>) -> Self {
        Self::action(text, Action::SystemAttach { only: only.into() })
    }

    /// The same for the app behind the folder of a route, where it is for the target of a route.
    pub(crate) fn for_app_behind_folder(mut self) -> Self {
        if let Some(Action::EditRoute { patch, .. }) = &mut self.action {
            if let Some(to) = patch.remove("to") {
                patch.insert("else".to_owned(), to);
            }
            self.command = self.action.as_ref().map(Action::command);
        } else {
            self.command = self.command.map(|it| it.replace(" --to ", " --else "));
        }
        self
    }

    /// Editing a route by a command with words to replace.
    pub(crate) fn edit(text: impl Into<String>, address: &str, flags: &str) -> Self {
        let edit = shell(&["bentlane", "route", "edit", address]);
        Self::command(text, format!("{edit} {flags}"))
    }
}

impl Action {
    /// A change of a route at top-level keys.
    pub(crate) fn edit<const N: usize>(address: &str, patch: [(&str, Value); N]) -> Self {
        Self::EditRoute {
            address: address.to_owned(),
            patch: patch
                .map(|(key, value)| (key.to_owned(), value))
                .into_iter()
                .collect(),
            add: BTreeMap::new(),
        }
    }

    /// More entries for a setting of a route that is a list.
    pub(crate) fn add(address: &str, key: &str, entries: impl IntoIterator<Item = String>) -> Self {
        Self::EditRoute {
            address: address.to_owned(),
            patch: Map::new(),
            add: BTreeMap::from([(key.to_owned(), entries.into_iter().collect())]),
        }
    }

    /// Whether it says which app is the right one. Only a person who has looked at it can: another
    /// project's app may answer there.
    #[must_use]
    pub fn decides_what_is_right(&self) -> bool {
        matches!(self, Self::EditRoute { patch, .. } if patch.contains_key("expect"))
    }

    /// The command that does it, safe to paste into a shell.
    #[must_use]
    pub fn command(&self) -> String {
        let arguments = self.arguments();
        let words = arguments.iter().map(String::as_str);
        let sudo = self.needs_root().then_some("sudo");
        shell(
            &sudo
                .into_iter()
                .chain(["bentlane"])
                .chain(words)
                .collect::<Vec<_>>(),
        )
    }

    /// Whether it takes root.
    #[must_use]
    pub fn needs_root(&self) -> bool {
        matches!(self, Self::SystemAttach { .. })
    }

    /// What follows `bentlane` in the command.
    #[must_use]
    pub fn arguments(&self) -> Vec<String> {
        let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect();
        match self {
            Self::EditRoute {
                address,
                patch,
                add,
            } => {
                let mut all: Vec<String> = words(&["route", "edit", address]);
                // Where it leads comes first, as people say it.
                let (to, others): (Vec<_>, Vec<_>) =
                    patch.iter().partition(|(key, _)| *key == "to");
                for (key, value) in to.into_iter().chain(others) {
                    flags(key, value, &mut all);
                }
                for (key, entries) in add {
                    for entry in entries {
                        all.extend(["--add".to_owned(), format!("{key}={entry}")]);
                    }
                }
                all
            }
            Self::AddRoute { address, to } => words(&["route", "add", address, to]),
            Self::RemoveCert { name } => words(&["cert", "remove", name]),
            Self::StartApp { name, again: false } => words(&["app", "start", name]),
            Self::StartApp { name, again: true } => words(&["app", "restart", name]),
            Self::RotateAuthority => words(&["authority", "rotate"]),
            Self::SystemAttach { only: None } => words(&["system", "attach"]),
            Self::SystemAttach { only: Some(part) } => {
                words(&["system", "attach", "--only", part.as_str()])
            }
        }
    }

    /// What it does, in words.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self {
            Self::EditRoute { address, .. } => format!("changes the route {address}"),
            Self::AddRoute { address, to } => {
                format!("adds the route {address}, which leads to {to}")
            }
            Self::RemoveCert { name } => format!("removes the imported certificate {name}"),
            Self::StartApp { name, again: false } => format!("starts the app {name}"),
            Self::StartApp { name, again: true } => format!("starts the app {name} again"),
            Self::RotateAuthority => "makes a new root, which then has to be trusted".to_owned(),
            Self::SystemAttach { only: None } => "attaches this machine".to_owned(),
            Self::SystemAttach { only: Some(part) } => {
                format!(
                    "attaches the {} of this machine",
                    match part {
                        Part::Lookups => "lookups",
                        Part::Hosts => "hosts file",
                        Part::Trust => "trust stores",
                    }
                )
            }
        }
    }
}

impl Part {
    /// The word that `--only` takes.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Lookups => "lookups",
            Self::Hosts => "hosts",
            Self::Trust => "trust",
        }
    }
}

/// Adds the flags that set `key` to `value`.
fn flags(key: &str, value: &Value, words: &mut Vec<String>) {
    let flag = format!("--{}", key.replace(['_', '.'], "-"));
    match value {
        Value::Null => words.extend(["--unset".to_owned(), key.to_owned()]),
        Value::Bool(true) => words.push(flag),
        Value::Bool(false) => words.push(format!("{flag}=false")),
        Value::Array(entries) => entries.iter().for_each(|entry| flags(key, entry, words)),
        Value::Object(group) => {
            for (inner, value) in group {
                flags(&format!("{key}.{inner}"), value, words);
            }
        }
        Value::String(text) => words.extend([flag, text.clone()]),
        Value::Number(number) => words.extend([flag, number.to_string()]),
    }
}

/// Words as a shell takes them, quoted where they need it.
#[must_use]
pub fn shell(words: &[&str]) -> String {
    let plain = |word: &str| {
        let safe = |octet: u8| octet.is_ascii_alphanumeric() || b"-_./:=@,+".contains(&octet);
        !word.is_empty() && !word.starts_with('=') && word.bytes().all(safe)
    };
    // Only NUL cannot be quoted, and it is let through.
    let quoter = shlex::Quoter::new().allow_nul(true);
    let quoted = words.iter().map(|word| match plain(word) {
        true => (*word).to_owned(),
        false => quoter.quote(word).unwrap_or_default().into_owned(),
    });
    quoted.collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    fn edit(address: &str, patch: Value, add: &[(&str, &[&str])]) -> Action {
        let Value::Object(patch) = patch else {
            panic!("{patch} is no object")
        };
        let add = add.iter().map(|(key, entries)| {
            let entries = entries.iter().map(|entry| (*entry).to_owned());
            ((*key).to_owned(), entries.collect())
        });
        Action::EditRoute {
            address: address.to_owned(),
            patch,
            add: add.collect(),
        }
    }

    #[rstest]
    #[case(edit("a.moor.test", json!({ "to": "4320" }), &[]), "bentlane route edit a.moor.test --to 4320")]
    #[case(
        edit("*.hut.moor.test", json!({ "paused": false, "drop_hsts": true, "access_log": null }), &[]),
        "bentlane route edit '*.hut.moor.test' --unset access_log --drop-hsts --paused=false"
    )]
    #[case(
        edit("a.moor.test", json!({ "expect": { "title": "it's $HOME; rm -r /", "text": null } }), &[]),
        r#"bentlane route edit a.moor.test --unset expect.text --expect-title "it's "'$HOME; rm -r /'"#
    )]
    #[case(
        edit("a.moor.test", json!({}), &[("allow_origins", &["https://*.moor.test"])]),
        "bentlane route edit a.moor.test --add 'allow_origins=https://*.moor.test'"
    )]
    #[case(
        Action::AddRoute { address: "*.a.test/x".to_owned(), to: "folder:/a b".to_owned() },
        "bentlane route add '*.a.test/x' 'folder:/a b'"
    )]
    #[case(Action::SystemAttach { only: Some(Part::Hosts) }, "sudo bentlane system attach --only hosts")]
    #[case(Action::SystemAttach { only: None }, "sudo bentlane system attach")]
    #[case(Action::RotateAuthority, "bentlane authority rotate")]
    #[case(Action::RemoveCert { name: "*.a.test".to_owned() }, "bentlane cert remove '*.a.test'")]
    fn actions_are_commands_and_data(#[case] action: Action, #[case] command: &str) {
        assert_eq!(action.command(), command);
        let words = shlex::split(command).unwrap();
        let own = words
            .into_iter()
            .skip_while(|word| word != "bentlane")
            .skip(1);
        assert_eq!(own.collect::<Vec<_>>(), action.arguments());
        let read: Action = serde_json::from_value(json!(action)).unwrap();
        assert_eq!(read, action);
    }

    #[test]
    fn verdicts_of_earlier_versions_are_read() {
        let fix: Fix =
            serde_json::from_value(json!({ "text": "a", "command": "b", "ours": true })).unwrap();
        assert_eq!(fix, Fix::command("a", "b"));
    }
}
