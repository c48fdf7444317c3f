use std::collections::BTreeMap;
use std::ops::Range;

use bentlane_model::{
    Address, AppName, AppSettings, Name, Record, RecordData, RecordName, RouteSettings, Setting,
    SettingKind, Target, words,
};
use serde_json::{Map, Value, json};
use strsim::damerau_levenshtein;
use toml_edit::{Document, Item, TableLike, Value as Toml};

use crate::file::{CertFiles, FileRoute, ProjectFile};
use crate::position::{Fault, Text};
use crate::requires::Requires;

/// Bytes of the longest file that is read: 10,000 routes fit ten times.
pub const LONGEST_FILE: usize = 16 << 20;

/// The tables and keys of a file.
const KEYS: [&str; 7] = [
    "zone", "routes", "apps", "records", "ports", "certs", "requires",
];
const REQUIRES: [&str; 5] = ["version", "lookups", "trust", "standard_ports", "engine"];
const CERTS: [&str; 2] = ["names", "folder"];

/// Reads a project file. A byte order mark at its beginning counts for nothing, and lines may end in CRLF.
///
/// # Errors
/// Everything that is wrong with it.
pub fn read(text: &str) -> Result<ProjectFile, Vec<Fault>> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    if text.len() > LONGEST_FILE {
        return Err(vec![Text("").fault(None, "the file is longer than 16 MiB")]);
    }
    let document = Document::parse(text).map_err(|error| {
        let reason = error.message().trim().replace('\n', ", ");
        vec![Text(text).fault(error.span(), reason)]
    })?;
    let mut reader = Reader {
        text: Text(text),
        faults: Vec::new(),
        ports: BTreeMap::new(),
    };
    let file = reader.file(document.as_table());
    reader
        .faults
        .sort_by_key(|fault| (fault.line, fault.column));
    match reader.faults.is_empty() {
        true => Ok(file),
        false => Err(reader.faults),
    }
}

struct Reader<'a> {
    text: Text<'a>,
    faults: Vec<Fault>,
    ports: BTreeMap<String, u16>,
}

