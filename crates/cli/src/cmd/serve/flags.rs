//! The flags of `serve`, made from the declaration of the service's settings.

use bentlane_model::SettingKind;
use bentlane_service::{SERVICE_SETTINGS, ServiceSetting, ServiceSettings};
use clap::error::ErrorKind;
use clap::{Arg, ArgAction, ArgMatches, Args, Command, FromArgMatches};
use serde::Deserialize;
use serde_json::{Map, Value, json};

/// The variable that can name the database, so that its password is in no list of processes.
const DATABASE_VARIABLE: &str = "BENTLANE_DATABASE_URL";

/// The settings that are given on the command line.
#[derive(Debug, Default)]
pub(crate) struct ServeFlags(pub(crate) ServiceSettings);

fn arg(flag: &'static str, ServiceSetting { setting, .. }: &ServiceSetting) -> Arg {
    let help = match setting.default {
        "off" if setting.kind == SettingKind::Switch => setting.help.trim().to_owned(),
        "none" => setting.help.trim().to_owned(),
        default => format!("{} [default: {default}]", setting.help.trim()),
    };
    let arg = Arg::new(flag)
        .long(flag)
        .help(help)
        .value_name(setting.value_name);
    let arg = match setting.kind {
        SettingKind::Number => arg.value_parser(clap::value_parser!(u64)),
        SettingKind::Switch => arg.action(ArgAction::SetTrue),
        SettingKind::List => arg.action(ArgAction::Append),
        SettingKind::Text | SettingKind::Group(_) => arg,
    };
    match setting.key {
        "database_url" => arg.env(DATABASE_VARIABLE).hide_env_values(true),
        _ => arg,
    }
}

/// What is given for a flag.
fn given(flag: &str, kind: SettingKind, matches: &ArgMatches) -> Option<Value> {
    match kind {
        SettingKind::Number => matches.get_one(flag).map(|number: &u64| json!(number)),
        SettingKind::Switch => matches.get_flag(flag).then_some(Value::Bool(true)),
        SettingKind::List => {
            let texts = matches.get_many(flag)?;
            Some(texts.map(|text: &String| json!(text)).collect())
        }
        SettingKind::Text | SettingKind::Group(_) => {
            matches.get_one(flag).map(|text: &String| json!(text))
        }
    }
}

/// The settings with this one alone.
fn alone(
    table: Option<&str>,
    key: &str,
    value: Value,
) -> Result<ServiceSettings, serde_json::Error> {
    let one = Map::from_iter([(key.to_owned(), value)]);
    let all = match table {
        Some(table) => json!({ table: one }),
        None => Value::Object(one),
    };
    ServiceSettings::deserialize(all)
}

impl Args for ServeFlags {
    fn augment_args(command: Command) -> Command {
        let settings = SERVICE_SETTINGS.iter();
        command.args(settings.filter_map(|setting| Some(arg(setting.flag?, setting))))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl FromArgMatches for ServeFlags {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        let mut flags = Self::default();
        flags.update_from_arg_matches(matches)?;
        Ok(flags)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        for ServiceSetting {
            table,
            flag,
            setting,
        } in SERVICE_SETTINGS
        {
            let Some(flag) = *flag else {
                continue;
            };
            let Some(value) = given(flag, setting.kind, matches) else {
                continue;
            };
            let settings = alone(*table, setting.key, value).map_err(|error| {
                let message = format!("invalid value for '--{flag}': {error}\n");
                clap::Error::raw(ErrorKind::ValueValidation, message)
            })?;
            self.0 = settings.or(std::mem::take(&mut self.0));
        }
        Ok(())
    }
}
