//! Undoing a change, where nothing has changed what it touched since.

use std::collections::{BTreeSet, HashMap, HashSet};

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value, json};

use crate::app::App;
use crate::change::{Conflict, Rejection, Undo};
use crate::configuration::{Configuration, check_records};
use crate::difference::Changed;
use crate::invalid::Invalid;
use crate::project::LoadedProject;
use crate::route::Route;
use crate::route_index::RouteIndex;
use crate::zone::Zone;

impl Undo {
    /// Undoes the change in `next`, which has the present zones, routes and apps.
    pub(crate) fn revert(&self, next: &mut Configuration) -> Result<(), Rejection> {
        let mut conflicts = Vec::new();
        let mut zones = Vec::new();
        for changed in &self.zones {
            if let Some(Zone { name, .. }) = changed.either() {
                let what = format!("zone `{name}`");
                let now = next.zone(name);
                zones.push((name, reverted(changed, &what, now, &mut conflicts)?));
            }
        }
        let mut apps = Vec::new();
        for changed in &self.apps {
            if let Some(App { name, .. }) = changed.either() {
                let what = format!("app `{name}`");
                let now = next.app(name);
                apps.push((name, reverted(changed, &what, now, &mut conflicts)?));
            }
        }
        let known: HashMap<_, _> = next.routes.iter().map(|it| (&it.address, it)).collect();
        let mut touched = HashSet::new();
        let mut routes = Vec::new();
        for changed in &self.routes {
            if let Some(Route { address, .. }) = changed.either() {
                let what = format!("route `{address}`");
                let now = known.get(address).copied();
                routes.extend(reverted(changed, &what, now, &mut conflicts)?);
                touched.insert(address);
            }
        }
        let mut projects = Vec::new();
        for changed in &self.projects {
            if let Some(LoadedProject { file, .. }) = changed.either() {
                let what = format!("project {}", file.display());
                let now = next.project(file);
                projects.push((file, reverted(changed, &what, now, &mut conflicts)?));
            }
        }
        if !conflicts.is_empty() {
            return Err(Rejection::Conflicts(conflicts));
        }
        // A route needs its zone, and a zone that goes has none left.
        next.routes
            .retain(|route| !touched.contains(&route.address));
        for zone in zones.iter().filter_map(|(_, zone)| zone.as_ref()) {
            next.zones.retain(|known| known.name != zone.name);
            next.zones.push(zone.clone());
            check_records(zone)?;
        }
        for app in apps.iter().filter_map(|(_, app)| app.as_ref()) {
            next.apps.retain(|known| known.name != app.name);
            next.check_app(app)?;
            next.apps.push(app.clone());
        }
        let mut index = RouteIndex::of(next);
        routes.iter().try_for_each(|route| index.add(route))?;
        next.routes.extend(routes);
        for (name, _) in apps.iter().filter(|(_, app)| app.is_none()) {
            next.check_gone_app(name, false)?;
            next.apps.retain(|app| app.name != **name);
        }
        for (name, _) in zones.iter().filter(|(_, zone)| zone.is_none()) {
            next.check_gone_zone(name, false)?;
            next.zones.retain(|zone| zone.name != **name);
        }
        for (file, project) in projects {
            next.projects.retain(|known| known.file != *file);
            next.projects.extend(project);
        }
        Ok(())
    }
}

/// What `now` becomes when `changed` is undone. What a later change did to the same keys is added to
/// `conflicts`.
fn reverted<T>(
    changed: &Changed<T>,
    what: &str,
    now: Option<&T>,
    conflicts: &mut Vec<Conflict>,
) -> Result<Option<T>, Rejection>
where
    T: Serialize + DeserializeOwned + Clone + PartialEq,
{
    let Changed { before, after } = changed;
    if after.as_ref() == now {
        return Ok(before.clone());
    }
    let conflict = |key: Option<&str>, left: Option<&Value>, now: Option<&Value>| Conflict {
        what: what.to_owned(),
        key: key.map(str::to_owned),
        left: left.cloned(),
        now: now.cloned(),
    };
    // What was added or removed goes back as a whole or not at all.
    let (Some(before), Some(after), Some(now)) = (before, after, now) else {
        let [left, now] = [after.as_ref(), now].map(|it| it.map(|it| json!(it)));
        conflicts.push(conflict(None, left.as_ref(), now.as_ref()));
        return Ok(None);
    };
    let (before, after, now) = (json!(before), json!(after), json!(now));
    let mut put = |key: &str, left: Option<&Value>, now: Option<&Value>| {
        conflicts.push(conflict(Some(key), left, now));
    };
    let Some(reverted) = merged_back("", Some(&before), Some(&after), Some(&now), &mut put) else {
        return Ok(None);
    };
    T::deserialize(reverted).map(Some).map_err(|error| {
        let reason = format!("what the {what} was cannot be read: {error}");
        Rejection::Invalid(Invalid::new("undo", reason))
    })
}

