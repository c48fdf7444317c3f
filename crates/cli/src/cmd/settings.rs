//! Flags for the settings of routes and zones, made from their declarations.

use std::collections::BTreeMap;
use std::marker::PhantomData;

use bentlane_model::{
    AppSettings, Leaf, RouteSettings, Setting, SettingKind, ZoneSettings, leaves, settings_of,
};
use clap::{Arg, ArgAction, ArgMatches, Args, Command, FromArgMatches};
use serde::Serialize;
use serde_json::{Map, Value, json};

use crate::error::CliError;
use crate::input::whole_path;

/// A type whose fields are settings.
pub(crate) trait Declared {
    const SETTINGS: &'static [Setting];
}

impl Declared for RouteSettings {
    const SETTINGS: &'static [Setting] = Self::SETTINGS;
}

impl Declared for AppSettings {
    const SETTINGS: &'static [Setting] = Self::SETTINGS;
}

impl Declared for ZoneSettings {
    const SETTINGS: &'static [Setting] = Self::SETTINGS;
}

/// The settings that are given on the command line, as a JSON merge patch.
#[derive(Debug)]
pub(crate) struct Flags<T> {
    patch: Map<String, Value>,
    of: PhantomData<T>,
}

impl<T> Flags<T> {
    /// What is given. Files are named by their whole paths for the service, which has a folder of its
    /// own.
    pub(crate) fn patch(mut self) -> Result<Map<String, Value>, CliError> {
        if let Some(Value::String(how)) = self.patch.get_mut("target_tls")
            && !matches!(&**how, "verify" | "none")
        {
            *how = whole_path(how.as_ref())?.display().to_string();
        }
        if let Some(Value::String(file)) = self.patch.get_mut("access_log") {
            let path = std::path::absolute(&*file).map_err(|source| CliError::Io {
                verb: format!("find {file}"),
                source,
            })?;
            *file = path.display().to_string();
        }
        Ok(self.patch)
    }
}

/// Settings to change, and settings to unset.
#[derive(Debug, Args)]
pub(crate) struct Changes<T: Declared + Send + Sync + 'static> {
    #[command(flatten)]
    flags: Flags<T>,
    /// Unset a setting, so that its default holds again: a key such as `note` or `expect.text`. May be
    /// repeated
    #[arg(long, value_name = "KEY", help_heading = "Settings")]
    unset: Vec<String>,
}

impl<T: Declared + Send + Sync + 'static> Changes<T> {
    /// What is given, with `null` for what is unset.
    pub(crate) fn patch(self) -> Result<Map<String, Value>, CliError> {
        let mut patch = self.flags.patch()?;
        for key in &self.unset {
            unset(&mut patch, key, T::SETTINGS)?;
        }
        Ok(patch)
    }
}

/// Adds `null` for `key`, which is written as the key is or as the flag is.
fn unset(
    patch: &mut Map<String, Value>,
    key: &str,
    settings: &'static [Setting],
) -> Result<(), CliError> {
    let refuse = |reason| CliError::Value {
        field: "--unset",
        reason,
    };
    let plain = key.replace('-', "_");
    let leaf = leaves(settings).find(|leaf| leaf.key() == plain || id(*leaf) == plain);
    let group = || settings.iter().find(|setting| setting.key == plain);
    let (patch, key) = match (leaf, group()) {
        (Some(Leaf { group, setting }), _) => match settings_of(patch, group) {
            Some(patch) => (patch, setting.key),
            // The whole group is unset.
            None => return Ok(()),
        },
        (None, Some(group)) => (patch, group.key),
        (None, None) => {
            let keys: Vec<String> = leaves(settings).map(Leaf::key).collect();
            return Err(refuse(format!(
                "there is no setting `{key}`; there are: {}",
                keys.join(", ")
            )));
        }
    };
    if patch.get(key).is_some_and(|value| !value.is_null()) {
        return Err(refuse(format!("`{key}` is set by the same command")));
    }
    patch.insert(key.to_owned(), Value::Null);
    Ok(())
}

