//! Names that are proposed for what runs.

/// Characters of a proposed label at most.
const LONGEST: usize = 40;

/// A text, such as the name of a folder, as a label of a name (RFC 1123 §2.1).
#[must_use]
pub fn label_from(text: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
    let label: String = text.to_lowercase().chars().map(plain).collect();
    let label = label.trim_matches('-');
    let label = label
        .get(..label.len().min(LONGEST))
        .unwrap_or_default()
        .trim_matches('-');
    match label {
        "" => "app".to_owned(),
        label => label.to_owned(),
    }
}

/// The first of `label`, `label-2`, `label-3` and so on below `zone` that is not `taken`.
#[must_use]
pub fn free_name(label: &str, zone: &str, taken: impl Fn(&str) -> bool) -> String {
    let numbered = |number: u32| match number {
        1 => format!("{label}.{zone}"),
        number => format!("{label}-{number}.{zone}"),
    };
    let mut free = (1..).map(numbered).filter(|name| !taken(name));
    free.next().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("Huts", "huts")]
    #[case("web_1.x", "web-1-x")]
    #[case("--", "app")]
    #[case("Zürich", "z-rich")]
    fn texts_become_labels(#[case] text: &str, #[case] label: &str) {
        assert_eq!(label_from(text), label);
        assert!(label_from(&"a-".repeat(60)).len() <= LONGEST);
    }

    #[test]
    fn a_name_that_is_taken_gets_a_number() {
        let taken = ["huts.moor.test", "huts-2.moor.test"];
        let free = free_name("huts", "moor.test", |name| taken.contains(&name));
        assert_eq!(free, "huts-3.moor.test");
    }
}
