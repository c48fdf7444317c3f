//! Master files (RFC 1035 §5): zones as text.

pub use bentlane_model::ZoneFileError;
use bentlane_model::{Entry, Name, Record, RecordData, RecordName, Word, entries, words};

/// The most records that a file may hold: one that holds more is not about a dev machine.
const MOST_RECORDS: usize = 10_000;
/// Length in bytes of the longest file that is read.
const LONGEST_FILE: usize = 4 << 20;
/// The longest time that a record may be kept (RFC 2181 §8).
const LONGEST_TTL: u32 = 0x7fff_ffff;

/// Reads one record's data as a person types it: names that do not end with a dot are whole.
///
/// # Errors
/// When the type is none of ours, or the text is not its data.
pub fn read_data(kind: &str, data: &str) -> Result<RecordData, String> {
    let root = "."
        .parse::<RecordName>()
        .map_err(|error| error.to_string())?;
    RecordData::parse(kind, &words(data)?, &root).map_err(|error| error.to_string())
}

/// Reads the records of `zone` from a file. SOA and NS at the zone's own name are passed over, since
/// the resolver answers for these itself.
///
/// # Errors
/// Every line that is wrong, not just the first.
pub fn read(text: &str, zone: &Name) -> Result<Vec<Record>, Vec<ZoneFileError>> {
    if text.len() > LONGEST_FILE {
        return Err(vec![ZoneFileError {
            line: 1,
            reason: "the file is longer than 4 MiB".to_owned(),
        }]);
    }
    let entries = entries(text).map_err(|error| vec![error])?;
    let mut reader = Reader {
        zone,
        origin: RecordName::from(zone),
        owner: None,
        ttl: None,
    };
    let (mut records, mut errors) = (Vec::new(), Vec::new());
    for entry in entries {
        match reader.entry(&entry) {
            Ok(record) => records.extend(record),
            Err(reason) => errors.push(ZoneFileError {
                line: entry.line,
                reason,
            }),
        }
        if records.len() > MOST_RECORDS {
            errors.push(ZoneFileError {
                line: entry.line,
                reason: format!("there are more than {MOST_RECORDS} records"),
            });
            break;
        }
    }
    if errors.is_empty() {
        Ok(records)
    } else {
        Err(errors)
    }
}

/// What holds from one entry to the next.
struct Reader<'a> {
    zone: &'a Name,
    origin: RecordName,
    owner: Option<RecordName>,
    ttl: Option<u32>,
}

impl Reader<'_> {
    fn entry(&mut self, entry: &Entry) -> Result<Option<Record>, String> {
        let mut words = entry.words.as_slice();
        let text = |word: &Word| word.as_str().map(str::to_owned).unwrap_or_default();
        match words {
            [directive, rest @ ..] if directive.0.starts_with(b"$") => {
                return self.directive(&text(directive), rest).map(|()| None);
            }
            [owner, rest @ ..] if !entry.indented => {
                let owner = RecordName::relative(&text(owner), &self.origin)
                    .map_err(|error| error.to_string())?;
                self.owner = Some(owner);
                words = rest;
            }
            _ => {}
        }
        let owner = self.owner.clone().ok_or("the first record has no owner")?;
        let mut ttl = self.ttl;
        // TTL and class come before the type, in any order (RFC 1035 §5.1).
        let (kind, data) = loop {
            let [word, rest @ ..] = words else {
                return Err("the record has no type".to_owned());
            };
            let word = text(word);
            words = rest;
            match word.to_ascii_uppercase().as_str() {
                "IN" => {}
                class @ ("CH" | "HS" | "CS") => {
                    return Err(format!("the class {class} is not kept"));
                }
                _ => match seconds(&word) {
                    Some(given) => ttl = Some(given),
                    None => break (word, words),
                },
            }
        };
        if !owner.is_within(self.zone) {
            return Err(format!("`{owner}` lies outside the zone `{}`", self.zone));
        }
        let at_apex = owner.as_str() == self.zone.as_str();
        if at_apex && matches!(kind.to_ascii_uppercase().as_str(), "SOA" | "NS") {
            return Ok(None);
        }
        let data =
            RecordData::parse(&kind, data, &self.origin).map_err(|error| error.to_string())?;
        Ok(Some(Record { owner, ttl, data }))
    }

    fn directive(&mut self, name: &str, words: &[Word]) -> Result<(), String> {
        let argument = match words {
            [argument] => argument.as_str().unwrap_or_default(),
            _ => return Err(format!("`{name}` takes one argument")),
        };
        match name.to_ascii_uppercase().as_str() {
            "$ORIGIN" => {
                self.origin = RecordName::relative(argument, &self.origin)
                    .map_err(|error| error.to_string())?;
                Ok(())
            }
            "$TTL" => {
                let ttl = seconds(argument);
                self.ttl = Some(ttl.ok_or_else(|| format!("`{argument}` is no time"))?);
                Ok(())
            }
            // Another file is another person's to hand over.
            _ => Err(format!("`{name}` is not read: `$ORIGIN` and `$TTL` are")),
        }
    }
}

