//! Verdicts as the XML that test reports are read from: a suite for this machine, with a case for each
//! thing that was looked at, and one for each route, with a case for each hop.

use std::io;

use bentlane_checks::{Fix, HopReport, HopState, ItemState, MachineItem, MachineVerdict, Verdict};
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};

use crate::error::CliError;

/// The report of this machine, where it was looked at, and of all routes.
pub(crate) fn report(
    machine: Option<&MachineVerdict>,
    verdicts: &[Verdict],
) -> Result<Vec<u8>, CliError> {
    let mut octets = Vec::new();
    write(&mut octets, machine, verdicts).map_err(|source| CliError::Io {
        verb: "write the report".to_owned(),
        source,
    })?;
    octets.push(b'\n');
    Ok(octets)
}

fn write(
    octets: &mut Vec<u8>,
    machine: Option<&MachineVerdict>,
    verdicts: &[Verdict],
) -> io::Result<()> {
    let mut xml = Writer::new_with_indent(octets, b' ', 2);
    xml.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let items = machine.map_or(&[][..], |machine| &machine.items);
    let hops: usize = verdicts.iter().map(|verdict| verdict.hops.len()).sum();
    let tests = hops + items.len();
    let failed = items.iter().filter(|item| item.state.fails()).count();
    let broken = failed + verdicts.iter().filter(|verdict| !verdict.passed).count();
    xml.create_element("testsuites")
        .with_attributes([
            ("name", "bentlane check"),
            ("tests", &*tests.to_string()),
            ("failures", &broken.to_string()),
        ])
        .write_inner_content(|xml| {
            if machine.is_some() {
                machine_suite(xml, items, failed)?;
            }
            verdicts.iter().try_for_each(|verdict| suite(xml, verdict))
        })?;
    Ok(())
}

fn machine_suite(
    xml: &mut Writer<&mut Vec<u8>>,
    items: &[MachineItem],
    failed: usize,
) -> io::Result<()> {
    const NAME: &str = "this machine";
    xml.create_element("testsuite")
        .with_attributes([
            ("name", NAME),
            ("tests", &items.len().to_string()),
            ("failures", &failed.to_string()),
        ])
        .write_inner_content(|xml| {
            items.iter().try_for_each(|item| {
                let part = item.part.as_str();
                let case = xml.create_element("testcase").with_attributes([
                    ("classname", NAME),
                    ("name", &format!("{part}: {}", item.subject)),
                ]);
                if item.state != ItemState::Failed {
                    return case.write_empty().map(drop);
                }
                case.write_inner_content(|xml| {
                    let lines = item.fix.as_ref().map(fix_lines).unwrap_or_default();
                    xml.create_element("failure")
                        .with_attributes([("type", part), ("message", item.summary.as_str())])
                        .write_text_content(BytesText::new(&lines.join("\n")))
                        .map(drop)
                })
                .map(drop)
            })
        })?;
    Ok(())
}

fn fix_lines(fix: &Fix) -> Vec<String> {
    let text = std::iter::once(fix.text.clone());
    text.chain(fix.command.clone()).collect()
}

fn suite(xml: &mut Writer<&mut Vec<u8>>, verdict: &Verdict) -> io::Result<()> {
    let count = |state: HopState| {
        let hops = verdict.hops.iter().filter(|report| report.state == state);
        hops.count()
    };
    let skipped =
        count(HopState::NotReached) + count(HopState::NotDeclared) + count(HopState::NotTried);
    let micros = verdict.hops.iter().filter_map(|report| report.micros).sum();
    xml.create_element("testsuite")
        .with_attributes([
            ("name", &*verdict.address),
            ("tests", &verdict.hops.len().to_string()),
            ("failures", &count(HopState::Broken).to_string()),
            ("skipped", &skipped.to_string()),
            ("time", &seconds(micros)),
        ])
        .write_inner_content(|xml| {
            let mut hops = verdict.hops.iter();
            hops.try_for_each(|report| case(xml, verdict, report))
        })?;
    Ok(())
}

fn case(xml: &mut Writer<&mut Vec<u8>>, verdict: &Verdict, report: &HopReport) -> io::Result<()> {
    let case = xml.create_element("testcase").with_attributes([
        ("classname", &*verdict.address),
        ("name", report.hop.as_str()),
        ("time", &seconds(report.micros.unwrap_or_default())),
    ]);
    match report.state {
        HopState::Passed => case.write_empty()?,
        HopState::NotReached | HopState::NotDeclared | HopState::NotTried => {
            case.write_inner_content(|xml| xml.create_element("skipped").write_empty().map(drop))?
        }
        HopState::Broken => case.write_inner_content(|xml| {
            let mut findings = verdict.findings.iter();
            let Some(finding) = findings.find(|it| it.hop == report.hop) else {
                return xml.create_element("failure").write_empty().map(drop);
            };
            let mut lines = finding.evidence.clone();
            lines.extend(fix_lines(&finding.fix));
            xml.create_element("failure")
                .with_attributes([
                    ("type", finding.slug.slug()),
                    ("message", finding.summary.as_str()),
                ])
                .write_text_content(BytesText::new(&lines.join("\n")))
                .map(drop)
        })?,
    };
    Ok(())
}

fn seconds(micros: u64) -> String {
    format!("{}.{:06}", micros / 1_000_000, micros % 1_000_000)
}
