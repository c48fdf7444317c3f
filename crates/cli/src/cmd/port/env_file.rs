//! Ports in an environment file: lines `VARIABLE=PORT` between two lines of ours.

use std::collections::HashMap;

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

/// The places of our first and last line, if they are there.
fn block(lines: &[&str]) -> Result<Option<(usize, usize)>, Unclosed> {
    let Some(begin) = lines.iter().position(|line| line.trim() == BEGIN) else {
        return Ok(None);
    };
    let length = lines[begin..].iter().position(|line| line.trim() == END);
    Ok(Some((begin, begin + length.ok_or(Unclosed)?)))
}

/// The ports in our lines, by variable.
pub(super) fn ports(text: &str) -> Result<HashMap<String, u16>, Unclosed> {
    let lines: Vec<&str> = text.lines().collect();
    let Some((begin, end)) = block(&lines)? else {
        return Ok(HashMap::new());
    };
    let pair = |line: &&str| {
        let (variable, port) = line.trim().split_once('=')?;
        Some((variable.to_owned(), port.parse().ok()?))
    };
    Ok(lines[begin..end].iter().filter_map(pair).collect())
}

/// The file with these variables between our lines, which are added at its end when they are not there.
pub(super) fn edited(text: &str, variables: &[(String, u16)]) -> Result<Edit, Unclosed> {
    let lines: Vec<&str> = text.lines().collect();
    let found = block(&lines)?;
    let wanted: Vec<String> = variables
        .iter()
        .map(|(variable, port)| format!("{variable}={port}"))
        .collect();
    let (before, present, after) = match found {
        Some((begin, end)) => (&lines[..begin], &lines[begin + 1..end], &lines[end + 1..]),
        None => (&lines[..], &[][..], &[][..]),
    };
    let sets = |line: &str| {
        let line = line.trim().trim_start_matches("export ").trim_start();
        let variable = line.split_once('=')?.0.trim_end();
        let known = variables.iter().any(|(ours, _)| ours == variable);
        known.then(|| variable.to_owned())
    };
    let numbered = lines
        .iter()
        .enumerate()
        .filter(|(at, _)| found.is_none_or(|(begin, end)| *at < begin || *at > end));
    let elsewhere = numbered.filter_map(|(at, line)| Some((at + 1, sets(line)?)));
    let mut all: Vec<&str> = before.to_vec();
    if found.is_none() && !text.is_empty() {
        all.push("");
    }
    all.push(BEGIN);
    all.extend(wanted.iter().map(String::as_str));
    all.push(END);
    all.extend(after);
    let is_new = |line: &&String| !present.contains(&line.as_str());
    let is_gone = |line: &&&str| !wanted.iter().any(|it| it == **line);
    Ok(Edit {
        text: all.join("\n") + "\n",
        removed: present
            .iter()
            .filter(is_gone)
            .map(|it| (*it).to_owned())
            .collect(),
        added: wanted.iter().filter(is_new).cloned().collect(),
        elsewhere: elsewhere.collect(),
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
    fn a_block_without_an_end_is_left_alone() {
        let text = format!("{BEGIN}\nPORT_WEB=1\nSECRET=2\n");
        assert_eq!(edited(&text, &web(1)), Err(Unclosed));
        assert_eq!(ports(&text), Err(Unclosed));
    }
}
