use std::path::Path;

use bentlane_model::{AppSettings, Name, Route, RouteSettings, Setting, SettingKind};
use serde::Serialize;
use serde_json::Value;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value as Toml, value};

use crate::position::{Fault, Text};

/// What a file is to say.
#[derive(Clone, Debug, Default)]
pub struct Written {
    /// The zone.
    pub zone: Option<Name>,
    /// The routes, each with a comment for a new one.
    pub routes: Vec<(Route, Option<String>)>,
    /// The apps by name, each with a comment for a new one.
    pub apps: Vec<(String, AppSettings, Option<String>)>,
}

/// The text of a project file in `folder` that says this. Comments and the order of an `existing` one stay, and so do its
/// other tables; routes and apps that are not named go.
///
/// # Errors
/// When the existing text is no TOML.
pub fn write(existing: Option<&str>, folder: &Path, what: &Written) -> Result<String, Fault> {
    let text = existing.unwrap_or_default();
    let mut document: DocumentMut = text
        .parse()
        .map_err(|error: toml_edit::TomlError| Text(text).fault(error.span(), error.message()))?;
    if let Some(zone) = &what.zone {
        set(document.as_table_mut(), "zone", value(zone.to_string()));
    }
    let routes = table(document.as_table_mut(), "routes");
    let names: Vec<String> = what
        .routes
        .iter()
        .map(|(it, _)| it.address.to_string())
        .collect();
    routes.retain(|key, _| names.iter().any(|name| name == key));
    for ((route, comment), name) in what.routes.iter().zip(&names) {
        let item = route_item(folder, route);
        let is_new = !routes.contains_key(name);
        if is_new || !says_the_same(routes.get(name), &item) {
            set(routes, name, item);
        }
        if is_new {
            remark(routes, name, comment.as_deref());
        }
    }
    if !what.apps.is_empty() || document.contains_key("apps") {
        let apps = table(document.as_table_mut(), "apps");
        apps.set_implicit(true);
        apps.retain(|key, _| what.apps.iter().any(|(name, ..)| name == key));
        for (name, settings, comment) in &what.apps {
            let is_new = !apps.contains_key(name);
            let app = table(apps, name);
            let wanted = keys(settings, AppSettings::SETTINGS);
            app.retain(|key, _| {
                wanted.iter().any(|(wanted, _)| wanted == key) || key == "env" || key == "folder"
            });
            for (key, item) in wanted {
                let item = match key.as_str() {
                    "folder" => match below(folder, &settings.folder) {
                        path if path == "." => continue,
                        path => value(path),
                    },
                    "env_file" => {
                        let files = settings.env_file.iter().map(|file| below(folder, file));
                        value(files.collect::<Array>())
                    }
                    _ => item,
                };
                if key == "env" && app.get("env").is_some_and(Item::is_table_like) {
                    continue;
                }
                if !says_the_same(app.get(&key), &item) {
                    set(app, &key, item);
                }
            }
            if let Some(comment) = comment.as_deref().filter(|_| is_new) {
                app.decor_mut()
                    .set_prefix(format!("\n{}", lines_of_comment(comment)));
            }
        }
    }
    Ok(match existing {
        Some(_) => document.to_string(),
        None => format!("{HEAD}{document}"),
    })
}

/// Adds routes to the text of a project file, each with a comment; one that it has stays.
///
/// # Errors
/// When the text is no TOML.
pub fn add_routes(text: &str, routes: Vec<(Route, Option<String>)>) -> Result<String, Fault> {
    let mut document: DocumentMut = text
        .parse()
        .map_err(|error: toml_edit::TomlError| Text(text).fault(error.span(), error.message()))?;
    let known = table(document.as_table_mut(), "routes");
    for (route, comment) in routes {
        let name = route.address.to_string();
        if !known.contains_key(&name) {
            set(known, &name, route_item(Path::new("/"), &route));
            remark(known, &name, comment.as_deref());
        }
    }
    Ok(document.to_string())
}

const HEAD: &str =
    "# What this project wants of Bent Lane: `bentlane project load` applies it.\n\n";

fn table<'t>(parent: &'t mut Table, key: &str) -> &'t mut Table {
    let item = parent.entry(key).or_insert_with(toml_edit::table);
    if !item.is_table() {
        let whole = std::mem::take(item);
        *item = Item::Table(whole.into_table().unwrap_or_default());
    }
    item.as_table_mut().expect("it was just made one")
}

/// Sets a key, and keeps what stands around it.
fn set(table: &mut Table, key: &str, item: Item) {
    match table.get_mut(key) {
        Some(known) => {
            let decor = known.as_value().map(|it| it.decor().clone());
            *known = item;
            if let (Some(decor), Some(value)) = (decor, known.as_value_mut()) {
                *value.decor_mut() = decor;
            }
        }
        None => drop(table.insert(key, item)),
    }
}

fn remark(table: &mut Table, key: &str, comment: Option<&str>) {
    if let (Some(comment), Some(mut key)) = (comment, table.key_mut(key)) {
        key.leaf_decor_mut().set_prefix(lines_of_comment(comment));
    }
}

fn lines_of_comment(comment: &str) -> String {
    let plain = comment.replace(|c: char| c.is_control() && c != '\n', " ");
    plain.lines().map(|line| format!("# {line}\n")).collect()
}