impl Reader<'_> {
    fn wrong(&mut self, at: Option<Range<usize>>, reason: impl Into<String>) {
        self.faults.push(self.text.fault(at, reason));
    }

    fn file(&mut self, table: &dyn TableLike) -> ProjectFile {
        self.check_keys(table, &KEYS, "");
        let zone = self.text_of(table, "zone");
        let mut file = ProjectFile {
            zone: zone.and_then(|(at, text)| self.parsed::<Name>(at, &text)),
            ..ProjectFile::default()
        };
        if let Some(ports) = self.table(table, "ports") {
            for (name, item) in ports.iter() {
                let port = item.as_integer().and_then(|port| u16::try_from(port).ok());
                match port.filter(|port| *port != 0) {
                    Some(port) => drop(self.ports.insert(name.to_owned(), port)),
                    None => self.wrong(item.span(), "a port is a number from 1 to 65535"),
                }
            }
        }
        file.ports.clone_from(&self.ports);
        if let Some(apps) = self.table(table, "apps") {
            file.apps = self.apps(apps);
        }
        if let Some(routes) = self.table(table, "routes") {
            file.routes = self.routes(routes);
        }
        file.records = self.records(table, file.zone.as_ref());
        if let Some(certs) = self.table(table, "certs") {
            file.certs = self.certs(certs);
        }
        if let Some(requires) = self.table(table, "requires") {
            file.requires = self.requires(requires);
        }
        file
    }

    fn check_keys(&mut self, table: &dyn TableLike, known: &[&str], of: &str) {
        for (key, item) in table.iter() {
            if !known.contains(&key) {
                let at = table
                    .key(key)
                    .and_then(toml_edit::Key::span)
                    .or_else(|| item.span());
                let near = nearest(key, known.iter().copied());
                self.wrong(at, format!("there is no key `{key}`{of}{near}"));
            }
        }
    }

    fn table<'t>(&mut self, table: &'t dyn TableLike, key: &str) -> Option<&'t dyn TableLike> {
        let item = table.get(key)?;
        let found = item.as_table_like();
        if found.is_none() {
            self.wrong(
                item.span(),
                format!("`{key}` is a table: write `[{key}]`, and its keys below"),
            );
        }
        found
    }

    fn text_of(
        &mut self,
        table: &dyn TableLike,
        key: &str,
    ) -> Option<(Option<Range<usize>>, String)> {
        let item = table.get(key)?;
        match item.as_str() {
            Some(text) => Some((item.span(), text.to_owned())),
            None => {
                self.wrong(
                    item.span(),
                    format!("`{key}` is a text: write it in quotation marks"),
                );
                None
            }
        }
    }

    fn parsed<T: std::str::FromStr>(&mut self, at: Option<Range<usize>>, text: &str) -> Option<T>
    where
        T::Err: ToString,
    {
        match text.parse() {
            Ok(value) => Some(value),
            Err(error) => {
                self.wrong(at, error.to_string());
                None
            }
        }
    }

    fn routes(&mut self, table: &dyn TableLike) -> Vec<FileRoute> {
        let mut routes = Vec::new();
        for (key, item) in table.iter() {
            let at = table
                .key(key)
                .and_then(toml_edit::Key::span)
                .or_else(|| item.span());
            let address = self.parsed::<Address>(at, key);
            let (to, settings) = match item.as_table_like() {
                None => (self.target(item), Map::new()),
                Some(route) => {
                    let to = match route.get("to") {
                        Some(to) => self.target(to),
                        None => {
                            self.wrong(
                                item.span(),
                                format!("`{key}` says no `to`: where it leads"),
                            );
                            None
                        }
                    };
                    let settings =
                        self.settings(route, RouteSettings::SETTINGS, &["to"], &|patch| {
                            RouteSettings::default().merged(patch).map(drop)
                        });
                    (to, settings)
                }
            };
            if let (Some(address), Some(to)) = (address, to) {
                routes.push(FileRoute {
                    address,
                    to,
                    settings,
                });
            }
        }
        routes
    }

    /// A target: as it is written on the command line, as a number, or by the name of a port in the file.
    fn target(&mut self, item: &Item) -> Option<String> {
        let text = match (item.as_str(), item.as_integer()) {
            (Some(text), _) => match self.ports.get(text) {
                Some(port) => port.to_string(),
                None => text.to_owned(),
            },
            (None, Some(port)) => port.to_string(),
            (None, None) => {
                self.wrong(
                    item.span(),
                    "a target is a port, or a text such as \"app:NAME\"",
                );
                return None;
            }
        };
        // A folder is below that of the file, which is not known here.
        let whole = match text.strip_prefix("folder:") {
            Some(path) if !path.starts_with('/') => "folder:/below".to_owned(),
            _ => text.clone(),
        };
        self.parsed::<Target>(item.span(), &whole)?;
        Some(text)
    }

    fn apps(&mut self, table: &dyn TableLike) -> Vec<(AppName, Map<String, Value>)> {
        let mut apps = Vec::new();
        for (key, item) in table.iter() {
            let at = table
                .key(key)
                .and_then(toml_edit::Key::span)
                .or_else(|| item.span());
            let name = self.parsed::<AppName>(at, key);
            let Some(app) = item.as_table_like() else {
                self.wrong(
                    item.span(),
                    format!("`{key}` is a table: write `[apps.{key}]`, and its settings below"),
                );
                continue;
            };
            let mut settings = self.settings(app, AppSettings::SETTINGS, &["env"], &|patch| {
                AppSettings::default().merged(patch).map(drop)
            });
            if let Some(env) = app.get("env") {
                self.variables(env, &mut settings);
            }
            if app.get("command").is_none() {
                self.wrong(
                    item.span(),
                    format!("the app `{key}` says no `command`: what to run"),
                );
            }
            apps.extend(name.map(|name| (name, settings)));
        }
        apps
    }

    /// Variables: a list of `NAME=VALUE`, or a table.
    fn variables(&mut self, item: &Item, settings: &mut Map<String, Value>) {
        let list: Vec<Value> = match (item.as_table_like(), item.as_array()) {
            (Some(table), _) => {
                let mut list = Vec::new();
                for (name, value) in table.iter() {
                    match value.as_value().and_then(text_of_value) {
                        Some(value) => list.push(json!(format!("{name}={value}"))),
                        None => self.wrong(value.span(), "the value of a variable is a text"),
                    }
                }
                list
            }
            (None, Some(array)) => array
                .iter()
                .filter_map(|it| it.as_str())
                .map(|it| json!(it))
                .collect(),
            (None, None) => {
                self.wrong(
                    item.span(),
                    "`env` is a table, such as { NAME = \"VALUE\" }",
                );
                return;
            }
        };
        let patch = Map::from_iter([("env".to_owned(), Value::Array(list))]);
        match AppSettings::default().merged(&patch) {
            Ok(_) => settings.extend(patch),
            Err(errors) => {
                for error in errors {
                    self.wrong(item.span(), error.reason);
                }
            }
        }
    }

    /// Settings as a merge patch, each of them checked where it stands.
    fn settings(
        &mut self,
        table: &dyn TableLike,
        known: &'static [Setting],
        others: &[&str],
        check: &dyn Fn(&Map<String, Value>) -> Result<(), Vec<bentlane_model::Invalid>>,
    ) -> Map<String, Value> {
        let mut settings = Map::new();
        for (key, item) in table.iter() {
            if others.contains(&key) {
                continue;
            }
            let at = table
                .key(key)
                .and_then(toml_edit::Key::span)
                .or_else(|| item.span());
            let Some(setting) = known.iter().find(|setting| setting.key == key) else {
                let all = known
                    .iter()
                    .map(|setting| setting.key)
                    .chain(others.iter().copied());
                let near = nearest(key, all);
                self.wrong(at, format!("there is no setting `{key}`{near}"));
                continue;
            };
            if let SettingKind::Group(inner) = setting.kind {
                let Some(group) = item.as_table_like() else {
                    self.wrong(
                        item.span(),
                        format!("`{key}` is a table, such as {{ {} = … }}", inner[0].key),
                    );
                    continue;
                };
                let checked = self.settings(group, inner, &[], &|patch| {
                    check(&Map::from_iter([(
                        key.to_owned(),
                        Value::Object(patch.clone()),
                    )]))
                });
                settings.insert(key.to_owned(), Value::Object(checked));
                continue;
            }
            let Some(value) = value_of(item, setting.kind) else {
                let wanted = setting.kind.describe();
                self.wrong(
                    item.span(),
                    format!("`{key}` takes a value of another kind: {wanted}"),
                );
                continue;
            };
            let patch = Map::from_iter([(key.to_owned(), value)]);
            match check(&patch) {
                Ok(()) => settings.extend(patch),
                Err(errors) => {
                    for error in errors {
                        self.wrong(item.span(), format!("`{key}`: {}", error.reason));
                    }
                }
            }
        }
        settings
    }

    /// Records, one a text: `OWNER TYPE DATA`, as `bentlane record add` takes them.
    fn records(&mut self, table: &dyn TableLike, zone: Option<&Name>) -> Vec<Record> {
        let Some(item) = table.get("records") else {
            return Vec::new();
        };
        let Some(array) = item.as_array() else {
            self.wrong(
                item.span(),
                "`records` is a list of texts, such as [\"mail A 127.0.0.1\"]",
            );
            return Vec::new();
        };
        let mut records = Vec::new();
        for entry in array {
            let Some(line) = entry.as_str() else {
                self.wrong(
                    entry.span(),
                    "a record is a text, such as \"mail A 127.0.0.1\"",
                );
                continue;
            };
            match record(line, zone) {
                Ok(record) => records.push(record),
                Err(reason) => self.wrong(entry.span(), reason),
            }
        }
        records
    }

    fn certs(&mut self, table: &dyn TableLike) -> Vec<CertFiles> {
        let mut certs = Vec::new();
        for (key, item) in table.iter() {
            let Some(cert) = item.as_table_like() else {
                self.wrong(
                    item.span(),
                    format!("`{key}` is a table: write `[certs.{key}]`, with `names` and `folder`"),
                );
                continue;
            };
            self.check_keys(cert, &CERTS, " of certificates");
            let folder = self.text_of(cert, "folder").map(|(_, folder)| folder);
            let names = cert.get("names").and_then(Item::as_array);
            let names: Vec<String> = names
                .into_iter()
                .flatten()
                .filter_map(|name| name.as_str().map(str::to_owned))
                .collect();
            match folder {
                Some(folder) if !names.is_empty() => certs.push(CertFiles {
                    names,
                    folder: folder.into(),
                }),
                _ => self.wrong(
                    item.span(),
                    format!("`{key}` needs `names`, a list of names, and `folder`"),
                ),
            }
        }
        certs
    }

    fn requires(&mut self, table: &dyn TableLike) -> Requires {
        self.check_keys(table, &REQUIRES, " of `requires`");
        let mut requires = Requires::default();
        if let Some((at, version)) = self.text_of(table, "version") {
            match Requires::is_version_request(&version) {
                true => requires.version = Some(version),
                false => self.wrong(
                    at,
                    format!("`{version}` says no version: write one such as `>=0.2`"),
                ),
            }
        }
        for (key, wanted) in [
            ("lookups", &mut requires.lookups),
            ("trust", &mut requires.trust),
            ("standard_ports", &mut requires.standard_ports),
            ("engine", &mut requires.engine),
        ] {
            match table.get(key).map(|item| (item.as_bool(), item.span())) {
                None => {}
                Some((Some(value), _)) => *wanted = value,
                Some((None, at)) => self
                    .faults
                    .push(self.text.fault(at, format!("`{key}` is `true` or `false`"))),
            }
        }
        requires
    }
}

