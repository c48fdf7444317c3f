use std::fmt;
use std::str::FromStr;

use super::Exchange;
use bentlane_model::Invalid;

/// Which exchanges are wanted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ExchangeFilter {
    /// Of the route with this address.
    pub route: Option<String>,
    /// With such a status.
    pub status: Option<StatusRange>,
    /// With this method, whatever its case.
    pub method: Option<String>,
    /// With this text in name and path, whatever its case.
    pub text: Option<String>,
}

impl ExchangeFilter {
    /// Whether `exchange` is wanted.
    #[must_use]
    pub fn matches(&self, exchange: &Exchange) -> bool {
        let Self {
            route,
            status,
            method,
            text,
        } = self;
        let contains = |text: &String| {
            let place = format!("{}{}", exchange.name, exchange.path);
            place.to_lowercase().contains(&text.to_lowercase())
        };
        route
            .as_ref()
            .is_none_or(|it| exchange.route.as_ref() == Some(it))
            && status.is_none_or(|it| it.contains(exchange.status))
            && method
                .as_ref()
                .is_none_or(|it| it.eq_ignore_ascii_case(&exchange.method))
            && text.as_ref().is_none_or(contains)
    }
}

/// Statuses: `404`, `5xx`, or `400-499`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StatusRange {
    /// The lowest.
    pub from: u16,
    /// The highest.
    pub to: u16,
}

impl StatusRange {
    /// Whether `status` is one of them.
    #[must_use]
    pub fn contains(self, status: u16) -> bool {
        (self.from..=self.to).contains(&status)
    }
}

impl FromStr for StatusRange {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let refuse = || {
            let reason = format!("`{text}` is none of `404`, `5xx` and `400-499`");
            Invalid::new("status", reason)
        };
        let status = |text: &str| {
            let number: u16 = text.parse().ok()?;
            (100..=999).contains(&number).then_some(number)
        };
        let lower = text.to_ascii_lowercase();
        let range = if let Some(class) = lower.strip_suffix("xx") {
            let class: Option<u16> = class.parse().ok().filter(|it| (1..=9).contains(it));
            class.map(|class| (class * 100, class * 100 + 99))
        } else if let Some((from, to)) = text.split_once('-') {
            status(from).zip(status(to)).filter(|(from, to)| from <= to)
        } else {
            status(text).map(|one| (one, one))
        };
        let (from, to) = range.ok_or_else(refuse)?;
        Ok(Self { from, to })
    }
}

impl fmt::Display for StatusRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { from, to } = self;
        if from == to {
            return from.fmt(f);
        }
        write!(f, "{from}-{to}")
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::tests::example;
    use super::*;

    #[rstest]
    #[case("404", Some((404, 404)))]
    #[case("5xx", Some((500, 599)))]
    #[case("5XX", Some((500, 599)))]
    #[case("400-499", Some((400, 499)))]
    #[case("499-400", None)]
    #[case("99", None)]
    #[case("xx", None)]
    #[case("12xx", None)]
    #[case("often", None)]
    fn statuses(#[case] text: &str, #[case] wanted: Option<(u16, u16)>) {
        let range = text.parse::<StatusRange>().ok();
        assert_eq!(range.map(|range| (range.from, range.to)), wanted);
    }

    #[rstest]
    #[case(ExchangeFilter::default(), true)]
    #[case(ExchangeFilter { route: Some("booking.moor.test/api".into()), ..Default::default() }, true)]
    #[case(ExchangeFilter { route: Some("booking.moor.test".into()), ..Default::default() }, false)]
    #[case(ExchangeFilter { status: "2xx".parse().ok(), ..Default::default() }, true)]
    #[case(ExchangeFilter { status: "404".parse().ok(), ..Default::default() }, false)]
    #[case(ExchangeFilter { method: Some("get".into()), ..Default::default() }, true)]
    #[case(ExchangeFilter { method: Some("PUT".into()), ..Default::default() }, false)]
    #[case(ExchangeFilter { text: Some("Test/api/HUTS".into()), ..Default::default() }, true)]
    #[case(ExchangeFilter { text: Some("tarn".into()), ..Default::default() }, false)]
    fn filters(#[case] filter: ExchangeFilter, #[case] takes: bool) {
        assert_eq!(filter.matches(&example()), takes);
    }
}