/// Whether two items have the same values, whatever stands around them.
fn says_the_same(known: Option<&Item>, wanted: &Item) -> bool {
    fn plain(item: &Item) -> Option<Value> {
        match item.as_value() {
            Some(value) => plain_value(value),
            None => {
                let table = item.as_table_like()?;
                table
                    .iter()
                    .map(|(key, item)| Some((key.to_owned(), plain(item)?)))
                    .collect()
            }
        }
    }
    fn plain_value(value: &Toml) -> Option<Value> {
        match value {
            Toml::String(text) => Some(text.value().clone().into()),
            Toml::Integer(number) => Some((*number.value()).into()),
            Toml::Boolean(on) => Some((*on.value()).into()),
            Toml::Array(array) => array.iter().map(plain_value).collect(),
            Toml::InlineTable(table) => table
                .iter()
                .map(|(key, value)| Some((key.to_owned(), plain_value(value)?)))
                .collect(),
            Toml::Float(_) | Toml::Datetime(_) => None,
        }
    }
    known
        .and_then(plain)
        .is_some_and(|known| Some(known) == plain(wanted))
}

fn route_item(folder: &Path, route: &Route) -> Item {
    let text = route.to.to_string();
    let to: Toml = match (text.parse::<i64>(), text.strip_prefix("folder:")) {
        (Ok(port), _) => port.into(),
        (_, Some(path)) => format!("folder:{}", below(folder, Path::new(path))).into(),
        _ => text.into(),
    };
    let mut settings = keys(&route.settings, RouteSettings::SETTINGS);
    if route.address.port.is_some() {
        settings.retain(|(key, _)| key != "address");
    }
    if settings.is_empty() {
        return Item::Value(to);
    }
    let mut table = InlineTable::new();
    table.insert("to", to);
    for (key, item) in settings {
        if let Ok(value) = item.into_value() {
            table.insert(key, value);
        }
    }
    value(table)
}

/// The settings that are set, in the order in which they are declared.
fn keys(settings: &impl Serialize, known: &'static [Setting]) -> Vec<(String, Item)> {
    // What serialises is an object: settings are structs.
    let settings = serde_json::to_value(settings).unwrap_or_default();
    let mut items = Vec::new();
    for setting in known {
        let Some(value) = settings.get(setting.key).filter(|value| !value.is_null()) else {
            continue;
        };
        if let SettingKind::Group(inner) = setting.kind {
            let mut group = InlineTable::new();
            for setting in inner {
                if let Some(value) = value.get(setting.key).and_then(toml_of) {
                    group.insert(setting.key, value);
                }
            }
            if !group.is_empty() {
                items.push((setting.key.to_owned(), Item::Value(group.into())));
            }
        } else if let Some(value) = toml_of(value) {
            items.push((setting.key.to_owned(), Item::Value(value)));
        }
    }
    items
}

fn toml_of(value: &Value) -> Option<Toml> {
    match value {
        Value::String(text) => Some(text.as_str().into()),
        Value::Bool(on) => Some((*on).into()),
        Value::Number(number) => number.as_i64().map(Into::into),
        Value::Array(entries) if entries.is_empty() => None,
        Value::Array(entries) => Some(entries.iter().filter_map(toml_of).collect::<Array>().into()),
        Value::Null | Value::Object(_) => None,
    }
}

/// A path relative to `folder` where it is below it.
fn below(folder: &Path, path: &Path) -> String {
    match path.strip_prefix(folder) {
        Ok(rest) if rest.as_os_str().is_empty() => ".".to_owned(),
        Ok(rest) => rest.display().to_string(),
        Err(_) => path.display().to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::read;

    fn written(routes: &[(&str, &str)]) -> Written {
        let routes = routes.iter().map(|(address, to)| {
            let route = Route::new(address.parse().unwrap(), to.parse().unwrap());
            (route, Some("a new one".to_owned()))
        });
        Written {
            zone: Some("moor.test".parse().unwrap()),
            routes: routes.collect(),
            apps: Vec::new(),
        }
    }

    #[test]
    fn what_is_written_is_read_again() {
        let mut what = written(&[
            ("a.moor.test", "4310"),
            ("docs.moor.test", "folder:/srv/huts/docs"),
        ]);
        what.routes[0].0.settings.paused = true;
        what.routes[0].0.settings.expect.status = Some(200);
        let settings = AppSettings {
            command: "npm run dev".to_owned(),
            folder: "/srv/huts/web".into(),
            ..AppSettings::default()
        };
        what.apps.push(("web".to_owned(), settings.clone(), None));
        let folder = Path::new("/srv/huts");
        let text = write(None, folder, &what).unwrap();
        let file = read(&text).unwrap_or_else(|faults| panic!("{faults:?} in\n{text}"));
        assert!(text.contains("folder = \"web\""), "{text}");
        assert!(text.contains("# a new one\n\"a.moor.test\""), "{text}");
        let input = file.input(Path::new("/srv/huts/bentlane.toml"), &text, None);
        assert_eq!(input.apps[0].1, settings);
        assert_eq!(input.routes[1].to.to_string(), "folder:/srv/huts/docs");
        assert_eq!(
            write(Some(&text), folder, &what).unwrap(),
            text,
            "nothing is left to change"
        );
    }

    #[test]
    fn comments_and_order_of_a_file_stay() {
        let before = "# ours\nzone = \"moor.test\" # the team's\n\n[routes]\n# the old one\n\"b.moor.test\" = 1\n\"a.moor.test\" = 2 # moves\n\"gone.moor.test\" = 3\n\n[requires]\nlookups = true # always\n";
        let what = written(&[("a.moor.test", "9"), ("b.moor.test", "1")]);
        let after = write(Some(before), Path::new("/"), &what).unwrap();
        let wanted = before
            .replace("= 2 #", "= 9 #")
            .replace("\"gone.moor.test\" = 3\n", "");
        assert_eq!(after, wanted);
    }
}
