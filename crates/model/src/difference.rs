//! What is different between two configurations.

use std::collections::HashMap;
use std::hash::Hash;

use crate::app::App;
use crate::project::LoadedProject;
use crate::route::Route;
use crate::zone::Zone;

/// What is different between two configurations, each as it was and as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference<'a> {
    /// Zones, by name.
    pub zones: Vec<Changed<&'a Zone>>,
    /// Routes, by address.
    pub routes: Vec<Changed<&'a Route>>,
    /// Apps, by name.
    pub apps: Vec<Changed<&'a App>>,
    /// Projects, by file.
    pub projects: Vec<Changed<&'a LoadedProject>>,
}

/// A zone, a route or an app that was added (`after` alone), removed (`before` alone) or edited (both).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Changed<T> {
    /// What it was.
    pub before: Option<T>,
    /// What it is.
    pub after: Option<T>,
}

impl<T> Changed<T> {
    /// What it is, or was when it is gone.
    pub fn either(&self) -> Option<&T> {
        self.after.as_ref().or(self.before.as_ref())
    }
}

impl Difference<'_> {
    /// Whether nothing is.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        let Self {
            zones,
            routes,
            apps,
            projects,
        } = self;
        zones.is_empty() && routes.is_empty() && apps.is_empty() && projects.is_empty()
    }
}

/// What is different between two lists, by `key`.
pub(crate) fn different<'a, T: PartialEq, K: Eq + Hash + 'a>(
    before: &'a [T],
    after: &'a [T],
    key: impl Fn(&'a T) -> &'a K,
) -> Vec<Changed<&'a T>> {
    let mut known: HashMap<&K, &T> = before.iter().map(|it| (key(it), it)).collect();
    let mut changed: Vec<_> = after
        .iter()
        .filter_map(|after| {
            let before = known.remove(key(after));
            let changed = Changed {
                before,
                after: Some(after),
            };
            (before != Some(after)).then_some(changed)
        })
        .collect();
    let gone = before.iter().filter(|it| known.contains_key(key(it)));
    changed.extend(gone.map(|before| Changed {
        before: Some(before),
        after: None,
    }));
    changed
}
