//! The settings of the service: one declaration gives the keys of `config.toml`, the flags of
//! `bentlane serve` with their help, and the table in the docs.

use std::fmt::{self, Write};
use std::marker::PhantomData;
use std::num::NonZeroU32;
use std::path::{Path, PathBuf};
use std::{fs, io};

use bentlane_dns::RebindLevel;
use bentlane_model::{Name, Setting, SettingKind, settings_guide};
use serde::de::value::SeqAccessDeserializer;
use serde::de::{self, IntoDeserializer, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer};

use super::{ConfigError, ListenAt, UpstreamChoice};

/// One setting of the service.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ServiceSetting {
    /// The table of `config.toml` that has it, if any.
    pub table: Option<&'static str>,
    /// Its flag; `None` for `data_dir`, whose flag every command has.
    pub flag: Option<&'static str>,
    /// Its key in that table, what it takes, its help and its default.
    pub setting: Setting,
}

/// One value, or a list of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OneOrMore<T> {
    /// One value.
    One(T),
    /// A list.
    More(Vec<T>),
}

// By hand, since the errors of `untagged` do not say what is wrong with the value.
impl<'de, T: Deserialize<'de>> Deserialize<'de> for OneOrMore<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct OneOrMoreVisitor<T>(PhantomData<T>);

        impl<'de, T: Deserialize<'de>> Visitor<'de> for OneOrMoreVisitor<T> {
            type Value = OneOrMore<T>;

            fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
                formatter.write_str("a value or a list")
            }

            fn visit_str<E: de::Error>(self, text: &str) -> Result<Self::Value, E> {
                T::deserialize(text.into_deserializer()).map(OneOrMore::One)
            }

            fn visit_i64<E: de::Error>(self, number: i64) -> Result<Self::Value, E> {
                T::deserialize(number.into_deserializer()).map(OneOrMore::One)
            }

            fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<Self::Value, A::Error> {
                Vec::deserialize(SeqAccessDeserializer::new(list)).map(OneOrMore::More)
            }
        }

        deserializer.deserialize_any(OneOrMoreVisitor(PhantomData))
    }
}

impl<T> From<OneOrMore<T>> for Vec<T> {
    fn from(value: OneOrMore<T>) -> Self {
        match value {
            OneOrMore::One(one) => vec![one],
            OneOrMore::More(all) => all,
        }
    }
}