fn record(line: &str, zone: Option<&Name>) -> Result<Record, String> {
    let words = words(line).map_err(|error| error.to_string())?;
    let [owner, kind, data @ ..] = words.as_slice() else {
        return Err(format!("`{line}` is no record: write OWNER TYPE DATA"));
    };
    let (Some(owner), Some(kind)) = (owner.as_str(), kind.as_str()) else {
        return Err(format!("`{line}` is no record: write OWNER TYPE DATA"));
    };
    let zone = zone.ok_or("records are relative to `zone`, which the file does not say")?;
    let zone: RecordName = zone.as_str().parse().map_err(|error| format!("{error}"))?;
    Ok(Record {
        owner: RecordName::relative(owner, &zone).map_err(|error| error.to_string())?,
        ttl: None,
        data: RecordData::parse(kind, data, &zone).map_err(|error| error.to_string())?,
    })
}

/// A value as JSON, if it is of this kind. A number or `true` counts as the text that it is.
fn value_of(item: &Item, kind: SettingKind) -> Option<Value> {
    let value = item.as_value()?;
    match kind {
        SettingKind::Text => text_of_value(value).map(Value::String),
        SettingKind::Number => u32::try_from(value.as_integer()?).ok().map(Value::from),
        SettingKind::Switch => value.as_bool().map(Value::Bool),
        SettingKind::List => match value.as_array() {
            Some(array) => {
                let texts = array.iter().map(|it| it.as_str().map(Value::from));
                texts.collect::<Option<Vec<_>>>().map(Value::Array)
            }
            None => value.as_str().map(|text| json!([text])),
        },
        SettingKind::Group(_) => None,
    }
}

