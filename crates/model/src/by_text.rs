//! Types that are stored as their text.

/// A type whose values serialize as the text they are written as.
macro_rules! serde_by_text {
    ($($kind:ident),*) => {$(
        impl Serialize for $kind {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }

        impl<'de> Deserialize<'de> for $kind {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                let text = String::deserialize(deserializer)?;
                text.parse().map_err(|error: Invalid| serde::de::Error::custom(error.reason))
            }
        }
    )*};
}
pub(crate) use serde_by_text;
