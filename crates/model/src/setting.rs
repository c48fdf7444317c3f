//! Settings as data: one declaration gives the stored form, the JSON of the API, the flags of the
//! command line with their help, and the table in the docs.

use std::collections::BTreeMap;

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value, json};

use crate::invalid::Invalid;

/// One setting of a route, a zone or an expectation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Setting {
    /// Its key in JSON and in the database; a flag has hyphens instead of underscores.
    pub key: &'static str,
    /// What it takes.
    pub kind: SettingKind,
    /// What stands for the value in help, such as `ADDRESS`.
    pub value_name: &'static str,
    /// What it does, without a full stop.
    pub help: &'static str,
    /// What holds while it is not set.
    pub default: &'static str,
    /// Whether the short help leaves it out.
    pub rare: bool,
}

/// What a setting takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SettingKind {
    /// A text.
    Text,
    /// A number.
    Number,
    /// `true` or `false`.
    Switch,
    /// Several texts.
    List,
    /// A group of settings.
    Group(&'static [Setting]),
}

impl SettingKind {
    /// What it takes, for the docs.
    #[must_use]
    pub fn describe(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Number => "number",
            Self::Switch => "`true` or `false`",
            Self::List => "list of texts",
            Self::Group(_) => "settings",
        }
    }
}

/// A setting that is not a group, and the key of the group that has it, if any.
#[derive(Clone, Copy, Debug)]
pub struct Leaf {
    /// The key of its group.
    pub group: Option<&'static str>,
    /// The setting.
    pub setting: &'static Setting,
}

impl Leaf {
    /// Its key with that of its group, such as `expect.status`.
    #[must_use]
    pub fn key(self) -> String {
        match self.group {
            None => self.setting.key.to_owned(),
            Some(group) => format!("{group}.{}", self.setting.key),
        }
    }
}

/// The settings that are not groups: those of a group one by one.
pub fn leaves(settings: &'static [Setting]) -> impl Iterator<Item = Leaf> {
    settings.iter().flat_map(|setting| {
        let (group, inner) = match setting.kind {
            SettingKind::Group(inner) => (Some(setting.key), inner),
            _ => (None, std::slice::from_ref(setting)),
        };
        inner.iter().map(move |setting| Leaf { group, setting })
    })
}

/// The part of a merge patch that is for this group of settings, or for those in no group. `None` when
/// the patch unsets the group.
#[must_use]
pub fn settings_of<'a>(
    patch: &'a mut Map<String, Value>,
    group: Option<&str>,
) -> Option<&'a mut Map<String, Value>> {
    match group {
        None => Some(patch),
        Some(group) => patch
            .entry(group)
            .or_insert_with(|| json!({}))
            .as_object_mut(),
    }
}

/// Adds to `patch` the lists that `settings` have with `additions` behind them.
pub fn add_to_lists(
    patch: &mut Map<String, Value>,
    additions: &BTreeMap<String, Vec<String>>,
    settings: &impl Serialize,
) {
    let settings = json!(settings);
    for (key, entries) in additions {
        let (group, inner) = match key.split_once('.') {
            Some((group, inner)) => (Some(group), inner),
            None => (None, &**key),
        };
        let present = group.map_or(Some(&settings), |group| settings.get(group));
        let present = present.and_then(|it| it.get(inner)?.as_array());
        let mut list = present.cloned().unwrap_or_default();
        for entry in entries {
            if !list.iter().any(|known| known == entry) {
                list.push(json!(entry));
            }
        }
        if let Some(patch) = settings_of(patch, group) {
            patch.insert(inner.to_owned(), Value::Array(list));
        }
    }
}

/// A JSON type that settings have.
pub(crate) trait SettingType {
    /// What a setting of this type takes.
    const KIND: SettingKind;
}

impl SettingType for String {
    const KIND: SettingKind = SettingKind::Text;
}

impl SettingType for u32 {
    const KIND: SettingKind = SettingKind::Number;
}

impl SettingType for bool {
    const KIND: SettingKind = SettingKind::Switch;
}

impl SettingType for Vec<String> {
    const KIND: SettingKind = SettingKind::List;
}

