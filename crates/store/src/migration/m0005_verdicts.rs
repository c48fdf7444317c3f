use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::{
    big_pk_auto, boolean, json_binary, json_binary_null, string, string_null,
    timestamp_with_time_zone,
};

/// What checks came to, whenever that changed.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0005_verdicts"
    }
}

#[async_trait::async_trait]
#[allow(
    elided_lifetimes_in_paths,
    reason = "the trait elides them, and async_trait compares"
)]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let table = Table::create()
            .table("verdict")
            .col(big_pk_auto("id"))
            .col(string("address"))
            .col(timestamp_with_time_zone("at"))
            .col(boolean("passed"))
            .col(boolean("flapping"))
            .col(string_null("slug"))
            .col(json_binary("verdict"))
            .col(json_binary_null("holder"))
            .to_owned();
        manager.create_table(table).await?;
        for (name, first) in [("verdict_address", Some("address")), ("verdict_at", None)] {
            let mut index = Index::create();
            index.name(name).table("verdict");
            if let Some(first) = first {
                index.col(first);
            }
            manager.create_index(index.col("at").to_owned()).await?;
        }
        Ok(())
    }
}
