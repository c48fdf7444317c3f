use bentlane_api_types::{RecordInput, RecordView, Records};
use clap::{Args, Subcommand};

use super::zone::record_table;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane record`
#[derive(Debug, Subcommand)]
pub(crate) enum Record {
    /// Add a record
    Add(Add),
    /// List the records
    List(List),
    /// Remove a name's records
    Remove(Remove),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane record add moor.test MX '10 mail.moor.test.'
  bentlane record add mail.moor.test A 127.0.0.25
  bentlane record add _sip._tcp.moor.test SRV '0 0 5060 sip.moor.test.'
  bentlane record add moor.test TXT '\"v=spf1 -all\"' --ttl 60")]
pub(crate) struct Add {
    /// A whole name in one of the zones; `*` may be its first label
    owner: String,
    /// A, AAAA, CNAME, MX, SRV or TXT
    #[arg(value_name = "TYPE")]
    kind: String,
    /// The data as in a master file
    data: String,
    /// Seconds for which it may be cached [default: the zone's]
    #[arg(long, value_name = "SECONDS")]
    ttl: Option<u32>,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane record list
  bentlane record list --format json | jq '.records[] | select(.type == \"MX\")'")]
pub(crate) struct List {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane record remove mail.moor.test
  bentlane record remove moor.test TXT")]
pub(crate) struct Remove {
    /// The name
    owner: String,
    /// Of this type alone
    #[arg(value_name = "TYPE")]
    kind: Option<String>,
}

impl Record {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::Add(Add {
                owner,
                kind,
                data,
                ttl,
            }) => {
                let input = RecordInput {
                    owner,
                    kind,
                    data,
                    ttl,
                };
                let record: RecordView = client.post("/records", &input).await?;
                output.data(&record, |record| record_table(std::slice::from_ref(record)))?;
            }
            Self::List(List {}) => {
                let records: Records = client.get("/records").await?;
                if records.records.is_empty() && !output.is_json() {
                    output
                        .say("there are no records yet; every name of a zone resolves without one");
                    return Ok(Answer::Yes);
                }
                output.data(&records, |records| record_table(&records.records))?;
            }
            Self::Remove(Remove { owner, kind }) => {
                let of_kind = kind.map(|kind| format!("?type={}", segment(&kind)));
                let path = format!(
                    "/records/{}{}",
                    segment(&owner),
                    of_kind.unwrap_or_default()
                );
                client.delete(&path).await?;
                output.say(&format!("these records of {owner} are gone"));
            }
        }
        Ok(Answer::Yes)
    }
}