/// The key of the field `name`, which has `r#` in front where it is a keyword of Rust's.
pub(crate) const fn key_of(name: &'static str) -> &'static str {
    match name.as_bytes() {
        [b'r', b'#', ..] => name.split_at(2).1,
        _ => name,
    }
}

pub(crate) fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// Declares a type whose fields are settings.
///
/// With `with its own default`, the type implements [`Default`] itself, and every field is written.
///
/// Each has a doc comment, which is its help; its type here and in JSON; what stands for its value;
/// and what holds while it is not set. `rare` leaves it out of the short help.
macro_rules! settings {
    (
        $(#[$outer:meta])*
        pub struct $name:ident {
            $(
                $(#[doc = $help:literal])+
                $key:ident: $type:ty as $json:ty, $value_name:literal, $default:literal $(, $rare:ident)?;
            )+
        }
    ) => {
        $(#[$outer])*
        #[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize, utoipa::ToSchema)]
        #[serde(default)]
        pub struct $name {
            $(
                $(#[doc = $help])+
                #[schema(value_type = $json, nullable, required = false)]
                #[serde(skip_serializing_if = "crate::setting::is_default")]
                pub $key: $type,
            )+
            /// What a later version stored here, kept as it is.
            #[serde(flatten)]
            #[schema(ignore)]
            pub unknown: std::collections::BTreeMap<String, serde_json::Value>,
        }

        settings!(@table $name { $($(#[doc = $help])+ $key: $json, $value_name, $default $(, $rare)?;)+ });
    };
    (
        $(#[$outer:meta])*
        pub struct $name:ident with its own default {
            $(
                $(#[doc = $help:literal])+
                $key:ident: $type:ty as $json:ty, $value_name:literal, $default:literal $(, $rare:ident)?;
            )+
        }
    ) => {
        $(#[$outer])*
        #[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, utoipa::ToSchema)]
        #[serde(default)]
        pub struct $name {
            $(
                $(#[doc = $help])+
                #[schema(value_type = Option<$json>)]
                pub $key: $type,
            )+
            /// What a later version stored here, kept as it is.
            #[serde(flatten)]
            #[schema(ignore)]
            pub unknown: std::collections::BTreeMap<String, serde_json::Value>,
        }

        settings!(@table $name { $($(#[doc = $help])+ $key: $json, $value_name, $default $(, $rare)?;)+ });
    };
    (@table $name:ident {
        $($(#[doc = $help:literal])+ $key:ident: $json:ty, $value_name:literal, $default:literal $(, $rare:ident)?;)+
    }) => {
        impl $name {
            /// All of them, in the order in which they are listed.
            pub const SETTINGS: &'static [crate::setting::Setting] = &[
                $(
                    crate::setting::Setting {
                        key: crate::setting::key_of(stringify!($key)),
                        kind: <$json as crate::setting::SettingType>::KIND,
                        value_name: $value_name,
                        help: concat!($($help),+),
                        default: $default,
                        rare: settings!(@rare $($rare)?),
                    },
                )+
            ];
        }
    };
    (@rare) => { false };
    (@rare rare) => { true };
}
pub(crate) use settings;

/// `settings` after a JSON merge patch (RFC 7396): `null` unsets, what is left out stays, and lists
/// are replaced. `known` are the existing keys.
///
/// # Errors
/// Each unknown key, and each value that its setting does not accept.
pub(crate) fn merged<T>(
    settings: &T,
    patch: &Map<String, Value>,
    known: &'static [Setting],
) -> Result<T, Vec<Invalid>>
where
    T: Serialize + DeserializeOwned,
{
    let mut wrong = Vec::new();
    check_keys(patch, known, "", &mut wrong);
    let whole =
        serde_json::to_value(settings).map_err(|error| vec![Invalid::new("settings", error)])?;
    let mut after = whole.clone();
    for (key, value) in patch {
        let change = Value::Object(Map::from_iter([(key.clone(), value.clone())]));
        // Each alone, so that every wrong value is reported with its key.
        let mut alone = whole.clone();
        json_patch::merge(&mut alone, &change);
        json_patch::merge(&mut after, &change);
        let setting = known.iter().find(|setting| setting.key == key);
        if let (Some(setting), Err(error)) = (setting, T::deserialize(alone)) {
            wrong.push(Invalid::new(setting.key, error));
        }
    }
    if !wrong.is_empty() {
        return Err(wrong);
    }
    T::deserialize(after).map_err(|error| vec![Invalid::new("settings", error)])
}

/// Adds each unknown key to `wrong`.
fn check_keys(
    patch: &Map<String, Value>,
    known: &'static [Setting],
    group: &str,
    wrong: &mut Vec<Invalid>,
) {
    for (key, value) in patch {
        let setting = known.iter().find(|setting| setting.key == key);
        match (setting.map(|setting| setting.kind), value) {
            (Some(SettingKind::Group(inner)), Value::Object(patch)) => {
                check_keys(patch, inner, key, wrong);
            }
            (Some(_), _) => {}
            (None, _) => {
                let keys: Vec<&str> = known.iter().map(|setting| setting.key).collect();
                let (dot, keys) = (if group.is_empty() { "" } else { "." }, keys.join(", "));
                let reason = format!("there is no setting `{group}{dot}{key}`; there are: {keys}");
                wrong.push(Invalid::new("settings", reason));
            }
        }
    }
}
