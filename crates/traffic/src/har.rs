use http::StatusCode;
use serde_json::{Value, json};
use time::format_description::well_known::Rfc3339;

use super::Exchange;

/// Exchanges as an HTTP Archive (HAR 1.2), which the network panels of browsers read. What is not
/// recorded is left empty there: header fields, cookies and bodies. Fields that begin with an
/// underscore are our own, as the format allows.
#[must_use]
pub fn har(exchanges: &[Exchange]) -> Value {
    let entries: Vec<Value> = exchanges.iter().map(entry).collect();
    json!({
        "log": {
            "version": "1.2",
            "creator": { "name": "Bent Lane", "version": env!("CARGO_PKG_VERSION") },
            "entries": entries,
        }
    })
}

fn entry(exchange: &Exchange) -> Value {
    let scheme = if exchange.secure { "https" } else { "http" };
    let query = exchange.path.split_once('?').map_or("", |(_, query)| query);
    let query: Vec<Value> = url::form_urlencoded::parse(query.as_bytes())
        .map(|(name, value)| json!({ "name": name, "value": value }))
        .collect();
    let protocol = exchange.protocol.in_a_request_line();
    let status = StatusCode::from_u16(exchange.status).ok();
    let reason = status
        .and_then(|it| it.canonical_reason())
        .unwrap_or_default();
    let timings = &exchange.timings;
    #[allow(clippy::cast_precision_loss, reason = "microseconds of hours fit well")]
    let millis = |micros: u64| micros as f64 / 1000.0;
    // What does not apply is -1.
    json!({
        "startedDateTime": exchange.at.format(&Rfc3339).unwrap_or_default(),
        "time": millis(timings.total_us()),
        "request": {
            "method": exchange.method,
            "url": format!("{scheme}://{}{}", exchange.name, exchange.path),
            "httpVersion": protocol,
            "cookies": [],
            "headers": [],
            "queryString": query,
            "headersSize": -1,
            "bodySize": exchange.received,
        },
        "response": {
            "status": exchange.status,
            "statusText": reason,
            "httpVersion": protocol,
            "cookies": [],
            "headers": [],
            "content": { "size": exchange.sent, "mimeType": "" },
            "redirectURL": "",
            "headersSize": -1,
            "bodySize": exchange.sent,
        },
        "cache": {},
        "timings": {
            "blocked": millis(timings.queue_us),
            "dns": -1,
            "connect": timings.connect_us.map_or(-1.0, millis),
            "ssl": -1,
            "send": 0,
            "wait": millis(timings.first_byte_us),
            "receive": millis(timings.last_byte_us),
        },
        "_route": exchange.route,
        "_ending": exchange.ending,
        "_finding": exchange.finding,
    })
}

#[cfg(test)]
mod tests {
    use super::super::tests::example;
    use super::*;

    #[test]
    fn an_entry_has_what_was_recorded() {
        let entry = &har(&[example()])["log"]["entries"][0];
        let url = "https://booking.moor.test/api/huts?night=12&token=***";
        assert_eq!(entry["request"]["url"], url);
        assert_eq!(entry["request"]["queryString"][0]["value"], "12");
        assert_eq!(entry["response"]["statusText"], "OK");
        assert_eq!(entry["time"], 4.3);
        assert_eq!(entry["timings"]["connect"], 0.2);
        assert_eq!(entry["startedDateTime"], "2026-11-25T17:04:05.678Z");
    }
}
