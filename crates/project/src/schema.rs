use bentlane_model::{AppSettings, RouteSettings, Setting, SettingKind};
use serde_json::{Map, Value, json};

/// A JSON Schema (2020-12) of the project file, for editors.
#[must_use]
pub fn schema() -> Value {
    let target = json!({
        "description": "A port, or a target such as app:NAME, container:NAME, folder:PATH or https://HOST:PORT; or the name of a port in [ports]",
        "type": ["integer", "string"],
    });
    let mut route = properties(RouteSettings::SETTINGS);
    route.insert("to".to_owned(), target.clone());
    let mut app = properties(AppSettings::SETTINGS);
    let variables = json!({
        "description": "Variables of its environment",
        "type": ["object", "array"],
        "additionalProperties": { "type": ["string", "integer", "boolean"] },
        "items": { "type": "string" },
    });
    app.insert("env".to_owned(), variables);
    let switch = |about: &str| json!({ "description": about, "type": "boolean" });
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "bentlane.toml",
        "description": "What a project wants of Bent Lane",
        "type": "object",
        "additionalProperties": false,
        "properties": {
            "zone": { "description": "The zone of its names, which is added where no zone covers it", "type": "string" },
            "routes": {
                "description": "Its routes by address: NAME[/PREFIX], *.NAME or NAME:PORT",
                "type": "object",
                "additionalProperties": { "oneOf": [
                    target,
                    { "type": "object", "additionalProperties": false, "required": ["to"], "properties": route },
                ] },
            },
            "apps": {
                "description": "Its apps by name",
                "type": "object",
                "additionalProperties": {
                    "type": "object", "additionalProperties": false, "required": ["command"], "properties": app,
                },
            },
            "records": {
                "description": "DNS records, each OWNER TYPE DATA with the owner relative to the zone",
                "type": "array", "items": { "type": "string" },
            },
            "ports": {
                "description": "Ports that its own programs use, by name",
                "type": "object",
                "additionalProperties": { "type": "integer", "minimum": 1, "maximum": 65535 },
            },
            "certs": {
                "description": "Certificates that a server wants in files",
                "type": "object",
                "additionalProperties": {
                    "type": "object", "additionalProperties": false, "required": ["names", "folder"],
                    "properties": {
                        "names": { "description": "The names that it is for", "type": "array", "items": { "type": "string" }, "minItems": 1 },
                        "folder": { "description": "The folder for the files", "type": "string" },
                    },
                },
            },
            "requires": {
                "description": "What it needs of the machine",
                "type": "object", "additionalProperties": false,
                "properties": {
                    "version": { "description": "The version of Bent Lane, such as >=0.2", "type": "string" },
                    "lookups": switch("Whether this machine's own lookups have to reach Bent Lane"),
                    "trust": switch("Whether a trust store has to trust the root"),
                    "standard_ports": switch("Whether Bent Lane has to listen on the ports 80 and 443"),
                    "engine": switch("Whether a container engine has to answer"),
                },
            },
        },
    })
}

fn properties(settings: &'static [Setting]) -> Map<String, Value> {
    let each = settings.iter().map(|setting| {
        let help = setting.help.trim();
        let about = match setting.default {
            "" => help.to_owned(),
            default => format!("{help}. Default: {default}"),
        };
        let value = match setting.kind {
            SettingKind::Text => json!({ "type": ["string", "integer", "boolean"] }),
            SettingKind::Number => json!({ "type": "integer", "minimum": 0 }),
            SettingKind::Switch => json!({ "type": "boolean" }),
            SettingKind::List => {
                json!({ "type": ["array", "string"], "items": { "type": "string" } })
            }
            SettingKind::Group(inner) => json!({
                "type": "object", "additionalProperties": false, "properties": properties(inner),
            }),
        };
        let mut value = value;
        if let Some(value) = value.as_object_mut() {
            value.insert("description".to_owned(), about.into());
        }
        (setting.key.to_owned(), value)
    });
    each.collect()
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    /// `BENTLANE_WRITE=1 cargo test -p bentlane-project schema` writes the file.
    #[test]
    fn the_schema_in_the_docs_is_that_of_the_code() {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/project.schema.json");
        let text = serde_json::to_string_pretty(&schema()).unwrap() + "\n";
        if std::env::var_os("BENTLANE_WRITE").is_some() {
            std::fs::write(&path, &text).unwrap();
        }
        assert_eq!(std::fs::read_to_string(path).unwrap(), text);
    }
}