fn text_of_value(value: &Toml) -> Option<String> {
    match value {
        Toml::String(text) => Some(text.value().clone()),
        Toml::Integer(number) => Some(number.value().to_string()),
        Toml::Boolean(on) => Some(on.value().to_string()),
        Toml::Float(_) | Toml::Datetime(_) | Toml::Array(_) | Toml::InlineTable(_) => None,
    }
}

/// The nearest of `known`, in words.
fn nearest<'a>(key: &str, known: impl Iterator<Item = &'a str>) -> String {
    let near = known.min_by_key(|known| damerau_levenshtein(known, key));
    near.map(|near| format!("; the nearest is `{near}`"))
        .unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const WHOLE: &str = r#"
zone = "moor.test"
records = ["mail A 127.0.0.1"]

[routes]
"booking.moor.test" = "app:booking"
"booking.moor.test/api" = { to = "api", strip_prefix = true }
"*.hut.moor.test" = { to = "app:huts", expect = { status = 200, text = "Highmoor" } }
"db.moor.test:5432" = 54021

[apps.booking]
command = "npm run dev"
port = 4310
[apps.huts]
command = "node server.mjs --port $PORT"
folder = "huts"
env = { LOG = "debug", WORKERS = 2 }

[ports]
api = 4311

[certs.tls]
names = ["mail.moor.test"]
folder = "tls"

[requires]
version = ">=0.1"
lookups = true
"#;

    #[test]
    fn a_file_is_read_whole() {
        for text in [
            WHOLE.to_owned(),
            WHOLE.replace('\n', "\r\n"),
            format!("\u{feff}{WHOLE}"),
        ] {
            let file = read(&text).unwrap();
            assert_eq!(file.routes.len(), 4);
            let api = &file.routes[1];
            assert_eq!(api.to, "4311", "by the name of a port");
            assert_eq!(file.routes[2].settings["expect"]["status"], 200);
            assert_eq!(file.apps[1].1["env"], json!(["LOG=debug", "WORKERS=2"]));
            assert_eq!(file.records.len(), 1);
            assert!(file.requires.lookups && !file.requires.trust);
            assert_eq!(file.certs[0].names, ["mail.moor.test"]);
        }
    }

    #[rstest]
    #[case("zon = \"moor.test\"", 1, 1, "the nearest is `zone`")]
    #[case("zone = 3", 1, 8, "is a text")]
    #[case("zone = \"a_b..test\"", 1, 8, "")]
    #[case(
        "[routes]\n\"a.test\" = { to = 1, strip_prefx = true }",
        2,
        22,
        "the nearest is `strip_prefix`"
    )]
    #[case(
        "[routes]\n\"a.test\" = { to = 1, paused = 3 }",
        2,
        31,
        "`true` or `false`"
    )]
    #[case(
        "[routes]\n\"a.test\" = { to = 1, expect = { titel = \"x\" } }",
        2,
        33,
        "the nearest is `title`"
    )]
    #[case(
        "[routes]\n\"a.test\" = { strip_prefix = true }",
        2,
        12,
        "says no `to`"
    )]
    #[case("[routes]\n\"a.test\" = \"ftp://x\"", 2, 12, "not supported")]
    #[case("[routes]\n\"a b\" = 1", 2, 1, "")]
    #[case("[apps.a]\nfolder = \".\"", 1, 1, "says no `command`")]
    #[case("[apps.a]\ncommand = \"x\"\nready = \"soon\"", 3, 9, "ready")]
    #[case("[apps.\"ä/b\"]\ncommand = \"x\"", 1, 7, "")]
    #[case("[routes]\n\"a.test\" = 1\n\"a.test\" = 2", 3, 1, "duplicate key")]
    #[case("zone = ", 1, 8, "")]
    #[case("[requires]\nversion = \"new\"", 2, 11, "says no version")]
    #[case("records = [\"x\"]", 1, 12, "OWNER TYPE DATA")]
    #[case("[ports]\nweb = 70000", 2, 7, "65535")]
    #[case("[certs.tls]\nfolder = \"x\"", 1, 1, "needs `names`")]
    fn faults_have_their_place(
        #[case] text: &str,
        #[case] line: usize,
        #[case] column: usize,
        #[case] reason: &str,
    ) {
        let faults = read(text).unwrap_err();
        assert_eq!(faults.len(), 1, "{faults:?}");
        assert!(faults[0].reason.contains(reason), "{faults:?}");
        assert_eq!(
            (faults[0].line, faults[0].column),
            (line, column),
            "{faults:?}"
        );
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in ".{0,200}") {
            let _ = read(&text);
        }
    }
}
