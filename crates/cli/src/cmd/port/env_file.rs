//! Ports in an environment file: lines `VARIABLE=PORT` between two lines of ours.

use std::collections::HashMap;
use std::ops::Range;

/// The lines around ours.
const BEGIN: &str = "# Ports of `bentlane port suggest`";
const END: &str = "# End of ports";

/// Why a file cannot be changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Unclosed;

/// What `lines` change in a file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Edit {
    /// The file after it.
    pub(super) text: String,
    /// The lines that go.
    pub(super) removed: Vec<String>,
    /// The lines that come.
    pub(super) added: Vec<String>,
    /// The variables that the file sets elsewhere, too, with the number of the line.
    pub(super) elsewhere: Vec<(usize, String)>,
}

/// Where our lines are in a file, from the first to the last, if they are there.
fn block(text: &str) -> Result<Option<Range<usize>>, Unclosed> {
    let lines = || places(text).skip_while(|(_, line)| line.trim() != BEGIN);
    let Some((start, _)) = lines().next() else {
        return Ok(None);
    };
    let mut ends = lines().filter(|(_, line)| line.trim() == END);
    let (end, line) = ends.next().ok_or(Unclosed)?;
    Ok(Some(start..end + line.len()))
}

/// Each line with its end, and where it begins.
fn places(text: &str) -> impl Iterator<Item = (usize, &str)> {
    text.split_inclusive('\n').scan(0, |at, line| {
        let begins = *at;
        *at += line.len();
        Some((begins, line))
    })
}

/// The ports in our lines, by variable.
pub(super) fn ports(text: &str) -> Result<HashMap<String, u16>, Unclosed> {
    let ours = block(text)?.map_or("", |block| &text[block]);
    let pair = |line: &str| {
        let (variable, port) = line.trim().split_once('=')?;
        Some((variable.to_owned(), port.parse().ok()?))
    };
    Ok(ours.lines().filter_map(pair).collect())
}

/// The file with these variables between our lines, which are added at its end when they are not there.
/// Everything else stays as it is, to the byte.
pub(super) fn edited(text: &str, variables: &[(String, u16)]) -> Result<Edit, Unclosed> {
    let found = block(text)?;
    let wanted: Vec<String> = variables
        .iter()
        .map(|(variable, port)| format!("{variable}={port}"))
        .collect();
    let lines = format!("{BEGIN}\n{}\n{END}\n", wanted.join("\n"));
    let sets = |line: &str| {
        let line = line.trim().trim_start_matches("export ").trim_start();
        let variable = line.split_once('=')?.0.trim_end();
        let known = variables.iter().any(|(ours, _)| ours == variable);
        known.then(|| variable.to_owned())
    };
    let is_ours = |at: usize| found.as_ref().is_some_and(|block| block.contains(&at));
    let others = places(text)
        .enumerate()
        .filter(|(_, (at, _))| !is_ours(*at));
    let elsewhere = others.filter_map(|(number, (_, line))| Some((number + 1, sets(line)?)));
    let elsewhere = elsewhere.collect();
    let present = found.clone().map_or("", |block| &text[block]).lines();
    let present: Vec<&str> = present
        .filter(|line| ![BEGIN, END].contains(&line.trim()))
        .collect();
    let after = match found {
        Some(block) => [&text[..block.start], &lines, &text[block.end..]].concat(),
        None if text.is_empty() => lines,
        None if text.ends_with('\n') => format!("{text}\n{lines}"),
        None => format!("{text}\n\n{lines}"),
    };
    let is_new = |line: &&String| !present.contains(&line.as_str());
    let is_gone = |line: &&&str| !wanted.iter().any(|it| it == **line);
    Ok(Edit {
        text: after,
        removed: present
            .iter()
            .filter(is_gone)
            .map(|it| (*it).to_owned())
            .collect(),
        added: wanted.iter().filter(is_new).cloned().collect(),
        elsewhere,
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn web(port: u16) -> Vec<(String, u16)> {
        vec![("PORT_WEB".to_owned(), port)]
    }

    #[rstest]
    #[case("", "")]
    #[case("KEY=1\n", "KEY=1\n\n")]
    #[case("KEY=1", "KEY=1\n\n")]
    fn lines_go_behind_what_there_is(#[case] text: &str, #[case] before: &str) {
        let edit = edited(text, &web(20_100)).unwrap();
        assert_eq!(
            edit.text,
            format!("{before}{BEGIN}\nPORT_WEB=20100\n{END}\n")
        );
        assert_eq!(edit.added, ["PORT_WEB=20100"]);
        assert_eq!(ports(&edit.text).unwrap()["PORT_WEB"], 20_100);
        // Once more changes nothing.
        let again = edited(&edit.text, &web(20_100)).unwrap();
        assert_eq!((again.text, again.added), (edit.text, Vec::new()));
    }

    #[test]
    fn our_lines_alone_are_replaced() {
        let text =
            format!("A=1\n{BEGIN}\nPORT_WEB=1\nPORT_DB=2\n{END}\n# huts\nexport PORT_WEB=3\n");
        let edit = edited(&text, &web(20_100)).unwrap();
        let wanted = format!("A=1\n{BEGIN}\nPORT_WEB=20100\n{END}\n# huts\nexport PORT_WEB=3\n");
        assert_eq!(edit.text, wanted);
        assert_eq!(edit.removed, ["PORT_WEB=1", "PORT_DB=2"]);
        assert_eq!(edit.elsewhere, [(7, "PORT_WEB".to_owned())]);
    }

    #[test]
    fn other_lines_keep_their_ends() {
        let text = format!("A=1\r\n{BEGIN}\nPORT_WEB=1\n{END}\nB=2\r\nC=3");
        let edit = edited(&text, &web(20_100)).unwrap();
        let wanted = format!("A=1\r\n{BEGIN}\nPORT_WEB=20100\n{END}\nB=2\r\nC=3");
        assert_eq!(edit.text, wanted);
        let edit = edited("A=1\r\n", &web(20_100)).unwrap();
        assert!(edit.text.starts_with("A=1\r\n\n"));
    }

    #[test]
    fn a_block_without_an_end_is_left_alone() {
        let text = format!("{BEGIN}\nPORT_WEB=1\nSECRET=2\n");
        assert_eq!(edited(&text, &web(1)), Err(Unclosed));
        assert_eq!(ports(&text), Err(Unclosed));
    }
}
