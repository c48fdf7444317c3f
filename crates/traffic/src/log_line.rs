use std::fmt::Write;

use time::macros::format_description;

use super::Exchange;
use super::secrets::url_without_secrets;

/// What a client says of itself and of where it comes from: for access logs, and kept nowhere else.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Visitor {
    /// `Referer`.
    pub referer: Option<String>,
    /// `User-Agent`.
    pub agent: Option<String>,
}

/// An exchange as a line of an access log in the combined format, without its end: client, time,
/// request line, status, bytes of the body, referer, user agent. The time is in UTC; what could
/// break the line is written as `\xHH`, so that nothing a client sends starts another line.
#[must_use]
pub fn combined_line(exchange: &Exchange, visitor: &Visitor) -> String {
    let format =
        format_description!("[day]/[month repr:short]/[year]:[hour]:[minute]:[second] +0000");
    let at = exchange.at.to_offset(time::UtcOffset::UTC).format(format);
    let Exchange {
        client,
        method,
        path,
        protocol,
        status,
        sent,
        ..
    } = exchange;
    let mut line = format!(
        "{client} - - [{}] \"{} {} {}\" {status} ",
        at.unwrap_or_default(),
        escaped(method),
        escaped(path),
        protocol.in_a_request_line()
    );
    let _ = match sent {
        0 => line.write_char('-'),
        sent => write!(line, "{sent}"),
    };
    let referer = visitor.referer.as_deref().map(url_without_secrets);
    for field in [referer.as_deref(), visitor.agent.as_deref()] {
        let field = field.filter(|field| !field.is_empty()).unwrap_or("-");
        let _ = write!(line, " \"{}\"", escaped(field));
    }
    line
}

fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        if letter == '"' || letter == '\\' || letter.is_control() {
            let mut octets = [0; 4];
            for octet in letter.encode_utf8(&mut octets).bytes() {
                let _ = write!(out, "\\x{octet:02x}");
            }
        } else {
            out.push(letter);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::tests::example;
    use super::*;

    #[rstest]
    #[case(Visitor::default(), 1024, "200 1024 \"-\" \"-\"")]
    #[case(Visitor::default(), 0, "200 - \"-\" \"-\"")]
    #[case(
        Visitor { referer: Some("https://a.test/?sid=1".into()), agent: Some("curl/7.88".into()) },
        3,
        "200 3 \"https://a.test/?sid=***\" \"curl/7.88\""
    )]
    #[case(
        Visitor { referer: None, agent: Some("a\" \\\n7.7.7.7 - -".into()) },
        3,
        "200 3 \"-\" \"a\\x22 \\x5c\\x0a7.7.7.7 - -\""
    )]
    fn lines(#[case] visitor: Visitor, #[case] sent: u64, #[case] end: &str) {
        let exchange = Exchange { sent, ..example() };
        let front = "127.0.0.1 - - [25/Nov/2026:17:04:05 +0000] \
                     \"GET /api/huts?night=12&token=*** HTTP/2.0\" ";
        assert_eq!(combined_line(&exchange, &visitor), format!("{front}{end}"));
    }
}