/// The settings that are not at their defaults, each with its value.
pub(crate) fn in_words<T: Declared + Serialize>(settings: &T) -> Vec<(String, String)> {
    let settings = json!(settings);
    let value = |leaf: Leaf| match leaf.group {
        None => settings.get(leaf.setting.key),
        Some(group) => settings.get(group)?.get(leaf.setting.key),
    };
    leaves(T::SETTINGS)
        .filter_map(|leaf| Some((leaf.key(), value(leaf).filter(|it| !it.is_null())?)))
        .map(|(key, value)| (key, value_in_words(value)))
        .collect()
}

/// The value of a setting.
pub(crate) fn value_in_words(value: &Value) -> String {
    match value {
        Value::Null => "not set".to_owned(),
        Value::Bool(true) => "on".to_owned(),
        Value::Bool(false) => "off".to_owned(),
        Value::String(text) => text.clone(),
        Value::Array(entries) => {
            let entries = entries.iter().map(value_in_words);
            entries.collect::<Vec<_>>().join(", ")
        }
        other => other.to_string(),
    }
}

/// The entries to add to lists, by the keys of these: each is written `KEY=ENTRY`.
pub(crate) fn additions(
    given: &[String],
    settings: &'static [Setting],
) -> Result<BTreeMap<String, Vec<String>>, CliError> {
    let mut additions: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for text in given {
        let refuse = |reason| CliError::Value {
            field: "--add",
            reason,
        };
        let Some((key, entry)) = text.split_once('=') else {
            return Err(refuse(format!("`{text}` has no `=`: write KEY=ENTRY")));
        };
        let lists = || leaves(settings).filter(|it| it.setting.kind == SettingKind::List);
        let Some(list) = lists().find(|list| list.key() == key) else {
            let keys: Vec<String> = lists().map(Leaf::key).collect();
            let keys = keys.join(", ");
            return Err(refuse(format!("`{key}` is no list; there are: {keys}")));
        };
        additions
            .entry(list.key())
            .or_default()
            .push(entry.to_owned());
    }
    Ok(additions)
}

/// What clap knows it by.
fn id(leaf: Leaf) -> String {
    leaf.key().replace('.', "_")
}

fn arg(leaf: Leaf) -> Arg {
    let setting = leaf.setting;
    let help = match setting.default {
        "off" | "none" | "any" => setting.help.trim().to_owned(),
        default => format!("{} [default: {default}]", setting.help.trim()),
    };
    let arg = Arg::new(id(leaf))
        .long(id(leaf).replace('_', "-"))
        .value_name(setting.value_name)
        .help(help)
        .hide_short_help(setting.rare)
        .help_heading(match leaf.group {
            None => "Settings",
            Some(_) => "Expected responses, for checks",
        });
    match setting.kind {
        SettingKind::Number => arg.value_parser(clap::value_parser!(u32)),
        SettingKind::Switch => arg
            .value_parser(clap::value_parser!(bool))
            .num_args(0..=1)
            .require_equals(true)
            .default_missing_value("true"),
        SettingKind::List => arg.action(ArgAction::Append),
        SettingKind::Text | SettingKind::Group(_) => arg,
    }
}

/// What is given for it.
fn given(leaf: Leaf, matches: &ArgMatches) -> Option<Value> {
    let id = &id(leaf);
    match leaf.setting.kind {
        SettingKind::Number => matches.get_one(id).map(|number: &u32| json!(number)),
        SettingKind::Switch => matches.get_one(id).map(|on: &bool| json!(on)),
        SettingKind::List => {
            let texts = matches.get_many(id)?;
            Some(texts.map(|text: &String| json!(text)).collect())
        }
        SettingKind::Text | SettingKind::Group(_) => {
            matches.get_one(id).map(|text: &String| json!(text))
        }
    }
}

