use serde::{Deserialize, Serialize};

/// What a project needs of the machine.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Requires {
    /// The version of Bent Lane, such as `>=0.2`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Whether the machine's own lookups have to reach us.
    #[serde(default)]
    pub lookups: bool,
    /// Whether a trust store has to trust the root.
    #[serde(default)]
    pub trust: bool,
    /// Whether we have to listen on the ports 80 and 443.
    #[serde(default)]
    pub standard_ports: bool,
    /// Whether a container engine has to answer.
    #[serde(default)]
    pub engine: bool,
}

impl Requires {
    /// Why `version` is not the version that is wanted; `None` when it is.
    #[must_use]
    pub fn refuses_version(&self, version: &str) -> Option<String> {
        let wanted = self.version.as_deref()?;
        let request = semver::VersionReq::parse(wanted).ok()?;
        let version = semver::Version::parse(version).ok()?;
        (!request.matches(&version))
            .then(|| format!("it needs Bent Lane {wanted}, and this is {version}"))
    }

    /// Whether a text says which versions are wanted.
    pub(crate) fn is_version_request(text: &str) -> bool {
        semver::VersionReq::parse(text).is_ok()
    }
}