/// Declares settings. Each has a doc comment, which is its help; its type; its kind; its flag, or
/// `none`; what stands for its value in help; and its default.
macro_rules! service_settings {
    (
        { $($(#[doc = $help:literal])+ $key:ident: $type:ty, $kind:ident, $flag:tt, $value_name:literal, $default:literal;)+ }
        $($table:ident: $name:ident {
            $($(#[doc = $inner_help:literal])+ $inner:ident: $inner_type:ty, $inner_kind:ident, $inner_flag:tt,
                $inner_value_name:literal, $inner_default:literal;)+
        })+
    ) => {
        /// What can be set for the service, in `config.toml` or by flags. `None` leaves the default.
        #[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
        #[serde(default, deny_unknown_fields)]
        pub struct ServiceSettings {
            $($(#[doc = $help])+ pub $key: Option<$type>,)+
            $(#[doc = concat!("The table `[", stringify!($table), "]`.")] pub $table: $name,)+
        }

        $(
            #[doc = concat!("The table `[", stringify!($table), "]` of [`ServiceSettings`].")]
            #[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
            #[serde(default, deny_unknown_fields)]
            pub struct $name {
                $($(#[doc = $inner_help])+ pub $inner: Option<$inner_type>,)+
            }
        )+

        impl ServiceSettings {
            /// These settings, and those of `other` where these have none.
            #[must_use]
            pub fn or(self, other: Self) -> Self {
                Self {
                    $($key: self.$key.or(other.$key),)+
                    $($table: $name { $($inner: self.$table.$inner.or(other.$table.$inner),)+ },)+
                }
            }
        }

        /// All settings of the service, in the order in which they are listed.
        pub const SERVICE_SETTINGS: &[ServiceSetting] = &[
            $(ServiceSetting {
                table: None,
                flag: service_settings!(@flag $flag),
                setting: Setting {
                    key: stringify!($key), kind: SettingKind::$kind, value_name: $value_name,
                    help: concat!($($help),+), default: $default, rare: false,
                },
            },)+
            $($(ServiceSetting {
                table: Some(stringify!($table)),
                flag: service_settings!(@flag $inner_flag),
                setting: Setting {
                    key: stringify!($inner), kind: SettingKind::$inner_kind, value_name: $inner_value_name,
                    help: concat!($($inner_help),+), default: $inner_default, rare: false,
                },
            },)+)+
        ];
    };
    (@flag none) => { None };
    (@flag $flag:literal) => { Some($flag) };
}

service_settings! {
    {
        /// The data folder
        data_dir: PathBuf, Text, none, "DIR", "`$XDG_DATA_HOME/bentlane`, usually `~/.local/share/bentlane`";
        /// Use ports that every user may bind: DNS 17053, HTTP 17080, HTTPS 17443
        high_ports: bool, Switch, "high-ports", "", "off";
        /// Upstream resolver for names outside the zones: an address, ADDR:PORT, `system` or `none`
        upstream: OneOrMore<UpstreamChoice>, List, "upstream", "RESOLVER", "system";
        /// Reject upstream answers with addresses of this machine (`loopback`), or of private networks, too (`private`)
        rebind_protection: RebindLevel, Text, "rebind-protection", "LEVEL", "off";
        /// A name, with all below it, that is exempt from rebind protection
        rebind_exceptions: OneOrMore<Name>, List, "rebind-exception", "NAME", "none";
        /// A PostgreSQL database to use; one on another machine needs sslmode=verify-full
        database_url: String, Text, "database-url", "URL", "a private server";
        /// The socket of a container engine
        engine: OneOrMore<PathBuf>, List, "engine", "SOCKET", "the usual ones";
    }
    listen: ListenSettings {
        /// Address for DNS queries: a port, or ADDR:PORT
        dns: OneOrMore<ListenAt>, List, "dns", "ADDR:PORT", "53";
        /// Address for plain HTTP, which is redirected to HTTPS
        http: OneOrMore<ListenAt>, List, "http", "ADDR:PORT", "80";
        /// Address for HTTPS
        https: OneOrMore<ListenAt>, List, "https", "ADDR:PORT", "443";
        /// Address of the console
        console: OneOrMore<ListenAt>, List, "console", "ADDR:PORT", "17070";
    }
    checks: CheckSettings {
        /// Seconds after which a proved route is checked again, at the earliest
        every_seconds: NonZeroU32, Number, "check-every", "SECONDS", "30";
        /// Days to keep check results
        keep_days: u32, Number, "check-days", "DAYS", "30";
    }
    traffic: TrafficSettings {
        /// Days to keep recorded requests
        keep_days: u32, Number, "traffic-days", "DAYS", "7";
        /// Number of recorded requests to keep
        limit: u64, Number, "traffic-limit", "N", "200000";
    }
}

impl ServiceSettings {
    /// Reads `path`; a file that does not exist is an empty one unless it is `required`.
    ///
    /// # Errors
    /// When the file cannot be read, or does not parse: the error names the line.
    pub fn read(path: &Path, required: bool) -> Result<Self, ConfigError> {
        let text = match fs::read_to_string(path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound && !required => {
                return Ok(Self::default());
            }
            Err(source) => {
                return Err(ConfigError::Read {
                    path: path.to_owned(),
                    source,
                });
            }
        };
        toml_edit::de::from_str(&text).map_err(|error| {
            let reason = error.to_string().trim_end().to_owned();
            ConfigError::Parse {
                path: path.to_owned(),
                reason,
            }
        })
    }
}

/// The page about all settings, in Markdown: `docs/settings.md`.
#[must_use]
pub fn settings_page() -> String {
    let mut page = settings_guide();
    page.push_str(
        "\n## The service\n\n\
         Flags of `bentlane serve`, or `bentlane/config.toml` in `$XDG_CONFIG_HOME` (`~/.config`); a flag \
         takes precedence over the file. A list takes its flag once for each entry.\n\n\
         | key | flag | takes | meaning | default |\n| --- | --- | --- | --- | --- |\n",
    );
    for ServiceSetting {
        table,
        flag,
        setting,
    } in SERVICE_SETTINGS
    {
        let table = table.map(|table| format!("{table}.")).unwrap_or_default();
        let flag = flag.unwrap_or("data-dir");
        let (key, takes) = (setting.key, setting.kind.describe());
        let (help, default) = (setting.help.trim(), setting.default);
        // Writing to a String does not fail.
        let _ = writeln!(
            page,
            "| `{table}{key}` | `--{flag}` | {takes} | {help} | {default} |"
        );
    }
    page
}

#[cfg(test)]
mod tests {
    use bentlane_model::{Leaf, leaves};
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        "high_ports = true\n[listen]\ndns = 17053\nhttps = [\"127.0.0.1:17443\", 8443]",
        true
    )]
    #[case("", true)]
    #[case("colour = 1", false)]
    #[case(
        "rebind_protection = \"private\"\nrebind_exceptions = [\"corp.example\"]",
        true
    )]
    #[case("rebind_protection = \"some\"", false)]
    #[case("rebind_exceptions = [\"a..b\"]", false)]
    #[case("[listen]\ndns = 70000", false)]
    #[case("[listen]\ndns = \"0.0.0.0:53\"", false)]
    fn files(#[case] text: &str, #[case] accepted: bool) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("config.toml");
        fs::write(&path, text).unwrap();
        let outcome = ServiceSettings::read(&path, true);
        assert_eq!(outcome.is_ok(), accepted, "{outcome:?}");
        if let Err(error) = outcome {
            assert!(
                error.to_string().contains("line"),
                "the line is named: {error}"
            );
        }
    }

    #[test]
    fn only_a_missing_file_that_was_named_is_an_error() {
        let path = Path::new("/nonexistent/config.toml");
        assert_eq!(
            ServiceSettings::read(path, false).unwrap(),
            ServiceSettings::default()
        );
        assert!(matches!(
            ServiceSettings::read(path, true),
            Err(ConfigError::Read { .. })
        ));
    }

    #[test]
    fn a_setting_comes_from_the_first_source_that_has_it() {
        let read = |text: &str| toml_edit::de::from_str::<ServiceSettings>(text).unwrap();
        let first = read("high_ports = false\n[listen]\ndns = 1053");
        let second = read("high_ports = true\n[listen]\ndns = 53\nhttp = 80");
        let both = read("high_ports = false\n[listen]\ndns = 1053\nhttp = 80");
        assert_eq!(first.or(second), both);
    }

    /// The settings of a route as the console's form has them.
    fn console_settings() -> String {
        let settings = leaves(bentlane_model::RouteSettings::SETTINGS);
        let fields = settings.map(|Leaf { group, setting }| {
            let kind = match setting.kind {
                SettingKind::Text => "text",
                SettingKind::Number => "number",
                SettingKind::Switch => "switch",
                SettingKind::List => "list",
                SettingKind::Group(_) => unreachable!("a group is no leaf"),
            };
            serde_json::json!({
                "key": setting.key, "group": group, "kind": kind,
                "help": setting.help.trim(), "default": setting.default,
            })
        });
        let all: Vec<serde_json::Value> = fields.collect();
        serde_json::to_string_pretty(&all).unwrap() + "\n"
    }

    /// `BENTLANE_WRITE=1 cargo test -p bentlane-service settings_are` writes the files.
    #[rstest]
    #[case("docs/settings.md", settings_page())]
    #[case("console/src/route/settings.json", console_settings())]
    fn settings_are_up_to_date(#[case] file: &str, #[case] content: String) {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let path = root.join(file);
        if std::env::var_os("BENTLANE_WRITE").is_some() {
            fs::write(&path, &content).unwrap();
        }
        let there = fs::read_to_string(&path).unwrap_or_default();
        assert!(there == content, "{file} is out of date");
    }
}