/// The value `now` without the change from `before` to `after`. `conflict` gets each key that has
/// changed since, with the value after the change and the present one.
fn merged_back(
    key: &str,
    before: Option<&Value>,
    after: Option<&Value>,
    now: Option<&Value>,
    conflict: &mut impl FnMut(&str, Option<&Value>, Option<&Value>),
) -> Option<Value> {
    if before == after {
        return now.cloned();
    }
    if after == now {
        return before.cloned();
    }
    // Settings at their defaults are left out.
    let empty = Value::Object(Map::new());
    let [before, after, now] = match [before, after, now] {
        all if all.iter().flatten().all(|value| value.is_object()) => {
            all.map(|value| value.or(Some(&empty)))
        }
        all => all,
    };
    match (before, after, now) {
        (Some(Value::Object(before)), Some(Value::Object(after)), Some(Value::Object(now))) => {
            let keys: BTreeSet<&String> = [before, after, now]
                .into_iter()
                .flat_map(Map::keys)
                .collect();
            let merged = keys.into_iter().filter_map(|inner| {
                // Keys are written as on the command line: `note`, not `settings.note`.
                let path = match key {
                    "" | "settings" => inner.clone(),
                    key => format!("{key}.{inner}"),
                };
                let [before, after, now] = [before, after, now].map(|map| map.get(inner));
                Some((
                    inner.clone(),
                    merged_back(&path, before, after, now, conflict)?,
                ))
            });
            Some(Value::Object(merged.collect()))
        }
        // Records are a set: each is there or not.
        (Some(Value::Array(before)), Some(Value::Array(after)), Some(Value::Array(now)))
            if key == "records" =>
        {
            let added = |it: &&Value| after.contains(it) && !before.contains(it);
            let removed = before.iter().filter(|it| !after.contains(it));
            let removed: Vec<&Value> = removed.collect();
            for gone in after.iter().filter(|it| added(it) && !now.contains(it)) {
                conflict(key, Some(gone), None);
            }
            for again in removed.iter().filter(|it| now.contains(it)) {
                conflict(key, None, Some(again));
            }
            let kept = now.iter().filter(|it| !added(it));
            Some(kept.chain(removed).cloned().collect())
        }
        _ => {
            conflict(key, after, now);
            now.cloned()
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    // What nothing has changed since goes back, and what the change left alone stays.
    #[case(json!({ "to": "1" }), json!({ "to": "2" }), json!({ "to": "2", "note": "x" }),
           json!({ "to": "1", "note": "x" }), &[])]
    #[case(json!({}), json!({ "settings": { "note": "a" } }),
           json!({ "settings": { "note": "a", "paused": true } }),
           json!({ "settings": { "paused": true } }), &[])]
    #[case(json!({ "settings": { "expect": { "status": 200 } } }), json!({ "settings": {} }),
           json!({ "settings": { "note": "b" } }),
           json!({ "settings": { "note": "b", "expect": { "status": 200 } } }), &[])]
    #[case(json!({ "records": [1, 2] }), json!({ "records": [2, 3] }), json!({ "records": [2, 3, 4] }),
           json!({ "records": [2, 4, 1] }), &[])]
    // What has is a conflict.
    #[case(json!({ "to": "1" }), json!({ "to": "2" }), json!({ "to": "3" }), json!({ "to": "3" }), &["to"])]
    #[case(json!({ "settings": { "expect": { "status": 200 } } }),
           json!({ "settings": { "expect": { "status": 201 } } }), json!({}),
           json!({ "settings": { "expect": {} } }), &["expect.status"])]
    #[case(json!({ "records": [] }), json!({ "records": [1] }), json!({ "records": [2] }),
           json!({ "records": [2] }), &["records"])]
    #[case(json!({ "records": [1] }), json!({ "records": [2] }), json!({ "records": [1, 2] }),
           json!({ "records": [1, 1] }), &["records"])]
    fn three_states_are_merged(
        #[case] before: Value,
        #[case] after: Value,
        #[case] now: Value,
        #[case] merged: Value,
        #[case] keys: &[&str],
    ) {
        let mut conflicts = Vec::new();
        let mut note =
            |key: &str, _: Option<&Value>, _: Option<&Value>| conflicts.push(key.to_owned());
        let back = merged_back("", Some(&before), Some(&after), Some(&now), &mut note);
        assert_eq!(back, Some(merged));
        assert_eq!(conflicts, keys);
    }
}
