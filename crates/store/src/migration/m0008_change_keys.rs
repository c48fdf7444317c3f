use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::{big_integer, string, timestamp_with_time_zone};

/// The keys that identify changes which are requested again.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0008_change_keys"
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
            .table("change_key")
            .col(string("key").primary_key())
            .col(big_integer("revision"))
            .col(timestamp_with_time_zone("at"))
            .to_owned();
        manager.create_table(table).await?;
        let by_time = Index::create()
            .name("change_key_at")
            .table("change_key")
            .col("at")
            .to_owned();
        manager.create_index(by_time).await
    }
}
