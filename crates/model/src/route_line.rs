//! Routes as lines of text: an address, where it leads, and settings as flags.

use serde_json::{Map, Value, json};
use strsim::damerau_levenshtein;

use crate::setting::{Leaf, Setting, SettingKind, leaves, settings_of};

/// A line: its words, and the settings that flags in it say.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RouteLine {
    /// The words that are no flags.
    pub words: Vec<String>,
    /// What the flags say, as a merge patch.
    pub settings: Map<String, Value>,
}

impl RouteLine {
    /// Reads a line as a shell splits it, where a comment begins with `#`; `None` for one without words.
    /// A flag is the key of a setting in `settings`, as on the command line: `--strip-prefix`,
    /// `--expect-title Tiles` or `--expect-title=Tiles`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(line: &str, settings: &'static [Setting]) -> Result<Option<Self>, String> {
        let words = shlex::split(line);
        let words = words.ok_or_else(|| format!("a quotation mark is not closed: {line}"))?;
        let mut read = Self::default();
        let mut words = words.into_iter().peekable();
        while let Some(word) = words.next() {
            let Some(flag) = word.strip_prefix("--") else {
                read.words.push(word);
                continue;
            };
            let (name, value) = match flag.split_once('=') {
                Some((name, value)) => (name, Some(value.to_owned())),
                None => (flag, None),
            };
            let leaf = named(name, settings)?;
            let value = match (value, leaf.setting.kind) {
                (None, SettingKind::Switch) => "true".to_owned(),
                (Some(value), _) => value,
                (None, _) => words.next().ok_or_else(|| {
                    format!(
                        "--{name} needs a value: --{name} {}",
                        leaf.setting.value_name
                    )
                })?,
            };
            read.set(leaf, &value)
                .map_err(|reason| format!("--{name}: {reason}"))?;
        }
        Ok((!read.words.is_empty() || !read.settings.is_empty()).then_some(read))
    }

    fn set(&mut self, leaf: Leaf, value: &str) -> Result<(), String> {
        let key = leaf.setting.key;
        let Some(patch) = settings_of(&mut self.settings, leaf.group) else {
            return Ok(());
        };
        let value = match leaf.setting.kind {
            SettingKind::Text | SettingKind::Group(_) => json!(value),
            SettingKind::Number => {
                let number: u32 = value
                    .parse()
                    .map_err(|_| format!("`{value}` is no number"))?;
                json!(number)
            }
            SettingKind::Switch => {
                let on: bool = value
                    .parse()
                    .map_err(|_| format!("`{value}` is neither `true` nor `false`"))?;
                json!(on)
            }
            SettingKind::List => {
                let list = patch.entry(key).or_insert_with(|| json!([]));
                if let Some(list) = list.as_array_mut() {
                    list.push(json!(value));
                }
                return Ok(());
            }
        };
        patch.insert(key.to_owned(), value);
        Ok(())
    }
}

/// The setting whose flag is `--name`.
fn named(name: &str, settings: &'static [Setting]) -> Result<Leaf, String> {
    let flag = |leaf: &Leaf| leaf.key().replace(['.', '_'], "-");
    if let Some(leaf) = leaves(settings).find(|leaf| flag(leaf) == name) {
        return Ok(leaf);
    }
    let near = leaves(settings).map(|leaf| flag(&leaf));
    let near = near.min_by_key(|known| damerau_levenshtein(known, name));
    let near = near
        .map(|near| format!("; the nearest is --{near}"))
        .unwrap_or_default();
    Err(format!("there is no flag --{name}{near}"))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::settings::RouteSettings;

    #[rstest]
    #[case("tiles.moor.test 8080", &["tiles.moor.test", "8080"], r"{}")]
    #[case("a.test/api 1 --strip-prefix # for the app", &["a.test/api", "1"], r#"{"strip_prefix":true}"#)]
    #[case("a.test 1 --expect-title 'Moor Tiles' --expect-status=200", &["a.test", "1"], r#"{"expect":{"title":"Moor Tiles","status":200}}"#)]
    #[case("a.test 1 --set-headers 'request A: 1' --set-headers 'request B: 2'", &["a.test", "1"], r#"{"set_headers":["request A: 1","request B: 2"]}"#)]
    fn lines_are_read(#[case] line: &str, #[case] words: &[&str], #[case] settings: &str) {
        let read = RouteLine::read(line, RouteSettings::SETTINGS)
            .unwrap()
            .unwrap();
        assert_eq!(read.words, words);
        assert_eq!(
            Value::Object(read.settings),
            serde_json::from_str::<Value>(settings).unwrap()
        );
    }

    #[rstest]
    #[case("", None)]
    #[case("  # nothing", None)]
    #[case("a.test 1 --expect-titel x", Some("the nearest is --expect-title"))]
    #[case("a.test 1 --expect-title", Some("needs a value"))]
    #[case("a.test 1 --expect-status x", Some("no number"))]
    #[case("a.test 1 --paused=perhaps", Some("neither"))]
    #[case("a.test '1", Some("not closed"))]
    fn other_lines_are_refused(#[case] line: &str, #[case] reason: Option<&str>) {
        match (RouteLine::read(line, RouteSettings::SETTINGS), reason) {
            (Ok(None), None) => {}
            (Err(error), Some(part)) => assert!(error.contains(part), "{error}"),
            (outcome, _) => panic!("{outcome:?}"),
        }
    }
}
