use serde_json::Value;

use super::HopResult;
use crate::finding::Finding;
use crate::fix::Fix;
use crate::kind::FindingKind;
use crate::observation::{Answer, Facts, Timed};
use crate::page::Page;
use bentlane_model::Expectation;

/// Characters of an unexpected answer that are shown.
const SHOWN: usize = 120;

pub(super) fn judge(facts: &Facts, seen: &Timed<Answer>) -> HopResult {
    let expect = &facts.route.settings.expect;
    let Answer::Visit(visit) = &seen.outcome else {
        let mut judged = HopResult::new("not asked");
        judged.undeclared = expect.is_empty() || seen.outcome == Answer::Silent;
        return judged;
    };
    let page = visit.last();
    let title = page.markup().title;
    let title_in_words = title.as_ref().map(|title| format!("the title \"{title}\""));
    if expect.is_empty() {
        let mut judged = HopResult::new("not declared");
        judged.undeclared = true;
        judged.evidence.extend(title_in_words);
        judged.title = title;
        return judged;
    }
    let address = facts.address();
    let findings = [
        title_differs(expect, title.as_deref(), &address),
        status_differs(expect, page, &address),
        text_differs(expect, page, title.as_deref(), &address),
    ];
    let mut judged = HopResult::new("as declared").with(findings.into_iter().flatten());
    judged.evidence.extend(title_in_words);
    judged.title.clone_from(&title);
    judged
        .findings
        .extend(expect.header.iter().filter_map(|wanted| {
            let mut values = page.values(&wanted.name);
            let met = match &wanted.value {
                Some(value) => values.any(|own| own == value),
                None => values.next().is_some(),
            };
            (!met).then(|| {
                let own: Vec<String> = page
                    .values(&wanted.name)
                    .map(|value| format!("{}: {value}", wanted.name))
                    .collect();
                let summary = match own.first() {
                    Some(own) => format!("the header is `{own}`, expected `{wanted}`"),
                    None => format!("the header `{wanted}` is missing"),
                };
                Finding::of(
                    FindingKind::HeaderDiffers,
                    summary,
                    own,
                    see_to_it(&address, "--unset expect.header"),
                )
            })
        }));
    judged
        .findings
        .extend(values_differ(expect, page, &address));
    if !judged.findings.is_empty() {
        "not as declared".clone_into(&mut judged.detail);
    }
    judged
}

fn see_to_it(address: &str, flags: &str) -> Fix {
    Fix::edit(
        "check that the right app runs there, or change what the route expects",
        address,
        flags,
    )
}

fn title_differs(expect: &Expectation, title: Option<&str>, address: &str) -> Option<Finding> {
    let wanted = expect.title.as_deref()?;
    if title == Some(wanted) {
        return None;
    }
    let summary = match title {
        Some(title) => {
            format!("another app responds: the title is \"{title}\", expected \"{wanted}\"")
        }
        None => format!("the response has no title, expected \"{wanted}\""),
    };
    Some(Finding::of(
        FindingKind::OtherApp,
        summary,
        Vec::new(),
        see_to_it(address, "--expect-title TITLE"),
    ))
}

fn status_differs(expect: &Expectation, page: &Page, address: &str) -> Option<Finding> {
    let wanted = expect.status.filter(|wanted| *wanted != page.status)?;
    Some(Finding::of(
        FindingKind::StatusDiffers,
        format!("the status is {}, expected {wanted}", page.status),
        vec![format!("{} answered {}", page.url, page.status)],
        see_to_it(address, &format!("--expect-status {}", page.status)),
    ))
}

fn text_differs(
    expect: &Expectation,
    page: &Page,
    title: Option<&str>,
    address: &str,
) -> Option<Finding> {
    let wanted = expect.text.as_deref()?;
    if page.body.contains(wanted) {
        return None;
    }
    let fix = see_to_it(address, "--expect-text TEXT");
    // A page of another title is another app's; without one it may be the right app's bad day.
    let known = expect.title.as_deref();
    if known.is_some() && known != title {
        return None;
    }
    if let Some(title) = title.filter(|_| known.is_none()) {
        let summary = format!("another app responds: \"{title}\" does not contain \"{wanted}\"");
        return Some(Finding::of(FindingKind::OtherApp, summary, Vec::new(), fix));
    }
    let start: String = page.body.chars().take(SHOWN).collect();
    let start = start.split_whitespace().collect::<Vec<_>>().join(" ");
    let said = match start.is_empty() {
        true => "the response is empty".to_owned(),
        false => format!("it begins with: {start}"),
    };
    Some(Finding::of(
        FindingKind::TextDiffers,
        format!("the text \"{wanted}\" is not in the response"),
        vec![said],
        fix,
    ))
}

fn values_differ(expect: &Expectation, page: &Page, address: &str) -> Vec<Finding> {
    if expect.json.is_empty() {
        return Vec::new();
    }
    let fix = || see_to_it(address, "--unset expect.json");
    let finding =
        |summary: String| Finding::of(FindingKind::ValueDiffers, summary, Vec::new(), fix());
    let answer: Value = match serde_json::from_str(&page.body) {
        Ok(answer) => answer,
        Err(error) => {
            return vec![finding(format!("the response is not JSON: {error}"))];
        }
    };
    let differing = expect.json.iter().filter_map(|wanted| {
        let own = answer.pointer(&wanted.pointer);
        let (pointer, value) = (&wanted.pointer, &wanted.value);
        match own {
            Some(own) if own == value => None,
            Some(own) => Some(format!("`{pointer}` is {own}, expected {value}")),
            None => Some(format!("`{pointer}` is missing, expected {value}")),
        }
    });
    differing.map(finding).collect()
}
