//! Where the proxy connects to.

use crate::app::AppPlace;
use crate::container::ContainerPlace;
use crate::name::Name;
use crate::route::Route;
use crate::settings::TargetTls;
use crate::snapshot::Observed;
use crate::target::Target;

/// Names a destination of one [`Snapshot`](crate::Snapshot); an index into [`Snapshot::destinations`](crate::Snapshot::destinations).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct DestinationId(pub(crate) usize);

impl DestinationId {
    /// The position in [`Snapshot::destinations`](crate::Snapshot::destinations).
    #[must_use]
    pub fn index(self) -> usize {
        self.0
    }
}

/// A target, and how it is connected to: routes that agree in both share connections.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Destination {
    /// The target.
    pub to: Target,
    /// How its certificate is verified.
    pub tls: TargetTls,
    /// The name that its certificate is for, when it is not its host.
    pub name: Option<Name>,
    /// Where the container is, when it is one.
    pub place: Option<ContainerPlace>,
    /// Where the app is, when it is one.
    pub app: Option<AppPlace>,
}

impl Destination {
    /// Where `route` leads, with what was observed.
    #[must_use]
    pub fn of(route: &Route, observed: &Observed) -> Self {
        Self::at(&route.to, route, observed)
    }

    /// The app behind the folder that `route` leads to, with what was observed; `None` when it has none.
    #[must_use]
    pub fn behind_folder(route: &Route, observed: &Observed) -> Option<Self> {
        let app = route.settings.r#else.as_ref()?;
        Some(Self::at(app, route, observed))
    }

    fn at(to: &Target, route: &Route, observed: &Observed) -> Self {
        Self {
            place: place_of(to, observed),
            app: match to {
                Target::App(app) => Some(AppPlace::of(app, &observed.apps)),
                _ => None,
            },
            to: to.clone(),
            tls: route.settings.target_tls.clone(),
            name: route.settings.target_name.clone(),
        }
    }
}

/// Where the container is that `to` names, if it names one.
pub(crate) fn place_of(to: &Target, observed: &Observed) -> Option<ContainerPlace> {
    match to {
        Target::Container(container) => Some(observed.containers.place(container)),
        _ => None,
    }
}