/// A time in seconds, or as `1h30m` (a common extension: w, d, h, m, s).
fn seconds(text: &str) -> Option<u32> {
    let mut total: u32 = 0;
    let mut number: Option<u32> = None;
    for octet in text.bytes() {
        if octet.is_ascii_digit() {
            let digit = u32::from(octet.saturating_sub(b'0'));
            number = Some(number.unwrap_or(0).checked_mul(10)?.checked_add(digit)?);
            continue;
        }
        let unit: u32 = match octet.to_ascii_lowercase() {
            b's' => 1,
            b'm' => 60,
            b'h' => 3600,
            b'd' => 86_400,
            b'w' => 604_800,
            _ => return None,
        };
        total = total.checked_add(number.take()?.checked_mul(unit)?)?;
    }
    match number {
        Some(rest) => total = total.checked_add(rest)?,
        None if total == 0 => return None,
        None => {}
    }
    (total <= LONGEST_TTL).then_some(total)
}

/// Writes the records of `zone` as a file that [`read`] reads again. `serial` and `ttl` are those of
/// the zone's SOA, which other programs want to see.
#[must_use]
pub fn write(zone: &Name, serial: u64, ttl: u32, records: &[Record]) -> String {
    let mut text = format!(
        "$ORIGIN {zone}.\n$TTL {ttl}\n@ IN SOA ns hostmaster ( {serial} 3600 600 86400 {ttl} )\n\
         @ IN NS ns\n",
        serial = serial & u64::from(u32::MAX),
    );
    for record in records {
        let owner = record.owner.as_str();
        let owner = match owner.strip_suffix(zone.as_str()) {
            Some("") => "@",
            Some(above) => above.trim_end_matches('.'),
            None => owner,
        };
        let ttl = record.ttl.map(|ttl| format!("{ttl} ")).unwrap_or_default();
        let (kind, data) = (record.data.kind(), &record.data);
        text.push_str(&format!("{owner} {ttl}IN {kind} {data}\n"));
    }
    text
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn zone() -> Name {
        "moor.test".parse().unwrap()
    }

    fn lines(records: &[Record]) -> Vec<String> {
        let line = |record: &Record| {
            let ttl = record.ttl.map_or("-".to_owned(), |ttl| ttl.to_string());
            format!(
                "{} {ttl} {} {}",
                record.owner,
                record.data.kind(),
                record.data
            )
        };
        records.iter().map(line).collect()
    }

    const FILE: &str = r#"
; a zone as one writes it by hand
$TTL 1h
@       IN SOA ns.example. me.example. ( 2026112501 ; serial
                3600 600
                86400 60 )
        IN NS  ns.example.
        IN MX  10 mail
        IN TXT "v=spf1 -all" "a \"b\" \009"
mail    30 IN A 192.0.2.25
        IN 1m AAAA 2001:db8::25
$ORIGIN sub.moor.test.
www     CNAME mail.moor.test.
_sip._tcp SRV 0 5 5060 sip
*.wild  A 127.0.0.2
"#;

    #[test]
    fn zone_files_round_trip() {
        let records = read(FILE, &zone()).unwrap();
        let wanted = [
            "moor.test 3600 MX 10 mail.moor.test.",
            r#"moor.test 3600 TXT "v=spf1 -all" "a \"b\" \009""#,
            "mail.moor.test 30 A 192.0.2.25",
            "mail.moor.test 60 AAAA 2001:db8::25",
            "www.sub.moor.test 3600 CNAME mail.moor.test.",
            "_sip._tcp.sub.moor.test 3600 SRV 0 5 5060 sip.sub.moor.test.",
            "*.wild.sub.moor.test 3600 A 127.0.0.2",
        ];
        assert_eq!(lines(&records), wanted);
        let written = write(&zone(), 7, 10, &records);
        assert_eq!(read(&written, &zone()).unwrap(), records, "{written}");
        let json = serde_json::to_string(&records).unwrap();
        assert_eq!(
            serde_json::from_str::<Vec<Record>>(&json).unwrap(),
            records,
            "{json}"
        );
    }

    #[rstest]
    #[case("a A 1.2.3", 1, "no data of an A record")]
    #[case("a A 1.2.3.4 5", 1, "no data of an A record")]
    #[case("\n\na MX mail", 3, "PREFERENCE NAME")]
    #[case("a MX 70000 mail", 1, "no data of an MX record")]
    #[case("a CAA 0 issue x", 1, "type `CAA`")]
    #[case("a NS ns", 1, "type `NS`")]
    #[case("a.fell.test. A 127.0.0.1", 1, "outside the zone")]
    #[case("a..b A 127.0.0.1", 1, "a label is empty")]
    #[case("a TXT \"open", 1, "a quote is not closed")]
    #[case("x ( A\n127.0.0.1", 1, "a parenthesis is not closed")]
    #[case("x A 127.0.0.1 )", 1, "was not opened")]
    #[case(" A 127.0.0.1", 1, "no owner")]
    #[case("a", 1, "no type")]
    #[case("a CH A 127.0.0.1", 1, "class CH")]
    #[case("$INCLUDE other", 1, "`$INCLUDE` is not read")]
    #[case("$TTL soon", 1, "no time")]
    #[case("a 99999999999 A 127.0.0.1", 1, "type `99999999999`")]
    #[case("a TXT \\999", 1, "up to 255")]
    fn errors_have_their_line(#[case] text: &str, #[case] line: usize, #[case] reason: &str) {
        let errors = read(text, &zone()).unwrap_err();
        assert_eq!(errors[0].line, line, "{errors:?}");
        assert!(errors[0].reason.contains(reason), "{errors:?}");
    }

    #[test]
    fn every_wrong_line_is_reported() {
        let errors = read("a A x\nb A 127.0.0.1\nc MX y\n", &zone()).unwrap_err();
        let lines: Vec<usize> = errors.iter().map(|error| error.line).collect();
        assert_eq!(lines, [1, 3]);
    }

    #[rstest]
    #[case("0", Some(0))]
    #[case("90", Some(90))]
    #[case("1h30m", Some(5400))]
    #[case("1W2D", Some(777_600))]
    #[case("2147483648", None)]
    #[case("h", None)]
    #[case("", None)]
    #[case("1x", None)]
    fn times(#[case] text: &str, #[case] wanted: Option<u32>) {
        assert_eq!(seconds(text), wanted);
    }

    proptest! {
        #[test]
        fn no_text_makes_the_parser_panic(text in "[ -~\n\t\"();\\\\]{0,200}") {
            if let Ok(mut records) = read(&text, &zone()) {
                let written = write(&zone(), 1, 10, &records);
                for record in &mut records {
                    record.ttl = record.ttl.or(Some(10));
                }
                prop_assert_eq!(read(&written, &zone()).unwrap(), records);
            }
        }

        #[test]
        fn any_txt_record_round_trips(strings in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..40), 1..4)) {
            let data = RecordData::Txt(strings);
            let record = Record { owner: "x.moor.test".parse().unwrap(), ttl: None, data };
            let written = write(&zone(), 1, 10, std::slice::from_ref(&record));
            let again = read(&written, &zone()).unwrap();
            prop_assert_eq!(&again[0].data, &record.data);
        }
    }
}