impl<T: Declared> Args for Flags<T> {
    fn augment_args(command: Command) -> Command {
        command.args(leaves(T::SETTINGS).map(arg))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<T: Declared> FromArgMatches for Flags<T> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        let mut flags = Self {
            patch: Map::new(),
            of: PhantomData,
        };
        flags.update_from_arg_matches(matches)?;
        Ok(flags)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        for leaf in leaves(T::SETTINGS) {
            let Some(value) = given(leaf, matches) else {
                continue;
            };
            if let Some(patch) = settings_of(&mut self.patch, leaf.group) {
                patch.insert(leaf.setting.key.to_owned(), value);
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn patch_of(words: &[&str]) -> Result<Value, CliError> {
        let command =
            Changes::<RouteSettings>::augment_args(Command::new("edit").no_binary_name(true));
        let matches = command.try_get_matches_from(words).unwrap();
        let changes = Changes::<RouteSettings>::from_arg_matches(&matches).unwrap();
        changes.patch().map(Value::Object)
    }

    #[rstest]
    #[case(&[], json!({}))]
    #[case(&["--paused", "--strip-prefix=false"], json!({ "paused": true, "strip_prefix": false }))]
    #[case(&["--note", "none"], json!({ "note": "none" }))]
    #[case(&["--expect-status", "200", "--expect-header", "a", "--expect-header", "b: c"],
           json!({ "expect": { "status": 200, "header": ["a", "b: c"] } }))]
    #[case(&["--unset", "note", "--unset", "redirect-status"],
           json!({ "note": null, "redirect_status": null }))]
    #[case(&["--unset", "expect.text", "--unset", "expect-title", "--expect-status", "204"],
           json!({ "expect": { "text": null, "title": null, "status": 204 } }))]
    #[case(&["--unset", "expect"], json!({ "expect": null }))]
    #[case(&["--unset", "expect", "--unset", "expect.text"], json!({ "expect": null }))]
    fn flags_are_a_merge_patch(#[case] words: &[&str], #[case] patch: Value) {
        assert_eq!(patch_of(words).unwrap(), patch);
    }

    #[test]
    fn settings_are_shown_by_their_keys() {
        let Value::Object(patch) = json!({
            "strip_prefix": true, "keep_path": false, "note": "two", "redirect_status": 308,
            "set_headers": ["request a: b", "response c: d"], "expect": { "title": "Huts" },
        }) else {
            panic!("no object");
        };
        let settings = RouteSettings::default().merged(&patch).unwrap();
        let told: Vec<String> = in_words(&settings)
            .iter()
            .map(|(key, value)| format!("{key}={value}"))
            .collect();
        let expected = [
            "strip_prefix=on",
            "set_headers=request a: b, response c: d",
            "redirect_status=308",
            "keep_path=off",
            "note=two",
            "expect.title=Huts",
        ];
        assert_eq!(told, expected);
    }

    #[rstest]
    #[case(&["allow_origins=https://b.test", "allow_origins=https://a.test"],
           json!({ "allow_origins": ["https://a.test", "https://b.test"] }))]
    #[case(&["expect.header=x: a=b"], json!({ "expect": { "header": ["x: a=b"] } }))]
    fn entries_go_behind_those_there_are(#[case] given: &[&str], #[case] patch: Value) {
        let given: Vec<String> = given.iter().map(|text| (*text).to_owned()).collect();
        let additions = additions(&given, RouteSettings::SETTINGS).unwrap();
        let mut made = Map::new();
        let settings = json!({ "allow_origins": ["https://a.test"], "expect": { "status": 200 } });
        bentlane_model::add_to_lists(&mut made, &additions, &settings);
        assert_eq!(Value::Object(made), patch);
    }

    #[rstest]
    #[case(
        "note=x",
        "`note` is no list; there are: allow_origins, set_headers, remove_headers, "
    )]
    #[case("allow_origins", "write KEY=ENTRY")]
    fn what_is_no_list_takes_no_entries(#[case] given: &str, #[case] reason: &str) {
        let error = additions(&[given.to_owned()], RouteSettings::SETTINGS).unwrap_err();
        assert!(error.to_string().contains(reason), "{error}");
    }

    #[rstest]
    #[case(&["--unset", "colour"], "there is no setting `colour`; there are: address, ")]
    #[case(&["--unset", "note", "--note", "x"], "`note` is set by the same command")]
    #[case(&["--unset", "expect", "--expect-status", "200"], "`expect` is set by the same command")]
    fn unsetting_an_unknown_key_is_an_error(#[case] words: &[&str], #[case] reason: &str) {
        let error = patch_of(words).unwrap_err().to_string();
        assert!(error.contains(reason), "{error}");
    }
}
